package routes

import "time"

// steward: the service's own key still opens it, and adds the new one by the safe
// edit. Nothing is stopped, and nobody else is needed.
var _ = register(Route{
	Name:  "steward",
	About: "the service's own key still opens it, and adds the new one",
	Steps: []Step{{"place", "add the new key's line by the service's own key"}},
	Judge: func(f Facts, o *Offer) {
		o.UntilIn = 5 * time.Second
		switch {
		case f.Steward == nil:
			o.lack("plumlatch instance adopt "+f.Instance+" ...",
				"it has no steward: the service's own key was never placed")
		case f.State != "running":
			o.lack("plumlatch instance start "+f.Instance, "it is %s", f.State)
		case !f.Steward.Accepted || f.Steward.Old && !f.Measured:
			o.lack("plumlatch survey "+f.Instance+" -outside", "the service's own key is not known to be accepted")
		default:
			o.Sure = f.sure(f.Steward.At)
		}
	},
})
