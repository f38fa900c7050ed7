// Package signin makes the text that an operator's SSH key signs to sign in, and checks it.
//
// The client builds the whole text, of what it knows itself: the address that it dialled, the
// certificate that it saw there, who signs in, with which key, when. From the service comes the
// challenge alone, which is one opaque word. So no service can have a text signed that is good at
// another one, and no signature of ours is good for anything else: it has a namespace of its own
// (PROTOCOL.sshsig of OpenSSH).
package signin

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"

	"plumlatch/core/names"
	"plumlatch/core/plaintext"
)

// Namespace keeps the signature of a sign-in from being taken for anything else, and anything else for it.
const Namespace = "sign-in@plumlatch"

// NoCertificate stands for the certificate where there is none, as on loopback without TLS.
const NoCertificate = "none"

// Skew is how far the clocks of the client and the service may be apart.
const Skew = 5 * time.Minute

// Statement is what is signed.
type Statement struct {
	Service     string // the address that was dialled: scheme://host[:port]
	Certificate string // "SHA256:" and hex of the leaf certificate that was seen, or NoCertificate
	Operator    string
	Key         string // SHA256 fingerprint
	Challenge   string // of the service
	At          time.Time
}

// Errors of Check. ErrForm is of a statement that cannot be put into words at all.
var (
	ErrForm        = errors.New("this is no statement of a sign-in")
	ErrService     = errors.New("it was signed for another address than this service has")
	ErrCertificate = errors.New("it was signed over a connection with another certificate than this service's: " +
		"somebody may stand in between")
	ErrClock = fmt.Errorf("the clocks of your machine and of the service are more than %d minutes apart",
		int(Skew/time.Minute))
)

// challenge is all that a challenge may hold, so that it cannot pass for lines of ours.
var challenge = regexp.MustCompile(`^[A-Za-z0-9_-]{16,1000}$`)

// CheckChallenge tells whether a word can be a challenge. ErrForm.
func CheckChallenge(word string) error {
	if !challenge.MatchString(word) {
		return ErrForm
	}
	return nil
}

// Text is what is signed: lines of our own, in one order. ErrForm for what would not stand on one
// line each.
func (s Statement) Text() ([]byte, error) {
	for _, part := range []string{s.Service, s.Certificate, s.Operator, s.Key} {
		if part == "" || len(part) > 500 || plaintext.HasControl(part) || strings.Contains(part, " ") {
			return nil, ErrForm
		}
	}
	if names.Check(s.Operator) != nil || CheckChallenge(s.Challenge) != nil || s.At.IsZero() {
		return nil, ErrForm
	}
	return fmt.Appendf(nil, "Plum Latch: sign in\nservice %s\ncertificate %s\noperator %s\nkey %s\nchallenge %s\ntime %s\n",
		s.Service, s.Certificate, s.Operator, s.Key, s.Challenge, s.At.UTC().Format(time.RFC3339)), nil
}

// Check tells whether a statement was made for a service: at its address, over a connection with its
// certificate, by now. Who signed it is for the signature to show, and that the challenge is good for
// whoever made it. ErrService, ErrCertificate, ErrClock.
func (s Statement) Check(service, certificate string, now time.Time) error {
	switch {
	case s.Service != service:
		return ErrService
	case s.Certificate != certificate:
		return ErrCertificate
	case s.At.Before(now.Add(-Skew)) || s.At.After(now.Add(Skew)):
		return ErrClock
	}
	return nil
}

// Certificate is how a leaf certificate (DER) is written in a statement.
func Certificate(der []byte) string {
	sum := sha256.Sum256(der)
	return "SHA256:" + hex.EncodeToString(sum[:])
}
