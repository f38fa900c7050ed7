package fleet

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
	"plumlatch/service/door"
	"plumlatch/service/store"
)

// Large work waits for a word, if the policy asks for one: another operator's,
// or a signature by whoever asked for the work. It is of this work alone: the
// text that is signed names its instances, and is signed after it was begun.

// Word tells what a piece of work waits for, and the text to sign. store.ErrWorkState.
func (w *Service) Word(ctx context.Context, work store.Work) (wire.Word, error) {
	if !w.KindOf(work.Kind).Waves || work.Over() || work.Place() > slices.Index(work.Plan(), "word") {
		return wire.Word{}, store.ErrWorkState
	}
	policy, err := w.Policy(ctx)
	if err != nil {
		return wire.Word{}, err
	}
	members, err := w.Store.Members(ctx, work.ID)
	if err != nil {
		return wire.Word{}, err
	}
	sum := sha256.New()
	for _, m := range members {
		fmt.Fprintf(sum, "%d %q %q %t\n", m.InstanceID, m.OldKey, m.NewKey, m.CutOff)
	}
	text := fmt.Sprintf("Plum Latch: let large work begin\nwork %d %s\ntitle %s\nasked by %s %s\ninstances %d %x\n",
		work.ID, work.Token, work.Title, work.Operator, work.CreatedAt.UTC().Format(time.RFC3339),
		len(members), sum.Sum(nil))
	out := wire.Word{Needs: policy.WordFor(len(members)), Text: text}
	keys, err := w.Store.KeysOfOperator(ctx, work.Operator)
	for _, k := range keys {
		if k.GivesWord {
			out.Keys = append(out.Keys, k.Fingerprint)
		}
	}
	return out, err
}

// GiveWord takes an operator's word for a piece of work. FieldError, store.ErrWorkState.
func (w *Service) GiveWord(ctx context.Context, by store.Actor, operatorID int64, work store.Work,
	signature string) error {
	word, err := w.Word(ctx, work)
	if err != nil {
		return err
	}
	wrong := func(format string, a ...any) error {
		return door.FieldError{Field: "signature", Problem: fmt.Sprintf(format, a...)}
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

// fleetWord waits for the word that the policy asks for.
func (r *fleetJob) fleetWord() error {
	word, err := r.svc.Word(r.Ctx, r.Work)
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
		return door.Failf("nobody gave the word that the policy asks for (word.over) within %s",
			door.SpanWords(wordLimit))
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
