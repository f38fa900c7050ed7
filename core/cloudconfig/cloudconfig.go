// Package cloudconfig writes the text that an instance reads at its first
// boot: cloud-init's "#cloud-config", alone or beside user data that the
// engineer brings.
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
	Own       string   // the engineer's own user data; "" for none
	MaxSize   int      // in bytes; the package's MaxSize if 0
	Files     []File   // that are written before anything is run
	Run       []string // scripts of sh(1), run once, at the end of the first boot
}

// File is one that first boot writes, as root's.
type File struct {
	Path string `yaml:"path"`
	Mode string `yaml:"permissions"` // octal: "0644"
	Text string `yaml:"content"`
}

// Output is user data, and what is to be known about it.
type Output struct {
	Text     string
	Warnings []string
}

// Errors of Build.
var (
	ErrTooLarge = errors.New("the user data is larger than a cloud takes")
	ErrBadLine  = errors.New("a key line holds a line break or NUL")
)

type document struct {
	Hostname    string     `yaml:"hostname,omitempty"`
	Users       []any      `yaml:"users"`
	Keys        []string   `yaml:"ssh_authorized_keys,omitempty"`
	DisableRoot bool       `yaml:"disable_root"`
	PasswordSSH bool       `yaml:"ssh_pwauth"`
	Files       []File     `yaml:"write_files,omitempty"`
	Run         [][]string `yaml:"runcmd,omitempty"`
	MergeHow    []merger   `yaml:"merge_how,omitempty"`
}

type user struct {
	Name string   `yaml:"name"`
	Keys []string `yaml:"ssh_authorized_keys"`
}

// merger is one entry of cloud-init's merge_how.
type merger struct {
	Name     string   `yaml:"name"`
	Settings []string `yaml:"settings,flow"`
}

// besideOwn makes our part add to the engineer's lists (users, keys) and leave
// every single value that they have set.
var besideOwn = []merger{{"list", []string{"append"}}, {"dict", []string{"no_replace", "recurse_list"}}}

// Build returns user data that gives the login user its keys and turns
// password login off. Alone, the keys stand under the login user by name,
// beside "default": a users list without "default" would give top-level keys
// to nobody. Beside own user data they stand at the top level, where lists of
// both add up: cloud-init keeps one of two entries for the same user.
//
// The text comes from a YAML encoder, never from joined strings. Errors:
// ErrBadLine, ErrTooLarge, OwnError.
func Build(s Settings) (Output, error) {
	for _, k := range s.Keys {
		if strings.ContainsAny(k, "\r\n\x00") || !utf8.ValidString(k) {
			return Output{}, ErrBadLine
		}
	}
	if s.MaxSize == 0 {
		s.MaxSize = MaxSize
	}
	doc := document{Hostname: s.Hostname, Users: []any{"default"}, DisableRoot: true}
	doc.Files = s.Files
	for _, script := range s.Run {
		doc.Run = append(doc.Run, []string{"sh", "-c", script})
	}
	switch {
	case s.Own != "":
		doc.Keys, doc.MergeHow = s.Keys, besideOwn
	case len(s.Keys) > 0:
		doc.Users = append(doc.Users, user{Name: s.LoginUser, Keys: s.Keys})
	}
	yamlText, err := yaml.Marshal(doc)
	if err != nil {
		return Output{}, fmt.Errorf("cloud-config: %w", err)
	}
	out := Output{Text: header + string(yamlText)}
	if s.Own != "" {
		if out, err = beside(s.Own, out.Text); err != nil {
			return Output{}, err
		}
	}
	if len(out.Text) > s.MaxSize {
		return Output{}, fmt.Errorf("%w: %d bytes with the keys, the limit is %d", ErrTooLarge,
			len(out.Text), s.MaxSize)
	}
	return out, nil
}

const header = "#cloud-config\n"
