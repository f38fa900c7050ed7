// Package kinds has every kind of work that there is, on the engine of service/work:
// launching, adopting, stopping, starting and removing instances, rules and addresses,
// surveys, rotations, shared access and restores; and what is no work but lives on the
// same ways into an instance, such as why and the upkeep of the ledger.
package kinds

import (
	"context"
	"errors"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"plumlatch/core/access"
	"plumlatch/reach"
	"plumlatch/service/atrest"
	"plumlatch/service/cloud"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// Worker carries out work. Its fields are set once, before Start.
type Worker struct {
	Store  *store.Store
	Cloud  cloud.Driver
	Reach  reach.Policy
	Cipher *atrest.Cipher
	Log    *slog.Logger
	// Lease is how long a claim lasts unless it is renewed, which it is all the
	// time; 15 s if 0. All replicas on one database have the same.
	Lease time.Duration
	// StateLimit is how long an instance may take to reach a state; 5 min if 0.
	StateLimit time.Duration
	// FollowEvery is how often the cloud is asked what has changed without us; 30 s if 0, never if negative.
	FollowEvery time.Duration
	// SurveysAtOnce is how many instances this replica surveys at one time by
	// itself; none if 0.
	SurveysAtOnce int
	// Heads signs the heads of the journal.
	Heads *atrest.Heads

	settling   sync.Map // work ID to where the result of its last look comes (chan error)
	images     sync.Map // region to what its catalogue was a while ago
	toKeep     chan keeping
	surveying  atomic.Int64 // surveys at hand
	policyMu   sync.Mutex
	policyHeld access.Policy
	policyAt   time.Time

	kinds  []*Kind
	engine *work.Engine
}

// Limits.
const (
	stateLimit = 5 * time.Minute
	bootLimit  = 2 * time.Minute
	poll       = 200 * time.Millisecond
)

// Start begins to carry out what is queued, and what others left; and the upkeep.
func (w *Worker) Start(ctx context.Context) error {
	if w.StateLimit == 0 {
		w.StateLimit = stateLimit
	}
	w.kinds = w.Kinds()
	w.engine = &work.Engine{Ledger: w.Store, Log: w.Log, Lease: w.Lease, Final: func(err error) bool {
		return errors.Is(err, cloud.ErrRefused) || errors.Is(err, cloud.ErrFailed) || errors.Is(err, cloud.ErrNotFound)
	}}
	var kinds []*work.Kind
	for _, k := range w.kinds {
		kinds = append(kinds, k.Kind)
	}
	if err := w.engine.Start(ctx, kinds...); err != nil {
		return err
	}
	w.Lease = w.engine.Lease
	w.toKeep = make(chan keeping)
	for range 2 { // one looks at what has come while the other waits for the database
		w.engine.Go(w.keepLoop)
	}
	if w.FollowEvery == 0 {
		w.FollowEvery = followEvery
	}
	if w.FollowEvery > 0 {
		w.engine.Go(w.followLoop)
	}
	w.engine.Go(func() { w.upkeepLoop(chainEvery, "chaining the journal", w.chain) })
	w.engine.Go(func() { w.upkeepLoop(judgeEvery, "judging what has changed", w.judge) })
	w.engine.Go(func() { w.upkeepLoop(endsEvery, "withdrawing rules at their end", w.keepEnds) })
	w.engine.Go(func() {
		w.upkeepLoop(restEvery, "judging the journal and the clouds", func(ctx context.Context) (bool, error) { return false, w.JudgeRest(ctx) })
	})
	if w.SurveysAtOnce > 0 {
		w.engine.Go(w.surveyLoop)
		w.engine.Go(func() { w.upkeepLoop(stewardsEvery, "looking for steward keys that are due", w.stewardsDue) })
		w.engine.Go(func() {
			w.upkeepLoop(readyEvery, "looking which ways back in are open", func(ctx context.Context) (bool, error) { _, err := w.Ready(ctx, ""); return false, err })
		})
	}
	return nil
}

// Close lays down the work at hand, for any replica to go on with at once, and waits until
// that is done.
func (w *Worker) Close() { w.engine.Close() }

// look has the engine look for work at once.
func (w *Worker) look() { w.engine.Look() }

// base ends when the worker is closed.
func (w *Worker) base() context.Context { return w.engine.Base() }

// FieldError says which field of a request is wrong, and what there is instead.
type FieldError struct {
	Field   string
	Problem string
	Choices []string
	Code    string // for programs; one of the Field constants of wire, "" mostly
}

// Error returns the problem and the choices.
func (e FieldError) Error() string {
	if len(e.Choices) == 0 {
		return e.Problem
	}
	return e.Problem + "; there are: " + strings.Join(e.Choices, ", ")
}

func (w *Worker) begun(k *Kind, title, tok string, i store.Instance, intent string, input any) store.NewWork {
	n := store.NewWork{Kind: k.Name, Title: title, Token: tok, Changing: k.Changing, Input: input, Steps: k.Plan(),
		Action: k.Action, Target: "instance " + i.Name, Intent: intent}
	if in, ok := input.(interface{ Keys() (taken, added int64) }); ok {
		n.OldKeyID, n.NewKeyID = in.Keys()
	}
	return n
}

// Cancel asks that a piece of work go back. store.ErrWorkState if it is over;
// a FieldError if it has passed the point from which it cannot.
func (w *Worker) Cancel(ctx context.Context, by store.Actor, at store.Work) error {
	err := w.engine.Cancel(ctx, by, at)
	if e, ok := errors.AsType[work.ErrNoReturn](err); ok {
		return FieldError{Field: "state", Problem: e.Error()}
	}
	return err
}

// Retry takes up a piece of work again that failed, was cancelled or is stuck.
// store.ErrWorkState, store.ErrInProgress.
func (w *Worker) Retry(ctx context.Context, by store.Actor, at store.Work) error {
	if at.InstanceID != 0 {
		i, err := w.Store.InstanceByID(ctx, at.InstanceID)
		if err != nil {
			return err
		}
		if i.Phase == store.Removed {
			return FieldError{Field: "state", Problem: "its instance is gone; begin anew"}
		}
	}
	return w.engine.Retry(ctx, by, at)
}
