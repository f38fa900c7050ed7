package fleet

import (
	"cmp"
	"context"
	"errors"
	"fmt"

	"plumlatch/core/access"
	"plumlatch/core/rotation"
	"plumlatch/core/routes"
	"plumlatch/core/wire"
	"plumlatch/service/door"
	"plumlatch/service/restore"
	"plumlatch/service/store"
)

// PlanRestoreMany says which instances only a lost key opened, and by which route
// each would be restored. FieldError.
func (w *Service) PlanRestoreMany(ctx context.Context, r wire.RestoreMany) (wire.FleetPlan, error) {
	return w.planMany(ctx, fleet{Restore: keptRestores(r)})
}

// RestoreMany begins to restore each instance that only a lost key opened, by its
// own best route, in waves. FieldError, store.ErrReused.
func (w *Service) RestoreMany(ctx context.Context, by store.Actor, once store.Once, r wire.RestoreMany) (store.Work,
	error) {
	if work, again, err := w.WorkDone(ctx, once); again || err != nil {
		return work, err
	}
	k, err := w.Store.KeyAlone(ctx, r.New)
	if errors.Is(err, store.ErrNotFound) {
		err = w.UnknownKey(ctx, r.New)
	}
	if err == nil {
		err = w.Placeable(ctx, store.Instance{Adopted: true}, k)
	}
	if e, ok := errors.AsType[door.FieldError](err); ok {
		e.Field = "new"
		err = e
	}
	if err != nil {
		return store.Work{}, err
	}
	r.New = k.Name
	if err := w.mustBeGone(ctx, r.Key); err != nil {
		return store.Work{}, err
	}
	members, _, err := w.chooseRestored(ctx, r)
	if err != nil {
		return store.Work{}, err
	}
	if len(members) == 0 {
		return store.Work{}, door.FieldError{Field: "key",
			Problem: fmt.Sprintf("there is no instance that only %s opened and that a way back is open into", r.Key)}
	}
	what := fmt.Sprintf("restore access to %s that only %s opened", door.Plural(len(members), "instance"), r.Key)
	keys, err := w.namedKeys(ctx, r.New, r.Key)
	if err != nil {
		return store.Work{}, err
	}
	in := fleet{Restore: keptRestores(r), Keys: keys}
	in.New, in.StopAfter, in.BackSeconds = r.New, r.StopAfter, r.BackSeconds
	n := w.Begun(w.Named("restore-many"), door.Words(errors.New(what)), door.Token(26), store.Instance{}, what, in)
	n.Target = "instances"
	return w.BeginOf(ctx, by, once, store.Instance{}, n)
}

// mustBeGone refuses to begin what is for a lost key with one that nobody has recorded as such: a plan
// needs no such record. FieldError.
func (w *Service) mustBeGone(ctx context.Context, key string) error {
	k, err := w.Store.KeyAlone(ctx, key)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return nil // whoever chooses the instances says so
	case err == nil && k.State != access.Lost && k.State != access.Exposed:
		return door.FieldError{Field: "key", Problem: fmt.Sprintf("%s is %s: \"plumlatch key lost %s\" records that nobody "+
			"has it, and shows what follows", k.Name, k.State, k.Name)}
	}
	return err
}

// chooseRestored chooses the instances, each with its best route, as if the key were recorded as lost.
func (w *Service) chooseRestored(ctx context.Context, r wire.RestoreMany) (members,
	left []wire.FleetMember, err error) {
	k, err := w.Store.KeyAlone(ctx, r.Key)
	if errors.Is(err, store.ErrNotFound) {
		err = w.UnknownKey(ctx, r.Key)
		if e, ok := errors.AsType[door.FieldError](err); ok {
			e.Field = "key"
			err = e
		}
	}
	if err != nil {
		return nil, nil, err
	}
	pace := rotation.Pace{First: cmp.Or(r.First, 1), Grow: r.Grow}
	if r.AtMost != "" {
		if pace.AtMost, err = rotation.ParseShare(r.AtMost); err != nil {
			return nil, nil, door.FieldError{Field: "at_most", Problem: err.Error()}
		}
	}
	all, err := w.Store.Candidates(ctx, store.CandidateQuery{Keys: []string{k.Name}, Tag: r.Tag, Limit: maxFleet + 1})
	if err != nil {
		return nil, nil, err
	}
	rescues, clouds := map[string][]routes.Rescue{}, map[string]restore.CloudSide{}
	for _, c := range all {
		if c.Others > 0 {
			continue
		}
		m := wire.FleetMember{Instance: c.Instance, Old: c.Old, New: r.New, State: "to do", Sole: true}
		rows, err := w.Store.RestoreRows(ctx, c.Instance, "", 0, 1)
		if err != nil {
			return nil, nil, err
		}
		if len(rows) == 0 || c.AtHand != 0 {
			m.State, m.Note = "left out", "it is "+string(c.Phase)
			if c.AtHand != 0 {
				m.Note = fmt.Sprintf("work %d is at hand there with it", c.AtHand)
			}
			left = append(left, m)
			continue
		}
		for n := range rows[0].Keys { // a plan is made before anybody records that it is lost
			if a := &rows[0].Keys[n]; a.KeyID == k.ID && a.State != access.Exposed {
				a.State = access.Lost
			}
		}
		side, ok := clouds[rows[0].Region]
		if !ok {
			if side, err = w.CloudFacts(ctx, []string{rows[0].Region}); err != nil {
				return nil, nil, err
			}
			clouds[rows[0].Region] = side
		}
		offers := routes.Alone(routes.Compare(w.FactsOf(ctx, rows[0], side, false, rescues)))
		if !offers[0].Open {
			m.State, m.Note = "left out", "no way back is open: plumlatch restore "+c.Instance
			left = append(left, m)
			continue
		}
		m.Note = "by " + offers[0].Route
		members = append(members, m)
	}
	return members, left, intoWaves(members, pace)
}

// fleetDismiss removes what the parts shared, after all of them are over. One that
// a stuck part's volume is at stays, is said, and goes with the end of that part.
func (r *fleetJob) fleetDismiss() error {
	rows, err := r.Store.SharedLeft(r.Ctx, r.Work.ID)
	if err != nil {
		return err
	}
	var left restore.ManyLeft
	for _, row := range rows {
		err := r.svc.RemoveShared(r.Run, row)
		if no, ok := errors.AsType[door.Failure](err); ok {
			left.Left = append(left.Left, door.Words(no))
			continue
		}
		if err != nil {
			return err
		}
	}
	if len(left.Left) > 0 {
		return r.SetData(left)
	}
	return r.Store.DropWorkKey(r.Ctx, r.Work.ID)
}
