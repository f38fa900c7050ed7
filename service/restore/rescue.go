package restore

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"plumlatch/core/authkeys"
	"plumlatch/core/cloudconfig"
	"plumlatch/core/keypair"
	"plumlatch/core/times"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/lifecycle"
	"plumlatch/service/store"
)

// RescueOptions are what a rescue instance's account is opened with for a piece of
// work: commands, no terminal and no forwarding, and an end that its server keeps.
func rescueOptions(ends time.Time) string {
	return `restrict,expiry-time="` + ends.UTC().Format("20060102150405") + `Z"`
}

// RescueTerms shows the line before it is agreed to.
func (w *Service) RescueTerms() wire.RescueTerms {
	return wire.RescueTerms{Line: strings.Replace(rescueOptions(time.Time{}), "00010101000000Z",
		"(four hours from then)", 1) + " ssh-ed25519 (a key made for each piece of work) plumlatch work N"}
}

// SetRescue says that an instance rescues others, or no longer. FieldError.
func (w *Service) SetRescue(ctx context.Context, by store.Actor, i store.Instance, c wire.RescueChange) error {
	if !c.On {
		if i.RescueFor != 0 {
			return door.FieldError{Field: "on", Problem: fmt.Sprintf("work %d has it at hand", i.RescueFor)}
		}
		return w.Store.SetRescue(ctx, by, i, false, "", "", "")
	}
	if err := w.EditableInstance(ctx, i); err != nil {
		return err
	}
	if i.Via != nil {
		return door.FieldError{Field: "on", Problem: "it is behind a jump host; one that can be reached is needed"}
	}
	regions, err := w.Clouds.Regions(ctx)
	if err != nil {
		return err
	}
	for _, region := range regions {
		if i.Region != "" && !i.Adopted && region.Name != i.Region {
			continue
		}
		all, err := w.Clouds.List(ctx, region.Name)
		if err != nil {
			return err
		}
		for _, in := range all {
			if in.ID == i.CloudID && !i.Adopted || i.Adopted && in.Address == i.Address && in.Port == i.Port {
				return w.Store.SetRescue(ctx, by, i, true, in.ID, in.Region, in.Zone)
			}
		}
	}
	return door.FieldError{Field: "on", Problem: fmt.Sprintf("no cloud of ours has an instance at %s port %d: "+
		"volumes could not be attached to it", i.Address, i.Port)}
}

// rescue finds a rescue instance in the zone that nobody uses, or launches
// one for this work. Either is opened by a key made for the work.
func (r *restoreJob) rescue() error {
	x := r.D.Restore
	if x.Rescue.Address != "" {
		return nil
	}
	c, err := r.Get(r.Instance.CloudID)
	if err != nil {
		return err
	}
	rescues, err := r.Store.Rescues(r.Ctx, c.Region, c.Zone)
	if err != nil {
		return err
	}
	busy := ""
	if x.Rescue.Asked { // one is being launched
		rescues = nil
	}
	for _, i := range rescues {
		if i.ID == r.Instance.ID || i.State != string(cloud.Running) && !i.Adopted {
			continue
		}
		err := r.Store.TakeRescue(r.Ctx, i.ID, r.Work.ID)
		if errors.Is(err, store.ErrInProgress) {
			busy = i.Name
			continue
		}
		if err != nil {
			return err
		}
		return r.openRescue(i)
	}
	if busy != "" && x.Rescue.CloudID == "" {
		return r.svc.rescueBusy(r.Run, busy)
	}
	shares, err := r.shares()
	if err != nil {
		return err
	}
	if x.Rescue.Shared != 0 || shares && !x.Rescue.Asked {
		return r.takeShared(c)
	}
	tags := map[string]string{"plumlatch-work": fmt.Sprint(r.Work.ID), "plumlatch-origin": r.Instance.Name}
	if !x.Rescue.Asked {
		if x.Rescue, err = r.rescueSettings(c, r.Work.ID, fmt.Sprintf("rescue-w%d", r.Work.ID),
			rescueEnds); err != nil {
			return err
		}
	}
	if err := r.launchRescue(c, &x.Rescue, tags, r.ClientToken("launch"),
		func() error { return r.Keep() }); err != nil {
		return err
	}
	return r.Say("%s was launched for this work, and goes with it", x.Rescue.Name)
}

// rescueBusy waits until other work is done with a rescue instance.
func (w *Service) rescueBusy(r *door.Run, name string) error {
	over, err := r.WaitOver()
	if err != nil {
		return err
	}
	if over {
		return door.Failf("the rescue instance %s was at hand for other work all the time", name)
	}
	return r.Wait(wire.WaitsRescue, fmt.Sprintf("a rescue instance: %s is at hand for other work, and takes one "+
		"volume at a time", name), 2*time.Second, grantLimit)
}

// workKey makes the key of a piece of work, once.
func (w *Service) workKey(r *door.Run, work int64) (keypair.Public, error) {
	comment := fmt.Sprintf("plumlatch work %d", work)
	k, err := r.Store.WorkKeyOf(r.Ctx, work)
	if errors.Is(err, store.ErrNotFound) {
		pair, e := keypair.Create(keypair.Ed25519, comment)
		if e != nil {
			return keypair.Public{}, e
		}
		if k.Sealed, err = r.Encrypt(r.Ctx, pair); err != nil {
			return keypair.Public{}, err
		}
		k, err = r.Store.KeepWorkKey(r.Ctx, work, store.WorkKey{Blob: pair.Public.Blob, Sealed: k.Sealed})
	}
	if err != nil {
		return keypair.Public{}, err
	}
	return keypair.FromBlob(k.Blob, comment)
}

// rescueLines let a key into a rescue instance, with an end; and the engineer's own, where files are to be copied out from there, or a volume to be
// opened.
func (r *restoreJob) rescueLines(ends time.Time, key keypair.Public) ([]string, error) {
	options := rescueOptions(ends) + " "
	lines := []string{options + key.Line()}
	if r.In.Route != fetchRoute.Name && !r.In.Unlock {
		return lines, nil
	}
	k, err := r.Store.KeyByID(r.Ctx, r.In.NewID)
	return append(lines, options+k.Public().Line()), err
}

// openRescue has the steward of a rescue instance that was there place the line
// of this work's key, with an end.
func (r *restoreJob) openRescue(i store.Instance) error {
	x := r.D.Restore
	key, err := r.svc.workKey(r.Run, r.Work.ID)
	if err != nil {
		return err
	}
	now, err := r.Store.Now(r.Ctx)
	if err != nil {
		return err
	}
	if len(x.Rescue.Lines) == 0 {
		lines, err := r.rescueLines(now.Add(rescueEnds), key)
		if err != nil {
			return err
		}
		hostKeys, err := r.Store.HostKeys(r.Ctx, i.ID)
		if err != nil {
			return err
		}
		x.Rescue = rescueAt{CloudID: i.RescueCloudID, InstanceID: i.ID, Name: i.Name, Port: i.Port,
			User: i.LoginUser, Lines: lines}
		for _, h := range hostKeys {
			x.Rescue.HostKeys = append(x.Rescue.HostKeys, h.Blob)
		}
		if err := r.Keep(); err != nil {
			return err
		}
	}
	files, done, err := r.Steward(r.Ctx, i)
	if err != nil {
		return door.Failure{Reason: fmt.Sprintf("the rescue instance %s: %s", i.Name, door.Words(err))}
	}
	defer done()
	all, err := door.ReadFiles(files, i)
	if err != nil {
		return err
	}
	if len(all) == 0 {
		return door.Failf("the rescue instance %s has no file of keys", i.Name)
	}
	doc := authkeys.ParseDocument(all[0].Data)
	if err := r.Effect("append", func(context.Context) error {
		for n, line := range x.Rescue.Lines {
			if doc.Has(line) {
				continue
			}
			if _, err := reach.AddLine(files, all[0].Name, line, now.Add(time.Duration(n))); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		return err
	}
	x.Rescue.Address = i.Address
	if err := r.Keep(); err != nil {
		return err
	}
	return r.Say("%s takes the volume; %s is let in there until %s", i.Name, key.Fingerprint(),
		times.Show(now.Add(rescueEnds).UTC()))
}

// rescueSettings is what a rescue instance is launched with: its account opens to
// the key of a piece of work, until the end.
func (r *restoreJob) rescueSettings(c cloud.Instance, work int64, name string, life time.Duration) (at rescueAt,
	err error) {
	p := r.Cloud.Properties()
	images, err := r.svc.ImagesOf(r.Ctx, c.Region)
	if err != nil {
		return at, err
	}
	user := ""
	for _, m := range images {
		if m.Name == p.RescueImage {
			user = m.LoginUser
		}
	}
	if user == "" {
		return at, door.Failf("the image %s, which rescue instances are launched from, is not to be had in %s",
			p.RescueImage, c.Region)
	}
	key, err := r.svc.workKey(r.Run, work)
	if err != nil {
		return at, err
	}
	now, err := r.Store.Now(r.Ctx)
	if err != nil {
		return at, err
	}
	ends := now.Add(life).UTC().Truncate(time.Second)
	lines, err := r.rescueLines(ends, key)
	if err != nil {
		return at, err
	}
	text, err := cloudconfig.Build(cloudconfig.Settings{Hostname: name, LoginUser: user, Keys: lines,
		MaxSize: p.MaxUserData})
	return rescueAt{Asked: true, Name: name, Size: p.RescueSize, User: user, Ends: ends, UserData: text.Text}, err
}

// launchRescue launches a rescue instance, or goes on where that was left off,
// until its server can be trusted. keep keeps what is known of it.
func (r *restoreJob) launchRescue(c cloud.Instance, at *rescueAt, tags map[string]string, token string,
	keep func() error) error {
	if at.Address != "" {
		return nil
	}
	tags["plumlatch-kind"], tags["plumlatch-until"] = "rescue", at.Ends.Format(time.RFC3339)
	if err := keep(); err != nil { // the same launch has to be asked for again after a kill
		return err
	}
	var in cloud.Instance
	err := r.Effect("launch", func(ctx context.Context) (err error) {
		in, err = r.Retry(ctx, func(ctx context.Context) (cloud.Instance, error) {
			return r.Cloud.Launch(ctx, token,
				cloud.Launch{Name: at.Name, Region: c.Region, Zone: c.Zone, Image: r.Cloud.Properties().RescueImage,
					Size: at.Size, UserData: at.UserData, Tags: tags})
		})
		return err
	})
	if err != nil {
		return err
	}
	at.CloudID = in.ID
	if err := keep(); err != nil {
		return err
	}
	began := time.Now()
	for deadline := began.Add(r.StateLimit); in.State != cloud.Running; {
		if in, err = r.Get(at.CloudID); err != nil {
			return err
		}
		if time.Now().After(deadline) || in.State == cloud.Removed {
			return door.Failf("the rescue instance %s does not come up: the cloud says %s", at.Name, in.State)
		}
		if err := r.Stopping(); err != nil {
			return err
		}
		r.Sleep(door.PollAfter(began))
	}
	if in.Port == 0 {
		in.Port = 22
	}
	side := *r.Run // the same look as at a launch: its host key, vouched for by its first boot's output
	side.Instance = store.Instance{CloudID: in.ID, Address: in.Address, Port: in.Port, LoginUser: at.User}
	hostKey, trouble, err := side.VouchedHostKey()
	if err != nil {
		return err
	}
	if trouble != "" {
		return door.Failf("the rescue instance %s: %s", at.Name, trouble)
	}
	at.Address, at.Port, at.HostKeys = in.Address, in.Port, [][]byte{hostKey.Blob}
	return keep()
}

// dismiss gives the rescue instance up: our line out of one that was there,
// and the end of one that was launched for the work.
func (r *restoreJob) dismiss() error {
	if r.D.Restore.Rescue.Gone {
		return nil
	}
	var err error
	x := r.D.Restore
	if x.Rescue.InstanceID != 0 {
		if err := r.shutRescue(); err != nil {
			return err
		}
	} else if x.Rescue.Shared != 0 {
		if err := r.giveShared(x); err != nil {
			return err
		}
	} else if id := x.Rescue.CloudID; id != "" || x.Rescue.Asked {
		if id == "" {
			if id, err = r.svc.lostRescue(r.Run, r.TokenOf("rescue", "launch")); err != nil {
				return err
			}
		}
		if id != "" {
			if err := r.notAt(x, id); err != nil {
				return err
			}
			if err := r.svc.removeRescue(r.Run, id, r.ClientToken("remove")); err != nil {
				return err
			}
		}
	}
	if err := errors.Join(r.Store.GiveRescue(r.Ctx, r.Work.ID), r.Store.DropWorkKey(r.Ctx, r.Work.ID)); err != nil {
		return err
	}
	x.Rescue.Gone = true
	return r.Keep()
}

// notAt makes sure that the volume is not at a rescue instance that is to be given
// up. If the cloud does not answer, it may still be there: that is an error.
func (r *restoreJob) notAt(x *restored, id string) error {
	if x.Volume == "" || id == "" {
		return nil
	}
	v, err := r.svc.volume(r.Run, x.Volume)
	if errors.Is(err, cloud.ErrNotFound) {
		return nil
	}
	if err == nil && v.Instance == id {
		return door.Failf("volume %s is still at the rescue instance %s, which therefore stays",
			x.Volume, x.Rescue.Name)
	}
	return err
}

// lostRescue finds what was launched though its answer was lost.
func (w *Service) lostRescue(r *door.Run, token string) (string, error) {
	deadline := time.Now().Add(min(lifecycle.LateLimit, 2*r.StateLimit))
	for {
		in, err := r.Retry(r.Ctx, func(ctx context.Context) (cloud.Instance, error) {
			return r.Cloud.ByToken(ctx, token)
		})
		if err == nil || !errors.Is(err, cloud.ErrNotFound) {
			return in.ID, err
		}
		if time.Now().After(deadline) {
			return "", nil
		}
		if err := r.Stopping(); err != nil {
			return "", err
		}
		r.Sleep(5 * door.Poll)
	}
}

func (w *Service) removeRescue(r *door.Run, id, token string) error {
	return w.removeMachine(r, "the rescue instance", id, token)
}

// removeMachine removes a machine that is no instance of the ledger, and waits until it is gone. what it is, is for words.
func (w *Service) removeMachine(r *door.Run, what, id, token string) error {
	err := r.Effect("remove", func(ctx context.Context) error {
		_, err := r.Retry(ctx, func(ctx context.Context) (cloud.Instance, error) {
			return r.Cloud.Remove(ctx, token, id)
		})
		return err
	})
	began := time.Now()
	for deadline := began.Add(r.StateLimit); err == nil; {
		var in cloud.Instance
		if in, err = r.Get(id); err == nil && in.State == cloud.Removed {
			return nil
		}
		if time.Now().After(deadline) {
			return door.Failf("%s %s is not gone: the cloud says %s", what, id, in.State)
		}
		if stop := r.Stopping(); stop != nil {
			return stop
		}
		r.Sleep(door.PollAfter(began))
	}
	if errors.Is(err, cloud.ErrNotFound) {
		return nil
	}
	return err
}

// shutRescue takes our line out of a rescue instance that was there. If nobody
// gets in there now, the line's own end shuts it, and that is said.
func (r *restoreJob) shutRescue() error {
	x := r.D.Restore
	i, err := r.Store.InstanceByID(r.Ctx, x.Rescue.InstanceID)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(r.Ctx, 30*time.Second)
	defer cancel()
	files, done, err := r.Steward(ctx, i)
	if err == nil {
		defer done()
		var all []door.KeysFile
		if all, err = door.ReadFiles(files, i); err == nil {
			now, e := r.Store.Now(r.Ctx)
			if e != nil {
				return e
			}
			err = r.Effect("take-out", func(ctx context.Context) error {
				return door.WithdrawLent(ctx, files, all, x.Rescue.Lines, now)
			})
		}
	}
	if r.Ctx.Err() != nil || errors.Is(err, store.ErrLost) {
		return store.ErrLost
	}
	if err != nil {
		x.Left = append(x.Left, fmt.Sprintf("this work's line still stands on the rescue instance %s, which its "+
			"own end shuts (%s)", x.Rescue.Name, door.Words(err)))
	}
	return nil
}

// inRescue opens a session on the rescue instance.
func (r *restoreJob) inRescue(x *restored) (*reach.Rescue, error) {
	k, err := r.Store.WorkKeyOf(r.Ctx, cmp.Or(x.Rescue.KeyOf, r.Work.ID))
	if err != nil {
		return nil, err
	}
	signer, err := r.Decrypt(r.Ctx, k.Sealed)
	if err != nil {
		return nil, err
	}
	t := reach.Target{Address: x.Rescue.Address, Port: x.Rescue.Port, User: x.Rescue.User, HostKeys: x.Rescue.HostKeys}
	s, err := reach.EnterRescue(r.Ctx, r.Reach, t, signer)
	if errors.Is(err, reach.ErrNoRoot) {
		return nil, door.Failure{Reason: door.Words(err)}
	}
	if err != nil {
		err = fmt.Errorf("the rescue instance %s: %w", x.Rescue.Name, err)
	}
	return s, err
}
