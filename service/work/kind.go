package work

import (
	"fmt"
	"slices"

	"plumlatch/service/store"
)

// Kind is one kind of durable work: its table of steps.
type Kind struct {
	Name     string      // such as "launch"
	Action   string      // in the journal, such as "instance.launch"
	Phase    store.Phase // of its instance while it is at hand; "" leaves that alone
	Changing bool        // it changes its instance, and so holds it while at it
	Waves    bool        // it takes many instances, in waves
	Restores bool        // it is a way back into one instance, and has a report
	Steps    []Step
	// End says what the end makes of the work and its instance: state is Done,
	// WentBack, Cancelled or Stuck.
	End func(r *Run, state store.WorkState) (store.WorkEnd, error)
}

// Step is one step. Do and Undo look first and then act, so that doing either
// twice is harmless. Both can return a Failure (the work goes back), or
// r.Wait's error (it waits); after any other error the step is tried again.
type Step struct {
	Name  string
	Title string // what is going on, such as "asking the cloud for the instance"
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

func failf(format string, a ...any) error { return Failure{Reason: fmt.Sprintf(format, a...)} }

// step finds a step by its name; nil if the kind has none of that name.
func (k *Kind) step(name string) *Step {
	n := slices.IndexFunc(k.Steps, func(s Step) bool { return s.Name == name })
	if n < 0 {
		return nil
	}
	return &k.Steps[n]
}

func (k *Kind) stepRows() []store.WorkStep {
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

// Kinds returns every kind of work that there is.
func (w *Worker) Kinds() []*Kind {
	return append(append(w.manyKinds(), w.restoreKinds()...), w.launchKind(), w.adoptKind(), w.adoptManyKind(), w.stopKind(), w.startKind(), w.removeKind(),
		w.admitKind(), w.unadmitKind(), w.reserveKind(), w.moveKind(), w.releaseKind(), w.surveyKind(), w.rotateKind(), w.accessAddKind(), w.accessRemoveKind(), w.accessExtendKind(), w.stewardKind())
}

// KindOf finds a kind by its name. One that this version does not know is the zero kind.
func (w *Worker) KindOf(name string) Kind {
	if k := w.kind(name); k != nil {
		return *k
	}
	return Kind{}
}

func (w *Worker) kind(name string) *Kind {
	i := slices.IndexFunc(w.kinds, func(k *Kind) bool { return k.Name == name })
	if i < 0 {
		return nil
	}
	return w.kinds[i]
}
