// Package atrest encrypts what the service must keep secret at rest, its own
// steward keys. Each is encrypted with a data key; data keys stand in the
// database, sealed to an age identity that lies in a file beside it and not in
// it. A stolen database opens nothing.
package atrest

import (
	"bytes"
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"filippo.io/age"
)

// Errors of Open and Load.
var (
	// ErrMissing: there is no identity file.
	ErrMissing = errors.New("the identity file does not exist")
	// ErrMode: others can read the identity file.
	ErrMode = errors.New("the identity file can be read by others: its mode must be 0600")
	// ErrDamaged: the file holds no age identity.
	ErrDamaged = errors.New("the identity file holds no age identity")
	// ErrOtherIdentity: what is to be opened was sealed with another identity.
	ErrOtherIdentity = errors.New("this was sealed with another identity")
)

// DataKey is a data key, sealed.
type DataKey struct {
	ID     int64
	Sealed []byte
}

// DataKeys is where sealed data keys are kept, the newest last.
type DataKeys interface {
	DataKeys(ctx context.Context) ([]DataKey, error)
	AddDataKey(ctx context.Context, sealed []byte) error
}

// Cipher encrypts and decrypts. Load makes one; Keep gives it its data keys.
type Cipher struct {
	file string

	mu         sync.Mutex
	identities []*age.X25519Identity // the first encrypts, each decrypts
	kept       DataKeys
	keys       map[int64]cipher.AEAD
	newest     int64
}

// Load reads the identity file: the first identity in it encrypts, and each decrypts.
func Load(file string) (*Cipher, error) {
	ids, err := identities(file)
	if err != nil {
		return nil, err
	}
	return &Cipher{file: file, identities: ids}, nil
}

func identities(file string) ([]*age.X25519Identity, error) {
	data, err := readSecret(file)
	if err != nil {
		return nil, err
	}
	var out []*age.X25519Identity
	for line := range strings.Lines(string(data)) {
		if line = strings.TrimSpace(line); line != "" && line[0] != '#' {
			id, err := age.ParseX25519Identity(line)
			if err != nil {
				return nil, fmt.Errorf("%w: %s", ErrDamaged, file) // the cause may quote it
			}
			out = append(out, id)
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%w: %s", ErrDamaged, file)
	}
	return out, nil
}

// Create makes a new identity and writes its file with mode 0600. It never
// overwrites: an identity that was lost in that way is lost for good.
func Create(file string) (*Cipher, error) {
	id, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, err
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	if err := errors.Join(writeIdentities(f, id), f.Close()); err != nil {
		return nil, errors.Join(err, os.Remove(file))
	}
	return &Cipher{file: file, identities: []*age.X25519Identity{id}}, nil
}

func writeIdentities(f *os.File, ids ...*age.X25519Identity) error {
	_, err := fmt.Fprintln(f, "# Plum Latch: opens the steward keys in the database. Keep a copy apart from the "+
		"database's.")
	for _, id := range ids {
		_, e := fmt.Fprintln(f, id)
		err = errors.Join(err, e)
	}
	return errors.Join(err, f.Sync())
}

// Renew puts a new identity in front of the others in the file, unless there is
// more than one already: then a renewal was cut off, and goes on with those.
func (s *Cipher) Renew() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.identities) > 1 {
		return nil
	}
	id, err := age.GenerateX25519Identity()
	if err != nil {
		return err
	}
	return s.rewrite(append([]*age.X25519Identity{id}, s.identities...))
}

// DropOld leaves the first identity alone in the file: nothing that is kept may
// need the others any more.
func (s *Cipher) DropOld() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.rewrite(s.identities[:1])
}

func (s *Cipher) rewrite(ids []*age.X25519Identity) error {
	f, err := os.CreateTemp(filepath.Dir(s.file), ".identity-*") // with mode 0600
	if err != nil {
		return err
	}
	err = errors.Join(writeIdentities(f, ids...), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), s.file)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	s.identities = ids
	return nil
}

// EncryptToIdentity encrypts data to the first identity itself, as an age file.
func (s *Cipher) EncryptToIdentity(data []byte) ([]byte, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.encryptToIdentity(data)
}

func (s *Cipher) encryptToIdentity(data []byte) ([]byte, error) {
	var out bytes.Buffer
	w, err := age.Encrypt(&out, s.identities[0].Recipient())
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(data); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

func (s *Cipher) decryptByIdentity(sealed []byte) ([]byte, error) {
	var ids []age.Identity
	for _, id := range s.identities {
		ids = append(ids, id)
	}
	r, err := age.Decrypt(bytes.NewReader(sealed), ids...)
	if err != nil {
		return nil, ErrOtherIdentity
	}
	return io.ReadAll(r)
}

// Keep gives the cipher its data keys, and makes the first one if there is none.
func (s *Cipher) Keep(ctx context.Context, kept DataKeys) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.kept = kept
	if err := s.read(ctx); err != nil || len(s.keys) > 0 {
		return err
	}
	return s.addDataKey(ctx)
}

// AddDataKey makes a data key, which encrypts from then on.
func (s *Cipher) AddDataKey(ctx context.Context) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.addDataKey(ctx)
}

func (s *Cipher) addDataKey(ctx context.Context) error {
	key := make([]byte, 32)
	_, _ = rand.Read(key) // never fails
	defer clear(key)
	sealed, err := s.encryptToIdentity(key)
	if err != nil {
		return err
	}
	if err := s.kept.AddDataKey(ctx, sealed); err != nil {
		return err
	}
	return s.read(ctx)
}

// read opens every data key that it does not hold yet.
func (s *Cipher) read(ctx context.Context) error {
	all, err := s.kept.DataKeys(ctx)
	if err != nil {
		return err
	}
	keys := map[int64]cipher.AEAD{}
	for _, k := range all {
		if keys[k.ID] = s.keys[k.ID]; keys[k.ID] == nil {
			key, err := s.decryptByIdentity(k.Sealed)
			if err != nil { // another may have renewed the file meanwhile
				ids, e := identities(s.file)
				if e != nil {
					return e
				}
				s.identities = ids
				if key, err = s.decryptByIdentity(k.Sealed); err != nil {
					return err
				}
			}
			block, err := aes.NewCipher(key)
			clear(key)
			if err != nil {
				return err
			}
			if keys[k.ID], err = cipher.NewGCM(block); err != nil {
				return err
			}
		}
		s.newest = k.ID
	}
	s.keys = keys
	return nil
}

const magic = "PLs1"

// Newest returns which data key encrypts.
func (s *Cipher) Newest() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.newest
}

// Encrypt encrypts data with the newest data key (AES-256-GCM with a random nonce),
// after a look at which that is now.
func (s *Cipher) Encrypt(ctx context.Context, data []byte) ([]byte, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.read(ctx); err != nil {
		return nil, err
	}
	out := binary.BigEndian.AppendUint64([]byte(magic), uint64(s.newest))
	head := len(out)
	out = append(out, make([]byte, 12)...)
	_, _ = rand.Read(out[head:]) // never fails
	return s.keys[s.newest].Seal(out, out[head:], data, out[:head]), nil
}

// Decrypt decrypts what Encrypt or EncryptToIdentity made; with other keys, ErrOtherIdentity.
func (s *Cipher) Decrypt(ctx context.Context, sealed []byte) ([]byte, error) {
	if !bytes.HasPrefix(sealed, []byte(magic)) || len(sealed) < len(magic)+20 {
		s.mu.Lock()
		defer s.mu.Unlock()
		return s.decryptByIdentity(sealed)
	}
	head, nonce, rest := sealed[:12], sealed[12:24], sealed[24:]
	id := int64(binary.BigEndian.Uint64(head[4:]))
	s.mu.Lock()
	aead := s.keys[id]
	if aead == nil { // made by another replica
		if err := s.read(ctx); err != nil {
			s.mu.Unlock()
			return nil, err
		}
		aead = s.keys[id]
	}
	s.mu.Unlock()
	if aead == nil {
		return nil, ErrOtherIdentity
	}
	data, err := aead.Open(nil, nonce, rest, head)
	if err != nil {
		return nil, ErrOtherIdentity
	}
	return data, nil
}
