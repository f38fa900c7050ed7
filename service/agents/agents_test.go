package agents_test

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"errors"
	"math/big"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"
	"golang.org/x/crypto/ssh"

	"plumlatch/core/agentcalls"
	"plumlatch/core/frames"
	"plumlatch/core/keypair"
	"plumlatch/reach"
	"plumlatch/service/agents"
	"plumlatch/service/kinds/kindtest"
	"plumlatch/service/store"
)

// fake is the other end of a connection, which a test moves: an agent that may do anything.
type fake struct {
	t    *testing.T
	h    *kindtest.House
	own  ed25519.PublicKey
	cert tls.Certificate
}

func newFake(t *testing.T, h *kindtest.House) *fake {
	t.Helper()
	own, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "x"}, NotBefore: time.Unix(0, 0), NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, c, c, own, key)
	if err != nil {
		t.Fatal(err)
	}
	return &fake{t, h, own, tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}}
}

func (f *fake) line() string {
	k, err := ssh.NewPublicKey(f.own)
	if err != nil {
		f.t.Fatal(err)
	}
	return keypair.Public{Blob: k.Marshal(), Comment: "agent"}.Line()
}

// dial opens a connection, up to the hello.
func (f *fake) dial() (*websocket.Conn, error) {
	pin, err := f.h.W.Agents.Pin(f.t.Context())
	if err != nil {
		f.t.Fatal(err)
	}
	block, _ := pem.Decode([]byte(pin))
	authority, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		f.t.Fatal(err)
	}
	pool := x509.NewCertPool()
	pool.AddCert(authority)
	config := &tls.Config{RootCAs: pool, ServerName: agentcalls.ServerName, Certificates: []tls.Certificate{f.cert}}
	transport := &http.Transport{DialTLSContext: func(ctx context.Context, network, address string) (net.Conn, error) {
		return (&tls.Dialer{Config: config}).DialContext(ctx, network, address)
	}}
	conn, _, err := websocket.Dial(f.t.Context(), "wss://"+f.h.W.Agents.Address+agentcalls.Path, &websocket.DialOptions{HTTPClient: &http.Client{Transport: transport}})
	if err == nil {
		f.t.Cleanup(func() { _ = conn.CloseNow() })
		conn.SetReadLimit(1 << 20)
	}
	return conn, err
}

// enter says hello, and returns the welcome.
func (f *fake) enter(hello any) (*websocket.Conn, agentcalls.Welcome) {
	f.t.Helper()
	conn, err := f.dial()
	if err != nil {
		f.t.Fatal(err)
	}
	text, err := json.Marshal(hello)
	if err == nil {
		err = conn.Write(f.t.Context(), websocket.MessageText, text)
	}
	if err != nil {
		f.t.Fatal(err)
	}
	_, said, err := conn.Read(f.t.Context())
	var w agentcalls.Welcome
	if err == nil {
		err = json.Unmarshal(said, &w)
	}
	if err != nil {
		f.t.Fatalf("no welcome: %v", err)
	}
	return conn, w
}

var hello = agentcalls.Hello{Version: "1", Verbs: agentcalls.Verbs, Trust: agentcalls.ByOperators}

// house is a service that takes agents, and an instance.
func house(t *testing.T) (*kindtest.House, store.Instance) {
	t.Helper()
	h := kindtest.New(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	if err := h.W.Agents.Serve(t.Context(), l, l.Addr().String()); err != nil {
		t.Fatal(err)
	}
	h.Key("first")
	return h, h.Launch("berth-1", "first")
}

// answering serves what the service asks: answer is sent on each channel.
func answering(t *testing.T, conn *websocket.Conn, answer func(head []byte) []byte) {
	t.Helper()
	link := reach.NewLink(t.Context(), reach.OverWebSocket(conn), func(_ context.Context, ch *reach.Channel, head []byte) {
		if text := answer(head); text != nil {
			_, _ = ch.Write(text)
			_ = ch.CloseWrite()
		} else {
			<-t.Context().Done()
		}
	})
	go func() { _ = link.Run() }()
}

// connected waits until the service has an instance's agent.
func connected(t *testing.T, h *kindtest.House, i store.Instance, is bool) {
	t.Helper()
	h.Until("whether its agent is connected", func() bool {
		_, here, err := h.W.Agents.Of(t.Context(), i)
		return here == is && (err == nil || errors.Is(err, store.ErrNotFound))
	})
}

func TestLook(t *testing.T) {
	t.Parallel()
	h, i := house(t)
	if _, err := h.W.Agents.Look(t.Context(), kindtest.By, i); !errors.Is(err, agents.ErrNone) {
		t.Errorf("without an agent: %v", err)
	}
	f := newFake(t, h)
	if err := h.W.Agents.Enroll(t.Context(), kindtest.By, i, f.line()); err != nil {
		t.Fatal(err)
	}
	if _, err := h.W.Agents.Look(t.Context(), kindtest.By, i); !errors.Is(err, agents.ErrAway) {
		t.Errorf("before it came: %v", err)
	}
	conn, w := f.enter(hello)
	if w.Refused != "" || w.Instance != i.ID {
		t.Fatalf("welcome: %+v", w)
	}
	var asked agentcalls.Call
	said := []byte(`{"result":{"privilege":"root","not_seen":["all but this"],"users":[{"user":"debian","files":["/home/debian/.ssh/authorized_keys"],"whole":true,"keys":[]}]}}`)
	answering(t, conn, func(head []byte) []byte { _ = json.Unmarshal(head, &asked); return said })
	connected(t, h, i, true)
	s, err := h.W.Agents.Look(t.Context(), kindtest.By, i)
	if err != nil || s.Vantage != "the agent there" || len(s.Keys) != 2 || s.Keys[0].Result != "missing" {
		t.Errorf("%+v, %v", s, err)
	}
	if asked.Request.Verb != agentcalls.Look || asked.Request.Agent != ssh.FingerprintSHA256(mustKey(t, f.own)) || asked.Signature != "" {
		t.Errorf("it was asked %+v", asked)
	}

	// What is no report is none: nothing of it is kept.
	for what, text := range map[string]string{
		"no JSON":          "x",
		"no result":        `{"result":7}`,
		"an own no":        `{"code":"not-open","said":"\u001b[2Jlook is not open"}`,
		"no login user":    `{"result":{"users":[{"user":"x;rm","files":[],"whole":true,"keys":[]}]}}`,
		"a key that none":  `{"result":{"users":[{"user":"debian","whole":true,"keys":[{"file":"f","line":1,"public_key":"nonsense"}]}]}}`,
		"a private key":    `{"result":{"users":[{"user":"debian","whole":true,"keys":[{"file":"f","line":1,"public_key":` + quoted(private(t)) + `}]}]}}`,
		"a private secret": `{"result":{"config":[` + quoted(private(t)) + `],"users":[]}}`,
	} {
		said = []byte(text)
		s, err := h.W.Agents.Look(t.Context(), kindtest.By, i)
		if err == nil {
			t.Errorf("%s was taken: %+v", what, s)
			continue
		}
		if strings.Contains(err.Error(), "\x1b") || strings.Contains(err.Error(), "PRIVATE") {
			t.Errorf("%s: it says %q", what, err)
		}
	}
}

func mustKey(t *testing.T, own ed25519.PublicKey) ssh.PublicKey {
	t.Helper()
	k, err := ssh.NewPublicKey(own)
	if err != nil {
		t.Fatal(err)
	}
	return k
}

func private(t *testing.T) string {
	t.Helper()
	p, err := keypair.Create(keypair.Ed25519, "x")
	if err != nil {
		t.Fatal(err)
	}
	text, err := p.OpenSSH(nil)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

func quoted(s string) string {
	text, _ := json.Marshal(s)
	return string(text)
}

// TestStrangers: whoever does not keep to the protocol, or is nobody's agent, gets nothing, and disturbs nobody.
func TestStrangers(t *testing.T) {
	t.Parallel()
	h, i := house(t)
	f := newFake(t, h)
	if _, w := f.enter(hello); w.Refused != agentcalls.Unknown {
		t.Errorf("nobody's agent: %+v", w)
	}
	if err := h.W.Agents.Enroll(t.Context(), kindtest.By, i, f.line()); err != nil {
		t.Fatal(err)
	}
	// Another's key, and a key of another kind.
	other := h.Launch("berth-2", "first")
	if err := h.W.Agents.Enroll(t.Context(), kindtest.By, other, f.line()); !errors.Is(err, store.ErrAgentElsewhere) {
		t.Errorf("another's key: %v", err)
	}
	if err := h.W.Agents.Enroll(t.Context(), kindtest.By, other, "ecdsa-sha2-nistp256 AAAA"); err == nil {
		t.Error("a key of another kind")
	}
	// Without a certificate, by an old TLS, at another path.
	address := h.W.Agents.Address
	for what, config := range map[string]*tls.Config{
		"no certificate": {InsecureSkipVerify: true},
		"an old TLS":     {InsecureSkipVerify: true, MaxVersion: tls.VersionTLS12, Certificates: []tls.Certificate{f.cert}},
	} {
		c := &http.Client{Transport: &http.Transport{TLSClientConfig: config}}
		if resp, err := c.Get("https://" + address + agentcalls.Path); err == nil {
			resp.Body.Close()
			if what != "no certificate" || resp.StatusCode != http.StatusNotFound {
				t.Errorf("%s: %s", what, resp.Status)
			}
		}
	}
	c := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true, Certificates: []tls.Certificate{f.cert}}}}
	if resp, err := c.Get("https://" + address + "/metrics"); err != nil || resp.StatusCode != http.StatusNotFound {
		t.Errorf("another path: %v %v", resp, err)
	}
	// A hello that is none, or is longer than any; and frames that break the protocol, after a good one.
	for what, text := range map[string][]byte{"no JSON": []byte("x"), "a long hello": bytes.Repeat([]byte("x"), 64<<10)} {
		conn, err := f.dial()
		if err != nil {
			t.Fatal(err)
		}
		_ = conn.Write(t.Context(), websocket.MessageText, text)
		if _, said, err := conn.Read(t.Context()); err == nil {
			t.Errorf("%s: %s", what, said)
		}
	}
	open, _ := frames.Frame{Type: frames.Open, Channel: 1}.Append(nil)
	for what, m := range map[string][]byte{"garbage": {0xff, 1, 2, 3, 4, 5}, "a channel of its own": open, "100 MB": make([]byte, 100<<20)} {
		conn, w := f.enter(hello)
		if w.Refused != "" {
			t.Fatalf("%s: %+v", what, w)
		}
		ended := make(chan error, 1)
		go func() { _, _, err := conn.Read(t.Context()); ended <- err }()
		_ = conn.Write(t.Context(), websocket.MessageBinary, m)
		if err := <-ended; err == nil {
			t.Errorf("%s was taken", what)
		}
		connected(t, h, i, false)
	}
}

// TestHonestAndNot: a second one with the key is refused while the first answers; one that does not answer gives way; one that answers twice,
// late or never costs only who asked.
func TestHonestAndNot(t *testing.T) {
	t.Parallel()
	h, i := house(t)
	f := newFake(t, h)
	if err := h.W.Agents.Enroll(t.Context(), kindtest.By, i, f.line()); err != nil {
		t.Fatal(err)
	}
	conn, _ := f.enter(hello)
	answering(t, conn, func(head []byte) []byte {
		var c agentcalls.Call
		_ = json.Unmarshal(head, &c)
		switch c.Request.Args {
		case `"never"`:
			return nil
		case `"twice"`:
			return []byte(`{"result":1}{"result":2}`)
		case `"half"`:
			return []byte(`{"result":`)
		}
		return []byte(`{"result":` + c.Request.Args + `}`)
	})
	connected(t, h, i, true)
	if _, w := f.enter(hello); w.Refused != agentcalls.Second {
		t.Errorf("a second one: %+v", w)
	}
	a, here, err := h.W.Agents.Of(t.Context(), i)
	if err != nil || !here || a.RefusedAt == nil {
		t.Errorf("it is told: %+v %v %v", a, here, err)
	}
	call := func(ctx context.Context, args string) (string, error) {
		out, err := h.W.Agents.Call(ctx, kindtest.By, i, agentcalls.Call{Request: agentcalls.Request{Verb: agentcalls.Edit, Instance: i.ID, Agent: a.Fingerprint, Args: args,
			Nonce: rand.Text(), Until: time.Now().Add(time.Minute).Truncate(time.Second)}})
		return string(out), err
	}
	for _, args := range []string{`"twice"`, `"half"`} {
		if out, err := call(t.Context(), args); err == nil {
			t.Errorf("%s: %s", args, out)
		}
	}
	impatient, cancel := context.WithCancel(t.Context())
	waits := make(chan error, 1)
	go func() { _, err := call(impatient, `"never"`); waits <- err }()
	if out, err := call(t.Context(), `"quick"`); err != nil || out != `"quick"` {
		t.Errorf("beside one that waits: %s %v", out, err)
	}
	cancel()
	if err := <-waits; err == nil {
		t.Error("it was answered")
	}
	// Nothing but a change to this instance's agent is passed on, and look is not asked so.
	for what, r := range map[string]agentcalls.Request{
		"look":             {Verb: agentcalls.Look, Instance: i.ID, Agent: a.Fingerprint, Nonce: rand.Text(), Until: time.Now().Truncate(time.Second)},
		"another instance": {Verb: agentcalls.Edit, Instance: i.ID + 1, Agent: a.Fingerprint, Nonce: rand.Text(), Until: time.Now().Truncate(time.Second)},
		"no verb":          {Verb: "shell", Instance: i.ID, Agent: a.Fingerprint, Nonce: rand.Text(), Until: time.Now().Truncate(time.Second)},
	} {
		if out, err := h.W.Agents.Call(t.Context(), kindtest.By, i, agentcalls.Call{Request: r}); err == nil {
			t.Errorf("%s: %s", what, out)
		}
	}
	// One whose connection is dead, and whom nobody told: it does not answer, and the one that comes back has its place.
	dead := newFake(t, h)
	if err := h.W.Agents.Enroll(t.Context(), kindtest.By, i, dead.line()); err != nil {
		t.Fatal(err)
	}
	connected(t, h, i, false) // the former one's connection ended
	if _, w := dead.enter(hello); w.Refused != "" {
		t.Fatalf("%+v", w)
	}
	connected(t, h, i, true) // nobody reads at its end, so it answers no ping
	again, w := dead.enter(hello)
	if w.Refused != "" {
		t.Fatalf("it came back: %+v", w)
	}
	answering(t, again, func([]byte) []byte { return []byte(`{"result":"back"}`) })
	h.Until("the one that came back is asked", func() bool {
		a, _, _ = h.W.Agents.Of(t.Context(), i)
		out, err := call(t.Context(), `"x"`)
		return err == nil && out == `"back"`
	})
	if err := h.W.Agents.Forget(t.Context(), kindtest.By, i); err != nil {
		t.Fatal(err)
	}
	if _, w := dead.enter(hello); w.Refused != agentcalls.Unknown {
		t.Errorf("forgotten: %+v", w)
	}
	if err := h.W.Agents.Forget(t.Context(), kindtest.By, i); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("forgotten twice: %v", err)
	}
}

// TestTokens: a token enrolls one key, once, within its time, and replaces nobody.
func TestTokens(t *testing.T) {
	t.Parallel()
	h, i := house(t)
	token, err := h.W.Agents.Token(t.Context(), kindtest.By, i)
	if err != nil {
		t.Fatal(err)
	}
	with := hello
	with.Token = token
	first, thief := newFake(t, h), newFake(t, h)
	if _, w := first.enter(with); w.Refused != "" || w.Instance != i.ID {
		t.Fatalf("%+v", w)
	}
	if _, w := thief.enter(with); w.Refused != agentcalls.OldToken {
		t.Errorf("the same token: %+v", w)
	}
	a, err := h.DB.AgentOf(t.Context(), i.ID)
	if err != nil || a.EnrolledBy != kindtest.By.Operator || a.RefusedAt == nil {
		t.Errorf("it is told: %+v %v", a, err)
	}
	second, err := h.W.Agents.Token(t.Context(), kindtest.By, i)
	if err != nil {
		t.Fatal(err)
	}
	with.Token = second
	if _, w := thief.enter(with); w.Refused != agentcalls.OldToken || !strings.Contains(w.Why, "has an agent already") {
		t.Errorf("it replaces: %+v", w)
	}
	refusals := func() (n int) {
		all, _, err := h.DB.Journal(t.Context(), "instance berth-1", store.Page{Limit: 200})
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range all {
			if e.Action == "agent.refuse" {
				n++
			}
		}
		return n
	}
	was := refusals()
	if _, w := thief.enter(with); w.Refused != agentcalls.OldToken || refusals() != was || was != 2 {
		t.Errorf("one that goes on trying: %+v; %d entries, and %d before", w, refusals(), was)
	}
	with.Token = "NOBODYS"
	if _, w := thief.enter(with); w.Refused != agentcalls.OldToken {
		t.Errorf("nobody's: %+v", w)
	}
	// An instance that is no more has no agent.
	if _, err := h.W.Lifecycle.Change(t.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"), store.Removing, false); err != nil {
		t.Fatal(err)
	}
	h.Until("its end", func() bool {
		_, err := h.DB.InstanceByName(t.Context(), "berth-1")
		return errors.Is(err, store.ErrNotFound)
	})
	if _, w := first.enter(hello); w.Refused != agentcalls.Unknown {
		t.Errorf("a removed instance's agent: %+v", w)
	}
}
