package routes

import "slices"

// An encrypted part of a volume (LUKS, cryptsetup(8)) is opened on the rescue instance by whoever has its passphrase, as a mapping whose name the
// service gives. The service looks itself whether that is there, and takes nobody's word for it.

const luks = "crypto_LUKS"

// Encrypted are the encrypted parts of a disk; the disk itself, if it has no parts and is encrypted as a whole.
func Encrypted(d BlockDevice) []BlockDevice {
	parts := d.Children
	if len(parts) == 0 {
		parts = []BlockDevice{d}
	}
	var out []BlockDevice
	for _, p := range parts {
		if p.FSType == luks {
			out = append(out, p)
		}
	}
	return out
}

// IsOpened tells whether a part of a disk is open as a mapping, by what is listed now.
func IsOpened(now []BlockDevice, part, mapping string) bool {
	return slices.ContainsFunc(now, func(d BlockDevice) bool {
		if d.Name == part {
			return slices.ContainsFunc(d.Children, func(c BlockDevice) bool { return c.Name == mapping && c.Type == "crypt" })
		}
		return IsOpened(d.Children, part, mapping)
	})
}

// WithOpened is a disk with what was opened of it in the place of what was encrypted; opened has that by the name of the part.
func WithOpened(d BlockDevice, opened map[string]BlockDevice) BlockDevice {
	out := d
	out.Children = slices.Clone(d.Children)
	for n, p := range out.Children {
		if o, ok := opened[p.Name]; ok {
			out.Children[n] = o
		}
	}
	if o, ok := opened[d.Name]; ok && len(d.Children) == 0 {
		out.Children = []BlockDevice{o}
	}
	return out
}
