package door

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/service/store"
)

// Decode reads the JSON that is kept of a piece of work: its input, or its data.
func Decode(text string, into any) error { return json.Unmarshal([]byte(text), into) }

// Replayed answers a request that was done already with its instance.
func (w *Service) Replayed(ctx context.Context, err error) (store.Instance, bool, error) {
	done, ok := errors.AsType[store.Replayed](err)
	if !ok {
		return store.Instance{}, false, err
	}
	i, err := w.Store.InstanceByID(ctx, done.InstanceID)
	i.WorkID = done.WorkID
	return i, true, err
}

// UnknownKey is the FieldError for a key that is not recorded, with the names that there are.
func (w *Service) UnknownKey(ctx context.Context, name string) error {
	all, err := w.Store.KeyNames(ctx)
	if err != nil {
		return err
	}
	e := FieldError{Field: "keys", Problem: "unknown key " + plaintext.Line(plaintext.Cut(name, names.MaxLength))}
	if near := names.Near(name, all, 3); len(near) > 0 {
		e.Problem += "; near it: " + strings.Join(near, ", ")
	} else {
		e.Problem += "; \"plumlatch key list\" shows those that there are"
	}
	return e
}

// EditableInstance checks that the service can edit an instance's files at all. FieldError.
func (w *Service) EditableInstance(ctx context.Context, i store.Instance) error {
	_, err := w.Store.StewardPublic(ctx, i.ID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	return Editable(i, err == nil)
}

// NoSSH says of an instance without SSH what leads on.
func NoSSH(i store.Instance) string {
	return fmt.Sprintf("%s has no SSH: people come in by its password (plumlatch instance password %s)", i.Name, i.Name)
}

// Editable is EditableInstance where it is known whether it has a steward.
func Editable(i store.Instance, steward bool) error {
	if i.Phase != store.Ready {
		return FieldError{Field: "instance",
			Problem: fmt.Sprintf("%s is %s; this needs one that is in order", i.Name, i.Phase)}
	}
	if i.Desktop {
		return FieldError{Field: "instance", Problem: NoSSH(i)}
	}
	if !steward {
		return FieldError{Field: "instance",
			Problem: fmt.Sprintf("%s has no steward, so nobody is there to edit its files", i.Name)}
	}
	return nil
}

// WorkDone answers a request that was made before with its work.
func (w *Service) WorkDone(ctx context.Context, once store.Once) (store.Work, bool, error) {
	err := w.Store.Seen(ctx, once)
	if done, ok := errors.AsType[store.Replayed](err); ok {
		work, err := w.Store.WorkByID(ctx, done.WorkID)
		return work, true, err
	}
	return store.Work{}, false, err
}
