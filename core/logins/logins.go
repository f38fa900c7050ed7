// Package logins is about the ways of logging in to a server besides keys, and about changing them without locking anybody out: what
// OpenSSH's server says of them, what is written to change them, and the way back, which undoes a change that nobody confirms.
//
// The settings are those of sshd_config(5). For each, the first value that is read counts, and what stands below a Match holds before
// what stands outside of it. What a server obeys in the end is what "sshd -T -C" prints (sshd(8)): that is asked, and not computed.
package logins

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Way is a way of logging in besides keys.
type Way string

// The ways, by the keyword of sshd_config(5) that decides.
const (
	Password  Way = "passwordauthentication"
	Keyboard  Way = "kbdinteractiveauthentication" // which asks for the password too, where PAM does
	Root      Way = "permitrootlogin"
	Empty     Way = "permitemptypasswords"
	HostBased Way = "hostbasedauthentication"
)

// Ways are all of them, in the order in which they are shown.
var Ways = []Way{Password, Keyboard, Root, Empty, HostBased}

// Keyword is the way's keyword as people write it.
func (w Way) Keyword() string {
	return map[Way]string{Password: "PasswordAuthentication", Keyboard: "KbdInteractiveAuthentication", Root: "PermitRootLogin",
		Empty: "PermitEmptyPasswords", HostBased: "HostbasedAuthentication"}[w]
}

// String is what people call it.
func (w Way) String() string {
	return map[Way]string{Password: "password", Keyboard: "keyboard-interactive", Root: "root", Empty: "empty passwords",
		HostBased: "host-based"}[w]
}

// older are the keywords that older servers print for a way (OpenSSH before 8.7, sshd_config(5)).
var older = map[string]Way{"challengeresponseauthentication": Keyboard, "skeyauthentication": Keyboard}

// Effective is what holds for one user, as "sshd -T -C user=..." prints it: for each way the value in small letters. A way that is not
// in it was not printed.
type Effective map[Way]string

// ReadEffective reads the output of "sshd -T".
func ReadEffective(text string) Effective {
	out := Effective{}
	for line := range strings.Lines(text) {
		word, value, _ := strings.Cut(strings.TrimSpace(line), " ")
		w := Way(strings.ToLower(word))
		if o, ok := older[string(w)]; ok {
			w = o
		}
		if slices.Contains(Ways, w) {
			if value = strings.ToLower(value); w == Root && value == "without-password" {
				value = "prohibit-password" // the older word for it
			}
			out[w] = value
		}
	}
	return out
}

// Change is what is asked for. What is "" stays as it is.
type Change struct {
	Password string // "on" or "off"
	Root     string // "on", "keys" or "off"
}

// ErrChange says that a change is none.
var ErrChange = errors.New("say -password on or off, or -root on, keys or off")

// Check checks a change. ErrChange.
func (c Change) Check() error {
	if c == (Change{}) || !slices.Contains([]string{"", "on", "off"}, c.Password) || !slices.Contains([]string{"", "on", "keys", "off"}, c.Root) {
		return ErrChange
	}
	return nil
}

// Narrows tells whether fewer people get in after it.
func (c Change) Narrows() bool { return c.Password == "off" || c.Root == "off" || c.Root == "keys" }

// String says what the change is, as the command has it.
func (c Change) String() string {
	var out []string
	if c.Password != "" {
		out = append(out, "password "+c.Password)
	}
	if c.Root != "" {
		out = append(out, "root "+c.Root)
	}
	return strings.Join(out, ", ")
}

var rootValues = map[string]string{"on": "yes", "keys": "prohibit-password", "off": "no"}

// Settings are what is written for a change, over what was written for former ones. Switching passwords off switches off the other way
// in which a server asks for one (KbdInteractiveAuthentication); switching them on leaves that to the rest of the configuration.
func (c Change) Settings(before map[Way]string) map[Way]string {
	out := map[Way]string{}
	for w, v := range before {
		out[w] = v
	}
	switch c.Password {
	case "off":
		out[Password], out[Keyboard] = "no", "no"
	case "on":
		out[Password] = "yes"
		delete(out, Keyboard)
	}
	if c.Root != "" {
		out[Root] = rootValues[c.Root]
	}
	return out
}

// Differs says in which ways a server obeys something else than what was written; nil if it obeys it all.
func Differs(wanted map[Way]string, is Effective) []string {
	var out []string
	for _, w := range Ways {
		want, ok := wanted[w]
		if !ok {
			continue
		}
		switch got, there := is[w]; {
		case !there:
			out = append(out, fmt.Sprintf("%s is not known to this server", w.Keyword()))
		case got != want:
			out = append(out, fmt.Sprintf("%s is %s, and not %s", w.Keyword(), got, want))
		}
	}
	return out
}

// The marks around what we write. What stands between them is ours, and nothing else in the file is.
const (
	Begin = "# Plum Latch: ways of logging in, set by plumlatch instance logins. What stands between these marks is written anew."
	End   = "# Plum Latch: end"
)

// OwnFile is our file in the folder that a server's configuration includes: the first value counts, so its name comes first.
const OwnFile = "/etc/ssh/sshd_config.d/00-plumlatch.conf"

// MainFile is the file that every server reads.
const MainFile = "/etc/ssh/sshd_config"

// ErrMarks says that our marks in a file are not as we write them.
var ErrMarks = errors.New("our marks in it are not as we write them: somebody changed them. Take the lines between them out by hand")

// Ours are the settings between our marks in a file, and rest is the file without them. ErrMarks.
func Ours(text string) (ours map[Way]string, rest string, err error) {
	ours = map[Way]string{}
	var out strings.Builder
	inside, seen := false, false
	for line := range strings.Lines(text) {
		switch bare := strings.TrimRight(line, "\r\n"); {
		case bare == Begin:
			if inside || seen {
				return nil, "", ErrMarks
			}
			inside, seen = true, true
		case bare == End:
			if !inside {
				return nil, "", ErrMarks
			}
			inside = false
		case inside:
			keyword, value, _ := strings.Cut(strings.TrimSpace(bare), " ")
			if w := Way(strings.ToLower(keyword)); slices.Contains(Ways, w) {
				ours[w] = strings.ToLower(strings.TrimSpace(value))
			}
		default:
			out.WriteString(line)
		}
	}
	if inside {
		return nil, "", ErrMarks
	}
	return ours, out.String(), nil
}

// With puts settings before the rest of a file, between our marks: nothing may stand before them, as the first value counts. Without
// settings it is the rest alone.
func With(settings map[Way]string, rest string) string {
	if len(settings) == 0 {
		return rest
	}
	var out strings.Builder
	out.WriteString(Begin + "\n")
	for _, w := range Ways {
		if v, ok := settings[w]; ok {
			fmt.Fprintf(&out, "%s %s\n", w.Keyword(), v)
		}
	}
	out.WriteString(End + "\n")
	return out.String() + rest
}

// Account is a user of the instance, as far as its password goes. No hash is ever read: the instance says only of what sort it is.
type Account struct {
	User   string
	Has    string // PasswordSet, PasswordNone, PasswordEmpty, or "" where that was not seen
	Keys   int    // lines in the files that the server reads for it; -1 where they were not seen
	IsRoot bool
}

// What an account has for a password.
const (
	PasswordSet   = "set"
	PasswordNone  = "locked" // none, or one that nothing fits (passwd(5), shadow(5))
	PasswordEmpty = "empty"
)

// Opens tells whether a way lets this user in, by what holds for it. known is false where the password was not seen.
func (a Account) Opens(w Way, e Effective) (opens, known bool) {
	on := e[w] == "yes"
	switch w {
	case Root:
		return a.IsRoot && e[Root] != "no", true
	case HostBased:
		return on, true
	case Empty:
		return on && a.Has == PasswordEmpty && a.mayBy(e), a.Has != "" || !on
	}
	if a.IsRoot && e[Root] != "yes" { // prohibit-password, forced-commands-only
		return false, true
	}
	return on && (a.Has == PasswordSet || a.Has == PasswordEmpty && e[Empty] == "yes"), a.Has != "" || !on
}

func (a Account) mayBy(e Effective) bool {
	return (e[Password] == "yes" || e[Keyboard] == "yes") && (!a.IsRoot || e[Root] == "yes")
}

// LeftOut are the users who get in before a change and no more after it: those who have a password and no key.
func LeftOut(accounts []Account, before map[string]Effective, c Change) []string {
	var out []string
	for _, a := range accounts {
		e := before[a.User]
		byPassword, _ := a.Opens(Password, e)
		byKeyboard, _ := a.Opens(Keyboard, e)
		lost := c.Password == "off" && (byPassword || byKeyboard) && a.Keys == 0 ||
			a.IsRoot && e[Root] != "no" && (c.Root == "off" && a.Keys != 0 || c.Root != "" && c.Root != "on" && (byPassword || byKeyboard) && a.Keys == 0)
		if lost {
			out = append(out, a.User)
		}
	}
	return out
}
