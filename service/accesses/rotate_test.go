package accesses_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"plumlatch/core/keypair"
	"plumlatch/core/wire"
	"plumlatch/service/kinds/kindtest"
	"plumlatch/service/store"
	"plumlatch/standin"
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

// TestPlacedTaken: a key that the cloud's own agent places again and again is withdrawn for good: its entry goes
// first, and is there again if the work goes back, wherever its replica is killed in between.
func TestPlacedTaken(t *testing.T) {
	t.Parallel()
	none, some := int64(0), int64(2)
	placed := func(h *kindtest.House) (out []string) {
		all, err := h.Cloud.PlacedKeys(h.Instance("berth-1").CloudID)
		if err != nil {
			h.Fatal(err)
		}
		for _, p := range all {
			out = append(out, p.Name+" as "+p.User)
		}
		return out
	}
	var places atomic.Int64
	place := func(h *kindtest.House, project bool) {
		k, err := h.DB.KeyAlone(h.Context(), "first")
		if err == nil {
			_, err = h.Cloud.PlaceKey(fmt.Sprint("by-hand-", places.Add(1)), standin.PlacedKey{Instance: map[bool]string{
				false: h.Instance("berth-1").CloudID}[project], User: "debian", Name: "berth", PublicKey: k.Public().Line()})
		}
		if err != nil {
			h.Fatal(err)
		}
	}
	for name, c := range map[string]kindtest.Case{
		"access-remove": {Returns: "access-remove/check/end", Begin: func(h *kindtest.House) (store.Work, error) {
			return h.W.Accesses.RemoveAccess(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"),
				wire.AccessRemove{Key: "first"})
		}},
		// It is kept for each instance by itself before.
		"access-remove of the project": {Returns: "access-remove/check/end", Begin: func(h *kindtest.House) (store.Work, error) {
			return h.W.Accesses.RemoveAccess(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"),
				wire.AccessRemove{Key: "first"})
		}},
		// Its line stays until the end: the cloud's agent would write over an end that the server keeps.
		"rotate with grace": {Returns: "rotate/check/end", While: shown("third"), Begin: func(h *kindtest.House) (store.Work, error) {
			return h.W.Accesses.Rotate(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"),
				wire.Rotate{Old: "first", New: "third", GraceSeconds: &some})
		}},
		"rotate": {Returns: "rotate/check/end", While: shown("third"), Begin: func(h *kindtest.House) (store.Work, error) {
			return h.W.Accesses.Rotate(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"),
				wire.Rotate{Old: "first", New: "third", GraceSeconds: &none})
		}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c.Kind, _, _ = strings.Cut(name, " ")
			c.Of, c.Some = "place", 2
			c.Prepare = func(h *kindtest.House) {
				for _, name := range []string{"first", "second", "third"} {
					h.Key(name)
				}
				h.Launch("berth-1", "first")
				if w := h.Done(h.W.Accesses.AddAccess(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"),
					wire.AccessAdd{Key: "second"})); w.State != store.Done {
					h.Fatal(w.Outcome)
				}
				place(h, strings.HasSuffix(name, "project"))
				h.KeepKeys("berth-1")
			}
			c.Reset = func(h *kindtest.House) {
				// The agent would write over a file that is being written.
				all, err := h.Cloud.PlacedKeys(h.Instance("berth-1").CloudID)
				for _, p := range all {
					err = errors.Join(err, h.Cloud.UnplaceKey(p.ID))
				}
				if err != nil {
					h.Fatal(err)
				}
				h.KeysBack("berth-1")
				place(h, strings.HasSuffix(name, "project"))
			}
			c.State = func(h *kindtest.House) string {
				time.Sleep(300 * time.Millisecond) // the agent has looked since
				return fmt.Sprintf("the cloud places %q\n%s", placed(h), h.Keys("berth-1"))
			}
			kindtest.EveryHalt(t, c)
		})
	}
}

// TestPlacedByCloud: the cloud's own agent lets a key in, as one entry wherever its replica is killed; going back takes it off, and
// its line goes.
func TestPlacedByCloud(t *testing.T) {
	t.Parallel()
	kindtest.EveryHalt(t, kindtest.Case{
		Kind: "access-place", Some: 3, Returns: "access-place/accept/begin",
		Prepare: func(h *kindtest.House) {
			h.Key("first")
			h.Key("second")
			h.Launch("berth-1", "first")
			h.KeepKeys("berth-1")
		},
		Begin: func(h *kindtest.House) (store.Work, error) {
			return h.W.Accesses.PlaceByCloud(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"), wire.PlaceKey{Key: "second"})
		},
		Reset: func(h *kindtest.House) {
			all, err := h.Cloud.PlacedKeys(h.Instance("berth-1").CloudID)
			for _, p := range all {
				err = errors.Join(err, h.Cloud.UnplaceKey(p.ID))
			}
			if err != nil {
				h.Fatal(err)
			}
			time.Sleep(300 * time.Millisecond) // the agent has looked since
			h.KeysBack("berth-1")
		},
		State: func(h *kindtest.House) string {
			time.Sleep(300 * time.Millisecond)
			all, err := h.Cloud.PlacedKeys(h.Instance("berth-1").CloudID)
			if err != nil {
				h.Fatal(err)
			}
			var names []string
			for _, p := range all {
				names = append(names, p.Name+" as "+p.User)
			}
			var lines []string
			for line := range strings.Lines(h.Keys("berth-1")) { // the mark of an entry has its number in it
				line, _, _ = strings.Cut(line, " placed-by-the-cloud:")
				lines = append(lines, strings.TrimSpace(line))
			}
			return fmt.Sprintf("the cloud places %q\n%s", names, strings.Join(lines, "\n"))
		},
	})
}

// TestPlacedByNobody: where no agent of the cloud's places the key, the work goes back, and the cloud keeps it no more.
func TestPlacedByNobody(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	h.Key("second")
	i := h.Launch("berth-1", "first")
	// What stands where the agent writes first keeps it from writing.
	if err := os.MkdirAll(filepath.Join(filepath.Dir(h.KeysFile(i)), ".agent.new", "x"), 0o700); err != nil {
		t.Fatal(err)
	}
	w := h.Done(h.W.Accesses.PlaceByCloud(h.Context(), kindtest.By, store.Once{}, i, wire.PlaceKey{Key: "second"}))
	all, err := h.Cloud.PlacedKeys(i.CloudID)
	if w.State == store.Done || !strings.Contains(w.Outcome, "is the agent on its image?") || err != nil || len(all) != 0 {
		t.Errorf("%s %s; the cloud places %v %v", w.State, w.Outcome, all, err)
	}
}

// TestPlacedStays: cancelled after the only other key of a person has gone, the key that the cloud places stays: it is the way in.
func TestPlacedStays(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	h.Key("second")
	h.Launch("berth-1", "first")
	w, came := h.Halted("access-place/accept/begin", func(h *kindtest.House) (store.Work, error) {
		return h.W.Accesses.PlaceByCloud(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"), wire.PlaceKey{Key: "second"})
	})
	if !came {
		t.Fatal("it never came so far")
	}
	h.Until("the agent has placed it", func() bool { return strings.Contains(h.Keys("berth-1"), "placed-by-the-cloud") })
	h.Unplaced("berth-1", "first")
	if err := h.DB.CancelWork(h.Context(), kindtest.By, h.Now(w)); err != nil {
		t.Fatal(err)
	}
	h.GoOn()
	end := h.Done(w, nil)
	all, err := h.Cloud.PlacedKeys(h.Instance("berth-1").CloudID)
	if end.State != store.Cancelled || !strings.Contains(end.Outcome, "the cloud goes on placing second on berth-1") || err != nil || len(all) != 1 {
		t.Errorf("%s %s; the cloud places %v %v", end.State, end.Outcome, all, err)
	}
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
