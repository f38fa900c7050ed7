package door

import (
	"context"
	"slices"

	"plumlatch/service/cloud"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// Kind is a kind of work for the engine, and what else the service wants to know of it.
type Kind struct {
	*work.Kind
	Waves    bool // it takes many instances, in waves
	Restores bool // it is a way back into one instance, and has a report
	// WordAt is the step that waits for a word, if the policy asks for one; "" for a kind that never does.
	WordAt string
}

// Run is a piece of work in hand, with what its steps work with.
type Run struct {
	*work.Run
	*Service
	Instance store.Instance // as it stood when the step began
	Cloud    cloud.Driver   // that the instance is in
	Ctx      context.Context
	way      *way // into the instance, as long as it is open
	kept     any  // what the steps of the family at hand keep
	// doors is what was read of the instance's doors the last time, as long as nothing was written since.
	doors store.Snapshot
	// Edits is the part of it that says what was edited; nil where the family edits no files.
	Edits *Edits
}

// of is the run that belongs to the engine's.
func of(r *work.Run) *Run { return r.Own.(*Run) }

// Plain are kinds that have no traits.
func Plain(all ...*work.Kind) []*Kind {
	var out []*Kind
	for _, k := range all {
		out = append(out, &Kind{Kind: k})
	}
	return out
}

// Register takes every kind of work that there is, and makes them ready for the engine. It
// is called once, before the engine starts.
func (w *Service) Register(all []*Kind) []*work.Kind {
	w.kinds = all
	var out []*work.Kind
	for _, k := range all {
		k.Open, k.Fresh = w.claimed, fresh
		out = append(out, k.Kind)
	}
	return out
}

// claimed makes the run of a piece of work that was claimed.
func (w *Service) claimed(r *work.Run) {
	own := &Run{Run: r, Service: w, Ctx: r.Context(), Cloud: w.CloudOf(store.Instance{})}
	r.Own = own
	r.Defer(own.Leave)
}

// fresh looks again at the instance that the work is about, if anything of it was written since.
func fresh(r *work.Run) (err error) {
	own := of(r)
	if r.Work.InstanceID == 0 || own.Instance.Version != "" && own.Instance.Version == r.Work.InstanceVersion {
		return nil
	}
	if own.Instance, err = own.Store.InstanceAlone(own.Ctx, r.Work.InstanceID); err == nil {
		own.Cloud = own.CloudOf(own.Instance)
	}
	return err
}

// Doors reads what is recorded of the instance's doors.
func (r *Run) Doors() (d store.Snapshot, err error) {
	r.doors, err = r.Store.Snapshot(r.Ctx, r.Instance.ID)
	return r.doors, err
}

// Witness keeps what a step did or saw at the doors, weighed by what Doors read the last time.
func (r *Run) Witness(w store.Witness) (accessID int64, err error) { return r.witness(r.Ctx, w) }

// Wrote is Witness of a file of keys that the steward wrote, its own lines left as they were.
func (r *Run) Wrote() error {
	in, err := r.stewardIn()
	if err == nil {
		_, err = r.Witness(store.Witness{Wrote: true, Asked: in})
	}
	return err
}

// WroteOwn is Witness of a file of keys in which lines of the steward's own were written: whether it still
// gets in has to be asked.
func (r *Run) WroteOwn() error {
	_, err := r.Witness(store.Witness{Wrote: true})
	return err
}

// NotedWitness is Witness with what the family's steps keep, which can be found out again.
func (r *Run) NotedWitness(w store.Witness) error {
	return r.Noting(func(ctx context.Context) error {
		_, err := r.witness(ctx, w)
		return err
	})
}

func (r *Run) witness(ctx context.Context, w store.Witness) (accessID int64, err error) {
	d := r.doors
	if r.doors = (store.Snapshot{}); d.Instance != r.Instance.ID {
		d = store.Snapshot{Instance: r.Instance.ID}
	}
	out, err := r.Store.Witness(ctx, d, w)
	if err == nil && out.Version != "" && r.Instance.Version == d.Version { // nobody else wrote it
		r.Instance.Version, r.Instance.ChangedAt = out.Version, out.ChangedAt
	}
	return out.AccessID, err
}

// KindOf finds a kind by its name. One that this version does not know has no traits.
func (w *Service) KindOf(name string) Kind {
	if k := w.Named(name); k != nil {
		return *k
	}
	return Kind{}
}

// Named finds a kind by its name; nil if there is none.
func (w *Service) Named(name string) *Kind {
	i := slices.IndexFunc(w.kinds, func(k *Kind) bool { return k.Name == name })
	if i < 0 {
		return nil
	}
	return w.kinds[i]
}

// Failure is an error that trying again does not mend: the work goes back.
type Failure = work.Failure

// Failf is a Failure with a reason made as by fmt.Sprintf.
func Failf(format string, a ...any) error {
	return work.Failf(format, a...)
}

// Words makes an error fit to be recorded and shown.
func Words(err error) string { return work.Words(err) }

// OutcomeOf joins what came of a piece of work and what is wrong with that.
func OutcomeOf(what string, troubles ...string) string { return work.Outcome(what, troubles...) }

// Token returns n random characters of a-z and 2-7.
func Token(n int) string { return work.Token(n) }

// ByPhase finds the kind whose work has its instance in a phase; nil if none has.
func (w *Service) ByPhase(phase store.Phase) *Kind {
	i := slices.IndexFunc(w.kinds, func(k *Kind) bool { return k.Phase == phase })
	if i < 0 {
		return nil
	}
	return w.kinds[i]
}
