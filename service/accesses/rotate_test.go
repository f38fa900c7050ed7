package accesses_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"plumlatch/core/keypair"
	"plumlatch/core/wire"
	"plumlatch/service/kinds/kindtest"
	"plumlatch/service/store"
)

// shown shows the private half of a key as often as the work waits for that.
func shown(key string) func(h *kindtest.House, w store.Work) {
	return func(h *kindtest.House, w store.Work) {
		if w.WaitsCode != wire.WaitsProof && w.WaitsCode != wire.WaitsLogin {
			return
		}
		k, err := h.DB.KeyAlone(h.Context(), key)
		if err == nil {
			err = h.DB.KeyShown(h.Context(), kindtest.By, k)
		}
		if err != nil {
			h.Fatal(err)
		}
	}
}

// TestRotate: one key comes into the place of the other, once; cancelled, the other is where it was.
func TestRotate(t *testing.T) {
	t.Parallel()
	none := int64(0)
	kindtest.EveryHalt(t, kindtest.Case{
		Kind: "rotate", Some: 4, Returns: "rotate/proof/end",
		Prepare: func(h *kindtest.House) {
			h.Key("first")
			h.Key("second")
			h.Launch("berth-1", "first")
			h.KeepKeys("berth-1")
		},
		Begin: func(h *kindtest.House) (store.Work, error) {
			return h.W.Accesses.Rotate(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"),
				wire.Rotate{Old: "first", New: "second", GraceSeconds: &none})
		},
		While: shown("second"),
		Reset: func(h *kindtest.House) { h.KeysBack("berth-1") },
		State: func(h *kindtest.House) string { return h.Keys("berth-1") },
	})
}

// TestAccessRemove: a key is withdrawn, and the other one stays.
func TestAccessRemove(t *testing.T) {
	t.Parallel()
	kindtest.EveryHalt(t, kindtest.Case{
		Kind: "access-remove", Some: 3, Returns: "access-remove/check/end",
		Prepare: func(h *kindtest.House) {
			h.Key("first")
			h.Key("second")
			h.Launch("berth-1", "first")
			if w := h.Done(h.W.Accesses.AddAccess(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"),
				wire.AccessAdd{Key: "second"})); w.State != store.Done {
				h.Fatal(w.Outcome)
			}
			h.KeepKeys("berth-1")
		},
		Begin: func(h *kindtest.House) (store.Work, error) {
			return h.W.Accesses.RemoveAccess(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"),
				wire.AccessRemove{Key: "first"})
		},
		Reset: func(h *kindtest.House) { h.KeysBack("berth-1") },
		State: func(h *kindtest.House) string { return h.Keys("berth-1") },
	})
}

// TestUnrecordedRemoved: a key that nobody recorded is withdrawn once, is seen there no more, and is
// back where it was if that is cancelled.
func TestUnrecordedRemoved(t *testing.T) {
	t.Parallel()
	pair, err := keypair.Create(keypair.Ed25519, "stray")
	if err != nil {
		t.Fatal(err)
	}
	stray := pair.Public.Fingerprint()
	survey := func(h *kindtest.House) {
		if w := h.Done(h.W.Survey.SurveyMany(h.Context(), kindtest.By, store.Once{}, wire.SurveyMany{All: true})); w.State != store.Done {
			h.Fatal(w.Outcome)
		}
	}
	kindtest.EveryHalt(t, kindtest.Case{
		Kind: "access-remove", Some: 4, Returns: "access-remove/check/end",
		Prepare: func(h *kindtest.House) {
			h.Key("first")
			h.Launch("berth-1", "first")
			h.ByHand("berth-1", pair.Public.Line())
			survey(h)
			h.KeepKeys("berth-1")
		},
		Begin: func(h *kindtest.House) (store.Work, error) {
			return h.W.Accesses.RemoveAccess(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"),
				wire.AccessRemove{Key: stray})
		},
		Reset: func(h *kindtest.House) {
			h.KeysBack("berth-1")
			survey(h)
		},
		State: func(h *kindtest.House) string {
			all, err := h.DB.SightingsOfKey(h.Context(), stray)
			if err != nil {
				h.Fatal(err)
			}
			there := 0
			for _, x := range all {
				if x.GoneAt == nil {
					there++
				}
			}
			return fmt.Sprintf("seen there %d times\n%s", there, h.Keys("berth-1"))
		},
	})
}

// TestEndBeforeCheck: a service that was at rest until the grace time was over, between giving the old key its end
// and asking the server, goes on: the server refuses the old key rightly by then.
func TestEndBeforeCheck(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	h.Key("second")
	h.Launch("berth-1", "first")
	grace := int64(3)
	w, came := h.Halted("rotate/check/begin", func(h *kindtest.House) (store.Work, error) {
		w, err := h.W.Accesses.Rotate(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"),
			wire.Rotate{Old: "first", New: "second", GraceSeconds: &grace})
		if err == nil {
			h.Until("the new key is to be shown", func() bool {
				now := h.Now(w)
				return now.WaitsCode == wire.WaitsProof || now.WaitsCode == wire.WaitsLogin
			})
			shown("second")(h, h.Now(w))
		}
		return w, err
	})
	if !came {
		t.Fatal("it never came to the check")
	}
	time.Sleep(time.Duration(grace+1) * time.Second)
	h.GoOn()
	if end := h.Done(w, nil); end.State != store.Done {
		t.Errorf("%s: %s", end.State, end.Outcome)
	}
	if got := h.Keys("berth-1"); strings.Contains(got, "first") || !strings.Contains(got, "second") {
		t.Errorf("the file has %s", got)
	}
}
