package door

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/cloud"
	"plumlatch/service/store"
)

// Some clouds keep keys for an instance and have their own agent place them there, again and again. Whoever takes such
// a key's lines out has them come back. So its entry is taken off first, under the same permit as the lines, and put
// back if the work goes back.

// The effects of a step that takes a key out of an instance's files, or puts it back, beside the edit itself.
const (
	takesPlaced  = "unplace"
	placesBefore = "place-again"
)

// Takes and PutsBack are all effects of a step that takes a key out by TakeOld, and of its undo by PutBack.
var (
	Takes    = []string{"edit", takesPlaced}
	PutsBack = []string{"put-back", placesBefore}
)

// placedLimit is how long the cloud is asked what its agent places.
const placedLimit = 15 * time.Second

// unplaced is an entry that was taken off.
type unplaced struct {
	ID   string `json:"id"`
	User string `json:"user"`
	Name string `json:"name"`
	Line string `json:"line"`
}

// PlacedOn returns the keys that the cloud's agent places on an instance; none where it has no such agent, or no
// cloud is behind the instance.
func (w *Service) PlacedOn(ctx context.Context, i store.Instance) ([]cloud.PlacedKey, error) {
	if i.Adopted || i.CloudID == "" || w.CloudOf(i).Properties().Places == nil {
		return nil, nil
	}
	return w.CloudOf(i).PlacedKeys(ctx, i.CloudID)
}

// Places tells whether an entry of the cloud's agent places a key for a login user.
func Places(p cloud.PlacedKey, blob []byte, user string) bool {
	public, err := keypair.ReadPublic([]byte(p.Public))
	return err == nil && bytes.Equal(public.Blob, blob) && (p.User == "" || p.User == user)
}

// placed are the entries by which the cloud's agent places a key on the instance for its login user. A cloud that does
// not answer is said, and keeps nobody from going on: a key is withdrawn on a bad day of the cloud, too.
func (r *Run) placed(k store.Key) ([]cloud.PlacedKey, error) {
	ctx, cancel := context.WithTimeout(r.Ctx, placedLimit)
	defer cancel()
	all, err := r.PlacedOn(ctx, r.Instance)
	switch {
	case r.Ctx.Err() != nil:
		return nil, store.ErrLost
	case errors.Is(err, cloud.ErrNotFound):
		return nil, nil
	case err != nil:
		return nil, r.Say("whether the cloud's agent places %s here, and would bring it back, was not seen: %s", k.Name, Words(err))
	}
	return slices.DeleteFunc(all, func(p cloud.PlacedKey) bool { return !Places(p, k.Blob, r.Instance.LoginUser) }), nil
}

// IsPlaced tells whether the cloud's agent places a key on the instance, as far as the cloud says so: what is written
// about its line is written over then.
func (r *Run) IsPlaced(k store.Key) (bool, error) {
	all, err := r.placed(k)
	return len(all) > 0, err
}

// SetByCloud has the cloud's agent place a key on the instance, and returns the entry, as the cloud calls it. Under one token it is one entry.
func (r *Run) SetByCloud(ctx context.Context, token string, k store.Key) (entry string, err error) {
	p, err := Asked(ctx, r, func(ctx context.Context) (cloud.PlacedKey, error) {
		return r.Cloud.PlaceKey(ctx, token, r.Instance.CloudID, r.Instance.LoginUser, strings.ToLower(k.Name), k.Public().Line())
	})
	if errors.Is(err, cloud.ErrRefused) {
		return "", Failf("the cloud does not place it: %s", Words(err))
	}
	return p.ID, err
}

// SeeOff waits a while until the server refuses a key, which the cloud's agent takes away, and returns what it said last.
func (r *Run) SeeOff(k store.Key) (reach.Answer, error) {
	for deadline := time.Now().Add(min(20*time.Second, r.StateLimit)); ; {
		t, err := r.TargetInside(r.Ctx, r.Instance)
		if err != nil {
			return reach.NotAsked, err
		}
		p := reach.Probe(r.Ctx, r.Reach, t, [][]byte{k.Blob}, time.Now)[0]
		if r.Ctx.Err() != nil {
			return reach.NotAsked, store.ErrLost
		}
		if p.Answer == reach.Refused || time.Now().After(deadline) {
			return p.Answer, nil
		}
		r.Sleep(2 * Poll)
	}
}

// Splitting is the input of work that has a key, which the cloud keeps for a whole project, kept for each instance by itself.
type Splitting struct {
	Cloud string `json:"cloud,omitempty"` // its name in the ledger
	Entry string `json:"entry"`           // as the cloud calls it
	User  string `json:"user"`
	Name  string `json:"name"` // for words, and for the entries of each
	Line  string `json:"line"`
}

// SplitKind is the kind of that work.
const SplitKind = "cloud-key-split"

// splitLimit is how long that work is waited for.
const splitLimit = time.Hour

// split has a key that is placed on every instance of the project kept for each of them by itself, by work of its own. One such work
// is at hand at a time, since two on one entry would get in each other's way: others wait for it, and look again after it.
func (r *Run) split(k store.Key, p cloud.PlacedKey) error {
	if r.Edits.Split == 0 {
		by := store.Actor{Operator: r.Work.Operator, Address: r.Work.Address}
		in := Splitting{Cloud: r.Cloud.Name(), Entry: p.ID, User: p.User, Name: plaintext.Line(plaintext.Cut(p.Name, 100)), Line: p.Public}
		n := r.Begun(r.Named(SplitKind), fmt.Sprintf("have the cloud keep %s for each instance by itself", k.Name), Token(26), store.Instance{},
			fmt.Sprintf("keep %s, which its agent places on every instance of the project, for each by itself", k.Name), in)
		n.Target = "cloud-key " + in.Name
		w, began, err := r.Store.BeginAlone(r.Ctx, by, n)
		if err != nil {
			return err
		}
		r.Edits.Split, r.Edits.SplitOurs = w.ID, began
		if err := r.Keep(); err != nil {
			return err
		}
		if began {
			r.Look()
			if err := r.Say("the cloud's agent places %s on every instance of the project, as %s, and would bring its line back here: work %d has "+
				"it kept for each instance by itself first", k.Name, in.Name, w.ID); err != nil {
				return err
			}
		}
	}
	w, err := r.Store.WorkByID(r.Ctx, r.Edits.Split)
	if err != nil {
		return err
	}
	switch {
	case !w.Over() && w.State != store.Stuck:
		return r.Wait(wire.WaitsParts, fmt.Sprintf("work %d, which has the cloud keep a key for each instance by itself", w.ID),
			500*time.Millisecond, splitLimit)
	case !r.Edits.SplitOurs: // it may have been another key's
		r.Edits.Split = 0
		return r.Keep()
	case w.State != store.Done:
		return Failure{Code: wire.WorkPlacedForAll, Reason: fmt.Sprintf("the cloud's agent places %s on every instance of the project, and would "+
			"bring its line back here; it could not be kept for each by itself: %s (work %d)", k.Name, w.Outcome, w.ID)}
	}
	r.Edits.Split = 0
	all, err := r.placed(k)
	if err == nil && slices.ContainsFunc(all, func(now cloud.PlacedKey) bool { return now.ID == p.ID }) {
		return Failure{Code: wire.WorkPlacedForAll, Reason: fmt.Sprintf("the cloud says that it keeps %s for the project still", k.Name)}
	}
	return errors.Join(err, r.Keep())
}

// takePlaced takes off what the cloud places of a key on the instance.
func (r *Run) takePlaced(k store.Key) error {
	all, err := r.placed(k)
	if err != nil {
		return err
	}
	for _, p := range all {
		name := plaintext.Line(plaintext.Cut(p.Name, 100))
		if p.Instance == "" { // kept for this one by itself from then on, it is looked for anew
			if err := r.split(k, p); err != nil {
				return err
			}
			return r.takePlaced(k)
		}
		if !slices.ContainsFunc(r.Edits.Unplaced, func(u unplaced) bool { return u.ID == p.ID }) {
			r.Edits.Unplaced = append(r.Edits.Unplaced, unplaced{ID: p.ID, User: p.User, Name: p.Name, Line: p.Public})
			if err := r.Keep(); err != nil {
				return err
			}
		}
		if err := r.Effect(takesPlaced, func(ctx context.Context) error {
			_, err := Asked(ctx, r, func(ctx context.Context) (struct{}, error) {
				return struct{}{}, r.Cloud.UnplaceKey(ctx, r.ClientToken("unplace-"+p.ID), p.ID)
			})
			return err
		}); err != nil && !errors.Is(err, cloud.ErrNotFound) {
			return err
		}
		if err := r.Say("the cloud's agent placed %s here, as %s, and would have brought its line back: that entry is taken off",
			k.Name, name); err != nil {
			return err
		}
	}
	return nil
}

// placeAgain puts back what takePlaced has taken off, as the work goes back.
func (r *Run) placeAgain() error {
	for len(r.Edits.Unplaced) > 0 {
		n := len(r.Edits.Unplaced) - 1
		u := r.Edits.Unplaced[n]
		if err := r.Effect(placesBefore, func(ctx context.Context) error {
			_, err := Asked(ctx, r, func(ctx context.Context) (cloud.PlacedKey, error) {
				return r.Cloud.PlaceKey(ctx, r.ClientToken("place-"+u.ID), r.Instance.CloudID, u.User, u.Name, u.Line)
			})
			return err
		}); err != nil && !errors.Is(err, cloud.ErrNotFound) {
			return err
		}
		r.Edits.Unplaced = r.Edits.Unplaced[:n]
		if err := r.Keep(); err != nil {
			return err
		}
	}
	return nil
}
