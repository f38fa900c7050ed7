package restore

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/comeback"
	"plumlatch/core/plaintext"
	"plumlatch/core/routes"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// A rehearsal carries a way back in out on a copy of the instance that nobody reaches but the service and whoever asked, and that
// reaches nobody. The copy is an instance of the ledger meanwhile, which no list shows, so that the way is carried out by the very
// steps of a restore, as work of its own. The pair that is let in is the service's: it opens that copy alone, and goes with it.

// rehearsal is what its steps keep.
type rehearsal struct {
	KeyID int64   `json:"key_id,omitempty"`
	Copy  int64   `json:"copy,omitempty"`  // the ledger's ID of the copy
	Child int64   `json:"child,omitempty"` // the work that carries the way out
	In    float64 `json:"in,omitempty"`    // seconds
	Down  float64 `json:"down,omitempty"`
	Ended bool    `json:"ended,omitempty"` // somebody cancelled the work that carries the way out: nothing was shown
}

const rehearseKind = "rehearse"

// RehearseEvery is how often it is looked which rehearsals are due by the policy.
const RehearseEvery = 10 * time.Minute

// rehearseJob is a rehearsal in hand: the steps of a copy, with others around.
type rehearseJob struct{ restoreJob }

func (r *rehearseJob) rehearsal() *rehearsal {
	x := r.D.Restore
	if x.Rehearsal == nil {
		x.Rehearsal = &rehearsal{}
	}
	r.In.NewID = x.Rehearsal.KeyID
	return x.Rehearsal
}

func (w *Service) rehearsalKind() *door.Kind {
	var of door.Family[*rehearseJob] = func() *rehearseJob { return &rehearseJob{restoreJob{svc: w}} }
	return &door.Kind{WordAt: "look", Kind: &work.Kind{Name: rehearseKind, Action: "access.rehearse", Steps: []work.Step{
		{Name: "look", Title: "looking at what is there", Do: of.Do((*rehearseJob).look)},
		{Name: "pair", Title: "making a pair for it", Do: of.Do((*rehearseJob).pair), Undo: of.Do((*rehearseJob).forget)},
		{Name: "image", Title: "making an image of it", Do: of.Do((*rehearseJob).image), Undo: of.Do((*rehearseJob).imageAway),
			Effects: []string{"make"}, UndoEffects: []string{"remove-image"}},
		{Name: "launch", Title: "launching a copy of it, shut", Do: of.Do((*rehearseJob).launch), Undo: of.Do((*rehearseJob).copyAway),
			Effects: []string{"launch"}, UndoEffects: []string{"remove"}},
		{Name: "known", Title: "learning the copy's host key", Do: of.Do((*rehearseJob).known)},
		{Name: "carry", Title: "carrying the way out on the copy", Do: of.Do((*rehearseJob).carry), Undo: of.Do((*rehearseJob).carryBack)},
		{Name: "compare", Title: "looking whether the copy works", Do: of.Do((*rehearseJob).compared)},
		{Name: "away", Title: "removing the copy", Do: of.Do((*rehearseJob).copyAway), Effects: []string{"remove"}},
		{Name: "image-away", Title: "removing the image", Do: of.Do((*rehearseJob).imageAway), Effects: []string{"remove-image"}},
		{Name: "forget", Title: "forgetting the copy and its pair", Do: of.Do((*rehearseJob).forget)},
	}, End: of.End((*rehearseJob).over)}}
}

func (r *rehearseJob) look() error {
	if err := r.restoreLook(); err != nil {
		return err
	}
	if s := r.D.Restore.Was; s != string(cloud.Running) {
		return door.Failf("the cloud says that it is %s: it is rehearsed while it runs", s)
	}
	return nil
}

// pair makes the pair that is let in to the copy. Its private half is the service's, sealed, and goes with the copy.
func (r *rehearseJob) pair() error {
	h := r.rehearsal()
	if h.KeyID != 0 {
		return nil
	}
	p, err := r.svc.workKey(r.Run, r.Work.ID)
	if err != nil {
		return err
	}
	h.KeyID, err = r.Store.RehearsalKey(r.Ctx, r.Work.ID, r.Work.Attempt, r.called(), fmt.Sprintf("made for the rehearsal by "+
		"work %d: it opens a copy of %s alone, and goes with it", r.Work.ID, r.Instance.Name), p)
	if err != nil {
		return err
	}
	return r.Keep()
}

// called is what the copy and its pair are called while they last.
func (r *rehearseJob) called() string {
	return fmt.Sprintf("%s-rehearsal-w%d", strings.ToLower(plaintext.Cut(r.Instance.Name, 40)), r.Work.ID)
}

func (r *rehearseJob) image() error { r.rehearsal(); return r.makeImage() }

func (r *rehearseJob) imageAway() error { return r.imageBack() }

// launch launches the copy with no key but those that its disk has; by the way of a copy with the new one, as that does.
func (r *rehearseJob) launch() error {
	h, c := r.rehearsal(), r.copying()
	if c.Name == "" {
		c.Tags = nil // what acts on the original's tags must not take it for one of them
	}
	return r.launchNamed(r.called(), "", func() ([]string, error) {
		if r.In.Route != copyRoute {
			return nil, nil
		}
		return r.svc.linesFor(r.Ctx, r.Instance, h.KeyID)
	})
}

func (r *rehearseJob) copyAway() error { return r.copyBack() }

func (r *rehearseJob) known() error {
	r.rehearsal()
	if err := r.learnCopy(); err != nil || r.In.Route != copyRoute {
		return err
	}
	return r.copyTakes(r.called())
}

// carry has the way carried out on the copy, by work of its own, and waits for its end.
func (r *rehearseJob) carry() error {
	h, c := r.rehearsal(), r.copying()
	if r.In.Route == copyRoute {
		return r.copyIsIn()
	}
	if h.Child == 0 {
		side := r.copySide()
		side.Name, side.Alias = r.called(), door.Token(26)
		in := restoring{Route: r.In.Route, Why: fmt.Sprintf("rehearsed, for work %d", r.Work.ID), NewID: h.KeyID, New: r.called(),
			RehearsalOf: r.Work.ID}
		n := r.Begun(r.Named("restore-"+r.In.Route), fmt.Sprintf("rehearse the way by %s on a copy of %s", r.In.Route, r.Instance.Name),
			fmt.Sprintf("%s-carry-%d", r.Work.Token, r.Work.Attempt), side, "rehearse the way by "+r.In.Route, in)
		n.ParentID = r.Work.ID
		var err error
		h.Copy, h.Child, err = r.Store.CarryOut(r.Ctx, store.Actor{Operator: r.Work.Operator, Address: r.Work.Address}, r.Work.ID, r.Instance.ID,
			store.NewInstance{Instance: side, HostKeys: []store.HostKey{c.Host}, Work: n})
		if err != nil {
			return err
		}
		if err := r.Keep(); err != nil {
			return err
		}
		r.Look()
	}
	child, err := r.Store.WorkByID(r.Ctx, h.Child)
	if err != nil {
		return err
	}
	switch {
	case !child.Over():
		return r.Wait(wire.WaitsParts, fmt.Sprintf("work %d, which carries it out on the copy", child.ID), 2*time.Second, grantLimit)
	case child.State == store.Cancelled:
		h.Ended = true
		return errors.Join(r.Keep(), door.Failf("work %d, which carried it out, was cancelled: nothing was shown", child.ID))
	case child.State != store.Done:
		return door.Failf("by %s nobody would have got in: %s (work %d)", r.In.Route, child.Outcome, child.ID)
	}
	report, err := r.svc.Report(r.Ctx, child)
	if err != nil {
		return err
	}
	if report.InAt == nil {
		return door.Failf("by %s nobody would have got in: the copy was not seen to take the new key (work %d)", r.In.Route, child.ID)
	}
	h.In, h.Down = report.InAt.Sub(report.BeganAt).Seconds(), report.Down
	// Its address is another one after a stop and a start.
	copied, err := r.Store.InstanceByID(r.Ctx, h.Copy)
	if err != nil {
		return err
	}
	c.Address, c.Port = copied.Address, copied.Port
	return r.Keep()
}

// copyIsIn is the end of the way by a copy: the copy has taken the new key, and somebody logs in with it.
func (r *rehearseJob) copyIsIn() error {
	h, c := r.rehearsal(), r.copying()
	now, err := r.Store.Now(r.Ctx)
	if err != nil {
		return err
	}
	if err := r.ownLogin(r.copySide(), [][]byte{c.Host.Blob}, r.Work.ID); err != nil {
		return err
	}
	h.In = now.Sub(r.Work.CreatedAt).Seconds()
	return r.Keep()
}

// ownLogin logs in with the pair that was made for a rehearsal.
func (r *restoreJob) ownLogin(i store.Instance, hostKeys [][]byte, rehearsal int64) error {
	k, err := r.Store.WorkKeyOf(r.Ctx, rehearsal)
	if err != nil {
		return err
	}
	signer, err := r.Decrypt(r.Ctx, k.Sealed)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(r.Ctx, 30*time.Second)
	defer cancel()
	_, way, err := reach.SFTP(ctx, r.Reach, reach.Target{Address: i.Address, Port: i.Port, User: i.LoginUser, HostKeys: hostKeys}, signer)
	if r.Ctx.Err() != nil {
		return store.ErrLost
	}
	if err != nil {
		return door.Failf("the pair made for it does not get in to the copy: %s", door.Words(err))
	}
	return way.Close()
}

// loginRehearsed is the login with the new key on a copy that is rehearsed on.
func (r *restoreJob) loginRehearsed() error {
	hostKeys, err := r.Store.HostKeys(r.Ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	var blobs [][]byte
	for _, h := range hostKeys {
		blobs = append(blobs, h.Blob)
	}
	if err := r.ownLogin(r.Instance, blobs, r.In.RehearsalOf); err != nil {
		return err
	}
	return r.Store.Observe(r.Ctx, r.D.NewAccess, access.Proven, true, r.Reach.Source.String())
}

// carryBack waits until the work that carries it out is over: its copy must not be taken away under it.
func (r *rehearseJob) carryBack() error {
	at, err := r.Store.RehearsalOf(r.Ctx, r.Work.ID)
	if err != nil || at.ChildID == 0 {
		return err
	}
	child, err := r.Store.WorkByID(r.Ctx, at.ChildID)
	if err != nil {
		return err
	}
	if child.State == store.Stuck {
		return door.Failf("work %d is stuck with the copy in hand: plumlatch work show %d; once it is settled, plumlatch work retry %d", child.ID,
			child.ID, r.Work.ID)
	}
	if child.Over() {
		return nil
	}
	if !child.CancelAsked && !child.Back {
		by := store.Actor{Operator: r.Work.Operator, Address: r.Work.Address}
		var late door.FieldError
		if err := r.Cancel(r.Ctx, by, child); err != nil && !errors.As(err, &late) && !errors.Is(err, store.ErrWorkState) {
			return err // late: it goes on to its end, which is waited for
		}
	}
	return r.Wait(wire.WaitsParts, fmt.Sprintf("work %d to end", child.ID), 500*time.Millisecond, grantLimit)
}

// compared says what ran on the original and does not on the copy, and runs its checks there.
func (r *rehearseJob) compared() error {
	r.rehearsal()
	return r.compare()
}

// forget takes the copy and its pair out of the ledger, after both are gone.
func (r *rehearseJob) forget() error { return r.Store.ForgetCopy(r.Ctx, r.Work.ID) }

func (r *rehearseJob) over(state store.WorkState) (store.WorkEnd, error) {
	h, x := r.rehearsal(), r.D.Restore
	if state == store.Cancelled {
		return store.WorkEnd{Outcome: door.OutcomeOf("everything was taken back", x.Left...)}, nil
	}
	if state != store.Done {
		said := cmp.Or(r.Work.Trouble, "it did not end")
		var err error
		if !h.Ended {
			err = r.Store.EndRehearsal(r.Ctx, r.Work.ID, false, h.In, h.Down, said)
		}
		if state == store.Stuck {
			return store.WorkEnd{Outcome: door.OutcomeOf(said, x.Left...)}, err
		}
		return store.WorkEnd{Outcome: door.OutcomeOf(said+"; the copy and its image are removed", x.Left...)}, err
	}
	said := strings.Join(x.Left, "; ")
	went := routes.Rehearsed{Route: r.In.Route, In: time.Duration(h.In * float64(time.Second)), Down: time.Duration(h.Down * float64(time.Second))}
	outcome := fmt.Sprintf("by %s somebody would be %s; the copy and its image are removed", r.In.Route, went.Words())
	return store.WorkEnd{Outcome: door.OutcomeOf(outcome, x.Left...)}, r.Store.EndRehearsal(r.Ctx, r.Work.ID, true, h.In, h.Down, said)
}

// PlanRehearsal says what a rehearsal would do, take and cost: of a route, or of the best open one that needs nobody's hand.
// FieldError.
func (w *Service) PlanRehearsal(ctx context.Context, i store.Instance, route string) (wire.RehearsalPlan, error) {
	wrong := func(format string, a ...any) (wire.RehearsalPlan, error) {
		return wire.RehearsalPlan{}, door.FieldError{Field: "route", Problem: fmt.Sprintf(format, a...), Choices: slices.Concat(routes.Rehearsable, routes.ByHand)}
	}
	byHand := slices.Contains(routes.ByHand, route)
	if route != "" && !byHand && !slices.Contains(routes.Rehearsable, route) {
		if _, ok := routes.ByName(route); ok {
			return wrong("%s cannot be rehearsed: no copy of ours lets anybody in without a key", route)
		}
		return wrong("there is no such route")
	}
	if i.Desktop {
		return wire.RehearsalPlan{}, door.FieldError{Field: "instance", Problem: door.NoSSH(i) + ", and nobody of ours could look whether somebody gets in"}
	}
	all, offers, err := w.RoutesOf(ctx, i.Name, true)
	if err != nil {
		return wire.RehearsalPlan{}, err
	}
	n := slices.IndexFunc(offers, func(o routes.Offer) bool { return o.Route == copyRoute })
	if o := offers[n]; !o.Open {
		return wrong("a rehearsal needs a copy that nobody else reaches: %s", lacks(o))
	}
	if all.State != string(cloud.Running) {
		return wrong("it is %s: it is rehearsed while it runs", all.State)
	}
	byCopy := offers[n]
	var chosen *routes.Offer
	others := []string{}
	for n := range offers {
		o := &offers[n]
		switch {
		case !slices.Contains(routes.Rehearsable, o.Route) && (!byHand || o.Route != route):
		case o.Route == route && !o.Open:
			return wrong("%s is not open: %s", route, lacks(*o))
		case !o.Open:
		case chosen == nil && (route == "" || o.Route == route):
			chosen = o
		default:
			others = append(others, o.Route)
		}
	}
	out := wire.RehearsalPlan{Instance: i.Name, Machine: all.Machine, Route: chosen.Route, Others: others, Carried: []string{}, Charges: []wire.Charge{}, Notes: []string{
		"nothing leads out of the copy, so what its jobs would send is not sent, and what it fetches at boot is not there",
		"what its processes have in memory, or not written yet, is not on the image"}}
	out.Steps = []string{"make an image of it, as it runs", "launch a copy from that: nothing leads out of it, and only the service and you get in"}
	terms, err := w.CloudOf(i).Terms(ctx)
	if err != nil {
		return out, err
	}
	if !w.CloudOf(i).Properties().Images.ShutsOut {
		out.Notes = out.Notes[1:]
		out.Steps[1] = "launch a copy from that: only the service and you get in"
		if out.Twice, err = w.twice(ctx, i); err != nil {
			return out, err
		}
	}
	out.Seconds = (byCopy.UntilIn + 2*terms.Change).Seconds()
	if chosen.Route == copyRoute {
		out.Steps = append(out.Steps, "see that the copy takes a pair made for it, and log in")
		out.Notes = append(out.Notes, "the move of its address, and the inbound rules, are not rehearsed")
	} else {
		out.Steps = append(out.Steps, fmt.Sprintf("carry the way by %s out on the copy, with a pair made for it, and log in", chosen.Route))
		if route, ok := routes.ByName(chosen.Route); ok {
			for _, s := range route.Steps {
				out.Carried = append(out.Carried, s.Words)
			}
		}
		out.Notes = append(out.Notes, "no lost key is withdrawn on the copy")
		if byHand {
			out.Hand = map[string]string{"lent-key": "you come in from this machine, by a key that the cloud lends",
				"second-key": "you come in from this machine, by another key that opens it (-identity FILE)"}[chosen.Route]
		}
		out.Seconds += chosen.UntilIn.Seconds()
		for _, c := range chosen.Charges {
			out.Charges = append(out.Charges, wire.Charge(c))
		}
	}
	out.Steps = append(out.Steps, "compare what runs there with what ran on it, and run its checks there", "remove the copy, its image and the pair")
	out.Charges = append(out.Charges, wire.Charge{What: "the copy, for up to an hour", Amount: terms.InstanceHour[i.Size] +
		terms.VolumeHourGB*float64(i.DiskGB), Currency: terms.Currency})
	return out, nil
}

// twice is what would run on a copy too whose way out is open.
func (w *Service) twice(ctx context.Context, i store.Instance) ([]string, error) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	var m comeback.Machine
	by := ""
	if files, done, err := w.Steward(ctx, i); err == nil {
		m = reach.ReadMachine(files)
		done()
	}
	if m.Running == nil {
		var err error
		if m, by, err = w.told(ctx, i.ID); err != nil {
			return nil, err
		}
	}
	out := []string{"its timers and its jobs of cron, at their hours: they send and fetch as the instance does"}
	for _, u := range m.Lasting() {
		if by != "" {
			u += " (seen by " + by + ")"
		}
		out = append(out, u)
	}
	if m.Running == nil {
		out = append(out, "its services: which those are was not seen")
	}
	return out, nil
}

func lacks(o routes.Offer) string {
	var out []string
	for _, l := range o.Lacking {
		text := l.What
		if l.Command != "" {
			text += " (" + l.Command + ")"
		}
		out = append(out, text)
	}
	return strings.Join(out, "; ")
}

// Rehearse begins a rehearsal. FieldError, store.ErrReused.
func (w *Service) Rehearse(ctx context.Context, by store.Actor, once store.Once, i store.Instance, r wire.Rehearse) (store.Work, error) {
	if work, again, err := w.WorkDone(ctx, once); again || err != nil {
		return work, err
	}
	p, err := w.PlanRehearsal(ctx, i, r.Route)
	if err != nil {
		return store.Work{}, err
	}
	if len(p.Twice) > 0 && !r.Twice {
		return store.Work{}, door.FieldError{Field: "twice", Problem: "this cloud cannot shut the way out of a copy, so these would run twice: " +
			strings.Join(p.Twice, "; ") + ". Say that you accept it (twice)"}
	}
	return w.rehearse(ctx, by, once, i, p, false)
}

// rehearse begins one; alone if no other is at hand.
func (w *Service) rehearse(ctx context.Context, by store.Actor, once store.Once, i store.Instance, p wire.RehearsalPlan, alone bool) (store.Work,
	error) {
	why := "asked for"
	if len(p.Others) > 0 {
		why += "; open besides: " + strings.Join(p.Others, ", ")
	}
	price, currency := price(p)
	n := w.Begun(w.Named(rehearseKind), fmt.Sprintf("rehearse the way back into %s by %s", i.Name, p.Route), door.Token(26), i,
		fmt.Sprintf("carry the way by %s out on a copy of it, and remove that", p.Route), restoring{Route: p.Route, Why: why})
	id, err := w.Store.BeginRehearsal(ctx, by, once, i, n, p.Route, price, currency, alone)
	if done, ok := errors.AsType[store.Replayed](err); ok {
		return w.Store.WorkByID(ctx, done.WorkID)
	}
	if err != nil {
		return store.Work{}, err
	}
	w.Look()
	return w.Store.WorkByID(ctx, id)
}

// price is what a rehearsal costs, at most.
func price(p wire.RehearsalPlan) (amount float64, currency string) {
	for _, c := range p.Charges {
		amount += c.Amount
		currency = c.Currency
	}
	return amount, currency
}

// Rehearsals returns the last ones of an instance that are over, the newest first.
func (w *Service) Rehearsals(ctx context.Context, i store.Instance) ([]wire.Rehearsed, error) {
	all, err := w.Store.Rehearsals(ctx, i.ID, 20)
	out := []wire.Rehearsed{}
	for _, r := range all {
		if r.EndedAt != nil {
			out = append(out, showRehearsed(r))
		}
	}
	return out, err
}

func showRehearsed(r store.Rehearsal) wire.Rehearsed {
	out := wire.Rehearsed{Route: r.Route, Work: r.WorkID, Good: r.Good, InSeconds: r.InSeconds, DownSeconds: r.DownSecs, Said: r.Said}
	if r.EndedAt != nil {
		out.At = r.EndedAt.UTC()
	}
	return out
}

// rehearsedOf is a rehearsal as the routes weigh it.
func rehearsedOf(all []store.Rehearsal) (out []routes.Rehearsed) {
	span := func(seconds float64) time.Duration { return time.Duration(seconds * float64(time.Second)) }
	for _, r := range all {
		if r.EndedAt != nil {
			out = append(out, routes.Rehearsed{Route: r.Route, Work: r.WorkID, At: *r.EndedAt, Good: r.Good, In: span(r.InSeconds),
				Down: span(r.DownSecs), Said: r.Said})
		}
	}
	return out
}

// RehearsalsDue begins a rehearsal that the policy has done regularly: one at a time, as long as the month's money lasts.
func (w *Service) RehearsalsDue(ctx context.Context) (bool, error) {
	p, err := w.Policy(ctx)
	if err != nil || p.Rehearse.Every == 0 {
		return false, err
	}
	ids, spent, err := w.Store.RehearsalsDue(ctx, time.Duration(p.Rehearse.Every), p.Rehearse.Tag, rehearsalsLooked)
	if err != nil {
		return false, err
	}
	for _, id := range ids {
		i, err := w.Store.InstanceByID(ctx, id)
		if err != nil {
			return false, err
		}
		if images := w.CloudOf(i).Properties().Images; images == nil || !images.ShutsOut {
			continue // nobody is there who could accept that something runs twice
		}
		if first, err := w.FirstEntry(ctx, i); err != nil {
			return false, err
		} else if first {
			continue // to get in there at all is for admins, or whom the policy names
		}
		plan, err := w.PlanRehearsal(ctx, i, p.Rehearse.Route)
		if _, closed := errors.AsType[door.FieldError](err); closed {
			continue // that no way is open stands on today by itself
		}
		if err != nil {
			return false, err
		}
		if cost, _ := price(plan); p.Rehearse.AtMost > 0 && (cost == 0 || spent+cost > p.Rehearse.AtMost) {
			continue // a smaller one may still fit; what a cloud without prices asks is not known
		}
		_, err = w.rehearse(ctx, store.Service, store.Once{}, i, plan, true)
		if errors.Is(err, store.ErrInProgress) { // another replica was first
			err = nil
		}
		return false, err
	}
	return false, nil
}

// rehearsalsLooked is how many that are due are looked at for one that can be begun.
const rehearsalsLooked = 20
