// Package network has the kinds of work on what leads to an instance: inbound rules and
// static addresses; and the host keys by which an instance is known.
package network

import (
	"plumlatch/service/door"
	"plumlatch/service/survey"
)

// Service changes inbound rules, addresses and host keys.
type Service struct {
	*survey.Service
}

// Kinds are the kinds of work of this package.
func (w *Service) Kinds() []*door.Kind {
	return door.Plain(w.admitKind(), w.unadmitKind(), w.reserveKind(), w.moveKind(), w.releaseKind())
}
