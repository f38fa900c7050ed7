package reach

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"plumlatch/core/authkeys"
	"plumlatch/core/rotation"
)

// meddled are the files of this machine, on which somebody else acts in the very moment of an exchange.
type meddled struct {
	localFiles
	in    []func() // one for each exchange
	not   bool     // this file system cannot exchange names
	calls int
}

func (m *meddled) Exchange(a, b string) error {
	m.calls++
	if m.not {
		return ErrNotSupported
	}
	if len(m.in) > 0 {
		m.in[0]()
		m.in = m.in[1:]
	}
	return m.localFiles.Exchange(a, b)
}

// TestExchange: the agent exchanges names, and looks at what came out: another's file that was put there in that very moment is not lost.
func TestExchange(t *testing.T) {
	const theirs, later = "# theirs\n" + lineGuest + "\n" + lineOld + "\n", "# later\n" + lineOld + "\n"
	for _, c := range []struct {
		what, want string
		exchanges  int
		not        bool
		in         func(put func(string)) []func()
	}{
		{"nobody else", "# the crew\n" + lineNew + "\n", 1, false, nil},
		{"a file system that cannot", "# the crew\n" + lineNew + "\n", 1, true, nil},
		{"another's file", "# theirs\n" + lineGuest + "\n", 3, false, func(put func(string)) []func() {
			return []func(){func() { put(theirs) }}
		}},
		{"another's file, and a later one", "# later\n", 4, false, func(put func(string)) []func() {
			return []func(){func() { put(theirs) }, func() { put(later) }}
		}},
	} {
		dir := t.TempDir()
		name := filepath.Join(dir, "authorized_keys")
		put := func(text string) {
			if err := os.WriteFile(filepath.Join(dir, "other"), []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
			if err := os.Rename(filepath.Join(dir, "other"), name); err != nil {
				t.Fatal(err)
			}
		}
		put("# the crew\n" + lineNew + "\n" + lineOld + "\n")
		m := &meddled{not: c.not}
		if c.in != nil {
			m.in = c.in(put)
		}
		edited, err := Edit(t.Context(), m, name, rotation.Unread(lineOld), EditOptions{Now: time.Now(), Settle: time.Millisecond}, func(d *authkeys.Document) error {
			d.Remove(blobOf(t, lineOld))
			return nil
		})
		if err != nil {
			t.Errorf("%s: %v", c.what, err)
		}
		data, err := os.ReadFile(name)
		if err != nil || string(data) != c.want || !bytes.Equal(data, edited.After) || m.calls != c.exchanges {
			t.Errorf("%s: %q, %d exchanges: %v", c.what, data, m.calls, err)
		}
		left, err := os.ReadDir(dir)
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range left {
			if strings.HasSuffix(f.Name(), newSuffix) {
				t.Errorf("%s: %s is left", c.what, f.Name())
			}
		}
	}
}
