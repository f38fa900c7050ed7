package routes

import (
	"slices"
	"strings"
	"time"
)

// second-key: another recorded key is accepted now. Whoever holds it adds the new
// one from their own machine; nothing is stopped.
var _ = register(Route{
	Name:  "second-key",
	About: "somebody else's key still opens it, and its holder lets the new one in",
	Steps: []Step{{"grant", "ask the holder of the other key to add the new one (plumlatch restore grant)"}},
	Judge: func(f Facts, o *Offer) {
		var ways []Key
		for _, k := range f.Keys {
			if k.Person && k.State == "" && k.Accepted && (!k.Old || f.Measured) {
				ways = append(ways, k)
			}
		}
		if len(ways) == 0 {
			o.lack("plumlatch access second -key KEY -all", "no other key of a person is known to be accepted")
			return
		}
		lost := slices.ContainsFunc(f.Keys, func(k Key) bool { return k.State != "" })
		if len(ways) == 1 && !lost && !f.Measured {
			o.lack("plumlatch access second -key KEY -all",
				"%s is the only key of a person: it would be the one that is lost", ways[0].Name)
			return
		}
		var who []string
		for _, k := range ways {
			name := k.Name
			if k.Holder != "" {
				name += " (" + k.Holder + ")"
			}
			who = append(who, name)
		}
		slices.Sort(who)
		o.People = "whoever holds " + strings.Join(who, " or ")
		o.UntilIn = 2 * time.Minute
		o.Sure = f.sure(ways[0].At)
	},
})
