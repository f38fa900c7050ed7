package accesses_test

import (
	"strings"
	"testing"
	"time"

	"plumlatch/core/wire"
	"plumlatch/service/kinds"
	"plumlatch/service/kinds/kindtest"
	"plumlatch/service/store"
	"plumlatch/standin"
)

// TestAccessAdd: a key is added once, however often its replica is killed, and is gone again when
// the work is cancelled.
func TestAccessAdd(t *testing.T) {
	t.Parallel()
	kindtest.EveryHalt(t, kindtest.Case{
		Kind: "access-add", Some: 6,
		Prepare: func(h *kindtest.House) {
			h.Key("first")
			h.Key("second")
			h.Launch("berth-1", "first")
		},
		Begin: func(h *kindtest.House) (store.Work, error) {
			return h.W.Accesses.AddAccess(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"),
				wire.AccessAdd{Key: "second", Reason: "mends the barrier"})
		},
		Reset: func(h *kindtest.House) { h.Unplaced("berth-1", "second") },
		State: func(h *kindtest.House) string { return h.Keys("berth-1") },
	})
}

// TestAccessExtend: an access gets its new end whenever the replica that gives it is killed, also where
// the instance's clock is off, and is read a second later when the work is taken up again.
func TestAccessExtend(t *testing.T) {
	t.Parallel()
	for _, point := range kinds.Halts() {
		if !strings.HasPrefix(point, "access-extend/") {
			continue
		}
		t.Run(strings.TrimPrefix(point, "access-extend/"), func(t *testing.T) {
			t.Parallel()
			h := kindtest.New(t)
			h.Key("first")
			h.Key("second")
			h.Launch("berth-1", "first")
			i := h.Instance("berth-1")
			ahead := func(seconds int) {
				if err := h.Cloud.SetOdds(i.CloudID, standin.Odds{AheadSeconds: seconds}); err != nil {
					t.Fatal(err)
				}
			}
			ahead(3600)
			end := func(in time.Duration) *time.Time {
				at := time.Now().Add(in).UTC().Truncate(time.Second)
				return &at
			}
			first := end(time.Hour)
			w, err := h.W.Accesses.AddAccess(h.Context(), kindtest.By, store.Once{}, i,
				wire.AccessAdd{Key: "second", Until: first, Reason: "mends the barrier"})
			if err != nil {
				t.Fatal(err)
			}
			h.Until("the access waits for its end", func() bool {
				now, err := h.DB.WorkByID(h.Context(), w.ID)
				return err == nil && now.WaitsCode == wire.WaitsEnd
			})
			until := end(2 * time.Hour)
			w, _ = h.Halted(point, func(h *kindtest.House) (store.Work, error) {
				return h.W.Accesses.ExtendAccess(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"),
					wire.AccessExtend{Key: "second", Until: until})
			})
			ahead(3603)
			h.GoOn()
			if w = h.Done(w, nil); w.State != store.Done {
				t.Fatalf("%s: %s", w.State, w.Outcome)
			}
			keys := h.Keys("berth-1")
			if n := strings.Count(keys, "expiry-time="); n != 1 {
				t.Errorf("%d lines with an end:\n%s", n, keys)
			}
			if old := first.Add(time.Hour).Format("200601021504"); strings.Contains(keys, old) {
				t.Errorf("it has its old end still:\n%s", keys)
			}
		})
	}
}
