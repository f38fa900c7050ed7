// Package sshconfig writes OpenSSH client configuration (ssh_config(5)): a file
// of our own with one Host for each instance, and the Include line that brings
// it into the engineer's configuration. Everything that stands in it is checked
// by its grammar first: it may have come from a service that means ill.
package sshconfig

import (
	"cmp"
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"plumlatch/core/hostkeys"
	"plumlatch/core/names"
)

// Host is one destination.
type Host struct {
	Name         string // what one types after ssh
	Address      netip.Addr
	Port         int
	User         string
	IdentityFile string // absolute path
	Alias        string // under which its host keys stand in KnownHosts
	KnownHosts   string // absolute path
	Hop          *Host  // the jump host; its Name is made of its alias
	Stream       string // absolute path of the program that carries its bytes through the service; "" for the direct way
}

// Errors of Check, wrapped with the field at fault. None quotes the value.
var (
	ErrName    = errors.New("the name is none that can stand after Host")
	ErrAddress = errors.New("the address is none")
	ErrPort    = errors.New("the port is none")
	ErrUser    = errors.New("the login user is none")
	ErrPath    = errors.New(`a path with a quote, a line break, a backslash or "${" cannot stand in a configuration`)
)

var hostName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$`)

// Check tells whether every field can stand in a configuration.
func (h Host) Check() error {
	switch {
	case !hostName.MatchString(h.Name):
		return ErrName
	case !h.Address.IsValid() || h.Address.Zone() != "" || h.Address.IsUnspecified() || h.Address.IsMulticast():
		return ErrAddress
	case h.Port < 1 || h.Port > 65535:
		return ErrPort
	case !names.LoginUser(h.User):
		return ErrUser
	}
	if err := hostkeys.CheckAlias(h.Alias); err != nil {
		return err
	}
	for _, p := range []string{h.IdentityFile, h.KnownHosts, cmp.Or(h.Stream, "/")} {
		if !strings.HasPrefix(p, "/") || strings.ContainsAny(p, "\"\\\r\n\x00") || strings.Contains(p, "${") {
			return ErrPath
		}
	}
	if h.Hop != nil {
		if h.Hop.Hop != nil {
			return ErrName
		}
		if err := h.Hop.Check(); err != nil {
			return fmt.Errorf("jump host: %w", err)
		}
	}
	return nil
}

// Options are the options that a Host has, in their order. ProxyJump is written
// only where there is a jump host, ProxyCommand only where the bytes go through the service.
var Options = []string{"HostName", "Port", "User", "IdentityFile", "IdentitiesOnly", "HostKeyAlias",
	"UserKnownHostsFile", "StrictHostKeyChecking", "CheckHostIP", "UpdateHostKeys", "ProxyJump", "ProxyCommand"}

// values are the options' values, quoted where they are paths.
func (h Host) values() map[string]string {
	quote := func(path string) string { return `"` + strings.ReplaceAll(path, "%", "%%") + `"` } // TOKENS
	v := map[string]string{
		"HostName": h.Address.String(), "Port": strconv.Itoa(h.Port), "User": h.User,
		"IdentityFile": quote(h.IdentityFile), "IdentitiesOnly": "yes",
		"HostKeyAlias": h.Alias, "UserKnownHostsFile": quote(h.KnownHosts), "StrictHostKeyChecking": "yes",
		"CheckHostIP": "no", "UpdateHostKeys": "no",
	}
	switch {
	case h.Stream != "": // a shell runs it; neither path nor name has a quote in it
		v["ProxyCommand"] = "'" + strings.ReplaceAll(strings.ReplaceAll(h.Stream, "%", "%%"), "'", `'\''`) + "' stream " + h.Name
	case h.Hop != nil:
		v["ProxyJump"] = h.Hop.Name
	}
	return v
}

// Render writes the file: head as comments, then every host, by name. An option
// that the client does not know (knows is false for it) is left out; nil knows
// all. Two hosts whose names differ by case only are one to ssh: the second is
// refused, as is whatever Check refuses.
func Render(head []string, hosts []Host, knows func(option string) bool) (string, error) {
	var b strings.Builder
	for _, h := range head {
		b.WriteString(strings.TrimRight("# "+strings.Map(printable, h), " ") + "\n")
	}
	hosts = slices.SortedFunc(slices.Values(hosts), func(a, b Host) int { return strings.Compare(a.Name, b.Name) })
	seen := map[string]bool{}
	write := func(h Host) error {
		if err := h.Check(); err != nil {
			return fmt.Errorf("host: %w", err)
		}
		if seen[names.Fold(h.Name)] {
			return fmt.Errorf("host %s: there is another of this name, or one that differs by case only", h.Name)
		}
		seen[names.Fold(h.Name)] = true
		fmt.Fprintf(&b, "\nHost %s\n", h.Name)
		values := h.values()
		for _, o := range Options {
			if v, ok := values[o]; ok && (knows == nil || knows(o)) {
				fmt.Fprintf(&b, "    %s %s\n", o, v)
			}
		}
		return nil
	}
	for _, h := range hosts {
		if h.Hop != nil && !seen[names.Fold(h.Hop.Name)] {
			if err := write(*h.Hop); err != nil {
				return "", err
			}
		}
		if err := write(h); err != nil {
			return "", err
		}
	}
	return b.String(), nil
}

func printable(r rune) rune {
	if r < ' ' || r == 0x7f {
		return -1
	}
	return r
}

// Blocks reads a file that Render wrote: its hosts, each with its options.
func Blocks(text string) map[string]map[string]string {
	out := map[string]map[string]string{}
	var host map[string]string
	for line := range strings.Lines(text) {
		word, value, _ := strings.Cut(strings.TrimSpace(line), " ")
		switch {
		case word == "Host":
			host = map[string]string{}
			out[value] = host
		case host != nil && word != "" && !strings.HasPrefix(word, "#"):
			host[word] = value
		}
	}
	return out
}

// Change is what differs for one host between two files.
type Change struct {
	Host   string `json:"host"`
	How    string `json:"how"` // new, changed, gone
	Option string `json:"option,omitempty"`
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
}

// Compare tells what differs between two files that Render wrote, by host.
func Compare(before, after string) []Change {
	a, b := Blocks(before), Blocks(after)
	var all []string
	for h := range a {
		all = append(all, h)
	}
	for h := range b {
		if a[h] == nil {
			all = append(all, h)
		}
	}
	slices.Sort(all)
	out := []Change{}
	for _, h := range all {
		switch {
		case a[h] == nil:
			out = append(out, Change{Host: h, How: "new", After: b[h]["HostName"]})
		case b[h] == nil:
			out = append(out, Change{Host: h, How: "gone", Before: a[h]["HostName"]})
		default:
			for _, o := range Options {
				if a[h][o] != b[h][o] {
					out = append(out, Change{h, "changed", o, a[h][o], b[h][o]})
				}
			}
		}
	}
	return out
}

// Where an Include line stands in a configuration.
const (
	IncludeFirst   = "first"   // before any other directive
	IncludeMissing = "missing" // nowhere
	IncludeLate    = "late"    // after another directive: within a Host or Match it counts only there
)

// FindInclude tells where a configuration includes the file, by any of the
// paths that name it.
func FindInclude(text string, paths ...string) string {
	first := true
	for line := range strings.Lines(strings.TrimPrefix(text, "\ufeff")) {
		word, rest := directive(line)
		if word == "" {
			continue
		}
		if word == "include" {
			for _, p := range fields(rest) {
				if slices.Contains(paths, p) {
					return map[bool]string{true: IncludeFirst, false: IncludeLate}[first]
				}
			}
		}
		if word != "include" { // other Includes before ours take nothing from it but precedence
			first = false
		}
	}
	return IncludeMissing
}

// Named returns the names that a configuration has a Host for, patterns left out.
func Named(text string) []string {
	var out []string
	for line := range strings.Lines(strings.TrimPrefix(text, "\ufeff")) {
		if word, rest := directive(line); word == "host" {
			for _, name := range fields(rest) {
				if !strings.ContainsAny(name, "*?!") {
					out = append(out, name)
				}
			}
		}
	}
	return out
}

// AddInclude puts the Include line first, and takes it out where it stood too
// late. Everything else stays byte for byte.
func AddInclude(text, path string, also ...string) string {
	var kept strings.Builder
	bom := strings.HasPrefix(text, "\ufeff")
	text = strings.TrimPrefix(text, "\ufeff")
	for line := range strings.Lines(text) {
		if word, rest := directive(line); word == "include" {
			if f := fields(rest); len(f) == 1 && (f[0] == path || slices.Contains(also, f[0])) {
				continue
			}
		}
		kept.WriteString(line)
	}
	end := "\n"
	if strings.Contains(text, "\r\n") {
		end = "\r\n"
	}
	out := "Include " + quoteArgument(path) + end
	if rest := kept.String(); rest != "" {
		if !strings.HasPrefix(rest, "\n") && !strings.HasPrefix(rest, "\r\n") {
			out += end
		}
		out += rest
	}
	if bom {
		out = "\ufeff" + out
	}
	return out
}

func quoteArgument(path string) string {
	if strings.ContainsAny(path, " \t") {
		return `"` + path + `"`
	}
	return path
}

// directive splits a line into its keyword, in lower case, and the rest;
// ssh_config(5) lets "=" and blanks stand between them.
func directive(line string) (word, rest string) {
	line = strings.TrimSpace(line)
	if line == "" || line[0] == '#' {
		return "", ""
	}
	i := strings.IndexAny(line, " \t=")
	if i < 0 {
		return strings.ToLower(line), ""
	}
	return strings.ToLower(line[:i]), strings.TrimLeft(line[i:], " \t=")
}

// fields splits arguments at blanks, and reads double quotes.
func fields(s string) []string {
	var out []string
	for s = strings.TrimSpace(s); s != ""; s = strings.TrimSpace(s) {
		if s[0] == '"' {
			word, rest, _ := strings.Cut(s[1:], `"`)
			out, s = append(out, word), rest
			continue
		}
		i := strings.IndexAny(s, " \t")
		if i < 0 {
			i = len(s)
		}
		out, s = append(out, s[:i]), s[i:]
	}
	return out
}
