package hostkeys

import (
	"bytes"
	"slices"
	"strings"

	"plumlatch/core/keypair"
)

// Pins are the host keys that a known_hosts file of ours has, by alias, in
// their order of appearance. Each stands for an instance of a service, which its
// comment names: the alias is the service's word, and an instance that comes with
// another one has another host key as far as can be told.
type Pins struct {
	aliases []string
	keys    map[string][]keypair.Public
	owner   map[string]string // by alias
}

// Owner is how a pin names its instance: the service's URL and the instance's
// name, and which server of it, "" for itself. "" if one of them cannot stand in a
// comment; such a pin goes by its alias alone.
func Owner(service, instance, server string) string {
	parts := []string{service, instance}
	if server != "" {
		parts = append(parts, server)
	}
	for _, p := range parts {
		if p == "" || strings.ContainsFunc(p, func(r rune) bool { return r <= ' ' || r > '~' || r == '#' }) {
			return ""
		}
	}
	return strings.Join(parts, "#")
}

// ReadPins reads a known_hosts file that Pins.Text wrote. Lines of another form are passed over.
func ReadPins(text string) *Pins {
	p := &Pins{keys: map[string][]keypair.Public{}, owner: map[string]string{}}
	for line := range strings.Lines(text) {
		alias, rest, ok := strings.Cut(strings.TrimSpace(line), " ")
		if !ok || CheckAlias(alias) != nil {
			continue
		}
		if key, err := keypair.ReadPublic([]byte(rest)); err == nil {
			p.add(alias, key)
			if parts := strings.Split(key.Comment, "#"); p.owner[alias] == "" && (len(parts) == 2 || len(parts) == 3) {
				p.owner[alias] = Owner(parts[0], parts[1], strings.Join(parts[2:], ""))
			}
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

// AliasOf returns the alias that is pinned for an owner; "" for none.
func (p *Pins) AliasOf(owner string) string {
	for _, alias := range p.aliases {
		if owner != "" && p.owner[alias] == owner {
			return alias
		}
	}
	return ""
}

// Name says whose an alias is, for pins of before that was kept.
func (p *Pins) Name(alias, owner string) {
	if p.keys[alias] != nil && p.owner[alias] == "" && p.AliasOf(owner) == "" {
		p.owner[alias] = owner
	}
}

// Pinned returns the fingerprints that are pinned for an owner, or, where none is,
// for the alias that it comes with. Another alias than the pinned one is another
// host.
func (p *Pins) Pinned(owner, alias string) []string {
	if was := p.AliasOf(owner); was != "" {
		return p.Of(was)
	}
	return p.Of(alias)
}

// Fits tells whether an instance comes with just the alias and the keys that are
// pinned for it. One that nothing is pinned for fits.
func (p *Pins) Fits(owner, alias string, keys []keypair.Public) bool {
	if was := p.AliasOf(owner); was != "" {
		return was == alias && p.Same(alias, keys)
	}
	if whose := p.owner[alias]; whose != "" && owner != "" {
		return false // the alias is pinned for another instance
	}
	return len(p.keys[alias]) == 0 || p.Same(alias, keys)
}

// Same tells whether exactly these keys are pinned for an alias.
func (p *Pins) Same(alias string, keys []keypair.Public) bool {
	pinned := p.keys[alias]
	if len(pinned) != len(keys) {
		return false
	}
	return !slices.ContainsFunc(keys, func(k keypair.Public) bool {
		return !slices.ContainsFunc(pinned, func(q keypair.Public) bool { return bytes.Equal(k.Blob, q.Blob) })
	})
}

// Set pins keys for an owner under an alias, in the place of those that were.
func (p *Pins) Set(owner, alias string, keys []keypair.Public) {
	p.Drop(owner)
	if owner != "" {
		p.owner[alias] = owner
	}
	if p.keys[alias] != nil {
		p.keys[alias] = slices.Clone(keys)
		return
	}
	for _, k := range keys {
		p.add(alias, k)
	}
}

// Hold tells whether one of the keys is pinned here, for whatever host.
func (p *Pins) Hold(keys []keypair.Public) bool {
	for _, alias := range p.aliases {
		for _, k := range p.keys[alias] {
			if slices.ContainsFunc(keys, func(q keypair.Public) bool { return bytes.Equal(k.Blob, q.Blob) }) {
				return true
			}
		}
	}
	return false
}

// Drop forgets what is pinned for an owner.
func (p *Pins) Drop(owner string) {
	if alias := p.AliasOf(owner); alias != "" {
		delete(p.keys, alias)
		delete(p.owner, alias)
		p.aliases = slices.DeleteFunc(p.aliases, func(a string) bool { return a == alias })
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
			if o := p.owner[alias]; o != "" {
				line = strings.TrimSuffix(line, "\n") + " " + o + "\n"
			}
			b.WriteString(line)
		}
	}
	return b.String(), nil
}
