package kinds

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/authkeys"
	"plumlatch/core/rotation"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/store"
)

// shareAdd appends the key's line with its terms.
func (r *Run) shareAdd() error {
	in, d, err := r.sharing()
	if err != nil {
		return err
	}
	if r.instanceGone() {
		return failf("the instance is gone")
	}
	fresh, err := r.Store.KeyByID(r.ctx, in.NewID)
	if err != nil {
		return err
	}
	files, all, err := r.inside()
	if err != nil {
		return err
	}
	stands := slices.ContainsFunc(all, func(f keysFile) bool { return d.Line != "" && authkeys.ParseDocument(f.data).Has(d.Line) })
	if d.File == "" {
		if len(linesOf(all, fresh.Blob)) > 0 {
			return failf("%s stands there already, and nobody wrote it down: \"plumlatch access record %s %s\" does", in.Key, r.Instance.Name, fresh.Fingerprint)
		}
		if len(all) == 0 {
			return failf("none of the files that the server reads is there: %s", strings.Join(filesOf(r.Instance), ", "))
		}
		d.File, d.Banner, d.From = all[0].name, reach.Banner(files), in.From
		var options []string
		if in.Until != nil {
			d.Ends = in.Until
			if d.Skew, err = r.clockOff(files, d.File); err != nil {
				return err
			}
			if d.Expiry, err = authkeys.Expiry(authkeys.ParseVersion(d.Banner), *in.Until, nil, d.Skew); err != nil {
				d.Why = words(err)
			} else {
				d.Enforced = true
				options = append(options, `expiry-time="`+d.Expiry+`"`)
			}
		}
		for _, o := range [][2]string{{"from", in.From}, {"command", in.Only}} {
			if o[1] == "" {
				continue
			}
			q, err := authkeys.Quote(o[1])
			if err != nil {
				return Failure{Reason: words(err)}
			}
			options = append(options, o[0]+"="+q)
		}
		d.Options = strings.Join(options, ",")
		rows, err := r.Store.AccessesOf(r.ctx, r.Instance.ID)
		if err != nil {
			return err
		}
		d.Others = acceptedOthers(rows, r.Instance.LoginUser)
		d.Line = rotation.Carried{Options: d.Options}.Line(fresh.Public().Line())
		if err := r.SetData(d); err != nil {
			return err
		}
	}
	if err := r.place(&d, files, fresh, stands); err != nil {
		return err
	}
	return r.Store.SetTerms(r.ctx, store.Terms{AccessID: d.NewAccess, UntilAt: in.Until, FromRange: in.From, Command: in.Only, Reason: in.Reason, Enforced: d.Enforced, Expiry: d.Expiry, Operator: r.Work.Operator, WorkID: r.Work.ID})
}

// shareAddBack takes our line out again, if the guard permits that: it may be the
// only way in by now. Where it does not, the line stays, and the work says so.
func (r *Run) shareAddBack() error {
	in, d, err := r.sharing()
	if err != nil || d.File == "" {
		return err
	}
	return r.unplace(d, in.NewID, in.Key, in.Was, d.Others)
}

// shareAccepted asks whether the key is taken.
func (r *Run) shareAccepted() error {
	in, d, err := r.sharing()
	if err != nil {
		return err
	}
	answers, err := r.askServer(&d, append([]int64{d.NewAccess}, d.Others...)...)
	if err != nil {
		return err
	}
	if answers[d.NewAccess] == reach.Accepted {
		return r.othersStill(d, answers)
	}
	a, err := r.Store.AccessByID(r.ctx, d.NewAccess)
	if err != nil {
		return err
	}
	if d.From != "" && !within(a.ProbeFrom, d.From) {
		return r.Say("its line takes %s from %s only, and the service asked from %s: it was refused, and whether it is taken from there is not seen", in.Key, d.From, a.ProbeFrom)
	}
	return failf("the server refuses %s, though its line stands in %s", in.Key, d.File)
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

// shareEnd waits for the end, which may be moved meanwhile.
func (r *Run) shareEnd() error {
	in, d, err := r.sharing()
	if err != nil || r.instanceGone() {
		return err
	}
	terms, err := r.Store.Terms(r.ctx, d.NewAccess)
	if errors.Is(err, store.ErrNotFound) { // withdrawn by other work
		return nil
	}
	if err != nil || terms.UntilAt == nil {
		return err
	}
	now, err := r.Store.Now(r.ctx)
	if err != nil {
		return err
	}
	left := terms.UntilAt.Sub(now)
	if left <= 0 {
		return nil
	}
	return r.Wait(wire.WaitsEnd, fmt.Sprintf("the end of the access, %s; then %s is withdrawn", terms.UntilAt.UTC().Format("2006-01-02 15:04 UTC"), in.Key), left+time.Second, longestGrace)
}

// shareWithdraw takes the key out after the end of its access.
func (r *Run) shareWithdraw() error {
	in, d, err := r.sharing()
	if err != nil || d.Gone || r.instanceGone() {
		return err
	}
	if _, err := r.Store.AccessByID(r.ctx, d.NewAccess); errors.Is(err, store.ErrNotFound) {
		return nil
	}
	k, err := r.Store.KeyByID(r.ctx, in.NewID)
	if err != nil {
		return err
	}
	return r.takeInTheEnd(&d, taking{key: k, was: in.Was, cutOff: in.CutOff > 0})
}

// shareCheck asks whether the key is refused after its end, and the others are not.
func (r *Run) shareCheck() error {
	in, d, err := r.sharing()
	if err != nil || !d.Gone || r.instanceGone() {
		return err
	}
	answers, err := r.askServer(&d, append([]int64{d.NewAccess}, d.Others...)...)
	if _, failed := errors.AsType[Failure](err); failed {
		d.Trouble = fmt.Sprintf("%s is withdrawn; the server did not answer the last time it was asked", in.Key)
		return r.SetData(d)
	}
	if err != nil {
		return err
	}
	if answers[d.NewAccess] == reach.Accepted {
		d.Trouble = fmt.Sprintf("the server still takes %s, though it is in no file that it is known to read", in.Key)
	}
	return r.SetData(d)
}

// acceptedOthers are the accesses of people and jobs that the server takes, as far as is known.
func acceptedOthers(rows []store.Access, user string, not ...int64) []int64 {
	var out []int64
	for _, a := range rows {
		if !a.Steward && a.LoginUser == user && (a.Standing == access.Accepted.String() || a.Standing == access.Proven.String()) && a.Against == "" && !slices.Contains(not, a.KeyID) {
			out = append(out, a.ID)
		}
	}
	return out
}

// shareSettle waits for the look after the edit.
func (r *Run) shareSettle() error {
	_, d, err := r.sharing()
	if err != nil || !d.Gone {
		return err
	}
	return r.lookedAgain(&d)
}

// shareRecord takes the access out of the ledger.
func (r *Run) shareRecord() error {
	in, d, err := r.sharing()
	if err != nil || !d.Gone {
		return err
	}
	id, why := d.OldAccess, fmt.Sprintf("withdrawn (work %d)", r.Work.ID)
	if in.NewID != 0 {
		id, why = d.NewAccess, fmt.Sprintf("withdrawn at its end (work %d)", r.Work.ID)
	}
	return r.Store.EndAccess(r.ctx, id, r.Work.ID, why, r.surveysAfter()...)
}

// removeAsk finds out which other keys open it, as they stand now.
func (r *Run) removeAsk() error {
	in, d, err := r.sharing()
	if err != nil {
		return err
	}
	if r.instanceGone() {
		return failf("the instance is gone")
	}
	rows, err := r.Store.AccessesOf(r.ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	d.Others = nil
	for _, a := range rows {
		switch {
		case a.Steward || a.LoginUser != r.Instance.LoginUser:
		case a.KeyID == in.OldID:
			d.OldAccess = a.ID
		default:
			d.Others = append(d.Others, a.ID)
		}
	}
	if d.OldAccess == 0 {
		return failf("%s is not recorded to open %s any more", in.Key, r.Instance.Name)
	}
	files, err := r.enter()
	if err != nil {
		return err
	}
	d.Session, d.Banner = sessionOf(files, r.Instance.LoginUser, rows), reach.Banner(files)
	if len(d.Others) == 0 {
		return r.SetData(d)
	}
	_, err = r.askServer(&d, d.Others...)
	return err
}

// removeTake takes the key out of every file.
func (r *Run) removeTake() error {
	in, d, err := r.sharing()
	if err != nil {
		return err
	}
	k, err := r.Store.KeyByID(r.ctx, in.OldID)
	if err != nil {
		return err
	}
	return r.takeOld(&d, taking{key: k, was: in.Was, cutOff: in.CutOff > 0}, true)
}

// removeBack puts the key's lines back.
func (r *Run) removeBack() error {
	in, d, err := r.sharing()
	if err != nil || !d.Narrowed || r.instanceGone() {
		return err
	}
	k, err := r.Store.KeyByID(r.ctx, in.OldID)
	if err != nil {
		return err
	}
	if err := r.putBack(d, k); err != nil {
		return err
	}
	// It is back, and whoever takes it out from now on is somebody else.
	d.Narrowed, d.Taken = false, nil
	return r.SetData(d)
}

// removeCheck asks whether the key is refused now, and the others are not.
func (r *Run) removeCheck() error {
	in, d, err := r.sharing()
	if err != nil {
		return err
	}
	answers, err := r.askServer(&d, append([]int64{d.OldAccess}, d.Others...)...)
	if err != nil {
		return err
	}
	if answers[d.OldAccess] == reach.Accepted {
		return failf("the server still takes %s, though it is in no file that it is known to read: it stands somewhere else", in.Key)
	}
	return nil
}

// extendEdit gives the lines that bear an end of ours the new one. Other lines of
// the key are somebody else's, and stay as they are: that is said.
func (r *Run) extendEdit() error {
	in, d, err := r.sharing()
	if err != nil {
		return err
	}
	if r.instanceGone() {
		return failf("the instance is gone")
	}
	k, err := r.Store.KeyByID(r.ctx, in.OldID)
	if err != nil {
		return err
	}
	rows, err := r.Store.AccessesOf(r.ctx, r.Instance.ID)
	if err != nil {
		return err
	}
	n := slices.IndexFunc(rows, func(a store.Access) bool { return a.KeyID == k.ID && a.LoginUser == r.Instance.LoginUser })
	if n < 0 {
		return failf("%s is not recorded to open %s any more", k.Name, r.Instance.Name)
	}
	a := rows[n]
	terms, err := r.Store.Terms(r.ctx, a.ID)
	if err != nil {
		return err
	}
	files, all, err := r.inside()
	if err != nil {
		return err
	}
	d.NewAccess, d.Banner, d.From = a.ID, reach.Banner(files), terms.FromRange
	if len(all) > 0 {
		if d.Skew, err = r.clockOff(files, all[0].name); err != nil {
			return err
		}
	}
	d.Expiry, err = authkeys.Expiry(authkeys.ParseVersion(d.Banner), *in.Until, nil, d.Skew)
	d.Enforced = err == nil
	if err := r.SetData(d); err != nil {
		return err
	}
	if d.Enforced && terms.Enforced {
		ours := func(expiry string) bool { return expiry == d.Expiry || r.isOurs(terms, d, expiry) }
		mine, others := 0, 0
		for _, f := range all {
			m, o := authkeys.ParseDocument(f.data).Ends(k.Blob, ours)
			mine, others = mine+m, others+o
		}
		if mine == 0 {
			return failf("no line of %s on %s bears the end that was given to it here: somebody has changed it, and nothing was changed; \"plumlatch survey %s\" shows what stands there", k.Name, r.Instance.Name, r.Instance.Name)
		}
		if others > 0 {
			if err := r.Say("%s of %s there has no end of ours, and stays as it is", plural(others, "other line"), k.Name); err != nil {
				return err
			}
		}
		err := r.take(&d, taking{key: k, was: in.Was}, "edit", func([]keysFile) error { return nil }, func(_ string, doc *authkeys.Document) error {
			_, err := doc.SetExpiry(k.Blob, ours, d.Expiry)
			return err
		}, nil)
		if err != nil {
			if errors.Is(err, errGuarded) || errors.Is(err, store.ErrLost) {
				return err
			}
			return Failure{Reason: "its line could not be given another end: " + words(err)}
		}
		if err := r.Store.Wrote(r.ctx, r.Instance.ID); err != nil {
			return err
		}
	}
	terms.UntilAt, terms.Enforced, terms.Expiry = in.Until, d.Enforced && terms.Enforced, d.Expiry
	return r.Store.SetTerms(r.ctx, terms)
}

// isOurs tells whether an expiry-time is the end that we wrote. Terms of before
// that was kept tell it by the time itself.
func (r *Run) isOurs(terms store.Terms, d rotated, expiry string) bool {
	if terms.Expiry != "" {
		return expiry == terms.Expiry
	}
	was, err := authkeys.Expiry(authkeys.ParseVersion(d.Banner), *terms.UntilAt, nil, d.Skew)
	return err == nil && expiry == was
}
