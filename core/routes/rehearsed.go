package routes

import (
	"cmp"
	"fmt"
	"slices"
	"time"
)

// Rehearsed is what it came to when a route was carried out on a copy.
type Rehearsed struct {
	Route    string
	Work     int64
	At       time.Time
	Good     bool          // somebody would have been in, and what worked before worked there
	In, Down time.Duration // as measured; Down is part of In
	Said     string        // why it was not good
}

// Rehearsable are the routes that need nobody's hand, so that they can be carried out on a copy which nobody else reaches.
var Rehearsable = []string{"steward", "boot-text", "disk", copyName}

// ByHand are those that whoever asks for the rehearsal lends a hand to, from the machine that is let in to the copy. They are rehearsed
// where somebody asks for them by name.
var ByHand = []string{"lent-key", "second-key"}

// copyName is the route that is rehearsed by making the copy: its address is not moved then.
const copyName = "copy"

// rehearsed puts what was measured in the place of an estimate: what this instance's own rehearsal took, or the middle of what
// those of others with its image took.
func (f Facts) rehearsed(o *Offer) {
	if n := slices.IndexFunc(f.Rehearsed, func(r Rehearsed) bool { return r.Route == o.Route }); n >= 0 {
		r := f.Rehearsed[n]
		o.Rehearsed = &r
		if !r.Good {
			o.ToCheck = append(o.ToCheck, fmt.Sprintf("its rehearsal %s failed: %s", Ago(f.Now.Sub(r.At)), r.Said))
			return
		}
		o.measured(r.In, r.Down)
		o.Sure = "rehearsed " + Ago(f.Now.Sub(r.At)) + ": " + r.Words()
		return
	}
	var in, down []time.Duration
	for _, r := range f.Alike {
		if r.Route == o.Route && r.Good {
			in, down = append(in, r.In), append(down, r.Down)
		}
	}
	if len(in) == 0 {
		return
	}
	o.measured(middle(in), middle(down))
	o.Sure += fmt.Sprintf("; how long: by %d of others with its image", len(in))
}

// measured takes times that were measured on one that ran. One that is stopped is not down by it.
func (o *Offer) measured(in, down time.Duration) {
	o.UntilIn = in
	if o.Down > 0 && o.Route != copyName {
		o.Down = down
	}
}

// Words says how a good one went.
func (r Rehearsed) Words() string {
	down := "no downtime"
	if r.Route == copyName {
		down = "the move of its address apart"
	} else if s := seconds(r.Down); s > 0 {
		down = fmt.Sprintf("down %d s", s)
	}
	return fmt.Sprintf("in after %d s, %s", seconds(r.In), down)
}

// seconds rounds up: a downtime of less than a second is one.
func seconds(d time.Duration) int { return int((d + time.Second - 1) / time.Second) }

func middle(all []time.Duration) time.Duration {
	slices.SortFunc(all, cmp.Compare[time.Duration])
	return all[len(all)/2]
}
