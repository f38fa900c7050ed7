package reach

import (
	"bytes"
	"errors"
	"fmt"

	"github.com/go-crypt/crypt/algorithm/scrypt"
	"github.com/go-crypt/crypt/algorithm/shacrypt"
)

// ErrPassword says that a password cannot be one: it would not come through a login prompt, or crypt(3) would cut it.
var ErrPassword = errors.New("a password has 1 to 511 bytes, and no line end and no NUL among them")

// Cost of the hashes: what Debian 12 has by default (login.defs(5), crypt(5)).
const (
	yescryptLogN = 12 // $y$j9T$
	yescryptR    = 32
	shaRounds    = 5000
)

// HashPassword makes the hash of a password, in the way that a system takes: yescrypt or sha512crypt (crypt(5)). ErrPassword.
func HashPassword(takes string, password []byte) (string, error) {
	if len(password) == 0 || len(password) > 511 || bytes.ContainsAny(password, "\n\r\x00") {
		return "", ErrPassword
	}
	switch takes {
	case "yescrypt":
		h, err := scrypt.NewYescrypt(scrypt.WithLN(yescryptLogN), scrypt.WithR(yescryptR), scrypt.WithP(1))
		if err != nil {
			return "", err
		}
		d, err := h.Hash(string(password))
		if err != nil {
			return "", err
		}
		return d.Encode(), nil
	case "sha512crypt":
		h, err := shacrypt.New(shacrypt.WithSHA512(), shacrypt.WithIterations(shaRounds))
		if err != nil {
			return "", err
		}
		d, err := h.Hash(string(password))
		if err != nil {
			return "", err
		}
		return d.Encode(), nil
	}
	return "", fmt.Errorf("no hash of ours is called %q", takes)
}
