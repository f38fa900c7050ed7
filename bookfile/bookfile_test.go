package bookfile

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"plumlatch/core/keybook"
)

func write(t *testing.T, dir string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		at := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(at, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// TestFolder: a folder's files are found in their order, without what is hidden; nothing is read through a link that leads out of it.
func TestFolder(t *testing.T) {
	t.Parallel()
	dir, other := t.TempDir(), t.TempDir()
	write(t, dir, map[string]string{"b.yaml": "keybook: b\n", "a/x.yml": "sets: {}\n", "README.md": "no", ".git/c.yaml": "no", ".hidden.yaml": "no"})
	write(t, other, map[string]string{"out.yaml": "keys: {}\n", "x.pub": "secret"})
	f, err := Open(dir)
	if err != nil || !slices.Equal(f.Names, []string{"a/x.yml", "b.yaml"}) || f.Signature != "keybook.sig" {
		t.Fatalf("%v %+v", err, f)
	}
	r := f.Read(time.Now())
	if r.Book == nil || r.Book.Name != "b" || len(r.Report.Findings) > 0 {
		t.Errorf("%+v", r.Report)
	}
	before := f.Stamp()
	write(t, dir, map[string]string{"b.yaml": "keybook: bb\n"})
	if f.Stamp() == before {
		t.Error("a change is not seen")
	}
	for _, link := range []string{"l.yaml", "l.pub"} {
		if err := os.Symlink(filepath.Join(other, map[string]string{"l.yaml": "out.yaml", "l.pub": "x.pub"}[link]), filepath.Join(dir, link)); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := f.File("l.pub", 100); !errors.Is(err, keybook.ErrOutside) {
		t.Errorf("a link out: %v", err)
	}
	if _, err := f.File("none", 100); !errors.Is(err, keybook.ErrNoFile) {
		t.Errorf("none: %v", err)
	}
	if _, err := f.File("b.yaml", 3); err == nil || !strings.Contains(err.Error(), "longer") {
		t.Errorf("too long: %v", err)
	}
	if _, err := f.File("a", 3); err == nil {
		t.Error("a folder is read")
	}
	if f, err = Open(dir); err != nil {
		t.Fatal(err)
	}
	if r := f.Read(time.Now()); r.Report.Errors() != 1 || r.Report.Findings[0].Code != "outside" {
		t.Errorf("%+v", r.Report)
	}
	one, err := Open(filepath.Join(dir, "b.yaml"))
	if err != nil || one.Root != dir || one.Signature != "b.yaml.sig" {
		t.Errorf("%v %+v", err, one)
	}
	if _, err := Open(t.TempDir()); !errors.Is(err, ErrEmpty) {
		t.Errorf("empty: %v", err)
	}
}

func TestParseSigned(t *testing.T) {
	t.Parallel()
	at := time.Date(2026, 12, 1, 10, 0, 0, 0, time.UTC)
	text := SignedText("ferry-line", strings.Repeat("a", 64), at)
	const armored = "-----BEGIN SSH SIGNATURE-----\nx\n-----END SSH SIGNATURE-----\n"
	s, err := ParseSigned([]byte(text + armored))
	if err != nil || s.Name != "ferry-line" || !s.At.Equal(at) || s.Text != text || s.Signature != armored {
		t.Errorf("%v %+v", err, s)
	}
	for _, bad := range []string{"", armored, text, "x\n" + text + armored, strings.Replace(text, "signed 2026", "signed 2026x", 1) + armored, text + "more\n" + armored} {
		if _, err := ParseSigned([]byte(bad)); err == nil {
			t.Errorf("taken: %q", bad)
		}
	}
}

func FuzzParseSigned(f *testing.F) {
	f.Add([]byte(SignedText("b", "h", time.Unix(1, 0)) + "-----BEGIN SSH SIGNATURE-----\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if s, err := ParseSigned(data); err == nil && SignedText(s.Name, s.Hash, s.At) != s.Text {
			t.Fatal("what was read is not what was signed")
		}
	})
}
