package fleet

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/rotation"
	"plumlatch/core/wire"
	"plumlatch/service/door"
	"plumlatch/service/store"
)

// Changes of access on many instances: a key added, a second key for sole
// openers, a key or all keys of a holder withdrawn. They share the waves of a
// rotation of many (fleet.go).

// PlanMany says which instances a change of access would take. FieldError.
func (w *Service) PlanMany(ctx context.Context, by store.Actor, r wire.AccessMany) (wire.FleetPlan, error) {
	if err := w.checkMany(ctx, by, &r); err != nil {
		return wire.FleetPlan{}, err
	}
	return w.planMany(ctx, fleet{Many: keptMany(r)})
}

// ChangeMany begins a change of access on many instances. FieldError, store.ErrReused.
func (w *Service) ChangeMany(ctx context.Context, by store.Actor, once store.Once, r wire.AccessMany) (store.Work,
	error) {
	if work, again, err := w.WorkDone(ctx, once); again || err != nil {
		return work, err
	}
	if err := w.checkMany(ctx, by, &r); err != nil {
		return store.Work{}, err
	}
	members, _, err := w.chooseMany(ctx, r)
	if err != nil {
		return store.Work{}, err
	}
	if len(members) == 0 {
		return store.Work{}, door.FieldError{Field: "tag", Problem: "there is no instance to do it on"}
	}
	if n := cutOffs(members); n != r.CutOff {
		return store.Work{}, door.FieldError{Field: "cut_off",
			Problem: fmt.Sprintf("nobody would get into %s any more, and %d was counted out: give that number to "+
				"do it all the same", door.Plural(n, "instance"), r.CutOff)}
	}
	kind, what := "access-add-many", fmt.Sprintf("add %s to %s", r.Key, door.Plural(len(members), "instance"))
	if r.Do == wire.ManyRemove {
		kind, what = "access-remove-many",
			fmt.Sprintf("withdraw %s from %s", cmp.Or(r.Key, "what "+r.Holder+" had"),
				door.Plural(len(members), "instance"))
	}
	intent := what
	if r.Reason != "" {
		intent += ": " + r.Reason
	}
	in := fleet{Many: keptMany(r)}
	if in.StopAfter = r.StopAfter; in.StopAfter == 0 && r.Do == wire.ManyRemove {
		in.StopAfter = noStop
	}
	n := w.Begun(w.Named(kind), door.Words(errors.New(what)), door.Token(26), store.Instance{}, intent, in)
	n.Target = "instances"
	return w.BeginOf(ctx, by, once, store.Instance{}, n)
}

// checkMany checks what was asked for, and brings it into its usual form. FieldError.
func (w *Service) checkMany(ctx context.Context, by store.Actor, r *wire.AccessMany) error {
	wrong := func(field, format string, a ...any) error {
		return door.FieldError{Field: field, Problem: fmt.Sprintf(format, a...)}
	}
	switch {
	case !slices.Contains([]string{wire.ManyAdd, wire.ManySecond, wire.ManyRemove}, r.Do):
		return door.FieldError{Field: "do", Problem: "not known",
			Choices: []string{wire.ManyAdd, wire.ManySecond, wire.ManyRemove}}
	case r.Do == wire.ManyRemove && (r.Key == "") == (r.Holder == ""):
		return wrong("key", "give the key that is withdrawn, or whose keys are")
	case r.Do != wire.ManyRemove && (r.Key == "" || r.Holder != "" || r.CutOff != 0):
		return wrong("key", "give the key that is added")
	case r.StopAfter < 0 || r.CutOff < 0 || r.BackSeconds < 0 || r.BackSeconds > int64(door.LongestGrace/time.Second):
		return wrong("back_seconds", "failures and times are not negative, and what is out of reach is waited for "+
			"at most a year")
	}
	if print, is, err := keypair.ParsePrint(r.Key); r.Do == wire.ManyRemove && is && !print.Bare {
		known, e := false, err
		if e == nil {
			known, e = w.knownPrint(ctx, r, print)
		}
		if e != nil || !known {
			if e == nil {
				e = wrong("key", "%s is not recorded, and no survey found it", r.Key)
			}
			return e
		}
	} else if r.Key != "" {
		k, err := w.Store.KeyAlone(ctx, r.Key)
		if errors.Is(err, store.ErrNotFound) {
			err = w.UnknownKey(ctx, r.Key)
		}
		if err == nil && r.Do != wire.ManyRemove {
			err = w.Placeable(ctx, store.Instance{Adopted: true}, k)
		}
		if e, ok := errors.AsType[door.FieldError](err); ok {
			e.Field = "key"
			err = e
		}
		if err != nil {
			return err
		}
		r.Key = k.Name
	}
	if r.Do == wire.ManyRemove {
		return nil
	}
	if _, err := w.CheckTerms(ctx, wire.AccessAdd{Key: r.Key, Until: r.Until, From: r.From, Only: r.Only,
		Reason: r.Reason}); err != nil {
		return err
	}
	return nil
}

// chooseMany chooses the instances of a change of access.
func (w *Service) chooseMany(ctx context.Context, r wire.AccessMany) (members, left []wire.FleetMember, err error) {
	if r.First < 0 || r.Grow < 0 || r.First > maxFleet || r.Grow > maxFleet {
		return nil, nil, door.FieldError{Field: "first", Problem: fmt.Sprintf("the sizes of waves are from 1 to %d", maxFleet)}
	}
	pace := rotation.Pace{First: cmp.Or(r.First, 1), Grow: cmp.Or(r.Grow, maxFleet), AtMost: rotation.Share{Percent: 100}}
	if r.AtMost != "" {
		if pace.AtMost, err = rotation.ParseShare(r.AtMost); err != nil {
			return nil, nil, door.FieldError{Field: "at_most", Problem: err.Error()}
		}
	}
	if r.Do == wire.ManyRemove {
		members, left, err = w.chooseWithdrawn(ctx, r)
	} else {
		members, left, err = w.chooseAdded(ctx, r)
	}
	if err == nil && len(members) > maxFleet {
		err = door.FieldError{Field: "tag", Problem: fmt.Sprintf("more than %d at once: choose fewer", maxFleet)}
	}
	if err != nil {
		return nil, nil, err
	}
	return members, left, intoWaves(members, pace)
}

// chooseAdded chooses the instances that a key is added to.
func (w *Service) chooseAdded(ctx context.Context, r wire.AccessMany) (members, left []wire.FleetMember, err error) {
	k, err := w.Store.KeyAlone(ctx, r.Key)
	if err != nil {
		return nil, nil, err
	}
	all, err := w.Store.Openables(ctx, k.ID, r.Tag, maxFleet+1)
	for _, o := range all {
		if o.Has || r.Do == wire.ManySecond && o.Openers != 1 {
			continue
		}
		m := wire.FleetMember{Instance: o.Instance, New: k.Name, State: "to do"}
		out := false
		if out, m.Note = away(o.Phase, o.State, o.Steward); out {
			m.State = "left out"
			left = append(left, m)
			continue
		}
		members = append(members, m)
	}
	return members, left, err
}

// chooseWithdrawn chooses the instances that keys are withdrawn from, and marks
// those that nobody gets into afterwards.
func (w *Service) chooseWithdrawn(ctx context.Context, r wire.AccessMany) (members,
	left []wire.FleetMember, err error) {
	q := store.CandidateQuery{Keys: []string{}, Tag: r.Tag, Limit: maxFleet + 1}
	if r.Key != "" {
		q.Keys = append(q.Keys, r.Key)
	} else {
		held, err := w.Store.KeysHeldBy(ctx, r.Holder)
		if errors.Is(err, store.ErrHolder) {
			return nil, nil, door.FieldError{Field: "holder",
				Problem: "there is no holder of this name; \"plumlatch holder list\" shows who there is"}
		}
		if err != nil {
			return nil, nil, err
		}
		for _, k := range held {
			if k.Team == "" { // a team's key is replaced, not withdrawn: others need it
				q.Keys = append(q.Keys, k.Name)
			}
		}
	}
	all, err := w.Store.Candidates(ctx, q)
	if err == nil && r.Key != "" {
		members, left, err = w.chooseFound(ctx, r)
	}
	for _, c := range all {
		m := wire.FleetMember{Instance: c.Instance, Old: c.Old, State: "to do", Sole: c.Others == 0,
			CutOff: c.Others == 0}
		out := false
		if out, m.Note = away(c.Phase, c.State, c.Steward); out {
			m.State, m.CutOff = "left out", false
			left = append(left, m)
			continue
		}
		members = append(members, m)
	}
	return members, left, err
}

// knownPrint puts the name of a recorded key in the place of its fingerprint, or brings that of a key
// that nobody recorded into its usual form. known is false where no survey ever saw such a key. FieldError.
func (w *Service) knownPrint(ctx context.Context, r *wire.AccessMany, p keypair.Print) (known bool, err error) {
	if !p.Changes() {
		return false, door.FieldError{Field: "key", Problem: "by this form of fingerprint nothing is changed: give SHA256"}
	}
	r.Key = p.Text
	k, err := w.Store.KeyByFingerprint(ctx, p.Text)
	if err == nil {
		r.Key = k.Name
		return true, nil
	}
	if !errors.Is(err, store.ErrNotFound) {
		return false, err
	}
	seen, err := w.Store.SeenPrints(ctx, p)
	return len(seen) > 0, err
}

// chooseFound chooses the instances in whose files a survey found a key though nobody recorded it there.
func (w *Service) chooseFound(ctx context.Context, r wire.AccessMany) (members, left []wire.FleetMember, err error) {
	fingerprint := r.Key
	if k, err := w.Store.KeyAlone(ctx, r.Key); err == nil {
		fingerprint = k.Fingerprint
	} else if !errors.Is(err, store.ErrNotFound) {
		return nil, nil, err
	}
	q := store.SightingQuery{Fingerprint: fingerprint, Tag: r.Tag, There: true, Unrecorded: true,
		Page: store.Page{Limit: 500}}
	for more := true; more && len(members) <= maxFleet; more = q.Cursor != "" {
		var rows []store.Sighting
		if rows, q.Cursor, err = w.Store.Sightings(ctx, q); err != nil {
			return nil, nil, err
		}
		for _, x := range rows {
			i, err := w.Store.InstanceByID(ctx, x.InstanceID)
			if err != nil {
				return nil, nil, err
			}
			d, err := w.Store.DoorOf(ctx, i.ID)
			if err != nil {
				return nil, nil, err
			}
			nobody := d.Opening().Count() == 0
			m := wire.FleetMember{Instance: i.Name, Old: r.Key, State: "to do", Sole: nobody, CutOff: nobody}
			out := true
			switch _, err := w.Store.StewardPublic(ctx, i.ID); {
			case x.LoginUser != i.LoginUser:
				m.Note = fmt.Sprintf("it stands in a file of %s: take it out with your own way in", x.LoginUser)
			case err != nil && !errors.Is(err, store.ErrNotFound):
				return nil, nil, err
			default:
				out, m.Note = away(i.Phase, i.State, err == nil)
			}
			if out {
				m.State, m.CutOff = "left out", false
				left = append(left, m)
				continue
			}
			members = append(members, m)
		}
	}
	return members, left, nil
}

// cutOffs counts the instances that nobody gets into afterwards.
func cutOffs(members []wire.FleetMember) int {
	cut := map[string]bool{} // several keys of one holder may go from one
	for _, m := range members {
		if m.CutOff {
			cut[m.Instance] = true
		}
	}
	return len(cut)
}

// accessPart makes the part of one member. FieldError.
func (r *fleetJob) accessPart(in wire.AccessMany, m store.Member, i store.Instance, by store.Actor) (store.NewWork,
	error) {
	back := cmp.Or(time.Duration(in.BackSeconds)*time.Second, backLimit)
	if in.Do == wire.ManyRemove {
		cut := 0
		if m.CutOff {
			cut = 1
		}
		return r.svc.PlanRemove(r.Ctx, i, wire.AccessRemove{Key: m.OldKey, Reason: in.Reason, CutOff: cut},
			m.OldKeyID, back)
	}
	return r.svc.PlanAdd(r.Ctx, by, i, wire.AccessAdd{Key: m.NewKey, Until: in.Until, From: in.From, Only: in.Only,
		Reason: in.Reason}, m.NewKeyID, back)
}

// foundBeside lists the keys that nobody wrote down on these instances.
func (w *Service) foundBeside(ctx context.Context, members []wire.FleetMember) ([]wire.FoundBeside, error) {
	var folded []string
	for _, m := range members {
		folded = append(folded, names.Fold(m.Instance))
	}
	rows, err := w.Store.UnrecordedOn(ctx, folded, 500)
	var out []wire.FoundBeside
	for _, s := range rows {
		out = append(out, wire.FoundBeside{Instance: s.Instance, LoginUser: s.LoginUser, Fingerprint: s.Fingerprint,
			Comment: s.Comment, Since: s.FirstAt})
	}
	return out, err
}
