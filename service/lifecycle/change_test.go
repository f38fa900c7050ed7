package lifecycle_test

import (
	"testing"

	"plumlatch/service/kinds/kindtest"
	"plumlatch/service/store"
)

// changes begins to stop, start or remove an instance.
func changes(to store.Phase) func(h *kindtest.House) (store.Work, error) {
	return func(h *kindtest.House) (store.Work, error) {
		i, err := h.W.Lifecycle.Change(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"), to)
		return store.Work{ID: i.WorkID}, err
	}
}

// TestStop: an instance that is stopped rests, and one whose stop is cancelled runs again; the
// cloud and the ledger say the same.
func TestStop(t *testing.T) {
	t.Parallel()
	kindtest.EveryHalt(t, kindtest.Case{
		Kind: "stop", Some: 5,
		Prepare: func(h *kindtest.House) {
			h.Key("first")
			h.Launch("berth-1", "first")
		},
		Begin: changes(store.Stopping),
		Reset: func(h *kindtest.House) {
			if h.Instance("berth-1").State == "stopped" {
				h.Done(changes(store.Starting)(h))
			}
		},
		State: func(h *kindtest.House) string {
			i := h.Instance("berth-1")
			in, err := h.Cloud.Get(i.CloudID)
			if err != nil {
				h.Fatal(err)
			}
			return string(in.State) + ", " + i.State + ", " + string(i.Phase)
		},
	})
}
