// Package rotation holds the reasoning of putting a new key in the place of an
// old one: which options the new line carries over, when a key may be narrowed
// or taken out without locking anybody out (rule 1), and in which waves many
// instances follow one another. It computes; service/work acts.
package rotation

import (
	"errors"
	"strings"

	"plumlatch/core/authkeys"
	"plumlatch/core/times"
)

// Carried are the options of an old line that its new line has too.
type Carried struct {
	Options string   // as they stand in front of the new key; "" for none
	Notes   []string // what the engineer should know of them, in words
	Forced  bool     // the new line runs one command: it is no way in for people
	From    string   // the addresses it is taken from, "" for all
	Ends    bool     // it has an end
}

// Errors of Carry.
var (
	// ErrAuthority: the line vouches for other keys, and logs nobody in itself.
	ErrAuthority = errors.New("the old key is a certificate authority there: it vouches for other keys, and is not " +
		"rotated line by line")
	// ErrNoLine: none of the lines is one that sshd would read.
	ErrNoLine = errors.New("no line of the old key is one that sshd reads")
)

// Carry takes the options of the freest of the old key's lines for the new one:
// sshd takes the first line that allows a key, so that line says what its holder
// can do. Options that only hardware-backed keys know are left out for another
// kind of key. sshd(8), AUTHORIZED_KEYS FILE FORMAT.
func Carry(old []authkeys.Line, hardware bool) (Carried, error) {
	best, authority := -1, false
	for n, l := range old {
		switch {
		case l.Err != nil:
		case l.Options.CertAuthority:
			authority = true
		case best < 0 || freer(l.Options, old[best].Options):
			best = n
		}
	}
	if best < 0 {
		if authority {
			return Carried{}, ErrAuthority
		}
		return Carried{}, ErrNoLine
	}
	o := old[best].Options
	out := Carried{Options: o.Text, Forced: o.HasCommand, From: o.From, Ends: !o.Expires.IsZero()}
	if !hardware {
		var kept []string
		for _, one := range authkeys.SplitOptions(o.Text) {
			switch strings.TrimPrefix(strings.ToLower(one), "no-") {
			case "touch-required", "verify-required":
				out.Notes = append(out.Notes, one+" is left out: only a hardware-backed key knows it")
			default:
				kept = append(kept, one)
			}
		}
		out.Options = strings.Join(kept, ",")
	}
	if out.Forced {
		out.Notes = append(out.Notes, `the forced command is carried over: `+o.Command)
	}
	if out.From != "" {
		out.Notes = append(out.Notes, "taken from these addresses only, as before: "+out.From)
	}
	for _, e := range o.Environment {
		name, _, _ := strings.Cut(e, "=")
		out.Notes = append(out.Notes, "the environment variable "+name+" is set, as before")
	}
	if out.Ends {
		out.Notes = append(out.Notes, "its end is carried over: "+times.Show(o.Expires.UTC()))
	}
	return out, nil
}

// freer tells whether a line lets its holder do more than another.
func freer(a, b authkeys.Options) bool {
	bars := func(o authkeys.Options) (n int) {
		for _, bar := range []bool{o.HasCommand, o.HasCommand, o.From != "", !o.Expires.IsZero(), o.NoPTY} {
			if bar {
				n++
			}
		}
		return n
	}
	return bars(a) < bars(b)
}

// Line is the new key's line with what it carries over. key is its public key
// with its comment, as keypair.Public.Line gives it.
func (c Carried) Line(key string) string {
	if c.Options == "" {
		return key
	}
	return c.Options + " " + key
}
