package door

import (
	"testing"
	"time"

	"plumlatch/core/authkeys"
)

// TestOpenerLines: what the lines of a key let its holder do, taken together.
func TestOpenerLines(t *testing.T) {
	const key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIINxvWDexAXVHPyZAR7TCAEwnL2nMGPT77CQvRL4mR1d"
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	for what, c := range map[string]struct {
		text                          string
		lending                       bool
		there, forced, excluded, ends bool
	}{
		"a plain line":              {text: key, there: true},
		"one command only":          {text: `command="x" ` + key, there: true, forced: true},
		"one of two with a command": {text: `command="x" ` + key + "\n" + key, there: true},
		"certain addresses":         {text: `from="192.0.2.7" ` + key, there: true, excluded: true},
		"an end to come":            {text: `expiry-time="20261129000000Z" ` + key, there: true, ends: true},
		"an end that has passed": {text: `expiry-time="20261127000000Z" ` + key, forced: true,
			excluded: true, ends: true},
		"restricted":                         {text: "restrict " + key, there: true},
		"restricted, lent":                   {text: "restrict " + key, lending: true, there: true, ends: true},
		"lent, and a plain line of its own":  {text: "restrict " + key + "\n" + key, lending: true, there: true},
		"a plain line where others lend":     {text: key, lending: true, there: true},
		"with a terminal, where others lend": {text: "restrict,pty " + key, lending: true, there: true},
	} {
		var o opener
		o.lines(authkeys.Parse([]byte(c.text+"\n"), time.UTC), now, c.lending)
		if o.There != c.there || o.Forced != c.forced || o.Excluded != c.excluded || o.Ends != c.ends {
			t.Errorf("%s: there %t, forced %t, excluded %t, ends %t", what, o.There, o.Forced, o.Excluded, o.Ends)
		}
	}
}

// TestEndedSince: a line whose end came after the server was asked is no line that it takes.
func TestEndedSince(t *testing.T) {
	const key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIINxvWDexAXVHPyZAR7TCAEwnL2nMGPT77CQvRL4mR1d"
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	for text, want := range map[string]bool{
		key:                                    false,
		`expiry-time="20261128115930Z" ` + key: true,  // half a minute ago
		`expiry-time="20261128115800Z" ` + key: false, // before it was asked
		`expiry-time="20261128120001Z" ` + key: false, // to come
		key + "\n" + `expiry-time="20261128115930Z" ` + key: true,
	} {
		if got := endedSince(authkeys.Parse([]byte(text+"\n"), time.UTC), now.Add(-time.Minute), now); got != want {
			t.Errorf("%s: %t", text, got)
		}
	}
}
