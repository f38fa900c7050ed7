package standin

import (
	"crypto/md5"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"sort"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// KeyEntry is a public key that the cloud keeps under a name, for launches: each region has a list of its own, in
// which a name stands once.
type KeyEntry struct {
	ID     string `json:"id"`
	Name   string `json:"name"`
	Region string `json:"region"`
	// Fingerprint is in this cloud's own forms: of an RSA key the MD5 of its DER, in hex with colons; of
	// any other the SHA-256 of its blob, in base64 with padding and without a prefix.
	Fingerprint string    `json:"fingerprint"`
	PublicKey   string    `json:"public_key"`
	Added       time.Time `json:"added"`
}

// storedEntry keeps which client tokens it was made by.
type storedEntry struct {
	KeyEntry
	Tokens []string `json:"tokens"`
}

// MaxEntries is how many keys a list holds; that of skerry-island holds few.
const (
	MaxEntries       = 5000
	maxEntriesSkerry = 12
)

// ErrFull says that a list of keys has no room.
var ErrFull = errors.New("the list is full")

var entryName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 ._@-]{0,99}$`)

// limitOf is how many keys the list of a region holds.
func limitOf(region string) int {
	if region == "skerry-island" {
		return maxEntriesSkerry
	}
	return MaxEntries
}

// KeyEntries returns the list of a region, by name.
func (c *Cloud) KeyEntries(region string) ([]KeyEntry, error) {
	if !slices.ContainsFunc(Regions, func(r Region) bool { return r.Name == region }) {
		return nil, fmt.Errorf("%w: unknown region", ErrInvalid)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	out := []KeyEntry{}
	for _, e := range c.entries {
		if e.Region == region {
			out = append(out, e.KeyEntry)
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out, nil
}

// AddKeyEntry takes a public key into the list of a region. The same key under the same name is harmless.
func (c *Cloud) AddKeyEntry(token, region, name, line string) (KeyEntry, error) {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
	switch {
	case token == "":
		return KeyEntry{}, fmt.Errorf("%w: client_token is missing", ErrInvalid)
	case !entryName.MatchString(name):
		return KeyEntry{}, fmt.Errorf("%w: a name of a key is 1 to 100 of letters, digits, space and ._@-, and begins with a "+
			"letter or a digit", ErrInvalid)
	case err != nil || key.Type() != ssh.KeyAlgoED25519 && key.Type() != ssh.KeyAlgoRSA:
		return KeyEntry{}, fmt.Errorf("%w: the lists take Ed25519 and RSA keys", ErrInvalid)
	case !slices.ContainsFunc(Regions, func(r Region) bool { return r.Name == region }):
		return KeyEntry{}, fmt.Errorf("%w: unknown region", ErrInvalid)
	}
	public := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
	c.mu.Lock()
	defer c.mu.Unlock()
	used := 0
	for _, e := range c.entries {
		if slices.Contains(e.Tokens, token) {
			return e.KeyEntry, nil // it comes again
		}
		if e.Region != region {
			continue
		}
		used++
		if e.Name != name {
			continue
		}
		if e.PublicKey != public {
			return KeyEntry{}, fmt.Errorf("%w: %s is in the list, with the key %s", ErrState, name, e.Fingerprint)
		}
		e.Tokens = append(e.Tokens, token)
		return e.KeyEntry, c.save()
	}
	if slices.Contains(c.unlisted, token) { // it comes late: it was taken out since
		return KeyEntry{}, fmt.Errorf("%w: it was taken out again", ErrState)
	}
	if used >= limitOf(region) {
		return KeyEntry{}, fmt.Errorf("%w: %w: %d keys", ErrState, ErrFull, used)
	}
	print, err := fingerprintOf(key)
	if err != nil {
		return KeyEntry{}, fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	c.serial++
	e := &storedEntry{KeyEntry{ID: fmt.Sprintf("tally-%05d", c.serial), Name: name, Region: region, Fingerprint: print,
		PublicKey: public, Added: c.opts.Now().UTC()}, []string{token}}
	c.entries[e.ID] = e
	return e.KeyEntry, c.save()
}

// FillKeyEntries puts lines into the list of a region at once, each under a name of its own, as for measuring.
func (c *Cloud) FillKeyEntries(region string, lines []string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	for n, line := range lines {
		key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
		if err != nil {
			return err
		}
		print, err := fingerprintOf(key)
		if err != nil {
			return err
		}
		c.serial++
		e := &storedEntry{KeyEntry: KeyEntry{ID: fmt.Sprintf("tally-%05d", c.serial), Name: fmt.Sprintf("filled-%d", n), Region: region,
			Fingerprint: print, PublicKey: strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))), Added: c.opts.Now().UTC()}}
		c.entries[e.ID] = e
	}
	return c.saveNow()
}

// fingerprintOf is a key's fingerprint as this cloud shows it.
func fingerprintOf(key ssh.PublicKey) (string, error) {
	if key.Type() != ssh.KeyAlgoRSA {
		sum := sha256.Sum256(key.Marshal())
		return base64.StdEncoding.EncodeToString(sum[:]), nil
	}
	der, err := x509.MarshalPKIXPublicKey(key.(ssh.CryptoPublicKey).CryptoPublicKey())
	if err != nil {
		return "", err
	}
	sum := md5.Sum(der)
	return strings.ReplaceAll(fmt.Sprintf("% x", sum), " ", ":"), nil
}

// RemoveKeyEntry takes a key out of its list; one that is gone is no error.
func (c *Cloud) RemoveKeyEntry(id string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	e, ok := c.entries[id]
	if !ok {
		return nil
	}
	delete(c.entries, id)
	c.unlisted = append(c.unlisted, e.Tokens...)
	return c.save()
}

// Misprint has an entry show another fingerprint than its key has, as for tests.
func (c *Cloud) Misprint(id, print string) (KeyEntry, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	e, ok := c.entries[id]
	if !ok {
		return KeyEntry{}, ErrNotFound
	}
	e.Fingerprint = print
	return e.KeyEntry, c.save()
}

// entryLine is the public key of an entry of a region's list; the caller holds mu.
func (c *Cloud) entryLine(region, name string) (string, bool) {
	for _, e := range c.entries {
		if e.Region == region && e.Name == name {
			return e.PublicKey + " " + name, true
		}
	}
	return "", false
}

// handleKeyEntries serves the lists of keys.
func (c *Cloud) handleKeyEntries(mux *http.ServeMux) {
	type list struct {
		Limit   int        `json:"limit"`
		Entries []KeyEntry `json:"entries"`
	}
	mux.HandleFunc("GET /v1/key-entries", func(w http.ResponseWriter, r *http.Request) {
		region := r.URL.Query().Get("region")
		c.perform(w, "key-entries", []string{region}, func() (any, error) {
			all, err := c.KeyEntries(region)
			return list{limitOf(region), all}, err
		})
	})
	mux.HandleFunc("POST /v1/key-entries", func(w http.ResponseWriter, r *http.Request) {
		var b struct {
			ClientToken string `json:"client_token"`
			Region      string `json:"region"`
			Name        string `json:"name"`
			PublicKey   string `json:"public_key"`
		}
		if decode(w, r, &b) {
			c.perform(w, "add-key-entry", []string{b.Name, b.Region}, func() (any, error) {
				return c.AddKeyEntry(b.ClientToken, b.Region, b.Name, b.PublicKey)
			})
		}
	})
	mux.HandleFunc("DELETE /v1/key-entries/{id}", func(w http.ResponseWriter, r *http.Request) {
		id := r.PathValue("id")
		c.perform(w, "remove-key-entry", []string{id}, func() (any, error) { return struct{}{}, c.RemoveKeyEntry(id) })
	})
	mux.HandleFunc("POST /v1/key-entries/{id}/misprint", func(w http.ResponseWriter, r *http.Request) {
		var b struct {
			Fingerprint string `json:"fingerprint"`
		}
		if decode(w, r, &b) {
			e, err := c.Misprint(r.PathValue("id"), b.Fingerprint)
			reply(w, e, err)
		}
	})
}
