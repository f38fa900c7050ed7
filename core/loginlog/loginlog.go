// Package loginlog reads who came in, as OpenSSH's server writes it: one message for each login that it let in, with the method,
// the user, the address and, for a key, its fingerprint. A log is foreign text: what anybody could have written counts less than
// what the system itself vouches for, and nothing that merely looks like such a message counts at all.
//
// The messages are those of OpenSSH's auth.c (auth_log) and auth2-pubkey.c (format_method_key). The journal's trusted fields are
// described in systemd.journal-fields(7), its JSON in systemd's Journal JSON Format.
package loginlog

import (
	"bytes"
	"encoding/json"
	"errors"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Login is one login that a server let in.
type Login struct {
	At     time.Time // by the instance's clock
	User   string
	From   netip.Addr
	Method string // publickey, password, keyboard-interactive/pam, hostbased ...
	Kind   string // of the key, as the server calls it: ED25519, RSA-CERT; "" without a key
	Print  string // the key's fingerprint, SHA256:...; of a certificate that of the key that it certifies
	Cert   *Cert  // of a certificate
	PID    int    // of the server's process, where a line of text tells it
	// Trusted: the system vouches that the server wrote it (the journal's trusted fields). A text file says no more than "somebody
	// wrote this".
	Trusted bool
}

// Cert is what a server writes of a certificate.
type Cert struct {
	ID     string // the key ID: foreign text
	Serial uint64
	CA     string // the fingerprint of the authority's key, SHA256:...
}

// printed is a fingerprint as sshd writes it: SHA-256, base64 without padding (43 characters).
const printed = `SHA256:[A-Za-z0-9+/]{43}`

var (
	// A user that has a blank in its name is not read: a key ID could look like the rest of the line then.
	accepted = regexp.MustCompile(`^Accepted ([a-z][a-z-]*(?:/[a-z-]+)?) for ([^\s]{1,100}) from ([0-9A-Fa-f:.%a-z]{2,64}) port (\d{1,5}) ssh2(?:: (.*))?$`)
	plainKey = regexp.MustCompile(`^([A-Z0-9-]{2,30}) (` + printed + `)$`)
	// The key ID stands before the last "(serial ...": whatever it says itself, the server's own words come after it.
	certKey = regexp.MustCompile(`^([A-Z0-9-]{2,30}-CERT) (` + printed + `) ID (.*) \(serial (\d{1,20})\) CA [A-Z0-9-]{2,30} (` + printed + `)$`)
)

// maxMessage is how long a message of the server can be, in bytes: its lines are cut at 1 KiB, and a key ID is in it.
const maxMessage = 4 << 10

// Message reads a message of the server; false for any other than that of a login which it let in.
func Message(text string) (l Login, ok bool) {
	if len(text) > maxMessage || strings.ContainsAny(text, "\x00\n\r") {
		return l, false
	}
	m := accepted.FindStringSubmatch(text)
	if m == nil {
		return l, false
	}
	from, err := netip.ParseAddr(m[3])
	port, _ := strconv.Atoi(m[4])
	if err != nil || port < 1 || port > 65535 {
		return l, false
	}
	l = Login{User: m[2], From: from.Unmap(), Method: m[1]}
	if m[5] == "" {
		return l, l.Method != "publickey"
	}
	if k := certKey.FindStringSubmatch(m[5]); k != nil {
		serial, err := strconv.ParseUint(k[4], 10, 64)
		l.Kind, l.Print, l.Cert = k[1], k[2], &Cert{ID: k[3], Serial: serial, CA: k[5]}
		return l, err == nil && byKey(l.Method)
	}
	if k := plainKey.FindStringSubmatch(m[5]); k != nil && byKey(l.Method) && !strings.HasSuffix(k[1], "-CERT") {
		l.Kind, l.Print = k[1], k[2]
		return l, true
	}
	return l, !byKey(l.Method) // others have words of their own there
}

// byKey tells whether a method logs in by a key. That of a host is no key of a person's.
func byKey(method string) bool { return method == "publickey" }

// Sources are what logs are called: the journal, and text files.
var Sources = []string{FromJournal, "auth.log", "secure"}

// FromJournal is the source whose entries the system can vouch for.
const FromJournal = "journal"

// IsPrint tells whether a text is a fingerprint as a server writes it.
func IsPrint(text string) bool { return isPrint.MatchString(text) }

var isPrint = regexp.MustCompile(`^` + printed + `$`)

// Units and Programs are what the server's own entries of the journal come from.
var (
	Units    = []string{"ssh.service", "sshd.service"}
	Programs = []string{"/usr/sbin/sshd", "/usr/lib/openssh/sshd-session", "/usr/libexec/openssh/sshd-session", "/usr/libexec/sshd-session",
		"/usr/lib/ssh/sshd-session"}
)

// What Journal says no with.
var (
	// ErrEntry: the line is no entry of a journal.
	ErrEntry = errors.New("that is no entry of a journal")
)

// Entry is one entry of the journal.
type Entry struct {
	Cursor string // where it stands, for going on after it
	At     time.Time
	Login  Login
	Is     bool // it tells of a login that the server let in, and the system vouches that the server wrote it
}

// Journal reads one entry as "journalctl -o json" writes it. An entry counts where the trusted fields, which no program can set, say
// that root wrote it (_UID) from the server's program (_EXE) or, where that is not told, from its unit (_SYSTEMD_UNIT). ErrEntry.
func Journal(line []byte) (e Entry, err error) {
	var fields map[string]json.RawMessage
	if len(line) > 64<<10 || json.Unmarshal(line, &fields) != nil {
		return e, ErrEntry
	}
	text := func(name string) string { // a field that occurs more than once, or is no text, is an array
		var s string
		if json.Unmarshal(fields[name], &s) != nil {
			return ""
		}
		return s
	}
	micros, wrong := strconv.ParseInt(text("__REALTIME_TIMESTAMP"), 10, 64)
	e.Cursor = text("__CURSOR")
	if wrong != nil || micros < 0 || e.Cursor == "" {
		return e, ErrEntry
	}
	e.At = time.UnixMicro(micros).UTC()
	exe, unit := text("_EXE"), text("_SYSTEMD_UNIT")
	if text("_UID") != "0" || !slices.Contains(Programs, exe) && (exe != "" || !isUnit(unit)) {
		return e, nil
	}
	if e.Login, e.Is = Message(text("MESSAGE")); e.Is {
		e.Login.At, e.Login.Trusted = e.At, true
	}
	return e, nil
}

// isUnit tells whether a unit is the server's: one, or one for each connection.
func isUnit(unit string) bool {
	return slices.Contains(Units, unit) || strings.HasSuffix(unit, ".service") && (strings.HasPrefix(unit, "ssh@") || strings.HasPrefix(unit, "sshd@"))
}

// line is one of a text file as rsyslog or syslogd write it: RFC 3164, section 4.1, or with a time of RFC 3339 before it.
var line = regexp.MustCompile(`^(?:([A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d)|(\d{4}-\d\d-\d\dT[0-9:.]+(?:Z|[+-]\d\d:\d\d))) (\S{1,255}) (?:sshd|sshd-session)\[(\d{1,10})\]: (.*)$`)

// Text reads a line of a text file, such as auth.log. A time without a year is the last one that is not after the file was last
// written, in its zone. Any local user may write such a line, so none is Trusted.
func Text(s string, written time.Time) (l Login, ok bool) {
	s = strings.TrimRight(s, "\r\n")
	m := line.FindStringSubmatch(s)
	if m == nil {
		return l, false
	}
	at := timeOf(m[1], m[2], written)
	if at.IsZero() {
		return l, false
	}
	if l, ok = Message(m[5]); ok {
		l.At = at.UTC()
		l.PID, _ = strconv.Atoi(m[4])
	}
	return l, ok
}

// began is the time that a line of a text file begins with.
var began = regexp.MustCompile(`^(?:([A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d)|(\d{4}-\d\d-\d\dT[0-9:.]+(?:Z|[+-]\d\d:\d\d))) `)

// TimeOf is the time of a line of a text file, as Text has it; zero if it has none.
func TimeOf(s string, written time.Time) time.Time {
	m := began.FindStringSubmatch(s)
	if m == nil {
		return time.Time{}
	}
	return timeOf(m[1], m[2], written)
}

// timeOf reads a time without a year, or a whole one; zero if it is none.
func timeOf(stamp, whole string, written time.Time) time.Time {
	if whole != "" {
		at, err := time.Parse(time.RFC3339Nano, whole)
		if err != nil {
			return time.Time{}
		}
		return at
	}
	at, err := time.ParseInLocation(time.Stamp, stamp, written.Location())
	if err != nil {
		return time.Time{}
	}
	at = time.Date(written.Year(), at.Month(), at.Day(), at.Hour(), at.Minute(), at.Second(), 0, written.Location())
	if at.After(written.Add(24 * time.Hour)) { // a day beyond is no more than another zone, or a clock that was set
		at = at.AddDate(-1, 0, 0)
	}
	return at
}

// Use is what one key, or a login without one, did as one user from one address on one day, by the instance's clock in UTC.
type Use struct {
	User, Method, Kind, Print string
	CA, CertID                string // of a certificate; the ID is the last one that was seen
	Trusted                   bool
	From                      netip.Addr
	Day                       string // 2026-11-30
	First, Last               time.Time
	Count                     int
}

// MaxUses is how many rows a Tally holds: others are counted as left out.
const MaxUses = 10_000

// Tally counts logins in bounded memory. The zero value is ready.
type Tally struct {
	LeftOut int // logins that no row was left for
	rows    map[Use]*Use
}

// Add counts a login.
func (t *Tally) Add(l Login) {
	key := Use{User: l.User, Method: l.Method, Kind: l.Kind, Print: l.Print, Trusted: l.Trusted, From: l.From, Day: l.At.UTC().Format(time.DateOnly)}
	if l.Cert != nil {
		key.CA = l.Cert.CA
	}
	one := key
	one.First, one.Last, one.Count = l.At, l.At, 1
	if l.Cert != nil {
		one.CertID = l.Cert.ID
	}
	t.add(key, one)
}

// add counts uses of one row, which has the same key.
func (t *Tally) add(key, more Use) {
	row := t.rows[key]
	switch {
	case row == nil && len(t.rows) >= MaxUses:
		t.LeftOut += more.Count
		return
	case row == nil:
		if t.rows == nil {
			t.rows = map[Use]*Use{}
		}
		t.rows[key] = &more
		return
	}
	row.Count += more.Count
	if more.First.Before(row.First) {
		row.First = more.First
	}
	if !more.Last.Before(row.Last) {
		row.Last, row.CertID = more.Last, more.CertID
	}
}

// Join counts what another has counted.
func (t *Tally) Join(other *Tally) {
	for key, row := range other.rows {
		t.add(key, *row)
	}
	t.LeftOut += other.LeftOut
}

// Uses are what was counted, in order of their days.
func (t *Tally) Uses() []Use {
	out := make([]Use, 0, len(t.rows))
	for _, u := range t.rows {
		out = append(out, *u)
	}
	slices.SortFunc(out, func(a, b Use) int {
		return bytes.Compare([]byte(a.Day+a.Print+a.User+a.From.String()+a.Method+a.CA), []byte(b.Day+b.Print+b.User+b.From.String()+b.Method+b.CA))
	})
	return out
}
