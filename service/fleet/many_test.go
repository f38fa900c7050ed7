package fleet_test

import (
	"testing"

	"plumlatch/core/wire"
	"plumlatch/service/kinds/kindtest"
	"plumlatch/service/store"
)

// TestAccessAddMany: a key is added on each instance once, whenever the replica that counts them is
// killed; cancelled, it is on none.
func TestAccessAddMany(t *testing.T) {
	t.Parallel()
	kindtest.EveryHalt(t, kindtest.Case{
		Kind: "access-add-many", Some: 4,
		Prepare: func(h *kindtest.House) {
			h.Key("first")
			h.Key("second")
			h.Launch("berth-1", "first")
			h.Launch("berth-2", "first")
		},
		Begin: func(h *kindtest.House) (store.Work, error) {
			return h.W.Fleet.ChangeMany(h.Context(), kindtest.By, store.Once{},
				wire.AccessMany{Do: wire.ManyAdd, Key: "second", Reason: "mends the barrier"})
		},
		Reset: func(h *kindtest.House) {
			h.Unplaced("berth-1", "second")
			h.Unplaced("berth-2", "second")
		},
		Stays: []string{"access-add-many/waves/end", "access-add-many/rest/begin", "access-add-many/rest/end"},
		State: func(h *kindtest.House) string { return h.Keys("berth-1") + h.Keys("berth-2") },
	})
}
