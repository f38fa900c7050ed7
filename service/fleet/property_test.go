package fleet_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"plumlatch/core/access"
	"plumlatch/core/keybook"
	"plumlatch/core/wire"
	"plumlatch/service/kinds/kindtest"
	"plumlatch/service/store"
)

// TestKeybookProperty settles books by chance, one after the other, on instances of the stand-in: afterwards a comparison has nothing to do, or
// names what rule 1 kept; nobody is locked out; and the text of what is there then has nothing wrong and nothing to do.
func TestKeybookProperty(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	keys, instances := []string{"ada", "otto", "ines", "pump"}, []string{"berth-1", "berth-2"}
	for _, k := range keys {
		h.Key(k)
	}
	h.Exec("UPDATE holders SET sort = 'job' WHERE name = 'pump-holder'")
	h.Exec("UPDATE keys SET shown_at = NULL WHERE name = 'ines'") // nobody knows whether its private half exists
	for _, i := range instances {
		h.Launch(i, "ada")
	}
	seed := uint64(1)
	if os.Getenv("PLUMLATCH_EVERY_HALT") != "" { // make matrix
		seed = rand.Uint64()
	}
	if text := os.Getenv("PLUMLATCH_SEED"); text != "" {
		fmt.Sscan(text, &seed)
	}
	t.Logf("PLUMLATCH_SEED=%d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	for round := range 6 {
		var text strings.Builder
		text.WriteString("keybook: by-chance\n")
		if r.IntN(4) > 0 {
			text.WriteString("complete: {instances: [berth-1, berth-2], files: [book.yaml], also: [machines]}\n")
		}
		text.WriteString("access:\n  - {whom: ada, to: {tag: none}}\n")
		for _, i := range instances {
			for _, k := range keys {
				if r.IntN(2) == 0 {
					fmt.Fprintf(&text, "  - {whom: %s, to: {instances: [%s]}%s}\n", k, i, []string{"", "", ", from: 127.0.0.0/8"}[r.IntN(3)])
				}
			}
		}
		d := compared(h, text.String())
		if d.Nothing() {
			continue
		}
		if d.CutOffs > 0 {
			if _, err := settle(h, text.String()); err == nil {
				t.Fatalf("round %d: it would lock somebody out, and is begun\n%s", round, text.String())
			}
			continue
		}
		w := h.Done(settle(h, text.String()))
		if w.State != store.Done {
			t.Fatalf("round %d: %s: %s\n%s", round, w.State, w.Outcome, text.String())
		}
		kept, err := h.DB.BookKept(h.Context(), w.ID, 100)
		if err != nil {
			t.Fatal(err)
		}
		for _, i := range compared(h, text.String()).Items {
			named := false
			for _, k := range kept {
				named = named || strings.HasPrefix(k, i.Instance+": "+i.Key+": ")
			}
			if !keybook.Told(i.Do) && !named {
				t.Errorf("round %d: settled, and to do: %+v; kept %v\n%s", round, i, kept, text.String())
			}
		}
		for _, name := range instances {
			rows, err := h.DB.AccessesOf(h.Context(), h.Instance(name).ID)
			if err != nil {
				t.Fatal(err)
			}
			ways := 0
			for _, a := range rows {
				terms, err := h.DB.Terms(h.Context(), a.ID)
				if a.OfPerson() && a.ShownAt != nil && a.Standing == access.Accepted.String() && (err != nil || terms.FromRange == "") {
					ways++
				}
			}
			if ways == 0 {
				t.Errorf("round %d: nobody gets into %s any more; kept %v\n%s", round, name, kept, text.String())
			}
		}
		written, err := h.W.Fleet.WriteBook(h.Context(), "now", keybook.Selector{})
		if err != nil {
			t.Fatal(err)
		}
		d2, err := h.W.Fleet.CompareBook(h.Context(), kindtest.By, wire.KeybookText{Files: []keybook.Source{{Name: "book.yaml", Text: written}}})
		if err != nil || d2.Difference == nil || !d2.Difference.Nothing() {
			t.Errorf("round %d: written, and to do: %v %+v\n%s", round, err, d2, written)
		}
	}
}
