package reach

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"time"

	"plumlatch/core/authkeys"
	"plumlatch/core/rotation"
)

// maxKeysFile is the greatest authorized_keys file that is edited, in bytes:
// ours, not the peer's, who may send without end.
const maxKeysFile = 4 << 20

// Reasons for which a file is not edited; each is wrapped with the file's name.
var (
	ErrMissing   = errors.New("the file does not exist")
	ErrLink      = errors.New("it is a symbolic link, or one is on the way: replacing it would put a file in its place")
	ErrIrregular = errors.New("it is no regular file")
	ErrOwner     = errors.New("it belongs to somebody else")
	ErrTooBig    = errors.New("it is larger than any authorized_keys file that is read here")
	// ErrBusy: others changed the file each time, between reading and replacing it.
	ErrBusy = errors.New("somebody else keeps changing the file; nothing was changed")
)

// Edited is what an edit did.
type Edited struct {
	Before, After []byte
	Backup        string // the copy beside the file
	Tries         int
	Late          int // bytes that others appended while the file was being replaced, and that were kept

	replaced bool
}

// maxSurveyed is the greatest authorized_keys file that is read to be surveyed,
// in bytes: more than is edited, as sshd reads files of any size.
const maxSurveyed = 16 << 20

// check refuses everything but a regular file of our own, without a link on the way.
func check(f Files, name string) (FileInfo, error) {
	fi, err := checkReadable(f, name, maxKeysFile)
	if err == nil && f.Whoami() >= 0 && fi.Owner >= 0 && fi.Owner != f.Whoami() {
		err = fmt.Errorf("%s: %w (user %d)", name, ErrOwner, fi.Owner)
	}
	return fi, err
}

// checkReadable refuses everything but a regular file, without a link on the way.
func checkReadable(f Files, name string, limit int64) (FileInfo, error) {
	for _, dir := range parents(name) {
		fi, err := f.Lstat(dir)
		if err != nil {
			return FileInfo{}, fmt.Errorf("%s: %w", dir, missing(err))
		}
		if fi.Mode&fs.ModeSymlink != 0 {
			return FileInfo{}, fmt.Errorf("%s: %w", dir, ErrLink)
		}
	}
	fi, err := f.Lstat(name)
	switch {
	case err != nil:
		return fi, fmt.Errorf("%s: %w", name, missing(err))
	case fi.Mode&fs.ModeSymlink != 0:
		return fi, fmt.Errorf("%s: %w", name, ErrLink)
	case !fi.Mode.IsRegular():
		return fi, fmt.Errorf("%s: %w", name, ErrIrregular)
	case fi.Size > limit:
		return fi, fmt.Errorf("%s: %w: %d bytes", name, ErrTooBig, fi.Size)
	}
	return fi, nil
}

func missing(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return ErrMissing
	}
	return err
}

// Editable tells why an authorized_keys file would not be edited, nil if it would.
func Editable(f Files, name string) error {
	_, err := check(f, name)
	return err
}

// ReadKeys reads an authorized_keys file, whoever owns it.
func ReadKeys(f Files, name string) ([]byte, error) {
	if _, err := checkReadable(f, name, maxKeysFile); err != nil {
		return nil, err
	}
	return readAll(f, name)
}

// bigFile is read by one survey at a time: many at once would fill the memory.
var bigFile = make(chan struct{}, 1)

// SurveyKeys reads an authorized_keys file of any owner, of up to 16 MiB, and
// gives what it holds to use; one that is large has the memory to itself.
func SurveyKeys(ctx context.Context, f Files, name string, use func(FileInfo, []byte)) error {
	fi, err := checkReadable(f, name, maxSurveyed)
	if err != nil {
		return err
	}
	if fi.Size > 1<<20 {
		select {
		case bigFile <- struct{}{}:
			defer func() { <-bigFile }()
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	file, err := f.Open(name)
	if err != nil {
		return fmt.Errorf("%s: %w", name, missing(err))
	}
	defer file.Close()
	data, err := readSized(file, fi.Size, max(min(2*fi.Size, maxSurveyed), 64<<10)) // it may have grown since
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	use(fi, data)
	return nil
}

func readAll(f Files, name string) ([]byte, error) {
	file, err := f.Open(name)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, missing(err))
	}
	defer file.Close()
	return readBounded(file, maxKeysFile)
}

// readSized reads a file that is size bytes long as far as is known: in one
// request for a small one. What has grown is read to its end, or to the limit.
func readSized(r io.Reader, size, limit int64) ([]byte, error) {
	if size >= maxOneWrite {
		return readBounded(r, limit)
	}
	data := make([]byte, size+1)
	n, err := r.Read(data)
	if err == nil && int64(n) == size || errors.Is(err, io.EOF) {
		return data[:n], nil
	}
	if err != nil {
		return nil, err
	}
	rest, err := readBounded(r, limit-int64(n))
	return append(data[:n], rest...), err
}

func readBounded(r io.Reader, limit int64) ([]byte, error) {
	data, err := io.ReadAll(io.LimitReader(r, limit+1))
	if err == nil && int64(len(data)) > limit {
		err = ErrTooBig
	}
	return data, err
}

// AddLine adds a line to an authorized_keys file by one append, which can only
// add a way in and loses nobody's line. A dated backup is made before; now
// names it. On a disk without room for the line nothing is appended: half of it
// would be in the way of whoever appends next.
func AddLine(f Files, name, line string, now time.Time) (Edited, error) {
	text, err := authkeys.Appended(line)
	if err != nil {
		return Edited{}, err
	}
	fi, err := check(f, name)
	if err != nil {
		return Edited{}, err
	}
	out := Edited{Tries: 1}
	if out.Before, err = readAll(f, name); err != nil {
		return out, err
	}
	if err := out.backup(f, name, now, fi.Mode.Perm()); err != nil {
		return out, err
	}
	if err := hasRoom(f, name, len(text)); err != nil {
		return out, errors.Join(err, f.Remove(out.Backup))
	}
	if err := f.Append(name, text); err != nil {
		return out, fmt.Errorf("%s: %w", name, err)
	}
	out.After, err = readAll(f, name)
	return out, err
}

// Clock tells what time it is by a server's own clock, to the second: of a file
// that is made beside another one and taken away again.
func Clock(f Files, beside string) (time.Time, error) {
	name := beside + clockSuffix
	if err := createAnew(f, name, 0o600, nil); err != nil {
		return time.Time{}, fmt.Errorf("clock: %w", err)
	}
	fi, err := f.Lstat(name)
	return fi.Modified, errors.Join(err, f.Remove(name))
}

// room is what must be free besides, for what else grows meanwhile.
const room = 8 << 10

// hasRoom tells whether n bytes can be written beside a file, by writing more
// of them than that and taking them away again: SFTP has no other way to ask.
func hasRoom(f Files, name string, n int) error {
	trial := name + newSuffix
	if err := createAnew(f, trial, 0o600, make([]byte, n+room)); err != nil {
		return fmt.Errorf("%s: there is no room for another line: %w", name, err)
	}
	return f.Remove(trial)
}

// What is made beside a file for the time of an edit, and taken away by it.
const (
	newSuffix   = ".plumlatch-new"
	clockSuffix = ".plumlatch-clock"
)

// createAnew makes a file as Files.Create does, in the place of one that an edit
// which was cut off has left: no other is at work (one changing piece of work an instance).
func createAnew(f Files, name string, mode fs.FileMode, data []byte) error {
	err := f.Create(name, mode, data)
	if errors.Is(err, fs.ErrExist) {
		err = errors.Join(f.Remove(name), f.Create(name, mode, data))
	}
	return err
}

// ClearUp takes away what an edit of a file that was cut off, or could not take it away
// itself, has left beside it. Whoever goes back without having to edit the file calls it.
func ClearUp(f Files, name string) error {
	var all error
	for _, left := range []string{name + newSuffix, name + clockSuffix} {
		if err := f.Remove(left); err != nil && !errors.Is(err, fs.ErrNotExist) {
			all = errors.Join(all, fmt.Errorf("%s: %w", left, err))
		}
	}
	return all
}

// EditOptions are how an edit is made.
type EditOptions struct {
	Now time.Time // names the backup
	// Settle is how long after a replacement the old file is looked at once more;
	// 2 s if 0.
	Settle time.Duration
	// Later, if it is set, is given that look, for the caller to take after Settle;
	// Edit does not wait for it then. It must be called, and before the way is closed.
	Later func(look func() error)
}

const (
	maxTries = 5
	// settle is how long after a replacement the old file is looked at once
	// more, for what others had open then.
	settle = 2 * time.Second
)

// Edit changes an authorized_keys file: change is given the document, and may be
// called again with a newer one. Whatever that takes from anybody's key needs the
// permit (rotation.Judge); the zero Permit lets an edit add and widen. It is
// looked at twice: what the change takes, and, before the file is replaced, whether
// everything that the permit rests on is still so; then, last, the file itself.
//
// The file is replaced in one step by one of the same mode, after a dated backup;
// what others append meanwhile, each opening the file for its write, is found in
// the old file and kept. Not promised: a writer that holds its descriptor open for
// longer, or another's rename in the round trip between the last look and ours.
//
// If change changes nothing, nothing is written. Errors: those of check, ErrBusy,
// rotation.ErrNoPermit, rotation.ErrStale (judge again), rotation.ErrEnded.
func Edit(ctx context.Context, f Files, name string, permit rotation.Permit, o EditOptions,
	change func(*authkeys.Document) error) (Edited, error) {
	if o.Settle == 0 {
		o.Settle = settle
	}
	var out Edited
	for out.Tries = 1; out.Tries <= maxTries; out.Tries++ {
		done, err := editOnce(ctx, f, name, permit, o, change, &out)
		if err != nil {
			return out, errors.Join(err, out.withdrawBackup(f))
		}
		if done {
			return out, out.withdrawBackup(f) // of an earlier try, if this one found nothing to do
		}
		select {
		case <-ctx.Done():
			return out, errors.Join(ctx.Err(), out.withdrawBackup(f))
		case <-time.After(time.Duration(out.Tries) * 20 * time.Millisecond):
		}
	}
	return out, errors.Join(fmt.Errorf("%s: %w", name, ErrBusy), out.withdrawBackup(f))
}

// withdrawBackup takes the backup of a change that was not made away.
func (e *Edited) withdrawBackup(f Files) error {
	if e.replaced || e.Backup == "" {
		return nil
	}
	err := f.Remove(e.Backup)
	e.Backup = ""
	return err
}

// editOnce tries once; false without an error means that the file was changed
// by somebody else meanwhile.
func editOnce(ctx context.Context, f Files, name string, permit rotation.Permit, o EditOptions,
	change func(*authkeys.Document) error, out *Edited) (done bool, err error) {
	fi, err := check(f, name)
	if err != nil {
		return false, err
	}
	old, err := f.Open(name)
	if err != nil {
		return false, fmt.Errorf("%s: %w", name, missing(err))
	}
	held := false // by whoever looks at it later
	defer func() {
		if !held {
			old.Close()
		}
	}()
	if out.Before, err = readBounded(old, maxKeysFile); err != nil {
		return false, fmt.Errorf("%s: %w", name, err)
	}
	d := authkeys.ParseDocument(out.Before)
	if err := change(d); err != nil {
		return false, err
	}
	out.After = d.Bytes()
	if bytes.Equal(out.Before, out.After) {
		// Not an error of this edit: no server reads what is left, and the next one tries again.
		_ = ClearUp(f, name)
		return true, nil
	}
	if err := permit.Covers(name, out.Before, out.After, time.Now()); err != nil {
		return false, err
	}
	if err := out.backup(f, name, o.Now, fi.Mode.Perm()); err != nil {
		return false, err
	}
	next := name + newSuffix
	if err := createAnew(f, next, fi.Mode.Perm(), out.After); err != nil {
		return false, fmt.Errorf("%s: %w", next, err)
	}
	// Is everything that the guard judged by still so? What people say of keys waits from
	// here on. The file itself does not: it is looked at last, right before the write.
	if err := confirm(ctx, f, permit, name); err != nil {
		return false, errors.Join(err, f.Remove(next))
	}
	if same, err := stillOurs(f, name, old, out.Before); err != nil || !same {
		return false, errors.Join(err, f.Remove(next))
	}
	switch swapped, err := putInPlace(f, next, name, old, out); {
	case err != nil:
		return false, errors.Join(fmt.Errorf("%s: %w", name, err), f.Remove(next))
	case !swapped: // what came out is not what was read: it stands there again
		return false, f.Remove(next)
	}
	out.replaced = true
	permit.Spend(name)
	late := &late{e: out, f: f, name: name, old: old, change: change, seen: out.Before}
	if err := late.look(); err != nil {
		return true, err
	}
	if o.Later != nil {
		held = true
		o.Later(func() error { return errors.Join(late.look(), old.Close()) })
		out.After, err = readAll(f, name)
		return true, err
	}
	select {
	case <-ctx.Done():
		// The new file stands; only the second look is lost. Say so.
		return true, fmt.Errorf("the file was replaced, and the old one not looked at again: %w", ctx.Err())
	case <-time.After(o.Settle):
	}
	if err := late.look(); err != nil {
		return true, err
	}
	out.After, err = readAll(f, name)
	return true, err
}

// Exchanger is a way to the files of a machine on which two names can be exchanged in one step (renameat2(2), RENAME_EXCHANGE).
type Exchanger interface {
	// Exchange makes each name that of the other's file. ErrNotSupported where this file system cannot.
	Exchange(a, b string) error
}

// putInPlace puts the new file in the place of the one that is held open. Where names can be exchanged, what came out is looked at: another file
// that somebody has put there in that very moment goes back, and false is returned. Elsewhere it is replaced.
func putInPlace(f Files, next, name string, old io.ReadSeeker, e *Edited) (bool, error) {
	x, ok := f.(Exchanger)
	if !ok {
		return true, f.Replace(next, name)
	}
	if err := x.Exchange(next, name); errors.Is(err, ErrNotSupported) {
		return true, f.Replace(next, name)
	} else if err != nil {
		return false, err
	}
	held, err := stillOurs(f, next, old, e.Before)
	if held {
		return true, f.Remove(next)
	}
	if err := errors.Join(err, x.Exchange(next, name)); err != nil {
		return false, err
	}
	// Whoever put it there may have done so twice: then the later file came out now, and it is the one that goes back.
	if now, err := readAll(f, next); err != nil || !bytes.Equal(now, e.After) {
		return false, errors.Join(err, x.Exchange(next, name))
	}
	return false, nil
}

// confirm asks the permit whether it still holds, with the other files that were
// judged as they are now: a key that stays may stand in one of those.
func confirm(ctx context.Context, f Files, permit rotation.Permit, name string) error {
	others := map[string][]byte{}
	for other := range permit.Files() {
		if other == name {
			continue
		}
		data, err := ReadKeys(f, other)
		if err != nil && !errors.Is(err, ErrMissing) {
			return err
		}
		others[other] = data
	}
	return permit.Confirm(ctx, others, time.Now())
}

// stillOurs is the last look, just before the rename: does the name still mean
// the file that we hold open, and does that begin as it did? That it has grown
// meanwhile is no matter: what was appended is carried over afterwards. The
// held file is read after the named one, so it has at least as much if they
// are the same; a file that another put in its place is found by that.
func stillOurs(f Files, name string, old io.ReadSeeker, before []byte) (bool, error) {
	named, err := readAll(f, name)
	if err != nil {
		return false, err
	}
	if _, err := old.Seek(0, io.SeekStart); err != nil {
		return false, err
	}
	held, err := readBounded(old, maxKeysFile)
	return bytes.HasPrefix(named, before) && bytes.HasPrefix(held, named), err
}

// backup copies the file once an edit, under a name that sshd never reads.
func (e *Edited) backup(f Files, name string, now time.Time, mode fs.FileMode) error {
	if e.Backup != "" {
		if err := f.Remove(e.Backup); err != nil { // of a try that came to nothing
			return err
		}
	}
	dir, base := path.Split(name)
	stamp := now.UTC().Format("20060102T150405.000000000Z")
	e.Backup = dir + "." + base + ".before-" + stamp
	if err := f.Create(e.Backup, mode, e.Before); err != nil {
		e.Backup = ""
		if errors.Is(err, fs.ErrPermission) && ownFolder(f, dir, name) {
			err = fmt.Errorf("%w: %w", err, ErrForbidden)
		}
		return fmt.Errorf("backup: %w", err)
	}
	return nil
}

// ErrForbidden: the folder's owner may write in it by its mode, and yet may not.
var ErrForbidden = errors.New("its folder may be written in by its mode, so something else forbids it, such as SELinux (docs/safety.md says what that needs)")

// ownFolder tells whether a file's folder is its owner's, who may write in it by its mode.
func ownFolder(f Files, dir, name string) bool {
	folder, err := f.Lstat(path.Clean(dir))
	file, missing := f.Lstat(name)
	return err == nil && missing == nil && folder.Owner == file.Owner && folder.Mode&0o200 != 0
}

// late looks at a replaced file again.
type late struct {
	e      *Edited
	f      Files
	name   string
	old    io.ReadSeekCloser
	change func(*authkeys.Document) error
	seen   []byte
}

// look puts what others have appended to the replaced file since the last look
// into the new one, changed as the rest was.
func (l *late) look() error {
	if _, err := l.old.Seek(0, io.SeekStart); err != nil {
		return err
	}
	now, err := readBounded(l.old, maxKeysFile)
	if err != nil {
		return err
	}
	more, err := authkeys.Late(l.seen, now)
	if err != nil {
		return err
	}
	l.seen = now
	if len(bytes.TrimSpace(more)) == 0 {
		return nil
	}
	d := authkeys.ParseDocument(more)
	if err := l.change(d); err != nil {
		return err
	}
	if err := l.f.Append(l.name, append([]byte("\n"), d.Bytes()...)); err != nil {
		return fmt.Errorf("lines that others added meanwhile could not be carried over; they are in the file that "+
			"was replaced: %w", err)
	}
	l.e.Late += len(more)
	return nil
}
