package door

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"plumlatch/core/authkeys"
	"plumlatch/core/rotation"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// KeysFile is a file of keys as it was read just now.
type KeysFile struct {
	Name string
	Data []byte
}

// ReadFiles reads every file of keys that the server reads for the login user,
// as it will be edited: a file that would not be edited is an error. One that is
// not there is left out.
func ReadFiles(files reach.Files, i store.Instance) ([]KeysFile, error) {
	var out []KeysFile
	for _, name := range FilesOf(i) {
		data, err := reach.ReadKeys(files, name)
		if errors.Is(err, reach.ErrMissing) {
			continue
		}
		if err != nil {
			return nil, Failure{Reason: Words(err)}
		}
		out = append(out, KeysFile{name, data})
	}
	return out, nil
}

// LinesOf returns the lines of a key in all files, parsed.
func LinesOf(all []KeysFile, blob []byte) []authkeys.Line {
	var out []authkeys.Line
	for _, f := range all {
		for _, l := range authkeys.ParseDocument(f.Data).Lines(blob) {
			out = append(out, authkeys.Parse([]byte(l), time.UTC)...)
		}
	}
	return out
}

// way is the steward's open way into an instance, which one step hands to the
// next as long as the work is at hand: to enter costs more than all the rest.
type way struct {
	files reach.Files
	at    string // the place that it leads to
	close func()
	stays func() bool // from now on it outlives the claim; false if that has ended
}

// Enter opens the steward's way, or takes the one that is open; one that cannot
// be opened now has the step wait.
func (r *Run) Enter() (reach.Files, error) {
	if r.Instance.State != "running" {
		r.Leave()
		return nil, r.UntilAnswered(fmt.Errorf("the instance is %s", r.Instance.State))
	}
	at := fmt.Sprintf("%s@%s port %d", r.Instance.LoginUser, r.Instance.Address, r.Instance.Port)
	if r.way != nil {
		if _, err := r.way.files.Lstat("."); err == nil && r.way.at == at {
			return r.way.files, nil
		}
		r.Leave()
	}
	ctx, cancel := context.WithCancel(r.Base())
	stays := context.AfterFunc(r.Ctx, cancel)
	files, done, err := r.Steward(ctx, r.Instance)
	if err != nil {
		stays()
		cancel()
		return nil, r.UntilAnswered(err)
	}
	r.way = &way{files: files, at: at, stays: stays, close: func() { stays(); done(); cancel() }}
	return files, nil
}

// Entered tells whether the steward's way is open.
func (r *Run) Entered() bool { return r.way != nil }

// Leave closes the steward's way, if it is open.
func (r *Run) Leave() {
	if r.way != nil {
		r.way.close()
		r.way = nil
	}
}

// Inside opens the steward's way, and reads every file of keys.
func (r *Run) Inside() (reach.Files, []KeysFile, error) {
	files, err := r.Enter()
	if err != nil {
		return nil, nil, err
	}
	all, err := ReadFiles(files, r.Instance)
	return files, all, err
}

// Place appends our line, unless the key stands there already, and records the
// access. What is to be appended has been kept before.
func (r *Run) Place(files reach.Files, fresh store.Key, stands bool) error {
	if r.Edits.Line != "" && !stands {
		now, err := r.Store.Now(r.Ctx)
		if err != nil {
			return err
		}
		err = r.Effect("append", func(context.Context) error {
			edited, err := reach.AddLine(files, r.Edits.File, r.Edits.Line, now)
			if err != nil {
				return Failure{Reason: "the new key could not be added: " + Words(err)}
			}
			if fi, err := files.Lstat(edited.Backup); err == nil && !fi.Modified.IsZero() {
				r.Edits.Skew = skewOf(fi.Modified, now)
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	r.Edits.Appended, r.Edits.Stays = r.Edits.Line != "", ""
	if !stands { // what was answered before the write says nothing now
		r.Edits.forget()
	}
	in, err := r.stewardIn()
	if err != nil {
		return err
	}
	id, err := r.Witness(store.Witness{Placed: &store.Placed{KeyID: fresh.ID, LoginUser: r.Instance.LoginUser,
		Vantage: fmt.Sprint("work ", r.Work.ID), ByUs: r.Edits.Appended}, Asked: in})
	if err != nil {
		return err
	}
	r.Edits.NewAccess, r.Edits.Added = id, r.Edits.Added || r.Edits.NewAccess == 0
	return r.KeepNote()
}

// ClockOff is how far the instance's clock is ahead of the database's, to the second.
func (r *Run) ClockOff(files reach.Files, beside string) (time.Duration, error) {
	now, err := r.Store.Now(r.Ctx)
	if err != nil {
		return 0, err
	}
	at, err := reach.Clock(files, beside)
	if err != nil {
		if err := r.clearUp(files, beside); err != nil { // who goes back has no line there, and does not look
			return 0, err
		}
		return 0, Failure{Reason: "the instance's clock could not be read: " + Words(err)}
	}
	return skewOf(at, now), nil
}

// skewOf is how far a clock is ahead; files are dated to the second, so little is none.
func skewOf(at, now time.Time) time.Duration {
	if skew := at.Sub(now); skew > 2*time.Second || skew < -2*time.Second {
		return skew.Round(time.Second)
	}
	return 0
}

// TakeOld narrows a key in every line of every file, or takes it out, with the
// guard's permit.
func (r *Run) TakeOld(t Taking, out bool) error {
	var looks []func() error
	keep := func(all []KeysFile) error {
		if r.Edits.Taken == nil {
			r.Edits.Taken = map[string][]authkeys.Taken{}
		}
		if out {
			for _, f := range all {
				for _, taken := range authkeys.ParseDocument(f.Data).Take(t.Key.Blob) {
					if !slices.ContainsFunc(r.Edits.Taken[f.Name],
						func(had authkeys.Taken) bool { return had.Line == taken.Line }) {
						r.Edits.Taken[f.Name] = append(r.Edits.Taken[f.Name], taken)
					}
				}
			}
		}
		r.Edits.Narrowed = true
		if err := r.Keep(); err != nil || !out {
			return err
		}
		return r.takePlaced(t.Key)
	}
	err := r.Take(t, "edit", keep, func(_ string, doc *authkeys.Document) error {
		if out {
			doc.Remove(t.Key.Blob)
			return nil
		}
		_, err := doc.Narrow(t.Key.Blob, authkeys.Narrowing{Expires: r.Edits.Expiry})
		return err
	}, func(look func() error) { looks = append(looks, look) })
	r.lookLater(looks)
	if err != nil {
		_, waits := errors.AsType[*work.Waiting](err)
		switch {
		case errors.Is(err, store.ErrLost), errors.Is(err, ErrGuarded), waits:
			return err
		}
		return Failure{Reason: "the old key could not be ended: " + Words(err)}
	}
	r.Edits.forget() // what was answered before the write says nothing now
	r.Edits.Gone = out
	in, err := r.stewardIn()
	if err != nil {
		return err
	}
	return r.NotedWitness(store.Witness{Wrote: true, Asked: in})
}

// stewardIn is what a write by the steward shows of its own key: the server has let it in, and its session
// is open as it writes. So what it wrote itself does not make that old.
func (r *Run) stewardIn() (out []store.Asked, err error) {
	if r.doors.Instance != r.Instance.ID {
		if _, err := r.Doors(); err != nil {
			return nil, err
		}
	}
	for _, a := range r.doors.Accesses {
		if a.Steward && a.LoginUser == r.Instance.LoginUser {
			out = append(out, store.Asked{AccessID: a.ID, Answer: string(reach.Accepted), From: "steward",
				Detail: "its session was open as it wrote"})
		}
	}
	return out, nil
}

// lookLater looks at replaced files again after a while, while the work goes on:
// the way outlives the step for that, and ends with the service at the latest.
func (r *Run) lookLater(looks []func() error) {
	if len(looks) == 0 || r.way == nil {
		return
	}
	r.way.stays()
	end := r.way.close
	r.way = nil
	result := make(chan error, 1)
	before, _ := r.settling.Load(r.Work.ID) // of an edit of the same work, whose look is still to come
	r.settling.Store(r.Work.ID, result)
	w := r.Service
	w.Engine.Go(func() {
		defer end()
		select {
		case <-time.After(settleLook):
		case <-w.Base().Done():
		}
		var all []error
		for _, look := range looks {
			all = append(all, look())
		}
		if before, ok := before.(chan error); ok {
			all = append(all, <-before)
		}
		result <- errors.Join(all...)
	})
}

// LookedAgain takes the result of the look after an edit.
func (r *Run) LookedAgain() error {
	at, ok := r.settling.Load(r.Work.ID)
	if !ok {
		return r.Say("what others may have written in the moment of the change was not looked for: the service was " +
			"ended meanwhile")
	}
	select {
	case err := <-at.(chan error):
		r.settling.Delete(r.Work.ID)
		if err != nil {
			r.Edits.Trouble = "a line that others added in the moment of the change may be lost: " + Words(err)
			return r.Keep()
		}
		return nil
	default:
	}
	return r.Wait(wire.WaitsRetry, "what others write in the moment of the change", settleLook+100*time.Millisecond,
		time.Minute)
}

// LinesWithout is linesOf with a narrowing of ours taken out again.
func LinesWithout(all []KeysFile, blob []byte, n authkeys.Narrowing) ([]authkeys.Line, error) {
	var wide []KeysFile
	for _, f := range all {
		doc := authkeys.ParseDocument(f.Data)
		if _, err := doc.Widen(blob, n); err != nil {
			return nil, err
		}
		wide = append(wide, KeysFile{f.Name, doc.Bytes()})
	}
	return LinesOf(wide, blob), nil
}

// PutBack puts a key's lines back as they were before takeOld.
func (r *Run) PutBack(old store.Key) error {
	err := r.UndoEdit(func(name string) func(*authkeys.Document) error {
		return func(doc *authkeys.Document) error {
			if r.Edits.Expiry != "" {
				if _, err := doc.Widen(old.Blob, authkeys.Narrowing{Expires: r.Edits.Expiry}); err != nil {
					return err
				}
			}
			doc.PutBack(r.Edits.Taken[name])
			return nil
		}
	})
	if err != nil {
		return err
	}
	return r.placeAgain() // after the lines: the cloud's agent would add what is missing
}

// UndoEdit undoes an edit of ours in every file that it is still in.
func (r *Run) UndoEdit(undo func(name string) func(*authkeys.Document) error) error {
	files, all, err := r.Inside()
	if err != nil {
		return err
	}
	now, err := r.Store.Now(r.Ctx)
	if err != nil {
		return err
	}
	err = r.Effect("put-back", func(ctx context.Context) error {
		for _, f := range all {
			doc := authkeys.ParseDocument(f.Data)
			if err := undo(f.Name)(doc); err != nil || bytes.Equal(doc.Bytes(), f.Data) {
				if err != nil {
					return err
				}
				if err := r.clearUp(files, f.Name); err != nil {
					return err
				}
				continue // it is as it was: nothing has to be allowed for that
			}
			if _, err := reach.Edit(ctx, files, f.Name, rotation.Permit{}, reach.EditOptions{Now: now},
				undo(f.Name)); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return r.Wrote()
}

// Widen makes an edit that takes nothing from any key: it needs no permit. rotation.ErrNoPermit, wrapped, if it would, and nothing is changed
// in that file then.
func (r *Run) Widen(effect string, change func(name string, doc *authkeys.Document) error) error {
	files, all, err := r.Inside()
	if err != nil {
		return err
	}
	for _, f := range all {
		doc := authkeys.ParseDocument(f.Data)
		if err := change(f.Name, doc); err != nil {
			return err
		}
		if err := (rotation.Permit{}).Covers(f.Name, f.Data, doc.Bytes(), time.Time{}); err != nil {
			return err
		}
	}
	return r.edit(files, all, rotation.Permit{}, effect, change, nil)
}

// clearUp takes away what an edit that was cut off has left beside a file that needs no edit now.
// What cannot be taken away stops nothing, as no server reads it: the next edit tries again.
func (r *Run) clearUp(files reach.Files, name string) error {
	if err := reach.ClearUp(files, name); err != nil {
		return r.Say("a file of an edit that was cut off is left: %s", Words(err))
	}
	return nil
}

// TakeInTheEnd takes a key out whose end has come. What keeps it from that is no
// reason to go back: it is tried again, for withdrawLimit, and said then.
func (r *Run) TakeInTheEnd(t Taking) error {
	return r.InTheEnd(t.Key.Name, func() error { return r.TakeOld(t, true) })
}

// InTheEnd calls take until it succeeds, for withdrawLimit; then Edits.Trouble says that what
// has this name could not be withdrawn, and why.
func (r *Run) InTheEnd(name string, take func() error) error {
	over, err := r.WaitOver()
	if err != nil {
		return err
	}
	err = take()
	if err == nil || errors.Is(err, store.ErrLost) || r.Ctx.Err() != nil {
		return err
	}
	reason := Words(err)
	if wait, ok := errors.AsType[*work.Waiting](err); ok {
		reason = wait.Reason
	}
	if over {
		r.Edits.Trouble = fmt.Sprintf("%s could not be withdrawn from %s (%s)", name, r.Instance.Name, reason)
		return r.Keep()
	}
	return r.Wait(wire.WaitsRetry, "another try at withdrawing "+name+": "+reason, r.retryWithdraw(), withdrawLimit)
}

// retryWithdraw is how long to wait before the next try.
func (r *Run) retryWithdraw() time.Duration { return min(15*time.Minute, 20*r.Lease) }
