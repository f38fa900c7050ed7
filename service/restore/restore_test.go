package restore_test

import (
	"testing"

	"plumlatch/core/wire"
	"plumlatch/service/kinds/kindtest"
	"plumlatch/service/store"
)

// TestRestore: wherever its replica is killed, a restore lets the new key in and leaves the rest as
// it was: the instance under its own volume, its user data, no rescue instance. Cancelled, it leaves
// everything as it was. One route after the other, as each takes the machine's whole time.
func TestRestore(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		route, returns string
		some           int
	}{
		{"steward", "accept/end", 3},
		{"boot-text", "accept/end", 3},
		{"disk", "accept/end", 4},
	} {
		t.Run(c.route, func(t *testing.T) {
			kind := "restore-" + c.route
			kindtest.EveryHalt(t, kindtest.Case{
				Kind: kind,
				Some: c.some, Returns: kind + "/" + c.returns,
				Prepare: func(h *kindtest.House) {
					h.Key("first")
					h.Key("second")
					h.Launch("berth-1", "first")
				},
				Begin: func(h *kindtest.House) (store.Work, error) {
					return h.W.Restore.Restore(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"),
						wire.Restore{Route: c.route, New: "second"})
				},
				While: func(h *kindtest.House, w store.Work) {
					if w.WaitsCode != string(wire.WaitsLogin) {
						return
					}
					k, err := h.DB.KeyAlone(h.Context(), "second")
					if err == nil {
						err = h.DB.KeyShown(h.Context(), kindtest.By, k)
					}
					if err != nil {
						h.Fatal(err)
					}
				},
				Reset: func(h *kindtest.House) { h.Unplaced("berth-1", "second") },
				State: func(h *kindtest.House) string { return h.Machine("berth-1") + "\n" + h.Keys("berth-1") },
			})
		})
	}
}
