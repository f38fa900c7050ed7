package service

import (
	"context"
	"errors"
	"fmt"

	"plumlatch/service/atrest"
	"plumlatch/service/store"
)

// SentinelText is what is sealed into the database, to know its identity by.
const SentinelText = "plumlatch sentinel 1"

// CheckSentinel tells whether the database was sealed with this identity, or
// with none yet. atrest.ErrOtherIdentity.
func CheckSentinel(ctx context.Context, db *store.Store, s *atrest.Cipher) error {
	sealed, err := db.Sentinel(ctx)
	if err != nil || sealed == nil {
		return err
	}
	text, err := s.Decrypt(ctx, sealed)
	if err == nil && string(text) != SentinelText {
		err = atrest.ErrOtherIdentity
	}
	return err
}

// OpenCipher loads the identity that encrypts steward keys. It makes a new one
// only for a database that was never sealed: with an identity file that was
// lost, a new one would hide that every steward key is lost with it.
func OpenCipher(ctx context.Context, db *store.Store, file string) (*atrest.Cipher, error) {
	sealed, err := db.Sentinel(ctx)
	if err != nil {
		return nil, err
	}
	s, err := atrest.Load(file)
	if sealed != nil {
		if err == nil {
			err = CheckSentinel(ctx, db, s)
		}
		if err != nil {
			return nil, fmt.Errorf("%w; the database's steward keys are sealed with one that is not at %s: put "+
				"that file back from its copy (nothing was changed)", err, file)
		}
		return s, s.Keep(ctx, db)
	}
	if errors.Is(err, atrest.ErrMissing) {
		s, err = atrest.Create(file)
	}
	if err != nil {
		return nil, err
	}
	text, err := s.EncryptToIdentity([]byte(SentinelText))
	if err != nil {
		return nil, err
	}
	return s, errors.Join(db.SetSentinel(ctx, text), s.Keep(ctx, db))
}
