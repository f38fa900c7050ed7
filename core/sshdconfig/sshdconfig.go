// Package sshdconfig reads the text of a server's configuration as far as that
// can be evaluated without the server: sshd_config(5), where the first value
// of a keyword counts, and what stands below a Match holds for some only.
package sshdconfig

import (
	"encoding/json"
	"path"
	"strings"
)

// Setting is one value, and the file and line that set it.
type Setting struct {
	Value, File string
	Line        int // from 1
}

// Config is what the text of a configuration says.
type Config struct {
	global  map[string][]Setting // each that is not below a Match, in their order
	Matched []string             // keywords, in small letters, that some Match block sets too
	Below   []Below              // what Match blocks set, in their order
	Missing []string             // files that are included and could not be read
}

// configText is a Config as JSON has it: the agent on an instance reads it there, and the client shows it.
type configText struct {
	Global  map[string][]Setting `json:"global"`
	Matched []string             `json:"matched,omitempty"`
	Below   []Below              `json:"below,omitempty"`
	Missing []string             `json:"missing,omitempty"`
}

// MarshalJSON implements json.Marshaler.
func (c Config) MarshalJSON() ([]byte, error) {
	return json.Marshal(configText{c.global, c.Matched, c.Below, c.Missing})
}

// UnmarshalJSON implements json.Unmarshaler.
func (c *Config) UnmarshalJSON(text []byte) error {
	var t configText
	err := json.Unmarshal(text, &t)
	*c = Config{t.Global, t.Matched, t.Below, t.Missing}
	return err
}

// Get returns what holds for everybody; ok is false where nothing is set.
func (c Config) Get(keyword string) (s Setting, ok bool) {
	all := c.All(keyword)
	if len(all) == 0 {
		return Setting{}, false
	}
	return all[0], true
}

// All returns each setting of a keyword that may be given several times (HostKey, Port), as far as it holds for
// everybody.
func (c Config) All(keyword string) []Setting { return c.global[strings.ToLower(keyword)] }

// Below is a setting that stands below a Match, and holds for some only.
type Below struct {
	Keyword string // in small letters
	Match   string // the words of the Match
	Setting
}

// maxIncludes bounds how many files are read: an Include may name its own file.
const maxIncludes = 64

// Read reads a configuration. text returns what a file holds, and false if it
// cannot be read; glob returns the files that a pattern stands for, in their order.
func Read(file string, text func(string) (string, bool), glob func(string) []string) Config {
	c := Config{global: map[string][]Setting{}}
	r := reader{c: &c, text: text, glob: glob}
	r.file(file, "")
	return c
}

type reader struct {
	c     *Config
	text  func(string) (string, bool)
	glob  func(string) []string
	files int
}

// file reads one file, below a Match or ""; a Match that begins in it ends with it (sshd_config(5), Include).
func (r *reader) file(name, matched string) {
	if r.files++; r.files > maxIncludes {
		return
	}
	text, ok := r.text(name)
	if !ok {
		r.c.Missing = append(r.c.Missing, name)
		return
	}
	number := 0
	for line := range strings.Lines(text) {
		number++
		keyword, value := split(line)
		switch keyword {
		case "":
		case "match":
			if matched = value; strings.EqualFold(value, "all") {
				matched = ""
			}
		case "include":
			for pattern := range strings.FieldsSeq(value) {
				if !path.IsAbs(pattern) {
					pattern = "/etc/ssh/" + pattern
				}
				for _, f := range r.glob(pattern) {
					r.file(f, matched)
				}
			}
		default:
			if matched != "" {
				r.c.Matched = append(r.c.Matched, keyword)
				r.c.Below = append(r.c.Below, Below{keyword, matched, Setting{value, name, number}})
			} else {
				r.c.global[keyword] = append(r.c.global[keyword], Setting{value, name, number})
			}
		}
	}
}

// split takes a line apart: the keyword in small letters, and the rest without quotes.
func split(line string) (keyword, value string) {
	line = strings.TrimSpace(line)
	if line == "" || line[0] == '#' {
		return "", ""
	}
	n := strings.IndexAny(line, " \t=")
	if n < 0 {
		return strings.ToLower(line), ""
	}
	value = strings.TrimLeft(line[n:], " \t=")
	if i := strings.Index(value, " #"); i >= 0 { // a comment at the end, since OpenSSH 8.5
		value = value[:i]
	}
	return strings.ToLower(line[:n]), strings.Trim(strings.TrimSpace(value), `"`)
}
