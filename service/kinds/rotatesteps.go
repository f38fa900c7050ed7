package kinds

import (
	"cmp"
	"errors"
	"fmt"
	"strings"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/authkeys"
	"plumlatch/core/rotation"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// notContained: nothing was asked for, or it is no exposed key.
func notContained(r *Run) bool {
	in, _, err := r.rotation()
	return err == nil && in.Contain == ""
}

// contained is how an exposed key's lines are narrowed until it is replaced.
func (in rotating) contained() authkeys.Narrowing { return authkeys.Narrowing{From: in.Contain} }

// rotateContain has the server take the exposed key from its holder's networks
// alone, at once, where that cuts nobody off (rule 1). Where it is the only way
// in it stays as it is until the new one is shown to work.
func (r *Run) rotateContain() error {
	in, d, err := r.rotation()
	if err != nil {
		return err
	}
	if r.instanceGone() {
		return failf("the instance is gone")
	}
	old, err := r.Store.KeyByID(r.ctx, in.OldID)
	if err != nil {
		return err
	}
	rows, err := r.Store.AccessesOf(r.ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	if others := acceptedOthers(rows, r.Instance.LoginUser, old.ID); len(others) > 0 {
		if _, err := r.askServer(&d, others...); err != nil {
			return err
		}
	}
	err = r.take(&d, taking{key: old, was: in.Was}, "edit", func([]keysFile) error { d.Contained = true; return r.SetData(d) },
		func(_ string, doc *authkeys.Document) error {
			_, err := doc.Narrow(old.Blob, in.contained())
			return err
		}, nil)
	switch {
	case errors.Is(err, errGuarded), errors.Is(err, authkeys.ErrHasFrom):
		// Files before the one that refused may have been narrowed: those are widened again.
		d.Accepted, d.Refused, d.AskedAt = nil, nil, time.Time{}
		return r.saidOfContaining(&d, "not contained before it was replaced: "+words(err))
	case errors.Is(err, store.ErrLost):
		return err
	case err != nil:
		if _, waits := errors.AsType[*work.Waiting](err); waits {
			return err
		}
		return Failure{Reason: "the old key could not be contained: " + words(err)}
	}
	d.Accepted, d.Refused, d.AskedAt = nil, nil, time.Time{}
	if err := r.Store.Wrote(r.ctx, r.Instance.ID); err != nil {
		return err
	}
	return r.saidOfContaining(&d, "taken from "+in.Contain+" alone until it was replaced")
}

func (r *Run) saidOfContaining(d *rotated, text string) error {
	d.ContainSaid = words(errors.New(text))
	if err := r.NoteData(*d); err != nil {
		return err
	}
	return r.Say("the old key is %s", d.ContainSaid)
}

// rotateUncontain takes the limit out of the exposed key's lines again.
func (r *Run) rotateUncontain() error {
	in, d, err := r.rotation()
	if err != nil || !d.Contained || r.instanceGone() {
		return err
	}
	old, err := r.Store.KeyByID(r.ctx, in.OldID)
	if err != nil {
		return err
	}
	if err := r.undoEdit(func(string) func(*authkeys.Document) error {
		return func(doc *authkeys.Document) error {
			_, err := doc.Widen(old.Blob, in.contained())
			return err
		}
	}); err != nil {
		return err
	}
	d.Contained = false
	return r.SetData(d)
}

// rotateAdd reads what is there, and adds the new key's line by one append.
func (r *Run) rotateAdd() error {
	in, d, err := r.rotation()
	if err != nil {
		return err
	}
	if r.instanceGone() {
		return failf("the instance is gone")
	}
	old, err := r.Store.KeyByID(r.ctx, in.OldID)
	if err != nil {
		return err
	}
	fresh, err := r.Store.KeyByID(r.ctx, in.NewID)
	if err != nil {
		return err
	}
	rows, err := r.Store.AccessesOf(r.ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	files, all, err := r.inside()
	if err != nil {
		return err
	}
	oldLines, newLines := linesOf(all, old.Blob), linesOf(all, fresh.Blob)
	if d.Contained { // that limit is not carried over
		if oldLines, err = linesWithout(all, old.Blob, in.contained()); err != nil {
			return err
		}
	}
	if d.File == "" {
		if len(oldLines) == 0 {
			return failf("%s does not stand in any file that the server reads for %s: there is nothing to rotate; \"plumlatch survey %s\" shows what stands there", in.Old, r.Instance.LoginUser, r.Instance.Name)
		}
		carried, err := rotation.Carry(oldLines, strings.HasPrefix(fresh.Public().Type(), "sk-"))
		if err != nil {
			return Failure{Reason: words(err)}
		}
		d.Options, d.Notes, d.Forced, d.From = carried.Options, carried.Notes, carried.Forced, carried.From
		d.Line = carried.Line(fresh.Public().Line())
		for _, f := range all {
			if len(authkeys.ParseDocument(f.data).Lines(old.Blob)) == 0 {
				continue
			}
			// One that could not be ended afterwards is not begun.
			if err := reach.Editable(files, f.name); err != nil {
				return Failure{Reason: words(err)}
			}
			if d.File == "" {
				d.File = f.name
			}
		}
		if len(newLines) > 0 {
			d.Line, d.Stood = "", true
			d.Notes = append(d.Notes, in.New+" stands there already, and is left as it stands")
		}
		d.Session, d.Banner = sessionOf(files, r.Instance.LoginUser, rows), reach.Banner(files)
		for _, a := range rows {
			switch {
			case a.Steward || a.LoginUser != r.Instance.LoginUser:
			case a.KeyID == old.ID:
				d.OldAccess = a.ID
			case a.KeyID == fresh.ID:
				d.NewAccess = a.ID
			}
		}
		d.Others = acceptedOthers(rows, r.Instance.LoginUser, old.ID, fresh.ID)
		if d.OldAccess == 0 {
			return failf("%s is not recorded to open %s any more", in.Old, r.Instance.Name)
		}
		if err := r.SetData(d); err != nil {
			return err
		}
	}
	return r.place(&d, files, fresh, len(newLines) > 0)
}

// rotateAddBack takes our line out again, if the guard permits that: the other
// openers may have gone meanwhile, or the old key may count for nothing now. Where
// it does not, both lines stay, and the work ends and says so.
func (r *Run) rotateAddBack() error {
	in, d, err := r.rotation()
	if err != nil || d.File == "" {
		return err
	}
	return r.unplace(d, in.NewID, in.New, in.NewWas, append([]int64{d.OldAccess}, d.Others...))
}

// dropNew takes the new access out of the ledger again, if we put it there.
func (r *Run) dropNew(d rotated) error {
	if d.NewAccess == 0 || !d.Added {
		return nil
	}
	return r.Store.DropAccess(r.ctx, d.NewAccess)
}

// rotateAccepted asks whether the new key is taken, and the others' still are.
func (r *Run) rotateAccepted() error {
	in, d, err := r.rotation()
	if err != nil {
		return err
	}
	answers, err := r.askServer(&d, append([]int64{d.NewAccess}, d.Others...)...)
	if err != nil {
		return err
	}
	if answers[d.NewAccess] != reach.Accepted {
		if d.From == "" {
			return failf("the server refuses %s, though its line stands in %s", in.New, d.File)
		}
		d.NeedsLogin = true
		if err := r.SetData(d); err != nil {
			return err
		}
		if err := r.Say("the new line's from= leaves the service out, so a login from the engineer's machine has to show that it works"); err != nil {
			return err
		}
	}
	return r.othersStill(d, answers)
}

// othersStill fails if a key of others is not accepted any more.
func (r *Run) othersStill(d rotated, answers map[int64]reach.Answer) error {
	for _, id := range d.Others {
		if a, ok := answers[id]; ok && a == reach.Refused {
			row, err := r.Store.AccessByID(r.ctx, id)
			if err != nil {
				return err
			}
			return failf("the server does not take %s any more, which it took before", row.Key)
		}
	}
	return nil
}

// rotateProof waits until the new key's holder has shown the private half.
func (r *Run) rotateProof() error {
	in, d, err := r.rotation()
	if err != nil {
		return err
	}
	if r.instanceGone() {
		return failf("the instance is gone")
	}
	if r.Work.Input, err = r.Store.WorkInput(r.ctx, r.Work.ID); err != nil { // what was reported since
		return err
	}
	if in, d, err = r.rotation(); err != nil {
		return err
	}
	_, within, err := r.Store.ShownSince(r.ctx, in.NewID, cmp.Or(in.ProofOf, r.Work.ID))
	if err != nil {
		return err
	}
	switch {
	case within && (in.Login || !d.NeedsLogin):
		if in.Login {
			return r.Store.Observe(r.ctx, d.NewAccess, access.Proven, true, in.LoginFrom)
		}
		return nil
	}
	over, err := r.WaitOver()
	if err != nil {
		return err
	}
	what := fmt.Sprintf("the private half of %s to be shown (plumlatch key prove %s)", in.New, in.New)
	if d.NeedsLogin {
		what = fmt.Sprintf("a login with %s from the engineer's machine (plumlatch rotate -continue %d -identity FILE)", in.New, r.Work.ID)
	}
	if over {
		return failf("nobody has shown the private half of %s within %s", in.New, spanWords(proofLimit))
	}
	return r.Wait(wire.WaitsProof, what+"; if nobody does, this goes back", time.Minute, proofLimit) // either wakes it
}

// takingOld is the old key of a rotation, in whose place the new one is shown to work.
func (r *Run) takingOld(in rotating, d rotated, old store.Key) (taking, error) {
	_, within, err := r.Store.ShownSince(r.ctx, in.NewID, cmp.Or(in.ProofOf, r.Work.ID))
	return taking{key: old, was: in.Was, rely: d.NewAccess, shown: within, away: d.NeedsLogin && in.Login}, err
}

// rotateNarrow ends the old key: at the end of the grace time, by the server
// itself where it can; at once without one.
func (r *Run) rotateNarrow() error {
	in, d, err := r.rotation()
	if err != nil {
		return err
	}
	if r.instanceGone() {
		return failf("the instance is gone")
	}
	old, err := r.Store.KeyByID(r.ctx, in.OldID)
	if err != nil {
		return err
	}
	if in.Grace > 0 && d.Ends == nil {
		now, err := r.Store.Now(r.ctx)
		if err != nil {
			return err
		}
		end := now.Add(in.Grace).UTC().Truncate(time.Second)
		d.Ends = &end
		d.Expiry, err = authkeys.Expiry(authkeys.ParseVersion(d.Banner), end, nil, d.Skew)
		if d.Enforced = err == nil; err != nil {
			d.Why = words(err)
		}
		if err := r.SetData(d); err != nil {
			return err
		}
	}
	if in.Grace > 0 {
		if err := r.Store.GiveEnd(r.ctx, store.Terms{AccessID: d.OldAccess, UntilAt: d.Ends, Reason: "replaced by " + in.New, Enforced: d.Enforced, Expiry: d.Expiry, Operator: r.Work.Operator, WorkID: r.Work.ID}); err != nil {
			return err
		}
	}
	if in.Grace > 0 && !d.Enforced {
		return r.Say("its sshd cannot end %s by itself (%s): the line stays as it is, and is withdrawn at the end of the grace time", in.Old, d.Why)
	}
	t, err := r.takingOld(in, d, old)
	if err != nil {
		return err
	}
	if in.Grace > 0 {
		t.until = *d.Ends
	}
	return r.takeOld(&d, t, in.Grace == 0)
}

// rotateSettle waits for that look, without holding anything.
func (r *Run) rotateSettle() error {
	in, d, err := r.rotation()
	if err != nil {
		return err
	}
	if in.Grace > 0 && !d.Enforced { // nothing was edited
		return nil
	}
	return r.lookedAgain(&d)
}

// rotateWiden puts the old key's lines back as they were.
func (r *Run) rotateWiden() error {
	in, d, err := r.rotation()
	if err != nil {
		return err
	}
	if err := errors.Join(r.Store.EndPermitsOf(r.ctx, r.Work.ID), r.Store.TakeEnd(r.ctx, d.OldAccess, r.Work.ID)); err != nil || r.instanceGone() {
		return err
	}
	if d.Narrowed {
		old, err := r.Store.KeyByID(r.ctx, in.OldID)
		if err != nil {
			return err
		}
		if err := r.putBack(d, old); err != nil {
			return err
		}
	}
	// It is back, and whoever takes it out from now on is somebody else. A grace time that
	// begins once more has another end.
	d.Narrowed, d.Taken = false, nil
	d.Ends, d.Expiry, d.Enforced = nil, "", false
	return r.SetData(d)
}

// rotateCheck asks the server whether it went as it should.
func (r *Run) rotateCheck() error {
	in, d, err := r.rotation()
	if err != nil {
		return err
	}
	ids := []int64{d.OldAccess, d.NewAccess}
	if in.Grace > 0 { // both are taken: the new one first
		ids = []int64{d.NewAccess, d.OldAccess}
	}
	answers, err := r.askServer(&d, append(ids, d.Others...)...)
	if err != nil {
		return err
	}
	if answers[d.NewAccess] != reach.Accepted && !d.NeedsLogin {
		return failf("the server does not take %s after the change", in.New)
	}
	switch a := answers[d.OldAccess]; {
	case in.Grace == 0 && a == reach.Accepted:
		return failf("the server still takes %s, though it is in no file that it is known to read: it stands somewhere else", in.Old)
	case in.Grace > 0 && a == reach.Refused && d.From == "" && !d.Forced:
		return failf("the server refuses %s before its end", in.Old)
	}
	return r.othersStill(d, answers)
}

// rotateGrace waits for the end of the grace time.
func (r *Run) rotateGrace() error {
	in, d, err := r.rotation()
	if err != nil || d.Ends == nil {
		return err
	}
	now, err := r.Store.Now(r.ctx)
	if err != nil {
		return err
	}
	left := d.Ends.Sub(now)
	if left <= 0 {
		return nil
	}
	wake := left + time.Second
	if d.Enforced {
		// It was woken, or the end is near.
		if r.Work.WaitsCode == wire.WaitsGrace || left <= lastMoments {
			if err := r.endAllowed(in, &d, left <= lastMoments); err != nil {
				return err
			}
		}
		if left > lastMoments {
			wake = left - lastMoments + time.Second
		}
	}
	return r.Wait(wire.WaitsGrace, fmt.Sprintf("the end of the grace time, %s; then %s is withdrawn", d.Ends.Format("2006-01-02 15:04 UTC"), in.Old), wake, left+time.Hour)
}

// endAllowed asks the guard whether the old key may still end when its grace time does, by the
// server itself: what that rested on may have been marked or taken since. If not, the work
// goes back, which takes the end out again. hold keeps what it rests on as it is until then.
// A server that cannot be asked keeps the end that it was given.
func (r *Run) endAllowed(in rotating, d *rotated, hold bool) error {
	old, err := r.Store.KeyByID(r.ctx, in.OldID)
	if err != nil {
		return err
	}
	t, err := r.takingOld(in, *d, old)
	if err != nil {
		return err
	}
	files, err := r.enter()
	if err == nil {
		var end func(time.Time)
		if _, end, err = r.permit(d, files, t); err == nil {
			if hold {
				end(*d.Ends)
			} else {
				end(time.Time{})
			}
			return nil
		}
	}
	if failure, ok := errors.AsType[Failure](err); ok {
		return failf("%s cannot end with its grace time any more: %s", in.Old, failure.Reason)
	}
	if r.ctx.Err() != nil || errors.Is(err, store.ErrLost) {
		return store.ErrLost
	}
	r.Log.Warn("whether a key may end was not asked", "work", r.Work.ID, "error", words(err))
	return nil
}

// rotateWithdraw takes the old key out after the grace time.
func (r *Run) rotateWithdraw() error {
	in, d, err := r.rotation()
	if err != nil || d.Gone || r.instanceGone() {
		return err
	}
	old, err := r.Store.KeyByID(r.ctx, in.OldID)
	if err != nil {
		return err
	}
	t, err := r.takingOld(in, d, old)
	if err != nil {
		return err
	}
	return r.takeInTheEnd(&d, t)
}

// rotateLast asks a last time.
func (r *Run) rotateLast() error {
	in, d, err := r.rotation()
	if err != nil || r.instanceGone() || d.Trouble != "" && !d.Gone {
		return err
	}
	if in.Grace == 0 { // that was the check
		return nil
	}
	answers, err := r.askServer(&d, append([]int64{d.OldAccess, d.NewAccess}, d.Others...)...)
	if _, waits := errors.AsType[*work.Waiting](err); waits {
		return err
	}
	if _, failed := errors.AsType[Failure](err); failed {
		d.Trouble = fmt.Sprintf("%s is withdrawn; the server did not answer the last time it was asked", in.Old)
		return r.SetData(d)
	}
	if err != nil {
		return err
	}
	switch {
	case answers[d.OldAccess] == reach.Accepted:
		d.Trouble = fmt.Sprintf("the server still takes %s, though it is in no file that it is known to read", in.Old)
	case answers[d.NewAccess] != reach.Accepted && !d.NeedsLogin:
		d.Trouble = fmt.Sprintf("%s is withdrawn, and the server does not take %s now: somebody else changed it", in.Old, in.New)
	}
	return r.SetData(d)
}

// surveysAfter are when an instance is looked at again by itself: what puts keys
// back (guest programs, configuration runs) does it within a day.
var surveysAfter = []time.Duration{15 * time.Minute, 24 * time.Hour}

// rotateRecord takes the old access out of the ledger, and has the instance looked at again.
func (r *Run) rotateRecord() error {
	in, d, err := r.rotation()
	if err != nil {
		return err
	}
	if d.Gone {
		why := fmt.Sprintf("withdrawn, for %s (work %d)", in.New, r.Work.ID)
		return r.Store.EndAccess(r.ctx, d.OldAccess, r.Work.ID, why, r.surveysAfter()...)
	}
	return nil
}

// surveysAfter are when the instance is to be looked at again.
func (r *Run) surveysAfter() []time.Duration {
	if r.instanceGone() {
		return nil
	}
	return surveysAfter
}
