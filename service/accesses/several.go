package accesses

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumlatch/core/authkeys"
	"plumlatch/core/plaintext"
	"plumlatch/core/rotation"
	"plumlatch/core/times"
	"plumlatch/reach"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// Several changes of who opens one instance, by one piece of work: keys are added, then the terms of others change, then keys are withdrawn,
// each under the guard. What the guard of rule 1 keeps stays, and is told; the rest is done all the same.

// What is done with one key.
const (
	DoAdd      = "add"
	DoTerms    = "terms"
	DoWithdraw = "withdraw"
)

// SeveralChange is what is done with one key, by its ID or its blob.
type SeveralChange struct {
	Do string `json:"do"`
	sharing
}

// Several is the input of such a piece of work.
type Several struct {
	Changes []SeveralChange `json:"changes"`
	// Back is for how long to wait for an instance that is out of reach; 0 for answerLimit.
	Back time.Duration `json:"back,omitempty"`
}

// AddChange is a key that is added. keyID names it.
func AddChange(k store.Key, t store.Terms) SeveralChange {
	return SeveralChange{DoAdd, sharing{NewID: k.ID, Key: k.Name, Was: door.MarkOf(k), Until: t.UntilAt, From: t.FromRange, Only: t.Command, Reason: t.Reason}}
}

// TermsChange gives an access other terms.
func TermsChange(k store.Key, t store.Terms) SeveralChange {
	return SeveralChange{DoTerms, sharing{OldID: k.ID, Key: k.Name, Was: door.MarkOf(k), Until: t.UntilAt, From: t.FromRange, Only: t.Command, Reason: t.Reason}}
}

// WithdrawChange is a key that is withdrawn; cutOff says that nobody may get in afterwards. A key that nobody recorded on the instance is
// named by its blob too.
func WithdrawChange(k store.Key, unrecorded []byte, cutOff bool) SeveralChange {
	c := SeveralChange{DoWithdraw, sharing{OldID: k.ID, Key: k.Name, Was: door.MarkOf(k), Blob: unrecorded}}
	if cutOff {
		c.CutOff = 1
	}
	return c
}

// Counted is the change, of a key that counted as this when the work was asked for: what made it count for less since then makes it no easier to take.
func (c SeveralChange) Counted(was rotation.Mark) SeveralChange {
	c.Was = was
	return c
}

// severalData is what the steps keep: for each change what the work of that change alone would.
type severalData struct{ jobs []*shareJob }

//
//lint:ignore U1000 it is used, by the two below
type severalForm struct {
	Parts []shared `json:"parts"`
}

// MarshalJSON writes it.
//
//lint:ignore U1000 severalData is an argument of Job, which keeps it as JSON
func (d severalData) MarshalJSON() ([]byte, error) {
	f := severalForm{Parts: []shared{}}
	for _, j := range d.jobs {
		f.Parts = append(f.Parts, j.D)
	}
	return json.Marshal(f)
}

// UnmarshalJSON reads it.
//
//lint:ignore U1000 severalData is an argument of Job, which keeps it as JSON
func (d *severalData) UnmarshalJSON(data []byte) error {
	var f severalForm
	if err := json.Unmarshal(data, &f); err != nil {
		return err
	}
	d.jobs = nil
	for _, p := range f.Parts {
		j := new(shareJob)
		j.D = p
		d.jobs = append(d.jobs, j)
	}
	return nil
}

// severalJob is such a piece of work in hand.
type severalJob struct {
	door.Job[Several, severalData]
}

var severalSteps door.Family[*severalJob] = func() *severalJob { return new(severalJob) }

// each does something with each change of a sort, as if it were the only one.
func (r *severalJob) each(do string, f func(*shareJob) error) error {
	for n := range r.In.Changes {
		if r.In.Changes[n].Do == do {
			if err := f(r.job(n)); err != nil {
				return err
			}
		}
	}
	return nil
}

// job is one change at hand.
func (r *severalJob) job(n int) *shareJob {
	for len(r.D.jobs) < len(r.In.Changes) {
		r.D.jobs = append(r.D.jobs, new(shareJob))
	}
	j := r.D.jobs[n]
	j.Run, j.In = r.Run, r.In.Changes[n].sharing
	r.Edits = &j.D.Edits
	return j
}

// reversed is each, the last first.
func (r *severalJob) reversed(do string, f func(*shareJob) error) error {
	for n := range slices.Backward(r.In.Changes) {
		if r.In.Changes[n].Do == do {
			if err := f(r.job(n)); err != nil {
				return err
			}
		}
	}
	return nil
}

// stays notes that a key stays, and why.
func (r *severalJob) stays(j *shareJob, why string) error {
	j.D.Kept = why
	if err := r.Keep(); err != nil {
		return err
	}
	if err := r.Store.Stays(r.Ctx, r.Work.ID, j.In.Key+": "+why); err != nil {
		return err
	}
	return r.Say("%s stays on %s: %s", j.In.Key, r.Instance.Name, why)
}

func (w *Service) accessSettleKind() *work.Kind {
	s := severalSteps
	return &work.Kind{
		Name: "access-settle", Action: "access.settle", Changing: true,
		Steps: []work.Step{
			{Name: "add", Title: "adding what is to open it", Do: s.Do((*severalJob).add), Undo: s.Do((*severalJob).addBack), Effects: []string{"append"},
				UndoEffects: []string{"take-out"}, BackLater: true},
			{Name: "accept", Title: "asking the server whether it takes those", Do: s.Do((*severalJob).accept)},
			{Name: "terms", Title: "giving accesses other terms", Do: s.Do((*severalJob).terms), Undo: s.Do((*severalJob).termsBack), Effects: []string{"edit"},
				UndoEffects: []string{"edit"}, Skip: s.Skip(func(r *severalJob) bool { return !r.has(DoTerms) })},
			{Name: "take", Title: "withdrawing what is not to open it", Do: s.Do((*severalJob).take), Undo: s.Do((*severalJob).takeBack), Effects: door.Takes,
				UndoEffects: door.PutsBack, Skip: s.Skip(func(r *severalJob) bool { return !r.has(DoWithdraw) })},
			{Name: "check", Title: "asking the server again", Do: s.Do((*severalJob).check), Settles: true},
			{Name: "settle", Title: "looking for what others wrote meanwhile", Do: s.Do((*severalJob).settle)},
			{Name: "record", Title: "recording what opens it now", Do: s.Do((*severalJob).record), NoReturn: true},
		},
		End: s.End(func(r *severalJob, state store.WorkState) (store.WorkEnd, error) {
			if state != store.Done {
				var left []string
				for n := range r.D.jobs {
					if j := r.job(n); j.D.Stays != "" {
						left = append(left, fmt.Sprintf("the line of %s stays: %s", j.In.Key, j.D.Stays))
					}
				}
				if len(left) > 0 {
					return store.WorkEnd{Outcome: r.TookBack(store.WentBack, strings.Join(left, "; "))}, nil
				}
				return store.WorkEnd{Outcome: r.TookBack(state, "the files are as they were")}, nil
			}
			count := map[string]int{}
			var trouble []string
			for n, c := range r.In.Changes {
				if len(r.D.jobs) <= n {
					continue
				}
				j := r.job(n)
				if j.D.Trouble != "" {
					trouble = append(trouble, j.D.Trouble)
				}
				if j.D.Kept != "" {
					trouble = append(trouble, c.Key+": "+j.D.Kept)
				} else {
					count[c.Do]++
				}
			}
			text := fmt.Sprintf("%d added, %d changed, %d withdrawn", count[DoAdd], count[DoTerms], count[DoWithdraw])
			return store.WorkEnd{Outcome: door.OutcomeOf(text, trouble...)}, nil
		}),
	}
}

func (r *severalJob) has(do string) bool {
	return slices.ContainsFunc(r.In.Changes, func(c SeveralChange) bool { return c.Do == do })
}

// PlanSeveral makes the work that makes several changes on an instance. FieldError.
func (w *Service) PlanSeveral(i store.Instance, in Several, of int64) store.NewWork {
	count := map[string]int{}
	for _, c := range in.Changes {
		count[c.Do]++
	}
	var what []string
	for _, c := range [][2]string{{DoAdd, "add %d"}, {DoTerms, "change %d"}, {DoWithdraw, "withdraw %d"}} {
		if count[c[0]] > 0 {
			what = append(what, fmt.Sprintf(c[1], count[c[0]]))
		}
	}
	title := fmt.Sprintf("settle %s: %s", i.Name, strings.Join(what, ", "))
	var words []string
	for _, c := range in.Changes {
		words = append(words, c.Do+" "+c.Key+termWords(c.sharing))
	}
	intent := plaintext.Cut(strings.Join(words, "; "), 1500)
	return w.Begun(w.Named("access-settle"), title, door.Token(26), i, fmt.Sprintf("%s (part of work %d)", intent, of), in)
}

// add appends the keys' lines. One that stands there already, whoever recorded it, is left as it is.
func (r *severalJob) add() error {
	if r.InstanceGone() {
		return door.Failf("the instance is gone")
	}
	rows, err := r.Store.AccessesOf(r.Ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	return r.each(DoAdd, func(j *shareJob) error {
		if j.D.NewAccess != 0 && j.D.Appended { // appended, and recorded
			return nil
		}
		n := slices.IndexFunc(rows, func(a store.Access) bool { return a.KeyID == j.In.NewID && a.LoginUser == r.Instance.LoginUser })
		if j.D.File == "" && n >= 0 { // somebody else has added it meanwhile
			return r.stays(j, "it was recorded to open the instance meanwhile, and is left as it is")
		}
		if j.D.File == "" { // a survey may never have looked there
			k, err := r.Store.KeyByID(r.Ctx, j.In.NewID)
			if err != nil {
				return err
			}
			if _, all, err := r.Inside(); err != nil {
				return err
			} else if len(door.LinesOf(all, k.Blob)) > 0 {
				return r.stays(j, fmt.Sprintf("it stands there already, and nobody recorded it: plumlatch access record %s %s", r.Instance.Name, k.Name))
			}
		}
		return j.add()
	})
}

func (r *severalJob) addBack() error { return r.reversed(DoAdd, (*shareJob).addBack) }

// accept asks whether the new keys are taken.
func (r *severalJob) accept() error {
	return r.each(DoAdd, func(j *shareJob) error {
		if j.D.Kept != "" {
			return nil
		}
		return j.accepted()
	})
}

// terms gives the lines of accesses other terms, where they are ours to change.
func (r *severalJob) terms() error {
	return r.each(DoTerms, r.setTerms)
}

// setTerms writes the terms of a change into the lines of its access that have no other options, and keeps them. What that takes from the key is
// permitted by the guard, or stays.
func (r *severalJob) setTerms(j *shareJob) error {
	if j.D.Kept != "" {
		return nil
	}
	rows, err := r.Store.AccessesOf(r.Ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	n := slices.IndexFunc(rows, func(a store.Access) bool { return a.KeyID == j.In.OldID && a.LoginUser == r.Instance.LoginUser })
	if n < 0 {
		return r.stays(j, "it is not recorded to open the instance any more")
	}
	k, err := r.Store.KeyByID(r.Ctx, j.In.OldID)
	if err != nil {
		return err
	}
	files, all, err := r.Inside()
	if err != nil {
		return err
	}
	if j.D.Before == nil { // once for the work: what was there, and what is to be there
		mine, others := 0, 0
		for _, f := range all {
			m, o := authkeys.ParseDocument(f.Data).OnTerms(k.Blob)
			mine, others = mine+m, others+o
		}
		if mine == 0 || others > 0 {
			return r.stays(j, "its line is not there, or has options that others wrote, and is left as it is")
		}
		had, err := r.Store.Terms(r.Ctx, rows[n].ID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		had.AccessID = rows[n].ID
		j.D.NewAccess, j.D.From, j.D.Banner, j.D.Taken = rows[n].ID, j.In.From, reach.Banner(files), map[string][]authkeys.Taken{}
		for _, f := range all {
			j.D.Taken[f.Name] = authkeys.ParseDocument(f.Data).Take(k.Blob)
		}
		if err := j.bind(files, all[0].Name, j.In.terms()); err != nil {
			return err
		}
		j.D.Before = &had
		if err := r.Keep(); err != nil {
			return err
		}
	}
	err = r.reword(j, k, func(_ string, doc *authkeys.Document) error { doc.SetTerms(k.Blob, j.D.Options); return nil })
	if errors.Is(err, door.ErrGuarded) {
		return r.stays(j, "it keeps its terms: "+door.Words(err))
	}
	if err != nil {
		return err
	}
	t := j.In.terms()
	t.AccessID, t.Enforced, t.Expiry, t.Operator, t.WorkID = j.D.NewAccess, j.D.Enforced, j.D.Expiry, r.Work.Operator, r.Work.ID
	return r.Store.ReplaceTerms(r.Ctx, t)
}

// reword edits the lines of a key: without a permit where that takes nothing from it, else by the guard's. door.ErrGuarded, wrapped.
func (r *severalJob) reword(j *shareJob, k store.Key, edit func(name string, doc *authkeys.Document) error) error {
	err := r.Widen("edit", edit)
	if errors.Is(err, rotation.ErrNoPermit) { // it is narrower
		err = r.Take(door.Taking{Key: k, Was: j.In.Was, CutOff: j.In.CutOff > 0}, "edit", func([]door.KeysFile) error { return nil }, edit, nil)
	}
	if err != nil {
		return err
	}
	return r.Wrote()
}

// termsBack puts the lines back as they were, unless somebody has changed them since. Narrower ones need the guard's permit, as forwards; without it
// they stay as they are, and that is said.
func (r *severalJob) termsBack() error {
	if r.InstanceGone() {
		return nil
	}
	return r.reversed(DoTerms, func(j *shareJob) error {
		if j.D.Before == nil || j.D.Kept != "" {
			return nil
		}
		k, err := r.Store.KeyByID(r.Ctx, j.In.OldID)
		if err != nil {
			return err
		}
		err = r.reword(j, k, func(name string, doc *authkeys.Document) error {
			ours := authkeys.ParseDocument(doc.Bytes())
			ours.Remove(k.Blob)
			ours.PutBack(j.D.Taken[name])
			ours.SetTerms(k.Blob, j.D.Options)
			if string(ours.Bytes()) == string(doc.Bytes()) { // as we left it
				doc.Remove(k.Blob)
				doc.PutBack(j.D.Taken[name])
			}
			return nil
		})
		if errors.Is(err, door.ErrGuarded) {
			j.D.Stays = "it keeps the terms that were given to it: " + door.Words(err)
			return r.Keep()
		}
		if err != nil {
			return err
		}
		return r.Store.ReplaceTerms(r.Ctx, *j.D.Before)
	})
}

// take withdraws keys, one after the other, each by a permit of its own.
func (r *severalJob) take() error {
	return r.each(DoWithdraw, func(j *shareJob) error {
		if j.D.Gone || j.D.Kept != "" {
			return nil
		}
		err := j.removeAsk()
		if _, failed := errors.AsType[door.Failure](err); failed && j.D.OldAccess == 0 && !j.unrecorded() && !r.InstanceGone() {
			return r.stays(j, "it is not recorded to open the instance any more")
		}
		if err == nil {
			err = j.removeTake()
		}
		if errors.Is(err, door.ErrGuarded) {
			if e := j.removeBack(); e != nil { // of several files one may have been written
				return e
			}
			return r.stays(j, door.Words(err))
		}
		return err
	})
}

func (r *severalJob) takeBack() error { return r.reversed(DoWithdraw, (*shareJob).removeBack) }

// check asks whether what was withdrawn is refused, and what was changed is taken.
func (r *severalJob) check() error {
	err := r.each(DoWithdraw, func(j *shareJob) error {
		if !j.D.Gone || j.D.Kept != "" {
			return nil
		}
		err := j.removeCheck()
		if _, failed := errors.AsType[door.Failure](err); failed && !r.InstanceGone() {
			if e := j.removeBack(); e != nil {
				return e
			}
			j.D.Gone = false
			return r.stays(j, door.Words(err))
		}
		return err
	})
	if err != nil {
		return err
	}
	return r.each(DoTerms, func(j *shareJob) error {
		if j.D.Kept != "" || j.D.NewAccess == 0 || j.In.From != "" {
			return nil
		}
		answers, err := r.AskServer(j.D.NewAccess)
		if err != nil || answers[j.D.NewAccess] == reach.Accepted {
			return err
		}
		if came, err := r.EndCame(j.In.Until); err != nil || came {
			return err
		}
		return door.Failf("the server refuses %s on its other terms", j.In.Key)
	})
}

// settle waits for the look after the edits.
func (r *severalJob) settle() error {
	for n, c := range r.In.Changes {
		if c.Do == DoWithdraw && len(r.D.jobs) > n && r.D.jobs[n].D.Gone {
			r.job(n)
			return r.LookedAgain()
		}
	}
	return nil
}

// record takes what was withdrawn out of the ledger.
func (r *severalJob) record() error {
	return r.each(DoWithdraw, func(j *shareJob) error {
		if !j.D.Gone || j.D.Kept != "" {
			return nil
		}
		err := j.record()
		if errors.Is(err, store.ErrNotFound) {
			return nil
		}
		return err
	})
}

// The end of an access that a piece of work on several keys has given it: the server keeps it where it can, and a piece of work of its own
// withdraws the line after it, as that of a shared access does.

// EndOf begins the work that waits for the end of an access, once for each piece of work that gave it.
func (w *Service) EndOf(i store.Instance, a store.Access, until time.Time, from string, by int64) store.NewWork {
	in := sharing{NewID: a.KeyID, Key: a.Key, Was: rotation.Mark{Holder: a.HolderSort, State: a.OutOfUse()}, Until: &until, From: from}
	n := w.Begun(w.Named("access-end"), fmt.Sprintf("end the access of %s to %s", a.Key, i.Name), fmt.Sprintf("end-%d-%d", by, a.ID), i,
		fmt.Sprintf("withdraw %s at %s", a.Key, times.Show(until.UTC())), in)
	return n
}

func (w *Service) accessEndKind() *work.Kind {
	gone := func(r *shareJob) error {
		rows, err := r.Store.AccessesOf(r.Ctx, r.Instance.ID)
		if err != nil {
			return err
		}
		n := slices.IndexFunc(rows, func(a store.Access) bool { return a.KeyID == r.In.NewID && a.LoginUser == r.Instance.LoginUser })
		if n < 0 {
			return r.Say("%s is not recorded to open %s any more", r.In.Key, r.Instance.Name)
		}
		terms, err := r.Store.Terms(r.Ctx, rows[n].ID)
		if errors.Is(err, store.ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		r.D.NewAccess, r.D.Others = rows[n].ID, acceptedOthers(rows, r.Instance.LoginUser, r.In.NewID)
		if err := r.Keep(); err != nil {
			return err
		}
		terms.WorkID = r.Work.ID
		return r.Store.ReplaceTerms(r.Ctx, terms)
	}
	return &work.Kind{
		Name: "access-end", Action: "access.end", Changing: true,
		Steps: []work.Step{
			{Name: "find", Title: "looking for the access", Do: shareSteps.Do(gone)},
			{Name: "end", Title: "waiting for the end of the access", Do: shareSteps.Do((*shareJob).end)},
			{Name: "withdraw", Title: "withdrawing the key", Do: shareSteps.Do((*shareJob).withdraw), Effects: door.Takes, NoReturn: true},
			{Name: "check", Title: "asking the server again", Do: shareSteps.Do((*shareJob).check), NoReturn: true},
			{Name: "settle", Title: "looking for what others wrote meanwhile", Do: shareSteps.Do((*shareJob).settle), NoReturn: true},
			{Name: "record", Title: "recording what opens it now", Do: shareSteps.Do((*shareJob).record), NoReturn: true},
		},
		End: shareSteps.End(func(r *shareJob, state store.WorkState) (store.WorkEnd, error) {
			text := fmt.Sprintf("%s has no end on %s any more", r.In.Key, r.Instance.Name)
			switch {
			case state != store.Done:
				text = r.TookBack(state, "the access has its end, and nobody withdraws its line then")
			case r.D.Trouble != "":
				text = r.D.Trouble
			case r.D.Gone:
				text = fmt.Sprintf("the access of %s to %s has come to its end, and is withdrawn", r.In.Key, r.Instance.Name)
			}
			return store.WorkEnd{Outcome: text}, nil
		}),
	}
}
