package why

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"plumlatch/core/inbound"
)

// The stages, from outside to inside.
const (
	stageInstance = "instance"
	stageNetwork  = "network"
	stageServer   = "server"
	stageFile     = "your file"
	stageAccount  = "account"
	stageKey      = "key on the instance"
	stageSession  = "session"
)

// Stages are in the order in which a door is gone through.
var Stages = []string{stageInstance, stageNetwork, stageServer, stageFile, stageAccount, stageKey, stageSession}

// judge collects what is found while it goes through the door.
type judge struct {
	f        Facts
	r        Report
	findings []Finding
}

func (j *judge) wrong(code Code, stage, next, sentence string, more ...func(*Finding)) {
	f := Finding{Code: code, Stage: stage, Sentence: sentence, Next: next}
	for _, m := range more {
		m(&f)
	}
	j.findings = append(j.findings, f)
}

func evidence(format string, a ...any) func(*Finding) {
	return func(f *Finding) { f.Evidence = fmt.Sprintf(format, a...) }
}

func sideBySide(expected, found string) func(*Finding) {
	return func(f *Finding) { f.Expected, f.Found = expected, found }
}

func soft(f *Finding) { f.Soft = true }

func fix(what string) func(*Finding) { return func(f *Finding) { f.Fix = what } }

func (j *judge) pass(code Code, stage, format string, a ...any) {
	j.r.Passed = append(j.r.Passed, Passed{code, stage, fmt.Sprintf(format, a...)})
}

func (j *judge) notSeen(format string, a ...any) {
	j.r.NotSeen = append(j.r.NotSeen, fmt.Sprintf(format, a...))
}

// Judge goes through the door from outside to inside. It goes on past a
// failure as far as something was seen there; First is the outermost cause that
// stands in the way for certain, else the outermost of all.
func Judge(f Facts) Report {
	j := &judge{f: f, r: Report{Instance: f.Instance, User: f.User, Also: []Finding{}, Passed: []Passed{},
		NotSeen: append([]string{}, f.NotSeen...)}}
	if f.Key != nil {
		if j.r.Key = f.Key.Name; j.r.Key == "" {
			j.r.Key = f.Key.Fingerprint
		}
	}
	if j.instance() && j.address() && j.network() {
		j.server()
	}
	j.file()
	if j.reachedServer() {
		j.account()
	}
	j.passphrase()
	j.r.Passed = slices.DeleteFunc(j.r.Passed, func(p Passed) bool {
		return slices.ContainsFunc(j.findings, func(f Finding) bool { return f.Code == p.Code })
	})
	slices.SortStableFunc(j.r.Passed, func(a,
		b Passed) int {
		return slices.Index(Stages, a.Stage) - slices.Index(Stages, b.Stage)
	})
	first := slices.IndexFunc(j.findings, func(f Finding) bool { return !f.Soft })
	if first < 0 && len(j.findings) > 0 {
		first = 0
	}
	for n, f := range j.findings {
		if n == first {
			j.r.First = &j.findings[n]
		} else {
			j.r.Also = append(j.r.Also, f)
		}
	}
	return j.r
}

func (j *judge) instance() bool {
	f := j.f
	switch {
	case f.Adopted:
		j.notSeen("whether the machine runs: it was adopted, and no cloud of ours is behind it")
		return true
	case !f.CloudAsked:
		j.notSeen("what the cloud says of it: %s", f.CloudFailed)
		if f.State == "stopped" {
			j.wrong(InstanceStopped, stageInstance, "plumlatch instance start "+f.Instance,
				"The instance is stopped.", evidence("the ledger says so; the cloud did not answer"))
			return false
		}
		return true
	case f.CloudGone:
		j.wrong(InstanceGone, stageInstance, "plumlatch instance remove "+f.Instance,
			"The instance is gone: the cloud knows it no more.", evidence("the cloud was asked just now"))
		return false
	}
	j.pass(InstanceGone, stageInstance, "the cloud knows it")
	switch f.CloudState {
	case "running":
		j.pass(InstanceStopped, stageInstance, "it runs, the cloud says")
		return true
	case "stopped":
		j.wrong(InstanceStopped, stageInstance, "plumlatch instance start "+f.Instance, "The instance is stopped.",
			evidence("the cloud was asked just now"))
	default:
		j.wrong(InstanceBusy, stageInstance, "plumlatch work list -state open", "The instance is "+f.CloudState+
			": it is on its way to another state.", evidence("the cloud was asked just now"))
	}
	return false
}

func (j *judge) address() bool {
	f := j.f
	switch {
	case f.CloudAsked && f.CloudAddress != "" && f.CloudAddress != f.Address:
		more := "; what answers at the old one may be anybody's machine"
		if s := f.other(); s != "" {
			more = "; the address went to another machine: it answers with host key " + s
		}
		j.wrong(AddressChanged, stageNetwork, "plumlatch instance refresh "+f.Instance,
			"Its address has changed, and the ledger has the old one.",
			evidence("the cloud says %s just now%s", f.CloudAddress, more), sideBySide(f.Address, f.CloudAddress))
		return false
	case f.Address == "":
		j.wrong(NoAddress, stageNetwork, "plumlatch static-address list",
			"It has no address that it could be reached at.", evidence("neither the ledger nor the cloud has one"))
		return false
	case f.Written != "" && f.Written != f.Address:
		j.wrong(AddressChanged, stageNetwork, "plumlatch hosts write",
			"Its address has changed, and your written configuration has the old one.",
			evidence("ssh %s goes to the old one, which may be a stranger's now", f.Instance),
			sideBySide(f.Address, f.Written), fix("write the configuration anew"))
		return true
	}
	if f.CloudAsked {
		j.pass(AddressChanged, stageNetwork, "its address is %s, as the ledger has it", f.Address)
	}
	return true
}

// other returns the host key that answers at the recorded address, if it is not a recorded one.
func (f Facts) other() string {
	for _, s := range []*Side{f.Here, f.Service} {
		if s != nil && s.HostKey != "" && !slices.Contains(f.HostKeys, s.HostKey) {
			return s.HostKey
		}
	}
	return ""
}

// near is the side that counts: the engineer's, or the service's where nobody else asks.
func (j *judge) near() (side, far *Side, who string) {
	if j.f.Here != nil {
		return j.f.Here, j.f.Service, "from here"
	}
	return j.f.Service, nil, "from the service"
}

func (j *judge) network() bool {
	f := j.f
	side, far, who := j.near()
	if side == nil {
		if f.Via != "" {
			j.notSeen("the port, from here: it is reached through the jump host %s", f.Via)
		}
		return true
	}
	place := fmt.Sprintf("%s port %d", f.Address, f.Port)
	farWord := ""
	if far != nil {
		farWord = map[string]string{Answers: "; the service, from " + far.From + ", gets through",
			Refused: "; the service finds it closed too", Silent: "; the service gets no answer either",
			Closed:      "; the service is turned away too",
			Unreachable: "; the service does not get there either"}[far.Reached]
	}
	inRules, rulesWord := j.rules()
	switch side.Reached {
	case Unreachable:
		next := "plumlatch static-address list"
		ways := "a static address"
		if far != nil && far.Reached == Answers {
			ways = "a jump host, or a network that the service is in (it gets there), or a static address"
		}
		j.wrong(NoAddress, stageNetwork, next, "No way leads to its address "+who+".",
			evidence("%s: %s%s; ways there are: %s", place, side.Said, farWord, ways))
		return false
	case Silent:
		j.pass(NoAddress, stageNetwork, "there is an address: %s", f.Address)
		if f.RulesSeen && !inRules {
			from := "me"
			if f.Here == nil {
				from = side.From
			}
			j.wrong(RuleShuts, stageNetwork, "plumlatch instance admit "+f.Instance+" -from "+from,
				"No inbound rule lets this address in.",
				evidence("%s asked %s and got no answer%s", j.asker(side), place, farWord),
				sideBySide(rulesWord, j.asker(side)))
			return false
		}
		if f.RulesSeen {
			j.pass(RuleShuts, stageNetwork, "an inbound rule lets %s in", j.asker(side))
		}
		j.wrong(PortSilent, stageNetwork, "plumlatch instance boot-log "+f.Instance,
			"The port does not answer: packets are lost, or the machine's own firewall holds them.",
			evidence("%s said nothing in time%s", place, farWord))
		return false
	}
	j.pass(NoAddress, stageNetwork, "there is a way to %s", f.Address)
	if f.RulesSeen || side.Reached == Answers {
		j.pass(RuleShuts, stageNetwork, "no inbound rule is in the way of %s", j.asker(side))
	}
	switch side.Reached {
	case Refused:
		j.wrong(PortClosed, stageNetwork, "plumlatch instance boot-log "+f.Instance,
			"Nothing listens on the port: the SSH server is down, or on another port.",
			evidence("%s refused the connection%s", place, farWord))
		return false
	case OtherSpeech:
		j.pass(PortClosed, stageNetwork, "something listens on port %d", f.Port)
		j.wrong(NotSSH, stageServer, "plumlatch instance boot-log "+f.Instance,
			"What listens there is no SSH server.", evidence("it said %q%s", side.Said, farWord))
		return false
	case Closed:
		if f.Forwarded && side.Said == "" && (far == nil || far.Reached != Answers) {
			j.wrong(PortClosed, stageNetwork, "plumlatch instance boot-log "+f.Instance,
				"Nothing answers behind the forward that leads to it: its SSH server does not run, or it boots still; or the server takes no more connections now.",
				evidence("what listens at %s is the host's own forward, and it closes the connection before a word is said%s", place, farWord))
			return false
		}
		j.pass(PortClosed, stageNetwork, "something listens on port %d", f.Port)
		said := "it closes the connection before it says a word"
		if side.Said != "" {
			said = fmt.Sprintf("it said %q and closed the connection", side.Said)
		}
		if strings.Contains(side.Said, "Not allowed") || far != nil && far.Reached == Answers {
			j.wrong(Penalised, stageServer, "",
				"The server turns this address away: it is penalised, or has too many connections open.",
				evidence("%s%s", said, farWord), waitMinutes)
		} else {
			j.wrong(TooManyConns, stageServer, "", "The server takes no more connections now.",
				evidence("%s%s", said, farWord), waitMinutes)
		}
		return false
	}
	j.pass(PortClosed, stageNetwork, "something listens on port %d", f.Port)
	j.pass(PortSilent, stageNetwork, "it answers %s", who)
	j.pass(NotSSH, stageServer, "it is an SSH server: %s", side.Said)
	j.pass(Penalised, stageServer, "it does not turn this address away")
	return true
}

func waitMinutes(f *Finding) {
	f.Next = "wait some minutes, end what keeps connecting, and ask again: the server forgets by itself"
}

// rules tells whether an inbound rule lets the near side in, and whom they let in.
func (j *judge) rules() (in bool, words string) {
	var all []inbound.Rule
	for _, r := range j.f.Rules {
		if p, err := netip.ParsePrefix(r.From); err == nil {
			all = append(all, inbound.Rule{From: p})
		}
	}
	side, _, _ := j.near()
	a, err := netip.ParseAddr(j.asker(side))
	if err != nil {
		return true, inbound.Words(all)
	}
	_, in = inbound.Admits(all, a)
	return in, inbound.Words(all)
}

// asker is the address that the cloud sees the near side under.
func (j *judge) asker(side *Side) string {
	if j.f.Here != nil && j.f.SeenAs != "" {
		return j.f.SeenAs
	}
	return side.From
}

func (j *judge) server() {
	f := j.f
	side, _, _ := j.near()
	if side == nil {
		return
	}
	switch {
	case side.Algorithms != "":
		j.wrong(NoAlgorithm, stageServer, "", "The two ends share no algorithm.", evidence("%s", side.Algorithms),
			func(x *Finding) {
				x.Next = "bring the older end up to date; plumlatch survey " + f.Instance +
					" still reads it where the service gets in"
			})
	case len(f.HostKeys) == 0:
		j.wrong(NoHostKey, stageServer, "plumlatch instance host-key "+f.Instance,
			"No host key of it is recorded, so nobody can tell whether it is "+f.Instance+" that answers.",
			evidence("it offers %s", side.HostKey), sideBySide("none recorded", side.HostKey))
	case side.HostKey != "" && !slices.Contains(f.HostKeys, side.HostKey):
		likely := "it was rebuilt, or something else answers in its place"
		if f.Restarted {
			likely = "the address went to another machine when it was stopped and started; or it was rebuilt"
		}
		j.wrong(HostKey, stageServer, "plumlatch instance host-key "+f.Instance,
			"Another host key answers than the recorded one. Nothing was sent to it.", evidence("likely: %s", likely),
			sideBySide(strings.Join(f.HostKeys, ", "), side.HostKey))
	case side.HostKey != "":
		j.pass(NoAlgorithm, stageServer, "the two ends share algorithms")
		j.pass(NoHostKey, stageServer, "a host key is recorded")
		j.pass(HostKey, stageServer, "it is %s: its host key is %s", f.Instance, side.HostKey)
	default:
		j.notSeen("its host key: the connection broke off before it came")
	}
}

// reachedServer tells whether nothing outside stands in the way of asking it.
func (j *judge) reachedServer() bool {
	for _, f := range j.findings {
		if f.Stage == stageInstance || f.Stage == stageNetwork && f.Fix == "" || f.Stage == stageServer {
			return false
		}
	}
	return true
}

func (j *judge) file() {
	if j.f.File == nil {
		j.notSeen("private files: they are on the engineer's machine")
		return
	}
	j.findings = append(j.findings, j.f.File.Findings...)
	if len(j.f.File.Findings) > 0 {
		return
	}
	if j.f.File.Path == "" {
		j.pass(FileMissing, stageFile, "the ssh-agent has the key")
		return
	}
	j.pass(FileMissing, stageFile, "%s is there", j.f.File.Path)
	j.pass(FileIsPublic, stageFile, "it holds a private key")
	j.pass(FileDamaged, stageFile, "it is whole")
	j.pass(FileLineEndings, stageFile, "its line endings are as ssh wants them")
	j.pass(FileMode, stageFile, "it is yours alone to read")
	j.pass(PubDiffers, stageFile, "the .pub beside it, if there is one, is its own")
}

func (j *judge) passphrase() {
	if slices.ContainsFunc(j.findings, func(f Finding) bool { return f.Code == Passphrase }) {
		return // the one that was given is wrong
	}
	if f := j.f.File; f != nil && f.Locked && !f.InAgent {
		j.wrong(Passphrase, stageFile, "ssh-add "+f.Path,
			"The private file needs its passphrase, and no agent has the key.",
			evidence("%s is encrypted; ssh asks for the passphrase on a terminal, and programs cannot answer",
				f.Path), soft)
	} else if f != nil && len(f.Findings) == 0 {
		j.pass(Passphrase, stageFile, "no passphrase is in the way")
	}
}
