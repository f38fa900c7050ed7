// Package names holds the one rule for the names that people give to keys,
// instances and operators.
//
// A name is 1 to 63 of the letters A-Z and a-z, digits, '.', '_' and '-', and
// starts with a letter or a digit. It therefore stands unquoted in a shell, a
// file name, a URL path and a table. Two names that differ only in case are
// one name: Fold gives the form to compare.
package names

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
)

// MaxLength is the greatest length of a name, in bytes.
const MaxLength = 63

// ErrInvalid is what every error of Check wraps.
var ErrInvalid = errors.New("invalid name")

// Fold returns the form under which a name is unique.
func Fold(name string) string { return strings.ToLower(name) }

// Check returns nil for a valid name, and otherwise an error that wraps
// ErrInvalid, says what is wrong and suggests a valid name where one is near.
// The error never repeats the rejected text: it may be anything.
func Check(name string) error {
	switch {
	case name == "":
		return fmt.Errorf("%w: it is empty; %s", ErrInvalid, rule)
	case len(name) > MaxLength:
		return fmt.Errorf("%w: it is %d bytes long; %s%s", ErrInvalid, len(name), rule, suggestion(name))
	case !isAlnum(rune(name[0])):
		return fmt.Errorf("%w: it does not start with a letter or digit; %s%s", ErrInvalid, rule, suggestion(name))
	}
	for _, r := range name {
		if !isAlnum(r) && !strings.ContainsRune("._-", r) {
			return fmt.Errorf("%w: %q is not allowed; %s%s", ErrInvalid, r, rule, suggestion(name))
		}
	}
	return nil
}

const rule = "names are 1 to 63 letters, digits, '.', '_' or '-', starting with a letter or digit"

func suggestion(name string) string {
	if s := Suggest(name); s != "" {
		return fmt.Sprintf(" (try %s)", s)
	}
	return ""
}

var loginUser = regexp.MustCompile(`^[a-z_][a-z0-9_.-]{0,31}$`)

// LoginUser tells whether a text is a login user's name: one that can stand on a
// command line and in a file without a quote, and begins with no '-'.
func LoginUser(s string) bool { return loginUser.MatchString(s) }

// Suggest returns a valid name near to name, or "" if nothing of it is usable.
func Suggest(name string) string {
	var b strings.Builder
	gap := false
	for _, r := range name {
		switch {
		case isAlnum(r) || (b.Len() > 0 && strings.ContainsRune("._-", r)):
			if gap && b.Len() > 0 && !strings.HasSuffix(b.String(), "-") && r != '-' {
				b.WriteByte('-')
			}
			gap = false
			b.WriteRune(r)
		default:
			gap = true
		}
		if b.Len() >= MaxLength {
			break
		}
	}
	s := b.String()
	if len(s) > MaxLength {
		s = s[:MaxLength]
	}
	return strings.TrimRight(s, "._-")
}

func isAlnum(r rune) bool {
	return 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z' || '0' <= r && r <= '9'
}
