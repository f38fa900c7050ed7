package routes

import "time"

// copy: an image of the instance as it is, a copy from it with the new key, and then its address. The old one is kept stopped
// for a time: going back until then is one cancel. For the day when nothing else is open.
var _ = register(Route{
	Name:  "copy",
	About: "a copy is launched from an image of it, with the new key, and takes its place and its address",
	Whole: true,
	Steps: []Step{
		{"stop", "stop it, if the image is to be of one at rest"},
		{"image", "make an image of its root volume"},
		{"again", "start it again, if it was stopped for that"},
		{"launch", "launch a copy from that, with the new key: nothing leads out of it, where the cloud can do that, and only the service and you get in"},
		{"known", "learn the copy's host key from its first boot, and see that it takes the new key"},
		{"enable", "start and enable there what ran on it and does not come up, if that is wanted"},
		{"compare", "compare what ran on it with what runs on the copy, and run its checks there"},
		{"move", "let the copy take its place: its static address moves"},
		{"accept", "ask the server whether it takes the new key"},
		{"checks", "run the instance's own checks"},
		{"login", "a login with the new key from the engineer's machine"},
		{"withdraw", "withdraw the lost key wherever it stands, and see it refused"},
		{"rules", "give the copy the inbound rules that the old one has"},
		{"rest", "stop the old one, and keep it for the time that was chosen"},
		{"tidy", "see that nothing is left open behind"},
	},
	Judge: func(f Facts, o *Offer) {
		switch {
		case !f.InCloud:
			o.lack("", "no cloud of ours is behind it: nobody can make an image of it")
		case !f.Images:
			o.lack("", "this cloud makes no images of instances")
		case !f.Shuts:
			o.lack("", "this cloud cannot begin a copy shut: the lost key would open it, and its jobs would run twice")
		case f.MissingRight["images"]:
			o.lack("", "our credentials at the cloud may not make images of it")
		case f.RootVolume == "":
			o.lack("", "no root volume is attached to it")
		case f.StopDestroys != "":
			o.lack("", "its group would have one member too many, and stopping it would be its end: %s", f.StopDestroys)
		case f.MissingRight["stop"] || f.MissingRight["start"]:
			o.lack("", "our credentials at the cloud may not stop it, or may not start it")
		case f.State != "running" && f.State != "stopped":
			o.lack("", "it is %s", f.State)
		case f.State == "running" && !f.ImagesRunning:
			o.lack("plumlatch instance stop "+f.Instance, "this cloud makes images of stopped instances alone")
		case !f.Service.IsValid():
			o.lack("", "the service does not know the address that it asks from, and could not be let in to the copy alone "+
				"(plumlatchd serve -dial-from ADDRESS)")
		}
		if f.Asks != "" {
			o.Changes = append(o.Changes, "the copy's boot waits for somebody at the copy's console, as its own does; how to answer is said as soon as it is there")
		}
		o.UntilIn = f.ImageTime + 2*f.Change + 2*bootTime
		if f.State == "running" && f.Static && !f.Fixed {
			o.Down = moveTime
		}
		o.People = "a word, before the old one is removed"
		o.Charges = append(o.Charges, Charge{"the old one's volume, for each week that it is kept", f.KeepWeek, f.Currency})
		o.Changes = append(o.Changes, "another machine: its host keys and private address are new; its machine-id is the old one's, as its image carries it", "what its image carries "+
			"stands twice: secrets, registrations and licences",
			map[bool]string{false: "login by password is off on it, as on every instance that the service launches",
				true: "it has a first password of its own, encrypted to the new key"}[f.Desktop])
		if f.Shuts && !f.ShutsOut {
			o.Changes = append(o.Changes, "this cloud cannot shut the way out of a copy: its jobs run beside those of the old one until that is stopped")
		}
		if !f.Static || f.Fixed {
			o.Changes = append(o.Changes, "its address is another one: whoever has it written down must be told")
		}
		if f.State == "running" {
			o.CanBeLost = append(o.CanBeLost, "what is written on it after the image is made", "what its processes had in memory, and had "+
				"not written yet")
		}
		o.CanBeLost = append(o.CanBeLost, "places that name it by its cloud's ID: groups, load balancers, its role at the cloud")
		o.ToCheck = append(o.ToCheck, "further volumes stay with the old one (named in the report)")
		switch {
		case f.Desktop:
			o.ToCheck = append(o.ToCheck, "that what runs on it starts at boot: not seen (it has no SSH)")
		case f.State == "running":
			f.comesBack(o)
		}
		if f.InCloud {
			o.Sure = "the cloud says so"
		}
	},
})

// moveTime is how long a static address takes from one instance to another, as seen from outside.
const moveTime = 400 * time.Millisecond
