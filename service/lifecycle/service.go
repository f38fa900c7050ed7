// Package lifecycle has the kinds of work that make an instance and end it: launch, adopt,
// stop, start and remove.
package lifecycle

import (
	"plumlatch/service/door"
	"plumlatch/service/survey"
)

// Service launches, adopts, stops, starts and removes instances.
type Service struct {
	*survey.Service
}

// Kinds are the kinds of work of this package.
func (w *Service) Kinds() []*door.Kind {
	return append(door.Plain(w.launchKind(), w.adoptKind(), w.adoptManyKind(), w.stopKind(), w.startKind(), w.removeKind()),
		w.adoptFoundKind())
}
