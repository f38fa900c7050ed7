package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/core/keypair"
	"plumlatch/core/logins"
	"plumlatch/reach"
)

// inner is a machine within this one, as far as a stock sshd goes: a mount namespace with its own /etc/ssh, units and /var/lib/plumlatch.
// systemd is a stand-in: a script that does with our units what systemd.unit(5), systemd.timer(5) and systemctl(1) say of the few words
// in them. That systemd itself reads them is asked of systemd-analyze.
type inner struct {
	*adoptee
	t       *testing.T
	dir     string // has etc-ssh, units, lib, state
	anchor  *exec.Cmd
	options []string
}

// systemctl stands in for systemd's. Words in state: enabled.UNIT, timer.UNIT (its process), fire (a timer's time is over), unit (the SSH server is ssh.service), hold (a reload waits for that to go).
const systemctl = `#!/bin/bash
s=/run/systemd/state; u=/etc/systemd/system
echo "$*" >>$s/calls
words=()
for w; do case $w in -*) ;; *) words+=("$w") ;; esac; done
unit=${words[1]}
case ${words[0]} in
daemon-reload) ;;
enable) [ -f $u/$unit ] && touch $s/enabled.$unit ;;
disable) rm -f $s/enabled.$unit ;;
is-enabled) [ -e $s/enabled.$unit ] ;;
is-active)
  case $unit in
  *.timer) [ -e $s/timer.$unit ] && kill -0 $(cat $s/timer.$unit) 2>/dev/null ;;
  ssh.service) [ -e $s/unit ] ;;
  plumlatch-agent.service) [ -e $s/service.$unit ] && kill -0 $(cat $s/service.$unit) 2>/dev/null ;;
  *) exit 3 ;;
  esac ;;
restart)
  $0 stop $unit
  setsid $(sed -n 's/^ExecStart=//p' $u/$unit) </dev/null >>$s/log.$unit 2>&1 9>&- 3>&- &
  echo $! >$s/service.$unit ;;
start)
  seconds=$(sed -n 's/^OnActiveSec=//p' $u/$unit)
  run=$(sed -n 's/^ExecStart=//p' $u/$(sed -n 's/^Unit=//p' $u/$unit))
  setsid bash -c "for n in \$(seq 1 ${seconds}0); do [ ! -e $s/fire ] || break; sleep 0.1; done; $run" </dev/null >/dev/null 2>&1 9>&- 3>&- &
  echo $! >$s/timer.$unit ;;
stop)
  for f in $s/timer.$unit $s/service.$unit; do
    [ -e $f ] || continue
    kill -- -$(cat $f) 2>/dev/null
    for n in $(seq 1 100); do kill -0 $(cat $f) 2>/dev/null || break; sleep 0.05; done
    rm -f $f
  done ;;
reload-or-restart)
  if [ -e $s/hold ]; then touch $s/held; while [ -e $s/hold ]; do sleep 0.05; done; fi
  if [ "$(cat /proc/$(cat $s/sshd)/comm 2>/dev/null)" = sshd ]; then kill -HUP $(cat $s/sshd)
  else setsid sh $s/start </dev/null >/dev/null 2>&1 9>&- 3>&- & fi ;;
*) exit 1 ;;
esac
`

// startInner makes one, whose account has sudo.
func startInner(t *testing.T, options ...string) *inner {
	t.Helper()
	m := &inner{adoptee: startAdoptee(t, ""), t: t, dir: t.TempDir(), options: options}
	at := func(name string) string { return filepath.Join(m.dir, name) }
	for _, d := range []string{"units", "lib", "sudoers.d", "run/state", "run/system", "cloud/cloud.cfg.d"} {
		mustDo(t, os.MkdirAll(at(d), 0o755))
	}
	mustDo(t, os.CopyFS(at("etc-ssh"), os.DirFS("/etc/ssh")))
	mustDo(t, os.MkdirAll(at("etc-ssh/sshd_config.d"), 0o755))
	m.sudoers = at("sudoers.d") // its own: whoever has sudo in another test could become root here too
	m.grantSudo(t)
	keys, err := filepath.Glob(at("etc-ssh/ssh_host_*_key")) // CopyFS makes them readable by all
	mustDo(t, err)
	for _, k := range keys {
		mustDo(t, os.Chmod(k, 0o600))
	}
	mustDo(t, os.WriteFile(at("systemctl"), []byte(systemctl), 0o755))
	mustDo(t, os.Chmod(at("systemctl"), 0o755))
	mustDo(t, os.Chmod(m.dir, 0o755))
	for _, d := range []string{"/etc/systemd/system", "/run/systemd", "/var/lib/plumlatch", "/etc/cloud"} {
		mustDo(t, os.MkdirAll(d, 0o755))
	}
	m.anchor = exec.Command("unshare", "-m", "--propagation", "private", "sh", "-c", `set -e
mount --bind "$1/etc-ssh" /etc/ssh
mount --bind "$1/sudoers.d" /etc/sudoers.d
mount --bind "$1/units" /etc/systemd/system
mount --bind "$1/lib" /var/lib/plumlatch
mount --bind "$1/cloud" /etc/cloud
mount --bind "$1/run" /run/systemd
mount --bind "$1/systemctl" /usr/bin/systemctl
touch "$1/ready"
exec sleep infinity`, "sh", m.dir)
	var said bytes.Buffer
	m.anchor.Stderr = &said
	mustDo(t, m.anchor.Start())
	t.Cleanup(func() {
		m.end()
		_ = m.anchor.Process.Kill()
		_ = m.anchor.Wait()
	})
	waitFor(t, "the mounts", func() bool {
		_, err := os.Stat(at("ready"))
		if err != nil && m.anchor.ProcessState != nil {
			t.Fatalf("no mounts: %s", said.String())
		}
		return err == nil
	})
	m.within = []string{"nsenter", "-t", strconv.Itoa(m.anchor.Process.Pid), "-m"}
	m.start()
	return m
}

// start starts its server, anew if it runs, as its unit.
func (m *inner) start() {
	m.t.Helper()
	m.serve(m.t, m.options...)
	m.state("sshd", strconv.Itoa(m.cmd.Process.Pid))
	start := "echo $$ >/run/systemd/state/sshd; exec " + strings.Join(m.cmd.Args[len(m.within):], " ") + "\n"
	m.state("start", start)
}

// state writes a word of the stand-in for systemd; "-" takes it away.
func (m *inner) state(name, text string) {
	m.t.Helper()
	file := filepath.Join(m.dir, "run/state", name)
	if text == "-" {
		_ = os.Remove(file)
		return
	}
	mustDo(m.t, os.WriteFile(file, []byte(text), 0o644))
}

func (m *inner) has(name string) bool {
	_, err := os.Lstat(filepath.Join(m.dir, name))
	return err == nil
}

// sh runs a command in it, as root.
func (m *inner) sh(command string) string {
	m.t.Helper()
	out, err := exec.Command(m.within[0], append(m.within[1:], "sh", "-c", command)...).CombinedOutput()
	if err != nil {
		m.t.Fatalf("%s: %v %s", command, err, out)
	}
	return string(out)
}

// end ends all that runs in it.
func (m *inner) end() {
	ours, err := os.Readlink(fmt.Sprintf("/proc/%d/ns/mnt", m.anchor.Process.Pid))
	mustDo(m.t, err)
	for quiet := 0; quiet < 3; { // what is just being started is ended too
		quiet++
		all, _ := filepath.Glob("/proc/[0-9]*/ns/mnt")
		for _, p := range all {
			pid, _ := strconv.Atoi(strings.Split(p, "/")[2])
			if in, err := os.Readlink(p); err == nil && in == ours && pid != m.anchor.Process.Pid {
				_ = syscall.Kill(pid, syscall.SIGKILL)
				quiet = 0
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
	m.stop()
}

// boot has it begin anew: its processes are gone, its clock with them; the units that are enabled and come before the server are
// carried out, and then the server starts.
func (m *inner) boot() {
	m.t.Helper()
	m.end()
	m.sh(`s=/run/systemd/state
rm -f $s/timer.*
[ ! -e /var/lib/plumlatch/logins/boot ] || echo another >/var/lib/plumlatch/logins/boot
for e in $s/enabled.*; do
  [ -e "$e" ] || continue
  u=/etc/systemd/system/${e##*/enabled.}
  grep -q '^Before=.*ssh.service' $u && grep -q '^WantedBy=sysinit.target' $u || exit 1
  sh -c "$(sed -n 's/^ExecStart=//p' $u)"
done`)
	m.start()
}

// offered are the methods that its server offers somebody without a key, as the real ssh says.
func (m *inner) offered(user string) string {
	m.t.Helper()
	var out []byte
	waitFor(m.t, "a server that answers", func() bool { // one that reads its configuration answers nobody for a moment
		out, _ = exec.Command("ssh", "-F", "none", "-p", fmt.Sprint(m.port), "-o", "PreferredAuthentications=none", "-o", "BatchMode=yes", "-o",
			"StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR", "-l", user, "127.0.0.1", "true").CombinedOutput()
		return !strings.Contains(string(out), "Connection refused") && !strings.Contains(string(out), "Connection reset") && !strings.Contains(string(out), "Connection closed")
	})
	_, rest, ok := strings.Cut(string(out), "Permission denied (")
	if !ok {
		m.t.Fatalf("ssh says %s", out)
	}
	methods, _, _ := strings.Cut(rest, ")")
	return methods
}

// steady waits until its server has read its configuration: between two listeners it answers nobody.
func (m *inner) steady() {
	m.t.Helper()
	since := time.Now()
	waitFor(m.t, "a server that goes on answering", func() bool {
		c, err := net.DialTimeout("tcp", m.at(), time.Second)
		if err != nil {
			since = time.Now()
			return false
		}
		c.Close()
		return time.Since(since) > time.Second
	})
}

// letsIn tells whether the real ssh gets in with the engineer's key.
func (m *inner) letsIn() bool {
	return exec.Command("ssh", "-F", "none", "-i", m.identity, "-p", fmt.Sprint(m.port), "-o", "IdentitiesOnly=yes", "-o", "BatchMode=yes", "-o",
		"StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-l", m.user, "127.0.0.1", "true").Run() == nil
}

// killedAtReload runs a command of the client, and kills it when the server is about to be told.
func (m *inner) killedAtReload(d *demo, args ...string) {
	m.t.Helper()
	m.state("unit", "")
	m.state("hold", "")
	cmd := exec.CommandContext(m.t.Context(), filepath.Join(bin, "plumlatch"), args...)
	cmd.Env = append(append(os.Environ(), "PLUMLATCH_URL="+d.url, "PLUMLATCH_TOKEN="+d.token, "HOME="+filepath.Join(d.dir, "home")), d.env...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	var said bytes.Buffer
	cmd.Stderr = &said
	mustDo(m.t, cmd.Start())
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	waitFor(m.t, "the reload", func() bool {
		select {
		case err := <-ended:
			m.t.Fatalf("it ended by itself: %v %s", err, said.String())
		default:
		}
		return m.has("run/state/held")
	})
	mustDo(m.t, syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL))
	<-ended
	if !m.has("lib/logins/armed") {
		m.t.Fatalf("it died before it had changed anything: %s %s", said.String(), m.sh("cat /run/systemd/state/calls; ls /var/lib/plumlatch/logins; cat /var/lib/plumlatch/logins/said || :"))
	}
	m.state("hold", "-")
	m.state("held", "-")
}

// TestLogins: password and root logins of a stock sshd are shown and changed by the engineer's session; what does not hold is put back,
// and names what stands against it.
func TestLogins(t *testing.T) {
	t.Parallel()
	m := startInner(t)
	d := newHome(t, shared)
	name := fmt.Sprintf("inner-%d", m.port)
	// Nobody was seen to log in by a key that the ledger holds: nobody could confirm a change.
	d.must(t, m.args(name, "-record", name+"-key")...)
	d.must(t, "key", "lost", name+"-key")
	r := d.client(t, "", "instance", "logins", name, "-identity", m.identity, "-password", "off", "-yes")
	if r.code == 0 || !strings.Contains(r.err, "plumlatch open "+name) || m.offered(m.user) != "publickey,password" {
		t.Errorf("nobody could confirm it: %+v", r)
	}
	d.must(t, "key", "found", name+"-key")
	logins := func(more ...string) []string {
		return append([]string{"instance", "logins", name, "-identity", m.identity}, more...)
	}
	show := func() map[string]shownWay {
		t.Helper()
		var out struct{ Ways []shownWay }
		mustDo(t, json.Unmarshal([]byte(d.must(t, logins("-json")...)), &out))
		ways := map[string]shownWay{}
		for _, w := range out.Ways {
			ways[w.Way] = w
		}
		return ways
	}
	file := filepath.Join(m.dir, "etc-ssh/sshd_config.d/00-plumlatch.conf")
	still := func(what string) {
		t.Helper()
		if got := m.offered(m.user); got != "publickey,password" {
			t.Errorf("%s: offered is %s", what, got)
		}
		if m.has("etc-ssh/sshd_config.d/00-plumlatch.conf") || m.has("lib/logins/armed") || m.has("units/plumlatch-logins.service") || !m.letsIn() {
			t.Errorf("%s: something of it is left, or nobody gets in", what)
		}
	}
	// An account with a password and no key: whom it leaves out.
	other := m.user + "-p"
	for _, args := range [][]string{{"useradd", "--create-home", "--shell", "/bin/sh", other}, {"sh", "-c", "echo '" + other + ":mast-lamp-7' | chpasswd"}} {
		if out, err := exec.Command(args[0], args[1:]...).CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
	t.Cleanup(func() { _ = exec.Command("userdel", "--force", "--remove", other).Run() })

	ways := show()
	if w := ways["password"]; w.Setting != "yes" || !slices.Contains(w.Opens, other) || slices.Contains(w.Opens, m.user) || w.SetIn != "the server's default" {
		t.Errorf("password: %+v", w)
	}
	if w := ways["keyboard-interactive"]; w.Setting != "no" || !strings.HasPrefix(w.SetIn, "/etc/ssh/sshd_config:") || len(w.Opens) != 0 {
		t.Errorf("keyboard-interactive: %+v", w)
	}
	if w := ways["root"]; w.Setting != "prohibit-password" || !slices.Contains(w.Opens, "root") {
		t.Errorf("root: %+v", w)
	}
	mustDo(t, os.WriteFile(filepath.Join(m.dir, "cloud/cloud.cfg.d/90-image.cfg"), []byte("users: []\nssh_pwauth: true\n"), 0o644))
	contains(t, "shown", d.must(t, logins()...), "with -password off: ", other, "next: plumlatch instance logins "+name,
		"its image sets password logins at a first boot: /etc/cloud/cloud.cfg.d/90-image.cfg")
	if text := d.must(t, "today", "-what", "password-login", "-instance", name); !strings.Contains(text, "Nothing") { // it was not asked yet
		contains(t, "today", text, "plumlatch instance logins "+name+" -password off")
	}
	r = d.client(t, "", logins("-password", "off")...)
	if r.code == 0 || !strings.Contains(r.err, other) || !strings.Contains(r.err, "-yes") {
		t.Errorf("somebody is left out, and nobody was asked: %+v", r)
	}
	still("not confirmed")

	// What stands against it is named, and all is put back.
	conf := filepath.Join(m.dir, "etc-ssh/sshd_config")
	stock := mustRead(t, conf)
	refused := func(what string, words ...string) {
		t.Helper()
		r := d.client(t, "", logins("-password", "off", "-yes")...)
		if r.code == 0 {
			t.Errorf("%s: %s", what, r.out)
		}
		contains(t, what, r.err, words...)
	}
	mustDo(t, os.WriteFile(conf, []byte(stock+"NoSuchWord yes\n"), 0o644))
	refused("a configuration that is broken already", "not seen")
	mustDo(t, os.WriteFile(conf, []byte(stock+"Match User "+m.user+"\n\tPasswordAuthentication yes\n"), 0o644))
	refused("a Match block", "PasswordAuthentication is yes, and not no", "/etc/ssh/sshd_config:", "Match User "+m.user, "it was put back")
	mustDo(t, os.WriteFile(conf, []byte(stock), 0o644))
	still("after what was refused")
	early := filepath.Join(m.dir, "etc-ssh/sshd_config.d/00-a.conf")
	mustDo(t, os.WriteFile(early, []byte("PasswordAuthentication yes\n"), 0o644))
	refused("another file first", "/etc/ssh/sshd_config.d/00-a.conf:1 sets it")
	mustDo(t, os.Remove(early))
	still("another file first")

	// Off, and what the real ssh sees of it.
	contains(t, "off", d.must(t, logins("-password", "off", "-yes", "-reason", "nobody needs it")...), "password off, confirmed by a login after it",
		"/etc/ssh/sshd_config.d/00-plumlatch.conf")
	if got := m.offered(m.user); got != "publickey" {
		t.Errorf("off, and offered is %s", got)
	}
	if fi, err := os.Stat(file); err != nil || fi.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", fi, err)
	}
	if m.has("lib/logins/armed") || m.has("lib/logins/way-back") || m.has("units/plumlatch-logins.service") || m.has("run/state/timer.plumlatch-logins.timer") ||
		m.has("run/state/enabled.plumlatch-logins.service") {
		t.Error("something of the way back is left")
	}
	if w := show()["password"]; w.Setting != "no" || len(w.Opens) != 0 || !strings.HasPrefix(w.SetIn, "/etc/ssh/sshd_config.d/00-plumlatch.conf:") {
		t.Errorf("off: %+v", w)
	}
	contains(t, "again", d.must(t, logins("-password", "off")...), "has it so already")
	// Root besides: what was set before stays.
	d.must(t, logins("-root", "off", "-yes")...)
	if w := show(); w["root"].Setting != "no" || w["password"].Setting != "no" || len(w["root"].Opens) != 0 {
		t.Errorf("root off: %+v", w)
	}
	d.must(t, logins("-root", "keys")...)
	d.must(t, logins("-password", "on")...)
	if w := show(); w["root"].Setting != "prohibit-password" || w["password"].Setting != "yes" {
		t.Errorf("on again: %+v", w)
	}
	if got := m.offered(m.user); got != "publickey,password" {
		t.Errorf("on again, and offered is %s", got)
	}
	contains(t, "the journal", d.must(t, "journal", "list", "-target", "instance "+name), "instance.logins", "password off: nobody needs it")

	// Without a folder that is included, the first lines of the main file are ours, and nothing else in it.
	mustDo(t, os.Remove(file))
	bare := strings.Replace(stock, "Include /etc/ssh/sshd_config.d/*.conf", "# no folder\nPasswordAuthentication yes", 1)
	mustDo(t, os.WriteFile(conf, []byte(bare), 0o640))
	mustDo(t, os.Chmod(conf, 0o640))
	d.must(t, logins("-password", "off", "-yes")...)
	now := mustRead(t, conf)
	if !strings.HasSuffix(now, bare) || !strings.HasPrefix(now, "# Plum Latch") || m.offered(m.user) != "publickey" {
		t.Errorf("in the main file: %.300s", now)
	}
	if fi, err := os.Stat(conf); err != nil || fi.Mode().Perm() != 0o640 {
		t.Errorf("its mode: %v %v", fi.Mode(), err)
	}
	mustDo(t, os.WriteFile(conf, []byte(stock), 0o644))
	m.start()
	still("at the end")

	// Without sudo nothing is seen, and nothing changed.
	mustDo(t, os.Remove(m.sudoer(m.user)))
	r = d.client(t, "", logins("-password", "off", "-yes")...)
	if r.code == 0 || !strings.Contains(r.err, "no sudo") {
		t.Errorf("without sudo: %+v", r)
	}
	still("without sudo")
}

// shownWay is a way of logging in as the client prints it.
type shownWay struct {
	Way, Setting string
	Opens        []string
	SetIn        string `json:"set_in"`
}

// TestLoginsWayBack: a change that nobody confirms is put back by the instance itself, whatever dies: the client, the server, the machine.
// What others wrote into the file meanwhile stays. systemd's own check finds nothing wrong with the units.
func TestLoginsWayBack(t *testing.T) {
	t.Parallel()
	m := startInner(t)
	d := newHome(t, shared)
	name := fmt.Sprintf("inner-back-%d", m.port)
	d.must(t, m.args(name, "-record", name+"-key")...)
	change := []string{"instance", "logins", name, "-identity", m.identity, "-password", "off", "-yes"}
	back := func(what string) {
		t.Helper()
		m.state("fire", "") // three minutes are over
		defer m.state("fire", "-")
		waitFor(t, what+": put back, and nothing of it left", func() bool {
			return !m.has("lib/logins/armed") && !m.has("etc-ssh/sshd_config.d/00-plumlatch.conf") && !m.has("units/plumlatch-logins.service") &&
				!m.has("units/plumlatch-logins.timer") && !m.has("run/state/enabled.plumlatch-logins.service")
		})
		defer func() {
			if t.Failed() {
				t.Log(m.sh("tail -n 5 /run/systemd/state/calls; ls /var/lib/plumlatch/logins; cat /var/lib/plumlatch/logins/said /var/lib/plumlatch/logins/told || :"))
			}
		}()
		waitFor(t, what+": offered again", func() bool {
			c, err := net.Dial("tcp", m.at())
			if err != nil {
				return false
			}
			c.Close()
			return m.offered(m.user) == "publickey,password"
		})
		if !m.letsIn() {
			t.Errorf("%s: nobody gets in", what)
		}
	}
	// The client dies, between the change and its confirmation.
	m.killedAtReload(d, change...)
	if !m.has("etc-ssh/sshd_config.d/00-plumlatch.conf") {
		t.Fatalf("nothing was changed: %s", m.sh("cat /run/systemd/state/calls; ls /var/lib/plumlatch/logins; cat /var/lib/plumlatch/logins/said || :"))
	}
	if out, err := exec.Command("systemd-analyze", "verify", "--man=no", filepath.Join(m.dir, "units/plumlatch-logins.service"),
		filepath.Join(m.dir, "units/plumlatch-logins.timer")).CombinedOutput(); err != nil || strings.Contains(string(out), "plumlatch-logins") {
		t.Errorf("systemd finds: %v %s", err, out)
	}
	if text := mustRead(t, filepath.Join(m.dir, "units/plumlatch-logins.timer")); !strings.Contains(text, "OnActiveSec=180\n") {
		t.Errorf("the clock: %s", text)
	}
	r := d.client(t, "", change...)
	if r.code == 0 || !strings.Contains(r.err, "waits there") {
		t.Errorf("a second one meanwhile: %+v", r)
	}
	back("the client died")
	contains(t, "heard of", d.client(t, "", "instance", "logins", name, "-identity", m.identity).err, "said of an earlier change", "put back: nobody confirmed the change")
	contains(t, "the journal", d.must(t, "journal", "list", "-target", "instance "+name), "read what the way back on it did", "nobody confirmed the change")

	// The server is killed.
	m.killedAtReload(d, change...)
	m.stop()
	back("the server died")
	m.end() // systemd's own
	m.start()
	// The same where systemd does not know the server: the way back starts it, with the options that it had.
	m.killedAtReload(d, change...)
	m.state("unit", "-")
	m.sh("printf '' >/var/lib/plumlatch/logins/unit")
	m.stop()
	back("a server of its own died")
	m.end()
	m.start()
	// And where somebody has started it anew meanwhile: that one is told, as another beside it could not listen.
	m.killedAtReload(d, change...)
	waitFor(t, "the reload", func() bool { return m.has("lib/logins/reloaded") })
	m.state("unit", "-")
	m.sh("printf '' >/var/lib/plumlatch/logins/unit")
	m.stop()
	m.start()
	if got := m.offered(m.user); got != "publickey" {
		t.Errorf("started anew, and offered is %s", got)
	}
	back("a server that was started anew")
	m.end()
	m.start()
	// The machine begins anew.
	m.killedAtReload(d, change...)
	m.boot()
	back("the machine began anew")
	// The clock was lost, and the unit with it: a next change puts back what was laid before it.
	m.killedAtReload(d, change...)
	m.sh("systemctl stop plumlatch-logins.timer")
	m.steady()
	m.state("unit", "-")
	contains(t, "the next change", d.must(t, change...), "confirmed by a login after it")
	d.must(t, "instance", "logins", name, "-identity", m.identity, "-password", "on")
	mustDo(t, os.Remove(filepath.Join(m.dir, "etc-ssh/sshd_config.d/00-plumlatch.conf")))
	m.start()

	// In the main file, what others write meanwhile stays.
	conf := filepath.Join(m.dir, "etc-ssh/sshd_config")
	bare := strings.Replace(mustRead(t, conf), "Include /etc/ssh/sshd_config.d/*.conf", "# no folder", 1)
	mustDo(t, os.WriteFile(conf, []byte(bare), 0o644))
	m.killedAtReload(d, change...)
	mustDo(t, os.WriteFile(conf, []byte(mustRead(t, conf)+"MaxAuthTries 5\n"), 0o644))
	back("others wrote meanwhile")
	if now := mustRead(t, conf); now != bare+"MaxAuthTries 5\n" {
		t.Errorf("put back as %s", now)
	}
}

// TestLoginsConfirmed: only a login that was made after the change confirms it, and only by a key of somebody who may.
func TestLoginsConfirmed(t *testing.T) {
	t.Parallel()
	m := startInner(t)
	own, err := ssh.ParsePrivateKey([]byte(mustRead(t, m.identity)))
	mustDo(t, err)
	login := func() (*reach.Client, reach.Files) {
		t.Helper()
		c, err := reach.Login(t.Context(), func(ctx context.Context) (net.Conn, error) { return (&net.Dialer{}).DialContext(ctx, "tcp", m.at()) }, m.target(),
			[]ssh.Signer{own}, 20*time.Second)
		mustDo(t, err)
		t.Cleanup(func() { c.Close() })
		files, end, err := reach.OverSSH(c)
		mustDo(t, err)
		t.Cleanup(func() { end.Close() })
		return c, files
	}
	old, files := login()
	between, _ := login()
	ways, err := reach.ReadLoginWays(t.Context(), old, files, m.user)
	mustDo(t, err)
	plan, err := ways.PlanLogins(t.Context(), old, files, logins.Change{Password: "off"})
	mustDo(t, err)
	if _, err := ways.PlanLogins(t.Context(), old, files, logins.Change{Password: "never"}); !errors.Is(err, logins.ErrChange) {
		t.Errorf("no change: %v", err)
	}
	mustDo(t, plan.Arm(t.Context(), old, []string{strings.TrimSpace(mustRead(t, m.identity+".pub"))}))
	by := func(signer ssh.Signer) func([]byte) (string, error) {
		return func(text []byte) (string, error) {
			armored, err := keypair.Sign(signer, logins.Namespace, text)
			return string(armored), err
		}
	}
	sign := by(own)
	// Before the change itself there is nothing to confirm.
	if err := plan.Confirm(t.Context(), between, sign); !errors.Is(err, reach.ErrWentBack) {
		t.Errorf("before it: %v", err)
	}
	mustDo(t, plan.Place(t.Context(), old))
	for what, c := range map[string]*reach.Client{"the session that changed it": old, "one that was open before": between} {
		if err := plan.Confirm(t.Context(), c, sign); err == nil || !strings.Contains(err.Error(), "made before the change") {
			t.Errorf("%s: %v", what, err)
		}
	}
	fresh, _ := login()
	stranger, err := keypair.Create(keypair.Ed25519, "stranger")
	mustDo(t, err)
	strange, err := stranger.Signer()
	mustDo(t, err)
	for what, sign := range map[string]func([]byte) (string, error){
		"another key":       by(strange),
		"another text":      func([]byte) (string, error) { return sign([]byte("x")) },
		"another namespace": func(text []byte) (string, error) { s, err := keypair.Sign(own, "git", text); return string(s), err },
		"no signature":      func([]byte) (string, error) { return "", nil },
		"what is no such":   func([]byte) (string, error) { return strings.Repeat("x", 100_000), nil },
	} {
		if err := plan.Confirm(t.Context(), fresh, sign); err == nil || !strings.Contains(err.Error(), "none of those that may confirm") {
			t.Errorf("%s: %v", what, err)
		}
	}
	if !m.has("lib/logins/armed") || m.offered(m.user) != "publickey" {
		t.Error("the way back is gone, or the change")
	}
	mustDo(t, plan.Confirm(t.Context(), fresh, sign))
	if m.has("lib/logins/armed") {
		t.Error("confirmed, and armed still")
	}
	if err := plan.Confirm(t.Context(), fresh, sign); !errors.Is(err, reach.ErrWentBack) {
		t.Errorf("confirmed twice: %v", err)
	}
	// The same signature once more, for another change: each has a text of its own.
	var kept string
	again, err := reach.ReadLoginWays(t.Context(), old, files, m.user)
	mustDo(t, err)
	first, err := again.PlanLogins(t.Context(), old, files, logins.Change{Password: "on"})
	mustDo(t, err)
	mustDo(t, first.Arm(t.Context(), old, []string{strings.TrimSpace(mustRead(t, m.identity+".pub"))}))
	mustDo(t, first.Place(t.Context(), old))
	mustDo(t, first.PutBack(t.Context(), old))
	if m.offered(m.user) != "publickey" {
		t.Error("put back, and not as it was")
	}
	_ = first.Confirm(t.Context(), fresh, func(text []byte) (string, error) { kept, err = sign(text); return kept, err })
	second, err := again.PlanLogins(t.Context(), old, files, logins.Change{Password: "on"})
	mustDo(t, err)
	mustDo(t, second.Arm(t.Context(), old, []string{strings.TrimSpace(mustRead(t, m.identity+".pub"))}))
	mustDo(t, second.Place(t.Context(), old))
	late, _ := login()
	if err := second.Confirm(t.Context(), late, func([]byte) (string, error) { return kept, nil }); err == nil {
		t.Error("an old signature confirmed it")
	}
	// A full disk: nothing is changed, and nothing is left.
	mustDo(t, second.PutBack(t.Context(), old))
	for _, full := range []string{"/var/lib/plumlatch", "/etc/ssh/sshd_config.d", "/etc/systemd/system"} {
		before := m.sh("cat /etc/ssh/sshd_config.d/00-plumlatch.conf")
		m.sh("rm -rf /var/lib/plumlatch/logins; cp -a " + full + " /run/systemd/kept && mount -t tmpfs -o size=64k tmpfs " + full + " && cp -a /run/systemd/kept/. " + full +
			"/ && { cat /dev/zero >" + full + "/full 2>/dev/null || :; }")
		ways, err := reach.ReadLoginWays(t.Context(), old, files, m.user)
		mustDo(t, err)
		plan, err := ways.PlanLogins(t.Context(), old, files, logins.Change{Password: "on"})
		mustDo(t, err)
		err = plan.Arm(t.Context(), old, []string{strings.TrimSpace(mustRead(t, m.identity+".pub"))})
		if err == nil {
			err = plan.Place(t.Context(), old)
		}
		if now := m.sh("cat /etc/ssh/sshd_config.d/00-plumlatch.conf; ls -A /etc/ssh/sshd_config.d /etc/ssh | grep plumlatch- || :"); err == nil || now != before ||
			m.offered(m.user) != "publickey" {
			t.Errorf("%s is full: %v, and there is %s", full, err, now)
		}
		m.sh("umount -l " + full + " && rm -rf /run/systemd/kept")
		if m.sh("[ ! -e /var/lib/plumlatch/logins/armed ] || sh /var/lib/plumlatch/logins/way-back; ls /etc/systemd/system"); m.has("units/plumlatch-logins.service") {
			t.Errorf("%s was full, and a unit is left", full)
		}
	}
	// A disk that is full when it is to go back, and a file that others have changed since: it is tried again, and their line stays.
	const folder = "/etc/ssh/sshd_config.d"
	m.sh("cp -a " + folder + " /run/systemd/kept && mount -t tmpfs -o size=64k tmpfs " + folder + " && cp -a /run/systemd/kept/. " + folder + "/")
	third, err := reach.ReadLoginWays(t.Context(), old, files, m.user)
	mustDo(t, err)
	full, err := third.PlanLogins(t.Context(), old, files, logins.Change{Password: "on"})
	mustDo(t, err)
	mustDo(t, full.Arm(t.Context(), old, []string{strings.TrimSpace(mustRead(t, m.identity+".pub"))}))
	mustDo(t, full.Place(t.Context(), old))
	m.sh("echo '# by others' >>" + folder + "/00-plumlatch.conf; cat /dev/zero >" + folder + "/full 2>/dev/null || :")
	if said := m.sh("sh /var/lib/plumlatch/logins/way-back; echo $?"); !strings.HasSuffix(strings.TrimSpace(said), "1") || !m.has("lib/logins/armed") {
		t.Errorf("on a full disk: %s", said)
	}
	if text := m.sh("cat " + folder + "/00-plumlatch.conf"); !strings.Contains(text, "PasswordAuthentication yes") || !strings.Contains(text, "# by others") {
		t.Errorf("on a full disk: %s", text)
	}
	m.sh("rm " + folder + "/full; sh /var/lib/plumlatch/logins/way-back")
	if text := m.sh("cat " + folder + "/00-plumlatch.conf"); !strings.Contains(text, "PasswordAuthentication no") || !strings.Contains(text, "# by others") ||
		m.has("lib/logins/armed") || m.offered(m.user) != "publickey" {
		t.Errorf("with room again: %s", text)
	}
	m.sh("umount -l " + folder + " && rm -rf /run/systemd/kept")
}
