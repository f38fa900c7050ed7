package work

import (
	"context"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"plumlatch/core/wire"
	"plumlatch/service/postgres/pgtest"
	"plumlatch/service/store"
)

// toy is a kind of work whose steps note that they were called, in its order.
type toy struct {
	mu   sync.Mutex
	said []string
	wait map[string]bool // steps that wait until their name is taken out
	fail map[string]bool // steps that fail
}

func (y *toy) say(text string) {
	y.mu.Lock()
	defer y.mu.Unlock()
	y.said = append(y.said, text)
}

func (y *toy) set(what map[string]bool, name string, on bool) {
	y.mu.Lock()
	defer y.mu.Unlock()
	what[name] = on
}

func (y *toy) is(what map[string]bool, name string) bool {
	y.mu.Lock()
	defer y.mu.Unlock()
	return what[name]
}

// done returns what was called since it was asked the last time.
func (y *toy) done() string {
	y.mu.Lock()
	defer y.mu.Unlock()
	text := strings.Join(y.said, " ")
	y.said = nil
	return text
}

// kind is the toy's kind with steps of these names.
func (y *toy) kind(names ...string) *Kind {
	k := &Kind{Name: "toy", Action: "toy", End: func(*Run, store.WorkState) (store.WorkEnd, error) { return store.WorkEnd{}, nil }}
	for _, name := range names {
		k.Steps = append(k.Steps, Step{
			Name: name, Title: "doing " + name,
			Do: func(r *Run) error {
				if y.is(y.wait, name) {
					return r.Wait(wire.WaitsOther, "the test", 50*time.Millisecond, time.Hour)
				}
				y.say(name)
				if y.is(y.fail, name) {
					return failf("it was told to fail")
				}
				return nil
			},
			Undo: func(*Run) error { y.say("-" + name); return nil },
		})
	}
	return k
}

// engine carries out kinds of work on a database of its own.
type engine struct {
	t   *testing.T
	url string
	db  *store.Store
	w   *Worker
}

func newEngine(t *testing.T) *engine {
	e := &engine{t: t, url: pgtest.URL(t)}
	e.db = pgtest.OpenURL(t, e.url)
	t.Cleanup(e.stop)
	return e
}

// run starts a replica that knows these kinds, in the place of the one before.
func (e *engine) run(kinds ...*Kind) {
	e.t.Helper()
	e.stop()
	e.w = &Worker{Store: e.db, Log: slog.New(slog.DiscardHandler), Lease: 2 * time.Second, kinds: kinds, replica: token(10), kick: make(chan struct{}, 1)}
	e.w.base, e.w.stop = context.WithCancel(context.Background())
	e.w.wg.Go(e.w.claimLoop)
}

func (e *engine) stop() {
	if e.w != nil {
		e.w.Close()
		e.w = nil
	}
}

// begin begins a piece of work of a kind, and returns its ID.
func (e *engine) begin(k *Kind) int64 {
	e.t.Helper()
	n := (&Worker{}).begun(k, "a toy", token(26), store.Instance{}, "try it", nil)
	work, err := e.db.AddWork(e.t.Context(), store.Actor{Operator: "night-lead"}, store.Once{}, n)
	if err != nil {
		e.t.Fatal(err)
	}
	return work.ID
}

// until waits for a state of a piece of work, and returns it.
func (e *engine) until(id int64, states ...store.WorkState) store.Work {
	e.t.Helper()
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		work, err := e.db.WorkByID(context.Background(), id)
		if err != nil {
			e.t.Fatal(err)
		}
		if slices.Contains(states, work.State) {
			return work
		}
		if time.Now().After(deadline) {
			e.t.Fatalf("the work is %s at %q, and not %v", work.State, work.At, states)
		}
	}
}

// retry takes a piece of work up again.
func (e *engine) retry(id int64) {
	e.t.Helper()
	work, err := e.db.WorkByID(e.t.Context(), id)
	if err == nil {
		err = e.w.Retry(e.t.Context(), store.Actor{Operator: "night-lead"}, work)
	}
	if err != nil {
		e.t.Fatal(err)
	}
}

// TestPlanOfOldWork: work that was begun under one table of steps goes on under another
// by the names of its own plan. A step that was put in is not in it; one that is gone
// makes it stuck, and a version that knows it goes on from there.
func TestPlanOfOldWork(t *testing.T) {
	old := []string{"a", "b", "c", "d"}
	for _, c := range []struct {
		what   string
		at     string   // where the work waits while the program is exchanged
		steps  []string // of the other program
		want   string   // what is called of its steps
		stuck  string   // the step that it does not know, "" for none
		resume string   // what is called when the first program is back
	}{
		{"the same table", "b", old, "b c d", "", ""},
		{"a step before", "b", []string{"z", "a", "b", "c", "d"}, "b c d", "", ""},
		{"a step in the middle", "b", []string{"a", "b", "m", "c", "d"}, "b c d", "", ""},
		{"a step at the end", "b", []string{"a", "b", "c", "d", "e"}, "b c d", "", ""},
		{"another order", "b", []string{"d", "c", "b", "a"}, "b c d", "", ""},
		{"a step that is over is gone", "b", []string{"b", "c", "d"}, "b c d", "", ""},
		{"the step at hand is gone", "b", []string{"a", "c", "d"}, "", "b", "b c d"},
		{"the next step is gone", "b", []string{"a", "b", "d"}, "b", "c", "c d"},
		{"the last step is gone", "b", []string{"a", "b", "c"}, "b c", "d", "d"},
		{"at its beginning, a step before", "a", []string{"z", "a", "b", "c", "d"}, "a b c d", "", ""},
	} {
		t.Run(c.what, func(t *testing.T) {
			t.Parallel()
			e := newEngine(t)
			y := &toy{wait: map[string]bool{c.at: true}, fail: map[string]bool{}}
			e.run(y.kind(old...))
			id := e.begin(y.kind(old...))
			if w := e.until(id, store.Waiting); w.At != c.at || w.WaitsCode != wire.WaitsOther {
				t.Fatalf("it waits at %q, code %q", w.At, w.WaitsCode)
			}
			e.stop()
			y.done()
			y.set(y.wait, c.at, false)
			e.run(y.kind(c.steps...))
			w := e.until(id, store.Done, store.Stuck)
			if got := y.done(); got != c.want {
				t.Errorf("called %q, want %q", got, c.want)
			}
			if c.stuck == "" {
				if w.State != store.Done {
					t.Errorf("it is %s: %s", w.State, w.Outcome)
				}
				return
			}
			if w.State != store.Stuck || w.At != c.stuck || !strings.Contains(w.Outcome, `"`+c.stuck+`"`) || !strings.Contains(w.Outcome, "plumlatch work retry") {
				t.Errorf("it is %s at %q: %s", w.State, w.At, w.Outcome)
			}
			// Under the same program it says the same again, and does nothing.
			e.retry(id)
			if w := e.until(id, store.Stuck, store.Done); w.State != store.Stuck || w.At != c.stuck || y.done() != "" {
				t.Errorf("taken up again, it is %s at %q", w.State, w.At)
			}
			e.run(y.kind(old...))
			e.retry(id)
			if w := e.until(id, store.Done, store.Stuck); w.State != store.Done {
				t.Errorf("under a program that knows it, it is %s: %s", w.State, w.Outcome)
			}
			if got := y.done(); got != c.resume {
				t.Errorf("under a program that knows it, called %q, want %q", got, c.resume)
			}
		})
	}
}

// TestWayBackOfOldWork: going back follows the work's own plan too.
func TestWayBackOfOldWork(t *testing.T) {
	old := []string{"a", "b", "c"}
	for _, c := range []struct {
		what         string
		steps        []string
		want, resume string
	}{
		{"a step in the middle", []string{"a", "m", "b", "c"}, "c -c -b -a", ""},
		{"a step that is undone is gone", []string{"a", "c"}, "c -c", "-b -a"},
	} {
		t.Run(c.what, func(t *testing.T) {
			t.Parallel()
			e := newEngine(t)
			y := &toy{wait: map[string]bool{"c": true}, fail: map[string]bool{"c": true}}
			e.run(y.kind(old...))
			id := e.begin(y.kind(old...))
			e.until(id, store.Waiting)
			e.stop()
			y.done()
			y.set(y.wait, "c", false)
			e.run(y.kind(c.steps...))
			w := e.until(id, store.WentBack, store.Stuck)
			if got := y.done(); got != c.want {
				t.Errorf("called %q, want %q", got, c.want)
			}
			if c.resume == "" {
				if w.State != store.WentBack {
					t.Errorf("it is %s: %s", w.State, w.Outcome)
				}
				return
			}
			if w.State != store.Stuck || !w.Back || w.At != "b" {
				t.Fatalf("it is %s at %q: %s", w.State, w.At, w.Outcome)
			}
			e.run(y.kind(old...))
			e.retry(id)
			if w := e.until(id, store.WentBack, store.Stuck, store.Done); w.State != store.WentBack {
				t.Errorf("it is %s: %s", w.State, w.Outcome)
			}
			if got := y.done(); got != c.resume {
				t.Errorf("called %q, want %q", got, c.resume)
			}
		})
	}
}

// TestRetryTakesTheNewPlan: what begins again from its beginning begins with the steps
// that its kind has now.
func TestRetryTakesTheNewPlan(t *testing.T) {
	t.Parallel()
	e := newEngine(t)
	y := &toy{wait: map[string]bool{}, fail: map[string]bool{"b": true}}
	e.run(y.kind("a", "b"))
	id := e.begin(y.kind("a", "b"))
	e.until(id, store.WentBack)
	y.done()
	y.set(y.fail, "b", false)
	e.run(y.kind("z", "a", "m"))
	e.retry(id)
	if w := e.until(id, store.Done, store.Stuck); w.State != store.Done || strings.Join(w.Plan(), " ") != "z a m" {
		t.Errorf("it is %s, with the plan %v", w.State, w.Plan())
	}
	if got := y.done(); got != "z a m" {
		t.Errorf("called %q", got)
	}
}

// TestSettles: a step that settles its work says so once it is done, and not before.
func TestSettles(t *testing.T) {
	t.Parallel()
	e := newEngine(t)
	y := &toy{wait: map[string]bool{"b": true, "d": true}, fail: map[string]bool{}}
	k := y.kind("a", "b", "c", "d")
	k.Steps[1].Settles = true
	e.run(k)
	id := e.begin(k)
	settled := func() (is bool) {
		c := pgtest.Connect(t, e.url)
		if err := c.QueryRow(t.Context(), "SELECT settled_at IS NOT NULL FROM work WHERE id = $1", id).Scan(&is); err != nil {
			t.Fatal(err)
		}
		return is
	}
	e.until(id, store.Waiting)
	if settled() {
		t.Error("it is settled before its step is done")
	}
	y.set(y.wait, "b", false)
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		if w := e.until(id, store.Waiting, store.Running, store.Queued); w.At == "d" && w.State == store.Waiting {
			break
		}
		if time.Now().After(deadline) {
			t.Fatal("it does not come to d")
		}
	}
	if !settled() {
		t.Error("it is not settled though its step is done")
	}
}
