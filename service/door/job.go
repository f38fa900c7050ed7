package door

import (
	"context"
	"encoding/json"
	"time"

	"plumlatch/core/authkeys"
	"plumlatch/core/rotation"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// Job is a piece of work of one family in hand: its run, what it was asked for, and what
// its steps keep. A family is a type that embeds it, and its steps are methods of that.
type Job[In, Data any] struct {
	*Run
	In In
	D  Data
}

func (j *Job[In, Data]) open(r *Run) error {
	j.Run = r
	if err := json.Unmarshal([]byte(r.Work.Input), &j.In); err != nil {
		return err
	}
	if err := r.Data(&j.D); err != nil {
		return err
	}
	if o, ok := any(&j.D).(interface{ Opened() }); ok {
		o.Opened()
	}
	r.kept, r.Edits = &j.D, nil
	if e, ok := any(&j.D).(interface{ edits() *Edits }); ok {
		r.Edits = e.edits()
	}
	return nil
}

// Reread takes up what was reported since the work was claimed.
func (j *Job[In, Data]) Reread() (err error) {
	if j.Work.Input, err = j.Store.WorkInput(j.Ctx, j.Work.ID); err != nil {
		return err
	}
	return j.reread()
}

// RereadWith is Reread, and tells whether a key's private half was shown since a piece of work began.
func (j *Job[In, Data]) RereadWith(keyID, since int64) (shown bool, err error) {
	if j.Work.Input, shown, err = j.Store.Told(j.Ctx, j.Work.ID, keyID, since); err != nil {
		return false, err
	}
	return shown, j.reread()
}

func (j *Job[In, Data]) reread() error {
	var in In
	err := json.Unmarshal([]byte(j.Work.Input), &in)
	j.In = in
	return err
}

// Family makes a job of one family, empty. It binds the family's steps to the engine: what
// a piece of work keeps is opened once for each.
type Family[T interface{ open(*Run) error }] func() T

func (f Family[T]) open(r *work.Run) (T, error) {
	job := f()
	return job, job.open(r.Own.(*Run))
}

// Do is a step's function, for the engine.
func (f Family[T]) Do(step func(T) error) func(*work.Run) error {
	return func(r *work.Run) error {
		job, err := f.open(r)
		if err != nil {
			return err
		}
		return step(job)
	}
}

// Skip is a step's Skip, for the engine. What cannot be read is not skipped: the step says why.
func (f Family[T]) Skip(skips func(T) bool) func(*work.Run) bool {
	return func(r *work.Run) bool {
		job, err := f.open(r)
		return err == nil && skips(job)
	}
}

// End is a kind's End, for the engine.
func (f Family[T]) End(end func(T, store.WorkState) (store.WorkEnd, error)) func(*work.Run,
	store.WorkState) (store.WorkEnd, error) {
	return func(r *work.Run, state store.WorkState) (store.WorkEnd, error) {
		job, err := f.open(r)
		if err != nil {
			return store.WorkEnd{}, err
		}
		return end(job, state)
	}
}

// Keep keeps what the family's steps keep: on the disk before anything that it is needed
// for is done.
func (r *Run) Keep() error { return r.SetData(r.kept) }

// KeepNote is Keep for what can be found out again.
func (r *Run) KeepNote() error { return r.NoteData(r.kept) }

// Noting is KeepNote in the transaction of f.
func (r *Run) Noting(f func(ctx context.Context) error) error { return r.Run.Noting(r.kept, f) }

// Edits is what every family that edits files of keys keeps of that.
type Edits struct {
	File      string  `json:"file"`            // that our line went into
	Line      string  `json:"line"`            // ours; "" if the new key stood there already
	Added     bool    `json:"added,omitempty"` // the access was recorded by us
	Appended  bool    `json:"appended,omitempty"`
	OldAccess int64   `json:"old_access"`
	NewAccess int64   `json:"new_access"`
	Others    []int64 `json:"others,omitempty"` // accesses of others that were accepted before

	Skew    time.Duration    `json:"skew"` // how far the instance's clock is ahead of ours
	Banner  string           `json:"banner"`
	Session rotation.Session `json:"session"`
	// Accepted are the accesses that the server accepted after the last write.
	Accepted map[int64]bool `json:"accepted,omitempty"`
	Refused  map[int64]bool `json:"refused,omitempty"` // it said that it would not
	AskedAt  time.Time      `json:"asked_at"`

	Expiry   string                      `json:"expiry,omitempty"` // the end that we wrote
	Narrowed bool                        `json:"narrowed,omitempty"`
	Taken    map[string][]authkeys.Taken `json:"taken,omitempty"` // by file
	Gone     bool                        `json:"gone,omitempty"`  // the old key is out
	// Unplaced are entries of the cloud's own agent that were taken off, so that it does not bring the key back.
	Unplaced []unplaced `json:"unplaced,omitempty"`
	// Split is the work that has a key kept for each instance by itself, as long as that is waited for.
	Split int64 `json:"split,omitempty"`
	// SplitOurs: this work began that.
	SplitOurs bool   `json:"split_ours,omitempty"`
	Trouble   string `json:"trouble,omitempty"`
	// Stays says why our own line was not taken out again when the work went back.
	Stays string `json:"stays,omitempty"`
}

func (e *Edits) edits() *Edits { return e }

// forget forgets what the server answered: after a write it says nothing.
func (e *Edits) forget() { e.Accepted, e.Refused, e.AskedAt = nil, nil, time.Time{} }
