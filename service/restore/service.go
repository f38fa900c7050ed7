// Package restore lets people into an instance again whose private key is gone. Each route
// of core/routes is a kind of work; its table is made of the steps of the route's way.
package restore

import (
	"plumlatch/service/accesses"
	"plumlatch/service/lifecycle"
	"plumlatch/service/network"
)

// Service restores access.
type Service struct {
	*accesses.Service
	Lifecycle *lifecycle.Service
	Network   *network.Service
}
