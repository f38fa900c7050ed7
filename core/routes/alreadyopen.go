package routes

import (
	"strings"
	"time"
)

// already-open: a login without any key that a survey found on. It is used once,
// by the engineer, to place the new key; the password does not leave that machine.
var _ = register(Route{
	Name:  "already-open",
	About: "its server offers another login than by key, which the engineer uses once",
	Steps: []Step{{"by-hand", "the engineer logs in without a key, once, and adds the new one (plumlatch work " +
		"here)"}},
	Judge: func(f Facts, o *Offer) {
		if f.State != "running" {
			o.lack("plumlatch instance start "+f.Instance, "it is %s", f.State)
		}
		if len(f.Offered) == 0 {
			if f.OfferedAt.IsZero() {
				o.lack("plumlatch survey "+f.Instance+" -outside",
					"nobody has looked yet which logins its server offers")
			} else {
				o.lack("", "its server offers no login but by key (%s)", f.sure(f.OfferedAt))
			}
			return
		}
		o.People = "whoever knows the password of " + f.LoginUser
		o.UntilIn = time.Minute
		o.Sure = f.sure(f.OfferedAt) + "; that a password is set is not seen"
		o.ToCheck = append(o.ToCheck, "whether "+strings.Join(f.Offered, " and ")+" should stay on")
	},
})

// bootTime is how long a server takes to come up, once the cloud says that it runs.
const bootTime = 20 * time.Second
