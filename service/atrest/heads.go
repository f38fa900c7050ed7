package atrest

import (
	"crypto/ed25519"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"plumlatch/core/wire"
)

// Heads signs the heads of the journal's chain, with a key that lies in a file
// and not in the database, and remembers beside it the last head that was
// signed here.
type Heads struct {
	key  ed25519.PrivateKey
	last string // file
}

// OpenHeads reads the file with the signing key, or makes it if there is none.
func OpenHeads(file string) (*Heads, error) {
	data, err := readSecret(file)
	if errors.Is(err, ErrMissing) {
		if err := createHeads(file); err != nil {
			return nil, err
		}
		data, err = readSecret(file)
	}
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(string(data)) {
		if line = strings.TrimSpace(line); line != "" && line[0] != '#' {
			seed, err := hex.DecodeString(line)
			if err != nil || len(seed) != ed25519.SeedSize {
				break
			}
			return &Heads{ed25519.NewKeyFromSeed(seed), file + ".head"}, nil
		}
	}
	return nil, fmt.Errorf("%s holds no key for the journal; put it back from its copy", file)
}

func createHeads(file string) error {
	_, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(file), ".journal-key-*") // with mode 0600
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(f, "# Plum Latch: signs the heads of the journal. Whoever has it and the database can "+
		"rewrite the journal.\n%x\n", key.Seed())
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Link(f.Name(), file) // whole, or not there; another replica's stays
	}
	if errors.Is(err, os.ErrExist) {
		err = nil
	}
	return errors.Join(err, os.Remove(f.Name()))
}

// readSecret reads a small file that only its owner may read. ErrMissing, ErrMode.
func readSecret(file string) ([]byte, error) {
	f, err := os.Open(file)
	if errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("%w: %s", ErrMissing, file)
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	fi, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if fi.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("%w: %s has %04o", ErrMode, file, fi.Mode().Perm())
	}
	return io.ReadAll(io.LimitReader(f, 4096))
}

// Sign signs the text of a head.
func (h *Heads) Sign(text []byte) []byte { return ed25519.Sign(h.key, text) }

// Public returns the key that signatures are verified with.
func (h *Heads) Public() ed25519.PublicKey { return h.key.Public().(ed25519.PublicKey) }

// Remember writes down the last head, by renaming over the one before.
func (h *Heads) Remember(head wire.JournalHead) error {
	next, err := os.CreateTemp(filepath.Dir(h.last), ".head-*")
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(next, "%d %s\n", head.N, head.SHA256)
	if err = errors.Join(err, next.Close()); err != nil {
		return errors.Join(err, os.Remove(next.Name()))
	}
	return os.Rename(next.Name(), h.last)
}

// Remembered returns the last head that was signed here; ok is false if none is known.
func (h *Heads) Remembered() (head wire.JournalHead, ok bool) {
	data, err := os.ReadFile(h.last)
	if err != nil {
		return head, false
	}
	n, err := fmt.Sscanf(string(data), "%d %s", &head.N, &head.SHA256)
	fi, statErr := os.Stat(h.last)
	if err != nil || n != 2 || statErr != nil {
		return head, false
	}
	head.At = fi.ModTime().UTC()
	return head, true
}
