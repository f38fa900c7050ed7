package work_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"plumlatch/core/wire"
	"plumlatch/service/store"
	"plumlatch/service/work"
	"plumlatch/service/work/worktest"
)

// world is what the effects of a toy change outside.
type world struct {
	mu    sync.Mutex
	has   map[string]bool
	twice []string // what was done though it stood, or undone though it did not
}

func (o *world) set(ctx context.Context, name string, on bool) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	if err := ctx.Err(); err != nil { // as a call over the network would
		return err
	}
	if o.has[name] == on {
		o.twice = append(o.twice, name)
	}
	o.has[name] = on
	return nil
}

func (o *world) is(name string) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.has[name]
}

func (o *world) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	var all []string
	for name, on := range o.has {
		if on {
			all = append(all, name)
		}
	}
	slices.Sort(all)
	return strings.Join(append(all, o.twice...), " ")
}

// kind has two steps with effects, each of which looks before it acts, and one without,
// which fails if it is told to.
func (o *world) kind(fails bool) *work.Kind {
	k := &work.Kind{Name: "toy", Action: "toy",
		End: func(*work.Run, store.WorkState) (store.WorkEnd, error) { return store.WorkEnd{}, nil }}
	for _, name := range []string{"a", "b"} {
		k.Steps = append(k.Steps, work.Step{Name: name, Title: "doing " + name, Effects: []string{"put"},
			UndoEffects: []string{"take"},
			Do: func(r *work.Run) error {
				if o.is(name) {
					return nil
				}
				return r.Effect("put", func(ctx context.Context) error { return o.set(ctx, name, true) })
			},
			Undo: func(r *work.Run) error {
				if !o.is(name) {
					return nil
				}
				return r.Effect("take", func(ctx context.Context) error { return o.set(ctx, name, false) })
			}})
	}
	k.Steps = append(k.Steps, work.Step{Name: "c", Title: "doing c", Do: func(*work.Run) error {
		if fails {
			return work.Failf("it was told to fail")
		}
		return nil
	}})
	return k
}

// TestEveryHalt: a replica is killed, or stopped, at every point of a toy kind, forwards and
// back, and another takes over. What is outside is as it should be, nothing was done twice,
// and the one that was stopped writes nothing when it goes on.
func TestEveryHalt(t *testing.T) {
	const lease = 600 * time.Millisecond
	for _, point := range work.Halts([]*work.Kind{(&world{}).kind(false)}) {
		for _, kill := range []bool{true, false} {
			t.Run(fmt.Sprintf("%s kill %t", point, kill), func(t *testing.T) {
				t.Parallel()
				o := &world{has: map[string]bool{}}
				back := strings.Contains(point, "/undo/")
				k := o.kind(back)
				e := worktest.New(t)
				e.Lease = lease
				first := e.HaltAt(point, kill, lease, k)
				id := e.Begin(k)
				select {
				case <-first.Halted:
				case <-time.After(2 * time.Minute):
					t.Fatal("it never came to this point")
				}
				e.Run(k)
				w := e.Until(id, store.Done, store.WentBack, store.Stuck)
				want, outside := store.Done, "a b"
				if back {
					want, outside = store.WentBack, ""
				}
				// What was in the middle of an effect is done again: it looks before, but
				// nobody has seen its end.
				if w.State != want || o.String() != outside {
					t.Errorf("it is %s, and outside is %q, want %s and %q", w.State, o, want, outside)
				}
				if kill {
					return
				}
				first.GoOn()
				again := e.Until(id, w.State)
				if again.Events != w.Events || again.Fence != w.Fence || o.String() != outside {
					t.Errorf("the one that went on wrote: events %d and then %d, outside %q", w.Events, again.Events, o)
				}
			})
		}
	}
}

// TestOneAtATime: two replicas carry out many pieces of work, each step of each once.
func TestOneAtATime(t *testing.T) {
	t.Parallel()
	e := worktest.New(t)
	y := worktest.NewToy()
	k := y.Kind("a", "b")
	for n := range k.Steps {
		name := k.Steps[n].Name
		k.Steps[n].Do = func(r *work.Run) error { y.Say(fmt.Sprint(r.Work.ID, name)); return nil }
	}
	e.HaltAt("never", true, 2*time.Second, k)
	e.Run(k)
	var ids []int64
	for range 40 {
		ids = append(ids, e.Begin(k))
	}
	for _, id := range ids {
		e.Until(id, store.Done)
	}
	did := strings.Fields(y.Done())
	slices.Sort(did)
	if all := len(did); all != 80 || len(slices.Compact(did)) != 80 {
		t.Errorf("%d steps were done: %v", all, did)
	}
}

// TestCancel: work goes back while it waits; past the point of no return it does not, and
// what is over cannot be cancelled.
func TestCancel(t *testing.T) {
	t.Parallel()
	e := worktest.New(t)
	y := worktest.NewToy()
	k := y.Kind("a", "b", "c")
	k.Steps[1].NoReturn = true
	e.Run(k)

	y.Set(y.Waits, "a", true)
	id := e.Begin(k)
	e.Until(id, store.Waiting)
	if err := e.Cancel(id); err != nil {
		t.Fatal(err)
	}
	if w := e.Until(id, store.Cancelled, store.Done); w.State != store.Cancelled || y.Done() != "-a" {
		t.Errorf("it is %s", w.State)
	}
	if err := e.Cancel(id); !errors.Is(err, store.ErrWorkState) {
		t.Errorf("cancelled twice: %v", err)
	}

	y.Set(y.Waits, "a", false)
	y.Set(y.Waits, "b", true)
	id = e.Begin(k)
	e.Until(id, store.Waiting)
	if err := e.Cancel(id); func() bool { _, no := errors.AsType[work.ErrNoReturn](err); return !no }() {
		t.Errorf("past the point of no return: %v", err)
	}
	y.Set(y.Waits, "b", false)
	if w := e.Until(id, store.Done, store.Cancelled); w.State != store.Done {
		t.Errorf("it is %s", w.State)
	}
}

// TestCancelIsKept: whoever is told that the work was asked to go back sees it go back, whatever the work
// was just about to write: its end, or the beginning of a step from which nothing goes back. The beats
// by which a cancel is heard elsewhere come too late for both.
func TestCancelIsKept(t *testing.T) {
	t.Parallel()
	for name, at := range map[string]func(k *work.Kind, cancel func(*work.Run)){
		"before the end": func(k *work.Kind, cancel func(*work.Run)) {
			end := k.End
			k.End = func(r *work.Run, state store.WorkState) (store.WorkEnd, error) {
				if state == store.Done {
					cancel(r)
				}
				return end(r, state)
			}
		},
		"before the point of no return": func(k *work.Kind, cancel func(*work.Run)) {
			k.Steps[2].NoReturn = true
			k.Steps[2].Skip = func(r *work.Run) bool { cancel(r); return false }
		},
		"before a point of no return that is passed over": func(k *work.Kind, cancel func(*work.Run)) {
			k.Steps[1].NoReturn = true
			k.Steps[1].Skip = func(r *work.Run) bool { cancel(r); return true }
		},
		"before a first step without return": func(k *work.Kind, cancel func(*work.Run)) {
			k.Steps[0].NoReturn = true
			k.Steps[0].Skip = func(r *work.Run) bool { cancel(r); return false }
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			e := worktest.New(t)
			e.Lease = time.Minute // no beat comes in between
			k := worktest.NewToy().Kind("a", "b", "c")
			var once sync.Once
			at(k, func(r *work.Run) {
				once.Do(func() {
					if err := e.Cancel(r.Work.ID); err != nil {
						t.Errorf("cancelled: %v", err)
					}
				})
			})
			e.Run(k)
			id := e.Begin(k)
			if w := e.Until(id, store.Cancelled, store.Done); w.State != store.Cancelled {
				t.Errorf("it is %s: %s", w.State, w.Outcome)
			}
		})
	}
}

// TestWaits: a wait ends by what it waits for, or with its time, and says why it waits.
func TestWaits(t *testing.T) {
	t.Parallel()
	e := worktest.New(t)
	y := worktest.NewToy()
	k := y.Kind("a")
	over := false
	k.Steps[0].Do = func(r *work.Run) (err error) {
		if over, err = r.WaitOver(); err != nil || over {
			return err
		}
		return r.Wait(wire.WaitsOther, "the tide", 30*time.Millisecond, 3*time.Second)
	}
	e.Run(k)
	id := e.Begin(k)
	w := e.Until(id, store.Waiting)
	if w.WaitsCode != wire.WaitsOther || w.WaitsFor != "the tide" || w.WaitEndsAt == nil {
		t.Errorf("it waits for %q, code %q, until %v", w.WaitsFor, w.WaitsCode, w.WaitEndsAt)
	}
	if w := e.Until(id, store.Done); !over || w.WaitsCode != "" {
		t.Errorf("over %t, and it waits for %q", over, w.WaitsCode)
	}
	// One wait, though it was looked at many times, and its event once.
	steps, err := e.DB.WorkSteps(t.Context(), id)
	if err != nil || steps[0].Tries < 3 || w.Events > 4 {
		t.Errorf("tried %d times, %d events: %v", steps[0].Tries, w.Events, err)
	}
}

// TestWaitsOnTheWayBack: a step that waits while it is taken back does so once, with one end, and is stuck
// when that has come; taken up again, it may wait as long once more.
func TestWaitsOnTheWayBack(t *testing.T) {
	t.Parallel()
	e := worktest.New(t)
	y := worktest.NewToy()
	y.Set(y.Fails, "b", true)
	k := y.Kind("a", "b")
	var mu sync.Mutex
	looks, there := 0, false
	k.Steps[0].Undo = func(r *work.Run) error {
		mu.Lock()
		defer mu.Unlock()
		looks++
		over, err := r.WaitOver()
		switch {
		case err != nil:
			return err
		case there:
			return nil
		case over:
			return work.Failf("the ferry does not come")
		}
		return r.Wait(wire.WaitsOther, "the ferry", 30*time.Millisecond, 2*time.Second)
	}
	e.Run(k)
	id := e.Begin(k)
	end := e.Until(id, store.Waiting).WaitEndsAt
	for n := range 2 {
		w := e.Until(id, store.Stuck, store.WentBack)
		if w.State != store.Stuck || !strings.Contains(w.Outcome, "the ferry does not come") {
			t.Fatalf("it is %s: %s", w.State, w.Outcome)
		}
		mu.Lock()
		if looks < 2 {
			t.Errorf("it has looked %d times", looks)
		}
		looks = 0
		mu.Unlock()
		if n == 0 {
			all, err := e.DB.WorkEvents(t.Context(), id, 0, 100)
			waits := 0
			for _, v := range all {
				if v.Code == wire.EventWaits {
					waits++
				}
			}
			if err != nil || waits != 1 {
				t.Errorf("it was said %d times that it waits: %v", waits, err)
			}
			e.Retry(id)
			if w := e.Until(id, store.Waiting, store.Stuck); w.WaitEndsAt == nil || end == nil || !w.WaitEndsAt.After(*end) {
				t.Errorf("taken up again, it may wait until %v, as before: %v", w.WaitEndsAt, end)
			}
		}
	}
	mu.Lock()
	there = true
	mu.Unlock()
	y.Set(y.Fails, "b", false)
	e.Retry(id)
	e.Until(id, store.WentBack, store.Done)
}

// TestStuck: what cannot be undone is stuck, and goes on back when it is taken up again.
func TestStuck(t *testing.T) {
	t.Parallel()
	e := worktest.New(t)
	y := worktest.NewToy()
	y.Set(y.Fails, "b", true)
	k := y.Kind("a", "b")
	broken := true
	var mu sync.Mutex
	k.Steps[0].Undo = func(*work.Run) error {
		mu.Lock()
		defer mu.Unlock()
		if broken {
			return work.Failf("the quay is flooded")
		}
		y.Say("-a")
		return nil
	}
	e.Run(k)
	id := e.Begin(k)
	if w := e.Until(id, store.Stuck, store.WentBack, store.Done); w.State != store.Stuck ||
		!strings.Contains(w.Outcome, "the quay is flooded") {
		t.Fatalf("it is %s: %s", w.State, w.Outcome)
	}
	mu.Lock()
	broken = false
	mu.Unlock()
	y.Set(y.Fails, "b", false)
	y.Done()
	e.Retry(id)
	if w := e.Until(id, store.Done, store.Stuck, store.WentBack); w.State == store.Stuck {
		t.Errorf("it is %s: %s", w.State, w.Trouble)
	}
}

// TestTriedAgain: an error that may pass is tried again, a bounded number of times; one that
// is final is not.
func TestTriedAgain(t *testing.T) {
	t.Parallel()
	for what, c := range map[string]struct {
		fails int
		err   error
		want  store.WorkState
		tries int
	}{
		"once":         {1, errors.New("the line is busy"), store.Done, 2},
		"for ever":     {99, errors.New("the line is busy"), store.WentBack, 5},
		"a failure":    {99, work.Failf("no such berth"), store.WentBack, 1},
		"a panic once": {1, nil, store.WentBack, 1},
		// It goes on when the claim has run out, and does not go back: nothing failed.
		"a claim lost": {1, fmt.Errorf("asked: %w", store.ErrLost), store.Done, 2},
	} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			e := worktest.New(t)
			y := worktest.NewToy()
			k := y.Kind("a")
			tries := 0
			k.Steps[0].Do = func(*work.Run) error {
				if tries++; tries > c.fails {
					return nil
				}
				if c.err == nil {
					panic("a mistake of ours")
				}
				return c.err
			}
			e.Run(k)
			if w := e.Until(e.Begin(k), store.Done, store.WentBack, store.Stuck); w.State != c.want ||
				tries != c.tries {
				t.Errorf("it is %s after %d tries, want %s after %d", w.State, tries, c.want, c.tries)
			}
		})
	}
}

// TestNamesTwice: a kind, or a step, that has another's name is an error at the start.
func TestNamesTwice(t *testing.T) {
	t.Parallel()
	y := worktest.NewToy()
	for what, kinds := range map[string][]*work.Kind{
		"two kinds": {y.Kind("a"), y.Kind("b")},
		"two steps": {y.Kind("a", "b", "a")},
		"a comma":   {y.Kind("a,b")},
	} {
		if err := (&work.Engine{}).Start(t.Context(), kinds...); err == nil {
			t.Errorf("%s: no error", what)
		}
	}
}
