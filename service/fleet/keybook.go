package fleet

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"plumlatch/core/keybook"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/rotation"
	"plumlatch/core/wire"
	"plumlatch/service/accesses"
	"plumlatch/service/door"
	"plumlatch/service/lifecycle"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// A keybook that is settled is one piece of work: what is recorded of keys and holders first, then launches, if they were asked for, and
// then one part an instance, in waves, that makes all of its changes. What is to be done is compared once more when it begins: another
// difference than the one that was reviewed begins nothing.

// askedBook is what a keybook was asked to be settled with.
type askedBook struct {
	Name     string `json:"name"`
	Text     string `json:"text"` // hash of the text that is kept
	Compared string `json:"compared"`
	Version  string `json:"version,omitempty"`
	Withdraw int    `json:"withdraw,omitempty"`
	CutOff   int    `json:"cut_off,omitempty"`
	Launch   bool   `json:"launch,omitempty"`
	First    int    `json:"first,omitempty"`
	Grow     int    `json:"grow,omitempty"`
	AtMost   string `json:"at_most,omitempty"`
}

// bookChange is one change on an instance, as it is kept: keys by their fingerprint, since some are recorded only when the work begins.
type bookChange struct {
	Do          string        `json:"do"`
	Fingerprint string        `json:"fingerprint"`
	Terms       keybook.Terms `json:"terms"`
	Reason      string        `json:"reason,omitempty"`
	CutOff      bool          `json:"cut_off,omitempty"`
	// Was is what the key counted as before the book's own changes of it were recorded.
	Was rotation.Mark `json:"was"`
}

// ReadBook reads the text of a book. The book is nil if something is wrong with it: the report says what.
func ReadBook(t wire.KeybookText, now time.Time) (*keybook.Book, keybook.Report) {
	files := func(name string) ([]byte, error) {
		if text, ok := t.Publics[name]; ok {
			return []byte(text), nil
		}
		return nil, keybook.ErrNoFile
	}
	book, report := keybook.Read(t.Files, files, now)
	if report.Errors() > 0 {
		book = nil
	}
	return book, report
}

// comparesAtOnce bounds the memory of comparisons: each holds what the ledger has.
var comparesAtOnce = make(chan struct{}, 2)

// CompareBook sets a book against the ledger, and changes nothing. by is who would settle it.
func (w *Service) CompareBook(ctx context.Context, by store.Actor, t wire.KeybookText) (wire.KeybookCompared, error) {
	d, report, err := w.compareBook(ctx, by, t)
	out := wire.KeybookCompared{Report: report, Text: t.Hash()}
	if err != nil || report.Errors() > 0 {
		return out, err
	}
	if len(d.Items) > maxShownItems {
		out.Cut = len(d.Items) - maxShownItems
		d.Items = d.Items[:maxShownItems]
	}
	out.Difference = &d
	policy, err := w.Policy(ctx)
	out.Word = policy.WordFor(d.Instances)
	return out, err
}

// maxShownItems are sent of a difference; its counts and its hash are of all.
const maxShownItems = 20_000

func (w *Service) compareBook(ctx context.Context, by store.Actor, t wire.KeybookText) (d keybook.Difference, report keybook.Report, err error) {
	select {
	case comparesAtOnce <- struct{}{}:
	case <-ctx.Done():
		return d, report, ctx.Err()
	}
	defer func() { <-comparesAtOnce }()
	now, err := w.Store.Now(ctx)
	if err != nil {
		return d, report, err
	}
	book, report := ReadBook(t, now)
	if book == nil {
		return d, report, nil
	}
	l, err := w.bookLedger(ctx, by, book.Name)
	if err != nil {
		return d, report, err
	}
	l.Admits = w.admits(ctx)
	return keybook.Compare(book, l), report, nil
}

// bookLedger is what a book is compared with, with what the policy lets an operator do.
func (w *Service) bookLedger(ctx context.Context, by store.Actor, name string) (*keybook.Ledger, error) {
	l, err := w.Store.BookLedger(ctx, name)
	if err != nil {
		return nil, err
	}
	policy, err := w.Policy(ctx)
	if err != nil {
		return nil, err
	}
	l.ShownSince = l.Now.Add(-time.Duration(policy.PrivateHalf))
	l.Refuses = func(i *keybook.LedgerInstance, kind, origin string, t keybook.Terms, reason string) string {
		if who, tag := policy.MayShare(i.Tags); who != nil && !slices.ContainsFunc(who, func(n string) bool { return names.Fold(n) == names.Fold(by.Operator) }) {
			return fmt.Sprintf("the policy lets only %s share access to it, as it has the tag %s (access.who)", strings.Join(who, ", "), tag)
		}
		longest := time.Duration(policy.Access.Longest)
		switch {
		case policy.Access.Reason && strings.TrimSpace(reason) == "":
			return "the policy asks for a reason (access.reason)"
		case longest > 0 && t.Until.IsZero():
			return fmt.Sprintf("the policy shares access for at most %s (access.longest): give an end", door.SpanWords(longest))
		case longest > 0 && t.Until.Sub(l.Now) > longest:
			return fmt.Sprintf("the policy shares access for at most %s (access.longest)", door.SpanWords(longest))
		case !t.Until.IsZero() && t.Until.Sub(l.Now) > door.LongestGrace:
			return "an end is at most a year away"
		case kind != "" && !policy.Places(kind):
			return "the policy does not put keys of the kind " + kind + " on instances (keys.kinds)"
		case origin != "" && !policy.PlacesFrom(origin):
			return "the policy does not put keys on instances that were " + origin + " (keys.origins)"
		}
		return ""
	}
	types := map[string][]string{} // by region and image, as the clouds' catalogues have it
	for n := range l.Instances {
		region := l.Instances[n].Region
		if _, asked := types[region]; asked {
			continue
		}
		types[region] = nil
		images, err := w.ImagesOf(ctx, region)
		if err != nil {
			continue // it is not known; the server will say
		}
		for _, m := range images {
			types[region+" "+m.Name] = m.KeyTypes
		}
	}
	l.Takes = func(region, image, keyType string) bool {
		all := types[region+" "+image]
		return len(all) == 0 || slices.Contains(all, keyType)
	}
	return l, nil
}

// mostAsked is about how many instances' inbound rules the cloud is asked in one comparison.
const mostAsked = 200

// admits asks the cloud for the inbound rules of instances, once for each.
func (w *Service) admits(ctx context.Context) func(i *keybook.LedgerInstance, from, ports string) (admitted, known bool) {
	type answer struct {
		rules []wire.Rule
		known bool
	}
	asked := map[int64]answer{}
	return func(i *keybook.LedgerInstance, from, ports string) (admitted, known bool) {
		a, had := asked[i.ID]
		if !had && len(asked) < mostAsked {
			if at, err := w.Store.InstanceByID(ctx, i.ID); err == nil {
				if r, err := w.Network.Rules(ctx, at); err == nil {
					a.known = true
					for _, g := range r.Groups {
						a.rules = append(a.rules, g.Rules...)
					}
				}
			}
			asked[i.ID] = a
		}
		want, err := netip.ParsePrefix(from)
		if err != nil || !a.known {
			return false, false
		}
		for _, r := range a.rules {
			has, err := netip.ParsePrefix(r.From)
			if err == nil && cmp.Or(r.Ports, "22") == ports && has.Bits() <= want.Bits() && has.Contains(want.Addr()) {
				return true, true
			}
		}
		return false, true
	}
}

// bookCloud begins what the cloud is asked for: keys in its lists, and inbound rules. Each is work of its own, which looks first.
func (r *fleetJob) bookCloud() error {
	_, items, err := r.reviewed(keybook.ListAdd, keybook.RuleAdd)
	if err != nil {
		return err
	}
	by := store.Actor{Operator: r.Work.Operator, Address: r.Work.Address}
	for _, i := range items {
		var begun store.Work
		var err error
		set := map[string]string{}
		for _, s := range i.Set {
			word, value, _ := strings.Cut(s, "=")
			set[word] = value
		}
		switch i.Do {
		case keybook.ListAdd:
			begun, err = r.svc.KeyLists.List(r.Ctx, by, store.Once{}, wire.ListKey{Key: i.Key, Name: set["name"], Regions: []string{set["region"]}})
		case keybook.RuleAdd:
			var at store.Instance
			if at, err = r.Store.InstanceByID(r.Ctx, i.InstanceID); err == nil {
				ports := set["ports"]
				if ports == "22" {
					ports = ""
				}
				begun, err = r.svc.Network.Admit(r.Ctx, by, store.Once{}, at, wire.Admit{From: []string{set["from"]}, Ports: ports, Reason: "the keybook " + r.In.Book.Name})
			}
		}
		if errors.Is(err, store.ErrInProgress) {
			return r.Wait(wire.WaitsOther, "other work at hand on "+i.Instance, time.Second, time.Hour)
		}
		if _, foreign := errors.AsType[door.FieldError](err); foreign || errors.Is(err, store.ErrNotFound) {
			if err := r.Say("%s: %s", i.Sentence, door.Words(err)); err != nil {
				return err
			}
			continue
		}
		if err != nil {
			return err
		}
		if err := r.follow(begun); err != nil { // one at a time: the next comparison sees what this one did
			return err
		}
	}
	return nil
}

// follow waits for a piece of work that this one has begun, for a while: it goes on by itself.
func (r *fleetJob) follow(w store.Work) error {
	for deadline := time.Now().Add(time.Minute); time.Now().Before(deadline); {
		now, err := r.Store.WorkByID(r.Ctx, w.ID)
		if err != nil || now.Over() {
			return err
		}
		if err := r.Stopping(); err != nil {
			return err
		}
		r.Sleep(door.Poll)
	}
	return nil
}

// WriteBook writes the text of what is there.
func (w *Service) WriteBook(ctx context.Context, name string, to keybook.Selector) (string, error) {
	l, err := w.Store.BookLedger(ctx, name)
	if err != nil {
		return "", err
	}
	return keybook.Write(name, l, to)
}

// UpdateBook brings one file of a book up to date with what is there. FieldError.
func (w *Service) UpdateBook(ctx context.Context, t wire.KeybookText, to keybook.Selector) (string, error) {
	if len(t.Files) != 1 {
		return "", door.FieldError{Field: "into", Problem: "one file at a time is brought up to date"}
	}
	if to.Empty() {
		to.All = true
	}
	l, err := w.Store.BookLedger(ctx, "")
	if err != nil {
		return "", err
	}
	text, err := keybook.Update(t.Files[0], func(name string) ([]byte, error) {
		if text, ok := t.Publics[name]; ok {
			return []byte(text), nil
		}
		return nil, keybook.ErrNoFile
	}, l, to)
	if errors.Is(err, keybook.ErrUpdate) {
		return "", door.FieldError{Field: "into", Problem: err.Error()}
	}
	return text, err
}

// bookLimits refuses what a book would do beyond what was counted out. FieldError.
func bookLimits(d keybook.Difference, in askedBook) error {
	wrong := func(field, format string, a ...any) error {
		return door.FieldError{Field: field, Problem: fmt.Sprintf(format, a...)}
	}
	if d.Hash != in.Compared {
		return wrong("compared", "the difference is another one than the one that was reviewed (%.12s, and not %.12s): compare the book again", d.Hash, in.Compared)
	}
	for _, i := range d.Items {
		if i.Do == keybook.Cannot && i.Why == keybook.WhyOverlap {
			return wrong("files", "%s", i.Sentence)
		}
	}
	if n := d.Counts[keybook.Withdraw]; n > d.Limit && n != in.Withdraw {
		return wrong("withdraw", "it would withdraw %s, which is more than %d: give that number to do it all the same (-withdraw %d)", door.Plural(n, "access"), d.Limit, n)
	}
	if d.CutOffs != in.CutOff {
		return wrong("cut_off", "nobody would get into %s any more, and %d was counted out: give that number to do it all the same (-cut-off %d)",
			door.Plural(d.CutOffs, "instance"), in.CutOff, d.CutOffs)
	}
	return nil
}

// SettleBook begins to settle a book. FieldError, store.ErrReused.
func (w *Service) SettleBook(ctx context.Context, by store.Actor, once store.Once, r wire.KeybookSettle) (store.Work, error) {
	if done, again, err := w.WorkDone(ctx, once); again || err != nil {
		return done, err
	}
	if plaintext.HasControl(r.Version) || len(r.Version) > 100 {
		return store.Work{}, door.FieldError{Field: "version", Problem: "a version is at most 100 printable characters"}
	}
	if r.First < 0 || r.Grow < 0 || r.First > maxFleet || r.Grow > maxFleet || r.StopAfter < 0 {
		return store.Work{}, door.FieldError{Field: "first", Problem: fmt.Sprintf("the sizes of waves are from 1 to %d", maxFleet)}
	}
	d, report, err := w.compareBook(ctx, by, r.KeybookText)
	if err != nil {
		return store.Work{}, err
	}
	for _, f := range report.Findings {
		if f.Severity == keybook.Error {
			return store.Work{}, door.FieldError{Field: "files", Problem: f.String()}
		}
	}
	in := askedBook{Name: d.Book, Text: r.KeybookText.Hash(), Compared: r.Compared, Version: r.Version, Withdraw: r.Withdraw, CutOff: r.CutOff, Launch: r.Launch,
		First: r.First, Grow: r.Grow, AtMost: r.AtMost}
	if err := bookLimits(d, in); err != nil {
		return store.Work{}, err
	}
	if _, err := bookMembers(d, in); err != nil {
		return store.Work{}, err
	}
	at, active, err := w.bookAtHand(ctx, d.Book, 0)
	if err != nil {
		return store.Work{}, err
	}
	if active {
		return store.Work{}, door.FieldError{Field: "files", Problem: fmt.Sprintf("work %d settles the book %s now: wait for it (plumlatch work follow %d)", at.ID, d.Book, at.ID)}
	}
	if err := w.Store.KeepBookText(ctx, in.Text, r.Files, r.Publics); err != nil {
		return store.Work{}, err
	}
	what := fmt.Sprintf("settle the keybook %s: %s", d.Book, bookWords(d))
	n := w.Begun(w.Named("keybook-settle"), what, door.Token(26), store.Instance{}, fmt.Sprintf("%s (text %.12s%s)", what, in.Text, versionWords(in.Version)),
		fleet{askedFleet: askedFleet{StopAfter: r.StopAfter}, Book: &in})
	n.Target, n.Subject = "keybook "+d.Book, store.BookSubject(d.Book)
	return w.BeginOf(ctx, by, once, store.Instance{}, n)
}

func versionWords(v string) string {
	if v == "" {
		return ""
	}
	return ", version " + v
}

// bookWords are the counts of a difference in a sentence.
func bookWords(d keybook.Difference) string {
	var out []string
	for _, do := range keybook.Dos {
		if n := d.Counts[do]; n > 0 && !keybook.Told(do) {
			out = append(out, fmt.Sprintf("%d %s", n, do))
		}
	}
	if out == nil {
		return "nothing to do"
	}
	return strings.Join(out, ", ")
}

// accessChange is what is done to an access, by the sort of item.
var accessChange = map[string]string{keybook.Add: accesses.DoAdd, keybook.Change: accesses.DoTerms, keybook.Withdraw: accesses.DoWithdraw}

// reviewed compares the book once more, and returns what was reviewed of that and is still to be done. What differs since then was seen by nobody: the next
// comparison tells it.
func (r *fleetJob) reviewed(sorts ...string) (*keybook.Book, []keybook.Item, error) {
	t, err := r.bookText()
	if err != nil {
		return nil, nil, err
	}
	now, err := r.Store.Now(r.Ctx)
	if err != nil {
		return nil, nil, err
	}
	book, report := ReadBook(t, now)
	if book == nil {
		return nil, nil, door.Failf("the book cannot be read any more: %s", report.Findings[0].String())
	}
	kept, err := r.Store.BookOf(r.Ctx, r.Work.ID)
	if err != nil {
		return nil, nil, err
	}
	var sums []string
	if err := json.Unmarshal([]byte(kept.Reviewed), &sums); err != nil {
		return nil, nil, err
	}
	seen := map[string]bool{}
	for _, s := range sums {
		seen[s] = true
	}
	d, _, err := r.svc.compareBook(r.Ctx, store.Actor{Operator: r.Work.Operator, Address: r.Work.Address}, t)
	if err != nil {
		return nil, nil, err
	}
	return book, slices.DeleteFunc(d.Items, func(i keybook.Item) bool { return !seen[i.Sum] || !slices.Contains(sorts, i.Do) }), nil
}

// bookMembers are the instances on which something is to be done, in their waves. FieldError.
func bookMembers(d keybook.Difference, in askedBook) ([]store.BookMember, error) {
	changes, away := map[int64][]bookChange{}, map[int64]bool{}
	var order []int64
	for _, i := range d.Items {
		do := accessChange[i.Do]
		if do == "" {
			continue
		}
		if changes[i.InstanceID] == nil {
			order = append(order, i.InstanceID)
		}
		away[i.InstanceID] = i.Away
		changes[i.InstanceID] = append(changes[i.InstanceID], bookChange{Do: do, Fingerprint: i.Fingerprint, Terms: i.Terms, Reason: i.Reason, CutOff: i.CutOff,
			Was: rotation.Mark{Holder: i.WasHolder, State: i.WasState}})
	}
	if len(order) > maxFleet {
		return nil, door.FieldError{Field: "files", Problem: fmt.Sprintf("more than %d instances at once: settle a book for fewer", maxFleet)}
	}
	// What can be reached comes first: the first wave has to show something.
	slices.SortStableFunc(order, func(a, b int64) int {
		n := func(id int64) int {
			if away[id] {
				return 1
			}
			return 0
		}
		return cmp.Compare(n(a), n(b))
	})
	pace := rotation.Pace{First: cmp.Or(in.First, 1), Grow: cmp.Or(in.Grow, 4), AtMost: rotation.Share{Percent: 100}}
	var err error
	if in.AtMost != "" {
		if pace.AtMost, err = rotation.ParseShare(in.AtMost); err != nil {
			return nil, door.FieldError{Field: "at_most", Problem: err.Error()}
		}
	}
	sizes, err := rotation.Waves(len(order), pace)
	if err != nil {
		return nil, door.FieldError{Field: "first", Problem: err.Error()}
	}
	var out []store.BookMember
	for wave, size := range sizes {
		for range size {
			id := order[len(out)]
			text, err := json.Marshal(changes[id])
			if err != nil {
				return nil, err
			}
			out = append(out, store.BookMember{InstanceID: id, Wave: wave + 1, Changes: text})
		}
	}
	return out, nil
}

// bookKind is the work of a book.
func (w *Service) bookKind() *door.Kind {
	s := w.fleetSteps()
	k := w.manyKind("keybook-settle", "keybook.settle", "settled", []work.Step{
		{Name: "choose", Title: "comparing it once more", Do: s.Do((*fleetJob).bookChoose)},
		{Name: "word", Title: "waiting for the word that the policy asks for", Do: s.Do(func(r *fleetJob) error { return r.AwaitWord() })},
		{Name: "ledger", Title: "recording keys, holders and what works means", Do: s.Do((*fleetJob).bookLedgerStep)},
		{Name: "cloud", Title: "asking the cloud for lists of keys and inbound rules", Do: s.Do((*fleetJob).bookCloud)},
		{Name: "launch", Title: "launching what does not exist", Do: s.Do((*fleetJob).bookLaunch),
			Skip: s.Skip(func(r *fleetJob) bool { return !r.In.Book.Launch })},
		{Name: "waves", Title: "settling instances in waves", Do: s.Do((*fleetJob).fleetWaves), Undo: s.Do((*fleetJob).fleetBack)},
		{Name: "rest", Title: "waiting for what is out of reach", Do: s.Do((*fleetJob).bookRest)},
	})
	end := k.End
	k.End = func(r *work.Run, state store.WorkState) (store.WorkEnd, error) {
		out, err := end(r, state)
		if err != nil {
			return out, err
		}
		if members, err := w.Store.Members(r.Context(), r.Work.ID); err != nil {
			return out, err
		} else if len(members) == 0 {
			out.Outcome = map[bool]string{true: "recorded; no instance was edited", false: "nothing was edited on any instance"}[state == store.Done]
		}
		kept, err := w.Store.BookKept(r.Context(), r.Work.ID, 20)
		out.Outcome = door.OutcomeOf(out.Outcome, kept...)
		return out, err
	}
	return k
}

// bookText is the text that is settled.
func (r *fleetJob) bookText() (t wire.KeybookText, err error) {
	t.Files, t.Publics, err = r.Store.BookText(r.Ctx, r.In.Book.Text)
	if errors.Is(err, store.ErrNotFound) {
		err = door.Failf("the text of the book is not there any more: settle it again")
	}
	return t, err
}

// bookAtHand finds the work that settles a book of this name besides, begun before a piece of work (0: any). active tells that it is at its
// instances, and does not only wait for some that are out of reach.
func (w *Service) bookAtHand(ctx context.Context, name string, before int64) (at store.Work, active bool, err error) {
	ids, err := w.Store.OpenBooks(ctx, name, before)
	for _, id := range ids {
		if at, err = w.Store.WorkByID(ctx, id); err != nil {
			return at, false, err
		}
		waves, err := w.Store.Waves(ctx, id)
		if err != nil {
			return at, false, err
		}
		waits := at.At == "rest" && !at.Back && !slices.ContainsFunc(waves, func(v store.WaveCount) bool { return v.ToDo+v.Going > 0 })
		if !waits {
			return at, true, nil
		}
	}
	return at, false, err
}

// takePlace has what settled the same book before give up the instances that are out of reach: the newer text takes its place.
func (r *fleetJob) takePlace() error {
	at, active, err := r.svc.bookAtHand(r.Ctx, r.In.Book.Name, r.Work.ID)
	if err != nil || at.ID == 0 {
		return err
	}
	over, err := r.WaitOver()
	if err != nil {
		return err
	}
	if over {
		return door.Failf("work %d, which settles the same book, does not come to its end: nothing was begun", at.ID)
	}
	if !active && !at.CancelAsked {
		if err := r.Say("work %d, which settled the book before, gives up what is out of reach", at.ID); err != nil {
			return err
		}
		err := r.Cancel(r.Ctx, store.Actor{Operator: r.Work.Operator, Address: r.Work.Address}, at)
		if _, late := errors.AsType[door.FieldError](err); err != nil && !late && !errors.Is(err, store.ErrWorkState) {
			return err
		}
	}
	return r.Wait(wire.WaitsOther, fmt.Sprintf("work %d, which settles the same book, to end", at.ID), time.Second, time.Hour)
}

func (r *fleetJob) bookChoose() error {
	if err := r.takePlace(); err != nil {
		return err
	}
	t, err := r.bookText()
	if err != nil {
		return err
	}
	by := store.Actor{Operator: r.Work.Operator, Address: r.Work.Address}
	d, report, err := r.svc.compareBook(r.Ctx, by, t)
	if err != nil {
		return err
	}
	if report.Errors() > 0 {
		return door.Failf("the book cannot be read any more: %s", report.Findings[0].String())
	}
	members, err := bookMembers(d, *r.In.Book)
	if err == nil {
		err = bookLimits(d, *r.In.Book)
	}
	if _, chosen := errors.AsType[door.FieldError](err); chosen {
		// What goes on at an instance hides what is to be done there: it is over soon, and then the difference may be the reviewed one again.
		at := slices.IndexFunc(d.Items, func(i keybook.Item) bool { return i.Do == keybook.Cannot && i.Why == keybook.WhyNotReady })
		if over, e := r.WaitOver(); at >= 0 && d.Hash != r.In.Book.Compared && e == nil && !over {
			return r.Wait(wire.WaitsOther, "what goes on at "+d.Items[at].Instance, time.Second, 10*time.Minute)
		}
		if kept, e := r.Store.BookOf(r.Ctx, r.Work.ID); e == nil && kept.Difference == r.In.Book.Compared {
			return nil // it was chosen before, and the step is begun again
		}
		return door.Failure{Reason: door.Words(err) + "; nothing was begun"}
	}
	if err != nil {
		return err
	}
	if err := r.Store.ChooseBookMembers(r.Ctx, r.Work.ID, members); err != nil {
		return err
	}
	now, err := r.Store.Now(r.Ctx)
	if err != nil {
		return err
	}
	book, _ := ReadBook(t, now)
	counts, err := json.Marshal(d.Counts)
	if err != nil {
		return err
	}
	kept := store.KeptBook{WorkID: r.Work.ID, Name: book.Name, Hash: r.In.Book.Text, Version: r.In.Book.Version, Difference: d.Hash, Counts: string(counts),
		Operator: r.Work.Operator}
	sums := []string{}
	for _, i := range d.Items {
		if accessChange[i.Do] == "" && i.Sum != "" { // what is done to accesses is kept with each instance
			sums = append(sums, i.Sum)
		}
	}
	reviewed, err := json.Marshal(sums)
	if err != nil {
		return err
	}
	kept.Reviewed = string(reviewed)
	if c := book.Complete; c != nil {
		text, err := json.Marshal(store.BookScope{At: c.At, To: c.To})
		if err != nil {
			return err
		}
		s := string(text)
		kept.Complete = &s
	}
	return r.Store.KeepBook(r.Ctx, kept, d.ScopeIDs)
}

// bookLedgerStep records what the book says of keys and holders, each look first: what is so already is left as it is.
func (r *fleetJob) bookLedgerStep() error {
	sorts := []string{keybook.HolderAdd, keybook.HolderSet, keybook.KeyAdd, keybook.KeySet, keybook.TakeOver, keybook.CheckSet}
	book, items, err := r.reviewed(sorts...)
	if err != nil {
		return err
	}
	by := store.Actor{Operator: r.Work.Operator, Address: r.Work.Address}
	said := 0
	for _, sort := range sorts {
		for _, i := range items {
			if i.Do != sort && (i.Do != keybook.HolderAdd || sort != keybook.HolderSet) {
				continue
			}
			if i.Do == keybook.HolderAdd && sort == keybook.HolderSet { // who is in a team, once all are there
				i.Do = keybook.HolderSet
			}
			if err := r.Stopping(); err != nil {
				return err
			}
			if err := r.svc.bookRecord(r.Ctx, by, book, i); err != nil {
				if r.Ctx.Err() != nil {
					return err
				}
				if _, foreign := errors.AsType[door.FieldError](err); foreign || errors.Is(err, store.ErrNameTaken) || errors.Is(err, store.ErrHolder) ||
					errors.Is(err, store.ErrKeyKnown) || errors.Is(err, store.ErrNotFound) {
					if err := r.Say("%s: %s", i.Sentence, door.Words(err)); err != nil {
						return err
					}
					continue
				}
				return err
			}
			said++
		}
	}
	if said == 0 {
		return nil
	}
	return r.Say("%s recorded", door.Plural(said, "change")+" of keys, holders and accesses")
}

// bookRecord records one thing. FieldError, or one of the store's errors.
func (w *Service) bookRecord(ctx context.Context, by store.Actor, b *keybook.Book, i keybook.Item) error {
	split := func(s string) (word, value string) {
		word, value, _ = strings.Cut(s, "=")
		return word, value
	}
	switch i.Do {
	case keybook.HolderAdd:
		h := b.Holders[i.N()]
		return w.Store.AddHolder(ctx, by, h.Name.Text, h.Sort)
	case keybook.HolderSet:
		return w.bookMembersOf(ctx, by, i)
	case keybook.KeyAdd:
		k := b.Keys[i.N()]
		n := store.NewKey{Name: k.Name.Text, Origin: cmp.Or(k.Origin, store.Imported), Holder: k.Holder.Text, Public: k.Public, Authority: k.Authority}
		if k.Note != nil {
			n.Note = *k.Note
		}
		if k.Make != nil {
			n.Origin = store.MadeHere
		}
		made, err := w.Store.AddKey(ctx, by, n)
		if err != nil || k.State != "retired" {
			return err
		}
		return w.Store.RetireKey(ctx, by, made, true)
	case keybook.KeySet:
		k, err := w.Store.KeyByID(ctx, i.KeyID)
		if err != nil {
			return err
		}
		var c store.KeyChange
		for _, s := range i.Set {
			switch word, value := split(s); word {
			case "name":
				c.Name = &value
			case "holder":
				c.Holder = &value
			case "note":
				c.Note = &value
			case "origin":
				c.Origin = &value
			case "state":
				if err := w.Store.RetireKey(ctx, by, k, value == "retired"); err != nil {
					return err
				}
			}
		}
		if c == (store.KeyChange{}) {
			return nil
		}
		_, err = w.Store.ChangeKey(ctx, by, k.Name, c)
		return err
	case keybook.TakeOver:
		at, err := w.Store.InstanceByID(ctx, i.InstanceID)
		if err != nil {
			return err
		}
		found, err := w.Unwritten(ctx, at, i.Fingerprint, i.User)
		if err != nil {
			return err
		}
		_, err = w.Store.TakeOver(ctx, by, at, found, i.Key)
		return err
	case keybook.CheckSet:
		at, err := w.Store.InstanceByID(ctx, i.InstanceID)
		if err != nil {
			return err
		}
		return w.BookChecks(ctx, by, at, i.Set)
	}
	return nil
}

// bookMembersOf puts holders into a team, and takes them out.
func (w *Service) bookMembersOf(ctx context.Context, by store.Actor, i keybook.Item) error {
	for _, s := range i.Set {
		word, who, _ := strings.Cut(s, "=")
		team := i.Holder
		var err error
		switch word {
		case "join":
			err = w.Store.ChangeHolder(ctx, by, who, &team, nil)
		case "leave":
			err = w.Store.ChangeHolder(ctx, by, who, nil, &team)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// bookLaunch launches the instances that the book wants and nobody has, and waits for them.
func (r *fleetJob) bookLaunch() error {
	book, items, err := r.reviewed(keybook.Launch)
	if err != nil {
		return err
	}
	by := store.Actor{Operator: r.Work.Operator, Address: r.Work.Address}
	for _, i := range items {
		if err := r.Stopping(); err != nil {
			return err
		}
		want := book.Instances[i.N()]
		n, _, err := r.svc.Lifecycle.Launch(r.Ctx, by, store.Once{}, lifecycle.LaunchRequest{Name: want.Name.Text, Region: want.Region, Zone: want.Zone, Image: want.Image,
			Size: want.Size, DiskGB: want.DiskGB, Keys: i.Set, Tags: want.Tags, Static: want.Address})
		if _, foreign := errors.AsType[door.FieldError](err); foreign || errors.Is(err, store.ErrNameTaken) {
			if err := r.Say("%s: %s", i.Sentence, door.Words(err)); err != nil {
				return err
			}
			continue
		}
		if err != nil {
			return err
		}
		if err := r.Say("%s is launched", n.Name); err != nil {
			return err
		}
		r.Look()
	}
	// Those that are under way: their launch is work of its own, and goes on whatever becomes of this.
	open := 0
	for _, i := range book.Instances {
		at, err := r.Store.InstanceByName(r.Ctx, i.Name.Text)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return err
		}
		if at.Phase == store.Launching {
			open++
		}
	}
	if open == 0 {
		return nil
	}
	over, err := r.WaitOver()
	if err != nil || over {
		return err
	}
	return r.Wait(wire.WaitsParts, door.Plural(open, "launch")+" to end", time.Second, time.Hour)
}

// bookPart makes the part of one instance. FieldError.
func (r *fleetJob) bookPart(m store.Member, i store.Instance, by store.Actor) (store.NewWork, error) {
	text, err := r.Store.BookChanges(r.Ctx, r.Work.ID, m.N)
	if err != nil {
		return store.NewWork{}, err
	}
	var all []bookChange
	if err := json.Unmarshal([]byte(text), &all); err != nil {
		return store.NewWork{}, err
	}
	if err := r.svc.EditableInstance(r.Ctx, i); err != nil {
		return store.NewWork{}, err
	}
	in := accesses.Several{Back: backLimit}
	for _, c := range all {
		k, err := r.Store.KeyByFingerprint(r.Ctx, c.Fingerprint)
		var blob []byte
		if errors.Is(err, store.ErrNotFound) && c.Do == accesses.DoWithdraw {
			k, err = store.Key{Name: c.Fingerprint, Fingerprint: c.Fingerprint}, nil
		}
		if errors.Is(err, store.ErrNotFound) {
			return store.NewWork{}, door.FieldError{Field: "key", Problem: fmt.Sprintf("the key %s is not recorded", c.Fingerprint)}
		}
		if err != nil {
			return store.NewWork{}, err
		}
		terms := store.Terms{FromRange: c.Terms.From, Command: c.Terms.Only, Reason: c.Reason}
		if !c.Terms.Until.IsZero() {
			until := c.Terms.Until
			terms.UntilAt = &until
		}
		switch c.Do {
		case accesses.DoAdd:
			if err := r.svc.MayShare(r.Ctx, by, i); err != nil {
				return store.NewWork{}, err
			}
			if err := r.svc.Placeable(r.Ctx, i, k); err != nil {
				return store.NewWork{}, err
			}
			in.Changes = append(in.Changes, accesses.AddChange(k, terms))
		case accesses.DoTerms:
			in.Changes = append(in.Changes, accesses.TermsChange(k, terms).Counted(c.Was))
		case accesses.DoWithdraw:
			if blob, err = r.unrecordedBlob(i, k, c.Fingerprint); err != nil {
				return store.NewWork{}, err
			}
			change := accesses.WithdrawChange(k, blob, c.CutOff)
			if blob == nil { // of a key that nobody recorded there the guard asks what it is
				change = change.Counted(c.Was)
			}
			in.Changes = append(in.Changes, change)
		}
	}
	return r.svc.PlanSeveral(i, in, r.Work.ID), nil
}

// unrecordedBlob is the public half of a key that stands on an instance and that nobody recorded there; nil for one that is an access.
func (r *fleetJob) unrecordedBlob(i store.Instance, k store.Key, fingerprint string) ([]byte, error) {
	rows, err := r.Store.AccessesOf(r.Ctx, i.ID)
	if err != nil {
		return nil, err
	}
	if k.ID != 0 && slices.ContainsFunc(rows, func(a store.Access) bool { return a.KeyID == k.ID && a.LoginUser == i.LoginUser }) {
		return nil, nil
	}
	seen, err := r.Store.SightingsOf(r.Ctx, i.ID)
	if err != nil {
		return nil, err
	}
	for _, s := range seen {
		if s.GoneAt == nil && s.LoginUser == i.LoginUser && s.Fingerprint == fingerprint {
			if _, err := keypair.FromBlob(s.Blob, ""); err != nil {
				return nil, door.FieldError{Field: "key", Problem: "what a survey saw of it is no key"}
			}
			return s.Blob, nil
		}
	}
	return nil, door.FieldError{Field: "key", Problem: fmt.Sprintf("%s is neither recorded on %s nor seen there any more", fingerprint, i.Name)}
}

// bookRest waits until every part is over, and has the ends kept that were given.
func (r *fleetJob) bookRest() error {
	if err := r.fleetRest(); err != nil {
		return err
	}
	by := store.Actor{Operator: r.Work.Operator, Address: r.Work.Address}
	for {
		ends, err := r.Store.EndsToKeep(r.Ctx, r.Work.ID)
		if err != nil || len(ends) == 0 {
			return err
		}
		for _, e := range ends {
			if err := r.Stopping(); err != nil {
				return err
			}
			i, err := r.Store.InstanceAlone(r.Ctx, e.InstanceID)
			if err != nil {
				return err
			}
			a, err := r.Store.AccessByID(r.Ctx, e.AccessID)
			if errors.Is(err, store.ErrNotFound) {
				continue
			}
			if err != nil {
				return err
			}
			n := r.svc.EndOf(i, a, e.UntilAt, e.FromRange, e.PartID)
			begun, err := r.Store.WorkByToken(r.Ctx, n.Token) // begun before, and this was killed
			if errors.Is(err, store.ErrNotFound) {
				begun, err = r.svc.BeginOf(r.Ctx, by, store.Once{}, i, n)
			}
			if errors.Is(err, store.ErrInProgress) {
				return r.Wait(wire.WaitsOther, "other work at hand on "+i.Name, time.Second, time.Hour)
			}
			if err != nil {
				return err
			}
			// Its first step says so too; until then nobody begins a second one.
			if err := r.Store.EndKeptBy(r.Ctx, e.AccessID, begun.ID); err != nil {
				return err
			}
		}
	}
}
