package routes

import "slices"

// disk: its root volume is attached to a rescue instance for a moment, the line
// added there, and attached again under the device name that it had.
var _ = register(Route{
	Name:  "disk",
	About: "its root volume goes to a rescue instance for a moment, where the new key is added",
	Steps: []Step{
		{"rescue", "find a rescue instance in its zone, or launch one for this work"},
		{"stop", "stop it"},
		{"detach", "detach its root volume"},
		{"lend", "attach the volume to the rescue instance"},
		{"mount", "find the right filesystem on it, and mount that"},
		{"edit", "add the new key's line beneath the mount"},
		{"unmount", "unmount it, and make sure of that"},
		{"unlend", "detach the volume from the rescue instance"},
		{"return", "attach it under the device name that it had"},
		{"start", "start it"},
		{"dismiss", "remove the rescue instance, if it was launched for this work"},
	},
	Judge: func(f Facts, o *Offer) {
		f.stops(o)
		free := slices.ContainsFunc(f.Rescues, func(r Rescue) bool { return r.Busy == 0 })
		switch {
		case !f.InCloud:
		case !f.Volumes:
			o.lack("", "this cloud does not let root volumes be moved")
		case f.MissingRight["volumes"]:
			o.lack("", "our credentials at the cloud may not move its volumes")
		case f.RootVolume == "":
			o.lack("", "no root volume is attached to it")
		case len(f.Rescues) == 0 && f.RescueImage == "":
			o.lack("plumlatch instance adopt NAME -rescue ...",
				"there is no rescue instance in zone %s, and none can be launched", f.Zone)
		}
		o.UntilIn = 6*f.Change + 2*bootTime
		if f.State == "running" {
			o.Down = 6*f.Change + bootTime
		}
		if !free {
			o.UntilIn += f.Change + bootTime
			o.Charges = append(o.Charges, Charge{"a rescue instance for up to an hour", f.RescueHour, f.Currency})
		}
		o.CanBeLost = append(o.CanBeLost,
			"the order of its disks, if the cloud attaches the volume under another name (that is checked)")
		o.ToCheck = append(o.ToCheck, "that the volume is home under its old name (checked before it is started)")
		if f.InCloud {
			o.Sure = "the cloud says so; what is on the disk is seen only then"
		}
	},
})
