package routes

// boot-text: stopped, given user data that runs at boot and adds the line,
// started, and given its old user data back. No disk moves.
var _ = register(Route{
	Name:  "boot-text",
	About: "user data that runs at its next boot adds the new key",
	Steps: []Step{
		{"stop", "stop it"},
		{"set-text", "set user data that adds the new key's line at boot"},
		{"start", "start it"},
		{"put-text-back", "put the old user data back"},
	},
	Judge: func(f Facts, o *Offer) {
		f.stops(o)
		switch {
		case !f.InCloud:
		case !f.BootText:
			o.lack("", "this cloud runs no user data at boot, or does not let it be changed")
		case f.MissingRight["user-data"]:
			o.lack("", "our credentials at the cloud may not change its user data")
		case f.RootVolume == "":
			o.lack("", "no root volume is attached to it")
		}
		o.UntilIn = 2*f.Change + bootTime
		if f.State == "running" {
			o.Down = o.UntilIn
		}
		o.ToCheck = append(o.ToCheck, "that its image runs cloud-init's boot hooks: if it does not, the key is not "+
			"there, and everything goes back")
		if f.InCloud {
			o.Sure = "the cloud says so"
		}
	},
})
