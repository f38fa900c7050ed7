// Package restore lets people into an instance again whose private key is gone. Each route
// of core/routes is a kind of work; its table is made of the steps of the route's way.
package restore

import (
	"context"

	"plumlatch/service/accesses"
	"plumlatch/service/lifecycle"
	"plumlatch/service/network"
	"plumlatch/service/store"
)

// Service restores access.
type Service struct {
	*accesses.Service
	Lifecycle *lifecycle.Service
	Network   *network.Service
	Agents    Adder
}

// Adder has an instance's agent add a line to a user's file of keys on the service's own word, where its owner's file says that this is enough.
type Adder interface {
	// AddLine returns the file. A line that stands there is not added again. Refused says that the agent said no, which trying again does not change.
	AddLine(ctx context.Context, i store.Instance, user, line string) (file string, refused bool, err error)
}
