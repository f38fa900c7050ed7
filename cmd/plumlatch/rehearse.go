package main

import (
	"flag"
	"fmt"
	"time"

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
  runs on and is not changed. Ways that need somebody's hand are not rehearsed.`

func restoreRehearse(fs *flag.FlagSet) func(*cli) error {
	route := fs.String("route", "", "rehearse this `route`: steward, boot-text, disk or copy (default: the best that is open)")
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
		if !*yes {
			if err := c.confirm(fmt.Sprintf("Rehearse the way back into %s by %s?", p.Instance, p.Route)); err != nil {
				return err
			}
		}
		ask.Route = p.Route
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
		end, err := c.follow(service, w.ID, plaintext.Line(w.Title))
		if err != nil {
			return err
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
