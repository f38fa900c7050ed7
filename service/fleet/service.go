// Package fleet has the kinds of work that take many instances, in waves: each instance is
// a piece of work of its own, and the next wave begins when the one before is shown to work.
package fleet

import (
	"plumlatch/service/keylists"
	"plumlatch/service/restore"
)

// Service takes many instances.
type Service struct {
	*restore.Service
	KeyLists *keylists.Service
}
