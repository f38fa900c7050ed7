package store_test

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"plumlatch/core/keypair"
	"plumlatch/core/wire"
	"plumlatch/service/store"
)

// TestTakePlace: another machine takes the place of an instance, with its own host key and address; the first one takes it
// again, and its accesses are those that stood on it.
func TestTakePlace(t *testing.T) {
	t.Parallel()
	d := newDoors(t)
	ctx := t.Context()
	old, err := d.db.MachineOf(ctx, d.one)
	if err != nil {
		t.Fatal(err)
	}
	pair, err := keypair.Create(keypair.Ed25519, "another host key")
	if err != nil {
		t.Fatal(err)
	}
	rows, err := d.db.AccessesOf(ctx, d.one.ID)
	if err != nil {
		t.Fatal(err)
	}
	var stood []store.PlacedAs
	for _, a := range rows {
		if !a.Steward {
			stood = append(stood, store.PlacedAs{KeyID: a.KeyID, LoginUser: a.LoginUser})
		}
	}
	if len(stood) == 0 {
		t.Fatal("nothing opens it")
	}
	next := store.Machine{CloudID: "hull-copy", State: "running", Address: "192.0.2.99", Port: 2222, HostKeys: []store.HostKey{{Blob: pair.Public.Blob,
		Type: pair.Public.Type(), Fingerprint: pair.Public.Fingerprint(), Source: "first boot"}}}
	// What an engineer's client saw of the old machine is told of that, as long as it is not too long ago.
	fence, err := d.db.TakeTurn(ctx, d.one.ID)
	if err != nil {
		t.Fatal(err)
	}
	if err := d.db.KeepSurvey(ctx, d.one, store.Kept{By: store.Service, Turn: store.Turn{InstanceID: d.one.ID, Fence: fence}, Parts: []store.SurveyPart{{Sort: "client",
		Vantage: "the client of x", Report: wire.Survey{Machine: &wire.MachineSeen{Running: []string{"a.service"}}}}}}); err != nil {
		t.Fatal(err)
	}
	told := func(within time.Duration) string {
		t.Helper()
		m, err := d.db.MachineTold(ctx, d.one.ID, within)
		if err != nil {
			t.Fatal(err)
		}
		return m.By + " " + strings.Join(m.Machine.Running, ",")
	}
	if now, late := told(time.Hour), told(0); now != "the client of x a.service" || late != " " {
		t.Errorf("told: %q; too long ago: %q", now, late)
	}
	for range 2 { // twice is once
		if err := d.db.TakePlace(ctx, store.Service, d.one, next, "a copy"); err != nil {
			t.Fatal(err)
		}
	}
	if now := told(time.Hour); now != " " {
		t.Errorf("of the other machine is told: %q", now)
	}
	i, err := d.db.InstanceByID(ctx, d.one.ID)
	keys, wrong := d.db.HostKeys(ctx, d.one.ID)
	if err = errors.Join(err, wrong); err != nil || i.CloudID != "hull-copy" || i.Address != "192.0.2.99" || i.Port != 2222 || i.Name != d.one.Name ||
		len(keys) != 1 || keys[0].Fingerprint != pair.Public.Fingerprint() {
		t.Errorf("it is %+v with %+v: %v", i, keys, err)
	}
	// Since then one access came, and one was withdrawn.
	gone := rows[slices.IndexFunc(rows, func(a store.Access) bool { return !a.Steward })]
	w, err := d.db.BeginWork(ctx, store.Service, store.Once{}, d.two.ID, store.NewWork{Kind: "x", Token: "x", Target: "instance x", Action: "x"})
	if err != nil {
		t.Fatal(err)
	}
	if err := d.db.EndAccess(ctx, gone.ID, w.ID, "withdrawn"); err != nil && !errors.Is(err, store.ErrLost) {
		t.Fatal(err)
	}
	if _, err := d.db.Place(ctx, d.one.ID, d.keys[3].ID, gone.LoginUser, "later", true); err != nil {
		t.Fatal(err)
	}
	if err := d.db.TakePlace(ctx, store.Service, d.one, old, "back"); err != nil {
		t.Fatal(err)
	}
	ended, again, err := d.db.AccessesBack(ctx, d.one, stood, w.ID, "it went back")
	if err != nil || !slices.Equal(ended, []string{d.keys[3].Name}) {
		t.Errorf("ended %v, again %v: %v", ended, again, err)
	}
	rows, err = d.db.AccessesOf(ctx, d.one.ID)
	var now []store.PlacedAs
	for _, a := range rows {
		if !a.Steward {
			now = append(now, store.PlacedAs{KeyID: a.KeyID, LoginUser: a.LoginUser})
		}
	}
	key := func(p store.PlacedAs) int64 { return p.KeyID }
	slices.SortFunc(now, func(a, b store.PlacedAs) int { return int(key(a) - key(b)) })
	slices.SortFunc(stood, func(a, b store.PlacedAs) int { return int(key(a) - key(b)) })
	if err != nil || !slices.Equal(now, stood) {
		t.Errorf("there are %v, and there were %v: %v", now, stood, err)
	}
	i, err = d.db.InstanceByID(ctx, d.one.ID)
	if err != nil || i.CloudID != old.CloudID || i.Address != old.Address {
		t.Errorf("back: %+v %v", i, err)
	}
}

// TestKeepMachine: what is kept is no instance that nobody knows, and stands on today from when it waits for a word. Its work
// holds the instance only when it asks to, and not while other work does.
func TestKeepMachine(t *testing.T) {
	t.Parallel()
	d := newDoors(t)
	ctx := t.Context()
	n := store.NewWork{Kind: "restore-kept", Token: "kept", Target: "instance x", Action: "keep", Steps: []store.WorkStep{{Name: "keep", Title: "keeping"}}}
	kept := store.OldMachine{Cloud: "standin", CloudID: "hull-old", Until: time.Now(), WeekPrice: 2, Currency: "pence"}
	if err := d.db.KeepMachine(ctx, store.Service, d.one, n, kept); err != nil {
		t.Fatal(err)
	}
	all, err := d.db.KeptOf(ctx, d.one.ID)
	if err != nil || len(all) != 1 || all[0].CloudID != "hull-old" || all[0].AskedAt != nil {
		t.Fatalf("kept: %+v %v", all, err)
	}
	work := all[0].Work
	n.Token, n.Changing = "other", true
	other, err := d.db.BeginWork(ctx, store.Service, store.Once{}, d.one.ID, n)
	if err != nil {
		t.Fatal("it holds the instance while it keeps the machine: ", err)
	}
	if err := d.db.HoldInstance(ctx, work); !errors.Is(err, store.ErrInProgress) {
		t.Errorf("held beside work %d: %v", other.ID, err)
	}
	if err := errors.Join(d.db.KeptAsked(ctx, work), d.db.KeptGone(ctx, work)); err != nil {
		t.Error(err)
	}
	if all, err := d.db.KeptOf(ctx, d.one.ID); err != nil || len(all) != 0 {
		t.Errorf("gone: %+v %v", all, err)
	}
}
