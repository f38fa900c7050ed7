// Package inside has the kinds of work that change an instance from within: done there by an engineer's session, which has sudo where the
// service's own key has not. The service knows of it before it begins, says whether it may, and looks at what came of it.
package inside

import (
	"plumlatch/service/accesses"
	"plumlatch/service/door"
)

// Service has what is changed from within.
type Service struct {
	*accesses.Service
}

// Kinds are the kinds of work of this package.
func (w *Service) Kinds() []*door.Kind { return door.Plain(w.loginsKind(), w.userKind()) }
