package restore_test

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"

	"plumlatch/core/wire"
	"plumlatch/service/kinds/kindtest"
	"plumlatch/service/store"
)

// TestRehearseHalts: wherever its replica is killed, a rehearsal ends, and leaves the instance, the cloud and the ledger as they
// were.
func TestRehearseHalts(t *testing.T) {
	t.Parallel()
	var seen sync.Map // by house: the last rehearsal that counts no more
	kindtest.EveryHalt(t, kindtest.Case{
		Kind: "rehearse",
		Some: 4, Returns: "rehearse/forget/end",
		Prepare: func(h *kindtest.House) {
			h.Key("first")
			h.Launch("berth-1", "first")
		},
		Begin: func(h *kindtest.House) (store.Work, error) {
			return h.W.Restore.Rehearse(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"), wire.Rehearse{Route: "steward"})
		},
		Reset: func(h *kindtest.House) { seen.Store(h, last(h)) },
		State: func(h *kindtest.House) string {
			before, _ := seen.LoadOrStore(h, int64(0))
			return fmt.Sprintf("%s\n%s\n%s\nrehearsed: %v", h.Machine("berth-1"), h.Keys("berth-1"), left(h), last(h) > before.(int64))
		},
	})
}

// TestRunsTwice: where a cloud cannot shut the way out of a copy, a rehearsal says what would run twice and begins when that was accepted
// alone; the policy has none done. A copy that takes an instance's place says so too.
func TestRunsTwice(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.OutStaysOpen()
	h.Key("first")
	i := h.Launch("berth-1", "first")
	p, err := h.W.Restore.PlanRehearsal(t.Context(), i, "steward")
	if err != nil || len(p.Twice) == 0 || !strings.Contains(p.Twice[0], "jobs of cron") || strings.Contains(strings.Join(append(p.Steps, p.Notes...), "\n"),
		"nothing leads out") {
		t.Errorf("%+v %v", p, err)
	}
	rehearse := func(twice bool) (store.Work, error) {
		return h.W.Restore.Rehearse(t.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"), wire.Rehearse{Route: "steward", Twice: twice})
	}
	if _, err := rehearse(false); err == nil || !strings.Contains(err.Error(), "would run twice") {
		t.Errorf("nobody has accepted it: %v", err)
	}
	if err := h.DB.SetPolicy(t.Context(), kindtest.By, "rehearse:\n  every: 1d\n"); err != nil {
		t.Fatal(err)
	}
	h.W.Door.PolicyChanged()
	if _, err := h.W.Restore.RehearsalsDue(t.Context()); err != nil {
		t.Error(err)
	}
	past, err := h.DB.Rehearsals(t.Context(), i.ID, 10)
	if err != nil || len(past) != 0 {
		t.Errorf("by the policy: %+v %v", past, err)
	}
	if end := h.Done(rehearse(true)); end.State != store.Done {
		t.Errorf("accepted: %s %s", end.State, end.Outcome)
	}
	if err := h.W.Door.CloudOf(i).SetOutbound(t.Context(), "x", i.CloudID, true); err == nil {
		t.Error("the cloud shuts and opens the way out, and was to be one that cannot")
	}
	_, offers, err := h.W.Restore.RoutesOf(t.Context(), "berth-1", true)
	if err != nil {
		t.Fatal(err)
	}
	for _, o := range offers {
		if o.Route == "copy" && (!o.Open || !strings.Contains(strings.Join(o.Changes, "\n"), "cannot shut the way out of a copy")) {
			t.Errorf("%+v", o)
		}
	}
}

// last is the last rehearsal that went well.
func last(h *kindtest.House) (id int64) {
	past, err := h.DB.Rehearsals(h.Context(), h.Instance("berth-1").ID, 200)
	if err != nil {
		h.Fatal(err)
	}
	for _, r := range past {
		if r.EndedAt != nil && r.Good {
			id = max(id, r.WorkID)
		}
	}
	return id
}

// left is what a rehearsal would leave behind, if it did: machines, images, pairs, and instances that a list shows.
func left(h *kindtest.House) string {
	var out []string
	for _, region := range []string{"north-pier", "south-pier", "skerry-island"} {
		all, err := h.W.Door.Clouds.List(h.Context(), region)
		if err != nil {
			h.Fatal(err)
		}
		for _, i := range all {
			if i.State != "removed" {
				out = append(out, i.Name)
			}
		}
	}
	images, err := h.W.Door.Clouds.All()[0].OwnImages(h.Context(), "")
	if err != nil {
		h.Fatal(err)
	}
	keys, err := h.DB.KeyNames(h.Context())
	if err != nil {
		h.Fatal(err)
	}
	slices.Sort(out)
	return fmt.Sprintf("%q %d images, keys %q", out, len(images), keys)
}

// TestRehearsalsDue: the policy has ways back in rehearsed, one at a time, never more often than it says, and never for more money
// in a month than it says.
func TestRehearsalsDue(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	for _, name := range []string{"berth-1", "berth-2"} {
		h.Launch(name, "first")
	}
	under := func(policy string) (begun []store.Work) {
		t.Helper()
		if err := h.DB.SetPolicy(t.Context(), kindtest.By, policy); err != nil {
			t.Fatal(err)
		}
		h.W.Door.PolicyChanged()
		var all sync.WaitGroup
		for range 4 { // as many replicas look at one time
			all.Go(func() {
				if _, err := h.W.Restore.RehearsalsDue(t.Context()); err != nil {
					t.Error(err)
				}
			})
		}
		all.Wait()
		for _, name := range []string{"berth-1", "berth-2"} {
			past, err := h.DB.Rehearsals(t.Context(), h.Instance(name).ID, 5)
			if err != nil {
				t.Fatal(err)
			}
			for _, r := range past {
				w, err := h.DB.WorkByID(t.Context(), r.WorkID)
				if err != nil {
					t.Fatal(err)
				}
				begun = append(begun, w)
			}
		}
		return begun
	}
	for what, policy := range map[string]string{"by default": "{}", "too dear": "rehearse: {every: 30d, at_most: 0.01}",
		"of no instance": "rehearse: {every: 30d, tag: env=prod}"} {
		if begun := under(policy); len(begun) != 0 {
			t.Errorf("%s: %+v", what, begun)
		}
	}
	const monthly = "rehearse: {every: 30d, route: steward}"
	first := under(monthly)
	if len(first) != 1 || first[0].Operator != store.Service.Operator {
		t.Fatalf("begun: %+v", first)
	}
	again := under(monthly)
	if now := h.Now(first[0]); !now.Over() && len(again) != 1 {
		t.Errorf("two at a time: %+v", again)
	}
	h.Until("the first to be over", func() bool { return h.Now(first[0]).Over() })
	if w := h.Now(first[0]); w.State != store.Done || !strings.Contains(w.Outcome, "by steward somebody would be in after") {
		t.Errorf("the first: %s, %s", w.State, w.Outcome)
	}
	both := under(monthly)
	if len(both) != 2 || both[0].InstanceID == both[1].InstanceID {
		t.Fatalf("the other is due: %+v", both)
	}
	for _, w := range both {
		h.Until("both to be over", func() bool { return h.Now(w).Over() })
	}
	if all := under(monthly); len(all) != 2 {
		t.Errorf("once a month: %+v", all)
	}
	spent, err := h.DB.RehearsalOf(t.Context(), first[0].ID)
	if err != nil || spent.Price <= 0 {
		t.Fatalf("its price: %+v %v", spent, err)
	}
	// What was spent this month counts, whatever it was for.
	dear := fmt.Sprintf("rehearse: {every: 1d, route: steward, at_most: %f}", 2.5*spent.Price)
	if all := under(dear); len(all) != 2 {
		t.Errorf("dearer than the month: %+v", all)
	}
}
