package rotation

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"strings"
	"testing"
	"time"

	"plumlatch/core/authkeys"
)

func TestPaper(t *testing.T) {
	public, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	line := keyNew + " ours"
	file := []byte(keyOld + "\n\n" + line + "\n")
	sum := sha256.Sum256(file)
	p := Paper{Work: 12, Instance: "plumlatch-x", LoginUser: "debian", File: ".ssh/authorized_keys",
		SHA256: hex.EncodeToString(sum[:]), Lines: []string{line},
		Rests: []string{authkeys.Name(blobOf(t, keyOld))}, Until: today.Add(time.Minute)}
	if again, err := ReadPaper(p.Text()); err != nil || string(again.Text()) != string(p.Text()) {
		t.Fatalf("%v %s", err, p.Text())
	}
	sign := func(p Paper) ([]byte, []byte) { return p.Text(), ed25519.Sign(private, p.Text()) }
	text, signature := sign(p)
	permit, err := Signed(text, signature, public, p, file, today)
	if err != nil {
		t.Fatal(err)
	}
	if err := permit.Covers(p.File, file, []byte(keyOld+"\n"), today); err != nil {
		t.Error(err)
	}
	if err := permit.Covers(p.File, file, []byte("\n"+line+"\n"), today); !errors.Is(err, ErrNoPermit) {
		t.Errorf("another line: %v", err)
	}
	for what, c := range map[string]struct {
		change func(*Paper)
		file   string
		now    time.Time
		want   error
	}{
		"another instance": {change: func(p *Paper) { p.Instance = "plumlatch-y" }, want: ErrPaper},
		"another work":     {change: func(p *Paper) { p.Work = 13 }, want: ErrPaper},
		"another user":     {change: func(p *Paper) { p.LoginUser = "root" }, want: ErrPaper},
		"another line":     {change: func(p *Paper) { p.Lines = []string{keyOld} }, want: ErrPaper},
		"no line":          {change: func(p *Paper) { p.Lines = nil }, want: ErrPaper},
		"another file now": {file: string(file) + "# more\n", want: ErrStale},
		"over":             {now: today.Add(time.Hour), want: ErrEnded},
		"it rests on nothing there": {change: func(p *Paper) { p.Rests = []string{authkeys.Name(blobOf(t, keyNew))} },
			want: ErrLockOut},
		"it rests on nothing": {change: func(p *Paper) { p.Rests = nil }, want: ErrLockOut},
	} {
		other := p
		if c.change != nil {
			c.change(&other)
		}
		text, signature := sign(other)
		data, now := file, today
		if c.file != "" {
			data = []byte(c.file)
		}
		if !c.now.IsZero() {
			now = c.now
		}
		if _, err := Signed(text, signature, public, p, data, now); !errors.Is(err, c.want) {
			t.Errorf("%s: %v", what, err)
		}
	}
	if _, err := Signed(append(text, "rests x\n"...), signature, public, p, file, today); !errors.Is(err, ErrPaper) {
		t.Errorf("changed after it was signed: %v", err)
	}
	other, _, _ := ed25519.GenerateKey(nil)
	if _, err := Signed(text, signature, other, p, file, today); !errors.Is(err, ErrPaper) {
		t.Errorf("signed by another: %v", err)
	}
	for _, limits := range []string{`expiry-time="20990101Z" `, `from="192.0.2.1" `, `command="x" `,
		"cert-authority "} {
		data := []byte(limits + keyOld + "\n\n" + line + "\n")
		sum := sha256.Sum256(data)
		q := p
		q.SHA256 = hex.EncodeToString(sum[:])
		text, signature := sign(q)
		if _, err := Signed(text, signature, public, q, data, today); !errors.Is(err, ErrLockOut) {
			t.Errorf("rests on %s: %v", limits, err)
		}
	}
}

// TestOnRequest: what an operator asks an agent for is judged by the file in front of it: the one that was judged, with a key left that lets in.
func TestOnRequest(t *testing.T) {
	line := keyNew + " ours"
	file := []byte(keyOld + "\n\n" + line + "\n")
	sum := sha256.Sum256(file)
	p := Paper{LoginUser: "debian", File: "/home/debian/.ssh/authorized_keys", SHA256: hex.EncodeToString(sum[:]), Lines: []string{line},
		Rests: []string{authkeys.Name(blobOf(t, keyOld))}, Until: today.Add(time.Minute)}
	permit, err := OnRequest(p, file)
	if err != nil {
		t.Fatal(err)
	}
	if err := permit.Covers(p.File, file, []byte(keyOld+"\n"), today); err != nil {
		t.Error(err)
	}
	if err := permit.Covers(p.File, file, []byte("\n"+line+"\n"), today); !errors.Is(err, ErrNoPermit) {
		t.Errorf("another line: %v", err)
	}
	if err := permit.Covers("/root/.ssh/authorized_keys", file, []byte(keyOld+"\n"), today); !errors.Is(err, ErrStale) {
		t.Errorf("another file: %v", err)
	}
	for what, c := range map[string]struct {
		change func(*Paper)
		file   string
		want   error
	}{
		"another file now":          {file: string(file) + "# more\n", want: ErrStale},
		"no line":                   {change: func(p *Paper) { p.Lines = nil }, want: ErrPaper},
		"it rests on nothing":       {change: func(p *Paper) { p.Rests = nil }, want: ErrPaper},
		"it rests on what goes":     {change: func(p *Paper) { p.Rests = []string{authkeys.Name(blobOf(t, keyNew))} }, want: ErrLockOut},
		"both go":                   {change: func(p *Paper) { p.Lines = []string{line, keyOld} }, want: ErrLockOut},
		"it rests on one not there": {change: func(p *Paper) { p.Rests = []string{"SHA256:" + strings.Repeat("A", 43)} }, want: ErrLockOut},
	} {
		other, data := p, file
		if c.change != nil {
			c.change(&other)
		}
		if c.file != "" {
			data = []byte(c.file)
		}
		if _, err := OnRequest(other, data); !errors.Is(err, c.want) {
			t.Errorf("%s: %v", what, err)
		}
	}
}

func FuzzPaper(f *testing.F) {
	f.Add([]byte("Plum Latch permit\nwork 1\ninstance a\nuser b\nfile c\nsha256 d\ntake e\nrests f\nuntil " +
		"2026-01-01T00:00:00Z\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		if p, err := ReadPaper(text); err == nil && string(p.Text()) != string(text) {
			t.Errorf("%q is read as %q", text, p.Text())
		}
	})
}
