package network

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"plumlatch/core/access"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// staticAddress is the input of work on a static address.
type staticAddress struct {
	ID     string `json:"id"`
	Name   string `json:"name"`
	Region string `json:"region"`
	// Of and To are the instances that had it and that get it, as the cloud
	// calls them; "" for none.
	Of string `json:"of"`
	To string `json:"to"`
}

func (r *addressJob) addressTarget() string { return "static-address " + r.In.Name }

// reserved is what reserving came to.
type reserved struct {
	ID      string `json:"id"`
	Address string `json:"address"`
	Asked   bool   `json:"asked"` // the cloud was asked; its answer may have been lost
}

func (w *Service) reserveKind() *work.Kind {
	return &work.Kind{
		Name: "address-reserve", Action: "static-address.reserve",
		Steps: []work.Step{{Name: "reserve", Title: "asking the cloud for an address", Effects: []string{"reserve"},
			Do: addressSteps.Do((*addressJob).reserve), Undo: addressSteps.Do((*addressJob).unreserve),
			UndoEffects: []string{"release"}}},
		End: addressSteps.End(func(r *addressJob, state store.WorkState) (store.WorkEnd, error) {
			if state != store.Done {
				return store.WorkEnd{Target: r.addressTarget(), Outcome: r.TookBack(state, door.AllTakenBack)}, nil
			}
			return store.WorkEnd{Target: r.addressTarget(),
				Outcome: fmt.Sprintf("%s is reserved as %s", r.D.Address, r.In.Name)}, nil
		}),
	}
}

func (r *addressJob) reserve() error {
	if err := r.SetData(reserved{Asked: true}); err != nil {
		return err
	}
	return r.Effect("reserve", func(ctx context.Context) error {
		a, err := r.askAddress(ctx)
		if err != nil {
			return err
		}
		return r.SetData(reserved{a.ID, a.Address, true})
	})
}

// askAddress asks the cloud for the address: again under the same token it is
// the same one, and whatever of it comes late does nothing.
func (r *addressJob) askAddress(ctx context.Context) (cloud.StaticAddress, error) {
	return door.Asked(ctx, r.Run, func(ctx context.Context) (cloud.StaticAddress, error) {
		c, err := r.Clouds.Still(ctx, r.In.Region)
		if err != nil {
			return cloud.StaticAddress{}, err
		}
		return c.Reserve(ctx, r.ClientToken("reserve"), r.In.Region, r.In.Name)
	})
}

// unreserve gives back what was reserved, also when the cloud's answer was lost.
func (r *addressJob) unreserve() error {
	if !r.D.Asked {
		return nil
	}
	return r.release(r.D.ID)
}

// release gives an address back; "" is the one that this work has asked for.
func (r *addressJob) release(id string) error {
	err := r.Effect("release", func(ctx context.Context) error {
		if id == "" {
			a, err := r.askAddress(ctx)
			if errors.Is(err, cloud.ErrRefused) {
				return nil // it never came to one
			}
			if err != nil {
				return err
			}
			id = a.ID
		}
		_, err := door.Asked(ctx, r.Run, func(ctx context.Context) (struct{}, error) {
			c, err := r.Clouds.Still(ctx, r.In.Region)
			if err != nil {
				return struct{}{}, err
			}
			return struct{}{}, c.Release(ctx, r.ClientToken("release"), id)
		})
		return err
	})
	if errors.Is(err, cloud.ErrNotFound) {
		return nil
	}
	return err
}

func (w *Service) releaseKind() *work.Kind {
	return &work.Kind{
		Name: "address-release", Action: "static-address.release",
		Steps: []work.Step{{Name: "release", Title: "giving the address back", Effects: []string{"release"},
			NoReturn: true, Do: addressSteps.Do(func(r *addressJob) error { return r.release(r.In.ID) })}},
		End: addressSteps.End(func(r *addressJob, state store.WorkState) (store.WorkEnd, error) {
			if state != store.Done {
				return store.WorkEnd{Target: r.addressTarget(), Outcome: r.TookBack(state, door.AllTakenBack)}, nil
			}
			return store.WorkEnd{Target: r.addressTarget(), Outcome: r.In.Name +
				" was given back; its address may be a stranger's from now on"}, nil
		}),
	}
}

func (w *Service) moveKind() *work.Kind {
	moveOf := w.moveSteps()
	return &work.Kind{
		Name: "address-move", Action: "static-address.move", Changing: true,
		Steps: []work.Step{
			{Name: "move", Title: "moving the address", Effects: []string{"move"},
				Do:   moveOf.Do((*moveJob).moveAddress),
				Undo: moveOf.Do((*moveJob).moveBack), UndoEffects: []string{"move"}},
			{Name: "follow", Title: "taking down where the instances are now", NoReturn: true,
				Do: moveOf.Do((*moveJob).followMoved)},
			{Name: "probe", Title: "asking the server which keys it takes", Do: moveOf.Do((*moveJob).knownHost),
				Skip: moveOf.Skip(func(r *moveJob) bool { return r.Instance.Address == "" })},
		},
		End: moveOf.End(func(r *moveJob, state store.WorkState) (store.WorkEnd, error) {
			if state != store.Done {
				return store.WorkEnd{Outcome: r.TookBack(state, door.AllTakenBack)}, nil
			}
			what := fmt.Sprintf("%s is at %s now", r.Instance.Name, cmp.Or(r.Instance.Address, "no address"))
			switch {
			case r.In.To != "" && r.Instance.Address == "":
				what = fmt.Sprintf("%s has %s, and is at it when it is started", r.Instance.Name, r.In.Name)
			case r.In.To != "":
				what = fmt.Sprintf("%s has %s: %s", r.Instance.Name, r.In.Name, r.Instance.Address)
			}
			// Trouble makes the end of the work the instance's: see EndWork.
			return store.WorkEnd{Phase: store.Ready, Trouble: r.D.Trouble, TroubleCode: r.D.Code,
				Outcome: door.OutcomeOf(what, r.D.Trouble)}, nil
		}),
	}
}

// moveBack gives the address back to whoever had it. The dynamic one that the
// instance had before cannot be had again; its address of now is recorded instead.
func (r *moveJob) moveBack() error {
	if !r.D.Asked {
		return nil
	}
	in := r.In
	if err := r.Effect("move", func(ctx context.Context) error {
		// A move that has not happened yet would come late, and undo this.
		if err := r.moveTo(ctx, in.To); err != nil {
			return err
		}
		return r.moveTo(ctx, in.Of)
	}); err != nil {
		return err
	}
	return r.followMoved()
}

func (r *moveJob) moveAddress() error {
	if err := r.SetData(door.Found{Asked: true}); err != nil {
		return err
	}
	return r.Effect("move", func(ctx context.Context) error { return r.moveTo(ctx, r.In.To) })
}

func (r *moveJob) moveTo(ctx context.Context, to string) error {
	_, err := door.Asked(ctx, r.Run, func(ctx context.Context) (cloud.StaticAddress, error) {
		return r.Cloud.Move(ctx, r.ClientToken("move-"+to), r.In.ID, to)
	})
	return err
}

// followMoved takes down the addresses of the instance that the work is about,
// and of the one that lost the address to it.
func (r *moveJob) followMoved() error {
	in, err := r.Get(r.Instance.CloudID)
	if err != nil {
		return err
	}
	if err := r.Note(in); err != nil {
		return err
	}
	if r.Instance, err = r.Store.InstanceByID(r.Ctx, r.Instance.ID); err != nil {
		return err
	}
	if of := r.In.Of; of != "" && of != r.Instance.CloudID {
		others, err := r.Store.InstancesOf(r.Ctx, r.Instance.Cloud, []string{of})
		if err != nil {
			return err
		}
		for _, o := range others {
			if _, err := r.svc.Refresh(r.Ctx, store.Service, o); err != nil {
				return err
			}
		}
	}
	return nil
}

// StaticAddresses returns the static addresses of a region, or all, with the
// ledger's name of whoever has each.
func (w *Service) StaticAddresses(ctx context.Context, region string) ([]wire.StaticAddress, error) {
	all, err := w.Clouds.StaticAddresses(ctx, region)
	if err != nil {
		return nil, err
	}
	ids := map[string][]string{}
	for _, a := range all {
		if a.Of.Instance != "" {
			ids[a.Cloud.Name()] = append(ids[a.Cloud.Name()], a.Of.Instance)
		}
	}
	type at struct{ cloud, id string }
	known := map[at]string{}
	for name, some := range ids {
		rows, err := w.Store.InstancesOf(ctx, name, some)
		if err != nil {
			return nil, err
		}
		for _, i := range rows {
			known[at{name, i.CloudID}] = i.Name
		}
	}
	out := []wire.StaticAddress{}
	for _, o := range all {
		a := o.Of
		out = append(out, wire.StaticAddress{ID: a.ID, Name: plaintext.Line(a.Name), Region: a.Region, Address: a.Address,
			CloudID: a.Instance, Instance: known[at{o.Cloud.Name(), a.Instance}], Price: w.AddressPrice(ctx, o.Cloud)})
	}
	return out, nil
}

// staticByName finds a static address by its name, its address or the cloud's own word for it.
func (w *Service) staticByName(ctx context.Context, name string) (none cloud.Owned[cloud.StaticAddress], err error) {
	all, err := w.Clouds.StaticAddresses(ctx, "")
	if err != nil {
		return none, err
	}
	var choices []string
	for _, o := range all {
		if a := o.Of; a.Name == name || a.Address == name || a.ID == name {
			return o, nil
		}
		choices = append(choices, o.Of.Name)
	}
	return none, door.FieldError{Field: "name", Problem: "there is no such static address",
		Choices: choices}
}

// Reserve begins to reserve a static address. FieldError, store.ErrReused.
func (w *Service) Reserve(ctx context.Context, by store.Actor, once store.Once, n wire.NewStaticAddress) (store.Work,
	error) {
	if err := names.Check(n.Name); err != nil {
		return store.Work{}, door.FieldError{Field: "name", Problem: err.Error()}
	}
	regions, err := w.Clouds.Regions(ctx)
	if err != nil {
		return store.Work{}, err
	}
	var choices []string
	for _, r := range regions {
		choices = append(choices, r.Name)
	}
	if !slices.Contains(choices, n.Region) {
		return store.Work{}, door.FieldError{Field: "region", Problem: "there is no such region", Choices: choices}
	}
	c, err := w.Clouds.In(ctx, n.Region)
	if err != nil {
		return store.Work{}, err
	}
	if c.Properties().NoStaticAddresses {
		return store.Work{}, door.FieldError{Field: "region", Problem: "this cloud has no addresses to reserve: each instance has its own for its life"}
	}
	if err := c.Properties().Names.Check(n.Name); err != nil {
		return store.Work{}, door.FieldError{Field: "name", Problem: err.Error()}
	}
	all, err := w.Clouds.StaticAddresses(ctx, "")
	if err != nil {
		return store.Work{}, err
	}
	in := staticAddress{Name: n.Name, Region: n.Region}
	begun := w.Begun(w.Named("address-reserve"), "reserve "+n.Name, door.Token(26), store.Instance{},
		"reserve an address in "+n.Region+" as "+n.Name, in)
	begun.Target = "static-address " + n.Name
	if slices.ContainsFunc(all, func(a cloud.Owned[cloud.StaticAddress]) bool { return a.Of.Name == n.Name }) {
		if done, ok := errors.AsType[store.Replayed](w.Store.Seen(ctx, once)); ok {
			return w.Store.WorkByID(ctx, done.WorkID)
		}
		return store.Work{}, store.ErrNameTaken
	}
	return w.BeginOf(ctx, by, once, store.Instance{}, begun)
}

// MoveAddress begins to give a static address to an instance, or to take it
// away, with the zero Instance. FieldError, store.ErrInProgress, store.ErrReused.
func (w *Service) MoveAddress(ctx context.Context, by store.Actor, once store.Once, name string,
	to store.Instance) (store.Work, error) {
	found, err := w.staticByName(ctx, name)
	if err != nil {
		return store.Work{}, err
	}
	a, i := found.Of, to
	if to.ID != 0 {
		if err := door.CloudBehind(to); err != nil {
			return store.Work{}, err
		}
		if to.Region != a.Region {
			return store.Work{}, door.FieldError{Field: "instance",
				Problem: fmt.Sprintf("%s is in %s, and the address is of %s", to.Name, to.Region, a.Region)}
		}
	} else {
		of, err := w.Store.InstancesOf(ctx, found.Cloud.Name(), []string{a.Instance})
		if err != nil {
			return store.Work{}, err
		}
		if a.Instance == "" || len(of) == 0 {
			return store.Work{}, door.FieldError{Field: "instance", Problem: "no instance that is known here has it"}
		}
		i = of[0]
	}
	intent := fmt.Sprintf("give it %s (%s)", plaintext.Line(a.Name), a.Address)
	if to.ID == 0 {
		intent = fmt.Sprintf("take %s (%s) from it", plaintext.Line(a.Name), a.Address)
	}
	in := staticAddress{ID: a.ID, Name: plaintext.Line(a.Name), Region: a.Region, Of: a.Instance, To: to.CloudID}
	return w.BeginOf(ctx, by, once, i, w.Begun(w.Named("address-move"), "move "+plaintext.Line(a.Name)+" to "+
		cmp.Or(to.Name, "nobody"), door.Token(26), i, intent, in))
}

// Release begins to give a static address back. FieldError, store.ErrReused.
func (w *Service) Release(ctx context.Context, by store.Actor, once store.Once, name string) (store.Work, error) {
	found, err := w.staticByName(ctx, name)
	a := found.Of
	if err != nil {
		if done, ok := errors.AsType[store.Replayed](w.Store.Seen(ctx, once)); ok {
			return w.Store.WorkByID(ctx, done.WorkID)
		}
		return store.Work{}, err
	}
	if a.Instance != "" {
		return store.Work{}, door.FieldError{Field: "name",
			Problem: "an instance has it; move it away first: plumlatch static-address move " + plaintext.Line(a.Name)}
	}
	in := staticAddress{ID: a.ID, Name: plaintext.Line(a.Name), Region: a.Region}
	n := w.Begun(w.Named("address-release"), "release "+plaintext.Line(a.Name), door.Token(26), store.Instance{},
		"give "+a.Address+" back", in)
	n.Target = "static-address " + plaintext.Line(a.Name)
	return w.BeginOf(ctx, by, once, store.Instance{}, n)
}

// Refresh asks the cloud for the state and the address of an instance, and
// takes them down. At another address, its host key is compared, and its keys
// are asked about, if it is the recorded one.
func (w *Service) Refresh(ctx context.Context, by store.Actor, i store.Instance) (wire.Refreshed, error) {
	out := wire.Refreshed{Before: placeWords(i.State, i.Address)}
	if err := door.CloudBehind(i); err != nil {
		return out, err
	}
	in, err := w.CloudOf(i).Get(ctx, i.CloudID)
	if errors.Is(err, cloud.ErrNotFound) || err == nil && in.State == cloud.Removed {
		out.Now = "gone: the cloud knows it no more"
		return out, w.Store.SetTrouble(ctx, i.ID, "", "the cloud knows it no more: somebody removed it there")
	}
	if err != nil {
		return out, err
	}
	out.Now = placeWords(string(in.State), in.Address)
	if in.Port == 0 {
		in.Port = 22
	}
	if out.Changed, err = w.Store.Followed(ctx, by, i, string(in.State), in.Address, in.Port,
		in.Static); err != nil || !out.Changed || in.Address == "" || in.Address == i.Address {
		return out, err
	}
	if i, err = w.Store.InstanceByID(ctx, i.ID); err != nil {
		return out, err
	}
	return out, w.askAgain(ctx, i)
}

// Readdress takes down the address that an adopted instance has now, if its
// recorded host key answers there. FieldError.
func (w *Service) Readdress(ctx context.Context, by store.Actor, i store.Instance, r wire.Refresh) (wire.Refreshed,
	error) {
	out := wire.Refreshed{Before: fmt.Sprintf("%s port %d", i.Address, i.Port)}
	if !i.Adopted {
		return out, door.FieldError{Field: "address", Problem: "the cloud says where it is; leave the address out"}
	}
	address, port := cmp.Or(r.Address, i.Address), r.Port
	if port == 0 {
		port = i.Port
	}
	if _, err := w.Reach.Check(address, port); err != nil {
		return out, door.FieldError{Field: "address", Problem: err.Error()}
	}
	out.Now = fmt.Sprintf("%s port %d", address, port)
	if address == i.Address && port == i.Port {
		return out, nil
	}
	t, err := w.Target(ctx, i)
	if err != nil {
		return out, err
	}
	if len(t.HostKeys) == 0 {
		return out, door.FieldError{Field: "address",
			Problem: "no host key of it is recorded, so nobody can tell whether it is the one that answers there"}
	}
	t.Address, t.Port = address, port
	k := reach.Knock(ctx, w.Reach, t)
	switch {
	case len(k.HostKey) == 0:
		return out, door.FieldError{Field: "address", Problem: "nothing was changed: " + k.Words()}
	case !slices.ContainsFunc(t.HostKeys, func(b []byte) bool { return bytes.Equal(b, k.HostKey) }):
		return out, door.FieldError{Field: "address",
			Problem: fmt.Sprintf("nothing was changed: another host key answers at %s: %s, and recorded is %s",
				address, keypair.Fingerprint(k.HostKey), keypair.Fingerprint(t.HostKeys[0]))}
	}
	if out.Changed, err = w.Store.Followed(ctx, by, i, i.State, address, port, true); err != nil || !out.Changed {
		return out, err
	}
	if i, err = w.Store.InstanceByID(ctx, i.ID); err != nil {
		return out, err
	}
	return out, w.askAgain(ctx, i)
}

func placeWords(state, address string) string { return state + " at " + cmp.Or(address, "no address") }

// askAgain compares the host key at a new address, and asks about every key.
func (w *Service) askAgain(ctx context.Context, i store.Instance) error {
	t, err := w.Target(ctx, i)
	if err != nil || len(t.HostKeys) == 0 {
		return err
	}
	key, err := keypair.FromBlob(t.HostKeys[0], "")
	if err != nil {
		return err
	}
	blob, err := reach.HostKey(ctx, w.Reach, t, key.Type())
	if err != nil {
		return w.Store.SetTrouble(ctx, i.ID, "", "the SSH server did not answer at its new address: "+door.Words(err))
	}
	if keypair.Fingerprint(blob) != key.Fingerprint() {
		return w.Store.SetTrouble(ctx, i.ID, access.TroubleHostKey,
			fmt.Sprintf("another host key answers at %s: %s, and recorded is %s; nothing was asked of it", i.Address,
				keypair.Fingerprint(blob), key.Fingerprint()))
	}
	rows, err := w.Store.AccessesOf(ctx, i.ID)
	if err != nil {
		return err
	}
	var blobs [][]byte
	for _, a := range rows {
		blobs = append(blobs, a.Blob)
	}
	var asked []store.Asked
	for n, p := range w.AskWithin(ctx, door.Soon, t, blobs) {
		asked = append(asked, store.Asked{AccessID: rows[n].ID, Answer: string(p.Answer), Detail: p.Detail,
			From: p.Vantage})
	}
	if err := w.Store.Probed(ctx, asked...); err != nil {
		return err
	}
	return w.Store.SetTrouble(ctx, i.ID, "", "")
}

// addressJob is a static address that is reserved or released.
type addressJob struct {
	door.Job[staticAddress, reserved]
}

var addressSteps door.Family[*addressJob] = func() *addressJob { return new(addressJob) }

// moveJob is a static address that moves.
type moveJob struct {
	door.Job[staticAddress, door.Found]
	svc *Service
}

func (w *Service) moveSteps() door.Family[*moveJob] {
	return func() *moveJob { return &moveJob{svc: w} }
}

func (r *moveJob) knownHost() error { return r.Run.KnownHost(&r.D) }
