// Package shell is the shell of a stand-in instance. It interprets POSIX shell
// over the instance's own folder: every file that a script names is looked up
// beneath that folder by os.Root, and every command is one of ours, so that
// nothing it does can reach the machine that the stand-in runs on.
package shell

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/interp"
	"mvdan.cc/sh/v3/syntax"

	"plumlatch/standin/tree"
)

// Host is the instance that a shell runs on, and the user it runs for.
type Host struct {
	Root *tree.Tree       // the instance's root volume, and what is mounted on it
	Name string           // host name
	User string           // login user
	UID  int              // as in etc/passwd
	Home string           // absolute, such as /home/debian
	Env  []string         // further NAME=value
	Boot time.Time        // when the instance was started
	Now  func() time.Time // its clock
	// Blocks lists its disks, and Mount mounts a filesystem of one; nil where there are none.
	Blocks func() []BlockDevice
	Mount  func(device, at, fsType string, options []string) error
	// Enable has a unit started now and at each boot; nil where there is no systemd.
	Enable func(unit string) error
	// Unlock opens an encrypted partition, with the status of cryptsetup(8); Mapping tells whether a mapping is there and busy, and removes it.
	Unlock  func(device, name, passphrase string) int
	Mapping func(name string, remove bool) (there, busy bool)
	// Unmount may say why a device is busy.
	Unmount func(device string) error
}

// Shell is one session's shell. Its variables and folder live as long as it does.
type Shell struct {
	host   Host
	runner *interp.Runner
	parser *syntax.Parser
	errOut io.Writer
}

// New returns a shell in the user's home that reads and writes the given streams.
func New(h Host, in io.Reader, out, errOut io.Writer) (*Shell, error) {
	s := &Shell{host: h, parser: syntax.NewParser(syntax.Variant(syntax.LangBash)), errOut: errOut}
	env := append([]string{
		"HOME=" + h.Home, "USER=" + h.User, "LOGNAME=" + h.User, "SHELL=/bin/sh",
		"PATH=/usr/local/bin:/usr/bin:/bin", "HOSTNAME=" + h.Name, "PWD=" + h.Home,
		fmt.Sprintf("UID=%d", h.UID), fmt.Sprintf("EUID=%d", h.UID), fmt.Sprintf("GID=%d", h.UID),
	}, h.Env...)
	r, err := interp.New(
		interp.Env(expand.ListEnviron(env...)),
		interp.StdIO(in, out, errOut),
		interp.CallHandler(s.call),
		interp.ExecHandlers(func(interp.ExecHandlerFunc) interp.ExecHandlerFunc { return s.exec }),
		interp.OpenHandler(s.open),
		interp.StatHandler(func(_ context.Context, name string, follow bool) (fs.FileInfo, error) {
			return s.stat(name, follow)
		}),
		interp.AccessHandler(func(_ context.Context, name string, mode interp.AccessMode) error {
			_, err := s.stat(name, true)
			return err
		}),
		interp.ReadDirHandler2(func(_ context.Context, name string) ([]fs.DirEntry, error) { return s.readDir(name) }),
	)
	if err != nil {
		return nil, err
	}
	// interp.Dir would look for the folder on the host; the field must be set before Reset.
	r.Dir = h.Home
	r.Reset()
	r.Dir = h.Home
	s.runner = r
	return s, nil
}

// Run interprets a script and returns its exit status.
func (s *Shell) Run(ctx context.Context, script string) int {
	file, err := s.parser.Parse(strings.NewReader(script), "")
	if err != nil {
		fmt.Fprintf(s.errOut, "sh: %s\n", err)
		return 2
	}
	err = s.runner.Run(ctx, file)
	if status, ok := errors.AsType[interp.ExitStatus](err); ok {
		return int(status)
	}
	if err != nil {
		return 1
	}
	return 0
}

// Exited tells whether the script asked the shell to end.
func (s *Shell) Exited() bool { return s.runner.Exited() }

// Dir returns the current folder.
func (s *Shell) Dir() string { return s.runner.Dir }

// call renames the builtins that would look at the host instead of the instance.
func (s *Shell) call(_ context.Context, args []string) ([]string, error) {
	switch args[0] {
	case "command", "type", "hash", "pwd", "ulimit", "umask", "kill":
		return append([]string{"standin-" + args[0]}, args[1:]...), nil
	case "exec":
		if len(args) > 1 {
			return args[1:], nil
		}
	}
	return args, nil
}

func (s *Shell) exec(ctx context.Context, args []string) error {
	hc := interp.HandlerCtx(ctx)
	name := path.Base(args[0])
	cmd, ok := commands[strings.TrimPrefix(name, "standin-")]
	if !ok {
		fmt.Fprintf(hc.Stderr, "sh: %s: command not found\n", args[0])
		return interp.ExitStatus(127)
	}
	c := &call{Shell: s, name: strings.TrimPrefix(name, "standin-"), args: args[1:], dir: hc.Dir, in: hc.Stdin,
		out: hc.Stdout, err: hc.Stderr, ctx: ctx}
	if status := cmd(c); status != 0 {
		return interp.ExitStatus(status)
	}
	return nil
}

// inside turns a path of the instance into one for os.Root.
func inside(dir, name string) string {
	if !path.IsAbs(name) {
		name = path.Join(dir, name)
	}
	if p := strings.TrimPrefix(path.Clean("/"+name), "/"); p != "" {
		return p
	}
	return "."
}

type null struct{}

func (null) Read([]byte) (int, error)    { return 0, io.EOF }
func (null) Write(p []byte) (int, error) { return len(p), nil }
func (null) Close() error                { return nil }

func (s *Shell) open(ctx context.Context, name string, flag int, perm os.FileMode) (io.ReadWriteCloser, error) {
	if name == "/dev/null" {
		return null{}, nil
	}
	f, err := s.host.Root.OpenFile(inside(interp.HandlerCtx(ctx).Dir, name), flag, perm)
	return f, plain(name, err)
}

func (s *Shell) stat(name string, follow bool) (fs.FileInfo, error) {
	if follow {
		return s.host.Root.Stat(inside("/", name))
	}
	return s.host.Root.Lstat(inside("/", name))
}

func (s *Shell) readDir(name string) ([]fs.DirEntry, error) {
	f, err := s.host.Root.Open(inside("/", name))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	entries, err := f.ReadDir(-1)
	sortEntries(entries)
	return entries, err
}

// plain gives an error the name that the user typed, not the one under the root.
func plain(name string, err error) error {
	if pe, ok := errors.AsType[*fs.PathError](err); ok {
		return &fs.PathError{Op: pe.Op, Path: name, Err: pe.Err}
	}
	return err
}
