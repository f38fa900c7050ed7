package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
)

// asked is what is said of a machine that asks at its console: how to answer, and the machine's ID.
var asked = regexp.MustCompile(`virsh --connect '[^']+' console ([0-9a-f-]{36})`)

// answering runs the client, and answers on the machine's console whenever it is told how: as somebody does who has the passphrase, and an account on the host.
// It returns how often it answered.
func (b *board) answering(t *testing.T, args ...string) (answers int) {
	t.Helper()
	client := b.terminal(t, args...)
	ended := make(chan error, 1)
	go func() { ended <- client.cmd.Wait() }()
	for deadline := time.Now().Add(40 * time.Minute); ; time.Sleep(time.Second) {
		select {
		case err := <-ended:
			if err != nil {
				t.Fatalf("plumlatch %s: %v\n%s", strings.Join(args, " "), err, client.shows())
			}
			return answers
		default:
		}
		if time.Now().After(deadline) {
			t.Fatalf("plumlatch %s does not end\n%s", strings.Join(args, " "), client.shows())
		}
		for _, m := range asked.FindAllStringSubmatch(strings.ReplaceAll(client.shows(), "\r\n", "\n"), -1) {
			text, err := os.ReadFile(filepath.Join(b.host.Dir, "pool", "plumlatch-"+m[1]+"-console.log"))
			mustDo(t, err)
			if n := strings.Count(string(text), "Please unlock disk"); n > b.prompts {
				b.prompts = n
				b.answer(t, m[0])
				answers++
			}
		}
	}
}

// answer types the passphrase on a console.
func (b *board) answer(t *testing.T, command string) {
	t.Helper()
	console := onTerminal(t, exec.Command("sh", "-c", "exec "+command))
	waitFor(t, "the console", func() bool { return strings.Contains(console.shows(), "Escape character") })
	_, err := fmt.Fprintf(console.master, "%s\r", volumePassphrase)
	mustDo(t, err)
	waitFor(t, "the answer", func() bool { return strings.Contains(console.shows(), "set up successfully") })
	_ = console.cmd.Process.Kill()
	_ = console.cmd.Wait()
}

// TestVMAsks launches, starts and restores a machine whose root volume's passphrase is asked on its serial console at each boot: how to answer is said each time, the
// work waits, and the passphrase goes from the terminal on the host to the machine.
func TestVMAsks(t *testing.T) {
	v := startVMs(t, 170, "debian-12", "debian-12-asks")
	b := &board{vms: v, name: "chart-board", image: "debian-12-asks", key: "chart-board-key-0", keys: t.TempDir(), before: v.left(t)}
	contains(t, "the images", v.must(t, "image", "list"), "each boot asks at its console")
	v.must(t, "key", "create", b.key, "-dir", b.keys)
	b.timed(t, "launch to a login", func() {
		if n := b.answering(t, "instance", "launch", b.name, "-image", b.image, "-size", "small", "-region", vmRegion, "-key", b.key); n != 1 {
			t.Errorf("it asked %d times", n)
		}
	})
	b.opens(t, b.key)
	v.must(t, "instance", "stop", b.name, "-yes")
	if n := b.answering(t, "instance", "start", b.name); n != 1 {
		t.Errorf("started, it asked %d times", n)
	}
	b.opens(t, b.key)
	contains(t, "the ways", v.must(t, "restore", b.name, "-json"), "its boot waits for somebody at its console", "console "+b.instance(t, b.name).CloudID)
	lost, next := b.lose(t), b.fresh(t)
	right := writeFile(t, volumePassphrase+"\n")
	b.timed(t, "restore by disk", func() {
		if n := b.answering(t, "restore", "unlock", b.name, "-new", next, "-dir", b.keys, "-unlock", right, "-yes"); n != 1 {
			t.Errorf("restored, it asked %d times", n)
		}
	})
	b.opens(t, next)
	b.shut(t, lost)
	b.gone(t)
}
