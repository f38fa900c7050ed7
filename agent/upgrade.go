package agent

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"

	"plumlatch/core/agentcalls"
	"plumlatch/core/plaintext"
)

// An upgrade is tried before it is made. The new program is written beside the old one, and has to be the one that the key of releases has signed. Then
// the old one hangs up, and has the new one come up as it would after the change: with the same files, at the same service. Only when that has let it in
// is it put in the place of the old one, in one step, and goes on in its process. Whatever happens before, the old program is what the unit starts.

// Program is where the agent's program is.
const Program = "/usr/local/sbin/plumlatch-agent"

// Times of an upgrade.
var (
	answerHeard = time.Second // for the answer to leave before the connection ends
	trialLimit  = 90 * time.Second
	checkLimit  = 20 * time.Second
)

// next is a program that is to be tried.
type next struct {
	file string
	to   int
}

func (a *Agent) hasNext() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.next != nil
}

func (a *Agent) beginUpgrade() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	was := a.upgrading
	a.upgrading = true
	return !was
}

func (a *Agent) endUpgrade() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.upgrading = false
}

func (a *Agent) takeNext() *next {
	a.mu.Lock()
	defer a.mu.Unlock()
	n := a.next
	a.next = nil
	return n
}

var archs = map[string]string{"amd64": "x86_64", "arm64": "aarch64"}

// upgrade takes a newer program in, and has it tried once the answer is gone.
func (a *Agent) upgrade(ctx context.Context, owner agentcalls.Owner, r agentcalls.Request, in io.Reader) (agentcalls.Upgrading, error) {
	var none agentcalls.Upgrading
	w, err := args[agentcalls.UpgradeArgs](r)
	if err != nil {
		return none, err
	}
	release, err := agentcalls.CheckRelease(w.Release, w.Signature, owner.Release)
	own, bad := strconv.Atoi(Version)
	switch {
	case err != nil:
		return none, refused{err}
	case a.Machine != nil || bad != nil:
		return none, Refuse("this agent is no program of its own")
	case release.Version <= own:
		return none, Refuse("version %d is not newer than this one, %d", release.Version, own)
	case release.Arch != archs[runtime.GOARCH]:
		return none, Refuse("it is a program for %s", plaintext.Line(release.Arch))
	case !a.beginUpgrade():
		return none, Refuse("another upgrade is going on")
	}
	defer func() {
		if !a.hasNext() { // it came to nothing
			a.endUpgrade()
		}
	}()
	file := a.Paths.at(Program) + ".new"
	if err := receive(file, in, release); err != nil {
		return none, errors.Join(err, os.RemoveAll(file))
	}
	limited, cancel := context.WithTimeout(ctx, checkLimit)
	defer cancel()
	if out, err := exec.CommandContext(limited, file, "check", "-root", a.Paths.Root).CombinedOutput(); err != nil {
		return none, errors.Join(Refuse("the new program does not read the files here: %s", plaintext.Line(plaintext.Cut(string(out), 200))), os.Remove(file))
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.next = &next{file, release.Version}
	return agentcalls.Upgrading{From: own, To: release.Version}, nil
}

// receive writes the program that comes, if it is the one that was signed.
func receive(file string, in io.Reader, release agentcalls.Release) error {
	if err := os.RemoveAll(file); err != nil {
		return refused{err}
	}
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o700)
	if err != nil {
		return Refuse("the program cannot be written there: %w", err)
	}
	h := sha256.New()
	n, err := io.Copy(io.MultiWriter(f, h), io.LimitReader(in, release.Size+1))
	if err == nil {
		err = f.Chmod(0o755)
	}
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return Refuse("the program did not arrive: %w", err)
	}
	if n != release.Size || hex.EncodeToString(h.Sum(nil)) != release.SHA256 {
		return Refuse("what arrived is not the program that was signed")
	}
	return nil
}

// try has the new program come up, and goes on in it if it does. If it does not, it is taken away, and this one goes on.
func (a *Agent) try(ctx context.Context, n next) {
	a.Log.Info("a newer program is tried", "version", n.to)
	limited, cancel := context.WithTimeout(ctx, trialLimit)
	defer cancel()
	runtime.LockOSThread() // the signal comes when the thread ends that has made the process (prctl(2), PR_SET_PDEATHSIG)
	defer runtime.UnlockOSThread()
	cmd := exec.CommandContext(limited, n.file, "run", "-trial", "-root", a.Paths.Root)
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	out, err := cmd.CombinedOutput()
	if err == nil {
		err = a.replace(n)
	}
	said := strings.TrimSpace(string(out))
	a.Log.Error("the newer program did not come up, and is taken away", "version", n.to, "error", err, "said", plaintext.Line(plaintext.Cut(said, 300)))
	if i := strings.LastIndexByte(said, '\n'); i >= 0 {
		said = said[i+1:]
	}
	a.Paths.keepLast(plaintext.Line(plaintext.Cut(fmt.Sprintf("version %d did not come up (%v): %s", n.to, err, said), 300)))
	if err := os.RemoveAll(n.file); err != nil {
		a.Log.Error("it is left there", "error", err)
	}
}

// replace puts the new program in the place of the old one, and goes on in it; it returns only if that failed.
func (a *Agent) replace(n next) error {
	at := a.Paths.at(Program)
	if err := os.Rename(n.file, at); err != nil {
		return err
	}
	if dir, err := os.Open(filepath.Dir(at)); err == nil {
		_ = dir.Sync()
		_ = dir.Close()
	}
	a.Paths.keepLast(fmt.Sprintf("version %d was taken", n.to))
	a.Log.Info("it came up, and goes on", "version", n.to)
	return syscall.Exec(at, os.Args, os.Environ())
}

const lastFile = "upgrade.json"

func (p Paths) keepLast(text string) {
	if data, err := json.Marshal(text); err == nil {
		_ = p.write(lastFile, data) // it is said, and nothing rests on it
	}
}

func (p Paths) lastUpgrade() (text string) {
	data, err := os.ReadFile(p.at(StateDir + "/" + lastFile))
	if err != nil || json.Unmarshal(data, &text) != nil {
		return ""
	}
	return text
}
