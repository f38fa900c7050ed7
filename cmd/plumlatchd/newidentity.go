package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"

	"plumlatch/service"
	"plumlatch/service/atrest"
	"plumlatch/service/store"
)

// encryptAtOnce is how many steward keys are read at one time.
const encryptAtOnce = 500

// newIdentity makes another identity and another data key, and encrypts every steward
// key anew. The service can go on meanwhile. One that was cut off goes on where
// it was when it is begun again: until the end, the file holds both identities.
func newIdentity(ctx context.Context, args []string) error {
	var c config
	fs := flag.NewFlagSet("new-identity", flag.ContinueOnError)
	prepare := fs.Bool("prepare", false,
		"only put a new identity into the file: copy that to every other machine of the service, then run without this")
	if err := c.load(fs, args, os.LookupEnv); err != nil {
		return err
	}
	s, err := atrest.Load(c.identityFile)
	if err != nil {
		return err
	}
	db, err := store.Open(ctx, c.databaseURL, c.ownerURL, c.connections, newLog(os.Stderr, c.logFormat))
	if err != nil {
		return err
	}
	defer db.Close()
	if err := service.CheckSentinel(ctx, db, s); err != nil {
		return err
	}
	if err := s.Renew(); err != nil {
		return err
	}
	if *prepare {
		fmt.Printf("%s holds the new identity beside the old one. Copy it to every other machine of the service, "+
			"then run plumlatchd new-identity.\n", c.identityFile)
		return nil
	}
	n, err := encryptAnew(ctx, db, s)
	if err != nil {
		return fmt.Errorf("%w; %d steward keys are encrypted anew, both identities are in %s, and nothing is lost: "+
			"run it again", err, n, c.identityFile)
	}
	if err := s.DropOld(); err != nil {
		return err
	}
	fmt.Printf("%d steward keys are encrypted anew. The old identity opens nothing any more: replace the copies of "+
		"%s, here and on every other machine of the service.\n", n, c.identityFile)
	return nil
}

// encryptAnew encrypts all steward keys with a new data key, that is sealed to the
// first identity, and returns how many.
func encryptAnew(ctx context.Context, db *store.Store, s *atrest.Cipher) (n int, err error) {
	if err := db.Intend(ctx, store.Service, "service.new-identity", "steward keys",
		"another identity, and every steward key encrypted anew"); err != nil {
		return 0, err
	}
	if err := s.Keep(ctx, db); err != nil {
		return 0, err
	}
	if err := s.AddDataKey(ctx); err != nil {
		return 0, err
	}
	for {
		old, err := db.SealedBefore(ctx, s.Newest(), encryptAtOnce)
		if err != nil {
			return n, err
		}
		for id, sealed := range old {
			private, err := s.Decrypt(ctx, sealed)
			if err != nil {
				return n, err
			}
			anew, err := s.Encrypt(ctx, private)
			clear(private)
			if err == nil {
				err = db.ReplaceSealed(ctx, id, sealed, anew)
			}
			if err != nil {
				return n, err
			}
			n++
		}
		if len(old) > 0 {
			continue
		}
		sentinel, err := s.EncryptToIdentity([]byte(service.SentinelText))
		if err != nil {
			return n, err
		}
		// A launch may have sealed with the old data key a moment ago: then once more.
		if err := db.EndNewIdentity(ctx, s.Newest(), sentinel,
			fmt.Sprintf("%d steward keys encrypted anew", n)); !errors.Is(err, store.ErrKeyInUse) {
			return n, err
		}
	}
}
