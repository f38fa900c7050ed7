package agentcalls

import (
	"bytes"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"

	"filippo.io/age"
	"filippo.io/age/agessh"
	"filippo.io/age/armor"
	"golang.org/x/crypto/ssh"
)

// NewPassword is what a box holds: the hash of a password, for a user, and the nonce of the request that it came with, so that an old box
// is of no use.
type NewPassword struct {
	User  string `json:"user"`
	Hash  string `json:"hash"` // crypt(5): yescrypt or sha512crypt
	Nonce string `json:"nonce"`
}

// ErrBox says that a box is none, or that it is not this agent's.
var ErrBox = errors.New("the box cannot be opened with this agent's key, or holds nothing that was asked for")

// maxBox is the longest box, in bytes.
const maxBox = 16 << 10

// hashes are what a box may hold: no password in the clear, and nothing that ends a line of shadow(5).
var hashes = regexp.MustCompile(`^\$(y|6)\$[./A-Za-z0-9=,$]{20,500}$`)

// Seal puts it into a box that only an agent with this public key opens (age-encryption.org/v1, a recipient of the sort ssh-ed25519),
// armored. The agent's own key is for that too, as a second one would have to be pinned as well.
func (p NewPassword) Seal(agent []byte) (string, error) {
	key, err := ssh.ParsePublicKey(agent)
	if err != nil {
		return "", err
	}
	to, err := agessh.NewEd25519Recipient(key)
	if err != nil {
		return "", err
	}
	text, err := json.Marshal(p)
	if err != nil {
		return "", err
	}
	var out bytes.Buffer
	lines := armor.NewWriter(&out)
	w, err := age.Encrypt(lines, to)
	if err != nil {
		return "", err
	}
	_, err = w.Write(text)
	err = errors.Join(err, w.Close(), lines.Close())
	return out.String(), err
}

// OpenBox opens a box with the agent's own key, for the request that it came with. ErrBox.
func OpenBox(key ed25519.PrivateKey, box string, r Request, user string) (hash string, err error) {
	if len(box) > maxBox {
		return "", ErrBox
	}
	own, err := agessh.NewEd25519Identity(key)
	if err != nil {
		return "", err
	}
	in, err := age.Decrypt(armor.NewReader(strings.NewReader(box)), own)
	if err != nil {
		return "", ErrBox
	}
	text, err := io.ReadAll(io.LimitReader(in, maxBox))
	if err != nil {
		return "", ErrBox
	}
	var p NewPassword
	if json.Unmarshal(text, &p) != nil || p.Nonce != r.Nonce || p.User != user {
		return "", ErrBox
	}
	if !hashes.MatchString(p.Hash) {
		return "", fmt.Errorf("%w: it is no hash of a password", ErrBox)
	}
	return p.Hash, nil
}
