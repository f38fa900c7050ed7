package main

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/client"
	"plumlatch/core/agentcalls"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/core/times"
	"plumlatch/core/wire"
	"plumlatch/reach"
)

// agentOptions are what instance agent is asked for.
type agentOptions struct {
	identity, passFile, program, verbs, never, trust, operators, release, fingerprint string
	agent, yes, asJSON                                                                bool
}

// instanceAgent shows, installs, pins and removes the resident agent of an instance.
func instanceAgent(fs *flag.FlagSet) func(*cli) error {
	var o agentOptions
	fs.StringVar(&o.verbs, "verbs", "look", "install: what it may do, `look,edit,users,sessions`; it is written into the file of the instance's owner")
	fs.StringVar(&o.never, "never", "", "install: `USER,USER` whom it never touches")
	fs.StringVar(&o.trust, "trust", "", "install: whose word changes something: `operators` (each change is signed), or service (default: operators)")
	fs.StringVar(&o.operators, "operators", "", "install: `FILE,FILE` with the public keys of those who may sign (default: the key that you come in with)")
	fs.StringVar(&o.program, "program", "", "install: the agent's executable `file` (default: plumlatch-agent beside this program)")
	fs.StringVar(&o.release, "release", "", "install: `file` with the public key whose releases it takes as upgrades (default: plumlatch-agent.release.pub beside the program, if it is there)")
	fs.StringVar(&o.fingerprint, "fingerprint", "", "pin: `SHA256:...` of the agent's key, as somebody read it there (default: it is read in your own session)")
	fs.StringVar(&o.identity, "identity", "", "your private key `file`: it is used here and never sent (default: a key of ~/.ssh that opens the instance)")
	fs.BoolVar(&o.agent, "ssh-agent", false, "the same with the keys in the running ssh-agent")
	fs.StringVar(&o.passFile, "passphrase-file", "", "`file` with the passphrase of -identity")
	fs.BoolVar(&o.yes, "yes", false, "do not ask")
	fs.BoolVar(&o.asJSON, "json", false, "show: print JSON")
	return func(c *cli) error {
		if len(c.args) != 2 || !slices.Contains([]string{"show", "install", "remove", "token", "pin", "upgrade"}, c.args[0]) {
			return usagef("say show NAME, install NAME, pin NAME, upgrade NAME, remove NAME or token NAME")
		}
		verb, name := c.args[0], c.args[1]
		written := false
		for _, n := range []string{"verbs", "never", "trust", "operators", "program", "release"} {
			fs.Visit(func(f *flag.Flag) { written = written || f.Name == n })
		}
		switch {
		case verb != "install" && written:
			return usagef("-verbs, -never, -trust, -operators, -program and -release go with install")
		case verb != "pin" && o.fingerprint != "":
			return usagef("-fingerprint goes with pin")
		case o.fingerprint != "" && !agentcalls.IsFingerprint(o.fingerprint):
			return usagef("-fingerprint is SHA256: and 43 characters, as instance agent show has it")
		case verb != "show" && o.asJSON:
			return usagef("-json goes with show")
		case o.identity != "" && o.agent:
			return usagef("give -identity or -ssh-agent")
		}
		if _, err := (agentcalls.OwnerFile{Verbs: strings.Split(o.verbs, ","), Never: commas(o.never), Trust: o.trust}).Read(); err != nil {
			return usagef("-%s", err) // it names the option
		}
		service, err := c.service()
		if err != nil {
			return err
		}
		switch verb {
		case "show":
			return c.showAgent(service, name, o.asJSON)
		case "install":
			return c.installAgent(service, name, o)
		case "upgrade":
			return c.upgradeAgent(service, name)
		case "pin":
			return c.pinAgent(service, name, o)
		case "token":
			return c.agentToken(service, name)
		}
		return c.removeAgent(service, name, o)
	}
}

func (c *cli) showAgent(service *client.Client, name string, asJSON bool) error {
	a, err := service.Agent(c.ctx, name)
	if err != nil {
		return err
	}
	if asJSON {
		return c.json(a)
	}
	if !a.Enrolled {
		fmt.Fprintf(c.out, "%s has no agent.\n", a.Instance)
		if a.Service == "" {
			fmt.Fprintln(c.out, "This service takes no agents: it was started without -agent-listen.")
		} else {
			fmt.Fprintf(c.out, "next: plumlatch instance agent install %s\n", a.Instance)
		}
		return nil
	}
	now := time.Now()
	is := "never connected"
	switch {
	case a.Connected && a.ConnectedAt != nil:
		is = "connected, from " + a.Address + ", since " + times.Show(a.ConnectedAt.Local())
	case a.SeenAt != nil:
		is = "not connected; last seen " + ago(*a.SeenAt, now)
	}
	fmt.Fprintf(c.out, "%s: %s.\n", a.Instance, is)
	fmt.Fprintf(c.out, "its key %s, enrolled by %s %s; %s\n", a.Fingerprint, plaintext.Line(a.EnrolledBy), ago(*a.EnrolledAt, now), agentPinWords(service, name, a))
	if a.Version != "" {
		fmt.Fprintf(c.out, "version %s%s\n", plaintext.Line(a.Version), upgradeWords(a))
	}
	if a.ConnectedAt != nil {
		fmt.Fprintf(c.out, "its owner's file allows: %s\n", cmp.Or(strings.Join(a.Verbs, ", "), "nothing"))
		if len(a.Never) > 0 {
			fmt.Fprintf(c.out, "it never touches: %s\n", strings.Join(a.Never, ", "))
		}
		fmt.Fprintln(c.out, trustWords(a))
	}
	if a.RefusedAt != nil {
		fmt.Fprintf(c.out, "another machine came with its key, from %s, %s, and was refused: it is a copy of this one, or has its key\n", plaintext.Line(a.RefusedFrom),
			ago(*a.RefusedAt, now))
	}
	if a.Connected {
		fmt.Fprintf(c.out, "next: plumlatch survey %s -by agent\n", a.Instance)
	}
	return nil
}

// upgradeWords says what is known of an agent's upgrades.
func upgradeWords(a wire.Agent) string {
	out := ""
	if a.Offered != 0 && fmt.Sprint(a.Offered) != a.Version {
		out = fmt.Sprintf("; the service has %d for it: plumlatch instance agent upgrade %s", a.Offered, a.Instance)
	}
	if a.LastUpgrade != "" {
		out += "; of the last upgrade it says: " + plaintext.Line(a.LastUpgrade)
	}
	return out
}

// commas splits a list; "" is none.
func commas(s string) []string {
	if s == "" {
		return nil
	}
	return strings.Split(s, ",")
}

// agentWords says in one line what is known of an instance's agent; "" for none.
func agentWords(a wire.Agent, now time.Time) string {
	switch {
	case !a.Enrolled:
		return ""
	case a.ConnectedAt == nil:
		return "enrolled " + ago(*a.EnrolledAt, now) + ", and it never connected"
	case !a.Connected && a.SeenAt != nil:
		return "not connected; last seen " + ago(*a.SeenAt, now)
	}
	return "connected; " + trustWords(a)
}

// trustWords says whose word changes something there.
func trustWords(a wire.Agent) string {
	switch {
	case !slices.ContainsFunc(a.Verbs, func(v string) bool { return agentcalls.Verb(v).Changes() }):
		return "it changes nothing"
	case a.Trust == string(agentcalls.ByService):
		return "it changes what the service asks for: whoever has the service has this instance"
	case a.Frozen:
		return "it changes nothing: its owner's file names no operator whose signature it takes"
	}
	return "it changes only what an operator has signed whom its owner's file names"
}

// installAgent puts the agent there in the engineer's own session, and reads the key that it made in the same session: so whose it is needs no
// token, and nobody's word.
func (c *cli) installAgent(service *client.Client, name string, o agentOptions) error {
	a, err := service.Agent(c.ctx, name)
	if err != nil {
		return err
	}
	if a.Service == "" {
		return failure{errors.New("this service takes no agents"), "start it with -agent-listen ADDRESS and -agent-address HOST:PORT"}
	}
	program, err := agentProgram(o.program)
	if err != nil {
		return err
	}
	in, err := c.enterKnown(service, name, adoptOptions{identity: o.identity, agent: o.agent, passFile: o.passFile}, "plumlatch instance agent install "+name)
	if err != nil {
		return err
	}
	defer in.close()
	owner, err := ownerText(a.Service, in.own, o)
	if err != nil {
		return err
	}
	fmt.Fprintf(c.err, "The agent goes to %s: %s, %s, a unit of systemd. %s, unless there is one already:\n\n%s\n", in.of.Name, reach.AgentProgram, reach.AgentState,
		reach.AgentOwner, indent(owner))
	if a.Enrolled {
		fmt.Fprintf(c.err, "It replaces the agent with the key %s.\n", a.Fingerprint)
	}
	if !o.yes {
		if err := c.confirm("Install it?"); err != nil {
			return err
		}
	}
	public, owned, err := reach.InstallAgent(c.ctx, in.ssh, reach.AgentParts{Program: program, Owner: owner, Authority: a.Authority, Instance: a.InstanceID})
	if errors.Is(err, reach.ErrNoSudo) {
		return failure{fmt.Errorf("%s has no sudo without a password on %s: an agent is installed as root alone", in.of.LoginUser, in.of.Name),
			"the same command with the key of a user who has sudo without a password"}
	}
	if err != nil {
		return err
	}
	if err := service.EnrollAgent(c.ctx, in.of.Name, public); err != nil {
		return err
	}
	key, err := keypair.ReadPublic([]byte(public))
	if err == nil {
		err = setAgentPin(pinnedAgent{Service: service.URL(), Name: in.of.Name, Instance: a.InstanceID, Fingerprint: key.Fingerprint(), Pinned: time.Now().UTC()})
	}
	if err != nil {
		return err
	}
	if err := reach.StartAgent(c.ctx, in.ssh); err != nil {
		return err
	}
	if owned {
		text, err := reach.AgentOwnerText(c.ctx, in.ssh)
		if err != nil {
			return err
		}
		fmt.Fprintf(c.err, "There was a file of its owner's already, and it stays:\n\n%s\n", indent(text))
	}
	return c.agentComes(service, in.of.Name)
}

func indent(text string) string {
	return "    " + strings.ReplaceAll(strings.TrimRight(text, "\n"), "\n", "\n    ") + "\n"
}

// agentComes waits until the service sees it.
func (c *cli) agentComes(service *client.Client, name string) error {
	ctx, cancel := context.WithTimeout(c.ctx, time.Minute)
	defer cancel()
	for {
		a, err := service.Agent(ctx, name)
		if err == nil && a.Connected && a.ConnectedAt != nil {
			return c.showAgent(service, name, false)
		}
		select {
		case <-ctx.Done():
			return failure{fmt.Errorf("the agent of %s is installed, and did not connect within a minute: can the instance dial %s? On it, journalctl -u %s says more",
				name, a.Service, reach.AgentUnit), "plumlatch instance agent show " + name}
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// releaseKey is the public key of releases that the owner's file names: the one that was given, or the one that lies beside the program; "" for none,
// and then the agent takes no upgrades.
func releaseKey(o agentOptions) (string, error) {
	file := o.release
	if file == "" {
		program := o.program
		if program == "" {
			self, err := os.Executable()
			if err != nil {
				return "", err
			}
			program = filepath.Join(filepath.Dir(self), "plumlatch-agent")
		}
		file = program + ".release.pub"
		if _, err := os.Stat(file); err != nil {
			return "", nil
		}
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return "", err
	}
	p, err := keypair.ReadPublic(data)
	if err != nil {
		return "", fmt.Errorf("%s: %w", file, err)
	}
	return keypair.Public{Blob: p.Blob, Comment: "releases of the agent"}.Line(), nil
}

// agentProgram reads the executable that is sent.
func agentProgram(file string) ([]byte, error) {
	if file == "" {
		self, err := os.Executable()
		if err != nil {
			return nil, err
		}
		file = filepath.Join(filepath.Dir(self), "plumlatch-agent")
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, failure{fmt.Errorf("the agent's executable: %w", err), "the same command with -program FILE; make build makes bin/plumlatch-agent"}
	}
	if !strings.HasPrefix(string(data[:min(4, len(data))]), "\x7fELF") {
		return nil, fmt.Errorf("%s is no executable for Linux", file)
	}
	return data, nil
}

// ownerText is the file of an instance's owner, as the options have it.
func ownerText(service string, own keypair.Public, o agentOptions) (string, error) {
	lines := []string{keypair.Public{Blob: own.Blob, Comment: "who installed it"}.Line()}
	if o.operators != "" {
		lines = nil
		for _, file := range strings.Split(o.operators, ",") {
			data, err := os.ReadFile(file)
			if err != nil {
				return "", err
			}
			p, err := keypair.ReadPublic(data)
			if err != nil {
				return "", fmt.Errorf("%s: %w", file, err)
			}
			lines = append(lines, keypair.Public{Blob: p.Blob, Comment: filepath.Base(file)}.Line())
		}
	}
	release, err := releaseKey(o)
	if err != nil {
		return "", err
	}
	text, err := (agentcalls.OwnerFile{Service: service, Verbs: strings.Split(o.verbs, ","), Never: commas(o.never), Trust: o.trust, Operators: lines, Release: release}).Text()
	if err != nil {
		return "", usagef("%s", err)
	}
	return text, nil
}

// removeAgent takes all of it away, and has the service know it no more.
func (c *cli) removeAgent(service *client.Client, name string, o agentOptions) error {
	in, err := c.enterKnown(service, name, adoptOptions{identity: o.identity, agent: o.agent, passFile: o.passFile}, "plumlatch instance agent remove "+name)
	if err != nil {
		return err
	}
	defer in.close()
	if !o.yes {
		if err := c.confirm(fmt.Sprintf("Take the agent of %s away, with its key and its owner's file?", in.of.Name)); err != nil {
			return err
		}
	}
	if err := reach.RemoveAgent(c.ctx, in.ssh); err != nil {
		return err
	}
	a, err := service.Agent(c.ctx, in.of.Name)
	if err == nil && a.Enrolled {
		err = service.ForgetAgent(c.ctx, in.of.Name)
	}
	if err == nil {
		err = setAgentPin(pinnedAgent{Service: service.URL(), Name: in.of.Name, Instance: a.InstanceID})
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(c.out, "%s has no agent any more: nothing of it is left there, and its key opens no connection.\n", in.of.Name)
	return nil
}

// upgradeAgent has an agent take the program that the service offers, and waits until it came back.
func (c *cli) upgradeAgent(service *client.Client, name string) error {
	u, err := service.AgentUpgrade(c.ctx, name)
	if err != nil {
		return err
	}
	fmt.Fprintf(c.err, "The agent of %s tries version %d now, in the place of %d; it comes back with that, or as it was.\n", name, u.To, u.From)
	ctx, cancel := context.WithTimeout(c.ctx, 3*time.Minute)
	defer cancel()
	for {
		a, err := service.Agent(ctx, name)
		if err == nil && a.Connected && a.ConnectedAt.After(u.At) {
			if a.Version == fmt.Sprint(u.To) {
				fmt.Fprintf(c.out, "The agent of %s is version %s.\n", a.Instance, a.Version)
				return nil
			}
			if a.LastUpgrade != "" {
				return failure{fmt.Errorf("the agent of %s stays version %s: %s", a.Instance, plaintext.Line(a.Version), plaintext.Line(a.LastUpgrade)), "plumlatch instance agent show " + name}
			}
		}
		select {
		case <-ctx.Done():
			return failure{fmt.Errorf("the agent of %s did not come back within three minutes", name), "plumlatch instance agent show " + name}
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// agentToken prints what an instance's first boot needs to enroll its agent.
func (c *cli) agentToken(service *client.Client, name string) error {
	t, err := service.AgentToken(c.ctx, name)
	if err != nil {
		return err
	}
	fmt.Fprintf(c.err, "The token enrolls the agent of %s once, within the hour. On the instance, with the agent's program and its owner's file in place:\n"+
		"plumlatch-agent enroll -token-file FILE -authority FILE\nThe service is at %s; this is its authority:\n%s", name, t.Service, t.Authority)
	fmt.Fprintln(c.out, t.Token)
	return nil
}

// agentHands sign requests for the agent of an instance that is pinned here, and have the service pass them on.
type agentHands struct {
	service *client.Client
	agent   wire.Agent
	signer  ssh.Signer
}

// agentOf makes them for an instance as it was called. The agent is the one that is pinned here, or nothing is signed.
func agentOf(service *client.Client, called string, a wire.Agent, signer ssh.Signer) (agentHands, error) {
	return agentHands{service, a, signer}, checkAgentPin(service, called, a)
}

// ask signs a request, has the service pass it on, and reads what the agent answers.
func (h agentHands) ask(ctx context.Context, verb agentcalls.Verb, judged string, args, out any) error {
	return h.askAs(ctx, verb, judged, rand.Text(), args, out)
}

func (h agentHands) askAs(ctx context.Context, verb agentcalls.Verb, judged, nonce string, args, out any) error {
	service, a, signer := h.service, h.agent, h.signer
	text, err := json.Marshal(args)
	if err != nil {
		return err
	}
	r := agentcalls.Request{Verb: verb, Instance: a.InstanceID, Agent: a.Fingerprint, Args: string(text), Judged: judged, Nonce: nonce,
		Until: time.Now().Add(10 * time.Minute).Truncate(time.Second)}
	message, err := r.Text()
	if err != nil {
		return err
	}
	signature, err := keypair.Sign(signer, agentcalls.Namespace, message)
	if err != nil {
		return err
	}
	answer, err := service.AgentCall(ctx, a.Instance, r, string(signature))
	if err != nil {
		return err
	}
	if err := json.Unmarshal([]byte(answer), out); err != nil {
		return fmt.Errorf("what the agent of %s answered cannot be read", a.Instance)
	}
	return nil
}

// agentFor are the hands by which this engineer moves an instance's agent: if it is connected, its owner's file opens the verb, it is pinned
// here, and there is one key to sign with. nil if not; why not is said where it is of use.
func (c *cli) agentFor(service *client.Client, called string, i wire.Instance, verb agentcalls.Verb, o adoptOptions) (*agentHands, error) {
	a, err := service.Agent(c.ctx, i.Name)
	if err != nil {
		return nil, err
	}
	if !a.Connected || !slices.Contains(a.Verbs, string(verb)) {
		return nil, nil
	}
	if err := checkAgentPin(service, called, a); err != nil {
		if f, ok := errors.AsType[failure](err); ok {
			fmt.Fprintf(c.err, "Not by the agent: %s (%s)\n", f.Error(), f.next)
			return nil, nil
		}
		return nil, err
	}
	var signer ssh.Signer
	file := o.identity
	switch {
	case o.agent:
		signers, err := agentSigners()
		if err != nil || len(signers) != 1 { // with several, which of them the agent takes is not known
			return nil, nil
		}
		signer = signers[0]
	case file == "":
		if _, file, err = c.ownIdentity(service, i, ""); err != nil {
			return nil, nil
		}
	}
	if signer == nil {
		if _, signer, err = c.fileSigner(file, o.passFile); err != nil {
			return nil, err
		}
	}
	h, err := agentOf(service, called, a, signer)
	return &h, err
}

// placeByAgent has the agent of an instance add the lines of a restore, signed here.
func (c *cli) placeByAgent(service *client.Client, lines wire.RestoreLines, o showing) error {
	a, err := service.Agent(c.ctx, lines.Instance)
	if err != nil {
		return err
	}
	var signer ssh.Signer
	if o.identity != "" {
		_, signer, err = c.fileSigner(o.identity, o.passFile)
	} else {
		var all []ssh.Signer
		if all, err = agentSigners(); err == nil && len(all) != 1 {
			err = failure{errors.New("the ssh-agent has none or several keys, and which of them the agent there takes is not known"), "the same command with -identity FILE"}
		} else if err == nil {
			signer = all[0]
		}
	}
	if err != nil {
		return err
	}
	hands, err := agentOf(service, lines.Instance, a, signer)
	if err != nil {
		return err
	}
	file := ""
	var added []string
	for _, line := range lines.Lines {
		var done agentcalls.Edited
		if err := hands.ask(c.ctx, agentcalls.Edit, "", agentcalls.EditArgs{User: lines.LoginUser, Line: line}, &done); err != nil {
			return err
		}
		if !done.There {
			added = append(added, line)
		}
		file = plaintext.Line(plaintext.Cut(done.File, 300))
	}
	// The ledger names files as the server's configuration does.
	for _, f := range lines.Files {
		if file == f || !filepath.IsAbs(f) && strings.HasSuffix(file, "/"+f) {
			file = f
			break
		}
	}
	err = service.ReportPlaced(c.ctx, lines.Work, wire.PlacedReport{File: file, With: "the agent"})
	if client.Definite(err) && len(added) > 0 { // it was cancelled meanwhile: nobody else would take them out
		return c.takeOutByAgent(service, hands, file, lines, added, err)
	}
	if err != nil {
		return fmt.Errorf("the lines stand in %s, and the service did not hear of it: %w", file, err)
	}
	fmt.Fprintf(c.out, "The agent of %s has added them to %s of %s; the service asks the server now.\nnext: plumlatch work follow %d\n", lines.Instance, file,
		lines.LoginUser, lines.Work)
	return nil
}
