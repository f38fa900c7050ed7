package store_test

import (
	"crypto/ed25519"
	"fmt"
	"testing"
	"time"

	"plumlatch/core/journal"
	"plumlatch/service/postgres/pgtest"
	"plumlatch/service/store"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// TestExportWhileChained: who reads the journal while it grows sees no break in it. The chain
// and its heads are read one after the other, and a head that is signed in between names a
// link that was not there yet.
func TestExportWhileChained(t *testing.T) {
	t.Parallel()
	db := pgtest.Open(t)
	_, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	entries := 0
	grow := func() {
		t.Helper()
		entries++
		if err := db.AddOperator(t.Context(), store.Service, fmt.Sprintf("crew-%d", entries), store.Viewer,
			"-"); err != nil {
			t.Fatal(err)
		}
		if _, err := db.Chain(t.Context(), func(text []byte) []byte { return ed25519.Sign(key, text) }); err != nil {
			t.Fatal(err)
		}
	}
	grow()
	public := key.Public().(ed25519.PublicKey)
	v := journal.Verifier{Key: public, Now: time.Now()}
	if err := db.ExportJournal(t.Context(), public, func(l journal.Line) error {
		if l.Entry != nil && entries < 3 {
			grow()
		}
		v.Add(l)
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if check := v.Done(); len(check.Breaks) > 0 || check.Links == 0 || check.Heads == 0 || entries < 2 {
		t.Errorf("%+v after %d entries", check, entries)
	}
}
