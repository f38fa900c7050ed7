package work

import (
	"context"
	"fmt"
	"slices"

	"plumlatch/service/store"
)

// Kind is one kind of durable work: its table of steps.
type Kind struct {
	Name     string      // in the records, and in the names of halts
	Action   string      // in the journal
	Phase    store.Phase // of its instance while it is at hand; "" leaves that alone
	Changing bool        // it changes its instance, and so holds it while at it
	Steps    []Step
	// End says what the end makes of the work and its instance: state is Done,
	// WentBack, Cancelled or Stuck.
	End func(r *Run, state store.WorkState) (store.WorkEnd, error)
	// Open is called when a piece of work was claimed: it may set Run.Own, and defer what
	// is to be done when the claim ends. nil does nothing.
	Open func(r *Run)
	// Fresh is called before each step, to look again at what it is about. nil does nothing.
	Fresh func(r *Run) error
	// Beside runs beside the steps, from the claim to its end, when ctx is done and it must
	// return. nil does nothing.
	Beside func(ctx context.Context, r *Run)
}

// Step is one step. Do and Undo look first and then act, so that doing either
// twice is harmless. Both can return a Failure (the work goes back), or
// r.Wait's error (it waits); after any other error the step is tried again.
type Step struct {
	Name  string
	Title string // what is going on
	Do    func(r *Run) error
	Undo  func(r *Run) error // nil: there is nothing to undo
	// Effects and UndoEffects name what Do and Undo change outside, each by
	// Run.Effect, so that the harness can halt before, inside and after it.
	Effects, UndoEffects []string
	// Skip tells that there is nothing to do in this piece of work; nil never does.
	Skip func(r *Run) bool
	// NoReturn: once it has begun, the work cannot be cancelled.
	NoReturn bool
	// Settles: once it is done, the work has shown what it is for, though it may go on
	// for long. What is made of many such pieces goes on to its next wave.
	Settles bool
	// BackLater: until it is done nothing was changed, so an instance that is out of
	// reach may be waited for as long as whoever asked for the work allows.
	BackLater bool
}

// Failure is an error that trying again does not mend: the work goes back.
// Code says to programs what it is, where one decides by it; "" mostly.
type Failure struct{ Reason, Code string }

// Error returns the reason.
func (f Failure) Error() string { return f.Reason }

// Failf is a Failure with a reason made as by fmt.Sprintf.
func Failf(format string, a ...any) error { return Failure{Reason: fmt.Sprintf(format, a...)} }

// step finds a step by its name; nil if the kind has none of that name.
func (k *Kind) step(name string) *Step {
	n := slices.IndexFunc(k.Steps, func(s Step) bool { return s.Name == name })
	if n < 0 {
		return nil
	}
	return &k.Steps[n]
}

// Plan is the kind's steps as a piece of work keeps them when it is begun.
func (k *Kind) Plan() []store.WorkStep {
	var out []store.WorkStep
	for _, s := range k.Steps {
		out = append(out, store.WorkStep{Name: s.Name, Title: s.Title})
	}
	return out
}

// Halts returns the name of every point at which the harness can halt a
// service, made from the step tables: a new step is covered by itself.
//
//	KIND/STEP/begin              before a step begins
//	KIND/STEP/EFFECT/before      before an outside effect
//	KIND/STEP/EFFECT/inside      when nothing more is looked at before it happens
//	KIND/STEP/EFFECT/after       before anything is written of it
//	KIND/STEP/end                before the step's end is written
//	KIND/STEP/undo/...           the same for going back
func Halts(kinds []*Kind) []string {
	var out []string
	for _, k := range kinds {
		for _, s := range k.Steps {
			at := k.Name + "/" + s.Name
			out = append(out, around(at, s.Effects)...)
			if s.Undo != nil {
				out = append(out, around(at+"/undo", s.UndoEffects)...)
			}
		}
	}
	return out
}

func around(at string, effects []string) []string {
	out := []string{at + "/begin"}
	for _, e := range effects {
		out = append(out, at+"/"+e+"/before", at+"/"+e+"/inside", at+"/"+e+"/after")
	}
	return append(out, at+"/end")
}
