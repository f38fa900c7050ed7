package store_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/keypair"
	"plumlatch/service/postgres/pgtest"
	"plumlatch/service/store"
)

// doors are two instances with the same three keys, and a fourth that opens neither yet.
type doors struct {
	db   *store.Store
	keys []store.Key
	one  store.Instance
	two  store.Instance
}

func newDoors(t *testing.T) *doors {
	t.Helper()
	d := &doors{db: pgtest.Open(t)}
	var ids []int64
	for n := range 4 {
		pair, err := keypair.Create(keypair.Ed25519, fmt.Sprint("crew-", n))
		if err != nil {
			t.Fatal(err)
		}
		k, err := d.db.AddKey(t.Context(), store.Service, store.NewKey{Name: fmt.Sprint("crew-", n), Public: pair.Public, Origin: store.MadeHere})
		if err != nil {
			t.Fatal(err)
		}
		d.keys = append(d.keys, k)
		ids = append(ids, k.ID)
	}
	steward, err := keypair.Create(keypair.Ed25519, "steward")
	if err != nil {
		t.Fatal(err)
	}
	for n, i := range []*store.Instance{&d.one, &d.two} {
		*i, err = d.db.AddInstance(t.Context(), store.Service, store.Once{}, store.NewInstance{
			Instance: store.Instance{Name: fmt.Sprint("berth-", n), Alias: fmt.Sprint("alias-", n), Region: "north-pier",
				Phase: store.Ready, State: "running", LoginUser: "debian", Address: "127.0.0.1", Port: 22 + n},
			KeyIDs: ids[:3], Steward: steward.Public, StewardSealed: []byte("sealed"),
			Work: store.NewWork{Kind: "launch", Title: "launch", Token: fmt.Sprint("token", n)}})
		if err != nil {
			t.Fatal(err)
		}
	}
	return d
}

// shown is what is shown of an instance's accesses, without times.
func (d *doors) shown(t *testing.T, i store.Instance) []string {
	t.Helper()
	rows, err := d.db.AccessesWithEvidence(t.Context(), i.ID)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, a := range rows {
		text := fmt.Sprintf("%s %t: %s %q old %t, against %q %q; probe %q %q %q", a.Key, a.Steward, a.Standing, a.StandingFrom,
			a.StandingOld, a.Against, a.AgainstFrom, a.ProbeAnswer, a.ProbeDetail, a.ProbeFrom)
		for k := access.None + 1; k <= access.Proven; k++ {
			text += fmt.Sprintf(" %s %t", k, !a.Evidence.LastPositive(k).IsZero())
		}
		// What is shown is what the evidence says, and dated as it is.
		if s := a.Evidence.Standing(a.ChangedAt); s.Shown.Kind.String() != a.Standing || s.Old != a.StandingOld ||
			a.StandingAt != nil && !s.Shown.At.Equal(*a.StandingAt) || a.AgainstAt != nil && !s.Against.At.Equal(*a.AgainstAt) {
			t.Errorf("%s: shown %s at %v, old %t; the evidence says %+v", a.Key, a.Standing, a.StandingAt, a.StandingOld, s)
		}
		out = append(out, text)
	}
	return out
}

// TestWitness: what a step saw weighs the same by one statement, on what was read before, as when
// all is read anew; whatever was seen before.
func TestWitness(t *testing.T) {
	t.Parallel()
	for seed := range uint64(8) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			d := newDoors(t)
			r := rand.New(rand.NewPCG(seed, 0))
			answers := []string{"accepted", "refused", "unreachable"}
			for n := range 40 {
				one, err := d.db.Snapshot(t.Context(), d.one.ID)
				if err != nil {
					t.Fatal(err)
				}
				two, err := d.db.AccessesOf(t.Context(), d.two.ID)
				if err != nil || len(two) != len(one.Accesses) {
					t.Fatal(err, len(two), len(one.Accesses))
				}
				kind, positive := access.Kind(1+r.IntN(int(access.Proven))), r.IntN(3) > 0
				at, what := r.IntN(len(two)), r.IntN(5)
				var w store.Witness
				switch what {
				case 0, 1: // seen by others, by its own way
					for _, id := range []int64{one.Accesses[at].ID, two[at].ID} {
						if err := d.db.Observe(t.Context(), id, kind, positive, "192.0.2.7"); err != nil {
							t.Fatal(err)
						}
					}
					continue
				case 2:
					w.Wrote = true
					err = d.db.Wrote(t.Context(), d.two.ID)
				case 3:
					k := d.keys[r.IntN(len(d.keys))]
					w.Placed = &store.Placed{KeyID: k.ID, LoginUser: "debian", Vantage: fmt.Sprint("work ", n), ByUs: positive}
					_, err = d.db.Place(t.Context(), d.two.ID, k.ID, "debian", w.Placed.Vantage, positive)
				default:
					var asked []store.Asked
					for m := range two {
						if r.IntN(2) == 0 {
							a := store.Asked{AccessID: one.Accesses[m].ID, Answer: answers[r.IntN(3)], Detail: fmt.Sprint("detail ", n),
								From: fmt.Sprint("from ", n)}
							w.Asked = append(w.Asked, a)
							a.AccessID = two[m].ID
							asked = append(asked, a)
						}
					}
					err = d.db.Probed(t.Context(), asked...)
				}
				if err != nil {
					t.Fatal(err)
				}
				before := d.db.Statements()
				out, err := d.db.Witness(t.Context(), one, w)
				if err != nil {
					t.Fatalf("%+v: %v", w, err)
				}
				if sent := d.db.Statements() - before; sent != 1 {
					t.Errorf("%+v took %d statements", w, sent)
				}
				i, err := d.db.InstanceAlone(t.Context(), d.one.ID)
				if err != nil || i.Version != out.Version || !i.ChangedAt.Equal(out.ChangedAt) {
					t.Errorf("%v; the row is %s %v, told was %+v", err, i.Version, i.ChangedAt, out)
				}
				if a, b := d.shown(t, d.one), d.shown(t, d.two); !slices.Equal(a, b) {
					t.Fatalf("after %d, %+v:\n%q\n%q", n, w, a, b)
				}
				if w.Placed != nil && !slices.ContainsFunc(mustAccesses(t, d, d.one), func(a store.Access) bool {
					return a.ID == out.AccessID && a.KeyID == w.Placed.KeyID
				}) {
					t.Errorf("%d is no access of the key that was placed", out.AccessID)
				}
			}
		})
	}
}

func mustAccesses(t *testing.T, d *doors, i store.Instance) []store.Access {
	t.Helper()
	rows, err := d.db.AccessesOf(t.Context(), i.ID)
	if err != nil {
		t.Fatal(err)
	}
	return rows
}

// TestWitnessOfOldSnapshot: what others changed since the snapshot was read is weighed too.
func TestWitnessOfOldSnapshot(t *testing.T) {
	t.Parallel()
	ask := func(d store.Snapshot) store.Witness {
		return store.Witness{Asked: []store.Asked{{AccessID: d.Accesses[0].ID, Answer: "refused", From: "here"}}}
	}
	wrote := func(store.Snapshot) store.Witness { return store.Witness{Wrote: true} }
	for _, c := range []struct {
		name      string
		meanwhile func(*doors, store.Snapshot) error
		witness   func(store.Snapshot) store.Witness
		standing  string // of the first access: the evidence, and whether it is old
	}{
		{"somebody logged in, then it is refused", func(d *doors, s store.Snapshot) error {
			return d.db.Observe(t.Context(), s.Accesses[0].ID, access.Proven, true, "there")
		}, ask, "none, not old, against accepted"},
		{"somebody logged in, then a file is written", func(d *doors, s store.Snapshot) error {
			return d.db.Observe(t.Context(), s.Accesses[0].ID, access.Proven, true, "there")
		}, wrote, "proven, old, against "},
		{"somebody wrote a file, then it is refused", func(d *doors, s store.Snapshot) error {
			return errors.Join(d.db.Observe(t.Context(), s.Accesses[0].ID, access.Placed, true, "there"),
				d.db.Wrote(t.Context(), s.Instance))
		}, ask, "placed, old, against accepted"},
		{"an access was recorded, then a file is written", func(d *doors, s store.Snapshot) error {
			_, err := d.db.Place(t.Context(), s.Instance, d.keys[3].ID, "debian", "there", true)
			return err
		}, wrote, "none, not old, against "},
		{"nothing was read", nil, wrote, "none, not old, against "},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			d := newDoors(t)
			s := store.Snapshot{Instance: d.one.ID}
			if c.meanwhile != nil {
				var err error
				if s, err = d.db.Snapshot(t.Context(), d.one.ID); err != nil {
					t.Fatal(err)
				}
				if err := c.meanwhile(d, s); err != nil {
					t.Fatal(err)
				}
			}
			out, err := d.db.Witness(t.Context(), s, c.witness(s))
			if err != nil || out.Version != "" {
				t.Fatal(err, out)
			}
			d.shown(t, d.one)
			for n, a := range mustAccesses(t, d, d.one) {
				old := map[bool]string{true: "old", false: "not old"}[a.StandingOld]
				if got := fmt.Sprintf("%s, %s, against %s", a.Standing, old, a.Against); n == 0 && got != c.standing {
					t.Errorf("%s; want %s", got, c.standing)
				}
				if a.KeyID == d.keys[3].ID && !a.StandingOld {
					t.Errorf("what was placed before the write is not old: %+v", a)
				}
			}
		})
	}
}

// TestWitnessOfALostClaim: nothing is kept of what a replica saw whose claim is another's by now.
func TestWitnessOfALostClaim(t *testing.T) {
	t.Parallel()
	d := newDoors(t)
	work, err := d.db.ClaimWork(t.Context(), "first", []string{"launch"}, time.Millisecond)
	if err != nil {
		t.Fatal(err)
	}
	ctx := store.WithClaim(t.Context(), store.Claim{Work: work.ID, Fence: work.Fence})
	s, err := d.db.Snapshot(ctx, d.one.ID)
	if err != nil {
		t.Fatal(err)
	}
	asked := store.Witness{Wrote: true, Asked: []store.Asked{{AccessID: s.Accesses[0].ID, Answer: "accepted", From: "here"}}}
	if _, err := d.db.Witness(ctx, s, asked); err != nil {
		t.Fatal(err)
	}
	for _, known := range []bool{true, false} {
		if s, err = d.db.Snapshot(ctx, d.one.ID); err != nil {
			t.Fatal(err)
		}
		if known {
			time.Sleep(5 * time.Millisecond)
			if again, err := d.db.ClaimWork(t.Context(), "second", []string{"launch"}, time.Minute); err != nil ||
				again.ID != work.ID {
				t.Fatal(err, again.ID)
			}
		} else {
			s = store.Snapshot{Instance: s.Instance}
		}
		before := d.shown(t, d.one)
		for _, ctx := range []context.Context{ctx, store.WithData(ctx, `{"lost":true}`, store.Facts{})} {
			_, err = d.db.Witness(ctx, s, store.Witness{Wrote: true,
				Placed: &store.Placed{KeyID: d.keys[3].ID, LoginUser: "debian", ByUs: true}})
			if !errors.Is(err, store.ErrLost) {
				t.Errorf("%v", err)
			}
		}
		now, err := d.db.WorkByID(t.Context(), work.ID)
		if after := d.shown(t, d.one); err != nil || !slices.Equal(before, after) || now.Data != "{}" {
			t.Errorf("%v %s\n%q\n%q", err, now.Data, before, after)
		}
	}
}
