package authkeys

import (
	"bytes"
	"math/rand/v2"
	"strings"
	"testing"
	"time"
)

func TestLosses(t *testing.T) {
	for _, c := range []struct {
		what, before, after string
		lost                string // "" none, "a", "b", "ab"
		others              bool
	}{
		{"the same", keyA + "\n" + keyB + "\n", keyA + "\n" + keyB + "\n", "", false},
		{"a key added", keyA + "\n", keyA + "\n\n" + keyB + "\n", "", false},
		{"a line end, and a blank line", keyA + "\r\n\n" + keyB, keyA + "\n" + keyB + "\n", "", false},
		{"a key gone", keyA + "\n" + keyB + "\n", keyB + "\n", "a", false},
		{"both gone", keyA + "\n" + keyB + "\n", "", "ab", false},
		{"one of two lines of a key", keyA + "\n" + keyA + " again\n", keyA + "\n", "a", false},
		{"the same line twice, once gone", keyA + "\n" + keyA + "\n", keyA + "\n", "a", false},
		{"an end in front", keyA + "\n", `expiry-time="20990101Z" ` + keyA + "\n", "a", false},
		{"an end taken away", `expiry-time="20990101Z" ` + keyA + "\n", keyA + "\n", "", false},
		{"an end taken away, another option kept", `expiry-time="20990101Z",no-pty ` + keyA + "\n", "no-pty " + keyA +
			"\n", "", false},
		{"an end moved", `expiry-time="20990101Z" ` + keyA + "\n", `expiry-time="20980101Z" ` + keyA +
			"\n", "a", false},
		{"addresses taken away", `from="192.0.2.1" ` + keyA + "\n", keyA + "\n", "", false},
		{"a command taken away", `command="x" ` + keyA + "\n", keyA + "\n", "a", false},
		{"another order of options", `no-pty,from="192.0.2.1" ` + keyA + "\n", `from="192.0.2.1",no-pty ` + keyA +
			"\n", "a", false},
		{"an option that sshd refuses", keyA + "\n", "frob " + keyA + "\n", "a", false},
		{"the refused one stays", "frob " + keyA + "\n", "frob " + keyA + "\n", "", false},
		{"the refused one goes", "frob " + keyA + "\n", "", "a", false},
		{"an authority goes", "cert-authority " + keyA + "\n", "", "a", false},
		{"turned into a comment", keyA + "\n", "#" + keyA + "\n", "a", false},
		{"a comment goes", "# mine\n" + keyA + "\n", keyA + "\n", "", true},
		{"a line that nobody can read goes", "unreadable \xff\n" + keyA + "\n", keyA + "\n", "", true},
		{"a narrower line put above", keyA + "\n", `command="x" ` + keyA + "\n" + keyA + "\n", "a", false},
		{"a narrower line put behind", keyA + "\n", keyA + "\n" + `command="x" ` + keyA + "\n", "", false},
		{"a narrower line of another key above", keyA + "\n", `command="x" ` + keyB + "\n" + keyA + "\n", "", false},
		{"two lines made one", keyA + "\n" + keyB + "\n", keyA + keyB + "\n", "ab", false},
	} {
		keys, others := Losses([]byte(c.before), []byte(c.after))
		got := ""
		for _, l := range keys {
			switch {
			case bytes.Equal(l.Blob, blobOf(keyA)):
				got += "a"
			case bytes.Equal(l.Blob, blobOf(keyB)):
				got += "b"
			}
			if len(l.Lines) == 0 {
				t.Errorf("%s: no lines are named", c.what)
			}
		}
		if got != c.lost || others != c.others {
			t.Errorf("%s: lost %q others %v", c.what, got, others)
		}
	}
}

// judged holds Losses against the reader, which is compared with the real sshd:
// whoever got in before, and by an unforced line, gets in after an edit that
// takes nothing away.
func judged(t *testing.T, before, after []byte) {
	t.Helper()
	lost := map[string]bool{}
	keys, _ := Losses(before, after)
	for _, l := range keys {
		lost[string(l.Blob)] = true
	}
	was, is := Parse(before, time.UTC), Parse(after, time.UTC)
	for _, l := range was {
		if l.Err != nil || lost[string(l.Blob)] {
			continue
		}
		for _, from := range []string{"192.0.2.7", "198.51.100.7", "2001:db8::1"} {
			for _, now := range []time.Time{time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC),
				time.Date(2100, 1, 1, 0, 0, 0, 0, time.UTC)} {
				a, b := Decide(was, l.Blob, from, now), Decide(is, l.Blob, from, now)
				if a.Allowed && (!b.Allowed || b.Line.Options.HasCommand && !a.Line.Options.HasCommand) {
					t.Fatalf("no loss is seen, and it is let in no more:\n%s\n---\n%s", before, after)
				}
			}
		}
	}
}

// TestLossesOfRandomEdits takes any file for the one after any other, and the
// edits that are made here.
func TestLossesOfRandomEdits(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 2))
	a := blobOf(keyA)
	for range 3000 {
		before := randomFile(r)
		judged(t, before, randomFile(r))
		d := ParseDocument(before)
		n := Narrowing{Expires: "20990101000000Z"}
		if _, err := d.Narrow(a, n); err != nil {
			t.Fatal(err)
		}
		narrow := d.Bytes()
		judged(t, before, narrow)
		if _, err := d.Widen(a, n); err != nil {
			t.Fatal(err)
		}
		if keys, others := Losses(narrow, d.Bytes()); len(keys) > 0 || others {
			t.Fatalf("widening takes away: %v from\n%s", keys, narrow)
		}
		taken := d.Take(a)
		gone := d.Bytes()
		if keys, _ := Losses(before, gone); len(taken) > 0 && len(keys) == 0 {
			t.Fatalf("taking takes nothing:\n%s", before)
		}
		if r.IntN(2) == 0 { // somebody adds it again meanwhile
			gone = append(gone, []byte("\n"+keyA+" by hand\n")...)
			d = ParseDocument(gone)
		}
		d.PutBack(taken)
		if keys, others := Losses(gone, d.Bytes()); len(keys) > 0 || others {
			t.Fatalf("putting back takes away: %v\n%s\n---\n%s", keys, gone, d.Bytes())
		}
	}
}

// TestLossesOfManyLines: a file of as many lines as are edited, all of one key, is
// judged in about its length.
func TestLossesOfManyLines(t *testing.T) {
	before := strings.Repeat(`expiry-time="20990101Z" `+keyA+"\n", 40_000)
	after := strings.Repeat(keyA+"\n", 40_000)
	if keys, _ := Losses([]byte(before), []byte(after)); len(keys) != 0 {
		t.Error("widening each line takes away")
	}
	if keys, _ := Losses([]byte(after), []byte(before)); len(keys) != 1 || len(keys[0].Lines) != 40_000 {
		t.Error("narrowing each line takes nothing away")
	}
}

func FuzzLosses(f *testing.F) {
	f.Add([]byte(keyA+"\n"+keyB), []byte(keyB))
	f.Add([]byte(`expiry-time="20990101Z",from="192.0.2.0/24" `+keyA), []byte(`from="192.0.2.0/24" `+keyA))
	f.Fuzz(func(t *testing.T, before, after []byte) { judged(t, before, after) })
}

// TestWildcard compares the matcher with the rule as it is written down: '*' for
// anything, '?' for one character; and gives it what once ran for ever.
func TestWildcard(t *testing.T) {
	var slow func(pattern, s string) bool
	slow = func(pattern, s string) bool {
		switch {
		case pattern == "":
			return s == ""
		case pattern[0] == '*':
			return slow(pattern[1:], s) || s != "" && slow(pattern, s[1:])
		}
		return s != "" && (pattern[0] == '?' || pattern[0] == s[0]) && slow(pattern[1:], s[1:])
	}
	r := rand.New(rand.NewPCG(1, 2))
	for range 30000 {
		text := func(of string, n int) string {
			var b strings.Builder
			for range r.IntN(n) {
				b.WriteByte(of[r.IntN(len(of))])
			}
			return b.String()
		}
		pattern, s := text("ab*?", 8), text("ab", 8)
		if wildcard(pattern, s) != slow(pattern, s) {
			t.Fatalf("%q %q: %v", pattern, s, wildcard(pattern, s))
		}
	}
	hostile := strings.Repeat("*a", 100_000) + "x"
	if wildcard(hostile, strings.Repeat("a", 45)) ||
		matchFrom(strings.Repeat("*", 4000)+"x,"+hostile, "2001:db8:aaaa:aaaa:aaaa:aaaa:aaaa:aaaa") {
		t.Error("it matches")
	}
}
