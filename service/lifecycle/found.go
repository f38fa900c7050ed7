package lifecycle

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"plumlatch/core/hostkeys"
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

// An instance that somebody else launched, and that nobody gets into, is adopted from the cloud's list:
// all that is recorded is the cloud's word. No key opens it by the ledger until a restore has shown
// one. Whoever may do this may become root on it, so it is for admins, or for whom the policy names.

// lookLimit is how long the server of a found instance is asked for its host key.
const lookLimit = 15 * time.Second

// ErrMayNotAdopt says that somebody is neither an admin nor named by the policy.
var ErrMayNotAdopt = errors.New("it takes an admin, or whom the policy names (adopt.who): whoever adopts from the " +
	"cloud's list can become root there")

func (w *Service) adoptFoundKind() *door.Kind {
	machineOf := w.machineSteps()
	return &door.Kind{WordAt: "ask", Kind: &work.Kind{
		Name: "adopt-found", Action: "instance.adopt-found", Phase: store.Adopting, Changing: true,
		Steps: []work.Step{
			{Name: "ask", Title: "asking the cloud what it has", Do: machineOf.Do((*machineJob).askCloud)},
			{Name: "host-key", Title: "looking for its host key in the boot output",
				Do: machineOf.Do((*machineJob).claimedHostKey), Skip: machineOf.Skip(isDesktop)},
		},
		End: machineOf.End((*machineJob).endFound),
	}}
}

// MayAdopt returns ErrMayNotAdopt unless somebody may adopt an instance of the cloud with these tags, or
// let somebody into it for the first time; a FieldError for one that the policy leaves alone.
func (w *Service) MayAdopt(ctx context.Context, operator string, role store.Role, region string,
	tags map[string]string) error {
	p, err := w.Policy(ctx)
	if err != nil {
		return err
	}
	if tag := p.NeverAdopted(tags); tag != "" {
		return door.FieldError{Field: "cloud_id", Problem: "the policy leaves it alone: it bears the tag " + tag +
			" (adopt.never)"}
	}
	if !role.Includes(store.Admin) && !p.MayAdopt(operator, region, tags) {
		return ErrMayNotAdopt
	}
	return nil
}

// AdoptFound records an instance of the cloud's list, with the work that looks what the cloud says of it.
// FieldError, ErrMayNotAdopt, store.ErrClaimed, store.ErrNameTaken, store.ErrReused.
func (w *Service) AdoptFound(ctx context.Context, by store.Actor, role store.Role, once store.Once,
	a wire.FoundAdoption) (store.Instance, error) {
	if i, again, err := w.Replayed(ctx, w.Store.Seen(ctx, once)); again || err != nil {
		return i, err
	}
	found, err := w.ofCloud(ctx, a.CloudID)
	if err != nil {
		return store.Instance{}, err
	}
	in := found.Of
	if err := w.MayAdopt(ctx, by.Operator, role, in.Region, in.Tags); err != nil {
		return store.Instance{}, err
	}
	n := store.NewInstance{Instance: store.Instance{Name: cmp.Or(a.Name, in.Name), Alias: "plumlatch-" + door.Token(10),
		Found: true, Cloud: found.Cloud.Name(), CloudID: in.ID, Region: in.Region, Zone: in.Zone, Image: in.Image,
		Size: in.Size, DiskGB: in.DiskGB, Tags: in.Tags, LoginUser: cmp.Or(a.LoginUser, in.LoginUser),
		KeyLabel: plaintext.Line(plaintext.Cut(in.KeyLabel, 100)), Address: in.Address, Port: cmp.Or(in.Port, 22),
		State: string(in.State), Phase: store.Adopting}}
	if n.Desktop, err = w.isDesktop(ctx, in); err != nil {
		return store.Instance{}, err
	}
	if n.Desktop { // its launch key is not known: the label is a name
		n.Password = &store.FirstPassword{}
	}
	switch {
	case names.Check(n.Name) != nil:
		return store.Instance{}, door.FieldError{Field: "name", Problem: fmt.Sprintf("the cloud calls it %q, and the "+
			"ledger takes no such name (%v): give one with -name", plaintext.Line(plaintext.Cut(n.Name, 100)), names.Check(n.Name))}
	case n.LoginUser == "":
		return store.Instance{}, door.FieldError{Field: "login_user", Problem: "the cloud does not say which user its image " +
			"has: give it with -user"}
	case n.Desktop && names.Check(n.LoginUser) != nil, !n.Desktop && !names.LoginUser(n.LoginUser):
		return store.Instance{}, door.FieldError{Field: "login_user", Problem: "this is no user name"}
	}
	if !a.NoSteward && !n.Desktop {
		pair, err := keypair.Create(keypair.Ed25519, "steward "+n.Alias)
		if err != nil {
			return store.Instance{}, err
		}
		n.Steward = pair.Public
		if n.StewardSealed, err = w.Encrypt(ctx, pair); err != nil {
			return store.Instance{}, err
		}
	}
	n.Work = w.Begun(w.Named("adopt-found"), "adopt "+n.Name+" from the cloud's list", door.Token(26), n.Instance,
		fmt.Sprintf("adopt %s in %s as %s, which nobody of the ledger gets into", in.ID, in.Region, n.LoginUser),
		door.Was{Phase: store.Adopting})
	i, err := w.Store.AddInstance(ctx, by, once, n)
	if i, again, err := w.Replayed(ctx, err); again || err != nil {
		return i, err
	}
	w.Look()
	return i, err
}

// isDesktop tells whether an instance of the cloud was launched from an image without SSH.
func (w *Service) isDesktop(ctx context.Context, in cloud.Instance) (bool, error) {
	images, err := w.Clouds.Images(ctx, in.Region)
	return slices.ContainsFunc(images, func(x cloud.Image) bool { return x.Name == in.Image && x.FirstPassword }), err
}

// ofCloud asks the cloud for an instance that somebody named by the cloud's own name. FieldError.
func (w *Service) ofCloud(ctx context.Context, id string) (none cloud.Owned[cloud.Instance], err error) {
	wrong := func(format string, a ...any) (cloud.Owned[cloud.Instance], error) {
		return none, door.FieldError{Field: "cloud_id", Problem: fmt.Sprintf(format, a...)}
	}
	if id == "" || len(id) > 200 || plaintext.HasControl(id) {
		return wrong("give the cloud's own name for it, as plumlatch discover shows it")
	}
	found, err := w.Clouds.Instance(ctx, id)
	in := found.Of
	switch {
	case errors.Is(err, cloud.ErrNotFound):
		return wrong("the cloud has no instance %s: plumlatch discover shows what it has", id)
	case err != nil:
		return none, err
	case in.State == cloud.Removed || in.State == cloud.Removing:
		return wrong("the cloud says that %s is %s", id, in.State)
	case in.ID != id:
		return wrong("the cloud answered about another instance than %s", id)
	}
	return found, nil
}

// askCloud takes down what the cloud says now.
func (r *machineJob) askCloud() error {
	if err := r.AwaitWord(); err != nil {
		return err
	}
	in, err := r.Settled()
	if errors.Is(err, cloud.ErrNotFound) || err == nil && in.State == cloud.Removed {
		return door.Failf("the cloud does not have it any more")
	}
	if err != nil {
		return err
	}
	if in.StopDestroys != "" {
		if err := r.Say("careful: stopping it would be its end: %s", plaintext.Line(in.StopDestroys)); err != nil {
			return err
		}
	}
	return r.Note(in)
}

// claimedHostKey takes the host key that the first block of the boot output vouches for, if that still stands
// there and the server shows it: a claim, since others may write to a boot output, until the instance's
// own disk agrees. What is not known is said, and is no failure.
func (r *machineJob) claimedHostKey() error {
	not := func(why string) error {
		r.D.Trouble = "its host key is not known: " + why
		return errors.Join(r.SetData(r.D), r.Say("%s", r.D.Trouble))
	}
	if r.Instance.State != string(cloud.Running) {
		return not("it does not run")
	}
	ctx, cancel := context.WithTimeout(r.Ctx, 20*time.Second)
	defer cancel()
	output, err := r.Cloud.BootOutput(ctx, r.Instance.CloudID)
	if r.Ctx.Err() != nil {
		return store.ErrLost
	}
	var prints []string
	if err == nil {
		prints, err = hostkeys.FirstBootFingerprints(output)
	}
	if err != nil {
		return not(door.Words(err))
	}
	blob, err := r.HostKey("", time.Now().Add(lookLimit))
	if stop := r.Stopping(); stop != nil {
		return stop
	}
	if errors.Is(err, reach.ErrPolicy) {
		return not("the service may not connect to its address")
	}
	if err != nil {
		return not("the service gets no answer from it (" + door.Words(err) + ")")
	}
	p, err := keypair.FromBlob(blob, "")
	if err != nil {
		return not(door.Words(err))
	}
	if !slices.Contains(prints, p.Fingerprint()) {
		return not(fmt.Sprintf("its server shows %s, and the first block of its boot output names others: something else "+
			"may stand behind its address", p.Fingerprint()))
	}
	same, err := r.Store.SameHostKey(r.Ctx, r.Instance.ID, p.Blob)
	if err != nil {
		return err
	}
	if len(same) > 0 { // one of the two passes on what it is asked, or is a copy
		return not(strings.Join(same, ", ") + " shows the same one")
	}
	return r.Store.FirstBootRead(r.Ctx, r.Instance, &p, store.ClaimedHostKey)
}

// endFound ends the adoption: nobody is known to get in, and what leads on is a restore.
func (r *machineJob) endFound(state store.WorkState) (store.WorkEnd, error) {
	if state != store.Done { // the cloud's list has it again as one that the ledger does not know
		if err := r.Store.Note(r.Ctx, r.Work.InstanceID, "", string(cloud.Removed), "", r.Instance.Port, false, ""); err != nil {
			return store.WorkEnd{}, err
		}
		return store.WorkEnd{Phase: store.Removed, Trouble: r.Work.Trouble, Outcome: r.Work.Trouble +
			"; nothing is recorded"}, nil
	}
	if r.Instance.Desktop {
		return store.WorkEnd{Phase: store.Ready, Outcome: "adopted: it is " + r.Instance.State + ", and has no SSH: people come in by its password"}, nil
	}
	where := "it is " + r.Instance.State
	if a, err := netip.ParseAddr(r.Instance.Address); err == nil && r.Instance.State == string(cloud.Running) {
		where = "running at " + netip.AddrPortFrom(a, uint16(r.Instance.Port)).String()
	}
	return store.WorkEnd{Phase: store.Ready, Outcome: door.OutcomeOf("adopted: "+where+", and no key of the ledger is "+
		"known to open it", r.D.Trouble)}, nil
}

// MayEnter returns ErrMayNotAdopt for whoever may not let anybody into a found instance for the first time.
func (w *Service) MayEnter(ctx context.Context, operator string, role store.Role, i store.Instance) error {
	first, err := w.FirstEntry(ctx, i)
	if err != nil || !first {
		return err
	}
	return w.MayAdopt(ctx, operator, role, i.Region, i.Tags)
}

// Link says that an instance that was adopted by hand is one of the cloud's: at its address the service itself
// sees its host key now, and no other instance has that. FieldError, ErrMayNotAdopt, store.ErrClaimed,
// store.ErrInProgress.
func (w *Service) Link(ctx context.Context, by store.Actor, role store.Role, i store.Instance, l wire.CloudLink) (store.Instance,
	error) {
	wrong := func(field, format string, a ...any) (store.Instance, error) {
		return i, door.FieldError{Field: field, Problem: fmt.Sprintf(format, a...)}
	}
	switch {
	case !i.Adopted:
		return wrong("instance", "a cloud is behind it already: %s", i.CloudID)
	case i.Via != nil:
		return wrong("instance", "it is reached through a jump host: what stands at its address is not seen from here")
	case i.Phase != store.Ready:
		return i, store.ErrInProgress
	}
	found, err := w.ofCloud(ctx, l.CloudID)
	if err != nil {
		return i, err
	}
	in := found.Of
	if err := w.MayAdopt(ctx, by.Operator, role, in.Region, in.Tags); err != nil {
		return i, err
	}
	if port := cmp.Or(in.Port, 22); in.Address != i.Address || port != i.Port {
		return wrong("cloud_id", "the cloud has %s at %s port %d, and %s is recorded at %s port %d", in.ID,
			cmp.Or(in.Address, "no address"), port, i.Name, i.Address, i.Port)
	}
	others, err := found.Cloud.List(ctx, in.Region)
	if err != nil {
		return i, err
	}
	for _, o := range others {
		if o.ID != in.ID && o.Address == in.Address && cmp.Or(o.Port, 22) == i.Port {
			return wrong("cloud_id", "the cloud has two at this address: %s and %s", in.ID, o.ID)
		}
	}
	pinned, err := w.Store.HostKeys(ctx, i.ID)
	if err != nil {
		return i, err
	}
	target, err := w.Target(ctx, i)
	if err != nil {
		return i, err
	}
	look, cancel := context.WithTimeout(ctx, lookLimit)
	defer cancel()
	for _, h := range pinned {
		blob, err := reach.HostKey(look, w.Reach, target, h.Type)
		if err != nil {
			return wrong("instance", "the service sees no host key at its address now: %s", door.Words(err))
		}
		if !bytes.Equal(blob, h.Blob) {
			return wrong("instance", "another host key answers at its address than the one that is recorded: %s, and not %s",
				keypair.Fingerprint(blob), h.Fingerprint)
		}
		same, err := w.Store.SameHostKey(ctx, i.ID, h.Blob)
		if err != nil {
			return i, err
		}
		if len(same) > 0 {
			return wrong("instance", "its host key tells it from no other: %s shows the same one", strings.Join(same, ", "))
		}
	}
	if len(pinned) == 0 {
		return wrong("instance", "no host key of it is recorded: plumlatch instance host-key %s", i.Name)
	}
	err = w.Store.LinkInstance(ctx, by, i, store.Instance{Cloud: found.Cloud.Name(), CloudID: in.ID, Region: in.Region, Zone: in.Zone,
		Image: in.Image, Size: in.Size, DiskGB: in.DiskGB, KeyLabel: plaintext.Line(plaintext.Cut(in.KeyLabel, 100)),
		State: string(in.State)})
	if err != nil {
		return i, err
	}
	return w.Store.InstanceByID(ctx, i.ID)
}
