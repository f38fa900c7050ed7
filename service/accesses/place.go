package accesses

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// A key can be let in by the cloud's own agent, where a cloud has one: it keeps the key for the instance, and its agent places
// it there again and again. No steward is needed. "access remove" takes the entry off first (door.Takes).

// placing are the steps of that: a sharing without terms.
var placing door.Family[*placeJob] = func() *placeJob { return new(placeJob) }

// placedBy is what they keep.
//
//lint:ignore U1000 it is used, as an argument of Job
type placedBy struct {
	door.Edits
	Entry string `json:"entry,omitempty"` // as the cloud calls it
	Asked bool   `json:"asked,omitempty"` // the cloud was asked for it
}

type placeJob struct{ door.Job[sharing, placedBy] }

func (w *Service) accessPlaceKind() *work.Kind {
	return &work.Kind{
		Name: "access-place", Action: "access.place", Changing: true,
		Steps: []work.Step{
			{Name: "place", Title: "having the cloud place the key", Do: placing.Do((*placeJob).place), Undo: placing.Do((*placeJob).placeBack),
				Effects: []string{"keep"}, UndoEffects: []string{"take-off"}},
			{Name: "accept", Title: "asking the server whether it takes the key", Do: placing.Do((*placeJob).taken), Settles: true},
		},
		End: placing.End(func(r *placeJob, state store.WorkState) (store.WorkEnd, error) {
			switch {
			case state == store.Done:
				return store.WorkEnd{Outcome: fmt.Sprintf("%s opens %s; the cloud's agent places it", r.In.Key, r.Instance.Name)}, nil
			case r.D.Stays != "":
				return store.WorkEnd{Outcome: r.TookBack(store.WentBack, fmt.Sprintf("the cloud goes on placing %s on %s: %s. plumlatch access "+
					"remove %s -key %s takes it off once another way in is shown", r.In.Key, r.Instance.Name, r.D.Stays, r.Instance.Name, r.In.Key))}, nil
			}
			return store.WorkEnd{Outcome: r.TookBack(state, "the cloud keeps it for the instance no more")}, nil
		}),
	}
}

// place has the cloud keep the key for the instance.
func (r *placeJob) place() error {
	if r.InstanceGone() {
		return door.Failf("the instance is gone")
	}
	k, err := r.Store.KeyByID(r.Ctx, r.In.NewID)
	if err != nil {
		return err
	}
	if !r.D.Asked {
		has, err := r.IsPlaced(k)
		if err != nil {
			return err
		}
		if has {
			return door.Failf("the cloud places %s there already, and nobody wrote it down: \"plumlatch access record %s %s\" does", r.In.Key,
				r.Instance.Name, k.Fingerprint)
		}
		rows, err := r.Store.AccessesOf(r.Ctx, r.Instance.ID)
		if err != nil {
			return err
		}
		r.D.Others, r.D.Asked = acceptedOthers(rows, r.Instance.LoginUser), true
		if err := r.Keep(); err != nil {
			return err
		}
	}
	if err := r.Effect("keep", func(ctx context.Context) error { return r.askFor(ctx, k) }); err != nil {
		return err
	}
	if r.D.NewAccess, err = r.Store.Place(r.Ctx, r.Instance.ID, k.ID, r.Instance.LoginUser, "the cloud's agent", false); err != nil {
		return err
	}
	r.D.Added = true
	return r.Keep()
}

// askFor asks the cloud to keep it, always under one token, so that it is one entry.
func (r *placeJob) askFor(ctx context.Context, k store.Key) error {
	entry, err := r.SetByCloud(ctx, r.TokenOf("place", "keep"), k)
	if err != nil {
		return err
	}
	r.D.Entry = entry
	return r.Keep()
}

// taken waits until the server takes the key: the agent needs a moment.
func (r *placeJob) taken() error {
	if r.InstanceGone() {
		return door.Failf("the instance is gone")
	}
	left, err := r.Left(min(agentLimit, r.StateLimit))
	if err != nil {
		return err
	}
	if err := r.UntilAccepted(r.In.NewID, left); err != nil {
		return err
	}
	answers, err := r.AskServer(append([]int64{r.D.NewAccess}, r.D.Others...)...)
	if err != nil {
		return err
	}
	if err := r.OthersStill(answers); err != nil {
		return err
	}
	if answers[r.D.NewAccess] != reach.Accepted {
		return door.Failf("the server does not take %s, which the cloud's agent was to place: is the agent on its image?", r.In.Key)
	}
	return nil
}

// agentLimit is how long a cloud's agent may need.
const agentLimit = 2 * time.Minute

// placeBack has the cloud keep it no more, unless that could lock somebody out: it may be the only way in by now.
func (r *placeJob) placeBack() error {
	if !r.D.Asked {
		return nil
	}
	if err := r.findNew(); err != nil {
		return err
	}
	if r.InstanceGone() {
		return r.DropNew()
	}
	stays, err := r.onlyWayIn()
	if err != nil {
		return err
	}
	if r.D.Stays = stays; stays != "" {
		return errors.Join(r.Keep(), r.Say("%s stays: %s", r.In.Key, stays))
	}
	k, err := r.Store.KeyByID(r.Ctx, r.In.NewID)
	if err != nil {
		return err
	}
	if err := r.Effect("take-off", func(ctx context.Context) error {
		if r.D.Entry == "" { // asked once more under its token, it cannot come late
			if err := r.askFor(ctx, k); err != nil {
				if no, ok := errors.AsType[door.Failure](err); ok && no.Reason != "" {
					return nil // it was refused, so there is none
				}
				return err
			}
		}
		_, err := door.Asked(ctx, r.Run, func(ctx context.Context) (struct{}, error) {
			return struct{}{}, r.Cloud.UnplaceKey(ctx, r.ClientToken("take-off"), r.D.Entry)
		})
		return err
	}); err != nil && !errors.Is(err, cloud.ErrNotFound) {
		return err
	}
	if err := r.seeOff(k); err != nil {
		return err
	}
	if err := r.DropNew(); err != nil {
		return err
	}
	_, err = r.AskServer(r.D.Others...) // as of now, without it
	return err
}

// findNew finds the access that was recorded and not kept: there was none of the key when the work was asked for.
func (r *placeJob) findNew() error {
	if r.D.NewAccess != 0 {
		return nil
	}
	rows, err := r.Store.AccessesOf(r.Ctx, r.Instance.ID)
	if n := slices.IndexFunc(rows, func(a store.Access) bool { return a.KeyID == r.In.NewID && a.LoginUser == r.Instance.LoginUser }); n >= 0 {
		r.D.NewAccess, r.D.Added = rows[n].ID, true
	}
	return err
}

// seeOff waits a while until the agent has taken the line out again. One that stays is said: a survey finds it.
func (r *placeJob) seeOff(k store.Key) error {
	if r.D.NewAccess == 0 {
		return nil
	}
	answer, err := r.SeeOff(k)
	if err == nil && answer != reach.Refused {
		err = r.Say("the cloud keeps %s for it no more, and whether its line is out is not seen: %s", r.In.Key, answer)
	}
	return err
}

// onlyWayIn says why the key stays: the server takes it, and none of those that it took before.
func (r *placeJob) onlyWayIn() (string, error) {
	if r.D.NewAccess == 0 {
		return "", nil
	}
	answers, err := r.AskServer(append([]int64{r.D.NewAccess}, r.D.Others...)...)
	if err != nil {
		return "", err
	}
	if answers[r.D.NewAccess] != reach.Accepted || slices.ContainsFunc(r.D.Others, func(id int64) bool { return answers[id] == reach.Accepted }) {
		return "", nil
	}
	return "it is the only key of a person that the server is seen to take", nil
}

// PlaceByCloud has the cloud's own agent let a key in. FieldError, store.ErrInProgress, store.ErrReused.
func (w *Service) PlaceByCloud(ctx context.Context, by store.Actor, once store.Once, i store.Instance, p wire.PlaceKey) (store.Work, error) {
	if work, again, err := w.WorkDone(ctx, once); again || err != nil {
		return work, err
	}
	wrong := func(format string, a ...any) (store.Work, error) {
		return store.Work{}, door.FieldError{Field: "instance", Problem: fmt.Sprintf(format, a...)}
	}
	if err := door.Editable(i, true); err != nil { // no steward is needed
		return store.Work{}, err
	}
	switch {
	case i.Adopted || i.CloudID == "":
		return wrong("no cloud of ours is behind %s: nobody places a key there", i.Name)
	case w.CloudOf(i).Properties().Places == nil:
		return wrong("this cloud has no agent that places keys: plumlatch access add %s -key %s", i.Name, plaintext.Line(plaintext.Cut(p.Key, 100)))
	case i.Image != "" && w.CloudOf(i).Properties().Places.Images != nil && !slices.Contains(w.CloudOf(i).Properties().Places.Images, i.Image):
		return wrong("the cloud's agent is not on its image (%s): plumlatch access add %s -key %s", i.Image, i.Name, plaintext.Line(plaintext.Cut(p.Key, 100)))
	case i.State != string(cloud.Running):
		return wrong("%s is %s: its server could not be asked whether it takes the key", i.Name, i.State)
	}
	if first, err := w.FirstEntry(ctx, i); err != nil {
		return store.Work{}, err
	} else if first { // a restore asks who may, and waits for a word if the policy says so
		return wrong("nobody of the ledger was shown to get into it yet: plumlatch restore %s", i.Name)
	}
	if err := w.MayShare(ctx, by, i); err != nil {
		return store.Work{}, err
	}
	in, err := w.CheckTerms(ctx, wire.AccessAdd{Key: p.Key, Reason: p.Reason})
	if err != nil {
		return store.Work{}, err
	}
	k, err := w.KeyOf(ctx, p.Key, 0)
	if errors.Is(err, store.ErrNotFound) {
		err = w.UnknownKey(ctx, p.Key)
	}
	if err == nil {
		err = w.Placeable(ctx, i, k)
	}
	if e, ok := errors.AsType[door.FieldError](err); ok {
		e.Field = "key"
		return store.Work{}, e
	}
	if err == nil {
		err = w.NotAtHand(ctx, i, k.ID)
	}
	if err != nil {
		return store.Work{}, err
	}
	rows, err := w.Store.AccessesOf(ctx, i.ID)
	if err != nil {
		return store.Work{}, err
	}
	if slices.ContainsFunc(rows, func(a store.Access) bool { return a.KeyID == k.ID && a.LoginUser == i.LoginUser }) {
		return store.Work{}, door.FieldError{Field: "key", Problem: fmt.Sprintf("%s is recorded to open %s already", k.Name, i.Name)}
	}
	in.NewID, in.Key, in.Was = k.ID, k.Name, door.MarkOf(k)
	return w.BeginOf(ctx, by, once, i, w.Begun(w.Named("access-place"), fmt.Sprintf("have the cloud place %s on %s", k.Name, i.Name), door.Token(26), i,
		"have the cloud's agent let "+k.Name+" in"+termWords(in), in))
}
