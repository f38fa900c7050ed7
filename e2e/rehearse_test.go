package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"plumlatch/core/wire"
)

// TestRehearseByHand: the ways that need a hand are carried out on the copy from the machine that asked for the rehearsal.
func TestRehearseByHand(t *testing.T) {
	t.Parallel()
	l := copyDoor(t, 150, "hand-board")
	d := l.d
	d.must(t, "key", "create", "hand-mate", "-dir", l.dir, "-new-passphrase", l.none)
	d.must(t, "access", "add", l.name, "-key", "hand-mate")
	keys := mustRead(t, l.disk("home/debian/.ssh/authorized_keys"))
	mate := filepath.Join(l.dir, "hand-mate")
	for what, c := range map[string]struct {
		args []string
		says string
	}{
		"no key":          {[]string{"-route", "second-key"}, "-identity FILE"},
		"a key for disk":  {[]string{"-route", "disk", "-identity", mate}, "-route second-key goes with"},
		"nobody is there": {[]string{"-route", "lent-key", "-detach"}, "not with -detach"},
	} {
		if r := d.client(t, "", append([]string{"restore", "rehearse", l.name, "-yes"}, c.args...)...); r.code != 2 || !strings.Contains(r.err, c.says) {
			t.Errorf("%s: %+v", what, r)
		}
	}
	contains(t, "planned", d.must(t, "restore", "rehearse", l.name, "-route", "lent-key", "-plan"), "Your part: you come in from this machine")
	for route, args := range map[string][]string{"lent-key": nil, "second-key": {"-identity", mate}} {
		contains(t, route, d.must(t, append([]string{"restore", "rehearse", l.name, "-route", route, "-yes"}, args...)...),
			"by "+route+" somebody would be in after", "the copy and its image are removed")
		if m := l.machines(t); len(m) != 1 || m[l.id] != "running" || len(l.images(t)) != 0 {
			t.Errorf("%s: at the cloud %v, %v", route, m, l.images(t))
		}
		if now := string(withoutLent([]byte(mustRead(t, l.disk("home/debian/.ssh/authorized_keys"))))); now != string(withoutLent([]byte(keys))) {
			t.Errorf("%s: its file is\n%s", route, now)
		}
	}
	contains(t, "past", d.must(t, "restore", "rehearse", l.name, "-past"), "lent-key", "second-key")
	// A key that does not open it comes in nowhere: the rehearsal says so, and nothing is left after the cancel that it names.
	pairIn(t, filepath.Join(l.dir, "stranger"))
	r := d.client(t, "", "restore", "rehearse", l.name, "-route", "second-key", "-identity", filepath.Join(l.dir, "stranger"), "-yes")
	if r.code == 0 || !strings.Contains(r.err, "nobody came in to the copy") {
		t.Errorf("a stranger's key: %+v", r)
	}
	d.must(t, "work", "cancel", fmt.Sprint(lastOf(t, d, l.name, "rehearse").ID), "-yes")
	waitFor(t, "all of it to be gone", func() bool {
		return lastOf(t, d, l.name, "rehearse").Over() && len(l.machines(t)) == 1 && len(l.images(t)) == 0
	})
}

// TestRehearse: each way back in that needs nobody's hand is carried out on a copy, measured, and removed; the instance itself is
// as it was.
func TestRehearse(t *testing.T) {
	t.Parallel()
	l := copyDoor(t, 147, "rehearse-board")
	d := l.d
	before, keys, who := d.instance(t, l.name), mustRead(t, l.disk("home/debian/.ssh/authorized_keys")), d.must(t, "who", l.name)
	untouched := func(what string) {
		t.Helper()
		if m := l.machines(t); len(m) != 1 || m[l.id] != "running" || len(l.images(t)) != 0 {
			t.Errorf("%s: at the cloud %v, %v", what, m, l.images(t))
		}
		if i := d.instance(t, l.name); i.CloudID != l.id || i.Address != before.Address || i.State != "running" || i.Phase != "ready" {
			t.Errorf("%s: it is %+v", what, i)
		}
		if now := mustRead(t, l.disk("home/debian/.ssh/authorized_keys")); now != keys {
			t.Errorf("%s: its file is\n%s", what, now)
		}
		if now := d.must(t, "who", l.name); who != now {
			t.Errorf("%s: who was\n%s\nand is\n%s", what, who, now)
		}
		for _, args := range [][]string{{"key", "list"}, {"instance", "list"}, {"discover"}, {"access", "list"}, {"who", l.name}} {
			if r := d.client(t, "", args...); r.code != 0 && r.code != 3 || strings.Contains(r.out, "-rehearsal-") {
				t.Errorf("%s: %q says %+v", what, args, r)
			}
		}
		var sent []struct{ Instance string }
		if l.cloud(t, "GET", "/v1/sent", "", &sent); len(sent) != 0 {
			t.Errorf("%s: sent by a copy: %v", what, sent)
		}
	}
	for _, route := range []string{"already-open", "bridge"} {
		if r := d.client(t, "", "restore", "rehearse", l.name, "-route", route, "-yes"); r.code == 0 || !strings.Contains(r.err, "steward, boot-text, disk, copy") {
			t.Errorf("%s: %+v", route, r)
		}
	}
	if r := d.client(t, "", "restore", "rehearse", l.name); r.code == 0 {
		t.Error("nobody was asked")
	}
	contains(t, "planned", d.must(t, "restore", "rehearse", l.name, "-route", "disk", "-plan"), "by disk", l.id, "costs at most",
		"nothing leads out of the copy", "Nothing was changed")
	untouched("planned")
	for _, route := range []string{"disk", "boot-text", "steward", "copy"} {
		contains(t, route, d.must(t, "restore", "rehearse", l.name, "-route", route, "-yes"), "by "+route+" somebody would be in after",
			"the copy and its image are removed")
		untouched(route)
	}
	ready := d.must(t, "restore", "ready")
	contains(t, "ready", ready, "rehearsed just now: in after", "; disk: rehearsed")
	past := d.must(t, "restore", "rehearse", l.name, "-past")
	contains(t, "past", past, "disk", "boot-text", "steward", "copy")
	var routes wire.Routes
	mustDo(t, json.Unmarshal([]byte(d.must(t, "restore", l.name, "-json")), &routes))
	for _, o := range routes.Offers {
		if r := o.Rehearsed; slices.Contains([]string{"disk", "boot-text"}, o.Route) && (r == nil || !r.Good || r.InSeconds <= 0 ||
			r.DownSeconds > r.InSeconds || o.UntilIn != r.InSeconds || o.Down != r.DownSeconds) {
			t.Errorf("%s: %+v, rehearsed %+v", o.Route, o, r)
		}
	}
	// Others with its image are estimated by it.
	d.must(t, "instance", "launch", "rehearse-other", "-image", "harrow-web-2", "-size", "small", "-region", "south-pier", "-key", l.new)
	var other wire.Routes
	mustDo(t, json.Unmarshal([]byte(d.must(t, "restore", "rehearse-other", "-json")), &other))
	n := slices.IndexFunc(other.Offers, func(o wire.RouteOffer) bool { return o.Route == "disk" })
	m := slices.IndexFunc(routes.Offers, func(o wire.RouteOffer) bool { return o.Route == "disk" })
	if o := other.Offers[n]; !strings.Contains(o.Sure, "by 1 of others with its image") || o.UntilIn != routes.Offers[m].UntilIn || o.Rehearsed != nil {
		t.Errorf("of another: %+v", o)
	}
	d.must(t, "instance", "remove", "rehearse-other", "-yes")

	// One that fails says why, stands on today, and leaves nothing.
	enabled := l.disk("etc/board-service/enabled")
	mustDo(t, os.Remove(enabled))
	if r := d.client(t, "", "restore", "rehearse", l.name, "-route", "disk", "-yes"); r.code == 0 ||
		!strings.Contains(r.err, "works on the old one, and not on the copy") {
		t.Errorf("a service that is not enabled: %+v", r)
	}
	untouched("a service that is not enabled")
	has(t, "today", d.reasonsOf(t, "instance", l.name), "rehearsal-failed", true)
	contains(t, "today", d.must(t, "today", "-what", "rehearsal-failed"), "plumlatch restore rehearse "+l.name+" -route disk")
	contains(t, "ready", d.must(t, "restore", "ready"), "; disk: rehearsed", "FAILED: ")
	mustDo(t, os.WriteFile(enabled, nil, 0o644))
	l.cloud(t, "POST", "/v1/faults", fmt.Sprintf(`{"call":"image-state","how":"fail","times":1,"name":%q}`, l.name), nil)
	if r := d.client(t, "", "restore", "rehearse", l.name, "-route", "boot-text", "-yes"); r.code == 0 || !strings.Contains(r.err, "is not ready after") {
		t.Errorf("an image that never gets ready: %+v", r)
	}
	untouched("an image that never gets ready")
	d.must(t, "restore", "rehearse", l.name, "-route", "disk", "-yes")
	d.must(t, "restore", "rehearse", l.name, "-route", "boot-text", "-yes")
	waitFor(t, "today to have it no more", func() bool { return !slices.Contains(d.reasonsOf(t, "instance", l.name), "rehearsal-failed") })
	// Cancelled in the middle: nothing is left, and nothing is said of it.
	d.must(t, "restore", "rehearse", l.name, "-route", "disk", "-yes", "-detach")
	var child wire.Work
	waitFor(t, "the way to be carried out", func() bool {
		var list wire.List[wire.Work]
		mustDo(t, json.Unmarshal([]byte(d.must(t, "work", "list", "-kind", "restore-disk", "-json")), &list))
		if len(list.Items) > 0 {
			child = list.Items[0]
		}
		return len(list.Items) > 0 && !child.Over() && child.StepName != "look"
	})
	// The copy is an instance of the ledger meanwhile, and no list has it.
	for _, args := range [][]string{{"instance", "list"}, {"access", "list"}, {"discover"}, {"restore", "ready"}} {
		if r := d.client(t, "", args...); strings.Contains(r.out, l.name+"-rehearsal-") {
			t.Errorf("meanwhile %q says %s", args, r.out)
		}
	}
	w := lastOf(t, d, l.name, "rehearse")
	d.must(t, "work", "cancel", fmt.Sprint(w.ID), "-yes")
	waitFor(t, "it to be over", func() bool { return lastOf(t, d, l.name, "rehearse").Over() })
	if w := lastOf(t, d, l.name, "rehearse"); w.State != "cancelled" {
		t.Errorf("cancelled: %+v", w)
	}
	untouched("cancelled")
	// The work that carries it out is cancelled: it goes back, and says nothing of the way.
	d.must(t, "restore", "rehearse", l.name, "-route", "disk", "-yes", "-detach")
	waitFor(t, "the way to be carried out once more", func() bool {
		var list wire.List[wire.Work]
		mustDo(t, json.Unmarshal([]byte(d.must(t, "work", "list", "-kind", "restore-disk", "-json")), &list))
		if list.Items[0].ID == child.ID || list.Items[0].StepName == "look" {
			return false
		}
		child = list.Items[0]
		return true
	})
	d.must(t, "work", "cancel", fmt.Sprint(child.ID), "-yes")
	waitFor(t, "it to be over", func() bool { return lastOf(t, d, l.name, "rehearse").Over() })
	if w := lastOf(t, d, l.name, "rehearse"); w.State != "failed" || !strings.Contains(w.Outcome, "was cancelled: nothing was shown") {
		t.Errorf("its work was cancelled: %+v", w)
	}
	untouched("its work was cancelled")
	has(t, "today", d.reasonsOf(t, "instance", l.name), "rehearsal-failed", false)
}
