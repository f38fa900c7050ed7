package restore

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumlatch/core/cloudconfig"
	"plumlatch/core/hostkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/secrets"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// stop stops it; one that is stopped stays so.
func (r *restoreJob) stop() error {
	if r.D.Restore.Was == string(cloud.Stopped) {
		return nil
	}
	if err := r.once("stop", func(ctx context.Context) error {
		_, err := r.Retry(ctx, func(ctx context.Context) (cloud.Instance, error) {
			return r.Cloud.Stop(ctx, r.ClientToken("stop"), r.Instance.CloudID)
		})
		return err
	}); err != nil {
		return err
	}
	return r.Await(cloud.Stopped)
}

// was brings it back into the run state that it had. A stop that was asked
// for and not answered is asked for once more, under the same token: it would stop
// it again, if it came late.
func (r *restoreJob) was() error {
	if r.InstanceGone() {
		return nil
	}
	x := r.D.Restore
	in, err := r.Settled()
	if errors.Is(err, cloud.ErrNotFound) || err == nil && in.State == cloud.Removed {
		return nil
	}
	if err != nil {
		return err
	}
	late := x.Was == string(cloud.Running) && x.Asked["stop/stop"]
	if string(in.State) == x.Was && !late {
		return r.Note(in)
	}
	if x.Was != string(cloud.Running) {
		if err := r.Ask("stop", r.Cloud.Stop); err != nil {
			return err
		}
		return r.Await(cloud.Stopped)
	}
	if err := r.Effect("start", func(ctx context.Context) error {
		if late {
			if _, err := r.Retry(ctx, func(ctx context.Context) (cloud.Instance, error) {
				return r.Cloud.Stop(ctx, r.ClientToken("stop"), r.Instance.CloudID)
			}); err != nil && !errors.Is(err, cloud.ErrRefused) {
				return err
			}
			if in, err = r.Settled(); err != nil {
				return err
			}
		}
		if in.State == cloud.Running {
			return nil
		}
		_, err := r.Retry(ctx, func(ctx context.Context) (cloud.Instance, error) {
			return r.Cloud.Start(ctx, r.ClientToken("start"), r.Instance.CloudID)
		})
		return err
	}); err != nil {
		return err
	}
	delete(x.Asked, "stop/stop")
	if err := r.Keep(); err != nil {
		return err
	}
	return r.Await(cloud.Running)
}

// start starts it. From here on nothing of the cloud is to be taken back.
func (r *restoreJob) start() error {
	if r.D.Restore.TextSet && !r.D.Appended { // it may be there as soon as it boots
		k, err := r.Store.KeyByID(r.Ctx, r.In.NewID)
		if err != nil {
			return err
		}
		r.D.File, r.D.Line, r.D.Appended = door.FilesOf(r.Instance)[0], k.Public().Line(), true
		if err := r.recordPlaced(r.In); err != nil {
			return err
		}
	}
	if err := r.once("start", func(ctx context.Context) error {
		_, err := r.Retry(ctx, func(ctx context.Context) (cloud.Instance, error) {
			return r.Cloud.Start(ctx, r.ClientToken("start"), r.Instance.CloudID)
		})
		return err
	}); err != nil {
		return err
	}
	if err := r.Await(cloud.Running); err != nil {
		return err
	}
	r.D.Restore.Home = true
	return r.Keep()
}

// text has it add the lines when it boots next.
func (r *restoreJob) text() error {
	x := r.D.Restore
	lines, err := r.svc.linesFor(r.Ctx, r.Instance, r.In.NewID)
	if err != nil {
		return err
	}
	if !x.TextSet {
		if x.UserData, err = door.Asked(r.Ctx, r.Run,
			func(ctx context.Context) (string,
				error) {
				return r.Cloud.UserData(ctx, r.Instance.CloudID)
			}); err != nil {
			return err
		}
		if secrets.Holds(x.UserData) { // it goes back as it was, and lies nowhere in the clear meanwhile
			sealed, err := r.Cipher.Encrypt(r.Ctx, []byte(x.UserData))
			if err != nil {
				return err
			}
			if _, err := r.Store.KeepWorkKey(r.Ctx, r.Work.ID,
				store.WorkKey{Blob: []byte("user data"), Sealed: sealed}); err != nil {
				return err
			}
			x.UserData, x.DataSealed = "", true
		}
		x.TextSet, x.Mark = true, door.Token(16)
		if err := r.Keep(); err != nil {
			return err
		}
	}
	text := cloudconfig.BootHook(r.Work.ID, r.Instance.LoginUser, door.FilesOf(r.Instance)[0], lines, x.Mark)
	return r.once("set-text", func(ctx context.Context) error {
		return r.setText(ctx,
			r.ClientToken("set-text"), text)
	})
}

// userData is what the user data was before.
func (r *restoreJob) userData(x *restored) (string, error) {
	if !x.DataSealed {
		return x.UserData, nil
	}
	k, err := r.Store.WorkKeyOf(r.Ctx, r.Work.ID)
	if err != nil {
		return "", err
	}
	text, err := r.Cipher.Decrypt(r.Ctx, k.Sealed)
	return string(text), err
}

func (r *restoreJob) setText(ctx context.Context, token, text string) error {
	_, err := door.Asked(ctx, r.Run, func(ctx context.Context) (struct{}, error) {
		return struct{}{}, r.Cloud.SetUserData(ctx, token, r.Instance.CloudID, text)
	})
	return err
}

// printedHostKeys takes the host keys that the boot has printed between the marks that were made for it. Where
// others are known already nobody waits for that.
func (r *restoreJob) printedHostKeys() error {
	pinned, err := r.Store.HostKeys(r.Ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	if r.D.Restore.Mark == "" || slices.ContainsFunc(pinned, func(h store.HostKey) bool {
		return h.Source != store.ClaimedHostKey
	}) {
		return nil
	}
	left, err := r.Left(r.ServerLimit())
	if err != nil {
		return err
	}
	for deadline := time.Now().Add(left); ; {
		ctx, cancel := context.WithTimeout(r.Ctx, 20*time.Second)
		output, err := r.Cloud.BootOutput(ctx, r.Instance.CloudID)
		cancel()
		var all []keypair.Public
		if err == nil {
			all, err = hostkeys.Printed(output, r.D.Restore.Mark)
		}
		if err == nil {
			return r.ownHostKeys(all, "as its boot printed them")
		}
		if stop := r.Stopping(); stop != nil {
			return stop
		}
		if errors.Is(err, hostkeys.ErrDiffer) || time.Now().After(deadline) {
			return r.Say("its host keys are not known: %s", door.Words(err))
		}
		r.Sleep(door.Poll)
	}
}

// textBack puts the old user data back: after the text was seen to have
// worked, or had its time; or on the way back.
func (r *restoreJob) textBack() error {
	if !r.D.Restore.TextSet || r.InstanceGone() {
		return nil
	}
	var err error
	x := r.D.Restore
	if !r.Work.Back {
		if err := r.printedHostKeys(); err != nil {
			return err
		}
		if err := r.awaitAccepted(); err != nil {
			return err
		}
	}
	err = r.Effect("put-back", func(ctx context.Context) error {
		if x.Asked["set-text/set-text"] { // it must not come late
			lines, err := r.svc.linesFor(r.Ctx, r.Instance, r.In.NewID)
			if err != nil {
				return err
			}
			if err := r.setText(ctx, r.TokenOf("set-text", "set-text"),
				cloudconfig.BootHook(r.Work.ID, r.Instance.LoginUser, door.FilesOf(r.Instance)[0],
					lines, x.Mark)); err != nil && !errors.Is(err, cloud.ErrRefused) {
				return err
			}
			delete(x.Asked, "set-text/set-text")
		}
		before, err := r.userData(x)
		if err != nil {
			return err
		}
		return r.setText(ctx, r.ClientToken("put-back"), before)
	})
	if errors.Is(err, cloud.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	x.TextSet = false
	return r.Keep()
}

// note tells, at the cloud, for what a volume was moved.
func (w *Service) volumeNote(r *door.Run) string {
	return fmt.Sprintf("plumlatch work %d for %s, until %s", r.Work.ID, r.Instance.Name,
		time.Now().Add(rescueEnds).UTC().Format(time.RFC3339))
}

func (w *Service) volume(r *door.Run, id string) (cloud.Volume, error) {
	return door.Asked(r.Ctx, r, func(ctx context.Context) (cloud.Volume, error) { return r.Cloud.Volume(ctx, id) })
}

// settledVolume waits until a volume is in a state that does not pass by itself.
func (w *Service) settledVolume(r *door.Run, id string) (cloud.Volume, error) {
	began, again := time.Now(), false
	for {
		v, err := w.volume(r, id)
		if err != nil || v.State == cloud.VolumeInUse || v.State == cloud.VolumeAvailable {
			return v, err
		}
		if v.State == cloud.VolumeDetaching && !again && time.Since(began) > min(volumeLimit, r.StateLimit)/2 {
			again = true // it was asked for, and hangs: clouds look after it again when it is asked for again
			if _, err := r.Cloud.Detach(r.Ctx, r.ClientToken("detach-again"), id, w.volumeNote(r)); err != nil &&
				errors.Is(err, cloud.ErrNotFound) {
				return v, err
			}
		}
		if time.Since(began) > min(volumeLimit, r.StateLimit) {
			return v, door.Failf("the cloud says that volume %s is %s, for %s already; look at it there", id, v.State,
				min(volumeLimit, r.StateLimit))
		}
		if err := r.Stopping(); err != nil {
			return v, err
		}
		r.Sleep(door.PollAfter(began))
	}
}

// detachNow detaches a volume from where it is, and waits for that.
func (r *restoreJob) detachNow(ctx context.Context, token, volume string) error {
	if _, err := door.Asked(ctx, r.Run, func(ctx context.Context) (cloud.Volume, error) {
		return r.Cloud.Detach(ctx, token, volume, r.svc.volumeNote(r.Run))
	}); err != nil {
		return err
	}
	v, err := r.svc.settledVolume(r.Run, volume)
	if err == nil && v.State != cloud.VolumeAvailable {
		err = door.Failf("volume %s was not detached: the cloud says that it is %s at %s", volume, v.State, v.Instance)
	}
	return err
}

// detach takes the root volume off.
func (r *restoreJob) detach() error {
	if r.D.Restore.Volume == "" {
		return door.Failf("no root volume is attached to it")
	}
	return r.detachOnce()
}

// unlend takes the volume off the rescue instance.
func (r *restoreJob) unlend() error {
	return r.detachOnce()
}

// detachOnce detaches the volume, as a step's one effect.
func (r *restoreJob) detachOnce() error {
	x := r.D.Restore
	return r.once("detach", func(ctx context.Context) error {
		return r.detachNow(ctx,
			r.ClientToken("detach"), x.Volume)
	})
}

// giveBack attaches the volume under the device name that it had.
func (r *restoreJob) giveBack() error {
	return r.bringHome()
}

// home is what going back from a detached volume comes to: it is attached
// again, wherever it was. What the cloud was asked for on the way and did not
// answer is asked for once more, under the same token, so that it cannot come late.
func (r *restoreJob) home() error {
	if r.D.Restore.Home || r.InstanceGone() || r.D.Restore.Volume == "" {
		return nil
	}
	return r.bringHome()
}

// bringHome attaches the root volume to its own instance under the name that it
// had, and looks whether it is there: a cloud may put it under another one.
func (r *restoreJob) bringHome() error {
	x := r.D.Restore
	if in, err := r.Get(r.Instance.CloudID); errors.Is(err, cloud.ErrNotFound) ||
		err == nil && (in.State == cloud.Removed || in.State == cloud.Removing) {
		if !r.Work.Back {
			return door.Failf("the instance was removed by somebody else")
		}
		x.Left = append(x.Left, fmt.Sprintf("its root volume %s is left in the cloud, attached to nothing: the "+
			"instance was removed by somebody else", x.Volume))
		return r.Keep()
	}
	if v, err := r.svc.settledVolume(r.Run, x.Volume); err != nil || len(x.Asked) == 0 && r.isHome(x, v) {
		return err
	}
	return r.Effect("attach", func(ctx context.Context) error {
		if err := r.nothingLate(ctx); err != nil {
			return err
		}
		step := r.Work.At
		for tries := 0; ; tries++ {
			v, err := r.svc.settledVolume(r.Run, x.Volume)
			if err != nil || r.isHome(x, v) {
				return err
			}
			if tries == attachTries {
				return door.Failf("the cloud attaches %s to %s under %s, and not under %s, which it boots from: "+
					"attach it there by hand", x.Volume, r.Instance.Name, v.Device, x.Device)
			}
			x.Turns[step]++
			n := x.Turns[step]
			if v.State == cloud.VolumeInUse {
				if err := r.askedFor(step, offEffect(n), func(token string) error {
					return r.detachNow(ctx, token, x.Volume)
				}); err != nil {
					return err
				}
			}
			if err := r.askedFor(step, homeEffect(n), func(token string) error {
				_, err := door.Asked(ctx, r.Run, func(ctx context.Context) (cloud.Volume, error) {
					return r.Cloud.Attach(ctx, token, x.Volume, r.Instance.CloudID, x.Device, r.svc.volumeNote(r.Run))
				})
				return err
			}); err != nil {
				return err
			}
		}
	})
}

// attachTries is how often a volume is attached that the cloud puts under another name than asked.
const attachTries = 3

// The effects of one turn of bringing a volume home: off the place where it is, and on under its name.
func offEffect(turn int) string  { return fmt.Sprintf("detach-off-%d", turn) }
func homeEffect(turn int) string { return fmt.Sprintf("attach-%d", turn) }

func (r *restoreJob) isHome(x *restored, v cloud.Volume) bool {
	return v.State == cloud.VolumeInUse && v.Instance == r.Instance.CloudID && v.Device == x.Device
}

// nothingLate asks the cloud once more, under the same tokens, for whatever it was
// asked for on the way and has not answered: so that it cannot come late, and take
// away what is done now.
func (r *restoreJob) nothingLate(ctx context.Context) error {
	x := r.D.Restore
	type ask struct{ step, effect, instance, device string }
	all := []ask{{"detach", "detach", "", ""}, {"lend", "attach", x.Rescue.CloudID, ""}, {"unlend", "detach", "", ""}}
	for _, step := range []string{"return", "detach"} { // the way there, and the way back
		for n := 1; n <= max(x.Turns[step], attachTries); n++ { // work of an older version has not counted its turns
			all = append(all, ask{step, offEffect(n), "", ""}, ask{step, homeEffect(n), r.Instance.CloudID, x.Device})
		}
	}
	for _, a := range all {
		if !x.Asked[a.step+"/"+a.effect] {
			continue
		}
		if _, err := r.svc.settledVolume(r.Run, x.Volume); err != nil {
			return err
		}
		_, err := door.Asked(ctx, r.Run, func(ctx context.Context) (cloud.Volume, error) {
			if a.instance == "" {
				return r.Cloud.Detach(ctx, r.TokenOf(a.step, a.effect), x.Volume, r.svc.volumeNote(r.Run))
			}
			return r.Cloud.Attach(ctx, r.TokenOf(a.step, a.effect), x.Volume, a.instance, a.device,
				r.svc.volumeNote(r.Run))
		})
		if err != nil && !errors.Is(err, cloud.ErrRefused) && !errors.Is(err, cloud.ErrNotFound) {
			return err
		}
		delete(x.Asked, a.step+"/"+a.effect)
		if err := r.Keep(); err != nil {
			return err
		}
	}
	return nil
}

// knocks looks from outside, all the while a restore is at hand, whether the
// server answers: by connecting and reading its greeting, which logs nobody in.
func (w *Service) knocks(r *door.Run, ctx context.Context) {
	for ctx.Err() == nil {
		i, err := r.Store.InstanceAlone(ctx, r.Work.InstanceID)
		if err == nil {
			up := i.Address != "" && w.greets(r, ctx, i.Address, i.Port)
			if ctx.Err() == nil {
				err = r.Store.Knocked(ctx, r.Work.ID, up, knockGap)
			}
		}
		if err != nil && ctx.Err() == nil {
			r.Log.Warn("the outside probe of a restore", "work", r.Work.ID, "error", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(knockEvery):
		}
	}
}

// greets tells whether an SSH server says its first word (RFC 4253 section 4.2).
func (w *Service) greets(r *door.Run, ctx context.Context, address string, port int) bool {
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	conn, err := r.Reach.Dial(ctx, address, port)
	if err != nil {
		return false
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	begin := make([]byte, 4)
	n, err := conn.Read(begin)
	return err == nil && strings.HasPrefix("SSH-", string(begin[:n])) && n > 0
}

// knocking knocks beside the steps, from the claim to its end.
func (w *Service) knocking(ctx context.Context, r *work.Run) {
	own := r.Own.(*door.Run)
	w.knocks(own, ctx)
}
