package routes

import "time"

// Agent is the resident agent of an instance.
type Agent struct {
	Connected bool
	Edit      bool // its owner's file opens the edit of files of keys
	Frozen    bool // it names nobody who could sign
	Trusting  bool // the service's word is enough
}

// agent: the resident agent adds the new key. It needs no port and stops nothing; an operator whom the instance's owner has named signs for it.
var _ = register(Route{
	Name:   "agent",
	About:  "the agent there adds the new key",
	NoPort: true,
	Steps:  []Step{{"agent", "have the agent add the new key, by an operator's signature (plumlatch restore grant), or on the service's word"}},
	Judge: func(f Facts, o *Offer) {
		o.UntilIn = 4 * time.Second
		o.People = "an operator whom its owner's file names, to sign"
		switch a := f.Agent; {
		case a == nil:
			o.lack("plumlatch instance agent install "+f.Instance, "it has no agent")
			return
		case f.State != "running":
			o.lack("plumlatch instance start "+f.Instance, "it is %s", f.State)
		case !a.Connected:
			o.lack("plumlatch instance agent show "+f.Instance, "its agent is not connected")
		case !a.Edit:
			o.lack("", "its owner's file does not open edit to the agent (/etc/plumlatch-agent.yaml there)")
		case a.Frozen:
			o.lack("", "its owner's file names no operator whose signature the agent takes (/etc/plumlatch-agent.yaml there)")
		case a.Trusting:
			o.People = ""
		}
		o.Sure = "connected now"
		if what, command := f.Shut(); what != "" {
			o.ToCheck = append(o.ToCheck, what+": the key's line is added all the same, and whoever is to come in by it needs a way ("+command+")")
		}
	},
})
