package main

import (
	"bufio"
	"errors"
	"flag"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/client"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/times"
	"plumlatch/core/wire"
)

// rotateEnds tells, in the help, what comes in which order.
const rotateEnds = `

  1. the new key is added by one append; the old one still opens
  2. the server is asked: it takes the new key, and everybody else's still
  3. the new key's private half is shown to exist, by a login from here that
     opens nothing, or by "plumlatch key prove"
  4. the old key gets an end (-grace), or is withdrawn at once (-grace 0)
  5. the server is asked again; at the end of the grace time the old key is
     withdrawn, by the service, and the server is asked a last time

If a step fails, our lines go back as they were, and the old key opens as before.
  A pair that is made is of the first kind that the policy takes, ed25519 if it may
  be. For another one: plumlatch key create NAME -kind KIND, and -new NAME.`

// rotateMore tells what a rotation of many does besides.
const rotateMore = `

  The new key's holder shows its private half once, at the beginning: from here, if
  its file is in the folder of -dir, or by "plumlatch key prove KEY". Then this
  machine can be closed. "plumlatch work pause ID" stops before the next wave.`

// rotateOptions are those of a rotation on one instance.
type rotateOptions struct {
	showing
	old, new, grace, name, passphrase string
	plan, yes, detach, asJSON         bool
}

const graceSaid = "for how `long` the old key is accepted besides, such as 24h or 7d; 0: not at all"

func rotate(fs *flag.FlagSet) func(*cli) error {
	var o rotateOptions
	o.showing.flags(fs)
	fs.StringVar(&o.old, "old", "", "`key` to take out (default: the one that there is)")
	fs.StringVar(&o.new, "new", "", "recorded `key` to put in its place (default: a pair that is made here, now)")
	fs.StringVar(&o.grace, "grace", "24h", graceSaid)
	fs.StringVar(&o.name, "name", "", "`name` of the pair that is made (default: the old key's, with today's date)")
	newPassphraseFlag(fs, &o.passphrase, "the pair that is made", asked)
	fs.BoolVar(&o.plan, "plan", false, "show what would happen, and change nothing")
	fs.BoolVar(&o.yes, "yes", false, "do not ask")
	fs.BoolVar(&o.detach, "detach", false, "print the work's ID and leave; the new key has to be shown later")
	fs.BoolVar(&o.asJSON, "json", false, "print JSON")
	return func(c *cli) error {
		span, err := times.Span(o.grace)
		if err != nil {
			return usagef("-grace: %v", err)
		}
		if err := o.check(); err != nil {
			return err
		}
		if o.new != "" && (o.name != "" || o.passphrase != "") {
			return usagef("-name and -new-passphrase are for a pair that is made here: leave -new out, or them")
		}
		args, service, err := c.begin("INSTANCE")
		if err != nil {
			return err
		}
		if err := c.keyNames(service, &o.old, &o.new); err != nil {
			return err
		}
		seconds := int64(span / time.Second)
		r := wire.Rotate{Old: o.old, New: o.new, GraceSeconds: &seconds}
		if r.Old == "" {
			if r.Old, err = c.chooseOld(service, args[0], o.new); err != nil {
				return err
			}
		}
		var k wire.Key
		var signer ssh.Signer
		if o.plan && o.new == "" { // no pair is made for a plan
		} else if o.new == "" {
			if k, signer, err = c.newForOld(service, args[0], r.Old, o); err != nil {
				return err
			}
			r.New = k.Name
		} else if k, err = service.Key(c.ctx, o.new); err != nil {
			return err
		}
		p, err := service.PlanRotation(c.ctx, args[0], r)
		if err != nil {
			return c.madeInVain(err, o.new, k)
		}
		if !o.asJSON {
			c.printRotation(p)
		}
		if o.plan {
			if o.asJSON {
				return c.json(p)
			}
			fmt.Fprintf(c.out, "Nothing was changed.\nnext: the same command without -plan\n")
			return nil
		}
		if span == 0 && !o.yes {
			if err := c.confirm(fmt.Sprintf("Without a grace time %s opens %s no longer as soon as %s was shown to work. Go on?",
				p.Old, p.Instance, p.New)); err != nil {
				return err
			}
		}
		w, err := service.Rotate(c.ctx, args[0], r)
		if err != nil {
			return c.madeInVain(err, o.new, k)
		}
		if o.detach {
			if o.asJSON {
				return c.json(w)
			}
			fmt.Fprintf(c.out, "Work %d: %s.\nnext: plumlatch work here %d -identity FILE\n", w.ID,
				plaintext.Line(w.Title), w.ID)
			return nil
		}
		return c.followRotation(service, w, k, signer, o.showing, o.asJSON)
	}
}

// madeInVain says that a pair that was just made is there, though nothing came of it.
func (c *cli) madeInVain(err error, given string, k wire.Key) error {
	if given != "" {
		return err
	}
	return failure{fmt.Errorf("%w\nThe pair %s was made and recorded, and is kept; nothing was changed on the instance", err, k.Name),
		"the same command with -new " + k.Name + ", or: plumlatch key forget " + k.Name}
}

// chooseOld finds the key that is to be replaced: the only one, or the one that is chosen.
func (c *cli) chooseOld(service *client.Client, instance, fresh string) (string, error) {
	i, err := service.Instance(c.ctx, instance)
	if err != nil {
		return "", err
	}
	rows, err := service.Access(c.ctx, i.Name, "")
	if err != nil {
		return "", err
	}
	var all []string
	for _, a := range rows {
		if !a.Steward && a.LoginUser == i.LoginUser && !strings.EqualFold(a.Key, fresh) {
			all = append(all, a.Key)
		}
	}
	switch {
	case len(all) == 0:
		return "", failure{fmt.Errorf("no key is recorded to open %s as %s", i.Name, i.LoginUser),
			"plumlatch survey " + i.Name}
	case len(all) == 1:
		return all[0], nil
	case !c.tty:
		return "", failure{fmt.Errorf("several keys open %s: %s", i.Name, strings.Join(all, ", ")),
			"the same command with -old KEY"}
	}
	fmt.Fprintf(c.err, "Several keys open %s:\n", i.Name)
	for n, name := range all {
		fmt.Fprintf(c.err, "  %d  %s\n", n+1, name)
	}
	fmt.Fprint(c.err, "Which one is to be replaced (number or name)? ")
	line, err := bufio.NewReader(io.LimitReader(c.in, 200)).ReadString('\n')
	if err != nil {
		return "", errors.New("no answer; nothing was changed")
	}
	text := strings.TrimSpace(line)
	if n, err := strconv.Atoi(text); err == nil && n >= 1 && n <= len(all) {
		return all[n-1], nil
	}
	if n := slices.IndexFunc(all, func(name string) bool { return strings.EqualFold(name, text) }); n >= 0 {
		return all[n], nil
	}
	return "", errors.New("that is none of them; nothing was changed")
}

// newForOld makes a pair for the holder of the old one.
func (c *cli) newForOld(service *client.Client, instance, old string, o rotateOptions) (wire.Key, ssh.Signer, error) {
	k, err := service.Key(c.ctx, old)
	if err != nil {
		return wire.Key{}, nil, err
	}
	p := newPair{name: o.name, kind: c.pairKind(service), format: keypair.FormatOpenSSH, dir: o.dir,
		note: "made to replace " + k.Name + " on " + instance, holder: k.Holder, passphrase: o.passphrase, passFD: -1}
	if p.name == "" {
		p.name = datedName(k.Name, time.Now())
	}
	if err := names.Check(p.name); err != nil {
		return wire.Key{}, nil, usageError{"-name: " + err.Error()}
	}
	recorded, signer, err := c.makePair(service, &p)
	if err == nil && !o.asJSON {
		fmt.Fprintf(c.out, "Made %s, %s, in %s (stays here).\n\n", p.name, p.kind, p.files.private)
	}
	return recorded, signer, err
}

// datedName is a key's name with the date in the place of the one that it ends with.
func datedName(name string, now time.Time) string {
	if n := len(name) - len("-2006-01-02"); n > 0 {
		if _, err := time.Parse("-2006-01-02", name[n:]); err == nil {
			name = name[:n]
		}
	}
	return plaintext.Cut(name, names.MaxLength-len("-2006-01-02")) + now.Format("-2006-01-02")
}

func (c *cli) printRotation(p wire.RotationPlan) {
	fmt.Fprintf(c.out, "%s, as %s: %s in the place of %s.\n\n", p.Instance, p.LoginUser, p.New, p.Old)
	var rows [][]string
	for _, k := range p.Keys {
		rows = append(rows, []string{k.Key, k.Holder, k.Before, k.After})
	}
	c.table([]string{"key", "holder", "before", "after"}, rows, "")
	fmt.Fprintln(c.out)
	c.said("note", p.Notes)
}

// followRotation shows the new key's private half when the work asks for it, and
// follows until the old key has its end.
func (c *cli) followRotation(service *client.Client, w wire.Work, k wire.Key, signer ssh.Signer,
	o showing, asJSON bool) error {
	var proofTrouble error
	shown, waits := false, false
	end, err := c.followUntil(service, w, "plumlatch work follow", func(e wire.WorkEvent, enough func()) {
		switch {
		case e.Step == "proof" && !shown:
			shown = true
			if signer == nil {
				signer, proofTrouble = c.newSigner(k, o)
			}
			if signer != nil {
				proofTrouble = c.showNew(service, w, k, signer)
			}
			if proofTrouble != nil && signer == nil {
				waits = true
				enough()
			}
		case e.Step == "grace" && e.Code == wire.EventWaits:
			enough()
		}
	})
	if err != nil {
		return err
	}
	if asJSON {
		if err := c.json(end); err != nil {
			return err
		}
	}
	switch {
	case waits:
		return failure{fmt.Errorf("%s is in; nothing of the old key was touched, as nobody has shown the new one's "+
			"private half yet: %w", k.Name, proofTrouble),
			fmt.Sprintf("plumlatch work here %d -identity FILE; or on its holder's machine: plumlatch key "+
				"prove %s -identity FILE; or: plumlatch work cancel %d", w.ID, k.Name, w.ID)}
	case end.Over() && end.State != "done":
		return c.workFailed(service, end)
	case asJSON:
		return nil
	}
	c.printRotated(end, k)
	return nil
}

// printRotated says what holds now, and what follows when.
func (c *cli) printRotated(w wire.Work, k wire.Key) {
	if w.State == "done" {
		fmt.Fprintf(c.out, "%s.\n", plaintext.Line(w.Outcome))
	} else if r := w.Rotating; r != nil && r.Ends != nil {
		fmt.Fprintf(c.out, "%s is shown to work on %s, and the old key has its end: %s.\n", k.Name, w.Instance,
			times.Show(r.Ends.Local()))
		if r.Enforced {
			fmt.Fprintf(c.out, "The server itself ends it, also when the service is down; then work %d withdraws "+
				"its line.\n", w.ID)
		} else {
			fmt.Fprintf(c.out, "Its server cannot end it by itself (%s): work %d withdraws it then.\n",
				plaintext.Line(r.Why), w.ID)
		}
	}
	if r := w.Rotating; r != nil {
		c.said("note", r.Notes)
	}
	fmt.Fprintf(c.out, "It is surveyed 15 minutes and a day after the old key is out: one that comes back is on today.\n")
	if w.State == "done" {
		fmt.Fprintf(c.out, "next: plumlatch who %s\n", w.Instance)
		return
	}
	fmt.Fprintf(c.out, "next: plumlatch who %s; back to the old key until then: plumlatch work cancel %d\n",
		w.Instance, w.ID)
}

// showNew shows that the new key's private half exists: by a signature, and by a
// login that ends at authentication, so that no forced command runs.
func (c *cli) showNew(service *client.Client, w wire.Work, k wire.Key, signer ssh.Signer) error {
	i, err := service.Instance(c.ctx, w.Instance)
	if err != nil {
		return err
	}
	d, err := pinnedDoor(service, i)
	if err == nil && len(d.keys) > 0 {
		var in *entrance
		if in, err = c.login(adopteeOf(i, d, ""),
			adoptOptions{signer: signer, unattended: true, noSteward: true}); err == nil {
			in.close()
			var report wire.LoginReport
			if report, err = signChallenge(c.ctx, service, k.Name, k.Fingerprint, signer,
				wire.ChallengeRequest{Work: w.ID, Instance: i.Name}); err == nil {
				if err = service.ReportNewLogin(c.ctx, w.ID, report); err == nil {
					return nil // that shows the private half, too
				}
			}
		}
	}
	if err != nil {
		fmt.Fprintf(c.err, "warning: a login with %s from here: %s\n", k.Name, plaintext.Line(err.Error()))
	}
	_, err = c.prove(service, k, signer)
	return err
}
