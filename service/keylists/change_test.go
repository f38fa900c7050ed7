package keylists_test

import (
	"strings"
	"testing"

	"plumlatch/core/wire"
	"plumlatch/service/kinds/kindtest"
	"plumlatch/service/store"
	"plumlatch/standin"
)

// listedNow is what the cloud's lists hold.
func listedNow(h *kindtest.House) string {
	h.Helper()
	var out []string
	for _, r := range standin.Regions {
		all, err := h.Cloud.KeyEntries(r.Name)
		if err != nil {
			h.Fatal(err)
		}
		for _, e := range all {
			out = append(out, r.Name+" "+e.Name+" "+e.Fingerprint)
		}
	}
	return strings.Join(out, "\n")
}

// unlisted takes everything out of the lists, as somebody else would.
func unlisted(h *kindtest.House) {
	h.Helper()
	for _, r := range standin.Regions {
		all, err := h.Cloud.KeyEntries(r.Name)
		if err != nil {
			h.Fatal(err)
		}
		for _, e := range all {
			if err := h.Cloud.RemoveKeyEntry(e.ID); err != nil {
				h.Fatal(err)
			}
		}
	}
}

// TestAdd: wherever its replica is killed, a key comes to stand in each list once; cancelled, it stands in none.
func TestAdd(t *testing.T) {
	t.Parallel()
	kindtest.EveryHalt(t, kindtest.Case{
		Kind:    "cloud-key-add",
		Prepare: func(h *kindtest.House) { h.Key("first") },
		Begin: func(h *kindtest.House) (store.Work, error) {
			return h.W.KeyLists.List(h.Context(), kindtest.By, store.Once{}, wire.ListKey{Key: "first"})
		},
		Reset: unlisted,
		State: listedNow,
	})
}

// TestRemove: wherever its replica is killed, a key comes to stand in no list.
func TestRemove(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	for _, point := range []string{"cloud-key-remove/remove/begin", "cloud-key-remove/remove/remove/before",
		"cloud-key-remove/remove/remove/inside", "cloud-key-remove/remove/remove/after", "cloud-key-remove/remove/end"} {
		if w := h.Done(h.W.KeyLists.List(t.Context(), kindtest.By, store.Once{}, wire.ListKey{Key: "first"})); w.State != store.Done {
			t.Fatal(w.Outcome)
		}
		w, came := h.Halted(point, func(h *kindtest.House) (store.Work, error) {
			return h.W.KeyLists.Unlist(t.Context(), kindtest.By, store.Once{}, wire.UnlistKey{Name: "first"})
		})
		if !came {
			t.Errorf("it never came to %s", point)
		}
		h.GoOn()
		if end := h.Done(w, nil); end.State != store.Done || listedNow(h) != "" {
			t.Errorf("%s: %s %s; listed: %s", point, end.State, end.Outcome, listedNow(h))
		}
	}
}

// TestEntryChanged: what was asked to be taken out, and is another key by now, stays.
func TestEntryChanged(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	first, second := h.Key("first"), h.Key("second")
	e, err := h.Cloud.AddKeyEntry("a", "north-pier", "berth", first.Public().Line())
	if err != nil {
		t.Fatal(err)
	}
	w, came := h.Halted("cloud-key-remove/remove/begin", func(h *kindtest.House) (store.Work, error) {
		return h.W.KeyLists.Unlist(t.Context(), kindtest.By, store.Once{}, wire.UnlistKey{Name: "berth"})
	})
	if !came {
		t.Fatal("it never began")
	}
	if err := h.Cloud.RemoveKeyEntry(e.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := h.Cloud.AddKeyEntry("b", "north-pier", "berth", second.Public().Line()); err != nil {
		t.Fatal(err)
	}
	h.GoOn()
	if end := h.Done(w, nil); end.State != store.Done {
		t.Errorf("%s %s", end.State, end.Outcome)
	}
	if got := listedNow(h); !strings.Contains(got, "berth") {
		t.Errorf("the key of somebody else is gone: %q", got)
	}
}
