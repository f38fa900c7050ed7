package authkeys

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"
)

// someLines are lines of every sort that a file may hold.
func someLines() []string {
	broken := strings.Replace(keyA, "AAAAC3", "AAAAC4", 1)
	return []string{
		keyA, keyB, "  " + keyA + " indented", keyA + " a\tcomment # with all", "# " + keyA, "", "\t", broken,
		"frobnicate " + keyA + " refused here",
		`restrict,command="internal-sftp" ` + keyA, `command="echo \"x, y\"",no-pty ` + keyB + " with options",
		`from="192.0.2.0/24" ` + keyA,
		`expiry-time="20200101Z" ` + keyA + " expired", "cert-authority " + keyA, "unreadable \xff\xfe line",
		`command="unclosed ` + keyA, keyA + "\x00 hidden", keyA + "\r",
	}
}

// randomFile puts lines together in any order, ended in any way.
func randomFile(r *rand.Rand) []byte {
	all := someLines()
	var b bytes.Buffer
	for range r.IntN(12) {
		b.WriteString(all[r.IntN(len(all))])
		if r.IntN(12) == 0 {
			b.WriteString("\r")
		}
		b.WriteString("\n")
	}
	if r.IntN(3) == 0 {
		b.WriteString(all[r.IntN(len(all))])
	}
	return b.Bytes()
}

// allowed asks the reader, which is compared with the real sshd, about a key:
// from anywhere, at any time.
func allowed(file, blob []byte, now time.Time) bool {
	for _, from := range []string{"192.0.2.7", "198.51.100.7"} {
		if Decide(Parse(file, time.UTC), blob, from, now).Allowed {
			return true
		}
	}
	return false
}

// TestEditsTouchTheirLinesOnly checks the promises of the document on random files.
func TestEditsTouchTheirLinesOnly(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	r := rand.New(rand.NewPCG(seed, 1))
	a, b := blobOf(keyA), blobOf(keyB)
	now := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	soon := Narrowing{Expires: "20260201000000Z"}
	removed, narrowed := 0, 0
	for i := range 4000 {
		file := randomFile(r)
		fail := func(what string, got []byte) {
			t.Helper()
			t.Fatalf("seed %d, round %d: %s:\n%q\nbecame\n%q", seed, i, what, file, got)
		}
		d := ParseDocument(file)
		if !bytes.Equal(d.Bytes(), file) {
			fail("printing changes it", d.Bytes())
		}
		others := func(x []byte) string {
			d := ParseDocument(x)
			d.Remove(a)
			return string(d.Bytes())
		}
		// Removing leaves no line that sshd would accept, and everything else.
		d.Remove(a)
		if allowed(d.Bytes(), a, now) || allowed(d.Bytes(), a, time.Unix(0, 0)) {
			fail("a removed key is accepted", d.Bytes())
		}
		for _, l := range strings.SplitAfter(string(d.Bytes()), "\n") {
			if !strings.Contains(string(file), l) {
				fail("a line came from nowhere", d.Bytes())
			}
		}
		if allowed(file, b, now) != allowed(d.Bytes(), b, now) {
			fail("another key's way in changed", d.Bytes())
		}
		removed += len(ParseDocument(file).Lines(a))
		// Narrowing shuts the door after its end, and widening gives the bytes back.
		d = ParseDocument(file)
		n, err := d.Narrow(a, soon)
		if err != nil {
			t.Fatal(err)
		}
		if allowed(d.Bytes(), a, now) {
			fail("a key is accepted after its end", d.Bytes())
		}
		if others(d.Bytes()) != others(file) {
			fail("narrowing touched other lines", d.Bytes())
		}
		narrowed += n
		once := d.Bytes()
		if _, err := d.Narrow(a, soon); err != nil || !bytes.Equal(d.Bytes(), once) {
			fail("narrowing twice is not the same as once", d.Bytes())
		}
		if _, err := d.Widen(a, soon); err != nil || !bytes.Equal(d.Bytes(), file) {
			fail("widening does not give it back", d.Bytes())
		}
		// Adding is an append.
		if err := d.Add(keyB + " added"); err != nil || !bytes.HasPrefix(d.Bytes(), file) ||
			!allowed(d.Bytes(), b, now) {
			fail("adding", d.Bytes())
		}
	}
	t.Logf("seed %d: %d lines removed, %d narrowed", seed, removed, narrowed)
}

func TestNarrowByAddress(t *testing.T) {
	a := blobOf(keyA)
	d := ParseDocument([]byte("restrict " + keyA + " x\n" + keyB + "\n"))
	if n, err := d.Narrow(a, Narrowing{Expires: "20260201000000Z", From: "192.0.2.0/24"}); n != 1 || err != nil {
		t.Fatal(n, err)
	}
	if got, want := string(d.Bytes()), `expiry-time="20260201000000Z",from="192.0.2.0/24",restrict `+keyA+" x\n"+keyB+
		"\n"; got != want {
		t.Errorf("%q", got)
	}
	has := []byte(`from="192.0.2.1" ` + keyA + "\n")
	d = ParseDocument(has)
	if _, err := d.Narrow(a, Narrowing{From: "192.0.2.2"}); !errors.Is(err, ErrHasFrom) ||
		!bytes.Equal(d.Bytes(), has) {
		t.Errorf("a second from: %v, %q", err, d.Bytes())
	}
	for _, n := range []Narrowing{{}, {Expires: "tomorrow"}, {From: "a\nb"}} {
		if _, err := d.Narrow(a, n); err == nil || !bytes.Equal(d.Bytes(), has) {
			t.Errorf("%+v: %v", n, err)
		}
	}
}

func TestAppendedRefuses(t *testing.T) {
	for line, want := range map[string]error{keyA + "\n" + keyB: ErrUnwritable, "# a comment": ErrNoKey, "": ErrNoKey,
		"ssh-ed25519 AAAA": ErrNoKey, "frobnicate " + keyA: ErrOption} {
		if _, err := Appended(line); !errors.Is(err, want) {
			t.Errorf("%q: %v, want %v", line, err, want)
		}
	}
}

func TestDiff(t *testing.T) {
	before := keyA + " old\n# x\n" + keyB + "\n"
	after := "# x\n" + keyB + "\nrestrict " + keyB + "\n"
	got := Diff([]byte(before), []byte(after))
	if len(got) != 2 || len(got[0].Before) != 1 || got[0].After != nil || len(got[1].After) != 2 {
		t.Errorf("%+v", got)
	}
	if d := Diff([]byte(before), []byte("# another comment\n"+before)); len(d) != 0 {
		t.Errorf("comments are no change of keys: %+v", d)
	}
}

func TestLate(t *testing.T) {
	if late, err := Late([]byte("a\n"), []byte("a\nb\n")); err != nil || string(late) != "b\n" {
		t.Errorf("%q %v", late, err)
	}
	if _, err := Late([]byte("a\n"), []byte("b\n")); err == nil {
		t.Error("a rewritten file passes for a grown one")
	}
}

func FuzzDocument(f *testing.F) {
	for _, l := range someLines() {
		f.Add([]byte(l + "\n" + keyB))
	}
	f.Fuzz(func(t *testing.T, file []byte) {
		d := ParseDocument(file)
		if !bytes.Equal(d.Bytes(), file) {
			t.Fatalf("%q prints as %q", file, d.Bytes())
		}
		for _, l := range Parse(file, time.UTC) {
			if l.Err != nil {
				continue
			}
			d := ParseDocument(file)
			if d.Remove(l.Blob) == 0 || Decide(Parse(d.Bytes(), time.UTC), l.Blob, "192.0.2.1",
				time.Unix(1, 0)).Allowed {
				t.Errorf("%s is not removed from %q", base64.StdEncoding.EncodeToString(l.Blob), file)
			}
			d = ParseDocument(file)
			n := Narrowing{Expires: FormatTime(time.Unix(1e9, 0))}
			if _, err := d.Narrow(l.Blob, n); err != nil {
				t.Fatal(err)
			}
			if Decide(Parse(d.Bytes(), time.UTC), l.Blob, "192.0.2.1", time.Unix(2e9, 0)).Allowed {
				t.Errorf("narrowed, and accepted after the end: %q", d.Bytes())
			}
			if _, err := d.Widen(l.Blob, n); err != nil || !bytes.Equal(d.Bytes(), file) {
				t.Errorf("widened: %q, was %q", d.Bytes(), file)
			}
		}
	})
}

func ExampleDocument() {
	d := ParseDocument([]byte("# gate\n" + keyA + " contractor\n" + keyB + " crew\n"))
	fmt.Println(d.Remove(blobOf(keyA)))
	fmt.Print(string(d.Bytes()))
	// Output:
	// 1
	// # gate
	// ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJG5LC5qTY0qc+hj+SZyw341oJ6T8+jSjZwLqNsuBS3v crew
}

// TestTakeAndPutBack: what is taken out and put back leaves the file byte for
// byte as it was, wherever the lines stood, and whatever others added meanwhile.
func TestTakeAndPutBack(t *testing.T) {
	a, b := "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAPTOt+0wZKRM88XZQP528RigDz7qhRN8Gzys8lgjCAb",
		"ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIKy8aBBAtfR/5vB3LQNBg4+TlDiq5bGYImedu4kwT9gG"
	blob := Parse([]byte(a), time.UTC)[0].Blob
	for _, file := range []string{
		a + " one\n", a, "\n" + a + "\n", "# x\n" + a + "\n" + b + "\n", b + "\n" + a, "# x\n# x\n" + a +
			"\n# x\n  no-pty " + a + " two\r\n\n" + b + " y", a + "\n" + a + " again\n# end",
	} {
		d := ParseDocument([]byte(file))
		taken := d.Take(blob)
		if len(taken) == 0 || len(d.Lines(blob)) != 0 {
			t.Errorf("%q: %d taken, %q stays", file, len(taken), d.Bytes())
		}
		rest := string(d.Bytes())
		d.PutBack(taken)
		if got := string(d.Bytes()); got != file {
			t.Errorf("%q came back as %q", file, got)
		}
		d.PutBack(taken)
		if got := string(d.Bytes()); strings.Count(got, a) != strings.Count(file, a) {
			t.Errorf("%q: put back twice: %q", file, got)
		}
		// Somebody appended meanwhile: that stays, and the lines are there again.
		d = ParseDocument([]byte(rest + "\n" + b + " late\n"))
		d.PutBack(taken)
		if got := string(d.Bytes()); strings.Count(got, a) != strings.Count(file, a) ||
			!strings.Contains(got, " late\n") {
			t.Errorf("%q with a late line: %q", file, got)
		}
	}
	for _, before := range []string{"", "x\n", "x\n\n", "# a\n" + b + "\n"} {
		line := a + " new"
		text, err := Appended(line)
		if err != nil {
			t.Fatal(err)
		}
		d := ParseDocument(append([]byte(before), text...))
		if !d.Has(line) || d.RemoveAppended(line) != 1 || string(d.Bytes()) != before {
			t.Errorf("%q: appended and removed again: %q", before, d.Bytes())
		}
		d = ParseDocument([]byte(line + "\n" + before + "\n" + line))
		if d.RemoveAppended(line) != 2 || d.Has(line) {
			t.Errorf("%q: two: %q", before, d.Bytes())
		}
	}
}

func FuzzSplitOptions(f *testing.F) {
	f.Add(`command="a,\"b",from="1,2",no-pty`)
	f.Add(`a,,b`)
	f.Add(`"`)
	f.Fuzz(func(t *testing.T, s string) {
		if got := strings.Join(SplitOptions(s), ","); got != s {
			t.Errorf("%q: %q", s, got)
		}
	})
}
