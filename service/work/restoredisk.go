package work

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"plumlatch/core/authkeys"
	"plumlatch/core/cloudconfig"
	"plumlatch/core/keypair"
	"plumlatch/core/routes"
	"plumlatch/core/wire"
	"plumlatch/service/cloud"
	"plumlatch/service/reach"
	"plumlatch/service/store"
)

// RescueOptions are what a rescue instance's account is opened with for a piece of
// work: commands, no terminal and no forwarding, and an end that its server keeps.
func rescueOptions(ends time.Time) string {
	return `restrict,expiry-time="` + ends.UTC().Format("20060102150405") + `Z"`
}

// RescueTerms shows the line before it is agreed to.
func (w *Worker) RescueTerms() wire.RescueTerms {
	return wire.RescueTerms{Line: strings.Replace(rescueOptions(time.Time{}), "00010101000000Z", "(four hours from then)", 1) + " ssh-ed25519 (a key made for each piece of work) plumlatch work N"}
}

// SetRescue says that an instance rescues others, or no longer. FieldError.
func (w *Worker) SetRescue(ctx context.Context, by store.Actor, i store.Instance, c wire.RescueChange) error {
	if !c.On {
		if i.RescueFor != 0 {
			return FieldError{Field: "on", Problem: fmt.Sprintf("work %d has it at hand", i.RescueFor)}
		}
		return w.Store.SetRescue(ctx, by, i, false, "", "", "")
	}
	if err := w.editableInstance(ctx, i); err != nil {
		return err
	}
	if i.Via != nil {
		return FieldError{Field: "on", Problem: "it is behind a jump host; one that can be reached is needed"}
	}
	regions, err := w.Cloud.Regions(ctx)
	if err != nil {
		return err
	}
	for _, region := range regions {
		if i.Region != "" && !i.Adopted && region.Name != i.Region {
			continue
		}
		all, err := w.Cloud.List(ctx, region.Name)
		if err != nil {
			return err
		}
		for _, in := range all {
			if in.ID == i.CloudID && !i.Adopted || i.Adopted && in.Address == i.Address && in.Port == i.Port {
				return w.Store.SetRescue(ctx, by, i, true, in.ID, in.Region, in.Zone)
			}
		}
	}
	return FieldError{Field: "on", Problem: fmt.Sprintf("no cloud of ours has an instance at %s port %d: volumes could not be attached to it", i.Address, i.Port)}
}

// restoreRescue finds a rescue instance in the zone that nobody uses, or launches
// one for this work. Either is opened by a key made for the work.
func (r *Run) restoreRescue() error {
	_, d, err := r.restoration()
	if err != nil {
		return err
	}
	x := d.Restore
	if x.Rescue.Address != "" {
		return nil
	}
	key, err := r.workKey()
	if err != nil {
		return err
	}
	c, err := r.get(r.Instance.CloudID)
	if err != nil {
		return err
	}
	rescues, err := r.Store.Rescues(r.ctx, c.Region, c.Zone)
	if err != nil {
		return err
	}
	busy := ""
	for _, i := range rescues {
		if i.ID == r.Instance.ID || i.State != string(cloud.Running) && !i.Adopted {
			continue
		}
		err := r.Store.TakeRescue(r.ctx, i.ID, r.Work.ID)
		if errors.Is(err, store.ErrInProgress) {
			busy = i.Name
			continue
		}
		if err != nil {
			return err
		}
		return r.openRescue(&d, i, key)
	}
	if busy != "" && x.Rescue.CloudID == "" && !x.Rescue.Asked {
		over, err := r.WaitOver()
		if err != nil {
			return err
		}
		if over {
			return failf("the rescue instance %s was at hand for other work all the time", busy)
		}
		return r.Wait(fmt.Sprintf("a rescue instance: %s is at hand for other work, and takes one volume at a time", busy), 2*time.Second, grantLimit)
	}
	return r.launchRescue(&d, c, key)
}

// workKey makes the key of this work, once.
func (r *Run) workKey() (keypair.Public, error) {
	k, err := r.Store.WorkKeyOf(r.ctx, r.Work.ID)
	if errors.Is(err, store.ErrNotFound) {
		pair, e := keypair.Create(keypair.Ed25519, fmt.Sprintf("plumlatch work %d", r.Work.ID))
		if e != nil {
			return keypair.Public{}, e
		}
		if k.Sealed, err = r.seal(r.ctx, pair); err != nil {
			return keypair.Public{}, err
		}
		k, err = r.Store.KeepWorkKey(r.ctx, r.Work.ID, store.WorkKey{Blob: pair.Public.Blob, Sealed: k.Sealed})
	}
	if err != nil {
		return keypair.Public{}, err
	}
	return keypair.FromBlob(k.Blob, fmt.Sprintf("plumlatch work %d", r.Work.ID))
}

// rescueLines let this work's key into a rescue instance, with an end; and the
// engineer's own, where files are to be copied out from there.
func (r *Run) rescueLines(now time.Time, key keypair.Public) ([]string, error) {
	options := rescueOptions(now.Add(rescueEnds)) + " "
	lines := []string{options + key.Line()}
	in, _, err := r.restoration()
	if err != nil || in.Route != fetchRoute.Name {
		return lines, err
	}
	k, err := r.Store.KeyByID(r.ctx, in.NewID)
	return append(lines, options+k.Public().Line()), err
}

// openRescue has the steward of a rescue instance that was there place the line
// of this work's key, with an end.
func (r *Run) openRescue(d *rotated, i store.Instance, key keypair.Public) error {
	x := d.Restore
	now, err := r.Store.Now(r.ctx)
	if err != nil {
		return err
	}
	if len(x.Rescue.Lines) == 0 {
		lines, err := r.rescueLines(now, key)
		if err != nil {
			return err
		}
		hostKeys, err := r.Store.HostKeys(r.ctx, i.ID)
		if err != nil {
			return err
		}
		x.Rescue = rescueAt{CloudID: i.RescueCloudID, InstanceID: i.ID, Name: i.Name, Port: i.Port, User: i.LoginUser, Lines: lines}
		for _, h := range hostKeys {
			x.Rescue.HostKeys = append(x.Rescue.HostKeys, h.Blob)
		}
		if err := r.SetData(*d); err != nil {
			return err
		}
	}
	files, done, err := r.steward(r.ctx, i)
	if err != nil {
		return Failure{fmt.Sprintf("the rescue instance %s: %s", i.Name, words(err))}
	}
	defer done()
	all, err := readFiles(files, i)
	if err != nil {
		return err
	}
	if len(all) == 0 {
		return failf("the rescue instance %s has no file of keys", i.Name)
	}
	doc := authkeys.ParseDocument(all[0].data)
	if err := r.Effect("append", func(context.Context) error {
		for n, line := range x.Rescue.Lines {
			if doc.Has(line) {
				continue
			}
			if _, err := reach.AddLine(files, all[0].name, line, now.Add(time.Duration(n))); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		return err
	}
	x.Rescue.Address = i.Address
	if err := r.SetData(*d); err != nil {
		return err
	}
	return r.Say("%s takes the volume; %s is let in there until %s", i.Name, key.Fingerprint(), now.Add(rescueEnds).UTC().Format("2006-01-02 15:04 UTC"))
}

// launchRescue launches a rescue instance for this work alone.
func (r *Run) launchRescue(d *rotated, c cloud.Instance, key keypair.Public) error {
	x, p := d.Restore, r.Cloud.Properties()
	images, err := r.imagesOf(r.ctx, c.Region)
	if err != nil {
		return err
	}
	user := ""
	for _, m := range images {
		if m.Name == p.RescueImage {
			user = m.LoginUser
		}
	}
	if user == "" {
		return failf("the image %s, which rescue instances are launched from, is not to be had in %s", p.RescueImage, c.Region)
	}
	now, err := r.Store.Now(r.ctx)
	if err != nil {
		return err
	}
	name := fmt.Sprintf("rescue-w%d", r.Work.ID)
	lines, err := r.rescueLines(now, key)
	if err != nil {
		return err
	}
	text, err := cloudconfig.Build(cloudconfig.Settings{Hostname: name, LoginUser: user, Keys: lines, MaxSize: p.MaxUserData})
	if err != nil {
		return err
	}
	if !x.Rescue.Asked {
		x.Rescue = rescueAt{Asked: true, Name: name, Size: p.RescueSize, User: user}
		x.UserData = text.Text // the same launch has to be asked for again after a kill
		if err := r.SetData(*d); err != nil {
			return err
		}
	}
	var in cloud.Instance
	err = r.Effect("launch", func(ctx context.Context) (err error) {
		in, err = r.retry(ctx, func(ctx context.Context) (cloud.Instance, error) {
			return r.Cloud.Launch(ctx, r.ClientToken("launch"), cloud.Launch{Name: name, Region: c.Region, Zone: c.Zone, Image: p.RescueImage, Size: p.RescueSize, UserData: x.UserData,
				Tags: map[string]string{"plumlatch-work": fmt.Sprint(r.Work.ID), "plumlatch-origin": r.Instance.Name, "plumlatch-kind": "rescue"}})
		})
		return err
	})
	if err != nil {
		return err
	}
	x.Rescue.CloudID = in.ID
	if err := r.SetData(*d); err != nil {
		return err
	}
	began := time.Now()
	for deadline := began.Add(r.StateLimit); in.State != cloud.Running; {
		if in, err = r.get(x.Rescue.CloudID); err != nil {
			return err
		}
		if time.Now().After(deadline) || in.State == cloud.Removed {
			return failf("the rescue instance %s does not come up: the cloud says %s", name, in.State)
		}
		if err := r.stopping(); err != nil {
			return err
		}
		r.sleep(pollAfter(began))
	}
	if in.Port == 0 {
		in.Port = 22
	}
	side := *r // the same look as at a launch: its host key, vouched for by its first boot's output
	side.Instance = store.Instance{CloudID: in.ID, Address: in.Address, Port: in.Port, LoginUser: user}
	hostKey, trouble, err := side.vouchedHostKey()
	if err != nil {
		return err
	}
	if trouble != "" {
		return failf("the rescue instance %s: %s", name, trouble)
	}
	x.Rescue.Address, x.Rescue.Port, x.Rescue.HostKeys = in.Address, in.Port, [][]byte{hostKey.Blob}
	if err := r.SetData(*d); err != nil {
		return err
	}
	return r.Say("%s was launched for this work, and goes with it", name)
}

// restoreDismiss gives the rescue instance up: our line out of one that was there,
// and the end of one that was launched for the work.
func (r *Run) restoreDismiss() error {
	_, d, err := r.restoration()
	if err != nil || d.Restore.Rescue.Gone {
		return err
	}
	x := d.Restore
	if x.Rescue.InstanceID != 0 {
		if err := r.shutRescue(&d); err != nil {
			return err
		}
	} else if id := x.Rescue.CloudID; id != "" || x.Rescue.Asked {
		if id == "" {
			if id, err = r.lostRescue(); err != nil {
				return err
			}
		}
		if id != "" {
			if v, err := r.volume(x.Volume); err == nil && v.Instance == id {
				return failf("volume %s is still at the rescue instance %s, which therefore stays", x.Volume, x.Rescue.Name)
			}
			if err := r.removeRescue(id); err != nil {
				return err
			}
		}
	}
	if err := errors.Join(r.Store.GiveRescue(r.ctx, r.Work.ID), r.Store.DropWorkKey(r.ctx, r.Work.ID)); err != nil {
		return err
	}
	x.Rescue.Gone = true
	return r.SetData(d)
}

// lostRescue finds what was launched though its answer was lost.
func (r *Run) lostRescue() (string, error) {
	deadline := time.Now().Add(min(lateLimit, 2*r.StateLimit))
	for {
		in, err := r.retry(r.ctx, func(ctx context.Context) (cloud.Instance, error) {
			return r.Cloud.ByToken(ctx, r.tokenOf("rescue", "launch"))
		})
		if err == nil || !errors.Is(err, cloud.ErrNotFound) {
			return in.ID, err
		}
		if time.Now().After(deadline) {
			return "", nil
		}
		if err := r.stopping(); err != nil {
			return "", err
		}
		r.sleep(5 * poll)
	}
}

func (r *Run) removeRescue(id string) error {
	err := r.Effect("remove", func(ctx context.Context) error {
		_, err := r.retry(ctx, func(ctx context.Context) (cloud.Instance, error) {
			return r.Cloud.Remove(ctx, r.ClientToken("remove"), id)
		})
		return err
	})
	began := time.Now()
	for deadline := began.Add(r.StateLimit); err == nil; {
		var in cloud.Instance
		if in, err = r.get(id); err == nil && in.State == cloud.Removed {
			return nil
		}
		if time.Now().After(deadline) {
			return failf("the rescue instance %s is not gone: the cloud says %s", id, in.State)
		}
		if stop := r.stopping(); stop != nil {
			return stop
		}
		r.sleep(pollAfter(began))
	}
	if errors.Is(err, cloud.ErrNotFound) {
		return nil
	}
	return err
}

// shutRescue takes our line out of a rescue instance that was there. If nobody
// gets in there now, the line's own end shuts it, and that is said.
func (r *Run) shutRescue(d *rotated) error {
	x := d.Restore
	i, err := r.Store.InstanceByID(r.ctx, x.Rescue.InstanceID)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(r.ctx, 30*time.Second)
	defer cancel()
	files, done, err := r.steward(ctx, i)
	if err == nil {
		defer done()
		var all []keysFile
		if all, err = readFiles(files, i); err == nil {
			now, e := r.Store.Now(r.ctx)
			if e != nil {
				return e
			}
			err = r.Effect("take-out", func(ctx context.Context) error {
				for _, f := range all {
					there := authkeys.ParseDocument(f.data)
					if !slices.ContainsFunc(x.Rescue.Lines, there.Has) {
						continue
					}
					if _, err := reach.Edit(ctx, files, f.name, reach.EditOptions{Now: now}, func(doc *authkeys.Document) error {
						for _, line := range x.Rescue.Lines {
							doc.RemoveAppended(line)
						}
						return nil
					}); err != nil {
						return err
					}
				}
				return nil
			})
		}
	}
	if r.ctx.Err() != nil || errors.Is(err, store.ErrLost) {
		return store.ErrLost
	}
	if err != nil {
		x.Left = append(x.Left, fmt.Sprintf("this work's line still stands on the rescue instance %s, which its own end shuts (%s)", x.Rescue.Name, words(err)))
	}
	return nil
}

// inRescue opens a session on the rescue instance.
func (r *Run) inRescue(x *restored) (*reach.Rescue, error) {
	k, err := r.Store.WorkKeyOf(r.ctx, r.Work.ID)
	if err != nil {
		return nil, err
	}
	signer, err := r.unseal(r.ctx, k.Sealed)
	if err != nil {
		return nil, err
	}
	t := reach.Target{Address: x.Rescue.Address, Port: x.Rescue.Port, User: x.Rescue.User, HostKeys: x.Rescue.HostKeys}
	s, err := reach.EnterRescue(r.ctx, r.Reach, t, signer)
	if errors.Is(err, reach.ErrNoRoot) {
		return nil, Failure{words(err)}
	}
	if err != nil {
		err = fmt.Errorf("the rescue instance %s: %w", x.Rescue.Name, err)
	}
	return s, err
}

// restoreLend attaches the volume to the rescue instance, and finds the disk that
// has come up there.
func (r *Run) restoreLend() error {
	_, d, err := r.restoration()
	if err != nil {
		return err
	}
	x := d.Restore
	s, err := r.inRescue(x)
	if err != nil {
		return err
	}
	defer s.Close()
	if x.Before == nil {
		all, err := s.Disks(r.ctx)
		if err != nil {
			return err
		}
		x.Before = routes.Names(all)
	}
	if err := r.once(&d, "attach", func(ctx context.Context) error {
		_, err := asked(ctx, r, func(ctx context.Context) (cloud.Volume, error) {
			return r.Cloud.Attach(ctx, r.ClientToken("attach"), x.Volume, x.Rescue.CloudID, "", r.volumeNote())
		})
		return err
	}); err != nil {
		return err
	}
	v, err := r.settledVolume(x.Volume)
	if err != nil {
		return err
	}
	if v.State != cloud.VolumeInUse || v.Instance != x.Rescue.CloudID {
		return failf("volume %s was not attached to the rescue instance: the cloud says that it is %s", x.Volume, v.State)
	}
	began := time.Now()
	for deadline := began.Add(min(time.Minute, r.StateLimit)); ; {
		all, err := s.Disks(r.ctx)
		if err != nil {
			return err
		}
		disk, err := routes.Attached(x.Before, all, x.Volume)
		if err == nil {
			if x.Disk, err = s.Identify(r.ctx, disk); err != nil {
				return err
			}
			return r.SetData(d)
		}
		if time.Now().After(deadline) {
			return Failure{words(err)}
		}
		if stop := r.stopping(); stop != nil {
			return stop
		}
		r.sleep(pollAfter(began))
	}
}

// restoreLendBack takes the volume off the rescue instance again.
func (r *Run) restoreLendBack() error {
	_, d, err := r.restoration()
	if err != nil || d.Restore.Home || d.Restore.Volume == "" {
		return err
	}
	x := d.Restore
	v, err := r.settledVolume(x.Volume)
	if err != nil || !x.Asked["lend/attach"] && (v.Instance == "" || v.Instance != x.Rescue.CloudID) {
		return err
	}
	return r.Effect("detach", func(ctx context.Context) error {
		if err := r.nothingLate(ctx, &d); err != nil {
			return err
		}
		v, err := r.settledVolume(x.Volume)
		if err != nil || v.Instance == "" || v.Instance != x.Rescue.CloudID {
			return err
		}
		return r.detachNow(ctx, r.ClientToken("detach-back"), x.Volume)
	})
}

// restoreMount finds the filesystem with the login user's system among those of
// the disk, by what is on it, and mounts it for writing; and the one that its
// home lies on, if that is another.
func (r *Run) restoreMount() error {
	in, d, err := r.restoration()
	if err != nil {
		return err
	}
	x := d.Restore
	s, err := r.inRescue(x)
	if err != nil {
		return err
	}
	defer s.Close()
	files, end, err := s.Files()
	if err != nil {
		return err
	}
	defer end.Close()
	at := "/run/plumlatch-" + r.Work.Token[:8]
	return r.Effect("mount", func(ctx context.Context) error {
		b := reach.Beneath{Files: files, Mount: at}
		parts, not := routes.Candidates(x.Disk)
		type system struct {
			part    routes.BlockDevice
			account routes.Account
			fstab   string
		}
		var found []system
		for _, p := range parts {
			x.Mounts = []mounted{{p.Path(), p.FSType, at}}
			if err := r.SetData(d); err != nil { // before it is mounted, for whoever unmounts it
				return err
			}
			if err := s.Mount(ctx, p.Path(), p.FSType, at, true); err != nil {
				if ctx.Err() != nil {
					return err
				}
				not = append(not, p.Name+": "+words(err))
				continue
			}
			passwd, err := b.Read("/etc/passwd")
			acct, ok := routes.ReadAccount(passwd, r.Instance.LoginUser)
			switch {
			case err == nil && ok:
				fstab, _ := b.Read("/etc/fstab")
				found = append(found, system{p, acct, fstab})
			case err == nil:
				not = append(not, p.Name+" has a system without the user "+r.Instance.LoginUser)
			case !errors.Is(err, reach.ErrMissing):
				not = append(not, p.Name+": "+words(err))
			}
			if err := s.Unmount(ctx, p.Path(), at); err != nil {
				return err
			}
		}
		switch {
		case len(found) == 0:
			reason := "no filesystem on the volume has a system with the user " + r.Instance.LoginUser
			if len(not) > 0 {
				reason += ": " + strings.Join(not, "; ")
			}
			return Failure{reason}
		case len(found) > 1:
			return failf("%s and %s both hold a system with the user %s: which one it boots from is not known", found[0].part.Name, found[1].part.Name, r.Instance.LoginUser)
		}
		sys := found[0]
		x.Account, x.Mounts = sys.account, []mounted{{sys.part.Path(), sys.part.FSType, at}}
		if spec, dir := routes.HomeApart(sys.fstab, sys.account.Home); spec != "" {
			p, ok := routes.Named(x.Disk, spec)
			if !ok {
				return failf("the home of %s lies on %s, which is not on this volume", r.Instance.LoginUser, spec)
			}
			x.Mounts = append(x.Mounts, mounted{p.Path(), p.FSType, path.Join(at, dir)})
		}
		if err := r.SetData(d); err != nil {
			return err
		}
		for _, m := range x.Mounts {
			if err := s.Mount(ctx, m.Device, m.FSType, m.At, in.Route == fetchRoute.Name); err != nil {
				return Failure{words(err)}
			}
		}
		return nil
	})
}

// restoreCopied waits until the engineer's client has copied what it wanted,
// straight from the rescue instance. It holds the instance: its volume is away.
func (r *Run) restoreCopied() error {
	for {
		text, err := r.Store.WorkInput(r.ctx, r.Work.ID)
		if err != nil {
			return err
		}
		r.Work.Input = text
		in, _, err := r.restoration()
		if err != nil || in.Fetched {
			return err
		}
		left, err := r.left(copyLimit)
		if err != nil {
			return err
		}
		if left <= 0 {
			return failf("nobody has said within %s that the files are copied", spanWords(copyLimit))
		}
		if err := r.stopping(); err != nil {
			return err
		}
		r.sleep(2 * poll)
	}
}

// restoreUnmount unmounts whatever of the volume is mounted, and makes sure of it.
func (r *Run) restoreUnmount() error {
	_, d, err := r.restoration()
	if err != nil || len(d.Restore.Mounts) == 0 || d.Restore.Home {
		return err
	}
	x := d.Restore
	s, err := r.inRescue(x)
	if err != nil {
		// One that does not run has nothing mounted.
		if in, e := r.get(x.Rescue.CloudID); errors.Is(e, cloud.ErrNotFound) || e == nil && in.State != cloud.Running && in.State != cloud.Stopping {
			x.Mounts = nil
			if e := r.SetData(d); e != nil || r.Work.Back {
				return e
			}
		}
		return err
	}
	defer s.Close()
	if err := r.Effect("unmount", func(ctx context.Context) error {
		for n := len(x.Mounts) - 1; n >= 0; n-- {
			if err := s.Unmount(ctx, x.Mounts[n].Device, x.Mounts[n].At); errors.Is(err, reach.ErrMounted) {
				return Failure{words(err)}
			} else if err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		return err
	}
	x.Mounts = nil
	return r.SetData(d)
}

// restoreEdit adds the lines beneath the mount.
func (r *Run) restoreEdit() error {
	in, d, err := r.restoration()
	if err != nil {
		return err
	}
	x := d.Restore
	if len(x.Mounts) == 0 {
		return failf("the volume is not mounted")
	}
	s, err := r.inRescue(x)
	if err != nil {
		return err
	}
	defer s.Close()
	files, end, err := s.Files()
	if err != nil {
		return err
	}
	defer end.Close()
	b := reach.Beneath{Files: files, Mount: x.Mounts[0].At}
	if x.Added.File == "" {
		lines, err := r.linesFor(r.ctx, r.Instance, in.NewID)
		if err != nil {
			return err
		}
		if x.Added, err = b.Plan(x.Account, filesOf(r.Instance)[0], lines); err != nil {
			return Failure{"on the volume, " + words(err)}
		}
		x.Added.Relabel = b.SELinux()
		k, err := r.Store.KeyByID(r.ctx, in.NewID)
		if err != nil {
			return err
		}
		d.File, d.Line = filesOf(r.Instance)[0], ""
		for _, line := range x.Added.Lines {
			if line == k.Public().Line() {
				d.Line = line
			}
		}
		if err := r.SetData(d); err != nil {
			return err
		}
	}
	now, err := r.Store.Now(r.ctx)
	if err != nil {
		return err
	}
	if err := r.Effect("append", func(ctx context.Context) error {
		if err := b.Add(ctx, s, x.Account, x.Added, now); err != nil {
			return Failure{"on the volume, " + words(err)}
		}
		return nil
	}); err != nil {
		return err
	}
	d.Appended = d.Line != ""
	return r.recordPlaced(&d, in)
}

// restoreEditBack takes the lines out again, as long as the volume is mounted.
// Later that is for whoever gets in.
func (r *Run) restoreEditBack() error {
	_, d, err := r.restoration()
	if err != nil || d.Restore.Home || d.Restore.Added.File == "" || len(d.Restore.Mounts) == 0 {
		return err
	}
	x := d.Restore
	s, err := r.inRescue(x)
	if err != nil {
		if in, e := r.get(x.Rescue.CloudID); errors.Is(e, cloud.ErrNotFound) || e == nil && in.State != cloud.Running {
			return nil // nobody gets in there: the line stands, and is looked for at the end
		}
		return err
	}
	defer s.Close()
	files, end, err := s.Files()
	if err != nil {
		return err
	}
	defer end.Close()
	now, err := r.Store.Now(r.ctx)
	if err != nil {
		return err
	}
	if err := r.Effect("take-out", func(ctx context.Context) error {
		return reach.Beneath{Files: files, Mount: x.Mounts[0].At}.TakeBack(ctx, s, x.Account, x.Added, now)
	}); err != nil {
		return err
	}
	x.Added, d.Appended = reach.Added{}, false
	if err := r.dropNew(d); err != nil {
		return err
	}
	d.NewAccess = 0
	return r.SetData(d)
}
