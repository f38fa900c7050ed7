package main

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/client"
	"plumlatch/core/agentcalls"
	"plumlatch/core/keypair"
	"plumlatch/core/logins"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/reach"
)

// loginsOptions are what instance logins is asked for.
type loginsOptions struct {
	logins.Change
	identity, passFile, tag, reason string
	agent, yes, asJSON              bool
}

// instanceLogins shows the ways of logging in to an instance besides keys, or changes them, in the engineer's own session.
func instanceLogins(fs *flag.FlagSet) func(*cli) error {
	var o loginsOptions
	fs.StringVar(&o.Password, "password", "", "`off` or on: whether people log in by a password")
	fs.StringVar(&o.Root, "root", "", "`off`, keys or on: whether root logs in, and whether by keys alone")
	fs.StringVar(&o.identity, "identity", "", "your private key `file`: it is used here and never sent (default: a key of ~/.ssh that opens the instance)")
	fs.BoolVar(&o.agent, "ssh-agent", false, "the same with the keys in the running ssh-agent")
	fs.StringVar(&o.passFile, "passphrase-file", "", "`file` with the passphrase of -identity")
	fs.StringVar(&o.tag, "tag", "", "instances with this tag, `NAME=VALUE` or NAME, instead of names")
	fs.StringVar(&o.reason, "reason", "", "`why`: it is kept in the journal")
	fs.BoolVar(&o.yes, "yes", false, "do not ask")
	fs.BoolVar(&o.asJSON, "json", false, "print JSON")
	return func(c *cli) error {
		changes := o.Change != logins.Change{}
		switch {
		case len(c.args) == 0 && o.tag == "":
			return usagef("INSTANCE is missing; or give -tag")
		case len(c.args) > 0 && o.tag != "":
			return usagef("give instances, or -tag")
		case o.identity != "" && o.agent:
			return usagef("give -identity or -ssh-agent")
		case changes && o.Check() != nil:
			return usagef("%s", o.Check())
		case changes && o.asJSON:
			return usagef("-json is for showing; leave out -password and -root")
		case o.asJSON && (o.tag != "" || len(c.args) > 1):
			return usagef("-json is for one instance")
		}
		service, err := c.service()
		if err != nil {
			return err
		}
		names := c.args
		if o.tag != "" {
			if names, err = c.runningWith(service, o.tag); err != nil {
				return err
			}
		}
		for n, name := range names {
			if len(names) > 1 {
				fmt.Fprintf(c.err, "%s (%d of %d)\n", name, n+1, len(names))
			}
			if err := c.loginsOf(service, name, o); err != nil {
				if left := len(names) - n - 1; left > 0 {
					fmt.Fprintf(c.err, "plumlatch: stopped at %s; %s after it as they were: %s\n", name, count(left, "instance"), strings.Join(names[n+1:], " "))
				}
				return err
			}
		}
		return nil
	}
}

// runningWith are the names of the instances that run and have a tag.
func (c *cli) runningWith(service *client.Client, tag string) ([]string, error) {
	all, err := service.Instances(c.ctx, url.Values{"tag": {tag}})
	if err != nil {
		return nil, err
	}
	var out []string
	for _, i := range all {
		if i.State == "running" && !i.Desktop {
			out = append(out, i.Name)
		}
	}
	if len(out) == 0 {
		return nil, failure{fmt.Errorf("no instance that runs has the tag %s", plaintext.Line(tag)), "plumlatch instance list"}
	}
	return out, nil
}

// loginHands change how people log in: the engineer's own session, or the agent there.
type loginHands interface {
	plan(logins.Change) (nothing bool, err error)
	// change lays the way back, writes the file, and has the server read it. What goes wrong is put back.
	change(signers []string) error
	back() error
	// confirm ends the way back, by a login that was made after the change.
	confirm(fresh *entrance, signer ssh.Signer) error
	heard()
	file() string
}

// loginsOf shows or changes the ways of one instance: by the agent where that may, else in a session.
func (c *cli) loginsOf(service *client.Client, name string, o loginsOptions) error {
	own := adoptOptions{identity: o.identity, agent: o.agent, passFile: o.passFile}
	i, err := service.Instance(c.ctx, name)
	if err != nil {
		return err
	}
	enter := func() (*knownEntrance, error) {
		return c.enterKnown(service, name, own, "plumlatch instance logins "+name)
	}
	var ways reach.LoginWays
	var hands loginHands
	var seenBy string
	var signer ssh.Signer
	var used *wire.Access
	agent, err := c.agentFor(service, name, i, agentcalls.Logins, own)
	if err == nil && agent != nil {
		ways, err = c.waysByAgent(agent)
		if p, ok := errors.AsType[*client.Problem](err); ok && (p.Of("agent-refused") || p.Of("agent-away")) {
			fmt.Fprintf(c.err, "Not by the agent: %s\n", p.Detail)
			agent, err = nil, nil
		}
	}
	if err != nil {
		return err
	}
	if agent != nil {
		hands, seenBy, signer = &loginsByAgent{c: c, agent: agent}, "the agent there", agent.signer
		own.signer = signer
	} else {
		in, err := enter()
		if err != nil {
			return err
		}
		defer in.close()
		ways, err = reach.ReadLoginWays(c.ctx, in.ssh, in.files, i.LoginUser)
		if errors.Is(err, reach.ErrNoSudo) {
			return failure{fmt.Errorf("%s has %s on %s: what its server obeys is not seen without root", i.LoginUser, cmp.Or(ways.Privilege, "no sudo"), i.Name),
				"the same command with the key of a user who has sudo without a password"}
		}
		if err != nil {
			return err
		}
		used, o.identity, signer = in.used, in.identity, in.signer
		own.identity, own.signer = in.identity, in.signer
		hands, seenBy = &loginsBySession{c: c, in: in.entrance, ways: &ways}, i.LoginUser+" with "+ways.Privilege
	}
	if len(ways.Said) > 0 { // what the way back there did, and nobody was there to hear
		for _, line := range ways.Said {
			fmt.Fprintf(c.err, "%s said of an earlier change: %s\n", i.Name, line)
		}
		if err := service.LoginsSeen(c.ctx, i.Name, ways.Said); err != nil {
			return err
		}
	}
	if o.Change == (logins.Change{}) {
		return c.showLogins(i, ways, seenBy, o.asJSON)
	}
	if err := c.changeLogins(service, i, hands, signer, ways, enter, o); err != nil {
		return err
	}
	if used != nil && used.ID != 0 {
		reportLogin(service, i.Name, *used, fileQuietly(o.identity))
	}
	return nil
}

// loginsBySession does it in an engineer's session with sudo.
type loginsBySession struct {
	c    *cli
	in   *entrance
	ways *reach.LoginWays
	made *reach.LoginChange
}

func (h *loginsBySession) plan(change logins.Change) (nothing bool, err error) {
	if h.made, err = h.ways.PlanLogins(h.c.ctx, h.in.ssh, h.in.files, change); err != nil {
		return false, err
	}
	return h.made.Nothing(), nil
}

func (h *loginsBySession) change(signers []string) error {
	if err := h.made.Arm(h.c.ctx, h.in.ssh, signers); err != nil {
		return err
	}
	return h.made.Place(h.c.ctx, h.in.ssh)
}

func (h *loginsBySession) back() error { return h.made.PutBack(h.c.ctx, h.in.ssh) }

func (h *loginsBySession) confirm(fresh *entrance, signer ssh.Signer) error {
	return h.made.Confirm(h.c.ctx, fresh.ssh, func(text []byte) (string, error) {
		signed, err := keypair.Sign(signer, logins.Namespace, text)
		return string(signed), err
	})
}

func (h *loginsBySession) heard()       { h.made.Heard(h.c.ctx, h.in.ssh) }
func (h *loginsBySession) file() string { return h.made.File() }

// loginsByAgent does it by the agent there. The login that confirms is an ordinary one, without sudo: the agent looks which process of the
// server's it is, and when that began.
type loginsByAgent struct {
	c      *cli
	agent  *agentHands
	wanted logins.Change
	done   agentcalls.LoginsDone
}

func (h *loginsByAgent) ask(ctx context.Context, args agentcalls.LoginsArgs) (out agentcalls.LoginsDone, err error) {
	return out, h.agent.ask(ctx, agentcalls.Logins, "", args, &out)
}

func (c *cli) waysByAgent(agent *agentHands) (ways reach.LoginWays, err error) {
	done, err := (&loginsByAgent{c: c, agent: agent}).ask(c.ctx, agentcalls.LoginsArgs{Do: "look"})
	if err == nil && json.Unmarshal(done.Ways, &ways) != nil {
		err = fmt.Errorf("what the agent of %s sees cannot be read", agent.agent.Instance)
	}
	return ways.Plain(), err
}

func (h *loginsByAgent) plan(change logins.Change) (bool, error) {
	h.wanted = change
	return false, nil // the agent says so when it is to change it
}

func (h *loginsByAgent) change(signers []string) (err error) {
	h.done, err = h.ask(h.c.ctx, agentcalls.LoginsArgs{Do: "change", Change: h.wanted, Signers: signers})
	h.done.File = plaintext.Line(plaintext.Cut(h.done.File, 300))
	if err == nil && h.done.Nothing {
		return errHasItSo
	}
	return err
}

func (h *loginsByAgent) back() error {
	_, err := h.ask(h.c.ctx, agentcalls.LoginsArgs{Do: "back"})
	return err
}

func (h *loginsByAgent) confirm(fresh *entrance, signer ssh.Signer) error {
	process, err := reach.OwnProcess(h.c.ctx, fresh.ssh)
	if err != nil {
		return err
	}
	signed, err := keypair.Sign(signer, logins.Namespace, []byte(h.done.Challenge))
	if err != nil {
		return err
	}
	_, err = h.ask(h.c.ctx, agentcalls.LoginsArgs{Do: "confirm", Process: process, Signature: string(signed)})
	return err
}

func (h *loginsByAgent) heard() { _, _ = h.ask(h.c.ctx, agentcalls.LoginsArgs{Do: "heard"}) } // it is told once more otherwise

func (h *loginsByAgent) file() string { return h.done.File }

// errHasItSo says that nothing is to be changed.
var errHasItSo = errors.New("it has it so already")

// shownWay is one way of logging in, as -json has it.
type shownWay struct {
	Way     string   `json:"way"`
	Setting string   `json:"setting"` // yes, no, prohibit-password ...; "" where it was not seen
	Opens   []string `json:"opens"`   // users whom it lets in
	NotSeen []string `json:"not_seen"`
	SetIn   string   `json:"set_in"` // FILE:LINE, the server's command line, or its default
}

type shownLogins struct {
	Instance  string     `json:"instance"`
	Privilege string     `json:"privilege"`
	Ways      []shownWay `json:"ways"`
	ForSome   []string   `json:"for_some"`   // what Match blocks set
	FirstBoot []string   `json:"first_boot"` // files of cloud-init that set it
	Waits     bool       `json:"waits"`      // a change waits there for its confirmation
	NotSeen   []string   `json:"not_seen"`
}

func (c *cli) showLogins(i wire.Instance, ways reach.LoginWays, seenBy string, asJSON bool) error {
	out := shownLogins{Instance: i.Name, Privilege: ways.Privilege, ForSome: []string{}, FirstBoot: append([]string{}, ways.FirstBoot...), Waits: ways.Waits,
		NotSeen: append([]string{}, ways.NotSeen...)}
	for _, w := range logins.Ways {
		out.Ways = append(out.Ways, wayShown(w, i.LoginUser, ways))
	}
	for _, b := range ways.Config.Below {
		if slices.Contains(logins.Ways, logins.Way(b.Keyword)) {
			out.ForSome = append(out.ForSome, plaintext.Line(fmt.Sprintf("%s:%d: below \"Match %s\", %s is %s", b.File, b.Line, b.Match,
				logins.Way(b.Keyword).Keyword(), b.Value)))
		}
	}
	if asJSON {
		return c.json(out)
	}
	fmt.Fprintf(c.out, "Ways of logging in to %s besides keys, as its own server says (sshd -T), asked by %s.\n\n", i.Name, seenBy)
	var rows [][]string
	for _, w := range out.Ways {
		who := strings.Join(w.Opens, ", ")
		if len(w.NotSeen) > 0 {
			who = strings.TrimPrefix(who+"; not seen for "+strings.Join(w.NotSeen, ", "), "; ")
		}
		rows = append(rows, []string{w.Way, cmp.Or(w.Setting, "not seen"), cmp.Or(who, "nobody"), w.SetIn})
	}
	c.table([]string{"way", "setting", "lets in", "set in"}, rows, "")
	fmt.Fprintln(c.out)
	c.said("for some only", out.ForSome)
	for _, f := range out.FirstBoot {
		fmt.Fprintf(c.out, "its image sets password logins at a first boot: %s\n", f)
	}
	if out.Waits {
		fmt.Fprintln(c.out, "a change waits there for its confirmation; it is put back within three minutes")
	}
	c.said("not seen", out.NotSeen)
	c.wouldFollow(i, ways)
	return nil
}

func wayShown(w logins.Way, user string, ways reach.LoginWays) shownWay {
	out := shownWay{Way: w.String(), Setting: ways.Effective[user][w], Opens: []string{}, NotSeen: []string{}, SetIn: "the server's default"}
	if w == logins.Root {
		out.Setting = cmp.Or(ways.Effective["root"][w], out.Setting)
	}
	for _, a := range ways.Accounts {
		e := ways.Effective[a.User]
		if len(e) == 0 {
			out.NotSeen = append(out.NotSeen, a.User)
			continue
		}
		switch opens, known := a.Opens(w, e); {
		case !known:
			out.NotSeen = append(out.NotSeen, a.User)
		case opens:
			out.Opens = append(out.Opens, a.User)
		}
	}
	if out.Setting == "" {
		out.SetIn = "not set in its files, as far as they are read"
	}
	if s, ok := ways.Config.Get(w.Keyword()); ok {
		out.SetIn = plaintext.Line(fmt.Sprintf("%s:%d", s.File, s.Line))
	}
	for _, o := range ways.Started {
		if strings.HasPrefix(strings.ToLower(o), string(w)) {
			out.SetIn = "the server's command line (-o " + o + ")"
		}
	}
	return out
}

// wouldFollow says what switching passwords off would do, where they are on.
func (c *cli) wouldFollow(i wire.Instance, ways reach.LoginWays) {
	if e := ways.Effective[i.LoginUser]; e[logins.Password] != "yes" && e[logins.Keyboard] != "yes" {
		return
	}
	left := logins.LeftOut(ways.Accounts, ways.Effective, logins.Change{Password: "off"})
	if len(left) > 0 {
		fmt.Fprintf(c.out, "with -password off: %s would get in no more, who %s a password and no key\n", strings.Join(left, ", "),
			map[bool]string{true: "has", false: "have"}[len(left) == 1])
	} else {
		fmt.Fprintln(c.out, "with -password off: nobody would be left out who has a key")
	}
	fmt.Fprintf(c.out, "next: plumlatch instance logins %s -password off\n", i.Name)
}

// changeLogins changes the ways of one instance: the way back is laid first, and a login that was made after the change confirms it.
func (c *cli) changeLogins(service *client.Client, i wire.Instance, hands loginHands, signer ssh.Signer, ways reach.LoginWays,
	enter func() (*knownEntrance, error), o loginsOptions) error {
	if o.Root == "off" && i.LoginUser == "root" {
		return failure{fmt.Errorf("you come in to %s as root yourself", i.Name), "log in as another user who has sudo without a password"}
	}
	so := func() error {
		fmt.Fprintf(c.out, "%s has it so already: %s.\n", i.Name, o.Change)
		return nil
	}
	nothing, err := hands.plan(o.Change)
	switch {
	case errors.Is(err, reach.ErrWaits):
		return failure{fmt.Errorf("%s: %w", i.Name, err), "plumlatch instance logins " + i.Name}
	case err != nil:
		return fmt.Errorf("%s: %w", i.Name, err)
	case nothing:
		return so()
	}
	if left := logins.LeftOut(ways.Accounts, ways.Effective, o.Change); len(left) > 0 && !o.yes {
		if err := c.confirm(fmt.Sprintf("%s get in to %s no more then, as far as is seen. Go on?", strings.Join(left, ", "), i.Name)); err != nil {
			return err
		}
	}
	w, err := service.SetLogins(c.ctx, i.Name, wire.SetLogins{Password: o.Password, Root: o.Root, Reason: o.reason})
	if err != nil {
		return err
	}
	tell := func(confirmed bool, said string) error {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(c.ctx), 30*time.Second)
		defer cancel()
		return service.LoginsTold(ctx, w.ID, wire.LoginsTold{Confirmed: confirmed, Said: said})
	}
	if err := c.carryOut(service, w, i, hands, signer, enter, o); err != nil {
		if wrong := tell(false, plaintext.Line(plaintext.Cut(err.Error(), 300))); wrong != nil {
			return errors.Join(err, wrong)
		}
		if errors.Is(err, errHasItSo) {
			return so()
		}
		hands.heard()
		return err
	}
	if err := tell(true, ""); err != nil {
		return err
	}
	hands.heard()
	for !w.Over() {
		if w, err = service.WorkByID(c.ctx, w.ID); err != nil {
			return err
		}
		select {
		case <-c.ctx.Done():
			return failure{errors.New("stopped following; the change is confirmed"), fmt.Sprintf("plumlatch work follow %d", w.ID)}
		case <-time.After(150 * time.Millisecond):
		}
	}
	if w.State != "done" {
		return c.workFailed(service, w)
	}
	fmt.Fprintf(c.out, "%s: %s (in %s).\n", i.Name, plaintext.Line(w.Outcome), hands.file())
	return nil
}

// carryOut changes it there. What goes wrong is put back.
func (c *cli) carryOut(service *client.Client, w wire.Work, i wire.Instance, hands loginHands, signer ssh.Signer, enter func() (*knownEntrance, error),
	o loginsOptions) error {
	todo, err := c.toChange(service, w)
	if err != nil {
		return err
	}
	own := keypair.Public{Blob: signer.PublicKey().Marshal()}
	if !slices.ContainsFunc(todo.Signers, func(line string) bool {
		p, err := keypair.ReadPublic([]byte(line))
		return err == nil && p.Fingerprint() == own.Fingerprint()
	}) {
		return failure{fmt.Errorf("%s is no person's key of %s that a login was seen with, so it confirms nothing", own.Fingerprint(), i.Name),
			"plumlatch open " + i.Name + ", with that key; it has to be recorded"}
	}
	if err := hands.change([]string{own.Line()}); err != nil {
		return err
	}
	fmt.Fprintf(c.err, "The way back lies on %s: without a new login within three minutes it puts all back.\n", i.Name)
	back := func(err error) error {
		if wrong := hands.back(); wrong != nil {
			return fmt.Errorf("%w; it is put back by the instance itself within three minutes", err)
		}
		return fmt.Errorf("%w; it was put back", err)
	}
	fresh, err := enter()
	if err != nil {
		return back(fmt.Errorf("a new login did not succeed after the change: %w", err))
	}
	defer fresh.close()
	if o.Password == "off" && i.Via == nil {
		t := reach.Target{Address: i.Address, Port: i.Port, User: i.LoginUser}
		for _, k := range fresh.door.keys {
			t.HostKeys = append(t.HostKeys, k.Blob)
		}
		methods, open, err := reach.Methods(c.ctx, here, t)
		switch {
		case err != nil:
			return back(fmt.Errorf("the server was to be asked from here what it offers now: %w", err))
		case open || slices.Contains(methods, "password"):
			return back(fmt.Errorf("asked from here, the server still offers %s a password", i.LoginUser))
		}
	}
	err = hands.confirm(fresh.entrance, signer)
	if errors.Is(err, reach.ErrWentBack) {
		return failure{err, "plumlatch instance logins " + i.Name}
	}
	if err != nil {
		return back(err)
	}
	return nil
}

// toChange waits until the work waits for this session.
func (c *cli) toChange(service *client.Client, w wire.Work) (wire.LoginsToChange, error) {
	w, err := c.settled(service, w)
	if err != nil {
		return wire.LoginsToChange{}, err
	}
	if w.State != "waiting" {
		return wire.LoginsToChange{}, c.workFailed(service, w)
	}
	return service.LoginsToChange(c.ctx, w.ID)
}
