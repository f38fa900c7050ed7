// Package comeback tells what would not come back if a machine were stopped and started, or copied: services that run and that
// nothing starts at boot, ports on which they listen, and mounts that nobody wrote down. It reads what Linux and systemd show
// in files, and runs nothing.
package comeback

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"
)

// Folders and files that a machine is read from. Units of the system run in a cgroup each below Slice (systemd.slice(5)); what
// starts at boot has a link in a folder NAME.wants or NAME.requires of one of Wanted (systemd.unit(5)).
const (
	Slice  = "/sys/fs/cgroup/system.slice"
	TCP    = "/proc/net/tcp"
	TCP6   = "/proc/net/tcp6"
	Mounts = "/proc/mounts"
	Fstab  = "/etc/fstab"
)

// Wanted are the folders below which systemd looks for what starts at boot, without those of a user.
var Wanted = []string{"/etc/systemd/system", "/run/systemd/system", "/run/systemd/generator", "/run/systemd/generator.late",
	"/usr/lib/systemd/system"}

// Machine is what was read of a machine. What could not be read is nil.
type Machine struct {
	Running []string // services, such as nginx.service
	Enabled []string // units that something starts at boot
	Ports   []Port
	Mounted []string // where filesystems are mounted that stand on a disk or come over a network
	Written []string // where fstab has one mounted
}

// Without is what was read of a machine and was not read in another look at it: pairs that tell something together are left whole.
func (m Machine) Without(other Machine) Machine {
	if other.Running != nil && other.Enabled != nil {
		m.Running, m.Enabled = nil, nil
	}
	if other.Ports != nil {
		m.Ports = nil
	}
	if other.Mounted != nil && other.Written != nil {
		m.Mounted, m.Written = nil, nil
	}
	return m
}

// Port is a TCP port on which something listens.
type Port struct {
	Number int
	Local  bool // on loopback alone
}

// Doubt is something that would not come back.
type Doubt struct {
	Sort string // service, port or mount
	What string // the unit, the number, or the mount point
	Why  string
}

// The sorts of doubts.
const (
	Service = "service"
	Listens = "port"
	Mount   = "mount"
)

// Services are the units among the names in Slice, by name.
func Services(names []string) []string {
	out := []string{}
	for _, n := range names {
		if IsService(n) {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// IsService tells whether a name could be that of a service: systemd.unit(5) has it made of letters, digits and few signs, with
// no quote and no space among them.
func IsService(name string) bool { return strings.HasSuffix(name, ".service") && IsUnit(name) }

// Links tells whether a folder of Wanted holds the links of what starts with something.
func Links(folder string) bool {
	return strings.HasSuffix(folder, ".wants") || strings.HasSuffix(folder, ".requires")
}

// IsUnit tells whether a name could be a unit's: systemd.unit(5) allows no more.
func IsUnit(n string) bool {
	return n != "" && len(n) <= 255 && strings.IndexFunc(n, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune(`:-_.\@`, r))
	}) < 0
}

// ErrTable is returned for a table that is not as proc(5) or fstab(5) has it.
var ErrTable = errors.New("it is no table of this kind")

// Listening reads /proc/net/tcp or /proc/net/tcp6 (proc(5)): addresses and ports in hexadecimal, state 0A for one that listens.
func Listening(text []byte) ([]Port, error) {
	out := []Port{}
	lines := bufio.NewScanner(bytes.NewReader(text))
	for n := 0; lines.Scan(); n++ {
		f := strings.Fields(lines.Text())
		if n == 0 || len(f) == 0 {
			continue
		}
		if len(f) < 4 {
			return nil, fmt.Errorf("%w: line %d", ErrTable, n+1)
		}
		if f[3] != "0A" {
			continue
		}
		address, port, ok := strings.Cut(f[1], ":")
		number, err := strconv.ParseUint(port, 16, 16)
		raw, wrong := hex.DecodeString(address)
		if !ok || err != nil || wrong != nil || len(raw) != 4 && len(raw) != 16 {
			return nil, fmt.Errorf("%w: line %d", ErrTable, n+1)
		}
		for at := 0; at < len(raw); at += 4 { // each word stands in the machine's own order: little-endian where we run
			slices.Reverse(raw[at : at+4])
		}
		a, _ := netip.AddrFromSlice(raw)
		out = append(out, Port{int(number), a.Unmap().IsLoopback()})
	}
	return joined(out), lines.Err()
}

// joined has each port once: not local if it is open to others anywhere.
func joined(all []Port) []Port {
	slices.SortFunc(all, func(a, b Port) int {
		if c := cmp.Compare(a.Number, b.Number); c != 0 || a.Local == b.Local {
			return c
		}
		if b.Local {
			return -1
		}
		return 1
	})
	return slices.CompactFunc(all, func(a, b Port) bool { return a.Number == b.Number })
}

// Join is what two tables say together.
func Join(a, b []Port) []Port { return joined(slices.Concat(a, b)) }

// MountPoints reads where filesystems are mounted, of /proc/mounts or of fstab(5): those whose first field is a device, a label
// or something of a network. What the kernel makes by itself is left out.
func MountPoints(text []byte) ([]string, error) {
	out := []string{}
	lines := bufio.NewScanner(bytes.NewReader(text))
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(lines.Text())
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		f := strings.Fields(line)
		if len(f) < 3 {
			return nil, fmt.Errorf("%w: line %d", ErrTable, n)
		}
		if f[2] == "swap" || f[1] == "none" || !onDisk(f[0]) {
			continue
		}
		at := unescape(f[1])
		if !path.IsAbs(at) {
			return nil, fmt.Errorf("%w: line %d: %q is no mount point", ErrTable, n, at)
		}
		out = append(out, path.Clean(at))
	}
	slices.Sort(out)
	return slices.Compact(out), lines.Err()
}

func onDisk(source string) bool {
	tag, _, tagged := strings.Cut(source, "=")
	return strings.HasPrefix(source, "/dev/") || tagged && slices.Contains([]string{"UUID", "LABEL", "PARTUUID", "PARTLABEL", "ID"}, tag) ||
		strings.Contains(source, ":/") || strings.HasPrefix(source, "//")
}

// unescape reads a field in which spaces and the like stand as three octal digits (getmntent(3)).
func unescape(field string) string {
	var b strings.Builder
	for i := 0; i < len(field); i++ {
		if field[i] == '\\' && i+3 < len(field) {
			if n, err := strconv.ParseUint(field[i+1:i+4], 8, 8); err == nil {
				b.WriteByte(byte(n))
				i += 3
				continue
			}
		}
		b.WriteByte(field[i])
	}
	return b.String()
}

// passing are services that start when they are asked for, or that live with somebody's session.
func passing(unit string) bool {
	for _, p := range []string{"systemd-", "user@", "user-runtime-dir@", "getty@", "serial-getty@", "dbus", "polkit", "session-"} {
		if strings.HasPrefix(unit, p) {
			return true
		}
	}
	return false
}

// Lasting are the services that run and stay: not those that start when they are asked for, or that live with somebody's session.
func (m Machine) Lasting() []string {
	out := []string{}
	for _, u := range m.Running {
		if !passing(u) {
			out = append(out, u)
		}
	}
	return out
}

// starts tells whether something starts a service at boot: itself, a template that it is made from, or what waits for it.
func (m Machine) starts(unit string) bool {
	stem := strings.TrimSuffix(unit, ".service")
	for _, suffix := range []string{".service", ".socket", ".timer", ".path"} {
		if slices.Contains(m.Enabled, stem+suffix) {
			return true
		}
	}
	return false
}

// Doubts are what would not come back if the machine were started anew. seen says of what that could be told.
func Doubts(m Machine) (out []Doubt, seen []string) {
	if m.Running != nil && m.Enabled != nil {
		seen = append(seen, Service)
		for _, u := range m.Running {
			if !passing(u) && !m.starts(u) {
				out = append(out, Doubt{Service, u, "it runs, and nothing starts it at boot"})
			}
		}
	}
	if m.Mounted != nil && m.Written != nil {
		seen = append(seen, Mount)
		for _, at := range m.Mounted {
			if !slices.Contains(m.Written, at) && at != "/" && !strings.HasPrefix(at, "/boot") {
				out = append(out, Doubt{Mount, at, "it is mounted, and fstab does not have it"})
			}
		}
	}
	return out, seen
}

// Missing is what ran, listened or was mounted before, and is not there now. seen says of what that could be told.
func Missing(before, now Machine) (out []Doubt, seen []string) {
	if before.Running != nil && now.Running != nil {
		seen = append(seen, Service)
		for _, u := range before.Running {
			if !passing(u) && !slices.Contains(now.Running, u) {
				out = append(out, Doubt{Service, u, "it ran before, and does not now"})
			}
		}
	}
	if before.Ports != nil && now.Ports != nil {
		seen = append(seen, Listens)
		for _, p := range before.Ports {
			n := slices.IndexFunc(now.Ports, func(q Port) bool { return p.Number == q.Number })
			switch {
			case n < 0:
				out = append(out, Doubt{Listens, strconv.Itoa(p.Number), "something listened on it before, and nothing does now"})
			case now.Ports[n].Local && !p.Local:
				out = append(out, Doubt{Listens, strconv.Itoa(p.Number), "others could reach it before, and it is on loopback alone now"})
			}
		}
	}
	if before.Mounted != nil && now.Mounted != nil {
		seen = append(seen, Mount)
		for _, at := range before.Mounted {
			if !slices.Contains(now.Mounted, at) {
				out = append(out, Doubt{Mount, at, "it was mounted before, and is not now"})
			}
		}
	}
	return out, seen
}
