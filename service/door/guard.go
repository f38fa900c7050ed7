package door

import (
	"bytes"
	"context"
	"errors"
	"slices"
	"time"

	"plumlatch/core/authkeys"
	"plumlatch/core/rotation"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/store"
)

// Every write of ours that takes something from a person's key is made here:
// forwards (a rotation, a removal, the end of a shared access) and back (our own
// line out again). The guard of rule 1 judges it on the files as they are now,
// with the server's answers after the last write, and gives a permit, which the
// safe edit demands.

// Taking is a key that is to be narrowed or taken out.
type Taking struct {
	Key store.Key
	Was rotation.Mark // when the work began
	// rely is the access of the key that has to take its place: 0 for whichever there is.
	Rely int64
	// shown: that key's private half was shown within the work, since when proofOf
	// began; away: its line leaves the service out, and its holder has logged in.
	Shown, Away bool
	CutOff      bool
	lines       []string  // ours, the only ones that may go; nil for all
	Until       time.Time // the end that the key is given; zero where it goes at once
}

// guarded is the failure of what rule 1 keeps from being taken.
type guarded struct{ Failure }

// errGuarded is what errors.Is finds it by.
var ErrGuarded = errors.New("rule 1")

func (guarded) Is(target error) bool { return target == ErrGuarded }

func (g guarded) Unwrap() error { return g.Failure }

// MarkOf is what a key counts as now.
func MarkOf(k store.Key) rotation.Mark {
	m := rotation.Mark{Holder: k.HolderSort}
	switch {
	case k.State != "in use":
		m.State = k.State
	case k.RetiredAt != nil:
		m.State = "retired"
	}
	return m
}

const maxJudged = 5 // how often a file that others keep changing is judged

// Take narrows or takes out a key's lines, as edit does it to each file that has
// some, once the guard permits it. A file that changed in between is judged again.
// keep is called before the first write, with the files as they will be edited.
// errGuarded, wrapped, where rule 1 forbids it.
func (r *Run) Take(t Taking, effect string, keep func(all []KeysFile) error,
	edit func(name string, doc *authkeys.Document) error, later func(look func() error)) error {
	for n := 1; ; n++ {
		files, err := r.Enter()
		if err != nil {
			return err
		}
		seen, err := ReadFiles(files, r.Instance)
		if err != nil {
			return err
		}
		all := slices.DeleteFunc(slices.Clone(seen), func(f KeysFile) bool { return !t.in(f.Data) })
		if len(all) == 0 { // nothing stands there: nothing is taken from anybody
			for _, f := range seen {
				if err := r.clearUp(files, f.Name); err != nil {
					return err
				}
			}
			return keep(nil)
		}
		permit, end, err := r.permit(files, t, seen)
		if err != nil {
			return err
		}
		err = keep(all)
		if err == nil {
			err = r.edit(files, all, permit, effect, edit, later)
		}
		if err == nil {
			end(t.Until)
		} else {
			end(time.Time{})
		}
		stale := errors.Is(err, rotation.ErrStale) || errors.Is(err, rotation.ErrEnded)
		if err == nil || !stale || n == maxJudged {
			return err
		}
		r.Edits.forget() // one of the files may have been written
	}
}

// inPlace tells whether the key that has to take the other's place is there, and taken.
func (t Taking) inPlace(q rotation.Question, rows []store.Access, e *Edits) error {
	if t.Rely == 0 {
		return nil
	}
	n := slices.IndexFunc(rows, func(a store.Access) bool { return a.ID == t.Rely })
	if n < 0 {
		return Failf("the key that was to take its place is not on record there any more")
	}
	o := slices.IndexFunc(q.Openers, func(o rotation.Opener) bool { return o.ID == rows[n].KeyID })
	switch {
	case !q.Openers[o].There:
		return Failf("the line of %s is not there any more: somebody took it out", rows[n].Key)
	case e.Refused[t.Rely] && !t.Away:
		return Failf("the server does not take %s any more", rows[n].Key)
	}
	return nil
}

// in tells whether a file has lines of the key that are to be taken.
func (t Taking) in(file []byte) bool {
	doc := authkeys.ParseDocument(file)
	if len(t.lines) > 0 {
		return slices.ContainsFunc(t.lines, doc.Has)
	}
	return len(doc.Lines(t.Key.Blob)) > 0
}

// edit changes files by the safe edit, under a permit.
func (r *Run) edit(files reach.Files, all []KeysFile, permit rotation.Permit, effect string,
	change func(name string, doc *authkeys.Document) error, later func(look func() error)) error {
	now, err := r.Store.Now(r.Ctx)
	if err != nil {
		return err
	}
	return r.Effect(effect, func(ctx context.Context) error {
		for _, f := range all {
			if _, err := reach.Edit(ctx, files, f.Name, permit, reach.EditOptions{Now: now, Later: later},
				func(doc *authkeys.Document) error { return change(f.Name, doc) }); err != nil {
				return err
			}
		}
		return nil
	})
}

// lastMoments is how long before an end that a server keeps by itself what it rests on is
// held as it is: long enough to take the end back, if that is what is to be done.
const LastMoments = 20 * time.Second

// Permit asks the guard, on what is there now. end gives the permit back: what
// waits to change what it rests on goes on then. A hold that is near has it hold until then.
func (r *Run) Permit(files reach.Files, t Taking) (permit rotation.Permit, end func(hold time.Time), err error) {
	all, err := ReadFiles(files, r.Instance)
	if err != nil {
		return permit, nil, err
	}
	return r.permit(files, t, all)
}

// permit is Permit on files that were read just now: a permit holds for what was judged alone, so
// that what others write meanwhile has it judged again.
func (r *Run) permit(files reach.Files, t Taking, all []KeysFile) (permit rotation.Permit,
	end func(hold time.Time), err error) {
	p, err := r.Policy(r.Ctx)
	if err != nil {
		return permit, nil, err
	}
	for n := 1; ; n++ {
		if n > 1 {
			if all, err = ReadFiles(files, r.Instance); err != nil {
				return permit, nil, err
			}
		}
		// After the files: a work that lends itself a line has recorded that before.
		d, err := r.Doors()
		if err != nil {
			return permit, nil, err
		}
		r.forgetOld(d)
		if t.Rely != 0 && r.Edits.Accepted == nil && r.Edits.Refused == nil {
			if _, err := r.AskServer(t.Rely); err != nil {
				return permit, nil, err
			}
			if all, d, err = r.scene(files); err != nil {
				return permit, nil, err
			}
		}
		now := d.Now
		var rests []rotation.Rest
		var id int64
		for round := 0; ; round++ {
			q, rows := r.question(files, all, d, t)
			if err := t.inPlace(q, rows, r.Edits); err != nil {
				return permit, nil, err
			}
			q.ShownSince = now.Add(-time.Duration(p.PrivateHalf))
			q.Confirm = func(ctx context.Context) error { return r.Store.PermitHolds(ctx, id, rests) }
			permit, err = rotation.Judge(q)
			if err == nil {
				break
			}
			// Whatever else may be a way in is asked for now, people's keys first; and the
			// taken key, since one that the server refuses takes nothing with it.
			ids := r.Edits.notAsked(rows, t.Key.ID, round == 0)
			if len(ids) == 0 && round == 0 {
				continue
			}
			if !errors.Is(err, rotation.ErrLockOut) || len(ids) == 0 || round > 1 {
				return permit, nil, refusal(err)
			}
			if _, err := r.AskServer(ids...); err != nil {
				return permit, nil, err
			}
			if all, d, err = r.scene(files); err != nil {
				return permit, nil, err
			}
		}
		rests = permit.Rests()
		id, err = r.Store.AddPermit(r.Ctx,
			store.NewPermit{Work: r.Work.ID, Fence: r.Work.Fence, Instance: r.Instance.ID,
				LoginUser: r.Instance.LoginUser, Rests: rests})
		if errors.Is(err, rotation.ErrStale) && n < maxJudged {
			continue // a mark was set in this moment
		}
		if err != nil {
			return permit, nil, err
		}
		return permit, func(hold time.Time) {
			ctx, cancel := context.WithTimeout(context.WithoutCancel(r.Ctx), 3*time.Second)
			defer cancel()
			if now.Before(hold) && hold.Sub(now) < LastMoments {
				_ = r.Store.HoldPermit(ctx, id, hold.Add(2*time.Second))
				return
			}
			_ = r.Store.EndPermit(ctx, id) // it ends by itself
		}, nil
	}
}

// refusal is what the guard said, as a failure of the step.
func refusal(err error) error {
	if errors.Is(err, rotation.ErrLockOut) {
		return guarded{Failure{Reason: Words(err), Code: wire.WorkLocksOut}}
	}
	return Failure{Reason: Words(err)}
}

// notAsked are the accesses that the server has said nothing of since the last
// write: those of people that may be a way in and of the key itself, or all.
func (e *Edits) notAsked(rows []store.Access, taken int64, people bool) []int64 {
	var out []int64
	for _, a := range rows {
		may := a.KeyID == taken || a.OfPerson() && a.HolderSort != "" && a.OutOfUse() == "" && a.ShownAt != nil
		if !e.Accepted[a.ID] && !e.Refused[a.ID] && (may || !people) {
			out = append(out, a.ID)
		}
	}
	return out
}

// scene is what stands in the files, and then what is recorded: a work that lends itself a line
// has recorded that before.
func (r *Run) scene(files reach.Files) ([]KeysFile, store.Snapshot, error) {
	all, err := ReadFiles(files, r.Instance)
	if err != nil {
		return nil, store.Snapshot{}, err
	}
	d, err := r.Doors()
	return all, d, err
}

// question is what the guard is asked, and the recorded keys that it is about.
func (r *Run) question(files reach.Files, all []KeysFile, d store.Snapshot, t Taking) (rotation.Question,
	[]store.Access) {
	q := rotation.Question{Instance: r.Instance.ID, LoginUser: r.Instance.LoginUser, CutOff: t.CutOff, Lines: t.lines,
		Files: map[string][]byte{}, Until: time.Now().Add(store.PermitLife)}
	for _, f := range all {
		q.Files[f.Name] = f.Data
	}
	// The login that shows the new key ends at authentication: it is no session.
	others := slices.DeleteFunc(slices.Clone(d.Accesses), func(a store.Access) bool { return t.Rely != 0 && a.ID == t.Rely })
	q.Session = SessionOf(files, r.Instance.LoginUser, others)
	r.Edits.Session = q.Session
	now := d.Now
	var rows []store.Access
	for _, a := range d.Accesses {
		if a.Steward || a.LoginUser != r.Instance.LoginUser {
			continue
		}
		rows = append(rows, a)
		lines := LinesOf(all, a.Blob)
		if endedSince(lines, r.Edits.AskedAt.Add(r.Edits.Skew), now.Add(r.Edits.Skew)) {
			delete(r.Edits.Accepted, a.ID) // that was before the end
		}
		o := opener{rotation.Opener{ID: a.KeyID, Blob: a.Blob, Key: a.Key,
			Mark: rotation.Mark{Holder: a.HolderSort, State: a.OutOfUse()}, Accepted: r.Edits.Accepted[a.ID],
			Refused: r.Edits.Refused[a.ID]}}
		if a.ShownAt != nil {
			o.Shown = *a.ShownAt
		}
		o.Within = a.ID == t.Rely && t.Shown
		o.lines(lines, now.Add(r.Edits.Skew), d.RescueFor != 0)
		if a.ID == t.Rely && t.Away { // a login from its holder's machine was let in
			o.Excluded, o.Accepted, o.Refused = false, true, false
		}
		q.Openers = append(q.Openers, o.Opener)
	}
	for _, f := range all {
		for _, l := range authkeys.Parse(f.Data, time.UTC) {
			if l.Err == nil {
				q.Openers = append(q.Openers, strangers(q.Openers, d.Own, LinesOf(all, l.Blob), t, now.Add(r.Edits.Skew),
					d.RescueFor != 0)...)
			}
		}
	}
	q.Taken = []rotation.Taking{{ID: t.Key.ID, Blob: t.Key.Blob, Was: t.Was}}
	return q, rows
}

// endedSince tells whether one of the lines has ended since then, by the instance's clock.
func endedSince(lines []authkeys.Line, then, now time.Time) bool {
	return slices.ContainsFunc(lines, func(l authkeys.Line) bool {
		return l.Err == nil && !l.Options.Expires.IsZero() && l.Options.Expires.Before(now) && !l.Options.Expires.Before(then)
	})
}

// strangers is the key of lines that stand there and nobody recorded, as the guard judges it: it
// counts for nothing, and is guarded as a person's where it is taken. Nothing if it is known.
func strangers(known []rotation.Opener, own [][]byte, lines []authkeys.Line, t Taking, now time.Time,
	lending bool) []rotation.Opener {
	lines = slices.DeleteFunc(slices.Clone(lines), func(l authkeys.Line) bool { return l.Err != nil })
	if len(lines) == 0 {
		return nil
	}
	blob := lines[0].Blob
	if slices.ContainsFunc(known, func(o rotation.Opener) bool { return bytes.Equal(o.Blob, blob) }) ||
		slices.ContainsFunc(own, func(b []byte) bool { return bytes.Equal(b, blob) }) {
		return nil
	}
	o := opener{rotation.Opener{Blob: blob, Key: authkeys.Name(blob)}}
	if bytes.Equal(blob, t.Key.Blob) {
		o.ID, o.Mark = t.Key.ID, MarkOf(t.Key)
	}
	o.lines(lines, now, lending)
	return []rotation.Opener{o.Opener}
}

// opener is a key at an instance as its lines have it.
type opener struct{ rotation.Opener }

// lines takes down what the lines of a key let its holder do. A line whose end has
// passed, by the instance's clock, lets nobody in, unless the server says that it
// takes the key all the same. Where the instance is lent as a rescue instance, a
// restricted line may be lent too, and goes with that work: it counts as one that ends.
func (o *opener) lines(all []authkeys.Line, now time.Time, lending bool) {
	all = slices.DeleteFunc(all, func(l authkeys.Line) bool {
		return l.Err != nil || l.Options.CertAuthority ||
			!o.Accepted && !l.Options.Expires.IsZero() && l.Options.Expires.Before(now)
	})
	o.There, o.Forced, o.Excluded, o.Ends = len(all) > 0, true, true, true
	for _, l := range all {
		o.Forced = o.Forced && l.Options.HasCommand
		o.Excluded = o.Excluded && l.Options.From != ""
		o.Ends = o.Ends && (!l.Options.Expires.IsZero() || lending && l.Options.NoPTY)
	}
}

// TakeOurs takes the line that we appended out again, if the guard permits it: going
// back is a change too. stays says why it does not: both lines stand then.
func (r *Run) TakeOurs(fresh store.Key, was rotation.Mark) (stays string, err error) {
	line := r.Edits.Line
	err = r.Take(Taking{Key: fresh, Was: was, lines: []string{line}}, "take-out", func([]KeysFile) error { return nil },
		func(_ string, doc *authkeys.Document) error { doc.RemoveAppended(line); return nil }, nil)
	if errors.Is(err, ErrGuarded) {
		return Words(err), nil
	}
	if err != nil {
		return "", err
	}
	r.Edits.forget()
	return "", r.Wrote()
}

// Unplace undoes place: our line goes again, if the guard permits that, and with it the
// access that was recorded; then the server is asked about those that were there before. A
// line that has to stay is said, and Edits.Stays keeps why.
func (r *Run) Unplace(keyID int64, name string, was rotation.Mark, others []int64) error {
	if r.InstanceGone() {
		return r.DropNew()
	}
	if r.Edits.Line != "" {
		fresh, err := r.Store.KeyByID(r.Ctx, keyID)
		if err != nil {
			return err
		}
		if r.Edits.Stays, err = r.TakeOurs(fresh, was); err != nil {
			return err
		}
		if err := r.Keep(); err != nil {
			return err
		}
		if r.Edits.Stays != "" {
			return r.Say("the line of %s stays: %s", name, r.Edits.Stays)
		}
	}
	if err := r.DropNew(); err != nil {
		return err
	}
	_, err := r.AskServer(others...)
	return err
}

// DropNew takes the new access out of the ledger again, if we put it there.
func (r *Run) DropNew() error {
	if r.Edits.NewAccess == 0 || !r.Edits.Added {
		return nil
	}
	return r.Store.DropAccess(r.Ctx, r.Edits.NewAccess)
}

// TakeOwn takes lines of a key of the service's own out of every file.
func (r *Run) TakeOwn(blob []byte, effect string, change func(doc *authkeys.Document) error) error {
	files, all, err := r.Inside()
	if err != nil {
		return err
	}
	var looks []func() error
	var later func(look func() error)
	if effect == "edit" { // a step of its own takes the result of the later look
		later = func(look func() error) { looks = append(looks, look) }
	}
	err = r.edit(files, all, rotation.Own(blob, r.Edits.Line), effect,
		func(_ string, doc *authkeys.Document) error { return change(doc) }, later)
	r.lookLater(looks)
	if err != nil {
		return err
	}
	return r.WroteOwn()
}

// WithdrawOwn takes lines of a key of the service's own out of every file of an instance.
func WithdrawOwn(ctx context.Context, files reach.Files, i store.Instance, blob []byte) error {
	for _, name := range FilesOf(i) {
		_, err := reach.Edit(ctx, files, name, rotation.Own(blob), reach.EditOptions{Now: time.Now()},
			func(doc *authkeys.Document) error {
				doc.Remove(blob)
				return nil
			})
		if err != nil && !errors.Is(err, reach.ErrMissing) {
			return err
		}
	}
	return nil
}

// WithdrawLent takes lines that the service has lent to itself, with an end, out of every
// file of an instance again.
func WithdrawLent(ctx context.Context, files reach.Files, all []KeysFile, lines []string, now time.Time) error {
	for _, f := range all {
		if !slices.ContainsFunc(lines, authkeys.ParseDocument(f.Data).Has) {
			continue
		}
		if _, err := reach.Edit(ctx, files, f.Name, rotation.Lent(lines...), reach.EditOptions{Now: now},
			func(doc *authkeys.Document) error {
				for _, line := range lines {
					doc.RemoveAppended(line)
				}
				return nil
			}); err != nil {
			return err
		}
	}
	return nil
}
