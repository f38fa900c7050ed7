package logins

import (
	"fmt"
	"strings"
	"time"
)

// The way back lies on the instance before anything is changed there: a script, what it puts back, and two units of systemd. It needs
// neither the network nor us. It runs by a timer of the monotonic clock (systemd.timer(5), OnActiveSec), and before the SSH server at
// the next boot (systemd.unit(5), Before), until somebody confirms the change by a login that was made after it.
const (
	// Dir holds it; only root reads it.
	Dir = "/var/lib/plumlatch/logins"
	// Wait is how long a change waits for its confirmation.
	Wait = 3 * time.Minute
	// Unit and Timer are its units; UnitDir is where they lie.
	Unit    = "plumlatch-logins.service"
	Timer   = "plumlatch-logins.timer"
	UnitDir = "/etc/systemd/system"
	// Namespace is what a confirmation is signed for (PROTOCOL.sshsig), and Signer who signs it, in the file of those who may.
	Namespace = "logins@plumlatch"
	Signer    = "person"
)

// What the scripts say, each on a line of its own.
const (
	SaidReady    = "plumlatch-ready"      // the way back is armed; the challenge stands behind it
	SaidBusy     = "plumlatch-busy"       // another change waits for its confirmation
	SaidLacks    = "plumlatch-lacks"      // something is not there that this needs
	SaidDone     = "plumlatch-done"       // what was asked for is done
	SaidChanged  = "plumlatch-changed"    // the file is not what was read before
	SaidOver     = "plumlatch-over"       // there is nothing to confirm: it was put back
	SaidOld      = "plumlatch-old-login"  // this login was made before the change
	SaidUnsigned = "plumlatch-unsigned"   // the signature is nobody's who may confirm
	SaidTicks    = "plumlatch-reloaded"   // the server has read its configuration anew
	SaidNoReload = "plumlatch-not-loaded" // it could not be told to
)

// unit begins before the SSH server at a boot, whichever name that has there: so it has none of the dependencies that would have it
// wait for what the server itself comes before.
const unit = `[Unit]
Description=Plum Latch: puts back how people log in, as nobody has confirmed the change
DefaultDependencies=no
RequiresMountsFor=` + Dir + ` /etc/ssh
After=local-fs.target systemd-remount-fs.service
Before=sysinit.target ssh.service sshd.service ssh.socket sshd.socket
Conflicts=shutdown.target
Before=shutdown.target

[Service]
Type=oneshot
ExecStart=/bin/sh ` + Dir + `/way-back
Restart=on-failure
RestartSec=30

[Install]
WantedBy=sysinit.target
`

// timer has no default dependencies either: a timer comes before what it starts (systemd.timer(5)), and that before sysinit.target.
func timer() string {
	return fmt.Sprintf(`[Unit]
Description=Plum Latch: when the change of how people log in is put back
DefaultDependencies=no
Conflicts=shutdown.target
Before=shutdown.target

[Timer]
OnActiveSec=%d
AccuracySec=1s
Unit=%s
`, int(Wait.Seconds()), Unit)
}

// reload has the server read its configuration anew. A server that systemd does not know is told by a signal (sshd(8), SIGHUP), if it is
// still the process that it was. One that is started for each connection reads it by itself. The way back must not wait for systemd: its
// own unit comes before the server's. It also starts a server that is gone by then, with the options that it had, unless somebody else has
// started it: that one is told. A server is known by the command that it was started with, which it shows as the title of its process.
const reload = `title() { tr '\000' ' ' 2>/dev/null <"/proc/$1/cmdline" | sed 's/^sshd: //; s/ \[listener\].*//; s/ *$//'; }
another() {
  for p in /proc/[0-9]*; do
    p=${p#/proc/}
    if [ "$(cat "/proc/$p/comm" 2>/dev/null)" = sshd ] && [ -s started ] && [ "$(title "$p")" = "$(cat started)" ]; then kill -HUP "$p" && return 0; fi
  done
  return 1
}
reload() {
  u=$(cat "$d/unit")
  case $u in
  *.socket) return 0 ;;
  ?*) systemctl ${1:-} reload-or-restart "$u" ;;
  *)
    l=$(cat "$d/listener")
    if [ -n "$l" ] && [ "$(cat "/proc/$l/comm" 2>/dev/null)" = sshd ]; then kill -HUP "$l"
    elif another; then :
    elif [ -n "$l" ] && [ "${1:-}" = --no-block ]; then $(cat "$d/sshd") </dev/null >/dev/null 2>&1 9>&- # it is gone: what it was told before has ended it
    else return 1
    fi
    ;;
  esac
}
`

// flush writes files and folders to the disk, and no others: all that a busy machine has to write could take minutes (sync(1)).
const flush = `flush() { sync "$@" 2>/dev/null || :; }
`

// wayBack puts back what stood in the file, and nothing else: if it was written by others since, only our lines are changed.
// At a boot the server is not told, as it has not begun.
const wayBack = `#!/bin/sh
# Plum Latch: puts back how people log in to this machine, unless somebody has confirmed the change. It may be run by hand.
PATH=/usr/sbin:/usr/bin:/sbin:/bin
d=` + Dir + `
umask 077
cd "$d" || exit 1
exec 9>>lock
flock 9
[ -e armed ] || exit 0
say() { echo "$(date -u +%Y-%m-%dT%H:%M:%SZ) $*" >>said; }
` + reload + `
f=$(cat file)
t=$(cat prepared)
what="put back: nobody confirmed the change"
if cmp -s "$f" after; then
  if [ -e none ]; then rm -f "$f"; else mv -f "$t" "$f"; fi
elif [ -e none ] && [ ! -e "$f" ] || cmp -s "$f" before; then
  what="nothing had been changed"
elif [ -e "$f" ]; then
  n=$(dirname "$f")/.plumlatch-back
  if m=$(cat ours; awk -v b="$(cat begin)" -v e="$(cat end)" '
    $0 == b { if (inside || seen) bad = 1; inside = seen = 1; next }
    $0 == e { if (!inside) bad = 1; inside = 0; next }
    !inside { print }
    END { exit bad || inside }' "$f" && echo .); then
    # On a disk that is full it fails, and is tried again (systemd.service(5), Restart), and at the next boot.
    cp -p "$f" "$n" && printf %s "${m%.}" >"$n" && mv -f "$n" "$f" || { rm -f "$n"; exit 1; }
  else
    say "not put back: $f was changed since, and our lines are not as we wrote them"
    touch failed
  fi
fi
[ -e failed ] || say "$what"
if [ "$(cat boot)" = "$(cat /proc/sys/kernel/random/boot_id)" ]; then
  if $(cat sshd) -t 2>>said; then reload --no-block; else say "the server was not told, as it does not accept its configuration"; fi
fi
rm -f armed challenge signers "$t"
systemctl disable ` + Unit + ` >/dev/null 2>&1
rm -f ` + UnitDir + `/` + Unit + ` ` + UnitDir + `/` + Timer + `
systemctl daemon-reload >/dev/null 2>&1
exit 0
`

// ticks prints when a process began, in ticks of the monotonic clock since boot: the 22nd field of /proc/PID/stat (proc(5)). The second
// is its name, which may have blanks and brackets in it, so what is counted comes after the last bracket.
const ticks = `ticks() { sed 's/.*) //' "/proc/$1/stat" | cut -d ' ' -f 20; }
`

// confirm ends the way back, if this login was made after the change, and somebody signs who may. The signature is read from the
// standard input. Only a process of the SSH server's tells when a login was made: that of this connection is the nearest one above us. The agent,
// which is in no session, is told which process that is, in what the operator signs.
const confirm = `#!/bin/sh
# Plum Latch: confirms a change of how people log in.
PATH=/usr/sbin:/usr/bin:/sbin:/bin
d=` + Dir + `
umask 077
cd "$d" 2>/dev/null || { echo ` + SaidOver + `; exit 0; }
exec 9>>lock
flock 9
[ -e armed ] && [ -e reloaded ] || { echo ` + SaidOver + `; exit 0; }
` + ticks + `
p=${1:-$$}
case $p in *[!0-9]*) p=0 ;; esac
while [ "${p:-0}" -gt 1 ]; do
  case $(cat "/proc/$p/comm") in sshd | sshd-session) break ;; esac
  p=$(sed -n 's/^PPid:[[:space:]]*//p' "/proc/$p/status")
done
[ "${p:-0}" -gt 1 ] && [ "$(ticks "$p")" -gt "$(cat reloaded)" ] || { echo ` + SaidOld + `; exit 0; }
cat >signature
ssh-keygen -Y verify -f signers -I ` + Signer + ` -n ` + Namespace + ` -s signature <challenge >/dev/null 2>&1 || { rm -f signature; echo ` + SaidUnsigned + `; exit 0; }
systemctl stop ` + Timer + ` >/dev/null 2>&1
systemctl disable ` + Unit + ` >/dev/null 2>&1
rm -f ` + UnitDir + `/` + Unit + ` ` + UnitDir + `/` + Timer + `
systemctl daemon-reload >/dev/null 2>&1
rm -f armed challenge signers signature reloaded "$(cat prepared)" file before after ours none prepared unit listener started boot sshd begin end failed
echo "$(date -u +%Y-%m-%dT%H:%M:%SZ) confirmed" >>said
rm -f way-back confirm
echo ` + SaidDone + `
`

// Arming is what the way back is made of.
type Arming struct {
	File      string   // that is to be changed: OwnFile or MainFile
	Before    string   // what it holds now
	None      bool     // it is not there
	After     string   // what it is to hold
	Challenge string   // that is signed to confirm: random, of this change alone
	Signers   []string // the public keys of those who may confirm, as authorized_keys lines without options
	SSHD      string   // the server's command with its options: "/usr/sbin/sshd -f FILE"; only words of a plain grammar
	Listener  int      // the process of the server; 0 if it is not known
}

// Arm is the script that lays the way back, and starts its clock. It is run as root. It says SaidReady, SaidBusy, or SaidLacks with what
// is not there. Nothing that sshd reads is changed.
func (a Arming) Arm() string {
	ours, _, _ := Ours(a.Before)
	prepared := a.File[:strings.LastIndex(a.File, "/")] + "/.plumlatch-was"
	signers := ""
	for _, line := range a.Signers {
		signers += Signer + " namespaces=\"" + Namespace + "\" " + line + "\n"
	}
	var s strings.Builder
	s.WriteString(`set -eu
PATH=/usr/sbin:/usr/bin:/sbin:/bin
umask 077
for c in systemctl ssh-keygen flock cmp awk; do command -v $c >/dev/null 2>&1 || { echo "` + SaidLacks + ` the program $c"; exit 0; }; done
[ -d /run/systemd/system ] || { echo "` + SaidLacks + ` systemd, whose timer and units put the change back"; exit 0; }
ssh-keygen -Y 2>&1 | grep -q "requires an argument" || { echo "` + SaidLacks + ` an ssh-keygen that verifies signatures (OpenSSH 8.1 or later)"; exit 0; }
mkdir -p ` + Dir + `
cd ` + Dir + `
exec 9>>lock
flock -n 9 || { echo ` + SaidBusy + `; exit 0; }
if [ -e armed ] && ! systemctl is-active --quiet ` + Timer + `; then # its clock does not run: it was laid half, or the machine began anew
  flock -u 9
  sh way-back
  flock -n 9 || { echo ` + SaidBusy + `; exit 0; }
fi
[ ! -e armed ] || { echo ` + SaidBusy + `; exit 0; }
rm -f reloaded failed none signature
clean() { [ -e armed ] || rm -f way-back confirm challenge signers prepared "$prepared" ` + UnitDir + `/` + Unit + ` ` + UnitDir + `/` + Timer + `; }
prepared=` + Quote(prepared) + `
trap clean EXIT # what was laid half, on a disk that is full
u=
for n in ssh.service sshd.service ssh.socket sshd.socket; do if systemctl is-active --quiet $n; then u=$n; break; fi; done
printf %s "$u" >unit
cat /proc/sys/kernel/random/boot_id >boot
` + reload)
	put := func(file, text string) { fmt.Fprintf(&s, "printf %%s %s >%s\n", Quote(text), file) }
	put("file", a.File)
	put("before", a.Before)
	put("after", a.After)
	put("ours", With(ours, ""))
	put("prepared", prepared)
	put("begin", Begin)
	put("end", End)
	put("challenge", a.Challenge)
	put("signers", signers)
	put("sshd", a.SSHD)
	listener := ""
	if a.Listener > 1 {
		listener = fmt.Sprint(a.Listener)
	}
	put("listener", listener)
	s.WriteString("[ ! -s listener ] || title \"$(cat listener)\" >started\n")
	put("way-back", wayBack)
	put("confirm", confirm)
	put(UnitDir+"/"+Unit, unit)
	put(UnitDir+"/"+Timer, timer())
	if a.None {
		s.WriteString("touch none\n")
	} else { // what is put back is written now: a disk that is full then does not matter
		fmt.Fprintf(&s, "cp -p %s %s\ncmp -s %s before || { echo %s; rm -f %s; exit 0; }\n", Quote(a.File), Quote(prepared), Quote(prepared), SaidChanged, Quote(prepared))
	}
	s.WriteString(`chmod 644 ` + UnitDir + `/` + Unit + ` ` + UnitDir + `/` + Timer + `
touch armed
` + flush + `
flush ./* . ` + UnitDir + `/` + Unit + ` ` + UnitDir + `/` + Timer + ` ` + UnitDir + ` $prepared
systemctl daemon-reload
systemctl enable ` + Unit + ` >/dev/null 2>&1
systemctl start ` + Timer + `
systemctl is-enabled --quiet ` + Unit + `
systemctl is-active --quiet ` + Timer + `
echo ` + SaidReady + `
`)
	return s.String()
}

// Place is the script that writes the file. It looks once more whether the file is what was read, and puts the new one in its place in
// one step. It says SaidDone or SaidChanged.
func (a Arming) Place() string {
	tmp := a.File[:strings.LastIndex(a.File, "/")] + "/.plumlatch-new"
	file, quoted := Quote(a.File), Quote(tmp)
	var s strings.Builder
	s.WriteString("set -eu\nPATH=/usr/sbin:/usr/bin:/sbin:/bin\numask 077\n" + flush + "cd " + Dir + "\nexec 9>>lock\nflock 9\n[ -e armed ]\n")
	if a.None {
		fmt.Fprintf(&s, "rm -f %[2]s\ncp after %[2]s\nchmod 600 %[2]s\nif command -v restorecon >/dev/null 2>&1; then restorecon %[2]s >/dev/null 2>&1 || :; fi\nflush %[2]s\n"+
			"[ ! -e %[1]s ] || { echo %[3]s; rm -f %[2]s; exit 0; }\n", file, quoted, SaidChanged)
	} else {
		fmt.Fprintf(&s, "rm -f %[2]s\ncp -p %[1]s %[2]s\ncat after >%[2]s\nflush %[2]s\ncmp -s %[1]s before || { echo %[3]s; rm -f %[2]s; exit 0; }\n", file, quoted, SaidChanged)
	}
	fmt.Fprintf(&s, "mv -f %s %s\nflush %s\necho %s\n", quoted, file, Quote(a.File[:strings.LastIndex(a.File, "/")]), SaidDone)
	return s.String()
}

// Reload is the script that has the server read its configuration, if it accepts that, and notes when that was: only a login that was
// made later confirms. It says SaidTicks or SaidNoReload.
const Reload = `set -u
PATH=/usr/sbin:/usr/bin:/sbin:/bin
d=` + Dir + `
cd "$d" || exit 1
` + ticks + reload + `
if $(cat sshd) -t && reload; then
  sleep 1 # a signal is heard soon, and not at once
  sh -c 'exec sh -c "sed \"s/.*) //\" /proc/\$\$/stat | cut -d \" \" -f 20"' >reloaded
  echo ` + SaidTicks + `
else
  echo ` + SaidNoReload + `
fi
`

// PutBack is the script that puts the change back at once.
const PutBack = "sh " + Dir + "/way-back"

// Confirm is the script that confirms, with the signature on its standard input.
const Confirm = "[ -e " + Dir + "/confirm ] && exec sh " + Dir + "/confirm || echo " + SaidOver

// ConfirmOf is Confirm for a login of which one process is known, in a session of which this script is none.
func ConfirmOf(process int) string {
	return fmt.Sprintf("[ -e %[1]s/confirm ] && exec sh %[1]s/confirm %[2]d || echo %[3]s", Dir, process, SaidOver)
}

// Report is the script that prints what the way back did before, and tells that it was told: each line once. One whose clock does not run
// any more is carried out.
const Report = `d=` + Dir + `
if [ -e "$d/armed" ]; then
  if systemctl is-active --quiet ` + Timer + ` || ! flock -n "$d/lock" true; then echo ` + SaidBusy + `; else sh "$d/way-back" >/dev/null 2>&1; fi
fi
[ ! -e "$d/said" ] || { cat "$d/said"; cat "$d/said" >>"$d/told"; rm -f "$d/said"; }
`

// Quote makes one word of a text for sh(1).
func Quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
