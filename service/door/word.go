package door

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/keypair"
	"plumlatch/core/wire"
	"plumlatch/service/store"
)

// Large work, and work that gains root on what nobody of the ledger gets into, waits for a word if the policy asks
// for one: another operator's, or a signature by whoever asked for the work. It is of this work alone: the
// text that is signed names its instances, and is signed after it was begun.

const wordLimit = 24 * time.Hour // for the word that the policy asks for

// Word tells what a piece of work waits for, and the text to sign. store.ErrWorkState.
func (w *Service) Word(ctx context.Context, work store.Work) (wire.Word, error) {
	at := w.KindOf(work.Kind).WordAt
	if at == "" || work.Over() || work.Place() > slices.Index(work.Plan(), at) {
		return wire.Word{}, store.ErrWorkState
	}
	policy, err := w.Policy(ctx)
	if err != nil {
		return wire.Word{}, err
	}
	what := "let large work begin"
	var needs, about string
	if work.InstanceID != 0 {
		what = "let root be gained where nobody of the ledger gets in"
		needs, about, err = w.entryWord(ctx, policy, work.InstanceID)
	} else {
		needs, about, err = w.manyWord(ctx, policy, work.ID)
	}
	if err != nil {
		return wire.Word{}, err
	}
	out := wire.Word{Needs: needs, Text: fmt.Sprintf("Plum Latch: %s\nwork %d %s\ntitle %s\nasked by %s %s\n%s\n", what,
		work.ID, work.Token, work.Title, work.Operator, work.CreatedAt.UTC().Format(time.RFC3339), about)}
	keys, err := w.Store.KeysOfOperator(ctx, work.Operator)
	for _, k := range keys {
		if k.GivesWord {
			out.Keys = append(out.Keys, k.Fingerprint)
		}
	}
	return out, err
}

// manyWord is the word for work on many instances, and the line that names them.
func (w *Service) manyWord(ctx context.Context, p access.Policy, workID int64) (needs, about string, err error) {
	members, err := w.Store.Members(ctx, workID)
	sum := sha256.New()
	for _, m := range members {
		fmt.Fprintf(sum, "%d %q %q %t\n", m.InstanceID, m.OldKey, m.NewKey, m.CutOff)
		if m.ChangesSum != "" {
			fmt.Fprintf(sum, "changes %s\n", m.ChangesSum)
		}
	}
	return p.WordFor(len(members)), fmt.Sprintf("instances %d %x", len(members), sum.Sum(nil)), err
}

// entryWord is the word for work on an instance that came from the cloud's list, as long as nobody was shown to
// get in; the line names the machine as the cloud does.
func (w *Service) entryWord(ctx context.Context, p access.Policy, instanceID int64) (needs, about string, err error) {
	i, err := w.Store.InstanceByID(ctx, instanceID)
	if err != nil {
		return "", "", err
	}
	first, err := w.FirstEntry(ctx, i)
	if err != nil || !first || p.Adopt.Word == access.NoWord {
		return "", "", err
	}
	return p.Adopt.Word, fmt.Sprintf("instance %d %s cloud %s %s", i.ID, i.Name, i.Cloud, i.CloudID), nil
}

// FirstEntry tells whether an instance came from the cloud's list and nobody of the ledger was shown to get in yet.
func (w *Service) FirstEntry(ctx context.Context, i store.Instance) (bool, error) {
	if !i.Found {
		return false, nil
	}
	rows, err := w.Store.AccessesOf(ctx, i.ID)
	return !slices.ContainsFunc(rows, func(a store.Access) bool {
		return !a.Steward && (a.Standing == access.Accepted.String() || a.Standing == access.Proven.String())
	}), err
}

// GiveWord takes an operator's word for a piece of work. FieldError, store.ErrWorkState.
func (w *Service) GiveWord(ctx context.Context, by store.Actor, operatorID int64, work store.Work,
	signature string) error {
	word, err := w.Word(ctx, work)
	if err != nil {
		return err
	}
	wrong := func(format string, a ...any) error {
		return FieldError{Field: "signature", Problem: fmt.Sprintf(format, a...)}
	}
	if word.Needs == "" {
		return wrong("the work waits for no word")
	}
	if signature == "" {
		if by.Operator == work.Operator {
			return wrong("the second word is another operator's: %s asked for the work", work.Operator)
		}
		if word.Needs == access.SignatureWord {
			return wrong("the policy asks for a signature by %s, who asked for the work", work.Operator)
		}
		err = w.Store.GiveWord(ctx, by, work, access.SecondWord, "")
		w.Look()
		return err
	}
	if by.Operator != work.Operator || word.Needs == access.SecondWord {
		return wrong("the policy asks for the word of another operator than %s, without a signature; or for a "+
			"signature by %s", work.Operator, work.Operator)
	}
	keys, err := w.Store.OperatorKeys(ctx, operatorID)
	if err != nil {
		return err
	}
	keys = slices.DeleteFunc(keys, func(k store.OperatorKey) bool { return !k.GivesWord })
	if len(keys) == 0 {
		return wrong("no key signs for %s yet: an admin says which (plumlatch operator key %s -add KEY)",
			by.Operator, by.Operator)
	}
	for _, k := range keys {
		if k.State != access.InUse || k.RetiredAt != nil {
			continue
		}
		if err := k.Public().Verify([]byte(signature), keypair.WordNamespace, []byte(word.Text)); errors.Is(err,
			keypair.ErrSignature) {
			continue
		} else if err != nil {
			return err
		}
		err = w.Store.GiveWord(ctx, by, work, access.SignatureWord, k.Fingerprint)
		w.Look()
		return err
	}
	return wrong("it is not a signature of this work's text by a key that signs for %s", by.Operator)
}

// AwaitWord waits for the word that the policy asks for, if it asks for one.
func (r *Run) AwaitWord() error {
	word, err := r.Service.Word(r.Ctx, r.Work)
	if err != nil || word.Needs == "" {
		return err
	}
	said, err := r.Store.Words(r.Ctx, r.Work.ID)
	if err != nil {
		return err
	}
	for _, s := range said {
		if word.Needs == access.EitherWord || word.Needs == s.Sort {
			return nil
		}
	}
	over, err := r.WaitOver()
	if err != nil {
		return err
	}
	if over {
		return Failf("nobody gave the word that the policy asks for within %s", SpanWords(wordLimit))
	}
	what := map[string]string{
		access.SecondWord: fmt.Sprintf("another operator's word (plumlatch work word %d)", r.Work.ID),
		access.SignatureWord: fmt.Sprintf("a signature by %s (plumlatch work word %d -identity FILE)",
			r.Work.Operator, r.Work.ID),
		access.EitherWord: fmt.Sprintf("another operator's word (plumlatch work word %d), or a signature by %s "+
			"(the same with -identity FILE)", r.Work.ID, r.Work.Operator),
	}[word.Needs]
	return r.Wait(wire.WaitsWord, what+"; if nobody gives it, nothing is begun", time.Minute, wordLimit)
}
