package main

import (
	"errors"
	"flag"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"plumlatch/client"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/sshconfig"
	"plumlatch/core/why"
	"plumlatch/core/wire"
	"plumlatch/reach"
)

// asking is what "why" was asked.
type asking struct {
	name, identity, user, dir string
	passphrase                []byte
	agent                     bool
}

func whyCommand(fs *flag.FlagSet) func(*cli) error {
	var q asking
	fs.StringVar(&q.identity, "identity", "",
		"`file` with the private key that should open it (default: a key of -dir that does)")
	fs.StringVar(&q.user, "user", "", "log in as this `user` (default: the recorded login user)")
	fs.StringVar(&q.dir, "dir", "", "`folder` to look for keys in (default ~/.ssh)")
	fs.BoolVar(&q.agent, "ssh-agent", false, "a key of the running ssh-agent")
	passFile := fs.String("passphrase-file", "", "`file` with the passphrase of -identity")
	fix := fs.Bool("fix", false, "mend what is wrong on this machine, and look again")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("INSTANCE")
		if err != nil {
			return err
		}
		if q.user != "" && !names.LoginUser(q.user) {
			return usagef("-user: that is no login user")
		}
		if q.agent && q.identity != "" {
			return usagef("give -identity or -ssh-agent, and not both")
		}
		if *passFile != "" {
			if q.passphrase, err = readPassphrase(*passFile, "-passphrase-file"); err != nil {
				return err
			}
			defer clear(q.passphrase)
		}
		q.name = args[0]
		r, err := c.findWhy(service, q)
		if err != nil {
			return err
		}
		var mended []string
		if *fix {
			if mended, err = c.fix(service, r); err != nil {
				return err
			}
			if len(mended) > 0 {
				if r, err = c.findWhy(service, q); err != nil {
					return err
				}
			}
		}
		if r.First != nil {
			c.exit = exitNeedsHand
		}
		if *asJSON {
			return c.json(struct {
				why.Report
				Mended []string `json:"mended,omitempty"`
			}{r.Report, mended})
		}
		for _, m := range mended {
			fmt.Fprintf(c.out, "mended: %s\n", plaintext.Line(m))
		}
		c.printWhy(r.Report, *fix)
		return nil
	}
}

// whyReport is what was found, and the file that it was found about.
type whyReport struct {
	why.Report
	file string
}

// findWhy goes through the door, from here and from the service.
func (c *cli) findWhy(service *client.Client, q asking) (whyReport, error) {
	i, err := service.Instance(c.ctx, q.name)
	if err != nil {
		return whyReport{}, err
	}
	rows, err := service.Access(c.ctx, i.Name, "")
	if err != nil {
		return whyReport{}, err
	}
	l := c.lookForKey(rows, i.Name, q)
	user := q.user
	if user == "" {
		user = i.LoginUser
	}
	ask := wire.WhyRequest{User: user}
	if len(l.public.Blob) > 0 {
		ask.PublicKey = keypair.Public{Blob: l.public.Blob}.Line()
	}
	here := c.fromHere(i, user, l)
	if rules, err := service.Rules(c.ctx, i.Name); err == nil {
		for _, a := range callerAddresses(c.ctx, rules.CallerURL) {
			if ask.SeenAs == "" || a.Is4() {
				ask.SeenAs = a.String()
			}
		}
	}
	if ask.SeenAs == "" && here != nil {
		ask.SeenAs = here.From
	}
	answer, err := service.Why(c.ctx, i.Name, ask)
	if err != nil {
		return whyReport{}, err
	}
	f := answer.Facts
	f.Here, f.File = here, &l.File
	if len(l.public.Blob) == 0 {
		f.Key = nil
	}
	f.Written = writtenAddress(i.Name)
	c.agentFacts(&f, l)
	c.loginFacts(&f, i, user, l)
	return whyReport{why.Judge(f), l.Path}, nil
}

// lookForKey finds the private half that should open the instance, and looks at it.
func (c *cli) lookForKey(rows []wire.Access, instance string, q asking) looked {
	if q.identity != "" {
		return lookAtFile(q.identity, q.passphrase)
	}
	for _, k := range agentKeys() {
		for _, a := range rows {
			p, err := keypair.ReadPublic([]byte(a.PublicKey))
			if err == nil && !a.Steward && string(p.Blob) == string(k.Blob) && q.agent {
				return looked{File: why.File{InAgent: true, Path: ""}, public: p}
			}
		}
	}
	row, file, err := chooseIdentity(forUser(rows, q.user), instance, "", q.dir)
	if err == nil && row != nil {
		return lookAtFile(file, q.passphrase)
	}
	out := looked{}
	sentence, next := "No private file here is of a key that opens it.", "plumlatch why "+instance+" -identity FILE"
	if q.agent {
		sentence, next = "No key of the ssh-agent opens it.", "ssh-add FILE"
	}
	evidence := "nothing was found"
	if err != nil {
		evidence = err.Error()
	}
	out.Findings = []why.Finding{{Code: why.FileMissing, Stage: stageYourFile, Sentence: sentence,
		Evidence: evidence, Next: next}}
	return out
}

// fromHere knocks and asks from this machine; nil where there is nothing to dial.
func (c *cli) fromHere(i wire.Instance, user string, l looked) *why.Side {
	if i.Address == "" || i.Via != nil || i.State != "running" {
		return nil
	}
	t := reach.Target{Address: i.Address, Port: i.Port, User: user}
	for _, h := range i.HostKeys {
		if p, err := keypair.ReadPublic([]byte(h.PublicKey)); err == nil {
			t.HostKeys = append(t.HostKeys, p.Blob)
		}
	}
	k := reach.Knock(c.ctx, here, t)
	side := &why.Side{From: k.From, Reached: k.Reached, Said: k.Said, Algorithms: k.Algorithms,
		Asked: map[string]string{}}
	if side.From == "" {
		side.From = sourceFor(i.Address)
	}
	if len(k.HostKey) > 0 {
		side.HostKey = keypair.Fingerprint(k.HostKey)
	}
	if k.Reached != why.Answers || len(l.public.Blob) == 0 ||
		!slices.ContainsFunc(t.HostKeys, func(b []byte) bool { return string(b) == string(k.HostKey) }) {
		return side
	}
	ask := func(user string) reach.Answer {
		t.User = user
		r := reach.Probe(c.ctx, here, t, [][]byte{l.public.Blob}, time.Now)[0]
		if r.Answer == reach.NotAsked {
			side.AskedFailed = r.Detail
		} else {
			side.Asked[user+" "+l.public.Fingerprint()] = string(r.Answer)
		}
		return r.Answer
	}
	if ask(user) != reach.Accepted && user != i.LoginUser {
		ask(i.LoginUser)
	}
	return side
}

// sourceFor is the address of this machine from which it would dial another;
// nothing is sent.
func sourceFor(address string) string {
	conn, err := net.Dial("udp", net.JoinHostPort(address, "9"))
	if err != nil {
		return ""
	}
	defer conn.Close()
	host, _, err := net.SplitHostPort(conn.LocalAddr().String())
	if err != nil {
		return ""
	}
	return host
}

// writtenAddress is the address that "hosts write" wrote for an instance, "" for none.
func writtenAddress(name string) string {
	files, err := hostsPlace()
	if err != nil {
		return ""
	}
	text, err := readOptional(files.config)
	if err != nil || headValue(text, headService) != os.Getenv("PLUMLATCH_URL") {
		return ""
	}
	return sshconfig.Blocks(text)[name]["HostName"]
}

// agentFacts counts the keys that plain ssh would offer before the right one:
// the agent's in their order, before what only a file has (ssh_config(5),
// IdentityFile and IdentitiesOnly).
func (c *cli) agentFacts(f *why.Facts, l looked) {
	keys := agentKeys()
	if len(keys) == 0 {
		return
	}
	a := &why.Agent{Relevant: true, Written: f.Written != "", Before: len(keys)}
	if n := agentPlace(l.public); n >= 0 {
		a.Before = n
	}
	f.Agent = a
}

// loginFacts logs in with this machine's own ssh, where nothing is known to
// stand in the way, and where it can be done without a question.
func (c *cli) loginFacts(f *why.Facts, i wire.Instance, user string, l looked) {
	reached := f.Here == nil && f.Via != "" ||
		f.Here != nil && f.Here.Reached == why.Answers &&
			(f.Here.HostKey == "" || slices.Contains(f.HostKeys, f.Here.HostKey))
	f.Login = &why.Login{}
	switch {
	case len(l.Findings) > 0:
		f.Login.NotTried = "the private file is not in order"
		return
	case !reached:
		f.Login.NotTried = "the server was not reached"
		return
	case f.Key == nil:
		f.Login.NotTried = "there is no key to try"
		return
	case len(f.HostKeys) == 0:
		f.Login.NotTried = "no host key is known"
		return
	}
	i.LoginUser = user
	d, err := checkDoor(i)
	if err != nil {
		f.Login.NotTried = err.Error()
		return
	}
	*f.Login = c.tryLogin(d, l)
	if f.Here != nil && f.Here.Algorithms != "" && f.Login.Tried {
		// It is ssh that has to agree with the server, and not this program.
		f.Here.Algorithms = ""
		if strings.Contains(f.Login.Said, "Unable to negotiate") || strings.Contains(f.Login.Said, "no matching") {
			f.Here.Algorithms = f.Login.Said
		} else if f.Login.TookKey || f.Login.Authenticated {
			f.Here.HostKey = f.HostKeys[0] // ssh takes no other: it is pinned
			f.Here.Asked[user+" "+l.public.Fingerprint()] = why.Accepted
		}
	}
	if f.Here != nil && f.Login.TookKey && f.Here.Asked[user+" "+l.public.Fingerprint()] == "" {
		f.Here.Asked[user+" "+l.public.Fingerprint()] = why.Accepted
	}
	forced := f.Login.Forced
	safe := f.Login.OptionsKnown
	for n, line := range f.Inside.Lines {
		forced = forced || line.Forced
		safe = safe || n == 0 && f.Inside.FileSeen
	}
	if f.Login.Authenticated && safe && !forced {
		c.trySession(d, l, f.Login)
	}
}

// fix mends what is wrong on this machine.
func (c *cli) fix(service *client.Client, r whyReport) (done []string, err error) {
	all := r.Also
	if r.First != nil {
		all = append([]why.Finding{*r.First}, all...)
	}
	hosts := false
	for _, f := range all {
		if f.Fix == "" {
			continue
		}
		if f.Code == why.AddressChanged || f.Code == why.TooManyKeys {
			if hosts {
				continue
			}
			hosts = true
			p, err := c.planHosts(service, os.Getenv("PLUMLATCH_URL"), filepath.Dir(r.file), false, nil)
			if err == nil && len(p.moved) > 0 {
				err = failure{errors.New("a host key has changed, which needs a yes"), "plumlatch hosts write"}
			}
			if err == nil {
				var in included
				if in, err = p.files.include(); err == nil && in.state != sshconfig.IncludeFirst {
					err = failure{errors.New("your configuration does not include the written one yet"),
						"plumlatch hosts write"}
				}
			}
			if err == nil {
				err = p.write()
			}
			if err != nil {
				return done, err
			}
			done = append(done, p.files.config+" is written anew")
			continue
		}
		what, err := mend(f, r.file)
		if err != nil {
			return done, err
		}
		if what != "" {
			done = append(done, what)
		}
	}
	return done, nil
}

// wrapped breaks a text at blanks, so that its lines are at most width runes
// long; a longer word stays whole.
func wrapped(text string, width int) []string {
	var out []string
	line := ""
	for _, word := range strings.Fields(text) {
		if line != "" && len([]rune(line))+1+len([]rune(word)) > width {
			out, line = append(out, line), ""
		}
		line = strings.TrimPrefix(line+" "+word, " ")
	}
	return append(out, line)
}

// printWhy shows the way through the door, from outside to inside.
func (c *cli) printWhy(r why.Report, fixed bool) {
	with := ""
	if r.Key != "" {
		with = ", with " + plaintext.Line(r.Key)
	}
	fmt.Fprintf(c.out, "%s, as %s%s\n\n", r.Instance, plaintext.Line(r.User), with)
	say := func(stage, mark, text string) {
		for n, line := range wrapped(plaintext.Line(text), 104) {
			if n > 0 {
				stage, mark = "", ""
			}
			fmt.Fprintf(c.out, "  %-20s %-6s %s\n", stage, mark, line)
		}
	}
	show := func(mark string, f why.Finding) {
		say(f.Stage, mark, f.Sentence)
		if f.Expected != "" || f.Found != "" {
			fmt.Fprintf(c.out, "  %-20s        expected  %s\n  %-20s        found     %s\n", "",
				plaintext.Line(f.Expected), "", plaintext.Line(f.Found))
		}
		if f.Evidence != "" {
			say("", "", f.Evidence)
		}
	}
	for _, at := range why.Stages {
		var passed []string
		for _, p := range r.Passed {
			if p.Stage == at {
				passed = append(passed, p.Sentence)
			}
		}
		if len(passed) > 0 {
			say(at, "ok", strings.Join(passed, "; "))
		}
		if r.First != nil && r.First.Stage == at {
			show("WRONG", *r.First)
		}
		for _, f := range r.Also {
			if f.Stage == at {
				show("also", f)
			}
		}
	}
	for n, s := range r.NotSeen {
		if n == 0 {
			fmt.Fprintln(c.out)
		}
		fmt.Fprintf(c.out, "not seen: %s\n", plaintext.Line(s))
	}
	fmt.Fprintln(c.out)
	if r.First == nil {
		fmt.Fprintf(c.out, "Nothing is in the way, as far as was seen.\nnext: plumlatch open %s\n", r.Instance)
		return
	}
	fmt.Fprintf(c.out, "What matters is %s: %s\n", r.First.Code, plaintext.Line(r.First.Sentence))
	if r.First.Fix != "" && !fixed {
		fmt.Fprintf(c.out, "next: %s, or -fix to have it done\n", plaintext.Line(r.First.Next))
		return
	}
	fmt.Fprintf(c.out, "next: %s\n", plaintext.Line(r.First.Next))
}
