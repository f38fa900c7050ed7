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
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
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
var ErrNotSupported = errors.New("the SFTP server lacks posix-rename@openssh.com or fsync@openssh.com, without which a file cannot be replaced safely")

// sftpFiles is the way of the steward: SFTP, as OpenSSH's server speaks it.
type sftpFiles struct {
	sftp   *sftp.Client
	uid    int
	banner string    // of the server; "" if it is not known
	home   *FileInfo // as it was when the way was opened
}

// enterTimeout is the most that getting in may take.
const enterTimeout = 15 * time.Second

var errInTime = errors.New("the server did not answer in time")

// SFTP opens the way over SFTP with a signer (the steward's). The context
// bounds connecting, and ends everything when it ends. Close the returned
// closer. ErrNotSupported if a safe edit is not possible by this server.
func SFTP(ctx context.Context, p Policy, t Target, signer ssh.Signer) (Files, io.Closer, error) {
	// One context for the whole: a connection to a jump host on the way ends with it.
	ctx, cancel := context.WithCancel(ctx)
	late := time.AfterFunc(enterTimeout, cancel)
	conn, err := p.dial(ctx, t)
	if err != nil {
		if ctx.Err() != nil {
			err = errInTime
		}
		late.Stop()
		cancel()
		return nil, nil, dialError(err)
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	client, err := sshClient(conn, t, signer)
	if !late.Stop() || err != nil {
		if ctx.Err() != nil {
			err = errInTime
		}
		cancel()
		conn.Close()
		return nil, nil, dialError(err)
	}
	f, end, err := OverSSH(client)
	if err != nil {
		stop()
		cancel()
		client.Close()
		return nil, nil, err
	}
	f.(*sftpFiles).banner = string(client.ServerVersion())
	return f, closer(func() error {
		stop()
		defer cancel()
		return errors.Join(end.Close(), client.Close())
	}), nil
}

// OverSSH opens the way over a connection that is logged in already: the
// engineer's own. ErrNotSupported.
func OverSSH(client *ssh.Client) (Files, io.Closer, error) {
	s, err := sftp.NewClient(client)
	if err != nil {
		return nil, nil, fmt.Errorf("SFTP: %w", err)
	}
	f, end, err := over(s)
	if err != nil {
		return nil, nil, err
	}
	return f, end, nil
}

// OverCommand opens the way over a command that speaks SFTP on its standard
// input and output: an SFTP server that sudo runs as root. ErrNotSupported.
func OverCommand(client *ssh.Client, command string) (Files, io.Closer, error) {
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
		session.Close()
		return nil, nil, err
	}
	s, err := sftp.NewClientPipe(out, in)
	if err != nil {
		session.Close()
		return nil, nil, fmt.Errorf("SFTP: %w", err)
	}
	f, end, err := over(s)
	if err != nil {
		session.Close()
		return nil, nil, err
	}
	f.uid = 0 // it began in somebody's home, which is not its own
	return f, closer(func() error { return errors.Join(end.Close(), session.Close()) }), nil
}

func over(s *sftp.Client) (*sftpFiles, io.Closer, error) {
	for _, ext := range []string{"posix-rename@openssh.com", "fsync@openssh.com"} {
		if _, ok := s.HasExtension(ext); !ok {
			return nil, nil, errors.Join(ErrNotSupported, s.Close())
		}
	}
	f := &sftpFiles{sftp: s, uid: -1}
	// Whoever owns the home is whom we act as: SFTP has no other way to ask.
	if home, err := f.Lstat("."); err == nil {
		f.uid, f.home = home.Owner, &home
	}
	return f, s, nil
}

// Login logs in with one of the signers, over a connection that dial opens, to
// a server that must show one of the pinned host keys. The context ends the
// connection; getting in is bounded by limit.
func Login(ctx context.Context, dial func(context.Context) (net.Conn, error), t Target, signers []ssh.Signer, limit time.Duration) (*ssh.Client, error) {
	return LoginBy(ctx, dial, t, []ssh.AuthMethod{ssh.PublicKeys(signers...)}, limit)
}

// LoginBy is Login by other methods: a password that the engineer types.
func LoginBy(ctx context.Context, dial func(context.Context) (net.Conn, error), t Target, by []ssh.AuthMethod, limit time.Duration) (*ssh.Client, error) {
	in, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	conn, err := dial(in)
	if err != nil {
		return nil, dialError(err)
	}
	stop := context.AfterFunc(in, func() { conn.Close() })
	client, err := sshClientBy(conn, t, by)
	if !stop() || err != nil {
		conn.Close()
		if in.Err() != nil {
			return nil, errors.New("the server did not let anybody in in time")
		}
		return nil, dialError(err)
	}
	context.AfterFunc(ctx, func() { client.Close() })
	return client, nil
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

func sshClient(conn net.Conn, t Target, signers ...ssh.Signer) (*ssh.Client, error) {
	return sshClientBy(conn, t, []ssh.AuthMethod{ssh.PublicKeys(signers...)})
}

func sshClientBy(conn net.Conn, t Target, by []ssh.AuthMethod) (*ssh.Client, error) {
	c, channels, requests, err := ssh.NewClientConn(conn, t.Address, &ssh.ClientConfig{
		Config: ssh.Config{KeyExchanges: stewardKex},
		User:   t.User, ClientVersion: "SSH-2.0-plumlatch-steward", Auth: by,
		HostKeyCallback: pinned(t.HostKeys), HostKeyAlgorithms: algorithms(t.HostKeys),
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

func (f *sftpFiles) ReadDir(name string, limit int) ([]string, map[string]FileInfo, error) {
	entries, err := f.sftp.ReadDir(name)
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

func (f *sftpFiles) RealPath(name string) (string, error) { return f.sftp.RealPath(name) }

func (f *sftpFiles) Lstat(name string) (FileInfo, error) {
	fi, err := f.sftp.Lstat(name)
	if err != nil {
		return FileInfo{}, err
	}
	return describe(fi), nil
}

func describe(fi fs.FileInfo) FileInfo {
	out := FileInfo{Mode: fi.Mode(), Size: fi.Size(), Owner: -1, Modified: fi.ModTime()}
	if s, ok := fi.Sys().(*sftp.FileStat); ok {
		out.Owner = int(s.UID)
	}
	return out
}

func (f *sftpFiles) Open(name string) (io.ReadSeekCloser, error) { return f.sftp.Open(name) }

func (f *sftpFiles) write(name string, flags int, mode fs.FileMode, data []byte) error {
	file, err := f.sftp.OpenFile(name, flags)
	if err != nil {
		return err
	}
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
}

func (f *sftpFiles) Create(name string, mode fs.FileMode, data []byte) error {
	err := f.write(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode, data)
	if err != nil && !errors.Is(err, fs.ErrExist) {
		_ = f.sftp.Remove(name) // half of a file is worth nothing
	}
	return err
}

// maxOneWrite is what one SFTP packet carries for sure.
const maxOneWrite = 32 << 10

func (f *sftpFiles) Append(name string, data []byte) error {
	if len(data) > maxOneWrite {
		return fmt.Errorf("%d bytes do not go into one write", len(data))
	}
	return f.write(name, os.O_WRONLY|os.O_APPEND, 0, data)
}

func (f *sftpFiles) Replace(from, to string) error { return f.sftp.PosixRename(from, to) }

func (f *sftpFiles) Remove(name string) error { return f.sftp.Remove(name) }

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
