package accesses_test

import (
	"testing"

	"plumlatch/core/wire"
	"plumlatch/service/kinds/kindtest"
	"plumlatch/service/store"
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
