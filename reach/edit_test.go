package reach

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"testing"
	"time"

	"plumlatch/core/authkeys"
	"plumlatch/core/rotation"
)

const (
	lineOld   = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAABAgMEBQYHCAkKCwwNDg8QERITFBUWFxgZGhscHR4f purser"
	lineNew   = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAICAhIiMkJSYnKCkqKywtLi8wMTIzNDU2Nzg5Ojs8PT4/ mate"
	lineGuest = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIEBBQkNERUZHSElKS0xNTk9QUVJTVFVWV1hZWltcXV5f guest"
	keysName  = ".ssh/authorized_keys"
	otherName = ".ssh/authorized_keys2"
)

// memory is an instance's files, as a Unix system has them: what was opened stays what it was
// when its name is another's. It fails one call, once.
type memory struct {
	files map[string]*node
	calls int
	fails int  // the number of the call that fails; 0 for none
	late  bool // it fails after it had its effect: the answer was lost
	log   []string
	// before is called ahead of each call.
	before func(call string)
}

type node struct {
	mode fs.FileMode
	data []byte
}

var errBroken = errors.New("the connection broke")

func newMemory() *memory {
	return &memory{files: map[string]*node{
		"~":       {mode: fs.ModeDir | 0o755},
		".ssh":    {mode: fs.ModeDir | 0o700},
		keysName:  {mode: 0o640, data: []byte("# the crew\n" + lineOld + "\n" + lineNew + "\n")},
		otherName: {mode: 0o600, data: []byte(lineGuest + "\n")},
	}}
}

// call counts a call; before tells whether it fails without an effect, after whether it fails with one.
func (m *memory) call(name string, a ...any) (before, after error) {
	m.calls++
	m.log = append(m.log, name+" "+fmt.Sprint(a...))
	if m.before != nil {
		m.before(name)
	}
	if m.calls != m.fails {
		return nil, nil
	}
	if m.late {
		return nil, errBroken
	}
	return errBroken, nil
}

func (m *memory) Lstat(name string) (FileInfo, error) {
	if err, after := m.call("lstat", name); err != nil || after != nil {
		return FileInfo{}, errBroken
	}
	n, ok := m.files[name]
	if !ok && (name == "." || name == "") {
		n, ok = m.files["~"], true
	}
	if !ok {
		return FileInfo{}, fs.ErrNotExist
	}
	return FileInfo{Mode: n.mode, Size: int64(len(n.data)), Owner: 1000}, nil
}

func (m *memory) Open(name string) (io.ReadSeekCloser, error) {
	if err, after := m.call("open", name); err != nil || after != nil {
		return nil, errBroken
	}
	n, ok := m.files[name]
	if !ok {
		return nil, fs.ErrNotExist
	}
	return &handle{m: m, n: n}, nil
}

func (m *memory) Create(name string, mode fs.FileMode, data []byte) error {
	err, after := m.call("create", name)
	if err != nil {
		return err
	}
	if _, ok := m.files[name]; ok {
		return fs.ErrExist
	}
	if after != nil { // half of it was written
		m.files[name] = &node{mode: mode, data: bytes.Clone(data[:len(data)/2])}
		return after
	}
	m.files[name] = &node{mode: mode, data: bytes.Clone(data)}
	return nil
}

func (m *memory) Append(name string, data []byte) error {
	err, after := m.call("append", name)
	if err != nil {
		return err
	}
	n, ok := m.files[name]
	if !ok {
		return fs.ErrNotExist
	}
	n.data = append(bytes.Clone(n.data), data...)
	return after
}

func (m *memory) Replace(from, to string) error {
	err, after := m.call("replace", from, to)
	if err != nil {
		return err
	}
	n, ok := m.files[from]
	if !ok {
		return fs.ErrNotExist
	}
	delete(m.files, from)
	m.files[to] = n
	return after
}

func (m *memory) Remove(name string) error {
	err, after := m.call("remove", name)
	if err != nil {
		return err
	}
	if _, ok := m.files[name]; !ok {
		return fs.ErrNotExist
	}
	delete(m.files, name)
	return after
}

func (m *memory) ReadDir(name string, limit int) ([]string, map[string]FileInfo, error) {
	var names []string
	all := map[string]FileInfo{}
	for file, n := range m.files {
		if path.Dir(file) == name && len(names) < limit {
			names = append(names, path.Base(file))
			all[path.Base(file)] = FileInfo{Mode: n.mode, Size: int64(len(n.data)), Owner: 1000}
		}
	}
	slices.Sort(names)
	return names, all, nil
}

func (m *memory) RealPath(name string) (string, error) { return path.Join("/home/purser", name), nil }

func (m *memory) Whoami() int { return 1000 }

type handle struct {
	m  *memory
	n  *node
	at int
}

func (h *handle) Read(p []byte) (int, error) {
	if err, after := h.m.call("read"); err != nil || after != nil {
		return 0, errBroken
	}
	if h.at >= len(h.n.data) {
		return 0, io.EOF
	}
	n := copy(p, h.n.data[h.at:])
	h.at += n
	return n, nil
}

func (h *handle) Seek(offset int64, whence int) (int64, error) {
	if err, after := h.m.call("seek"); err != nil || after != nil {
		return 0, errBroken
	}
	h.at = int(offset)
	return offset, nil
}

func (h *handle) Close() error { return nil }

func blobOf(t *testing.T, line string) []byte {
	t.Helper()
	return authkeys.Parse([]byte(line), time.UTC)[0].Blob
}

// permitted is the guard's permit to take the old key out of these files.
func permitted(t *testing.T, m *memory) rotation.Permit {
	t.Helper()
	opener := func(id int64, line string) rotation.Opener {
		return rotation.Opener{ID: id, Blob: blobOf(t, line), Key: fmt.Sprint(id), Mark: rotation.Mark{Holder: "person"},
			There: true, Accepted: true, Shown: time.Now()}
	}
	q := rotation.Question{Instance: 7, LoginUser: "purser", Session: rotation.Session{Proven: true},
		Taken:   []rotation.Taking{{ID: 1, Blob: blobOf(t, lineOld), Was: rotation.Mark{Holder: "person"}}},
		Openers: []rotation.Opener{opener(1, lineOld), opener(2, lineNew), opener(3, lineGuest)},
		Files:   map[string][]byte{keysName: m.files[keysName].data, otherName: m.files[otherName].data},
		Until:   time.Now().Add(time.Minute), ShownSince: time.Now().Add(-time.Hour),
		Confirm: func(rotation.Context) error { return nil },
	}
	p, err := rotation.Judge(q)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func takeOut(t *testing.T, m *memory) error {
	blob := blobOf(t, lineOld)
	_, err := Edit(context.Background(), m, keysName, permitted(t, m), EditOptions{Now: time.Now(), Settle: time.Millisecond},
		func(d *authkeys.Document) error { d.Remove(blob); return nil })
	return err
}

// TestEditWithEachCallFailing fails every call of an edit, one at a time, before and after it
// has its effect. The file is what it was or what it was to be, with its mode, whatever
// happens; and the edit can be made again afterwards, and leaves nothing half done.
func TestEditWithEachCallFailing(t *testing.T) {
	whole := newMemory()
	was := string(whole.files[keysName].data)
	if err := takeOut(t, whole); err != nil {
		t.Fatal(err)
	}
	becomes := string(whole.files[keysName].data)
	if becomes != "# the crew\n"+lineNew+"\n" || whole.calls < 15 {
		t.Fatalf("%d calls, %q", whole.calls, becomes)
	}
	changed := 0
	for n := 1; n <= whole.calls; n++ {
		for _, late := range []bool{false, true} {
			m := newMemory()
			m.fails, m.late = n, late
			err := takeOut(t, m)
			call := m.log[min(n, len(m.log))-1]
			file := m.files[keysName]
			if file == nil {
				t.Errorf("call %d (%s, late=%t): the file is gone: %v", n, call, late, err)
				continue
			}
			switch now := string(file.data); {
			case now != was && now != becomes:
				t.Errorf("call %d (%s, late=%t): %q: %v", n, call, late, now, err)
			case now == was && err == nil:
				t.Errorf("call %d (%s, late=%t): nothing was changed, and no error says so", n, call, late)
			case now == becomes:
				changed++
			}
			if file.mode != 0o640 {
				t.Errorf("call %d (%s, late=%t): mode %v", n, call, late, file.mode)
			}
			if string(m.files[otherName].data) != lineGuest+"\n" {
				t.Errorf("call %d (%s): the other file was touched", n, call)
			}
			// Whoever comes next finds nothing in the way.
			m.fails = 0
			if string(file.data) == was {
				if err := takeOut(t, m); err != nil {
					t.Errorf("call %d (%s, late=%t): it cannot be made again: %v", n, call, late, err)
				}
			}
			if now := string(m.files[keysName].data); now != becomes {
				t.Errorf("call %d (%s, late=%t): again: %q", n, call, late, now)
			}
			if err := m.addGuest(); err != nil {
				t.Errorf("call %d (%s, late=%t): no line can be added: %v", n, call, late, err)
			}
			if left := m.half(); left != "" {
				t.Errorf("call %d (%s, late=%t): %q is left", n, call, late, left)
			}
		}
	}
	if changed < 4 {
		t.Errorf("only %d calls failed after the file was replaced", changed)
	}
}

func (m *memory) addGuest() error {
	_, err := AddLine(m, keysName, lineGuest, time.Now())
	return err
}

// TestAddLineWithEachCallFailing is the same of an append: the line is there once, or not, and
// nobody else's line is touched.
func TestAddLineWithEachCallFailing(t *testing.T) {
	whole := newMemory()
	was := string(whole.files[keysName].data)
	if err := whole.addGuest(); err != nil {
		t.Fatal(err)
	}
	for n := 1; n <= whole.calls; n++ {
		for _, late := range []bool{false, true} {
			m := newMemory()
			m.fails, m.late = n, late
			err := m.addGuest()
			now := string(m.files[keysName].data)
			if !strings.HasPrefix(now, was) {
				t.Errorf("call %d (%s, late=%t): %q", n, m.log[n-1], late, now)
			}
			if there := strings.Count(now, lineGuest); there > 1 || there == 0 && err == nil {
				t.Errorf("call %d (%s, late=%t): the line stands there %d times: %v", n, m.log[n-1], late, there, err)
			}
			if !strings.HasSuffix(now, "\n") {
				t.Errorf("call %d (%s, late=%t): half a line: %q", n, m.log[n-1], late, now)
			}
			m.fails = 0
			// Whoever goes back without having to edit the file leaves nothing beside it.
			if now == was {
				left := &memory{files: maps.Clone(m.files)}
				if err := ClearUp(left, keysName); err != nil || left.half() != "" {
					t.Errorf("call %d (%s, late=%t): cleared up: %v, %q is left", n, m.log[n-1], late, err, left.half())
				}
			}
			if err := m.addGuest(); err != nil {
				t.Errorf("call %d (%s, late=%t): it cannot be made again: %v", n, m.log[n-1], late, err)
			}
		}
	}
}

// half is what of an edit is left half made, "" if nothing is.
func (m *memory) half() string {
	for name := range m.files {
		if strings.Contains(name, ".plumlatch-") {
			return name
		}
	}
	return ""
}

// TestClockWithEachCallFailing: a clock that could not be read to its end is read again, by
// a file that is new, and an edit that finds nothing to change leaves nothing of it.
func TestClockWithEachCallFailing(t *testing.T) {
	whole := newMemory()
	if _, err := Clock(whole, keysName); err != nil || whole.half() != "" {
		t.Fatalf("%v, %q is left", err, whole.half())
	}
	for n := 1; n <= whole.calls; n++ {
		for _, late := range []bool{false, true} {
			m := newMemory()
			m.fails, m.late = n, late
			_, _ = Clock(m, keysName)
			m.fails = 0
			again := &memory{files: maps.Clone(m.files)}
			if _, err := Clock(again, keysName); err != nil || again.half() != "" {
				t.Errorf("call %d (%s, late=%t): again: %v, %q is left", n, m.log[n-1], late, err, again.half())
			}
			_, err := Edit(context.Background(), m, keysName, rotation.Permit{}, EditOptions{Now: time.Now()},
				func(*authkeys.Document) error { return nil })
			if err != nil || m.half() != "" {
				t.Errorf("call %d (%s, late=%t): an edit of nothing: %v, %q is left", n, m.log[n-1], late, err, m.half())
			}
		}
	}
}

// TestEditKeepsWhatOthersAppend has somebody append a line before each call of an edit: it is
// in the file afterwards, whenever that was.
func TestEditKeepsWhatOthersAppend(t *testing.T) {
	whole := newMemory()
	if err := takeOut(t, whole); err != nil {
		t.Fatal(err)
	}
	const theirs = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGBhYmNkZWZnaGlqa2xtbm9wcXJzdHV2d3h5ent8fX5/ late-comer"
	for n := 1; n <= whole.calls; n++ {
		m := newMemory()
		m.before = func(string) {
			if m.calls == n {
				file := m.files[keysName]
				file.data = append(bytes.Clone(file.data), theirs+"\n"...)
			}
		}
		err := takeOut(t, m)
		now := string(m.files[keysName].data)
		if strings.Count(now, theirs) != 1 {
			t.Errorf("before call %d (%s): their line stands there %d times: %q %v", n, m.log[n-1],
				strings.Count(now, theirs), now, err)
		}
		if err == nil && strings.Contains(now, lineOld) {
			t.Errorf("before call %d (%s): no error, and the old line is there", n, m.log[n-1])
		}
	}
}

// TestForbidden: an owner who may write by the folder's mode and yet may not is told that something else forbids it; one whose folder is another's, or
// whose mode says no, is not.
func TestForbidden(t *testing.T) {
	for _, c := range []struct {
		what string
		mode fs.FileMode
		want bool
	}{{"by its mode it may", 0o700, true}, {"by its mode it may not", 0o500, false}} {
		m := newMemory()
		m.files[".ssh"].mode = fs.ModeDir | c.mode
		_, err := Edit(t.Context(), forbidden{m}, keysName, rotation.Unread(lineOld), EditOptions{Settle: time.Millisecond}, func(d *authkeys.Document) error {
			d.RemoveAppended(lineOld)
			return nil
		})
		if !errors.Is(err, fs.ErrPermission) || errors.Is(err, ErrForbidden) != c.want {
			t.Errorf("%s: %v", c.what, err)
		}
	}
}

// forbidden is a way on which nothing can be made.
type forbidden struct{ Files }

func (forbidden) Create(string, fs.FileMode, []byte) error { return fs.ErrPermission }
