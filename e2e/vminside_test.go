package e2e

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"plumlatch/core/agentcalls"
	"plumlatch/core/keypair"
	"plumlatch/core/why"
)

// root runs a script on the machine as root, through QEMU's guest agent: whatever is wrong with its SSH server, this gets in.
func (b *board) root(t *testing.T, script string) string {
	t.Helper()
	domain := "plumlatch-" + b.instance(t, b.name).CloudID
	ask := func(command any, answer any) {
		t.Helper()
		text, err := json.Marshal(command)
		mustDo(t, err)
		out, err := b.host.Virsh(t.Context(), "qemu-agent-command", "--timeout", "60", domain, string(text))
		mustDo(t, err)
		mustDo(t, json.Unmarshal([]byte(out), answer))
	}
	var begun struct {
		Return struct {
			PID int `json:"pid"`
		} `json:"return"`
	}
	ask(map[string]any{"execute": "guest-exec", "arguments": map[string]any{"path": "/bin/sh", "arg": []string{"-c", script}, "capture-output": true}}, &begun)
	var done struct {
		Return struct {
			Exited   bool   `json:"exited"`
			ExitCode int    `json:"exitcode"`
			Out      string `json:"out-data"`
			Err      string `json:"err-data"`
		} `json:"return"`
	}
	waitFor(t, "the script's end", func() bool {
		ask(map[string]any{"execute": "guest-exec-status", "arguments": map[string]any{"pid": begun.Return.PID}}, &done)
		return done.Return.Exited
	})
	out, err := base64.StdEncoding.DecodeString(done.Return.Out)
	mustDo(t, err)
	if done.Return.ExitCode != 0 {
		said, _ := base64.StdEncoding.DecodeString(done.Return.Err)
		t.Fatalf("%s: %d %s %s", script, done.Return.ExitCode, out, said)
	}
	return string(out)
}

// rootUp waits until the guest agent answers, which it does some time after the SSH server.
func (b *board) rootUp(t *testing.T) {
	t.Helper()
	domain := "plumlatch-" + b.instance(t, b.name).CloudID
	for deadline := time.Now().Add(10 * time.Minute); ; time.Sleep(time.Second) {
		_, err := b.host.Virsh(t.Context(), "qemu-agent-command", "--timeout", "10", domain, `{"execute":"guest-ping"}`)
		if err == nil {
			return
		}
		if time.Now().After(deadline) {
			t.Fatal(err)
		}
	}
}

// vmBroken are ways to break the door of a real machine, and what undoes them. The login user's file was kept in /root/keys.
var vmBroken = []struct {
	want        why.Code
	what        string
	broke, mend string
	args        []string
}{
	{want: "", what: "in order"},
	{want: why.KeyNotInFile, what: "the line is gone", broke: `grep -v "$(cut -d' ' -f2 /root/pub)" /root/keys >$K`, mend: `cat /root/keys >$K`},
	{want: why.KeyExpired, what: "expired", broke: `sed 's/^ssh-/expiry-time="20200101000000Z" ssh-/' /root/keys >$K`, mend: `cat /root/keys >$K`},
	{want: why.KeyFrom, what: "from elsewhere", broke: `sed 's/^ssh-/from="192.0.2.1" ssh-/' /root/keys >$K`, mend: `cat /root/keys >$K`},
	{want: why.ForcedCommand, what: "a forced command", broke: `sed 's/^ssh-/command="touch \/tmp\/ran" ssh-/' /root/keys >$K`, mend: `cat /root/keys >$K`},
	{want: why.ServerModes, what: "the home is writable by all", broke: `chmod 777 /home/debian`, mend: `chmod 755 /home/debian`},
	{want: why.ServerModes, what: "the file is writable by all", broke: `chmod 666 $K`, mend: `chmod 600 $K`},
	{want: why.NoShell, what: "nologin", broke: `usermod -s /usr/sbin/nologin debian`, mend: `usermod -s /bin/bash debian`},
	{want: why.LoginRefused, what: "a shell that ends at once", broke: `usermod -s /bin/true debian`, mend: `usermod -s /bin/bash debian`},
	{want: why.AccountExpired, what: "an expired account", broke: `chage -E 1 debian`, mend: `chage -E -1 debian`},
	{want: why.LoginsOff, what: "/etc/nologin", broke: `echo tide >/etc/nologin`, mend: `rm /etc/nologin`},
	{want: why.SecondFactor, what: "a code besides the key", broke: `printf 'AuthenticationMethods publickey,keyboard-interactive\nKbdInteractiveAuthentication yes\n' >$C; again`,
		mend: `rm $C; again`},
	{want: why.PasswordOnly, what: "passwords only", broke: `printf 'PubkeyAuthentication no\nPasswordAuthentication yes\n' >$C; again`, mend: `rm $C; again`},
	{want: why.NoAlgorithm, what: "an ancient cipher", broke: `echo 'Ciphers aes128-cbc' >$C; again`, mend: `rm $C; again`},
	{want: why.LoginUser, what: "no such user", args: []string{"-user", "no-such-captain"}},
	{want: why.HostKey, what: "another host key", broke: `ssh-keygen -q -t ed25519 -N '' -f /root/other; echo 'HostKey /root/other' >$C; again`,
		mend: `rm $C /root/other*; again`},
	{want: why.PortClosed, what: "its server does not run", broke: `systemctl stop ssh`, mend: `systemctl start ssh`},
}

// TestVMInside does on one real machine what needs a kernel, an init and a first boot: access is shared, its door is broken in many ways, people get
// accounts, password logins change and change back by themselves, the agent runs under its unit, and what the server has logged is read.
func TestVMInside(t *testing.T) {
	b := startVMs(t, 160, "debian-12").launchBoard(t, "gate-board", "debian-12")
	b.rootUp(t)
	by := func(args ...string) []string { return append(args, "-identity", b.file(b.key)) }
	b.must(t, "survey", b.name)

	t.Log("shared, and taken back")
	maria := b.fresh(t)
	b.must(t, "access", "add", b.name, "-key", maria)
	b.opens(t, maria)
	b.must(t, "access", "remove", b.name, "-key", maria, "-yes")
	b.shut(t, b.file(maria))

	t.Log("its door, broken")
	b.root(t, "cp -p /home/debian/.ssh/authorized_keys /root/keys; echo '"+strings.TrimSpace(mustRead(t, b.file(b.key)+".pub"))+"' >/root/pub")
	for _, c := range vmBroken {
		const names = "K=/home/debian/.ssh/authorized_keys C=/etc/ssh/sshd_config.d/00-broken.conf; " +
			"again() { systemctl reload ssh; sleep 2; until grep -q ':0016 00000000:0000 0A' /proc/net/tcp; do sleep 0.3; done; }; "
		if c.broke != "" {
			b.root(t, names+c.broke)
		}
		var report why.Report
		text := b.client(t, "", append(by("why", b.name, "-json"), c.args...)...)
		mustDo(t, json.Unmarshal([]byte(text.out), &report))
		var code why.Code
		if report.First != nil {
			code = report.First.Code
		}
		if code != c.want {
			t.Errorf("why, %s: %q and not %q: %s\n%s", c.what, code, c.want, text.out, b.root(t, "systemctl status ssh; journalctl -u ssh -n 20 --no-pager; sshd -t 2>&1 || :"))
		}
		if c.mend != "" {
			b.root(t, names+c.mend)
		}
	}
	if b.root(t, "ls /tmp/ran 2>/dev/null || :") != "" {
		t.Error("the forced command was run")
	}
	b.opens(t, b.key)

	t.Log("people")
	b.must(t, "open", b.name, "-identity", b.file(b.key), "--", "true")
	b.must(t, by("instance", "user", "add", b.name, "maria", "-key", maria, "-sudo", "-yes")...)
	as := func(user, key, command string) (string, bool) {
		i := b.instance(t, b.name)
		i.LoginUser = user
		return b.realSSH(t, i, b.file(key), command)
	}
	said := b.must(t, by("instance", "user", "password", b.name, "maria", "-new", "random", "-yes")...)
	password := strings.TrimSpace(strings.Split(said, "\n")[0])
	if out, ok := as("maria", maria, "id -un; echo '"+password+"' | sudo -S -p '' id -un"); !ok || !strings.HasSuffix(out, "maria\nroot\n") {
		t.Errorf("maria, with sudo: %s", out)
	}
	if b.root(t, "getent shadow maria | grep -c '\\$y\\$'") != "1\n" {
		t.Error("no hash as this system makes them")
	}
	b.must(t, by("instance", "user", "remove", b.name, "maria", "-yes")...)
	if out, ok := as("maria", maria, "true"); ok {
		t.Errorf("removed: %s", out)
	}

	t.Log("logins")
	was := b.effective(t)
	if was != "passwordauthentication no\n" {
		t.Errorf("launched with %s", was)
	}
	b.must(t, by("instance", "logins", b.name, "-password", "on", "-yes")...)
	if now := b.effective(t); now != "passwordauthentication yes\n" {
		t.Errorf("on: %s", now)
	}
	off := by("instance", "logins", b.name, "-password", "off", "-yes")
	b.killedWhen(t, "test -e /var/lib/plumlatch/logins/armed && ! grep -qs 'PasswordAuthentication yes' /etc/ssh/sshd_config.d/00-plumlatch.conf", off...)
	if now := b.effective(t); now != "passwordauthentication no\n" {
		t.Errorf("the client was killed too early: %s", now)
	}
	b.timed(t, "password logins go back by the machine's own clock", func() { b.wentBack(t) })
	b.killedWhen(t, "test -e /var/lib/plumlatch/logins/armed && ! grep -qs 'PasswordAuthentication yes' /etc/ssh/sshd_config.d/00-plumlatch.conf", off...)
	_, err := b.host.Virsh(t.Context(), "reset", "plumlatch-"+b.instance(t, b.name).CloudID) // as a power cut
	mustDo(t, err)
	b.timed(t, "and at a boot after a power cut", func() {
		time.Sleep(5 * time.Second)
		b.rootUp(t)
		b.wentBack(t)
	})
	b.opens(t, b.key)
	b.must(t, off...)
	if now := b.effective(t); now != "passwordauthentication no\n" {
		t.Errorf("off: %s", now)
	}

	t.Log("the agent")
	b.must(t, by("instance", "agent", "install", b.name, "-verbs", "look,edit,users,logins,sessions", "-yes")...)
	waitFor(t, "it dials", func() bool { return b.agentOf(t, b.name).Connected })
	if out := b.root(t, "systemctl is-active plumlatch-agent; systemctl is-enabled plumlatch-agent; stat -c %a /etc/plumlatch-agent.yaml"); out != "active\nenabled\n644\n" {
		t.Errorf("its unit: %s", out)
	}
	b.must(t, "survey", b.name, "-by", "agent")
	b.root(t, "systemctl stop ssh") // from here on only the agent gets in
	list := b.must(t, by("instance", "user", "list", b.name)...)
	contains(t, "users, by the agent", list, "seen by the agent there", "debian")
	b.must(t, by("instance", "user", "add", b.name, "sam", "-key", maria, "-sudo", "-for", "24h", "-yes")...)
	b.must(t, by("instance", "user", "password", b.name, "sam", "-new", "random", "-yes")...)
	b.must(t, by("instance", "logins", b.name)...)
	caller := newCaller(t, b.demo, b.name, b.file(b.key))
	third := b.fresh(t)
	answer, err := caller.call(agentcalls.Edit, map[string]string{"user": "debian", "line": strings.TrimSpace(mustRead(t, b.file(third)+".pub"))})
	if err != nil {
		t.Errorf("an edit: %s %v", answer, err)
	}
	b.root(t, "systemctl start ssh")
	waitFor(t, "the server", func() bool { _, ok := as("sam", maria, "true"); return ok })
	b.opens(t, third)
	b.must(t, by("instance", "logins", b.name, "-password", "on", "-yes")...)
	b.must(t, by("instance", "logins", b.name, "-password", "off", "-yes")...)
	i := b.instance(t, b.name)
	held := exec.Command("ssh", "-F", "none", "-i", b.file(third), "-p", fmt.Sprint(i.Port), "-o", "IdentitiesOnly=yes", "-o", "IdentityAgent=none", "-o", "BatchMode=yes",
		"-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-l", "debian", i.Address, "echo in; sleep 600")
	out, err := held.StdoutPipe()
	mustDo(t, err)
	mustDo(t, held.Start())
	t.Cleanup(func() { _ = held.Process.Kill(); _ = held.Wait() })
	if _, err := out.Read(make([]byte, 3)); err != nil {
		t.Fatal(err)
	}
	pub, err := keypair.ReadPublic([]byte(mustRead(t, b.file(third)+".pub")))
	mustDo(t, err)
	answer, err = caller.call(agentcalls.Sessions, agentcalls.SessionsArgs{User: "debian", Fingerprint: pub.Fingerprint()})
	if err != nil || !strings.Contains(answer, `"ended":1`) {
		t.Errorf("sessions: %s %v", answer, err)
	}
	b.must(t, by("instance", "user", "remove", b.name, "sam", "-yes")...)

	t.Log("who came in")
	b.must(t, "survey", b.name, "-by", "agent")
	used := b.must(t, "access", "used", "-instance", b.name)
	contains(t, "who came in", used, third, b.key)
	b.must(t, by("instance", "agent", "remove", b.name, "-yes")...)
	if out := b.root(t, "ls -d /etc/plumlatch-agent* /usr/local/sbin/plumlatch-agent* /var/lib/plumlatch-agent /etc/systemd/system/plumlatch-agent* 2>/dev/null || :"); out != "" {
		t.Errorf("left: %s", out)
	}
	b.must(t, "survey", b.name, "-identity", b.file(b.key))
	b.gone(t)
}

// effective is what sshd says that it does with passwords.
func (b *board) effective(t *testing.T) string {
	t.Helper()
	return b.root(t, "sshd -T | grep ^passwordauthentication")
}

// wentBack waits until a change of logins was put back by the machine itself, and password logins are on again.
func (b *board) wentBack(t *testing.T) {
	t.Helper()
	for deadline := time.Now().Add(10 * time.Minute); ; time.Sleep(3 * time.Second) {
		if b.root(t, "ls -d /var/lib/plumlatch/logins/armed /etc/systemd/system/plumlatch-logins.* 2>/dev/null || :") == "" {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("it did not go back: %s", b.root(t, "systemctl list-timers --all; journalctl -u plumlatch-logins --no-pager; ls -l /var/lib/plumlatch/logins"))
		}
	}
	if now := b.effective(t); now != "passwordauthentication yes\n" {
		t.Errorf("went back to %s", now)
	}
}

// killedWhen begins a command of the client and kills it as soon as something is so on the machine.
func (b *board) killedWhen(t *testing.T, so string, args ...string) {
	t.Helper()
	cmd := exec.Command(filepath.Join(bin, "plumlatch"), args...)
	cmd.Env = append(append(os.Environ(), "PLUMLATCH_URL="+b.url, "PLUMLATCH_TOKEN="+b.token, "HOME="+filepath.Join(b.dir, "home")), b.env...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	var said strings.Builder
	cmd.Stderr = &said
	mustDo(t, cmd.Start())
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	defer func() { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }()
	for deadline := time.Now().Add(5 * time.Minute); b.root(t, "if "+so+"; then echo so; fi") == ""; {
		select {
		case err := <-ended:
			t.Fatalf("it ended before: %v %s", err, said.String())
		default:
		}
		if time.Now().After(deadline) {
			t.Fatalf("it never came to that: %s", said.String())
		}
	}
	mustDo(t, syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL))
	if err := <-ended; err == nil {
		t.Fatal("it ended before it was killed")
	}
}
