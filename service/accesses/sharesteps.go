package accesses

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/rotation"
	"plumlatch/core/times"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/door"
	"plumlatch/service/store"
)

// add appends the key's line with its terms.
func (r *shareJob) add() error {
	if r.InstanceGone() {
		return door.Failf("the instance is gone")
	}
	fresh, err := r.Store.KeyByID(r.Ctx, r.In.NewID)
	if err != nil {
		return err
	}
	files, all, err := r.Inside()
	if err != nil {
		return err
	}
	stands := slices.ContainsFunc(all, func(f door.KeysFile) bool {
		return r.D.Line != "" &&
			authkeys.ParseDocument(f.Data).Has(r.D.Line)
	})
	if r.D.File == "" {
		if len(door.LinesOf(all, fresh.Blob)) > 0 {
			return door.Failf("%s stands there already, and nobody wrote it down: \"plumlatch access record %s %s\" does", r.In.Key, r.Instance.Name, fresh.Fingerprint)
		}
		if len(all) == 0 {
			return door.Failf("none of the files that the server reads is there: %s",
				strings.Join(door.FilesOf(r.Instance), ", "))
		}
		r.D.File, r.D.Banner, r.D.From = all[0].Name, reach.Banner(files), r.In.From
		if err := r.bind(files, r.D.File, r.In.terms()); err != nil {
			return err
		}
		if r.In.Must && !r.D.Enforced {
			return door.Failf("its server cannot end the access by itself, and nobody is let in for a session without that: %s", r.D.Why)
		}
		rows, err := r.Store.AccessesOf(r.Ctx, r.Instance.ID)
		if err != nil {
			return err
		}
		r.D.Others = acceptedOthers(rows, r.Instance.LoginUser)
		r.D.Line = rotation.Carried{Options: r.D.Options}.Line(fresh.Public().Line())
		if err := r.Keep(); err != nil {
			return err
		}
	}
	if err := r.Place(files, fresh, stands); err != nil {
		return err
	}
	return r.Store.SetTerms(r.Ctx, store.Terms{AccessID: r.D.NewAccess, UntilAt: r.In.Until, FromRange: r.In.From,
		Command: r.In.Only, Reason: r.In.Reason, Enforced: r.D.Enforced, Expiry: r.D.Expiry,
		Operator: r.Work.Operator, WorkID: r.Work.ID})
}

// terms are those that a change asks for.
func (in sharing) terms() store.Terms {
	return store.Terms{UntilAt: in.Until, FromRange: in.From, Command: in.Only, Reason: in.Reason}
}

// bind makes the options of a line on terms, and keeps them with its end. An end that the server cannot keep is left out of them, and why is
// kept. The instance's clock is read beside a file.
func (r *shareJob) bind(files reach.Files, beside string, t store.Terms) (err error) {
	var options []string
	if t.UntilAt != nil {
		r.D.Ends = t.UntilAt
		if r.D.Skew, err = r.ClockOff(files, beside); err != nil {
			return err
		}
		if r.D.Expiry, err = authkeys.Expiry(authkeys.ParseVersion(r.D.Banner), *t.UntilAt, nil, r.D.Skew); err != nil {
			r.D.Why = door.Words(err)
		} else {
			r.D.Enforced = true
			options = append(options, `expiry-time="`+r.D.Expiry+`"`)
		}
	}
	for _, o := range [][2]string{{"from", t.FromRange}, {"command", t.Command}} {
		if o[1] == "" {
			continue
		}
		q, err := authkeys.Quote(o[1])
		if err != nil {
			return door.Failure{Reason: door.Words(err)}
		}
		options = append(options, o[0]+"="+q)
	}
	r.D.Options = strings.Join(options, ",")
	return nil
}

// addBack takes our line out again, if the guard permits that: it may be the
// only way in by now. Where it does not, the line stays, and the work says so.
func (r *shareJob) addBack() error {
	if r.D.File == "" {
		return nil
	}
	return r.Unplace(r.In.NewID, r.In.Key, r.In.Was, r.D.Others)
}

// accepted asks whether the key is taken.
func (r *shareJob) accepted() error {
	answers, err := r.AskServer(append([]int64{r.D.NewAccess}, r.D.Others...)...)
	if err != nil {
		return err
	}
	if err := r.OthersStill(answers); err != nil || answers[r.D.NewAccess] == reach.Accepted {
		return err
	}
	if came, err := r.EndCame(r.In.Until); err != nil {
		return err
	} else if came {
		return r.Say("the end of %s came before the server was asked whether it takes it", r.In.Key)
	}
	a, err := r.Store.AccessByID(r.Ctx, r.D.NewAccess)
	if err != nil {
		return err
	}
	if r.D.From != "" && !within(a.ProbeFrom, r.D.From) {
		return r.Say("its line takes %s from %s only, and the service asked from %s: it was refused, and whether "+
			"it is taken from there is not seen", r.In.Key, r.D.From, a.ProbeFrom)
	}
	return door.Failf("the server refuses %s, though its line stands in %s", r.In.Key, r.D.File)
}

// within tells whether an address is in one of the networks of a from=, as
// checkTerms writes it.
func within(address, from string) bool {
	a, err := netip.ParseAddr(address)
	if err != nil {
		return false
	}
	for f := range strings.SplitSeq(from, ",") {
		if p, err := netip.ParsePrefix(f); err == nil && p.Contains(a) {
			return true
		}
	}
	return false
}

// end waits for the end, which may be moved meanwhile.
func (r *shareJob) end() error {
	if r.InstanceGone() {
		return nil
	}
	terms, err := r.Store.Terms(r.Ctx, r.D.NewAccess)
	if errors.Is(err, store.ErrNotFound) { // withdrawn by other work
		return nil
	}
	if err != nil || terms.UntilAt == nil {
		return err
	}
	now, err := r.Store.Now(r.Ctx)
	if err != nil {
		return err
	}
	left := terms.UntilAt.Sub(now)
	if left <= 0 {
		return nil
	}
	return r.Wait(wire.WaitsEnd, fmt.Sprintf("the end of the access, %s; then %s is withdrawn",
		times.Show(terms.UntilAt.UTC()), r.In.Key), left+time.Second, door.LongestGrace)
}

// withdraw takes the key out after the end of its access.
func (r *shareJob) withdraw() error {
	if r.D.Gone || r.InstanceGone() {
		return nil
	}
	if _, err := r.Store.AccessByID(r.Ctx, r.D.NewAccess); errors.Is(err, store.ErrNotFound) {
		return nil
	}
	k, err := r.Store.KeyByID(r.Ctx, r.In.NewID)
	if err != nil {
		return err
	}
	return r.TakeInTheEnd(door.Taking{Key: k, Was: r.In.Was, CutOff: r.In.CutOff > 0})
}

// check asks whether the key is refused after its end, and the others are not.
func (r *shareJob) check() error {
	if !r.D.Gone || r.InstanceGone() {
		return nil
	}
	answers, err := r.AskServer(append([]int64{r.D.NewAccess}, r.D.Others...)...)
	if _, failed := errors.AsType[door.Failure](err); failed {
		r.D.Trouble = fmt.Sprintf("%s is withdrawn; the server did not answer the last time it was asked", r.In.Key)
		return r.Keep()
	}
	if err != nil {
		return err
	}
	if answers[r.D.NewAccess] == reach.Accepted {
		r.D.Trouble = fmt.Sprintf("the server still takes %s, though it is in no file that it is known to read",
			r.In.Key)
	}
	return r.Keep()
}

// acceptedOthers are the accesses of people and jobs that the server takes, as far as is known.
func acceptedOthers(rows []store.Access, user string, not ...int64) []int64 {
	var out []int64
	for _, a := range rows {
		if !a.Steward && a.LoginUser == user && (a.Standing == access.Accepted.String() ||
			a.Standing == access.Proven.String()) && a.Against == "" && !slices.Contains(not, a.KeyID) {
			out = append(out, a.ID)
		}
	}
	return out
}

// settle waits for the look after the edit.
func (r *shareJob) settle() error {
	if !r.D.Gone {
		return nil
	}
	return r.LookedAgain()
}

// record takes the access out of the ledger.
func (r *shareJob) record() error {
	if !r.D.Gone {
		return nil
	}
	if r.unrecorded() {
		return r.Store.EndSighting(r.Ctx, r.Instance.ID, r.Instance.LoginUser, keypair.Fingerprint(r.In.Blob), r.Work.ID,
			r.SurveysAfter()...)
	}
	id, why := r.D.OldAccess, fmt.Sprintf("withdrawn (work %d)", r.Work.ID)
	if r.In.NewID != 0 {
		id, why = r.D.NewAccess, fmt.Sprintf("withdrawn at its end (work %d)", r.Work.ID)
	}
	return r.Store.EndAccess(r.Ctx, id, r.Work.ID, why, r.SurveysAfter()...)
}

// removeAsk finds out which other keys open it, as they stand now.
func (r *shareJob) removeAsk() error {
	if r.InstanceGone() {
		return door.Failf("the instance is gone")
	}
	rows, err := r.Store.AccessesOf(r.Ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	r.D.Others = nil
	for _, a := range rows {
		switch {
		case a.Steward || a.LoginUser != r.Instance.LoginUser:
		case a.KeyID == r.In.OldID:
			r.D.OldAccess = a.ID
		default:
			r.D.Others = append(r.D.Others, a.ID)
		}
	}
	if r.D.OldAccess == 0 && !r.unrecorded() {
		return door.Failf("%s is not recorded to open %s any more", r.In.Key, r.Instance.Name)
	}
	files, err := r.Enter()
	if err != nil {
		return err
	}
	r.D.Session, r.D.Banner = door.SessionOf(files, r.Instance.LoginUser, rows), reach.Banner(files)
	if len(r.D.Others) == 0 {
		return r.Keep()
	}
	_, err = r.AskServer(r.D.Others...)
	return err
}

// unrecorded tells whether the key that is taken is one that nobody recorded there.
func (r *shareJob) unrecorded() bool { return len(r.In.Blob) > 0 }

// old is the key that is taken.
func (r *shareJob) old() (store.Key, error) {
	if r.In.OldID == 0 && r.unrecorded() {
		return store.Key{Name: r.In.Key, Blob: r.In.Blob, Fingerprint: r.In.Key, State: access.InUse}, nil
	}
	return r.Store.KeyByID(r.Ctx, r.In.OldID)
}

// removeTake takes the key out of every file.
func (r *shareJob) removeTake() error {
	k, err := r.old()
	if err != nil {
		return err
	}
	return r.TakeOld(door.Taking{Key: k, Was: r.In.Was, CutOff: r.In.CutOff > 0}, true)
}

// removeBack puts the key's lines back.
func (r *shareJob) removeBack() error {
	if !r.D.Narrowed || r.InstanceGone() {
		return nil
	}
	k, err := r.old()
	if err != nil {
		return err
	}
	if err := r.PutBack(k); err != nil {
		return err
	}
	// It is back, and whoever takes it out from now on is somebody else.
	r.D.Narrowed, r.D.Taken = false, nil
	return r.Keep()
}

// removeCheck asks whether the key is refused now, and the others are not.
func (r *shareJob) removeCheck() error {
	var answer reach.Answer
	if r.unrecorded() { // there is no access that the answer could be kept with
		if len(r.D.Others) > 0 {
			if _, err := r.AskServer(r.D.Others...); err != nil {
				return err
			}
		}
		t, err := r.TargetInside(r.Ctx, r.Instance)
		if err != nil {
			return err
		}
		if answer = reach.Probe(r.Ctx, r.Reach, t, [][]byte{r.In.Blob}, time.Now)[0].Answer; answer == reach.NotAsked {
			return fmt.Errorf("the server did not say whether it still takes %s", r.In.Key)
		}
	} else {
		answers, err := r.AskServer(append([]int64{r.D.OldAccess}, r.D.Others...)...)
		if err != nil {
			return err
		}
		answer = answers[r.D.OldAccess]
	}
	if answer == reach.Accepted {
		return door.Failf("the server still takes %s, though it is in no file that it is known to read: it stands "+
			"somewhere else", r.In.Key)
	}
	return nil
}

// extendEdit gives the lines that bear an end of ours the new one. Other lines of
// the key are somebody else's, and stay as they are: that is said.
func (r *shareJob) extendEdit() error {
	if r.InstanceGone() {
		return door.Failf("the instance is gone")
	}
	k, err := r.Store.KeyByID(r.Ctx, r.In.OldID)
	if err != nil {
		return err
	}
	rows, err := r.Store.AccessesOf(r.Ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	n := slices.IndexFunc(rows, func(a store.Access) bool {
		return a.KeyID == k.ID &&
			a.LoginUser == r.Instance.LoginUser
	})
	if n < 0 {
		return door.Failf("%s is not recorded to open %s any more", k.Name, r.Instance.Name)
	}
	a := rows[n]
	terms, err := r.Store.Terms(r.Ctx, a.ID)
	if err != nil {
		return err
	}
	files, all, err := r.Inside()
	if err != nil {
		return err
	}
	r.D.NewAccess, r.D.Banner, r.D.From = a.ID, reach.Banner(files), terms.FromRange
	// Once for the work: if the step is begun again, its line may bear this end already, and a clock that
	// is read again may be a second off.
	if r.D.Expiry == "" {
		if len(all) > 0 {
			if r.D.Skew, err = r.ClockOff(files, all[0].Name); err != nil {
				return err
			}
		}
		r.D.Expiry, err = authkeys.Expiry(authkeys.ParseVersion(r.D.Banner), *r.In.Until, nil, r.D.Skew)
		r.D.Enforced = err == nil
	}
	if err := r.Keep(); err != nil {
		return err
	}
	if r.D.Enforced && terms.Enforced {
		ours := func(expiry string) bool { return expiry == r.D.Expiry || r.isOurs(terms, expiry) }
		mine, others := 0, 0
		for _, f := range all {
			m, o := authkeys.ParseDocument(f.Data).Ends(k.Blob, ours)
			mine, others = mine+m, others+o
		}
		if mine == 0 {
			return door.Failf("no line of %s on %s bears the end that was given to it here: somebody has changed "+
				"it, and nothing was changed; \"plumlatch survey %s\" shows what stands there", k.Name,
				r.Instance.Name, r.Instance.Name)
		}
		if others > 0 {
			if err := r.Say("%s of %s there has no end of ours, and stays as it is",
				door.Plural(others, "other line"), k.Name); err != nil {
				return err
			}
		}
		err := r.Take(door.Taking{Key: k, Was: r.In.Was}, "edit", func([]door.KeysFile) error { return nil },
			func(_ string, doc *authkeys.Document) error {
				_, err := doc.SetExpiry(k.Blob, ours, r.D.Expiry)
				return err
			}, nil)
		if err != nil {
			if errors.Is(err, door.ErrGuarded) || errors.Is(err, store.ErrLost) {
				return err
			}
			return door.Failure{Reason: "its line could not be given another end: " + door.Words(err)}
		}
		if err := r.Wrote(); err != nil {
			return err
		}
	}
	terms.UntilAt, terms.Enforced, terms.Expiry = r.In.Until, r.D.Enforced && terms.Enforced, r.D.Expiry
	return r.Store.SetTerms(r.Ctx, terms)
}

// isOurs tells whether an expiry-time is the end that we wrote. Terms of before
// that was kept tell it by the time itself.
func (r *shareJob) isOurs(terms store.Terms, expiry string) bool {
	if terms.Expiry != "" {
		return expiry == terms.Expiry
	}
	was, err := authkeys.Expiry(authkeys.ParseVersion(r.D.Banner), *terms.UntilAt, nil, r.D.Skew)
	return err == nil && expiry == was
}
