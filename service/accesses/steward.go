package accesses

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/core/rotation"
	"plumlatch/reach"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// The steward's own key is replaced as people's are: the next one in, shown to
// work by a login with it, then the one before out. Both private halves are the
// service's, sealed; nobody else has to do anything.

func (w *Service) stewardKind() *work.Kind {
	return &work.Kind{
		Name: "steward", Action: "steward.rotate", Changing: true,
		Steps: []work.Step{
			{Name: "add", Title: "making the steward's next key, and adding it",
				Do: stewardSteps.Do((*stewardJob).add), Undo: stewardSteps.Do((*stewardJob).addBack),
				Effects: []string{"append"}, UndoEffects: []string{"take-out"}},
			{Name: "try", Title: "logging in with it", Do: stewardSteps.Do((*stewardJob).try)},
			{Name: "swap", Title: "putting it in the place of the one before",
				Do: stewardSteps.Do((*stewardJob).swap), NoReturn: true},
			{Name: "withdraw", Title: "withdrawing the one before", Do: stewardSteps.Do((*stewardJob).withdraw),
				Effects: []string{"edit"}, NoReturn: true},
			{Name: "check", Title: "asking the server about both", Do: stewardSteps.Do((*stewardJob).check),
				NoReturn: true},
			{Name: "settle", Title: "looking for what others wrote meanwhile",
				Do: stewardSteps.Do((*stewardJob).settle), NoReturn: true},
		},
		End: stewardSteps.End(func(r *stewardJob, state store.WorkState) (store.WorkEnd, error) {
			var err error
			text := "the steward has another key; the one before is withdrawn, and refused"
			switch {
			case state != store.Done:
				text = r.TookBack(state, "the steward's key is as it was")
			case r.D.Trouble != "":
				text = "the steward has another key; " + r.D.Trouble
			}
			return store.WorkEnd{Outcome: text}, err
		}),
	}
}

// stewarded is what the steps keep, beside what was edited.
//
//lint:ignore U1000 it is used, as an argument of Job
type stewarded struct {
	door.Edits
	Before []byte `json:"before,omitempty"` // blob of the key that is replaced
}

// stewardJob is the replacement of a steward's key in hand.
type stewardJob struct{ door.Job[struct{}, stewarded] }

var stewardSteps door.Family[*stewardJob] = func() *stewardJob { return new(stewardJob) }

// StewardsEvery is how often the service looks whose steward key is due, and
// stewardsAtOnce how many it begins with then.
const (
	StewardsEvery  = 30 * time.Second
	stewardsAtOnce = 20
)

// StewardsDue begins to replace the steward keys that are older than the policy wants.
func (w *Service) StewardsDue(ctx context.Context) (bool, error) {
	p, err := w.Policy(ctx)
	if err != nil || p.Steward.Age == 0 {
		return false, err
	}
	ids, err := w.Store.StewardsDue(ctx, time.Duration(p.Steward.Age), stewardsAtOnce)
	for _, id := range ids {
		i, err := w.Store.InstanceByID(ctx, id)
		if err != nil {
			return false, err
		}
		if _, err := w.RotateSteward(ctx, store.Service, store.Once{}, i); err != nil &&
			!errors.Is(err, store.ErrInProgress) {
			return false, fmt.Errorf("%s: %w", i.Name, err)
		}
	}
	return false, err
}

// RotateSteward begins to replace an instance's steward key. FieldError, store.ErrInProgress, store.ErrReused.
func (w *Service) RotateSteward(ctx context.Context, by store.Actor, once store.Once, i store.Instance) (store.Work,
	error) {
	if work, again, err := w.WorkDone(ctx, once); again || err != nil {
		return work, err
	}
	if err := w.EditableInstance(ctx, i); err != nil {
		return store.Work{}, err
	}
	if i.Via != nil {
		return store.Work{}, door.FieldError{Field: "instance",
			Problem: fmt.Sprintf("%s is reached through %s, where the steward's line was placed by hand: forget "+
				"it, and adopt it anew", i.Name, i.Via.Address)}
	}
	return w.BeginOf(ctx, by, once, i, w.Begun(w.Named("steward"), "replace the steward's key on "+i.Name,
		door.Token(26), i, "replace the steward's key", struct{}{}))
}

func (r *stewardJob) add() error {
	if r.InstanceGone() {
		return door.Failf("the instance is gone")
	}
	next, err := r.Store.NextSteward(r.Ctx, r.Instance.ID)
	if errors.Is(err, store.ErrNotFound) {
		pair, e := keypair.Create(keypair.Ed25519, r.Instance.Name+" steward")
		if e != nil {
			return e
		}
		if next.Sealed, err = r.Encrypt(r.Ctx, pair); err != nil {
			return err
		}
		if err = r.Store.KeepNextSteward(r.Ctx, r.Instance.ID,
			store.NextSteward{Blob: pair.Public.Blob, Sealed: next.Sealed}); err == nil {
			next, err = r.Store.NextSteward(r.Ctx, r.Instance.ID)
		}
	}
	if err != nil {
		return err
	}
	public, err := keypair.FromBlob(next.Blob, "")
	if err != nil {
		return err
	}
	before, err := r.Store.StewardPublic(r.Ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	files, all, err := r.Inside()
	if err != nil {
		return err
	}
	if r.D.File == "" {
		lines := door.LinesOf(all, before)
		carried, err := rotation.Carry(lines, false)
		if err != nil {
			return door.Failf("the steward's line is not in a file that it can read: %v", err)
		}
		comment := "plumlatch"
		for _, l := range lines {
			if l.Err == nil && l.Comment != "" {
				comment = plaintext.Line(plaintext.Cut(l.Comment, 100))
			}
		}
		public.Comment = comment
		for _, f := range all {
			if len(authkeys.ParseDocument(f.Data).Lines(before)) == 0 {
				continue
			}
			if err := reach.Editable(files, f.Name); err != nil {
				return door.Failure{Reason: door.Words(err)}
			}
			r.D.File = f.Name
		}
		rows, err := r.Store.AccessesOf(r.Ctx, r.Instance.ID)
		if err != nil {
			return err
		}
		for _, a := range rows {
			if a.Steward {
				r.D.Others = []int64{a.ID}
			}
		}
		r.D.Others = append(r.D.Others, acceptedOthers(rows, r.Instance.LoginUser)...)
		r.D.Line, r.D.Before = carried.Line(public.Line()), before
		if err := r.Keep(); err != nil {
			return err
		}
	}
	if len(door.LinesOf(all, next.Blob)) > 0 {
		return nil
	}
	now, err := r.Store.Now(r.Ctx)
	if err != nil {
		return err
	}
	err = r.Effect("append", func(context.Context) error {
		if _, err := reach.AddLine(files, r.D.File, r.D.Line, now); err != nil {
			return door.Failure{Reason: "the steward's next key could not be added: " + door.Words(err)}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return r.WroteOwn()
}

func (r *stewardJob) addBack() error {
	var err error
	asks := r.D.File != "" && !r.InstanceGone()
	if r.D.File != "" && !r.InstanceGone() {
		_, all, err := r.Inside()
		if err != nil {
			return err
		}
		if slices.ContainsFunc(all, func(f door.KeysFile) bool { return authkeys.ParseDocument(f.Data).Has(r.D.Line) }) {
			next, err := r.Store.NextSteward(r.Ctx, r.Instance.ID)
			if err != nil {
				return err
			}
			if err := r.TakeOwn(next.Blob, "take-out",
				func(doc *authkeys.Document) error { doc.RemoveAppended(r.D.Line); return nil }); err != nil {
				return err
			}
		}
	}
	if err := r.Store.DropNextSteward(r.Ctx, r.Instance.ID); err != nil || !asks {
		return err
	}
	_, err = r.AskServer(r.D.Others...)
	return err
}

// try logs in with the next key, and reads the file that it will edit.
func (r *stewardJob) try() error {
	if r.InstanceGone() {
		return door.Failf("the instance is gone")
	}
	next, err := r.Store.NextSteward(r.Ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	known, err := r.Store.ForSurvey(r.Ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	known[r.Instance.ID].Sealed = next.Sealed
	files, done, err := r.StewardBy(r.Ctx, r.Instance, known[r.Instance.ID])
	if err != nil {
		if door.CauseOf(err) == "steward" {
			return door.Failure{Reason: "the server does not let the steward in with its next key: " + door.Words(err)}
		}
		return r.UntilAnswered(err)
	}
	defer done()
	all, err := door.ReadFiles(files, r.Instance)
	if err != nil {
		return err
	}
	if len(door.LinesOf(all, next.Blob)) == 0 {
		return door.Failf("the steward's next line is not there any more: somebody took it out")
	}
	return nil
}

func (r *stewardJob) swap() error {
	r.Leave() // that way is the key's before: from now on the next one opens it
	return r.Store.SwapSteward(r.Ctx, r.Instance.ID)
}

// withdraw takes the key before out, by a login with the one that took its place.
func (r *stewardJob) withdraw() error {
	if r.D.Gone || r.InstanceGone() {
		return nil
	}
	return r.InTheEnd("the steward's key before", func() error {
		_, all, err := r.Inside()
		if err != nil {
			return err
		}
		now, err := r.Store.StewardPublic(r.Ctx, r.Instance.ID)
		if err != nil {
			return err
		}
		if len(door.LinesOf(all, now)) == 0 {
			return door.Failf("the steward's line is not there any more: somebody took it out")
		}
		if err := r.TakeOwn(r.D.Before, "edit",
			func(doc *authkeys.Document) error { doc.Remove(r.D.Before); return nil }); err != nil {
			return err
		}
		r.D.Accepted, r.D.Refused, r.D.AskedAt, r.D.Gone = nil, nil, time.Time{}, true
		return r.Keep()
	})
}

// check asks about both, and about those that the server took before: the
// file that has them was written.
func (r *stewardJob) check() error {
	if !r.D.Gone || r.InstanceGone() {
		return nil
	}
	rows, err := r.Store.AccessesOf(r.Ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	t, err := r.TargetInside(r.Ctx, r.Instance)
	if err != nil {
		return err
	}
	rows = slices.DeleteFunc(rows, func(a store.Access) bool {
		return !a.Steward &&
			!slices.Contains(r.D.Others, a.ID)
	})
	blobs := [][]byte{r.D.Before}
	for _, a := range rows {
		blobs = append(blobs, a.Blob)
	}
	results := r.AskKeys(t, blobs)
	if r.Ctx.Err() != nil {
		return store.ErrLost
	}
	var kept []store.Asked
	for n, a := range rows {
		p := results[n+1]
		kept = append(kept, store.Asked{AccessID: a.ID, Answer: string(p.Answer), Detail: p.Detail, From: p.Vantage})
		if p.Answer != reach.Accepted {
			r.D.Trouble = "the server did not say of every key that it takes it, when it was asked afterwards"
		}
	}
	if results[0].Answer == reach.Accepted {
		r.D.Trouble = "the server still takes the one before, though it is in no file that it is known to read"
	}
	if err := r.Store.Probed(r.Ctx, kept...); err != nil {
		return err
	}
	return r.Keep()
}

func (r *stewardJob) settle() error {
	if !r.D.Gone {
		return nil
	}
	return r.LookedAgain()
}
