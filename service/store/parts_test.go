package store_test

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"plumlatch/core/rotation"
	"plumlatch/service/store"
)

// TestBeginMembers: parts are begun together, each with its plan and its line in the journal; one whose
// instance is held is left, and nothing of it is kept. Of a lost claim nothing is.
func TestBeginMembers(t *testing.T) {
	t.Parallel()
	d := newDoors(t)
	steps := []store.WorkStep{{Name: "add", Title: "adding"}, {Name: "check", Title: "asking"}}
	parent, err := d.db.AddWork(t.Context(), store.Service, store.Once{}, store.NewWork{Kind: "many", Title: "many",
		Token: "many", Steps: steps[:1], Target: "instances", Action: "many"})
	if err != nil {
		t.Fatal(err)
	}
	if err := d.db.ChooseMembers(t.Context(), parent.ID, []store.Member{{N: 0, InstanceID: d.one.ID, Wave: 1},
		{N: 1, InstanceID: d.two.ID, Wave: 1}}); err != nil {
		t.Fatal(err)
	}
	claimed, err := d.db.ClaimWork(t.Context(), "replica", []string{"many"}, time.Minute)
	if err != nil {
		t.Fatal(err)
	}
	part := func(n int, i store.Instance, token string) store.Part {
		return store.Part{Member: store.Member{N: n, InstanceID: i.ID}, Work: store.NewWork{Kind: "rotate",
			Title: "rotate on " + i.Name, Token: token, ParentID: parent.ID, Changing: true, Input: map[string]int{"n": n},
			OldKeyID: d.keys[0].ID, NewKeyID: d.keys[3].ID, Steps: steps, Target: "instance " + i.Name, Action: "access.rotate",
			Intent: "rotate"}}
	}
	lost := store.WithClaim(t.Context(), store.Claim{Work: parent.ID, Fence: claimed.Fence - 1})
	if _, err := d.db.BeginMembers(lost, parent.ID, store.Service, []store.Part{part(0, d.one, "lost")}); !errors.Is(err,
		store.ErrLost) {
		t.Errorf("a lost claim: %v", err)
	}
	ctx := store.WithClaim(t.Context(), store.Claim{Work: parent.ID, Fence: claimed.Fence})
	for round, want := range []int{0, 1} { // the first instance is held from the first round on
		busy, err := d.db.BeginMembers(ctx, parent.ID, store.Service,
			[]store.Part{part(0, d.one, fmt.Sprint("one", round)), part(1, d.two, fmt.Sprint("two", round))}[:1+round])
		if err != nil || len(busy) != want || want == 1 && busy[0].InstanceID != d.one.ID {
			t.Fatalf("round %d: busy %+v: %v", round, busy, err)
		}
	}
	members, err := d.db.Members(t.Context(), parent.ID)
	if err != nil || len(members) != 2 {
		t.Fatal(err)
	}
	for n, m := range members {
		w, err := d.db.WorkByID(t.Context(), m.ChildID)
		if err != nil || w.ParentID != parent.ID || w.InstanceID != m.InstanceID || w.PlanNames != "add,check" ||
			w.At != "add" || w.State != store.Queued || w.Input != fmt.Sprintf(`{"n": %d}`, n) || w.IntentID == 0 {
			t.Errorf("%+v: %v", w, err)
		}
		entries, _, err := d.db.Journal(t.Context(), "instance "+m.Instance, store.Page{})
		begun := 0
		for _, e := range entries {
			if e.Action == "access.rotate" {
				begun++
				if e.ID != w.IntentID || e.Intent != "rotate" || e.Operator != store.Service.Operator {
					t.Errorf("%+v", e)
				}
			}
		}
		if err != nil || begun != 1 {
			t.Errorf("%d entries of %s: %v", begun, m.Instance, err)
		}
	}
}

// TestAddPermit: a permit is given on keys as they were judged, and on no others; while it holds, nobody
// marks them, and what is not given after all keeps nobody waiting.
func TestAddPermit(t *testing.T) {
	t.Parallel()
	d := newDoors(t)
	k := d.keys[0]
	p := store.NewPermit{Work: d.one.WorkID, Instance: d.one.ID, LoginUser: "debian",
		Rests: []rotation.Rest{{ID: k.ID, Mark: rotation.Mark{Holder: k.HolderSort, State: "retired"}}}}
	if _, err := d.db.AddPermit(t.Context(), p); !errors.Is(err, rotation.ErrStale) {
		t.Errorf("a key that was judged to be retired: %v", err)
	}
	begun := time.Now()
	if err := d.db.RetireKey(t.Context(), store.Service, k, true); err != nil || time.Since(begun) > store.PermitLife/2 {
		t.Errorf("%v after %v: a permit that was not given holds", err, time.Since(begun))
	}
	id, err := d.db.AddPermit(t.Context(), p)
	if err != nil {
		t.Fatal(err)
	}
	if err := d.db.PermitHolds(t.Context(), id, p.Rests); err != nil {
		t.Error(err)
	}
	marked := make(chan error, 1)
	go func() { marked <- d.db.RetireKey(t.Context(), store.Service, k, false) }()
	select {
	case err := <-marked:
		t.Errorf("marked while a permit rests on it: %v", err)
	case <-time.After(300 * time.Millisecond):
	}
	if err := d.db.EndPermit(t.Context(), id); err != nil {
		t.Fatal(err)
	}
	if err := <-marked; err != nil {
		t.Error(err)
	}
	if err := d.db.PermitHolds(t.Context(), id, p.Rests); !errors.Is(err, rotation.ErrEnded) {
		t.Errorf("it was ended: %v", err)
	}
	p.Fence = 7
	if _, err := d.db.AddPermit(store.WithClaim(t.Context(), store.Claim{Work: p.Work, Fence: 7}), p); !errors.Is(err,
		store.ErrLost) {
		t.Errorf("a claim that is not held: %v", err)
	}
}
