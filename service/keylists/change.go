package keylists

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"plumlatch/core/keylists"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/work"
)

// listing is the input of work that lists a key.
type listing struct {
	KeyID   int64    `json:"key_id"`
	Key     string   `json:"key"`  // for words
	Line    string   `json:"line"` // its public half, as it was asked for
	Name    string   `json:"name"` // in the list
	Regions []string `json:"regions"`
}

// listed is what it keeps.
type listed struct {
	// Asked are the regions whose list was asked to take it, and that did not have it before.
	Asked []string `json:"asked,omitempty"`
	Made  []entry  `json:"made,omitempty"` // that were made
	Had   []string `json:"had,omitempty"`  // regions that had it already
}

// stands tells whether the list of a region is done with.
func (l listed) stands(region string) bool {
	return slices.ContainsFunc(l.Made, func(e entry) bool { return e.Region == region }) || slices.Contains(l.Had, region)
}

// entry is one of a list.
type entry struct {
	Region string `json:"region"`
	ID     string `json:"id"`
	Name   string `json:"name"`
	// Line is the public half that it had, for putting it back; "" if the cloud does not show that.
	Line string `json:"line,omitempty"`
}

// listJob takes a key into lists.
type listJob struct {
	door.Job[listing, listed]
	svc *Service
}

// unlisting is the input of work that takes entries out of lists.
type unlisting struct {
	Name    string  `json:"name"` // as it was asked for
	Entries []entry `json:"entries"`
}

// unlisted is what it keeps.
type unlisted struct {
	Out int `json:"out"` // how many of the entries are out, in their order
}

// over tells whether all entries are out.
func (u unlisted) over(all []entry) bool { return u.Out >= len(all) }

type unlistJob struct {
	door.Job[unlisting, unlisted]
	svc *Service
}

func (w *Service) listKind() *work.Kind {
	var steps door.Family[*listJob] = func() *listJob { return &listJob{svc: w} }
	return &work.Kind{
		Name: "cloud-key-add", Action: "cloud-key.add",
		Steps: []work.Step{{Name: "add", Title: "taking the key into the cloud's lists", Do: steps.Do((*listJob).add),
			Effects: []string{"add"}, Undo: steps.Do((*listJob).addBack), UndoEffects: []string{"remove"}}},
		End: steps.End(func(r *listJob, state store.WorkState) (store.WorkEnd, error) {
			end := store.WorkEnd{Target: "cloud-key " + r.In.Name}
			if state != store.Done {
				end.Outcome = r.TookBack(state, door.AllTakenBack)
				return end, nil
			}
			var new []string
			for _, e := range r.D.Made {
				new = append(new, where(e.Region))
			}
			end.Outcome = fmt.Sprintf("%s is listed as %s", r.In.Key, r.In.Name)
			if len(new) > 0 {
				end.Outcome += ", new in " + strings.Join(new, ", ")
			}
			if len(r.D.Had) > 0 {
				var had []string
				for _, region := range r.D.Had {
					had = append(had, where(region))
				}
				end.Outcome += ", and was already in " + strings.Join(had, ", ")
			}
			return end, nil
		}),
	}
}

// where is a list in words.
func where(region string) string { return cmp.Or(region, "the cloud's list") }

// token names what is asked of the list of a region.
func (r *listJob) token(region string) string { return r.TokenOf("add", "add-"+region) }

// add asks list after list. A list that has the key under the name already is left as it is.
func (r *listJob) add() error {
	k, err := r.Store.KeyByID(r.Ctx, r.In.KeyID)
	if errors.Is(err, store.ErrNotFound) {
		return door.Failf("%s was forgotten meanwhile", r.In.Key)
	}
	if err != nil {
		return err
	}
	if why := unusable(k); why != "" { // it was marked since it was asked for
		return door.Failf("%s is %s now", k.Name, why)
	}
	for _, region := range r.In.Regions {
		if r.D.stands(region) {
			continue
		}
		if !slices.Contains(r.D.Asked, region) { // whether it stands there was not ours
			has, err := r.has(region, k.Public())
			if err != nil {
				return err
			}
			if has {
				r.D.Had = append(r.D.Had, region)
				if err := r.SetData(r.D); err != nil {
					return err
				}
				continue
			}
			r.D.Asked = append(r.D.Asked, region)
			if err := r.SetData(r.D); err != nil {
				return err
			}
		}
		if err := r.Effect("add", func(ctx context.Context) error {
			e, err := door.Asked(ctx, r.Run, func(ctx context.Context) (cloud.KeyEntry, error) {
				return r.svc.lists().AddKey(ctx, r.token(region), region, r.In.Name, r.In.Line)
			})
			if errors.Is(err, cloud.ErrRefused) {
				return door.Failf("%s: %s", where(region), door.Words(err))
			}
			if err != nil {
				return err
			}
			r.D.Made = append(r.D.Made, entry{Region: region, ID: e.ID, Name: r.In.Name})
			return r.SetData(r.D)
		}); err != nil {
			return err
		}
	}
	return readAgain(r.Run, r.svc)
}

// readAgain has today know what the lists hold now. That they cannot be read undoes nothing: the service reads them
// again by itself.
func readAgain(r *door.Run, w *Service) error {
	err := w.LookAll(r.Ctx)
	switch {
	case r.Ctx.Err() != nil:
		return store.ErrLost
	case err == nil:
		return nil
	}
	return r.Say("the lists were not read again: %s", door.Words(err))
}

// addBack takes out what this work has put in, what it asked for and has not heard of too.
func (r *listJob) addBack() error {
	err := r.Effect("remove", func(ctx context.Context) error {
		for len(r.D.Asked) > 0 {
			region := r.D.Asked[len(r.D.Asked)-1]
			n := slices.IndexFunc(r.D.Made, func(e entry) bool { return e.Region == region })
			id := ""
			if n >= 0 {
				id = r.D.Made[n].ID
			} else {
				var err error
				if id, err = r.late(ctx, region); err != nil {
					return err
				}
			}
			if id != "" {
				if _, err := door.Asked(ctx, r.Run, func(ctx context.Context) (struct{}, error) {
					return struct{}{}, r.svc.lists().RemoveKey(ctx, r.ClientToken("remove-"+region), region, id)
				}); err != nil && !errors.Is(err, cloud.ErrNotFound) {
					return err
				}
			}
			r.D.Asked = r.D.Asked[:len(r.D.Asked)-1]
			if n >= 0 {
				r.D.Made = slices.Delete(r.D.Made, n, n+1)
			}
			if err := r.SetData(r.D); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return readAgain(r.Run, r.svc)
}

// late asks once more, under the same token, for what was not answered: it is there then, and cannot come late.
func (r *listJob) late(ctx context.Context, region string) (id string, err error) {
	e, err := door.Asked(ctx, r.Run, func(ctx context.Context) (cloud.KeyEntry, error) {
		return r.svc.lists().AddKey(ctx, r.token(region), region, r.In.Name, r.In.Line)
	})
	if errors.Is(err, cloud.ErrRefused) || errors.Is(err, cloud.ErrNotFound) {
		return "", nil // it never came to one
	}
	return e.ID, err
}

// has tells whether the list of a region has the key under its name; another key under it is a Failure that names both.
func (r *listJob) has(region string, p keypair.Public) (bool, error) {
	name := r.In.Name
	list, err := door.Asked(r.Ctx, r.Run, func(ctx context.Context) (cloud.KeyList, error) {
		return r.svc.lists().ListKeys(ctx, region)
	})
	if err != nil {
		return false, err
	}
	for _, e := range list.Entries {
		if e.Name != name {
			continue
		}
		if is(e, p) {
			return true, nil
		}
		return false, door.Failf("%s has another key as %s: %s, and not %s; choose another name (-name), or take that out "+
			"first: plumlatch cloud-key remove %s%s", where(region), name, printOf(e), p.Fingerprint(), name, inRegion(region))
	}
	return false, nil
}

func inRegion(region string) string {
	if region == "" {
		return ""
	}
	return " -region " + region
}

// is tells whether an entry is a key: by its public half, or by the cloud's fingerprint where it shows no other.
func is(e cloud.KeyEntry, p keypair.Public) bool {
	return keylists.NewIndex([]keylists.Key{{Blob: p.Blob}}).Of(e.Fingerprint, e.Public).Key != nil
}

// unusable says why nothing should be launched with a key any more; "" for one that is in use.
func unusable(k store.Key) string {
	return keylists.Key{State: k.State, Retired: k.RetiredAt != nil}.Unusable()
}

// List begins to take a key of the ledger into lists of the cloud. ErrNone, FieldError, store.ErrReused.
func (w *Service) List(ctx context.Context, by store.Actor, once store.Once, l wire.ListKey) (store.Work, error) {
	if done, ok := errors.AsType[store.Replayed](w.Store.Seen(ctx, once)); ok {
		return w.Store.WorkByID(ctx, done.WorkID)
	}
	k, err := w.Store.KeyByName(ctx, l.Key)
	if errors.Is(err, store.ErrNotFound) {
		return store.Work{}, door.FieldError{Field: "key", Problem: "no key of this name is recorded"}
	}
	if err != nil {
		return store.Work{}, err
	}
	regions, err := w.regions(ctx, l.Regions)
	if err != nil {
		return store.Work{}, err
	}
	rules, name := w.lists().Properties().KeyLists, cmp.Or(l.Name, k.Name)
	kind := k.Public().Type()
	switch {
	case unusable(k) != "":
		return store.Work{}, door.FieldError{Field: "key", Problem: fmt.Sprintf("%s is %s: nothing should be launched with it", k.Name,
			unusable(k))}
	case k.Authority:
		return store.Work{}, door.FieldError{Field: "key", Problem: k.Name + " is a certificate authority, and no key of a person"}
	case len(rules.Kinds) > 0 && !slices.Contains(rules.Kinds, kind):
		return store.Work{}, door.FieldError{Field: "key", Problem: fmt.Sprintf("%s is %s, and the cloud's lists take %s", k.Name, kind,
			strings.Join(rules.Kinds, ", "))}
	case plaintext.HasControl(name) || len(name) > 200:
		return store.Work{}, door.FieldError{Field: "name", Problem: "this is no name for a key"}
	}
	if err := rules.Names.Check(name); err != nil {
		return store.Work{}, door.FieldError{Field: "name", Problem: fmt.Sprintf("the cloud takes no key called %s: %s", name,
			rules.Names.Words)}
	}
	for _, l := range w.readAll(ctx, regions) { // refused before anything is begun
		if l.err != nil {
			return store.Work{}, l.err
		}
		if problem := wontTake(l.KeyList, name, k.Public()); problem != "" {
			return store.Work{}, door.FieldError{Field: "name", Problem: problem}
		}
	}
	n := w.Begun(w.Named("cloud-key-add"), "list "+k.Name+" at the cloud", door.Token(26), store.Instance{},
		fmt.Sprintf("list %s %s as %s in %s", k.Name, k.Fingerprint, name, places(regions)), listing{k.ID, k.Name, k.Public().Line(), name, regions})
	n.Target = "cloud-key " + name
	return w.BeginOf(ctx, by, once, store.Instance{}, n)
}

// wontTake says why a list will not take a key under a name; "" if it will, or has it.
func wontTake(l cloud.KeyList, name string, p keypair.Public) string {
	for _, e := range l.Entries {
		switch {
		case e.Name == name && is(e, p):
			return ""
		case e.Name == name:
			return fmt.Sprintf("%s has another key as %s: %s, and not %s", where(l.Region), name, printOf(e), p.Fingerprint())
		case strings.EqualFold(e.Name, name):
			return fmt.Sprintf("%s has %s, which differs from %s by case alone: nobody would tell them apart", where(l.Region),
				line(e.Name), name)
		}
	}
	if l.Limit > 0 && len(l.Entries) >= l.Limit {
		return fmt.Sprintf("%s is full: it holds %d of %d", where(l.Region), len(l.Entries), l.Limit)
	}
	return ""
}

func places(regions []string) string {
	var out []string
	for _, r := range regions {
		out = append(out, where(r))
	}
	return strings.Join(out, ", ")
}

func (w *Service) unlistKind() *work.Kind {
	var steps door.Family[*unlistJob] = func() *unlistJob { return &unlistJob{svc: w} }
	return &work.Kind{
		Name: "cloud-key-remove", Action: "cloud-key.remove",
		Steps: []work.Step{{Name: "remove", Title: "taking it out of the cloud's lists", Do: steps.Do((*unlistJob).remove),
			Effects: []string{"remove"}, NoReturn: true}},
		End: steps.End(func(r *unlistJob, state store.WorkState) (store.WorkEnd, error) {
			end := store.WorkEnd{Target: "cloud-key " + r.In.Name}
			if state != store.Done {
				end.Outcome = r.TookBack(state, door.AllTakenBack)
				return end, nil
			}
			var from []string
			for _, e := range r.In.Entries {
				from = append(from, where(e.Region))
			}
			end.Outcome = r.In.Name + " is out of " + strings.Join(slices.Compact(from), ", ")
			return end, nil
		}),
	}
}

// remove takes entry after entry out, each only as long as it is what it was when it was asked for.
func (r *unlistJob) remove() error {
	for !r.D.over(r.In.Entries) {
		e := r.In.Entries[r.D.Out]
		list, err := door.Asked(r.Ctx, r.Run, func(ctx context.Context) (cloud.KeyList, error) {
			return r.svc.lists().ListKeys(ctx, e.Region)
		})
		if err != nil {
			return err
		}
		n := slices.IndexFunc(list.Entries, func(now cloud.KeyEntry) bool { return now.ID == e.ID })
		if n >= 0 && (list.Entries[n].Name != e.Name || !bytes.Equal([]byte(list.Entries[n].Public), []byte(e.Line))) {
			return door.Failf("%s in %s is another key now: look at it (plumlatch cloud-key list%s)", e.Name, where(e.Region),
				inRegion(e.Region))
		}
		if n >= 0 {
			if err := r.Effect("remove", func(ctx context.Context) error {
				_, err := door.Asked(ctx, r.Run, func(ctx context.Context) (struct{}, error) {
					return struct{}{}, r.svc.lists().RemoveKey(ctx, r.ClientToken(fmt.Sprint("remove-", r.D.Out)), e.Region, e.ID)
				})
				return err
			}); err != nil && !errors.Is(err, cloud.ErrNotFound) {
				return err
			}
		}
		r.D.Out++
		if err := r.SetData(r.D); err != nil {
			return err
		}
	}
	return readAgain(r.Run, r.svc)
}

// Entries are the entries of lists that a word means: the one of that ID, those that are the key of the ledger of
// that name, or those of that name. ErrNone, FieldError.
func (w *Service) Entries(ctx context.Context, word string, chosen []string) ([]entry, error) {
	regions, err := w.regions(ctx, chosen)
	if err != nil {
		return nil, err
	}
	k, err := w.Store.KeyByName(ctx, word)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	isKey := err == nil
	var out, others []entry // others bear the name of a key of the ledger, and are another key
	for _, l := range w.readAll(ctx, regions) {
		if l.err != nil {
			return nil, l.err
		}
		for _, e := range l.Entries {
			found := entry{Region: l.Region, ID: e.ID, Name: e.Name, Line: e.Public}
			switch {
			case e.ID == word, isKey && is(e, k.Public()):
				out = append(out, found)
			case e.Name == word:
				others = append(others, found)
			}
		}
	}
	if len(out) > 0 && len(others) > 0 {
		return nil, door.FieldError{Field: "name", Problem: fmt.Sprintf("%s means a key of the ledger, and %s of %s bears that name and "+
			"is another key: give the ID of the entry (%s)", word, line(others[0].Name), where(others[0].Region), line(others[0].ID))}
	}
	if out = append(out, others...); len(out) == 0 {
		return nil, door.FieldError{Field: "name", Problem: fmt.Sprintf("no list has %s, neither as a name nor as a key of the ledger",
			plaintext.Line(plaintext.Cut(word, 60)))}
	}
	return out, nil
}

// Unlist begins to take entries out of lists. ErrNone, FieldError, store.ErrReused.
func (w *Service) Unlist(ctx context.Context, by store.Actor, once store.Once, u wire.UnlistKey) (store.Work, error) {
	if done, ok := errors.AsType[store.Replayed](w.Store.Seen(ctx, once)); ok {
		return w.Store.WorkByID(ctx, done.WorkID)
	}
	entries, err := w.Entries(ctx, u.Name, u.Regions)
	if err != nil {
		return store.Work{}, err
	}
	var from []string
	for _, e := range entries {
		from = append(from, line(e.Name)+" of "+where(e.Region))
	}
	n := w.Begun(w.Named("cloud-key-remove"), "take "+line(u.Name)+" out of the cloud's lists", door.Token(26), store.Instance{},
		"take out "+strings.Join(from, ", "), unlisting{line(u.Name), entries})
	n.Target = "cloud-key " + line(u.Name)
	return w.BeginOf(ctx, by, once, store.Instance{}, n)
}
