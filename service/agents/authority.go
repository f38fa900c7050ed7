package agents

import (
	"context"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"log"
	"log/slog"
	"math/big"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/core/agentcalls"
	"plumlatch/service/store"
)

type tlsConn = tls.Conn

// forever is how long the authority is good: agents pin it, and nobody else trusts it.
const forever = 30 * 365 * 24 * time.Hour

// tlsConfig has a certificate that the authority makes at each start, and asks agents for theirs. The authority's key is the same for all
// replicas, sealed at rest. A first boot that fetches the program has no certificate; no other path answers one without. A certificate begins long before today: an instance whose clock is slow must not be shut out.
func (s *Service) tlsConfig(ctx context.Context) (*tls.Config, error) {
	authority, key, err := s.authority(ctx)
	if err != nil {
		return nil, err
	}
	own, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	t, err := template("Plum Latch, for agents")
	if err != nil {
		return nil, err
	}
	t.DNSNames, t.KeyUsage, t.ExtKeyUsage = []string{agentcalls.ServerName}, x509.KeyUsageDigitalSignature, []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
	t.NotAfter = authority.NotAfter
	der, err := x509.CreateCertificate(rand.Reader, t, authority, own.Public(), key)
	if err != nil {
		return nil, err
	}
	return &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: own}}, MinVersion: tls.VersionTLS13,
		ClientAuth: tls.RequestClientCert, SessionTicketsDisabled: true, NextProtos: []string{"http/1.1"}}, nil
}

func template(name string) (*x509.Certificate, error) {
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	now := time.Now()
	return &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: name}, NotBefore: now.Add(-10 * 365 * 24 * time.Hour), NotAfter: now.Add(forever),
		BasicConstraintsValid: true}, err
}

// authority returns the authority, and makes it at the first start.
func (s *Service) authority(ctx context.Context) (*x509.Certificate, ed25519.PrivateKey, error) {
	a, err := s.Store.AgentAuthority(ctx)
	if errors.Is(err, store.ErrNotFound) {
		a, err = s.newAuthority(ctx)
	}
	if err != nil {
		return nil, nil, err
	}
	der, err := s.Cipher.Decrypt(ctx, a.Sealed)
	if err != nil {
		return nil, nil, err
	}
	defer clear(der)
	key, err := x509.ParsePKCS8PrivateKey(der)
	own, ok := key.(ed25519.PrivateKey)
	if err != nil || !ok {
		return nil, nil, errors.New("the key of the agents' authority is damaged")
	}
	c, err := x509.ParseCertificate(a.Certificate)
	return c, own, err
}

func (s *Service) newAuthority(ctx context.Context) (store.Authority, error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return store.Authority{}, err
	}
	t, err := template("Plum Latch, the authority for agents")
	if err != nil {
		return store.Authority{}, err
	}
	t.IsCA, t.KeyUsage, t.MaxPathLenZero = true, x509.KeyUsageCertSign, true
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return store.Authority{}, err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return store.Authority{}, err
	}
	defer clear(private)
	sealed, err := s.Cipher.Encrypt(ctx, private)
	if err != nil {
		return store.Authority{}, err
	}
	return s.Store.KeepAgentAuthority(ctx, store.Authority{Certificate: der, Sealed: sealed})
}

// Pin is what agents pin, PEM. ErrOff.
func (s *Service) Pin(ctx context.Context) (string, error) {
	if s.Address == "" {
		return "", ErrOff
	}
	a, err := s.Store.AgentAuthority(ctx)
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.Certificate})), err
}

// keyOf is the key in an agent's certificate, as SSH writes it.
func keyOf(c *x509.Certificate) ([]byte, error) {
	own, ok := c.PublicKey.(ed25519.PublicKey)
	if !ok {
		return nil, errors.New("it is no Ed25519 key")
	}
	k, err := ssh.NewPublicKey(own)
	if err != nil {
		return nil, err
	}
	return k.Marshal(), nil
}

// quietLog is where the server says what goes wrong before anybody is known: strangers can say as much as they like there.
func quietLog(l *slog.Logger) *log.Logger { return slog.NewLogLogger(l.Handler(), slog.LevelDebug) }
