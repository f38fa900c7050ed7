package reach

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"plumlatch/core/plaintext"
)

// Inspection is what can be found out about a server from a session of one of
// its users.
type Inspection struct {
	// KeysFiles are the files that the server reads for the user, relative ones
	// to the user's home, and KeysKnown is how that is known.
	KeysFiles []string
	KeysKnown string
	// Privilege is what the user may do: "root", "sudo without a password",
	// "sudo, with a password", "no sudo"; "" if it was not seen.
	Privilege string
	// SFTPCommand runs an SFTP server as root; "" where the user may not.
	SFTPCommand string
	// NotSeen is what could not be seen, each with its reason.
	NotSeen []string

	connection string   // SSH_CONNECTION
	listener   []string // the server's own command line
}

// DefaultKeysFiles are what sshd reads unless it is told otherwise
// (sshd_config(5), AuthorizedKeysFile).
var DefaultKeysFiles = []string{".ssh/authorized_keys", ".ssh/authorized_keys2"}

// ErrKeysFiles says that nobody can tell which files a server reads.
var ErrKeysFiles = errors.New("its configuration sets AuthorizedKeysFile and could not be evaluated, so it is not " +
	"known which file counts")

// The look from inside: plain POSIX sh, which changes nothing. The listener is
// an ancestor of the session; its command line names its configuration.
const lookScript = `echo plumlatch-look
echo "uid $(id -u)"
echo "groups $(id -nG)"
echo "connection $SSH_CONNECTION"
for p in $(servers); do
  [ -r "/proc/$p/cmdline" ] && echo "ancestor $(tr '\000' ' ' < "/proc/$p/cmdline" | head -c 2000)"
done
if command -v sudo >/dev/null 2>&1; then
  if sudo -n true >/dev/null 2>&1; then echo "sudo free"; else echo "sudo asks"; fi
else echo "sudo none"; fi
for s in /usr/lib/openssh/sftp-server /usr/libexec/openssh/sftp-server /usr/libexec/sftp-server /usr/lib/ssh/sftp-server; do [ -x "$s" ] && echo "sftp-server $s" && break; done
echo plumlatch-end`

var lookLimit = 20 * time.Second

// Inspect looks at a server from a session of the user's. It fails only if
// nobody can tell which files count (ErrKeysFiles), unless given says so.
func Inspect(ctx context.Context, host Host, user, given string) (Inspection, error) {
	in := Inspection{KeysFiles: slices.Clone(DefaultKeysFiles), KeysKnown: "OpenSSH's defaults"}
	if given != "" {
		in.KeysFiles, in.KeysKnown = []string{given}, "given with -authorized-keys"
	}
	text, err := capture(ctx, host, host.servers()+lookScript)
	lines, ok := between(text, "plumlatch-look", "plumlatch-end")
	if !ok {
		reason := "the server runs no commands for this user"
		if err != nil {
			reason += " (" + plaintext.Line(plaintext.Cut(err.Error(), 80)) + ")"
		}
		in.NotSeen = append(in.NotSeen, "the server's configuration, other users' files and sudo: "+reason)
		return in, nil
	}
	facts := map[string]string{}
	var listener []string
	for _, l := range lines {
		word, rest, _ := strings.Cut(l, " ")
		if word == "ancestor" {
			if args := sshdArgs(rest); args != nil {
				listener = args // the last is the outermost: the listener
			}
			continue
		}
		facts[word] = rest
	}
	in.connection, in.listener = facts["connection"], listener
	prefix := ""
	switch {
	case facts["uid"] == "0":
		in.Privilege = "root"
	case facts["sudo"] == "free":
		in.Privilege, prefix = "sudo without a password", "sudo -n "
	case facts["sudo"] == "asks" && slices.ContainsFunc(strings.Fields(facts["groups"]), isSudoGroup):
		in.Privilege = "sudo, with a password"
	default:
		in.Privilege = "no sudo"
	}
	rooted := in.Privilege == "root" || prefix != ""
	if server := facts["sftp-server"]; rooted && safePath.MatchString(server) {
		in.SFTPCommand = prefix + server
	}
	if !rooted {
		in.NotSeen = append(in.NotSeen, "other users' files, and the server's effective configuration: "+user+
			" has "+in.Privilege)
	}
	if given != "" {
		return in, nil
	}
	return in, in.configuration(ctx, host, user, facts["connection"], listener, prefix, rooted)
}

func isSudoGroup(g string) bool { return g == "sudo" || g == "wheel" || g == "admin" }

// configuration finds out which files count: by "sshd -T" with the listener's
// own options where the user may run it as root, else from the text of its
// configuration, which says at least whether the default holds.
func (in *Inspection) configuration(ctx context.Context, host Host, user, connection string, listener []string,
	prefix string, rooted bool) error {
	if rooted {
		command := prefix + sshdTest(user, connection, listener)
		text, err := capture(ctx, host, command)
		if files, notSeen, ok := readEffective(text, user); err == nil && ok {
			in.KeysFiles, in.KeysKnown = files, "sshd -T"
			in.NotSeen = append(in.NotSeen, notSeen...)
			return nil
		}
	}
	for n, a := range listener {
		if a == "-o" && n+1 < len(listener) && strings.HasPrefix(strings.ToLower(listener[n+1]), "authorizedkeysfile") {
			return ErrKeysFiles
		}
	}
	file := "/etc/ssh/sshd_config"
	if n := slices.Index(listener, "-f"); n >= 0 && n+1 < len(listener) {
		if file = listener[n+1]; !safePath.MatchString(file) {
			return ErrKeysFiles
		}
	}
	text, err := capture(ctx, host, "cat "+file+
		" /etc/ssh/sshd_config.d/*.conf 2>/dev/null; echo; echo plumlatch-end")
	if err != nil || !strings.Contains(text, "plumlatch-end") || len(text) < 40 {
		in.NotSeen = append(in.NotSeen, "which files count: "+file+
			" cannot be read; OpenSSH's defaults are assumed, and the probe shows whether that holds")
		return nil
	}
	for line := range strings.Lines(text) {
		word, _, _ := strings.Cut(strings.ReplaceAll(strings.TrimSpace(strings.ToLower(line)), "=", " "), " ")
		if word == "authorizedkeysfile" {
			return ErrKeysFiles
		}
	}
	in.KeysKnown = "its configuration file, which leaves the defaults"
	return nil
}

var (
	safePath   = regexp.MustCompile(`^/[A-Za-z0-9_./+-]+$`)
	safeOption = regexp.MustCompile(`^[A-Za-z0-9]+[= ][A-Za-z0-9_./:%@,+*-]*$`)
)

// sshdArgs returns the arguments of a command line that is sshd's, else nil.
func sshdArgs(command string) []string {
	f := strings.Fields(strings.TrimPrefix(command, "sshd: "))
	if len(f) == 0 || !safePath.MatchString(f[0]) || path.Base(f[0]) != "sshd" {
		return nil
	}
	return f
}

var port = regexp.MustCompile(`^[0-9]{1,5}$`)

// sshdTest is the command that prints what holds for this connection
// (sshd(8), -T and -C). Only words of a plain grammar are taken over.
func sshdTest(user, connection string, listener []string) string {
	words := []string{"/usr/sbin/sshd", "-T"}
	if len(listener) > 0 {
		words[0] = listener[0]
	}
	for n := 1; n+1 < len(listener); n++ {
		switch v := listener[n+1]; {
		case listener[n] == "-f" && safePath.MatchString(v), listener[n] == "-h" &&
			safePath.MatchString(v), listener[n] == "-p" && port.MatchString(v), listener[n] == "-o" && safeOption.MatchString(v):
			words = append(words, listener[n], v)
		}
	}
	spec := "user=" + user
	if f := strings.Fields(connection); len(f) == 4 && !strings.ContainsAny(connection, `'"\;&|$`) {
		spec += ",host=" + f[0] + ",addr=" + f[0] + ",laddr=" + f[2] + ",lport=" + f[3]
	}
	return strings.Join(append(words, "-C", spec), " ")
}

// readEffective reads the output of sshd -T.
func readEffective(text, user string) (files, notSeen []string, ok bool) {
	for line := range strings.Lines(text) {
		word, value, _ := strings.Cut(strings.TrimSpace(line), " ")
		switch word {
		case "authorizedkeysfile":
			ok = true
			for _, f := range strings.Fields(value) {
				if f != "none" {
					files = append(files, expand(f, user))
				}
			}
		case "authorizedkeyscommand":
			if value != "none" {
				notSeen = append(notSeen,
					"keys that a command gives the server (AuthorizedKeysCommand): a door that is not listed")
			}
		case "trustedusercakeys":
			if value != "none" {
				notSeen = append(notSeen,
					"whoever a certificate authority lets in (TrustedUserCAKeys): a door that is not listed")
			}
		}
	}
	return files, notSeen, ok && len(files) > 0
}

// expand replaces the tokens of AuthorizedKeysFile (sshd_config(5), TOKENS). A
// path below the home becomes a relative one.
func expand(file, user string) string {
	file = strings.TrimPrefix(file, "%h/")
	return strings.NewReplacer("%%", "%", "%u", user, "%h", ".").Replace(file)
}

func between(text, begin, end string) ([]string, bool) {
	_, rest, a := strings.Cut(text, begin+"\n")
	body, _, b := strings.Cut(rest, "\n"+end)
	return strings.Split(body, "\n"), a && b
}

const maxCapture = 256 << 10

// bounded keeps the first bytes that are written to it.
type bounded struct {
	mu    sync.Mutex // a session that is given up may still write
	text  bytes.Buffer
	limit int
}

func (b *bounded) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if room := b.limit - b.text.Len(); room < len(p) {
		b.text.Write(p[:max(room, 0)])
		return 0, fmt.Errorf("more than %d bytes", b.limit)
	}
	return b.text.Write(p)
}

func (b *bounded) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.text.String()
}
