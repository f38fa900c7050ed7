package restore

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/cloudconfig"
	"plumlatch/core/comeback"
	"plumlatch/core/firstpassword"
	"plumlatch/core/inbound"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/core/times"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
)

// The route "copy": an image of the instance, a copy from it that begins shut, and then the place and the address of the old
// one. Up to the end each step goes back: the old one runs all the while, and the copy and the image go.

// copied is what its steps keep.
type copied struct {
	Image     string        `json:"image,omitempty"` // as the cloud calls it
	ImageName string        `json:"image_name,omitempty"`
	Old       store.Machine `json:"old"`
	Region    string        `json:"region"`
	Zone      string        `json:"zone"`
	Size      string        `json:"size"`
	DiskGB    int           `json:"disk_gb"`

	// Before and After are what was read on the old one and on the copy.
	Before comeback.Machine `json:"before"`
	After  comeback.Machine `json:"after"`
	Blind  string           `json:"blind,omitempty"` // why one of them could not be read
	Worked []string         `json:"worked,omitempty"`

	Compared bool `json:"compared,omitempty"`
	// PasswordKey is the new key's public line, where a first password is encrypted to it.
	PasswordKey string `json:"password_key,omitempty"`

	Looked  bool     `json:"looked,omitempty"`  // which services do not come up is known, as far as that can be seen
	Missing []string `json:"missing,omitempty"` // those

	Name     string            `json:"name,omitempty"` // of the copy, at the cloud
	UserData string            `json:"user_data,omitempty"`
	Tags     map[string]string `json:"tags,omitempty"`
	CloudID  string            `json:"cloud_id,omitempty"`
	Address  string            `json:"address,omitempty"` // its first, before it has the old one's
	Port     int               `json:"port,omitempty"`
	Host     store.HostKey     `json:"host_key"`
	// Rules are rules of the copy's own group that this work has made.
	Rules []string `json:"rules,omitempty"`

	Static     string           `json:"static,omitempty"` // the old one's static address, as the cloud calls it; "" for none
	StaticName string           `json:"static_name,omitempty"`
	Accesses   []store.PlacedAs `json:"accesses,omitempty"` // as they stood on the old one
	// Password is what was known of the first password of the old one, of an instance without SSH.
	Password *store.FirstPassword `json:"password,omitempty"`
	Moving   bool                 `json:"moving,omitempty"` // the copy is about to take the place
	Moved    bool                 `json:"moved,omitempty"`
	Kept     bool                 `json:"kept,omitempty"` // the work that keeps the old one was begun
	// Unseen is why the old one was not seen to answer when it had the place again; "" if it was.
	Unseen string `json:"unseen,omitempty"`
}

// copyRoute is the name of the route.
const copyRoute = "copy"

// Limits of the route.
const (
	keepAtMost  = 90 * 24 * time.Hour
	keepUsually = 7 * 24 * time.Hour
)

// copying is what the copy's steps work on.
func (r *restoreJob) copying() *copied {
	x := r.D.Restore
	if x.Copy == nil {
		x.Copy = &copied{}
	}
	return x.Copy
}

// lookWithin reads a machine by the steward, as far as it gets in: another way of looking is nobody's failure.
func (r *restoreJob) lookWithin(i store.Instance, hostKeys [][]byte) (m comeback.Machine, blind string, err error) {
	ctx, cancel := context.WithTimeout(r.Ctx, 20*time.Second)
	defer cancel()
	known, err := r.Store.StewardWay(ctx, i.ID)
	if err != nil {
		return m, "", err
	}
	if hostKeys != nil {
		known.HostKeys = hostKeys
	}
	files, done, err := r.StewardBy(ctx, i, known)
	if r.Ctx.Err() != nil {
		return m, "", store.ErrLost
	}
	if err != nil {
		return m, door.Words(err), nil
	}
	defer done()
	return reach.ReadMachine(files), "", nil
}

// asTold has what an engineer's client saw stand in for what the steward does not see.
func (r *restoreJob) asTold(c *copied) error {
	if c.Blind == "" {
		return nil
	}
	m, by, err := r.svc.told(r.Ctx, r.Instance.ID)
	if err != nil || by == "" {
		return err
	}
	c.Before, c.Blind = m, ""
	return errors.Join(r.Keep(), r.Say("what runs on it is compared as it was seen by %s", by))
}

// makeImage has the cloud make an image of the old one, and waits for it.
func (r *restoreJob) makeImage() error {
	c := r.copying()
	if c.ImageName == "" {
		in, err := r.Settled()
		if err != nil {
			return err
		}
		if c.Old, err = r.Store.MachineOf(r.Ctx, r.Instance); err != nil {
			return err
		}
		c.Region, c.Zone, c.Size, c.DiskGB, c.Tags = in.Region, in.Zone, in.Size, in.DiskGB, in.Tags
		c.ImageName = fmt.Sprintf("plumlatch-w%d", r.Work.ID)
		if in.State == cloud.Running {
			if c.Before, c.Blind, err = r.lookWithin(r.Instance, nil); err != nil {
				return err
			}
			if err := r.asTold(c); err != nil {
				return err
			}
			for _, check := range r.Instance.Checks {
				if _, err := r.runCheck(check); err == nil {
					c.Worked = append(c.Worked, check)
				}
			}
		}
		if err := r.Keep(); err != nil {
			return err
		}
	}
	if c.Image == "" {
		if err := r.once("make", func(ctx context.Context) error {
			i, err := r.askImage(ctx)
			if err != nil {
				return err
			}
			c.Image = i.ID
			return r.Keep()
		}); err != nil {
			return err
		}
	}
	limit := 4 * r.StateLimit
	if p := r.Cloud.Properties().Images; p != nil {
		limit += 4 * time.Duration(c.DiskGB) * p.PerGB
	}
	began := time.Now()
	for {
		i, err := door.Asked(r.Ctx, r.Run, func(ctx context.Context) (cloud.OwnImage, error) { return r.Cloud.OwnImage(ctx, c.Image) })
		if errors.Is(err, cloud.ErrNotFound) {
			return door.Failf("the image %s is gone: somebody else removed it", c.Image)
		}
		if err != nil {
			return err
		}
		if i.Ready {
			how := "it was stopped meanwhile"
			if i.Ran {
				how = "it ran meanwhile, so what its processes had not written yet is not on it"
			}
			return r.Say("the image %s of %d GiB is ready after %s; %s", i.ID, i.GB, door.SpanWords(time.Since(began).Round(time.Second)), how)
		}
		if left, err := r.Left(limit); err != nil || left <= 0 {
			return errors.Join(err, door.Failf("the image %s is not ready after %s", c.Image, door.SpanWords(limit)))
		}
		if err := r.Stopping(); err != nil {
			return err
		}
		r.Sleep(door.PollAfter(began))
	}
}

func (r *restoreJob) askImage(ctx context.Context) (cloud.OwnImage, error) {
	c := r.copying()
	tags := map[string]string{"plumlatch-work": fmt.Sprint(r.Work.ID), "plumlatch-origin": r.Instance.Name}
	return door.Asked(ctx, r.Run, func(ctx context.Context) (cloud.OwnImage, error) {
		return r.Cloud.MakeImage(ctx, r.TokenOf("image", "make"), c.Old.CloudID, c.ImageName, tags)
	})
}

// imageBack removes the image, also one of which the cloud has not answered.
func (r *restoreJob) imageBack() error {
	c, x := r.copying(), r.D.Restore
	if c.Image == "" && !x.Asked["image/make"] {
		return nil
	}
	err := r.Effect("remove-image", func(ctx context.Context) error {
		if c.Image == "" { // asked once more under its token, it cannot come late
			i, err := r.askImage(ctx)
			if errors.Is(err, cloud.ErrRefused) || errors.Is(err, cloud.ErrNotFound) {
				return nil
			}
			if err != nil {
				return err
			}
			c.Image = i.ID
		}
		_, err := door.Asked(ctx, r.Run, func(ctx context.Context) (struct{}, error) {
			return struct{}{}, r.Cloud.RemoveImage(ctx, r.ClientToken("remove-image"), c.Image)
		})
		return err
	})
	if err != nil && !errors.Is(err, cloud.ErrNotFound) {
		return err
	}
	c.Image = ""
	delete(x.Asked, "image/make")
	return r.Keep()
}

// again starts the old one after it was stopped for its image.
func (r *restoreJob) again() error {
	if r.D.Restore.Was != string(cloud.Running) {
		return nil
	}
	if err := r.Ask("start", r.Cloud.Start); err != nil {
		return err
	}
	return r.Await(cloud.Running)
}

// launchCopy launches the copy, shut, and waits until it runs.
func (r *restoreJob) launchCopy() error {
	if r.Instance.Desktop {
		return r.launchDesktop()
	}
	return r.launchNamed(fmt.Sprintf("%s-w%d", strings.ToLower(r.Instance.Name), r.Work.ID), r.In.New, func() ([]string, error) {
		return r.svc.linesFor(r.Ctx, r.Instance, r.In.NewID)
	})
}

// launchDesktop launches a copy without SSH: its first password is encrypted to the new key, and no line is placed.
func (r *restoreJob) launchDesktop() error {
	k, err := r.Store.KeyByID(r.Ctx, r.In.NewID)
	if err != nil {
		return err
	}
	c := r.copying()
	c.PasswordKey = k.Public().Line()
	return r.launchNamed(fmt.Sprintf("%s-w%d", strings.ToLower(r.Instance.Name), r.Work.ID), "", nil)
}

// launchNamed launches the copy under a name, with these lines besides those that its disk has.
func (r *restoreJob) launchNamed(name, label string, linesOf func() ([]string, error)) error {
	c := r.copying()
	if c.Name == "" {
		p := r.Cloud.Properties()
		var text cloudconfig.Output
		if linesOf != nil {
			lines, err := linesOf()
			if err != nil {
				return err
			}
			if text, err = cloudconfig.Build(cloudconfig.Settings{Hostname: r.Instance.Name, LoginUser: r.Instance.LoginUser, Keys: lines,
				MaxSize: p.MaxUserData}); err != nil {
				return door.Failure{Reason: "its first boot's text: " + door.Words(err)}
			}
		}
		if p.Names.Check(name) != nil {
			name = fmt.Sprintf("copy-w%d", r.Work.ID)
		}
		c.Name, c.UserData = name, text.Text
		tags := maps.Clone(c.Tags)
		if tags == nil {
			tags = map[string]string{}
		}
		tags["plumlatch-work"], tags["plumlatch-origin"] = fmt.Sprint(r.Work.ID), r.Instance.Name
		if p.MaxTags == 0 || len(tags) <= p.MaxTags { // else it has the old one's alone
			c.Tags = tags
		}
		if err := r.Keep(); err != nil {
			return err
		}
	}
	if c.CloudID == "" {
		shut := &cloud.Shut{Admit: r.admitted()}
		if err := r.once("launch", func(ctx context.Context) error {
			in, err := r.Retry(ctx, func(ctx context.Context) (cloud.Instance, error) {
				return r.Cloud.Launch(ctx, r.ClientToken("launch"), cloud.Launch{Name: c.Name, Region: c.Region, Zone: c.Zone, Image: c.Image,
					Size: c.Size, DiskGB: c.DiskGB, Tags: c.Tags, UserData: c.UserData, KeyLabel: label, PasswordKey: c.PasswordKey, Shut: shut})
			})
			if err != nil {
				return err
			}
			c.CloudID = in.ID
			return r.Keep()
		}); err != nil {
			return err
		}
	}
	in, err := r.until(c.CloudID, cloud.Running)
	if err != nil {
		return err
	}
	c.Address, c.Port = in.Address, cmp.Or(in.Port, 22)
	groups, err := r.Groups(c.CloudID)
	if err != nil {
		return err
	}
	c.Rules = nil
	for _, g := range groups {
		if !g.Own {
			return door.Failf("the copy %s has the shared group %s, and was to begin shut", c.CloudID, g.Name)
		}
		for _, rule := range g.Rules {
			c.Rules = append(c.Rules, rule.ID)
		}
	}
	if err := r.Keep(); err != nil {
		return err
	}
	return r.Say("%s was launched as %s: %s, and only the service and whoever asked get in", c.CloudID, c.Name, map[bool]string{
		true: "nothing leads out of it", false: "this cloud cannot shut the way out of it"}[r.Cloud.Properties().Images.ShutsOut])
}

// admitted is whom the copy lets in at first: the service, and whoever asked for the work.
func (r *restoreJob) admitted() []netip.Prefix {
	var out []netip.Prefix
	own, _ := netip.ParseAddr(r.Work.Address)
	for _, a := range []netip.Addr{r.Reach.Source, own} {
		if a = a.Unmap(); a.IsValid() && !slices.Contains(out, netip.PrefixFrom(a, a.BitLen())) {
			out = append(out, netip.PrefixFrom(a, a.BitLen()))
		}
	}
	return out
}

// until waits for a machine that is not the instance to be in a state.
func (r *restoreJob) until(id string, state cloud.State) (cloud.Instance, error) {
	left, err := r.Left(r.StateLimit)
	if err != nil {
		return cloud.Instance{}, err
	}
	began := time.Now()
	for deadline := began.Add(left); ; {
		in, err := r.Get(id)
		if err == nil && in.State == state && state == cloud.Running {
			err = r.SayAsks(in)
		}
		if err != nil || in.State == state {
			return in, err
		}
		if in.State == cloud.Removed || in.State == cloud.Removing {
			return in, door.Failf("%s was removed by somebody else", id)
		}
		if time.Now().After(deadline) {
			return in, door.Failf("the cloud says that %s is %s after %s, and not %s; look at it in the cloud", id, in.State, r.StateLimit,
				state)
		}
		if err := r.Stopping(); err != nil {
			return in, err
		}
		r.Sleep(door.PollAfter(began))
	}
}

// copyBack removes the copy, also one of which the cloud has not answered.
func (r *restoreJob) copyBack() (err error) {
	c, x := r.copying(), r.D.Restore
	id := c.CloudID
	if id == "" && x.Asked["launch/launch"] {
		if id, err = r.svc.lostRescue(r.Run, r.TokenOf("launch", "launch")); err != nil {
			return err
		}
	}
	if id == "" {
		return nil
	}
	if c.Unseen != "" { // it may be all that anybody gets in by
		x.Left = append(x.Left, copyStays(id, c.Unseen))
		c.CloudID = ""
		return r.Keep()
	}
	if err := r.svc.removeMachine(r.Run, "the copy", id, r.ClientToken("remove")); err != nil {
		return err
	}
	c.CloudID = ""
	delete(x.Asked, "launch/launch")
	return r.Keep()
}

// copySide is the copy as an instance, before it has the place.
func (r *restoreJob) copySide() store.Instance {
	c := r.copying()
	i := r.Instance
	i.CloudID, i.Address, i.Port, i.State, i.Via = c.CloudID, c.Address, c.Port, string(cloud.Running), nil
	return i
}

// knownCopy learns the copy's host key from its first boot, and waits until it takes the new key.
func (r *restoreJob) knownCopy() error {
	if r.Instance.Desktop {
		return r.copyGives()
	}
	if err := r.learnCopy(); err != nil {
		return err
	}
	return r.copyTakes(r.In.New)
}

// copyGives waits until a copy without SSH has given its first password. Nobody of ours can read it: whether it is
// encrypted to the new key is seen by whoever has that.
func (r *restoreJob) copyGives() error {
	c := r.copying()
	left, err := r.Left(r.ServerLimit())
	if err != nil {
		return err
	}
	for deadline := time.Now().Add(left); ; {
		ctx, cancel := context.WithTimeout(r.Ctx, 20*time.Second)
		text, err := r.Cloud.FirstPassword(ctx, c.CloudID)
		if err == nil {
			_, err = firstpassword.CipherText(text)
		}
		cancel()
		if err == nil {
			return nil
		}
		if r.Ctx.Err() != nil {
			return store.ErrLost
		}
		if time.Now().After(deadline) {
			return door.Failf("the copy %s gives no first password: %s", c.CloudID, door.Words(err))
		}
		if stop := r.Stopping(); stop != nil {
			return stop
		}
		r.Sleep(2 * door.Poll)
	}
}

// learnCopy learns the copy's host key from its first boot.
func (r *restoreJob) learnCopy() error {
	c := r.copying()
	if c.Host.Blob == nil {
		side := *r.Run // as at a launch: nothing is recorded of it yet
		side.Instance = r.copySide()
		side.Instance.ID = 0
		key, trouble, err := side.VouchedHostKey()
		if err != nil {
			return err
		}
		if trouble != "" {
			return door.Failf("the copy %s: %s", c.CloudID, trouble)
		}
		if slices.ContainsFunc(c.Old.HostKeys, func(h store.HostKey) bool { return h.Fingerprint == key.Fingerprint() }) {
			return door.Failf("the copy %s has the host key of the old one (%s): nobody could tell them apart", c.CloudID, key.Fingerprint())
		}
		c.Host = store.HostKey{Blob: key.Blob, Type: key.Type(), Fingerprint: key.Fingerprint(), Source: "first boot's output, and fetched"}
		return r.Keep()
	}
	return nil
}

// copyTakes waits until the copy takes the new key.
func (r *restoreJob) copyTakes(name string) error {
	c := r.copying()
	k, err := r.Store.KeyByID(r.Ctx, r.In.NewID)
	if err != nil {
		return err
	}
	left, err := r.Left(r.ServerLimit())
	if err != nil {
		return err
	}
	t := reach.Target{Address: c.Address, Port: c.Port, User: r.Instance.LoginUser, HostKeys: [][]byte{c.Host.Blob}}
	for deadline := time.Now().Add(left); ; {
		answers := reach.Probe(r.Ctx, r.Reach, t, [][]byte{k.Blob}, time.Now)
		if answers[0].Answer == reach.Accepted {
			return nil
		}
		if r.Ctx.Err() != nil {
			return store.ErrLost
		}
		if time.Now().After(deadline) {
			return door.Failf("the copy %s does not take %s: %s", c.CloudID, name, strings.TrimSpace(string(answers[0].Answer)+" "+
				answers[0].Detail))
		}
		if stop := r.Stopping(); stop != nil {
			return stop
		}
		r.Sleep(2 * door.Poll)
	}
}

// enable waits for the client to start and enable what ran on the old one and does not come up on the copy.
func (r *restoreJob) enable() error {
	c := r.copying()
	if err := r.Reread(); err != nil {
		return err
	}
	if !c.Looked {
		blind := c.Blind
		if blind == "" {
			missing, _, why, err := r.lookSettled()
			if err != nil {
				return err
			}
			blind, c.Missing = why, nil
			for _, d := range missing {
				if d.Sort == comeback.Service {
					c.Missing = append(c.Missing, d.What)
				}
			}
		}
		c.Looked = true
		if err := r.Keep(); err != nil {
			return err
		}
		if blind != "" {
			return r.Say("which services do not come up on the copy was not seen%s, so none is enabled", because(blind))
		}
	}
	if len(c.Missing) == 0 {
		return nil
	}
	if r.In.EnabledOn == c.CloudID { // and not on that of a try before
		for _, f := range r.In.EnabledFailed {
			if err := r.Say("on the copy: %s", f); err != nil {
				return err
			}
		}
		return nil
	}
	over, err := r.WaitOver()
	if err != nil {
		return err
	}
	if over {
		return r.Say("nobody has started %s on the copy within %s", strings.Join(c.Missing, ", "), door.SpanWords(copyLimit))
	}
	return r.Wait(wire.WaitsHands, fmt.Sprintf("%s to be started and enabled on the copy (plumlatch work here %d -identity FILE)",
		strings.Join(c.Missing, ", "), r.Work.ID), time.Minute, copyLimit)
}

// settleLimit is how long a machine whose SSH server answers may go on booting.
const settleLimit = 30 * time.Second

// lookSettled looks what ran on the old one and does not on the copy. Services may start after the SSH server: those that are
// missing are given a while.
func (r *restoreJob) lookSettled() (missing []comeback.Doubt, seen []string, blind string, err error) {
	c := r.copying()
	left, err := r.Left(min(settleLimit, r.StateLimit))
	if err != nil {
		return nil, nil, "", err
	}
	for deadline := time.Now().Add(left); ; {
		if c.After, blind, err = r.lookWithin(r.copySide(), [][]byte{c.Host.Blob}); err != nil || blind != "" {
			return nil, nil, blind, err
		}
		missing, seen = comeback.Missing(c.Before, c.After)
		if !slices.ContainsFunc(missing, func(d comeback.Doubt) bool { return d.Sort == comeback.Service }) || time.Now().After(deadline) {
			return missing, seen, "", nil
		}
		if stop := r.Stopping(); stop != nil {
			return nil, nil, "", stop
		}
		r.Sleep(5 * door.Poll)
	}
}

// CopyDoor tells where a client does its part on a copy: starts services, or comes in for a rehearsal. store.ErrWorkState.
func (w *Service) CopyDoor(ctx context.Context, work store.Work) (out wire.CopyDoor, err error) {
	if !w.KindOf(work.Kind).Restores || work.Over() || work.Back || work.CancelAsked {
		return out, store.ErrWorkState
	}
	var in restoring
	var d restoreKept
	if err := errors.Join(door.Decode(work.Input, &in), door.Decode(work.Data, &d)); err != nil {
		return out, err
	}
	out = wire.CopyDoor{HostKeys: []string{}, Services: []string{}, Key: in.New}
	if in.RehearsalOf != 0 {
		return w.rehearsalDoor(ctx, work, out)
	}
	if work.Kind != "restore-"+copyRoute {
		return out, store.ErrWorkState
	}
	if d.Restore == nil || d.Restore.Copy == nil || work.At != "enable" || in.EnabledOn == d.Restore.Copy.CloudID {
		return out, nil
	}
	i, err := w.Store.InstanceByID(ctx, work.InstanceID)
	if err != nil {
		return out, err
	}
	c := d.Restore.Copy
	out.Ready, out.CloudID, out.Address, out.Port, out.User, out.Services = len(c.Missing) > 0, c.CloudID, c.Address, c.Port, i.LoginUser,
		append(out.Services, c.Missing...)
	out.HostKeys = append(out.HostKeys, keypair.Public{Blob: c.Host.Blob}.Line())
	return out, nil
}

// rehearsalDoor is the copy on which a way is rehearsed that needs a hand.
func (w *Service) rehearsalDoor(ctx context.Context, work store.Work, out wire.CopyDoor) (wire.CopyDoor, error) {
	if work.WaitsCode != wire.WaitsHands {
		return out, nil
	}
	i, err := w.Store.InstanceByID(ctx, work.InstanceID)
	if err != nil {
		return out, err
	}
	hostKeys, err := w.Store.HostKeys(ctx, i.ID)
	for _, h := range hostKeys {
		out.HostKeys = append(out.HostKeys, keypair.Public{Blob: h.Blob}.Line())
	}
	out.Ready, out.CloudID, out.Address, out.Port, out.User = true, i.CloudID, i.Address, i.Port, i.LoginUser
	return out, err
}

// ReportEnabled takes a client's word on what it started there; what runs is looked at next. store.ErrWorkState.
func (w *Service) ReportEnabled(ctx context.Context, by store.Actor, work store.Work, e wire.EnabledServices) error {
	if work.Kind != "restore-"+copyRoute || work.Over() || work.Back || work.CancelAsked || work.At != "enable" || len(e.Done)+len(e.Failed) > 200 {
		return store.ErrWorkState
	}
	var d restoreKept
	if err := door.Decode(work.Data, &d); err != nil || d.Restore == nil || d.Restore.Copy == nil {
		return errors.Join(err, store.ErrWorkState)
	}
	var failed, done []string
	for _, f := range e.Failed {
		failed = append(failed, plaintext.Line(plaintext.Cut(f, 300)))
	}
	for _, d := range e.Done {
		done = append(done, plaintext.Line(plaintext.Cut(d, 300)))
	}
	err := w.Store.Tell(ctx, work.ID, map[string]any{"enabled_on": d.Restore.Copy.CloudID, "enabled_failed": failed}, fmt.Sprintf("%s has started and enabled on the "+
		"copy: %s; not: %s; from %s", by.Operator, cmp.Or(strings.Join(done, ", "), "nothing"), cmp.Or(strings.Join(failed, "; "), "nothing"), by.Address))
	w.Look()
	return err
}

// compare says what ran on the old one and does not on the copy, and runs there what "works" means for the instance.
func (r *restoreJob) compare() error {
	c, x := r.copying(), r.D.Restore
	if x.Was == string(cloud.Running) && !c.Compared {
		blind := c.Blind
		var missing []comeback.Doubt
		var seen []string
		if blind == "" {
			var err error
			if missing, seen, blind, err = r.lookSettled(); err != nil {
				return err
			}
		}
		for _, d := range missing {
			x.Left = append(x.Left, r.missed(d))
		}
		if unseen := unseen(seen); unseen != "" {
			x.Left = append(x.Left, fmt.Sprintf("%s on the old one and on the copy: not seen%s; compare them yourself", unseen, because(blind)))
		}
		c.Compared = true
		if err := r.Keep(); err != nil {
			return err
		}
	}
	left, err := r.Left(min(checkLimit, 4*r.StateLimit))
	if err != nil {
		return err
	}
	for deadline := time.Now().Add(left); len(c.Worked) > 0; {
		said, err := r.checkAt(c.Address, c.Worked[0])
		if err == nil {
			if err := r.Say("on the copy, %s: %s", c.Worked[0], said); err != nil {
				return err
			}
			c.Worked = c.Worked[1:]
			continue
		}
		if r.Ctx.Err() != nil {
			return store.ErrLost
		}
		if time.Now().After(deadline) {
			return door.Failf("%s works on the old one, and not on the copy: %s", c.Worked[0], door.Words(err))
		}
		if stop := r.Stopping(); stop != nil {
			return stop
		}
		r.Sleep(5 * door.Poll)
	}
	return r.Keep()
}

// missed is something that the copy lacks, with what would mend it.
func (r *restoreJob) missed(d comeback.Doubt) string {
	switch d.Sort {
	case comeback.Service:
		return fmt.Sprintf("%s ran on the old one, and does not on the copy: plumlatch open %s -- sudo systemctl enable --now %s", d.What,
			r.Instance.Name, d.What)
	case comeback.Mount:
		return fmt.Sprintf("%s was mounted on the old one, and is not on the copy: its volume is still there", d.What)
	}
	return fmt.Sprintf("port %s: %s", d.What, d.Why)
}

// unseen names the sorts of which nothing could be told.
func unseen(seen []string) string {
	var out []string
	for _, s := range []struct{ sort, words string }{{comeback.Service, "what services run"}, {comeback.Listens, "what listens"},
		{comeback.Mount, "what is mounted"}} {
		if !slices.Contains(seen, s.sort) {
			out = append(out, s.words)
		}
	}
	return strings.Join(out, ", ")
}

func because(why string) string {
	if why == "" {
		return ""
	}
	return " (" + why + ")"
}

// staticOf finds the static address that one of the two has.
func (r *restoreJob) staticOf(ctx context.Context) (out cloud.StaticAddress, err error) {
	c := r.copying()
	all, err := door.Asked(ctx, r.Run, func(ctx context.Context) ([]cloud.StaticAddress, error) {
		return r.Cloud.StaticAddresses(ctx, c.Region)
	})
	for _, a := range all {
		if c.Static != "" && a.ID == c.Static || c.Static == "" && a.Instance == c.Old.CloudID {
			return a, err
		}
	}
	return out, err
}

// takePlace has the copy take the place of the old one, and its static address.
func (r *restoreJob) takePlace() error {
	c := r.copying()
	if !c.Moving {
		a, err := r.staticOf(r.Ctx)
		if err != nil {
			return err
		}
		c.Static, c.StaticName = a.ID, a.Name
		rows, err := r.Store.AccessesOf(r.Ctx, r.Instance.ID)
		if err != nil {
			return err
		}
		c.Accesses = nil
		for _, row := range rows {
			if !row.Steward && row.KeyID != 0 {
				c.Accesses = append(c.Accesses, store.PlacedAs{KeyID: row.KeyID, LoginUser: row.LoginUser})
			}
		}
		if r.Instance.Desktop {
			p, err := r.Store.FirstPasswordOf(r.Ctx, r.Instance.ID)
			if err != nil {
				return err
			}
			c.Password = &p
		}
		c.Moving = true
		if err := r.Keep(); err != nil {
			return err
		}
	}
	// What is open to others on other ports is open before the address comes.
	if err := r.Effect("ports", func(ctx context.Context) error { return r.otherPorts(ctx) }); err != nil {
		return err
	}
	if err := r.Effect("outbound", func(ctx context.Context) error {
		if !r.Cloud.Properties().Images.ShutsOut {
			return nil
		}
		_, err := door.Asked(ctx, r.Run, func(ctx context.Context) (struct{}, error) {
			return struct{}{}, r.Cloud.SetOutbound(ctx, r.ClientToken("outbound"), c.CloudID, true)
		})
		return err
	}); err != nil {
		return err
	}
	if c.Static != "" {
		if err := r.once("move", func(ctx context.Context) error {
			a, err := r.staticOf(ctx)
			if err != nil {
				return err
			}
			if a.Instance != c.Old.CloudID && a.Instance != c.CloudID {
				return door.Failf("somebody else has taken the static address %s meanwhile", c.StaticName)
			}
			return r.moveTo(ctx, r.ClientToken("move"), c.CloudID)
		}); err != nil {
			return err
		}
	}
	in, err := r.Get(c.CloudID)
	if err != nil {
		return err
	}
	m := store.Machine{CloudID: in.ID, State: string(in.State), Address: in.Address, Port: cmp.Or(in.Port, c.Port), Static: in.Static}
	if c.Host.Blob != nil {
		m.HostKeys = []store.HostKey{c.Host}
	}
	if err := r.Store.TakePlace(r.Ctx, store.Service, r.Instance, m, fmt.Sprintf("a copy from an image (work %d)", r.Work.ID)); err != nil {
		return err
	}
	if r.Instance, err = r.Store.InstanceByID(r.Ctx, r.Instance.ID); err != nil {
		return err
	}
	c.Moved = true
	k, err := r.Store.KeyByID(r.Ctx, r.In.NewID)
	if err != nil {
		return err
	}
	if c.Password != nil {
		return errors.Join(r.Store.SetFirstPassword(r.Ctx, r.Instance.ID, store.FirstPassword{KeyID: k.ID, Fingerprint: k.Fingerprint}), r.Keep())
	}
	r.D.File, r.D.Line, r.D.Stood = door.FilesOf(r.Instance)[0], k.Public().Line(), true // it goes with the copy
	return r.recordPlaced(r.In)
}

func (r *restoreJob) moveTo(ctx context.Context, token, to string) error {
	c := r.copying()
	_, err := door.Asked(ctx, r.Run, func(ctx context.Context) (cloud.StaticAddress, error) {
		return r.Cloud.Move(ctx, token, c.Static, to)
	})
	return err
}

// otherPorts gives the copy's own group the rules of the old one that are not for the SSH port.
func (r *restoreJob) otherPorts(ctx context.Context) error {
	c := r.copying()
	old, err := r.Groups(c.Old.CloudID)
	if err != nil {
		return err
	}
	own, err := r.ownGroup(ctx)
	if err != nil {
		return err
	}
	for _, g := range old {
		for n, rule := range g.Rules {
			if rule.Ports.SSH() {
				continue
			}
			made, err := door.Asked(ctx, r.Run, func(ctx context.Context) (cloud.Rule, error) {
				return r.Cloud.Admit(ctx, fmt.Sprintf("%s-%s-%d", r.TokenOf("move", "ports"), g.ID, n), own.ID, rule.From, rule.Ports, rule.Note)
			})
			if err != nil {
				return err
			}
			if !slices.Contains(c.Rules, made.ID) {
				c.Rules = append(c.Rules, made.ID)
				if err := r.Keep(); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func (r *restoreJob) ownGroup(ctx context.Context) (cloud.Group, error) {
	c := r.copying()
	return door.Asked(ctx, r.Run, func(ctx context.Context) (cloud.Group, error) {
		return r.Cloud.OwnGroup(ctx, r.TokenOf("launch", "own"), c.CloudID)
	})
}

// placeBack gives the place and the address back to the old one.
func (r *restoreJob) placeBack() error {
	c, x := r.copying(), r.D.Restore
	if !c.Moving {
		return nil
	}
	if c.Static != "" {
		if err := r.Effect("move", func(ctx context.Context) error {
			if x.Asked["move/move"] { // it must not come late
				if err := r.moveTo(ctx, r.TokenOf("move", "move"), c.CloudID); err != nil && !errors.Is(err, cloud.ErrRefused) &&
					!errors.Is(err, cloud.ErrNotFound) {
					return err
				}
				delete(x.Asked, "move/move")
			}
			a, err := r.staticOf(ctx)
			if err != nil || a.Instance != c.CloudID { // somebody has given it to another meanwhile: it stays there
				return err
			}
			return r.moveTo(ctx, r.ClientToken("move-back"), c.Old.CloudID)
		}); err != nil {
			return err
		}
	}
	err := r.svc.oldBack(r.Run, c.Old, c.Accesses, c.Password, "the copy that it was placed on is gone")
	if err != nil {
		return err
	}
	if c.Moved && x.Was == string(cloud.Running) && c.Password == nil {
		if c.Unseen, err = r.svc.untilBack(r.Run); err != nil {
			return err
		}
	}
	c.Moving, c.Moved, r.D.NewAccess, r.D.Added = false, false, 0, false
	return r.Keep()
}

// oldBack has an old machine take its place again, with the accesses that stood on it.
func (w *Service) oldBack(r *door.Run, old store.Machine, stood []store.PlacedAs, password *store.FirstPassword, why string) error {
	in, err := r.Get(old.CloudID)
	if errors.Is(err, cloud.ErrNotFound) {
		in, err = cloud.Instance{ID: old.CloudID, State: cloud.Removed, Port: old.Port}, nil
	}
	if err != nil {
		return err
	}
	old.State, old.Address, old.Port, old.Static = string(in.State), in.Address, cmp.Or(in.Port, 22), in.Static
	if err := r.Store.TakePlace(r.Ctx, store.Service, r.Instance, old, fmt.Sprintf("work %d went back", r.Work.ID)); err != nil {
		return err
	}
	if password != nil {
		if err := r.Store.SetFirstPassword(r.Ctx, r.Instance.ID, *password); err != nil {
			return err
		}
	}
	ended, again, err := r.Store.AccessesBack(r.Ctx, r.Instance, stood, r.Work.ID, why)
	if err != nil {
		return err
	}
	if len(ended)+len(again) > 0 {
		if err := r.Say("of %s again: %s; no longer: %s", r.Instance.Name, cmp.Or(strings.Join(again, ", "), "none"),
			cmp.Or(strings.Join(ended, ", "), "none")); err != nil {
			return err
		}
	}
	r.Instance, err = r.Store.InstanceByID(r.Ctx, r.Instance.ID)
	return err
}

// rules gives the copy the rules of the old one, once the lost key is refused there.
func (r *restoreJob) rules() error {
	c, x := r.copying(), r.D.Restore
	old, err := r.Groups(c.Old.CloudID)
	if err != nil {
		return err
	}
	var shared, ownIDs []string
	var own []cloud.Rule
	for _, g := range old {
		if g.Own {
			own, ownIDs = append(own, g.Rules...), append(ownIDs, g.ID)
		} else {
			shared = append(shared, g.ID)
		}
	}
	// What ends by itself ends there: on the copy nobody would end it.
	standing, err := r.Store.Admissions(r.Ctx, ownIDs)
	if err != nil {
		return err
	}
	own = slices.DeleteFunc(own, func(rule cloud.Rule) bool {
		n := slices.IndexFunc(standing, func(a store.Admission) bool { return a.RuleID == rule.ID && a.Until != nil })
		if n >= 0 {
			x.Left = append(x.Left, fmt.Sprintf("the rule for %s until %s was not carried over: plumlatch instance admit %s -from %s -for TIME",
				inbound.Word(rule.From, rule.Ports), times.Show(*standing[n].Until), r.Instance.Name, rule.From))
		}
		return n >= 0
	})
	group, err := r.ownGroup(r.Ctx)
	if err != nil {
		return err
	}
	if err := r.Effect("admit", func(ctx context.Context) error {
		for n, rule := range own {
			made, err := door.Asked(ctx, r.Run, func(ctx context.Context) (cloud.Rule, error) {
				return r.Cloud.Admit(ctx, fmt.Sprintf("%s-%d", r.ClientToken("admit"), n), group.ID, rule.From, rule.Ports, rule.Note)
			})
			if err != nil {
				return err
			}
			c.Rules = slices.DeleteFunc(c.Rules, func(id string) bool { return id == made.ID }) // it stays
		}
		return nil
	}); err != nil {
		return err
	}
	if err := r.Effect("groups", func(ctx context.Context) error {
		_, err := door.Asked(ctx, r.Run, func(ctx context.Context) (struct{}, error) {
			return struct{}{}, r.Cloud.SetGroups(ctx, r.ClientToken("groups"), c.CloudID, shared)
		})
		return err
	}); err != nil {
		return err
	}
	if err := r.Effect("unadmit", func(ctx context.Context) error {
		for _, id := range c.Rules {
			if _, err := door.Asked(ctx, r.Run, func(ctx context.Context) (struct{}, error) {
				return struct{}{}, r.Cloud.Unadmit(ctx, r.ClientToken("unadmit-"+id), group.ID, id)
			}); err != nil && !errors.Is(err, cloud.ErrNotFound) {
				return err
			}
		}
		return nil
	}); err != nil {
		return err
	}
	return r.Keep()
}

// oldRests stops the old one; and the copy too, if the old one did not run before.
func (r *restoreJob) oldRests() error {
	c, x := r.copying(), r.D.Restore
	id := c.Old.CloudID
	if x.Was != string(cloud.Running) {
		id = c.CloudID
	}
	if err := r.once("stop", func(ctx context.Context) error {
		_, err := r.Retry(ctx, func(ctx context.Context) (cloud.Instance, error) { return r.Cloud.Stop(ctx, r.ClientToken("stop"), id) })
		return err
	}); err != nil {
		return err
	}
	if id == r.Instance.CloudID {
		return r.Await(cloud.Stopped)
	}
	_, err := r.until(id, cloud.Stopped)
	return err
}

// oldRuns starts the old one again, if it ran before.
func (r *restoreJob) oldRuns() error {
	c, x := r.copying(), r.D.Restore
	if x.Was != string(cloud.Running) {
		return nil
	}
	err := r.Effect("start", func(ctx context.Context) error {
		if x.Asked["rest/stop"] { // it must not come late
			if _, err := r.Retry(ctx, func(ctx context.Context) (cloud.Instance, error) {
				return r.Cloud.Stop(ctx, r.TokenOf("rest", "stop"), c.Old.CloudID)
			}); err != nil && !errors.Is(err, cloud.ErrRefused) {
				return err
			}
			delete(x.Asked, "rest/stop")
		}
		return r.svc.startAgain(ctx, r.Run, c.Old.CloudID, r.ClientToken("start"))
	})
	if err != nil {
		return err
	}
	if _, err := r.until(c.Old.CloudID, cloud.Running); err != nil {
		return err
	}
	return r.Keep()
}

// startAgain starts a machine, once it is in a state to be started from.
func (w *Service) startAgain(ctx context.Context, r *door.Run, id, token string) error {
	began := time.Now()
	for {
		in, err := r.Get(id)
		if err != nil || in.State == cloud.Running || in.State == cloud.Pending {
			return err
		}
		if in.State == cloud.Stopped {
			_, err := r.Retry(ctx, func(ctx context.Context) (cloud.Instance, error) { return r.Cloud.Start(ctx, token, id) })
			return err
		}
		if time.Since(began) > r.StateLimit {
			return door.Failf("the cloud says that %s is %s for %s", id, in.State, r.StateLimit)
		}
		if err := r.Stopping(); err != nil {
			return err
		}
		r.Sleep(door.PollAfter(began))
	}
}

// tellCopy says what is another now, and what did not come along.
func (r *restoreJob) tellCopy() error {
	c, x := r.copying(), r.D.Restore
	x.Changed = append(x.Changed, fmt.Sprintf("it is %s at the cloud, and was %s", c.CloudID, c.Old.CloudID),
		"its private address is new; its machine-id is the old one's, as its image carried it")
	if c.Host.Blob != nil {
		x.Changed = append(x.Changed, "its host key: "+c.Host.Fingerprint+" (plumlatch hosts write)")
	}
	if c.Static == "" {
		who, err := r.whoKnows()
		if err != nil {
			return err
		}
		x.Left = append(x.Left, fmt.Sprintf("its address was dynamic, and is another one: tell %s, and whoever else has %s written down, that "+
			"it is %s (plumlatch hosts write)", cmp.Or(who, "whoever uses it"), x.Address, r.Instance.Address))
	}
	volumes, err := door.Asked(r.Ctx, r.Run, func(ctx context.Context) ([]cloud.Volume, error) {
		return r.Cloud.Volumes(ctx, c.Old.CloudID)
	})
	if err != nil && !errors.Is(err, cloud.ErrNotFound) {
		return err
	}
	for _, v := range volumes {
		if v.ID != x.Volume {
			x.Left = append(x.Left, fmt.Sprintf("volume %s (%s, %d GiB) is still at the old machine %s: move it in the cloud, and mount it",
				v.ID, v.Device, v.SizeGB, c.Old.CloudID))
		}
	}
	x.Left = append(x.Left, "not moved: its role at the cloud, and its places behind load balancers, which know the machine by its ID",
		"what stands twice now, on the copy and on the old machine: secrets, registrations and licences")
	return nil
}

// whoKnows are the holders of the keys that are recorded on the instance, as names for people.
func (r *restoreJob) whoKnows() (string, error) {
	rows, err := r.Store.AccessesOf(r.Ctx, r.Instance.ID)
	if err != nil {
		return "", err
	}
	var out []string
	for _, a := range rows {
		if a.Steward {
			continue
		}
		if who := cmp.Or(a.Holder, "the holder of "+a.Key); !slices.Contains(out, who) {
			out = append(out, who)
		}
	}
	slices.Sort(out)
	return strings.Join(out, ", "), nil
}

// keepOld begins the work that keeps the old one.
func (r *restoreJob) keepOld() error {
	c, x := r.copying(), r.D.Restore
	if c.Kept {
		return nil
	}
	now, err := r.Store.Now(r.Ctx)
	if err != nil {
		return err
	}
	keep := time.Duration(r.In.KeepSeconds) * time.Second
	in := keeping{Restore: r.Work.ID, Old: c.Old, Was: x.Was, Copy: c.CloudID, Image: c.Image, KeepImage: r.In.KeepImage,
		Until: now.Add(keep).UTC().Truncate(time.Second), Region: c.Region, Static: c.Static, StaticName: c.StaticName, Accesses: c.Accesses,
		Password: c.Password}
	for _, l := range r.In.LostKeys {
		k, err := r.Store.KeyByID(r.Ctx, l.ID)
		if err == nil && k.State == access.Exposed {
			in.Exposed = append(in.Exposed, k.Name)
		} else if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
	}
	kept := store.OldMachine{Cloud: r.Cloud.Name(), CloudID: c.Old.CloudID, Until: in.Until}
	if terms, err := r.Cloud.Terms(r.Ctx); err == nil {
		kept.WeekPrice, kept.Currency = terms.VolumeHourGB*float64(c.DiskGB)*24*7, terms.Currency
	}
	n := r.Begun(r.Named("restore-kept"), fmt.Sprintf("keep the old machine of %s, %s", r.Instance.Name, c.Old.CloudID), r.Work.Token+"-kept",
		r.Instance, fmt.Sprintf("keep %s, stopped, until %s", c.Old.CloudID, times.Show(in.Until)), in)
	by := store.Actor{Operator: r.Work.Operator, Address: r.Work.Address}
	c.Kept = true
	if err := r.Noting(func(ctx context.Context) error { return r.Store.KeepMachine(ctx, by, r.Instance, n, kept) }); err != nil {
		return err
	}
	r.Look()
	return nil
}
