package restore

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"time"

	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
)

// Some clouds let in by a key for a minute: their own agent takes it, and takes it away again. The pair is made on the
// engineer's machine for that minute alone; the service hands over the public half.

// Lend has the cloud take a key made for this minute, for a restore that waits for it. FieldError, store.ErrWorkState.
func (w *Service) Lend(ctx context.Context, by store.Actor, work store.Work, l wire.LendKey) (wire.Lent, error) {
	if work.Kind != "restore-lent-key" || work.Over() || work.Back || work.CancelAsked || work.At != "lent" {
		return wire.Lent{}, store.ErrWorkState
	}
	i, err := w.Store.InstanceByID(ctx, work.InstanceID)
	if err != nil {
		return wire.Lent{}, err
	}
	p, err := w.lendable(ctx, i, l)
	if err != nil {
		return wire.Lent{}, err
	}
	until, err := w.lend(ctx, by, i, p, work.Token)
	if err != nil {
		return wire.Lent{}, err
	}
	err = w.Store.Tell(ctx, work.ID, map[string]any{"lent": true}, fmt.Sprintf("%s has the cloud take a key for a while, %s, from %s", by.Operator,
		p.Fingerprint(), by.Address))
	return wire.Lent{Until: until, LoginUser: i.LoginUser}, err
}

// LendTo has the cloud take a key made for this minute, so that somebody whose key is not there yet gets in once.
// FieldError.
func (w *Service) LendTo(ctx context.Context, by store.Actor, i store.Instance, l wire.LendKey) (wire.Lent, error) {
	p, err := w.lendable(ctx, i, l)
	if err != nil {
		return wire.Lent{}, err
	}
	first, err := w.FirstEntry(ctx, i)
	if err != nil {
		return wire.Lent{}, err
	}
	if first { // a restore asks who may, and waits for a word if the policy says so
		return wire.Lent{}, door.FieldError{Field: "instance", Problem: fmt.Sprintf("nobody of the ledger was shown to get into it yet: "+
			"plumlatch restore %s -route lent-key", i.Name)}
	}
	reason := plaintext.Line(plaintext.Cut(l.Reason, 200))
	if reason == "" {
		return wire.Lent{}, door.FieldError{Field: "reason", Problem: "say why: it is kept in the journal"}
	}
	entry, err := w.Store.KeyLent(ctx, by, i, p.Fingerprint(), reason)
	if err != nil {
		return wire.Lent{}, err
	}
	until, err := w.lend(ctx, by, i, p, fmt.Sprint("open-", entry))
	outcome := "lent until " + until.UTC().Format(time.RFC3339)
	if err != nil {
		outcome = "not lent: " + door.Words(err)
	}
	return wire.Lent{Until: until, LoginUser: i.LoginUser}, errors.Join(err, w.Store.LentSaid(ctx, by, i, entry, outcome))
}

// Lends tells whether the cloud lends a key for a login to an instance, as it is now.
func (w *Service) Lends(i store.Instance) bool { return w.lends(i) == nil }

// lends refuses instances to which the cloud lends nothing. FieldError.
func (w *Service) lends(i store.Instance) error {
	wrong := func(format string, a ...any) error {
		return door.FieldError{Field: "instance", Problem: fmt.Sprintf(format, a...)}
	}
	lends := w.CloudOf(i).Properties().Lends
	switch {
	case i.Adopted:
		return wrong("no cloud of ours is behind it: nobody can lend a key")
	case lends == nil:
		return wrong("this cloud lends no keys")
	case len(lends.Images) > 0 && i.Image != "" && !slices.Contains(lends.Images, i.Image):
		return wrong("the cloud's agent is not on its image (%s)", i.Image)
	case i.State != string(cloud.Running) || i.CloudID == "":
		return wrong("it is %s", i.State)
	}
	return nil
}

// lendable checks a key that is to be lent. A recorded key is not: it would stand among what people know.
func (w *Service) lendable(ctx context.Context, i store.Instance, l wire.LendKey) (keypair.Public, error) {
	if err := w.lends(i); err != nil {
		return keypair.Public{}, err
	}
	p, err := keypair.ReadPublic([]byte(l.PublicKey))
	if err != nil {
		return p, door.FieldError{Field: "public_key", Problem: err.Error()}
	}
	switch _, err := w.Store.KeyByFingerprint(ctx, p.Fingerprint()); {
	case err == nil:
		return p, door.FieldError{Field: "public_key", Problem: "it is recorded: a key that is lent is made for this minute alone"}
	case !errors.Is(err, store.ErrNotFound):
		return keypair.Public{}, err
	}
	return keypair.FromBlob(p.Blob, "lent by the cloud")
}

// lend asks the cloud, again under the same token as long as it is the same key. The key is kept before, and looked for
// after its end, whatever the cloud answers.
func (w *Service) lend(ctx context.Context, by store.Actor, i store.Instance, p keypair.Public, token string) (time.Time, error) {
	now, err := w.Store.Now(ctx)
	if err != nil {
		return time.Time{}, err
	}
	kept := store.LentKey{InstanceID: i.ID, LoginUser: i.LoginUser, Fingerprint: p.Fingerprint(), Blob: p.Blob,
		EndsAt: now.Add(w.CloudOf(i).Properties().Lends.For + lentLeave)}
	if err := w.Store.KeepLent(ctx, by, kept); err != nil {
		return time.Time{}, err
	}
	sum := sha256.Sum256(p.Blob)
	until, err := w.CloudOf(i).Lend(ctx, token+"-"+hex.EncodeToString(sum[:8]), i.CloudID, i.LoginUser, p.Line())
	if errors.Is(err, cloud.ErrRefused) {
		return until, door.FieldError{Field: "instance", Problem: "the cloud does not lend it: " + door.Words(err)}
	}
	if err != nil {
		return until, err
	}
	if until.After(now.Add(longestLoan)) { // somebody's clock is wrong: it is looked for all the same
		until = now.Add(longestLoan)
	}
	kept.EndsAt = until.Add(lentLeave)
	return until, w.Store.LentUntil(ctx, kept)
}

const (
	lentLeave   = 5 * time.Second // for the cloud's agent to take a key away after its end
	longestLoan = time.Hour
	lentAtOnce  = 20
	// LentEvery is how often it is looked whether lent keys are gone.
	LentEvery = 5 * time.Second
)

// LookLent asks the servers whether they still take keys that were lent, after their end. One that stays stands on today,
// and is taken off by the steward where there is one: the work is that of "access remove".
func (w *Service) LookLent(ctx context.Context) error {
	all, err := w.Store.LentOver(ctx, lentAtOnce)
	for _, k := range all {
		if each := w.lookLent(ctx, k); each != nil && ctx.Err() == nil {
			err = errors.Join(err, fmt.Errorf("%s, lent on instance %d: %w", k.Fingerprint, k.InstanceID, each))
		}
	}
	return err
}

func (w *Service) lookLent(ctx context.Context, k store.LentKey) error {
	i, err := w.Store.InstanceByID(ctx, k.InstanceID)
	if err != nil || i.State != string(cloud.Running) {
		return err
	}
	i.LoginUser = k.LoginUser
	t, err := w.Target(ctx, i)
	if err != nil || len(t.HostKeys) == 0 { // who answers could be anybody
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	blobs := [][]byte{k.Blob}
	if steward, err := w.Store.StewardPublic(ctx, i.ID); err == nil {
		blobs = append(blobs, steward)
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	answers := w.AskWithin(ctx, door.Soon, t, blobs)
	switch answers[0].Answer {
	case reach.Refused:
		stays, err := w.lentLineStays(ctx, i, k)
		if err != nil {
			return err
		}
		if !stays {
			return w.Store.LentAnswered(ctx, k.ID, false, 0)
		}
	case reach.Accepted:
	default:
		return nil // nobody knows; it is asked again
	}
	var begun int64
	// Work that waits for a steward who does not get in would hold up whoever has another way.
	if k.WithdrawalID == nil && len(answers) > 1 && answers[1].Answer == reach.Accepted {
		n, err := w.PlanTakeOff(ctx, i, k.Fingerprint, k.Blob, "the cloud lent it, and it is not gone after its end")
		if err == nil {
			var off store.Work
			if off, err = w.BeginOf(ctx, store.Service, store.Once{}, i, n); err == nil {
				begun = off.ID
			}
		}
		if ctx.Err() != nil {
			return err
		}
		// Where other work is at hand, it is tried again; today has it meanwhile.
	}
	return w.Store.LentAnswered(ctx, k.ID, true, begun)
}

// lentLineStays tells whether a lent key that the server refuses since its end is a line that has not been taken out yet.
func (w *Service) lentLineStays(ctx context.Context, i store.Instance, k store.LentKey) (bool, error) {
	lends := w.CloudOf(i).Properties().Lends
	if lends == nil || !lends.Stays {
		return false, nil
	}
	if k.WithdrawalID == nil {
		return true, nil
	}
	off, err := w.Store.WorkByID(ctx, *k.WithdrawalID)
	return err == nil && off.State != store.Done, err
}
