package authkeys

import (
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"
)

const (
	keyA = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIHGAtn6WB9M/kLOfUEZqPCwGJDEq+AGh/E6dvg3sLhTL"
	keyB = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJG5LC5qTY0qc+hj+SZyw341oJ6T8+jSjZwLqNsuBS3v"
)

func blobOf(line string) []byte {
	b, _ := base64.StdEncoding.DecodeString(strings.Fields(line)[1])
	return b
}

// The large table, compared with the real sshd, is in e2e. This one needs no sshd.
func TestDecide(t *testing.T) {
	now := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		file string
		want bool
		why  string
	}{
		{keyA + " a comment\n", true, ""},
		{keyB + "\n", false, "no line"},
		{`expiry-time="20260301120000Z" ` + keyA, true, ""},
		{`expiry-time="20260301115959Z" ` + keyA, false, "expired"},
		{`expiry-time="20260301115959Z" ` + keyA + "\n" + keyA, true, ""},
		{`from="192.0.2.0/24,!192.0.2.9" ` + keyA, false, "address"},
		{`from="198.51.100.7" ` + keyA, true, ""},
		{`from="198.51.100.*,!198.51.100.7" ` + keyA, false, "address"},
		{`restrict,frob ` + keyA, false, "no line"},
		{`cert-authority ` + keyA, false, "authority"},
	} {
		d := Decide(Parse([]byte(c.file), time.UTC), blobOf(keyA), "198.51.100.7", now)
		if d.Allowed != c.want || !strings.Contains(d.Reason, c.why) {
			t.Errorf("%q: %+v, want %v %q", c.file, d, c.want, c.why)
		}
	}
}

func TestLocalTimeWithoutZ(t *testing.T) {
	east := time.FixedZone("east", 3*3600)
	for text, want := range map[string]time.Time{
		"20260301":        time.Date(2026, 2, 28, 21, 0, 0, 0, time.UTC),
		"20260301Z":       time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC),
		"202603011230":    time.Date(2026, 3, 1, 9, 30, 0, 0, time.UTC),
		"20260301123005Z": time.Date(2026, 3, 1, 12, 30, 5, 0, time.UTC),
	} {
		l := Parse([]byte(fmt.Sprintf("expiry-time=%q %s", text, keyA)), east)
		if len(l) != 1 || !l[0].Options.Expires.Equal(want) {
			t.Errorf("%s: %+v, want %v", text, l, want)
		}
	}
	if got := FormatTime(time.Date(2026, 3, 1, 15, 30, 5, 0, east)); got != "20260301123005Z" {
		t.Errorf("FormatTime = %s", got)
	}
}

func TestOptions(t *testing.T) {
	l := Parse([]byte(`restrict,pty,command="say \"hi\", then go",environment="A=b,c" `+keyA+" it's me"), time.UTC)
	if len(l) != 1 || l[0].Err != nil {
		t.Fatalf("%+v", l)
	}
	o := l[0].Options
	if o.Command != `say "hi", then go` || o.NoPTY || !o.NoPortForwarding || len(o.Environment) != 1 ||
		l[0].Comment != "it's me" {
		t.Errorf("%+v %q", o, l[0].Comment)
	}
}

func TestQuoteIsReadBack(t *testing.T) {
	for _, v := range []string{"internal-sftp", `echo "a, b"`, "", "back\\slash in the middle"} {
		q, err := Quote(v)
		if err != nil {
			t.Fatalf("%q: %v", v, err)
		}
		l := Parse([]byte("command="+q+" "+keyA), time.UTC)
		if len(l) != 1 || l[0].Options.Command != v {
			t.Errorf("%q is read back as %+v", v, l)
		}
	}
	for _, v := range []string{"a\nb", "a\rb", "a\x00b", `ends in \`, `a\"b`} {
		if _, err := Quote(v); !errors.Is(err, ErrUnwritable) {
			t.Errorf("%q: %v, want ErrUnwritable", v, err)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(`restrict,command="x" ` + keyA + "\n# c\n\n" + keyB))
	f.Add([]byte("\"unclosed " + keyA))
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, l := range Parse(data, time.UTC) {
			if (l.Err == nil) != (len(l.Blob) > 0) {
				t.Errorf("line %d: err %v with %d bytes of key", l.Number, l.Err, len(l.Blob))
			}
		}
		d := Decide(Parse(data, time.UTC), blobOf(keyA), "192.0.2.1", time.Unix(0, 0))
		if d.Allowed && !strings.Contains(string(data), "AAAAC3Nz") && !strings.Contains(string(data), "\v") &&
			!strings.Contains(string(data), "\f") && !strings.Contains(string(data), "\r") {
			t.Errorf("allowed a key that the file does not hold: %q", data)
		}
	})
}
