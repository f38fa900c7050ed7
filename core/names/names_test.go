package names

import (
	"errors"
	"strings"
	"testing"
)

func TestCheck(t *testing.T) {
	for _, c := range []struct {
		in      string
		ok      bool
		suggest string
	}{
		{"night-crew", true, ""},
		{"9to5", true, ""},
		{"a", true, ""},
		{strings.Repeat("a", 63), true, ""},
		{"", false, ""},
		{"night crew", false, "try night-crew"},
		{"-night-crew", false, "try night-crew"},
		{".hidden", false, "try hidden"},
		{"../../etc/passwd", false, "try etc-passwd"},
		{"night\x1b[31mcrew", false, "try night-31mcrew"},
		{strings.Repeat("a", 64), false, "try " + strings.Repeat("a", 63)},
		{"\u202e", false, ""},
		{"nächt", false, "try n-cht"},
	} {
		err := Check(c.in)
		if (err == nil) != c.ok {
			t.Errorf("Check(%q) = %v, want ok=%v", c.in, err, c.ok)
			continue
		}
		if err == nil {
			continue
		}
		if !errors.Is(err, ErrInvalid) || !strings.Contains(err.Error(), c.suggest) {
			t.Errorf("Check(%q) = %v, want ErrInvalid with %q", c.in, err, c.suggest)
		}
		if strings.ContainsAny(err.Error(), "\x1b\u202e") {
			t.Errorf("Check(%q): the error carries a raw control character", c.in)
		}
	}
}

func FuzzSuggest(f *testing.F) {
	f.Add("night crew")
	f.Fuzz(func(t *testing.T, s string) {
		if got := Suggest(s); got != "" && Check(got) != nil {
			t.Errorf("Suggest(%q) = %q, which is not valid", s, got)
		}
	})
}

func TestLoginUser(t *testing.T) {
	for s, want := range map[string]bool{"debian": true, "_svc": true, "a.b-c_1": true, "": false,
		"-oProxyCommand=x": false, "Root": false, "a b": false, "a\nb": false, "1a": false,
		"abcdefghijklmnopqrstuvwxyz012345": true, "abcdefghijklmnopqrstuvwxyz0123456": false} {
		if LoginUser(s) != want {
			t.Errorf("%q: %v", s, !want)
		}
	}
}
