package reach

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/rotation"
	"plumlatch/core/routes"
	"plumlatch/core/sshdconfig"
)

// Beneath is a volume that is mounted on a rescue instance, of which the login
// user's files are edited: the owner and the modes as sshd wants them, following
// no link, running nothing that is on it.
type Beneath struct {
	Files Files  // root's
	Mount string // where it is mounted
}

// Added is what an addition beneath a mount made, for taking it back.
type Added struct {
	File    string                 `json:"file"` // beneath the mount, from its root
	Lines   []string               `json:"lines"`
	MadeDir bool                   `json:"made_dir,omitempty"`
	Made    bool                   `json:"made,omitempty"`  // the file
	Modes   map[string]fs.FileMode `json:"modes,omitempty"` // that were too wide, before
	Relabel bool                   `json:"relabel,omitempty"`
}

// ownedFiles are root's files, made for somebody else.
type ownedFiles struct {
	Files
	uid, gid int
}

// Whoami is whom the files are for.
func (o ownedFiles) Whoami() int { return o.uid }

// Create makes a file and gives it away.
func (o ownedFiles) Create(name string, mode fs.FileMode, data []byte) error {
	if err := o.Files.Create(name, mode, data); err != nil {
		return err
	}
	s, ok := o.Files.(*sftpFiles)
	if !ok {
		return nil
	}
	if err := s.chown(name, o.uid, o.gid); err != nil {
		return errors.Join(err, o.Files.Remove(name))
	}
	return nil
}

// plainWay refuses a path beneath the mount with a symbolic link on it: whoever
// filled the disk may have planted one that leads out of it.
func (b Beneath) plainWay(name string) error {
	at := b.Mount
	for part := range strings.SplitSeq(strings.Trim(path.Clean("/"+name), "/"), "/") {
		at = path.Join(at, part)
		fi, err := b.Files.Lstat(at)
		if err != nil {
			return fmt.Errorf("%s: %w", strings.TrimPrefix(at, b.Mount), missing(err))
		}
		if fi.Mode&fs.ModeSymlink != 0 {
			return fmt.Errorf("%s: %w", strings.TrimPrefix(at, b.Mount), ErrLink)
		}
	}
	return nil
}

// Describe tells what a name of the volume is, following no link on the way to it.
func (b Beneath) Describe(name string) (FileInfo, error) {
	if dir := path.Dir(path.Clean("/" + name)); dir != "/" {
		if err := b.plainWay(dir); err != nil {
			return FileInfo{}, err
		}
	}
	return b.Files.Lstat(path.Join(b.Mount, path.Clean("/"+name)))
}

// Read reads a file of the volume, following no link. ErrMissing.
func (b Beneath) Read(name string) (string, error) {
	if err := b.plainWay(name); err != nil {
		return "", err
	}
	file, err := b.Files.Open(path.Join(b.Mount, path.Clean("/"+name)))
	if err != nil {
		return "", missing(err)
	}
	defer file.Close()
	data, err := readBounded(file, 1<<20)
	return string(data), err
}

// HostKeys reads the public halves of the volume's own host keys: those that its sshd_config names, or those
// that sshd has by default (sshd_config(5), HostKey). A file that is not there, or is no public key, is passed over.
func (b Beneath) HostKeys() (out []keypair.Public) {
	files := []string{"/etc/ssh/ssh_host_ed25519_key", "/etc/ssh/ssh_host_ecdsa_key", "/etc/ssh/ssh_host_rsa_key"}
	config := sshdconfig.Read("/etc/ssh/sshd_config", func(file string) (string, bool) {
		text, err := b.Read(file)
		return text, err == nil
	}, b.glob)
	if named := config.All("HostKey"); len(named) > 0 {
		files = nil
		for _, s := range named[:min(len(named), 20)] {
			files = append(files, s.Value)
		}
	}
	for _, file := range files {
		if !path.IsAbs(file) {
			continue
		}
		text, err := b.Read(strings.TrimSuffix(file, ".pub") + ".pub") // never the private half
		if err != nil {
			continue
		}
		if p, err := keypair.ReadPublic([]byte(text)); err == nil {
			out = append(out, p)
		}
	}
	return out
}

// glob returns the files of one folder of the volume that a pattern stands for.
func (b Beneath) glob(pattern string) (out []string) {
	dir := path.Dir(path.Clean(pattern))
	if b.plainWay(dir) != nil {
		return nil
	}
	all, _, err := b.Files.ReadDir(path.Join(b.Mount, dir), 1000)
	if err != nil {
		return nil
	}
	for _, name := range all {
		if fits, err := path.Match(path.Base(pattern), name); err == nil && fits {
			out = append(out, path.Join(dir, name))
		}
	}
	return out
}

// Plan looks what an addition would have to make: file is a name that the server
// reads for the user, relative to the home or from the root. Nothing is changed.
func (b Beneath) Plan(a routes.Account, file string, lines []string) (Added, error) {
	out := Added{File: file, Lines: lines, Modes: map[string]fs.FileMode{}}
	if !path.IsAbs(file) {
		out.File = path.Join(a.Home, file)
	}
	home := a.Home
	if path.IsAbs(file) {
		home = path.Dir(out.File)
	}
	if err := b.plainWay(home); err != nil {
		return out, err
	}
	dir := path.Dir(out.File)
	err := b.plainWay(dir)
	switch {
	case errors.Is(err, ErrMissing) && path.Dir(dir) == home:
		out.MadeDir, out.Made = true, true
		return out, b.modes(&out, home)
	case err != nil:
		return out, err
	}
	if err := b.plainWay(out.File); errors.Is(err, ErrMissing) {
		out.Made = true
	} else if err != nil {
		return out, err
	} else if err := b.missing(&out); err != nil {
		return out, err
	}
	return out, b.modes(&out, home)
}

// missing leaves out what stands there already: it is not ours to take back.
func (b Beneath) missing(a *Added) error {
	data, err := ReadKeys(b.Files, path.Join(b.Mount, a.File))
	if err != nil {
		return err
	}
	there := authkeys.Parse(data, time.UTC)
	var lines []string
	for _, line := range a.Lines {
		for _, want := range authkeys.Parse([]byte(line), time.UTC) {
			if !slices.ContainsFunc(there, func(l authkeys.Line) bool {
				return l.Err == nil && bytes.Equal(l.Blob, want.Blob) && l.Options.Text == want.Options.Text
			}) {
				lines = append(lines, line)
			}
		}
	}
	a.Lines = lines
	return nil
}

// modes notes what is writable by others: sshd ignores a file for that (sshd(8),
// StrictModes).
func (b Beneath) modes(a *Added, home string) error {
	for at := a.File; ; at = path.Dir(at) {
		fi, err := b.Files.Lstat(path.Join(b.Mount, at))
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return err
		case fi.Mode.Perm()&0o022 != 0:
			a.Modes[at] = fi.Mode.Perm()
		}
		if at == home || at == "/" {
			return nil
		}
	}
}

// Add adds the lines that are not there yet, by appending; what is missing is
// made as sshd wants it. Doing it twice is harmless. Labels of SELinux: a file
// that was made gets that of its folder, or the volume is relabelled at its next
// boot, where there is no neighbour to go by. ErrNotMounted.
func (b Beneath) Add(ctx context.Context, r *Rescue, acct routes.Account, a Added, now time.Time) error {
	s, ok := b.Files.(*sftpFiles)
	if !ok {
		return ErrNotSupported
	}
	if _, _, err := r.mounted(ctx, b.Mount); err != nil {
		return err // the rescue instance was booted meanwhile: these would be files of its own
	}
	own := ownedFiles{b.Files, acct.UID, acct.GID}
	full, dir := path.Join(b.Mount, a.File), path.Join(b.Mount, path.Dir(a.File))
	if a.MadeDir {
		if err := s.mkdir(dir); err != nil {
			if _, e := b.Files.Lstat(dir); e != nil {
				return fmt.Errorf("%s: %w", path.Dir(a.File), err)
			}
		}
		if err := errors.Join(s.chmod(dir, 0o700), s.chown(dir, acct.UID, acct.GID)); err != nil {
			return err
		}
	}
	for name, mode := range a.Modes {
		if err := s.chmod(path.Join(b.Mount, name), mode&^0o022); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	if a.Made {
		if err := own.Create(full, 0o600, nil); err != nil && !errors.Is(err, fs.ErrExist) {
			if _, e := b.Files.Lstat(full); e != nil {
				return fmt.Errorf("%s: %w", a.File, err)
			}
		}
		if a.Relabel {
			if err := b.label(ctx, r, a, dir, full); err != nil {
				return err
			}
		}
	}
	if err := b.plainWay(a.File); err != nil { // once more, just before
		return err
	}
	for n, line := range a.Lines {
		data, err := ReadKeys(b.Files, full)
		if err != nil {
			return err
		}
		if authkeys.ParseDocument(data).Has(line) {
			continue
		}
		fi, err := b.Files.Lstat(full)
		if err != nil {
			return err
		}
		// which names the copy
		if _, err := AddLine(ownedFiles{b.Files, fi.Owner, acct.GID}, full, line,
			now.Add(time.Duration(n))); err != nil {
			return err
		}
	}
	return nil
}

// SELinux tells whether the system on the volume uses labels (selinux(8)).
func (b Beneath) SELinux() bool {
	text, err := b.Read("/etc/selinux/config")
	for line := range strings.Lines(text) {
		word, value, _ := strings.Cut(strings.TrimSpace(line), "=")
		if word == "SELINUX" {
			return err == nil && value != "disabled"
		}
	}
	return false
}

func (b Beneath) label(ctx context.Context, r *Rescue, a Added, dir, full string) error {
	if !a.MadeDir && safePath.MatchString(dir) && safePath.MatchString(full) {
		if _, err := r.run(ctx, "chcon --no-dereference --reference="+dir+" "+full); err == nil {
			return nil
		}
	}
	err := b.Files.Create(path.Join(b.Mount, ".autorelabel"), 0o644, nil)
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	return err
}

// TakeBack takes back what Add did, as far as it still stands. ErrNotMounted: it says nothing of the volume.
func (b Beneath) TakeBack(ctx context.Context, r *Rescue, acct routes.Account, a Added, now time.Time) error {
	s, ok := b.Files.(*sftpFiles)
	if !ok {
		return ErrNotSupported
	}
	if _, _, err := r.mounted(ctx, b.Mount); err != nil {
		return err
	}
	full := path.Join(b.Mount, a.File)
	if err := b.plainWay(a.File); errors.Is(err, ErrMissing) {
		return b.modesBack(s, a)
	} else if err != nil {
		return err
	}
	fi, err := b.Files.Lstat(full)
	if err != nil {
		return err
	}
	edited, err := Edit(ctx, ownedFiles{b.Files, fi.Owner, acct.GID}, full, rotation.Unread(a.Lines...),
		EditOptions{Now: now, Settle: time.Millisecond}, func(d *authkeys.Document) error {
			for _, line := range a.Lines {
				d.RemoveAppended(line)
			}
			return nil
		})
	if err != nil {
		return err
	}
	if gone := a.Made && strings.TrimSpace(string(edited.After)) == ""; !gone && a.Relabel && edited.Backup != "" {
		if err := b.label(ctx, r, Added{}, path.Dir(full), full); err != nil { // it is another file now
			return err
		}
	} else if gone {
		if err := b.Files.Remove(full); err != nil {
			return err
		}
		dir, base := path.Split(full)
		// copies of a file that was not there before
		if names, _, err := b.Files.ReadDir(path.Clean(dir), 1000); err == nil {
			for _, n := range names {
				if strings.HasPrefix(n, "."+base+".before-") {
					_ = b.Files.Remove(path.Join(dir, n))
				}
			}
		}
		if a.MadeDir {
			_ = s.rmdir(path.Dir(full)) // one that somebody else used is left
		}
	}
	return b.modesBack(s, a)
}

func (b Beneath) modesBack(s *sftpFiles, a Added) error {
	var all []error
	for name, mode := range a.Modes {
		if err := s.chmod(path.Join(b.Mount, name), mode); err != nil && !errors.Is(err, fs.ErrNotExist) {
			all = append(all, err)
		}
	}
	return errors.Join(all...)
}
