package lifecycle

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"plumlatch/core/access"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

func (w *Service) launchKind() *work.Kind {
	machineOf := w.machineSteps()
	return &work.Kind{
		Name: "launch", Action: "instance.launch", Phase: store.Launching, Changing: true,
		Steps: []work.Step{
			{Name: "create", Title: "asking the cloud for the instance", Do: machineOf.Do((*machineJob).create),
				Effects: []string{"launch"}, Undo: machineOf.Do((*machineJob).uncreate),
				UndoEffects: []string{"remove"}},
			{Name: "run", Title: "waiting until it runs",
				Do: machineOf.Do(func(r *machineJob) error { return r.Await(cloud.Running) })},
			{Name: "address", Title: "giving it its static address", Do: machineOf.Do((*machineJob).giveStatic),
				Effects: []string{"move"}, Undo: machineOf.Do((*machineJob).takeStatic), UndoEffects: []string{"move"},
				Skip: machineOf.Skip(func(r *machineJob) bool { return r.In.Static == "" })},
			{Name: "host-key", Title: "reading the host keys from the first boot's output",
				Do: machineOf.Do((*machineJob).firstBoot), Skip: machineOf.Skip(isDesktop)},
			{Name: "probe", Title: "asking the server which keys it takes", Skip: machineOf.Skip(isDesktop),
				Do: machineOf.Do(func(r *machineJob) error { return r.Run.Probe(&r.D) })},
			{Name: "agent", Title: "waiting for its agent", Do: machineOf.Do((*machineJob).agentComes),
				Skip: machineOf.Skip(func(r *machineJob) bool { return !r.In.Agent })},
		},
		End: machineOf.End(func(r *machineJob, state store.WorkState) (store.WorkEnd, error) {
			if state != store.Done {
				return store.WorkEnd{Phase: store.Failed, Trouble: r.Work.Trouble,
					Outcome: r.TookBack(state, door.AllTakenBack)}, nil
			}
			return r.running()
		}),
	}
}

func (w *Service) stopKind() *work.Kind {
	machineOf := w.machineSteps()
	return &work.Kind{
		Name: "stop", Action: "instance.stop", Phase: store.Stopping, Changing: true,
		Steps: []work.Step{
			{Name: "stop", Title: "asking the cloud to stop it", Effects: []string{"stop"},
				UndoEffects: []string{"start"},
				Do:          machineOf.Do(func(r *machineJob) error { return r.Ask("stop", r.Cloud.Stop) }),
				Undo: machineOf.Do(func(r *machineJob) error {
					return r.turnBack("start", r.Cloud.Start,
						cloud.Running)
				})},
			{Name: "rest", Title: "waiting until it has stopped",
				Do: machineOf.Do(func(r *machineJob) error { return r.Await(cloud.Stopped) })},
		},
		End: machineOf.End(func(r *machineJob, state store.WorkState) (store.WorkEnd, error) {
			if state != store.Done {
				return r.AsBefore(state), nil
			}
			return store.WorkEnd{Phase: store.Ready, Outcome: "stopped"}, nil
		}),
	}
}

func (w *Service) startKind() *work.Kind {
	machineOf := w.machineSteps()
	return &work.Kind{
		Name: "start", Action: "instance.start", Phase: store.Starting, Changing: true,
		Steps: []work.Step{
			{Name: "start", Title: "asking the cloud to start it", Effects: []string{"start"},
				UndoEffects: []string{"stop"},
				Do:          machineOf.Do(func(r *machineJob) error { return r.Ask("start", r.Cloud.Start) }),
				Undo: machineOf.Do(func(r *machineJob) error {
					return r.turnBack("stop", r.Cloud.Stop,
						cloud.Stopped)
				})},
			{Name: "run", Title: "waiting until it runs",
				Do: machineOf.Do(func(r *machineJob) error { return r.Await(cloud.Running) })},
			{Name: "probe", Title: "asking the server which keys it takes", Do: machineOf.Do((*machineJob).knownHost),
				Skip: machineOf.Skip(isDesktop)},
		},
		End: machineOf.End(func(r *machineJob, state store.WorkState) (store.WorkEnd, error) {
			if state != store.Done {
				return r.AsBefore(state), nil
			}
			return r.running()
		}),
	}
}

// isForgotten tells that the machine stays: it is no cloud's of ours, or that was asked for.
func isForgotten(r *adoptJob) bool { return r.Instance.Adopted || r.In.Forget }

func (w *Service) removeKind() *work.Kind {
	adoptOf := w.adoptSteps()
	return &work.Kind{
		Name: "remove", Action: "instance.remove", Phase: store.Removing, Changing: true,
		Steps: []work.Step{
			{Name: "line", Title: "taking the steward's line out", Effects: []string{"withdraw"}, NoReturn: true,
				Do: adoptOf.Do((*adoptJob).forgetLine),
				// else the file goes with the instance
				Skip: adoptOf.Skip(func(r *adoptJob) bool { return !isForgotten(r) })},
			{Name: "remove", Title: "asking the cloud to remove it", Effects: []string{"remove"}, NoReturn: true,
				Do: plainSteps.Do((*plainJob).removeInstance), Skip: adoptOf.Skip(isForgotten)},
			{Name: "gone", Title: "waiting until it is gone", Do: plainSteps.Do(func(r *plainJob) error {
				if r.Instance.CloudID == "" {
					return nil
				}
				err := r.Await(cloud.Removed)
				if errors.Is(err, cloud.ErrNotFound) {
					return nil
				}
				return err
			}), Skip: adoptOf.Skip(isForgotten)},
			// From here on the cloud's list has it as one that the ledger does not know.
			{Name: "forget", Title: "forgetting which one of the cloud's it is", NoReturn: true,
				Do:   adoptOf.Do(func(r *adoptJob) error { return r.Note(cloud.Instance{State: cloud.Removed}) }),
				Skip: adoptOf.Skip(func(r *adoptJob) bool { return !r.In.Forget })},
		},
		End: adoptOf.End(func(r *adoptJob, state store.WorkState) (store.WorkEnd, error) {
			if state != store.Done {
				return r.AsBefore(state), nil
			}
			outcome := "removed"
			if isForgotten(r) {
				outcome = "forgotten; the steward's line was taken out"
				if r.D.Left {
					outcome = "forgotten; the steward's line could not be taken out: its private half was " +
						"destroyed, so it opens nothing"
				}
				if r.Instance.Via != nil {
					outcome += fmt.Sprintf("; its line for forwarding still stands on the jump host %s, and opens "+
						"nothing any more", r.Instance.Via.Address)
				}
			}
			return store.WorkEnd{Phase: store.Removed, Outcome: outcome}, nil
		}),
	}
}

// isDesktop tells that it has no SSH: no server of it is asked for anything.
func isDesktop(r *machineJob) bool { return r.Instance.Desktop }

func (r *machineJob) running() (store.WorkEnd, error) {
	where := fmt.Sprintf("running at %s port %d", r.Instance.Address, r.Instance.Port)
	return store.WorkEnd{Phase: store.Ready, Trouble: r.D.Trouble, TroubleCode: r.D.Code,
		Outcome: door.OutcomeOf(where, r.D.Trouble)}, nil
}

// create asks the cloud for the instance, and records which one it is.
func (r *machineJob) create() error {
	i := r.Instance
	if i.CloudID != "" {
		if in, err := r.Get(i.CloudID); err == nil && in.State != cloud.Removed && in.State != cloud.Removing {
			return nil
		}
	}
	if err := r.SetData(door.Found{Asked: true}); err != nil {
		return err
	}
	userData := i.UserData
	if r.In.Agent {
		token, err := r.svc.Agents.LaunchToken(r.Ctx, r.Work, i)
		if err != nil {
			return err
		}
		userData = strings.Replace(userData, tokenPlace, token, 1)
	}
	var in cloud.Instance
	err := r.Effect("launch", func(ctx context.Context) (err error) {
		in, err = r.Retry(ctx, func(ctx context.Context) (cloud.Instance, error) {
			return r.Cloud.Launch(ctx, r.ClientToken("launch"),
				cloud.Launch{Name: i.Name, Region: i.Region, Zone: i.Zone, Image: i.Image, Size: i.Size,
					DiskGB: i.DiskGB, Tags: i.Tags, UserData: userData, KeyLabel: i.KeyLabel,
					KeyEntry: r.In.KeyEntry, PasswordKey: r.In.PasswordKey})
		})
		return err
	})
	if errors.Is(err, cloud.ErrRefused) {
		return errors.Join(err, r.SetData(door.Found{}))
	}
	if err != nil {
		return err
	}
	if err := r.Note(in); err != nil {
		return err
	}
	return r.SetData(door.Found{})
}

// lateLimit is how long a request that the cloud never answered may still have
// an effect.
const LateLimit = time.Minute

// uncreate removes what the cloud made, also when its answer was lost.
func (r *machineJob) uncreate() error {
	in := cloud.Instance{ID: r.Instance.CloudID}
	if in.ID == "" {
		var err error
		if in.ID, err = r.whatWasMade(); err != nil || in.ID == "" {
			return err
		}
	}
	if err := r.remove(in.ID); err != nil {
		return fmt.Errorf("%s is left in the cloud: %w", in.ID, err)
	}
	if r.In.Agent { // that of a machine which is gone: another attempt has another one
		by := store.Actor{Operator: r.Work.Operator, Address: r.Work.Address}
		if err := r.Store.ForgetAgent(r.Ctx, by, r.Instance); err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
	}
	if err := r.Say("%s was removed from the cloud", in.ID); err != nil {
		return err
	}
	return r.Note(cloud.Instance{State: cloud.Removed}) // taking the work up again begins without it
}

// whatWasMade asks the cloud by the client token for an instance of which its
// answer was lost. A request that was never answered may still come to
// something, so it is looked for more than once.
func (r *machineJob) whatWasMade() (id string, err error) {
	limit := time.Duration(0)
	if r.D.Asked {
		limit = min(LateLimit, 2*r.StateLimit)
	}
	for {
		in, err := r.Retry(r.Ctx, func(ctx context.Context) (cloud.Instance, error) {
			return r.Cloud.ByToken(ctx, r.ClientToken("launch"))
		})
		if err == nil || !errors.Is(err, cloud.ErrNotFound) {
			return in.ID, err
		}
		left, err := r.Left(limit)
		if err != nil || left <= 0 {
			return "", err
		}
		if err := r.Stopping(); err != nil {
			return "", err
		}
		r.Sleep(5 * door.Poll)
	}
}

func (r *machineJob) remove(id string) error {
	err := r.Effect("remove", func(ctx context.Context) error {
		_, err := r.Retry(ctx, func(ctx context.Context) (cloud.Instance, error) {
			return r.Cloud.Remove(ctx, r.ClientToken("remove"), id)
		})
		return err
	})
	if err == nil {
		r.Instance.CloudID = id
		err = r.Await(cloud.Removed)
	}
	if errors.Is(err, cloud.ErrNotFound) {
		return nil
	}
	return err
}

func (r *plainJob) removeInstance() error {
	if r.Instance.CloudID == "" {
		return nil
	}
	err := r.Effect("remove", func(ctx context.Context) error {
		_, err := r.Retry(ctx, func(ctx context.Context) (cloud.Instance, error) {
			return r.Cloud.Remove(ctx, r.ClientToken("remove"), r.Instance.CloudID)
		})
		return err
	})
	if errors.Is(err, cloud.ErrNotFound) {
		return nil
	}
	return err
}

// turnBack brings the instance back into the state that it had, if it has left it.
func (r *machineJob) turnBack(effect string,
	call func(ctx context.Context, clientToken, id string) (cloud.Instance, error), to cloud.State) error {
	in, err := r.Settled()
	if err != nil {
		return err
	}
	if in.State != to {
		if err := r.Ask(effect, call); err != nil {
			return err
		}
	}
	return r.Await(to)
}

// firstBoot takes the host key's fingerprint from the first boot's output,
// fetches the host key, and records it if the two agree. If they do not, the
// instance runs, and nobody can be sure that it is the one: that is trouble.
func (r *machineJob) firstBoot() error {
	rows, err := r.Store.AccessesOf(r.Ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	for _, a := range rows {
		if err := r.Store.Observe(r.Ctx, a.ID, access.Placed, true, "first boot"); err != nil {
			return err
		}
	}
	if r.Instance.HostKeysRead { // never again: what it prints later may be anybody's word
		return nil
	}
	key, trouble, err := r.VouchedHostKey()
	if err != nil {
		return err
	}
	if err := r.SetData(door.Found{Trouble: trouble}); err != nil {
		return err
	}
	return r.Store.FirstBootRead(r.Ctx, r.Instance, key, "first boot's output, and fetched")
}

// agentLimit is how long a first boot may take to enroll the agent, once the server answers.
const agentLimit = 3 * time.Minute

// agentComes waits until the agent has connected. One that does not come is trouble, and no reason to take the instance away again.
func (r *machineJob) agentComes() error {
	for {
		a, err := r.Store.AgentOf(r.Ctx, r.Instance.ID)
		if err == nil && a.ConnectedAt != nil {
			return r.Say("its agent came, from %s, with the key %s", a.Address, a.Fingerprint)
		}
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		left, err := r.Left(min(agentLimit, r.StateLimit))
		if err != nil {
			return err
		}
		if left <= 0 {
			d := r.D
			if d.Trouble == "" {
				d.Trouble = fmt.Sprintf("its agent did not come: the first boot's output says more (plumlatch instance boot-log %s)", r.Instance.Name)
			}
			return r.SetData(d)
		}
		if err := r.Stopping(); err != nil {
			return err
		}
		r.Sleep(2 * door.Poll)
	}
}

func (r *machineJob) knownHost() error { return r.Run.KnownHost(&r.D) }

// machineJob is an instance that is launched, stopped or started.
type machineJob struct {
	door.Job[launching, door.Found]
	svc *Service
}

// launching is what such work begins with: the phase that the instance had, and, of a launch, the static
// address that it is to have.
type launching struct {
	door.Was
	Static   string `json:"static,omitempty"`    // its name; "" for none
	StaticID string `json:"static_id,omitempty"` // as the cloud calls it
	Reserve  bool   `json:"reserve,omitempty"`   // it is reserved by this work, and given back if that goes back
	KeyEntry string `json:"key_entry,omitempty"` // of the cloud's own list of keys, which the cloud places
	// PasswordKey is the public half, as a line, that an image which takes no key encrypts its first password to.
	PasswordKey string `json:"password_key,omitempty"`
	Agent       bool   `json:"agent,omitempty"` // first boot enrolls one
}

// staticID is the address that this work gives: the one that was named, or the one that it reserves. Asked
// again under the same token, that is the same one.
func (r *machineJob) staticID(ctx context.Context) (string, error) {
	if !r.In.Reserve {
		return r.In.StaticID, nil
	}
	a, err := door.Asked(ctx, r.Run, func(ctx context.Context) (cloud.StaticAddress, error) {
		return r.Cloud.Reserve(ctx, r.ClientToken("reserve"), r.Instance.Region, r.In.Static)
	})
	return a.ID, err
}

// static is the address that this work gives, as the cloud has it now; none with cloud.ErrNotFound.
func (r *machineJob) static(ctx context.Context) (cloud.StaticAddress, error) {
	id, err := r.staticID(ctx)
	if err != nil {
		return cloud.StaticAddress{}, err
	}
	all, err := door.Asked(ctx, r.Run, func(ctx context.Context) ([]cloud.StaticAddress, error) {
		return r.Cloud.StaticAddresses(ctx, r.Instance.Region)
	})
	if err != nil {
		return cloud.StaticAddress{}, err
	}
	for _, a := range all {
		if a.ID == id {
			return a, nil
		}
	}
	return cloud.StaticAddress{}, cloud.ErrNotFound
}

// giveStatic gives the instance its static address, unless somebody else has that by now.
func (r *machineJob) giveStatic() error {
	err := r.Effect("move", func(ctx context.Context) error {
		a, err := r.static(ctx)
		switch {
		case errors.Is(err, cloud.ErrNotFound):
			return door.Failf("there is no static address %s any more", r.In.Static)
		case err != nil:
			return err
		case a.Instance != "" && a.Instance != r.Instance.CloudID:
			return door.Failf("another instance has been given %s meanwhile", r.In.Static)
		}
		return r.moveStatic(ctx, a.ID, r.Instance.CloudID)
	})
	if err != nil {
		return err
	}
	in, err := r.Get(r.Instance.CloudID)
	if err == nil {
		err = r.Note(in)
	}
	if err == nil {
		r.Instance, err = r.Store.InstanceByID(r.Ctx, r.Instance.ID)
	}
	return err
}

func (r *machineJob) moveStatic(ctx context.Context, id, to string) error {
	_, err := door.Asked(ctx, r.Run, func(ctx context.Context) (cloud.StaticAddress, error) {
		return r.Cloud.Move(ctx, r.ClientToken("static-"+to), id, to)
	})
	return err
}

// takeStatic takes the address from the instance again, before that goes, and gives back one that was
// reserved for it. What somebody has given to another instance meanwhile is that one's, and stays.
func (r *machineJob) takeStatic() error {
	err := r.Effect("move", func(ctx context.Context) error {
		a, err := r.static(ctx)
		switch {
		case r.In.Reserve && errors.Is(err, cloud.ErrRefused):
			return nil // it never came to one
		case err != nil:
			return err
		case a.Instance != "" && a.Instance != r.Instance.CloudID:
			return nil
		case a.Instance != "":
			if err := r.moveStatic(ctx, a.ID, ""); err != nil {
				return err
			}
		}
		if !r.In.Reserve {
			return nil
		}
		_, err = door.Asked(ctx, r.Run, func(ctx context.Context) (struct{}, error) {
			return struct{}{}, r.Cloud.Release(ctx, r.ClientToken("release"), a.ID)
		})
		return err
	})
	if errors.Is(err, cloud.ErrNotFound) {
		return nil
	}
	return err
}

func (w *Service) machineSteps() door.Family[*machineJob] {
	return func() *machineJob { return &machineJob{svc: w} }
}
