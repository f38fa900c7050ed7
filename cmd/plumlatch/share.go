package main

import (
	"context"
	"flag"
	"fmt"
	"strings"
	"time"

	"plumlatch/client"
	"plumlatch/core/plaintext"
	"plumlatch/core/times"
	"plumlatch/core/wire"
)

// length is an option that is a length of time, as people write one.
type length time.Duration

// String is what help shows as the default.
func (l *length) String() string { return times.Length(time.Duration(*l)) }

// Set reads the option.
func (l *length) Set(text string) error {
	d, err := times.Span(text)
	*l = length(d)
	return err
}

func (l length) seconds() int64 { return int64(time.Duration(l) / time.Second) }

// ends are -for and -until, which mean the same wherever something has an end.
type ends struct{ span, until string }

func (e *ends) flags(fs *flag.FlagSet) {
	fs.StringVar(&e.span, "for", "", "its end, after this `time` from now, such as 8h, 3d or 1w")
	fs.StringVar(&e.until, "until", "", "its end, at this `time`, such as 18:00, or 2026-12-24 (to the end of that day)")
}

// at is the end, nil if none was given.
func (e ends) at(now time.Time) (*time.Time, error) {
	switch {
	case e.span != "" && e.until != "":
		return nil, usagef("give -for or -until")
	case e.span != "":
		d, err := times.Span(e.span)
		if err != nil || d == 0 {
			return nil, usagef("-for: %v", times.ErrSpan)
		}
		end := now.Add(d)
		return &end, nil
	case e.until != "":
		end, err := times.End(e.until, now)
		if err != nil {
			return nil, usagef("-until: %v", err)
		}
		return &end, nil
	}
	return nil, nil
}

// terms are those on which access is shared.
type terms struct {
	ends
	key, from, only, reason string
}

func (t *terms) flags(fs *flag.FlagSet) {
	fs.StringVar(&t.key, "key", "", "recorded `key` that is to open it")
	t.ends.flags(fs)
	fs.StringVar(&t.from, "from", "", "take it from these `networks` only, separated by commas")
	fs.StringVar(&t.only, "only", "", "let it run this `command`, and nothing else")
	fs.StringVar(&t.reason, "reason", "", "`text` for whoever reads the list: why")
}

func (t terms) networks() []string {
	if t.from == "" {
		return nil
	}
	return strings.Split(t.from, ",")
}

func accessAdd(fs *flag.FlagSet) func(*cli) error {
	var t terms
	t.flags(fs)
	var m manyOptions
	m.flags(fs, "instead of INSTANCE: ")
	user := fs.String("user", "", "login `user` (default: the instance's)")
	detach := fs.Bool("detach", false, "print the work's ID and leave")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		if t.key == "" {
			return usagef("-key is missing")
		}
		r := wire.AccessAdd{Key: t.key, User: *user, From: t.networks(), Only: t.only, Reason: t.reason}
		var err error
		if r.Until, err = t.at(time.Now()); err != nil {
			return err
		}
		if m.tag != "" {
			if len(c.args) > 0 || *user != "" {
				return usagef("give INSTANCE or -tag; with -tag, the login user is each instance's own")
			}
			return c.changeMany(wire.AccessMany{Do: wire.ManyAdd, Key: t.key, Until: r.Until, From: r.From,
				Only: r.Only, Reason: r.Reason}, m, *detach, *asJSON)
		}
		args, service, err := c.begin("INSTANCE")
		if err != nil {
			return err
		}
		return c.addAccess(service, args[0], t, *user, *detach, *asJSON)
	}
}

// addAccess lets a key open one instance besides others.
func (c *cli) addAccess(service *client.Client, instance string, t terms, user string, detach, asJSON bool) error {
	if err := c.keyNames(service, &t.key); err != nil {
		return err
	}
	r := wire.AccessAdd{Key: t.key, User: user, From: t.networks(), Only: t.only, Reason: t.reason}
	var err error
	if r.Until, err = t.at(time.Now()); err != nil {
		return err
	}
	w, err := service.AddAccess(c.ctx, instance, r)
	if err != nil {
		return err
	}
	return c.shared(service, w, detach, asJSON, func(w wire.Work) {
		fmt.Fprintf(c.out, "%s opens %s.\n", t.key, w.Instance)
		if r.Until != nil {
			fmt.Fprintf(c.out, "It ends %s", times.Show(r.Until.Local()))
			if w.Rotating != nil && w.Rotating.Enforced {
				fmt.Fprintf(c.out, ", by the server itself, also when the service is down; then work %d "+
					"withdraws its line.\n", w.ID)
			} else if w.Rotating != nil {
				fmt.Fprintf(c.out, ": its server cannot end it by itself (%s), so work %d withdraws it then.\n",
					plaintext.Line(w.Rotating.Why), w.ID)
			}
			fmt.Fprintf(c.out, "next: plumlatch access list -instance %s; another end: plumlatch access extend "+
				"%s -key %s -for TIME\n", w.Instance, w.Instance, t.key)
			return
		}
		fmt.Fprintf(c.out, "next: plumlatch who %s\n", w.Instance)
	})
}

func accessExtend(fs *flag.FlagSet) func(*cli) error {
	key := fs.String("key", "", "`key` whose access gets another end")
	var e ends
	e.flags(fs)
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		end, err := e.at(time.Now())
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
		if err := c.keyNames(service, key); err != nil {
			return err
		}
		w, err := service.ExtendAccess(c.ctx, args[0], wire.AccessExtend{Key: *key, Until: end})
		if err != nil {
			return err
		}
		return c.shared(service, w, false, *asJSON, func(w wire.Work) {
			fmt.Fprintf(c.out, "%s opens %s until %s.\nnext: plumlatch access list -instance %s\n", *key, w.Instance,
				times.Show(end.Local()), w.Instance)
		})
	}
}

func accessRemove(fs *flag.FlagSet) func(*cli) error {
	key := fs.String("key", "", "`key` to withdraw: its name, file, or fingerprint (SHA256:...), recorded or not")
	reason := fs.String("reason", "", "`text` for the journal: why")
	cutOff := fs.Int("cut-off", 0, "withdraw it though nobody gets into this `number` of instances then, counted out")
	everywhere := fs.Bool("everywhere", false, "instead of INSTANCE: withdraw the key wherever it opens")
	holder := fs.String("holder", "", "instead of INSTANCE and -key: withdraw every key that the holder of this `name` has, "+
		"everywhere")
	var m manyOptions
	m.flags(fs, "with -everywhere or -holder: of those, ")
	detach := fs.Bool("detach", false, "print the work's ID and leave")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		if *everywhere || *holder != "" {
			if len(c.args) > 0 || *everywhere == (*holder != "") || *everywhere && *key == "" ||
				*holder != "" && *key != "" {
				return usagef("give INSTANCE -key KEY, or -everywhere -key KEY, or -holder NAME")
			}
			return c.changeMany(wire.AccessMany{Do: wire.ManyRemove, Key: *key, Holder: *holder, Reason: *reason,
				CutOff: *cutOff}, m, *detach, *asJSON)
		}
		if *key == "" || m.tag != "" {
			return usagef("-key is missing, or -tag is given without -everywhere or -holder")
		}
		args, service, err := c.begin("INSTANCE")
		if err != nil {
			return err
		}
		name, err := c.keyToChange(service, *key)
		if err != nil {
			return err
		}
		if !m.yes {
			if err := c.askRemoval(service, args[0], name); err != nil {
				return err
			}
		}
		w, err := service.RemoveAccess(c.ctx, args[0], wire.AccessRemove{Key: name, Reason: *reason, CutOff: *cutOff})
		if err != nil {
			return err
		}
		return c.shared(service, w, *detach, *asJSON, func(w wire.Work) {
			fmt.Fprintf(c.out, "%s.\nIt is surveyed 15 minutes and a day from now: a key that comes back is on "+
				"today.\nnext: plumlatch who %s\n", plaintext.Line(w.Outcome), w.Instance)
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
		if e.Step == "end" && e.Code == wire.EventWaits {
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
		return c.workFailed(service, end)
	}
	if !asJSON {
		tell(end)
	}
	return nil
}

// instanceSteward replaces the service's own key on an instance.
func instanceSteward(fs *flag.FlagSet) func(*cli) error {
	detach := fs.Bool("detach", false, "print the work's ID and leave")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		w, err := service.RotateSteward(c.ctx, args[0])
		if err != nil {
			return err
		}
		return c.shared(service, w, *detach, *asJSON, func(w wire.Work) {
			fmt.Fprintf(c.out, "%s: %s.\nnext: plumlatch survey %s\n", w.Instance,
				plaintext.Line(w.Outcome), w.Instance)
		})
	}
}
