// Package accesses has the kinds of work that change which keys open one instance: rotate,
// share, withdraw, extend, and the replacement of the steward's own key.
package accesses

import (
	"plumlatch/service/door"
	"sync"

	"plumlatch/service/survey"
)

// Service changes which keys open an instance.
type Service struct {
	*survey.Service

	images sync.Map // region to what its catalogue was a while ago
}

// Kinds are the kinds of work of this package.
func (w *Service) Kinds() []*door.Kind {
	return door.Plain(w.rotateKind(), w.accessAddKind(), w.accessRemoveKind(), w.accessExtendKind(), w.accessPlaceKind(), w.stewardKind(),
		w.accessSettleKind(), w.accessEndKind())
}
