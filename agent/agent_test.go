package agent

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"errors"
	"log/slog"
	"math/big"
	mathrand "math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"plumlatch/core/agentcalls"
	"plumlatch/core/keypair"
)

// machine is a folder that stands for one.
func machine(t *testing.T, id string) Paths {
	t.Helper()
	p := Paths{Root: t.TempDir()}
	put(t, p, "/etc/machine-id", id, 0o644)
	put(t, p, OwnerFile, "service: 127.0.0.1:1\nverbs: [look, edit]\ntrust: service\n", 0o644)
	return p
}

func put(t *testing.T, p Paths, name, text string, mode os.FileMode) {
	t.Helper()
	at := p.at(name)
	if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(at, []byte(text), mode); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(at, mode); err != nil {
		t.Fatal(err)
	}
}

// authority is a certificate of one, PEM.
func authority(t *testing.T, isOne bool) []byte {
	t.Helper()
	own, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "x"}, NotAfter: time.Now().Add(time.Hour), IsCA: isOne, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, c, c, own, key)
	if err != nil {
		t.Fatal(err)
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
}

func TestEnroll(t *testing.T) {
	p := machine(t, "0123")
	if _, err := p.load(); !errors.Is(err, ErrNotEnrolled) {
		t.Errorf("before: %v", err)
	}
	for what, pin := range map[string][]byte{"nothing": nil, "no certificate": []byte("x"), "no authority": authority(t, false), "two": append(authority(t, true), authority(t, true)...)} {
		if _, err := p.Enroll(7, pin, ""); err == nil {
			t.Errorf("%s was pinned", what)
		}
	}
	first, err := p.Enroll(7, authority(t, true), "")
	if err != nil {
		t.Fatal(err)
	}
	public, err := keypair.ReadPublic([]byte(first))
	e, wrong := p.load()
	if err != nil || wrong != nil || e.own != (agentcalls.Own{Instance: 7, Agent: public.Fingerprint()}) {
		t.Errorf("%v %v %+v", err, wrong, e.own)
	}
	for _, name := range []string{"key", "bound.json", "authority.pem"} {
		if fi, err := os.Stat(p.at(StateDir + "/" + name)); err != nil || fi.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v %v", name, fi, err)
		}
	}
	second, err := p.Enroll(7, authority(t, true), "")
	if err != nil || second == first {
		t.Errorf("again: %v, the same key: %v", err, second == first)
	}

	// In a copy it dials nobody: another ID of the system, of the hardware, of the cloud, or none at all.
	for what, change := range map[string]func(){
		"another machine-id":   func() { put(t, p, "/etc/machine-id", "4567", 0o644) },
		"no machine-id":        func() { put(t, p, "/etc/machine-id", "", 0o644) },
		"one not made yet":     func() { put(t, p, "/etc/machine-id", "uninitialized\n", 0o644) },
		"another cloud's word": func() { put(t, p, "/var/lib/cloud/data/instance-id", "i-2", 0o644) },
		"other hardware":       func() { put(t, p, "/sys/class/dmi/id/product_uuid", "B", 0o400) },
	} {
		put(t, p, "/etc/machine-id", "0123", 0o644)
		put(t, p, "/var/lib/cloud/data/instance-id", "i-1", 0o644)
		put(t, p, "/sys/class/dmi/id/product_uuid", "A", 0o600)
		if _, err := p.Enroll(7, authority(t, true), ""); err != nil {
			t.Fatal(err)
		}
		if _, err := p.load(); err != nil {
			t.Errorf("before %s: %v", what, err)
		}
		change()
		if _, err := p.load(); !errors.Is(err, ErrCopied) {
			t.Errorf("%s: %v", what, err)
		}
		var text bytes.Buffer
		if err := (&Agent{Paths: p, Log: slog.New(slog.NewTextHandler(&text, nil))}).Run(t.Context()); !errors.Is(err, ErrCopied) {
			t.Errorf("%s: it runs: %v %s", what, err, text.String())
		}
		_ = os.Chmod(p.at("/sys/class/dmi/id/product_uuid"), 0o600)
	}
	put(t, p, "/etc/machine-id", "", 0o644)
	if _, err := p.Enroll(7, authority(t, true), ""); err == nil {
		t.Error("a machine without an ID was enrolled")
	}
}

func TestOwnerFile(t *testing.T) {
	p := machine(t, "0123")
	if o, service, err := p.ReadOwner(); err != nil || service != "127.0.0.1:1" || o.Trust != agentcalls.ByService {
		t.Errorf("%+v %s %v", o, service, err)
	}
	for what, text := range map[string]string{
		"a word that is none": "service: a:1\nverb: [look]\n",
		"a verb unknown":      "service: a:1\nverbs: [look, shell]\n",
		"no service":          "verbs: [look]\n",
		"no port":             "service: a\nverbs: [look]\n",
		"no YAML":             "\tservice",
		"trust in everybody":  "service: a:1\ntrust: all\n",
		"no key":              "service: a:1\noperators: [x]\n",
		"a list":              "- a\n",
		"no key of releases":  "service: a:1\nrelease: x\n",
		"upgrades, perhaps":   "service: a:1\nupgrades: perhaps\n",
		"nothing":             "",
	} {
		put(t, p, OwnerFile, text, 0o644)
		if o, _, err := p.ReadOwner(); !errors.Is(err, ErrOwnerFile) {
			t.Errorf("%s: %+v %v", what, o, err)
		}
	}
	for text, want := range map[string]bool{"": true, "upgrades: on\n": true, "upgrades: off\n": false} {
		put(t, p, OwnerFile, "service: a:1\n"+text, 0o644)
		if o, _, err := p.ReadOwner(); err != nil || o.Upgrades != want {
			t.Errorf("%q: %+v %v", text, o, err)
		}
	}
	put(t, p, OwnerFile, "service: a:1\n", 0o664)
	if _, _, err := p.ReadOwner(); !errors.Is(err, ErrOwnerFile) || !strings.Contains(err.Error(), "can write it") {
		t.Errorf("others can write it: %v", err)
	}
	if err := errors.Join(os.Remove(p.at(OwnerFile)), os.Symlink(p.at("/etc/machine-id"), p.at(OwnerFile))); err != nil {
		t.Fatal(err)
	}
	if _, _, err := p.ReadOwner(); !errors.Is(err, ErrOwnerFile) {
		t.Errorf("a link: %v", err)
	}
	if err := os.Remove(p.at(OwnerFile)); err != nil {
		t.Fatal(err)
	}
	put(t, p, OwnerFile, "service: a:1\n", 0o644)
	if err := os.Chown(p.at(OwnerFile), 65534, 65534); err == nil {
		if _, _, err := p.ReadOwner(); !errors.Is(err, ErrOwnerFile) {
			t.Errorf("another's: %v", err)
		}
	}
}

// TestOnce: a nonce is good once, also after the agent began anew; a list that cannot be read lets nothing be done.
func TestOnce(t *testing.T) {
	p := machine(t, "0123")
	if _, err := p.Enroll(7, authority(t, true), ""); err != nil {
		t.Fatal(err)
	}
	r := agentcalls.Request{Nonce: rand.Text()}
	if err := p.once(r); err != nil {
		t.Fatal(err)
	}
	if err := p.once(r); !errors.Is(err, agentcalls.ErrTwice) {
		t.Errorf("twice: %v", err)
	}
	if err := p.once(agentcalls.Request{Nonce: rand.Text()}); err != nil {
		t.Errorf("another: %v", err)
	}
	old, err := json.Marshal(map[string]time.Time{r.Nonce: time.Now(), "OLD": time.Now().Add(-4 * agentcalls.Longest)})
	if err != nil {
		t.Fatal(err)
	}
	put(t, p, StateDir+"/done.json", string(old), 0o600)
	if err := p.once(r); !errors.Is(err, agentcalls.ErrTwice) {
		t.Errorf("twice, later: %v", err)
	}
	if err := p.once(agentcalls.Request{Nonce: rand.Text()}); err != nil {
		t.Fatal(err)
	}
	if data, _ := os.ReadFile(p.at(StateDir + "/done.json")); strings.Contains(string(data), "OLD") || !strings.Contains(string(data), r.Nonce) {
		t.Errorf("kept are %s", data)
	}
	put(t, p, StateDir+"/done.json", "{", 0o600)
	if err := p.once(agentcalls.Request{Nonce: rand.Text()}); err == nil {
		t.Error("a list that cannot be read")
	}
}

// TestRefusesBeforeItActs: what is no request, or not allowed, is answered with its code, and nothing is kept of it.
func TestRefusesBeforeItActs(t *testing.T) {
	p := machine(t, "0123")
	public, err := p.Enroll(7, authority(t, true), "")
	if err != nil {
		t.Fatal(err)
	}
	key, err := keypair.ReadPublic([]byte(public))
	if err != nil {
		t.Fatal(err)
	}
	a := &Agent{Paths: p, Log: slog.New(slog.DiscardHandler)}
	good := agentcalls.Request{Verb: agentcalls.Edit, Instance: 7, Agent: key.Fingerprint(), Args: `{"user":"no-such-user-here","line":"x"}`, Nonce: rand.Text(),
		Until: time.Now().Add(time.Minute).Truncate(time.Second)}
	with := func(change func(*agentcalls.Request)) []byte {
		r := good
		r.Nonce = rand.Text()
		change(&r)
		text, err := json.Marshal(agentcalls.Call{Request: r})
		if err != nil {
			t.Fatal(err)
		}
		return text
	}
	for what, c := range map[string]struct {
		head []byte
		want agentcalls.Code
	}{
		"garbage":             {[]byte("\x00\xff"), agentcalls.Malformed},
		"nothing":             {nil, agentcalls.Malformed},
		"a verb not open":     {with(func(r *agentcalls.Request) { r.Verb = agentcalls.Users }), agentcalls.NotOpen},
		"another instance":    {with(func(r *agentcalls.Request) { r.Instance = 8 }), agentcalls.Elsewhere},
		"arguments that none": {with(func(r *agentcalls.Request) { r.Args = "[]" }), agentcalls.Malformed},
		"no line":             {with(func(*agentcalls.Request) {}), agentcalls.Malformed},
	} {
		_, err := a.call(t.Context(), c.head, nil)
		if got := agentcalls.CodeOf(err); err == nil || got != c.want {
			t.Errorf("%s: %v (%s), want %s", what, err, got, c.want)
		}
	}
	line := key.Line()
	_, err = a.call(t.Context(), with(func(r *agentcalls.Request) {
		args, _ := json.Marshal(agentcalls.EditArgs{User: "no-such-user-here", Line: line})
		r.Args = string(args)
	}), nil)
	if no := (refused{}); !errors.As(err, &no) {
		t.Errorf("no such user: %v", err)
	}
}

// TestBackOff: agents that lost the same service in the same moment come back over half a minute, and those that it goes on refusing each
// some minutes.
func TestBackOff(t *testing.T) {
	const agents = 10_000
	draw := mathrand.New(mathrand.NewPCG(1, 2))
	random := func(n time.Duration) time.Duration { return time.Duration(draw.Int64N(int64(n))) }
	seconds := map[int]int{}
	for range agents {
		pause, next := backOff(afterGood, random)
		if next != 2*afterGood {
			t.Fatalf("next %s", next)
		}
		seconds[int(pause/time.Second)]++
	}
	for at, n := range seconds {
		if n > agents/20 {
			t.Errorf("%d come in second %d", n, at)
		}
	}
	wait := backFrom
	for range 20 {
		pause, next := backOff(wait, random)
		if pause < backFrom/2 || pause > backFrom/2+wait || next < wait || next > backTo {
			t.Errorf("after %s: %s, then %s", wait, pause, next)
		}
		wait = next
	}
	if wait != backTo {
		t.Errorf("in the end up to %s", wait)
	}
}
