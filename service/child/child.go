// Package child starts programs that belong to the one that starts them: PostgreSQL and the
// stand-in cloud, for the demo and for tests. They never outlive it.
package child

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"syscall"
	"time"
)

// Program is a program that was started. It is stopped with whoever started it, and by the
// kernel should that one be killed.
type Program struct {
	Name string
	Log  string        // file with what it says
	Done chan struct{} // closed when it has ended

	cmd    *exec.Cmd
	status error
}

// Status is how it ended, once Done is closed.
func (c *Program) Status() error { return c.status }

// Start starts a program in a process group of its own, so that Ctrl-C reaches its starter
// alone, which then stops everything in order. death is the signal that the kernel sends it
// when its starter ends without stopping it.
func Start(name, logFile string, death syscall.Signal, cmd *exec.Cmd) (*Program, error) {
	f, err := os.OpenFile(logFile, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	cmd.Stdout, cmd.Stderr = f, f
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{}
	}
	cmd.SysProcAttr.Setpgid = true
	cmd.SysProcAttr.Pdeathsig = death
	c := &Program{Name: name, Log: logFile, Done: make(chan struct{}), cmd: cmd}
	started := make(chan error)
	go func() {
		// The kernel sends the death signal when this thread ends, not the process.
		runtime.LockOSThread()
		err := cmd.Start()
		started <- err
		if err == nil {
			c.status = cmd.Wait()
			close(c.Done)
		}
	}()
	return c, <-started
}

// Stop asks the program to end by a signal, and waits for it up to 20 s; then it is killed,
// which is an error.
func (c *Program) Stop(sig syscall.Signal) error {
	_ = c.cmd.Process.Signal(sig)
	select {
	case <-c.Done:
		return nil
	case <-time.After(20 * time.Second):
		return errors.Join(fmt.Errorf("%s did not stop in time and was killed; its log is %s", c.Name, c.Log),
			c.cmd.Process.Kill())
	}
}

// Await calls ready until it says yes, the program ends, 40 s are over, or ctx is done.
func (c *Program) Await(ctx context.Context, ready func() bool) error {
	deadline := time.After(40 * time.Second)
	for !ready() {
		select {
		case <-c.Done:
			return fmt.Errorf("%s ended at its start; the end of %s:\n%s", c.Name, c.Log, lastLines(c.Log, 5))
		case <-deadline:
			return fmt.Errorf("%s does not come up; the end of %s:\n%s", c.Name, c.Log, lastLines(c.Log, 5))
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
	return nil
}

func lastLines(file string, n int) string {
	data, err := os.ReadFile(file)
	if err != nil {
		return "(it cannot be read)"
	}
	lines := strings.Split(strings.TrimRight(string(data), "\n"), "\n")
	return "    " + strings.Join(lines[max(0, len(lines)-n):], "\n    ")
}
