package agent

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"go.yaml.in/yaml/v3"
	"golang.org/x/crypto/ssh"

	"plumlatch/core/agentcalls"
	"plumlatch/core/keypair"
)

// Where an agent's files are, on every instance.
const (
	OwnerFile = "/etc/plumlatch-agent.yaml"
	StateDir  = "/var/lib/plumlatch-agent"
	// PublicFile has the public half of its key, for everybody there to read: a client that is to sign for it compares that.
	PublicFile = "/etc/plumlatch-agent.pub"
)

// ExitOwn is the status with which it ends if its own files keep it from dialling (sysexits(3), EX_CONFIG).
const ExitOwn = 78

// Paths are where an agent's files are; the zero value is that of every instance. Root is put before all that it reads of the machine, for
// tests.
type Paths struct{ Root string }

func (p Paths) at(name string) string { return filepath.Join("/", p.Root, name) }

// ownError is an error of what lies here: dialling again mends nothing.
type ownError struct{ error }

func (e ownError) Unwrap() error { return e.error }

// Errors of the files of an agent.
var (
	// ErrNotEnrolled: there is no key, or nobody gave it to a service.
	ErrNotEnrolled = errors.New("this agent is not enrolled: plumlatch instance agent install NAME enrolls it")
	// ErrCopied: the machine is not the one on which the key was made.
	ErrCopied = errors.New("this machine is a copy of the one that was enrolled, or was built anew; it dials nobody. " +
		"To enroll it: plumlatch instance agent install NAME")
	// ErrOwnerFile: the owner's file cannot be taken at its word.
	ErrOwnerFile = errors.New("the file of what this agent may do")
)

// bound is what the key was enrolled for.
type bound struct {
	Instance int64             `json:"instance"`
	Machine  map[string]string `json:"machine"` // hashes of what tells this machine from a copy of it
	Token    string            `json:"token,omitempty"`
}

// enrolled is all that an agent needs.
type enrolled struct {
	own         agentcalls.Own
	owner       agentcalls.Owner
	service     string
	token       string
	authority   *x509.Certificate
	certificate tls.Certificate
	key         ed25519.PrivateKey
}

func (p Paths) load() (enrolled, error) {
	e, err := p.read()
	if err != nil {
		return e, ownError{err}
	}
	return e, nil
}

func (p Paths) read() (e enrolled, err error) {
	key, err := p.key()
	if err != nil {
		return e, err
	}
	b, err := p.bound()
	if err != nil {
		return e, err
	}
	now := p.machine()
	for name, was := range b.Machine {
		if now[name] != was {
			return e, ErrCopied
		}
	}
	if e.owner, e.service, err = p.ReadOwner(); err != nil {
		return e, err
	}
	authority, err := os.ReadFile(p.at(StateDir + "/authority.pem"))
	if err != nil {
		return e, fmt.Errorf("%w: %w", ErrNotEnrolled, err)
	}
	block, _ := pem.Decode(authority)
	if block == nil {
		return e, fmt.Errorf("%w: the service's authority is no certificate", ErrNotEnrolled)
	}
	if e.authority, err = x509.ParseCertificate(block.Bytes); err != nil {
		return e, fmt.Errorf("%w: the service's authority is no certificate", ErrNotEnrolled)
	}
	e.own = agentcalls.Own{Instance: b.Instance, Agent: Fingerprint(key.Public().(ed25519.PublicKey))}
	e.token, e.key = b.Token, key
	e.certificate, err = certificate(key)
	return e, err
}

// ReadOwner reads what the owner's file allows, and where the service is. Whoever but root could write it has no say: it is refused then.
// ErrOwnerFile.
func (p Paths) ReadOwner() (agentcalls.Owner, string, error) {
	name := p.at(OwnerFile)
	wrong := func(err error) (agentcalls.Owner, string, error) {
		return agentcalls.Owner{}, "", fmt.Errorf("%w, %s: %w", ErrOwnerFile, OwnerFile, err)
	}
	fi, err := os.Lstat(name)
	if err != nil {
		return wrong(err)
	}
	st, _ := fi.Sys().(*syscall.Stat_t)
	switch {
	case !fi.Mode().IsRegular():
		return wrong(errors.New("it is no regular file"))
	case fi.Mode().Perm()&0o022 != 0:
		return wrong(errors.New("others than root can write it: chmod 0644"))
	case st != nil && int(st.Uid) != os.Geteuid():
		return wrong(errors.New("it is not root's: chown root"))
	case fi.Size() > 1<<20:
		return wrong(errors.New("it is longer than any such file"))
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return wrong(err)
	}
	var t agentcalls.OwnerFile
	d := yaml.NewDecoder(bytes.NewReader(data))
	d.KnownFields(true)
	if err := d.Decode(&t); err != nil {
		return wrong(err)
	}
	if _, _, err := net.SplitHostPort(t.Service); err != nil {
		return wrong(errors.New("service: it is HOST:PORT"))
	}
	o, err := t.Read()
	if err != nil {
		return wrong(err)
	}
	return o, t.Service, nil
}

// key reads the agent's own key.
func (p Paths) key() (ed25519.PrivateKey, error) {
	data, err := os.ReadFile(p.at(StateDir + "/key"))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNotEnrolled, err)
	}
	block, _ := pem.Decode(data)
	if block == nil {
		return nil, fmt.Errorf("%w: its key is damaged", ErrNotEnrolled)
	}
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	own, ok := key.(ed25519.PrivateKey)
	if err != nil || !ok {
		return nil, fmt.Errorf("%w: its key is damaged", ErrNotEnrolled)
	}
	return own, nil
}

func (p Paths) bound() (b bound, err error) {
	data, err := os.ReadFile(p.at(StateDir + "/bound.json"))
	if err == nil {
		err = json.Unmarshal(data, &b)
	}
	if err != nil {
		return b, fmt.Errorf("%w: %w", ErrNotEnrolled, err)
	}
	return b, nil
}

// machine tells this machine from a copy of it: the ID that it gave itself (machine-id(5)), the one that its hardware has, and the one by
// which its cloud knows it. What is not there is left out. Each is hashed, as it is nobody's business (machine-id(5) asks for that).
func (p Paths) machine() map[string]string {
	out := map[string]string{}
	for name, file := range map[string]string{"machine-id": "/etc/machine-id", "hardware": "/sys/class/dmi/id/product_uuid", "cloud": "/var/lib/cloud/data/instance-id"} {
		data, err := os.ReadFile(p.at(file))
		if text := strings.TrimSpace(string(data)); err == nil && text != "" && text != "uninitialized" {
			sum := sha256.Sum256([]byte("plumlatch-agent " + name + " " + text))
			out[name] = hex.EncodeToString(sum[:])
		}
	}
	return out
}

// Enroll makes a key for this machine, in the place of any that is there, and returns its public half as an authorized_keys line has it.
// authority is the certificate of the service's authority, PEM; it is pinned. With a token, instance is 0: the service tells it.
func (p Paths) Enroll(instance int64, authority []byte, token string) (public string, err error) {
	block, rest := pem.Decode(authority)
	if block == nil || len(bytes.TrimSpace(rest)) > 0 {
		return "", errors.New("the authority is no certificate in PEM")
	}
	if c, err := x509.ParseCertificate(block.Bytes); err != nil || !c.IsCA {
		return "", errors.New("the authority is no certificate of one")
	}
	machine := p.machine()
	if machine["machine-id"] == "" {
		return "", errors.New("this machine has no ID of its own in /etc/machine-id: systemd-machine-id-setup makes one")
	}
	own, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return "", err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return "", err
	}
	b, err := json.Marshal(bound{Instance: instance, Machine: machine, Token: token})
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(p.at(StateDir), 0o700); err != nil {
		return "", err
	}
	if err := os.Chmod(p.at(StateDir), 0o700); err != nil {
		return "", err
	}
	// A key without what it is bound to is of no use: so what it is bound to goes first.
	if err := os.Remove(p.at(StateDir + "/bound.json")); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	for _, f := range []struct {
		name string
		data []byte
	}{{"key", pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})}, {"authority.pem", pem.EncodeToMemory(block)}, {"bound.json", b}} {
		if err := p.write(f.name, f.data); err != nil {
			return "", err
		}
	}
	text, err := line(own)
	if err != nil {
		return "", err
	}
	return text, write(p.at(PublicFile), 0o644, []byte(text+"\n"))
}

// redeemed keeps that the token was taken.
func (p Paths) redeemed(instance int64) (enrolled, error) {
	b, err := p.bound()
	if err != nil {
		return enrolled{}, ownError{err}
	}
	b.Instance, b.Token = instance, ""
	data, err := json.Marshal(b)
	if err == nil {
		err = p.write("bound.json", data)
	}
	if err != nil {
		return enrolled{}, ownError{err}
	}
	return p.load()
}

// write puts a file of the agent's own in its place, flushed.
func (p Paths) write(name string, data []byte) error {
	return write(p.at(StateDir+"/"+name), 0o600, data)
}

func write(at string, mode fs.FileMode, data []byte) error {
	f, err := os.OpenFile(at+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC|syscall.O_NOFOLLOW, mode)
	if err != nil {
		return err
	}
	if err = f.Chmod(mode); err == nil { // whatever the umask
		_, err = f.Write(data)
	}
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return errors.Join(err, os.Remove(at+".new"))
	}
	return os.Rename(at+".new", at)
}

func line(own ed25519.PublicKey) (string, error) {
	k, err := ssh.NewPublicKey(own)
	if err != nil {
		return "", err
	}
	return keypair.Public{Blob: k.Marshal(), Comment: "plumlatch agent"}.Line(), nil
}

// Fingerprint is that of an agent's key, written as OpenSSH writes those of its keys (SHA256:...).
func Fingerprint(own ed25519.PublicKey) string {
	k, err := ssh.NewPublicKey(own)
	if err != nil {
		return "" // of a key that is none
	}
	return ssh.FingerprintSHA256(k)
}

// certificate is one that the key made for itself: only the key in it counts.
func certificate(key ed25519.PrivateKey) (tls.Certificate, error) {
	t := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "plumlatch agent"}, NotBefore: time.Unix(0, 0), NotAfter: time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, err
}
