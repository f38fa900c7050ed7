package store_test

import (
	"errors"
	"fmt"
	"sync"
	"testing"

	"plumlatch/core/keypair"
	"plumlatch/service/postgres/pgtest"
	"plumlatch/service/store"
)

// TestChallengeOfForgotten: a challenge that is asked for in the moment in which its key is forgotten is none, or goes with the key:
// neither of the two fails for the other.
func TestChallengeOfForgotten(t *testing.T) {
	t.Parallel()
	db := pgtest.Open(t)
	ctx := t.Context()
	if err := db.AddOperator(ctx, store.Service, "night-lead", store.Admin, ""); err != nil {
		t.Fatal(err)
	}
	all, err := db.Operators(ctx)
	if err != nil || len(all) != 1 {
		t.Fatal(all, err)
	}
	o := all[0]
	none := 0
	for n := range 60 {
		pair, err := keypair.Create(keypair.Ed25519, "x")
		if err != nil {
			t.Fatal(err)
		}
		k, err := db.AddKey(ctx, store.Service, store.NewKey{Name: fmt.Sprint("crew-", n), Public: pair.Public, Origin: store.MadeHere})
		if err != nil {
			t.Fatal(err)
		}
		var both sync.WaitGroup
		both.Go(func() {
			if err := db.ForgetKey(ctx, store.Service, k); err != nil {
				t.Errorf("forgotten: %v", err)
			}
		})
		for c := range 3 {
			err := db.AddChallenge(ctx, o.ID, k, store.Challenge{Nonce: fmt.Sprint(n, "-", c), Text: "x"})
			if errors.Is(err, store.ErrNotFound) {
				none++
			} else if err != nil {
				t.Errorf("asked for: %v", err)
			}
		}
		both.Wait()
		if err := db.AddChallenge(ctx, o.ID, k, store.Challenge{Nonce: fmt.Sprint(n, "-late"), Text: "x"}); !errors.Is(err, store.ErrNotFound) {
			t.Errorf("of a key that is forgotten: %v", err)
		}
	}
	t.Logf("%d of 180 came too late", none)
}
