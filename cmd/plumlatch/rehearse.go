package main

import (
	"flag"
	"fmt"
	"net/url"
	"time"

	"plumlatch/client"
	"plumlatch/core/plaintext"
	"plumlatch/core/routes"
	"plumlatch/core/times"
	"plumlatch/core/wire"
)

const rehearseHelp = `

  The service makes an image of the instance as it runs, and launches a copy that
  nothing leads out of and that only the service and you get in to. On the copy
  the way back in is carried out for real, with a pair made for it, and what ran
  on the instance is compared. Then all of that is removed. The instance itself
  runs on and is not changed.

  The ways lent-key and second-key need a hand: yours, from this machine. They are
  rehearsed where -route names them, second-key with -identity or -ssh-agent.`

func restoreRehearse(fs *flag.FlagSet) func(*cli) error {
	route := fs.String("route", "", "rehearse this `route`: steward, boot-text, disk, copy, lent-key or second-key (default: the best that is "+
		"open and needs no hand)")
	var o showing
	fs.StringVar(&o.identity, "identity", "", "for second-key: `file` with a private key that opens it; it is used here and never sent")
	fs.BoolVar(&o.agent, "ssh-agent", false, "for second-key: use the keys in the running ssh-agent")
	fs.StringVar(&o.passFile, "passphrase-file", "", "`file` with the passphrase of -identity")
	plan := fs.Bool("plan", false, "show what would happen, and change nothing")
	past := fs.Bool("past", false, "show what its last rehearsals came to, and change nothing")
	yes := fs.Bool("yes", false, "do not ask")
	detach := fs.Bool("detach", false, "print the work's ID and leave")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("INSTANCE")
		if err != nil {
			return err
		}
		if *past {
			if *plan || *route != "" {
				return usagef("-past shows what was: give it alone")
			}
			all, err := service.Rehearsals(c.ctx, args[0])
			if err != nil {
				return err
			}
			if *asJSON {
				return c.json(wire.List[wire.Rehearsed]{Items: all})
			}
			c.printRehearsals(args[0], all)
			return nil
		}
		own := o.identity != "" || o.agent
		if own && *route != "second-key" || !own && *route == "second-key" && !*plan {
			return usagef("-route second-key goes with -identity FILE or -ssh-agent")
		}
		ask := wire.Rehearse{Route: *route}
		p, err := service.PlanRehearsal(c.ctx, args[0], ask)
		if err != nil {
			return err
		}
		if *plan && *asJSON {
			return c.json(p)
		}
		if !*asJSON {
			c.printRehearsal(p)
		}
		if *plan {
			fmt.Fprintf(c.out, "\nNothing was changed.\nnext: the same command without -plan\n")
			return nil
		}
		if p.Hand != "" && *detach {
			return usagef("this way needs a hand of yours: not with -detach")
		}
		if !*yes {
			if err := c.confirm(fmt.Sprintf("Rehearse the way back into %s by %s?", p.Instance, p.Route)); err != nil {
				return err
			}
		}
		ask.Route, ask.Twice = p.Route, len(p.Twice) > 0 // it was shown
		w, err := service.Rehearse(c.ctx, p.Instance, ask)
		if err != nil {
			return err
		}
		if *detach {
			if *asJSON {
				return c.json(w)
			}
			fmt.Fprintf(c.out, "Work %d: %s.\nnext: plumlatch work follow %d\n", w.ID, plaintext.Line(w.Title), w.ID)
			return nil
		}
		var trouble error
		lent := false
		end, err := c.followUntil(service, w, "plumlatch work follow", func(e wire.WorkEvent, enough func()) {
			if e.Step == "carry" && p.Hand != "" && !lent {
				lent = true
				if trouble = c.lendHand(service, w.ID, o); trouble != nil {
					enough()
				}
			}
		})
		if err != nil {
			return err
		}
		if trouble != nil && !end.Over() {
			return failure{fmt.Errorf("nobody came in to the copy: %w", trouble), fmt.Sprintf("plumlatch work cancel %d", w.ID)}
		}
		if *asJSON {
			if err := c.json(end); err != nil {
				return err
			}
		}
		if end.State != "done" {
			return c.workFailed(service, end)
		}
		if !*asJSON {
			fmt.Fprintf(c.out, "%s.\nnext: plumlatch restore ready\n", plaintext.Line(end.Outcome))
		}
		return nil
	}
}

// handLimit is how long the work that carries a way out is waited for until it asks for a hand.
const handLimit = 5 * time.Minute

// lendHand does from this machine what the work asks for that carries the way out on the copy.
func (c *cli) lendHand(service *client.Client, rehearsal int64, o showing) error {
	for deadline := time.Now().Add(handLimit); ; {
		parts, err := service.Work(c.ctx, url.Values{"parent": {fmt.Sprint(rehearsal)}, "state": {"open"}}, 1)
		if err != nil {
			return err
		}
		if len(parts) > 0 && parts[0].WaitsCode == wire.WaitsHands {
			w := parts[0]
			i, d, err := c.copyOf(service, w)
			if err == nil && !d.Ready {
				err = fmt.Errorf("work %d waits for nobody any more", w.ID)
			}
			if err != nil {
				return err
			}
			if w.StepName == "lent" {
				return c.placeByLent(service, i, w.ID)
			}
			lines, err := service.RestoreLines(c.ctx, w.ID)
			if err != nil {
				return err
			}
			if err := c.checkLines(service, lines); err != nil {
				return err
			}
			return c.addByOwn(service, i, lines, o)
		}
		if at, err := service.WorkByID(c.ctx, rehearsal); err != nil || at.Over() || at.StepName != "carry" {
			return err
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("the work that carries it out asked for no hand within %s", times.Length(handLimit))
		}
		select {
		case <-c.ctx.Done():
			return c.ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// printRehearsal says what a rehearsal would do, before it is asked for.
func (c *cli) printRehearsal(p wire.RehearsalPlan) {
	fmt.Fprintf(c.out, "A rehearsal of the way back into %s, by %s.\n\n", p.Instance, p.Route)
	for n, s := range p.Steps {
		fmt.Fprintf(c.out, "  %2d  %s\n", n+1, plaintext.Line(s))
		for _, own := range p.Carried {
			if n == 2 { // the step in which the route is carried out
				fmt.Fprintf(c.out, "        - %s\n", plaintext.Line(own))
			}
		}
	}
	if m := p.Machine; m != nil {
		fmt.Fprintf(c.out, "\nAt the cloud it is %s, called %s, with the volume %s. It runs on, and is not changed.\n", plaintext.Line(m.CloudID),
			plaintext.Line(m.Name), plaintext.Line(m.Volume))
	}
	fmt.Fprintf(c.out, "\nAbout %s; costs at most %s.\n", until(p.Seconds), charged(summed(p.Charges)))
	if p.Hand != "" {
		fmt.Fprintf(c.out, "Your part: %s.\n", plaintext.Line(p.Hand))
	}
	for _, text := range p.Twice {
		fmt.Fprintf(c.out, "Would run twice, as this cloud cannot shut the way out of a copy: %s.\n", plaintext.Line(text))
	}
	for _, text := range p.Notes {
		fmt.Fprintf(c.out, "Not shown by it: %s.\n", plaintext.Line(text))
	}
}

// summed adds what is charged in one currency.
func summed(all []wire.Charge) (out []wire.Charge) {
	for _, ch := range all {
		if n := len(out); n > 0 && out[n-1].Currency == ch.Currency {
			out[n-1].Amount += ch.Amount
			continue
		}
		out = append(out, ch)
	}
	return out
}

// printRehearsals lists what the last ones came to.
func (c *cli) printRehearsals(instance string, all []wire.Rehearsed) {
	var rows [][]string
	for _, r := range all {
		rows = append(rows, []string{times.Show(r.At.Local()), r.Route, rehearsedWords(r), fmt.Sprint(r.Work)})
	}
	c.table([]string{"when", "route", "what it came to", "work"}, rows, "No way back into "+instance+" was ever rehearsed.")
	fmt.Fprintf(c.out, "\nnext: plumlatch restore rehearse %s -plan\n", instance)
}

// rehearsedWords says how a rehearsal went.
func rehearsedWords(r wire.Rehearsed) string {
	if !r.Good {
		return "FAILED: " + plaintext.Line(r.Said)
	}
	span := func(seconds float64) time.Duration { return time.Duration(seconds * float64(time.Second)) }
	text := routes.Rehearsed{Route: r.Route, In: span(r.InSeconds), Down: span(r.DownSeconds)}.Words()
	if r.Said != "" {
		text += "; " + plaintext.Line(r.Said)
	}
	return text
}

// bestWay says how long the best open way back in takes, and how that is known.
func bestWay(r wire.ReadyRow) string {
	if len(r.Open) == 0 {
		return ""
	}
	for _, h := range r.Rehearsed {
		if h.Route == r.Open[0] && h.Good {
			return fmt.Sprintf("rehearsed %s: %s", ago(h.At, time.Now()), rehearsedWords(h))
		}
	}
	return fmt.Sprintf("estimated: in after %s, down %s", until(r.UntilIn), until(r.Down))
}
