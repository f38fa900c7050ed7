package survey

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"plumlatch/core/wire"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// askedSurveys is what a survey of many was asked for: wire.SurveyMany.
type askedSurveys struct {
	Instances []string `json:"instances,omitempty"`
	Tag       string   `json:"tag,omitempty"`
	Region    string   `json:"region,omitempty"`
	All       bool     `json:"all,omitempty"`
	Inside    bool     `json:"inside,omitempty"`
	Outside   bool     `json:"outside,omitempty"`
}

// SurveyWish is what a survey is to look at.
type SurveyWish struct {
	Inside, Outside bool
	Keys            []store.Key // to ask about from outside, instead of all that are recorded for the instance
}

// Survey finds out what opens an instance, now, and keeps it. ErrCannotSurvey
// if nothing could be seen that was asked for; store.ErrSurveying.
func (w *Service) Survey(ctx context.Context, by store.Actor, i store.Instance, wish SurveyWish) (wire.Survey, error) {
	if i.State != string(cloud.Running) || i.Phase != store.Ready {
		return wire.Survey{}, fmt.Errorf("%w: the instance is %s", door.ErrCannotSurvey, i.State)
	}
	fence, err := w.Store.TakeTurn(ctx, i.ID)
	if err != nil {
		return wire.Survey{}, err
	}
	turn := store.Turn{InstanceID: i.ID, Fence: fence}
	known, err := w.Store.ForSurvey(ctx, i.ID)
	if err != nil {
		return wire.Survey{}, errJoinGive(ctx, w, turn, err)
	}
	return w.surveyOne(ctx, by, i, turn, known[i.ID], wish, true)
}

// surveyOne surveys an instance whose turn was taken, and gives the turn back.
// told writes it into the journal even if nothing was found.
func (w *Service) surveyOne(ctx context.Context, by store.Actor, i store.Instance, turn store.Turn,
	known *store.ToSurvey, wish SurveyWish, told bool) (out wire.Survey, err error) {
	w.surveying.Add(1)
	w.Done.Add(1)
	defer w.surveying.Add(-1)
	kept := store.Kept{By: by, Turn: turn, Found: map[int64]bool{}}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	defer w.holdTurn(ctx, turn, cancel)()
	done := false
	defer func() {
		if !done {
			ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
			defer cancel()
			err = errors.Join(err, w.Store.GiveTurn(ctx, turn))
		}
	}()
	rows := known.Accesses
	if told { // whoever asks for one instance is shown it as it is now
		known.Config = false
	}
	var insideErr, outsideErr error
	var c Compared
	if wish.Inside {
		if out, c, insideErr, err = w.insidePart(ctx, i, known, &kept); err != nil {
			return out, err
		}
	}
	if wish.Outside {
		o := &wire.OutsideSurvey{Answers: []wire.KeyAnswer{}, Methods: []wire.UserMethods{}, Rules: []string{},
			NotSeen: []string{}}
		if cause := causeWord(insideErr); cause == "host key" || cause == "reach" {
			outsideErr = insideErr // nobody gets as far as being asked
		} else {
			o, kept.Asked, outsideErr = w.lookOutside(ctx, i, rows, wish.Keys)
		}
		part := store.SurveyPart{Sort: "outside", Vantage: o.Vantage, Report: o}
		if outsideErr != nil {
			part.Trouble, part.Cause = door.Words(outsideErr), door.CauseOf(outsideErr)
			o.Trouble = part.Trouble
		}
		out.Outside = o
		kept.Parts = append(kept.Parts, part)
	}
	if ctx.Err() != nil { // what ended with us is no answer
		return out, ctx.Err()
	}
	kept.Next = w.nextSurvey(ctx, insideErr != nil || outsideErr != nil)
	if out.InsideTrouble = causeText(insideErr); wish.Inside && insideErr == nil {
		if told || c.Unrecorded+c.missing+c.lapsed > 0 {
			kept.Journal = c.words()
		}
	} else if told {
		kept.Journal = "could not look from inside: " + out.InsideTrouble
		if !wish.Inside {
			kept.Journal = fmt.Sprintf("asked from outside about %d", len(out.Outside.Answers))
		}
	}
	out.Instance, out.LoginUser = i.Name, i.LoginUser
	kept.Instance = i.Name
	if err := w.keepSurvey(ctx, kept); err != nil {
		return out, err
	}
	done = true
	switch {
	case insideErr != nil && !wish.Outside:
		return out, insideErr
	case outsideErr != nil && !wish.Inside:
		return out, outsideErr
	case insideErr != nil && outsideErr != nil:
		return out, fmt.Errorf("%w; and from outside: %s", insideErr, door.Words(outsideErr))
	}
	return out, nil
}

// holdTurn keeps the turn of a survey that takes long; the returned function ends that.
func (w *Service) holdTurn(ctx context.Context, turn store.Turn, lost context.CancelCauseFunc) func() {
	var hold func()
	var mu sync.Mutex
	var timer *time.Timer
	over := false
	hold = func() {
		if err := w.Store.HoldTurn(ctx, turn); errors.Is(err, store.ErrLost) {
			lost(err)
			return
		}
		mu.Lock()
		defer mu.Unlock()
		if !over {
			timer = time.AfterFunc(turnHeld, hold)
		}
	}
	mu.Lock()
	timer = time.AfterFunc(turnHeld, hold)
	mu.Unlock()
	return func() {
		mu.Lock()
		defer mu.Unlock()
		over = true
		timer.Stop()
	}
}

// turnHeld is how often a turn is kept: well within its life.
const turnHeld = 4 * time.Second

func causeWord(err error) string {
	if err == nil {
		return ""
	}
	return door.CauseOf(err)
}

func causeText(err error) string {
	if err == nil {
		return ""
	}
	return door.Words(err)
}

// insidePart looks from inside. trouble is why it could not; err is our own.
func (w *Service) insidePart(ctx context.Context, i store.Instance, known *store.ToSurvey,
	kept *store.Kept) (out wire.Survey, c Compared, trouble, err error) {
	rows := known.Accesses
	l, trouble := w.LookInside(ctx, i, known)
	out = l.Out
	if trouble != nil {
		kept.Parts = append(kept.Parts, store.SurveyPart{Sort: "inside", Trouble: door.Words(trouble),
			Cause: door.CauseOf(trouble)})
		return out, c, trouble, nil
	}
	c.Found = kept.Found
	if err = w.Show(ctx, &out, &c, i.LoginUser, rows, l.Found, l.Whole); err != nil {
		return out, c, nil, err
	}
	for n, f := range l.Found {
		if n < maxShownKeys+len(rows) {
			kept.Keys = append(kept.Keys, store.SeenKey{LoginUser: i.LoginUser, Found: f})
		}
	}
	if l.Whole {
		kept.Users = []string{i.LoginUser}
	}
	if l.config != nil {
		l.config.At = out.At
		kept.Parts = append(kept.Parts, store.SurveyPart{Sort: "config", Vantage: out.Vantage, Report: l.config})
	}
	kept.Parts = append(kept.Parts, store.SurveyPart{Sort: "inside", Vantage: out.Vantage, Recorded: c.Recorded,
		Unrecorded: c.Unrecorded, Missing: c.missing, Expired: c.lapsed, Document: l.Document, Report: out})
	if l.config != nil { // shown together, and kept apart: it is read less often
		out.Config, out.Doors, out.NotSeen = append(out.Config, l.config.Config...),
			append(out.Doors, l.config.Doors...), slices.Concat(l.config.NotSeen, out.NotSeen)
	}
	return out, c, nil, nil
}

// nextSurvey is when an instance has its turn again: spread by a tenth to each
// side, so that those that were launched together are not surveyed together;
// sooner if the last one could not look.
func (w *Service) nextSurvey(ctx context.Context, failed bool) time.Duration {
	p, err := w.Policy(ctx)
	if err != nil {
		return time.Hour
	}
	every := time.Duration(p.Survey.Every)
	if every == 0 {
		every = 24 * time.Hour // nobody acts on it until the policy says so
	}
	if failed {
		every = min(every, max(every/12, 10*time.Minute))
	}
	return time.Duration(float64(every) * (0.9 + 0.2*rand.Float64()))
}

// keeping is a survey on its way into the database.
type keeping struct {
	kept store.Kept
	done chan error
}

// keepAtOnce is how many surveys one transaction takes in at most.
const keepAtOnce = 128

// keepSurvey has a survey kept, together with others that end at the same time.
func (w *Service) keepSurvey(ctx context.Context, k store.Kept) error {
	x := keeping{k, make(chan error, 1)}
	select {
	case w.toKeep <- x:
	case <-ctx.Done():
		return ctx.Err()
	case <-w.Base().Done():
		return work.ErrShutdown
	}
	return <-x.done
}

// keepGather is how long surveys that have ended wait for others, to be kept together by one
// transaction.
const keepGather = 25 * time.Millisecond

// closedClock is a channel that is closed: whoever waits for it goes on at once.
var closedClock = func() <-chan time.Time {
	c := make(chan time.Time)
	close(c)
	return c
}()

// keepLoop takes in what has come meanwhile, each time in one transaction.
func (w *Service) keepLoop() {
	for {
		var all []keeping
		select {
		case x := <-w.toKeep:
			all = append(all, x)
		case <-w.Base().Done():
			return
		}
		// With many at hand, the next ends in a moment: one transaction for both
		// costs about as much as one for each.
		var gathered <-chan time.Time
		if w.surveying.Load() > 4 {
			gathered = time.After(keepGather)
		} else {
			gathered = closedClock
		}
	more:
		for len(all) < keepAtOnce {
			select {
			case x := <-w.toKeep:
				all = append(all, x)
				continue
			default:
			}
			select {
			case x := <-w.toKeep:
				all = append(all, x)
			case <-gathered:
				break more
			}
		}
		var kept []store.Kept
		for _, x := range all {
			kept = append(kept, x.kept)
		}
		for n, err := range w.Store.KeepSurveys(w.Base(), kept) {
			all[n].done <- err
		}
	}
}

// surveyLoop surveys, by itself, those whose turn has come.
func (w *Service) surveyLoop() {
	slots := make(chan struct{}, w.SurveysAtOnce)
	idle := time.Second
	for {
		select {
		case <-w.Base().Done():
			return
		case slots <- struct{}{}:
		}
		n := w.surveyDue(slots)
		if n > 0 {
			continue
		}
		select {
		case <-w.Base().Done():
			return
		case <-time.After(idle):
		}
	}
}

// surveyDue takes up those that are due, as many as there are free slots; the
// caller's own is one of them.
func (w *Service) surveyDue(slots chan struct{}) int {
	free := 1
	for range cap(slots) - 1 {
		select {
		case slots <- struct{}{}:
			free++
		default:
		}
	}
	give := func(n int) {
		for range n {
			<-slots
		}
	}
	p, err := w.Policy(w.Base())
	if err != nil {
		give(free)
		return 0
	}
	turns, err := w.Store.DueTurns(w.Base(), free, p.Survey.Every == 0)
	if err != nil && w.Base().Err() == nil {
		w.Log.Warn("whose turn it is could not be read", "error", door.Words(err))
	}
	give(free - len(turns))
	var ids []int64
	for _, t := range turns {
		ids = append(ids, t.InstanceID)
	}
	known, err := w.Store.ForSurvey(w.Base(), ids...)
	if err != nil {
		give(len(turns)) // the turns run out by themselves
		return 0
	}
	for _, t := range turns {
		w.Engine.Go(func() {
			defer func() { <-slots }()
			defer func() {
				if v := recover(); v != nil {
					w.Log.Error("panic in a survey", "type", fmt.Sprintf("%T", v))
				}
			}()
			i, err := w.Store.InstanceByID(w.Base(), t.InstanceID)
			if err == nil {
				_, err = w.surveyOne(w.Base(), store.Service, i, t, known[i.ID],
					SurveyWish{Inside: true, Outside: p.Outside() && i.ProbeAllowed}, false)
			}
			if err != nil && w.Base().Err() == nil && !errors.Is(err, door.ErrCannotSurvey) {
				w.Log.Warn("a survey was not kept", "instance", i.Name, "error", door.Words(err))
			}
		})
	}
	return len(turns)
}

// surveyMany is what a survey of many was asked for.
type surveyMany struct {
	askedSurveys
	Idle int // instances that were chosen and do not run
}

// SurveyMany begins a survey of many instances. FieldError, store.ErrReused.
func (w *Service) SurveyMany(ctx context.Context, by store.Actor, once store.Once, r wire.SurveyMany) (store.Work,
	error) {
	if len(r.Instances) == 0 && r.Tag == "" && r.Region == "" && !r.All {
		return store.Work{}, door.FieldError{Field: "instances", Problem: "say which: instances, tag, region, or all"}
	}
	if !r.Inside && !r.Outside {
		r.Inside = true
	}
	for _, name := range r.Instances {
		if _, err := w.Store.InstanceByName(ctx, name); errors.Is(err, store.ErrNotFound) {
			return store.Work{}, door.FieldError{Field: "instances", Problem: "there is no instance " + name}
		} else if err != nil {
			return store.Work{}, err
		}
	}
	title := "survey all instances"
	switch {
	case len(r.Instances) > 0:
		title = fmt.Sprintf("survey %d instances", len(r.Instances))
	case r.Tag != "":
		title = "survey what is tagged " + r.Tag
	case r.Region != "":
		title = "survey " + r.Region
	}
	n := w.Begun(w.Named("survey"), door.Words(errors.New(title)), door.Token(26), store.Instance{},
		"find out what opens them", surveyMany{askedSurveys: askedSurveys(r)})
	n.Target = "instances"
	return w.BeginOf(ctx, by, once, store.Instance{}, n)
}

// surveyState is what is at hand of surveys, on this replica.
type surveyState struct {
	toKeep    chan keeping
	surveying atomic.Int64 // surveys at hand
	Done      atomic.Int64 // surveys that were begun since the start
}

// surveyed counts what a survey of many came to.
type surveyCounts struct{ Done, Idle, Busy int }

func (w *Service) surveyKind() *work.Kind {
	surveyOf := w.surveySteps()
	return &work.Kind{
		Name: "survey", Action: "instances.survey",
		Steps: []work.Step{
			{Name: "choose", Title: "choosing the instances", Do: surveyOf.Do(func(r *surveyJob) error {
				idle, err := r.Store.ChooseForSurvey(r.Ctx, r.Work.ID, r.In.Instances, r.In.Tag, r.In.Region)
				if err != nil {
					return err
				}
				return r.SetData(surveyCounts{Idle: idle})
			})},
			{Name: "look", Title: "surveying", Do: surveyOf.Do((*surveyJob).surveyChosen)},
		},
		End: surveyOf.End(func(r *surveyJob, state store.WorkState) (store.WorkEnd, error) {
			sum, err := r.Store.SurveySum(r.Ctx, r.Work.ID, sortsOf(r.In))
			if err != nil {
				return store.WorkEnd{}, err
			}
			text := fmt.Sprintf("%d of %d surveyed: %d unrecorded, %d missing, %d expired; %d could not be seen",
				sum.Seen, sum.Chosen, sum.Unrecorded, sum.Missing, sum.Expired, sum.Chosen-sum.Seen)
			if sum.Chosen == 0 {
				text = "no instance that runs was chosen"
			}
			if r.D.Idle > 0 {
				text += fmt.Sprintf("; %d do not run", r.D.Idle)
			}
			return store.WorkEnd{Outcome: text, Target: "instances"}, nil
		}),
	}
}

// sortsOf is by which sort of survey it is told that an instance is done.
func sortsOf(in surveyMany) string {
	if in.Inside {
		return "inside"
	}
	return "outside"
}

// surveyChosen surveys all that were chosen and were not since the work began:
// whoever takes it over goes on with the rest.
func (r *surveyJob) surveyChosen() error {
	// Each keeps its result by its own fence, the turn's, and not by the work's:
	// that would let one at a time through.
	ctx, cancel := context.WithCancel(r.Base())
	defer cancel()
	defer context.AfterFunc(r.Rest(), cancel)()
	slots := make(chan struct{}, max(4*r.svc.SurveysAtOnce, 128))
	said, began := time.Now(), time.Now()
	busy := false
	for {
		if err := r.Stopping(); err != nil {
			return err
		}
		left, chosen, remain, err := r.Store.LeftToSurvey(r.Ctx, r.Work.ID, sortsOf(r.In), 16*cap(slots))
		if err != nil {
			return err
		}
		if len(left) == 0 || busy && time.Since(began) > 2*turnWait {
			return nil
		}
		if time.Since(said) > time.Second {
			said = time.Now()
			if err := r.Say("%d of %d surveyed", chosen-remain, chosen); err != nil {
				return err
			}
		}
		taken, err := r.surveyThese(ctx, left, slots, SurveyWish{Inside: r.In.Inside, Outside: r.In.Outside})
		if err != nil {
			return err
		}
		if busy = taken == 0; busy { // others survey them now, and keep what they see
			r.Sleep(door.Poll)
		} else {
			began = time.Now()
		}
	}
}

// surveyThese surveys those of the instances that nobody else surveys now.
func (r *surveyJob) surveyThese(ctx context.Context, left []store.Instance, slots chan struct{},
	wish SurveyWish) (taken int, err error) {
	byID := map[int64]store.Instance{}
	for _, i := range left {
		byID[i.ID] = i
	}
	var wg sync.WaitGroup
	defer wg.Wait()
	// A few at a time, so that a turn is not taken long before it comes.
	for chunk := range slices.Chunk(left, cap(slots)) {
		var ids []int64
		for _, i := range chunk {
			ids = append(ids, i.ID)
		}
		if err := r.Stopping(); err != nil {
			return taken, err
		}
		turns, err := r.Store.TakeTurns(ctx, ids)
		if err != nil {
			return taken, err
		}
		known, err := r.Store.ForSurvey(ctx, ids...)
		if err != nil {
			return taken, err
		}
		taken += len(turns)
		for _, t := range turns {
			slots <- struct{}{}
			wg.Go(func() {
				defer func() { <-slots }()
				i := byID[t.InstanceID]
				_, err := r.svc.surveyOne(ctx, store.Actor{Operator: r.Work.Operator, Address: r.Work.Address}, i, t,
					known[i.ID], wish, false)
				if err != nil && ctx.Err() == nil && !errors.Is(err, door.ErrCannotSurvey) {
					r.Log.Warn("a survey was not kept", "instance", i.Name, "error", door.Words(err))
				}
			})
		}
	}
	return taken, nil
}

// turnWait is how long another's survey of an instance may take.
const turnWait = 90 * time.Second

// surveyJob is a survey of many.
type surveyJob struct {
	door.Job[surveyMany, surveyCounts]
	svc *Service
}

func (w *Service) surveySteps() door.Family[*surveyJob] {
	return func() *surveyJob { return &surveyJob{svc: w} }
}
