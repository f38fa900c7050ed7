// Package worktest has an engine on a database of its own, and toy kinds of work for it
// that note what is called. For tests alone.
package worktest

import (
	"cmp"
	"context"
	"log/slog"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"plumlatch/core/wire"
	"plumlatch/service/postgres/pgtest"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// Toy is a kind of work whose steps note that they were called, in its order.
type Toy struct {
	mu    sync.Mutex
	said  []string
	Waits map[string]bool // steps that wait until their name is taken out
	Fails map[string]bool // steps that fail
}

// Say notes a call.
func (y *Toy) Say(text string) {
	y.mu.Lock()
	defer y.mu.Unlock()
	y.said = append(y.said, text)
}

// Set puts a step into Waits or Fails, or takes it out.
func (y *Toy) Set(what map[string]bool, name string, on bool) {
	y.mu.Lock()
	defer y.mu.Unlock()
	what[name] = on
}

func (y *Toy) is(what map[string]bool, name string) bool {
	y.mu.Lock()
	defer y.mu.Unlock()
	return what[name]
}

// Done returns what was called since it was asked the last time.
func (y *Toy) Done() string {
	y.mu.Lock()
	defer y.mu.Unlock()
	text := strings.Join(y.said, " ")
	y.said = nil
	return text
}

// Kind is the toy's kind with steps of these names.
func (y *Toy) Kind(names ...string) *work.Kind {
	k := &work.Kind{Name: "toy", Action: "toy",
		End: func(*work.Run, store.WorkState) (store.WorkEnd, error) { return store.WorkEnd{}, nil }}
	for _, name := range names {
		k.Steps = append(k.Steps, work.Step{
			Name: name, Title: "doing " + name,
			Do: func(r *work.Run) error {
				if y.is(y.Waits, name) {
					return r.Wait(wire.WaitsOther, "the test", 50*time.Millisecond, time.Hour)
				}
				y.Say(name)
				if y.is(y.Fails, name) {
					return work.Failf("it was told to fail")
				}
				return nil
			},
			Undo: func(*work.Run) error { y.Say("-" + name); return nil },
		})
	}
	return k
}

// Engine carries out kinds of work on a database of its own.
type Engine struct {
	URL   string
	DB    *store.Store
	Lease time.Duration // 10 s if 0, so that a slow machine loses no claim

	t *testing.T
	w *work.Engine
}

// New makes one on a database without rows.
func New(t *testing.T) *Engine { return On(t, pgtest.URL(t)) }

// On makes one on a database that is there.
func On(t *testing.T, url string) *Engine {
	e := &Engine{t: t, URL: url, DB: pgtest.OpenURL(t, url)}
	t.Cleanup(e.Stop)
	return e
}

// NewToy makes a toy whose steps neither wait nor fail.
func NewToy() *Toy { return &Toy{Waits: map[string]bool{}, Fails: map[string]bool{}} }

// Run starts a replica that knows these kinds, in the place of the one before.
func (e *Engine) Run(kinds ...*work.Kind) {
	e.t.Helper()
	e.Stop()
	e.w = &work.Engine{Ledger: e.DB, Log: slog.New(slog.DiscardHandler), Lease: cmp.Or(e.Lease, 10*time.Second)}
	if err := e.w.Start(context.Background(), kinds...); err != nil {
		e.t.Fatal(err)
	}
}

// Stop ends the replica that there is.
func (e *Engine) Stop() {
	if e.w != nil {
		e.w.Close()
		e.w = nil
	}
}

// Replica is a replica of its own, beside the one of Run, that ends or stops where its engine
// comes to a point, the first time.
type Replica struct {
	Halted chan struct{} // closed when it has come to the point

	db      *store.Store
	engine  *work.Engine
	stopped chan struct{} // closed when it goes on; nil for one that is killed
}

// ledger is the store of a replica that can be stopped: it does not claim or renew then.
type ledger struct {
	*store.Store
	r *Replica
}

func (l ledger) pass() {
	select {
	case <-l.r.Halted:
		<-l.r.stopped
	default:
	}
}

func (l ledger) ClaimWork(ctx context.Context, replica string, kinds []string, life time.Duration) (store.Work, error) {
	l.pass()
	return l.Store.ClaimWork(ctx, replica, kinds, life)
}

func (l ledger) RenewClaim(ctx context.Context, c store.Claim, life time.Duration) (bool, error) {
	l.pass()
	return l.Store.RenewClaim(ctx, c, life)
}

// HaltAt starts a replica that is killed at a point, or stopped there until GoOn: as by
// SIGKILL and SIGSTOP, but within the test.
func (e *Engine) HaltAt(point string, kill bool, lease time.Duration, kinds ...*work.Kind) *Replica {
	e.t.Helper()
	r := &Replica{Halted: make(chan struct{}), stopped: make(chan struct{}), db: pgtest.OpenURL(e.t, e.URL)}
	var once sync.Once
	r.engine = &work.Engine{Ledger: ledger{r.db, r}, Log: slog.New(slog.DiscardHandler), Lease: lease,
		Halt: func(at string) {
			if at != point {
				return
			}
			first := false
			once.Do(func() { first = true })
			if !first {
				return
			}
			if kill { // nothing of it reaches the database any more
				_ = r.db.Close()
				close(r.stopped)
				close(r.Halted)
				runtime.Goexit()
			}
			close(r.Halted)
			<-r.stopped
		}}
	if err := r.engine.Start(context.Background(), kinds...); err != nil {
		e.t.Fatal(err)
	}
	e.t.Cleanup(r.engine.Close)
	return r
}

// GoOn has a replica that was stopped go on, and waits until it has laid down what it had.
func (r *Replica) GoOn() {
	close(r.stopped)
	r.engine.Close()
}

// Begin begins a piece of work of a kind, and returns its ID.
func (e *Engine) Begin(k *work.Kind) int64 {
	e.t.Helper()
	n := store.NewWork{Kind: k.Name, Title: "a toy", Token: work.Token(26), Changing: k.Changing, Steps: k.Plan(),
		Action: k.Action, Target: "toy", Intent: "try it"}
	begun, err := e.DB.AddWork(e.t.Context(), store.Actor{Operator: "night-lead"}, store.Once{}, n)
	if err != nil {
		e.t.Fatal(err)
	}
	return begun.ID
}

// Until waits for a state of a piece of work, and returns it.
func (e *Engine) Until(id int64, states ...store.WorkState) store.Work {
	e.t.Helper()
	for deadline := time.Now().Add(2 * time.Minute); ; time.Sleep(10 * time.Millisecond) {
		at, err := e.DB.WorkByID(context.Background(), id)
		if err != nil {
			e.t.Fatal(err)
		}
		if slices.Contains(states, at.State) {
			return at
		}
		if time.Now().After(deadline) {
			e.t.Fatalf("the work is %s at %q, and not %v", at.State, at.At, states)
		}
	}
}

// Cancel asks that a piece of work go back.
func (e *Engine) Cancel(id int64) error {
	e.t.Helper()
	at, err := e.DB.WorkByID(e.t.Context(), id)
	if err == nil {
		err = e.w.Cancel(e.t.Context(), store.Actor{Operator: "night-lead"}, at)
	}
	return err
}

// Retry takes a piece of work up again.
func (e *Engine) Retry(id int64) {
	e.t.Helper()
	at, err := e.DB.WorkByID(e.t.Context(), id)
	if err == nil {
		err = e.w.Retry(e.t.Context(), store.Actor{Operator: "night-lead"}, at)
	}
	if err != nil {
		e.t.Fatal(err)
	}
}
