// Package seal encrypts what the service must keep secret at rest, its own
// steward keys, to an age identity that lies in a file beside the database and
// not in it. A stolen database opens nothing.
package seal

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"filippo.io/age"
)

// Sealer seals and opens.
type Sealer struct{ identity *age.X25519Identity }

// Errors of Open and Load.
var (
	// ErrMissing: there is no identity file.
	ErrMissing = errors.New("the identity file does not exist")
	// ErrMode: others can read the identity file.
	ErrMode = errors.New("the identity file can be read by others: its mode must be 0600")
	// ErrDamaged: the file holds no age identity.
	ErrDamaged = errors.New("the identity file holds no age identity")
	// ErrSealedElsewhere: what is to be opened was sealed with another identity.
	ErrSealedElsewhere = errors.New("this was sealed with another identity")
)

// Load reads the identity file.
func Load(file string) (*Sealer, error) {
	data, err := readSecret(file)
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(string(data)) {
		if line = strings.TrimSpace(line); line != "" && line[0] != '#' {
			id, err := age.ParseX25519Identity(line)
			if err != nil {
				return nil, fmt.Errorf("%w: %s", ErrDamaged, file) // the cause may quote it
			}
			return &Sealer{id}, nil
		}
	}
	return nil, fmt.Errorf("%w: %s", ErrDamaged, file)
}

// Create makes a new identity and writes its file with mode 0600. It never
// overwrites: an identity that was lost in that way is lost for good.
func Create(file string) (*Sealer, error) {
	id, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, err
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	_, err = fmt.Fprintf(f, "# Plum Latch: opens the steward keys in the database. Keep a copy apart from the database's.\n%s\n", id)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return nil, errors.Join(err, os.Remove(file))
	}
	return &Sealer{id}, nil
}

// Seal encrypts data to the identity.
func (s *Sealer) Seal(data []byte) ([]byte, error) {
	var out bytes.Buffer
	w, err := age.Encrypt(&out, s.identity.Recipient())
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

// Open decrypts what Seal made; with another identity, ErrSealedElsewhere.
func (s *Sealer) Open(sealed []byte) ([]byte, error) {
	r, err := age.Decrypt(bytes.NewReader(sealed), s.identity)
	if err != nil {
		return nil, ErrSealedElsewhere
	}
	return io.ReadAll(r)
}
