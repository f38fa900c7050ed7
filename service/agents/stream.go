package agents

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"io"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"plumlatch/core/agentcalls"
	"plumlatch/core/plaintext"
	"plumlatch/core/secrets"
	"plumlatch/reach"
	"plumlatch/service/store"
)

// maxBegins is the longest answer before a stream's bytes.
const maxBegins = 2 << 10

// Streams tells whether the agent of an instance is connected to this replica, and its owner's file opens stream to it.
func (s *Service) Streams(instanceID int64) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	c := s.connected[instanceID]
	return c != nil && slices.Contains(strings.Fields(c.agent.Verbs), string(agentcalls.Stream))
}

// StreamsElsewhere tells whether it is connected to another replica, and would carry streams.
func (s *Service) StreamsElsewhere(ctx context.Context, i store.Instance) bool {
	a, err := s.Store.AgentOf(ctx, i.ID)
	return err == nil && a.Connected && slices.Contains(strings.Fields(a.Verbs), string(agentcalls.Stream)) && !s.Streams(i.ID)
}

// Stream has an instance's agent connect to the SSH server of its machine, and returns that connection and the address that the server sees. It ends with ctx.
// ErrAway, Refused.
func (s *Service) Stream(ctx context.Context, i store.Instance) (conn net.Conn, from string, err error) {
	s.mu.Lock()
	c := s.connected[i.ID]
	s.mu.Unlock()
	if c == nil {
		return nil, "", errNotHere
	}
	head, err := json.Marshal(agentcalls.Call{Request: agentcalls.Request{Verb: agentcalls.Stream, Instance: i.ID, Agent: c.agent.Fingerprint, Args: "{}", Nonce: rand.Text(),
		Until: time.Now().Add(time.Minute).Truncate(time.Second)}})
	if err != nil {
		return nil, "", err
	}
	ch, err := c.link.Open(ctx, head)
	if err != nil {
		return nil, "", errors.Join(ErrAway, err)
	}
	late := time.AfterFunc(helloLimit, ch.Close)
	var line []byte
	for one := make([]byte, 1); ; { // what comes after the line is the server's
		if _, err = io.ReadFull(ch, one); err != nil || one[0] == '\n' {
			break
		}
		if line = append(line, one[0]); len(line) > maxBegins {
			err = errors.New("the agent's answer is none")
			break
		}
	}
	if !late.Stop() && err == nil {
		err = errors.New("the agent does not answer")
	}
	var a agentcalls.Answer
	var begins agentcalls.StreamBegins
	if err == nil || errors.Is(err, io.EOF) && len(line) > 0 {
		switch {
		case secrets.Holds(string(line)):
			err = ErrSecret
		case json.Unmarshal(line, &a) != nil:
			err = errors.New("the agent's answer is none")
		case a.Code != "":
			err = Refused{a.Code, plaintext.Line(plaintext.Cut(a.Said, 400))}
		case json.Unmarshal(a.Result, &begins) != nil:
			err = errors.New("the agent's answer is none")
		}
	}
	if err == nil {
		var at netip.Addr
		if at, err = netip.ParseAddr(begins.From); err != nil {
			err = errors.New("the agent's answer is none")
		}
		from = at.String()
	}
	if err != nil {
		ch.Close()
		return nil, "", err
	}
	return overAgent{ch, &net.TCPAddr{IP: net.ParseIP(from)}}, from, nil
}

// Over is the way to an instance's SSH server through its agent, nil if that does not carry streams.
func (s *Service) Over(i store.Instance) func(context.Context) (net.Conn, error) {
	if !s.Streams(i.ID) {
		return nil
	}
	return func(ctx context.Context) (net.Conn, error) {
		conn, _, err := s.Stream(ctx, i)
		return conn, err
	}
}

// overAgent is a connection that an agent carries.
type overAgent struct {
	*reach.Channel
	from net.Addr
}

func (o overAgent) Close() error {
	o.Channel.Close()
	return nil
}

// LocalAddr is the address that the server sees.
func (o overAgent) LocalAddr() net.Addr { return o.from }

// What net.Conn has besides: the far end has an address for the agent alone, and whoever needs a deadline ends the connection.

func (overAgent) RemoteAddr() net.Addr             { return &net.TCPAddr{} }
func (overAgent) SetDeadline(time.Time) error      { return errors.ErrUnsupported }
func (overAgent) SetReadDeadline(time.Time) error  { return errors.ErrUnsupported }
func (overAgent) SetWriteDeadline(time.Time) error { return errors.ErrUnsupported }
