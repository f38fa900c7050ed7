package reach

import (
	"context"
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/authkeys"
	"plumlatch/core/comeback"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
)

// Around is what an engineer's own session finds out about a server: with sudo
// more than without.
type Around struct {
	Inspection
	Effective []string       // of sshd -T, the settings that decide who gets in
	Doors     []access.Other // that the settings open, and no file of keys
	Users     []UserKeys
	Lying     []Lying
	Machine   comeback.Machine // what runs there, and what of it starts by itself
}

// UserKeys are the keys in the files that the server reads for one user.
type UserKeys struct {
	User    string
	Files   []string // that were read
	Whole   bool     // every file that counts was read, or is not there
	NotSeen []string
	Lines   []KeyLine
}

// KeyLine is one line of a file that names a key.
type KeyLine struct {
	File string
	authkeys.Line
}

// Lying is a private key file that lies in a home. Its fingerprint is computed
// on the instance; nothing else of it is read.
type Lying struct {
	File, Fingerprint string // Fingerprint is "" where it could not be told without the passphrase
}

// Limits of looking around.
const (
	maxAround     = 100 // users
	maxAroundKeys = 20_000
	aroundLimit   = 2 * time.Minute
)

// lyingScript finds files that begin as private keys do, and tells their
// fingerprints. It changes nothing, and prints nothing of a key.
const lyingScript = `for h in %s; do
  find "$h" "$h/.ssh" -maxdepth 1 -type f -size -65k -exec sh -c '
    for f do
      case "$(head -c 200 "$f" 2>/dev/null | tr -d "\000" | head -n 1)" in
      *"PRIVATE KEY-----"*|"PuTTY-User-Key-File"*)
        p=$(ssh-keygen -l -E sha256 -f "$f" </dev/null 2>/dev/null | sed -n "s/^[0-9]* \(SHA256:[A-Za-z0-9+\/]*\) .*/\1/p" | head -n 1)
        echo "lying ${p:--} $(printf %%s "$f" | tr "\n\r" "??")" ;;
      esac
    done' sh {} + 2>/dev/null
done | sort -u | head -n 300; echo plumlatch-end`

var safeHome = regexp.MustCompile(`^/[A-Za-z0-9_./-]*$`)

// LookAround looks at a server from a session of user's.
func LookAround(ctx context.Context, host Host, own Files, user, given string) (Around, error) {
	ctx, cancel := context.WithTimeout(ctx, aroundLimit)
	defer cancel()
	a := Around{}
	var err error
	if a.Inspection, err = Inspect(ctx, host, user, given); err != nil {
		return a, err
	}
	prefix := ""
	rooted := a.Privilege == "root" || a.SFTPCommand != ""
	if strings.HasPrefix(a.SFTPCommand, "sudo ") {
		prefix = "sudo -n "
	}
	files := own
	if rooted && a.SFTPCommand != "" {
		root, end, err := host.sudoFiles(a.SFTPCommand)
		if err != nil {
			a.NotSeen = append(a.NotSeen, "other users' files: an SFTP server as root could not be started")
			rooted = false
		} else {
			defer end.Close()
			files = root
		}
	}
	homes := a.users(ctx, host, user, rooted)
	if rooted {
		a.effective(ctx, host, user, prefix)
	}
	for _, h := range homes {
		keysFiles := a.KeysFiles
		if h.user != user && rooted && given == "" {
			keysFiles = a.filesFor(ctx, host, h.user, prefix)
		}
		a.Users = append(a.Users, readUser(ctx, files, h, keysFiles, rooted))
	}
	a.lying(ctx, host, homes, prefix)
	a.Machine = ReadMachine(files)
	return a, nil
}

type home struct{ user, dir string }

// users lists who may have a door: those with a home and a shell that logs in.
func (a *Around) users(ctx context.Context, host Host, user string, rooted bool) []home {
	mine := []home{{user, "."}}
	text, err := capture(ctx, host, "getent passwd || cat /etc/passwd; echo plumlatch-end")
	if err != nil && !strings.Contains(text, "plumlatch-end") {
		if rooted {
			a.NotSeen = append(a.NotSeen, "other users' files: who there is cannot be read")
		}
		return mine
	}
	var out []home
	for line := range strings.Lines(text) {
		f := strings.Split(strings.TrimSpace(line), ":")
		if len(f) != 7 || !names.LoginUser(f[0]) || !safeHome.MatchString(f[5]) || f[5] == "/" ||
			f[5] == "/nonexistent" {
			continue
		}
		switch path.Base(f[6]) {
		case "nologin", "false", "sync", "halt", "shutdown":
			continue
		}
		if f[0] == user {
			mine[0].dir = f[5]
			continue
		}
		out = append(out, home{f[0], f[5]})
	}
	if !rooted {
		return mine
	}
	out = append(mine, out...)
	if len(out) > maxAround {
		a.NotSeen = append(a.NotSeen, fmt.Sprintf("the files of %d more users: the first %d were read",
			len(out)-maxAround, maxAround))
		out = out[:maxAround]
	}
	return out
}

// effective keeps what of sshd -T decides who gets in.
func (a *Around) effective(ctx context.Context, host Host, user, prefix string) {
	text, err := capture(ctx, host, prefix+sshdTest(user, a.connection, a.listener))
	if err != nil {
		a.NotSeen = append(a.NotSeen, "the effective configuration: sshd -T could not be run")
		return
	}
	for line := range strings.Lines(text) {
		word, value, _ := strings.Cut(strings.TrimSpace(line), " ")
		switch word {
		case "authorizedkeyscommand", "trustedusercakeys", "hostbasedauthentication":
			if o, ok := access.Setting(word, value); ok {
				o.Place = "sshd -T" // which says nothing of files
				a.Doors = append(a.Doors, o)
			}
			fallthrough
		case "passwordauthentication", "kbdinteractiveauthentication", "pubkeyauthentication", "permitrootlogin",
			"authorizedkeysfile", "strictmodes", "allowusers", "allowgroups", "denyusers",
			"authenticationmethods", "usepam":
			a.Effective = append(a.Effective, plaintext.Line(plaintext.Cut(word+" "+value, 300)))
		}
	}
}

// filesFor tells which files the server reads for a user.
func (a *Around) filesFor(ctx context.Context, host Host, user, prefix string) []string {
	text, err := capture(ctx, host, prefix+sshdTest(user, a.connection, a.listener))
	if files, _, ok := readEffective(text, user); err == nil && ok {
		return files
	}
	return a.KeysFiles
}

// readUser reads the files of keys of one user. As root, a relative path begins
// at the user's home.
func readUser(ctx context.Context, files Files, h home, keysFiles []string, rooted bool) UserKeys {
	u := UserKeys{User: h.user, Whole: true}
	for _, name := range keysFiles {
		at := name
		if rooted && !path.IsAbs(name) && h.dir != "." {
			at = path.Join(h.dir, name)
		}
		err := SurveyKeys(ctx, files, at, func(_ FileInfo, data []byte) {
			u.Files = append(u.Files, at)
			for _, l := range authkeys.Parse(data, time.UTC) {
				if l.Err == nil && len(u.Lines) < maxAroundKeys {
					u.Lines = append(u.Lines, KeyLine{name, l})
				}
			}
		})
		if err != nil && !errors.Is(err, ErrMissing) {
			u.Whole = false
			u.NotSeen = append(u.NotSeen,
				plaintext.Line(plaintext.Cut(fmt.Sprintf("%s of %s: %v", at, h.user, err), 300)))
		}
	}
	return u
}

// lying looks for private key files in homes.
func (a *Around) lying(ctx context.Context, host Host, homes []home, prefix string) {
	var dirs []string
	for _, h := range homes {
		if safeHome.MatchString(h.dir) {
			dirs = append(dirs, h.dir)
		}
	}
	if len(dirs) == 0 {
		dirs = []string{"."}
	}
	slices.Sort(dirs)
	script := fmt.Sprintf(lyingScript, strings.Join(slices.Compact(dirs), " "))
	if prefix != "" {
		script = prefix + "sh -c '" + strings.ReplaceAll(script, "'", `'\''`) + "'"
	}
	text, err := capture(ctx, host, script)
	if err != nil || !strings.Contains(text, "plumlatch-end") {
		a.NotSeen = append(a.NotSeen, "private key files in homes: they could not be looked for")
		return
	}
	for line := range strings.Lines(text) {
		f := strings.SplitN(strings.TrimSpace(line), " ", 3)
		if len(f) == 3 && f[0] == "lying" {
			a.Lying = append(a.Lying, Lying{plaintext.Line(plaintext.Cut(f[2], 300)), strings.TrimPrefix(f[1], "-")})
		}
	}
}
