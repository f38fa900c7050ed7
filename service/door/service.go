// Package door is the way into an instance: the target and the probe that asks its server,
// the steward's session, the files of keys and their safe edit, the guard that permits it, and
// the calls of the cloud, asked again until they answer.
//
// A kind of work belongs to a family, which is a type that embeds Job: its steps are methods of
// that, and Family binds them to the engine. Start with Job, then with Run, which is what every
// step has in hand. Only this package obtains the permits that package reach demands.
package door

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"strings"
	"sync"
	"time"

	"plumlatch/core/access"
	"plumlatch/reach"
	"plumlatch/service/atrest"
	"plumlatch/service/cloud"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// Service carries out work. Its fields are set once, before Start.
type Service struct {
	Store  *store.Store
	Clouds *cloud.Set
	Reach  reach.Policy
	Cipher *atrest.Cipher
	Log    *slog.Logger
	// Lease is how long a claim lasts unless it is renewed, which it is all the
	// time; 15 s if 0. All replicas on one database have the same.
	Lease time.Duration
	// StateLimit is how long an instance may take to reach a state; 5 min if 0.
	StateLimit time.Duration
	// FollowEvery is how often the cloud is asked what has changed without us; 30 s if 0, never if negative.
	FollowEvery time.Duration
	// Halt is work.Engine.Halt: nil in production.
	Halt func(point string)
	// Heads signs the heads of the journal.
	Heads *atrest.Heads
	// Over, if it is not nil, gives the way to an instance's SSH server that needs no inbound rule: through its agent. nil if there is none.
	Over func(i store.Instance) func(ctx context.Context) (net.Conn, error)

	settling   sync.Map // work ID to where the result of its last look comes (chan error)
	policyMu   sync.Mutex
	policyHeld access.Policy
	policyAt   time.Time
	prices     prices

	kinds  []*Kind
	Engine *work.Engine
}

// Limits.
const (
	StateLimit = 5 * time.Minute
	bootLimit  = 2 * time.Minute
	Poll       = 200 * time.Millisecond
)

// CloudOf is the cloud that an instance is in. One that was adopted by its address is in none that is known: what is asked of it there
// is cloud.ErrNotFound.
func (w *Service) CloudOf(i store.Instance) cloud.Driver { return w.Clouds.Named(i.Cloud) }

// Look has the engine look for work at once.
func (w *Service) Look() { w.Engine.Look() }

// Base ends when the worker is closed.
func (w *Service) Base() context.Context { return w.Engine.Base() }

// FieldError says which field of a request is wrong, and what there is instead.
type FieldError struct {
	Field   string
	Problem string
	Choices []string
	Code    string // for programs; one of the Field constants of wire, "" mostly
}

// Error returns the problem and the choices.
func (e FieldError) Error() string {
	if len(e.Choices) == 0 {
		return e.Problem
	}
	return e.Problem + "; there are: " + strings.Join(e.Choices, ", ")
}

// Begun is a piece of work of a kind that is to be recorded: input is kept as JSON, intent
// stands in the journal.
func (w *Service) Begun(k *Kind, title, tok string, i store.Instance, intent string, input any) store.NewWork {
	n := store.NewWork{Kind: k.Name, Title: title, Token: tok, Changing: k.Changing, Input: input, Steps: k.Plan(),
		Action: k.Action, Target: "instance " + i.Name, Intent: intent}
	if in, ok := input.(interface{ Keys() (taken, added int64) }); ok {
		n.OldKeyID, n.NewKeyID = in.Keys()
	}
	return n
}

// Cancel asks that a piece of work go back. store.ErrWorkState if it is over;
// a FieldError if it has passed the point from which it cannot.
func (w *Service) Cancel(ctx context.Context, by store.Actor, at store.Work) error {
	err := w.Engine.Cancel(ctx, by, at)
	if e, ok := errors.AsType[work.ErrNoReturn](err); ok {
		return FieldError{Field: "state", Problem: e.Error()}
	}
	return err
}

// Retry takes up a piece of work again that failed, was cancelled or is stuck.
// store.ErrWorkState, store.ErrInProgress.
func (w *Service) Retry(ctx context.Context, by store.Actor, at store.Work) error {
	if at.InstanceID != 0 {
		i, err := w.Store.InstanceByID(ctx, at.InstanceID)
		if err != nil {
			return err
		}
		if i.Phase == store.Removed {
			return FieldError{Field: "state", Problem: "its instance is gone; begin anew"}
		}
	}
	return w.Engine.Retry(ctx, by, at)
}
