package network_test

import (
	"testing"

	"plumlatch/core/wire"
	"plumlatch/service/kinds/kindtest"
	"plumlatch/service/store"
)

// TestAdmit: a range is let in once, and is let in no more when that is cancelled.
func TestAdmit(t *testing.T) {
	t.Parallel()
	kindtest.EveryHalt(t, kindtest.Case{
		Kind: "admit", Some: 6,
		Prepare: func(h *kindtest.House) {
			h.Key("first")
			h.Launch("berth-1", "first")
		},
		Begin: func(h *kindtest.House) (store.Work, error) {
			return h.W.Network.Admit(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"),
				wire.Admit{From: []string{"203.0.113.0/24"}, Reason: "the ferry's office"})
		},
		Reset: func(h *kindtest.House) {
			h.Done(h.W.Network.Unadmit(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"),
				[]string{"203.0.113.0/24"}, "", 0))
		},
		State: func(h *kindtest.House) string { return h.Rules("berth-1") },
	})
}
