// Package work is the engine of durable work: what takes longer than a request, and must
// survive anything. It knows no kind of work.
//
// A piece of work is a row of the ledger with a plan, the names of its steps. Whoever
// carries it out has claimed it, with a fence that rises by every claim: replicas of the
// service share the work of one database, and one that was killed or stopped is taken over
// from. Each step looks before it acts and can be undone, so doing either twice is harmless.
//
// Start at Kind and Step, which whoever adds a kind fills in; then Run, which their
// functions are given; then Engine, which the service starts with all kinds.
package work

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"plumlatch/core/plaintext"
	"plumlatch/service/store"
)

// Ledger is where work is kept: what the engine asks of the store.
type Ledger interface {
	ClaimWork(ctx context.Context, replica string, kinds []string, life time.Duration) (store.Work, error)
	RenewClaim(ctx context.Context, c store.Claim, life time.Duration) (cancel bool, err error)
	ReleaseClaim(ctx context.Context, c store.Claim) error
	MoveStep(ctx context.Context, c store.Claim, m store.StepMove) (version string, err error)
	MoveOn(ctx context.Context, c store.Claim, from, to string, settled bool, event string) (version string, err error)
	Say(ctx context.Context, c store.Claim, step, code, text string) error
	Wait(ctx context.Context, c store.Claim, step, code, reason string, wake, end time.Duration) error
	WaitOver(ctx context.Context, work int64) (bool, error)
	SetData(ctx context.Context, c store.Claim, data any) error
	NoteData(ctx context.Context, c store.Claim, data any) error
	EndWork(ctx context.Context, w store.Work, e store.WorkEnd) error
	WorkSteps(ctx context.Context, work int64) ([]store.WorkStep, error)
	CancelWork(ctx context.Context, by store.Actor, w store.Work, noReturn ...string) error
	RetryWork(ctx context.Context, by store.Actor, w store.Work, steps []store.WorkStep, phase store.Phase) error
}

// Engine carries out work. Its fields are set once, before Start.
type Engine struct {
	Ledger Ledger
	Log    *slog.Logger
	// Lease is how long a claim lasts unless it is renewed, which it is all the time; 15 s
	// if 0. All replicas on one database have the same.
	Lease time.Duration
	// Final tells of an error that trying again does not mend. Failures are; nil knows no others.
	Final func(error) bool
	// Halt, for tests, is called at every point of Halts. It may end or stop the process, or
	// end the goroutine. nil, as it is in production, does nothing.
	Halt func(point string)

	kinds   []*Kind
	replica string
	kick    chan struct{}
	base    context.Context
	stop    context.CancelFunc
	wg      sync.WaitGroup
}

const (
	defaultLease = 15 * time.Second
	atOnce       = 16                     // pieces of work that one replica carries out at one time
	maxTries     = 5                      // of a step that fails for a reason that may pass
	pause        = 200 * time.Millisecond // times the number of the try, between two
)

// ErrNoReturn: the work has passed a step from which it cannot go back by being cancelled.
type ErrNoReturn struct{ Title string } // of that step

// Error says which step it was.
func (e ErrNoReturn) Error() string { return "it cannot go back any more: " + e.Title + " has begun" }

// Start begins to carry out work of these kinds: what is queued, and what others left. A
// name that is given twice is an error.
func (e *Engine) Start(ctx context.Context, kinds ...*Kind) error {
	for n, k := range kinds {
		if slices.ContainsFunc(kinds[:n], func(o *Kind) bool { return o.Name == k.Name }) {
			return fmt.Errorf("two kinds of work are called %q", k.Name)
		}
		for m, s := range k.Steps {
			if strings.Contains(s.Name, ",") ||
				slices.ContainsFunc(k.Steps[:m], func(o Step) bool { return o.Name == s.Name }) {
				return fmt.Errorf("a step of %q has a name that is no name or another's: %q", k.Name, s.Name)
			}
		}
	}
	if e.Lease == 0 {
		e.Lease = defaultLease
	}
	e.kinds = kinds
	e.replica = Token(10)
	e.kick = make(chan struct{}, 1)
	e.base, e.stop = context.WithCancel(context.WithoutCancel(ctx))
	e.wg.Go(e.claimLoop)
	return nil
}

// Base ends when the engine is closed.
func (e *Engine) Base() context.Context { return e.base }

// Go runs something beside the work; Close waits for it.
func (e *Engine) Go(f func()) { e.wg.Go(f) }

// Close lays down the work at hand, for any replica to go on with at once, and
// waits until that is done.
func (e *Engine) Close() {
	e.stop()
	e.wg.Wait()
}

func (e *Engine) halt(point string) {
	if e.Halt != nil {
		e.Halt(point)
	}
}

// margin is what lies between the end of an effect's deadline and that of the
// claim, and again between that and the next claim.
func (e *Engine) margin() time.Duration { return e.Lease / 4 }

// life is how long a claim keeps others away: the lease, and the margin that
// the next holder waits out.
func (e *Engine) life() time.Duration { return e.Lease + e.margin() }

// Look has the claim loop look for work at once.
func (e *Engine) Look() {
	select {
	case e.kick <- struct{}{}:
	default:
	}
}

func (e *Engine) claimLoop() {
	slots := make(chan struct{}, atOnce)
	var names []string
	for _, k := range e.kinds {
		names = append(names, k.Name)
	}
	idle := min(e.Lease/8, time.Second)
	for {
		select {
		case <-e.base.Done():
			return
		case slots <- struct{}{}:
		}
		sent := time.Now()
		work, err := e.Ledger.ClaimWork(e.base, e.replica, names, e.life())
		if err == nil {
			e.wg.Go(func() {
				defer func() {
					<-slots
					e.Look()
					if work.ParentID != 0 { // its end has its parent look, a moment later
						time.AfterFunc(store.ParentLooks+50*time.Millisecond, e.Look)
					}
				}()
				e.carryOut(work, sent)
			})
			continue
		}
		<-slots
		if !errors.Is(err, store.ErrNotFound) && e.base.Err() == nil {
			e.Log.Error("no work can be claimed", "error", err)
		}
		select {
		case <-e.base.Done():
		case <-e.kick:
		case <-time.After(idle):
		}
	}
}

// Token returns n random characters of a-z and 2-7.
func Token(n int) string {
	b := make([]byte, n)
	_, _ = rand.Read(b) // never fails
	return strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(b))[:n]
}

func (e *Engine) kind(name string) *Kind {
	i := slices.IndexFunc(e.kinds, func(k *Kind) bool { return k.Name == name })
	if i < 0 {
		return nil
	}
	return e.kinds[i]
}

// Cancel asks that a piece of work go back. store.ErrWorkState if it is over, or of a kind
// that this version does not know; ErrNoReturn.
func (e *Engine) Cancel(ctx context.Context, by store.Actor, work store.Work) error {
	k := e.kind(work.Kind)
	if k == nil || work.Over() {
		return store.ErrWorkState
	}
	var names []string
	for _, s := range k.Steps {
		if s.NoReturn {
			names = append(names, s.Name)
		}
	}
	err := e.Ledger.CancelWork(ctx, by, work, names...)
	if errors.Is(err, store.ErrNoReturn) {
		steps, err := e.Ledger.WorkSteps(ctx, work.ID)
		if err != nil {
			return err
		}
		for _, s := range steps {
			if known := k.step(s.Name); known != nil && known.NoReturn && s.State != "to do" {
				return ErrNoReturn{known.Title}
			}
		}
	}
	if err != nil {
		return err
	}
	e.Look()
	return nil
}

// Retry takes up a piece of work again that failed, was cancelled or is stuck.
// store.ErrWorkState, store.ErrInProgress.
func (e *Engine) Retry(ctx context.Context, by store.Actor, work store.Work) error {
	k := e.kind(work.Kind)
	if k == nil {
		return store.ErrWorkState
	}
	if err := e.Ledger.RetryWork(ctx, by, work, k.Plan(), k.Phase); err != nil {
		return err
	}
	e.Look()
	return nil
}

// Words makes an error fit to be recorded and shown.
func Words(err error) string { return plaintext.Line(plaintext.Cut(err.Error(), 300)) }

// Outcome joins what became of a piece of work with its troubles; those that are "" are left out.
func Outcome(what string, troubles ...string) string {
	for _, t := range troubles {
		if t != "" {
			what += fmt.Sprintf("; %s", t)
		}
	}
	return what
}
