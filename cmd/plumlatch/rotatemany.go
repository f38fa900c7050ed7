package main

import (
	"cmp"
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
	"plumlatch/core/times"
	"plumlatch/core/wire"
)

// eachFlag is -each, alone or with the pattern of the names.
type eachFlag struct {
	on      bool
	pattern string
}

func (e *eachFlag) IsBoolFlag() bool { return true }
func (e *eachFlag) String() string   { return "" }

// Set takes what stands behind the =, or "true" where there is none.
func (e *eachFlag) Set(text string) error {
	e.on, e.pattern = text != "false", "{instance}-{date}"
	if text != "true" && text != "false" {
		e.pattern = text
	}
	return nil
}

// manyRotation are the options of a rotation on many instances.
type manyRotation struct {
	showing
	waves
	new, passphrase, contain  string
	each                      eachFlag
	stopAfter                 int
	back                      length
	endSessions               bool
	plan, yes, detach, asJSON bool
	exposed                   string // the old key that may be somebody else's too
}

func (o *manyRotation) flags(fs *flag.FlagSet, sizes string) {
	o.waves.flag(fs, sizes)
	o.back = length(7 * 24 * time.Hour)
	fs.Var(&o.back, "wait-for-back", "how `long` an instance that is out of reach is waited for")
	fs.BoolVar(&o.plan, "plan", false, "show what would happen, and change nothing")
	fs.BoolVar(&o.yes, "yes", false, "do not ask")
	fs.BoolVar(&o.detach, "detach", false, "print the work's ID and leave")
	fs.BoolVar(&o.asJSON, "json", false, "print JSON")
}

const stopAfterSaid = "begin no further wave after this `number` of failures"

// rotateMany replaces keys on many instances: wherever one opens, or by tag, or what is due.
func rotateMany(fs *flag.FlagSet) func(*cli) error {
	var o manyRotation
	o.flags(fs, "1,x3,10%")
	o.dirFlag(fs)
	tag := fs.String("tag", "", "`NAME=VALUE`, or NAME, of the instances")
	due := fs.Bool("due", false, "what is older than the policy's age")
	fs.StringVar(&o.new, "new", "", "recorded `key` to put in the place of the old one, everywhere")
	fs.Var(&o.each, "each", "instead of -new: a pair for each instance, made here; -each={old}-{date} says how they are "+
		"named (default {instance}-{date})")
	newPassphraseFlag(fs, &o.passphrase, "the pairs of -each", asked)
	fs.IntVar(&o.stopAfter, "stop-after", 1, stopAfterSaid)
	grace := fs.String("grace", "24h", graceSaid)
	return func(c *cli) error {
		span, err := times.Span(*grace)
		if err != nil {
			return usagef("-grace: %v", err)
		}
		key := ""
		if len(c.args) > 0 {
			if _, err := c.names("OLD-KEY"); err != nil {
				return err
			}
			key = c.args[0]
		}
		if key == "" && *tag == "" && !*due {
			return usagef("say which: OLD-KEY, -tag TAG or -due")
		}
		if o.each.on == (o.new != "") && (o.each.on || !o.plan) {
			return usagef("give -new KEY, or -each")
		}
		service, err := c.service()
		if err != nil {
			return err
		}
		if err := c.keyNames(service, &key, &o.new); err != nil {
			return err
		}
		seconds := int64(span / time.Second)
		return c.rotateWaves(service, wire.Fleet{Key: key, Tag: *tag, Due: *due, New: o.new, GraceSeconds: &seconds,
			First: o.first, Grow: o.grow, AtMost: o.atMost, StopAfter: o.stopAfter, BackSeconds: o.back.seconds()}, o)
	}
}

// rotateExposed replaces a key that may be somebody else's too, everywhere at once.
func rotateExposed(fs *flag.FlagSet) func(*cli) error {
	var o manyRotation
	o.showing.flags(fs)
	o.flags(fs, "all at once")
	fs.StringVar(&o.new, "new", "", "recorded `key` to put in its place")
	fs.StringVar(&o.contain, "contain", "",
		"until it is replaced, the old key is taken from these `networks` alone, separated by commas, where that "+
			"cuts nobody off; me: from the address that the cloud sees of this machine")
	fs.BoolVar(&o.endSessions, "end-sessions", false,
		"end the sessions that the old key opened, from here, with the new key and sudo")
	fs.IntVar(&o.stopAfter, "stop-after", 0, stopAfterSaid+" (default: it goes on)")
	return func(c *cli) error {
		if err := o.check(); err != nil {
			return err
		}
		args, service, err := c.begin("KEY")
		if err != nil {
			return err
		}
		if o.new == "" && !o.plan {
			return usagef("-new KEY is missing: what takes its place (plumlatch key create makes one)")
		}
		o.exposed = args[0]
		if err := c.keyNames(service, &o.exposed, &o.new); err != nil {
			return err
		}
		none := int64(0)
		f := wire.Fleet{Key: o.exposed, Exposed: true, New: o.new, GraceSeconds: &none, First: o.first, Grow: o.grow,
			AtMost: o.atMost, StopAfter: o.stopAfter, BackSeconds: o.back.seconds()}
		if f.Contain, err = c.containment(service, o.contain, o.exposed); err != nil {
			return err
		}
		if err := c.recordExposed(service, o); err != nil {
			return err
		}
		return c.rotateWaves(service, f, o)
	}
}

// rotateWaves shows what would happen where, asks, and follows it.
func (c *cli) rotateWaves(service *client.Client, f wire.Fleet, o manyRotation) error {
	p, err := service.PlanFleet(c.ctx, f)
	if err != nil {
		return err
	}
	if !o.asJSON {
		if err := c.printFleetPlan(p, f, o); err != nil {
			return err
		}
	}
	if o.plan {
		if o.asJSON {
			return c.json(p)
		}
		fmt.Fprintf(c.out, "Nothing was changed.\nnext: the same command without -plan\n")
		return nil
	}
	if len(p.Waves) == 0 {
		next := "plumlatch work list"
		if len(p.Members) == 0 && f.Key != "" {
			next = "plumlatch opens " + f.Key
		}
		return failure{errors.New("there is no instance to rotate it on"), next}
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
		fmt.Fprintf(c.out, "Work %d: %s.\nnext: plumlatch work follow %d\n", w.ID, plaintext.Line(w.Title), w.ID)
		return nil
	}
	err = c.followMany(service, w, manyWordsOf(w), o.asJSON)
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
	o manyRotation) (map[string]ssh.Signer, error) {
	signers := map[string]ssh.Signer{}
	if !o.each.on {
		k, err := service.Key(c.ctx, o.new)
		if err != nil {
			return nil, err
		}
		signer, err := c.newSigner(k, o.showing)
		if err != nil {
			fmt.Fprintf(c.err, "warning: %s is not shown from here (%s): its holder does, by plumlatch key prove %s\n", k.Name, plaintext.Line(err.Error()), k.Name)
			return signers, nil
		}
		signers[k.Name] = signer
		return signers, nil
	}
	kind := c.pairKind(service)
	f.Pairs = map[string]string{}
	for _, m := range p.Members {
		if m.State == "left out" {
			continue
		}
		name, err := o.nameFor(m)
		if err != nil {
			return nil, err
		}
		old, err := service.Key(c.ctx, m.Old)
		if err != nil {
			return nil, err
		}
		pair := newPair{name: name, kind: kind, format: keypair.FormatOpenSSH, dir: o.dir, note: "made to replace " +
			old.Name + " on " + m.Instance, holder: old.Holder, passphrase: o.passphrase, passFD: -1}
		_, signer, err := c.makePair(service, &pair)
		if err != nil {
			return nil, failure{fmt.Errorf("%w\nNothing was changed on any instance; the pairs that were made "+
				"before are recorded, and kept", err), "plumlatch key list"}
		}
		f.Pairs[m.Instance], signers[name] = name, signer
	}
	return signers, nil
}

// nameFor is the name of the pair that is made for an instance.
func (o manyRotation) nameFor(m wire.FleetMember) (string, error) {
	name := strings.NewReplacer("{instance}", m.Instance, "{old}", m.Old, "{date}",
		time.Now().Format("2006-01-02")).Replace(o.each.pattern)
	if err := names.Check(name); err != nil {
		return "", usageError{"-each: " + err.Error()}
	}
	return name, nil
}

// printFleetPlan shows what will happen where.
func (c *cli) printFleetPlan(p wire.FleetPlan, f wire.Fleet, o manyRotation) error {
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
		if o.each.on && m.State != "left out" { // made when it is carried out, and not by a plan
			var err error
			if m.New, err = o.nameFor(m); err != nil {
				return err
			}
		}
		if len(rows) < 60 {
			rows = append(rows, []string{wave, m.Instance, m.Old, cmp.Or(m.New, "-"), plaintext.Line(note)})
		}
	}
	c.table([]string{"wave", "instance", "old", "new", ""}, rows, "There is no instance to rotate it on.")
	if n := len(p.Members) - len(rows); n > 0 {
		fmt.Fprintf(c.out, "and %d more (-json shows all)\n", n)
	}
	atMost := f.AtMost
	if f.Exposed {
		atMost = cmp.Or(atMost, "100%")
	}
	if said := sizesSaid(p.Waves, atMost); said != "" {
		fmt.Fprintf(c.out, "\n%s\n", said)
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
	return nil
}

// manyWords are what the kinds of work on many instances say differently.
type manyWords struct {
	shown string // of an instance that is done
	rest  string // what is still to come
	mend  string // the command that tells more of an instance that failed
	back  string // what cancelling it does
	now   bool   // what is shown is done: no time runs
	last  string // what the work still does then; "" for a look at what others wrote
}

// manyWordsOf are the words of a piece of work on many instances.
func manyWordsOf(w wire.Work) manyWords {
	switch w.Kind {
	case "access-remove-many":
		return manyWords{shown: "rid of it, and refusing it", rest: "What is out of reach is done when it is back",
			mend: "plumlatch why", back: "what is not done, left as it is", now: true}
	case "access-add-many":
		return manyWords{shown: "opened by it", rest: "What is left is done", mend: "plumlatch why",
			back: "what waits for its end, taken out now"}
	case "keybook-settle":
		return manyWords{shown: "settled", rest: "What is out of reach is done when it is back", mend: "plumlatch why",
			back: "what is not done, left as it is", now: true}
	case "restore-many":
		return manyWords{shown: "restored", mend: "plumlatch restore", back: "what is at hand goes back",
			rest: "The rest goes on", last: "gives up what its parts shared", now: true}
	}
	return manyWords{shown: "shown to work", mend: "plumlatch why", back: "back to the old key",
		rest: "The old key is withdrawn at the end of the grace time"}
}

// followMany shows a bar for the whole and a line for each wave, until every
// wave is settled.
func (c *cli) followMany(service *client.Client, w wire.Work, m manyWords, asJSON bool) error {
	title := plaintext.Line(w.Title)
	tracker := &progress.Tracker{Message: title}
	var stop func()
	if c.tty {
		_, stop = bar(tracker)
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
				fmt.Sprintf("plumlatch work follow %d, or: plumlatch work pause %d, or: plumlatch work cancel %d",
					w.ID, w.ID, w.ID)}
		case <-time.After(400 * time.Millisecond):
		}
	}
}

// manyEnd says what holds now, and what follows when.
func (c *cli) manyEnd(service *client.Client, w wire.Work, p wire.FleetPlan, m manyWords, stopped bool) error {
	if p.AtOnce {
		m.rest, m.now = "What is out of reach is taken when it is back", true
	}
	shown, later, failed := 0, 0, 0
	for _, v := range p.Waves {
		shown, later, failed = shown+v.Shown, later+v.Later, failed+v.Failed
	}
	switch {
	case stopped:
		return failure{fmt.Errorf("%s %s, %d failed; no further wave begins", count(shown, "instance"), m.shown,
			failed), fmt.Sprintf("plumlatch work go-on %d, or %s: plumlatch work cancel %d", w.ID, m.back, w.ID)}
	case w.Over() && w.State != "done":
		return c.workFailed(service, w)
	}
	for _, k := range p.Kept {
		fmt.Fprintf(c.out, "stays: %s\n", plaintext.Line(k))
		c.exit = exitNeedsHand
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
