package fleet

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"plumlatch/bookfile"
	"plumlatch/core/access"
	"plumlatch/core/keybook"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/wire"
	"plumlatch/service/door"
	"plumlatch/service/store"
)

// Following is a keybook on the service's own disk that it compares again and again, and settles by itself if it is told so.
type Following struct {
	Path string // a file, or a folder
	// As is the operator under whose name it is settled, with that operator's role and never more; "" to settle nothing by itself. Only a text
	// that an operator has signed is taken then.
	As string

	stamp string
	next  time.Time // when it is compared again though nothing changed
}

// How often a followed book is looked at, and compared although its files are as they were: the ledger may have changed.
const (
	followLook    = 5 * time.Second
	followCompare = 5 * time.Minute
)

// Follow looks at the book until the service ends.
func (w *Service) Follow(f *Following) {
	for {
		if err := w.FollowOnce(w.Base(), f, time.Now()); err != nil && w.Base().Err() == nil {
			w.Log.Warn("the keybook was not compared", "path", f.Path, "error", door.Words(err))
		}
		select {
		case <-w.Base().Done():
			return
		case <-time.After(followLook):
		}
	}
}

// FollowOnce compares the book if its files have changed, or its time has come, keeps what it came to, and settles it if it may. now is for
// when it is compared again.
func (w *Service) FollowOnce(ctx context.Context, f *Following, now time.Time) error {
	folder, err := bookfile.Open(f.Path)
	if err != nil {
		return w.follows(ctx, store.FollowedBook{Path: f.Path, Trouble: "it cannot be read: " + door.Words(err)})
	}
	stamp := folder.Stamp()
	if stamp == f.stamp && now.Before(f.next) {
		return nil
	}
	read := folder.Read(now)
	b := store.FollowedBook{Path: f.Path}
	if read.Report.Errors() > 0 || read.Book == nil {
		b.Trouble = "something is wrong with it"
		for _, x := range read.Report.Findings {
			if x.Severity == keybook.Error {
				b.Trouble = x.String()
				break
			}
		}
		if err := w.follows(ctx, b); err != nil {
			return err
		}
		f.stamp, f.next = stamp, now.Add(followCompare)
		return nil
	}
	text := wire.KeybookText{Files: read.Sources, Publics: read.Publics}
	b.Name, b.Text = read.Book.Name, text.Hash()
	by := store.Service
	if f.As != "" {
		if by, err = w.followAs(ctx, f.As); err != nil {
			b.Trouble = err.Error()
			return w.follows(ctx, b)
		}
	}
	d, report, err := w.compareBook(ctx, by, text)
	if err != nil {
		return err
	}
	if report.Errors() > 0 { // between the two looks it changed
		return nil
	}
	counts, err := json.Marshal(d.Counts)
	if err != nil {
		return err
	}
	b.Difference, b.Counts = d.Hash, string(counts)
	for _, i := range d.Items {
		if !keybook.Told(i.Do) {
			b.Todo++
		}
	}
	b.Words = bookWords(d)
	next := now.Add(followCompare)
	if f.As != "" && b.Todo > 0 {
		begun := false
		if b.Waits, begun, err = w.settleFollowed(ctx, by, folder, text, d); err != nil {
			return err
		}
		if begun { // what it came to is looked at soon
			next = now.Add(2 * followLook)
		}
	}
	if err := w.follows(ctx, b); err != nil {
		return err
	}
	f.stamp, f.next = stamp, next
	return nil
}

// follows keeps what a followed book came to, and what needs a hand of it.
func (w *Service) follows(ctx context.Context, b store.FollowedBook) error {
	p, err := w.Policy(ctx)
	if err != nil {
		return err
	}
	if full, err := filepath.Abs(b.Path); err == nil {
		b.Path = full
	}
	return w.Store.KeepFollowed(ctx, p, b)
}

// followAs is the operator under whose name a followed book is settled. The error is for people.
func (w *Service) followAs(ctx context.Context, name string) (store.Actor, error) {
	all, err := w.Store.Operators(ctx)
	if err != nil {
		return store.Actor{}, err
	}
	n := slices.IndexFunc(all, func(o store.Operator) bool { return names.Fold(o.Name) == names.Fold(name) })
	switch {
	case n < 0:
		return store.Actor{}, fmt.Errorf("there is no operator %s, under whose name it is to be settled", name)
	case all[n].DisabledAt != nil:
		return store.Actor{}, fmt.Errorf("the operator %s, under whose name it is to be settled, is disabled", name)
	case all[n].Role == store.Viewer:
		return store.Actor{}, fmt.Errorf("the operator %s, under whose name it is to be settled, may only look", name)
	}
	return store.Actor{Operator: all[n].Name, Address: "keybook"}, nil
}

// settleFollowed settles what may be settled without a hand, and returns what the rest waits for, "" if nothing waits, and whether work was begun.
func (w *Service) settleFollowed(ctx context.Context, by store.Actor, folder *bookfile.Folder, text wire.KeybookText, d keybook.Difference) (waits string, begun bool, err error) {
	doable := 0
	for do, n := range d.Counts {
		if !keybook.Told(do) && do != keybook.Cannot && do != keybook.Launch && do != keybook.Hand {
			doable += n
		}
	}
	policy, err := w.Policy(ctx)
	if err != nil {
		return "", false, err
	}
	switch n := d.Counts[keybook.Withdraw]; {
	case d.CutOffs > 0:
		return fmt.Sprintf("nobody would get into %s any more", door.Plural(d.CutOffs, "instance")), false, nil
	case n > d.Limit:
		return fmt.Sprintf("it would withdraw %s, which is more than %d", door.Plural(n, "access"), d.Limit), false, nil
	case policy.WordFor(d.Instances) != "":
		return "the policy asks for a word for so many instances", false, nil
	case doable == 0 && d.Counts[keybook.Launch] > 0:
		return "instances are to be launched", false, nil
	case doable == 0 && d.Counts[keybook.Hand] > 0:
		return "somebody has to do it on the instances", false, nil
	case doable == 0:
		return "", false, nil
	}
	last, err := w.Store.FollowedBook(ctx, d.Book)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return "", false, err
	}
	signed, why, err := w.signedBook(ctx, folder, text, d.Book)
	switch {
	case err != nil || why != "":
		return why, false, err
	case last.SignedAt != nil && signed.At.Before(*last.SignedAt):
		return fmt.Sprintf("the text was signed at %s, and a later one was taken before", signed.At.Format(time.RFC3339)), false, nil
	case last.Settled == d.Hash: // it was settled, and this is what stayed: rule 1, or an instance that is away
		return "", false, nil
	}
	_, err = w.SettleBook(ctx, by, store.Once{}, wire.KeybookSettle{KeybookText: text, Compared: d.Hash, Version: "signed " + signed.At.Format(time.RFC3339)})
	if e, refused := errors.AsType[door.FieldError](err); refused {
		return e.Problem, false, nil
	}
	if err != nil {
		return "", false, err
	}
	return "", true, w.Store.FollowedSettled(ctx, d.Book, d.Hash, signed.At)
}

// signedBook is the signature of a book's text, by a key that gives words for an operator who may change things. why says what is wrong with it.
func (w *Service) signedBook(ctx context.Context, folder *bookfile.Folder, text wire.KeybookText, name string) (s bookfile.Signed, why string, err error) {
	sign := "plumlatch keybook sign " + cmp.Or(folder.Root, ".")
	data, err := folder.File(folder.Signature, 16<<10)
	if errors.Is(err, keybook.ErrNoFile) {
		return s, "nobody has signed the text: " + sign, nil
	}
	if err == nil {
		s, err = bookfile.ParseSigned(data)
	}
	if err != nil {
		return s, folder.Signature + ": " + door.Words(err), nil
	}
	if s.Hash != text.Hash() || names.Fold(s.Name) != names.Fold(name) {
		return s, "what was signed is another text: " + sign, nil
	}
	operators, err := w.Store.Operators(ctx)
	if err != nil {
		return s, "", err
	}
	for _, o := range operators {
		if o.DisabledAt != nil || o.Role == store.Viewer {
			continue
		}
		keys, err := w.Store.OperatorKeys(ctx, o.ID)
		if err != nil {
			return s, "", err
		}
		for _, k := range keys {
			if !k.GivesWord || k.State != access.InUse || k.RetiredAt != nil {
				continue
			}
			err := k.Public().Verify([]byte(s.Signature), bookfile.Namespace, []byte(s.Text))
			if err == nil {
				return s, "", nil
			}
			if !errors.Is(err, keypair.ErrSignature) {
				return s, "", err
			}
		}
	}
	return s, "its signature is by no key that gives words for an operator (plumlatch operator key NAME -add KEY -may word)", nil
}
