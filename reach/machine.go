package reach

import (
	"plumlatch/core/comeback"
)

// maxListed is how many names of a folder of a machine are read.
const maxListed = 2000

// ReadMachine reads what a machine shows of itself: what runs, what starts at boot, what listens and what is mounted. What cannot
// be read is left nil.
func ReadMachine(files Files) (m comeback.Machine) {
	if names, _, err := files.ReadDir(comeback.Slice, maxListed); err == nil {
		m.Running = comeback.Services(names)
	}
	for _, dir := range comeback.Wanted {
		folders, _, err := files.ReadDir(dir, maxListed)
		if err != nil {
			continue
		}
		m.Enabled = append([]string{}, m.Enabled...) // seen, if nothing stands there
		for _, f := range folders {
			if !comeback.Links(f) {
				continue
			}
			if names, _, err := files.ReadDir(dir+"/"+f, maxListed); err == nil {
				m.Enabled = append(m.Enabled, names...)
			}
		}
	}
	for _, name := range []string{comeback.TCP, comeback.TCP6} {
		if text, err := ReadText(files, name); err == nil {
			if ports, err := comeback.Listening([]byte(text)); err == nil {
				m.Ports = comeback.Join(append([]comeback.Port{}, m.Ports...), ports)
			}
		}
	}
	for _, t := range []struct {
		name string
		into *[]string
	}{{comeback.Mounts, &m.Mounted}, {comeback.Fstab, &m.Written}} {
		if text, err := ReadText(files, t.name); err == nil {
			if at, err := comeback.MountPoints([]byte(text)); err == nil {
				*t.into = at
			}
		}
	}
	return m
}
