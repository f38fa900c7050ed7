package upkeep

import (
	"context"
	"errors"
	"fmt"
	"time"

	"plumlatch/core/journal"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
)

// How often upkeep looks: what waits is taken in within a second.
const (
	chainEvery = 500 * time.Millisecond
	judgeEvery = 300 * time.Millisecond
	restEvery  = 5 * time.Minute
	endsEvery  = 2 * time.Second

	keyListsEvery = 15 * time.Minute // what the cloud's lists of keys hold
)

// upkeepLoop chains the journal, and judges what has changed.
func (w *Service) upkeepLoop(every time.Duration, what string, do func(context.Context) (more bool, err error)) {
	for {
		more, err := do(w.Base())
		if err != nil && w.Base().Err() == nil {
			w.Log.Warn(what+" failed; it is tried again", "error", door.Words(err))
		}
		if more && err == nil {
			continue
		}
		select {
		case <-w.Base().Done():
			return
		case <-time.After(every):
		}
	}
}

// chain takes what was committed into the chain of the journal.
func (w *Service) chain(ctx context.Context) (bool, error) {
	head, err := w.Store.Chain(ctx, w.Heads.Sign)
	if err != nil || head == nil {
		return false, err
	}
	// What was remembered is forgotten for the new head only if the chain still has it: after
	// somebody cut the chain's tail, the next link must not hide that.
	if old, ok := w.Heads.Remembered(); ok {
		if has, err := w.Store.HasLink(ctx, old.N, old.SHA256); err != nil || !has {
			return false, err
		}
	}
	return false, w.Heads.Remember(*head)
}

// judge judges what has changed.
func (w *Service) judge(ctx context.Context) (bool, error) {
	waits, err := w.Store.ToJudge(ctx)
	if err != nil || !waits {
		return false, err
	}
	p, err := w.Policy(ctx)
	if err != nil {
		return false, err
	}
	return w.Store.Judge(ctx, p)
}

// keepEnds withdraws the rules whose end has come and that no work keeps any more.
func (w *Service) keepEnds(ctx context.Context) (bool, error) {
	all, err := w.Store.Unkept(ctx)
	if err != nil {
		return false, err
	}
	for _, a := range all {
		i, each := w.Store.InstanceByID(ctx, a.InstanceID)
		if each == nil {
			each = w.CloudOf(i).Unadmit(ctx, fmt.Sprintf("plumlatch-end-%d-%s", a.ID, a.RuleID), a.GroupID, a.RuleID)
		}
		if each == nil || errors.Is(each, cloud.ErrNotFound) {
			each = w.Store.EndUnkept(ctx, a)
		}
		err = errors.Join(err, each) // one that fails holds up no other
	}
	return false, err
}

// JudgeNow judges everything that has changed so far, so that whoever asks after
// a change is answered with what it came to.
func (w *Service) JudgeNow(ctx context.Context) error {
	for range 20 { // bounded: others may keep changing
		if more, err := w.judge(ctx); err != nil || !more {
			return err
		}
	}
	return nil
}

// JudgeRest judges the journal, and what the clouds have besides.
func (w *Service) JudgeRest(ctx context.Context) error {
	p, err := w.Policy(ctx)
	if err != nil {
		return err
	}
	return w.Store.JudgeRest(ctx, p)
}

// VerifyJournal verifies the chain against the heads in the database and the
// last one that was signed here, and records what came of it.
func (w *Service) VerifyJournal(ctx context.Context, by store.Actor, role store.Role) (wire.JournalCheck, error) {
	now, err := w.Store.Now(ctx)
	if err != nil {
		return wire.JournalCheck{}, err
	}
	v := journal.Verifier{Key: w.Heads.Public(), Now: now}
	if head, ok := w.Heads.Remembered(); ok {
		v.Remembered = append(v.Remembered, head)
	}
	if err := w.Store.ExportJournal(ctx, w.Heads.Public(),
		func(l journal.Line) error { v.Add(l); return ctx.Err() }); err != nil {
		return wire.JournalCheck{}, err
	}
	check := v.Done()
	for n, b := range check.Breaks {
		check.Breaks[n] = plaintext.Line(b)
	}
	if check.OwnerRole, err = w.Store.OwnerRole(ctx); err != nil {
		return check, err
	}
	head := int64(0)
	if check.Head != nil {
		head = check.Head.N
	}
	if err := w.Store.JournalChecked(ctx, by,
		store.JournalCheck{Links: check.Links, Breaks: check.Breaks, HeadN: head, ByService: true,
			Role: role}); err != nil {
		return check, err
	}
	return check, w.JudgeRest(ctx)
}

// discover sets a cloud's list of a region against the ledger's.
func (w *Service) discover(ctx context.Context, of, region string, all []cloud.Instance) error {
	var found []store.Discovered
	for _, in := range all {
		found = append(found, store.Discovered{CloudID: in.ID, Name: plaintext.Line(plaintext.Cut(in.Name, 100)),
			Region: region, State: string(in.State), Address: plaintext.Line(in.Address),
			KeyLabel: plaintext.Line(plaintext.Cut(in.KeyLabel, 100)), Port: in.Port,
			LoginUser: plaintext.Line(plaintext.Cut(in.LoginUser, 100)), Tags: in.Tags,
			StopDestroys: plaintext.Line(plaintext.Cut(in.StopDestroys, 200))})
	}
	return w.Store.Discover(ctx, of, region, found)
}

// Discover asks the cloud for its instances, and says how the ledger's differ.
func (w *Service) Discover(ctx context.Context) (wire.Discovery, error) {
	if err := w.followAll(ctx); err != nil && !errors.Is(err, context.Canceled) {
		return wire.Discovery{}, err
	}
	return w.Discovered(ctx)
}

// Discovered says how the ledger differed from the cloud when it was last asked.
func (w *Service) Discovered(ctx context.Context) (out wire.Discovery, err error) {
	out = wire.Discovery{Unknown: []wire.Discovered{}, Vanished: []wire.Instance{}, Labels: []wire.LabelDiff{},
		At: time.Now().UTC()}
	rows, err := w.Store.Discovered(ctx)
	if err != nil {
		return out, err
	}
	policy, err := w.Policy(ctx)
	if err != nil {
		return out, err
	}
	for _, d := range rows {
		out.Unknown = append(out.Unknown,
			wire.Discovered{Tags: d.Tags, StopDestroys: d.StopDestroys, Never: policy.NeverAdopted(d.Tags), Like: d.Adopted,
				Cloud: d.Cloud, CloudID: d.CloudID, Name: d.Name, Region: d.Region, State: d.State,
				Address: d.Address, Port: d.Port, LoginUser: d.LoginUser, KeyLabel: d.KeyLabel, FirstAt: d.FirstAt.UTC()})
	}
	gone, err := w.Store.Vanished(ctx)
	if err != nil {
		return out, err
	}
	for _, i := range gone {
		out.Vanished = append(out.Vanished,
			wire.Instance{Name: i.Name, Region: i.Region, CloudID: i.CloudID, Cloud: i.Cloud, State: i.State,
				Address: i.Address, LoginUser: i.LoginUser, VanishedAt: i.VanishedAt})
	}
	labels, err := w.Store.LabelDiffs(ctx)
	for _, l := range labels {
		out.Labels = append(out.Labels, wire.LabelDiff(l))
	}
	return out, err
}
