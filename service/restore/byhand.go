package restore

import (
	"context"
	"encoding/hex"
	"fmt"
	"slices"

	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/survey"
)

// PermitByHand is the permit for a write that an engineer's client makes: lines of
// a restore that went back meanwhile are taken out again. The guard judges by what
// the client saw of the file, by the ledger, and by what the server answers now;
// the client judges the file once more. FieldError, store.ErrWorkState; rotation's
// refusal as a FieldError.
func (w *Service) PermitByHand(ctx context.Context, work store.Work, r wire.PermitRequest) (wire.SignedPermit, error) {
	wrong := func(field, format string, a ...any) (wire.SignedPermit, error) {
		return wire.SignedPermit{}, door.FieldError{Field: field, Problem: fmt.Sprintf(format, a...)}
	}
	if !w.KindOf(work.Kind).Restores {
		return wire.SignedPermit{}, store.ErrWorkState
	}
	var in restoring
	if err := door.Decode(work.Input, &in); err != nil {
		return wire.SignedPermit{}, err
	}
	i, err := w.Store.InstanceByID(ctx, work.InstanceID)
	if err != nil {
		return wire.SignedPermit{}, err
	}
	if sum, err := hex.DecodeString(r.SHA256); err != nil || len(sum) != 32 {
		return wrong("sha256", "give the SHA-256 of the file, in hex")
	}
	if !slices.Contains(door.FilesOf(i), r.File) || plaintext.HasControl(r.File) {
		return wrong("file", "its server does not read this file")
	}
	ours, err := w.linesFor(ctx, i, in.NewID)
	if err != nil {
		return wire.SignedPermit{}, err
	}
	if len(r.Lines) == 0 || slices.ContainsFunc(r.Lines, func(l string) bool { return !slices.Contains(ours, l) }) {
		return wrong("lines", "these are not lines that this work adds")
	}
	if len(r.Keys) > survey.MaxFound {
		return wrong("keys", "more than %d keys", survey.MaxFound)
	}
	fresh, err := w.Store.KeyByID(ctx, in.NewID)
	if err != nil {
		return wire.SignedPermit{}, err
	}
	return w.JudgeByHand(ctx, work, i, fresh, in.NewWas, r)
}
