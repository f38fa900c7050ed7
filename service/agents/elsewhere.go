package agents

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"plumlatch/core/agentcalls"
	"plumlatch/service/door"
	"plumlatch/service/store"
)

// An agent is connected to one replica of the service. What another one is asked for goes through the database, to the replica that has the
// connection, and the answer comes back in the same way.

// Times of that.
var (
	lookForCalls = 250 * time.Millisecond
	lookForIt    = 100 * time.Millisecond
	takenWithin  = 10 * time.Second // a replica that has the connection takes a call long before
)

// Outcomes of a call by another replica.
const (
	elsewhereDone    = "done"
	elsewhereRefused = "refused"
	elsewhereAway    = "away"
	elsewhereSecret  = "secret"
	elsewhereFailed  = "failed"
)

// askElsewhere has the replica that is connected to an agent ask it.
func (s *Service) askElsewhere(ctx context.Context, i store.Instance, call agentcalls.Call, limit time.Duration, program bool) (json.RawMessage, error) {
	text, err := json.Marshal(call)
	if err != nil {
		return nil, err
	}
	id, err := s.Store.PutAgentCall(ctx, i.ID, text, program, limit)
	if err != nil {
		return nil, err
	}
	defer func() { // whoever asked may be gone
		limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), helloLimit)
		defer cancel()
		if err := s.Store.DropAgentCalls(limited, id); err != nil {
			s.Log.Warn("a call to an agent was not taken away", "error", door.Words(err))
		}
	}()
	for asked := time.Now(); ; {
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(lookForIt):
		}
		a, err := s.Store.AgentAnswer(ctx, id)
		switch {
		case err != nil:
			return nil, err
		case a.Outcome == elsewhereDone:
			return a.Result, nil
		case a.Outcome == elsewhereRefused:
			return nil, Refused{agentcalls.Code(a.Code), a.Said}
		case a.Outcome == elsewhereAway:
			return nil, ErrAway
		case a.Outcome == elsewhereSecret:
			return nil, ErrSecret
		case a.Outcome != "":
			return nil, errors.New(a.Said)
		case !a.Taken && time.Since(asked) > takenWithin:
			return nil, fmt.Errorf("%w: the replica of the service that had it does not answer", ErrAway)
		}
	}
}

// takeCalls makes the calls that other replicas ask for, to the agents that are connected here.
func (s *Service) takeCalls(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(lookForCalls):
		}
		s.mu.Lock()
		none := len(s.connected) == 0
		s.mu.Unlock()
		if none {
			continue
		}
		waiting, err := s.Store.AgentCallsWaiting(ctx)
		if err != nil {
			if ctx.Err() == nil {
				s.Log.Warn("what other replicas ask of agents was not read", "error", door.Words(err))
			}
			continue
		}
		for _, w := range waiting {
			s.mu.Lock()
			here := s.connected[w.InstanceID] != nil && !s.closed
			if here {
				s.done.Add(1)
			}
			s.mu.Unlock()
			if !here {
				continue
			}
			go func() {
				defer s.done.Done()
				if err := s.takeCall(ctx, w.ID); err != nil && !errors.Is(err, store.ErrNotFound) && ctx.Err() == nil {
					s.Log.Warn("a call to an agent for another replica", "error", door.Words(err))
				}
			}()
		}
	}
}

func (s *Service) takeCall(ctx context.Context, id int64) error {
	w, err := s.Store.TakeAgentCall(ctx, id)
	if err != nil {
		return err
	}
	var call agentcalls.Call
	var follows io.Reader
	if err = json.Unmarshal(w.Call, &call); err == nil && w.Program {
		var f *os.File
		if f, err = s.sameProgram(call); err == nil {
			defer f.Close()
			follows = f
		}
	}
	answer := store.AgentAnswer{Outcome: elsewhereDone}
	if err == nil {
		var result json.RawMessage
		result, err = s.askHere(ctx, w.InstanceID, call, time.Duration(w.Left*float64(time.Second)), follows)
		answer.Result = result
	}
	if err != nil {
		answer = store.AgentAnswer{Outcome: elsewhereFailed, Said: door.Words(err)}
		var no Refused
		switch {
		case errors.As(err, &no):
			answer.Outcome, answer.Code, answer.Said = elsewhereRefused, string(no.Code), no.Said
		case errors.Is(err, ErrAway):
			answer.Outcome = elsewhereAway
		case errors.Is(err, ErrSecret):
			answer.Outcome = elsewhereSecret
		}
	}
	limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), helloLimit)
	defer cancel()
	return s.Store.AnswerAgentCall(limited, id, answer)
}

// sameProgram opens the program that a call is about, if it is the one that this replica has.
func (s *Service) sameProgram(call agentcalls.Call) (*os.File, error) {
	p, err := s.offered()
	if err != nil {
		return nil, err
	}
	if p == nil || p.release == nil {
		return nil, noRelease(p)
	}
	args, err := json.Marshal(p.release)
	if err != nil {
		return nil, err
	}
	if !bytes.Equal(args, []byte(call.Request.Args)) {
		return nil, errors.New("the replicas of the service have different programs of the agent: give them the same one")
	}
	return os.Open(s.Program)
}
