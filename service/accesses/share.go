package accesses

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/rotation"
	"plumlatch/core/times"
	"plumlatch/core/wire"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// Networks reads addresses and networks, and writes each in its usual form. FieldError.
func Networks(field string, all []string) ([]string, error) {
	if len(all) > 20 {
		return nil, door.FieldError{Field: field, Problem: "at most 20 networks"}
	}
	var out []string
	for _, f := range all {
		p, err := netip.ParsePrefix(f)
		if a, e := netip.ParseAddr(f); e == nil && a.Zone() == "" {
			p, err = netip.PrefixFrom(a, a.BitLen()), nil
		}
		if err != nil || p != p.Masked() {
			return nil, door.FieldError{Field: field,
				Problem: "give addresses, or networks without host bits such as 192.0.2.0/24"}
		}
		out = append(out, p.String())
	}
	return out, nil
}

// MayShare checks that an operator may share access to an instance. FieldError.
func (w *Service) MayShare(ctx context.Context, by store.Actor, i store.Instance) error {
	policy, err := w.Policy(ctx)
	if err != nil {
		return err
	}
	who, tag := policy.MayShare(i.Tags)
	if who != nil && !slices.ContainsFunc(who,
		func(n string) bool { return names.Fold(n) == names.Fold(by.Operator) }) {
		return door.FieldError{Field: "instance",
			Problem: fmt.Sprintf("the policy lets only %s share access to %s, which has the tag %s (access.who)",
				strings.Join(who, ", "), i.Name, tag)}
	}
	return nil
}

// Shared access: a key that opens an instance besides others, on terms. The
// server enforces what it can, so that an access ends also when the service is
// down; its line is withdrawn after its end by the work that added it, which
// waits for that.

// sharing is the input of adding, removing and extending an access.
type sharing struct {
	OldID int64  `json:"old_id,omitempty"` // the key that is taken, or extended
	NewID int64  `json:"new_id,omitempty"` // the key that is added
	Key   string `json:"key"`              // its name, for words
	// Blob is that of a key that is taken and that nobody recorded here: it has no access, and its ID is 0
	// where it is recorded nowhere. Rule 1 guards it as one whose holder is not known.
	Blob []byte `json:"blob,omitempty"`
	// Was is what the key counted as when the work was asked for.
	Was    rotation.Mark `json:"was"`
	Until  *time.Time    `json:"until,omitempty"`
	From   string        `json:"from,omitempty"` // a pattern list
	Only   string        `json:"only,omitempty"`
	Reason string        `json:"reason,omitempty"`
	CutOff int           `json:"cut_off,omitempty"`
	// Must says that the server itself has to keep the end: else nothing is added.
	Must bool `json:"must,omitempty"`
	// Back is for how long to wait for an instance that is out of reach; 0 for answerLimit.
	Back time.Duration `json:"back,omitempty"`
}

func (in sharing) Keys() (taken, added int64) { return in.OldID, in.NewID }

// shared is what the steps keep, beside what was edited.
//
//lint:ignore U1000 it is used, as an argument of Job
type shared struct {
	door.Edits
	From     string     `json:"from,omitempty"`
	Ends     *time.Time `json:"ends,omitempty"`
	Enforced bool       `json:"enforced,omitempty"`
	Why      string     `json:"why,omitempty"` // the server cannot enforce the end
	Options  string     `json:"options,omitempty"`
	// Before are the terms that an access had before it was given others.
	Before *store.Terms `json:"before,omitempty"`
	// Kept says why it is left as it is, as one of several changes: the others are made all the same.
	Kept string `json:"kept,omitempty"`
}

// shareJob is a change of a shared access in hand.
type shareJob struct{ door.Job[sharing, shared] }

var shareSteps door.Family[*shareJob] = func() *shareJob { return new(shareJob) }

func (r *shareJob) noEnd() bool { return r.In.Until == nil }

func (w *Service) accessAddKind() *work.Kind {
	return &work.Kind{
		Name: "access-add", Action: "access.add", Changing: true,
		Steps: []work.Step{
			{Name: "add", Title: "reading what is there, and adding the key", Do: shareSteps.Do((*shareJob).add),
				Undo: shareSteps.Do((*shareJob).addBack), Effects: []string{"append"},
				UndoEffects: []string{"take-out"}, BackLater: true},
			{Name: "accept", Title: "asking the server whether it takes the key",
				Do: shareSteps.Do((*shareJob).accepted), Settles: true},
			{Name: "end", Title: "waiting for the end of the access", Do: shareSteps.Do((*shareJob).end),
				Skip: shareSteps.Skip((*shareJob).noEnd)},
			{Name: "withdraw", Title: "withdrawing the key", Do: shareSteps.Do((*shareJob).withdraw),
				Skip: shareSteps.Skip((*shareJob).noEnd), Effects: door.Takes, NoReturn: true},
			{Name: "check", Title: "asking the server again", Do: shareSteps.Do((*shareJob).check),
				Skip: shareSteps.Skip((*shareJob).noEnd), NoReturn: true},
			{Name: "settle", Title: "looking for what others wrote meanwhile", Do: shareSteps.Do((*shareJob).settle),
				Skip: shareSteps.Skip((*shareJob).noEnd), NoReturn: true},
			{Name: "record", Title: "recording what opens it now", Do: shareSteps.Do((*shareJob).record),
				Skip: shareSteps.Skip((*shareJob).noEnd), NoReturn: true},
		},
		End: shareSteps.End(func(r *shareJob, state store.WorkState) (store.WorkEnd, error) {
			var err error
			text := fmt.Sprintf("%s opens %s", r.In.Key, r.Instance.Name)
			switch {
			case state != store.Done && r.D.Stays != "":
				if state == store.Stuck { // that is so, whatever else could not be taken back
					state = store.WentBack
				}
				text = r.TookBack(state,
					fmt.Sprintf("the line of %s stays on %s; taking it out was refused: %s. plumlatch access "+
						"remove %s -key %s takes it out once another way in is shown", r.In.Key, r.Instance.Name,
						r.D.Stays, r.Instance.Name, r.In.Key))
			case state != store.Done:
				text = r.TookBack(state, "the files are as they were")
			case r.D.Trouble != "":
				text = r.D.Trouble
			case r.In.Until != nil && !r.D.Gone:
				text = fmt.Sprintf("%s was withdrawn from %s before the end of its access", r.In.Key, r.Instance.Name)
			case r.D.Gone:
				text = fmt.Sprintf("the access of %s to %s has come to its end, and is withdrawn",
					r.In.Key, r.Instance.Name)
			}
			return store.WorkEnd{Outcome: text}, err
		}),
	}
}

func (w *Service) accessRemoveKind() *work.Kind {
	return &work.Kind{
		Name: "access-remove", Action: "access.remove", Changing: true,
		Steps: []work.Step{
			{Name: "ask", Title: "asking the server which other keys it takes",
				Do: shareSteps.Do((*shareJob).removeAsk), BackLater: true},
			{Name: "take", Title: "withdrawing the key", Do: shareSteps.Do((*shareJob).removeTake),
				Undo: shareSteps.Do((*shareJob).removeBack), Effects: door.Takes,
				UndoEffects: door.PutsBack},
			{Name: "check", Title: "asking the server again", Do: shareSteps.Do((*shareJob).removeCheck),
				Settles: true},
			{Name: "settle", Title: "looking for what others wrote meanwhile", Do: shareSteps.Do((*shareJob).settle)},
			{Name: "record", Title: "recording what opens it now", Do: shareSteps.Do((*shareJob).record),
				NoReturn: true},
		},
		End: shareSteps.End(func(r *shareJob, state store.WorkState) (store.WorkEnd, error) {
			var err error
			text := fmt.Sprintf("%s is withdrawn from %s, and refused there", r.In.Key, r.Instance.Name)
			if state != store.Done {
				text = r.TookBack(state, "the files are as they were")
			} else if r.D.Trouble != "" {
				text = r.D.Trouble
			}
			return store.WorkEnd{Outcome: text}, err
		}),
	}
}

func (w *Service) accessExtendKind() *work.Kind {
	return &work.Kind{
		Name: "access-extend", Action: "access.extend", Changing: true,
		Steps: []work.Step{
			{Name: "edit", Title: "giving its line another end", Do: shareSteps.Do((*shareJob).extendEdit),
				Effects: []string{"edit"}, NoReturn: true},
			{Name: "accept", Title: "asking the server whether it takes the key",
				Do: shareSteps.Do((*shareJob).accepted), NoReturn: true},
		},
		End: shareSteps.End(func(r *shareJob, state store.WorkState) (store.WorkEnd, error) {
			var err error
			text := r.Work.Trouble
			if state == store.Done && r.In.Until != nil {
				text = fmt.Sprintf("%s opens %s until %s", r.In.Key, r.Instance.Name,
					times.Show(r.In.Until.UTC()))
			}
			return store.WorkEnd{Outcome: text}, err
		}),
	}
}

// CheckTerms reads the terms of an access that is to be. FieldError.
func (w *Service) CheckTerms(ctx context.Context, r wire.AccessAdd) (in sharing, err error) {
	wrong := func(field, format string, a ...any) (sharing, error) {
		return in, door.FieldError{Field: field, Problem: fmt.Sprintf(format, a...)}
	}
	in = sharing{Only: r.Only, Reason: r.Reason}
	policy, err := w.Policy(ctx)
	if err != nil {
		return in, err
	}
	if in.Until, err = w.checkUntil(ctx, r.Until, time.Duration(policy.Access.Longest)); err != nil {
		return in, err
	}
	switch {
	case policy.Access.Reason && strings.TrimSpace(r.Reason) == "":
		return wrong("reason", "the policy asks for a reason (access.reason)")
	case plaintext.HasControl(r.Reason) || len(r.Reason) > 200:
		return wrong("reason", "a reason is at most 200 printable characters")
	case len(r.Only) > 500 || plaintext.HasControl(r.Only):
		return wrong("only", "a command is at most 500 printable characters")
	}
	if _, err := authkeys.Quote(r.Only); err != nil {
		return wrong("only", "%v", err)
	}
	from, err := Networks("from", r.From)
	in.From = strings.Join(from, ",")
	return in, err
}

// checkUntil checks an end: ahead, and not further than a year or the policy's limit (0 for none).
func (w *Service) checkUntil(ctx context.Context, until *time.Time, longest time.Duration) (*time.Time, error) {
	if until == nil {
		if longest > 0 {
			return nil, door.FieldError{Field: "until",
				Problem: fmt.Sprintf("the policy shares access for at most %s (access.longest): give an end",
					door.SpanWords(longest))}
		}
		return nil, nil
	}
	now, err := w.Store.Now(ctx)
	if err != nil {
		return nil, err
	}
	end := until.UTC().Truncate(time.Second)
	switch left := end.Sub(now); {
	case left <= 0:
		return nil, door.FieldError{Field: "until", Problem: "this end has passed"}
	case left > door.LongestGrace:
		return nil, door.FieldError{Field: "until", Problem: "an end is at most a year away"}
	case longest > 0 && left > longest:
		return nil, door.FieldError{Field: "until",
			Problem: fmt.Sprintf("the policy shares access for at most %s (access.longest)", door.SpanWords(longest))}
	}
	return &end, nil
}

// accessOfKey finds the access of a recorded key at an instance, by the key's ID
// or, where that is 0, by its name. FieldError.
func (w *Service) accessOfKey(ctx context.Context, i store.Instance, name string, id int64) (store.Access, error) {
	rows, err := w.Store.AccessesOf(ctx, i.ID)
	if err != nil {
		return store.Access{}, err
	}
	var choices []string
	for _, a := range rows {
		if a.Steward || a.LoginUser != i.LoginUser {
			continue
		}
		if id == 0 && names.Fold(a.Key) == names.Fold(name) || id != 0 && a.KeyID == id {
			return a, nil
		}
		choices = append(choices, a.Key)
	}
	return store.Access{}, door.FieldError{Field: "key",
		Problem: fmt.Sprintf("%s is not recorded to open %s as %s", plaintext.Line(plaintext.Cut(name, 100)), i.Name,
			i.LoginUser), Choices: choices}
}

// foundKey is the key that a survey found in the files of the login user, by its fingerprint, name or ID,
// though nobody recorded it there; without an ID if there is none. FieldError.
func (w *Service) foundKey(ctx context.Context, i store.Instance, word string, keyID int64) (store.Sighting, error) {
	if keyID != 0 {
		k, err := w.Store.KeyByID(ctx, keyID)
		if err != nil {
			return store.Sighting{}, err
		}
		word = k.Fingerprint
	}
	rows, err := w.Store.SightingsOf(ctx, i.ID)
	if err != nil {
		return store.Sighting{}, err
	}
	word = strings.TrimRight(word, "=")
	for _, x := range rows {
		if x.GoneAt != nil || x.Recorded || x.Fingerprint != word && (x.Key == "" || names.Fold(x.Key) != names.Fold(word)) {
			continue
		}
		if x.LoginUser != i.LoginUser {
			return store.Sighting{}, door.FieldError{Field: "key",
				Problem: fmt.Sprintf("it stands in a file of %s, and the steward is confined to those of %s: take it out "+
					"with your own way in", x.LoginUser, i.LoginUser)}
		}
		return x, nil
	}
	lent, err := w.Store.LentStaying(ctx, i.ID)
	for _, k := range lent {
		if k.Fingerprint == word && k.LoginUser == i.LoginUser {
			return store.Sighting{ID: k.ID, InstanceID: i.ID, LoginUser: k.LoginUser, Fingerprint: k.Fingerprint, Blob: k.Blob}, nil
		}
	}
	return store.Sighting{}, err
}

// NotAtHand refuses what other work with the same key is at hand for.
func (w *Service) NotAtHand(ctx context.Context, i store.Instance, key int64) error {
	all, err := w.Store.KeyWorks(ctx, i.ID)
	if err != nil {
		return err
	}
	n := slices.IndexFunc(all, func(k store.KeyWork) bool { return isOf(k, i.ID, key) })
	if n < 0 {
		return nil
	}
	at := all[n]
	return door.FieldError{Field: "key",
		Problem: fmt.Sprintf("work %d is at hand with this key on %s: %s; \"plumlatch work show %d\" tells how far it is", at.ID, i.Name, at.Title, at.ID)}
}

// isOf tells whether a piece of work is about one of the keys on an instance.
func isOf(k store.KeyWork, instanceID int64, keys ...int64) bool {
	return k.InstanceID == instanceID && (slices.Contains(keys, k.OldKeyID) || slices.Contains(keys, k.NewKeyID))
}

// AddAccess begins to add a key. FieldError, store.ErrInProgress, store.ErrReused.
func (w *Service) AddAccess(ctx context.Context, by store.Actor, once store.Once, i store.Instance,
	r wire.AccessAdd) (store.Work, error) {
	if work, again, err := w.WorkDone(ctx, once); again || err != nil {
		return work, err
	}
	n, err := w.PlanAdd(ctx, by, i, r, 0, 0)
	if err != nil {
		return store.Work{}, err
	}
	return w.BeginOf(ctx, by, once, i, n)
}

// SessionKeyLife is for how long a pair that was made for one session is let in.
const SessionKeyLife = 5 * time.Minute

// AddForSession lets a pair in that was made for one session, by a stream: for five minutes, by an end that the server itself keeps, from the address that the
// server sees of that stream, with a reason. Where the server cannot keep the end, the work adds nothing. FieldError, store.ErrInProgress.
func (w *Service) AddForSession(ctx context.Context, by store.Actor, i store.Instance, stream int64, public keypair.Public, from, reason string) (store.Work, error) {
	if strings.TrimSpace(reason) == "" {
		return store.Work{}, door.FieldError{Field: "reason", Problem: "a pair is let in for a session with a reason: open the stream with one"}
	}
	if public.Kind() != string(keypair.Ed25519) {
		return store.Work{}, door.FieldError{Field: "public_key", Problem: "a pair for one session is an Ed25519 one"}
	}
	now, err := w.Store.Now(ctx)
	if err != nil {
		return store.Work{}, err
	}
	if err := w.Store.KeepSessionsHolder(ctx); err != nil {
		return store.Work{}, err
	}
	public.Comment = fmt.Sprintf("session-%d", stream)
	k, err := w.Store.AddKey(ctx, by, store.NewKey{Name: public.Comment, Note: "made in a page for one session", Origin: store.MadeHere, Passphrase: "no", Holder: store.SessionsHolder, Public: public})
	if err != nil {
		return store.Work{}, err
	}
	if err = w.Store.KeepSessionKey(ctx, k.ID, stream); err == nil {
		var n store.NewWork
		if n, err = w.planAdd(ctx, by, i, wire.AccessAdd{Key: k.Name, Until: new(now.Add(SessionKeyLife)), From: []string{from}, Reason: reason}, k.ID, 0, true); err == nil {
			var work store.Work
			if work, err = w.BeginOf(ctx, by, store.Once{}, i, n); err == nil {
				return work, nil
			}
		}
	}
	return store.Work{}, errors.Join(err, w.Store.ForgetKey(context.WithoutCancel(ctx), by, k))
}

// RemoveAfterSession withdraws the pair of a session: the session has begun, and goes on without it. store.ErrNotFound if there is none.
func (w *Service) RemoveAfterSession(ctx context.Context, by store.Actor, i store.Instance, stream int64) (store.Work, error) {
	keyID, err := w.Store.SessionKey(ctx, stream)
	if err != nil {
		return store.Work{}, err
	}
	n, err := w.PlanRemove(ctx, i, wire.AccessRemove{Reason: "the session has begun"}, keyID, 0)
	if err != nil {
		return store.Work{}, err
	}
	return w.BeginOf(ctx, by, store.Once{}, i, n)
}

// PlanAdd makes the work that adds a key, of this ID if it is not 0. FieldError.
func (w *Service) PlanAdd(ctx context.Context, by store.Actor, i store.Instance, r wire.AccessAdd, keyID int64,
	back time.Duration) (store.NewWork, error) {
	return w.planAdd(ctx, by, i, r, keyID, back, false)
}

func (w *Service) planAdd(ctx context.Context, by store.Actor, i store.Instance, r wire.AccessAdd, keyID int64,
	back time.Duration, must bool) (store.NewWork, error) {
	if err := w.EditableInstance(ctx, i); err != nil {
		return store.NewWork{}, err
	}
	if err := w.MayShare(ctx, by, i); err != nil {
		return store.NewWork{}, err
	}
	if r.User != "" && r.User != i.LoginUser {
		return store.NewWork{}, door.FieldError{Field: "user",
			Problem: fmt.Sprintf("the steward is confined to the files of %s; an account of its own is made by somebody with sudo there: plumlatch instance user add "+
				"%s %s -key %s", i.LoginUser, i.Name, plaintext.Line(plaintext.Cut(r.User, 40)), plaintext.Line(plaintext.Cut(r.Key, 100)))}
	}
	in, err := w.CheckTerms(ctx, r)
	if err != nil {
		return store.NewWork{}, err
	}
	k, err := w.KeyOf(ctx, r.Key, keyID)
	if errors.Is(err, store.ErrNotFound) {
		err = w.UnknownKey(ctx, r.Key)
	}
	if err == nil {
		err = w.Placeable(ctx, i, k)
	}
	if e, ok := errors.AsType[door.FieldError](err); ok {
		e.Field = "key"
		return store.NewWork{}, e
	}
	if err != nil {
		return store.NewWork{}, err
	}
	if err := w.NotAtHand(ctx, i, k.ID); err != nil {
		return store.NewWork{}, err
	}
	rows, err := w.Store.AccessesOf(ctx, i.ID)
	if err != nil {
		return store.NewWork{}, err
	}
	if slices.ContainsFunc(rows, func(a store.Access) bool { return a.KeyID == k.ID && a.LoginUser == i.LoginUser }) {
		return store.NewWork{}, door.FieldError{Field: "key",
			Problem: fmt.Sprintf("%s is recorded to open %s already; \"plumlatch access extend\" gives it another "+
				"end, \"plumlatch access remove\" withdraws it", k.Name, i.Name)}
	}
	in.NewID, in.Key, in.Back, in.Was, in.Must = k.ID, k.Name, back, door.MarkOf(k), must
	intent := "let " + k.Name + " open it" + termWords(in)
	return w.Begun(w.Named("access-add"), fmt.Sprintf("add %s to %s", k.Name, i.Name), door.Token(26), i, intent, in),
		nil
}

// termWords writes terms for a sentence.
func termWords(in sharing) string {
	var out string
	if in.Until != nil {
		out += " until " + times.Show(in.Until.UTC())
	}
	if in.From != "" {
		out += ", from " + in.From
	}
	if in.Only != "" {
		out += ", for one command only"
	}
	if in.Reason != "" {
		out += ": " + in.Reason
	}
	return out
}

// RemoveAccess begins to withdraw a key. FieldError, store.ErrInProgress, store.ErrReused.
func (w *Service) RemoveAccess(ctx context.Context, by store.Actor, once store.Once, i store.Instance,
	r wire.AccessRemove) (store.Work, error) {
	if work, again, err := w.WorkDone(ctx, once); again || err != nil {
		return work, err
	}
	n, err := w.PlanRemove(ctx, i, r, 0, 0)
	if err != nil {
		return store.Work{}, err
	}
	return w.BeginOf(ctx, by, once, i, n)
}

// PlanRemove makes the work that withdraws a key, of this ID if it is not 0. FieldError.
func (w *Service) PlanRemove(ctx context.Context, i store.Instance, r wire.AccessRemove, keyID int64,
	back time.Duration) (store.NewWork, error) {
	if err := w.EditableInstance(ctx, i); err != nil {
		return store.NewWork{}, err
	}
	a, err := w.accessOfKey(ctx, i, r.Key, keyID)
	var unrecorded store.Sighting
	if _, missing := errors.AsType[door.FieldError](err); missing {
		if found, e := w.foundKey(ctx, i, r.Key, keyID); e != nil {
			return store.NewWork{}, e
		} else if found.ID != 0 {
			unrecorded, err = found, nil
		}
	}
	if err != nil {
		return store.NewWork{}, err
	}
	if r.CutOff < 0 || r.CutOff > 1 {
		return store.NewWork{}, door.FieldError{Field: "cut_off",
			Problem: "on one instance, the number of those that nobody gets into any more is 1"}
	}
	in := sharing{OldID: a.KeyID, Key: a.Key, Was: rotation.Mark{Holder: a.HolderSort, State: a.OutOfUse()},
		Reason: plaintext.Line(plaintext.Cut(r.Reason, 200)), CutOff: r.CutOff, Back: back}
	intent := "withdraw " + a.Key
	if unrecorded.ID != 0 {
		in.Key, in.Blob = cmp.Or(unrecorded.Key, unrecorded.Fingerprint), unrecorded.Blob
		a.Key = in.Key
		intent = "withdraw " + in.Key + ", which nobody recorded there"
		if unrecorded.Key != "" {
			k, err := w.Store.KeyAlone(ctx, unrecorded.Key)
			if err != nil {
				return store.NewWork{}, err
			}
			in.OldID, in.Was = k.ID, door.MarkOf(k)
		}
	}
	if in.Reason != "" {
		intent += ": " + in.Reason
	}
	if in.CutOff > 0 {
		intent += ", though nobody gets into 1 instance any more then"
	}
	return w.Begun(w.Named("access-remove"), fmt.Sprintf("withdraw %s from %s", a.Key, i.Name), door.Token(26),
		i, intent, in), nil
}

// PlanTakeOff makes the work that takes a key off that nobody recorded on an instance, and that the service itself saw
// the server take. FieldError.
func (w *Service) PlanTakeOff(ctx context.Context, i store.Instance, fingerprint string, blob []byte, reason string) (store.NewWork, error) {
	if err := w.EditableInstance(ctx, i); err != nil {
		return store.NewWork{}, err
	}
	return w.Begun(w.Named("access-remove"), fmt.Sprintf("withdraw %s from %s", fingerprint, i.Name), door.Token(26), i,
		"withdraw "+fingerprint+", which nobody recorded there: "+reason,
		sharing{Key: fingerprint, Blob: blob, Reason: reason}), nil
}

// ExtendAccess begins to give an access another end. FieldError, store.ErrInProgress.
func (w *Service) ExtendAccess(ctx context.Context, by store.Actor, once store.Once, i store.Instance,
	r wire.AccessExtend) (store.Work, error) {
	if work, again, err := w.WorkDone(ctx, once); again || err != nil {
		return work, err
	}
	if err := w.EditableInstance(ctx, i); err != nil {
		return store.Work{}, err
	}
	a, err := w.accessOfKey(ctx, i, r.Key, 0)
	if err != nil {
		return store.Work{}, err
	}
	terms, err := w.Store.Terms(ctx, a.ID)
	if errors.Is(err, store.ErrNotFound) || err == nil && terms.UntilAt == nil {
		return store.Work{}, door.FieldError{Field: "key",
			Problem: fmt.Sprintf("the access of %s to %s has no end that could be moved", a.Key, i.Name)}
	}
	if err != nil {
		return store.Work{}, err
	}
	if at, err := w.Store.WorkByID(ctx, terms.WorkID); err == nil && at.Kind == "rotate" {
		return store.Work{}, door.FieldError{Field: "key",
			Problem: fmt.Sprintf("the end of %s there is that of a rotation, work %d: cancel that to keep it", a.Key,
				at.ID)}
	}
	policy, err := w.Policy(ctx)
	if err != nil {
		return store.Work{}, err
	}
	if r.Until == nil {
		return store.Work{}, door.FieldError{Field: "until", Problem: "give the new end"}
	}
	in := sharing{OldID: a.KeyID, Key: a.Key, Was: rotation.Mark{Holder: a.HolderSort, State: a.OutOfUse()}}
	if in.Until, err = w.checkUntil(ctx, r.Until, time.Duration(policy.Access.Longest)); err != nil {
		return store.Work{}, err
	}
	return w.BeginOf(ctx, by, once, i, w.Begun(w.Named("access-extend"),
		fmt.Sprintf("extend %s on %s", a.Key, i.Name), door.Token(26), i, "let "+a.Key+" open it"+termWords(in), in))
}
