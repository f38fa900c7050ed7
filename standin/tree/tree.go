// Package tree is the file tree of a stand-in instance: its root volume, and the
// volumes that are mounted on it. Every name is looked up beneath the folder of a
// volume by os.Root, so that nothing leaves those.
package tree

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Mount is a volume's filesystem that is mounted somewhere.
type Mount struct {
	At      string // from the root, without a leading slash
	Device  string // such as /dev/vdb1
	Type    string // such as ext4
	UUID    string
	Options []string
	Root    *os.Root
	Full    bool // nothing more can be written
	// Apart is a folder of it, such as home, that lies on another filesystem: here
	// it is Hollow, an empty one.
	Apart  string
	Hollow *os.Root
	// Names has the etc/passwd that tells whose this is, for a filesystem that lies
	// at Below there; nil for one that has its own.
	Names *os.Root
	Below string
}

func (m Mount) close() error {
	for _, r := range []*os.Root{m.Hollow, m.Names} {
		if r != nil {
			r.Close()
		}
	}
	return m.Root.Close()
}

func (m Mount) readOnly() bool { return slices.Contains(m.Options, "ro") }

// Tree is a root volume with what is mounted on it. Names are relative to the
// root, as os.Root takes them.
type Tree struct {
	root *os.Root

	mu     sync.RWMutex
	mounts []Mount
}

// New returns the tree of a root volume.
func New(root *os.Root) *Tree { return &Tree{root: root} }

// Mount mounts a filesystem on a folder, or closes it. The latest stands in front.
func (t *Tree) Mount(m Mount) error {
	fi, err := t.Stat(m.At)
	if err != nil {
		m.close()
		return err
	}
	if !fi.IsDir() || m.At == "." {
		m.close()
		return &fs.PathError{Op: "mount", Path: "/" + m.At, Err: syscall.ENOTDIR}
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.mounts = append(t.mounts, m)
	return nil
}

// Unmount takes away the latest mount at a folder, or of a device.
func (t *Tree) Unmount(what string) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	for n := len(t.mounts) - 1; n >= 0; n-- {
		m := t.mounts[n]
		if "/"+m.At != what && m.Device != what {
			continue
		}
		for _, other := range t.mounts[n+1:] {
			if strings.HasPrefix(other.At, m.At+"/") {
				return &fs.PathError{Op: "umount", Path: what, Err: syscall.EBUSY}
			}
		}
		t.mounts = slices.Delete(t.mounts, n, n+1)
		return m.close()
	}
	return &fs.PathError{Op: "umount", Path: what, Err: errors.New("not mounted")}
}

// Pull takes away every mount of the devices whose names begin so, as when a disk is pulled.
func (t *Tree) Pull(device string) (mounted bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.mounts = slices.DeleteFunc(t.mounts, func(m Mount) bool {
		hit := strings.HasPrefix(m.Device, device)
		if hit {
			mounted = true
			m.close()
		}
		return hit
	})
	return mounted
}

// Mounts returns what is mounted.
func (t *Tree) Mounts() []Mount {
	t.mu.RLock()
	defer t.mu.RUnlock()
	return slices.Clone(t.mounts)
}

// at finds the volume that a name lies on, and its name there.
func (t *Tree) at(name string) (Mount, string) {
	t.mu.RLock()
	defer t.mu.RUnlock()
	name = path.Clean(name)
	for n := len(t.mounts) - 1; n >= 0; n-- {
		m := t.mounts[n]
		if name == m.At {
			return m, "."
		}
		rest, ok := strings.CutPrefix(name, m.At+"/")
		if !ok {
			continue
		}
		if in, ok := strings.CutPrefix(rest+"/", m.Apart+"/"); ok && m.Hollow != nil {
			m.Root = m.Hollow
			return m, path.Clean("./" + in)
		}
		return m, rest
	}
	return Mount{Root: t.root}, name
}

// change does something to a name, unless its volume is mounted read-only.
func (t *Tree) change(name string, f func(*os.Root, string) error) error {
	m, rest := t.at(name)
	if m.readOnly() {
		return &fs.PathError{Op: "change", Path: name, Err: syscall.EROFS}
	}
	return f(m.Root, rest)
}

// OpenFile is os.Root's.
func (t *Tree) OpenFile(name string, flag int, mode fs.FileMode) (*os.File, error) {
	m, rest := t.at(name)
	if writes := flag&(os.O_WRONLY|os.O_RDWR|os.O_CREATE|os.O_TRUNC|os.O_APPEND) != 0; writes && m.readOnly() {
		return nil, &fs.PathError{Op: "open", Path: name, Err: syscall.EROFS}
	} else if writes && m.Full {
		return nil, &fs.PathError{Op: "open", Path: name, Err: syscall.ENOSPC}
	}
	return m.Root.OpenFile(rest, flag, mode)
}

// Open is os.Root's.
func (t *Tree) Open(name string) (*os.File, error) { return t.OpenFile(name, os.O_RDONLY, 0) }

// Stat is os.Root's.
func (t *Tree) Stat(name string) (fs.FileInfo, error) {
	m, rest := t.at(name)
	return m.Root.Stat(rest)
}

// Lstat is os.Root's.
func (t *Tree) Lstat(name string) (fs.FileInfo, error) {
	m, rest := t.at(name)
	return m.Root.Lstat(rest)
}

// ReadFile is os.Root's.
func (t *Tree) ReadFile(name string) ([]byte, error) {
	m, rest := t.at(name)
	return m.Root.ReadFile(rest)
}

// Readlink is os.Root's.
func (t *Tree) Readlink(name string) (string, error) {
	m, rest := t.at(name)
	return m.Root.Readlink(rest)
}

// WriteFile is os.Root's.
func (t *Tree) WriteFile(name string, data []byte, mode fs.FileMode) error {
	return t.change(name, func(r *os.Root, n string) error { return r.WriteFile(n, data, mode) })
}

// Mkdir is os.Root's.
func (t *Tree) Mkdir(name string, mode fs.FileMode) error {
	return t.change(name, func(r *os.Root, n string) error { return r.Mkdir(n, mode) })
}

// MkdirAll is os.Root's.
func (t *Tree) MkdirAll(name string, mode fs.FileMode) error {
	return t.change(name, func(r *os.Root, n string) error { return r.MkdirAll(n, mode) })
}

// Remove is os.Root's.
func (t *Tree) Remove(name string) error {
	return t.change(name, func(r *os.Root, n string) error { return r.Remove(n) })
}

// RemoveAll is os.Root's.
func (t *Tree) RemoveAll(name string) error {
	return t.change(name, func(r *os.Root, n string) error { return r.RemoveAll(n) })
}

// Chmod is os.Root's.
func (t *Tree) Chmod(name string, mode fs.FileMode) error {
	return t.change(name, func(r *os.Root, n string) error { return r.Chmod(n, mode) })
}

// Chtimes is os.Root's.
func (t *Tree) Chtimes(name string, accessed, modified time.Time) error {
	return t.change(name, func(r *os.Root, n string) error { return r.Chtimes(n, accessed, modified) })
}

// Symlink is os.Root's.
func (t *Tree) Symlink(target, name string) error {
	return t.change(name, func(r *os.Root, n string) error { return r.Symlink(target, n) })
}

// Rename is os.Root's, within one volume.
func (t *Tree) Rename(from, to string) error { return t.pair("rename", from, to, (*os.Root).Rename) }

// Link is os.Root's, within one volume.
func (t *Tree) Link(from, to string) error { return t.pair("link", from, to, (*os.Root).Link) }

func (t *Tree) pair(what, from, to string, f func(*os.Root, string, string) error) error {
	m, a := t.at(from)
	other, b := t.at(to)
	if m.Root != other.Root {
		return &os.LinkError{Op: what, Old: from, New: to, Err: syscall.EXDEV}
	}
	return t.change(from, func(r *os.Root, _ string) error { return f(r, a, b) })
}

// OwnerOf tells whose a name is: on a stand-in's disk a user owns what is in the
// home that etc/passwd of the same volume gives, and root the rest.
func (t *Tree) OwnerOf(name string) (uid int, user string) {
	m, rest := t.at(name)
	names := m.Root
	if m.Names != nil {
		names, rest = m.Names, path.Join(m.Below, rest)
	}
	passwd, err := names.ReadFile("etc/passwd")
	if err != nil {
		return 0, "root"
	}
	return OwnerIn(string(passwd), rest)
}

// OwnerIn is OwnerOf by the text of a passwd file.
func OwnerIn(passwd, name string) (uid int, user string) {
	for line := range strings.Lines(passwd) {
		f := strings.Split(strings.TrimSpace(line), ":")
		if len(f) != 7 {
			continue
		}
		home := strings.TrimPrefix(path.Clean(f[5]), "/")
		if home == name || strings.HasPrefix(name, home+"/") {
			n := 0
			for _, c := range f[2] {
				n = n*10 + int(c-'0')
			}
			return n, f[0]
		}
	}
	return 0, "root"
}
