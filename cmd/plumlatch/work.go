package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/url"
	"os"
	"strconv"
	"time"

	"github.com/jedib0t/go-pretty/v6/progress"

	"plumlatch/client"
	"plumlatch/core/access"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
)

func workList(fs *flag.FlagSet) func(*cli) error {
	state := fs.String("state", "", "`state`: open, queued, running, waiting, done, failed, cancelled, stuck")
	kind := fs.String("kind", "", "`kind`: such as launch, adopt, rotate, access-add, survey, restore; the column "+
		"of \"work list -json\" has it")
	instance := fs.String("instance", "", "`name` of the instance")
	parent := fs.String("parent", "", "`ID` of the work that they are part of")
	limit := fs.Int("limit", 50, "`number` of lines, the newest first; 0 for all")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		_, service, err := c.begin()
		if err != nil {
			return err
		}
		rows, err := service.Work(c.ctx,
			url.Values{"state": {*state}, "kind": {*kind}, "instance": {*instance}, "parent": {*parent}}, *limit)
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(wire.List[wire.Work]{Items: rows})
		}
		var out [][]string
		now := time.Now()
		for _, w := range rows {
			out = append(out, []string{fmt.Sprint(w.ID), w.Title, stateOf(w), stepOf(w),
				plaintext.Cut(wordsOf(w), 70), w.Operator, ago(w.CreatedAt, now)})
		}
		c.table([]string{"work", "what", "state", "step", "", "by", "begun"}, out,
			nothing(fs, "No work yet: launching, adopting and the like are listed here."))
		return nil
	}
}

func stateOf(w wire.Work) string {
	if w.GoingBack && !w.Over() {
		return w.State + ", going back"
	}
	return w.State
}

func stepOf(w wire.Work) string {
	if w.Over() {
		return ""
	}
	return fmt.Sprintf("%d of %d", min(w.Step+1, w.StepCount), w.StepCount)
}

// wordsOf is what there is to say about a piece of work in one line.
func wordsOf(w wire.Work) string {
	switch {
	case w.Over():
		return w.Outcome
	case w.WaitsFor != "":
		return "waits: " + w.WaitsFor
	}
	return w.StepTitle
}

// workArg is the ID that a command names.
func (c *cli) workArg() (int64, *client.Client, error) {
	args, service, err := c.begin("ID")
	if err != nil {
		return 0, nil, err
	}
	id, err := strconv.ParseInt(args[0], 10, 64)
	if err != nil || id < 1 {
		return 0, nil, usagef("the ID of a piece of work is a number; work list shows them")
	}
	return id, service, nil
}

func workShow(fs *flag.FlagSet) func(*cli) error {
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		id, service, err := c.workArg()
		if err != nil {
			return err
		}
		w, err := service.WorkByID(c.ctx, id)
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(w)
		}
		fmt.Fprintf(c.out, "work %d: %s, %s\n\n", w.ID, plaintext.Line(w.Title), stateOf(w))
		line := func(label, value string) {
			if value != "" {
				fmt.Fprintf(c.out, "  %-10s %s\n", label, plaintext.Line(value))
			}
		}
		now := time.Now()
		line("begun", ago(w.CreatedAt, now)+" by "+w.Operator)
		if w.EndedAt != nil {
			line("ended", ago(*w.EndedAt, now)+", after "+span(w.EndedAt.Sub(w.CreatedAt)))
		}
		if w.Attempt > 1 {
			line("attempt", fmt.Sprint(w.Attempt))
		}
		line("waits for", w.WaitsFor)
		if w.WaitEndsAt != nil && w.WaitsFor != "" {
			line("until", ago(*w.WaitEndsAt, now))
		}
		line("trouble", w.Trouble)
		line("outcome", w.Outcome)
		for state, n := range w.Children {
			line("parts", fmt.Sprintf("%d %s", n, state))
		}
		fmt.Fprintln(c.out)
		var rows [][]string
		for _, s := range w.Steps {
			took := ""
			if s.BeganAt != nil && s.EndedAt != nil {
				took = fmt.Sprintf("%.1f s", s.EndedAt.Sub(*s.BeganAt).Seconds())
			}
			tries := ""
			if s.Tries > 1 {
				tries = fmt.Sprintf("begun %d times", s.Tries)
			}
			rows = append(rows, []string{s.Name, s.Title, s.State, took, tries})
		}
		c.table([]string{"step", "what", "state", "took", ""}, rows, "It has no steps.")
		if next := c.nextForWork(service, w); next != "" {
			fmt.Fprintf(c.out, "\nnext: %s\n", next)
		}
		return nil
	}
}

func (c *cli) nextForWork(service *client.Client, w wire.Work) string {
	switch {
	case w.State == "failed" || w.State == "cancelled" || w.State == "stuck":
		return c.afterFailure(service, w)
	case !w.Over():
		return fmt.Sprintf("plumlatch work follow %d", w.ID)
	case w.Instance != "" && w.Kind != "remove":
		return "plumlatch instance show " + w.Instance
	}
	return ""
}

func workFollow(fs *flag.FlagSet) func(*cli) error {
	asJSON := fs.Bool("json", false, "print JSON, at the end")
	return func(c *cli) error {
		id, service, err := c.workArg()
		if err != nil {
			return err
		}
		return c.followToEnd(service, id, *asJSON)
	}
}

// followToEnd follows a piece of work and tells how it ended.
func (c *cli) followToEnd(service *client.Client, id int64, asJSON bool) error {
	w, err := service.WorkByID(c.ctx, id)
	if err != nil {
		return err
	}
	if w.Waves {
		return c.followMany(service, w, manyWordsOf(w), asJSON)
	}
	if w, err = c.followDone(service, w, asJSON); err != nil {
		return err
	}
	if !asJSON {
		fmt.Fprintf(c.out, "%s: done. %s\n", plaintext.Line(w.Title), plaintext.Line(w.Outcome))
		if next := c.nextForWork(service, w); next != "" {
			fmt.Fprintf(c.out, "next: %s\n", next)
		}
	}
	return nil
}

// followDone follows work to its end, renews what was written for plain ssh, and
// returns an error if it is not done. With asJSON it prints the work.
func (c *cli) followDone(service *client.Client, w wire.Work, asJSON bool) (wire.Work, error) {
	w, err := c.follow(service, w.ID, plaintext.Line(w.Title))
	if err != nil {
		return w, err
	}
	c.renewHosts(service)
	if asJSON {
		if err := c.json(w); err != nil {
			return w, err
		}
	}
	if w.State != "done" {
		return w, c.workFailed(service, w)
	}
	return w, nil
}

// workFailed is the error for work that did not come to its end.
func (c *cli) workFailed(service *client.Client, w wire.Work) error {
	verb := map[string]string{"cancelled": "was cancelled", "stuck": "is stuck", "failed": "failed"}[w.State]
	return failure{fmt.Errorf("%s %s: %s", plaintext.Line(w.Title), verb, plaintext.Line(w.Outcome)), c.afterFailure(service, w)}
}

// afterFailure is the shortest way on from work that failed, was cancelled or is stuck. To try again is
// offered where nothing else has to be done first.
func (c *cli) afterFailure(service *client.Client, w wire.Work) string {
	retry := fmt.Sprintf("plumlatch work retry %d", w.ID)
	switch {
	case w.Code == wire.WorkLocksOut && w.Instance != "":
		// Another key has to be shown to work first; often it is there, and nobody has shown its private half.
		if o, err := service.Opening(c.ctx, w.Instance); err == nil {
			for _, a := range o.Keys {
				if !a.Steward && a.ShownAt == nil && a.KeyState == access.InUse &&
					(w.Rotating == nil || a.Key != w.Rotating.OldKey && a.Key != w.Rotating.NewKey) {
					return fmt.Sprintf("plumlatch key prove %s -identity FILE, where its holder is; then %s", a.Key, retry)
				}
			}
		}
		return fmt.Sprintf("plumlatch access second %s; then %s", w.Instance, retry)
	case w.Kind == "launch" && w.State != "stuck":
		return retry + ", or: plumlatch instance remove " + w.Instance
	}
	return retry
}

// workPause has no further wave of it begin.
func workPause(fs *flag.FlagSet) func(*cli) error {
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		id, service, err := c.workArg()
		if err != nil {
			return err
		}
		w, err := service.PauseFleet(c.ctx, id)
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(w)
		}
		fmt.Fprintf(c.out, "Paused: what has begun goes on, nothing else begins.\nnext: plumlatch work go-on %d; or "+
			"back: plumlatch work cancel %d\n", id, id)
		return nil
	}
}

// workGoOn lets waves go on, and follows them.
func workGoOn(fs *flag.FlagSet) func(*cli) error {
	detach := fs.Bool("detach", false, "do not follow it")
	yes := fs.Bool("yes", false, "do not ask, where it removes an old machine")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		id, service, err := c.workArg()
		if err != nil {
			return err
		}
		w, err := service.WorkByID(c.ctx, id)
		if err != nil {
			return err
		}
		if w.Kind == "restore-kept" {
			return c.goOnKept(service, w, *yes, *detach, *asJSON)
		}
		if w, err = service.GoOnFleet(c.ctx, id); err != nil {
			return err
		}
		if !*detach {
			return c.followMany(service, w, manyWordsOf(w), *asJSON)
		}
		if *asJSON {
			return c.json(w)
		}
		fmt.Fprintf(c.out, "It goes on.\nnext: plumlatch work follow %d\n", id)
		return nil
	}
}

// goOnKept lets an old machine that is kept be removed.
func (c *cli) goOnKept(service *client.Client, w wire.Work, yes, detach, asJSON bool) error {
	if !yes && !w.Over() {
		if err := c.confirm(fmt.Sprintf("Work %d: %s. Remove it for good? Nothing goes back to it then.", w.ID, plaintext.Line(w.Title))); err != nil {
			return err
		}
	}
	id := w.ID
	w, err := service.GoOnFleet(c.ctx, id)
	if err != nil {
		return err
	}
	if !detach {
		if w, err = c.follow(service, id, plaintext.Line(w.Title)); err != nil {
			return err
		}
	}
	switch {
	case asJSON:
		return c.json(w)
	case detach:
		fmt.Fprintf(c.out, "It goes on.\nnext: plumlatch work follow %d\n", id)
	case w.State != "done":
		return c.workFailed(service, w)
	default:
		fmt.Fprintf(c.out, "%s.\n", plaintext.Line(w.Outcome))
	}
	return nil
}

// ownPart is what this machine does for work at hand: it shows a private half, or logs in by a password.
type ownPart struct {
	showing
	passwordFile string
	unlocking
}

// workHere does this machine's part of a rotation or a restore, and follows it.
func workHere(fs *flag.FlagSet) func(*cli) error {
	var o ownPart
	o.showing.flags(fs)
	passwordFlag(fs, &o.passwordFile)
	o.unlocking.flags(fs)
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		if err := o.check(); err != nil {
			return err
		}
		id, service, err := c.workArg()
		if err != nil {
			return err
		}
		w, err := service.WorkByID(c.ctx, id)
		if err != nil {
			return err
		}
		if w.Over() {
			return failure{fmt.Errorf("work %d is over: %s", w.ID, plaintext.Line(w.Outcome)),
				fmt.Sprintf("plumlatch work show %d", w.ID)}
		}
		name := ""
		switch {
		case w.Restores:
			lines, err := service.RestoreLines(c.ctx, id)
			if err != nil {
				return err
			}
			name = lines.Key
		case w.Kind == "rotate" && w.Rotating != nil && w.Rotating.NewKey != "":
			name = w.Rotating.NewKey
		case w.Kind == "rotate":
			return fmt.Errorf("the new key of work %d is not on record any more", id)
		default:
			return failure{fmt.Errorf("work %d, %s, needs nothing of this machine", id, plaintext.Line(w.Title)),
				fmt.Sprintf("plumlatch work follow %d", id)}
		}
		k, err := service.Key(c.ctx, name)
		if err != nil {
			return err
		}
		if w.Restores {
			return c.followRestore(service, w, k, nil, o, *asJSON)
		}
		return c.followRotation(service, w, k, nil, o.showing, *asJSON)
	}
}

func workCancel(fs *flag.FlagSet) func(*cli) error {
	detach := fs.Bool("detach", false, "do not wait until it has gone back")
	yes := fs.Bool("yes", false, "do not ask, where going back brings a danger")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		id, service, err := c.workArg()
		if err != nil {
			return err
		}
		w, err := service.WorkByID(c.ctx, id)
		if err != nil {
			return err
		}
		if w.Beware != "" && !*yes {
			if err := c.confirm(fmt.Sprintf("Work %d: %s. Go back?", id, plaintext.Line(w.Beware))); err != nil {
				return err
			}
		}
		if w, err = service.CancelWork(c.ctx, id); err != nil {
			return err
		}
		if *detach {
			if *asJSON {
				return c.json(w)
			}
			fmt.Fprintf(c.out, "Asked %s to go back.\nnext: plumlatch work follow %d\n", plaintext.Line(w.Title), id)
			return nil
		}
		if w, err = c.follow(service, id, plaintext.Line(w.Title)); err != nil {
			return err
		}
		if *asJSON {
			return c.json(w)
		}
		switch w.State {
		case "cancelled":
			fmt.Fprintf(c.out, "%s: cancelled; %s.\n", plaintext.Line(w.Title), plaintext.Line(w.Outcome))
			return nil
		case "done":
			return failure{fmt.Errorf("%s was done before it could go back: %s", plaintext.Line(w.Title),
				plaintext.Line(w.Outcome)), c.nextForWork(service, w)}
		}
		return c.workFailed(service, w)
	}
}

func workRetry(fs *flag.FlagSet) func(*cli) error {
	detach := fs.Bool("detach", false, "do not wait for its end")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		id, service, err := c.workArg()
		if err != nil {
			return err
		}
		w, err := service.RetryWork(c.ctx, id)
		if err != nil {
			return err
		}
		if *detach {
			if *asJSON {
				return c.json(w)
			}
			fmt.Fprintf(c.out, "Took up %s again.\nnext: plumlatch work follow %d\n", plaintext.Line(w.Title), id)
			return nil
		}
		return c.followToEnd(service, id, *asJSON)
	}
}

// followUntil follows work until its end, or until what is called at each event
// says that it is enough; goOn is the command that follows it again.
func (c *cli) followUntil(service *client.Client, w wire.Work, goOn string,
	on func(e wire.WorkEvent, enough func())) (wire.Work, error) {
	tell, done := c.teller(service, w.ID, plaintext.Line(w.Title))
	ctx, enough := context.WithCancel(c.ctx)
	defer enough()
	end, err := service.Follow(ctx, w.ID, 0, func(e wire.WorkEvent) {
		tell(e)
		on(e, enough)
	})
	if ctx.Err() != nil && c.ctx.Err() == nil {
		end, err = service.WorkByID(c.ctx, w.ID)
	}
	done(end)
	if err != nil && c.ctx.Err() != nil {
		err = failure{errors.New("stopped following; the service goes on"),
			fmt.Sprintf("%s %d, or: plumlatch work cancel %d", goOn, w.ID, w.ID)}
	}
	if err == nil {
		c.renewHosts(service)
	}
	return end, err
}

// follow shows what goes on in a piece of work until it is over: a bar on a
// terminal, plain lines elsewhere.
func (c *cli) follow(service *client.Client, id int64, title string) (wire.Work, error) {
	tell, done := c.teller(service, id, title)
	w, err := service.Follow(c.ctx, id, 0, tell)
	done(w)
	if err != nil && c.ctx.Err() != nil {
		err = failure{errors.New("stopped following; the service goes on"),
			fmt.Sprintf("plumlatch work follow %d, or: plumlatch work cancel %d", id, id)}
	}
	return w, err
}

// teller returns what shows events, and what ends the showing.
func (c *cli) teller(service *client.Client, id int64, title string) (tell func(wire.WorkEvent), done func(wire.Work)) {
	if !c.tty {
		return func(e wire.WorkEvent) { fmt.Fprintf(c.err, "%s: %s\n", title, plaintext.Line(e.Text)) },
			func(wire.Work) {}
	}
	tracker := &progress.Tracker{Message: title, Total: 1}
	places := map[string]int64{} // how many steps are done when each begins
	if known, err := service.WorkByID(c.ctx, id); err == nil {
		tracker.Total = int64(known.StepCount)
		for n, s := range known.Steps {
			places[s.Name] = int64(n)
		}
	}
	log, stop := bar(tracker)
	tell = func(e wire.WorkEvent) {
		if e.Code == wire.EventHand {
			log(title + ": " + plaintext.Line(e.Text))
		}
		if n, ok := places[e.Step]; ok {
			tracker.SetValue(n)
		}
		tracker.UpdateMessage(title + ": " + plaintext.Line(plaintext.Cut(e.Text, 60)))
	}
	return tell, func(end wire.Work) {
		if end.State == "done" {
			tracker.SetValue(tracker.Total)
			tracker.MarkAsDone()
		} else {
			tracker.MarkAsErrored()
		}
		stop()
	}
}

// bar shows a tracker on the terminal until stop is called; what log is given stands above it, and stays.
func bar(tracker *progress.Tracker) (log func(string), stop func()) {
	w := progress.NewWriter()
	w.SetOutputWriter(os.Stderr) // it moves the cursor; its words are made safe one by one
	w.SetAutoStop(false)
	w.SetUpdateFrequency(80 * time.Millisecond)
	w.SetTrackerLength(24)
	w.Style().Visibility.Value = false
	w.Style().Visibility.Percentage = false
	w.Style().Options.TimeDonePrecision, w.Style().Options.TimeInProgressPrecision = 100*time.Millisecond, time.Second
	w.AppendTracker(tracker)
	go w.Render()
	return func(text string) { w.Log("%s", text) }, func() {
		for time.Sleep(100 * time.Millisecond); w.IsRenderInProgress(); time.Sleep(20 * time.Millisecond) {
			w.Stop()
		}
	}
}
