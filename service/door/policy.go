package door

import (
	"context"
	"fmt"
	"time"

	"plumlatch/core/access"
	"plumlatch/service/store"
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

// Allowed tells why a key is put on no instance, whichever: for what it is, or by the policy. A FieldError
// about the field.
func (w *Service) Allowed(ctx context.Context, k store.Key, field string) error {
	wrong := func(choices []string, format string, a ...any) error {
		return FieldError{Field: field, Problem: fmt.Sprintf(format, a...), Choices: choices}
	}
	switch {
	case k.State != access.InUse:
		return wrong(nil, "key %s is %s: it is put on no instance", k.Name, k.State)
	case k.Authority:
		return wrong(nil, "%s is recorded as a certificate authority, and a key is needed", k.Name)
	case k.RetiredAt != nil:
		return wrong(nil, "key %s is retired: it is for no new launches and accesses (plumlatch key use-again %s undoes it)",
			k.Name, k.Name)
	}
	if err := k.Public().Placeable(); err != nil {
		return wrong(nil, "key %s: %v", k.Name, err)
	}
	policy, err := w.Policy(ctx)
	switch {
	case err != nil:
		return err
	case !policy.Places(k.Kind):
		return wrong(policy.Keys.Kinds, "key %s is %s, and the policy puts other kinds on instances (keys.kinds)", k.Name, k.Kind)
	case !policy.PlacesFrom(k.Origin):
		return wrong(policy.Keys.Origins, "key %s was %s, and the policy puts keys of other origins on instances (keys.origins)",
			k.Name, k.Origin)
	}
	return nil
}
