package kinds

import (
	"context"
	"slices"

	"plumlatch/service/store"
	"plumlatch/service/work"
)

// Kind is a kind of work for the engine, and what else the service wants to know of it.
type Kind struct {
	*work.Kind
	Waves    bool // it takes many instances, in waves
	Restores bool // it is a way back into one instance, and has a report
}

// Run is a piece of work in hand, with what its steps work with.
type Run struct {
	*work.Run
	*Worker
	Instance store.Instance // as it stood when the step began
	ctx      context.Context
	way      *way // into the instance, as long as it is open
	kept     any  // what the steps of the family at hand keep
	// Edits is the part of it that says what was edited; nil where the family edits no files.
	Edits *Edits
}

// of is the run that belongs to the engine's.
func of(r *work.Run) *Run { return r.Own.(*Run) }

// claimed makes the run of a piece of work that was claimed.
func (w *Worker) claimed(r *work.Run) {
	own := &Run{Run: r, Worker: w, ctx: r.Context()}
	r.Own = own
	r.Defer(own.leave)
}

// fresh looks again at the instance that the work is about.
func fresh(r *work.Run) (err error) {
	if r.Work.InstanceID != 0 {
		own := of(r)
		own.Instance, err = own.Store.InstanceAlone(own.ctx, r.Work.InstanceID)
	}
	return err
}

// Kinds returns every kind of work that there is.
func (w *Worker) Kinds() []*Kind {
	all := append(w.manyKinds(), w.restoreKinds()...)
	for _, k := range []*work.Kind{w.launchKind(), w.adoptKind(), w.adoptManyKind(), w.stopKind(), w.startKind(), w.removeKind(),
		w.admitKind(), w.unadmitKind(), w.reserveKind(), w.moveKind(), w.releaseKind(), w.surveyKind(), w.rotateKind(), w.accessAddKind(), w.accessRemoveKind(), w.accessExtendKind(), w.stewardKind()} {
		all = append(all, &Kind{Kind: k})
	}
	for _, k := range all {
		k.Open, k.Fresh = w.claimed, fresh
	}
	return all
}

// Halts returns the name of every point at which the harness can halt a service.
func Halts() []string {
	var all []*work.Kind
	for _, k := range (&Worker{}).Kinds() {
		all = append(all, k.Kind)
	}
	return work.Halts(all)
}

// KindOf finds a kind by its name. One that this version does not know has no traits.
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

// Failure is an error that trying again does not mend: the work goes back.
type Failure = work.Failure

func failf(format string, a ...any) error {
	return work.Failf(format, a...)
}

// words makes an error fit to be recorded and shown.
func words(err error) string { return work.Words(err) }

func outcomeOf(what string, troubles ...string) string { return work.Outcome(what, troubles...) }

// token returns n random characters of a-z and 2-7.
func token(n int) string { return work.Token(n) }
