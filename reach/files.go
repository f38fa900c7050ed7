package reach

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"plumlatch/core/hostkeys"
)

// Files is a way to touch the files of one login user on an instance. Paths
// are slash-separated; relative ones begin at the user's home. The safe edit
// is written over it, so that there is one, whichever way is taken.
type Files interface {
	// Lstat describes a file without following a link.
	Lstat(name string) (FileInfo, error)
	// Open opens a file for reading; what it shows is the file that was opened,
	// also after another one was put in its place.
	Open(name string) (io.ReadSeekCloser, error)
	// Create makes a file that must not exist, with the mode, writes it and
	// flushes it to the disk.
	Create(name string, mode fs.FileMode, data []byte) error
	// Append writes data at the end of a file, in one write, and flushes it.
	Append(name string, data []byte) error
	// Replace puts a file in the place of another, in one step.
	Replace(from, to string) error
	Remove(name string) error
	// ReadDir returns the names in a folder, at most limit of them, in their order,
	// with what Lstat tells of each.
	ReadDir(name string, limit int) ([]string, map[string]FileInfo, error)
	// RealPath returns a path from the root.
	RealPath(name string) (string, error)
	// Whoami returns the numeric user that this way acts as, -1 if it is not known.
	Whoami() int
}

// FileInfo is what Files.Lstat tells.
type FileInfo struct {
	Mode  fs.FileMode
	Size  int64
	Owner int // numeric; -1 if it is not known
	// Modified is when it was written, by the instance's clock; zero if it is not known.
	Modified time.Time
}

// ErrNotSupported says that the SFTP server lacks what a safe edit needs.
var ErrNotSupported = errors.New("the SFTP server lacks posix-rename@openssh.com or fsync@openssh.com, without " +
	"which a file cannot be replaced safely")

// sftpFiles is a way over SFTP, as OpenSSH's server speaks it. Each operation is
// bounded (Client.within), whatever the server does.
type sftpFiles struct {
	c      *Client
	sftp   *sftp.Client
	uid    int
	banner string       // of the server; "" if it is not known
	home   *FileInfo    // as it was when the way was opened
	folder sync.RWMutex // a folder is listed alone: its bytes are counted
}

// enterTimeout is the most that getting in may take.
var enterTimeout = 15 * time.Second

var (
	errInTime = errors.New("the server did not answer in time")
	errLost   = errors.New("the connection was lost while the server was asked: try again")
)

// SFTP opens the way over SFTP with a signer (the steward's). The context
// bounds connecting, and ends everything when it ends; so does lifeLimit. Close
// the returned closer. ErrNotSupported if a safe edit is not possible by this
// server.
func SFTP(ctx context.Context, p Policy, t Target, signer ssh.Signer) (Files, io.Closer, error) {
	client, err := login(ctx, p.dial, t, []ssh.AuthMethod{ssh.PublicKeys(signer)}, enterTimeout, lifeLimit)
	if err != nil {
		return nil, nil, err
	}
	f, _, err := OverSSH(client)
	if err != nil {
		client.Close()
		return nil, nil, err
	}
	f.(*sftpFiles).banner = string(client.ServerVersion())
	return f, client, nil
}

// OverSSH opens the way over a connection that is logged in already: the
// engineer's own. ErrNotSupported.
func OverSSH(client *Client) (Files, io.Closer, error) {
	return client.open(func() (*sftp.Client, func(), error) {
		s, err := sftp.NewClient(client.Client)
		return s, func() {}, err
	})
}

// OverCommand opens the way over a command that speaks SFTP on its standard
// input and output: an SFTP server that sudo runs as root. ErrNotSupported.
func OverCommand(client *Client, command string) (Files, io.Closer, error) {
	f, end, err := client.open(func() (*sftp.Client, func(), error) {
		session, err := client.NewSession()
		if err != nil {
			return nil, nil, err
		}
		in, err := session.StdinPipe()
		if err != nil {
			return nil, nil, err
		}
		out, err := session.StdoutPipe()
		if err != nil {
			return nil, nil, err
		}
		if err := session.Start(command); err != nil {
			return nil, nil, err
		}
		s, err := sftp.NewClientPipe(out, in)
		return s, func() { session.Close() }, err
	})
	if err == nil {
		f.(*sftpFiles).uid = 0 // it began in somebody's home, which is not its own
	}
	return f, end, err
}

// noFiles is an error that is ErrNoFiles.
type noFiles struct{ error }

func (e noFiles) Error() string      { return "SFTP: " + e.error.Error() }
func (noFiles) Is(target error) bool { return target == ErrNoFiles }
func (e noFiles) Unwrap() error      { return e.error }

// open makes an SFTP client on the connection. What is half open ends with that.
func (c *Client) open(begin func() (*sftp.Client, func(), error)) (Files, io.Closer, error) {
	f := &sftpFiles{c: c, uid: -1}
	end := func() {}
	err := c.within(c.ctx, enterTimeout, opBytes, func() (err error) {
		f.sftp, end, err = begin()
		return err
	})
	if err != nil {
		return nil, nil, noFiles{err}
	}
	closing := closer(func() error {
		// The server may never let the channel go; then the connection goes.
		_ = c.within(c.ctx, time.Second, quietBytes, func() error {
			err := f.sftp.Close()
			end()
			return err
		})
		return nil
	})
	for _, ext := range []string{"posix-rename@openssh.com", "fsync@openssh.com"} {
		if _, ok := f.sftp.HasExtension(ext); !ok {
			return nil, nil, errors.Join(ErrNotSupported, closing())
		}
	}
	// Whoever owns the home is whom we act as: SFTP has no other way to ask.
	if home, err := f.Lstat("."); err == nil {
		f.uid, f.home = home.Owner, &home
	} else if c.ctx.Err() != nil || errors.Is(err, ErrFlood) || errors.Is(err, errInTime) {
		return nil, nil, noFiles{err}
	}
	return f, closing, nil
}

// Login logs in with one of the signers, over a connection that dial opens, to
// a server that must show one of the pinned host keys. The context ends the
// connection; getting in is bounded by limit.
func Login(ctx context.Context, dial func(context.Context) (net.Conn, error), t Target, signers []ssh.Signer,
	limit time.Duration) (*Client, error) {
	return LoginBy(ctx, dial, t, []ssh.AuthMethod{ssh.PublicKeys(signers...)}, limit)
}

// LoginBy is Login by other methods: a password that the engineer types.
func LoginBy(ctx context.Context, dial func(context.Context) (net.Conn, error), t Target, by []ssh.AuthMethod,
	limit time.Duration) (*Client, error) {
	return login(ctx, func(ctx context.Context, _ Target) (net.Conn, error) { return dial(ctx) }, t, by, limit, 0)
}

// login opens a connection and logs in, within limit.
func login(ctx context.Context, dial func(context.Context, Target) (net.Conn, error), t Target, by []ssh.AuthMethod,
	limit, life time.Duration) (*Client, error) {
	// One context for the whole: a connection to a jump host on the way ends with it.
	ctx, cancel := context.WithCancel(ctx)
	late := time.AfterFunc(limit, cancel)
	conn, err := dial(ctx, t)
	if err == nil {
		l := lineOf(conn)
		stop := context.AfterFunc(ctx, func() { l.Close() })
		var client *ssh.Client
		if client, err = sshClientBy(l, t, by); err == nil && late.Stop() && stop() {
			out := newClient(ctx, client, l, life)
			end := out.end
			out.end = func() { end(); cancel() }
			return out, nil
		}
		stop()
		l.Close()
		if l.flooded.Load() {
			err = ErrFlood
		}
	}
	late.Stop()
	if ctx.Err() != nil || err == nil {
		err = errInTime
	}
	cancel()
	return nil, dialError(err)
}

// lineOf is the line that a connection is, or one over it.
func lineOf(conn net.Conn) *line {
	if l, ok := conn.(*line); ok {
		return l
	}
	return newLine(conn)
}

// DialContext opens a connection to a server behind this one (RFC 4254 section
// 7.2). What comes through it counts for both.
func (c *Client) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	var inner net.Conn
	err := c.within(ctx, enterTimeout, opBytes, func() (err error) {
		inner, err = c.Client.DialContext(ctx, network, address)
		return err
	})
	if err != nil {
		return nil, err
	}
	l := newLine(inner)
	l.carrier = c.line
	return l, nil
}

type closer func() error

func (c closer) Close() error { return c() }

// stewardKex prefers the key exchange that costs least (RFC 5656): it is a third
// of what a survey costs, and nothing that is read then must stay secret for decades.
var stewardKex = func() []string {
	all := []string{ssh.KeyExchangeECDHP256}
	for _, k := range ssh.SupportedAlgorithms().KeyExchanges {
		if k != ssh.KeyExchangeECDHP256 {
			all = append(all, k)
		}
	}
	return all
}()

func sshClientBy(conn net.Conn, t Target, by []ssh.AuthMethod) (*ssh.Client, error) {
	c, channels, requests, err := ssh.NewClientConn(conn, t.Address, &ssh.ClientConfig{
		Config: ssh.Config{KeyExchanges: stewardKex},
		User:   t.User, ClientVersion: "SSH-2.0-plumlatch-steward", Auth: by,
		HostKeyCallback: pinned(t.HostKeys), HostKeyAlgorithms: hostkeys.Algorithms(t.HostKeys),
	})
	if err != nil {
		return nil, err
	}
	return ssh.NewClient(c, channels, requests), nil
}

// Banner returns the identification string of the server that a way goes
// through (RFC 4253 section 4.2), "" if it is not known.
func Banner(f Files) string {
	if s, ok := f.(*sftpFiles); ok {
		return s.banner
	}
	return ""
}

func (f *sftpFiles) Whoami() int { return f.uid }

// op is one operation of the way.
func (f *sftpFiles) op(bytes int64, do func() error) error {
	f.folder.RLock()
	defer f.folder.RUnlock()
	return f.c.within(f.c.ctx, opLimit, bytes, do)
}

// ReadDir reads at most folderBytes of the listing: the library would read a
// folder without end to its end.
func (f *sftpFiles) ReadDir(name string, limit int) ([]string, map[string]FileInfo, error) {
	f.folder.Lock()
	defer f.folder.Unlock()
	ctx, cancel := context.WithCancel(f.c.ctx)
	defer cancel()
	w := &watch{tell: cancel}
	w.left.Store(folderBytes)
	f.c.line.soft.Store(w)
	defer f.c.line.soft.Store(nil)
	var entries []fs.FileInfo
	err := f.c.within(f.c.ctx, opLimit, 2*folderBytes, func() (err error) {
		entries, err = f.sftp.ReadDirContext(ctx, name)
		if w.left.Load() < 0 && errors.Is(err, context.Canceled) && f.c.ctx.Err() == nil {
			err = nil // as much of it as is read
		}
		return err
	})
	if err != nil {
		return nil, nil, err
	}
	var out []string
	infos := map[string]FileInfo{}
	for _, e := range entries {
		out = append(out, e.Name())
		infos[e.Name()] = describe(e)
	}
	slices.Sort(out)
	return out[:min(limit, len(out))], infos, nil
}

func (f *sftpFiles) RealPath(name string) (at string, err error) {
	err = f.op(opBytes, func() (err error) {
		at, err = f.sftp.RealPath(name)
		return err
	})
	return at, err
}

func (f *sftpFiles) Lstat(name string) (out FileInfo, err error) {
	err = f.op(opBytes, func() error {
		fi, err := f.sftp.Lstat(name)
		if err == nil {
			out = describe(fi)
		}
		return err
	})
	return out, err
}

func describe(fi fs.FileInfo) FileInfo {
	out := FileInfo{Mode: fi.Mode(), Size: fi.Size(), Owner: -1, Modified: fi.ModTime()}
	if s, ok := fi.Sys().(*sftp.FileStat); ok {
		out.Owner = int(s.UID)
	}
	return out
}

// Open opens a file for reading. As root a regular one only: opening a named pipe,
// or a device, may hold the server for ever, and with it the disk that it is on.
func (f *sftpFiles) Open(name string) (io.ReadSeekCloser, error) {
	if f.uid == 0 {
		fi, err := f.Lstat(name)
		if err == nil && fi.Mode&fs.ModeSymlink != 0 { // where links are followed, what they lead to counts
			err = f.op(opBytes, func() error {
				to, err := f.sftp.Stat(name)
				if err == nil {
					fi = describe(to)
				}
				return err
			})
		}
		if err != nil {
			return nil, err
		}
		if !fi.Mode.IsRegular() {
			return nil, fmt.Errorf("%s: %w", name, ErrIrregular)
		}
	}
	var file *sftp.File
	err := f.op(opBytes, func() (err error) {
		file, err = f.sftp.Open(name)
		return err
	})
	if err != nil {
		return nil, err
	}
	return &openFile{f, file}, nil
}

// openFile bounds each operation on an open file.
type openFile struct {
	f    *sftpFiles
	file *sftp.File
}

func (o *openFile) Read(p []byte) (n int, err error) {
	err = o.f.op(int64(len(p))+opBytes, func() (err error) {
		n, err = o.file.Read(p)
		return err
	})
	return n, err
}

// WriteTo reads the file to its end, in requests that overtake one another.
func (o *openFile) WriteTo(w io.Writer) (n int64, err error) {
	return io.Copy(w, struct{ io.Reader }{o})
}

func (o *openFile) Seek(offset int64, whence int) (at int64, err error) {
	err = o.f.op(opBytes, func() (err error) {
		at, err = o.file.Seek(offset, whence)
		return err
	})
	return at, err
}

func (o *openFile) Close() error { return o.f.op(opBytes, o.file.Close) }

// write opens a file and writes to it; opened tells whether it came as far as that.
func (f *sftpFiles) write(name string, flags int, mode fs.FileMode, data []byte) (opened bool, err error) {
	err = f.op(opBytes, func() error {
		file, err := f.sftp.OpenFile(name, flags)
		if err != nil {
			return err
		}
		opened = true
		if mode != 0 {
			err = file.Chmod(mode) // before a byte is in it
		}
		if err == nil {
			_, err = file.Write(data)
		}
		if err == nil {
			err = file.Sync()
		}
		return errors.Join(err, file.Close())
	})
	return opened, err
}

func (f *sftpFiles) Create(name string, mode fs.FileMode, data []byte) error {
	opened, err := f.write(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode, data)
	switch {
	case err == nil || errors.Is(err, fs.ErrExist):
		return err
	case opened:
		_ = f.Remove(name) // half of a file is worth nothing
		return err
	}
	// Version 3 of SFTP has no code for "it exists" (draft-ietf-secsh-filexfer-02 section
	// 7): OpenSSH answers SSH_FX_FAILURE.
	if _, there := f.Lstat(name); there == nil {
		return errors.Join(fs.ErrExist, err)
	}
	return err
}

// maxOneWrite is what one SFTP packet carries for sure.
const maxOneWrite = 32 << 10

func (f *sftpFiles) Append(name string, data []byte) error {
	if len(data) > maxOneWrite {
		return fmt.Errorf("%d bytes do not go into one write", len(data))
	}
	_, err := f.write(name, os.O_WRONLY|os.O_APPEND, 0, data)
	return err
}

func (f *sftpFiles) Replace(from, to string) error {
	return f.op(opBytes, func() error { return f.sftp.PosixRename(from, to) })
}

func (f *sftpFiles) Remove(name string) error {
	return f.op(opBytes, func() error { return f.sftp.Remove(name) })
}

// mkdir, chmod, chown and rmdir are for what a rescue makes beneath a mount.
func (f *sftpFiles) mkdir(name string) error {
	return f.op(opBytes, func() error { return f.sftp.Mkdir(name) })
}

func (f *sftpFiles) chmod(name string, mode fs.FileMode) error {
	return f.op(opBytes, func() error { return f.sftp.Chmod(name, mode) })
}

func (f *sftpFiles) chown(name string, uid, gid int) error {
	return f.op(opBytes, func() error { return f.sftp.Chown(name, uid, gid) })
}

func (f *sftpFiles) rmdir(name string) error {
	return f.op(opBytes, func() error { return f.sftp.RemoveDirectory(name) })
}

// parents returns every folder on the way from a path up to the home, the nearest first.
func parents(name string) []string {
	var out []string
	for dir := path.Dir(name); ; dir = path.Dir(dir) {
		out = append(out, dir)
		if dir == "." || dir == "/" || !strings.Contains(dir, "/") {
			if dir != "." && !path.IsAbs(name) {
				out = append(out, ".")
			}
			return out
		}
	}
}

// maxText is as much as is read of a file that is no keys file, in bytes.
const maxText = 256 << 10

// oneRead is what one SFTP request reads for sure, in bytes.
const oneRead = 32 << 10

// ReadText reads the first 256 KiB of a file of an instance as text.
func ReadText(files Files, name string) (string, error) {
	f, err := files.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	// A server gives less than was asked for at the end of a file alone: a small one is one request.
	data := make([]byte, oneRead)
	n, err := f.Read(data)
	if errors.Is(err, io.EOF) || err == nil && n < oneRead {
		return string(data[:n]), nil
	}
	if err != nil {
		return "", err
	}
	rest, err := io.ReadAll(io.LimitReader(f, maxText-int64(n)))
	return string(data[:n]) + string(rest), err
}
