package e2e

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"
)

// terminal runs a program on a pseudo-terminal of its own (pty(7)).
type terminal struct {
	master *os.File
	cmd    *exec.Cmd

	read chan struct{} // closed when everything was read

	mu   sync.Mutex
	text bytes.Buffer
}

func (d *demo) terminal(t testing.TB, args ...string) *terminal {
	t.Helper()
	cmd := exec.Command(filepath.Join(bin, "plumlatch"), args...)
	cmd.Env = append(os.Environ(), "PLUMLATCH_URL="+d.url, "PLUMLATCH_TOKEN="+d.token, "TERM=xterm", "HOME="+filepath.Join(d.dir, "home"))
	return onTerminal(t, cmd)
}

// onTerminal starts a program on one.
func onTerminal(t testing.TB, cmd *exec.Cmd) *terminal {
	t.Helper()
	master, err := os.OpenFile("/dev/ptmx", os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		t.Fatal(err)
	}
	fd := int(master.Fd())
	if err := unix.IoctlSetPointerInt(fd, unix.TIOCSPTLCK, 0); err != nil {
		t.Fatal(err)
	}
	n, err := unix.IoctlGetInt(fd, unix.TIOCGPTN)
	if err != nil {
		t.Fatal(err)
	}
	_ = unix.IoctlSetWinsize(fd, unix.TIOCSWINSZ, &unix.Winsize{Row: 40, Col: 120})
	slave, err := os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer slave.Close()
	cmd.Stdin, cmd.Stdout, cmd.Stderr = slave, slave, slave
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	term := &terminal{master: master, cmd: cmd, read: make(chan struct{})}
	t.Cleanup(func() { master.Close() })
	go func() {
		defer close(term.read)
		buf := make([]byte, 4096)
		for {
			n, err := master.Read(buf)
			term.mu.Lock()
			term.text.Write(buf[:n])
			term.mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	return term
}

func (x *terminal) shows() string {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.text.String()
}

// answer waits for a prompt and types a line.
func (x *terminal) answer(t *testing.T, prompt, line string) {
	t.Helper()
	waitFor(t, "the prompt "+prompt, func() bool { return strings.Contains(x.shows(), prompt) })
	if _, err := x.master.WriteString(line + "\n"); err != nil {
		t.Fatal(err)
	}
}

// answerHidden is answer where nothing that is typed is to be shown: as soon as the prompt is there, the terminal's echo is off.
func (x *terminal) answerHidden(t *testing.T, prompt, line string) {
	t.Helper()
	waitFor(t, "the prompt "+prompt, func() bool { return strings.Contains(x.shows(), prompt) })
	mode, err := unix.IoctlGetTermios(int(x.master.Fd()), unix.TCGETS)
	if err != nil || mode.Lflag&unix.ECHO != 0 {
		t.Errorf("%q is there, and the terminal shows what is typed (%v)", prompt, err)
	}
	x.answer(t, prompt, line)
}

func (x *terminal) end(t *testing.T) int {
	t.Helper()
	_ = x.cmd.Wait()
	<-x.read // the terminal ends with its last user; all that was written has been read then
	return x.cmd.ProcessState.ExitCode()
}

func TestOnATerminal(t *testing.T) {
	d, dir := shared, t.TempDir()
	const pass = "slack water at dusk"
	x := d.terminal(t, "key", "create", "typed-key", "-dir", dir)
	x.answerHidden(t, "nothing shows while you type", pass)
	x.answerHidden(t, "The same again", pass)
	if code := x.end(t); code != 0 || strings.Contains(x.shows(), "slack") ||
		!strings.Contains(x.shows(), "with a passphrase") {
		t.Errorf("status %d:\n%s", code, x.shows())
	}
	if out, err := exec.Command("ssh-keygen", "-y", "-P", pass, "-f",
		filepath.Join(dir, "typed-key")).CombinedOutput(); err != nil {
		t.Errorf("%v %s", err, out)
	}
	x = d.terminal(t, "key", "create", "mistyped-key", "-dir", dir)
	x.answerHidden(t, "nothing shows", pass)
	x.answerHidden(t, "The same again", "slack water at dawn")
	if code := x.end(t); code != 1 || !strings.Contains(x.shows(), "differ") {
		t.Errorf("status %d:\n%s", code, x.shows())
	}
	if _, err := os.Stat(filepath.Join(dir, "mistyped-key")); err == nil {
		t.Error("a file was written")
	}

	x = d.terminal(t, "key", "create", "random-typed", "-new-passphrase", "random", "-dir", dir)
	if code := x.end(t); code != 0 || strings.Count(x.shows(), "shown this once") != 1 {
		t.Errorf("status %d:\n%s", code, x.shows())
	}
	_, shown, _ := strings.Cut(x.shows(), "shown this once:")
	random := strings.TrimSpace(strings.Split(strings.TrimSpace(shown), "\n")[0])
	if out, err := exec.Command("ssh-keygen", "-y", "-P", random, "-f",
		filepath.Join(dir, "random-typed")).CombinedOutput(); err != nil {
		t.Errorf("the passphrase that was shown (%d bytes): %v %s", len(random), err, out)
	}

	// A bar while it waits, a table at the end, a question before a removal.
	x = d.terminal(t, "instance", "launch", "typed-board", "-image", "debian-12", "-size", "small", "-region",
		"north-pier", "-key", "typed-key")
	if code := x.end(t); code != 0 || !strings.Contains(x.shows(), "waiting until it runs") ||
		!strings.Contains(x.shows(), "next: plumlatch open typed-board") {
		t.Errorf("status %d:\n%s", code, x.shows())
	}
	x = d.terminal(t, "instance", "remove", "typed-board")
	x.answer(t, "for good? Type yes:", "no")
	if code := x.end(t); code != 1 || !strings.Contains(x.shows(), "nothing was changed") {
		t.Errorf("status %d:\n%s", code, x.shows())
	}
	d.must(t, "instance", "show", "typed-board")
	x = d.terminal(t, "instance", "remove", "typed-board")
	x.answer(t, "for good? Type yes:", "yes")
	if code := x.end(t); code != 0 {
		t.Errorf("status %d:\n%s", code, x.shows())
	}
}
