package fleet_test

import (
	"errors"
	"strings"
	"testing"

	"plumlatch/core/wire"
	"plumlatch/service/door"
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

// TestPaused: what has parts that have not begun is paused, and what has begun with all of them is not, and says so.
func TestPaused(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	h.Key("second")
	h.Launch("berth-1", "first")
	h.Launch("berth-2", "first")
	for _, c := range []struct {
		first, grow int
		says        string
	}{
		{1, 1, ""},
		{2, 0, "all of it has begun"},
	} {
		w, came := h.Halted("access-add/add/begin", func(h *kindtest.House) (store.Work, error) {
			return h.W.Fleet.ChangeMany(h.Context(), kindtest.By, store.Once{},
				wire.AccessMany{Do: wire.ManyAdd, Key: "second", First: c.first, Grow: c.grow})
		})
		if !came {
			t.Fatal("no part of it has begun")
		}
		h.W.Door.Store = h.DB // its own is shut, as it was killed
		err := h.W.Fleet.PauseFleet(t.Context(), kindtest.By, h.Now(w))
		fe, refused := errors.AsType[door.FieldError](err)
		if refused != (c.says != "") || !refused && err != nil || !strings.Contains(fe.Problem, c.says) {
			t.Errorf("waves of %d: %v", c.first, err)
		}
		h.GoOn()
		if err := h.W.Door.Cancel(t.Context(), kindtest.By, h.Now(w)); err != nil {
			t.Fatal(err)
		}
		h.Done(w, nil)
	}
}
