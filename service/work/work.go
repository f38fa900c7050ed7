// Package work carries out what takes longer than a request, so that it
// survives anything: launching, adopting, stopping, starting and removing
// instances. A piece of work is made of steps, each of which looks before it
// acts and can be undone. Whoever carries one out has claimed it, with a fence
// that rises by every claim: replicas of the service share the work of one
// database, and one that was killed or stopped is taken over from.
package work

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/plaintext"
	"plumlatch/service/cloud"
	"plumlatch/service/reach"
	"plumlatch/service/seal"
	"plumlatch/service/store"
)

// Worker carries out work. Its fields are set once, before Start.
type Worker struct {
	Store  *store.Store
	Cloud  cloud.Driver
	Reach  reach.Policy
	Sealer *seal.Sealer
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
	Heads *seal.Heads

	settling   sync.Map // work ID to where the result of its last look comes (chan error)
	images     sync.Map // region to what its catalogue was a while ago
	toKeep     chan keeping
	surveying  atomic.Int64 // surveys at hand
	policyMu   sync.Mutex
	policyHeld access.Policy
	policyAt   time.Time

	kinds   []*Kind
	replica string
	kick    chan struct{}
	base    context.Context
	stop    context.CancelFunc
	wg      sync.WaitGroup
}

// Limits.
const (
	defaultLease = 15 * time.Second
	stateLimit   = 5 * time.Minute
	bootLimit    = 2 * time.Minute
	poll         = 200 * time.Millisecond
	atOnce       = 16 // pieces of work that one replica carries out at one time
	maxTries     = 5  // of a step that fails for a reason that may pass
)

// Start begins to carry out what is queued, and what others left.
func (w *Worker) Start(ctx context.Context) {
	if w.Lease == 0 {
		w.Lease = defaultLease
	}
	if w.StateLimit == 0 {
		w.StateLimit = stateLimit
	}
	w.kinds = w.Kinds()
	w.replica = token(10)
	w.kick = make(chan struct{}, 1)
	w.base, w.stop = context.WithCancel(context.WithoutCancel(ctx))
	w.toKeep = make(chan keeping)
	for range 2 { // one looks at what has come while the other waits for the database
		w.wg.Go(w.keepLoop)
	}
	w.wg.Go(w.claimLoop)
	if w.FollowEvery == 0 {
		w.FollowEvery = followEvery
	}
	if w.FollowEvery > 0 {
		w.wg.Go(w.followLoop)
	}
	w.wg.Go(func() { w.upkeepLoop(chainEvery, "chaining the journal", w.chain) })
	w.wg.Go(func() { w.upkeepLoop(judgeEvery, "judging what has changed", w.judge) })
	w.wg.Go(func() {
		w.upkeepLoop(restEvery, "judging the journal and the clouds", func(ctx context.Context) (bool, error) { return false, w.JudgeRest(ctx) })
	})
	if w.SurveysAtOnce > 0 {
		w.wg.Go(w.surveyLoop)
		w.wg.Go(func() { w.upkeepLoop(stewardsEvery, "looking for steward keys that are due", w.stewardsDue) })
		w.wg.Go(func() {
			w.upkeepLoop(readyEvery, "looking which ways back in are open", func(ctx context.Context) (bool, error) { _, err := w.Ready(ctx, ""); return false, err })
		})
	}
}

// Close lays down the work at hand, for any replica to go on with at once, and
// waits until that is done.
func (w *Worker) Close() {
	w.stop()
	w.wg.Wait()
}

// margin is what lies between the end of an effect's deadline and that of the
// claim, and again between that and the next claim.
func (w *Worker) margin() time.Duration { return w.Lease / 4 }

// life is how long a claim keeps others away: the lease, and the margin that
// the next holder waits out.
func (w *Worker) life() time.Duration { return w.Lease + w.margin() }

// look has the claim loop look for work at once.
func (w *Worker) look() {
	select {
	case w.kick <- struct{}{}:
	default:
	}
}

func (w *Worker) claimLoop() {
	slots := make(chan struct{}, atOnce)
	var names []string
	for _, k := range w.kinds {
		names = append(names, k.Name)
	}
	idle := min(w.Lease/8, time.Second)
	for {
		select {
		case <-w.base.Done():
			return
		case slots <- struct{}{}:
		}
		sent := time.Now()
		work, err := w.Store.ClaimWork(w.base, w.replica, names, w.life())
		if err == nil {
			w.wg.Go(func() {
				defer func() { <-slots; w.look() }()
				w.carryOut(work, sent)
			})
			continue
		}
		<-slots
		if !errors.Is(err, store.ErrNotFound) && w.base.Err() == nil {
			w.Log.Error("no work can be claimed", "error", err)
		}
		select {
		case <-w.base.Done():
		case <-w.kick:
		case <-time.After(idle):
		}
	}
}

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

// token returns n random characters of a-z and 2-7.
func token(n int) string {
	b := make([]byte, n)
	_, _ = rand.Read(b) // never fails
	return strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(b))[:n]
}

// Cancel asks that a piece of work go back. store.ErrWorkState if it is over;
// a FieldError if it has passed the point from which it cannot.
func (w *Worker) Cancel(ctx context.Context, by store.Actor, work store.Work) error {
	k := w.kind(work.Kind)
	if k == nil || work.Over() {
		return store.ErrWorkState
	}
	steps, err := w.Store.WorkSteps(ctx, work.ID)
	if err != nil {
		return err
	}
	for _, s := range steps {
		if known := k.step(s.Name); known != nil && known.NoReturn && s.State != "to do" {
			return FieldError{Field: "state", Problem: "it cannot go back any more: " + known.Title + " has begun"}
		}
	}
	if err := w.Store.CancelWork(ctx, by, work); err != nil {
		return err
	}
	w.look()
	return nil
}

// Retry takes up a piece of work again that failed, was cancelled or is stuck.
// store.ErrWorkState, store.ErrInProgress.
func (w *Worker) Retry(ctx context.Context, by store.Actor, work store.Work) error {
	k := w.kind(work.Kind)
	if k == nil {
		return store.ErrWorkState
	}
	if work.InstanceID != 0 {
		i, err := w.Store.InstanceByID(ctx, work.InstanceID)
		if err != nil {
			return err
		}
		if i.Phase == store.Removed {
			return FieldError{Field: "state", Problem: "its instance is gone; begin anew"}
		}
	}
	if err := w.Store.RetryWork(ctx, by, work, k.stepRows(), k.Phase); err != nil {
		return err
	}
	w.look()
	return nil
}

func (w *Worker) begun(k *Kind, title, tok string, i store.Instance, intent string, input any) store.NewWork {
	return store.NewWork{Kind: k.Name, Title: title, Token: tok, Changing: k.Changing, Input: input, Steps: k.stepRows(),
		Action: k.Action, Target: "instance " + i.Name, Intent: intent}
}

// words makes an error fit to be recorded and shown.
func words(err error) string { return plaintext.Line(plaintext.Cut(err.Error(), 300)) }

func outcomeOf(what string, troubles ...string) string {
	for _, t := range troubles {
		if t != "" {
			what += fmt.Sprintf("; %s", t)
		}
	}
	return what
}
