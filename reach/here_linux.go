package reach

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Whoever is on the machine without a session looks for it: the sshd of the same files whose parent is none, so not one of a container.
const listeners = `servers() {
  for p in /proc/[0-9]*; do
    [ "$(cat "$p/comm" 2>/dev/null)" = sshd ] && [ "$(readlink "$p/ns/mnt")" = "$(readlink /proc/self/ns/mnt)" ] || continue
    [ "$(cat "/proc/$(sed -n 's/^PPid:[[:space:]]*//p' "$p/status" 2>/dev/null)/comm" 2>/dev/null)" = sshd ] || echo "${p#/proc/}"
  done
}
`

// Here is the machine that this program runs on, as root: the agent's.
type Here struct{}

func (Here) servers() string { return listeners }

func (Here) sudoFiles(string) (Files, io.Closer, error) {
	return LocalFiles(), closer(func() error { return nil }), nil
}

// output ends whatever the command started, too, when its time is over.
func (Here) output(ctx context.Context, command string, in io.Reader, limit time.Duration, size int64, take func(io.Reader) error) error {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	cmd := exec.CommandContext(ctx, "/bin/sh", "-c", command)
	cmd.Env = []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL=C", "HOME=/root"}
	cmd.Dir, cmd.Stdin = "/", in
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	end := func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.Cancel, cmd.WaitDelay = end, time.Second
	text, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	if err := take(io.LimitReader(text, size)); err != nil {
		return errors.Join(err, end(), cmd.Wait())
	}
	// What it printed too much is not waited for.
	if n, _ := text.Read(make([]byte, 1)); n > 0 {
		return errors.Join(ErrFlood, end(), cmd.Wait())
	}
	err = cmd.Wait()
	if ctx.Err() != nil {
		return fmt.Errorf("%w (%s)", errInTime, limit)
	}
	return err
}

// localFiles touches the files of this machine, or of a folder of it. Relative paths begin at the root of it.
type localFiles struct{ root string }

// LocalFiles is the way to the files of the machine that this program runs on. Each write is flushed to the disk.
func LocalFiles() Files { return localFiles{} }

// FilesBelow is LocalFiles for a machine that is a folder of this one.
func FilesBelow(root string) Files { return localFiles{root} }

func (f localFiles) at(name string) string { return path.Join("/", f.root, path.Join("/", name)) }

func (localFiles) Whoami() int { return os.Geteuid() }

func (f localFiles) Lstat(name string) (FileInfo, error) {
	fi, err := os.Lstat(f.at(name))
	if err != nil {
		return FileInfo{}, err
	}
	return localInfo(fi), nil
}

func localInfo(fi fs.FileInfo) FileInfo {
	out := FileInfo{Mode: fi.Mode(), Size: fi.Size(), Owner: -1, Modified: fi.ModTime()}
	if st, ok := fi.Sys().(*syscall.Stat_t); ok {
		out.Owner = int(st.Uid)
	}
	return out
}

// Open does not wait for whoever writes into a pipe. It follows links, as SFTP does: who must not, looks first, and is the file's own user.
func (f localFiles) Open(name string) (io.ReadSeekCloser, error) {
	return os.OpenFile(f.at(name), os.O_RDONLY|unix.O_NONBLOCK, 0)
}

func (f localFiles) Create(name string, mode fs.FileMode, data []byte) error {
	return f.write(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL|unix.O_NOFOLLOW, mode, data)
}

func (f localFiles) Append(name string, data []byte) error {
	return f.write(name, os.O_WRONLY|os.O_APPEND|unix.O_NOFOLLOW, 0, data)
}

func (f localFiles) write(name string, flags int, mode fs.FileMode, data []byte) error {
	file, err := os.OpenFile(f.at(name), flags, mode)
	if err != nil {
		return err
	}
	if flags&os.O_CREATE != 0 {
		err = file.Chmod(mode) // whatever the umask
	}
	if err == nil {
		_, err = file.Write(data)
	}
	if err == nil {
		err = file.Sync()
	}
	return errors.Join(err, file.Close())
}

func (f localFiles) Replace(from, to string) error {
	if err := os.Rename(f.at(from), f.at(to)); err != nil {
		return err
	}
	dir, err := os.Open(path.Dir(f.at(to)))
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}

func (f localFiles) Exchange(a, b string) error {
	err := unix.Renameat2(unix.AT_FDCWD, f.at(a), unix.AT_FDCWD, f.at(b), unix.RENAME_EXCHANGE)
	switch {
	case errors.Is(err, unix.EINVAL), errors.Is(err, unix.ENOSYS), errors.Is(err, unix.EOPNOTSUPP):
		return ErrNotSupported
	case err != nil:
		return err
	}
	dir, err := os.Open(path.Dir(f.at(b)))
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}

func (f localFiles) Remove(name string) error { return os.Remove(f.at(name)) }

func (f localFiles) ReadDir(name string, limit int) ([]string, map[string]FileInfo, error) {
	dir, err := os.Open(f.at(name))
	if err != nil {
		return nil, nil, err
	}
	defer dir.Close()
	names, err := dir.Readdirnames(limit)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, nil, err
	}
	slices.Sort(names)
	out := map[string]FileInfo{}
	for _, n := range names {
		if fi, err := os.Lstat(path.Join(f.at(name), n)); err == nil {
			out[n] = localInfo(fi)
		}
	}
	return names, out, nil
}

// RealPath is the path with its links followed.
func (f localFiles) RealPath(name string) (string, error) {
	file, err := os.OpenFile(f.at(name), unix.O_PATH, 0)
	if err != nil {
		return "", err
	}
	defer file.Close()
	at, err := os.Readlink(fmt.Sprintf("/proc/self/fd/%d", file.Fd()))
	if err == nil && strings.HasSuffix(at, " (deleted)") {
		err = fs.ErrNotExist
	}
	if f.root != "" {
		at = path.Join("/", strings.TrimPrefix(at, path.Clean(f.root)))
	}
	return at, err
}
