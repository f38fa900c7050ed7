package main

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/progress"
	"golang.org/x/crypto/ssh"

	"plumlatch/client"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
)

// fleetOptions are those of a rotation of many.
type fleetOptions struct {
	key, tag, atMost, pattern string
	due, each, yes            bool
	first, grow, stopAfter    int
	back                      length
	pause, resume             int64
	exposed, contain          string
	endSessions               bool
}

func (o *fleetOptions) flags(fs *flag.FlagSet) {
	fs.StringVar(&o.key, "key", "", "of many: wherever this old `key` opens")
	fs.StringVar(&o.tag, "tag", "", "of many: `NAME=VALUE`, or NAME, of the instances")
	fs.BoolVar(&o.due, "due", false, "of many: what is older than the policy's age")
	fs.BoolVar(&o.each, "each", false, "of many: a pair for each instance, made here")
	fs.StringVar(&o.pattern, "names", "{instance}-{date}",
		"with -each: `pattern` of the pairs' names, with {instance}, {old} and {date}")
	fs.IntVar(&o.first, "first", 1, "of many: `size` of the first wave")
	fs.IntVar(&o.grow, "grow", 3, "of many: how many `times` as large each next wave is")
	fs.StringVar(&o.atMost, "at-most", "10%", "of many: the most in one wave, a `number` or a part of all")
	fs.IntVar(&o.stopAfter, "stop-after", 1, "of many: begin no further wave after this `number` of failures")
	fs.StringVar(&o.exposed, "exposed", "",
		"of many: this old `key` may be somebody else's too: contain it, replace it everywhere at once, and show "+
			"what else was found")
	fs.StringVar(&o.contain, "contain", "",
		"until it is replaced, the old key is taken from these `networks` alone, separated by commas, where that "+
			"cuts nobody off; me: from the address that the cloud sees of this machine")
	fs.BoolVar(&o.endSessions, "end-sessions", false,
		"with -exposed: end the sessions that the old key opened, from here, with the new key and sudo")
	o.back = length(7 * 24 * time.Hour)
	fs.Var(&o.back, "wait-for-back",
		"of many: how `long` an instance that is out of reach is waited for")
	fs.BoolVar(&o.yes, "yes", false, "do not ask")
	fs.Int64Var(&o.pause, "pause", 0, "begin no further wave of this `work`")
	fs.Int64Var(&o.resume, "go-on", 0, "let this `work` go on, after a pause or after failures")
}

// many tells whether it is about more than one instance.
func (o fleetOptions) many() bool {
	return o.key != "" || o.tag != "" || o.due || o.exposed != "" || o.pause != 0 || o.resume != 0
}

// rotateMany rotates many, in waves.
func (c *cli) rotateMany(o rotateOptions, grace time.Duration) error {
	if len(c.args) > 0 {
		return usagef("give INSTANCE, or -key, -tag or -due")
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	for id, ask := range map[int64]func(context.Context, int64) (wire.Work, error){o.pause: service.PauseFleet,
		o.resume: service.GoOnFleet} {
		if id == 0 {
			continue
		}
		w, err := ask(c.ctx, id)
		if err != nil {
			return err
		}
		if id == o.pause {
			fmt.Fprintf(c.out, "Paused: what has begun goes on, nothing else begins.\nnext: plumlatch rotate "+
				"-go-on %d; or back: plumlatch work cancel %d\n", id, id)
			return nil
		}
		return c.followRotations(service, w, o)
	}
	if o.exposed == "" && (o.contain != "" || o.endSessions) ||
		o.exposed != "" && (o.key != "" || o.tag != "" || o.due || o.each) {
		return usagef("of many, -contain and -end-sessions go with -exposed KEY, which takes every instance that " +
			"the key opens")
	}
	if o.each == (o.new != "") && (o.each || !o.plan) {
		return usagef("give -new KEY, or -each")
	}
	if err := c.keyNames(service, &o.key, &o.exposed, &o.new); err != nil {
		return err
	}
	seconds := int64(grace / time.Second)
	f := wire.Fleet{Key: o.key, Tag: o.tag, Due: o.due, New: o.new, GraceSeconds: &seconds, First: o.first,
		Grow: o.grow, AtMost: o.atMost, StopAfter: o.stopAfter, BackSeconds: o.back.seconds()}
	if o.exposed != "" {
		f.Key, f.Exposed = o.exposed, true
		if !flagSet(o.set, "at-most") {
			f.AtMost = ""
		}
		if !flagSet(o.set, "stop-after") {
			f.StopAfter = 0
		}
		if f.Contain, err = c.containment(service, o.contain, o.exposed); err != nil {
			return err
		}
		if err := c.recordExposed(service, o); err != nil {
			return err
		}
	}
	p, err := service.PlanFleet(c.ctx, f)
	if err != nil {
		return err
	}
	if !o.asJSON {
		c.printFleetPlan(p, o)
	}
	if o.plan {
		if o.asJSON {
			return c.json(p)
		}
		fmt.Fprintf(c.out, "Nothing was changed.\nnext: the same command without -plan\n")
		return nil
	}
	if len(p.Waves) == 0 {
		return failure{errors.New("there is no instance to rotate it on"), "plumlatch access list -key KEY"}
	}
	if !o.yes {
		all := 0
		for _, w := range p.Waves {
			all += w.All
		}
		if err := c.confirm(fmt.Sprintf("Rotate on %s, in %s?", count(all, "instance"),
			count(len(p.Waves), "wave"))); err != nil {
			return err
		}
	}
	signers, err := c.fleetSigners(service, &f, p, o)
	if err != nil {
		return err
	}
	w, err := service.RotateMany(c.ctx, f)
	if err != nil {
		return err
	}
	for name, signer := range signers { // once for all: the laptop can be closed then
		k, err := service.Key(c.ctx, name)
		if err == nil {
			_, err = c.prove(service, k, signer)
		}
		if err != nil {
			return failure{fmt.Errorf("the private half of %s could not be shown: %w", name, err),
				fmt.Sprintf("plumlatch key prove %s -identity FILE; work %d waits for it", name, w.ID)}
		}
	}
	if o.detach {
		if o.asJSON {
			return c.json(w)
		}
		fmt.Fprintf(c.out, "Work %d: %s.\nnext: plumlatch rotate -go-on %d follows it; or: plumlatch work show %d\n",
			w.ID, plaintext.Line(w.Title), w.ID, w.ID)
		return nil
	}
	return c.followRotations(service, w, o)
}

// followRotations follows a rotation of many, and then ends what is left of an exposed key.
func (c *cli) followRotations(service *client.Client, w wire.Work, o rotateOptions) error {
	m := manyWords{shown: "shown to work", mend: "plumlatch why", goOn: "plumlatch rotate -go-on",
		back: "back to the old key"}
	if m.rest = "The old key is withdrawn at the end of the grace time"; o.grace == "0" || o.exposed != "" {
		m.rest, m.now = "What is out of reach is taken when it is back", true
	}
	err := c.followMany(service, w, m, o.asJSON)
	if o.exposed == "" || o.asJSON {
		return err
	}
	if e := c.afterExposed(service, w, o); e != nil && err == nil {
		err = e
	}
	return err
}

// fleetSigners finds what shows the new keys' private halves: of one key for
// all, or of a pair that is made here for each instance.
func (c *cli) fleetSigners(service *client.Client, f *wire.Fleet, p wire.FleetPlan,
	o rotateOptions) (map[string]ssh.Signer, error) {
	signers := map[string]ssh.Signer{}
	if !o.each {
		k, err := service.Key(c.ctx, o.new)
		if err != nil {
			return nil, err
		}
		signer, err := c.newSigner(k, o)
		if err != nil {
			fmt.Fprintf(c.err, "warning: %s is not shown from here (%s): its holder does, by plumlatch key prove %s\n", k.Name, plaintext.Line(err.Error()), k.Name)
			return signers, nil
		}
		signers[k.Name] = signer
		return signers, nil
	}
	kind, err := keypair.ParseKind(o.kind)
	if err != nil {
		return nil, usageError{"-kind: " + err.Error()}
	}
	f.Pairs = map[string]string{}
	for _, m := range p.Members {
		if m.State == "left out" {
			continue
		}
		name := strings.NewReplacer("{instance}", m.Instance, "{old}", m.Old, "{date}",
			time.Now().Format("2006-01-02")).Replace(o.pattern)
		if err := names.Check(name); err != nil {
			return nil, usageError{"-names: " + err.Error()}
		}
		old, err := service.Key(c.ctx, m.Old)
		if err != nil {
			return nil, err
		}
		pair := newPair{name: name, kind: kind, format: keypair.FormatOpenSSH, dir: o.dir, note: "made to replace " +
			old.Name + " on " + m.Instance, holder: old.Holder, passFile: o.newPassFile, random: o.random, passFD: -1}
		_, signer, err := c.makePair(service, &pair)
		if err != nil {
			return nil, failure{fmt.Errorf("%w\nNothing was changed on any instance; the pairs that were made "+
				"before are recorded, and kept", err), "plumlatch key list"}
		}
		f.Pairs[m.Instance], signers[name] = name, signer
	}
	return signers, nil
}

// printFleetPlan shows what will happen where.
func (c *cli) printFleetPlan(p wire.FleetPlan, o rotateOptions) {
	var rows [][]string
	later, sole, left := 0, 0, 0
	for _, m := range p.Members {
		wave, note := fmt.Sprint(m.Wave), m.Note
		if m.State == "left out" {
			wave, left = "-", left+1
			note = "left out: " + note
		} else {
			if m.Note != "" {
				later++
			}
			if m.Sole {
				sole++
				note = strings.TrimPrefix(note+"; the only key of a person there: the new one will be", "; ")
			}
		}
		if len(rows) < 60 {
			rows = append(rows, []string{wave, m.Instance, m.Old, m.New, plaintext.Line(note)})
		}
	}
	c.table([]string{"wave", "instance", "old", "new", ""}, rows, "There is no instance to rotate it on.")
	if n := len(p.Members) - len(rows); n > 0 {
		fmt.Fprintf(c.out, "and %d more (-json shows all)\n", n)
	}
	var sizes []string
	for _, w := range p.Waves {
		sizes = append(sizes, fmt.Sprint(w.All))
	}
	if len(sizes) > 0 {
		fmt.Fprintf(c.out, "\nWaves of %s; the next begins when every instance of the one before is shown to work.\n",
			strings.Join(sizes, ", "))
	}
	c.printWordNeeded(p.Word)
	for _, line := range []struct {
		n         int
		one, many string
	}{
		{later, "cannot be reached now: it keeps the old key, and is taken by itself when it is back",
			"cannot be reached now: they keep the old key, and are taken by themselves when they are back"},
		{sole, "has one opener now, and one afterwards: the new key",
			"have one opener now, and one afterwards: the new key"},
		{left, "is left out", "are left out"},
	} {
		switch line.n {
		case 0:
		case 1:
			fmt.Fprintf(c.out, "1 instance %s.\n", line.one)
		default:
			fmt.Fprintf(c.out, "%d instances %s.\n", line.n, line.many)
		}
	}
	fmt.Fprintf(c.out, "The new key's holder shows its private half once, now; then this machine can be closed.\n")
}

// manyWords are what the kinds of work on many instances say differently.
type manyWords struct {
	shown string // of an instance that is done
	rest  string // what is still to come
	mend  string // the command that tells more of an instance that failed
	goOn  string // the command that lets it go on
	back  string // what cancelling it does
	now   bool   // what is shown is done: no time runs
	last  string // what the work still does then; "" for a look at what others wrote
}

// followMany shows a bar for the whole and a line for each wave, until every
// wave is settled.
func (c *cli) followMany(service *client.Client, w wire.Work, m manyWords, asJSON bool) error {
	title := plaintext.Line(w.Title)
	tracker := &progress.Tracker{Message: title}
	var stop func()
	if c.tty {
		stop = bar(tracker)
		defer func() { stop() }()
	}
	said, failed, waits := map[int]bool{}, map[string]bool{}, ""
	// What it waited for when it was let go on is shown until somebody takes it up.
	stale, began := w.WaitsFor, time.Now()
	for {
		now, err := service.WorkByID(c.ctx, w.ID)
		if err != nil {
			return err
		}
		p, err := service.Fleet(c.ctx, w.ID)
		if err != nil {
			return err
		}
		all, settled, open := 0, 0, false
		for _, v := range p.Waves {
			all, settled = all+v.All, settled+v.Shown+v.Later+v.Failed
			open = open || v.ToDo+v.Going > 0
			if v.ToDo+v.Going == 0 && !said[v.Wave] {
				said[v.Wave] = true
				line := fmt.Sprintf("wave %d of %d: %d %s", v.Wave, len(p.Waves), v.Shown, m.shown)
				if v.Later > 0 {
					line += fmt.Sprintf(", %d taken when they are back", v.Later)
				}
				if v.Failed > 0 {
					line += fmt.Sprintf(", %d failed", v.Failed)
				}
				fmt.Fprintln(c.err, line)
			}
		}
		for _, x := range p.Members {
			if x.State == "failed" && !failed[x.Instance] {
				failed[x.Instance] = true
				fmt.Fprintf(c.err, "%s: %s\n  next: %s %s\n", x.Instance, plaintext.Line(x.Note), m.mend, x.Instance)
			}
		}
		if now.State != "waiting" || now.WaitsFor != stale || time.Since(began) > 15*time.Second {
			stale = ""
		}
		if now.State == "waiting" && now.WaitsCode == wire.WaitsWord && now.WaitsFor != waits && stale == "" {
			waits = now.WaitsFor
			fmt.Fprintf(c.err, "waits: %s\n", plaintext.Line(waits))
		}
		tracker.Total = int64(max(all, 1))
		tracker.SetValue(int64(settled))
		stopped := now.State == "waiting" && now.WaitsCode == wire.WaitsGoOn && stale == ""
		if now.Over() || all > 0 && !open || stopped {
			c.renewHosts(service)
			if asJSON {
				return c.json(p)
			}
			return c.manyEnd(service, now, p, m, stopped)
		}
		select {
		case <-c.ctx.Done():
			return failure{errors.New("stopped following; the service goes on"),
				fmt.Sprintf("plumlatch work show %d, or: plumlatch rotate -pause %d, or: plumlatch work cancel %d",
					w.ID, w.ID, w.ID)}
		case <-time.After(400 * time.Millisecond):
		}
	}
}

// manyEnd says what holds now, and what follows when.
func (c *cli) manyEnd(service *client.Client, w wire.Work, p wire.FleetPlan, m manyWords, stopped bool) error {
	shown, later, failed := 0, 0, 0
	for _, v := range p.Waves {
		shown, later, failed = shown+v.Shown, later+v.Later, failed+v.Failed
	}
	switch {
	case stopped:
		return failure{fmt.Errorf("%s %s, %d failed; no further wave begins", count(shown, "instance"), m.shown,
			failed), fmt.Sprintf("%s %d, or %s: plumlatch work cancel %d", m.goOn, w.ID, m.back, w.ID)}
	case w.Over() && w.State != "done":
		return c.workFailed(service, w)
	}
	fmt.Fprintf(c.out, "%s %s", count(shown, "instance"), m.shown)
	if failed > 0 {
		fmt.Fprintf(c.out, "; %d failed, as said above", failed)
	}
	if later > 0 {
		fmt.Fprintf(c.out, "; %s out of reach, and as before until then:", count(later, "instance"))
		for n, x := range slices.DeleteFunc(p.Members,
			func(x wire.FleetMember) bool { return x.State != "back later" }) {
			if n == 20 {
				fmt.Fprintf(c.out, "\n  and %d more", later-20)
				break
			}
			fmt.Fprintf(c.out, "\n  %s (%s)", x.Instance, plaintext.Line(x.Note))
		}
		fmt.Fprintf(c.out, "\n")
	} else {
		fmt.Fprintf(c.out, ".\n")
	}
	if !w.Over() && later == 0 && m.now {
		fmt.Fprintf(c.out, "next: plumlatch work show %d, which %s; plumlatch today\n", w.ID,
			cmp.Or(m.last, "looks for a moment for what others wrote meanwhile"))
		return nil
	}
	if !w.Over() {
		fmt.Fprintf(c.out, m.rest+", by work %d; until then what is not over can go back.\nnext: plumlatch work "+
			"show %d; %s: plumlatch work cancel %d\n", w.ID, w.ID, m.back, w.ID)
		return nil
	}
	fmt.Fprintf(c.out, "next: plumlatch today\n")
	if failed > 0 {
		return failure{fmt.Errorf("%s failed", count(failed, "instance")), fmt.Sprintf("plumlatch work show %d", w.ID)}
	}
	return nil
}
