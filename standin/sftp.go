package standin

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"plumlatch/standin/tree"
)

// sftp serves SFTP (draft-ietf-secsh-filexfer-02, version 3) over the disk, as
// OpenSSH's server does: a plain rename does not overwrite, and there are
// posix-rename@openssh.com and fsync@openssh.com.
func (s *server) sftp(user string, ch ssh.Channel) int {
	a, ok := s.lookup(user)
	if !ok {
		return 1
	}
	return s.serveSFTP(a, ch)
}

// serveSFTP speaks SFTP for an account; root's has every file.
func (s *server) serveSFTP(a account, ch ssh.Channel) int {
	d := &disk{root: s.tree, home: "/" + a.home, odds: &s.odds}
	filter := &fsyncFilter{Channel: ch, sync: d.syncAll}
	server := sftp.NewRequestServer(filter, sftp.Handlers{FileGet: d, FilePut: d, FileCmd: d, FileList: d},
		sftp.WithStartDirectory(d.home))
	err := server.Serve() // and no Close, which would close the channel before the exit status
	// The client's end of file is the ordinary end, also with a handle still
	// open, for which the library has another word.
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
		return 1
	}
	return 0
}

type disk struct {
	root *tree.Tree
	home string
	odds *odds

	mu   sync.Mutex
	open []*os.File
}

func (d *disk) path(p string) string {
	if p = strings.TrimPrefix(path.Clean("/"+p), "/"); p == "" {
		return "."
	}
	return p
}

// syncAll flushes every file that the session holds open.
func (d *disk) syncAll() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	var err error
	for _, f := range d.open {
		if e := f.Sync(); !errors.Is(e, os.ErrClosed) {
			err = errors.Join(err, e)
		}
	}
	return err
}

func (d *disk) openFile(r *sftp.Request, flag int) (*os.File, error) {
	mode := fs.FileMode(0o666)
	// The library drops the word that says which attributes an open carries;
	// four bytes can only be permissions, which is what OpenSSH's client sends.
	if len(r.Attrs) == 4 {
		mode = fs.FileMode(binary.BigEndian.Uint32(r.Attrs)) & fs.ModePerm
	}
	f, err := d.root.OpenFile(d.path(r.Filepath), flag, mode)
	if err != nil {
		return nil, err
	}
	d.mu.Lock()
	d.open = append(d.open, f)
	d.mu.Unlock()
	return f, nil
}

// Fileread opens for reading.
func (d *disk) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	return d.openFile(r, os.O_RDONLY)
}

func (d *disk) writeFlags(r *sftp.Request) int {
	p := r.Pflags()
	flag := os.O_WRONLY
	if p.Read {
		flag = os.O_RDWR
	}
	for _, f := range []struct {
		on  bool
		bit int
	}{{p.Creat, os.O_CREATE}, {p.Trunc, os.O_TRUNC}, {p.Excl, os.O_EXCL}} {
		if f.on {
			flag |= f.bit
		}
	}
	return flag
}

// Filewrite opens for writing. With the append flag every write goes to the
// end, whatever its offset says, as with O_APPEND.
func (d *disk) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	return d.OpenFile(r)
}

// OpenFile opens for reading and writing.
func (d *disk) OpenFile(r *sftp.Request) (sftp.WriterAtReaderAt, error) {
	flags := d.writeFlags(r)
	if r.Pflags().Append {
		flags |= os.O_APPEND
	}
	var f *os.File
	open := func() (err error) {
		f, err = d.openFile(r, flags)
		return err
	}
	var err error
	if flags&(os.O_CREATE|os.O_TRUNC) != 0 {
		err = d.change(true, open)
	} else {
		err = open()
	}
	if err != nil {
		return nil, err
	}
	if r.Pflags().Append {
		return written{&appender{f}, d}, nil
	}
	return written{f, d}, nil
}

type appender struct{ *os.File }

func (a *appender) WriteAt(p []byte, _ int64) (int, error) { return a.Write(p) }

// Filecmd does what is neither reading nor writing.
func (d *disk) Filecmd(r *sftp.Request) error {
	makes := r.Method != "Rmdir" && r.Method != "Remove" && r.Method != "Setstat"
	return d.change(makes, func() error { return d.filecmd(r) })
}

func (d *disk) filecmd(r *sftp.Request) error {
	p := d.path(r.Filepath)
	switch r.Method {
	case "Setstat":
		a, f := r.Attributes(), r.AttrFlags()
		if f.Permissions {
			if err := d.root.Chmod(p, a.FileMode().Perm()); err != nil {
				return err
			}
		}
		if f.Size {
			file, err := d.root.OpenFile(p, os.O_WRONLY, 0)
			if err != nil {
				return err
			}
			if err := errors.Join(file.Truncate(int64(a.Size)), file.Close()); err != nil {
				return err
			}
		}
		if f.Acmodtime {
			return d.root.Chtimes(p, time.Unix(int64(a.Atime), 0), time.Unix(int64(a.Mtime), 0))
		}
		return nil // an owner is taken as given: the disk has one real owner
	case "Rename":
		// OpenSSH links and unlinks, so an existing target is a failure.
		if _, err := d.root.Lstat(d.path(r.Target)); err == nil {
			return sftp.ErrSSHFxFailure
		}
		return d.root.Rename(p, d.path(r.Target))
	case "Rmdir", "Remove":
		fi, err := d.root.Lstat(p)
		if err != nil {
			return err
		}
		if fi.IsDir() != (r.Method == "Rmdir") {
			return sftp.ErrSSHFxFailure
		}
		return d.root.Remove(p)
	case "Mkdir":
		return d.root.Mkdir(p, 0o755)
	case "Link":
		return d.root.Link(p, d.path(r.Target))
	case "Symlink":
		return d.root.Symlink(r.Filepath, d.path(r.Target))
	}
	return sftp.ErrSSHFxOpUnsupported
}

// PosixRename is posix-rename@openssh.com: it overwrites.
func (d *disk) PosixRename(r *sftp.Request) error {
	return d.change(false, func() error { return d.root.Rename(d.path(r.Filepath), d.path(r.Target)) })
}

type infos []fs.FileInfo

func (l infos) ListAt(out []fs.FileInfo, at int64) (int, error) {
	if at >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(out, l[at:])
	if n < len(out) {
		return n, io.EOF
	}
	return n, nil
}

// Filelist lists and describes.
func (d *disk) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	switch r.Method {
	case "List":
		f, err := d.root.Open(d.path(r.Filepath))
		if err != nil {
			return nil, err
		}
		defer f.Close()
		all, err := f.Readdir(-1)
		for n := range all {
			all[n] = d.described(path.Join(r.Filepath, all[n].Name()), all[n])
		}
		return infos(all), err
	case "Stat":
		fi, err := d.root.Stat(d.path(r.Filepath))
		return infos{d.described(r.Filepath, fi)}, err
	}
	return nil, sftp.ErrSSHFxOpUnsupported
}

// Lstat describes a path without following a link.
func (d *disk) Lstat(r *sftp.Request) (sftp.ListerAt, error) {
	fi, err := d.root.Lstat(d.path(r.Filepath))
	return infos{d.described(r.Filepath, fi)}, err
}

// described is a file's description, by the instance's clock and its users.
func (d *disk) described(name string, fi fs.FileInfo) fs.FileInfo {
	if fi == nil {
		return nil
	}
	uid, _ := d.root.OwnerOf(d.path(name))
	return described{fi, d.odds.ahead(), uint32(uid)}
}

// Readlink returns where a link points.
func (d *disk) Readlink(p string) (string, error) { return d.root.Readlink(d.path(p)) }

// RealPath makes a path absolute, from the user's home.
func (d *disk) RealPath(p string) (string, error) {
	if !path.IsAbs(p) {
		p = path.Join(d.home, p)
	}
	return path.Clean(p), nil
}

// SFTP packet types and codes (draft-ietf-secsh-filexfer-02 sections 3 and 7).
const (
	sftpVersion    = 2
	sftpStatus     = 101
	sftpExtended   = 200
	sftpStatusOK   = 0
	sftpStatusFail = 4

	maxSFTPPacket = 1 << 18
	fsyncName     = "fsync@openssh.com"
)

// fsyncFilter stands between the channel and the SFTP library, which knows no
// fsync@openssh.com: it announces the extension and answers its requests.
type fsyncFilter struct {
	ssh.Channel
	sync func() error

	in     bytes.Buffer // whole packets for the library
	out    bytes.Buffer // what the library has written of a packet not yet whole
	write  sync.Mutex
	passed bool // the version packet has gone out
}

// Read hands the library whole packets, and keeps those for fsync.
func (f *fsyncFilter) Read(p []byte) (int, error) {
	for f.in.Len() == 0 {
		packet, err := readPacket(f.Channel)
		if err != nil {
			return 0, err
		}
		body := packet[4:]
		if id, name, ok := extended(body); ok && name == fsyncName {
			code := uint32(sftpStatusOK)
			if f.sync() != nil {
				code = sftpStatusFail
			}
			f.write.Lock()
			_, err := f.Channel.Write(statusPacket(id, code))
			f.write.Unlock()
			if err != nil {
				return 0, err
			}
			continue
		}
		f.in.Write(packet)
	}
	return f.in.Read(p)
}

// Write sends whole packets on, and adds fsync to the announced extensions.
func (f *fsyncFilter) Write(p []byte) (int, error) {
	f.write.Lock()
	defer f.write.Unlock()
	f.out.Write(p)
	for f.out.Len() >= 4 {
		n := int(binary.BigEndian.Uint32(f.out.Bytes())) + 4
		if f.out.Len() < n {
			break
		}
		packet := append([]byte(nil), f.out.Next(n)...)
		if !f.passed && n > 4 && packet[4] == sftpVersion {
			packet = appendString(appendString(packet, fsyncName), "1")
			binary.BigEndian.PutUint32(packet, uint32(len(packet)-4))
			f.passed = true
		}
		if _, err := f.Channel.Write(packet); err != nil {
			return 0, err
		}
	}
	return len(p), nil
}

func readPacket(r io.Reader) ([]byte, error) {
	head := make([]byte, 4)
	if _, err := io.ReadFull(r, head); err != nil {
		return nil, err
	}
	n := binary.BigEndian.Uint32(head)
	if n == 0 || n > maxSFTPPacket {
		return nil, errors.New("SFTP packet of a bad length")
	}
	packet := append(head, make([]byte, n)...)
	_, err := io.ReadFull(r, packet[4:])
	return packet, err
}

// extended reads the ID and the name of an SSH_FXP_EXTENDED request.
func extended(body []byte) (id uint32, name string, ok bool) {
	if len(body) < 9 || body[0] != sftpExtended {
		return 0, "", false
	}
	n := binary.BigEndian.Uint32(body[5:])
	if uint64(n) > uint64(len(body)-9) {
		return 0, "", false
	}
	return binary.BigEndian.Uint32(body[1:]), string(body[9 : 9+n]), true
}

func appendString(b []byte, s string) []byte {
	return append(binary.BigEndian.AppendUint32(b, uint32(len(s))), s...)
}

func statusPacket(id, code uint32) []byte {
	b := binary.BigEndian.AppendUint32([]byte{sftpStatus}, id)
	b = binary.BigEndian.AppendUint32(b, code)
	b = appendString(appendString(b, map[uint32]string{sftpStatusOK: "Success", sftpStatusFail: "Failure"}[code]), "")
	return append(binary.BigEndian.AppendUint32(nil, uint32(len(b))), b...)
}
