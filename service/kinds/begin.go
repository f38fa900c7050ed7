package kinds

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"plumlatch/service/cloud"
	"plumlatch/service/store"
)

func decode(text string, into any) error { return json.Unmarshal([]byte(text), into) }

// replayed answers a request that was done already with its instance.
func (w *Worker) replayed(ctx context.Context, err error) (store.Instance, bool, error) {
	done, ok := errors.AsType[store.Replayed](err)
	if !ok {
		return store.Instance{}, false, err
	}
	i, err := w.Store.InstanceByID(ctx, done.InstanceID)
	i.WorkID = done.WorkID
	return i, true, err
}

// Launch records the launch as work. A request that was done already is
// answered with its instance. Errors: FieldError, store.ErrNameTaken, store.ErrReused.
func (w *Worker) Launch(ctx context.Context, by store.Actor, once store.Once, r LaunchRequest) (store.Instance, []string, error) {
	// Before anything else: what has changed since the first time does not matter.
	if i, again, err := w.replayed(ctx, w.Store.Seen(ctx, once)); again || err != nil {
		return i, nil, err
	}
	p, err := w.Plan(ctx, r)
	if err != nil {
		return store.Instance{}, nil, err
	}
	sealed, err := w.encrypt(ctx, p.steward)
	if err != nil {
		return store.Instance{}, nil, err
	}
	n := store.NewInstance{
		Instance: store.Instance{
			Name: r.Name, Alias: p.alias, Cloud: w.Cloud.Name(), Region: r.Region, Zone: r.Zone, Image: r.Image, Size: r.Size, DiskGB: r.DiskGB, Tags: r.Tags,
			LoginUser: p.Image.LoginUser, UserData: p.UserData, Phase: store.Launching, State: string(cloud.Pending), Port: 22,
		},
		Steward: p.steward.Public, StewardSealed: sealed,
	}
	if len(p.Keys) > 0 { // as clouds show it: the first key of the launch
		n.KeyLabel = p.Keys[0].Name
	}
	var names []string
	for _, k := range p.Keys {
		n.KeyIDs = append(n.KeyIDs, k.ID)
		names = append(names, k.Name)
	}
	with := "with no key"
	if len(names) > 0 {
		with = "with " + strings.Join(names, ", ")
	}
	n.Work = w.begun(w.kind("launch"), "launch "+r.Name, token(26), n.Instance, fmt.Sprintf("launch %s, %s in %s %s", r.Image, r.Size, r.Region, with), nil)
	i, err := w.Store.AddInstance(ctx, by, once, n)
	if i, again, err := w.replayed(ctx, err); again || err != nil {
		return i, p.Warnings, err
	}
	w.look()
	return i, p.Warnings, err
}

// Change begins to stop, start or remove an instance at rest, by the phase
// that stands for it. store.ErrInProgress, or a FieldError for one that is in
// no state for it.
func (w *Worker) Change(ctx context.Context, by store.Actor, once store.Once, i store.Instance, phase store.Phase) (store.Instance, error) {
	if i, again, err := w.replayed(ctx, w.Store.Seen(ctx, once)); again || err != nil {
		return i, err
	}
	n := slices.IndexFunc(w.kinds, func(k *Kind) bool { return k.Phase == phase })
	k := w.kinds[n]
	switch {
	case i.Adopted && phase != store.Removing:
		return store.Instance{}, FieldError{Field: "state", Problem: "it was adopted: no cloud of ours is behind it, so it cannot be stopped or started from here"}
	case phase == store.Stopping && i.State == string(cloud.Stopped), phase == store.Starting && i.State == string(cloud.Running):
		return store.Instance{}, FieldError{Field: "state", Problem: fmt.Sprintf("the instance is %s already", i.State)}
	case phase != store.Removing && i.Phase == store.Failed:
		return store.Instance{}, FieldError{Field: "state", Problem: "its launch failed; remove it, and launch again"}
	}
	err := w.Store.BeginChange(ctx, by, once, i, phase, w.begun(k, k.Name+" "+i.Name, token(26), i, k.Name, was{i.Phase}))
	if i, again, err := w.replayed(ctx, err); again || err != nil {
		return i, err
	}
	w.look()
	return w.Store.InstanceByID(ctx, i.ID)
}
