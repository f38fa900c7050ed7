// Package work carries out what takes longer than a request: launching,
// stopping, starting and removing instances. What is at hand stands in the
// ledger (the instance's phase), every call to a cloud carries a client token,
// and each step looks before it acts, so that a service that was killed goes
// on where it was when it starts again.
package work

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/authkeys"
	"plumlatch/core/cloudconfig"
	"plumlatch/core/hostkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/service/cloud"
	"plumlatch/service/reach"
	"plumlatch/service/seal"
	"plumlatch/service/store"
)

// Worker does the work. Its fields are set once, before Resume.
type Worker struct {
	Store  *store.Store
	Cloud  cloud.Driver
	Policy reach.Policy
	Sealer *seal.Sealer
	Log    *slog.Logger

	base context.Context
	stop context.CancelFunc
	wg   sync.WaitGroup
}

// Limits on how long a cloud may take.
const (
	stateLimit = 5 * time.Minute
	bootLimit  = 2 * time.Minute
	poll       = 200 * time.Millisecond
)

// Resume starts the worker, and goes on with what an earlier one left.
func (w *Worker) Resume(ctx context.Context) error {
	w.base, w.stop = context.WithCancel(context.WithoutCancel(ctx))
	unfinished, err := w.Store.Unfinished(ctx)
	if err != nil {
		return err
	}
	for _, i := range unfinished {
		w.Log.Info("going on with unfinished work", "instance", i.Name, "phase", i.Phase)
		w.begin(i)
	}
	return nil
}

// Close stops the work at hand, which the next Resume goes on with, and waits for it to have stopped.
func (w *Worker) Close() {
	w.stop()
	w.wg.Wait()
}

// FieldError says which field of a request is wrong, and what there is instead.
type FieldError struct {
	Field   string
	Problem string
	Choices []string
}

// Error returns the problem and the choices.
func (e FieldError) Error() string {
	if len(e.Choices) == 0 {
		return e.Problem
	}
	return e.Problem + "; there are: " + strings.Join(e.Choices, ", ")
}

// LaunchRequest asks for an instance that opens with the named keys.
type LaunchRequest struct {
	Name, Region, Image, Size string
	Keys                      []string
	NoKey                     bool // launch though no key is named
}

// Plan is a checked launch: what it would send.
type Plan struct {
	Image    cloud.Image
	Keys     []store.Key
	UserData string
	Warnings []string

	steward *keypair.Pair
	alias   string
}

// Plan checks a request, and makes the cloud-config that it would send with a
// steward key of its own. It changes nothing. A FieldError says what is wrong.
func (w *Worker) Plan(ctx context.Context, r LaunchRequest) (*Plan, error) {
	if err := names.Check(r.Name); err != nil {
		return nil, FieldError{Field: "name", Problem: err.Error()}
	}
	regions, err := w.Cloud.Regions(ctx)
	if err != nil {
		return nil, err
	}
	images, err := w.Cloud.Images(ctx)
	if err != nil {
		return nil, err
	}
	sizes, err := w.Cloud.Sizes(ctx)
	if err != nil {
		return nil, err
	}
	p := &Plan{}
	if _, err := choose("region", r.Region, regions, func(x cloud.Region) string { return x.Name }); err != nil {
		return nil, err
	}
	if p.Image, err = choose("image", r.Image, images, func(x cloud.Image) string { return x.Name }); err != nil {
		return nil, err
	}
	if _, err := choose("size", r.Size, sizes, func(x cloud.Size) string { return x.Name }); err != nil {
		return nil, err
	}
	if len(r.Keys) == 0 && !r.NoKey {
		return nil, FieldError{Field: "keys", Problem: "no key is named: without one nobody can log in, and the way back in is a restore; name a key, or ask for it with no_key (-no-key)"}
	}
	if len(r.Keys) > 0 && r.NoKey {
		return nil, FieldError{Field: "keys", Problem: "keys are named, and no_key is asked for too: give one or the other"}
	}
	if err := w.planKeys(ctx, r, p); err != nil {
		return nil, err
	}
	if len(p.Keys) == 0 {
		p.Warnings = append(p.Warnings, "no key opens it for a person: it is a locked box, and getting in will be a restore")
	}
	p.alias = "plumlatch-" + token(10)
	if p.steward, err = keypair.Create(keypair.Ed25519, "steward "+p.alias); err != nil {
		return nil, err
	}
	lines := []string{}
	for _, k := range p.Keys {
		lines = append(lines, k.Public().Line())
	}
	lines = append(lines, authkeys.StewardOptions+" "+p.steward.Public.Line())
	p.UserData, err = cloudconfig.Build(cloudconfig.Settings{Hostname: strings.ToLower(r.Name), LoginUser: p.Image.LoginUser, Keys: lines})
	if errors.Is(err, cloudconfig.ErrTooLarge) {
		return nil, FieldError{Field: "keys", Problem: err.Error()}
	}
	return p, err
}

func choose[T any](field, want string, all []T, name func(T) string) (T, error) {
	var choices []string
	for _, x := range all {
		if name(x) == want {
			return x, nil
		}
		choices = append(choices, name(x))
	}
	var none T
	problem := "unknown " + field
	if want == "" {
		problem = "no " + field + " is given"
	}
	return none, FieldError{Field: field, Problem: problem, Choices: choices}
}

func (w *Worker) planKeys(ctx context.Context, r LaunchRequest, p *Plan) error {
	for _, name := range r.Keys {
		k, err := w.Store.KeyByName(ctx, name)
		if errors.Is(err, store.ErrNotFound) {
			return w.unknownKey(ctx, name)
		}
		if err != nil {
			return err
		}
		if slices.ContainsFunc(p.Keys, func(x store.Key) bool { return x.ID == k.ID }) {
			continue
		}
		if k.RetiredAt != nil {
			return FieldError{Field: "keys", Problem: fmt.Sprintf("key %s is retired: it is for no new launches (plumlatch key use-again %s undoes it)", k.Name, k.Name)}
		}
		if err := k.Public().Placeable(); err != nil {
			return FieldError{Field: "keys", Problem: fmt.Sprintf("key %s: %v", k.Name, err)}
		}
		if t := k.Public().Type(); !slices.Contains(p.Image.KeyTypes, t) {
			return FieldError{Field: "keys", Problem: fmt.Sprintf("key %s is %s, which image %s does not take", k.Name, t, p.Image.Name), Choices: p.Image.KeyTypes}
		}
		p.Keys = append(p.Keys, k)
	}
	return nil
}

func (w *Worker) unknownKey(ctx context.Context, name string) error {
	keys, next, err := w.Store.Keys(ctx, store.KeyQuery{Page: store.Page{Limit: 20}})
	if err != nil {
		return err
	}
	e := FieldError{Field: "keys", Problem: "unknown key " + plaintext.Line(plaintext.Cut(name, names.MaxLength))}
	for _, k := range keys {
		e.Choices = append(e.Choices, k.Name)
	}
	if next != "" {
		e.Choices = append(e.Choices, "... (key list shows all)")
	}
	return e
}

// token returns n random characters of a-z and 2-7.
func token(n int) string {
	b := make([]byte, n)
	_, _ = rand.Read(b) // never fails
	return strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(b))[:n]
}

// Launch records the launch and begins it. A request that was done already is
// answered with its instance. Errors: FieldError, store.ErrNameTaken, store.ErrReused.
func (w *Worker) Launch(ctx context.Context, by store.Actor, once store.Once, r LaunchRequest) (store.Instance, []string, error) {
	// Before anything else: what has changed since the first time does not matter.
	err := w.Store.Seen(ctx, once)
	if done, ok := errors.AsType[store.Replayed](err); ok {
		i, err := w.Store.InstanceByID(ctx, done.InstanceID)
		return i, nil, err
	}
	if err != nil {
		return store.Instance{}, nil, err
	}
	p, err := w.Plan(ctx, r)
	if err != nil {
		return store.Instance{}, nil, err
	}
	private, err := p.steward.OpenSSH(nil)
	if err != nil {
		return store.Instance{}, nil, err
	}
	sealed, err := w.Sealer.Seal(private)
	clear(private)
	if err != nil {
		return store.Instance{}, nil, err
	}
	n := store.NewInstance{
		Instance: store.Instance{
			Name: r.Name, Alias: p.alias, Cloud: w.Cloud.Name(), ClientToken: token(26), Region: r.Region,
			Image: r.Image, Size: r.Size, LoginUser: p.Image.LoginUser, UserData: p.UserData,
		},
		Steward: p.steward.Public, StewardSealed: sealed,
	}
	for _, k := range p.Keys {
		n.KeyIDs = append(n.KeyIDs, k.ID)
		n.KeyNames = append(n.KeyNames, k.Name)
	}
	i, err := w.Store.AddInstance(ctx, by, once, n)
	if done, ok := errors.AsType[store.Replayed](err); ok {
		i, err = w.Store.InstanceByID(ctx, done.InstanceID)
		return i, p.Warnings, err
	}
	if err != nil {
		return store.Instance{}, nil, err
	}
	w.begin(i)
	return i, p.Warnings, nil
}

// Change begins to stop, start or remove an instance at rest, by the phase
// that stands for it. store.ErrInProgress, or a FieldError for one that is in
// no state for it.
func (w *Worker) Change(ctx context.Context, by store.Actor, once store.Once, i store.Instance, phase store.Phase) (store.Instance, error) {
	if done, ok := errors.AsType[store.Replayed](w.Store.Seen(ctx, once)); ok {
		return w.Store.InstanceByID(ctx, done.InstanceID)
	}
	switch {
	case phase == store.Stopping && i.State == string(cloud.Stopped), phase == store.Starting && i.State == string(cloud.Running):
		return store.Instance{}, FieldError{Field: "state", Problem: fmt.Sprintf("the instance is %s already", i.State)}
	case phase != store.Removing && i.Phase == store.Failed:
		return store.Instance{}, FieldError{Field: "state", Problem: "its launch failed; remove it, and launch again"}
	}
	err := w.Store.BeginChange(ctx, by, once, i, phase)
	if done, ok := errors.AsType[store.Replayed](err); ok {
		return w.Store.InstanceByID(ctx, done.InstanceID)
	}
	if err != nil {
		return store.Instance{}, err
	}
	i, err = w.Store.InstanceByID(ctx, i.ID)
	if err != nil {
		return store.Instance{}, err
	}
	w.begin(i)
	return i, nil
}

func (w *Worker) begin(i store.Instance) {
	w.wg.Go(func() {
		outcome, trouble, phase := w.carryOut(i)
		if w.base.Err() != nil {
			return // the next start goes on
		}
		if err := w.Store.EndChange(w.base, i, phase, outcome, trouble); err != nil {
			w.Log.Error("the outcome could not be recorded; the next start tries again", "instance", i.Name, "error", err)
		}
	})
}

// carryOut does the change that the phase stands for, and returns how it ended.
func (w *Worker) carryOut(i store.Instance) (outcome, trouble string, phase store.Phase) {
	var err error
	phase = store.Ready
	switch i.Phase {
	case store.Launching:
		if outcome, trouble, err = w.launch(i); err != nil {
			phase = store.Failed
		}
	case store.Starting:
		outcome, trouble, err = w.start(i)
	case store.Stopping:
		outcome = "stopped"
		_, err = w.change(i, w.Cloud.Stop, cloud.Stopped, "waiting until it has stopped")
	case store.Removing:
		outcome, phase = "removed", store.Removed
		if i.CloudID != "" {
			if _, err = w.change(i, w.Cloud.Remove, cloud.Removed, "waiting until it is gone"); errors.Is(err, cloud.ErrNotFound) {
				err = nil
			}
		}
		if err != nil {
			phase = store.Ready
		}
	}
	if err != nil {
		trouble = plaintext.Line(plaintext.Cut(err.Error(), 300))
		outcome = "failed: " + trouble
		w.Log.Warn("work failed", "instance", i.Name, "phase", i.Phase, "error", trouble)
	}
	return outcome, trouble, phase
}

// change asks the cloud for a change of state and waits until it has come.
func (w *Worker) change(i store.Instance, call func(context.Context, string, string) (cloud.Instance, error), until cloud.State, progress string) (cloud.Instance, error) {
	_, err := w.retry(func(ctx context.Context) (cloud.Instance, error) {
		return call(ctx, fmt.Sprintf("%s-%s-%d", i.ClientToken, i.Phase, i.IntentID), i.CloudID)
	})
	if err != nil {
		return cloud.Instance{}, err
	}
	return w.await(i, i.CloudID, until, progress)
}

// retry calls the cloud until it answers, with back-off, for a minute. A
// refusal and "not found" are answers.
func (w *Worker) retry(f func(context.Context) (cloud.Instance, error)) (cloud.Instance, error) {
	deadline := time.Now().Add(time.Minute)
	for wait := poll; ; wait *= 2 {
		ctx, cancel := context.WithTimeout(w.base, 20*time.Second)
		in, err := f(ctx)
		cancel()
		if err == nil || errors.Is(err, cloud.ErrRefused) || errors.Is(err, cloud.ErrNotFound) || w.base.Err() != nil || time.Now().After(deadline) {
			return in, err
		}
		w.sleep(wait)
	}
}

func (w *Worker) sleep(d time.Duration) {
	select {
	case <-w.base.Done():
	case <-time.After(d):
	}
}

// await polls until the instance is in the state, and records what it sees.
func (w *Worker) await(i store.Instance, cloudID string, until cloud.State, progress string) (cloud.Instance, error) {
	deadline := time.Now().Add(stateLimit)
	last := cloud.State("")
	for {
		in, err := w.retry(func(ctx context.Context) (cloud.Instance, error) { return w.Cloud.Get(ctx, cloudID) })
		if err != nil {
			return in, err
		}
		if in.State != last {
			if in.Port == 0 {
				in.Port = 22
			}
			if err := w.Store.Note(w.base, i.ID, cloudID, string(in.State), in.Address, in.Port, progress); err != nil {
				return in, err
			}
			last = in.State
		}
		if in.State == until {
			return in, nil
		}
		if time.Now().After(deadline) {
			return in, fmt.Errorf("the cloud says %s after %s, and not %s; look at the instance in the cloud", in.State, stateLimit, until)
		}
		if w.base.Err() != nil {
			return in, w.base.Err()
		}
		w.sleep(poll)
	}
}

func (w *Worker) launch(i store.Instance) (outcome, trouble string, err error) {
	in, err := w.retry(func(ctx context.Context) (cloud.Instance, error) {
		return w.Cloud.Launch(ctx, i.ClientToken, cloud.Launch{Name: i.Name, Region: i.Region, Image: i.Image, Size: i.Size, UserData: i.UserData})
	})
	if err != nil {
		return "", "", err
	}
	i.CloudID = in.ID
	if in, err = w.await(i, in.ID, cloud.Running, "waiting until it runs"); err != nil {
		return "", "", err
	}
	rows, err := w.accesses(i)
	if err != nil {
		return "", "", err
	}
	for _, a := range rows {
		if err := w.Store.Observe(w.base, a.ID, access.Placed, true, "first boot"); err != nil {
			return "", "", err
		}
	}
	if err := w.progress(i, in, "reading the host keys from the first boot's output"); err != nil {
		return "", "", err
	}
	if !i.HostKeysRead {
		if trouble, err = w.firstHostKey(i, in); err != nil {
			return "", "", err
		}
	}
	if trouble == "" {
		if trouble, err = w.probe(i, in); err != nil {
			return "", "", err
		}
	}
	return fmt.Sprintf("running at %s port %d", in.Address, in.Port), trouble, nil
}

func (w *Worker) progress(i store.Instance, in cloud.Instance, text string) error {
	return w.Store.Note(w.base, i.ID, in.ID, string(in.State), in.Address, in.Port, text)
}

// accesses returns every access of an instance, the steward's too.
func (w *Worker) accesses(i store.Instance) ([]store.Access, error) {
	return w.accessesOf(w.base, i)
}

// firstHostKey takes the host key's fingerprint from the first boot's output,
// fetches the host key, and records it if the two agree. What went wrong is
// trouble: the instance runs, and nobody can be sure that it is the one.
func (w *Worker) firstHostKey(i store.Instance, in cloud.Instance) (trouble string, err error) {
	var fingerprints []string
	deadline := time.Now().Add(bootLimit)
	for {
		ctx, cancel := context.WithTimeout(w.base, 20*time.Second)
		output, err := w.Cloud.BootOutput(ctx, in.ID)
		cancel()
		if err == nil {
			fingerprints, err = hostkeys.FirstBootFingerprints(output)
		}
		if err == nil {
			break
		}
		if w.base.Err() != nil {
			return "", w.base.Err()
		}
		if errors.Is(err, hostkeys.ErrDiffer) || time.Now().After(deadline) {
			return "the host key is not known: " + err.Error(), w.Store.FirstBootRead(w.base, i, nil, "")
		}
		w.sleep(poll)
	}
	blob, err := w.hostKey(in, "")
	if err != nil {
		return "the host key could not be fetched: " + err.Error(), w.Store.FirstBootRead(w.base, i, nil, "")
	}
	p, err := keypair.FromBlob(blob, "")
	if err != nil {
		return "the host key cannot be read: " + err.Error(), w.Store.FirstBootRead(w.base, i, nil, "")
	}
	if !slices.Contains(fingerprints, p.Fingerprint()) {
		return fmt.Sprintf("the host key that answers at %s (%s) is not the one that first boot printed (%s): something else may stand behind this address; nothing was recorded",
			in.Address, p.Fingerprint(), strings.Join(fingerprints, ", ")), w.Store.FirstBootRead(w.base, i, nil, "")
	}
	return "", w.Store.FirstBootRead(w.base, i, &p, "first boot's output, and fetched")
}

// hostKey fetches the host key, waiting for the SSH server to come up.
func (w *Worker) hostKey(in cloud.Instance, of string) ([]byte, error) {
	deadline := time.Now().Add(bootLimit)
	for wait := poll; ; wait = min(2*wait, 5*time.Second) {
		blob, err := reach.HostKey(w.base, w.Policy, in.Address, in.Port, of)
		if err == nil || errors.Is(err, reach.ErrPolicy) || time.Now().After(deadline) || w.base.Err() != nil {
			return blob, err
		}
		w.sleep(wait)
	}
}

// probe asks the server about every access and records the answers.
func (w *Worker) probe(i store.Instance, in cloud.Instance) (trouble string, err error) {
	if err := w.progress(i, in, "asking the server which keys it takes"); err != nil {
		return "", err
	}
	pinned, err := w.Store.HostKeys(w.base, i.ID)
	if err != nil {
		return "", err
	}
	if len(pinned) == 0 {
		return "no host key is recorded, so the server was not asked which keys it takes", nil
	}
	rows, err := w.accesses(i)
	if err != nil {
		return "", err
	}
	t := reach.Target{Address: in.Address, Port: in.Port, User: i.LoginUser}
	for _, h := range pinned {
		t.HostKeys = append(t.HostKeys, h.Blob)
	}
	var blobs [][]byte
	for _, a := range rows {
		blobs = append(blobs, a.Blob)
	}
	var refused []string
	for n, r := range reach.Probe(w.base, w.Policy, t, blobs, time.Now) {
		if err := w.Store.Probed(w.base, rows[n].ID, string(r.Answer), r.Detail, r.Vantage); err != nil {
			return "", err
		}
		if r.Answer != reach.Accepted {
			name := rows[n].Key
			if rows[n].Steward {
				name = "the steward's"
			}
			refused = append(refused, fmt.Sprintf("%s: %s", name, strings.TrimSpace(string(r.Answer)+" "+r.Detail)))
		}
	}
	if len(refused) > 0 {
		return "not every key is accepted: " + strings.Join(refused, "; "), nil
	}
	return "", nil
}

func (w *Worker) start(i store.Instance) (outcome, trouble string, err error) {
	in, err := w.change(i, w.Cloud.Start, cloud.Running, "waiting until it runs")
	if err != nil {
		return "", "", err
	}
	outcome = fmt.Sprintf("running at %s port %d", in.Address, in.Port)
	pinned, err := w.Store.HostKeys(w.base, i.ID)
	if err != nil || len(pinned) == 0 {
		return outcome, "no host key is recorded, so the server was not asked which keys it takes", err
	}
	blob, err := w.hostKey(in, pinned[0].Type)
	if err != nil {
		return outcome, "the SSH server did not answer: " + err.Error(), nil
	}
	if fp := keypair.Fingerprint(blob); fp != pinned[0].Fingerprint {
		return outcome, fmt.Sprintf("another host key answers at %s: %s, and recorded is %s; nothing was asked of it", in.Address, fp, pinned[0].Fingerprint), nil
	}
	trouble, err = w.probe(i, in)
	return outcome, trouble, err
}
