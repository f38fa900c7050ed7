package restore

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/times"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// The machine that a copy has taken the place of is kept, stopped, by work of its own: the instance is free for other work
// meanwhile. It is removed after its time and a word; until then going back is a cancel of that work.

// keeping is the input of the work.
type keeping struct {
	Restore    int64            `json:"restore"` // the work that made the copy
	Old        store.Machine    `json:"old"`
	Was        string           `json:"was"`  // its run state before
	Copy       string           `json:"copy"` // that has its place
	Image      string           `json:"image"`
	KeepImage  bool             `json:"keep_image"`
	Until      time.Time        `json:"until"`
	Region     string           `json:"region"`
	Static     string           `json:"static"` // the address that went over, as the cloud calls it; "" for none
	StaticName string           `json:"static_name"`
	Accesses   []store.PlacedAs `json:"accesses"` // that stood on it
	// Password is what was known of its first password, of an instance without SSH.
	Password *store.FirstPassword `json:"password,omitempty"`
	Exposed  []string             `json:"exposed"` // keys that somebody else may have, and that it trusts still
	Go       bool                 `json:"go"`      // the word was given
}

// kept is what its steps keep.
type kept struct {
	Left []string `json:"left,omitempty"`
	Back bool     `json:"back,omitempty"` // it has its place again
}

type keptJob struct {
	door.Job[keeping, kept]
	svc *Service
}

// lookAgain is how often it is looked whether a word was given: one that comes as the work lies down wakes nobody.
const lookAgain = time.Minute

// forEver is how long a machine waits for a word. Nobody is made to decide.
const forEver = 10 * 365 * 24 * time.Hour

func (w *Service) keptKind() *door.Kind {
	var steps door.Family[*keptJob] = func() *keptJob { return &keptJob{svc: w} }
	return &door.Kind{Kind: &work.Kind{Name: "restore-kept", Action: "access.restore-kept", Steps: []work.Step{
		{Name: "keep", Title: "keeping the old machine, stopped", Do: steps.Do((*keptJob).keep), Undo: steps.Do((*keptJob).goBack),
			UndoEffects: []string{"start", "move", "remove", "remove-image"}},
		{Name: "remove", Title: "removing the old machine", Do: steps.Do((*keptJob).removeOld), Effects: []string{"remove"}, NoReturn: true},
		{Name: "image", Title: "removing the image", Do: steps.Do((*keptJob).removeImage), Effects: []string{"remove-image"}, NoReturn: true,
			Skip: steps.Skip(func(r *keptJob) bool { return r.In.KeepImage })},
	}, End: steps.End((*keptJob).over)}}
}

// keep waits until its time is over, and for a word then.
func (r *keptJob) keep() error {
	if err := r.Reread(); err != nil {
		return err
	}
	if r.In.Go {
		return nil
	}
	now, err := r.Store.Now(r.Ctx)
	if err != nil {
		return err
	}
	back := fmt.Sprintf("plumlatch work cancel %d goes back to it", r.Work.ID)
	if left := r.In.Until.Sub(now); left > 0 {
		return r.Wait(wire.WaitsEnd, fmt.Sprintf("the end of the time that %s is kept, %s; %s", r.In.Old.CloudID, times.Show(r.In.Until), back),
			min(left, lookAgain), forEver)
	}
	if err := r.Store.KeptAsked(r.Ctx, r.Work.ID); err != nil {
		return err
	}
	return r.Wait(wire.WaitsGoOn, fmt.Sprintf("a word: plumlatch work go-on %d removes %s for good; %s", r.Work.ID, r.In.Old.CloudID, back),
		lookAgain, forEver)
}

// removeOld removes the old machine, if it is still the old one.
func (r *keptJob) removeOld() error {
	if r.Instance.CloudID == r.In.Old.CloudID && r.Instance.Phase != store.Removed {
		return door.Failf("%s is %s again: it is not removed", r.Instance.Name, r.In.Old.CloudID)
	}
	if err := r.svc.removeMachine(r.Run, "the old machine", r.In.Old.CloudID, r.ClientToken("remove")); err != nil {
		return err
	}
	return r.Store.KeptGone(r.Ctx, r.Work.ID)
}

func (r *keptJob) removeImage() error {
	err := r.Effect("remove-image", func(ctx context.Context) error {
		_, err := door.Asked(ctx, r.Run, func(ctx context.Context) (struct{}, error) {
			return struct{}{}, r.Cloud.RemoveImage(ctx, r.ClientToken("remove-image"), r.In.Image)
		})
		return err
	})
	if errors.Is(err, cloud.ErrNotFound) {
		return nil
	}
	return err
}

// goBack has the old machine take its place again: it is started first, then it gets its address, and then the copy and the
// image go.
func (r *keptJob) goBack() error {
	if !r.D.Back && r.Instance.Phase != store.Ready {
		return r.leave("%s is %s: %s stands stopped in the cloud, and the ledger does not know it (plumlatch discover)", r.Instance.Name,
			r.Instance.Phase, r.In.Old.CloudID)
	}
	if !r.D.Back && r.Instance.CloudID != r.In.Copy && r.Instance.CloudID != r.In.Old.CloudID {
		return r.leave("%s is another machine by now (%s): %s stands stopped in the cloud, and the ledger does not know it (plumlatch discover)",
			r.Instance.Name, r.Instance.CloudID, r.In.Old.CloudID)
	}
	if err := r.Store.HoldInstance(r.Ctx, r.Work.ID); errors.Is(err, store.ErrInProgress) {
		return r.Wait(wire.WaitsOther, "other work on "+r.Instance.Name, 2*time.Second, forEver)
	} else if err != nil {
		return err
	}
	if _, err := r.Get(r.In.Old.CloudID); errors.Is(err, cloud.ErrNotFound) {
		return r.leave("%s is gone from the cloud: somebody else removed it; the copy stays", r.In.Old.CloudID)
	} else if err != nil {
		return err
	}
	if err := r.Effect("start", func(ctx context.Context) error {
		if r.In.Was != string(cloud.Running) {
			return nil
		}
		return r.svc.startAgain(ctx, r.Run, r.In.Old.CloudID, r.ClientToken("start"))
	}); err != nil {
		return err
	}
	if r.In.Was == string(cloud.Running) {
		if err := r.running(); err != nil {
			return err
		}
	}
	if err := r.addressBack(); err != nil {
		return err
	}
	if !r.D.Back {
		if err := r.svc.oldBack(r.Run, r.In.Old, r.In.Accesses, r.In.Password, "it is not on the machine that has its place again"); err != nil {
			return err
		}
		r.D.Back = true
		if err := r.Keep(); err != nil {
			return err
		}
	}
	why := ""
	if r.In.Was == string(cloud.Running) && r.In.Password == nil {
		var err error
		if why, err = r.svc.untilBack(r.Run); err != nil {
			return err
		}
	}
	if why == "" {
		if err := r.svc.removeMachine(r.Run, "the copy", r.In.Copy, r.ClientToken("remove-copy")); err != nil {
			return err
		}
	}
	if !r.In.KeepImage {
		if err := r.removeImage(); err != nil {
			return err
		}
	}
	if why != "" { // the copy may be all that anybody gets in by
		return r.leave("%s", copyStays(r.In.Copy, why))
	}
	return r.Store.KeptGone(r.Ctx, r.Work.ID)
}

// untilBack waits until the SSH server of a machine that has its place again answers with the host key that is known of it: a
// machine that runs is not up yet, and one that is broken never is. It returns why it was not seen to, "" if it was.
func (w *Service) untilBack(r *door.Run) (string, error) {
	for deadline := time.Now().Add(r.ServerLimit()); ; {
		t, err := r.TargetInside(r.Ctx, r.Instance)
		if err != nil {
			return "", err
		}
		if _, _, err = reach.Methods(r.Ctx, r.Reach, t); err == nil {
			return "", nil
		}
		if r.Ctx.Err() != nil {
			return "", store.ErrLost
		}
		if time.Now().After(deadline) {
			return door.Words(err), nil
		}
		if err := r.Stopping(); err != nil {
			return "", err
		}
		r.Sleep(2 * door.Poll)
	}
}

// copyStays says what is left then.
func copyStays(id, why string) string {
	return fmt.Sprintf("the copy %s stays in the cloud: the machine that has the place again was not seen to answer (%s). Once somebody is in, remove "+
		"the copy there (plumlatch discover)", id, why)
}

func (r *keptJob) leave(format string, a ...any) error {
	r.D = kept{Left: append(r.D.Left, fmt.Sprintf(format, a...)), Back: r.D.Back}
	if err := r.Keep(); err != nil {
		return err
	}
	return r.Store.KeptGone(r.Ctx, r.Work.ID)
}

// running waits until the old machine runs.
func (r *keptJob) running() error {
	began := time.Now()
	for {
		in, err := r.Get(r.In.Old.CloudID)
		if err != nil || in.State == cloud.Running {
			return err
		}
		if left, err := r.Left(r.StateLimit); err != nil || left <= 0 && time.Since(began) > r.StateLimit {
			return errors.Join(err, door.Failf("the cloud says that %s is %s, and not running", r.In.Old.CloudID, in.State))
		}
		if err := r.Stopping(); err != nil {
			return err
		}
		r.Sleep(door.PollAfter(began))
	}
}

// addressBack gives the static address back to the old machine, as long as the copy has it.
func (r *keptJob) addressBack() error {
	if r.In.Static == "" {
		return nil
	}
	return r.Effect("move", func(ctx context.Context) error {
		all, err := door.Asked(ctx, r.Run, func(ctx context.Context) ([]cloud.StaticAddress, error) {
			return r.Cloud.StaticAddresses(ctx, r.In.Region)
		})
		if err != nil {
			return err
		}
		n := slices.IndexFunc(all, func(a cloud.StaticAddress) bool { return a.ID == r.In.Static })
		if n >= 0 && all[n].Instance == r.In.Old.CloudID {
			return nil
		}
		if n < 0 || all[n].Instance != r.In.Copy && all[n].Instance != "" {
			r.D.Left = append(r.D.Left, fmt.Sprintf("the static address %s is somebody else's by now", r.In.StaticName))
			return r.Keep()
		}
		_, err = door.Asked(ctx, r.Run, func(ctx context.Context) (cloud.StaticAddress, error) {
			return r.Cloud.Move(ctx, r.ClientToken("move"), r.In.Static, r.In.Old.CloudID)
		})
		return err
	})
}

func (r *keptJob) over(state store.WorkState) (store.WorkEnd, error) {
	switch {
	case state == store.Done:
		what := fmt.Sprintf("%s is removed, and its image too", r.In.Old.CloudID)
		if r.In.KeepImage {
			what = fmt.Sprintf("%s is removed; its image %s stays", r.In.Old.CloudID, r.In.Image)
		}
		return store.WorkEnd{Outcome: door.OutcomeOf(what, r.D.Left...)}, nil
	case state == store.Stuck || !r.D.Back:
		return store.WorkEnd{Outcome: door.OutcomeOf(r.TookBack(state, "nothing was changed"), r.D.Left...)}, nil
	}
	what := fmt.Sprintf("%s is %s again", r.Instance.Name, r.In.Old.CloudID)
	if len(r.In.Exposed) > 0 {
		what += "; it still trusts " + strings.Join(r.In.Exposed, ", ")
	}
	return store.WorkEnd{Outcome: door.OutcomeOf(what, r.D.Left...)}, nil
}

// Beware says what going back with such work would bring; "" if there is nothing to ask about.
func (w *Service) Beware(ctx context.Context, of store.Work) (string, error) {
	var in keeping
	switch of.Kind {
	case "restore-kept":
		if err := door.Decode(of.Input, &in); err != nil {
			return "", err
		}
	case "restore-" + copyRoute:
		var asked restoring
		if err := door.Decode(of.Input, &asked); err != nil {
			return "", err
		}
		for _, l := range asked.LostKeys {
			k, err := w.Store.KeyByID(ctx, l.ID)
			if err == nil && k.State == access.Exposed {
				in.Exposed = append(in.Exposed, k.Name)
			} else if err != nil && !errors.Is(err, store.ErrNotFound) {
				return "", err
			}
		}
	}
	if of.Over() {
		return "", nil
	}
	var out []string
	if len(in.Exposed) > 0 {
		out = append(out, fmt.Sprintf("the old machine still trusts %s, which somebody else may have: going back lets that in again",
			strings.Join(in.Exposed, ", ")))
	}
	if of.Kind == "restore-kept" && in.Password == nil {
		opens, err := w.opened(ctx, in.Accesses)
		if err != nil {
			return "", err
		}
		if !opens {
			out = append(out, "no key in use is recorded on the old machine: after going back nobody gets in by what is recorded, and another "+
				"way back in is needed")
		}
	}
	return strings.Join(out, "; "), nil
}

// opened tells whether a key that is in use is among those that stood on a machine.
func (w *Service) opened(ctx context.Context, stood []store.PlacedAs) (bool, error) {
	for _, p := range stood {
		k, err := w.Store.KeyByID(ctx, p.KeyID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return false, err
		}
		if err == nil && k.State == access.InUse && k.RetiredAt == nil {
			return true, nil
		}
	}
	return false, nil
}

// GoOnKept gives the word that a kept machine is removed, before its time too. store.ErrWorkState.
func (w *Service) GoOnKept(ctx context.Context, by store.Actor, of store.Work) error {
	if of.Kind != "restore-kept" || of.Over() || of.Back || of.CancelAsked || of.At != "keep" {
		return store.ErrWorkState
	}
	err := w.Store.Tell(ctx, of.ID, map[string]any{"go": true}, fmt.Sprintf("%s lets the old machine be removed, from %s", by.Operator,
		by.Address))
	w.Look()
	return err
}
