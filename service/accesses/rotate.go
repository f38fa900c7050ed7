package accesses

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/plaintext"
	"plumlatch/core/rotation"
	"plumlatch/core/times"
	"plumlatch/core/wire"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// A rotation puts a new key in the place of an old one on one instance: new key
// in, shown to work, old key out. No step narrows or takes a key before another
// one was shown to be a way in (rule 1, core/rotation). If a step fails, our
// lines go back as they were.

// rotating is the input of the work.
type rotating struct {
	OldID int64  `json:"old_id"`
	NewID int64  `json:"new_id"`
	Old   string `json:"old"` // names, for words
	New   string `json:"new"`
	// Was is what the old key counted as when the work was asked for, NewWas the new
	// one: a mark that somebody sets meanwhile is no way round the guard.
	Was    rotation.Mark `json:"was"`
	NewWas rotation.Mark `json:"new_was"`
	Grace  time.Duration `json:"grace"`
	// ProofOf is the rotation of many that this is a part of: what was shown since
	// that began counts.
	ProofOf int64 `json:"proof_of,omitempty"`
	// Back is for how long to wait for an instance that is out of reach; 0 for answerLimit.
	Back time.Duration `json:"back,omitempty"`
	// Contain is a pattern list: until it is replaced, the old key is taken from there alone.
	Contain string `json:"contain,omitempty"`
	// Login is set when the engineer's client has logged in with the new key, and has
	// signed a challenge of this work with it.
	Login     bool   `json:"login"`
	LoginFrom string `json:"login_from"`
}

func (in rotating) Keys() (taken, added int64) { return in.OldID, in.NewID }

// rotated is what the steps keep, beside what was edited.
type rotated struct {
	door.Edits
	Stood      bool       `json:"stood,omitempty"`
	Forced     bool       `json:"forced,omitempty"`
	From       string     `json:"from,omitempty"`
	Ends       *time.Time `json:"ends,omitempty"`
	Enforced   bool       `json:"enforced,omitempty"`
	Why        string     `json:"why,omitempty"` // the server cannot enforce the end
	Options    string     `json:"options,omitempty"`
	Notes      []string   `json:"notes,omitempty"`
	NeedsLogin bool       `json:"login,omitempty"`
	Contained  bool       `json:"contained,omitempty"` // by from=, before the new key was added
	// ContainSaid tells whether it was contained, or why not.
	ContainSaid string `json:"contain_said,omitempty"`
}

// Facts implements store.Factual.
func (d rotated) Facts() store.Facts { return store.Facts{Contained: d.ContainSaid} }

// rotateJob is a rotation in hand.
type rotateJob struct{ door.Job[rotating, rotated] }

var rotateSteps door.Family[*rotateJob] = func() *rotateJob { return new(rotateJob) }

const ProofLimit = 24 * time.Hour // for the holder to show the private half

func (w *Service) rotateKind() *work.Kind {
	return &work.Kind{
		Name: "rotate", Action: "access.rotate", Changing: true,
		Steps: []work.Step{
			{Name: "contain", Title: "containing the exposed key", Do: rotateSteps.Do((*rotateJob).contain),
				Undo: rotateSteps.Do((*rotateJob).uncontain), Skip: rotateSteps.Skip((*rotateJob).notContained),
				Effects: []string{"edit"}, UndoEffects: []string{"put-back"}, BackLater: true},
			{Name: "add", Title: "reading what is there, and adding the new key",
				Do: rotateSteps.Do((*rotateJob).add), Undo: rotateSteps.Do((*rotateJob).addBack),
				Effects: []string{"append"}, UndoEffects: []string{"take-out"}, BackLater: true},
			{Name: "accept", Title: "asking the server whether it takes the new key, and the others still",
				Do: rotateSteps.Do((*rotateJob).accepted)},
			{Name: "proof", Title: "waiting for the new key's private half to be shown",
				Do: rotateSteps.Do((*rotateJob).proof)},
			{Name: "narrow", Title: "ending the old key", Do: rotateSteps.Do((*rotateJob).narrow),
				Undo: rotateSteps.Do((*rotateJob).widen), Effects: door.Takes, UndoEffects: door.PutsBack},
			{Name: "check", Title: "asking the server again", Do: rotateSteps.Do((*rotateJob).check), Settles: true},
			{Name: "settle", Title: "looking for what others wrote meanwhile", Do: rotateSteps.Do((*rotateJob).settle)},
			{Name: "grace", Title: "waiting for the end of the grace time", Do: rotateSteps.Do((*rotateJob).grace),
				Skip: rotateSteps.Skip((*rotateJob).noGrace)},
			{Name: "withdraw", Title: "withdrawing the old key", Do: rotateSteps.Do((*rotateJob).withdraw),
				Skip: rotateSteps.Skip((*rotateJob).noGrace), Effects: door.Takes, NoReturn: true},
			{Name: "last", Title: "asking the server a last time", Do: rotateSteps.Do((*rotateJob).last),
				Skip: rotateSteps.Skip((*rotateJob).noGrace), NoReturn: true}, // without one, that was the check
			{Name: "record", Title: "recording what opens it now", Do: rotateSteps.Do((*rotateJob).record),
				NoReturn: true},
		},
		End: rotateSteps.End((*rotateJob).endRotate),
	}
}

func (r *rotateJob) noGrace() bool { return r.In.Grace == 0 }

// PlanRotation says what a rotation would do, and checks that it can be begun.
// FieldError.
func (w *Service) PlanRotation(ctx context.Context, i store.Instance, r wire.Rotate) (wire.RotationPlan,
	rotating, error) {
	k, err := w.Know(ctx, []store.Instance{i})
	if err != nil {
		return wire.RotationPlan{}, rotating{}, err
	}
	return w.RotationPlan(ctx, i, r, 0, 0, k)
}

// PlanUnmade is PlanRotation with a pair that is not made yet: it shows what would happen. FieldError.
func (w *Service) PlanUnmade(ctx context.Context, i store.Instance, r wire.Rotate) (wire.RotationPlan, error) {
	k, err := w.Know(ctx, []store.Instance{i})
	if err != nil {
		return wire.RotationPlan{}, err
	}
	k.unmade, r.New = true, unmadePair
	p, _, err := w.RotationPlan(ctx, i, r, 0, 0, k)
	return p, err
}

// unmadePair is what a plan calls a pair that is not made yet; no key can be called so.
const unmadePair = "(a new pair)"

// Known is what rotations on some instances are planned by: read once for all of them.
type Known struct {
	rows   map[int64][]store.Access
	atHand []store.KeyWork
	keys   map[int64]store.Key
	// unmade tells that the new key is a pair that is to be made when this is begun.
	unmade bool
}

// Know reads what rotations on these instances are planned by.
func (w *Service) Know(ctx context.Context, all []store.Instance) (*Known, error) {
	var ids []int64
	for _, i := range all {
		ids = append(ids, i.ID)
	}
	k := &Known{keys: map[int64]store.Key{}}
	var err error
	if k.rows, err = w.Store.AccessesOfAll(ctx, ids); err != nil {
		return nil, err
	}
	k.atHand, err = w.Store.KeyWorks(ctx, ids...)
	return k, err
}

// key is KeyOf, once for each ID.
func (k *Known) key(ctx context.Context, w *Service, name string, id int64) (store.Key, error) {
	if key, known := k.keys[id]; known {
		return key, nil
	}
	key, err := w.KeyOf(ctx, name, id)
	if err == nil && id != 0 {
		k.keys[id] = key
	}
	return key, err
}

// RotationPlan is PlanRotation of keys that were chosen before: by their IDs, as
// their names may be others' now. 0 goes by the name.
func (w *Service) RotationPlan(ctx context.Context, i store.Instance, r wire.Rotate, oldID, newID int64,
	known *Known) (wire.RotationPlan, rotating, error) {
	p := wire.RotationPlan{Instance: i.Name, LoginUser: i.LoginUser, Keys: []wire.KeyBefore{}, Notes: []string{}}
	in := rotating{Grace: 24 * time.Hour}
	wrong := func(field, format string, a ...any) (wire.RotationPlan, rotating, error) {
		return p, in, door.FieldError{Field: field, Problem: fmt.Sprintf(format, a...)}
	}
	rows := known.rows[i.ID]
	if err := door.Editable(i, slices.ContainsFunc(rows, func(a store.Access) bool {
		return a.Steward && a.Blob != nil
	})); err != nil {
		return p, in, err
	}
	if r.GraceSeconds != nil {
		in.Grace = time.Duration(*r.GraceSeconds) * time.Second
		if *r.GraceSeconds < 0 || *r.GraceSeconds > int64(door.LongestGrace/time.Second) {
			return wrong("grace_seconds", "a grace time is 0, or at most a year")
		}
	}
	p.Grace = int64(in.Grace / time.Second)
	contain, err := Networks("contain", r.Contain)
	if err != nil {
		return p, in, err
	}
	in.Contain = strings.Join(contain, ",")
	if known.unmade {
		now := time.Now() // whoever makes it shows that it exists
		known.keys[-1], newID = store.Key{ID: -1, Name: r.New, State: access.InUse, ShownAt: &now}, -1
	}
	k, err := known.key(ctx, w, r.New, newID)
	if errors.Is(err, store.ErrNotFound) {
		err = w.UnknownKey(ctx, r.New)
		if e, ok := errors.AsType[door.FieldError](err); ok {
			e.Field = "new"
			err = e
		}
	}
	if err != nil {
		return p, in, err
	}
	if !known.unmade {
		if err := w.Placeable(ctx, i, k); err != nil {
			return p, in, err
		}
	}
	if n := slices.IndexFunc(rows, func(a store.Access) bool {
		return oldID != 0 && a.KeyID == oldID &&
			a.LoginUser == i.LoginUser
	}); n >= 0 {
		r.Old = rows[n].Key
	} else if oldID != 0 {
		return wrong("old", "%s is not recorded to open %s any more", r.Old, i.Name)
	}
	old, err := chooseOld(i, rows, r.Old, k)
	if err != nil {
		return p, in, err
	}
	if n := slices.IndexFunc(known.atHand, func(at store.KeyWork) bool {
		return isOf(at, i.ID, old.KeyID, k.ID)
	}); n >= 0 {
		at := known.atHand[n]
		return wrong("old", "work %d is at hand with one of these keys on %s: %s; \"plumlatch work show %d\" tells "+
			"how far it is", at.ID, i.Name, at.Title, at.ID)
	}
	in.OldID, in.Old, in.NewID, in.New = old.KeyID, old.Key, k.ID, k.Name
	in.Was, in.NewWas = rotation.Mark{Holder: old.HolderSort, State: old.OutOfUse()}, door.MarkOf(k)
	p.Old, p.New = old.Key, k.Name
	w.planWords(&p, in, rows, old, k)
	return p, in, nil
}

// KeyOf finds a key by its ID, or by its name where that is 0. store.ErrNotFound.
func (w *Service) KeyOf(ctx context.Context, name string, id int64) (store.Key, error) {
	if id != 0 {
		return w.Store.KeyByID(ctx, id)
	}
	return w.Store.KeyAlone(ctx, name)
}

// Placeable tells why a key cannot be put on an instance, as a FieldError.
func (w *Service) Placeable(ctx context.Context, i store.Instance, k store.Key) error {
	if err := w.Allowed(ctx, k, "new"); err != nil {
		return err
	}
	if i.Adopted {
		return nil
	}
	images, err := w.ImagesOf(ctx, i.Region)
	if err != nil {
		return nil // its kinds are not known; the server will say
	}
	for _, m := range images {
		if t := k.Public().Type(); m.Name == i.Image && !slices.Contains(m.KeyTypes, t) {
			return door.FieldError{Field: "new",
				Problem: fmt.Sprintf("key %s is %s, which image %s does not take", k.Name, t, m.Name),
				Choices: m.KeyTypes}
		}
	}
	return nil
}

// ImagesOf is the cloud's catalogue of a region, as it was at most a minute ago.
func (w *Service) ImagesOf(ctx context.Context, region string) ([]cloud.Image, error) {
	type held struct {
		images []cloud.Image
		at     time.Time
	}
	if h, ok := w.images.Load(region); ok && time.Since(h.(held).at) < time.Minute {
		return h.(held).images, nil
	}
	images, err := w.Clouds.Images(ctx, region)
	if err == nil {
		w.images.Store(region, held{images, time.Now()})
	}
	return images, err
}

// chooseOld finds the access of the old key: the named one, or the one that there is.
func chooseOld(i store.Instance, rows []store.Access, name string, new store.Key) (store.Access, error) {
	var all []store.Access
	var choices []string
	for _, a := range rows {
		if a.Steward || a.LoginUser != i.LoginUser || a.KeyID == new.ID && name == "" {
			continue
		}
		if strings.EqualFold(a.Key, name) {
			if a.KeyID == new.ID {
				return a, door.FieldError{Field: "new",
					Problem: "the new key is the old one: there is nothing to rotate"}
			}
			return a, nil
		}
		all, choices = append(all, a), append(choices, a.Key)
	}
	switch {
	case name != "":
		return store.Access{}, door.FieldError{Field: "old",
			Problem: fmt.Sprintf("%s is not recorded to open %s as %s", plaintext.Line(plaintext.Cut(name, 100)),
				i.Name, i.LoginUser), Choices: choices}
	case len(all) == 0:
		return store.Access{}, door.FieldError{Field: "old",
			Problem: fmt.Sprintf("no other key is recorded to open %s as %s", i.Name, i.LoginUser)}
	case len(all) > 1:
		return store.Access{}, door.FieldError{Field: "old",
			Problem: fmt.Sprintf("several keys open %s: say which one is to be replaced", i.Name), Choices: choices}
	}
	return all[0], nil
}

func (w *Service) planWords(p *wire.RotationPlan, in rotating, rows []store.Access, old store.Access, k store.Key) {
	stands := false
	for _, a := range rows {
		if a.Steward || a.LoginUser != old.LoginUser {
			continue
		}
		row := wire.KeyBefore{Key: a.Key, Holder: a.Holder, Before: "opens (" + a.Standing + ")", After: "opens"}
		if a.StandingOld {
			row.Before = "opens (" + a.Standing + ", old)"
		}
		if a.Until != nil {
			row.After = "opens until " + times.Show(a.Until.UTC())
		}
		switch {
		case a.ID == old.ID && in.Grace == 0:
			row.After = "withdrawn"
		case a.ID == old.ID:
			row.After = "opens for another " + door.SpanWords(in.Grace) + ", then withdrawn"
		case a.KeyID == k.ID:
			stands = true
		}
		p.Keys = append(p.Keys, row)
	}
	if !stands {
		p.Keys = append(p.Keys, wire.KeyBefore{Key: k.Name, Holder: k.Holder, Before: "", After: "opens"})
	}
	if k.ShownAt == nil {
		p.Notes = append(p.Notes, fmt.Sprintf("the private half of %s was never shown to exist; the work waits for that", k.Name))
	}
	if old.HolderSort != "" && k.HolderSort != "" && !strings.EqualFold(old.Holder, k.Holder) {
		p.Notes = append(p.Notes, fmt.Sprintf("%s is %s's, and %s is %s's: the door changes hands", old.Key,
			old.Holder, k.Name, k.Holder))
	}
}

// Rotate begins a rotation. FieldError, store.ErrInProgress, store.ErrReused.
func (w *Service) Rotate(ctx context.Context, by store.Actor, once store.Once, i store.Instance,
	r wire.Rotate) (store.Work, error) {
	if work, again, err := w.WorkDone(ctx, once); again || err != nil {
		return work, err
	}
	p, in, err := w.PlanRotation(ctx, i, r)
	if err != nil {
		return store.Work{}, err
	}
	intent := fmt.Sprintf("put %s in the place of %s", p.New, p.Old)
	if in.Grace > 0 {
		intent += ", which is accepted for another " + door.SpanWords(in.Grace)
	}
	return w.BeginOf(ctx, by, once, i, w.Begun(w.Named("rotate"),
		fmt.Sprintf("rotate %s to %s on %s", p.Old, p.New, i.Name), door.Token(26), i, intent, in))
}

// ReportNewLogin keeps what a client says of a login with the new key. It counts
// if the key has signed a challenge that names this work and instance; without one
// it is the client's word, and stands among the events alone. store.ErrWorkState.
func (w *Service) ReportNewLogin(ctx context.Context, by store.Actor, work store.Work, k store.Key, signed bool) error {
	if work.Kind != "rotate" && !w.KindOf(work.Kind).Restores || work.Over() {
		return store.ErrWorkState
	}
	var in rotating
	if err := door.Decode(work.Input, &in); err != nil {
		return err
	}
	if k.ID != in.NewID {
		return door.FieldError{Field: "fingerprint", Problem: "this is not the new key of the work"}
	}
	add, text := map[string]any{"login": true, "login_from": by.Address}, "a login with the new key, from "+
		by.Address+", was let in; the key has signed for it"
	if !signed {
		add, text = map[string]any{}, by.Operator+" says that a login with the new key, from "+by.Address+
			", was let in; that is a word, and counts for nothing"
	}
	err := w.Store.Tell(ctx, work.ID, add, text)
	w.Look()
	return err
}

// Rotating shows how far a rotation has come.
func (w *Service) Rotating(ctx context.Context, work store.Work) (*wire.Rotating, error) {
	if work.Kind != "rotate" && work.Kind != "access-add" && work.Kind != "access-remove" {
		return nil, nil
	}
	var d rotated
	if err := door.Decode(cmp.Or(work.Data, "{}"), &d); err != nil {
		return nil, err
	}
	var in struct {
		NewID int64 `json:"new_id"`
		OldID int64 `json:"old_id"`
	}
	if err := door.Decode(work.Input, &in); err != nil {
		return nil, err
	}
	var called [2]string
	for n, id := range []int64{in.NewID, in.OldID} {
		if k, err := w.Store.KeyByID(ctx, id); err == nil {
			called[n] = k.Name
		} else if !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
	}
	return &wire.Rotating{NewKey: called[0], OldKey: called[1], Options: d.Options, Notes: d.Notes, Ends: d.Ends, Enforced: d.Enforced,
		Why: d.Why, Login: d.NeedsLogin, Stays: d.Stays}, nil
}

func (r *rotateJob) endRotate(state store.WorkState) (store.WorkEnd, error) {
	if state != store.Done {
		now := fmt.Sprintf("the files are as they were, %s opens %s as before", r.In.Old, r.Instance.Name)
		if r.D.Stays != "" {
			now = fmt.Sprintf("both %s and %s open %s now. The line of %s stays; taking it out was refused: %s. "+
				"plumlatch access remove %s -key %s takes it out once another way in is shown",
				r.In.Old, r.In.New, r.Instance.Name, r.In.New, r.D.Stays, r.Instance.Name, r.In.New)
		}
		if r.D.Stays != "" && state == store.Stuck { // that is so, whatever else could not be taken back
			state = store.WentBack
		}
		return store.WorkEnd{Outcome: r.TookBack(state, now)}, nil
	}
	text := fmt.Sprintf("%s opens %s; %s is withdrawn", r.In.New, r.Instance.Name, r.In.Old)
	if r.D.Trouble != "" {
		text = fmt.Sprintf("%s opens %s; %s", r.In.New, r.Instance.Name, r.D.Trouble)
	}
	return store.WorkEnd{Outcome: text}, nil
}
