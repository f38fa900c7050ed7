package main

import (
	"cmp"
	"errors"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/client"
	"plumlatch/core/access"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/times"
	"plumlatch/core/wire"
)

const restoreHelp = `

  Alone it compares the ways back in and changes nothing. -go takes the best open
  one, makes a pair here, and asks once. -route carries out a certain one with
  -new. The work survives whatever becomes of this machine, goes back if a step
  fails, and ends with the lost key withdrawn and nothing left open.`

const restoreCopyHelp = `

  The old one runs on until the copy has been seen to take the new key, and its
  checks to work there; then the static address moves. Until the lost key is
  shown refused on the copy, only the service and you get in there. Afterwards
  the old one is stopped, and kept for -keep: "work cancel" goes back to it,
  "work go-on" removes it. What is written on the old one after the image was
  made is not on the copy.`

type restoreOptions struct {
	showing
	unlocking
	route, new, lost, name   string
	passphrase, passwordFile string
	best, yes, detach        bool
	asJSON                   bool
	keep                     string // of a copy, as still and keepImage are
	still, keepImage, enable bool
}

func passwordFlag(fs *flag.FlagSet, into *string) {
	fs.StringVar(into, "password-file", "",
		"already-open: `file` with the login user's password (default: it is asked)")
}

// flags are those that each form of restore has. later is what is still to be done where nobody follows the work.
func (o *restoreOptions) flags(fs *flag.FlagSet, later string) {
	o.showing.flags(fs)
	fs.StringVar(&o.new, "new", "", "recorded `key` that is to open it (default: a pair that is made here, now)")
	fs.StringVar(&o.name, "name", "", "`name` of the pair that is made (default: the instance's, with today's date)")
	newPassphraseFlag(fs, &o.passphrase, "the pair that is made", asked)
	fs.BoolVar(&o.yes, "yes", false, "do not ask")
	fs.BoolVar(&o.detach, "detach", false, "print the work's ID and leave; "+later+" (work here ID)")
	fs.BoolVar(&o.asJSON, "json", false, "print JSON")
}

const loginLater = "a login with the new key has to come later"

func (o *restoreOptions) check() error {
	if o.new != "" && (o.name != "" || o.passphrase != "") {
		return usagef("-name and -new-passphrase are for a pair that is made here: leave -new out, or them")
	}
	return o.showing.check()
}

func restore(fs *flag.FlagSet) func(*cli) error {
	var o restoreOptions
	o.flags(fs, loginLater)
	fs.StringVar(&o.route, "route", "", "carry out this `route`: agent, second-key, steward, cloud-agent, lent-key, boot-text, disk, copy or already-open")
	fs.BoolVar(&o.best, "go", false, "carry out the best open route, with a pair made here; asks once")
	fs.StringVar(&o.lost, "lost", "", "record this `key` as lost first")
	passwordFlag(fs, &o.passwordFile)
	return func(c *cli) error {
		if err := o.check(); err != nil {
			return err
		}
		if o.best && o.route != "" {
			return usagef("-go takes the best route: give -go, or -route")
		}
		return c.restore(o)
	}
}

const restoreUnlockHelp = `

  The way is that of "restore -route disk". The passphrase goes from here to the
  rescue instance, over SSH, and the service is not sent it. It is read before
  anything is stopped.`

// restoreUnlock is restore by the disk, of a volume that is encrypted.
func restoreUnlock(fs *flag.FlagSet) func(*cli) error {
	o := restoreOptions{route: "disk"}
	o.flags(fs, "the volume has to be opened later")
	o.unlocking.flags(fs)
	return func(c *cli) error {
		if err := o.check(); err != nil {
			return err
		}
		o.from = cmp.Or(o.from, askPhrase)
		return c.restore(o)
	}
}

// restoreCopy is restore by a copy, with what is of that way alone.
func restoreCopy(fs *flag.FlagSet) func(*cli) error {
	o := restoreOptions{route: "copy"}
	o.flags(fs, loginLater)
	fs.StringVar(&o.keep, "keep", "7d", "how long the old one is kept, stopped: a `time` such as 12h, 7d or 4w")
	fs.BoolVar(&o.still, "still", false, "stop it while its image is made: what its processes had not written yet is on it then")
	fs.BoolVar(&o.keepImage, "keep-image", false, "do not remove the image with the old one")
	fs.BoolVar(&o.enable, "enable", false, "start and enable on the copy, from here and by sudo, what ran on the old one and does not come up")
	return func(c *cli) error {
		if err := o.check(); err != nil {
			return err
		}
		return c.restore(o)
	}
}

// restore compares the ways back in, or carries one out.
func (c *cli) restore(o restoreOptions) error {
	ask := wire.Restore{Still: o.still, KeepImage: o.keepImage, Enable: o.enable, Unlock: o.from != ""}
	if o.keep != "" {
		d, err := times.Span(o.keep)
		if err != nil || d < time.Second {
			return usagef("-keep: %v", times.ErrSpan)
		}
		ask.KeepSeconds = int64(d / time.Second)
	}
	args, service, err := c.begin("INSTANCE")
	if err != nil {
		return err
	}
	if err := c.keyNames(service, &o.lost, &o.new); err != nil {
		return err
	}
	if o.lost != "" {
		if err := c.recordLost(service, o.lost, o.yes); err != nil {
			return err
		}
	}
	all, err := service.Routes(c.ctx, args[0], true)
	if err != nil {
		return err
	}
	if !o.best && o.route == "" {
		if o.asJSON {
			return c.json(all)
		}
		c.printRoutes(all, o.lost != "")
		return nil
	}
	offer, err := chosenOffer(all, o.route)
	if err != nil {
		return err
	}
	if !o.asJSON {
		c.printWay(all, offer)
	}
	if !o.yes {
		which := all.Instance
		if m := all.Machine; m != nil && (offer.Route == "disk" || offer.Route == "boot-text" || offer.Route == "copy") {
			which += " (" + plaintext.Line(m.CloudID) + ")"
		}
		if err := c.confirm(fmt.Sprintf("Restore access to %s by %s?", which, offer.Route)); err != nil {
			return err
		}
	}
	if !o.detach {
		if err := c.readUnlock(&o.unlocking, all.Instance); err != nil {
			return err
		}
		defer o.unlocking.forget()
	}
	var k wire.Key
	var signer ssh.Signer
	if o.new == "" {
		if k, signer, err = c.newForInstance(service, all, o); err != nil {
			return err
		}
	} else if k, err = service.Key(c.ctx, o.new); err != nil {
		return err
	}
	ask.Route, ask.New = offer.Route, k.Name
	w, err := service.Restore(c.ctx, all.Instance, ask)
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
	return c.followRestore(service, w, k, signer, ownPart{o.showing, o.passwordFile, o.unlocking}, o.asJSON)
}

// recordLost records that nobody has a key any more, if that is not on record.
func (c *cli) recordLost(service *client.Client, name string, yes bool) error {
	k, err := service.Key(c.ctx, name)
	if err != nil {
		return err
	}
	if k.State == access.Lost || k.State == access.Exposed {
		return nil
	}
	if !yes {
		if err := c.confirm(fmt.Sprintf("Record that nobody has the private half of %s any more?",
			k.Name)); err != nil {
			return err
		}
	}
	_, err = service.BadDay(c.ctx, name, wire.KeyBadDay{State: access.Lost})
	return err
}

// newForInstance makes a pair to get back in with.
func (c *cli) newForInstance(service *client.Client, all wire.Routes, o restoreOptions) (wire.Key, ssh.Signer, error) {
	holder := ""
	if len(all.Lost) > 0 {
		if k, err := service.Key(c.ctx, all.Lost[0]); err == nil {
			holder = k.Holder
		}
	}
	var types []string
	if i, err := service.Instance(c.ctx, all.Instance); err == nil && i.Desktop {
		types = []string{"ssh-rsa"} // only that decrypts
	}
	p := newPair{name: o.name, kind: c.pairKind(service, types...), format: keypair.FormatOpenSSH, dir: o.dir,
		note: "made to get back into " + all.Instance, holder: holder, passphrase: o.passphrase, passFD: -1}
	if p.name == "" {
		p.name = datedName(all.Instance, time.Now())
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

func chosenOffer(all wire.Routes, route string) (wire.RouteOffer, error) {
	n := slices.IndexFunc(all.Offers, func(o wire.RouteOffer) bool { return o.Route == route || route == "" })
	if n < 0 {
		var have []string
		for _, o := range all.Offers {
			have = append(have, o.Route)
		}
		return wire.RouteOffer{}, usagef("-route: there are %s", strings.Join(have, ", "))
	}
	o := all.Offers[n]
	if o.Open {
		return o, nil
	}
	var lacks []string
	for _, l := range o.Lacking {
		lacks = append(lacks, plaintext.Line(l.What))
	}
	what := fmt.Errorf("%s is not open: %s", o.Route, strings.Join(lacks, "; "))
	if route == "" {
		what = fmt.Errorf("no way back into %s is open", all.Instance)
	}
	return o, failure{what, "plumlatch restore " + all.Instance + ", which says what each lacks"}
}

// printRoutes sets the ways back in side by side.
func (c *cli) printRoutes(all wire.Routes, recorded bool) {
	besides := ""
	if recorded { // that the key is lost was changed
		besides = " else"
	}
	lost := "no key of it is recorded as lost (plumlatch key lost NAME)"
	if len(all.Lost) > 0 {
		lost = "lost: " + strings.Join(all.Lost, ", ")
	}
	fmt.Fprintf(c.out, "%s, as %s, %s; %s.\n\n", all.Instance, all.LoginUser, all.State, lost)
	var rows [][]string
	open := false
	for _, o := range all.Offers {
		if !o.Open {
			continue
		}
		open = true
		rows = append(rows, []string{o.Route, until(o.UntilIn), until(o.Down), charged(o.Charges),
			orNothing(o.People), fmt.Sprint(len(o.Changes)), o.Sure})
	}
	c.table([]string{"open", "until in", "downtime", "costs", "needs besides", "changes", "how that is known"}, rows,
		"No way back in is open.")
	for _, o := range all.Offers {
		if !o.Open {
			continue
		}
		fmt.Fprintf(c.out, "\n%s: %s.\n", o.Route, o.About)
		for _, list := range []struct {
			word string
			all  []string
		}{{"changes", o.Changes}, {"can be lost", o.CanBeLost}, {"left to check", o.ToCheck}} {
			for _, text := range list.all {
				fmt.Fprintf(c.out, "  %-14s %s\n", list.word, plaintext.Line(text))
			}
		}
	}
	fmt.Fprintln(c.out)
	for _, o := range all.Offers {
		if o.Open {
			continue
		}
		fmt.Fprintf(c.out, "Not open: %s\n", o.Route)
		for _, l := range o.Lacking {
			fmt.Fprintf(c.out, "  %s\n", plaintext.Line(l.What))
			if l.Command != "" {
				fmt.Fprintf(c.out, "  to have it: %s\n", plaintext.Line(l.Command))
			}
		}
	}
	if open {
		fmt.Fprintf(c.out, "\nNothing%s was changed.\nnext: plumlatch restore %s -go, or -route ROUTE -new KEY\n",
			besides, all.Instance)
		return
	}
	fmt.Fprintf(c.out, "\nNothing%s was changed.\nnext: plumlatch why %s\n", besides, all.Instance)
}

func orNothing(s string) string {
	if s == "" {
		return "-"
	}
	return plaintext.Line(s)
}

// until writes a length of time that is an estimate.
func until(seconds float64) string {
	switch {
	case seconds == 0:
		return "none"
	case seconds < 1:
		return "under 1 s"
	case seconds < 90:
		return fmt.Sprintf("%.0f s", seconds)
	}
	return fmt.Sprintf("%.0f min", seconds/60)
}

func charged(all []wire.Charge) string {
	var out []string
	for _, ch := range all {
		if ch.Currency == "" { // the cloud has no price list
			return "not known"
		}
		out = append(out, fmt.Sprintf("%.4g %s", ch.Amount, plaintext.Line(ch.Currency)))
	}
	if len(out) == 0 {
		return "nothing"
	}
	return strings.Join(out, " + ")
}

// printWay shows the whole way before the first step.
func (c *cli) printWay(all wire.Routes, o wire.RouteOffer) {
	fmt.Fprintf(c.out, "%s, by %s: %s.\n\n", all.Instance, o.Route, o.About)
	for n, s := range o.Steps {
		fmt.Fprintf(c.out, "  %2d  %s\n", n+1, plaintext.Line(s))
	}
	if m := all.Machine; m != nil && (o.Route == "disk" || o.Route == "boot-text" || o.Route == "copy") {
		launched := ""
		if m.Launched != nil {
			launched = ", launched " + times.Show(m.Launched.Local())
		}
		fmt.Fprintf(c.out, "\nAt the cloud it is %s, called %s%s, with the volume %s.\n", plaintext.Line(m.CloudID),
			plaintext.Line(m.Name), launched, cmp.Or(plaintext.Line(m.Volume), "(none is attached)"))
	}
	fmt.Fprintf(c.out, "\nUntil somebody is in: about %s; of that down: %s; costs %s.\n", until(o.UntilIn),
		until(o.Down), charged(o.Charges))
	if len(all.Lost) > 0 {
		fmt.Fprintf(c.out, "Withdrawn afterwards: %s.\n", strings.Join(all.Lost, ", "))
	}
	for _, text := range o.CanBeLost {
		fmt.Fprintf(c.out, "Can be lost: %s.\n", plaintext.Line(text))
	}
	for _, text := range o.Changes {
		fmt.Fprintf(c.out, "Changes: %s.\n", plaintext.Line(text))
	}
	fmt.Fprintln(c.out)
}

// followRestore follows the work, does what it asks this machine for, and says
// what holds at the end.
func (c *cli) followRestore(service *client.Client, w wire.Work, k wire.Key, signer ssh.Signer,
	o ownPart, asJSON bool) error {
	var trouble error
	shown, byHand, enabled, opened, waits := false, false, false, false, ""
	shut := func() {} // what let this machine in for the work; the login that proves the new key is the last
	defer func() { shut() }()
	// signed does what needs the new key's private half, which is found when it is first needed.
	signed := func(do func() error) (err error) {
		if signer == nil {
			signer, err = c.newSigner(k, o.showing)
		}
		if signer != nil && err == nil {
			err = do()
		}
		return err
	}
	end, err := c.followUntil(service, w, "plumlatch work here", func(e wire.WorkEvent, enough func()) {
		switch {
		// told again, and over
		case slices.Contains([]string{"by-hand", "lent", "agent", "grant", "enable", "mount", "login"}, e.Step) && !c.isAt(service, w.ID, e):
		case e.Step == "by-hand" && !byHand:
			byHand = true
			if trouble = c.placeByPassword(service, w.ID, o); trouble != nil {
				waits = fmt.Sprintf("plumlatch work here %d", w.ID)
				enough()
			}
		case e.Step == "lent" && !byHand:
			byHand = true
			if i, err := service.Instance(c.ctx, w.Instance); err != nil {
				trouble = err
			} else if shut, err = c.letIn(service, i, forLent); err != nil {
				trouble = err
			} else {
				trouble = c.placeByLent(service, i, w.ID)
			}
			if trouble != nil {
				waits = fmt.Sprintf("plumlatch work here %d", w.ID)
				enough()
			}
		case e.Step == "agent" && e.Code == wire.EventWaits:
			waits = fmt.Sprintf("an operator whom its owner's file names: plumlatch restore grant %d -identity FILE; then here: plumlatch work here %d", w.ID, w.ID)
			trouble = errors.New("it waits for an operator to sign for the agent")
			enough()
		case e.Step == "grant" && e.Code == wire.EventWaits:
			waits = fmt.Sprintf("its holder, on their machine: plumlatch restore grant %d -identity FILE; then "+
				"here: plumlatch work here %d", w.ID, w.ID)
			trouble = errors.New("it waits for the holder of another key")
			enough()
		case e.Step == "mount" && e.Code == wire.EventWaits && !opened:
			opened = true
			if err := signed(func() error { return c.unlockThere(service, w, signer, &o.unlocking) }); err != nil {
				trouble, waits = err, fmt.Sprintf("plumlatch work here %d -identity FILE", w.ID)
				enough()
			}
		case e.Step == "enable" && e.Code == wire.EventWaits && !enabled:
			enabled = true
			if err := signed(func() error { return c.enableThere(service, w, signer) }); err != nil {
				trouble, waits = err, fmt.Sprintf("plumlatch work here %d -identity FILE", w.ID)
				enough()
			}
		case e.Step == "login" && !shown:
			shown = true
			if err := signed(func() (err error) {
				if w.Kind == "restore-copy" { // nobody else gets in to the copy yet
					if i, e := service.Instance(c.ctx, w.Instance); e == nil && !i.Desktop {
						shut, err = c.letIn(service, i, "for a login to the copy")
					}
				}
				if err == nil {
					err = c.showNew(service, w, k, signer)
				}
				return err
			}); err != nil {
				trouble, waits = err, fmt.Sprintf("plumlatch work here %d -identity FILE; or on its "+
					"holder's machine: plumlatch key prove %s -identity FILE", w.ID, k.Name)
				enough()
			}
		}
	})
	if err != nil {
		return err
	}
	if waits != "" && !end.Over() {
		return failure{fmt.Errorf("work %d waits: %w", w.ID, trouble), waits + "; or: plumlatch work cancel " +
			fmt.Sprint(w.ID)}
	}
	if end.State != "done" {
		if asJSON {
			if err := c.json(end); err != nil {
				return err
			}
		}
		return c.workFailed(service, end)
	}
	report, err := service.Report(c.ctx, w.ID)
	if err != nil {
		return err
	}
	if asJSON {
		return c.json(report)
	}
	next := "plumlatch open " + report.Instance
	if i, err := service.Instance(c.ctx, report.Instance); err == nil && i.Desktop {
		next = "plumlatch instance password " + report.Instance + " -identity FILE"
	}
	c.printRestored(report, next)
	return nil
}

// isAt tells whether the step that an event is about is at hand now. A holder's
// line that was added since is no longer waited for, though the step may not know yet.
func (c *cli) isAt(service *client.Client, id int64, e wire.WorkEvent) bool {
	w, err := service.WorkByID(c.ctx, id)
	return err == nil && !w.Over() && w.StepName == e.Step && (e.Step != "grant" && e.Step != "agent" || w.Events <= e.N)
}

// printRestored says what was done, what was found, and what is left.
func (c *cli) printRestored(r wire.Report, next string) {
	fmt.Fprintf(c.out, "%s.\n", plaintext.Line(r.Outcome))
	if r.InAt != nil {
		fmt.Fprintf(c.out, "In after %.1f s; down for %.1f s, measured from outside", r.InAt.Sub(r.BeganAt).Seconds(),
			r.Down)
		if r.NotSeen > 1 {
			fmt.Fprintf(c.out, " (%.0f s not seen)", r.NotSeen)
		}
		fmt.Fprintf(c.out, ".\n")
	}
	for _, ch := range r.Checks {
		word := "works"
		if !ch.Good {
			word = "DOES NOT WORK"
		}
		fmt.Fprintf(c.out, "  %-14s %s: %s\n", word, plaintext.Line(ch.Check), plaintext.Line(ch.Said))
	}
	for _, list := range []struct {
		word string
		all  []string
	}{{"changed", r.Changed}, {"left", r.Left}, {"goes on", r.GoesOn}} {
		for _, text := range list.all {
			fmt.Fprintf(c.out, "  %-14s %s\n", list.word, plaintext.Line(text))
		}
	}
	fmt.Fprintf(c.out, "next: %s; the whole report: plumlatch work report %d\n", next, r.Work)
}

// restoreMany restores each instance that only a lost key opened.
func restoreMany(fs *flag.FlagSet) func(*cli) error {
	var o showing
	o.flags(fs)
	var sizes waves
	sizes.flag(fs, "1,x3,10%")
	fresh := fs.String("new", "", "recorded `key` that is to open them")
	tag := fs.String("tag", "", "of those, `NAME=VALUE`, or NAME")
	stopAfter := fs.Int("stop-after", 1, stopAfterSaid)
	plan := fs.Bool("plan", false, "show what would happen, and change nothing")
	yes := fs.Bool("yes", false, "do not ask")
	detach := fs.Bool("detach", false, "print the work's ID and leave")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		if err := o.check(); err != nil {
			return err
		}
		args, service, err := c.begin("LOST-KEY")
		if err != nil {
			return err
		}
		lost := args[0]
		if *fresh == "" && !*plan {
			return usagef("-new KEY is missing: the key that is to open them (plumlatch key create makes one)")
		}
		if err := c.keyNames(service, &lost, fresh); err != nil {
			return err
		}
		r := wire.RestoreMany{Key: lost, New: *fresh, Tag: *tag, First: sizes.first, Grow: sizes.grow,
			AtMost: sizes.atMost, StopAfter: *stopAfter}
		p, err := service.PlanRestoreMany(c.ctx, r)
		if err != nil {
			return err
		}
		if *asJSON && *plan {
			return c.json(p)
		}
		if !*asJSON {
			var rows [][]string
			for _, m := range p.Members {
				wave := fmt.Sprint(m.Wave)
				if m.State == "left out" {
					wave = "-"
				}
				rows = append(rows, []string{wave, m.Instance, plaintext.Line(m.Note)})
			}
			c.table([]string{"wave", "instance", ""}, rows, "There is no instance that only "+lost+" opened.")
			c.printWordNeeded(p.Word)
			if said := sizesSaid(p.Waves, sizes.atMost); said != "" {
				fmt.Fprintf(c.out, "\n%s\n", said)
			}
			fmt.Fprintln(c.out)
		}
		if *plan {
			fmt.Fprintf(c.out, "Nothing was changed.\nnext: the same command without -plan\n")
			return nil
		}
		if len(p.Waves) == 0 {
			return failure{errors.New("there is nothing to restore"), "plumlatch restore ready"}
		}
		all := 0
		for _, w := range p.Waves {
			all += w.All
		}
		gone, err := service.Key(c.ctx, lost)
		if err != nil {
			return err
		}
		if !*yes {
			question := fmt.Sprintf("Restore access to %s?", count(all, "instance"))
			if gone.State != access.Lost && gone.State != access.Exposed {
				question = fmt.Sprintf("Record that nobody has the private half of %s any more, and restore access to %s?",
					lost, count(all, "instance"))
			}
			if err := c.confirm(question); err != nil {
				return err
			}
		}
		k, err := service.Key(c.ctx, *fresh)
		if err != nil {
			return err
		}
		signer, err := c.newSigner(k, o)
		if err != nil {
			return err
		}
		if err := c.recordLost(service, lost, true); err != nil {
			return err
		}
		w, err := service.RestoreMany(c.ctx, r)
		if err != nil {
			return err
		}
		if _, err := c.prove(service, k, signer); err != nil {
			return failure{fmt.Errorf("the private half of %s could not be shown: %w", k.Name, err),
				fmt.Sprintf("plumlatch key prove %s -identity FILE; work %d waits for it", k.Name, w.ID)}
		}
		if *detach {
			if *asJSON {
				return c.json(w)
			}
			fmt.Fprintf(c.out, "Work %d: %s.\nnext: plumlatch work follow %d\n", w.ID, plaintext.Line(w.Title), w.ID)
			return nil
		}
		return c.followMany(service, w, manyWordsOf(w), *asJSON)
	}
}

func restoreReady(fs *flag.FlagSet) func(*cli) error {
	tag := fs.String("tag", "", "only those with this tag, `NAME=VALUE`, or NAME")
	none := fs.Bool("none", false, "only those into which no way back is open")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		_, service, err := c.begin()
		if err != nil {
			return err
		}
		all, err := service.RestoreReady(c.ctx, *tag)
		if err != nil {
			return err
		}
		without, desktops := 0, 0
		var rows [][]string
		shown := []wire.ReadyRow{}
		for _, r := range all {
			switch {
			case r.Desktop && *none:
				continue
			case r.Desktop:
				desktops++
			case len(r.Open) == 0:
				without++
			case *none:
				continue
			}
			shown = append(shown, r)
			text := bestWay(r)
			for _, h := range r.Rehearsed {
				if len(r.Open) > 0 && (!h.Good || h.Route != r.Open[0]) {
					text += fmt.Sprintf("; %s: rehearsed %s: %s", h.Route, ago(h.At, time.Now()), rehearsedWords(h))
				}
			}
			for _, l := range r.Lacking {
				if l.Command != "" {
					text = l.What + " (" + l.Command + ")"
					break
				}
				if text == "" {
					text = l.What
				}
			}
			open := strings.Join(r.Open, ", ")
			switch {
			case r.Desktop:
				open = strings.TrimSpace(open + " (no SSH)")
			case open == "":
				open = "NONE"
			}
			rows = append(rows, []string{r.Instance, r.State, open, plaintext.Line(text)})
		}
		if *asJSON {
			return c.json(wire.List[wire.ReadyRow]{Items: shown})
		}
		c.table([]string{"instance", "state", "open today, the best first", "the best one"}, rows, "There is no instance to show.")
		fmt.Fprintf(c.out, "\n%d of %s can be got back into, by what is recorded; nothing was asked.\n",
			len(all)-without-desktops, count(len(all)-desktops, "instance"))
		if without > 0 {
			fmt.Fprintf(c.out, "next: plumlatch today -what no-way-back\n")
			c.exit = exitNeedsHand
			return nil
		}
		fmt.Fprintf(c.out, "next: plumlatch restore INSTANCE compares them\n")
		return nil
	}
}

func workReport(fs *flag.FlagSet) func(*cli) error {
	out := fs.String("out", "", "write it into this `file`, which must not exist")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		id, service, err := c.workArg()
		if err != nil {
			return err
		}
		r, err := service.Report(c.ctx, id)
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(r)
		}
		text := reportText(r)
		if *out == "" {
			fmt.Fprint(c.out, text)
			return nil
		}
		f, err := os.OpenFile(*out, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
		if err != nil {
			return err
		}
		if _, err := f.WriteString(text); err != nil {
			return errors.Join(err, f.Close())
		}
		if err := f.Close(); err != nil {
			return err
		}
		fmt.Fprintf(c.out, "Wrote %s.\n", *out)
		return nil
	}
}

func instanceCheck(fs *flag.FlagSet) func(*cli) error {
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		if len(c.args) == 0 {
			return usagef("give add, remove or list")
		}
		what := c.args[0]
		c.args = c.args[1:]
		wants := []string{"NAME", "CHECK"}
		if what == "list" {
			wants = wants[:1]
		} else if what != "add" && what != "remove" {
			return usagef("give add, remove or list")
		}
		args, service, err := c.begin(wants...)
		if err != nil {
			return err
		}
		if what != "list" {
			if err := service.ChangeChecks(c.ctx, args[0],
				wire.CheckChange{Check: args[1], Remove: what == "remove"}); err != nil {
				return err
			}
		}
		i, err := service.Instance(c.ctx, args[0])
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(struct {
				Checks []string `json:"checks"`
			}{append([]string{}, i.Checks...)})
		}
		var rows [][]string
		for _, check := range i.Checks {
			rows = append(rows, []string{plaintext.Line(check)})
		}
		c.table([]string{i.Name + " works, if these answer"}, rows, "Nobody has said what \"works\" means for "+
			i.Name+".")
		return nil
	}
}

func instanceRescue(fs *flag.FlagSet) func(*cli) error {
	yes := fs.Bool("yes", false, "do not ask")
	return func(c *cli) error {
		args, service, err := c.begin("NAME", "yes|no")
		if err != nil {
			return err
		}
		on := args[1] == "yes"
		if !on && args[1] != "no" {
			return usagef("say yes or no")
		}
		if on {
			if err := c.agreeToRescue(service, args[0], *yes); err != nil {
				return err
			}
		}
		if err := service.SetRescue(c.ctx, args[0], wire.RescueChange{On: on}); err != nil {
			return err
		}
		if on {
			fmt.Fprintf(c.out, "%s rescues others of its zone, one volume at a time.\nnext: plumlatch restore ready\n", args[0])
			return nil
		}
		fmt.Fprintf(c.out, "%s rescues nobody any more.\n", args[0])
		return nil
	}
}

// agreeToRescue shows the line that each rescue places, and asks.
func (c *cli) agreeToRescue(service *client.Client, name string, yes bool) error {
	terms, err := service.RescueTerms(c.ctx)
	if err != nil {
		return err
	}
	fmt.Fprintf(c.err, "For each rescue the service's own key adds this line on %s, and takes it out when the "+
		"volume is home again:\n\n  %s\n\nWhoever has that key runs commands there as the login user, and by sudo "+
		"as root: it mounts somebody else's volume. It is made for one piece of work, stays in the service, "+
		"sealed, and has an end that the server keeps.\n", name, plaintext.Line(terms.Line))
	if yes {
		return nil
	}
	return c.confirm("May " + name + " be used for that?")
}
