package work_test

import (
	"strings"
	"testing"
	"time"

	"plumlatch/core/wire"
	"plumlatch/service/postgres/pgtest"
	"plumlatch/service/store"
	"plumlatch/service/work/worktest"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

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
			e := worktest.New(t)
			y := worktest.NewToy()
			y.Set(y.Waits, c.at, true)
			e.Run(y.Kind(old...))
			id := e.Begin(y.Kind(old...))
			if w := e.Until(id, store.Waiting); w.At != c.at || w.WaitsCode != wire.WaitsOther {
				t.Fatalf("it waits at %q, code %q", w.At, w.WaitsCode)
			}
			e.Stop()
			y.Done()
			y.Set(y.Waits, c.at, false)
			e.Run(y.Kind(c.steps...))
			w := e.Until(id, store.Done, store.Stuck)
			if got := y.Done(); got != c.want {
				t.Errorf("called %q, want %q", got, c.want)
			}
			if c.stuck == "" {
				if w.State != store.Done {
					t.Errorf("it is %s: %s", w.State, w.Outcome)
				}
				return
			}
			if w.State != store.Stuck || w.At != c.stuck || !strings.Contains(w.Outcome, `"`+c.stuck+`"`) ||
				!strings.Contains(w.Outcome, "plumlatch work retry") {
				t.Errorf("it is %s at %q: %s", w.State, w.At, w.Outcome)
			}
			// Under the same program it says the same again, and does nothing.
			e.Retry(id)
			if w := e.Until(id, store.Stuck, store.Done); w.State != store.Stuck || w.At != c.stuck || y.Done() != "" {
				t.Errorf("taken up again, it is %s at %q", w.State, w.At)
			}
			e.Run(y.Kind(old...))
			e.Retry(id)
			if w := e.Until(id, store.Done, store.Stuck); w.State != store.Done {
				t.Errorf("under a program that knows it, it is %s: %s", w.State, w.Outcome)
			}
			if got := y.Done(); got != c.resume {
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
			e := worktest.New(t)
			y := worktest.NewToy()
			y.Set(y.Waits, "c", true)
			y.Set(y.Fails, "c", true)
			e.Run(y.Kind(old...))
			id := e.Begin(y.Kind(old...))
			e.Until(id, store.Waiting)
			e.Stop()
			y.Done()
			y.Set(y.Waits, "c", false)
			e.Run(y.Kind(c.steps...))
			w := e.Until(id, store.WentBack, store.Stuck)
			if got := y.Done(); got != c.want {
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
			e.Run(y.Kind(old...))
			e.Retry(id)
			if w := e.Until(id, store.WentBack, store.Stuck, store.Done); w.State != store.WentBack {
				t.Errorf("it is %s: %s", w.State, w.Outcome)
			}
			if got := y.Done(); got != c.resume {
				t.Errorf("called %q, want %q", got, c.resume)
			}
		})
	}
}

// TestRetryTakesTheNewPlan: what begins again from its beginning begins with the steps
// that its kind has now.
func TestRetryTakesTheNewPlan(t *testing.T) {
	t.Parallel()
	e := worktest.New(t)
	y := worktest.NewToy()
	y.Set(y.Fails, "b", true)
	e.Run(y.Kind("a", "b"))
	id := e.Begin(y.Kind("a", "b"))
	e.Until(id, store.WentBack)
	y.Done()
	y.Set(y.Fails, "b", false)
	e.Run(y.Kind("z", "a", "m"))
	e.Retry(id)
	if w := e.Until(id, store.Done, store.Stuck); w.State != store.Done || strings.Join(w.Plan(), " ") != "z a m" {
		t.Errorf("it is %s, with the plan %v", w.State, w.Plan())
	}
	if got := y.Done(); got != "z a m" {
		t.Errorf("called %q", got)
	}
}

// TestSettles: a step that settles its work says so once it is done, and not before.
func TestSettles(t *testing.T) {
	t.Parallel()
	e := worktest.New(t)
	y := worktest.NewToy()
	y.Set(y.Waits, "b", true)
	y.Set(y.Waits, "d", true)
	k := y.Kind("a", "b", "c", "d")
	k.Steps[1].Settles = true
	e.Run(k)
	id := e.Begin(k)
	settled := func() (is bool) {
		c := pgtest.Connect(t, e.URL)
		if err := c.QueryRow(t.Context(), "SELECT settled_at IS NOT NULL FROM work WHERE id = $1",
			id).Scan(&is); err != nil {
			t.Fatal(err)
		}
		return is
	}
	e.Until(id, store.Waiting)
	if settled() {
		t.Error("it is settled before its step is done")
	}
	y.Set(y.Waits, "b", false)
	for deadline := time.Now().Add(2 * time.Minute); ; time.Sleep(10 * time.Millisecond) {
		if w := e.Until(id, store.Waiting, store.Running, store.Queued); w.At == "d" && w.State == store.Waiting {
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
