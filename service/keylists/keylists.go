// Package keylists has the kinds of work on a cloud's own lists of public keys: what stands there is read, set
// against the ledger, added to and taken out of.
package keylists

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"plumlatch/core/keylists"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
)

// Service reads and changes a cloud's lists of keys.
type Service struct {
	*door.Service
}

// Kinds are the kinds of work of this package.
func (w *Service) Kinds() []*door.Kind {
	return door.Plain(w.listKind(), w.unlistKind(), w.splitKind())
}

// Errors of a cloud that keeps no such keys.
var (
	ErrNone    = errors.New("this cloud keeps no keys under names")
	ErrNoAgent = errors.New("no cloud that has an agent of its own, which places keys, is behind this instance")
)

// atOnce is how many lists are read at one time; maxEntries how many entries of a list are looked at.
const (
	atOnce     = 8
	maxEntries = 100_000
)

// lists is the cloud that keeps lists of keys. If none does, it is one without properties.
func (w *Service) lists() cloud.Driver {
	if c, ok := w.Clouds.KeyLists(); ok {
		return c
	}
	return w.Clouds.Named("")
}

// Rules says what the cloud's lists are like; nil if it keeps none.
func (w *Service) Rules() *wire.KeyListRules {
	p := w.lists().Properties().KeyLists
	if p == nil {
		return nil
	}
	return &wire.KeyListRules{Scope: string(p.Scope), Names: p.Names.Words, Kinds: p.Kinds, Print: p.Print}
}

// regions are those that have a list each; one "" where the list is not of a region. ErrNone; FieldError for one
// that there is not.
func (w *Service) regions(ctx context.Context, chosen []string) ([]string, error) {
	c := w.lists()
	p := c.Properties().KeyLists
	if p == nil {
		return nil, ErrNone
	}
	if p.Scope != cloud.KeysByRegion {
		if len(chosen) > 0 {
			return nil, door.FieldError{Field: "regions", Problem: "the cloud has no list for each region: one holds for its " +
				string(p.Scope)}
		}
		return []string{""}, nil
	}
	all, err := c.Regions(ctx)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, r := range all {
		names = append(names, r.Name)
	}
	for _, r := range chosen {
		if !slices.Contains(names, r) {
			return nil, door.FieldError{Field: "regions", Problem: fmt.Sprintf("there is no region %s", plaintext.Line(plaintext.Cut(r, 60))),
				Choices: names}
		}
	}
	if len(chosen) > 0 {
		return slices.Compact(slices.Sorted(slices.Values(chosen))), nil
	}
	return names, nil
}

// read is a list as the cloud has it now, or why it could not be read.
type read struct {
	cloud.KeyList
	err error
}

// readAll reads lists, some at a time, in the order of the regions.
func (w *Service) readAll(ctx context.Context, regions []string) []read {
	out := make([]read, len(regions))
	slots := make(chan struct{}, atOnce)
	var all sync.WaitGroup
	for n, region := range regions {
		all.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			list, err := w.lists().ListKeys(ctx, region)
			list.Region = region
			list.Entries = list.Entries[:min(len(list.Entries), maxEntries)]
			out[n] = read{list, err}
		})
	}
	all.Wait()
	return out
}

// Look reads the cloud's lists now, sets them against the ledger, and keeps what today needs of them. prints are
// SHA-256 fingerprints of keys that the caller has: their entries are shown as those of the ledger's keys are. Of
// all others at most limit are. ErrNone; FieldError.
func (w *Service) Look(ctx context.Context, chosen, prints []string, limit int) (wire.KeyLists, error) {
	out := wire.KeyLists{Rules: w.Rules(), Lists: []wire.KeyList{}, Entries: []wire.KeyEntry{}}
	regions, err := w.regions(ctx, chosen)
	if err != nil {
		return out, err
	}
	known, err := w.Store.ListKeys(ctx)
	if err != nil {
		return out, err
	}
	labels, err := w.labels(ctx)
	if err != nil {
		return out, err
	}
	index := keylists.NewIndex(known)
	asked := map[string]bool{}
	for _, p := range prints {
		asked[p] = true
	}
	var others []wire.KeyEntry
	for _, l := range w.readAll(ctx, regions) {
		row := wire.KeyList{Region: l.Region, Used: len(l.Entries), Limit: l.Limit}
		kept := store.KeyList{Region: l.Region, Used: len(l.Entries), Most: l.Limit}
		if l.err != nil {
			if ctx.Err() != nil {
				return out, ctx.Err()
			}
			row.Trouble = door.Words(l.err)
			kept.Trouble = row.Trouble
		}
		for _, e := range l.Entries {
			m := index.Of(e.Fingerprint, e.Public)
			if m.Key != nil {
				row.Known++
				kept.Entries = append(kept.Entries, store.ListedKey{Entry: e.ID, Name: line(e.Name), KeyID: m.Key.ID})
			}
			listed := m.Key != nil || asked[m.SHA256]
			if !listed && len(others) >= limit {
				out.LeftOut++
				continue
			}
			shown := show(l.Region, e, m)
			of := labels[label{l.Region, strings.ToLower(e.Name)}]
			shown.Labelled, shown.Some = of.All, of.Some
			if listed {
				out.Entries = append(out.Entries, shown)
			} else {
				others = append(others, shown)
			}
		}
		if err := w.Store.KeepKeyList(ctx, w.lists().Name(), kept); err != nil {
			return out, err
		}
		out.Lists = append(out.Lists, row)
	}
	slices.SortStableFunc(out.Entries, func(a, b wire.KeyEntry) int {
		return cmp.Or(cmp.Compare(strings.ToLower(cmp.Or(a.Key, a.Name)), strings.ToLower(cmp.Or(b.Key, b.Name))),
			cmp.Compare(a.Region, b.Region), cmp.Compare(a.Name, b.Name))
	})
	out.Entries = append(out.Entries, others...)
	return out, nil
}

// LookAll is Look for the service itself: what it keeps stands on today. A cloud without lists is no error.
func (w *Service) LookAll(ctx context.Context) error {
	_, err := w.Look(ctx, nil, nil, 0)
	if errors.Is(err, ErrNone) {
		return nil
	}
	return err
}

// Placed returns the keys that the cloud's agent places on an instance. ErrNoAgent.
func (w *Service) Placed(ctx context.Context, i store.Instance) ([]wire.PlacedKey, error) {
	if i.Adopted || i.CloudID == "" || w.CloudOf(i).Properties().Places == nil {
		return nil, ErrNoAgent
	}
	all, err := w.PlacedOn(ctx, i)
	if err != nil {
		return nil, err
	}
	known, err := w.Store.ListKeys(ctx)
	if err != nil {
		return nil, err
	}
	index, out := keylists.NewIndex(known), []wire.PlacedKey{}
	for _, p := range all {
		m := index.Of("", p.Public)
		row := wire.PlacedKey{ID: line(p.ID), Name: line(p.Name), User: line(p.User), ForAll: p.Instance == "", SHA256: m.SHA256}
		if m.Key != nil {
			row.Key, row.KeyState, row.Retired = m.Key.Name, m.Key.State, m.Key.Retired
		}
		out = append(out, row)
	}
	return out, nil
}

type label struct{ region, name string }

// labels counts the instances by the label that their cloud shows; labels are compared as names are.
func (w *Service) labels(ctx context.Context) (map[label]store.Labelled, error) {
	rows, err := w.Store.Labelled(ctx, w.lists().Name())
	out := map[label]store.Labelled{}
	for _, r := range rows {
		for _, region := range []string{r.Region, ""} { // a list that is not of a region serves all
			at := label{region, strings.ToLower(r.Label)}
			l := out[at]
			l.All += r.All
			l.Some = append(l.Some, r.Some[:min(len(r.Some), 10-len(l.Some))]...)
			out[at] = l
		}
	}
	return out, err
}

// line is a cloud's word as it is shown and kept.
func line(s string) string { return plaintext.Line(plaintext.Cut(s, 100)) }

func show(region string, e cloud.KeyEntry, m keylists.Match) wire.KeyEntry {
	out := wire.KeyEntry{ID: line(e.ID), Name: line(e.Name), Region: region, Fingerprint: line(e.Fingerprint), SHA256: m.SHA256,
		Lies: m.Lies}
	if m.Key != nil {
		out.Key, out.KeyState, out.Retired = m.Key.Name, m.Key.State, m.Key.Retired
	}
	if !e.Added.IsZero() {
		at := e.Added.UTC()
		out.AddedAt = &at
	}
	return out
}

// printOf is how an entry that is in the way is told: by the fingerprint of its public half, if the cloud shows it.
func printOf(e cloud.KeyEntry) string {
	if p, err := keypair.ReadPublic([]byte(e.Public)); err == nil {
		return p.Fingerprint()
	}
	return line(e.Fingerprint)
}
