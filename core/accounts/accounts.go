// Package accounts is about the users of an instance: what there is, and the scripts by which one is made, removed, or given a password.
// They are made with the system's own tools (useradd(8), usermod(8), userdel(8), chpasswd(8)), so that homes, modes and labels are as the
// distribution has them. No script holds a password or a hash.
package accounts

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"plumlatch/core/names"
)

// Account is a user that could log in.
type Account struct {
	Name      string
	UID       int
	Shell     string
	Home      string
	HomeIs    string // HomeFolder, HomeLink or HomeNone
	HomeOwner int    // numeric; -1 where it was not seen
	Sudo      string // what sudo lets it do: SudoRoot, SudoFree, SudoAsks, SudoSome, SudoNone, or "" where that was not seen
	Processes int
	Password  string // set, locked, empty, or "" where it was not seen; never the hash
	Expires   int    // the day on which it ends, since 1970 (shadow(5)); 0 for none
}

// What a home is.
const (
	HomeFolder = "folder"
	HomeLink   = "link"
	HomeNone   = "none"
)

// What sudo lets a user do, as root's own "sudo -l -U USER" says (sudo(8)).
const (
	SudoRoot = "root"
	SudoFree = "free" // everything, without a password
	SudoAsks = "asks" // everything, with its password
	SudoSome = "some" // some commands
	SudoNone = "no"
)

// MayRoot tells whether it can become root.
func (a Account) MayRoot() bool {
	return a.Sudo == SudoRoot || a.Sudo == SudoFree || a.Sudo == SudoAsks
}

// LastRoot tells whether nobody but this user, and root itself, can both get in and become root. keys are the lines in each one's files of
// keys, -1 where they were not seen; a password lets in too.
func LastRoot(all []Account, keys map[string]int, user string) bool {
	uid := -1
	for _, a := range all {
		if a.Name == user {
			if !a.MayRoot() {
				return false
			}
			uid = a.UID
		}
	}
	for _, a := range all {
		if a.UID != 0 && a.UID != uid && a.MayRoot() && (keys[a.Name] != 0 || a.Password == "set") {
			return false
		}
	}
	return uid >= 0
}

// List is the script that lists the accounts with a shell that logs in; with a name, that one alone.
func List(only string) string {
	if only == "" {
		return list
	}
	return strings.Replace(list, "getent passwd |", "getent passwd "+quote(only)+" |", 1)
}

const list = `export LC_ALL=C
getent passwd | head -n 2000 | while IFS=: read -r u _ id gid _ home shell; do
  case ${shell##*/} in nologin | false | sync | halt | shutdown | '') continue ;; esac
  case $u in *[!a-zA-Z0-9_.-]* | '') continue ;; esac
  may=-
  if [ "$id" = 0 ]; then may=root
  elif command -v sudo >/dev/null 2>&1; then
    case $(sudo -n -l -U "$u" 2>/dev/null) in
    *"NOPASSWD: ALL"*) may=free ;;
    *") ALL"*) may=asks ;;
    *"may run the following"*) may=some ;;
    *"not allowed"*) may=no ;;
    esac
  fi
  h=folder
  if [ -L "$home" ]; then h=link; elif [ ! -d "$home" ]; then h=none; fi
  own=$(stat -c %u "$home" 2>/dev/null)
  n=$(ps -U "$id" -o pid= 2>/dev/null | wc -l)
  printf 'user\t%s\t%s\t%s\t%s\t%s\t%s\t%s\t%s\n' "$u" "$id" "$may" "$h" "${own:--1}" "$n" "$shell" "$home"
done
awk -F: '{ print "shadow\t" $1 "\t" ($2 == "" ? "empty" : ($2 ~ /^[!*]/ ? "locked" : "set")) "\t" $8 }' /etc/shadow 2>/dev/null
echo plumlatch-end
`

// ErrCut says that the list did not come to its end.
var ErrCut = errors.New("the list of users was cut")

// Read reads what List printed. ErrCut.
func Read(text string) ([]Account, error) {
	var out []Account
	ended := false
	for line := range strings.Lines(text) {
		f := strings.Split(strings.TrimRight(line, "\r\n"), "\t")
		switch {
		case f[0] == "plumlatch-end":
			ended = true
		case f[0] == "user" && len(f) == 9 && names.LoginUser(f[1]):
			id, err := strconv.Atoi(f[2])
			if err != nil {
				continue
			}
			owner, err := strconv.Atoi(f[5])
			if err != nil {
				owner = -1
			}
			n, _ := strconv.Atoi(strings.TrimSpace(f[6]))
			out = append(out, Account{Name: f[1], UID: id, Sudo: strings.TrimPrefix(f[3], "-"), HomeIs: f[4], HomeOwner: owner, Processes: n, Shell: f[7], Home: f[8]})
		case f[0] == "shadow" && len(f) == 4:
			if n := slices.IndexFunc(out, func(a Account) bool { return a.Name == f[1] }); n >= 0 {
				out[n].Password = f[2]
				out[n].Expires, _ = strconv.Atoi(f[3])
			}
		}
	}
	if !ended {
		return nil, ErrCut
	}
	return out, nil
}

// What the scripts say, on a line of its own; the reason stands behind it.
const (
	SaidDone    = "plumlatch-done"
	SaidRefused = "plumlatch-refused"
)

// Wanted is an account that is to be made.
type Wanted struct {
	Name  string
	Shell string // absolute; "" for the system's own default
	Sudo  bool   // everything, without a password
	Line  string // of its file of keys; "" for none
	File  string // that the server reads for it: relative to its home, or absolute
	Ends  int64  // its end, in seconds since 1970; 0 for none
}

// ErrWanted says that an account cannot be made as it is wanted.
var ErrWanted = errors.New("a shell and a file of keys are paths of plain characters")

var plainPath = regexp.MustCompile(`^[A-Za-z0-9_./+-]+$`)

// Check checks it. ErrWanted.
func (w Wanted) Check() error {
	switch {
	case !names.LoginUser(w.Name), w.Shell != "" && (!plainPath.MatchString(w.Shell) || w.Shell[0] != '/'),
		w.Line != "" && (!plainPath.MatchString(w.File) || strings.Contains(w.File, "..")), strings.ContainsAny(w.Line, "\r\n\x00"),
		w.Ends < 0:
		return ErrWanted
	}
	return nil
}

// SudoFile is the file that lets a user become root. sudo passes over names with a dot (sudoers(5)), so that none is in it.
func SudoFile(user string) string {
	return "/etc/sudoers.d/plumlatch-" + strings.ReplaceAll(user, ".", "_dot_")
}

func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

const head = `set -eu
PATH=/usr/sbin:/usr/bin:/sbin:/bin
export LC_ALL=C
umask 077
refuse() { echo "` + SaidRefused + ` $*"; exit 0; }
`

// Script makes the account, or leaves nothing of it. An end is kept by the system itself: to the second in the line of the key, in the
// zone of the server (sshd(8), expiry-time), and for the account from the day after it on (shadow(5)). Its password is '*': none that fits, and no lock that would have the SSH server
// refuse its keys (sshd(8), "account is locked").
func (w Wanted) Script() string {
	var s strings.Builder
	s.WriteString(head)
	fmt.Fprintf(&s, "u=%s\ns=%s\nk=%s\nf=%s\nt=%s\nx=\n", quote(w.Name), quote(w.Shell), quote(w.Line), quote(w.File), quote(SudoFile(w.Name)))
	if w.Ends > 0 {
		fmt.Fprintf(&s, "x=$(date -u -d @%d +%%Y-%%m-%%d)\n", w.Ends+24*60*60-1)
		if w.Line != "" {
			fmt.Fprintf(&s, "k=\"expiry-time=\\\"$(date -d @%d +%%Y%%m%%d%%H%%M%%S)\\\" $k\"\n", w.Ends)
		}
	}
	s.WriteString(`getent passwd "$u" >/dev/null && refuse "there is a user $u there already"
getent group "$u" >/dev/null && refuse "there is a group $u there already"
base=$(useradd -D | sed -n 's/^HOME=//p')
{ [ ! -e "$base/$u" ] && [ ! -L "$base/$u" ]; } || refuse "$base/$u is there already, and is nobody's or another's"
[ -z "$s" ] || { [ -x "$s" ] && grep -q -x -F -e "$s" /etc/shells; } || refuse "$s is no shell there (/etc/shells)"
made=
undo() {
  [ "$made" = done ] && return
  rm -f "$t" "$t.new"
  [ -z "$made" ] || userdel -r "$u" >/dev/null 2>&1 || userdel "$u" >/dev/null 2>&1
}
trap undo EXIT
made=user
useradd -m ${s:+-s "$s"} ${x:+-e "$x"} -p '*' "$u" >&2
h=$(getent passwd "$u" | cut -d: -f6)
[ -d "$h" ] && [ ! -L "$h" ] && [ "$(stat -c %U "$h")" = "$u" ] || refuse "its home, $h, did not become its own folder"
if [ -n "$k" ]; then
  case $f in
  /*) umask 022; mkdir -p "$(dirname "$f")"; [ ! -e "$f" ] || refuse "$f is there already"; printf '%s\n' "$k" >"$f" ;;
  *) mkdir -p "$h/$(dirname "$f")"; printf '%s\n' "$k" >"$h/$f"; chown -R "$u": "$h/${f%%/*}" ;;
  esac
  if command -v restorecon >/dev/null 2>&1; then restorecon -R "$h" >/dev/null 2>&1 || :; fi
fi
`)
	if w.Sudo {
		s.WriteString(`command -v visudo >/dev/null 2>&1 || refuse "there is no sudo"
printf '%s ALL=(ALL:ALL) NOPASSWD: ALL\n' "$u" >"$t.new"
chmod 440 "$t.new"
visudo -c -q -f "$t.new" >&2 || refuse "sudo does not take the rule for it"
mv -f "$t.new" "$t"
case $(sudo -n -l -U "$u" 2>/dev/null) in *"NOPASSWD: ALL"*) ;; *) refuse "sudo does not obey the rule for it: it may not read /etc/sudoers.d" ;; esac
`)
	}
	s.WriteString("sync /etc/passwd /etc/shadow \"$h\" 2>/dev/null || :\nmade=done\necho \"" + SaidDone + " $h\"\n")
	return s.String()
}

// Owns is the script that prints what a user runs and owns: what goes with it, or stays behind.
func Owns(user string) string {
	return "u=" + quote(user) + `
export LC_ALL=C
h=$(getent passwd "$u" | cut -d: -f6)
ps -U "$u" -o comm= 2>/dev/null | sort | uniq -c | sort -rn | head -n 20 | sed 's/^ *\([0-9]*\) /runs \1 /'
[ ! -d "$h" ] || [ -L "$h" ] || echo "home $(find "$h" -xdev 2>/dev/null | head -n 1000000 | wc -l) $(du -skx "$h" 2>/dev/null | cut -f 1)"
{
  timeout 10 find / \( -path /proc -o -path /sys -o -path /dev -o -path "$h" \) -prune -o -user "$u" -print 2>/dev/null
  [ $? != 124 ] || echo more
} | head -n 21 | sed 's,^/,file /,'
[ ! -e "/var/spool/cron/crontabs/$u" ] && [ ! -e "/var/spool/cron/$u" ] || echo "crontab"
echo plumlatch-end
`
}

// Owned is what Owns printed.
type Owned struct {
	Runs    []string // how many of which program
	Files   int      // in its home
	KiB     int      // of its home
	Others  []string // files elsewhere, the first of them
	More    bool     // there may be more: there are too many, or the search took too long
	Crontab bool
}

// ReadOwned reads what Owns printed. ErrCut.
func ReadOwned(text string) (o Owned, err error) {
	ended := false
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\r\n")
		word, rest, _ := strings.Cut(line, " ")
		switch word {
		case "runs":
			o.Runs = append(o.Runs, rest)
		case "home":
			files, size, _ := strings.Cut(rest, " ")
			o.Files, _ = strconv.Atoi(files)
			o.KiB, _ = strconv.Atoi(strings.TrimSpace(size))
		case "file":
			if o.Others = append(o.Others, rest); len(o.Others) > 20 {
				o.Others, o.More = o.Others[:20], true
			}
		case "more":
			o.More = true
		case "crontab":
			o.Crontab = true
		case "plumlatch-end":
			ended = true
		}
	}
	if !ended {
		err = ErrCut
	}
	return o, err
}

// Remove is the script that removes an account: first it can log in no more, then what it runs ends, then it goes, with its home or
// without. A home that is a link, or another's, stays.
func Remove(user string, keepHome bool) string {
	keep := ""
	if keepHome {
		keep = "yes"
	}
	return head + fmt.Sprintf("u=%s\nkeep=%s\nt=%s\n", quote(user), quote(keep), quote(SudoFile(user))) + `id=$(id -u "$u" 2>/dev/null) || refuse "there is no user $u there"
[ "$id" != 0 ] || refuse "$u is root"
others=$(getent passwd | awk -F: -v id="$id" -v u="$u" '$3 == id && $1 != u { print $1 }')
[ -z "$others" ] || refuse "$u has the same number as $others: what is whose cannot be told"
h=$(getent passwd "$u" | cut -d: -f6)
usermod -e 1 "$u"
rm -f "$t"
pkill -TERM -U "$id" 2>/dev/null || :
for n in 1 2 3 4 5 6 7 8 9 10; do ps -U "$id" -o pid= >/dev/null 2>&1 || break; sleep 0.2; done
pkill -KILL -U "$id" 2>/dev/null && sleep 0.3 || :
crontab -r -u "$u" >/dev/null 2>&1 || :
said=
r=-r
if [ -n "$keep" ]; then r=; elif [ -L "$h" ] || [ -e "$h" ] && [ "$(stat -c %u "$h")" != "$id" ]; then r=; said="its home, $h, is not its own, and stays"; fi
userdel $r "$u" >&2 || [ "$?" = 12 ]
echo "` + SaidDone + ` $said"
`
}

// EndDay is the day, since 1970, from which on an account with an end, in seconds since 1970, logs in no more by the system itself (shadow(5)): the
// next one.
func EndDay(ends int64) int { return int((ends + 24*60*60 - 1) / (24 * 60 * 60)) }

// End is the script that ends an account whose time is over: nobody logs in any more, it can become root no more, and what it runs ends. It stays,
// with all that is its own.
func End(user string) string {
	return head + fmt.Sprintf("u=%s\nt=%s\n", quote(user), quote(SudoFile(user))) + `id=$(id -u "$u" 2>/dev/null) || refuse "there is no user $u there"
[ "$id" != 0 ] || refuse "$u is root"
others=$(getent passwd | awk -F: -v id="$id" -v u="$u" '$3 == id && $1 != u { print $1 }')
[ -z "$others" ] || refuse "$u has the same number as $others: what is whose cannot be told"
usermod -e 1 "$u"
rm -f "$t"
pkill -TERM -U "$id" 2>/dev/null || :
for n in 1 2 3 4 5 6 7 8 9 10; do ps -U "$id" -o pid= >/dev/null 2>&1 || break; sleep 0.2; done
pkill -KILL -U "$id" 2>/dev/null || :
echo "` + SaidDone + `"
`
}

// After is the script that is run once a password was set, or instead of one: expire has the user change it at the first login, lock
// takes it away. A lock is '*': keys go on working, where "!" would have the SSH server refuse them.
func After(user string, expire, lock bool) string {
	s := head + "u=" + quote(user) + "\n"
	if lock {
		s += "usermod -p '*' \"$u\"\n"
	}
	if expire {
		s += "chage -d 0 \"$u\"\n"
	}
	return s + "echo \"" + SaidDone + " $(awk -F: -v u=\"$u\" '$1 == u { print ($2 ~ /^[!*]/ ? \"locked\" : substr($2, 1, 3)) }' /etc/shadow)\"\n"
}

// Takes is the script that prints how the system hashes passwords: by what PAM is told, else by login.defs(5).
const Takes = `if grep -q -s -E '^[^#]*pam_unix\.so.*yescrypt' /etc/pam.d/common-password /etc/pam.d/system-auth || grep -q -s -i -E '^[[:space:]]*ENCRYPT_METHOD[[:space:]]+YESCRYPT' /etc/login.defs; then
  echo "` + SaidDone + ` yescrypt"
else echo "` + SaidDone + ` sha512crypt"; fi
`
