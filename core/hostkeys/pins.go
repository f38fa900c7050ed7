package hostkeys

import (
	"slices"
	"strings"

	"plumlatch/core/keypair"
)

// Pins are the host keys that a known_hosts file of ours has, by alias, in
// their order of appearance.
type Pins struct {
	aliases []string
	keys    map[string][]keypair.Public
}

// ReadPins reads a known_hosts file that Pins.Text wrote. Lines of another form are passed over.
func ReadPins(text string) *Pins {
	p := &Pins{keys: map[string][]keypair.Public{}}
	for line := range strings.Lines(text) {
		alias, rest, ok := strings.Cut(strings.TrimSpace(line), " ")
		if !ok || CheckAlias(alias) != nil {
			continue
		}
		if key, err := keypair.ReadPublic([]byte(rest)); err == nil {
			p.add(alias, key)
		}
	}
	return p
}

func (p *Pins) add(alias string, key keypair.Public) {
	if p.keys[alias] == nil {
		p.aliases = append(p.aliases, alias)
	}
	p.keys[alias] = append(p.keys[alias], key)
}

// Of returns the fingerprints that are pinned for an alias, none if it is new.
func (p *Pins) Of(alias string) []string {
	var out []string
	for _, k := range p.keys[alias] {
		out = append(out, k.Fingerprint())
	}
	return out
}

// Same tells whether exactly these keys are pinned for an alias.
func (p *Pins) Same(alias string, keys []keypair.Public) bool {
	pinned := p.Of(alias)
	if len(pinned) != len(keys) {
		return false
	}
	return !slices.ContainsFunc(keys, func(k keypair.Public) bool { return !slices.Contains(pinned, k.Fingerprint()) })
}

// Set pins keys for an alias, in the place of those that were.
func (p *Pins) Set(alias string, keys []keypair.Public) {
	if p.keys[alias] != nil {
		p.keys[alias] = slices.Clone(keys)
		return
	}
	for _, k := range keys {
		p.add(alias, k)
	}
}

// Text writes the file (sshd(8), "SSH_KNOWN_HOSTS FILE FORMAT"). ErrAlias.
func (p *Pins) Text() (string, error) {
	var b strings.Builder
	for _, alias := range p.aliases {
		for _, k := range p.keys[alias] {
			line, err := KnownHostsLine(alias, k.Blob)
			if err != nil {
				return "", err
			}
			b.WriteString(line)
		}
	}
	return b.String(), nil
}
