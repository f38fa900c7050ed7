package restore

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"plumlatch/core/keypair"
	"plumlatch/core/routes"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
)

// lend attaches the volume to the rescue instance, and finds the disk that
// has come up there.
func (r *restoreJob) lend() error {
	x := r.D.Restore
	s, err := r.inRescue(x)
	if err != nil {
		return err
	}
	defer s.Close()
	if x.Before == nil {
		all, err := s.Disks(r.Ctx)
		if err != nil {
			return err
		}
		x.Before = routes.Names(all)
	}
	if err := r.once("attach", func(ctx context.Context) error {
		_, err := door.Asked(ctx, r.Run, func(ctx context.Context) (cloud.Volume, error) {
			return r.Cloud.Attach(ctx, r.ClientToken("attach"), x.Volume, x.Rescue.CloudID, "", r.svc.volumeNote(r.Run))
		})
		return err
	}); errors.Is(err, cloud.ErrNotFound) {
		return door.Failf("the rescue instance %s is there no more (%s)", x.Rescue.Name, door.Words(err))
	} else if err != nil {
		return err
	}
	v, err := r.svc.settledVolume(r.Run, x.Volume)
	if err != nil {
		return err
	}
	if v.State != cloud.VolumeInUse || v.Instance != x.Rescue.CloudID {
		return door.Failf("volume %s was not attached to the rescue instance: the cloud says that it is %s",
			x.Volume, v.State)
	}
	began := time.Now()
	for deadline := began.Add(min(time.Minute, r.StateLimit)); ; {
		all, err := s.Disks(r.Ctx)
		if err != nil {
			return err
		}
		disk, err := routes.Attached(x.Before, all, x.Volume)
		if err == nil {
			if x.Disk, err = s.Identify(r.Ctx, disk); err != nil {
				return err
			}
			return r.Keep()
		}
		if time.Now().After(deadline) {
			return door.Failure{Reason: door.Words(err)}
		}
		if stop := r.Stopping(); stop != nil {
			return stop
		}
		r.Sleep(door.PollAfter(began))
	}
}

// lendBack takes the volume off the rescue instance again.
func (r *restoreJob) lendBack() error {
	if r.D.Restore.Home || r.D.Restore.Volume == "" {
		return nil
	}
	x := r.D.Restore
	v, err := r.svc.settledVolume(r.Run, x.Volume)
	if err != nil || !x.Asked["lend/attach"] && (v.Instance == "" || v.Instance != x.Rescue.CloudID) {
		return err
	}
	return r.Effect("detach", func(ctx context.Context) error {
		if err := r.nothingLate(ctx); err != nil {
			return err
		}
		v, err := r.svc.settledVolume(r.Run, x.Volume)
		if err != nil || v.Instance == "" || v.Instance != x.Rescue.CloudID {
			return err
		}
		return r.detachNow(ctx, r.ClientToken("detach-back"), x.Volume)
	})
}

// mount finds the filesystem with the login user's system among those of
// the disk, by what is on it, and mounts it for writing; and the one that its
// home lies on, if that is another.
func (r *restoreJob) mount() error {
	x := r.D.Restore
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
	whole, err := r.opened(s)
	if err != nil {
		return err
	}
	return r.Effect("mount", func(ctx context.Context) error {
		// What an earlier try has mounted goes first, a home before what it lies in: else that would not go.
		for n := len(x.Mounts) - 1; n >= 0; n-- {
			if err := s.Unmount(ctx, x.Mounts[n].Device, x.Mounts[n].At); err != nil {
				return err
			}
		}
		b := reach.Beneath{Files: files, Mount: at}
		disk, shut, err := s.OpenGroups(ctx, whole, "plumlatch-"+r.Work.Token[:8], func(names []string) error {
			x.Mapped = append(mappings(x.Locked), names...)
			return r.Keep()
		})
		if err != nil {
			return err
		}
		parts, not := routes.Candidates(disk)
		not = append(not, shut...)
		type system struct {
			part    routes.BlockDevice
			account routes.Account
			fstab   string
		}
		var found []system
		for _, p := range parts {
			x.Mounts = []mounted{{p.Path(), p.FSType, at}}
			if err := r.Keep(); err != nil { // before it is mounted, for whoever unmounts it
				return err
			}
			if err := s.Mount(ctx, p.Path(), p.FSType, at, true); err != nil {
				if ctx.Err() != nil {
					return err
				}
				not = append(not, p.Name+": "+door.Words(err))
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
				not = append(not, p.Name+": "+door.Words(err))
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
			if len(routes.Encrypted(whole)) > 0 && !r.In.Unlock {
				reason += fmt.Sprintf("; whoever has its passphrase: plumlatch restore unlock %s -new %s", r.Instance.Name, r.In.New)
			}
			return door.Failure{Reason: reason}
		case len(found) > 1:
			return door.Failf("%s and %s both hold a system with the user %s: which one it boots from is not known",
				found[0].part.Name, found[1].part.Name, r.Instance.LoginUser)
		}
		sys := found[0]
		x.Account, x.Mounts = sys.account, []mounted{{sys.part.Path(), sys.part.FSType, at}}
		if spec, dir := routes.HomeApart(sys.fstab, sys.account.Home); spec != "" {
			p, ok := routes.Named(disk, spec)
			if !ok {
				return door.Failf("the home of %s lies on %s, which is not on this volume", r.Instance.LoginUser, spec)
			}
			x.Mounts = append(x.Mounts, mounted{p.Path(), p.FSType, path.Join(at, dir)})
		}
		if err := r.Keep(); err != nil {
			return err
		}
		for _, m := range x.Mounts {
			if err := s.Mount(ctx, m.Device, m.FSType, m.At, r.In.Route == fetchRoute.Name); err != nil {
				return door.Failure{Reason: door.Words(err)}
			}
		}
		return nil
	})
}

// opened has what is encrypted on the volume be open, if the work was asked for with that: the engineer's client opens it, on the rescue instance,
// and is waited for. What is listed there decides, and nobody's word. The client opens one part after the other: it goes on when as many are open as at
// the look before.
func (r *restoreJob) opened(s *reach.Rescue) (routes.BlockDevice, error) {
	x := r.D.Restore
	parts := routes.Encrypted(x.Disk)
	if !r.In.Unlock || len(parts) == 0 {
		return x.Disk, nil
	}
	if x.Locked == nil {
		for n, p := range parts {
			x.Locked = append(x.Locked, locked{p.Name, p.Path(), fmt.Sprintf("plumlatch-%s-luks-%d", r.Work.Token[:8], n+1)})
		}
		x.Mapped = mappings(x.Locked)
		if err := r.Keep(); err != nil { // before one is open, for whoever closes it
			return x.Disk, err
		}
	}
	now, err := s.Disks(r.Ctx)
	if err != nil {
		return x.Disk, err
	}
	open := map[string]routes.BlockDevice{}
	for _, l := range x.Locked {
		if !routes.IsOpened(now, l.Part, l.Mapping) {
			continue
		}
		if open[l.Part], err = s.Identify(r.Ctx, routes.BlockDevice{Name: "mapper/" + l.Mapping, Type: "crypt"}); err != nil {
			return x.Disk, err
		}
	}
	if len(open) > 0 && len(open) == x.Open {
		return routes.WithOpened(x.Disk, open), nil
	}
	if x.Open = len(open); x.Open > 0 {
		if err := r.Keep(); err != nil {
			return x.Disk, err
		}
	}
	over, err := r.WaitOver()
	if err != nil {
		return x.Disk, err
	}
	if over {
		return x.Disk, door.Failf("nobody has opened what is encrypted on the volume within %s", door.SpanWords(unlockLimit))
	}
	var devices []string
	for _, l := range x.Locked {
		devices = append(devices, l.Device)
	}
	return x.Disk, r.Wait(wire.WaitsHands, fmt.Sprintf("%s to be opened on the rescue instance by its passphrase (plumlatch work here %d -identity FILE); "+
		"if nobody does within %s, this goes back", strings.Join(devices, " or "), r.Work.ID, door.SpanWords(unlockLimit)), 5*time.Second, unlockLimit)
}

// mappings are the names that encrypted parts are opened as.
func mappings(all []locked) []string {
	var out []string
	for _, l := range all {
		out = append(out, l.Mapping)
	}
	return out
}

// copied waits until the engineer's client has copied what it wanted,
// straight from the rescue instance. It holds the instance: its volume is away.
func (r *restoreJob) copied() error {
	for {
		if err := r.Reread(); err != nil {
			return err
		}
		if r.In.Fetched {
			return nil
		}
		left, err := r.Left(copyLimit)
		if err != nil {
			return err
		}
		if left <= 0 {
			return door.Failf("nobody has said within %s that the files are copied", door.SpanWords(copyLimit))
		}
		if err := r.Stopping(); err != nil {
			return err
		}
		r.Sleep(2 * door.Poll)
	}
}

// unmount unmounts whatever of the volume is mounted, and makes sure of it.
func (r *restoreJob) unmount() error {
	if len(r.D.Restore.Mounts)+len(r.D.Restore.Mapped) == 0 || r.D.Restore.Home {
		return nil
	}
	x := r.D.Restore
	s, err := r.inRescue(x)
	if err != nil {
		// One that does not run has nothing mounted.
		if in, e := r.Get(x.Rescue.CloudID); errors.Is(e, cloud.ErrNotFound) ||
			e == nil && in.State != cloud.Running && in.State != cloud.Stopping {
			x.Mounts, x.Mapped, x.Locked, x.Open = nil, nil, nil, 0
			if e := r.Keep(); e != nil || r.Work.Back {
				return e
			}
		}
		return err
	}
	defer s.Close()
	if err := r.Effect("unmount", func(ctx context.Context) error {
		for n := len(x.Mounts) - 1; n >= 0; n-- {
			if err := s.Unmount(ctx, x.Mounts[n].Device, x.Mounts[n].At); errors.Is(err, reach.ErrMounted) {
				return door.Failure{Reason: door.Words(err)}
			} else if err != nil {
				return err
			}
		}
		if err := s.CloseMapped(ctx, x.Mapped); errors.Is(err, reach.ErrMounted) {
			return door.Failure{Reason: door.Words(err)}
		} else if err != nil {
			return err
		}
		return nil
	}); err != nil {
		return err
	}
	x.Mounts, x.Mapped, x.Locked, x.Open = nil, nil, nil, 0
	return r.Keep()
}

// restoreEdit adds the lines beneath the mount.
func (r *restoreJob) restoreEdit() error {
	x := r.D.Restore
	if len(x.Mounts) == 0 {
		return door.Failf("the volume is not mounted")
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
	if err := r.ownHostKeys(b.HostKeys(), "from its own disk"); err != nil {
		return err
	}
	if x.Added.File == "" {
		lines, err := r.svc.linesFor(r.Ctx, r.Instance, r.In.NewID)
		if err != nil {
			return err
		}
		if x.Added, err = b.Plan(x.Account, door.FilesOf(r.Instance)[0], lines); err != nil {
			return door.Failure{Reason: "on the volume, " + door.Words(err)}
		}
		x.Added.Relabel = b.SELinux()
		k, err := r.Store.KeyByID(r.Ctx, r.In.NewID)
		if err != nil {
			return err
		}
		r.D.File, r.D.Line = door.FilesOf(r.Instance)[0], ""
		for _, line := range x.Added.Lines {
			if line == k.Public().Line() {
				r.D.Line = line
			}
		}
		if err := r.Keep(); err != nil {
			return err
		}
	}
	now, err := r.Store.Now(r.Ctx)
	if err != nil {
		return err
	}
	if err := r.Effect("append", func(ctx context.Context) error {
		if err := b.Add(ctx, s, x.Account, x.Added, now); err != nil {
			return door.Failure{Reason: "on the volume, " + door.Words(err)}
		}
		return nil
	}); err != nil {
		return err
	}
	r.D.Appended = r.D.Line != ""
	return r.recordPlaced(r.In)
}

// ownHostKeys keeps the host keys that the machine itself shows: nobody has to say "yes" to one blindly. Others
// than those that are recorded are said, and not taken: a login meets them, and somebody has to know why.
func (r *restoreJob) ownHostKeys(all []keypair.Public, source string) error {
	if len(all) == 0 {
		return r.Say("its host keys were not found %s", source)
	}
	differ, err := r.Store.OwnHostKeys(r.Ctx, r.Instance, all, source)
	if err == nil && differ {
		err = r.Say("its host keys %s (%s) are others than those that are recorded: plumlatch instance host-key %s compares them",
			source, all[0].Fingerprint(), r.Instance.Name)
	}
	return err
}

// editBack takes the lines out again, as long as the volume is mounted.
// Later that is for whoever gets in.
func (r *restoreJob) editBack() error {
	if r.D.Restore.Home || r.D.Restore.Added.File == "" || len(r.D.Restore.Mounts) == 0 {
		return nil
	}
	x := r.D.Restore
	s, err := r.inRescue(x)
	if err != nil {
		if in, e := r.Get(x.Rescue.CloudID); errors.Is(e, cloud.ErrNotFound) || e == nil && in.State != cloud.Running {
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
	now, err := r.Store.Now(r.Ctx)
	if err != nil {
		return err
	}
	if err := r.Effect("take-out", func(ctx context.Context) error {
		return reach.Beneath{Files: files, Mount: x.Mounts[0].At}.TakeBack(ctx, s, x.Account, x.Added, now)
	}); errors.Is(err, reach.ErrNotMounted) {
		// It was unmounted, and that was not kept yet: the line stands, and is looked for at the end.
		r.D.Appended = r.D.Line != ""
		return r.Keep()
	} else if err != nil {
		return err
	}
	x.Added, r.D.Appended = reach.Added{}, false
	if err := r.DropNew(); err != nil {
		return err
	}
	r.D.NewAccess = 0
	return r.Keep()
}
