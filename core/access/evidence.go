// Package access holds the ledger's reasoning: how we know that a key opens an
// instance, and how much that is worth now.
package access

import (
	"fmt"
	"path"
	"time"
)

// Kind is a kind of evidence. The kinds are ordered: a greater one says more.
type Kind int

// The kinds of evidence. None is no evidence at all.
const (
	None     Kind = iota
	Placed        // we wrote it
	Seen          // read in the file that this server reads
	Accepted      // the server said that it would take the key
	Proven        // a login with it succeeded
)

var kindNames = [...]string{"none", "placed", "seen", "accepted", "proven"}

// String returns the word for the kind.
func (k Kind) String() string {
	if k < 0 || int(k) >= len(kindNames) {
		return fmt.Sprintf("Kind(%d)", int(k))
	}
	return kindNames[k]
}

// ParseKind reads the word for a kind.
func ParseKind(s string) (Kind, error) {
	for i, n := range kindNames {
		if n == s {
			return Kind(i), nil
		}
	}
	return None, fmt.Errorf("unknown kind of evidence; there are placed, seen, accepted, proven")
}

// NoLoginShell tells whether a shell is one that ends every session at once.
func NoLoginShell(shell string) bool {
	switch path.Base(shell) {
	case "nologin", "false", "true", "sync", "halt", "shutdown":
		return true
	}
	return false
}

// Observation is one thing that was found out about an access.
type Observation struct {
	Kind     Kind
	Positive bool      // true: it was so; false: it was looked for and was not so
	At       time.Time // when
	Vantage  string    // the address that asked, or who wrote
	Document string    // SHA-256 of the file it was made on, in hex; may be empty
}

// Record keeps, for one access, the last positive and the last negative
// observation of each kind.
type Record struct {
	positive [len(kindNames)]Observation
	negative [len(kindNames)]Observation
}

// Add puts an observation in its place, unless a later one stands there.
func (r *Record) Add(o Observation) {
	if o.Kind <= None || o.Kind > Proven {
		return
	}
	place := &r.negative[o.Kind]
	if o.Positive {
		place = &r.positive[o.Kind]
	}
	if place.Kind == None || !o.At.Before(place.At) {
		*place = o
	}
}

// Standing is what the ledger shows for one access.
type Standing struct {
	Shown Observation // its Kind is None if there is nothing to show
	Old   bool        // something changed since: it is no longer known to hold
	// Against is the latest negative observation later than Shown, of whatever
	// kind; its Kind is None if there is none.
	Against Observation
}

// Standing weighs the record. changed is when the file was last written, or
// another host key, address or instance came to stand behind the name; what
// was observed before it is old. Shown is the strongest positive observation
// that is not old and that nothing later contradicts; failing that the
// strongest old one.
func (r *Record) Standing(changed time.Time) Standing {
	var best Standing
	for k := Proven; k > None; k-- {
		o := r.positive[k]
		if o.Kind == None || r.contradicted(o) {
			continue
		}
		s := Standing{Shown: o, Old: o.At.Before(changed)}
		if best.Shown.Kind == None || best.Old && !s.Old {
			best = s
		}
	}
	for _, o := range r.negative {
		if o.Kind != None && o.At.After(best.Shown.At) && o.At.After(best.Against.At) {
			best.Against = o
		}
	}
	return best
}

// contradicted tells whether a later negative observation takes o's ground
// away. A refusal says nothing against "it was written", but whoever looked
// into the file and did not find the key has shown that it is gone.
func (r *Record) contradicted(o Observation) bool {
	for _, n := range r.negative {
		if n.Kind == None || !n.At.After(o.At) {
			continue
		}
		if n.Kind <= o.Kind || n.Kind == Seen {
			return true
		}
	}
	return false
}

// LastPositive returns when something was last observed to hold, the zero time
// if it never was.
func (r *Record) LastPositive(k Kind) time.Time {
	if k <= None || k > Proven {
		return time.Time{}
	}
	return r.positive[k].At
}
