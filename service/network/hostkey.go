package network

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"plumlatch/core/hostkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/door"
	"plumlatch/service/store"
)

// HostKeyState fetches the host key that answers for an instance now, and sets
// it beside what is recorded. Nothing is changed, and nobody is logged in.
func (w *Service) HostKeyState(ctx context.Context, i store.Instance) (wire.HostKeyState, *keypair.Public, error) {
	out := wire.HostKeyState{Instance: i.Name, Recorded: []wire.HostKey{}, Former: []wire.HostKey{},
		Printed: []string{}}
	recorded, err := w.Store.HostKeys(ctx, i.ID)
	if err != nil {
		return out, nil, err
	}
	former, err := w.Store.FormerHostKeys(ctx, i.ID)
	if err != nil {
		return out, nil, err
	}
	if out.Doubt, err = w.Store.HostKeyDoubt(ctx, i.ID); err != nil {
		return out, nil, err
	}
	for _, k := range recorded {
		out.Recorded = append(out.Recorded, ShowHostKey(k))
	}
	for _, k := range former {
		out.Former = append(out.Former, ShowHostKey(k))
	}
	if !i.Adopted && i.CloudID != "" {
		if text, err := w.CloudOf(i).BootOutput(ctx, i.CloudID); err == nil {
			out.Printed = append(out.Printed, hostkeys.PrintedFingerprints(text)...)
		}
	}
	if i.Address == "" {
		out.Problem = "it has no address now"
		return out, nil, nil
	}
	t, err := w.Target(ctx, i)
	if err != nil {
		return out, nil, err
	}
	k := reach.Knock(ctx, w.Reach, t)
	if len(k.HostKey) == 0 {
		out.Problem = k.Words()
		return out, nil, nil
	}
	p, err := keypair.FromBlob(k.HostKey, "")
	if err != nil {
		out.Problem = "what answers cannot be read"
		return out, nil, nil
	}
	out.Offered = &wire.HostKey{Type: p.Type(), Fingerprint: p.Fingerprint(), PublicKey: p.Line(),
		Source: "what answers at " + i.Address, RecordedAt: time.Now().UTC()}
	out.Same = slices.ContainsFunc(out.Recorded, func(h wire.HostKey) bool { return h.Fingerprint == p.Fingerprint() })
	return out, &p, nil
}

// ShowHostKey is a host key as the API shows it.
func ShowHostKey(k store.HostKey) wire.HostKey {
	return wire.HostKey{Type: k.Type, Fingerprint: k.Fingerprint, PublicKey: keypair.Public{Blob: k.Blob}.Line(),
		Source: k.Source, RecordedAt: k.RecordedAt.UTC(),
		ReplacedAt: k.ReplacedAt, ReplacedBy: k.ReplacedBy}
}

// AcceptHostKey records the host key that answers, in the place of what is
// recorded, if it is the one that the operator has seen and named, or one that
// the boot output has. FieldError.
func (w *Service) AcceptHostKey(ctx context.Context, by store.Actor, i store.Instance,
	r wire.AcceptHostKey) (wire.HostKeyState, error) {
	before, key, err := w.HostKeyState(ctx, i)
	switch {
	case err != nil:
		return before, err
	case key == nil:
		return before, door.FieldError{Field: "fingerprint", Problem: "no host key could be fetched: " +
			before.Problem + "; nothing was changed"}
	case key.Fingerprint() != r.Fingerprint:
		return before, door.FieldError{Field: "fingerprint",
			Problem: fmt.Sprintf("what answers now is %s; nothing was changed", key.Fingerprint())}
	case r.FromBootLog && !slices.Contains(before.Printed, key.Fingerprint()):
		return before, door.FieldError{Field: "fingerprint",
			Problem: fmt.Sprintf("the boot output does not have %s, which answers; nothing was changed",
				key.Fingerprint())}
	case before.Same && before.Doubt == "":
		return before, door.FieldError{Field: "fingerprint", Problem: "it is recorded already"}
	}
	source := "taken on purpose by " + by.Operator
	if r.FromBootLog {
		source = "boot output, and fetched; taken on purpose by " + by.Operator
	}
	if err := w.Store.ReplaceHostKeys(ctx, by, i, store.HostKeyOffered{Key: *key, Source: source}); err != nil {
		return before, err
	}
	if i, err = w.Store.InstanceByID(ctx, i.ID); err != nil {
		return before, err
	}
	if err := w.askAgain(ctx, i); err != nil && !errors.Is(err, context.Canceled) {
		w.Log.Warn("the keys could not be asked about", "instance", i.Name, "error", door.Words(err))
	}
	after, _, err := w.HostKeyState(ctx, i)
	return after, err
}
