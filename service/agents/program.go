package agents

import (
	"context"
	"crypto/ed25519"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"debug/elf"
	"encoding/base32"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"os"
	"strings"
	"time"

	"plumlatch/core/agentcalls"
	"plumlatch/core/cloudconfig"
	"plumlatch/core/keypair"
	"plumlatch/service/cloud"
	"plumlatch/service/store"
)

// program is the agent's executable: for images that have none, an instance that boots for the first time fetches it, with the hash that its launch was
// given; and for upgrades, with a release that was signed elsewhere, which lies beside it.
type program struct {
	sha256, arch string
	size         int64
	changed      time.Time
	release      *agentcalls.UpgradeArgs // nil if nobody has signed it
	unsigned     error                   // why there is none, though a file lies there: launches go on without
	version      int
	releaseKey   string // as an authorized_keys line; "" for none
}

// archs are the machines as uname(1) calls them.
var archs = map[elf.Machine]string{elf.EM_X86_64: "x86_64", elf.EM_AARCH64: "aarch64"}

// offered is the program that is offered now; nil for none. The file may be replaced by a newer one at any time.
func (s *Service) offered() (*program, error) {
	if s.Program == "" {
		return nil, nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	changed := time.Time{}
	var size int64
	for _, name := range []string{s.Program, s.Program + ".release", s.Program + ".release.pub"} {
		if fi, err := os.Stat(name); err == nil {
			size += fi.Size()
			if fi.ModTime().After(changed) {
				changed = fi.ModTime()
			}
		}
	}
	if s.program != nil && s.program.changed.Equal(changed) && s.programSize == size {
		return s.program, nil
	}
	p, err := readProgram(s.Program)
	if err != nil {
		return nil, err
	}
	p.changed = changed
	s.program, s.programSize = p, size
	return p, nil
}

func readProgram(file string) (*program, error) {
	e, err := elf.Open(file)
	if err != nil {
		return nil, fmt.Errorf("the agent's program: %w", err)
	}
	p := &program{arch: archs[e.Machine]}
	if err := e.Close(); err != nil {
		return nil, err
	}
	if p.arch == "" {
		return nil, fmt.Errorf("the agent's program, %s, is for a machine that no agent is made for", file)
	}
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	h := sha256.New()
	if p.size, err = io.Copy(h, f); err != nil {
		return nil, err
	}
	p.sha256 = hex.EncodeToString(h.Sum(nil))
	if data, err := os.ReadFile(file + ".release.pub"); err == nil {
		key, err := keypair.ReadPublic(data)
		if err != nil {
			p.unsigned = fmt.Errorf("%w: %s.release.pub: %w", ErrNoRelease, file, err)
			return p, nil
		}
		p.releaseKey = keypair.Public{Blob: key.Blob, Comment: "releases of the agent"}.Line()
	}
	data, err := os.ReadFile(file + ".release")
	if errors.Is(err, fs.ErrNotExist) {
		return p, nil
	}
	if err != nil {
		return nil, err
	}
	text, signature, ok := strings.Cut(string(data), "-----BEGIN")
	release, err := agentcalls.ReadRelease(text)
	if err != nil || !ok || release.SHA256 != p.sha256 || release.Size != p.size || release.Arch != p.arch {
		p.unsigned = fmt.Errorf("%w: %s.release is not that of the program beside it", ErrNoRelease, file) // one of them is just being replaced, or was forgotten
		return p, nil
	}
	p.release, p.version = &agentcalls.UpgradeArgs{Release: text, Signature: "-----BEGIN" + signature}, release.Version
	return p, nil
}

// sending bounds how many fetch the program at one time: it is no secret, so anybody may ask.
var sending = make(chan struct{}, 16)

// sendLimit is how long one may take.
const sendLimit = 5 * time.Minute

// giveProgram sends the agent's program.
func (s *Service) giveProgram(w http.ResponseWriter, r *http.Request) {
	p, err := s.offered()
	if err != nil {
		s.Log.Error("the agent's program is not given", "error", err)
	}
	if p == nil || r.Method != http.MethodGet {
		http.NotFound(w, r)
		return
	}
	select {
	case sending <- struct{}{}:
		defer func() { <-sending }()
	default:
		w.Header().Set("Retry-After", "10")
		http.Error(w, "others are fetching it", http.StatusServiceUnavailable)
		return
	}
	f, err := os.Open(s.Program)
	if err != nil {
		s.Log.Error("the agent's program is not there any more", "error", err)
		http.NotFound(w, r)
		return
	}
	defer f.Close()
	if err := http.NewResponseController(w).SetWriteDeadline(time.Now().Add(sendLimit)); err != nil {
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	_, _ = io.Copy(w, f) // whoever fetches it compares the hash
}

// AddressFor is HOST:PORT that a cloud's instances dial: the service's, or the host's as they see it where the service listens at a
// loopback address; "" where this service has no agents.
func (s *Service) AddressFor(c cloud.Driver) string {
	host, port, err := net.SplitHostPort(s.Address)
	at := c.Properties().HostAt
	if ip := net.ParseIP(host); err != nil || at == "" || ip == nil || !ip.IsLoopback() {
		return s.Address
	}
	return net.JoinHostPort(at, port)
}

// ForLaunch is what first boot of a cloud's instance needs to enroll an agent; Token and the owner's file are the launch's. ErrOff.
func (s *Service) ForLaunch(ctx context.Context, c cloud.Driver) (cloudconfig.Agent, error) {
	pin, err := s.Pin(ctx)
	if err != nil {
		return cloudconfig.Agent{}, err
	}
	a := cloudconfig.Agent{Service: s.AddressFor(c), Name: agentcalls.ServerName, Authority: pin}
	p, err := s.offered()
	if p != nil {
		a.SHA256, a.Arch, a.Release = p.sha256, p.arch, p.releaseKey
	}
	return a, err
}

// ErrNoRelease says that the service has no release for agents.
var ErrNoRelease = errors.New("no release lies beside the agent's program (-agent-program FILE, FILE.release): nobody has signed what it would give")

// noRelease says why there is none.
func noRelease(p *program) error {
	if p != nil && p.unsigned != nil {
		return p.unsigned
	}
	return ErrNoRelease
}

// Offered is the version that the service has for agents; 0 for none.
func (s *Service) Offered() int {
	if p, err := s.offered(); err == nil && p != nil && p.release != nil {
		return p.version
	}
	return 0
}

// Upgrade has an instance's agent take the program that is offered. What it answers says that it tries it; what came of that it says when it comes
// back. ErrNone, ErrAway, ErrNoRelease, Refused.
func (s *Service) Upgrade(ctx context.Context, by store.Actor, i store.Instance) (out agentcalls.Upgrading, err error) {
	p, err := s.offered()
	if err != nil {
		return out, err
	}
	if p == nil || p.release == nil {
		return out, noRelease(p)
	}
	f, err := os.Open(s.Program)
	if err != nil {
		return out, err
	}
	defer f.Close()
	args, err := json.Marshal(p.release)
	if err != nil {
		return out, err
	}
	r := agentcalls.Request{Verb: agentcalls.Upgrade, Instance: i.ID, Args: string(args), Nonce: rand.Text(), Until: time.Now().Add(lookLimit).Truncate(time.Second)}
	result, err := s.journaled(ctx, by, i, r.Verb, fmt.Sprintf("to version %d", p.version), func() (json.RawMessage, error) {
		return s.ask(ctx, i, agentcalls.Call{Request: r}, lookLimit, f)
	})
	if err != nil {
		return out, err
	}
	if json.Unmarshal(result, &out) != nil {
		return out, errors.New("the agent's answer is none")
	}
	return out, nil
}

// LaunchToken makes the token of a launch, which enrolls that instance's agent once and within the hour. It is made of the authority's key and the
// work, so that asked for again it is the same one, and stands nowhere. A launch that is taken up again has another one: its instance is another.
func (s *Service) LaunchToken(ctx context.Context, work store.Work, i store.Instance) (string, error) {
	_, key, err := s.authority(ctx)
	if err != nil {
		return "", err
	}
	token, err := launchToken(key, work.ID, i.ID, work.Attempt)
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256([]byte(token))
	return token, s.Store.AddAgentToken(ctx, store.Actor{Operator: work.Operator, Address: work.Address}, i, sum[:], tokenLife)
}

func launchToken(key ed25519.PrivateKey, work, instance int64, attempt int) (string, error) {
	if work < 1 || instance < 1 {
		return "", errors.New("a token is of a launch")
	}
	secret, err := hkdf.Key(sha256.New, key.Seed(), nil, fmt.Sprintf("plumlatch launch token, work %d, instance %d, attempt %d", work, instance, attempt), 32)
	return base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(secret), err
}
