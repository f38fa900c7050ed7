package upkeep_test

import (
	"slices"
	"testing"
	"time"

	"plumlatch/core/access"
	"plumlatch/service/kinds/kindtest"
	"plumlatch/service/store"
	"plumlatch/standin"
)

// TestFollows: what somebody does in the cloud without us is in the ledger soon, whoever asks or not.
func TestFollows(t *testing.T) {
	t.Parallel()
	h := kindtest.NewFollowing(t, 50*time.Millisecond)
	h.Key("first")
	i := h.Launch("berth-1", "first")
	if _, err := h.Cloud.Stop("by-hand-1", i.CloudID); err != nil {
		t.Fatal(err)
	}
	h.Until("it is stopped, and has no address", func() bool {
		now := h.Instance("berth-1")
		return now.State == "stopped" && now.Address == ""
	})
	if _, err := h.Cloud.Start("by-hand-2", i.CloudID); err != nil {
		t.Fatal(err)
	}
	h.Until("it runs, with an address", func() bool {
		now := h.Instance("berth-1")
		return now.State == "running" && now.Address != ""
	})
	if _, err := h.Cloud.Launch(standin.Launch{ClientToken: "by-hand-3", Name: "berth-9", Region: "north-pier",
		Image: "debian-12", Size: "small"}); err != nil {
		t.Fatal(err)
	}
	h.Until("the other one is told", func() bool {
		d, err := h.W.Upkeep.Discovered(t.Context())
		return err == nil && len(d.Unknown) == 1 && d.Unknown[0].Name == "berth-9"
	})
	if _, err := h.Cloud.Remove("by-hand-4", i.CloudID); err != nil {
		t.Fatal(err)
	}
	h.Until("the one that is gone is told", func() bool {
		d, err := h.W.Upkeep.Discovered(t.Context())
		return err == nil && len(d.Vanished) == 1 && d.Vanished[0].Name == "berth-1"
	})
}

// TestJudges: what has changed is judged without anybody who asks, and what is mended is no matter any more.
func TestJudges(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	h.Key("second")
	h.Launch("berth-1", "first")
	is := func(reason access.Reason, there bool) func() bool {
		return func() bool {
			rows, _, err := h.DB.Matters(t.Context(), store.MatterQuery{Instance: "berth-1", Page: store.Page{Limit: 100}})
			return err == nil && there == slices.ContainsFunc(rows,
				func(m store.Matter) bool { return m.Reason == string(reason) })
		}
	}
	h.Until("one key is the only way in", is(access.SoleOpenerKey, true))
	k, err := h.DB.KeyAlone(t.Context(), "second")
	if err != nil {
		t.Fatal(err)
	}
	id, err := h.DB.AddAccess(t.Context(), h.Instance("berth-1").ID, k.ID, "debian")
	if err != nil {
		t.Fatal(err)
	}
	if err := h.DB.Observe(t.Context(), id, access.Seen, true, "the test"); err != nil {
		t.Fatal(err)
	}
	h.Until("it is not any more", is(access.SoleOpenerKey, false))
}

// TestChains: every entry of the journal is chained soon, also those that a replica that was killed
// had not come to, and the chain holds.
func TestChains(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	w, _ := h.Halted("launch/run/begin", func(h *kindtest.House) (store.Work, error) {
		return h.Launching("berth-1", "first")
	})
	h.GoOn()
	if w = h.Done(w, nil); w.State != store.Done {
		t.Fatalf("%s: %s", w.State, w.Outcome)
	}
	h.Until("all is chained", func() bool {
		c, err := h.W.Upkeep.VerifyJournal(t.Context(), kindtest.By, store.Admin)
		if err != nil || len(c.Breaks) > 0 {
			t.Fatalf("%v %v", err, c.Breaks)
		}
		return c.Unchained == 0 && c.Links > 3
	})
}
