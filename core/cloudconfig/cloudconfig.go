// Package cloudconfig writes the text that an instance reads at its first
// boot: cloud-init's "#cloud-config".
package cloudconfig

import (
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"
)

// MaxSize is the greatest size of user data, in bytes, that clouds commonly take.
const MaxSize = 16 << 10

// Settings is what first boot is to do.
type Settings struct {
	Hostname  string
	LoginUser string
	Keys      []string // authorized_keys lines for LoginUser
}

// Errors of Build.
var (
	ErrTooLarge = errors.New("the user data is larger than a cloud takes")
	ErrBadLine  = errors.New("a key line holds a line break or NUL")
)

type document struct {
	Hostname    string `yaml:"hostname,omitempty"`
	Users       []any  `yaml:"users"`
	DisableRoot bool   `yaml:"disable_root"`
	PasswordSSH bool   `yaml:"ssh_pwauth"`
}

type user struct {
	Name string   `yaml:"name"`
	Keys []string `yaml:"ssh_authorized_keys"`
}

// Build returns a "#cloud-config" that gives the login user its keys and turns
// password login off. The keys stand under the login user by name, beside
// "default": a users list without "default" would give top-level keys to
// nobody. The text comes from a YAML encoder, never from joined strings.
func Build(s Settings) (string, error) {
	for _, k := range s.Keys {
		if strings.ContainsAny(k, "\r\n\x00") || !utf8.ValidString(k) {
			return "", ErrBadLine
		}
	}
	doc := document{Hostname: s.Hostname, Users: []any{"default"}, DisableRoot: true}
	if len(s.Keys) > 0 {
		doc.Users = append(doc.Users, user{Name: s.LoginUser, Keys: s.Keys})
	}
	out, err := yaml.Marshal(doc)
	if err != nil {
		return "", fmt.Errorf("cloud-config: %w", err)
	}
	text := "#cloud-config\n" + string(out)
	if len(text) > MaxSize {
		return "", fmt.Errorf("%w: %d bytes, the limit is %d; name fewer keys", ErrTooLarge, len(text), MaxSize)
	}
	return text, nil
}
