package routes

import (
	"slices"
	"time"
)

// lent-key: the cloud's own agent takes a key for a minute, and the engineer comes in by it and adds the new one.
// Nothing is stopped. The pair is made for that minute on the engineer's machine, and forgotten.
var _ = register(Route{
	Name:  "lent-key",
	About: "the cloud lets in by a key for a minute, and the engineer adds the new one",
	Steps: []Step{{"lent", "have the cloud take a key made for this minute, log in by it, and add the new key " +
		"(plumlatch work here)"}},
	Judge: func(f Facts, o *Offer) {
		switch {
		case !f.InCloud:
			o.lack("", "no cloud of ours is behind it: nobody can lend a key")
		case f.Lends == 0:
			o.lack("", "this cloud lends no keys")
		case f.Image != "" && len(f.LendImages) > 0 && !slices.Contains(f.LendImages, f.Image):
			o.lack("", "the cloud's agent is not on its image (%s)", f.Image)
		case f.MissingRight["lend"]:
			o.lack("", "our credentials at the cloud may not have it lend a key")
		case f.State != "running":
			o.lack("plumlatch instance start "+f.Instance, "it is %s", f.State)
		case !f.HostKeys:
			o.lack("plumlatch instance host-key "+f.Instance, "no host key of it is known: whoever logs in could not tell "+
				"whether it is the one")
		}
		if f.LendStays {
			o.NotOurs = true
			o.Changes = append(o.Changes, "the lent key's line, with its end, is written into the file of keys by the cloud's agent, and not by an edit of ours: on some machines that "+
				"puts another file in its place; the steward takes the line out after its end")
		}
		o.People = "your client, which logs in by it"
		o.UntilIn = min(f.Lends, 20*time.Second)
		o.Changes = append(o.Changes, "an inbound rule lets your machine in meanwhile, for ten minutes at most, if none does")
		o.ToCheck = append(o.ToCheck, "that the cloud's agent runs there: if it does not, the key is not taken, and nothing "+
			"was changed")
		if f.InCloud {
			o.Sure = "the cloud says so"
		}
	},
})
