package rotation

import (
	"errors"
	"strings"
	"testing"
	"time"

	"plumlatch/core/authkeys"
)

const key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAPTOt+0wZKRM88XZQP528RigDz7qhRN8Gzys8lgjCAb"

func TestCarry(t *testing.T) {
	for _, c := range []struct {
		what, file, options string
		hardware            bool
		notes               int
		forced              bool
		err                 error
	}{
		{what: "nothing", file: key + " x"},
		{what: "a forced command", file: `command="a b, \"c\"",no-pty ` + key, options: `command="a b, \"c\"",no-pty`,
			notes: 1, forced: true},
		{what: "addresses and a variable", file: `from="10.0.0.0/8,!10.1.1.1",environment="A=secret" ` + key,
			options: `from="10.0.0.0/8,!10.1.1.1",environment="A=secret"`, notes: 2},
		{what: "an end", file: `expiry-time="20990101Z" ` + key, options: `expiry-time="20990101Z"`, notes: 1},
		{what: "the freest of several", file: `command="x" ` + key + "\n" + key + "\n" + `from="1.2.3.4" ` +
			key, options: ""},
		{what: "from beats a forced command", file: `command="x" ` + key + "\n" + `from="1.2.3.4" ` + key,
			options: `from="1.2.3.4"`, notes: 1},
		{what: "touch for software", file: `no-touch-required,no-pty ` + key, options: "no-pty", notes: 1},
		{what: "touch for hardware", file: `no-touch-required,no-pty ` + key, options: "no-touch-required,no-pty",
			hardware: true},
		{what: "an authority", file: `cert-authority ` + key, err: ErrAuthority},
		{what: "no line", file: "# nothing\n", err: ErrNoLine},
		{what: "a broken line", file: `frob="1" ` + key, err: ErrNoLine},
	} {
		got, err := Carry(authkeys.Parse([]byte(c.file), time.UTC), c.hardware)
		if !errors.Is(err, c.err) || got.Options != c.options || len(got.Notes) != c.notes || got.Forced != c.forced {
			t.Errorf("%s: %+v %v", c.what, got, err)
			continue
		}
		if strings.Contains(strings.Join(got.Notes, " "), "secret") {
			t.Errorf("%s: a variable's value is told: %q", c.what, got.Notes)
		}
		if err == nil {
			if l := authkeys.Parse([]byte(got.Line(key+" new")), time.UTC); len(l) != 1 || l[0].Err != nil ||
				l[0].Options.Text != c.options {
				t.Errorf("%s: the line %q", c.what, got.Line(key+" new"))
			}
		}
	}
}

func TestWaves(t *testing.T) {
	for _, c := range []struct {
		n    int
		pace Pace
		want []int
	}{
		{0, Pace{}, nil},
		{1, Pace{}, []int{1}},
		{5, Pace{}, []int{1, 1, 1, 1, 1}},
		{100, Pace{}, []int{1, 3, 9, 10, 10, 10, 10, 10, 10, 10, 10, 7}},
		{100, Pace{First: 2, Grow: 2, AtMost: Share{N: 30}}, []int{2, 4, 8, 16, 30, 30, 10}},
		{500, Pace{First: 500, AtMost: Share{Percent: 100}}, []int{500}},
		{10, Pace{First: 4, Grow: 1, AtMost: Share{Percent: 50}}, []int{4, 4, 2}},
	} {
		got, err := Waves(c.n, c.pace)
		if err != nil || len(got) != len(c.want) {
			t.Errorf("%d %+v: %v %v", c.n, c.pace, got, err)
			continue
		}
		for n := range got {
			if got[n] != c.want[n] {
				t.Errorf("%d %+v: %v", c.n, c.pace, got)
				break
			}
		}
	}
	if _, err := Waves(3, Pace{Grow: -1}); err == nil {
		t.Error("waves that shrink are waves")
	}
	for text, ok := range map[string]bool{"10%": true, "0.5%": true, "25": true, "0": false, "0%": false,
		"101%": false, "-3": false, "x": false, "NaN%": false, "": false} {
		s, err := ParseShare(text)
		if (err == nil) != ok || ok && s.String() != text {
			t.Errorf("%q: %v %v", text, s, err)
		}
	}
}
