package signin

import (
	"errors"
	"strings"
	"testing"
	"time"

	"plumlatch/core/keypair"
)

var (
	now  = time.Date(2026, 11, 29, 18, 0, 0, 0, time.UTC)
	good = Statement{Service: "https://latch.example:8470", Certificate: Certificate([]byte("leaf")), Operator: "night-lead",
		Key: "SHA256:abc", Challenge: strings.Repeat("c", 20), At: now}
)

func TestText(t *testing.T) {
	t.Parallel()
	text, err := good.Text()
	want := "Plum Latch: sign in\nservice https://latch.example:8470\ncertificate " + Certificate([]byte("leaf")) +
		"\noperator night-lead\nkey SHA256:abc\nchallenge cccccccccccccccccccc\ntime 2026-11-29T18:00:00Z\n"
	if err != nil || string(text) != want {
		t.Errorf("%q, %v", text, err)
	}
	for name, spoil := range map[string]func(*Statement){
		"no service":                 func(s *Statement) { s.Service = "" },
		"a line more in the service": func(s *Statement) { s.Service += "\noperator admin" },
		"a blank in the key":         func(s *Statement) { s.Key += " x" },
		"no name of an operator":     func(s *Statement) { s.Operator = "../x" },
		"lines in the challenge":     func(s *Statement) { s.Challenge += "\ntime 2030" },
		"a short challenge":          func(s *Statement) { s.Challenge = "c" },
		"a long challenge":           func(s *Statement) { s.Challenge = strings.Repeat("c", 1001) },
		"no time":                    func(s *Statement) { s.At = time.Time{} },
		"an escape":                  func(s *Statement) { s.Certificate = "\x1b[2J" },
	} {
		s := good
		spoil(&s)
		if text, err := s.Text(); !errors.Is(err, ErrForm) {
			t.Errorf("%s: %q, %v", name, text, err)
		}
	}
}

func TestCheck(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		service, certificate string
		now                  time.Time
		want                 error
	}{
		"as it should be":       {good.Service, good.Certificate, now, nil},
		"a clock that is off":   {good.Service, good.Certificate, now.Add(4 * time.Minute), nil},
		"another service":       {"https://elsewhere.example:8470", good.Certificate, now, ErrService},
		"without TLS":           {"http://latch.example:8470", good.Certificate, now, ErrService},
		"somebody in between":   {good.Service, Certificate([]byte("other")), now, ErrCertificate},
		"no certificate at all": {good.Service, NoCertificate, now, ErrCertificate},
		"an old one":            {good.Service, good.Certificate, now.Add(6 * time.Minute), ErrClock},
		"one for later":         {good.Service, good.Certificate, now.Add(-6 * time.Minute), ErrClock},
	} {
		if err := good.Check(c.service, c.certificate, c.now); !errors.Is(err, c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestNamespaces: a proof, a word and a sign-in over the very same text are never taken for each other.
func TestNamespaces(t *testing.T) {
	t.Parallel()
	pair, err := keypair.Create(keypair.Ed25519, "night-lead")
	if err != nil {
		t.Fatal(err)
	}
	signer, err := pair.Signer()
	if err != nil {
		t.Fatal(err)
	}
	text, err := good.Text()
	if err != nil {
		t.Fatal(err)
	}
	all := []string{keypair.ProofNamespace, keypair.WordNamespace, Namespace}
	for _, made := range all {
		signature, err := keypair.Sign(signer, made, text)
		if err != nil {
			t.Fatal(err)
		}
		for _, taken := range all {
			err := pair.Public.Verify(signature, taken, text)
			if (err == nil) != (made == taken) {
				t.Errorf("signed as %s, taken as %s: %v", made, taken, err)
			}
		}
	}
}

func FuzzText(f *testing.F) {
	f.Add("https://latch.example", "none", "night-lead", "SHA256:abc", "cccccccccccccccccccc")
	f.Fuzz(func(t *testing.T, service, certificate, operator, key, challenge string) {
		text, err := Statement{Service: service, Certificate: certificate, Operator: operator, Key: key,
			Challenge: challenge, At: now}.Text()
		if err == nil && strings.Count(string(text), "\n") != 7 {
			t.Errorf("%q has another number of lines", text)
		}
	})
}
