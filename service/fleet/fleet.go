package fleet

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/rotation"
	"plumlatch/core/wire"
	"plumlatch/service/accesses"
	"plumlatch/service/door"
	"plumlatch/service/restore"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// A rotation of many is a parent with one rotation an instance, in waves: the
// next wave begins when every instance of the one before is shown to work, or is
// out of reach and will be taken when it is back.

// fleet is the input of the parent: of a rotation, or of another change of
// access on many instances.
type fleet struct {
	askedFleet
	Many    *askedMany     `json:"many,omitempty"`
	Restore *askedRestores `json:"restore,omitempty"`
	Book    *askedBook     `json:"book,omitempty"`
	Paused  bool           `json:"paused"`
	GoOn    int            `json:"go_on"` // that many failures are accepted by the operator
	// Keys are the IDs of the keys that were named when it was asked for. A name may
	// be another key's by the time that it is looked up again.
	Keys map[string]int64 `json:"keys,omitempty"`
}

// namedKeys are the IDs of keys by name; "" and what is not known are left out.
func (w *Service) namedKeys(ctx context.Context, all ...string) (map[string]int64, error) {
	out := map[string]int64{}
	for _, name := range all {
		if name == "" {
			continue
		}
		k, err := w.Store.KeyAlone(ctx, name)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		out[name] = k.ID
	}
	return out, nil
}

// sameKeys fails if a name that was given is another key's now.
func (r *fleetJob) sameKeys(in fleet) error {
	for name, id := range in.Keys {
		k, err := r.Store.KeyAlone(r.Ctx, name)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err != nil || k.ID != id {
			return door.Failf("%s is another key now than when this was asked for, or none: nothing was begun; ask "+
				"for it again", name)
		}
	}
	return nil
}

// Limits of a rotation of many.
const (
	maxFleet   = 20_000
	backLimit  = 7 * 24 * time.Hour
	noStop     = 1 << 30 // failures
	pauseLimit = 7 * 24 * time.Hour
)

// Kinds are the kinds of work on many instances.
func (w *Service) Kinds() []*door.Kind {
	fleetOf := w.fleetSteps()
	choose := []work.Step{
		{Name: "choose", Title: "choosing the instances", Do: fleetOf.Do((*fleetJob).fleetChoose)},
		{Name: "word", Title: "waiting for the word that the policy asks for", Do: fleetOf.Do(func(r *fleetJob) error { return r.AwaitWord() })},
	}
	// What parts of a restore share goes after all of them, also on the way back.
	shared := slices.Clone(choose)
	shared[0].Undo, shared[0].UndoEffects = fleetOf.Do((*fleetJob).fleetDismiss), []string{"remove"}
	return []*door.Kind{
		w.manyKind("rotate-many", "access.rotate-many", "rotated", append(choose[:2:2],
			work.Step{Name: "proof", Title: "waiting for the new key's private half to be shown",
				Do: fleetOf.Do((*fleetJob).fleetProof)},
			work.Step{Name: "waves", Title: "rotating in waves", Do: fleetOf.Do((*fleetJob).fleetWaves),
				Undo: fleetOf.Do((*fleetJob).fleetBack)},
			work.Step{Name: "rest", Title: "waiting for the end of the grace time, and for what is out of reach",
				Do: fleetOf.Do((*fleetJob).fleetRest)})),
		w.manyKind("restore-many", "access.restore-many", "restored", append(shared,
			work.Step{Name: "proof", Title: "waiting for the new key's private half to be shown",
				Do: fleetOf.Do((*fleetJob).fleetProof)},
			work.Step{Name: "waves", Title: "restoring in waves", Do: fleetOf.Do((*fleetJob).fleetWaves),
				Undo: fleetOf.Do((*fleetJob).fleetBack)},
			work.Step{Name: "rest", Title: "waiting for what is still at hand", Do: fleetOf.Do((*fleetJob).fleetRest)},
			work.Step{Name: "dismiss", Title: "giving up the rescue instances that its parts shared",
				Do: fleetOf.Do((*fleetJob).fleetDismiss), Effects: []string{"remove"}})),
		w.manyKind("access-add-many", "access.add-many", "opened by it", append(choose[:2:2],
			work.Step{Name: "waves", Title: "adding the key in waves", Do: fleetOf.Do((*fleetJob).fleetWaves),
				Undo: fleetOf.Do((*fleetJob).fleetBack)},
			work.Step{Name: "rest", Title: "waiting for the end of the access, and for what is out of reach",
				Do: fleetOf.Do((*fleetJob).fleetRest)})),
		w.manyKind("access-remove-many", "access.remove-many", "withdrawn", append(choose[:2:2],
			work.Step{Name: "waves", Title: "withdrawing in waves", Do: fleetOf.Do((*fleetJob).fleetWaves),
				Undo: fleetOf.Do((*fleetJob).fleetBack)},
			work.Step{Name: "rest", Title: "waiting for what is out of reach", Do: fleetOf.Do((*fleetJob).fleetRest)})),
		w.bookKind(),
	}
}

func (w *Service) manyKind(name, action, done string, steps []work.Step) *door.Kind {
	fleetOf := w.fleetSteps()
	return &door.Kind{Waves: true, WordAt: "word", Kind: &work.Kind{
		Name: name, Action: action, Steps: steps,
		End: fleetOf.End(func(r *fleetJob, state store.WorkState) (store.WorkEnd, error) {
			waves, err := r.Store.Waves(r.Ctx, r.Work.ID)
			if err != nil {
				return store.WorkEnd{}, err
			}
			all, shown, failed := 0, 0, 0
			for _, v := range waves {
				all, shown, failed = all+v.All, shown+v.Shown, failed+v.Failed
			}
			return store.WorkEnd{Outcome: door.OutcomeOf(fmt.Sprintf("%d of %d %s, %d failed or went back", shown,
				all, done, failed), append(r.D.Left, r.Work.Trouble)...), Target: "instances"}, nil
		}),
	}}
}

// fleetJob is a change on many instances in hand.
type fleetJob struct {
	door.Job[fleet, restore.ManyLeft]
	svc *Service
}

func (w *Service) fleetSteps() door.Family[*fleetJob] {
	return func() *fleetJob { return &fleetJob{svc: w} }
}

// PlanFleet says which instances a rotation of many would take, in which waves. FieldError.
func (w *Service) PlanFleet(ctx context.Context, f wire.Fleet) (wire.FleetPlan, error) {
	p, err := w.planMany(ctx, fleet{askedFleet: askedFleet(f)})
	if err == nil && f.Exposed {
		p.Found, err = w.foundBeside(ctx, p.Members)
	}
	return p, err
}

func (w *Service) planMany(ctx context.Context, f fleet) (wire.FleetPlan, error) {
	p := wire.FleetPlan{Members: []wire.FleetMember{}, Waves: []wire.FleetWave{}}
	members, left, err := w.chooseMembers(ctx, f)
	if err != nil {
		return p, err
	}
	policy, err := w.Policy(ctx)
	if err != nil {
		return p, err
	}
	p.Word, p.CutOff = policy.WordFor(len(members)), cutOffs(members)
	sizes := map[int]int{}
	for _, m := range members {
		p.Members = append(p.Members, m)
		sizes[m.Wave]++
	}
	for n := 1; n <= len(sizes); n++ {
		p.Waves = append(p.Waves, wire.FleetWave{Wave: n, All: sizes[n], ToDo: sizes[n]})
	}
	p.Members = append(p.Members, left...)
	return p, nil
}

// chooseMembers chooses the members, each with its wave, and tells what is left out.
func (w *Service) chooseMembers(ctx context.Context, f fleet) (members, left []wire.FleetMember, err error) {
	if f.Many != nil {
		return w.chooseMany(ctx, wire.AccessMany(*f.Many))
	}
	if f.Restore != nil {
		return w.chooseRestored(ctx, wire.RestoreMany(*f.Restore))
	}
	return w.chooseFleet(ctx, wire.Fleet(f.askedFleet))
}

// chooseFleet chooses those of a rotation.
func (w *Service) chooseFleet(ctx context.Context, f wire.Fleet) (members, left []wire.FleetMember, err error) {
	wrong := func(field, format string, a ...any) ([]wire.FleetMember, []wire.FleetMember, error) {
		return nil, nil, door.FieldError{Field: field, Problem: fmt.Sprintf(format, a...)}
	}
	if f.Key == "" && f.Tag == "" && !f.Due {
		return wrong("key", "say which: the old key, a tag, or what is due")
	}
	if (f.New == "") == (len(f.Pairs) == 0) && len(f.Pairs) > 0 {
		return wrong("new", "give one new key for all, or a pair for each")
	}
	if f.StopAfter < 0 || f.First < 0 || f.Grow < 0 || f.BackSeconds < 0 ||
		f.BackSeconds > int64(door.LongestGrace/time.Second) {
		return wrong("first", "waves, failures and times are not negative, and what is out of reach is waited for "+
			"at most a year")
	}
	if f.GraceSeconds != nil && (*f.GraceSeconds < 0 || *f.GraceSeconds > int64(door.LongestGrace/time.Second)) {
		return wrong("grace_seconds", "a grace time is 0, or at most a year")
	}
	pace := rotation.Pace{First: f.First, Grow: f.Grow}
	if f.AtMost != "" {
		if pace.AtMost, err = rotation.ParseShare(f.AtMost); err != nil {
			return wrong("at_most", "%v", err)
		}
	}
	if f.Exposed {
		if f.Key == "" || f.Tag != "" || f.Due {
			return wrong("exposed", "an exposed key is replaced wherever it opens: give that key alone")
		}
		pace.First = cmp.Or(f.First, noStop) // everywhere at once, as far as the bound allows
		if f.AtMost == "" {
			pace.AtMost = rotation.Share{Percent: 100}
		}
	}
	q := store.CandidateQuery{Tag: f.Tag, Limit: maxFleet + 1}
	if f.Key != "" {
		q.Keys = []string{f.Key}
		if _, err := w.Store.KeyAlone(ctx, f.Key); errors.Is(err, store.ErrNotFound) {
			err = w.UnknownKey(ctx, f.Key)
			if e, ok := errors.AsType[door.FieldError](err); ok {
				e.Field = "key"
				err = e
			}
			return nil, nil, err
		} else if err != nil {
			return nil, nil, err
		}
	}
	if f.Due {
		policy, err := w.Policy(ctx)
		if err != nil {
			return nil, nil, err
		}
		if policy.Rotation.Age == 0 && len(policy.Rotation.Ages) == 0 {
			return wrong("due", "the policy sets no age (rotation.age), so nothing is ever due")
		}
		q.Older = &store.DueAges{Tags: policy.Rotation.Ages, Else: time.Duration(policy.Rotation.Age)}
	}
	all, err := w.Store.Candidates(ctx, q)
	if err != nil {
		return nil, nil, err
	}
	if len(all) > maxFleet {
		return wrong("tag", "more than %d at once: choose fewer", maxFleet)
	}
	perInstance := map[string]int{}
	for _, c := range all {
		perInstance[c.Instance]++
	}
	for _, c := range all {
		m := wire.FleetMember{Instance: c.Instance, Old: c.Old, New: cmp.Or(f.New, f.Pairs[c.Instance]),
			State: "to do", Sole: c.Others == 0}
		switch {
		case strings.EqualFold(c.Old, m.New) && m.New != "":
			continue // it has the new key already
		case perInstance[c.Instance] > 1:
			m.State, m.Note = "left out", "several keys open it: say which with -key"
		case c.AtHand != 0:
			m.State, m.Note = "left out", fmt.Sprintf("work %d is at hand there with it", c.AtHand)
		case m.New == "" && len(f.Pairs) > 0:
			m.State, m.Note = "left out", "no pair was made for it"
		default:
			var out bool
			if out, m.Note = away(c.Phase, c.State, c.Steward); out {
				m.State = "left out"
			}
		}
		if m.State == "left out" {
			left = append(left, m)
		} else {
			members = append(members, m)
		}
	}
	return members, left, intoWaves(members, pace)
}

// mustBeExposed refuses to begin what is for an exposed key with one that nobody has recorded as such: a
// plan needs no such record. FieldError.
func (w *Service) mustBeExposed(ctx context.Context, exposed bool, key string) error {
	if !exposed {
		return nil
	}
	k, err := w.Store.KeyAlone(ctx, key)
	if err == nil && k.State != access.Exposed {
		return door.FieldError{Field: "key", Problem: fmt.Sprintf("%s is %s: \"plumlatch key exposed %s\" records that "+
			"somebody else may have it, and shows what follows", k.Name, k.State, k.Name)}
	}
	if errors.Is(err, store.ErrNotFound) {
		return nil // whoever chooses the instances says so
	}
	return err
}

// intoWaves gives each member its wave. FieldError.
func intoWaves(members []wire.FleetMember, pace rotation.Pace) error {
	// What can be reached comes first: the first wave has to show something.
	slices.SortStableFunc(members, func(a, b wire.FleetMember) int { return cmp.Compare(a.Note, b.Note) })
	sizes, err := rotation.Waves(len(members), pace)
	if err != nil {
		return door.FieldError{Field: "first", Problem: err.Error()}
	}
	at := 0
	for n, size := range sizes {
		for range size {
			members[at].Wave = n + 1
			at++
		}
	}
	return nil
}

// away tells why an instance cannot be taken now ("left out"), or not yet.
func away(phase store.Phase, state string, steward bool) (left bool, note string) {
	switch {
	case phase != store.Ready:
		return true, "it is " + string(phase)
	case !steward:
		return true, "it has no steward: nobody is there to edit its files"
	case state != "running":
		return false, "it is " + state + ": it is taken when it is back"
	}
	return false, ""
}

// RotateMany begins a rotation of many. FieldError, store.ErrReused.
func (w *Service) RotateMany(ctx context.Context, by store.Actor, once store.Once, f wire.Fleet) (store.Work, error) {
	if work, again, err := w.WorkDone(ctx, once); again || err != nil {
		return work, err
	}
	if f.New == "" && len(f.Pairs) == 0 {
		return store.Work{}, door.FieldError{Field: "new", Problem: "give one new key for all, or a pair for each"}
	}
	if err := w.mustBeExposed(ctx, f.Exposed, f.Key); err != nil {
		return store.Work{}, err
	}
	members, _, err := w.chooseFleet(ctx, f)
	if err != nil {
		return store.Work{}, err
	}
	if len(members) == 0 {
		return store.Work{}, door.FieldError{Field: "key", Problem: "there is no instance to rotate it on"}
	}
	for _, name := range newKeys(f) {
		k, err := w.Store.KeyAlone(ctx, name)
		if errors.Is(err, store.ErrNotFound) {
			err = w.UnknownKey(ctx, name)
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
	}
	if f.Exposed {
		if f.Contain, err = accesses.Networks("contain", f.Contain); err != nil {
			return store.Work{}, err
		}
		none := int64(0)
		f.GraceSeconds = &none
		f.StopAfter = cmp.Or(f.StopAfter, noStop)
	}
	keys, err := w.namedKeys(ctx, append(newKeys(f), f.Key)...)
	if err != nil {
		return store.Work{}, err
	}
	what := fmt.Sprintf("rotate %s on %s", cmp.Or(f.Key, f.Tag, "what is due"), door.Plural(len(members), "instance"))
	n := w.Begun(w.Named("rotate-many"), door.Words(errors.New(what)), door.Token(26), store.Instance{}, what,
		fleet{askedFleet: askedFleet(f), Keys: keys})
	n.Target = "instances"
	return w.BeginOf(ctx, by, once, store.Instance{}, n)
}

// Fleet shows the members of a rotation of many, and how far each is.
func (w *Service) Fleet(ctx context.Context, work store.Work) (wire.FleetPlan, error) {
	p := wire.FleetPlan{Members: []wire.FleetMember{}, Waves: []wire.FleetWave{}}
	rows, err := w.Store.Members(ctx, work.ID)
	if err != nil {
		return p, err
	}
	for _, m := range rows {
		out := wire.FleetMember{Instance: m.Instance, Old: m.OldKey, New: m.NewKey, Wave: m.Wave, State: m.State,
			Work: m.ChildID, Contained: m.Contained}
		if m.State == "failed" || m.State == "back later" {
			out.Note = m.Trouble
		}
		p.Members = append(p.Members, out)
	}
	var in fleet
	if err := door.Decode(work.Input, &in); err != nil {
		return p, err
	}
	p.AtOnce = in.Many == nil && in.Restore == nil && in.Book == nil && (in.Exposed || in.GraceSeconds != nil && *in.GraceSeconds == 0)
	if in.Exposed {
		if p.Found, err = w.foundBeside(ctx, p.Members); err != nil {
			return p, err
		}
	}
	if in.Book != nil {
		if p.Kept, err = w.Store.BookKept(ctx, work.ID, 200); err != nil {
			return p, err
		}
	}
	waves, err := w.Store.Waves(ctx, work.ID)
	for _, v := range waves {
		p.Waves = append(p.Waves, wire.FleetWave{Wave: v.Wave, All: v.All, ToDo: v.ToDo, Going: v.Going,
			Shown: v.Shown, Later: v.Later, Failed: v.Failed})
	}
	return p, err
}

// PauseFleet has no further wave begin until somebody lets it go on. store.ErrWorkState; a door.FieldError if
// all of it has begun.
func (w *Service) PauseFleet(ctx context.Context, by store.Actor, work store.Work) error {
	if !w.KindOf(work.Kind).Waves || work.Over() {
		return store.ErrWorkState
	}
	waves, err := w.Store.Waves(ctx, work.ID)
	if err != nil {
		return err
	}
	if len(waves) > 0 && !slices.ContainsFunc(waves, func(v store.WaveCount) bool { return v.ToDo+v.Later > 0 }) {
		return door.FieldError{Problem: fmt.Sprintf("all of it has begun, so there is nothing to pause; "+
			"plumlatch work show %d tells how far it is, and plumlatch work cancel %d takes it back", work.ID, work.ID)}
	}
	err = w.Store.Tell(ctx, work.ID, map[string]any{"paused": true}, "paused by "+by.Operator+
		": what has begun goes on, nothing else begins")
	w.Look()
	return err
}

// GoOnFleet lets a rotation of many go on: after a pause, or after failures,
// which are accepted by that. store.ErrWorkState.
func (w *Service) GoOnFleet(ctx context.Context, by store.Actor, work store.Work) error {
	if !w.KindOf(work.Kind).Waves || work.Over() {
		return store.ErrWorkState
	}
	waves, err := w.Store.Waves(ctx, work.ID)
	if err != nil {
		return err
	}
	failed := 0
	for _, v := range waves {
		failed += v.Failed
	}
	err = w.Store.Tell(ctx, work.ID, map[string]any{"paused": false, "go_on": failed},
		fmt.Sprintf("%s lets it go on", by.Operator))
	w.Look()
	return err
}

// fleetChoose keeps which instances it is about.
func (r *fleetJob) fleetChoose() error {
	if err := r.Reread(); err != nil {
		return err
	}
	if err := r.sameKeys(r.In); err != nil {
		return err
	}
	err := r.svc.mustBeExposed(r.Ctx, r.In.Exposed, r.In.Key)
	if err == nil && r.In.Restore != nil {
		err = r.svc.mustBeGone(r.Ctx, r.In.Restore.Key)
	}
	var members []wire.FleetMember
	if err == nil {
		members, _, err = r.svc.chooseMembers(r.Ctx, r.In)
	}
	if err != nil {
		return door.Failure{Reason: door.Words(err)}
	}
	if n := cutOffs(members); r.In.Many != nil && n > r.In.Many.CutOff {
		return door.Failf("nobody would get into %s any more, and %d was counted out: it changed meanwhile",
			door.Plural(n, "instance"), r.In.Many.CutOff)
	}
	var all []store.Member
	var ids []int64
	var called []string
	keys := map[string]int64{"": 0}
	for _, m := range members {
		called = append(called, m.Instance)
		for _, name := range []string{m.Old, m.New} {
			if _, known := keys[name]; known {
				continue
			}
			if _, print, _ := keypair.ParsePrint(name); print && strings.HasPrefix(name, "SHA256:") {
				keys[name] = 0 // nobody recorded it
				continue
			}
			k, err := r.Store.KeyAlone(r.Ctx, name)
			if errors.Is(err, store.ErrNotFound) {
				return door.Failf("the key %s has another name now, or is gone: nothing was begun", name)
			}
			if err != nil {
				return err
			}
			keys[name] = k.ID
		}
	}
	instances, err := r.Store.InstanceIDs(r.Ctx, called)
	if err != nil {
		return err
	}
	for n, m := range members {
		id, is := instances[names.Fold(m.Instance)]
		if !is {
			return door.Failf("the instance %s has another name now, or is gone: nothing was begun", m.Instance)
		}
		all = append(all, store.Member{N: n, InstanceID: id, OldKey: m.Old, NewKey: m.New, Wave: m.Wave, CutOff: m.CutOff,
			OldKeyID: keys[m.Old], NewKeyID: keys[m.New]})
		ids = append(ids, id)
	}
	if r.In.Exposed {
		if err := r.Store.DoubtHostKeys(r.Ctx, ids,
			fmt.Sprintf("%s was exposed (work %d)", r.In.Key, r.Work.ID)); err != nil {
			return err
		}
	}
	return r.Store.ChooseMembers(r.Ctx, r.Work.ID, all)
}

// fleetProof waits until every new key's private half was shown, once for all.
func (r *fleetJob) fleetProof() error {
	if err := r.Reread(); err != nil {
		return err
	}
	var missing []string
	for _, name := range r.In.newKeysOf() {
		k, err := r.svc.KeyOf(r.Ctx, name, r.In.Keys[name])
		if err != nil {
			return err
		}
		if _, within, err := r.Store.ShownSince(r.Ctx, k.ID, r.Work.ID); err != nil {
			return err
		} else if !within {
			missing = append(missing, name)
		}
	}
	if len(missing) == 0 {
		return nil
	}
	over, err := r.WaitOver()
	if err != nil {
		return err
	}
	if over {
		return door.Failf("nobody has shown the private half of %s within %s", missing[0],
			door.SpanWords(accesses.ProofLimit))
	}
	return r.Wait(wire.WaitsProof, fmt.Sprintf("the private half of %s to be shown (plumlatch key prove %s); if "+
		"nobody does, nothing is begun", missing[0], missing[0]), time.Second, accesses.ProofLimit)
}

// newKeysOf are the names of all new keys, each once.
func (f fleet) newKeysOf() []string { return newKeys(wire.Fleet(f.askedFleet)) }

func newKeys(f wire.Fleet) []string {
	if f.New != "" {
		return []string{f.New}
	}
	var out []string
	for _, name := range f.Pairs {
		out = append(out, name)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// fleetWaves begins wave after wave.
func (r *fleetJob) fleetWaves() error {
	for {
		if err := r.Stopping(); err != nil {
			return err
		}
		if err := r.Reread(); err != nil {
			return err
		}
		waves, err := r.Store.Waves(r.Ctx, r.Work.ID)
		if err != nil {
			return err
		}
		failed := 0
		for _, v := range waves {
			failed += v.Failed
		}
		at := slices.IndexFunc(waves, func(v store.WaveCount) bool { return v.ToDo+v.Going > 0 })
		if at < 0 {
			return nil
		}
		now := waves[at]
		switch stop := max(r.In.StopAfter, 1); {
		case now.ToDo > 0 && failed-r.In.GoOn >= stop:
			return r.fleetWait(wire.WaitsGoOn,
				fmt.Sprintf("a word, after %s: plumlatch work go-on %d, or back: plumlatch work cancel %d",
					door.Plural(failed, "failure"), r.Work.ID, r.Work.ID), time.Minute)
		case now.ToDo > 0 && r.In.Paused:
			return r.fleetWait(wire.WaitsGoOn,
				fmt.Sprintf("a word: it is paused; plumlatch work go-on %d", r.Work.ID), time.Minute)
		case now.ToDo > 0:
			busy, err := r.beginWave(r.In, now.Wave, len(waves))
			if err != nil {
				return err
			}
			if busy > 0 {
				return r.fleetWait(wire.WaitsOther,
					fmt.Sprintf("other work at hand on %s", door.Plural(busy, "instance")), time.Second)
			}
		default:
			return r.fleetWait(wire.WaitsParts,
				fmt.Sprintf("wave %d of %d to be shown to work", now.Wave, len(waves)), pollOf(waves))
		}
	}
}

// pollOf is how often the members are counted while a wave is at hand: the more there are, the less often.
func pollOf(waves []store.WaveCount) time.Duration {
	all := 0
	for _, v := range waves {
		all += v.All
	}
	return min(5*time.Second, 500*time.Millisecond+time.Duration(all)*time.Millisecond)
}

// fleetWait waits; its end is far away, as each part has an end of its own.
func (r *fleetJob) fleetWait(code, reason string, wake time.Duration) error {
	over, err := r.WaitOver()
	if err != nil {
		return err
	}
	if over {
		return door.Failf("it waited too long for %s", reason)
	}
	return r.Wait(code, reason, wake, pauseLimit)
}

// beginWave begins the part of each instance of a wave, and returns how many
// have to wait for other work on their instance.
func (r *fleetJob) beginWave(in fleet, wave, of int) (busy int, err error) {
	members, err := r.Store.Members(r.Ctx, r.Work.ID)
	if err != nil {
		return 0, err
	}
	by := store.Actor{Operator: r.Work.Operator, Address: r.Work.Address}
	begun := 0
	members = slices.DeleteFunc(members, func(m store.Member) bool { return m.Wave != wave || m.State != "to do" })
	for some := range slices.Chunk(members, partsAtOnce) {
		parts, err := r.partsOf(in, some, by)
		if err != nil {
			return busy, err
		}
		if len(parts) == 0 {
			continue
		}
		held, err := r.Store.BeginMembers(r.Ctx, r.Work.ID, by, parts)
		if err != nil {
			return busy, err
		}
		busy, begun = busy+len(held), begun+len(parts)-len(held)
		r.Look()
	}
	if begun == 0 {
		return busy, nil
	}
	return busy, r.Say("wave %d of %d: %s", wave, of, door.Plural(begun, "instance"))
}

// partsAtOnce are how many parts are planned and begun together.
const partsAtOnce = 50

// partsOf makes the parts of members. What is wrong with one is kept, and it is left out.
func (r *fleetJob) partsOf(in fleet, members []store.Member, by store.Actor) ([]store.Part, error) {
	var ids []int64
	for _, m := range members {
		ids = append(ids, m.InstanceID)
	}
	all, err := r.Store.InstancesAlone(r.Ctx, ids)
	if err != nil {
		return nil, err
	}
	known, err := r.svc.Know(r.Ctx, slices.Collect(maps.Values(all)))
	if err != nil {
		return nil, err
	}
	var parts []store.Part
	for _, m := range members {
		n, err := r.partOf(in, m, all[m.InstanceID], by, known)
		if _, wrong := errors.AsType[door.FieldError](err); wrong {
			if err := r.Store.MemberTrouble(r.Ctx, r.Work.ID, m.N, door.Words(err)); err != nil {
				return nil, err
			}
			continue
		}
		if err != nil {
			return nil, err
		}
		parts = append(parts, store.Part{Member: m, Work: n})
	}
	return parts, nil
}

// partOf makes the part of one member. FieldError.
func (r *fleetJob) partOf(in fleet, m store.Member, i store.Instance, by store.Actor,
	known *accesses.Known) (store.NewWork, error) {
	back := cmp.Or(time.Duration(in.BackSeconds)*time.Second, backLimit)
	if in.Book != nil {
		return r.bookPart(m, i, by)
	}
	if in.Many != nil {
		return r.accessPart(wire.AccessMany(*in.Many), m, i, by)
	}
	if in.Restore != nil {
		n, err := r.svc.PlanRestore(r.Ctx, i, wire.Restore{New: m.NewKey}, m.NewKeyID, r.Work.ID)
		return n, err
	}
	plan, part, err := r.svc.RotationPlan(r.Ctx, i,
		wire.Rotate{Old: m.OldKey, New: m.NewKey, GraceSeconds: in.GraceSeconds, Contain: in.Contain},
		m.OldKeyID, m.NewKeyID, known)
	if err != nil {
		return store.NewWork{}, err
	}
	part.ProofOf, part.Back = r.Work.ID, back
	return r.Begun(r.Named("rotate"), fmt.Sprintf("rotate %s to %s on %s", plan.Old, plan.New, i.Name),
		door.Token(26), i, fmt.Sprintf("put %s in the place of %s (part of work %d)", plan.New, plan.Old, r.Work.ID),
		part), nil
}

// fleetBack has every part that can go back do so, the last waves first.
func (r *fleetJob) fleetBack() error {
	members, err := r.Store.Members(r.Ctx, r.Work.ID)
	if err != nil {
		return err
	}
	slices.Reverse(members)
	open := 0
	for _, m := range members {
		if m.ChildID == 0 {
			continue
		}
		child, err := r.Store.WorkByID(r.Ctx, m.ChildID)
		if err != nil {
			return err
		}
		if child.Over() {
			continue
		}
		if !child.CancelAsked && !child.Back {
			err := r.Cancel(r.Ctx, store.Actor{Operator: r.Work.Operator, Address: r.Work.Address}, child)
			if _, late := errors.AsType[door.FieldError](err); late {
				continue // its old key is out: it goes on to its end
			}
			if err != nil && !errors.Is(err, store.ErrWorkState) {
				return err
			}
		}
		open++
	}
	if open == 0 {
		return nil
	}
	return r.Wait(wire.WaitsParts, door.Plural(open, "instance")+" to go back", 500*time.Millisecond, pauseLimit)
}

// fleetRest waits until every part is over: until then all can go back.
func (r *fleetJob) fleetRest() error {
	waves, err := r.Store.Waves(r.Ctx, r.Work.ID)
	if err != nil {
		return err
	}
	open, later := 0, 0
	for _, v := range waves {
		open, later = open+v.Open, later+v.Later
	}
	if open == 0 {
		return nil
	}
	over, err := r.WaitOver()
	if err != nil || over {
		return err
	}
	var what []string
	if open > later {
		what = append(what, "the old key's end on "+door.Plural(open-later, "instance"))
	}
	if later > 0 {
		what = append(what, door.Plural(later, "instance")+" out of reach to be back")
	}
	return r.Wait(wire.WaitsParts, strings.Join(what, "; "), 5*time.Second, door.LongestGrace+backLimit)
}
