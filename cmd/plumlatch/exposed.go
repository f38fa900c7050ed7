package main

import (
	"errors"
	"fmt"
	"strings"

	"plumlatch/client"
	"plumlatch/core/access"
	"plumlatch/core/plaintext"
	"plumlatch/core/times"
	"plumlatch/core/why"
	"plumlatch/core/wire"
	"plumlatch/reach"
)

// adopteeOf is where an instance of the ledger is entered, with its recorded host key.
func adopteeOf(i wire.Instance, d door, identity string) adoptee {
	a := adoptee{name: i.Name, host: i.Address, port: i.Port, user: i.LoginUser, identity: identity,
		hostKey: d.keys[0].Fingerprint()}
	if i.Via != nil {
		a.jump = &jumpHost{host: i.Via.Address, port: i.Via.Port, user: i.Via.LoginUser}
	}
	return a
}

// containment are the networks that an exposed key is taken from until it is replaced.
func (c *cli) containment(service *client.Client, text, key string) ([]string, error) {
	var out []string
	for _, n := range splitList(text) {
		if n != "me" {
			out = append(out, n)
			continue
		}
		rows, err := service.Access(c.ctx, "", key)
		if err != nil {
			return nil, err
		}
		trouble := errors.New("no instance that it opens stands in a cloud that tells")
		for _, a := range rows[:min(len(rows), 3)] {
			r, err := service.Rules(c.ctx, a.Instance)
			if err != nil {
				trouble = err
				continue
			}
			mine, err := c.myAddresses(r, "")
			if err == nil {
				fmt.Fprintf(c.err, "the cloud sees this machine at %s: the old key is taken from there alone until "+
					"it is replaced\n", strings.Join(mine, " and "))
				return append(out, mine...), nil
			}
			trouble = err
		}
		return nil, failure{fmt.Errorf("under which address this machine is seen is not known: %w", trouble),
			"the same command with -contain NETWORK"}
	}
	return out, nil
}

// recordExposed records that the old key is exposed, if nobody did yet.
func (c *cli) recordExposed(service *client.Client, o manyRotation) error {
	r := wire.KeyBadDay{State: access.Exposed, Plan: true}
	f, err := service.BadDay(c.ctx, o.exposed, r)
	if err != nil || f.Key.State == access.Exposed {
		return err
	}
	c.printFollows(f, access.Exposed)
	if o.plan { // which records nothing
		return nil
	}
	if !o.yes {
		if err := c.confirm(fmt.Sprintf("Record that somebody else may have %s? An exposed key never counts as "+
			"safe again.", f.Key.Name)); err != nil {
			return err
		}
	}
	r.Plan = false
	_, err = service.BadDay(c.ctx, o.exposed, r)
	return err
}

// afterExposed ends the sessions that the old key opened, if that was asked for,
// and says what else whoever had it may have left.
func (c *cli) afterExposed(service *client.Client, w wire.Work, o manyRotation) error {
	p, err := service.Fleet(c.ctx, w.ID)
	if err != nil {
		return err
	}
	fmt.Fprintln(c.out)
	var contained [][]string
	for _, m := range p.Members {
		if m.Contained != "" {
			contained = append(contained, []string{m.Instance, plaintext.Line(m.Contained)})
		}
	}
	if len(contained) > 0 {
		c.table([]string{"instance", "the old key was"}, contained, "")
		fmt.Fprintln(c.out)
	}
	if o.endSessions {
		if err := c.endSessions(service, p, o); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(c.out, "Sessions that %s opened go on: a key is asked for at the login alone. The same command "+
			"with -end-sessions ends them.\n", o.exposed)
	}
	if len(p.Found) > 0 {
		fmt.Fprintf(c.out, "\nKeys there that nobody wrote down; whoever had %s may have left them:\n\n", o.exposed)
		var rows [][]string
		for _, f := range p.Found {
			rows = append(rows, []string{f.Instance, f.LoginUser, f.Fingerprint, plaintext.Line(f.Comment),
				times.Show(f.Since.Local())})
		}
		c.table([]string{"instance", "user", "fingerprint", "comment", "since"}, rows, "")
		fmt.Fprintf(c.out, "next: plumlatch access record INSTANCE FINGERPRINT, or take it out by hand; plumlatch "+
			"today -what unrecorded-key\n")
	} else {
		fmt.Fprintf(c.out, "No key that nobody wrote down is known there. next: plumlatch survey -all, which looks again\n")
	}
	fmt.Fprintf(c.out, "The host keys of these instances are doubtful from now on: whoever had the key may have "+
		"read their private halves.\nnext: plumlatch today -what host-key-doubtful\n")
	return nil
}

// endSessions ends what the old key opened, on each instance that has the new one.
func (c *cli) endSessions(service *client.Client, p wire.FleetPlan, o manyRotation) error {
	old, err := service.Key(c.ctx, o.exposed)
	if err != nil {
		return err
	}
	var rows [][]string
	open := 0
	for _, m := range p.Members {
		what := ""
		if m.State != "shown" {
			what = "not done: the new key is not in yet"
		} else if what, err = c.endSessionsOn(service, m, old, o); err != nil {
			what = "not done: " + plaintext.Line(err.Error())
		}
		if strings.HasPrefix(what, "not done") {
			open++
		}
		rows = append(rows, []string{m.Instance, what})
	}
	c.table([]string{"instance", "sessions of " + old.Name}, rows, "")
	if open > 0 {
		return failure{fmt.Errorf("sessions that %s may have opened were not ended on %s", old.Name,
			count(open, "instance")), fmt.Sprintf("plumlatch rotate exposed %s -new %s -end-sessions, from where "+
			"the new key's private half is", old.Name, o.new)}
	}
	return nil
}

// endSessionsOn ends them on one instance, by a session with the new key and sudo.
func (c *cli) endSessionsOn(service *client.Client, m wire.FleetMember, old wire.Key, o manyRotation) (string, error) {
	i, err := service.Instance(c.ctx, m.Instance)
	if err != nil {
		return "", err
	}
	d, err := pinnedDoor(service, i)
	if err != nil {
		return "", err
	}
	if len(d.keys) == 0 {
		return "", errors.New("no host key is recorded")
	}
	k, err := service.Key(c.ctx, m.New)
	if err != nil {
		return "", err
	}
	signer, err := c.newSigner(k, o.showing)
	if err != nil {
		return "", err
	}
	in, err := c.login(adopteeOf(i, d, ""), adoptOptions{signer: signer, unattended: true, noSteward: true})
	if err != nil {
		return "", err
	}
	defer in.close()
	all, err := reach.Sessions(c.ctx, in.ssh, i.LoginUser)
	if err != nil {
		return "", err
	}
	return c.endThese(in.ssh, i, all, old, o)
}

// endThese chooses the sessions that the old key opened, or, where the log does
// not tell, asks about all of that user's; never the one that asks.
func (c *cli) endThese(client *reach.Client, i wire.Instance, all []why.SSHDSession, old wire.Key,
	o manyRotation) (string, error) {
	var known, unknown []why.SSHDSession
	for _, s := range all {
		switch {
		case s.Own:
		case s.Fingerprint == old.Fingerprint:
			known = append(known, s)
		case s.Fingerprint == "":
			unknown = append(unknown, s)
		}
	}
	if len(unknown) > 0 {
		text := fmt.Sprintf("%s: sshd's log does not tell which key opened %s of %s there (%s). End them?", i.Name,
			count(len(unknown), "session"), i.LoginUser, pidsOf(unknown))
		if o.yes {
			return "", fmt.Errorf("sshd's log does not tell which key opened %s of %s (%s), and -yes does not "+
				"answer for that", count(len(unknown), "session"), i.LoginUser, pidsOf(unknown))
		}
		if err := c.confirm(text); err == nil {
			known = append(known, unknown...)
		}
	}
	if len(known) == 0 {
		return "none runs", nil
	}
	left, err := reach.EndSessions(c.ctx, client, known)
	if err != nil {
		return "", err
	}
	if len(left) > 0 {
		return "", fmt.Errorf("%d of %d did not end", len(left), len(known))
	}
	return fmt.Sprintf("%s ended (%s)", count(len(known), "session"), pidsOf(known)), nil
}

func pidsOf(all []why.SSHDSession) string {
	var out []string
	for _, s := range all {
		text := fmt.Sprintf("process %d", s.PID)
		if s.From != "" {
			text += " from " + s.From
		}
		out = append(out, text)
	}
	return strings.Join(out, ", ")
}
