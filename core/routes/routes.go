// Package routes knows the ways back into an instance whose private keys are
// gone: when each is open and what is lacking otherwise, what it costs, what it
// changes, and which steps it takes. A route is one file here that says all of
// that; the list of routes is made of the files, and the work that carries one
// out is made of the names of its steps.
package routes

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"plumlatch/core/comeback"
)

// Key is one recorded key at the instance, for its login user.
type Key struct {
	Name, Holder string
	Person       bool   // held by a person or a team, or by nobody knows whom
	State        string // lost, exposed or retired; "" for in use
	Accepted     bool   // the server takes it
	At           time.Time
	Old          bool // something has changed since
}

// Rescue is an instance that is there to rescue others, in the same zone.
type Rescue struct {
	Name string
	Busy int64 // the work that has it now; 0 for none
	Why  string
}

// Facts are what is known of an instance and of its cloud.
type Facts struct {
	Instance, LoginUser string
	State               string // as the cloud says: running, stopped
	Gone                string // the instance is no more, or not in order: why; "" if it is
	InCloud             bool   // a cloud of ours is behind it
	Static              bool   // its address stays when it is stopped
	Fixed               bool   // no other instance can be given its address
	Keys                []Key
	Steward             *Key   // the service's own; nil if there is none
	Agent               *Agent // nil if there is none
	Now                 time.Time
	Measured            bool // the server was asked just now; else what was recorded counts

	StopDestroys string          // why stopping is its end; "" if it is not
	Asks         string          // how somebody answers what each boot of it asks at its console; "" if it asks nothing
	MissingRight map[string]bool // what our credentials may not do: stop, start, volumes, user-data
	Desktop      bool            // it has no SSH: no route of ours leads there
	Image        string          // that it was launched from; "" if that is not known
	HostKeys     bool            // a host key of it is recorded
	Lends        time.Duration   // how long the cloud lends a key; 0 if it does not
	LendImages   []string        // images with the agent that lends; nil for all
	LendStays    bool            // what is lent is a line of the file, which stays until it is taken out
	Sets         *Sets           // the cloud's own agent sets keys; nil if it has none that does
	BootText     bool            // the cloud lets user data be changed, and it runs at boot
	Volumes      bool            // the cloud lets root volumes be moved
	RootVolume   string          // "" if none is attached
	Zone         string
	Rescues      []Rescue // that are there
	RescueImage  string   // that one can be launched from; "" for none

	// Rules are the ranges that its inbound rules let in, once they were seen, and
	// Service the address that the service asks from, if that is known.
	RulesSeen bool
	Rules     []netip.Prefix
	Service   netip.Addr

	Offered   []string // login methods besides keys that a survey found, such as password
	OfferedAt time.Time

	Change     time.Duration // how long one change of state takes in this cloud
	Currency   string
	RescueHour float64 // a rescue instance, for an hour
	Services   bool    // something on it is checked: checks were given

	// Within is what was seen on it by the service's own key, of what would not come back; nil if nobody looked, and Blind says why.
	Within *comeback.Machine
	Blind  string
	// Told is what an engineer's client has seen there, ToldBy whose and when: it stands in for what the service's own key does not see.
	Told   comeback.Machine
	ToldBy string

	Rehearsed []Rehearsed // of itself: the last one of each route
	Alike     []Rehearsed // good ones of others that have its image

	Images        bool          // the cloud makes images of instances
	ImagesRunning bool          // also of those that run
	Shuts         bool          // copies can begin shut
	ShutsOut      bool          // and nothing leads out of them then
	ImageTime     time.Duration // how long an image of it takes
	KeepWeek      float64       // its root volume, for a week
}

// Lack is something that a route lacks, with the command that would supply it.
type Lack struct {
	What    string
	Command string // "" if there is none
}

// Charge is what a route costs.
type Charge struct {
	What     string
	Amount   float64
	Currency string
}

// Offer is what a route says of an instance.
type Offer struct {
	Route, About string
	Open         bool
	Lacking      []Lack
	UntilIn      time.Duration // time until somebody is in, people's own time apart
	Down         time.Duration // of that, in which the instance does not run
	People       string        // whose hand it needs besides; "" for nobody's
	Charges      []Charge
	Changes      []string // that stay: addresses, host key, processes, identity
	CanBeLost    []string
	ToCheck      []string   // that it leaves
	Sure         string     // how that is known
	Steps        []string   // in words
	Rehearsed    *Rehearsed // its last rehearsal there; nil for none
	NotOurs      bool       // the file is written by somebody else's program, and not by an edit of ours
}

// Step is one step of a route: Name is what service/work knows it by.
type Step struct{ Name, Words string }

// Route is one way back in.
type Route struct {
	Name  string
	About string
	Steps []Step // before those that every route ends with
	Whole bool   // Steps are its whole way: it ends in an order of its own
	// NoPort: what it does needs no inbound rule.
	NoPort bool
	// Judge says in the offer whether the route is open, and what it costs.
	Judge func(Facts, *Offer)
}

// Way is the whole way of a route: its own steps, and those that every route ends
// with. One that starts an instance also brings it back into the state that it had.
func (r Route) Way() []Step {
	out := slices.Clone(r.Steps)
	if r.Whole {
		return out
	}
	starts := slices.ContainsFunc(r.Steps, func(s Step) bool { return s.Name == "start" })
	for _, s := range finish {
		if s.Name != "rest" || starts {
			out = append(out, s)
		}
	}
	return out
}

var finish = []Step{
	{"accept", "ask the server whether it takes the new key"},
	{"login", "a login with the new key from the engineer's machine"},
	{"withdraw", "withdraw the lost key wherever it stands"},
	{"checks", "run the instance's own checks"},
	{"rest", "bring it back into the run state that it had"},
	{"tidy", "see that nothing is left open behind"},
}

var all []Route

// register adds a route to the list: each file of a route does so once.
func register(r Route) bool {
	all = append(all, r)
	return true
}

// All returns every route, by name.
func All() []Route {
	out := slices.Clone(all)
	slices.SortFunc(out, func(a, b Route) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// ByName finds a route.
func ByName(name string) (Route, bool) {
	n := slices.IndexFunc(all, func(r Route) bool { return r.Name == name })
	if n < 0 {
		return Route{}, false
	}
	return all[n], true
}

// Compare has every route say what it offers: the open ones first, ranked by
// less loss, then less downtime, then our own edits before those of others, then less time, then fewer changes.
func Compare(f Facts) []Offer {
	var out []Offer
	for _, r := range All() {
		o := Offer{Route: r.Name, About: r.About, Sure: f.sure(time.Time{})}
		r.Judge(f, &o)
		if what, command := f.Shut(); what != "" && !r.NoPort {
			o.Lacking = append(o.Lacking, Lack{what, command})
		}
		if f.Gone != "" {
			o.Lacking = []Lack{{What: f.Gone}}
		}
		if f.Desktop && o.Route != copyName {
			o.Lacking = []Lack{{What: "it has no SSH: people come in by its password", Command: "plumlatch instance password " + f.Instance}}
		}
		f.rehearsed(&o)
		o.Open = len(o.Lacking) == 0
		for _, s := range r.Way() {
			o.Steps = append(o.Steps, s.Words)
		}
		out = append(out, o)
	}
	slices.SortStableFunc(out, rank)
	return out
}

// Alone puts the open offers that need nobody's hand first, as is best for many instances at a time; else they stay as
// Compare has ranked them.
func Alone(offers []Offer) []Offer {
	out := slices.Clone(offers)
	slices.SortStableFunc(out, func(a, b Offer) int {
		alone := func(o Offer) int {
			if o.Open && o.People == "" {
				return 0
			}
			return 1
		}
		return alone(a) - alone(b)
	})
	return out
}

// Shut tells why the new key would be of no use, or could not be seen to be taken:
// no inbound rule lets anybody, or the service, as far as the server; and the command
// that mends that. "" if a rule does, or they were not seen.
func (f Facts) Shut() (what, command string) {
	in := func(p netip.Prefix) bool { return p.Contains(f.Service.Unmap()) }
	switch {
	case !f.RulesSeen:
	case len(f.Rules) == 0:
		return "no inbound rule lets anybody in to its SSH port", "plumlatch instance admit " + f.Instance + " -from me"
	case f.Service.IsValid() && !slices.ContainsFunc(f.Rules, in):
		return fmt.Sprintf("no inbound rule lets the service in from %s, so it could not see whether the new key is taken", f.Service), fmt.Sprintf("plumlatch instance admit %s -from %s", f.Instance, f.Service)
	}
	return "", ""
}

// rank compares two offers: less than 0 if the first is to be taken rather.
func rank(a, b Offer) int {
	switch {
	case a.Open && !b.Open:
		return -1
	case b.Open && !a.Open:
		return 1
	}
	not := map[bool]int{true: 1}
	return cmp.Or(len(a.CanBeLost)-len(b.CanBeLost), cmp.Compare(a.Down, b.Down), not[a.NotOurs]-not[b.NotOurs], cmp.Compare(a.UntilIn, b.UntilIn),
		len(a.Changes)-len(b.Changes))
}

func (o *Offer) lack(command, what string, a ...any) {
	o.Lacking = append(o.Lacking, Lack{What: fmt.Sprintf(what, a...), Command: command})
}

// sure says how old what is known is.
func (f Facts) sure(at time.Time) string {
	switch {
	case f.Measured:
		return "asked just now"
	case at.IsZero():
		return "recorded"
	}
	return "seen " + Ago(f.Now.Sub(at))
}

// Ago writes how long something is past.
func Ago(age time.Duration) string {
	switch {
	case age < 2*time.Hour:
		return fmt.Sprintf("%d minutes ago", int(age.Minutes()))
	case age < 48*time.Hour:
		return fmt.Sprintf("%d hours ago", int(age.Hours()))
	}
	return fmt.Sprintf("%d days ago", int(age.Hours()/24))
}

// stops adds what stopping an instance brings, or why that is out of the question.
func (f Facts) stops(o *Offer) {
	if !f.InCloud {
		o.lack("", "no cloud of ours is behind it: it cannot be stopped from here")
		return
	}
	if f.StopDestroys != "" {
		o.lack("", "stopping would be its end: %s", f.StopDestroys)
	}
	f.boots(o)
	for _, right := range []string{"stop", "start"} {
		if f.MissingRight[right] {
			o.lack("", "our credentials at the cloud may not %s it", right)
		}
	}
	if f.State == "running" {
		o.Changes = append(o.Changes, "every process on it ends, and those that start at boot start anew")
		o.CanBeLost = append(o.CanBeLost, "what its processes had in memory")
		f.comesBack(o)
		if !f.Services {
			o.ToCheck = append(o.ToCheck,
				"what \"works\" means for it was never recorded (plumlatch instance check add "+f.Instance+" tcp:PORT)")
		}
		if !f.Static {
			o.Changes = append(o.Changes, "its address is dynamic, and another one afterwards")
		}
	}
}

// boots adds what a boot needs of somebody.
func (f Facts) boots(o *Offer) {
	if f.Asks != "" {
		o.Changes = append(o.Changes, "its boot waits for somebody at its console, before anybody gets in: "+f.Asks)
	}
}

// comesBack adds what would not come back on a machine that boots anew, as far as that was seen.
func (f Facts) comesBack(o *Offer) {
	var within comeback.Machine
	if f.Within != nil {
		within = *f.Within
	}
	var seen, listen []string
	for _, look := range []struct {
		m  comeback.Machine
		by string
	}{{within, ""}, {f.Told.Without(within), f.ToldBy}} {
		by := ""
		if look.by != "" {
			by = " (seen by " + look.by + ")"
		}
		doubts, of := comeback.Doubts(look.m)
		for _, d := range doubts {
			o.CanBeLost = append(o.CanBeLost, d.What+": "+d.Why+by)
		}
		seen = append(seen, of...)
		for _, p := range look.m.Ports {
			if !p.Local {
				listen = append(listen, strconv.Itoa(p.Number))
			}
		}
	}
	because := ""
	if f.Blind != "" {
		because = " (" + f.Blind + ")"
	}
	look := "; plumlatch survey " + f.Instance + " -identity FILE has it looked at by a key of yours"
	if !slices.Contains(seen, comeback.Service) {
		o.ToCheck = append(o.ToCheck, "that what runs on it starts at boot: not seen"+because+look+"; a service that was never enabled stays down")
	}
	if !slices.Contains(seen, comeback.Mount) {
		o.ToCheck = append(o.ToCheck, "that what is mounted on it is written in fstab: not seen"+because)
	}
	if len(listen) > 0 {
		o.ToCheck = append(o.ToCheck, "that something listens again on "+strings.Join(listen, ", "))
	}
}
