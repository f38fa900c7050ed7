package work

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/authkeys"
	"plumlatch/core/rotation"
	"plumlatch/service/reach"
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
				return Failure{words(err)}
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
	return r.Store.SetTerms(r.ctx, store.Terms{AccessID: d.NewAccess, UntilAt: in.Until, FromRange: in.From, Command: in.Only, Reason: in.Reason, Enforced: d.Enforced, Operator: r.Work.Operator, WorkID: r.Work.ID})
}

// shareAddBack takes our line out again.
func (r *Run) shareAddBack() error {
	_, d, err := r.sharing()
	if err != nil || d.File == "" {
		return err
	}
	if r.instanceGone() {
		return r.dropNew(d)
	}
	files, all, err := r.inside()
	if err != nil {
		return err
	}
	if err := r.takeLineOut(d, files, all); err != nil {
		return err
	}
	if err := r.dropNew(d); err != nil {
		return err
	}
	_, err = r.askServer(&d, d.Others...)
	return err
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
	return r.Wait(fmt.Sprintf("the end of the access, %s; then %s is withdrawn", terms.UntilAt.UTC().Format("2006-01-02 15:04 UTC"), in.Key), left+time.Second, longestGrace)
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
	return r.takeInTheEnd(&d, k, func(files reach.Files) ([]keysFile, error) { return r.mayTakeAlone(in, &d, files) })
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

// guarded is the failure of what rule 1 keeps from being taken.
type guarded struct{ Failure }

// errGuarded is what errors.Is finds it by.
var errGuarded = errors.New("rule 1")

func (guarded) Is(target error) bool { return target == errGuarded }

func (g guarded) Unwrap() error { return g.Failure }

// mayTakeAlone checks rule 1 before a key is taken with no other in its place.
func (r *Run) mayTakeAlone(in sharing, d *rotated, files reach.Files) ([]keysFile, error) {
	all, err := readFiles(files, r.Instance)
	if err != nil {
		return nil, err
	}
	openers, err := r.openers(rotating{}, *d, all)
	if err != nil {
		return nil, err
	}
	p, err := r.Policy(r.ctx)
	if err != nil {
		return nil, err
	}
	now, err := r.Store.Now(r.ctx)
	if err != nil {
		return nil, err
	}
	if err := rotation.MayTake([]string{in.Key}, openers, d.Session, now.Add(-time.Duration(p.PrivateHalf))); err != nil && in.CutOff == 0 {
		return nil, guarded{Failure{words(err)}}
	}
	return all, nil
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
	return r.takeOld(&d, k, true, func(files reach.Files) ([]keysFile, error) { return r.mayTakeAlone(in, &d, files) })
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
	return r.putBack(d, k)
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

// extendEdit replaces the end in the key's lines by the new one.
func (r *Run) extendEdit() error {
	in, d, err := r.sharing()
	if err != nil {
		return err
	}
	if r.instanceGone() {
		return failf("the instance is gone")
	}
	a, err := r.accessOfKey(r.ctx, r.Instance, in.Key)
	if err != nil {
		return Failure{words(err)}
	}
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
	if d.Expiry, err = authkeys.Expiry(authkeys.ParseVersion(d.Banner), *in.Until, nil, d.Skew); err == nil {
		d.Enforced = true
	}
	if err := r.SetData(d); err != nil {
		return err
	}
	now, err := r.Store.Now(r.ctx)
	if err != nil {
		return err
	}
	if d.Enforced {
		err = r.Effect("edit", func(ctx context.Context) error {
			for _, f := range all {
				if len(authkeys.ParseDocument(f.data).Lines(a.Blob)) == 0 {
					continue
				}
				if _, err := reach.Edit(ctx, files, f.name, reach.EditOptions{Now: now}, func(doc *authkeys.Document) error {
					_, err := doc.SetExpiry(a.Blob, d.Expiry)
					return err
				}); err != nil {
					return Failure{"its line could not be given another end: " + words(err)}
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
		if err := r.Store.Wrote(r.ctx, r.Instance.ID); err != nil {
			return err
		}
	}
	terms.UntilAt, terms.Enforced = in.Until, d.Enforced
	return r.Store.SetTerms(r.ctx, terms)
}
