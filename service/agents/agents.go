// Package agents is the service's end of the resident agents: it lets them in, each by its own key, and asks them. It asks what it likes to
// see; what changes something an operator has signed, and it only passes that on.
package agents

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/coder/websocket"
	"golang.org/x/crypto/ssh"

	"plumlatch/core/agentcalls"
	"plumlatch/core/plaintext"
	"plumlatch/core/secrets"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/survey"
)

// Service lets agents in, and asks them.
type Service struct {
	*survey.Service
	// Address is HOST:PORT that instances dial; "" where this service has no agents.
	Address string
	// Program is the file of the agent's executable, which first boots fetch; "" for none.
	Program string
	// RenewEvery is how often it is looked whether those who are connected here are still the agents of their instances, as another replica may have
	// changed that; renewEvery if 0.
	RenewEvery time.Duration

	program     *program
	programSize int64
	mu          sync.Mutex
	connected   map[int64]*connection // by instance
	http        *http.Server
	stop        context.CancelFunc
	closed      bool
	done        sync.WaitGroup
}

// connection is an agent that is connected here.
type connection struct {
	agent store.Agent
	link  *reach.Link
	conn  *websocket.Conn
	heard atomic.Int64 // when it was heard of last, in seconds since 1970
}

// Times.
var (
	helloLimit  = 20 * time.Second
	silentLimit = 150 * time.Second // an agent says something each 45 seconds
	renewEvery  = 45 * time.Second
	pingLimit   = 8 * time.Second // an agent whose key comes a second time has to answer within this
	lookLimit   = 13 * time.Minute
)

const (
	maxHello  = 16 << 10
	maxAnswer = 32 << 20
)

// Errors of asking an agent.
var (
	// ErrNone: the instance has no agent.
	ErrNone = errors.New("it has no agent")
	// ErrAway: its agent is not connected.
	ErrAway = errors.New("its agent is not connected")
	// ErrSecret: an agent sent what no agent of ours sends.
	ErrSecret = errors.New("what the agent sent holds a private key: nothing of it is kept. See who has that machine")
	// ErrOff: this service takes no agents.
	ErrOff = errors.New("this service takes no agents: it was started without -agent-listen")
)

// Refused is the agent's own no.
type Refused struct {
	Code agentcalls.Code
	Said string
}

func (r Refused) Error() string { return "the agent says: " + r.Said }

// Serve lets agents in on a listener, which is its own from here on, until Close.
func (s *Service) Serve(ctx context.Context, listener net.Listener, address string) error {
	config, err := s.tlsConfig(ctx)
	if err != nil {
		return err
	}
	if _, err := s.offered(); err != nil {
		return err
	}
	ctx, s.stop = context.WithCancel(context.WithoutCancel(ctx))
	s.Address, s.connected = address, map[int64]*connection{}
	s.http = &http.Server{
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { s.welcome(ctx, w, r) }), TLSConfig: config,
		ReadHeaderTimeout: helloLimit, MaxHeaderBytes: 8 << 10, IdleTimeout: helloLimit,
		TLSNextProto: map[string]func(*http.Server, *tlsConn, http.Handler){}, // no HTTP/2: a WebSocket takes its connection over
		ErrorLog:     quietLog(s.Log),
	}
	s.done.Go(func() { s.renew(ctx) })
	s.done.Go(func() { s.takeCalls(ctx) })
	s.done.Go(func() {
		if err := s.http.ServeTLS(listener, "", ""); !errors.Is(err, http.ErrServerClosed) {
			s.Log.Error("agents are let in no more", "error", err)
		}
	})
	return nil
}

// Close ends all connections.
func (s *Service) Close() {
	if s.http == nil {
		return
	}
	s.stop()
	_ = s.http.Close()
	s.mu.Lock()
	s.closed = true
	for _, c := range s.connected {
		c.link.End(errors.New("the service ends"))
	}
	s.mu.Unlock()
	s.done.Wait()
}

// welcome is one agent's connection, to its end.
func (s *Service) welcome(ctx context.Context, w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	if s.closed {
		s.mu.Unlock()
		return
	}
	s.done.Add(1)
	s.mu.Unlock()
	defer s.done.Done()
	if r.URL.Path == agentcalls.ProgramPath {
		s.giveProgram(w, r)
		return
	}
	if r.URL.Path != agentcalls.Path || r.TLS == nil || len(r.TLS.PeerCertificates) == 0 {
		http.NotFound(w, r)
		return
	}
	// TLS has seen that whoever connects has the private half (RFC 8446 section 4.4.3); nothing but the key in the certificate counts.
	blob, err := keyOf(r.TLS.PeerCertificates[0])
	if err != nil {
		http.Error(w, "the certificate's key is no Ed25519 key", http.StatusForbidden)
		return
	}
	c := &connection{}
	c.hear()
	conn, err := websocket.Accept(w, r, &websocket.AcceptOptions{CompressionMode: websocket.CompressionDisabled,
		OnPingReceived: func(context.Context, []byte) bool { c.hear(); return true }})
	if err != nil {
		return // it was answered
	}
	defer conn.CloseNow()
	c.conn = conn
	from, _, _ := net.SplitHostPort(r.RemoteAddr)
	if err := s.enter(ctx, c, blob, from); err != nil {
		s.Log.Warn("an agent was not let in", "from", from, "error", door.Words(err))
		return
	}
	c.link = reach.NewLink(ctx, hearing{reach.OverWebSocket(conn), c}, nil)
	if !s.claim(ctx, c, from) {
		return
	}
	err = c.link.Run()
	s.mu.Lock()
	ours := s.connected[c.agent.InstanceID] == c
	if ours {
		delete(s.connected, c.agent.InstanceID)
	}
	s.mu.Unlock()
	if ours && ctx.Err() == nil {
		limited, cancel := context.WithTimeout(ctx, helloLimit)
		defer cancel()
		if wrong := s.Store.AgentWent(limited, c.agent.InstanceID); wrong != nil {
			s.Log.Warn("an agent's end was not kept", "error", door.Words(wrong))
		}
	}
	s.Log.Info("an agent went", "instance", c.agent.InstanceID, "why", plaintext.Line(plaintext.Cut(fmt.Sprint(err), 200)))
}

func (c *connection) hear() { c.heard.Store(time.Now().Unix()) }

// hearing notes that an agent sent something.
type hearing struct {
	reach.Messages
	c *connection
}

func (h hearing) Read(ctx context.Context) ([]byte, error) {
	m, err := h.Messages.Read(ctx)
	h.c.hear()
	return m, err
}

// refuse tells an agent that it is not let in.
func refuse(ctx context.Context, conn *websocket.Conn, code agentcalls.Code, why string) error {
	text, err := json.Marshal(agentcalls.Welcome{Refused: code, Why: why})
	if err == nil {
		err = conn.Write(ctx, websocket.MessageText, text)
	}
	return errors.Join(fmt.Errorf("%s: %s", code, why), err)
}

// enter takes an agent's hello in, and finds out whose it is.
func (s *Service) enter(ctx context.Context, c *connection, blob []byte, from string) error {
	ctx, cancel := context.WithTimeout(ctx, helloLimit)
	defer cancel()
	c.conn.SetReadLimit(maxHello)
	_, text, err := c.conn.Read(ctx)
	if err != nil {
		return err
	}
	var h agentcalls.Hello
	if err := json.Unmarshal(text, &h); err != nil {
		return errors.New("its hello is none")
	}
	if h.Token != "" {
		sum := sha256.Sum256([]byte(strings.TrimSpace(h.Token)))
		key, err := ssh.ParsePublicKey(blob)
		if err != nil {
			return err
		}
		_, err = s.Store.RedeemAgentToken(ctx, sum[:], blob, ssh.FingerprintSHA256(key), from)
		switch {
		case errors.Is(err, store.ErrToken), errors.Is(err, store.ErrHasAgent), errors.Is(err, store.ErrAgentElsewhere):
			// One whose first answer was lost comes again, with the key that was enrolled by then.
			if _, known := s.Store.AgentByKey(ctx, blob); known == nil && errors.Is(err, store.ErrToken) {
				break
			}
			return refuse(ctx, c.conn, agentcalls.OldToken, door.Words(err))
		case err != nil:
			return err
		}
	}
	c.agent, err = s.Store.AgentByKey(ctx, blob)
	if errors.Is(err, store.ErrNotFound) {
		return refuse(ctx, c.conn, agentcalls.Unknown, "no instance has an agent with this key: plumlatch instance agent install NAME enrolls one")
	}
	if err != nil {
		return err
	}
	words := make([]string, 0, len(agentcalls.Verbs))
	for _, v := range h.Verbs {
		if len(words) < len(agentcalls.Verbs) {
			words = append(words, plaintext.Line(plaintext.Cut(string(v), 20)))
		}
	}
	never := plaintext.Line(plaintext.Cut(strings.Join(h.Never, " "), 300))
	c.agent.LastUpgrade = plaintext.Line(plaintext.Cut(h.Last, 300))
	c.agent.Version, c.agent.Verbs, c.agent.Never, c.agent.Frozen = plaintext.Line(plaintext.Cut(h.Version, 20)), strings.Join(words, " "), never, h.Frozen
	if c.agent.Trust = string(agentcalls.ByOperators); h.Trust == agentcalls.ByService {
		c.agent.Trust = string(agentcalls.ByService)
	}
	return nil
}

// claim makes a connection that of its instance's agent. One that is connected stays, if it answers: the second one is a copy, of the machine
// or of its key. If it does not, its connection is a dead one, and the agent has come back.
func (s *Service) claim(ctx context.Context, c *connection, from string) bool {
	s.mu.Lock()
	first := s.connected[c.agent.InstanceID]
	if first == nil {
		s.connected[c.agent.InstanceID] = c
	}
	s.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, helloLimit+pingLimit)
	defer cancel()
	if first != nil {
		limited, cancel := context.WithTimeout(ctx, pingLimit)
		alive := first.conn.Ping(limited) == nil
		cancel()
		if alive {
			name := fmt.Sprint(c.agent.InstanceID)
			if i, err := s.Store.InstanceByID(ctx, c.agent.InstanceID); err == nil {
				name = i.Name
			}
			if err := s.Store.RefuseAgent(ctx, first.agent, name, from); err != nil {
				s.Log.Warn("that a second agent came was not kept", "error", door.Words(err))
			}
			first.agent.RefusedAt, first.agent.RefusedFrom = new(time.Now()), from
			_ = refuse(ctx, c.conn, agentcalls.Second, "an agent with this key is connected from "+first.agent.Address+": this machine is a copy of that one, or has its key")
			return false
		}
		first.link.End(errors.New("it came back on another connection"))
		s.mu.Lock()
		taken := s.connected[c.agent.InstanceID] != first && s.connected[c.agent.InstanceID] != nil
		if !taken {
			s.connected[c.agent.InstanceID] = c
		}
		s.mu.Unlock()
		if taken {
			_ = refuse(ctx, c.conn, agentcalls.Second, "an agent with this key is connected")
			return false
		}
	}
	c.agent.Address = from
	text, err := json.Marshal(agentcalls.Welcome{Instance: c.agent.InstanceID})
	if err == nil {
		err = s.Store.AgentCame(ctx, c.agent)
	}
	if err == nil {
		err = c.conn.Write(ctx, websocket.MessageText, text)
	}
	if err != nil {
		s.mu.Lock()
		if s.connected[c.agent.InstanceID] == c {
			delete(s.connected, c.agent.InstanceID)
		}
		s.mu.Unlock()
		return false
	}
	s.Log.Info("an agent came", "instance", c.agent.InstanceID, "from", from)
	return true
}

// renew keeps who is connected, and ends the connections of which nothing was heard.
func (s *Service) renew(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(cmp.Or(s.RenewEvery, renewEvery)):
		}
		var here []int64
		s.mu.Lock()
		for id, c := range s.connected {
			if time.Since(time.Unix(c.heard.Load(), 0)) > silentLimit {
				c.link.End(errors.New("nothing was heard of it"))
				continue
			}
			here = append(here, id)
		}
		s.mu.Unlock()
		keys, err := s.Store.AgentKeys(ctx, here)
		if err == nil {
			err = s.Store.RenewAgents(ctx, here)
		}
		if err != nil {
			if ctx.Err() == nil {
				s.Log.Warn("which agents are connected was not kept", "error", door.Words(err))
			}
			continue
		}
		s.mu.Lock()
		for _, id := range here {
			if c := s.connected[id]; c != nil && keys[id] != c.agent.Fingerprint {
				c.link.End(errors.New("it is not the agent of its instance any more"))
			}
		}
		s.mu.Unlock()
	}
}

// Enroll makes a key that of an instance's agent. A former one's connection ends. FieldError, store.ErrAgentElsewhere, ErrOff.
func (s *Service) Enroll(ctx context.Context, by store.Actor, i store.Instance, line string) error {
	if s.Address == "" {
		return ErrOff
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
	if err != nil || key.Type() != ssh.KeyAlgoED25519 {
		return door.FieldError{Field: "public_key", Problem: "an agent's key is an ssh-ed25519 key"}
	}
	if err := s.Store.EnrollAgent(ctx, by, i, key.Marshal(), ssh.FingerprintSHA256(key)); err != nil {
		return err
	}
	s.end(i.ID, "another agent was enrolled for its instance")
	return nil
}

// Forget ends what an instance's agent is known by. store.ErrNotFound.
func (s *Service) Forget(ctx context.Context, by store.Actor, i store.Instance) error {
	if err := s.Store.ForgetAgent(ctx, by, i); err != nil {
		return err
	}
	s.end(i.ID, "it was forgotten")
	return nil
}

func (s *Service) end(instanceID int64, why string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if c := s.connected[instanceID]; c != nil {
		c.link.End(errors.New(why))
	}
}

// tokenLife is for how long a launch may take its token.
const tokenLife = time.Hour

// Token makes one that enrolls the agent of an instance, once and within the hour. It is told once; its hash is kept.
func (s *Service) Token(ctx context.Context, by store.Actor, i store.Instance) (string, error) {
	if s.Address == "" {
		return "", ErrOff
	}
	token := rand.Text() + rand.Text()
	sum := sha256.Sum256([]byte(token))
	return token, s.Store.AddAgentToken(ctx, by, i, sum[:], tokenLife)
}

// ask passes a call on, with what follows it, and reads the answer's result: here, or by the replica that is connected to the agent. ErrNone,
// ErrAway, Refused.
func (s *Service) ask(ctx context.Context, i store.Instance, call agentcalls.Call, limit time.Duration, follows io.Reader) (json.RawMessage, error) {
	result, err := s.askHere(ctx, i.ID, call, limit, follows)
	if !errors.Is(err, errNotHere) {
		return result, err
	}
	a, err := s.Store.AgentOf(ctx, i.ID)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return nil, ErrNone
	case err != nil:
		return nil, err
	case !a.Connected:
		return nil, ErrAway
	}
	if call.Request.Agent == "" {
		call.Request.Agent = a.Fingerprint
	}
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	return s.askElsewhere(ctx, i, call, limit, follows != nil)
}

// errNotHere: it is not connected to this replica.
var errNotHere = fmt.Errorf("%w to this replica of the service", ErrAway)

// askHere asks an agent that is connected to this replica. errNotHere.
func (s *Service) askHere(ctx context.Context, instanceID int64, call agentcalls.Call, limit time.Duration, follows io.Reader) (json.RawMessage, error) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	s.mu.Lock()
	c := s.connected[instanceID]
	s.mu.Unlock()
	if c == nil {
		return nil, errNotHere
	}
	if call.Request.Agent == "" {
		call.Request.Agent = c.agent.Fingerprint
	}
	head, err := json.Marshal(call)
	if err != nil {
		return nil, err
	}
	ch, err := c.link.Open(ctx, head)
	for errors.Is(err, reach.ErrLinkBusy) { // it has as many calls at hand as it takes, and is not away
		select {
		case <-ctx.Done():
			return nil, errors.New("the agent has as many calls at hand as it takes at one time: try again")
		case <-time.After(20 * time.Millisecond):
		}
		ch, err = c.link.Open(ctx, head)
	}
	if err != nil {
		return nil, errors.Join(ErrAway, err)
	}
	defer ch.Close()
	sent := make(chan error, 1)
	go func() { // one that wants none of it answers meanwhile
		var err error
		if follows != nil {
			_, err = io.Copy(ch, follows)
		}
		sent <- errors.Join(err, ch.CloseWrite())
	}()
	text, err := io.ReadAll(io.LimitReader(ch, maxAnswer))
	ch.Close()
	if wrong := <-sent; wrong != nil && len(text) == 0 && err == nil {
		err = wrong
	}
	if err != nil {
		return nil, fmt.Errorf("the agent's answer was not heard whole: %w", err)
	}
	var a agentcalls.Answer
	if err := json.Unmarshal(text, &a); err != nil {
		return nil, errors.New("the agent's answer is none, or longer than any")
	}
	var parts any
	if len(a.Result) > 0 && json.Unmarshal(a.Result, &parts) != nil {
		return nil, errors.New("the agent's answer is none")
	}
	found := false
	secrets.Each(&parts, func(_, text string) string {
		found = found || secrets.Holds(text)
		return text
	})
	if found || secrets.Holds(a.Said) {
		return nil, ErrSecret
	}
	if a.Code != "" {
		return nil, Refused{a.Code, plaintext.Line(plaintext.Cut(a.Said, 400))}
	}
	return a.Result, nil
}

// Look has an instance's agent look, and takes in what it saw: the agent's word, and its vantage says so. ErrNone, ErrAway, Refused,
// FieldError, store.ErrSurveying.
func (s *Service) Look(ctx context.Context, by store.Actor, i store.Instance) (wire.Survey, error) {
	since := time.Time{}
	log, err := s.Store.LogOf(ctx, i.ID)
	if err != nil {
		return wire.Survey{}, err
	}
	if log != nil {
		since = reach.LoginsSince(log.ReadAt)
	}
	args, err := json.Marshal(agentcalls.LookArgs{LoginsSince: since})
	if err != nil {
		return wire.Survey{}, err
	}
	result, err := s.ask(ctx, i, agentcalls.Call{Request: agentcalls.Request{Verb: agentcalls.Look, Instance: i.ID, Args: string(args), Nonce: rand.Text(),
		Until: time.Now().Add(lookLimit).Truncate(time.Second)}}, lookLimit, nil)
	if err != nil {
		return wire.Survey{}, err
	}
	var r wire.ClientSurvey
	if err := json.Unmarshal(result, &r); err != nil {
		return wire.Survey{}, errors.New("what the agent saw is no report")
	}
	return s.TakeClientSurvey(ctx, by, i, "the agent there", r)
}

// Call passes on a request that an operator signed, and journals it before and after. ErrNone, ErrAway, Refused, FieldError.
func (s *Service) Call(ctx context.Context, by store.Actor, i store.Instance, call agentcalls.Call) (json.RawMessage, error) {
	if _, err := call.Request.Text(); err != nil || !slices.Contains(agentcalls.Verbs, call.Request.Verb) || !call.Request.Verb.Changes() || call.Request.Instance != i.ID {
		return nil, door.FieldError{Field: "request", Problem: "it is no request to the agent of this instance that changes anything"}
	}
	if len(call.Request.Args) > 64<<10 || len(call.Signature) > 16<<10 {
		return nil, door.FieldError{Field: "request", Problem: "it is longer than any"}
	}
	return s.journaled(ctx, by, i, call.Request.Verb, plaintext.Line(plaintext.Cut(call.Request.Args, 300)), func() (json.RawMessage, error) {
		return s.ask(ctx, i, call, lookLimit, nil)
	})
}

// AddLine has an agent add a line on the service's own word, where its owner's file says that this is enough. refused: the agent said no.
func (s *Service) AddLine(ctx context.Context, i store.Instance, user, line string) (file string, refused bool, err error) {
	args, err := json.Marshal(agentcalls.EditArgs{User: user, Line: line})
	if err != nil {
		return "", false, err
	}
	call := agentcalls.Call{Request: agentcalls.Request{Verb: agentcalls.Edit, Instance: i.ID, Args: string(args), Nonce: rand.Text(),
		Until: time.Now().Add(lookLimit).Truncate(time.Second)}}
	result, err := s.journaled(ctx, store.Service, i, agentcalls.Edit, plaintext.Line(plaintext.Cut(string(args), 300)), func() (json.RawMessage, error) {
		return s.ask(ctx, i, call, lookLimit, nil)
	})
	var no Refused
	if err != nil {
		return "", errors.As(err, &no), err
	}
	var done agentcalls.Edited
	if json.Unmarshal(result, &done) != nil {
		return "", false, errors.New("the agent's answer is none")
	}
	return plaintext.Line(plaintext.Cut(done.File, 300)), false, nil
}

// journaled asks an agent for what changes something, with the journal before and after.
func (s *Service) journaled(ctx context.Context, by store.Actor, i store.Instance, verb agentcalls.Verb, words string, ask func() (json.RawMessage, error)) (json.RawMessage, error) {
	of, err := s.Store.AgentAsked(ctx, by, i, string(verb), words)
	if err != nil {
		return nil, err
	}
	result, err := ask()
	outcome := "done: " + plaintext.Line(plaintext.Cut(string(result), 300))
	if err != nil {
		outcome = "not known to be done: " + door.Words(err)
		var no Refused
		if errors.As(err, &no) || errors.Is(err, ErrNone) || errors.Is(err, ErrAway) {
			outcome = "not done: " + door.Words(err)
		}
	}
	// Whoever asked may be gone; what was done is kept all the same.
	limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), helloLimit)
	defer cancel()
	return result, errors.Join(err, s.Store.AgentAnswered(limited, by, i, string(verb), of, outcome))
}

// Of tells what is known of an instance's agent. store.ErrNotFound.
func (s *Service) Of(ctx context.Context, i store.Instance) (store.Agent, bool, error) {
	a, err := s.Store.AgentOf(ctx, i.ID)
	s.mu.Lock()
	here := s.connected[i.ID] != nil && a.ConnectedAt != nil // what has come is kept a moment later
	s.mu.Unlock()
	return a, here || a.Connected, err
}
