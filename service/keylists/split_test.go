package keylists_test

import (
	"fmt"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"plumlatch/service/door"
	"plumlatch/service/kinds/kindtest"
	"plumlatch/service/store"
	"plumlatch/standin"
)

// TestSplit: wherever its replica is killed, a key that is placed on the whole project comes to be kept for each instance by itself;
// cancelled, for the project as before. At no time is its line out of anybody's file.
func TestSplit(t *testing.T) {
	t.Parallel()
	names := []string{"berth-1", "berth-2"}
	var placed atomic.Int64
	line := func(h *kindtest.House) string {
		h.Helper()
		k, err := h.DB.KeyAlone(h.Context(), "second")
		if err != nil {
			h.Fatal(err)
		}
		return k.Public().Line()
	}
	entry := func(h *kindtest.House) (found standin.PlacedKey) {
		h.Helper()
		all, err := h.Cloud.PlacedKeys(h.Instance("berth-1").CloudID)
		if err != nil {
			h.Fatal(err)
		}
		for _, p := range all {
			if p.Instance == "" {
				found = p
			}
		}
		return found
	}
	there := func(h *kindtest.House) bool {
		body := strings.Fields(line(h))[1]
		for _, name := range names {
			if !strings.Contains(h.Keys(name), body) {
				return false
			}
		}
		return true
	}
	place := func(h *kindtest.House) {
		h.Helper()
		if _, err := h.Cloud.PlaceKey(fmt.Sprint("by-hand-", placed.Add(1)), standin.PlacedKey{User: "debian", Name: "lead", PublicKey: line(h)}); err != nil {
			h.Fatal(err)
		}
		h.Until("the agent has placed it", func() bool { return there(h) })
	}
	var watched sync.Map // the houses
	// watch sees to it that the line is in both files all the time, as long as the project's entry or its own places it.
	watch := func(h *kindtest.House) {
		h.Helper()
		body, files := strings.Fields(line(h))[1], []string{}
		for _, name := range names {
			files = append(files, h.KeysFile(h.Instance(name)))
		}
		stop, done := make(chan struct{}), make(chan struct{})
		h.Cleanup(func() { close(stop); <-done })
		go func() {
			defer close(done)
			for {
				select {
				case <-stop:
					return
				case <-time.After(5 * time.Millisecond):
				}
				for _, file := range files {
					if text, err := os.ReadFile(file); err != nil || !strings.Contains(string(text), body) {
						h.Errorf("its line was out of %s (%v)", file, err)
						return
					}
				}
			}
		}()
	}
	kindtest.EveryHalt(t, kindtest.Case{
		Kind: door.SplitKind, Some: 5,
		Prepare: func(h *kindtest.House) {
			h.Key("first")
			for _, name := range names {
				h.Launch(name, "first")
			}
			h.Key("second")
			place(h)
		},
		Begin: func(h *kindtest.House) (store.Work, error) {
			p := entry(h)
			n := h.W.KeyLists.Begun(h.W.KeyLists.Named(door.SplitKind), "split", door.Token(26), store.Instance{}, "split",
				door.Splitting{Entry: p.ID, User: p.User, Name: p.Name, Line: p.PublicKey})
			if _, had := watched.LoadOrStore(h, true); !had {
				watch(h)
			}
			w, began, err := h.DB.BeginAlone(h.Context(), kindtest.By, n)
			if err == nil && !began {
				h.Errorf("work %d is at hand still", w.ID)
			}
			return w, err
		},
		Reset: func(h *kindtest.House) {
			if entry(h).ID == "" {
				place(h)
			}
			for _, name := range names {
				all, err := h.Cloud.PlacedKeys(h.Instance(name).CloudID)
				if err != nil {
					h.Fatal(err)
				}
				for _, p := range all {
					if p.Instance != "" {
						if err := h.Cloud.UnplaceKey(p.ID); err != nil {
							h.Fatal(err)
						}
					}
				}
			}
		},
		State: func(h *kindtest.House) string {
			time.Sleep(300 * time.Millisecond) // the agent has looked since
			text := fmt.Sprintf("for the project %t, in both files %t\n", entry(h).ID != "", there(h))
			for _, name := range names {
				all, err := h.Cloud.PlacedKeys(h.Instance(name).CloudID)
				if err != nil {
					h.Fatal(err)
				}
				for _, p := range all {
					text += fmt.Sprintf("%s has %s of its own: %t\n", name, p.Name, p.Instance != "")
				}
			}
			return text
		},
	})
}

// TestSplitGoesBack: a server that does not take the key any more has all of it go back.
func TestSplitGoesBack(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	k := h.Key("second")
	i := h.Launch("berth-1", "first")
	p, err := h.Cloud.PlaceKey("by-hand", standin.PlacedKey{User: "debian", Name: "lead", PublicKey: k.Public().Line()})
	if err != nil {
		t.Fatal(err)
	}
	there := func() bool { return strings.Contains(h.Keys("berth-1"), strings.Fields(k.Public().Line())[1]) }
	h.Until("the agent has placed it", there)
	id, err := h.DB.Place(t.Context(), i.ID, k.ID, "debian", "the test", false)
	if err == nil {
		err = h.DB.Probed(t.Context(), store.Asked{AccessID: id, Answer: "accepted", From: "the test"})
	}
	if err != nil {
		t.Fatal(err)
	}
	w, came := h.Halted("cloud-key-split/see/begin", func(h *kindtest.House) (store.Work, error) {
		n := h.W.KeyLists.Begun(h.W.KeyLists.Named(door.SplitKind), "split", door.Token(26), store.Instance{}, "split",
			door.Splitting{Entry: p.ID, User: p.User, Name: p.Name, Line: p.PublicKey})
		w, _, err := h.DB.BeginAlone(h.Context(), kindtest.By, n)
		return w, err
	})
	if !came {
		t.Fatal("it never came so far")
	}
	// Somebody takes off what is kept for the instance: the agent takes its line out.
	all, err := h.Cloud.PlacedKeys(i.CloudID)
	if err != nil || len(all) != 1 || all[0].Instance == "" {
		t.Fatalf("%+v %v", all, err)
	}
	if err := h.Cloud.UnplaceKey(all[0].ID); err != nil {
		t.Fatal(err)
	}
	h.Until("its line is out", func() bool { return !there() })
	h.GoOn()
	if end := h.Done(w, nil); end.State == store.Done || !strings.Contains(end.Outcome, "berth-1: the server does not take second any more") {
		t.Errorf("%s %s", end.State, end.Outcome)
	}
	h.Until("it has the key again", there)
	if all, err = h.Cloud.PlacedKeys(i.CloudID); err != nil || len(all) != 1 || all[0].Instance != "" {
		t.Errorf("the cloud places %+v %v", all, err)
	}
}
