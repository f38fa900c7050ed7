package standin

import (
	"crypto/rand"
	"crypto/rsa"
	"encoding/base64"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"
)

// The lines of the console between which an image without SSH shows its first password, encrypted.
const (
	passwordBegins = "-----BEGIN FIRST PASSWORD-----"
	passwordEnds   = "-----END FIRST PASSWORD-----"
)

// desktopPort is the remote desktop's.
const desktopPort = 3389

// checkPasswordKey refuses a password key where it is of no use.
func (l *Launch) checkPasswordKey(image Image) error {
	switch {
	case l.PasswordKey != "" && !image.FirstPassword:
		return fmt.Errorf("%w: image %s gives no first password", ErrInvalid, image.Name)
	case image.FirstPassword && (l.PasswordKey == "") == (l.KeyEntry == ""):
		return fmt.Errorf("%w: image %s encrypts its first password to one key: give password_key or key_entry", ErrInvalid, image.Name)
	}
	return nil
}

// passwordKey reads the key that a password is encrypted to.
func passwordKey(line string) (*rsa.PublicKey, error) {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
	if err == nil {
		if c, ok := key.(ssh.CryptoPublicKey); ok {
			if k, ok := c.CryptoPublicKey().(*rsa.PublicKey); ok {
				return k, nil
			}
		}
	}
	return nil, fmt.Errorf("%w: a password is encrypted to an RSA key", ErrInvalid)
}

// givePassword makes the first password of an instance, and prints it encrypted, as such images do. The instance's own disk
// has it; the caller holds mu.
func (c *Cloud) givePassword(in *stored, console *strings.Builder) error {
	key, err := passwordKey(in.KeyLine)
	if err != nil {
		return err
	}
	const letters = "abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789!#%+-"
	raw := make([]byte, 20)
	_, _ = rand.Read(raw) // it never fails
	for i := range raw {
		raw[i] = letters[int(raw[i])%len(letters)]
	}
	if err := c.writeFile(diskName(in.ID)+"/first-password", string(raw), 0o600); err != nil {
		return err
	}
	f, met := c.faults.take("first-password", in.Name)
	if met && f.How == "astray" {
		other, err := rsa.GenerateKey(rand.Reader, key.Size()*8)
		if err != nil {
			return err
		}
		key = &other.PublicKey
	}
	//lint:ignore SA1019 clouds encrypt first passwords in this way alone
	sealed, err := rsa.EncryptPKCS1v15(rand.Reader, key, raw)
	if err != nil {
		return err
	}
	text := base64.StdEncoding.EncodeToString(sealed)
	if met && f.How == "fail" {
		text = "this is no cipher text"
	}
	fmt.Fprintf(console, "[    9.310000] desk-setup: the first password of %s, encrypted to its launch key\n%s\n%s\n%s\n", in.LoginUser,
		passwordBegins, text, passwordEnds)
	return nil
}
