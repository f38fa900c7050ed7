package access

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumlatch/core/times"
)

// Matter is one thing that needs a hand.
type Matter struct {
	Reason   Reason
	Subject  string // "instance NAME", "key NAME", "cloud ID", "journal"
	About    string // tells several of one reason on one subject apart
	Sentence string
	Evidence string // how it is known
	Command  string // what to do next
	Instance string
	Key      string
}

// States of a key.
const (
	InUse   = "in use"
	Lost    = "lost"    // nobody has its private half
	Exposed = "exposed" // somebody else may have it
)

// There is a key that stands in a file now, as a survey found it.
type There struct {
	Limits string
	Ends   time.Time
	Since  time.Time
	At     time.Time // last seen
	From   string
	Place  string // FILE:LINE
	// Vouches are its lines that trust it as a certificate authority; it may stand in others as a key.
	Vouches []Vouch
	Before  bool // it stood there before, was gone, and stands there again
}

// Vouch is a line that trusts a certificate authority.
type Vouch struct {
	Place      string // FILE:LINE
	Principals string // for these alone, separated by commas; "" for the login user's own name
}

// DoorKey is one key at one instance, for one login user: recorded, or found there.
type DoorKey struct {
	Key, Fingerprint, Comment string // Key is "" for a key that nobody recorded
	LoginUser                 string
	Former                    []string // names that the key had, in small letters
	Recorded, Steward         bool
	Holder, HolderSort        string
	State                     string // of the key
	Retired                   bool
	Standing                  Kind
	Old                       bool
	At                        time.Time // of the standing
	Against                   Kind      // what speaks against it since
	AgainstAt                 time.Time
	There                     *There    // nil if no survey found it there
	Leaving                   bool      // a rotation that is at hand takes it out at its end
	Until                     time.Time // the end that it was shared with; zero: none
	Only                      string    // the one command that it was shared for
	RecordedAt                time.Time
	UsedAt                    time.Time // by the instance's own log; zero: it has not
}

// name is what a sentence calls the key.
func (k DoorKey) name() string {
	if k.Key != "" {
		return k.Key
	}
	if k.Comment != "" {
		return k.Fingerprint + " (" + k.Comment + ")"
	}
	return k.Fingerprint
}

// gone tells that it is known not to open: it was looked for and not found, refused, or has lapsed.
func (k DoorKey) gone() bool {
	if k.There != nil && (k.There.Limits == Expired || k.There.Limits == Authority) {
		return true
	}
	if !k.Recorded {
		return k.There == nil
	}
	return k.Against == Seen || k.Against == Placed || k.Against == Accepted
}

// WayIn tells whether it is a way in for people: recorded, held by a person or a
// team, in use, with evidence that nothing speaks against, not confined to
// one command, and without an end (rule 1). The reason says why not.
func (k DoorKey) WayIn() (ok bool, why string) {
	switch {
	case k.Steward:
		return false, "is the steward's"
	case !k.Recorded:
		return false, "is not recorded"
	case k.State == Lost:
		return false, "is lost"
	case k.State == Exposed:
		return false, "is exposed"
	case k.HolderSort == "machine" || k.HolderSort == "job":
		return false, "is a " + k.HolderSort + "'s"
	case k.There != nil && k.There.Limits == Expired:
		return false, "has expired"
	case k.There != nil && k.There.Limits == Authority:
		return false, "vouches for others, and logs nobody in"
	case k.Only != "" || k.There != nil && k.There.Limits == Command:
		return false, "runs one command only"
	case k.Against == Seen || k.Against == Placed:
		return false, "is not in the files"
	case k.Against == Accepted:
		return false, "was refused"
	case k.Standing == None:
		return false, "was never seen to open it"
	case k.ends():
		return false, "has an end"
	}
	return true, ""
}

// ends tells whether it opens for a while only: it was shared so, or its line there says so. A key that a rotation is taking out has an end of that
// rotation's making, beside a key that was shown to get in.
func (k DoorKey) ends() bool {
	return !k.Leaving && (!k.Until.IsZero() || k.There != nil && !k.There.Ends.IsZero())
}

// forWhile tells whether it is a way in for people but for its end.
func (k DoorKey) forWhile() bool {
	if !k.ends() {
		return false
	}
	k.Until = time.Time{}
	if k.There != nil {
		there := *k.There
		there.Ends, k.There = time.Time{}, &there
	}
	ok, _ := k.WayIn()
	return ok
}

// Looked is the last survey of one sort.
type Looked struct {
	SeenAt  time.Time // zero: never
	TriedAt time.Time
	Trouble string // why the last one could not look
	Cause   string
}

// TroubleHostKey is the code of an instance's trouble: another host key answers for it.
const TroubleHostKey = "host-key"

// Door is what is known of one instance.
type Door struct {
	Name, LoginUser, Address string
	Running, Adopted         bool
	Vanished                 bool
	Trouble                  string
	TroubleCode              string // TroubleHostKey, or ""
	CreatedAt                time.Time
	Keys                     []DoorKey
	Inside, Outside          Looked
	Password                 []string // users whom the server offers password login
	Others                   []Other  // doors that stand in no list of keys, passwords among them
	Open                     bool     // it lets anybody in
	World                    string   // an inbound rule that lets everybody in
	SameHostKey              []string // other instances with its host key
	HostKeyDoubt             string   // why somebody else may have its host key; "" for no reason
	Label                    string   // the cloud's own word on its launch key
	Asked                    []Ask    // by work at hand, of whoever holds another key
	WereHere                 []string // names, in small letters, of keys that opened it once, and were taken out
	NoWayBack                bool     // no route back in was open when that was last looked at
	WaysBackAt               time.Time
	Desktop                  bool            // it has no SSH: nothing is judged but its first password
	First                    *LaunchPassword // of a Desktop, as long as nobody has recorded that it was changed
	Kept                     []OldMachine    // that a copy took the place of, and whose time is over
	Unrehearsed              []Rehearsal     // of each route the last one, if it failed
	Streams                  []OpenStream    // sessions through the service
	LentStays                []Lent          // keys that the cloud lent, and that the server took after their end
	Uses                     []BadUse        // by its own log
	LogSince, LogRead        time.Time       // what its log covered when it was last read; zero: it was not
	NewAddresses             []NewUse        // from which nobody came in before, by any log
	Agent                    *ResidentAgent  // nil for none
}

// ResidentAgent is what is known of an instance's agent.
type ResidentAgent struct {
	EnrolledAt, SeenAt time.Time // SeenAt is zero before it ever connected; it is renewed while it is connected
	Trusting           bool      // it says that the service's word is enough to change something
	RefusedAt          time.Time // another one came with its key; zero: never
	RefusedFrom        string
}

// NewUse is the first use from an address, by an instance's own log.
type NewUse struct {
	Address, LoginUser, Method string
	Key, Fingerprint           string // Key is "" for one that the ledger does not know; both are for a login without a key
	First                      time.Time
	Trusted                    bool // the instance's system vouches that its server wrote it
}

// BadUse is a use, by an instance's own log, of a key that is lost or exposed, or that the ledger does not know.
type BadUse struct {
	Key, Fingerprint string // Key is "" for one that the ledger does not know
	State            string // of the key
	LoginUser        string
	Last             time.Time
	Trusted          bool // the instance's system vouches that its server wrote it
}

// LaunchPassword is the first password of an instance without SSH.
type LaunchPassword struct {
	Key, Fingerprint string // that it is encrypted to; "" if that is not known
	State            string // of the key
}

// OldMachine is one that is kept beside the one that has its place.
type OldMachine struct {
	CloudID   string
	Work      int64 // that keeps it
	Until     time.Time
	WeekPrice float64
	Currency  string
}

// Rehearsal is a way back in that was carried out on a copy.
type Rehearsal struct {
	Route, Said string
	Work        int64
	At          time.Time
}

// OpenStream is a session through the service that is open.
type OpenStream struct {
	ID       int64
	Operator string
	Begun    time.Time
}

// Lent is a key that the cloud lent for a while.
type Lent struct {
	Fingerprint string
	Ended, At   time.Time
	Withdrawal  int64 // the work that takes it off; 0 for none
}

// Ask is what a restore that is at hand waits for: that the holder of another key lets a new one in.
type Ask struct {
	Work    int64
	By, New string // operator, name of the new key
}

// judging gathers the matters of one subject.
type judging struct {
	p     Policy
	now   time.Time
	door  Door
	out   []Matter
	again time.Time
}

// at has the judging done again then, if not before.
func (j *judging) at(t time.Time) {
	if t.After(j.now) && (j.again.IsZero() || t.Before(j.again)) {
		j.again = t
	}
}

func (j *judging) say(r Reason, about, evidence, command, sentence string, a ...any) *Matter {
	if slices.Contains(j.p.Today.LeaveOut, r) {
		return &Matter{}
	}
	j.out = append(j.out, Matter{Reason: r, Subject: "instance " + j.door.Name, About: about, Instance: j.door.Name,
		Evidence: evidence, Command: command, Sentence: fmt.Sprintf(sentence, a...)})
	return &j.out[len(j.out)-1]
}

// on says when something was: absolute, as the words are kept for longer than
// "just now" would be true.
func on(t time.Time) string {
	if t.IsZero() {
		return "never"
	}
	return times.Show(t.UTC())
}

// Judge says what of an instance needs a hand, and when to judge again though
// nothing changes (the zero time: never).
func (p Policy) Judge(d Door, now time.Time) ([]Matter, time.Time) {
	j := &judging{p: p, now: now, door: d}
	if d.Vanished {
		j.say(VanishedReason, "", "the cloud was asked for its list", "plumlatch instance remove "+d.Name,
			"The cloud does not have %s any more; the ledger still does.", d.Name)
		return j.out, time.Time{}
	}
	for _, a := range d.Asked {
		m := j.say(GrantAsked, fmt.Sprint(a.Work), fmt.Sprintf("work %d waits for it", a.Work),
			fmt.Sprintf("plumlatch restore grant %d -identity FILE", a.Work),
			"%s asks to be let into %s with %s: whoever holds another key of it lets that in.", a.By, d.Name, a.New)
		m.Key = a.New
	}
	if d.Desktop {
		j.password()
		return j.out, j.again
	}
	j.waysIn()
	for _, k := range d.Keys {
		j.key(k)
	}
	j.server()
	j.agent()
	j.looked()
	return j.out, j.again
}

const (
	agentAwayFor   = 24 * time.Hour
	agentCopiedFor = 30 * 24 * time.Hour
)

// agent judges the resident agent.
func (j *judging) agent() {
	d, a := j.door, j.door.Agent
	if a == nil {
		return
	}
	show := "plumlatch instance agent show " + d.Name
	if since := a.RefusedAt; !since.IsZero() && j.now.Before(since.Add(agentCopiedFor)) {
		j.at(since.Add(agentCopiedFor))
		j.say(AgentCopied, "", "the service refused it "+on(since), show, "Another machine, at %s, came with the key of %s's agent while that was connected: "+
			"it is a copy of %s, or somebody has its key. If the key is out: plumlatch instance agent install %s makes another.", a.RefusedFrom, d.Name, d.Name, d.Name)
	}
	if a.Trusting {
		j.say(AgentTrusts, "", "the agent says so, by the file of its owner", show, "The agent of %s changes what the service asks for, without an operator's signature: "+
			"whoever has the service has %s.", d.Name, d.Name)
	}
	seen := a.SeenAt
	if seen.IsZero() {
		seen = a.EnrolledAt
	}
	if away := seen.Add(agentAwayFor); d.Running && !j.now.Before(away) {
		j.say(AgentAway, "", "last seen "+on(a.SeenAt), show, "The agent of %s has not been connected for a day: what only it sees is not seen.", d.Name)
	} else {
		j.at(away)
	}
}

// password judges the first password of an instance without SSH. Nothing is claimed of who else gets in there.
func (j *judging) password() {
	d, p := j.door, j.door.First
	if p == nil {
		return
	}
	command := "plumlatch instance password " + d.Name
	switch {
	case p.State == Lost:
		j.say(PasswordKey, "", p.Key+" is lost", command+" -changed", "The first password of %s is encrypted to %s, which is lost, and "+
			"nobody has recorded that it was changed: whoever does not know it gets in no more.", d.Name, p.Key)
	case p.State == Exposed:
		j.say(PasswordKey, "", p.Key+" is exposed", command+" -changed", "The first password of %s is encrypted to %s, which is exposed: "+
			"whoever has that reads it. Change it there.", d.Name, p.Key)
	default:
		to := "its launch key"
		if p.Key != "" {
			to = p.Key
		}
		j.say(FirstPassword, "", "nobody has recorded that it was changed", command, "The first password of %s can be read by whoever "+
			"has %s, until it is changed there.", d.Name, to)
	}
}

// waysIn judges whether people get in, and how many keys that hangs on.
func (j *judging) waysIn() {
	d, o := j.door, j.door.Opening()
	var not []string
	for _, k := range d.Keys {
		if ok, why := k.WayIn(); !ok && !k.Steward && k.Recorded {
			not = append(not, k.name()+" "+why)
		}
	}
	slices.Sort(not)
	evidence := strings.Join(not, "; ")
	if evidence == "" {
		evidence = "no key of a person is recorded for it"
	}
	sole, only := o.Sole()
	switch {
	case o.Nobody():
		j.say(NoWayIn, "", evidence, "plumlatch restore "+d.Name, "Nobody can get into %s, as far as is known.",
			d.Name)
	case len(o.People) == 0:
		command := "plumlatch survey " + d.Name
		if keys := o.usable(); len(keys) > 0 {
			command = "plumlatch access record " + d.Name + " " + keys[0].Fingerprint
		} else if len(o.ForWhile) > 0 {
			command = "plumlatch access second " + d.Name
		}
		sentence := "Only what nobody recorded lets people into %s."
		switch {
		case len(o.ForWhile) > 0 && len(o.usable()) == 0 && len(o.Others) == 0:
			sentence = "Only what has an end lets people into %s."
		case len(o.ForWhile) > 0:
			sentence = "Only what has an end, or nobody recorded, lets people into %s."
		}
		j.say(NotRecorded, "", evidence+"; "+o.Besides(), command, sentence, d.Name)
	case only && (j.p.Today.SoleOpeners == nil || *j.p.Today.SoleOpeners):
		m := j.say(SoleOpenerKey, sole.name(), j.known(sole), "plumlatch access second "+d.Name,
			"%s is the only way into %s for people.", sole.name(), d.Name)
		m.Key = sole.Key
	}
}

func (j *judging) known(k DoorKey) string {
	s := fmt.Sprintf("%s %s", k.Standing, on(k.At))
	if k.Old {
		s += ", old"
	}
	return s
}

// key judges one key at the instance.
func (j *judging) key(k DoorKey) {
	if k.Steward {
		return
	}
	named := j.door.Name
	add := func(r Reason, command, sentence string, a ...any) {
		m := j.say(r, k.LoginUser+" "+k.Fingerprint, j.evidenceOf(k), command, sentence, a...)
		m.Key = k.Key
	}
	which := k.Key
	if which == "" {
		which = k.Fingerprint
	}
	shut := "plumlatch access remove " + named + " -key " + which
	if k.State == Exposed && !k.gone() {
		add(ExposedOpens, shut, "%s, which somebody else may have, still opens %s as %s.", k.Key, named, k.LoginUser)
	}
	if k.State == Lost && !k.gone() {
		add(LostOpens, shut, "%s is lost, and still stands on %s.", k.Key, named)
	}
	if t := k.There; t != nil && !k.Recorded && t.Limits != Authority && t.Limits != Expired && !j.door.FirstBoots(k) {
		if t.Before || k.Retired {
			add(CameBack, shut, "%s stands on %s again, after it was gone or taken out of use.",
				k.name(), named)
		} else {
			add(UnrecordedKey, "plumlatch access record "+named+" "+which,
				"%s opens %s as %s, and nobody wrote it down. If nobody should have it: "+shut, k.name(), named, k.LoginUser)
		}
	}
	if !k.Recorded {
		return
	}
	if k.There != nil && k.There.Limits == Expired {
		add(AccessExpired, "plumlatch survey "+named,
			"The access of %s to %s has come to its end; its line still stands there.", k.Key, named)
	} else if k.Against == Seen {
		add(MissingKey, "plumlatch survey "+named, "%s should open %s, and is not in its files.", k.Key, named)
	}
	j.unused(k)
	if k.There != nil && !k.There.Ends.IsZero() && k.There.Ends.After(j.now) {
		tell := k.There.Ends.Add(-time.Duration(j.p.Today.ExpiringIn))
		if !tell.After(j.now) && !k.Leaving { // the work at hand says so itself
			add(AccessExpiring, "plumlatch access list -instance "+named, "The access of %s to %s ends %s.", k.Key,
				named, times.Show(k.There.Ends.UTC()))
		}
		j.at(tell)
		j.at(k.There.Ends)
	}
}

// unused says that a recorded key did not come in for the policy's time. That is known up to the last reading of the log alone, and
// from where the log begins, or the access, or the last use.
func (j *judging) unused(k DoorKey) {
	d, most := j.door, time.Duration(j.p.Today.Unused)
	if most == 0 || k.gone() || k.Fingerprint == "" || d.LogSince.IsZero() || d.LogRead.IsZero() {
		return
	}
	from, since := d.LogSince, "its log begins "+on(d.LogSince)
	if k.RecordedAt.After(from) {
		from, since = k.RecordedAt, "recorded "+on(k.RecordedAt)
	}
	if !k.UsedAt.Before(from) {
		from, since = k.UsedAt, "last used "+on(k.UsedAt)
	}
	if d.LogRead.Sub(from) < most {
		return
	}
	m := j.say(UnusedKey, k.LoginUser+" "+k.Fingerprint, "its own log, read "+on(d.LogRead)+": "+since, "plumlatch access used -instance "+d.Name,
		"%s opens %s as %s, and has not come in for %d days. If nobody needs it: plumlatch access remove %s -key %s", k.name(), d.Name, k.LoginUser,
		int(d.LogRead.Sub(from)/(24*time.Hour)), d.Name, k.Key)
	m.Key = k.Key
}

// addresses says from where somebody came in from where nobody had before.
func (j *judging) addresses() {
	d, long := j.door, time.Duration(j.p.Today.NewAddress)
	for _, u := range d.NewAddresses {
		// What a log begins with is new to us and not to the instance: there has to be as much before it.
		if long == 0 || !u.First.Add(long).After(j.now) || d.LogSince.IsZero() || d.LogSince.After(u.First.Add(-long)) {
			continue
		}
		by := "its own log"
		if !u.Trusted {
			by = "its own log, a text file, in which any local user can write"
		}
		who := "Somebody came in by " + u.Method
		if u.Fingerprint != "" {
			who = cmp.Or(u.Key, "A key that nobody recorded, "+u.Fingerprint+",") + " came in"
		}
		m := j.say(NewAddress, u.Address+" "+u.LoginUser, by+": "+on(u.First), "plumlatch access used -instance "+d.Name,
			"%s on %s as %s from %s, from where nobody came in before.", who, d.Name, u.LoginUser, u.Address)
		m.Key = u.Key
		j.at(u.First.Add(long))
	}
}

func (j *judging) evidenceOf(k DoorKey) string {
	var parts []string
	if k.There != nil {
		parts = append(parts, fmt.Sprintf("seen in %s by %s %s", k.There.Place, k.There.From, on(k.There.At)))
	}
	if k.Recorded && k.Standing != None && (k.There == nil || k.Standing != Seen) {
		parts = append(parts, j.known(k))
	}
	if k.Against != None {
		word := map[Kind]string{Accepted: "refused", Seen: "not in the files", Placed: "withdrawn",
			Proven: "a login failed"}[k.Against]
		parts = append(parts, word+" "+on(k.AgainstAt))
	}
	if len(parts) == 0 {
		return "on record; never seen"
	}
	return strings.Join(parts, "; ")
}

// server judges what its server and the rules before it say.
func (j *judging) server() {
	d := j.door
	outside := "asked from outside " + on(d.Outside.SeenAt)
	if d.Open {
		j.say(OpenToAnybody, "", outside, "plumlatch why "+d.Name, "The server of %s let us in without any key.",
			d.Name)
	}
	if len(d.Password) > 0 {
		j.say(PasswordLogin, "", outside, "plumlatch instance logins "+d.Name+" -password off",
			"The server of %s offers login by password to %s.", d.Name, strings.Join(d.Password, " and "))
	}
	if d.World != "" {
		j.say(OpenToWorld, "", outside+": an inbound rule admits "+d.World, "plumlatch instance unadmit "+d.Name+
			" -from "+d.World, "The whole world may knock at the SSH port of %s.", d.Name)
	}
	if d.HostKeyDoubt != "" {
		j.say(HostKeyDoubtful, "", d.HostKeyDoubt, "plumlatch instance host-key "+d.Name,
			"The host key of %s is doubtful: whoever had a key that opens it may have read its private half. Make "+
				"a new one there and take it, or take the same one again.", d.Name)
	}
	if d.NoWayBack {
		j.say(NoWayBack, "", "looked at "+on(d.WaysBackAt), "plumlatch restore "+d.Name,
			"If the keys of %s were lost, no way back in would be open.", d.Name)
	}
	for _, r := range d.Unrehearsed {
		j.say(RehearsalFailed, r.Route, "rehearsed "+on(r.At), fmt.Sprintf("plumlatch work show %d; then plumlatch restore rehearse %s -route %s",
			r.Work, d.Name, r.Route), "The way back into %s by %s did not work on a copy of it: %s", d.Name, r.Route, r.Said)
	}
	for _, k := range d.Kept {
		cost := ""
		if k.Currency != "" {
			cost = fmt.Sprintf(", and costs %.4g %s a week", k.WeekPrice, k.Currency)
		}
		j.say(OldKept, k.CloudID, "its time was over "+on(k.Until), fmt.Sprintf("plumlatch work go-on %d", k.Work), "A copy took the place of "+
			"%s as %s, which is kept still%s.", k.CloudID, d.Name, cost)
	}
	for _, u := range d.Uses {
		by := "its own log"
		if !u.Trusted {
			by = "its own log, a text file, in which any local user can write"
		}
		seen, command := by+": "+on(u.Last), "plumlatch access used -instance "+d.Name
		if u.Key != "" {
			j.say(BadKeyUsed, u.Key+" "+u.LoginUser, seen, command, "%s is %s, and came in on %s as %s after that.", u.Key, u.State, d.Name, u.LoginUser)
			continue
		}
		j.say(StrangerUsed, u.Fingerprint+" "+u.LoginUser, seen, command, "A key that nobody recorded, %s, came in on %s as %s.", u.Fingerprint, d.Name,
			u.LoginUser)
	}
	j.addresses()
	for _, s := range d.Streams {
		long := time.Duration(j.p.Stream.Long)
		if end := s.Begun.Add(long); long > 0 && end.After(j.now) {
			j.at(end)
		} else if long > 0 {
			j.say(StreamLong, fmt.Sprintf("stream %d", s.ID), "open since "+on(s.Begun), fmt.Sprintf("plumlatch streams end %d", s.ID),
				"%s has had a session through the service on %s since %s.", s.Operator, d.Name, on(s.Begun))
		}
	}
	for _, l := range d.LentStays {
		command := fmt.Sprintf("plumlatch access remove %s -key %s", d.Name, l.Fingerprint)
		if l.Withdrawal != 0 {
			command = fmt.Sprintf("plumlatch work show %d", l.Withdrawal)
		}
		j.say(LentStays, l.Fingerprint, "looked "+on(l.At), command, "The cloud lent %s on %s until %s, and it is "+
			"not seen gone: the server takes it still, or its line stands there yet.", l.Fingerprint, d.Name, on(l.Ended))
	}
	if len(d.SameHostKey) > 0 {
		shown := d.SameHostKey[:min(4, len(d.SameHostKey))]
		others := strings.Join(shown, ", ")
		if n := len(d.SameHostKey) - len(shown); n > 0 {
			others += fmt.Sprintf(" and %d more", n)
		}
		j.say(SharedHostKey, "", "the recorded host keys", "plumlatch instance host-key "+d.Name,
			"%s has the same host key as %s: whoever owns one can pass for the other.", d.Name, others)
	}
	if d.Label != "" && !slices.Contains(d.WereHere, strings.ToLower(d.Label)) && !slices.ContainsFunc(d.Keys, func(k DoorKey) bool {
		return k.Recorded && (strings.EqualFold(k.Key, d.Label) || slices.Contains(k.Former, strings.ToLower(d.Label)))
	}) {
		j.say(LabelDiffers, "", "the cloud's own label, which is a claim and no evidence", "plumlatch survey "+d.Name,
			"The cloud says that %s was launched with %s; the ledger does not have that.", d.Name, d.Label)
	}
}

// looked judges how well it is known.
func (j *judging) looked() {
	d := j.door
	for _, l := range []Looked{d.Inside, d.Outside} {
		if l.Cause == "host key" {
			j.say(HostKeyChanged, "", l.Trouble+" ("+on(l.TriedAt)+")", "plumlatch instance host-key "+d.Name,
				"Another host key answers for %s than the recorded one; nothing is asked of it.", d.Name)
			return
		}
	}
	if d.TroubleCode == TroubleHostKey {
		j.say(HostKeyChanged, "", d.Trouble, "plumlatch instance host-key "+d.Name,
			"Another host key answers for %s than the recorded one; nothing is asked of it.", d.Name)
		return
	}
	if !d.Running {
		return
	}
	if d.Inside.Trouble != "" && d.Inside.Cause != "none" {
		seen := "it was never seen from inside"
		if !d.Inside.SeenAt.IsZero() {
			seen = "last seen from inside " + on(d.Inside.SeenAt)
		}
		j.say(SurveyFailed, "", d.Inside.Trouble+"; "+seen, "plumlatch why "+d.Name,
			"The last survey of %s could not look inside.", d.Name)
	}
	newest := d.CreatedAt
	for _, t := range []time.Time{d.Inside.SeenAt, d.Outside.SeenAt} {
		if t.After(newest) {
			newest = t
		}
	}
	old := newest.Add(time.Duration(j.p.Today.EvidenceOld))
	if !old.After(j.now) {
		j.say(OldEvidence, "", "last looked at "+on(newest), "plumlatch survey "+d.Name,
			"What is known of %s is old.", d.Name)
	}
	j.at(old)
}

// KeyFacts is what is known of one recorded key.
type KeyFacts struct {
	Name, Weakness string // its worst severity
	Sentence       string // what is wrong with it
	Reach          int
	Sightings      int  // instances on which it was found and is not recorded
	OpenedBefore   bool // it opened something once
	Retired        bool
	State          string
	Listed         []Listed // where a cloud's own lists have it
}

// Listed is an entry of a cloud's list of keys.
type Listed struct {
	Name, Region string // Region is "" for a list that is not of a region
}

func (l Listed) where() string {
	if l.Region == "" {
		return "the cloud's list of keys"
	}
	return "the cloud's list of keys of " + l.Region
}

var severities = []string{"dated", "weak", "broken"}

// JudgeKey says what of a key needs a hand.
func (p Policy) JudgeKey(k KeyFacts) []Matter {
	var out []Matter
	say := func(r Reason, evidence, command, sentence string, a ...any) {
		if !slices.Contains(p.Today.LeaveOut, r) {
			out = append(out, Matter{Reason: r, Subject: "key " + k.Name, Key: k.Name, Evidence: evidence,
				Command: command, Sentence: fmt.Sprintf(sentence, a...)})
		}
	}
	if at := slices.Index(severities, k.Weakness); at >= 0 && at >= slices.Index(severities, p.Today.WeakFrom) &&
		k.Reach > 0 {
		say(WeakKey, k.Sentence, "plumlatch key show "+k.Name, "%s is %s, and opens %d.", k.Name, k.Weakness, k.Reach)
	}
	if k.Reach == 0 && k.Sightings == 0 && k.OpenedBefore && !k.Retired && k.State == InUse {
		say(OpensNothing, "it opened something once", "plumlatch key forget "+k.Name,
			"%s opens nothing any more.", k.Name)
	}
	state := k.State
	if k.Retired && state == InUse {
		state = "retired"
	}
	for _, l := range k.Listed {
		if state == InUse {
			break
		}
		command := "plumlatch cloud-key remove " + k.Name
		if l.Region != "" {
			command += " -region " + l.Region
		}
		say(StillListed, l.where(), command, "%s is %s, and %s has it still, as %s.", k.Name, state, l.where(), l.Name)
		if n := len(out) - 1; n >= 0 && out[n].Reason == StillListed {
			out[n].About = l.Region + " " + l.Name
		}
	}
	return out
}

// JudgeKeyList says that a cloud's list of keys is nearly full.
func (p Policy) JudgeKeyList(region string, used, most int) []Matter {
	if slices.Contains(p.Today.LeaveOut, KeyListFull) {
		return nil
	}
	where, command := (Listed{Region: region}).where(), "plumlatch cloud-key list"
	if region != "" {
		command += " -region " + region
	}
	return []Matter{{Reason: KeyListFull, Subject: "cloud " + cmp.Or(region, "keys"), Evidence: where, Command: command,
		Sentence: fmt.Sprintf("%s holds %d of %d.", strings.ToUpper(where[:1])+where[1:], used, most)}}
}

// JudgeKeybook says whether a followed keybook needs a hand: todo is how much is not as it says, in words; waits is why the service does not
// settle that by itself, trouble why it could not be compared.
func (p Policy) JudgeKeybook(name, path string, todo int, words, waits, trouble string) []Matter {
	m := Matter{Subject: "keybook " + cmp.Or(name, path), Evidence: "the files of " + path, About: path}
	switch {
	case trouble != "":
		m.Reason, m.Command, m.Sentence = BookTrouble, "plumlatch keybook check "+path, "The keybook in "+path+" cannot be compared: "+strings.TrimRight(trouble, ".")+"."
	case todo > 0:
		m.Reason, m.Command, m.Sentence = BookDiffers, "plumlatch keybook compare "+path, fmt.Sprintf("The keybook %s is not carried out: %s.", name, words)
		if waits != "" {
			m.Sentence += " It waits: " + strings.TrimRight(waits, ".") + "."
		}
	default:
		return nil
	}
	if slices.Contains(p.Today.LeaveOut, m.Reason) {
		return nil
	}
	return []Matter{m}
}

// JudgeDiscovered says what an instance is that the ledger does not know.
// One that the policy leaves alone (adopt.never) needs none.
func (p Policy) JudgeDiscovered(id, name, region, label string, tags map[string]string) []Matter {
	if slices.Contains(p.Today.LeaveOut, Undiscovered) || p.NeverAdopted(tags) != "" {
		return nil
	}
	evidence := "the cloud's list of " + region
	if label != "" {
		evidence += "; its label says " + label
	}
	return []Matter{{Reason: Undiscovered, Subject: "cloud " + id, Evidence: evidence,
		Command:  "plumlatch discover adopt " + id,
		Sentence: fmt.Sprintf("The cloud has %s (%s) in %s, and the ledger does not.", name, id, region)}}
}

// JudgeJournal says whether the journal needs a hand: checked is when it was
// last verified (zero: never), breaks how many breaks were found then, began
// the age of its first entry. again is when to judge again.
func (p Policy) JudgeJournal(checked time.Time, breaks int, began, now time.Time) (out []Matter, again time.Time) {
	say := func(r Reason, evidence, sentence string) {
		if !slices.Contains(p.Today.LeaveOut, r) {
			out = append(out, Matter{Reason: r, Subject: "journal", Evidence: evidence,
				Command: "plumlatch journal verify", Sentence: sentence})
		}
	}
	if breaks > 0 {
		say(JournalBroken, fmt.Sprintf("verified %s: %d breaks", on(checked), breaks),
			"The journal was changed behind the service's back.")
	}
	last := checked
	if last.IsZero() {
		last = began
	}
	due := last.Add(time.Duration(p.Today.JournalCheck))
	if !due.After(now) {
		evidence := "it was never verified"
		if !checked.IsZero() {
			evidence = "last verified " + on(checked)
		}
		say(JournalNotCheck, evidence, "The journal was not verified for a long time.")
		return out, time.Time{}
	}
	return out, due
}
