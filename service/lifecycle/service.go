// Package lifecycle has the kinds of work that make an instance and end it: launch, adopt,
// stop, start and remove.
package lifecycle

import (
	"context"

	"plumlatch/core/cloudconfig"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/survey"
)

// Service launches, adopts, stops, starts and removes instances.
type Service struct {
	*survey.Service
	Agents Enroller
}

// Enroller gives a launch what enrolls its instance's agent.
type Enroller interface {
	// ForLaunch is what first boot needs, without the token and the owner's file; an error if the service takes no agents.
	ForLaunch(context.Context, cloud.Driver) (cloudconfig.Agent, error)
	// LaunchToken makes the token of a launch: always the same one.
	LaunchToken(context.Context, store.Work, store.Instance) (string, error)
}

// Kinds are the kinds of work of this package.
func (w *Service) Kinds() []*door.Kind {
	return append(door.Plain(w.launchKind(), w.adoptKind(), w.adoptManyKind(), w.stopKind(), w.startKind(), w.removeKind()),
		w.adoptFoundKind())
}
