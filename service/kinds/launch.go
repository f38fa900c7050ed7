package kinds

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/hostkeys"
	"plumlatch/core/keypair"
	"plumlatch/reach"
	"plumlatch/service/cloud"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// found is what the steps of a launch or a start find out for its end.
type found struct {
	Trouble string `json:"trouble,omitempty"`
	Code    string `json:"code,omitempty"` // of the trouble
	// Asked: the cloud was asked for the instance, and has not answered yet.
	Asked bool `json:"asked,omitempty"`
}

func (w *Worker) launchKind() *work.Kind {
	machineOf := w.machineSteps()
	return &work.Kind{
		Name: "launch", Action: "instance.launch", Phase: store.Launching, Changing: true,
		Steps: []work.Step{
			{Name: "create", Title: "asking the cloud for the instance", Do: machineOf.Do((*machineJob).create), Effects: []string{"launch"}, Undo: machineOf.Do((*machineJob).uncreate), UndoEffects: []string{"remove"}},
			{Name: "run", Title: "waiting until it runs", Do: machineOf.Do(func(r *machineJob) error { return r.await(cloud.Running) })},
			{Name: "host-key", Title: "reading the host keys from the first boot's output", Do: machineOf.Do((*machineJob).firstBoot)},
			{Name: "probe", Title: "asking the server which keys it takes", Do: machineOf.Do(func(r *machineJob) error { return r.Run.probe(&r.D) })},
		},
		End: machineOf.End(func(r *machineJob, state store.WorkState) (store.WorkEnd, error) {
			if state != store.Done {
				return store.WorkEnd{Phase: store.Failed, Trouble: r.Work.Trouble, Outcome: r.tookBack(state, allTakenBack)}, nil
			}
			return r.running()
		}),
	}
}

func (w *Worker) stopKind() *work.Kind {
	machineOf := w.machineSteps()
	return &work.Kind{
		Name: "stop", Action: "instance.stop", Phase: store.Stopping, Changing: true,
		Steps: []work.Step{
			{Name: "stop", Title: "asking the cloud to stop it", Effects: []string{"stop"}, UndoEffects: []string{"start"},
				Do:   machineOf.Do(func(r *machineJob) error { return r.ask("stop", r.Cloud.Stop) }),
				Undo: machineOf.Do(func(r *machineJob) error { return r.turnBack("start", r.Cloud.Start, cloud.Running) })},
			{Name: "rest", Title: "waiting until it has stopped", Do: machineOf.Do(func(r *machineJob) error { return r.await(cloud.Stopped) })},
		},
		End: machineOf.End(func(r *machineJob, state store.WorkState) (store.WorkEnd, error) {
			if state != store.Done {
				return r.asBefore(state), nil
			}
			return store.WorkEnd{Phase: store.Ready, Outcome: "stopped"}, nil
		}),
	}
}

func (w *Worker) startKind() *work.Kind {
	machineOf := w.machineSteps()
	return &work.Kind{
		Name: "start", Action: "instance.start", Phase: store.Starting, Changing: true,
		Steps: []work.Step{
			{Name: "start", Title: "asking the cloud to start it", Effects: []string{"start"}, UndoEffects: []string{"stop"},
				Do:   machineOf.Do(func(r *machineJob) error { return r.ask("start", r.Cloud.Start) }),
				Undo: machineOf.Do(func(r *machineJob) error { return r.turnBack("stop", r.Cloud.Stop, cloud.Stopped) })},
			{Name: "run", Title: "waiting until it runs", Do: machineOf.Do(func(r *machineJob) error { return r.await(cloud.Running) })},
			{Name: "probe", Title: "asking the server which keys it takes", Do: machineOf.Do((*machineJob).knownHost)},
		},
		End: machineOf.End(func(r *machineJob, state store.WorkState) (store.WorkEnd, error) {
			if state != store.Done {
				return r.asBefore(state), nil
			}
			return r.running()
		}),
	}
}

func (w *Worker) removeKind() *work.Kind {
	adoptOf := w.adoptSteps()
	plainOf := w.plainSteps()
	return &work.Kind{
		Name: "remove", Action: "instance.remove", Phase: store.Removing, Changing: true,
		Steps: []work.Step{
			{Name: "line", Title: "taking the steward's line out", Effects: []string{"withdraw"}, NoReturn: true, Do: adoptOf.Do((*adoptJob).forgetLine),
				Skip: adoptOf.Skip(func(r *adoptJob) bool { return !r.Instance.Adopted })}, // else the file goes with the instance
			{Name: "remove", Title: "asking the cloud to remove it", Effects: []string{"remove"}, NoReturn: true, Do: plainOf.Do((*plainJob).removeInstance)},
			{Name: "gone", Title: "waiting until it is gone", Do: plainOf.Do(func(r *plainJob) error {
				if r.Instance.CloudID == "" {
					return nil
				}
				err := r.await(cloud.Removed)
				if errors.Is(err, cloud.ErrNotFound) {
					return nil
				}
				return err
			})},
		},
		End: adoptOf.End(func(r *adoptJob, state store.WorkState) (store.WorkEnd, error) {
			if state != store.Done {
				return r.asBefore(state), nil
			}
			outcome := "removed"
			if r.Instance.Adopted {
				outcome = "forgotten; the steward's line was taken out"
				if r.D.Left {
					outcome = "forgotten; the steward's line could not be taken out: its private half was destroyed, so it opens nothing"
				}
				if r.Instance.Via != nil {
					outcome += fmt.Sprintf("; its line for forwarding still stands on the jump host %s, and opens nothing any more", r.Instance.Via.Address)
				}
			}
			return store.WorkEnd{Phase: store.Removed, Outcome: outcome}, nil
		}),
	}
}

// was is the input of work on an instance at rest: the phase that it had.
type was struct {
	Phase store.Phase `json:"phase"`
}

// asBefore puts the instance into the phase that it had before the work.
func (r *Run) asBefore(state store.WorkState) store.WorkEnd {
	var before was
	if err := decode(r.Work.Input, &before); err != nil || before.Phase == "" {
		before.Phase = store.Ready
	}
	return store.WorkEnd{Phase: before.Phase, Trouble: r.Work.Trouble, Outcome: r.tookBack(state, allTakenBack)}
}

// tookBack is the outcome of work that went back: why, unless it was cancelled, which its
// state says, and how things are now. What is stuck has only its trouble.
func (r *Run) tookBack(state store.WorkState, now string) string {
	switch state {
	case store.Stuck:
		return r.Work.Trouble
	case store.Cancelled:
		return now
	}
	return outcomeOf(r.Work.Trouble, now)
}

const allTakenBack = "everything was taken back"

func (r *machineJob) running() (store.WorkEnd, error) {
	where := fmt.Sprintf("running at %s port %d", r.Instance.Address, r.Instance.Port)
	return store.WorkEnd{Phase: store.Ready, Trouble: r.D.Trouble, TroubleCode: r.D.Code, Outcome: outcomeOf(where, r.D.Trouble)}, nil
}

// create asks the cloud for the instance, and records which one it is.
func (r *machineJob) create() error {
	i := r.Instance
	if i.CloudID != "" {
		if in, err := r.get(i.CloudID); err == nil && in.State != cloud.Removed && in.State != cloud.Removing {
			return nil
		}
	}
	if err := r.SetData(found{Asked: true}); err != nil {
		return err
	}
	var in cloud.Instance
	err := r.Effect("launch", func(ctx context.Context) (err error) {
		in, err = r.retry(ctx, func(ctx context.Context) (cloud.Instance, error) {
			return r.Cloud.Launch(ctx, r.ClientToken("launch"), cloud.Launch{Name: i.Name, Region: i.Region, Zone: i.Zone, Image: i.Image, Size: i.Size, DiskGB: i.DiskGB, Tags: i.Tags, UserData: i.UserData, KeyLabel: i.KeyLabel})
		})
		return err
	})
	if errors.Is(err, cloud.ErrRefused) {
		return errors.Join(err, r.SetData(found{}))
	}
	if err != nil {
		return err
	}
	if err := r.note(in); err != nil {
		return err
	}
	return r.SetData(found{})
}

// lateLimit is how long a request that the cloud never answered may still have
// an effect.
const lateLimit = time.Minute

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
	if err := r.Say("%s was removed from the cloud", in.ID); err != nil {
		return err
	}
	return r.note(cloud.Instance{State: cloud.Removed}) // taking the work up again begins without it
}

// whatWasMade asks the cloud by the client token for an instance of which its
// answer was lost. A request that was never answered may still come to
// something, so it is looked for more than once.
func (r *machineJob) whatWasMade() (id string, err error) {
	limit := time.Duration(0)
	if r.D.Asked {
		limit = min(lateLimit, 2*r.StateLimit)
	}
	for {
		in, err := r.retry(r.ctx, func(ctx context.Context) (cloud.Instance, error) {
			return r.Cloud.ByToken(ctx, r.ClientToken("launch"))
		})
		if err == nil || !errors.Is(err, cloud.ErrNotFound) {
			return in.ID, err
		}
		left, err := r.left(limit)
		if err != nil || left <= 0 {
			return "", err
		}
		if err := r.Stopping(); err != nil {
			return "", err
		}
		r.Sleep(5 * poll)
	}
}

func (r *machineJob) remove(id string) error {
	err := r.Effect("remove", func(ctx context.Context) error {
		_, err := r.retry(ctx, func(ctx context.Context) (cloud.Instance, error) {
			return r.Cloud.Remove(ctx, r.ClientToken("remove"), id)
		})
		return err
	})
	if err == nil {
		r.Instance.CloudID = id
		err = r.await(cloud.Removed)
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
		_, err := r.retry(ctx, func(ctx context.Context) (cloud.Instance, error) {
			return r.Cloud.Remove(ctx, r.ClientToken("remove"), r.Instance.CloudID)
		})
		return err
	})
	if errors.Is(err, cloud.ErrNotFound) {
		return nil
	}
	return err
}

// ask has the cloud begin a change of state.
func (r *Run) ask(effect string, call func(ctx context.Context, clientToken, id string) (cloud.Instance, error)) error {
	return r.Effect(effect, func(ctx context.Context) error {
		_, err := r.retry(ctx, func(ctx context.Context) (cloud.Instance, error) {
			return call(ctx, r.ClientToken(effect), r.Instance.CloudID)
		})
		return err
	})
}

// turnBack brings the instance back into the state that it had, if it has left it.
func (r *machineJob) turnBack(effect string, call func(ctx context.Context, clientToken, id string) (cloud.Instance, error), to cloud.State) error {
	in, err := r.settled()
	if err != nil {
		return err
	}
	if in.State != to {
		if err := r.ask(effect, call); err != nil {
			return err
		}
	}
	return r.await(to)
}

// settled waits until the instance is in a state that does not pass by itself.
func (r *Run) settled() (cloud.Instance, error) {
	for {
		in, err := r.get(r.Instance.CloudID)
		if err != nil || in.State == cloud.Running || in.State == cloud.Stopped || in.State == cloud.Removed {
			return in, err
		}
		if left, err := r.left(r.StateLimit); err != nil || left <= 0 {
			return in, errors.Join(err, failf("the cloud says %s for %s", in.State, r.StateLimit))
		}
		if err := r.Stopping(); err != nil {
			return in, err
		}
		r.Sleep(poll)
	}
}

func (r *Run) get(id string) (cloud.Instance, error) {
	return r.retry(r.ctx, func(ctx context.Context) (cloud.Instance, error) { return r.Cloud.Get(ctx, id) })
}

// retry calls the cloud until it answers, with back-off, for a minute at most.
// A refusal and "not found" are answers.
func (r *Run) retry(ctx context.Context, f func(context.Context) (cloud.Instance, error)) (cloud.Instance, error) {
	deadline := time.Now().Add(min(time.Minute, r.StateLimit))
	for wait := poll; ; wait = min(2*wait, 5*time.Second) {
		once, cancel := context.WithTimeout(ctx, min(20*time.Second, r.StateLimit))
		in, err := f(once)
		cancel()
		if err == nil || errors.Is(err, cloud.ErrRefused) || errors.Is(err, cloud.ErrNotFound) || time.Now().After(deadline) {
			return in, err
		}
		if stop := r.Stopping(); stop != nil {
			return in, stop
		}
		r.Sleep(wait)
	}
}

// left returns what is left of a limit on how long the step at hand may take,
// whoever began it.
func (r *Run) left(limit time.Duration) (time.Duration, error) {
	age, err := r.Store.StepAge(r.ctx, r.Work.ID, r.Work.At)
	return limit - age, err
}

// note records what the cloud says of the instance.
func (r *Run) note(in cloud.Instance) error {
	if in.Port == 0 {
		in.Port = 22
	}
	title := r.Step().Title
	if err := r.Store.Note(r.ctx, r.Work.InstanceID, in.ID, string(in.State), in.Address, in.Port, in.Static, title); err != nil {
		return err
	}
	r.Instance.CloudID, r.Instance.State, r.Instance.Address, r.Instance.Port = in.ID, string(in.State), in.Address, in.Port
	return nil
}

// await polls until the instance is in the state, and records what it sees.
func (r *Run) await(until cloud.State) error {
	left, err := r.left(r.StateLimit)
	if err != nil {
		return err
	}
	began := time.Now()
	deadline := began.Add(left)
	last := cloud.State("")
	for {
		in, err := r.get(r.Instance.CloudID)
		if err != nil {
			return err
		}
		if in.State != last {
			if err := r.note(in); err != nil {
				return err
			}
			last = in.State
		}
		switch {
		case in.State == until:
			return nil
		case in.State == cloud.Removed || in.State == cloud.Removing && until != cloud.Removed:
			return failf("the cloud says that it is %s: somebody else removed it", in.State)
		case time.Now().After(deadline):
			return failf("the cloud says %s after %s, and not %s; look at the instance in the cloud", in.State, r.StateLimit, until)
		}
		if err := r.Stopping(); err != nil {
			return err
		}
		r.Sleep(pollAfter(began))
	}
}

// pollAfter is when to ask the cloud again: a 25th of the time that it took so far,
// so that a change that comes quickly is seen quickly, and a slow cloud is not
// asked without end.
func pollAfter(began time.Time) time.Duration {
	return min(poll, max(10*time.Millisecond, time.Since(began)/25))
}

// firstBoot takes the host key's fingerprint from the first boot's output,
// fetches the host key, and records it if the two agree. If they do not, the
// instance runs, and nobody can be sure that it is the one: that is trouble.
func (r *machineJob) firstBoot() error {
	rows, err := r.accessesOf(r.ctx, r.Instance)
	if err != nil {
		return err
	}
	for _, a := range rows {
		if err := r.Store.Observe(r.ctx, a.ID, access.Placed, true, "first boot"); err != nil {
			return err
		}
	}
	if r.Instance.HostKeysRead { // never again: what it prints later may be anybody's word
		return nil
	}
	key, trouble, err := r.vouchedHostKey()
	if err != nil {
		return err
	}
	if err := r.SetData(found{Trouble: trouble}); err != nil {
		return err
	}
	return r.Store.FirstBootRead(r.ctx, r.Instance, key, "first boot's output, and fetched")
}

func (r *Run) vouchedHostKey() (key *keypair.Public, trouble string, err error) {
	left, err := r.left(bootLimit)
	if err != nil {
		return nil, "", err
	}
	deadline := time.Now().Add(left)
	var fingerprints []string
	for {
		ctx, cancel := context.WithTimeout(r.ctx, 20*time.Second)
		output, err := r.Cloud.BootOutput(ctx, r.Instance.CloudID)
		cancel()
		if err == nil {
			fingerprints, err = hostkeys.FirstBootFingerprints(output)
		}
		if err == nil {
			break
		}
		if stop := r.Stopping(); stop != nil {
			return nil, "", stop
		}
		if errors.Is(err, hostkeys.ErrDiffer) || time.Now().After(deadline) {
			return nil, "the host key is not known: " + words(err), nil
		}
		r.Sleep(poll)
	}
	blob, err := r.hostKey("", deadline)
	if err != nil {
		return nil, "the host key could not be fetched: " + words(err), r.Stopping()
	}
	p, err := keypair.FromBlob(blob, "")
	if err != nil {
		return nil, "the host key cannot be read: " + words(err), nil
	}
	if !slices.Contains(fingerprints, p.Fingerprint()) {
		return nil, fmt.Sprintf("the host key that answers at %s (%s) is not the one that first boot printed (%s): something else may stand behind this address; nothing was recorded",
			r.Instance.Address, p.Fingerprint(), strings.Join(fingerprints, ", ")), nil
	}
	return &p, "", nil
}

// hostKey fetches the host key, waiting for the SSH server to come up.
func (r *Run) hostKey(of string, deadline time.Time) ([]byte, error) {
	t, err := r.target(r.ctx, r.Instance)
	if err != nil {
		return nil, err
	}
	for wait := poll; ; wait = min(2*wait, 5*time.Second) {
		blob, err := reach.HostKey(r.ctx, r.Reach, t, of)
		if err == nil || errors.Is(err, reach.ErrPolicy) || time.Now().After(deadline) || r.Stopping() != nil {
			return blob, err
		}
		r.Sleep(wait)
	}
}

func (r *machineJob) knownHost() error { return r.Run.knownHost(&r.D) }

// knownHost probes a started instance, if the host key that answers is the recorded one.
func (r *Run) knownHost(f *found) error {
	pinned, err := r.Store.HostKeys(r.ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	if len(pinned) == 0 {
		return r.probe(f)
	}
	left, err := r.left(bootLimit)
	if err != nil {
		return err
	}
	blob, err := r.hostKey(pinned[0].Type, time.Now().Add(left))
	if err != nil {
		if stop := r.Stopping(); stop != nil {
			return stop
		}
		*f = found{Trouble: "the SSH server did not answer: " + words(err)}
		return r.Keep()
	}
	if fp := keypair.Fingerprint(blob); fp != pinned[0].Fingerprint {
		*f = found{Code: access.TroubleHostKey, Trouble: fmt.Sprintf("another host key answers at %s: %s, and recorded is %s; nothing was asked of it", r.Instance.Address, fp, pinned[0].Fingerprint)}
		return r.Keep()
	}
	return r.probe(f)
}

// probe asks the server about every access and records the answers.
func (r *Run) probe(f *found) error {
	if f.Trouble != "" {
		return nil
	}
	refused, err := r.probeAll()
	if err != nil {
		return err
	}
	if len(refused) > 0 {
		f.Trouble = "not every key is accepted: " + strings.Join(refused, "; ")
	}
	if pinned, err := r.Store.HostKeys(r.ctx, r.Instance.ID); err != nil {
		return err
	} else if len(pinned) == 0 {
		f.Trouble = "no host key is recorded, so the server was not asked which keys it takes"
	}
	return r.Keep()
}

// probeAll asks about every access, and returns which are not accepted, in words.
func (r *Run) probeAll() (refused []string, err error) {
	rows, err := r.accessesOf(r.ctx, r.Instance)
	if err != nil {
		return nil, err
	}
	return r.probeRows(rows)
}

// probeRows asks about some accesses.
func (r *Run) probeRows(rows []store.Access) (refused []string, err error) {
	t, err := r.target(r.ctx, r.Instance)
	if err != nil || len(t.HostKeys) == 0 {
		return nil, err
	}
	var blobs [][]byte
	for _, a := range rows {
		blobs = append(blobs, a.Blob)
	}
	for n, p := range r.askKeys(t, blobs) {
		if r.ctx.Err() != nil {
			return nil, store.ErrLost // what ended with the claim is no answer
		}
		if err := r.Store.Probed(r.ctx, store.Asked{AccessID: rows[n].ID, Answer: string(p.Answer), Detail: p.Detail, From: p.Vantage}); err != nil {
			return nil, err
		}
		if p.Answer != reach.Accepted {
			name := rows[n].Key
			if rows[n].Steward {
				name = "the steward's"
			}
			refused = append(refused, fmt.Sprintf("%s: %s", name, strings.TrimSpace(string(p.Answer)+" "+p.Detail)))
		}
	}
	return refused, nil
}

// target is where an instance answers, with the host keys that it must have.
func (w *Worker) target(ctx context.Context, i store.Instance) (reach.Target, error) {
	t := reach.Target{Address: i.Address, Port: i.Port, User: i.LoginUser}
	pinned, err := w.Store.HostKeys(ctx, i.ID)
	if err != nil {
		return t, err
	}
	for _, h := range pinned {
		t.HostKeys = append(t.HostKeys, h.Blob)
	}
	if i.Via == nil {
		return t, nil
	}
	signer, err := w.stewardSigner(ctx, i.ID)
	if errors.Is(err, store.ErrNotFound) {
		return t, Failure{Reason: "it is reached through a jump host, which needs a steward"}
	}
	t.Via = &reach.Hop{Target: reach.Target{Address: i.Via.Address, Port: i.Via.Port, User: i.Via.LoginUser, HostKeys: i.Via.HostKeys}, Signer: signer}
	return t, err
}

// machineJob is an instance that is launched, stopped or started.
type machineJob struct {
	Job[was, found]
	*Worker
}

func (w *Worker) machineSteps() Family[*machineJob] {
	return func() *machineJob { return &machineJob{Worker: w} }
}
