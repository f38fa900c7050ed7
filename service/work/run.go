package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/service/store"
)

// Run is a piece of work in the hands of the replica that has claimed it.
type Run struct {
	Work store.Work
	Kind *Kind
	// Own is the kind's: whatever its steps want to keep while the claim lasts.
	Own any

	engine *Engine
	ends   []func() // when the claim ends
	// ctx ends with the claim: everything that is done outside is done under it.
	ctx context.Context
	// rest ends with ctx, and when the work is to be cancelled: waiting is done under it.
	rest   context.Context
	cancel context.CancelCauseFunc // of rest
	lease  *lease
	at     string // where the halts of the step at hand begin
	plan   []string
	code   string // of the trouble that it goes back for
	pos    int    // in the plan: -1 before the first step, len(plan) after the last
	// ahead is the step whose beginning was written with the end of the one before, so that it
	// need not be written again; -1 for none.
	ahead int
	// last is the step that is done, and not yet written as that, as it is the last; settled is
	// whether it, or one after it that had nothing to do, settles.
	last    string
	settled bool
	// noReturn: a step has begun from which the work cannot go back by being cancelled.
	noReturn bool
	goesBack *atomic.Bool // as Work.Back, for beat, which runs beside the steps
}

var (
	errCancelled = errors.New("cancelled")
	// ErrShutdown ends what waits when the service is stopped.
	ErrShutdown = errors.New("the service is being stopped")
)

// lease is the time until which outside effects may happen. It is counted by
// the monotonic clock from when the claim was asked for, not from when the
// database answered.
type lease struct {
	life time.Duration

	mu    sync.Mutex
	until time.Time
	timer *time.Timer
}

func newLease(sent time.Time, life time.Duration, lost func()) *lease {
	until := sent.Add(life)
	return &lease{life: life, until: until, timer: time.AfterFunc(time.Until(until), lost)}
}

func (l *lease) renew(sent time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.until = sent.Add(l.life)
	l.timer.Reset(time.Until(l.until))
}

func (l *lease) live() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return time.Now().Before(l.until)
}

// Context ends with the claim: everything that is done outside is done under it.
func (r *Run) Context() context.Context { return r.ctx }

// Rest ends with the claim, and when the work is to be cancelled: waiting is done under it.
func (r *Run) Rest() context.Context { return r.rest }

// NoReturn tells whether a step has begun from which the work cannot be cancelled.
func (r *Run) NoReturn() bool { return r.noReturn }

// Defer has something done when the claim ends, however it ends; what was deferred last
// comes first.
func (r *Run) Defer(end func()) { r.ends = append(r.ends, end) }

func (r *Run) claim() store.Claim {
	return store.Claim{Work: r.Work.ID, Fence: r.Work.Fence, Progress: r.Kind != nil && r.Kind.Phase != ""}
}

// carryOut does, or undoes, step after step of a claimed piece of work, until
// it ends, waits, or the claim is lost. sent is when the claim was asked for.
func (e *Engine) carryOut(work store.Work, sent time.Time) {
	r := &Run{engine: e, Work: work, Kind: e.kind(work.Kind), goesBack: new(atomic.Bool)}
	r.goesBack.Store(work.Back)
	ctx, cancel := context.WithCancelCause(store.WithClaim(e.base, r.claim()))
	defer cancel(nil)
	r.ctx = ctx
	r.rest, r.cancel = context.WithCancelCause(ctx)
	defer r.cancel(nil)
	r.lease = newLease(sent, e.Lease-e.margin(), func() { cancel(store.ErrLost) })
	defer r.lease.timer.Stop()
	r.plan, r.pos = work.Plan(), work.Place()
	for n := range r.pos {
		if s := r.Kind.step(r.plan[n]); s != nil {
			r.noReturn = r.noReturn || s.NoReturn
		}
	}
	if work.CancelAsked && !work.Back {
		r.cancel(errCancelled)
	}
	log := e.Log.With("work", work.ID, "kind", work.Kind, "fence", work.Fence)
	if work.Fence > 1 {
		log.Info("taken up again", "step", work.At, "back", work.Back)
	}
	if r.Kind.Open != nil {
		r.Kind.Open(r)
	}
	stopped := make(chan struct{})
	beating := make(chan struct{})
	go func() {
		defer close(beating)
		r.beat(stopped, cancel)
	}()
	knocking := make(chan struct{})
	watch, unwatch := context.WithCancel(ctx)
	go func() {
		defer close(knocking)
		if r.Kind.Beside != nil {
			r.Kind.Beside(watch, r)
		}
	}()
	err := r.steps()
	for _, end := range slices.Backward(r.ends) {
		end()
	}
	unwatch()
	<-knocking
	close(stopped)
	<-beating
	switch {
	case err == nil:
	case e.base.Err() != nil: // an orderly end: the next goes on at once
		ctx, cancel := context.WithTimeout(context.WithoutCancel(e.base), 3*time.Second)
		defer cancel()
		if err := e.Ledger.ReleaseClaim(ctx, r.claim()); err != nil {
			log.Warn("the claim could not be given back; it runs out by itself", "error", err)
		}
	case errors.Is(err, store.ErrLost) || errors.Is(context.Cause(ctx), store.ErrLost):
		log.Warn("the claim was lost; another goes on")
	default:
		log.Error("the work is laid down until its claim runs out", "error", err)
	}
}

// beat renews the claim, and hears whether the work is to be cancelled.
func (r *Run) beat(stopped <-chan struct{}, lost context.CancelCauseFunc) {
	for {
		select {
		case <-stopped:
			return
		case <-r.ctx.Done():
			return
		case <-time.After(r.engine.Lease / 5):
		}
		sent := time.Now()
		ctx, cancel := context.WithTimeout(r.ctx, r.engine.Lease/2)
		asked, err := r.engine.Ledger.RenewClaim(ctx, r.claim(), r.engine.life())
		cancel()
		if errors.Is(err, store.ErrLost) {
			lost(store.ErrLost)
			return
		}
		if err != nil {
			continue // the lease's own timer ends what is at hand
		}
		r.lease.renew(sent)
		if asked && !r.goesBack.Load() {
			r.cancel(errCancelled)
		}
	}
}

// steps goes forward or back to the end of the work's own plan.
func (r *Run) steps() error {
	r.ahead = -1
	if r.Work.Resumed {
		r.ahead = r.pos
	}
	for {
		if r.Kind.Fresh != nil {
			if err := r.Kind.Fresh(r); err != nil {
				return err
			}
		}
		switch {
		case r.Work.Back && r.pos < 0:
			return r.end(r.wentBack())
		case r.pos < len(r.plan) && r.Step() == nil:
			r.Work.Trouble = Outcome(r.Work.Trouble,
				fmt.Sprintf("this version of the service does not know its step %q; under a version that does, "+
					"plumlatch work retry %d goes on", r.plan[r.pos], r.Work.ID))
			return r.end(store.Stuck)
		case r.Work.Back:
			if over, err := r.stepBack(); err != nil || over {
				return err
			}
		case r.pos == len(r.plan) && r.cancelled(): // asked for during the last step
			r.Work.CancelAsked = true
			if r.last != "" {
				r.Work.At = r.last
				if err := r.move("done", len(r.plan), false, "", ""); err != nil {
					return err
				}
				r.last, r.settled = "", false
			}
			if err := r.move("", len(r.plan)-1, true, "it was cancelled", "cancelled: going back"); err != nil {
				return err
			}
		case r.pos == len(r.plan):
			err := r.end(store.Done)
			if !errors.Is(err, store.ErrCancelAsked) {
				return err
			}
			r.cancel(errCancelled)
		default:
			if over, err := r.stepOn(); err != nil || over {
				return err
			}
		}
	}
}

func (r *Run) wentBack() store.WorkState {
	if r.Work.CancelAsked {
		return store.Cancelled
	}
	return store.WentBack
}

// Step is what this version knows of the step at hand; nil if it does not know it.
func (r *Run) Step() *Step { return r.Kind.step(r.Work.At) }

// nameAt is the name of the step at a place of the plan, "" for none.
func (r *Run) nameAt(place int) string {
	if place < 0 || place >= len(r.plan) {
		return ""
	}
	return r.plan[place]
}

// move writes what became of the step at hand, and where the work is from here on.
func (r *Run) move(state string, place int, back bool, trouble, event string) error {
	return r.moveUnder(r.ctx, state, place, back, trouble, event)
}

func (r *Run) moveUnder(ctx context.Context, state string, place int, back bool, trouble, event string) error {
	m := store.StepMove{Step: r.Work.At, StepState: state, At: r.nameAt(place), Back: back, Trouble: trouble,
		Code: r.code, Event: event}
	m.Settled = state == "done" && r.Step().Settles
	version, err := r.engine.Ledger.MoveStep(ctx, r.claim(), m)
	if err == nil {
		r.Work.InstanceVersion = version
		r.pos, r.Work.At, r.Work.Back = place, m.At, back
		r.goesBack.Store(back)
		if trouble != "" {
			r.Work.Trouble = trouble
		}
	}
	return err
}

// stepOn does the step at hand; over means that the work waits.
func (r *Run) stepOn() (over bool, err error) {
	n, s := r.pos, r.Step()
	r.at = r.Kind.Name + "/" + s.Name
	if r.cancelled() {
		// This step's own undo looks whether it had begun.
		r.Work.CancelAsked = true
		return false, r.move("", n, true, "it was cancelled", "cancelled: going back")
	}
	if r.ahead != n && s.Skip != nil && s.Skip(r) {
		return false, r.moveOn()
	}
	r.engine.halt(r.at + "/begin")
	title := s.Title
	if r.Work.WaitsFor != "" { // it was told when the wait began
		title, r.Work.WaitsFor = "", ""
	}
	if r.ahead != n {
		err := r.moveUnder(r.heeds(n, n), "doing", n, false, "", title)
		if errors.Is(err, store.ErrCancelAsked) {
			r.cancel(errCancelled)
			return false, nil
		}
		if err != nil {
			return false, err
		}
	}
	r.noReturn = r.noReturn || s.NoReturn
	r.ahead = -1
	err = r.try(s.Do)
	var wait *Waiting
	switch {
	case errors.As(err, &wait):
		return true, r.wait(wait)
	case err == nil:
		r.engine.halt(r.at + "/end")
		return false, r.moveOn()
	case r.ctx.Err() != nil, errors.Is(err, store.ErrLost): // another goes on, or we do once more
		return false, err
	case r.cancelled():
		r.Work.CancelAsked = true
		return false, r.move("", n, true, "it was cancelled", "cancelled: going back")
	}
	text := Words(err)
	if f, ok := errors.AsType[Failure](err); ok {
		r.code = f.Code
	}
	return false, r.move("", n, true, text, "failed: "+text+"; going back")
}

// moveOn ends the step at hand and begins the next that has something to do, in
// one go; a word to go back is heard in between.
func (r *Run) moveOn() error {
	next := r.pos + 1
	settled := r.Step().Settles
	for ; next < len(r.plan); next++ {
		s := r.Kind.step(r.plan[next])
		if s == nil || s.Skip == nil || !s.Skip(r) {
			break
		}
		settled = settled || s.Settles
	}
	if next == len(r.plan) && !r.cancelled() { // written with the end of the work
		r.last, r.settled = r.Work.At, settled
		r.pos, r.Work.At = next, ""
		return nil
	}
	if next == len(r.plan) || r.cancelled() || r.Kind.step(r.plan[next]) == nil {
		return r.move("done", r.pos+1, false, "", "")
	}
	version, err := r.engine.Ledger.MoveOn(r.heeds(r.pos+1, next), r.claim(), r.Work.At, r.plan[next], settled,
		r.Kind.step(r.plan[next]).Title)
	if errors.Is(err, store.ErrCancelAsked) {
		r.cancel(errCancelled)
		return r.move("done", r.pos+1, false, "", "")
	}
	if err != nil {
		return err
	}
	r.pos, r.ahead, r.Work.At, r.Work.InstanceVersion = next, next, r.plan[next], version
	return nil
}

// stepBack undoes the step at hand; over means that the work is stuck.
func (r *Run) stepBack() (over bool, err error) {
	n, s := r.pos, r.Step()
	if s.Undo == nil {
		return false, r.move("undone", n-1, true, "", "")
	}
	r.at = r.Kind.Name + "/" + s.Name + "/undo"
	r.engine.halt(r.at + "/begin")
	title := "taking back: " + s.Title
	if r.Work.WaitsFor != "" {
		title, r.Work.WaitsFor = "", ""
	}
	if err := r.move("undoing", n, true, "", title); err != nil {
		return false, err
	}
	err = r.try(s.Undo)
	wait, waits := errors.AsType[*Waiting](err)
	switch {
	case waits:
		return true, r.wait(wait)
	case err == nil:
		r.engine.halt(r.at + "/end")
		return false, r.move("undone", n-1, true, "", "")
	case r.ctx.Err() != nil, errors.Is(err, store.ErrLost):
		return false, err
	}
	r.Work.Trouble = Outcome(r.Work.Trouble, "and "+s.Title+" could not be taken back: "+Words(err))
	return true, r.end(store.Stuck)
}

// try calls f again while it fails for a reason that may pass.
func (r *Run) try(f func(*Run) error) error {
	for n := 1; ; n++ {
		err := r.guarded(f)
		_, failed := errors.AsType[Failure](err)
		_, waits := errors.AsType[*Waiting](err)
		if err == nil || failed || waits || r.ctx.Err() != nil || r.cancelled() || errors.Is(err, store.ErrLost) ||
			r.engine.Final != nil && r.engine.Final(err) || n == maxTries {
			return err
		}
		r.engine.Log.Warn("a step failed; it is tried again", "work", r.Work.ID, "at", r.at, "error", Words(err))
		r.Sleep(time.Duration(n) * pause)
	}
}

// guarded makes a panic of a step an error: it must neither end the service nor
// come again with each one that claims the work.
func (r *Run) guarded(f func(*Run) error) (err error) {
	defer func() {
		if v := recover(); v != nil {
			// Its value may hold anything; its type and place are enough.
			r.engine.Log.Error("panic", "work", r.Work.ID, "at", r.at, "type", fmt.Sprintf("%T", v), "stack",
				string(debug.Stack()))
			err = Failure{Reason: "the service failed in the middle of it; its log has the cause"}
		}
	}()
	return f(r)
}

func (r *Run) end(state store.WorkState) error {
	e, err := r.Kind.End(r, state)
	if err != nil {
		return err
	}
	e.State, e.Action, e.Last, e.Settled = state, r.Kind.Action, r.last, r.settled
	switch {
	case r.Work.InstanceID != 0:
		e.Target = "instance " + r.Work.Instance
	case e.Target == "":
		e.Target = fmt.Sprintf("work %d", r.Work.ID)
	}
	if e.Outcome == "" && state != store.Done {
		e.Outcome = r.Work.Trouble
	}
	ctx := r.ctx
	if state == store.Done {
		ctx = r.heeds(len(r.plan), len(r.plan))
	}
	return r.engine.Ledger.EndWork(ctx, r.Work, e)
}

// heeds is the context under which the work comes over some places of its plan, the last one included. Can
// it not be taken back from there (a step says so, or it is the end), nothing is written if somebody has
// asked meanwhile that it go back. Elsewhere that is heard soon enough.
func (r *Run) heeds(first, last int) context.Context {
	if r.noReturn {
		return r.ctx
	}
	for n := first; n <= last; n++ {
		if n == len(r.plan) || r.Kind.step(r.plan[n]).NoReturn {
			return store.Heeds(r.ctx)
		}
	}
	return r.ctx
}

// cancelled tells whether the work is to go back because somebody asked for it.
func (r *Run) cancelled() bool {
	return !r.Work.Back && !r.noReturn && errors.Is(context.Cause(r.rest), errCancelled)
}

// Effect does something outside: a call that changes a cloud, a write to an
// instance. It happens only while the claim is good, and ends with it.
func (r *Run) Effect(name string, f func(ctx context.Context) error) error {
	if s := r.Step(); !slices.Contains(s.Effects, name) && !slices.Contains(s.UndoEffects, name) {
		return fmt.Errorf("effect %s is not in the table of step %s", name, r.at)
	}
	r.engine.halt(r.at + "/" + name + "/before")
	if !r.lease.live() || r.ctx.Err() != nil {
		return store.ErrLost
	}
	r.engine.halt(r.at + "/" + name + "/inside")
	err := f(r.ctx)
	r.engine.halt(r.at + "/" + name + "/after")
	return err
}

// Say tells who follows the work, and the instance's own line, what is going on.
func (r *Run) Say(format string, a ...any) error {
	return r.engine.Ledger.Say(r.ctx, r.claim(), r.Work.At, "", plaintext.Line(fmt.Sprintf(format, a...)))
}

// SayHand is Say of what somebody has to do by hand now (wire.EventHand): a client shows it whole, and lets it stand.
func (r *Run) SayHand(format string, a ...any) error {
	return r.engine.Ledger.Say(r.ctx, r.claim(), r.Work.At, wire.EventHand, plaintext.Line(fmt.Sprintf(format, a...)))
}

// Waiting is the error of a step that waits.
type Waiting struct {
	Reason    string
	code      string
	wake, end time.Duration
}

// Error says what it waits for.
func (w *Waiting) Error() string { return "waits: " + w.Reason }

// Wait lays the work down: the step is called again after wake, or when
// somebody wakes the work, and at the latest when end has passed since it
// first waited. It must look at WaitOver then. code says why, to whoever decides by it.
func (r *Run) Wait(code, reason string, wake, end time.Duration) error {
	return &Waiting{reason, code, wake, end}
}

func (r *Run) wait(w *Waiting) error {
	return r.engine.Ledger.Wait(r.ctx, r.claim(), r.Work.At, w.code, w.Reason, w.wake, w.end)
}

// WaitOver tells whether the end of the step's wait has come.
func (r *Run) WaitOver() (bool, error) { return r.engine.Ledger.WaitOver(r.ctx, r.Work.ID) }

// ClientToken names an effect of a step for a cloud: the same one whoever does
// it, and however often.
func (r *Run) ClientToken(effect string) string {
	return r.TokenOf(r.Work.At, effect)
}

// TokenOf is ClientToken of another step of the same work.
func (r *Run) TokenOf(step, effect string) string {
	return fmt.Sprintf("%s-%s-%s-%d", r.Work.Token, step, effect, r.Work.Attempt)
}

// Data reads what earlier steps kept.
func (r *Run) Data(into any) error { return json.Unmarshal([]byte(r.Work.Data), into) }

// NoteData is SetData that does not wait for the disk: for what is found out again after a crash of
// the database. It is kept at once all the same: a replica that takes over may have to go back by it.
func (r *Run) NoteData(data any) error {
	text, err := json.Marshal(data)
	if err != nil {
		return err
	}
	r.Work.Data = string(text)
	return r.engine.Ledger.NoteData(r.ctx, r.claim(), data)
}

// SetData keeps something for the steps after this one: on the disk before
// anything that it is needed for is done.
func (r *Run) SetData(data any) error {
	text, err := json.Marshal(data)
	if err != nil {
		return err
	}
	r.Work.Data = string(text)
	return r.engine.Ledger.SetData(r.ctx, r.claim(), data)
}

// Noting keeps what a step found out in the transaction of f.
func (r *Run) Noting(data any, f func(ctx context.Context) error) error {
	text, err := json.Marshal(data)
	if err != nil {
		return err
	}
	if err := f(store.WithData(r.ctx, string(text), store.FactsOf(data))); err != nil {
		return err
	}
	r.Work.Data = string(text)
	return nil
}

// Sleep waits, holding the claim: until d is over, or the work is to go back, or ends.
func (r *Run) Sleep(d time.Duration) {
	done := r.rest.Done()
	if r.Work.Back || r.noReturn {
		done = r.ctx.Done()
	}
	select {
	case <-done:
	case <-time.After(d):
	}
}

// Stopping returns why waiting must end, nil if it need not.
func (r *Run) Stopping() error {
	switch {
	case r.engine.base.Err() != nil:
		return ErrShutdown
	case r.ctx.Err() != nil:
		return store.ErrLost
	case r.cancelled():
		return errCancelled
	}
	return nil
}
