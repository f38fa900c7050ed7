package main

import (
	"context"
	"flag"
	"fmt"
	"strings"
	"time"

	"plumlatch/client"
	"plumlatch/core/access"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
)

// endOf reads -for or -until.
func endOf(span, until string, now time.Time) (*time.Time, error) {
	switch {
	case span != "" && until != "":
		return nil, usagef("give -for or -until")
	case span != "":
		d, err := access.ParseSpan(span)
		if err != nil || d == 0 {
			return nil, usagef("-for: give a time such as 8h or 3d")
		}
		end := now.Add(d)
		return &end, nil
	case until != "":
		for _, layout := range []string{time.RFC3339, "2006-01-02 15:04", "2006-01-02T15:04", "2006-01-02"} {
			if end, err := time.ParseInLocation(layout, until, time.Local); err == nil {
				return &end, nil
			}
		}
		return nil, usagef("-until: give a time such as 2026-12-24, '2026-12-24 18:00' (here), or 2026-12-24T18:00:00Z")
	}
	return nil, nil
}

func accessAdd(fs *flag.FlagSet) func(*cli) error {
	key := fs.String("key", "", "recorded `key` that is to open it")
	user := fs.String("user", "", "login `user` (default: the instance's)")
	span := fs.String("for", "", "its end, after this `time`, such as 8h or 3d")
	until := fs.String("until", "", "its end, at this `time`")
	from := fs.String("from", "", "take it from these `networks` only, separated by commas")
	only := fs.String("only", "", "let it run this `command`, and nothing else")
	reason := fs.String("reason", "", "`why`, for whoever reads the list")
	detach := fs.Bool("detach", false, "print the work's ID and leave")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		if *key == "" {
			return usagef("-key is missing")
		}
		r := wire.AccessAdd{Key: *key, User: *user, Only: *only, Reason: *reason}
		var err error
		if r.Until, err = endOf(*span, *until, time.Now()); err != nil {
			return err
		}
		if *from != "" {
			r.From = strings.Split(*from, ",")
		}
		args, service, err := c.begin("INSTANCE")
		if err != nil {
			return err
		}
		w, err := service.AddAccess(c.ctx, args[0], r)
		if err != nil {
			return err
		}
		return c.shared(service, w, *detach, *asJSON, func(w wire.Work) {
			fmt.Fprintf(c.out, "%s opens %s.\n", *key, w.Instance)
			if r.Until != nil {
				fmt.Fprintf(c.out, "It ends %s", r.Until.Local().Format("2006-01-02 15:04"))
				if w.Rotating != nil && w.Rotating.Enforced {
					fmt.Fprintf(c.out, ", by the server itself, also when the service is down; then work %d withdraws its line.\n", w.ID)
				} else if w.Rotating != nil {
					fmt.Fprintf(c.out, ": its server cannot end it by itself (%s), so work %d withdraws it then.\n", plaintext.Line(w.Rotating.Why), w.ID)
				}
				fmt.Fprintf(c.out, "next: plumlatch access list -instance %s; another end: plumlatch access extend %s -key %s -for TIME\n", w.Instance, w.Instance, *key)
				return
			}
			fmt.Fprintf(c.out, "next: plumlatch who %s\n", w.Instance)
		})
	}
}

func accessExtend(fs *flag.FlagSet) func(*cli) error {
	key := fs.String("key", "", "`key` whose access gets another end")
	span := fs.String("for", "", "its end, after this `time` from now, such as 8h or 3d")
	until := fs.String("until", "", "its end, at this `time`")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		end, err := endOf(*span, *until, time.Now())
		if err != nil {
			return err
		}
		if *key == "" || end == nil {
			return usagef("give -key, and -for or -until")
		}
		args, service, err := c.begin("INSTANCE")
		if err != nil {
			return err
		}
		w, err := service.ExtendAccess(c.ctx, args[0], wire.AccessExtend{Key: *key, Until: end})
		if err != nil {
			return err
		}
		return c.shared(service, w, false, *asJSON, func(w wire.Work) {
			fmt.Fprintf(c.out, "%s opens %s until %s.\nnext: plumlatch access list -instance %s\n", *key, w.Instance, end.Local().Format("2006-01-02 15:04"), w.Instance)
		})
	}
}

func accessRemove(fs *flag.FlagSet) func(*cli) error {
	key := fs.String("key", "", "`key` to withdraw")
	reason := fs.String("reason", "", "`why`, for the journal")
	cutOff := fs.Int("cut-off", 0, "withdraw it though nobody gets into this `number` of instances then: 1")
	detach := fs.Bool("detach", false, "print the work's ID and leave")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		if *key == "" {
			return usagef("-key is missing")
		}
		args, service, err := c.begin("INSTANCE")
		if err != nil {
			return err
		}
		w, err := service.RemoveAccess(c.ctx, args[0], wire.AccessRemove{Key: *key, Reason: *reason, CutOff: *cutOff})
		if err != nil {
			return err
		}
		return c.shared(service, w, *detach, *asJSON, func(w wire.Work) {
			fmt.Fprintf(c.out, "%s.\nIt is surveyed 15 minutes and a day from now: a key that comes back is on today.\nnext: plumlatch who %s\n", plaintext.Line(w.Outcome), w.Instance)
		})
	}
}

// shared follows work on an access until it is done, or waits for its end.
func (c *cli) shared(service *client.Client, w wire.Work, detach, asJSON bool, tell func(wire.Work)) error {
	if detach {
		if asJSON {
			return c.json(w)
		}
		fmt.Fprintf(c.out, "Work %d: %s.\nnext: plumlatch work follow %d\n", w.ID, plaintext.Line(w.Title), w.ID)
		return nil
	}
	show, done := c.teller(service, w.ID, plaintext.Line(w.Title))
	ctx, cancel := context.WithCancel(c.ctx)
	defer cancel()
	end, err := service.Follow(ctx, w.ID, 0, func(e wire.WorkEvent) {
		show(e)
		if e.Step == "end" && strings.HasPrefix(e.Text, "waits: ") {
			cancel()
		}
	})
	if ctx.Err() != nil && c.ctx.Err() == nil {
		end, err = service.WorkByID(c.ctx, w.ID)
	}
	done(end)
	if err != nil {
		return err
	}
	c.renewHosts(service)
	if asJSON {
		if err := c.json(end); err != nil {
			return err
		}
	}
	if end.Over() && end.State != "done" {
		return workFailed(end)
	}
	if !asJSON {
		tell(end)
	}
	return nil
}
