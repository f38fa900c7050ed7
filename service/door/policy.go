package door

import (
	"context"
	"fmt"
	"time"

	"plumlatch/core/access"
)

// Policy returns the policy that holds, as it stood at most a second ago.
func (w *Service) Policy(ctx context.Context) (access.Policy, error) {
	w.policyMu.Lock()
	defer w.policyMu.Unlock()
	if time.Since(w.policyAt) < time.Second {
		return w.policyHeld, nil
	}
	text, err := w.Store.Policy(ctx)
	if err != nil {
		return access.Policy{}, err
	}
	p, err := access.ReadPolicy(text.Text)
	if err != nil {
		return p, fmt.Errorf("the policy that is recorded cannot be read: %w", err)
	}
	w.policyHeld, w.policyAt = p, time.Now()
	return p, nil
}

// PolicyChanged has the next look at the policy read it.
func (w *Service) PolicyChanged() {
	w.policyMu.Lock()
	w.policyAt = time.Time{}
	w.policyMu.Unlock()
}
