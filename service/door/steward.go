package door

import (
	"context"
	"errors"
	"fmt"

	"plumlatch/core/keypair"
	"plumlatch/reach"
	"plumlatch/service/store"

	"golang.org/x/crypto/ssh"
)

// ErrCannotSurvey is wrapped with the reason for which an instance cannot be read now.
var ErrCannotSurvey = errors.New("it cannot be surveyed")

// FilesOf are the files that an instance's server reads for its login user.
func FilesOf(i store.Instance) []string {
	if len(i.KeysFiles) > 0 {
		return i.KeysFiles
	}
	return reach.DefaultKeysFiles
}

// Steward opens the steward's way into an instance.
func (w *Service) Steward(ctx context.Context, i store.Instance) (reach.Files, func(), error) {
	known, err := w.Store.StewardWay(ctx, i.ID)
	if err != nil {
		return nil, nil, err
	}
	return w.StewardBy(ctx, i, known)
}

// StewardBy opens the steward's way as Steward does, with what the caller has read of the
// instance already.
func (w *Service) StewardBy(ctx context.Context, i store.Instance, known *store.ToSurvey) (reach.Files, func(), error) {
	if len(known.HostKeys) == 0 {
		return nil, nil, fmt.Errorf("%w: %w", ErrCannotSurvey, ErrNoHostKey)
	}
	if known.Sealed == nil {
		return nil, nil, fmt.Errorf("%w from inside: %w", ErrCannotSurvey, errNoSteward)
	}
	signer, err := w.Decrypt(ctx, known.Sealed)
	if err != nil {
		return nil, nil, err
	}
	t := reach.Target{Address: i.Address, Port: i.Port, User: i.LoginUser, HostKeys: known.HostKeys}
	if i.Via != nil {
		if t, err = w.Target(ctx, i); err != nil {
			return nil, nil, err
		}
	}
	w.lead(&t, i)
	files, closer, err := reach.SFTP(ctx, w.Reach, t, signer)
	if err != nil {
		return nil, nil, fmt.Errorf("%w: the steward does not get in: %w", ErrCannotSurvey, err)
	}
	return files, func() { _ = closer.Close() }, nil
}

// What is lacking for any survey.
var (
	ErrNoHostKey = errors.New("no host key of it is known")
	errNoSteward = errors.New("it has no steward")
)

// CauseOf says what kind of trouble kept a survey from looking.
func CauseOf(err error) string {
	switch {
	case errors.Is(err, reach.ErrStranger):
		return "host key"
	case errors.Is(err, reach.ErrNotLetIn), errors.Is(err, reach.ErrNoFiles): // let in, and shut in
		return "steward"
	case errors.Is(err, ErrNoHostKey), errors.Is(err, errNoSteward):
		return "none"
	}
	return "reach"
}

// StewardSigner opens the steward's sealed private half of an instance.
func (w *Service) StewardSigner(ctx context.Context, instanceID int64) (ssh.Signer, error) {
	sealed, err := w.Store.StewardSealed(ctx, instanceID)
	if err != nil {
		return nil, err
	}
	return w.Decrypt(ctx, sealed)
}

// Decrypt reads a steward key's private half as the database has it.
func (w *Service) Decrypt(ctx context.Context, sealed []byte) (ssh.Signer, error) {
	private, err := w.Cipher.Decrypt(ctx, sealed)
	if err != nil {
		return nil, err
	}
	defer clear(private)
	pair, err := keypair.ReadPrivate(private, nil)
	if err != nil {
		return nil, err
	}
	return pair.Signer()
}

// Encrypt encrypts a steward key's private half for the database.
func (w *Service) Encrypt(ctx context.Context, pair *keypair.Pair) ([]byte, error) {
	private, err := pair.OpenSSH(nil)
	if err != nil {
		return nil, err
	}
	defer clear(private)
	return w.Cipher.Encrypt(ctx, private)
}
