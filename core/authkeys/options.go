package authkeys

import (
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"
)

// Options are the options of one line, with the effect that they have
// together: Restrict is applied, then what was given back after it.
type Options struct {
	Text          string    // as written, "" for none
	Command       string    // forced command
	HasCommand    bool      // command="" forces an empty command
	From          string    // pattern list
	Expires       time.Time // the earliest expiry-time; zero for none
	Environment   []string  // NAME=value
	CertAuthority bool
	Principals    string
	PermitOpen    []string
	PermitListen  []string

	NoPTY             bool
	NoPortForwarding  bool
	NoAgentForwarding bool
	NoX11Forwarding   bool
	NoUserRC          bool

	hasFrom       bool
	hasPrincipals bool
}

// ErrOption says that sshd would refuse a line for its options.
var ErrOption = errors.New("the options of this line are refused")

func bad(why string) error { return fmt.Errorf("%w: %s", ErrOption, why) }

// flag options, their negation allowed or not, and what they set.
var flags = []struct {
	name   string
	negate bool
	set    func(o *Options, on bool)
}{
	{"restrict", false, func(o *Options, _ bool) {
		o.NoPTY, o.NoPortForwarding, o.NoAgentForwarding, o.NoX11Forwarding, o.NoUserRC = true, true, true, true, true
	}},
	{"cert-authority", false, func(o *Options, on bool) { o.CertAuthority = on }},
	{"port-forwarding", true, func(o *Options, on bool) { o.NoPortForwarding = !on }},
	{"agent-forwarding", true, func(o *Options, on bool) { o.NoAgentForwarding = !on }},
	{"x11-forwarding", true, func(o *Options, on bool) { o.NoX11Forwarding = !on }},
	{"touch-required", true, func(*Options, bool) {}},
	{"verify-required", true, func(*Options, bool) {}},
	{"pty", true, func(o *Options, on bool) { o.NoPTY = !on }},
	{"user-rc", true, func(o *Options, on bool) { o.NoUserRC = !on }},
}

// Vouches tells whether the options of a line, as they stand there, trust its key as a certificate
// authority (sshd(8), cert-authority), and for which principals alone; "" for the login user's name.
func Vouches(options string) (principals string, yes bool) {
	o, err := parseOptions(options, time.UTC)
	if err != nil { // kept cut short, perhaps: what it begins with is known all the same
		return "", strings.Contains(strings.ToLower(options), "cert-authority")
	}
	return o.Principals, o.CertAuthority
}

func hasPrefixFold(s, prefix string) bool {
	return len(s) >= len(prefix) && strings.EqualFold(s[:len(prefix)], prefix)
}

// parseOptions reads the options of a line (sshauthopt_parse of OpenSSH 9.2).
// Names are matched whatever their case.
func parseOptions(s string, loc *time.Location) (Options, error) {
	o := Options{Text: s}
next:
	for s != "" {
		matched := false
		for _, f := range flags {
			rest, on := s, true
			if f.negate && hasPrefixFold(rest, "no-") {
				rest, on = rest[3:], false
			}
			if hasPrefixFold(rest, f.name) {
				f.set(&o, on)
				s, matched = rest[len(f.name):], true
				break
			}
		}
		if !matched {
			var err error
			if s, err = o.parseValued(s, loc); err != nil {
				return Options{}, err
			}
		}
		switch {
		case s == "":
			break next
		case s[0] != ',':
			return Options{}, bad("unknown option")
		case len(s) == 1:
			// sshd sees the blank that follows the options here, and stops.
			break next
		}
		s = s[1:]
	}
	if o.hasPrincipals && !o.CertAuthority {
		return Options{}, bad("principals without cert-authority")
	}
	return o, nil
}

// parseValued reads one option with a value, and returns what follows it. An
// unknown option returns s as it is: the caller then finds no comma.
func (o *Options) parseValued(s string, loc *time.Location) (string, error) {
	for _, name := range []string{"command", "principals", "from", "expiry-time", "environment", "permitopen",
		"permitlisten", "tunnel"} {
		if !hasPrefixFold(s, name+"=") {
			continue
		}
		value, rest, err := dequote(s[len(name)+1:])
		if err != nil {
			return "", err
		}
		return rest, o.setValued(name, value, loc)
	}
	if s[0] == ',' { // an empty option: sshd passes over it
		return s, nil
	}
	return "?" + s, nil
}

func (o *Options) setValued(name, value string, loc *time.Location) error {
	switch name {
	case "command":
		if o.HasCommand {
			return bad("more than one command")
		}
		o.Command, o.HasCommand = value, true
	case "principals":
		if o.hasPrincipals {
			return bad("more than one principals")
		}
		o.Principals, o.hasPrincipals = value, true
	case "from":
		if o.hasFrom {
			return bad("more than one from")
		}
		o.From, o.hasFrom = value, true
	case "expiry-time":
		t, err := parseTime(value, loc)
		if err != nil {
			return err
		}
		if o.Expires.IsZero() || t.Before(o.Expires) {
			o.Expires = t
		}
	case "environment":
		name, _, ok := strings.Cut(value, "=")
		if !ok || strings.Trim(name, "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789_") != "" {
			return bad("environment without a proper NAME=")
		}
		o.Environment = append(o.Environment, value)
	case "permitopen", "permitlisten":
		if err := checkPermit(value, name == "permitlisten"); err != nil {
			return err
		}
		if name == "permitopen" {
			o.PermitOpen = append(o.PermitOpen, value)
		} else {
			o.PermitListen = append(o.PermitListen, value)
		}
	case "tunnel":
		if _, err := strconv.ParseUint(value, 10, 31); err != nil && !strings.EqualFold(value, "any") {
			return bad("tunnel without a number")
		}
	}
	return nil
}

// dequote reads a quoted value; \" stands for a quote (opt_dequote).
func dequote(s string) (value, rest string, err error) {
	if s == "" || s[0] != '"' {
		return "", "", bad("a value does not start with a quote")
	}
	var b strings.Builder
	for i := 1; i < len(s); i++ {
		switch {
		case s[i] == '"':
			return b.String(), s[i+1:], nil
		case s[i] == '\\' && i+1 < len(s) && s[i+1] == '"':
			i++
		}
		b.WriteByte(s[i])
	}
	return "", "", bad("a value has no closing quote")
}

// checkPermit checks the host:port of permitopen and permitlisten (handle_permit).
func checkPermit(s string, bareport bool) error {
	port := s
	if i := strings.LastIndexByte(s, ':'); i >= 0 {
		if s[:i] == "" && !bareport {
			return bad("permitopen without a host")
		}
		port = s[i+1:]
	} else if !bareport {
		return bad("permitopen without a port")
	}
	if port == "*" {
		return nil
	}
	if n, err := strconv.ParseUint(port, 10, 16); err != nil || n == 0 {
		return bad("a port that is not one")
	}
	return nil
}

// parseTime reads YYYYMMDD, YYYYMMDDHHMM or YYYYMMDDHHMMSS, in loc or, with a
// final Z (or UTC), in UTC (parse_absolute_time).
func parseTime(s string, loc *time.Location) (time.Time, error) {
	if n := len(s); n > 1 && (s[n-1] == 'Z' || s[n-1] == 'z') {
		s, loc = s[:n-1], time.UTC
	} else if n > 3 && strings.EqualFold(s[n-3:], "UTC") {
		s, loc = s[:n-3], time.UTC
	}
	fields := map[int][]int{8: {4, 2, 2}, 12: {4, 2, 2, 2, 2}, 14: {4, 2, 2, 2, 2, 2}}[len(s)]
	limits := [][2]int{{0, 9999}, {1, 12}, {1, 31}, {0, 23}, {0, 59}, {0, 61}} // strptime(3)
	var v [6]int
	for i, width := range fields {
		n, err := strconv.ParseUint(s[:width], 10, 16)
		if err != nil || int(n) < limits[i][0] || int(n) > limits[i][1] {
			fields = nil
			break
		}
		v[i], s = int(n), s[width:]
	}
	// Like mktime(3), time.Date takes 30 February for 2 March.
	t := time.Date(v[0], time.Month(v[1]), v[2], v[3], v[4], v[5], 0, loc)
	if fields == nil || t.Unix() <= 0 {
		return time.Time{}, bad("an expiry-time that is no time")
	}
	return t, nil
}

// FormatTime writes t as an expiry-time in UTC, with the final Z that OpenSSH
// reads since 9.1.
func FormatTime(t time.Time) string { return t.UTC().Format("20060102150405Z") }

// matchFrom tells whether address is allowed by a from= pattern list:
// addresses, CIDR, wildcards, and '!' for what is refused (match_host_and_ip
// of OpenSSH, with UseDNS no, so that the host's name is its address).
func matchFrom(list, address string) bool {
	addr, err := netip.ParseAddr(address)
	if err != nil {
		return false
	}
	addr = addr.Unmap()
	matched := false
	for _, p := range strings.Split(list, ",") {
		negated := strings.HasPrefix(p, "!")
		p = strings.TrimPrefix(p, "!")
		if p == "" {
			return false
		}
		var hit bool
		if prefix, err := parsePrefix(p); err == nil {
			if prefix.Masked().Addr() != prefix.Addr() {
				return false // host bits set: sshd drops the whole list
			}
			hit = prefix.Contains(addr)
		} else {
			hit = wildcard(strings.ToLower(p), addr.String())
		}
		if hit && negated {
			return false
		}
		matched = matched || hit
	}
	return matched
}

func parsePrefix(p string) (netip.Prefix, error) {
	if strings.Contains(p, "/") {
		return netip.ParsePrefix(p)
	}
	a, err := netip.ParseAddr(p)
	if err != nil {
		return netip.Prefix{}, err
	}
	return netip.PrefixFrom(a.Unmap(), a.Unmap().BitLen()), nil
}

// wildcard matches '*' and '?' (match_pattern of OpenSSH). Only the last '*' is
// ever gone back to, so its time is at most the product of both lengths: a
// pattern is somebody else's text.
func wildcard(pattern, s string) bool {
	p, at := 0, 0       // what is compared next
	star, from := -1, 0 // behind the last '*', and where in s it began to match
	for at < len(s) {
		switch {
		case p < len(pattern) && pattern[p] == '*':
			p++
			star, from = p, at
		case p < len(pattern) && (pattern[p] == '?' || pattern[p] == s[at]):
			p, at = p+1, at+1
		case star >= 0: // the '*' takes one more
			from++
			p, at = star, from
		default:
			return false
		}
	}
	return strings.Trim(pattern[p:], "*") == ""
}

// SplitOptions takes an option list apart at its commas, those within quotes
// left alone. Its parts, joined with commas, are the list again.
func SplitOptions(s string) []string {
	if s == "" {
		return nil
	}
	var out []string
	quoted, begin := false, 0
	for i := 0; i < len(s); i++ {
		switch {
		case s[i] == '\\' && i+1 < len(s) && s[i+1] == '"':
			i++
		case s[i] == '"':
			quoted = !quoted
		case s[i] == ',' && !quoted:
			out, begin = append(out, s[begin:i]), i+1
		}
	}
	return append(out, s[begin:])
}
