package routes

import (
	"strings"
	"testing"
	"time"
)

// TestRehearsed: what was measured takes the place of an estimate, its own before that of others; one that failed says so.
func TestRehearsed(t *testing.T) {
	const s = time.Second
	at := now.Add(-3 * 24 * time.Hour)
	good := func(route string, in, down time.Duration) Rehearsed {
		return Rehearsed{Route: route, Work: 41, At: at, Good: true, In: in, Down: down}
	}
	estimate := offerOf(inOrder(), "disk")
	for what, c := range map[string]struct {
		route      string
		own, alike []Rehearsed
		stopped    bool
		in, down   time.Duration
		sure, todo string
		has        bool
	}{
		"never":         {route: "disk", in: estimate.UntilIn, down: estimate.Down, sure: "on the disk is seen only then"},
		"by itself":     {route: "disk", own: []Rehearsed{good("disk", 63*s, 21500*time.Millisecond)}, in: 63 * s, down: 21500 * time.Millisecond, sure: "rehearsed 3 days ago: in after 63 s, down 22 s", has: true},
		"by others":     {route: "disk", alike: []Rehearsed{good("disk", 90*s, 9*s), good("disk", 50*s, 30*s), good("disk", 70*s, 20*s), good("copy", s, s)}, in: 70 * s, down: 20 * s, sure: "; how long: by 3 of others with its image"},
		"its own first": {route: "disk", own: []Rehearsed{good("disk", 63*s, 22*s)}, alike: []Rehearsed{good("disk", 1*s, 1*s)}, in: 63 * s, down: 22 * s, sure: "rehearsed 3 days ago", has: true},
		"another route": {route: "disk", own: []Rehearsed{good("boot-text", 63*s, 22*s)}, in: estimate.UntilIn, down: estimate.Down, sure: "seen only then"},
		"it failed": {route: "disk", own: []Rehearsed{{Route: "disk", At: at, Said: "the volume is encrypted"}}, alike: []Rehearsed{good("disk", s, s)},
			in: estimate.UntilIn, down: estimate.Down, sure: "seen only then", todo: "its rehearsal 3 days ago failed: the volume is encrypted", has: true},
		"stopped": {route: "disk", stopped: true, own: []Rehearsed{good("disk", 63*s, 22*s)}, in: 63 * s, sure: "rehearsed", has: true},
		"the copy, whose address was not moved": {route: "copy", own: []Rehearsed{good("copy", 63*s, 0)}, in: 63 * s, down: offerOf(inOrder(), "copy").Down,
			sure: "rehearsed 3 days ago: in after 63 s, the move of its address apart", has: true},
		"no downtime": {route: "steward", own: []Rehearsed{good("steward", 1200*time.Millisecond, 0)}, in: 1200 * time.Millisecond,
			sure: "rehearsed 3 days ago: in after 2 s, no downtime", has: true},
	} {
		f := inOrder()
		f.Rehearsed, f.Alike = c.own, c.alike
		if c.stopped {
			f.State = "stopped"
		}
		o := offerOf(f, c.route)
		if o.UntilIn != c.in || o.Down != c.down || !strings.Contains(o.Sure, c.sure) || (o.Rehearsed != nil) != c.has ||
			!strings.Contains(strings.Join(o.ToCheck, "\n"), c.todo) {
			t.Errorf("%s: %v, down %v, %q, to check %q, rehearsed %+v", what, o.UntilIn, o.Down, o.Sure, o.ToCheck, o.Rehearsed)
		}
	}
	for _, route := range Rehearsable {
		if r, ok := ByName(route); !ok || offerOf(inOrder(), route).People != "" && route != copyName {
			t.Errorf("%s is rehearsed, and needs somebody: %+v", route, r)
		}
	}
}
