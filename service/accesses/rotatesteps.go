package accesses

import (
	"cmp"
	"errors"
	"fmt"
	"strings"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/authkeys"
	"plumlatch/core/rotation"
	"plumlatch/core/times"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// notContained: nothing was asked for, or it is no exposed key.
func (r *rotateJob) notContained() bool { return r.In.Contain == "" }

// contained is how an exposed key's lines are narrowed until it is replaced.
func (in rotating) contained() authkeys.Narrowing { return authkeys.Narrowing{From: in.Contain} }

// contain has the server take the exposed key from its holder's networks
// alone, at once, where that cuts nobody off (rule 1). Where it is the only way
// in it stays as it is until the new one is shown to work.
func (r *rotateJob) contain() error {
	if r.InstanceGone() {
		return door.Failf("the instance is gone")
	}
	old, err := r.Store.KeyByID(r.Ctx, r.In.OldID)
	if err != nil {
		return err
	}
	rows, err := r.Store.AccessesOf(r.Ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	if others := acceptedOthers(rows, r.Instance.LoginUser, old.ID); len(others) > 0 {
		if _, err := r.AskServer(others...); err != nil {
			return err
		}
	}
	switch placed, err := r.IsPlaced(old); {
	case err != nil:
		return err
	case placed:
		return r.saidOfContaining("not contained before it was replaced: the cloud's own agent places it, and would write " +
			"over a limit")
	}
	err = r.Take(door.Taking{Key: old, Was: r.In.Was}, "edit",
		func([]door.KeysFile) error { r.D.Contained = true; return r.Keep() },
		func(_ string, doc *authkeys.Document) error {
			_, err := doc.Narrow(old.Blob, r.In.contained())
			return err
		}, nil)
	switch {
	case errors.Is(err, door.ErrGuarded), errors.Is(err, authkeys.ErrHasFrom):
		// Files before the one that refused may have been narrowed: those are widened again.
		r.D.Accepted, r.D.Refused, r.D.AskedAt = nil, nil, time.Time{}
		return r.saidOfContaining("not contained before it was replaced: " + door.Words(err))
	case errors.Is(err, store.ErrLost):
		return err
	case err != nil:
		if _, waits := errors.AsType[*work.Waiting](err); waits {
			return err
		}
		return door.Failure{Reason: "the old key could not be contained: " + door.Words(err)}
	}
	r.D.Accepted, r.D.Refused, r.D.AskedAt = nil, nil, time.Time{}
	if err := r.Wrote(); err != nil {
		return err
	}
	return r.saidOfContaining("taken from " + r.In.Contain + " alone until it was replaced")
}

func (r *rotateJob) saidOfContaining(text string) error {
	r.D.ContainSaid = door.Words(errors.New(text))
	if err := r.KeepNote(); err != nil {
		return err
	}
	return r.Say("the old key is %s", r.D.ContainSaid)
}

// uncontain takes the limit out of the exposed key's lines again.
func (r *rotateJob) uncontain() error {
	if !r.D.Contained || r.InstanceGone() {
		return nil
	}
	old, err := r.Store.KeyByID(r.Ctx, r.In.OldID)
	if err != nil {
		return err
	}
	if err := r.UndoEdit(func(string) func(*authkeys.Document) error {
		return func(doc *authkeys.Document) error {
			_, err := doc.Widen(old.Blob, r.In.contained())
			return err
		}
	}); err != nil {
		return err
	}
	r.D.Contained = false
	return r.Keep()
}

// add reads what is there, and adds the new key's line by one append.
func (r *rotateJob) add() error {
	if r.InstanceGone() {
		return door.Failf("the instance is gone")
	}
	keys, err := r.Store.KeysByID(r.Ctx, r.In.OldID, r.In.NewID)
	if err != nil {
		return err
	}
	old, fresh := keys[0], keys[1]
	d, err := r.Doors()
	if err != nil {
		return err
	}
	rows := d.Accesses
	files, all, err := r.Inside()
	if err != nil {
		return err
	}
	oldLines, newLines := door.LinesOf(all, old.Blob), door.LinesOf(all, fresh.Blob)
	if r.D.Contained { // that limit is not carried over
		if oldLines, err = door.LinesWithout(all, old.Blob, r.In.contained()); err != nil {
			return err
		}
	}
	if r.D.File == "" {
		if len(oldLines) == 0 {
			return door.Failf("%s does not stand in any file that the server reads for %s: there is nothing to "+
				"rotate; \"plumlatch survey %s\" shows what stands there", r.In.Old,
				r.Instance.LoginUser, r.Instance.Name)
		}
		carried, err := rotation.Carry(oldLines, strings.HasPrefix(fresh.Public().Type(), "sk-"))
		if err != nil {
			return door.Failure{Reason: door.Words(err)}
		}
		r.D.Options, r.D.Notes, r.D.Forced, r.D.From = carried.Options, carried.Notes, carried.Forced, carried.From
		r.D.Line = carried.Line(fresh.Public().Line())
		for _, f := range all {
			if len(authkeys.ParseDocument(f.Data).Lines(old.Blob)) == 0 {
				continue
			}
			// One that could not be ended afterwards is not begun.
			if err := reach.Editable(files, f.Name); err != nil {
				return door.Failure{Reason: door.Words(err)}
			}
			if r.D.File == "" {
				r.D.File = f.Name
			}
		}
		if len(newLines) > 0 {
			r.D.Line, r.D.Stood = "", true
			r.D.Notes = append(r.D.Notes, r.In.New+" stands there already, and is left as it stands")
		}
		r.D.Session, r.D.Banner = door.SessionOf(files, r.Instance.LoginUser, rows), reach.Banner(files)
		for _, a := range rows {
			switch {
			case a.Steward || a.LoginUser != r.Instance.LoginUser:
			case a.KeyID == old.ID:
				r.D.OldAccess = a.ID
			case a.KeyID == fresh.ID:
				r.D.NewAccess = a.ID
			}
		}
		r.D.Others = acceptedOthers(rows, r.Instance.LoginUser, old.ID, fresh.ID)
		if r.D.OldAccess == 0 {
			return door.Failf("%s is not recorded to open %s any more", r.In.Old, r.Instance.Name)
		}
		if err := r.Keep(); err != nil {
			return err
		}
	}
	return r.Place(files, fresh, len(newLines) > 0)
}

// addBack takes our line out again, if the guard permits that: the other
// openers may have gone meanwhile, or the old key may count for nothing now. Where
// it does not, both lines stay, and the work ends and says so.
func (r *rotateJob) addBack() error {
	if r.D.File == "" {
		return nil
	}
	return r.Unplace(r.In.NewID, r.In.New, r.In.NewWas, append([]int64{r.D.OldAccess}, r.D.Others...))
}

// accepted asks whether the new key is taken, and the others' still are.
func (r *rotateJob) accepted() error {
	answers, err := r.AskServer(append([]int64{r.D.NewAccess}, r.D.Others...)...)
	if err != nil {
		return err
	}
	if answers[r.D.NewAccess] != reach.Accepted {
		if r.D.From == "" {
			return door.Failf("the server refuses %s, though its line stands in %s", r.In.New, r.D.File)
		}
		r.D.NeedsLogin = true
		if err := r.Keep(); err != nil {
			return err
		}
		if err := r.Say("the new line's from= leaves the service out, so a login from the engineer's machine has " +
			"to show that it works"); err != nil {
			return err
		}
	}
	return r.OthersStill(answers)
}

// proof waits until the new key's holder has shown the private half.
func (r *rotateJob) proof() error {
	if r.InstanceGone() {
		return door.Failf("the instance is gone")
	}
	within, err := r.RereadWith(r.In.NewID, cmp.Or(r.In.ProofOf, r.Work.ID))
	if err != nil {
		return err
	}
	switch {
	case within && (r.In.Login || !r.D.NeedsLogin):
		if r.In.Login {
			return r.Store.Observe(r.Ctx, r.D.NewAccess, access.Proven, true, r.In.LoginFrom)
		}
		return nil
	}
	over, err := r.WaitOver()
	if err != nil {
		return err
	}
	what := fmt.Sprintf("the private half of %s to be shown (plumlatch key prove %s)", r.In.New, r.In.New)
	if r.D.NeedsLogin {
		what = fmt.Sprintf("a login with %s from the engineer's machine (plumlatch work here %d -identity FILE)", r.In.New, r.Work.ID)
	}
	if over {
		return door.Failf("nobody has shown the private half of %s within %s", r.In.New, door.SpanWords(ProofLimit))
	}
	return r.Wait(wire.WaitsProof, what+"; if nobody does, this goes back", time.Minute, ProofLimit) // either wakes it
}

// takingOld is the old key of a rotation, in whose place the new one is shown to work.
func (r *rotateJob) takingOld() (door.Taking, error) {
	old, within, err := r.Store.KeyToTake(r.Ctx, r.In.OldID, r.In.NewID, cmp.Or(r.In.ProofOf, r.Work.ID))
	return door.Taking{Key: old, Was: r.In.Was, Rely: r.D.NewAccess, Shown: within, Away: r.D.NeedsLogin &&
		r.In.Login}, err
}

// narrow ends the old key: at the end of the grace time, by the server
// itself where it can; at once without one.
func (r *rotateJob) narrow() error {
	if r.InstanceGone() {
		return door.Failf("the instance is gone")
	}
	if r.In.Grace > 0 && r.D.Ends == nil {
		now, err := r.Store.Now(r.Ctx)
		if err != nil {
			return err
		}
		end := now.Add(r.In.Grace).UTC().Truncate(time.Second)
		r.D.Ends = &end
		r.D.Expiry, err = authkeys.Expiry(authkeys.ParseVersion(r.D.Banner), end, nil, r.D.Skew)
		if r.D.Enforced = err == nil; err != nil {
			r.D.Why = door.Words(err)
		}
		old, err := r.Store.KeyByID(r.Ctx, r.In.OldID)
		if err != nil {
			return err
		}
		switch placed, err := r.IsPlaced(old); {
		case err != nil:
			return err
		case placed:
			r.D.Enforced, r.D.Expiry, r.D.Why = false, "", "the cloud's own agent places it, and would write over an end"
		}
		if err := r.Keep(); err != nil {
			return err
		}
	}
	if r.In.Grace > 0 {
		if err := r.Store.GiveEnd(r.Ctx,
			store.Terms{AccessID: r.D.OldAccess, UntilAt: r.D.Ends, Reason: "replaced by " + r.In.New,
				Enforced: r.D.Enforced, Expiry: r.D.Expiry, Operator: r.Work.Operator, WorkID: r.Work.ID}); err != nil {
			return err
		}
	}
	if r.In.Grace > 0 && !r.D.Enforced {
		return r.Say("its sshd cannot end %s by itself (%s): the line stays as it is, and is withdrawn at the end "+
			"of the grace time", r.In.Old, r.D.Why)
	}
	t, err := r.takingOld()
	if err != nil {
		return err
	}
	if r.In.Grace > 0 {
		t.Until = *r.D.Ends
	}
	return r.TakeOld(t, r.In.Grace == 0)
}

// settle waits for the second look at the files, which comes two seconds after the edit. The
// work waits without a worker meanwhile.
func (r *rotateJob) settle() error {
	if r.In.Grace > 0 && !r.D.Enforced { // nothing was edited
		return nil
	}
	return r.LookedAgain()
}

// widen puts the old key's lines back as they were.
func (r *rotateJob) widen() error {
	if err := errors.Join(r.Store.EndPermitsOf(r.Ctx, r.Work.ID),
		r.Store.TakeEnd(r.Ctx, r.D.OldAccess, r.Work.ID)); err != nil || r.InstanceGone() {
		return err
	}
	if r.D.Narrowed {
		old, err := r.Store.KeyByID(r.Ctx, r.In.OldID)
		if err != nil {
			return err
		}
		if err := r.PutBack(old); err != nil {
			return err
		}
	}
	// It is back, and whoever takes it out from now on is somebody else. A grace time that
	// begins once more has another end.
	r.D.Narrowed, r.D.Taken = false, nil
	r.D.Ends, r.D.Expiry, r.D.Enforced = nil, "", false
	return r.Keep()
}

// check asks the server whether it went as it should.
func (r *rotateJob) check() error {
	ids := []int64{r.D.OldAccess, r.D.NewAccess}
	if r.In.Grace > 0 { // both are taken: the new one first
		ids = []int64{r.D.NewAccess, r.D.OldAccess}
	}
	answers, err := r.AskServer(append(ids, r.D.Others...)...)
	if err != nil {
		return err
	}
	if answers[r.D.NewAccess] != reach.Accepted && !r.D.NeedsLogin {
		return door.Failf("the server does not take %s after the change", r.In.New)
	}
	switch a := answers[r.D.OldAccess]; {
	case r.In.Grace == 0 && a == reach.Accepted:
		return door.Failf("the server still takes %s, though it is in no file that it is known to read: it stands "+
			"somewhere else", r.In.Old)
	case r.In.Grace > 0 && a == reach.Refused && r.D.From == "" && !r.D.Forced:
		came, err := r.EndCame(r.D.Ends)
		if err != nil {
			return err
		}
		if !came {
			return door.Failf("the server refuses %s before its end", r.In.Old)
		}
		if err := r.Say("the end of %s came before the server was asked whether it still takes it", r.In.Old); err != nil {
			return err
		}
	}
	return r.OthersStill(answers)
}

// grace waits for the end of the grace time.
func (r *rotateJob) grace() error {
	if r.D.Ends == nil {
		return nil
	}
	now, err := r.Store.Now(r.Ctx)
	if err != nil {
		return err
	}
	left := r.D.Ends.Sub(now)
	if left <= 0 {
		return nil
	}
	wake := left + time.Second
	if r.D.Enforced {
		// It was woken, or the end is near.
		if r.Work.WaitsCode == wire.WaitsGrace || left <= door.LastMoments {
			if err := r.endAllowed(left <= door.LastMoments); err != nil {
				return err
			}
		}
		if left > door.LastMoments {
			wake = left - door.LastMoments + time.Second
		}
	}
	return r.Wait(wire.WaitsGrace, fmt.Sprintf("the end of the grace time, %s; then %s is withdrawn",
		times.Show(r.D.Ends.UTC()), r.In.Old), wake, left+time.Hour)
}

// endAllowed asks the guard whether the old key may still end when its grace time does, by the
// server itself: what that rested on may have been marked or taken since. If not, the work
// goes back, which takes the end out again. hold keeps what it rests on as it is until then.
// A server that cannot be asked keeps the end that it was given.
func (r *rotateJob) endAllowed(hold bool) error {
	t, err := r.takingOld()
	if err != nil {
		return err
	}
	files, err := r.Enter()
	if err == nil {
		var end func(time.Time)
		if _, end, err = r.Permit(files, t); err == nil {
			if hold {
				end(*r.D.Ends)
			} else {
				end(time.Time{})
			}
			return nil
		}
	}
	if failure, ok := errors.AsType[door.Failure](err); ok {
		return door.Failf("%s cannot end with its grace time any more: %s", r.In.Old, failure.Reason)
	}
	if r.Ctx.Err() != nil || errors.Is(err, store.ErrLost) {
		return store.ErrLost
	}
	r.Log.Warn("whether a key may end was not asked", "work", r.Work.ID, "error", door.Words(err))
	return nil
}

// withdraw takes the old key out after the grace time.
func (r *rotateJob) withdraw() error {
	if r.D.Gone || r.InstanceGone() {
		return nil
	}
	t, err := r.takingOld()
	if err != nil {
		return err
	}
	return r.TakeInTheEnd(t)
}

// last asks a last time.
func (r *rotateJob) last() error {
	if r.InstanceGone() || r.D.Trouble != "" && !r.D.Gone {
		return nil
	}
	answers, err := r.AskServer(append([]int64{r.D.OldAccess, r.D.NewAccess}, r.D.Others...)...)
	if _, waits := errors.AsType[*work.Waiting](err); waits {
		return err
	}
	if _, failed := errors.AsType[door.Failure](err); failed {
		r.D.Trouble = fmt.Sprintf("%s is withdrawn; the server did not answer the last time it was asked", r.In.Old)
		return r.Keep()
	}
	if err != nil {
		return err
	}
	switch {
	case answers[r.D.OldAccess] == reach.Accepted:
		r.D.Trouble = fmt.Sprintf("the server still takes %s, though it is in no file that it is known to read",
			r.In.Old)
	case answers[r.D.NewAccess] != reach.Accepted && !r.D.NeedsLogin:
		r.D.Trouble = fmt.Sprintf("%s is withdrawn, and the server does not take %s now: somebody else changed it",
			r.In.Old, r.In.New)
	}
	return r.Keep()
}

// record takes the old access out of the ledger, and has the instance looked at again.
func (r *rotateJob) record() error {
	if r.D.Gone {
		why := fmt.Sprintf("withdrawn, for %s (work %d)", r.In.New, r.Work.ID)
		return r.Store.EndAccess(r.Ctx, r.D.OldAccess, r.Work.ID, why, r.SurveysAfter()...)
	}
	return nil
}
