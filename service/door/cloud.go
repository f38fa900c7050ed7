package door

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/hostkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/reach"
	"plumlatch/service/cloud"
	"plumlatch/service/store"
)

// Found is what the steps of a launch or a start find out for its end.
type Found struct {
	Trouble string `json:"trouble,omitempty"`
	Code    string `json:"code,omitempty"` // of the trouble
	// Asked: the cloud was asked for the instance, and has not answered yet.
	Asked bool `json:"asked,omitempty"`
}

// Was is the input of work on an instance at rest: the phase that it had.
type Was struct {
	Phase store.Phase `json:"phase"`
}

// AsBefore puts the instance into the phase that it had before the work.
func (r *Run) AsBefore(state store.WorkState) store.WorkEnd {
	var before Was
	if err := Decode(r.Work.Input, &before); err != nil || before.Phase == "" {
		before.Phase = store.Ready
	}
	return store.WorkEnd{Phase: before.Phase, Trouble: r.Work.Trouble, Outcome: r.TookBack(state, AllTakenBack)}
}

// TookBack is the outcome of work that went back: why, unless it was cancelled, which its
// state says, and how things are now. What is stuck has only its trouble.
func (r *Run) TookBack(state store.WorkState, now string) string {
	switch state {
	case store.Stuck:
		return r.Work.Trouble
	case store.Cancelled:
		return now
	}
	return OutcomeOf(r.Work.Trouble, now)
}

const AllTakenBack = "everything was taken back"

// Ask has the cloud begin a change of state.
func (r *Run) Ask(effect string, call func(ctx context.Context, clientToken, id string) (cloud.Instance, error)) error {
	return r.Effect(effect, func(ctx context.Context) error {
		_, err := r.Retry(ctx, func(ctx context.Context) (cloud.Instance, error) {
			return call(ctx, r.ClientToken(effect), r.Instance.CloudID)
		})
		return err
	})
}

// Settled waits until the instance is in a state that does not pass by itself.
func (r *Run) Settled() (cloud.Instance, error) {
	for {
		in, err := r.Get(r.Instance.CloudID)
		if err != nil || in.State == cloud.Running || in.State == cloud.Stopped || in.State == cloud.Removed {
			return in, err
		}
		if left, err := r.Left(r.StateLimit); err != nil || left <= 0 {
			return in, errors.Join(err, Failf("the cloud says %s for %s", in.State, r.StateLimit))
		}
		if err := r.Stopping(); err != nil {
			return in, err
		}
		r.Sleep(Poll)
	}
}

// Get asks the cloud for an instance, by its ID there.
func (r *Run) Get(id string) (cloud.Instance, error) {
	return r.Retry(r.Ctx, func(ctx context.Context) (cloud.Instance, error) { return r.Cloud.Get(ctx, id) })
}

// Retry calls the cloud until it answers, with back-off, for a minute at most.
// A refusal and "not found" are answers.
func (r *Run) Retry(ctx context.Context, f func(context.Context) (cloud.Instance, error)) (cloud.Instance, error) {
	deadline := time.Now().Add(min(time.Minute, r.StateLimit))
	for wait := Poll; ; wait = min(2*wait, 5*time.Second) {
		once, cancel := context.WithTimeout(ctx, min(20*time.Second, r.StateLimit))
		in, err := f(once)
		cancel()
		if err == nil || errors.Is(err, cloud.ErrRefused) || errors.Is(err, cloud.ErrNotFound) ||
			time.Now().After(deadline) {
			return in, err
		}
		if stop := r.Stopping(); stop != nil {
			return in, stop
		}
		r.Sleep(wait)
	}
}

// Left returns what is left of a limit on how long the step at hand may take,
// whoever began it.
func (r *Run) Left(limit time.Duration) (time.Duration, error) {
	age, err := r.Store.StepAge(r.Ctx, r.Work.ID, r.Work.At)
	return limit - age, err
}

// Note records what the cloud says of the instance.
func (r *Run) Note(in cloud.Instance) error {
	if in.Port == 0 {
		in.Port = 22
	}
	title := r.Step().Title
	if err := r.Store.Note(r.Ctx, r.Work.InstanceID, in.ID, string(in.State), in.Address, in.Port, in.Static,
		title); err != nil {
		return err
	}
	r.Instance.CloudID, r.Instance.State, r.Instance.Address, r.Instance.Port = in.ID, string(in.State),
		in.Address, in.Port
	return nil
}

// Await polls until the instance is in the state, and records what it sees.
func (r *Run) Await(until cloud.State) error {
	left, err := r.Left(r.StateLimit)
	if err != nil {
		return err
	}
	began := time.Now()
	deadline := began.Add(left)
	last := cloud.State("")
	for {
		in, err := r.Get(r.Instance.CloudID)
		if err != nil {
			return err
		}
		if in.State != last {
			if err := r.Note(in); err != nil {
				return err
			}
			last = in.State
		}
		switch {
		case in.State == until && until == cloud.Running:
			return r.SayAsks(in)
		case in.State == until:
			return nil
		case in.State == cloud.Removed || in.State == cloud.Removing && until != cloud.Removed:
			return Failf("the cloud says that it is %s: somebody else removed it", in.State)
		case time.Now().After(deadline):
			return Failf("the cloud says %s after %s, and not %s; look at the instance in the cloud", in.State,
				r.StateLimit, until)
		}
		if err := r.Stopping(); err != nil {
			return err
		}
		r.Sleep(PollAfter(began))
	}
}

// PollAfter is when to ask the cloud again: a 25th of the time that it took so far,
// so that a change that comes quickly is seen quickly, and a slow cloud is not
// asked without end.
func PollAfter(began time.Time) time.Duration {
	return min(Poll, max(10*time.Millisecond, time.Since(began)/25))
}

// BootLimit is how long the instance may take until its server answers after a start.
func (r *Run) BootLimit() time.Duration { return cmp.Or(r.Cloud.Properties().Boot, bootLimit) }

// askedLimit is that where somebody has to answer at its console first.
const askedLimit = 30 * time.Minute

// ServerLimit is how long a step may wait for the instance's server after a start.
func (r *Run) ServerLimit() time.Duration {
	if r.asks() {
		return askedLimit
	}
	return min(r.BootLimit(), r.StateLimit)
}

// bootsWithin is how long a boot may take.
func (r *Run) bootsWithin() time.Duration {
	if r.asks() {
		return askedLimit
	}
	return r.BootLimit()
}

// SayAsks says of a machine that boots how somebody answers at its console, if it asks there.
func (r *Run) SayAsks(in cloud.Instance) error {
	if in.Asks == "" {
		return nil
	}
	return r.SayHand("its boot waits for somebody at its console, for at most %s: %s", SpanWords(askedLimit), plaintext.Line(plaintext.Cut(in.Asks, 300)))
}

// asks tells whether somebody has to answer at its console at each boot. A cloud that does not answer says nothing of it.
func (r *Run) asks() bool {
	if r.Instance.CloudID == "" || r.Instance.Adopted {
		return false
	}
	ctx, cancel := context.WithTimeout(r.Ctx, 20*time.Second)
	defer cancel()
	in, err := r.Cloud.Get(ctx, r.Instance.CloudID)
	return err == nil && in.Asks != ""
}

// VouchedHostKey fetches the host key, and holds it against the fingerprints of the first
// boot's output. trouble says why it is not known; it is nobody's failure.
func (r *Run) VouchedHostKey() (key *keypair.Public, trouble string, err error) {
	left, err := r.Left(r.bootsWithin())
	if err != nil {
		return nil, "", err
	}
	deadline := time.Now().Add(left)
	var fingerprints []string
	for {
		ctx, cancel := context.WithTimeout(r.Ctx, 20*time.Second)
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
			return nil, "the host key is not known: " + Words(err), nil
		}
		r.Sleep(Poll)
	}
	blob, err := r.HostKey("", deadline)
	if err != nil {
		return nil, "the host key could not be fetched: " + Words(err), r.Stopping()
	}
	p, err := keypair.FromBlob(blob, "")
	if err != nil {
		return nil, "the host key cannot be read: " + Words(err), nil
	}
	if !slices.Contains(fingerprints, p.Fingerprint()) {
		return nil, fmt.Sprintf("the host key that answers at %s (%s) is not the one that first boot printed (%s): "+
			"something else may stand behind this address; nothing was recorded",
			r.Instance.Address, p.Fingerprint(), strings.Join(fingerprints, ", ")), nil
	}
	return &p, "", nil
}

// HostKey fetches the host key, waiting for the SSH server to come up.
func (r *Run) HostKey(of string, deadline time.Time) ([]byte, error) {
	t, err := r.Target(r.Ctx, r.Instance)
	if err != nil {
		return nil, err
	}
	for wait := Poll; ; wait = min(2*wait, 5*time.Second) {
		blob, err := reach.HostKey(r.Ctx, r.Reach, t, of)
		if err == nil || errors.Is(err, reach.ErrPolicy) || time.Now().After(deadline) || r.Stopping() != nil {
			return blob, err
		}
		r.Sleep(wait)
	}
}

// KnownHost probes a started instance, if the host key that answers is the recorded one.
func (r *Run) KnownHost(f *Found) error {
	pinned, err := r.Store.HostKeys(r.Ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	if len(pinned) == 0 {
		return r.Probe(f)
	}
	left, err := r.Left(r.bootsWithin())
	if err != nil {
		return err
	}
	blob, err := r.HostKey(pinned[0].Type, time.Now().Add(left))
	if err != nil {
		if stop := r.Stopping(); stop != nil {
			return stop
		}
		*f = Found{Trouble: "the SSH server did not answer: " + Words(err)}
		return r.Keep()
	}
	if fp := keypair.Fingerprint(blob); fp != pinned[0].Fingerprint {
		*f = Found{Code: access.TroubleHostKey,
			Trouble: fmt.Sprintf("another host key answers at %s: %s, and recorded is %s; nothing was asked of it",
				r.Instance.Address, fp, pinned[0].Fingerprint)}
		return r.Keep()
	}
	return r.Probe(f)
}

// Probe asks the server about every access and records the answers.
func (r *Run) Probe(f *Found) error {
	if f.Trouble != "" {
		return nil
	}
	refused, err := r.ProbeAll()
	if err != nil {
		return err
	}
	if len(refused) > 0 {
		f.Trouble = "not every key is accepted: " + strings.Join(refused, "; ")
	}
	if pinned, err := r.Store.HostKeys(r.Ctx, r.Instance.ID); err != nil {
		return err
	} else if len(pinned) == 0 {
		f.Trouble = "no host key is recorded, so the server was not asked which keys it takes"
	}
	return r.Keep()
}

// ProbeAll asks about every access, and returns which are not accepted, in words.
func (r *Run) ProbeAll() (refused []string, err error) {
	rows, err := r.Store.AccessesOf(r.Ctx, r.Instance.ID)
	if err != nil {
		return nil, err
	}
	return r.ProbeRows(rows)
}

// ProbeRows asks about some accesses.
func (r *Run) ProbeRows(rows []store.Access) (refused []string, err error) {
	t, err := r.TargetInside(r.Ctx, r.Instance)
	if err != nil || len(t.HostKeys) == 0 {
		return nil, err
	}
	var blobs [][]byte
	for _, a := range rows {
		blobs = append(blobs, a.Blob)
	}
	for n, p := range r.AskKeys(t, blobs) {
		if r.Ctx.Err() != nil {
			return nil, store.ErrLost // what ended with the claim is no answer
		}
		if err := r.Store.Probed(r.Ctx, store.Asked{AccessID: rows[n].ID, Answer: string(p.Answer), Detail: p.Detail,
			From: p.Vantage}); err != nil {
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

// Target is where an instance answers, with the host keys that it must have.
func (w *Service) Target(ctx context.Context, i store.Instance) (reach.Target, error) {
	pinned, err := w.Store.HostKeys(ctx, i.ID)
	if err != nil {
		return reach.Target{}, err
	}
	var blobs [][]byte
	for _, h := range pinned {
		blobs = append(blobs, h.Blob)
	}
	return w.TargetBy(ctx, i, blobs)
}

// TargetInside is Target for whoever edits and asks, and not for whoever looks whether the port is open: where it is shut, the instance's agent leads there.
func (w *Service) TargetInside(ctx context.Context, i store.Instance) (reach.Target, error) {
	t, err := w.Target(ctx, i)
	w.lead(&t, i)
	return t, err
}

// lead gives a target the way through the instance's agent, if there is one.
func (w *Service) lead(t *reach.Target, i store.Instance) {
	if w.Over != nil && t.Via == nil {
		t.Over = w.Over(i)
	}
}

// TargetBy is Target with host keys that were read already.
func (w *Service) TargetBy(ctx context.Context, i store.Instance, hostKeys [][]byte) (reach.Target, error) {
	t := reach.Target{Address: i.Address, Port: i.Port, User: i.LoginUser, HostKeys: hostKeys}
	if i.Via == nil {
		return t, nil
	}
	signer, err := w.StewardSigner(ctx, i.ID)
	if errors.Is(err, store.ErrNotFound) {
		return t, Failure{Reason: "it is reached through a jump host, which needs a steward"}
	}
	t.Via = &reach.Hop{Target: reach.Target{Address: i.Via.Address, Port: i.Via.Port, User: i.Via.LoginUser,
		HostKeys: i.Via.HostKeys}, Signer: signer}
	return t, err
}

// Plural is a number with its noun: "1 instance", "2 instances".
func Plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	if strings.HasSuffix(what, "s") {
		what += "e"
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// Asked calls the cloud until it answers, as Retry does.
func Asked[T any](ctx context.Context, r *Run, f func(context.Context) (T, error)) (out T, err error) {
	_, err = r.Retry(ctx, func(ctx context.Context) (cloud.Instance, error) {
		out, err = f(ctx)
		return cloud.Instance{}, err
	})
	return out, err
}

// Groups returns the groups of inbound rules that an instance has, by its ID in the cloud.
func (r *Run) Groups(id string) ([]cloud.Group, error) {
	return Asked(r.Ctx, r, func(ctx context.Context) ([]cloud.Group, error) { return r.Cloud.Groups(ctx, id) })
}

// ErrNoCloud says that no cloud of ours is behind an instance.
var ErrNoCloud = errors.New("it was adopted: no cloud of ours is behind it, so its rules and addresses are not " +
	"seen from here")

// CloudBehind returns an error unless a cloud has the instance.
func CloudBehind(i store.Instance) error {
	switch {
	case i.Adopted:
		return FieldError{Field: "instance", Problem: ErrNoCloud.Error()}
	case i.CloudID == "" || i.Phase == store.Failed:
		return FieldError{Field: "instance", Problem: "the cloud has not made it yet"}
	}
	return nil
}

// BeginOf begins a piece of work about an instance, or none, that leaves its phase alone.
func (w *Service) BeginOf(ctx context.Context, by store.Actor, once store.Once, i store.Instance,
	n store.NewWork) (store.Work, error) {
	work, err := w.Store.BeginWork(ctx, by, once, i.ID, n)
	if done, ok := errors.AsType[store.Replayed](err); ok {
		return w.Store.WorkByID(ctx, done.WorkID)
	}
	w.Look()
	return work, err
}
