package e2e

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"
)

// syslogTo takes what programs log, as a syslog daemon does, into auth.log.
// RFC 3164, section 4.1.1: a priority in front, and then the time and the tag.
func syslogTo(t *testing.T) {
	t.Helper()
	syslogUsers.Lock()
	defer syslogUsers.Unlock()
	if syslogUsers.n == 0 {
		if _, err := os.Stat("/dev/log"); err == nil {
			t.Skip("a syslog daemon runs on this machine: its log is not written to here")
		}
		l, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: "/dev/log", Net: "unixgram"})
		if err != nil {
			t.Skipf("/dev/log cannot be made: %v", err)
		}
		mustDo(t, os.Chmod("/dev/log", 0o666))
		out, err := os.OpenFile("/var/log/auth.log", os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o640)
		mustDo(t, err)
		priority := regexp.MustCompile(`^<\d+>(\w{3} [ \d]\d [\d:]{8} )?`)
		go func() {
			buf := make([]byte, 8<<10)
			for {
				n, err := l.Read(buf)
				if err != nil {
					return
				}
				fmt.Fprintf(out, "%s gate %s\n", time.Now().Format(time.Stamp),
					priority.ReplaceAllString(strings.TrimRight(string(buf[:n]), "\x00\n"), ""))
			}
		}()
		syslogUsers.end = func() {
			l.Close()
			out.Close()
			_ = os.Remove("/dev/log")
			_ = os.Remove("/var/log/auth.log")
		}
	}
	syslogUsers.n++
	t.Cleanup(func() {
		syslogUsers.Lock()
		defer syslogUsers.Unlock()
		if syslogUsers.n--; syslogUsers.n == 0 {
			syslogUsers.end()
		}
	})
}

// syslogUsers are the tests that need the syslog daemon of this machine at one time.
var syslogUsers struct {
	sync.Mutex
	n   int
	end func()
}

// TestExposedSSHD: on Debian's own sshd with sudo, an exposed key is contained,
// replaced and refused, and the sessions that it opened end; others do not.
func TestExposedSSHD(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("a stock sshd needs root")
	}
	syslogTo(t) // before any test in parallel, so that nobody else's sshd asks for it
	a := startAdoptee(t, "", toSyslog)
	a.grantSudo(t)
	d := newHome(t, shared)
	dir, none := t.TempDir(), writeFile(t, "")
	name := fmt.Sprintf("leak-door-%d", a.port)
	d.must(t, a.args(name, "-record", name+"-old")...)
	for _, k := range []string{name + "-mate", name + "-new"} {
		d.must(t, "key", "create", k, "-dir", dir, "-new-passphrase", none)
	}
	d.must(t, "access", "add", name, "-key", name+"-mate")
	session := func(identity string) *exec.Cmd {
		t.Helper()
		cmd := exec.Command("ssh", "-F", "none", "-o", "BatchMode=yes", "-o", "IdentitiesOnly=yes", "-o",
			"UserKnownHostsFile="+writeFile(t, a.hostKeyLine()), "-i", identity, "-p", fmt.Sprint(a.port),
			a.user+"@127.0.0.1", "echo is in; exec sleep 300")
		out, err := cmd.StdoutPipe()
		mustDo(t, err)
		mustDo(t, cmd.Start())
		_, err = out.Read(make([]byte, 8))
		mustDo(t, err)
		t.Cleanup(func() { _ = cmd.Process.Kill() })
		return cmd
	}
	leaked, mate := session(a.identity), session(filepath.Join(dir, name+"-mate"))
	ended := make(chan error, 2)
	go func() { ended <- leaked.Wait() }()
	mateEnded := make(chan error, 1)
	go func() { mateEnded <- mate.Wait() }()

	out := d.must(t, "rotate", "exposed", name+"-old", "-new", name+"-new", "-contain", "127.0.0.0/8", "-dir", dir,
		"-end-sessions", "-yes")
	contains(t, "exposed", out, "1 instance shown to work", "SESSIONS OF ", "1 session ended (process ",
		"from 127.0.0.1", "doubtful")
	select {
	case <-ended:
	case <-time.After(time.Minute):
		t.Error("the session of the exposed key goes on")
	}
	select {
	case err := <-mateEnded:
		t.Errorf("the session of another key ended: %v", err)
	case <-time.After(500 * time.Millisecond):
	}
	if procs, _ := exec.Command("pgrep", "-u", a.user, "-fc",
		"sleep 300").Output(); strings.TrimSpace(string(procs)) != "1" {
		t.Errorf("%s of what was started in the two sessions still run", procs)
	}
	if a.logsIn(t, a.identity, "true") || !a.logsIn(t, filepath.Join(dir, name+"-new"), "true") ||
		!a.logsIn(t, filepath.Join(dir, name+"-mate"), "true") {
		t.Error("the exposed key still logs in, or another does not")
	}
	if strings.Contains(a.now(t), "from=\"127.0.0.0/8\"") || !strings.Contains(a.now(t), name+"-new") {
		t.Errorf("the file is\n%s", a.now(t))
	}
	// Once more: none runs. And the service's own key is replaced there, too.
	contains(t, "again", d.must(t, "instance", "steward-key", name), "the one before is withdrawn, and refused")
	if n := strings.Count(a.now(t), "internal-sftp"); n != 1 {
		t.Errorf("%d lines of the steward:\n%s", n, a.now(t))
	}
	d.surveyOf(t, name)
	_ = mate.Process.Kill()
}
