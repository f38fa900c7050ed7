package routes

import (
	"slices"
	"strings"
	"time"
)

// Sets is what a cloud says of an agent of its own that sets keys on its instances.
type Sets struct {
	Images  []string      // that carry it; nil for all
	Takes   time.Duration // until a key that was asked for is there
	Grant   string        // what has to be granted first, in words; "" for nothing
	Granted time.Duration // how long that takes to hold, once it is granted
	Once    bool          // it adds the key's line once; else it places it again and again
}

// cloud-agent: some images carry an agent of the cloud's own, by which the cloud sets keys. Nothing is stopped, and nobody has to log in first.
var _ = register(Route{
	Name:  "cloud-agent",
	About: "the cloud's own agent there sets the new key",
	Steps: []Step{{"set-key", "have the cloud set the new key by its own agent"}},
	Judge: func(f Facts, o *Offer) {
		s := f.Sets
		switch {
		case !f.InCloud:
			o.lack("", "no cloud of ours is behind it: nobody sets a key there")
		case s == nil:
			o.lack("", "this cloud has no agent that sets keys")
		case f.Image != "" && len(s.Images) > 0 && !slices.Contains(s.Images, f.Image):
			o.lack("", "the cloud's own agent is not on its image (%s)", f.Image)
		case f.MissingRight["set-keys"]:
			what := "our credentials at the cloud may not set keys on it"
			if s.Grant != "" {
				what += ": grant " + s.Grant
			}
			if s.Granted > 0 {
				what += ", which holds after about " + strings.TrimSuffix(s.Granted.String(), "0s")
			}
			o.lack("", "%s", what)
		case f.State != "running":
			o.lack("plumlatch instance start "+f.Instance, "it is %s", f.State)
		}
		if s != nil {
			o.UntilIn = s.Takes
		}
		if s != nil && s.Once {
			o.NotOurs = true
			o.Changes = append(o.Changes, "its file of keys is written by the cloud's agent, and not by an edit of ours: on some machines that puts another file in its place",
				"the new key's line is one as any other afterwards")
			o.ToCheck = append(o.ToCheck, "that the cloud's agent runs there: if it does not, nothing is added")
		} else {
			o.Changes = append(o.Changes, "the cloud keeps the new key for it, and its agent places it again and again until it is taken off (plumlatch access remove)")
			o.ToCheck = append(o.ToCheck, "that the cloud's agent runs there: if it does not, the key is not taken, and the cloud keeps it no more")
		}
		if f.InCloud {
			o.Sure = "the cloud says so"
		}
	},
})
