package door

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/core/rotation"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/store"
)

// JudgeByHand asks the guard about a write that an engineer's client makes: lines of work
// that went back meanwhile are taken out again. It judges by what the client saw of the
// file, by the ledger, and by what the server answers now; the client judges the file once
// more. fresh is the key of the lines, was what it counted as when the work began.
// rotation's refusal is a FieldError.
func (w *Service) JudgeByHand(ctx context.Context, work store.Work, i store.Instance, fresh store.Key,
	was rotation.Mark, r wire.PermitRequest) (wire.SignedPermit, error) {
	q, lines, rows, err := w.questionByHand(ctx, i, r)
	if err != nil {
		return wire.SignedPermit{}, err
	}
	if q.Openers, err = w.answeredNow(ctx, i, q.Openers, rows); err != nil {
		return wire.SignedPermit{}, err
	}
	own, err := w.Store.OwnBlobs(ctx, i.ID)
	if err != nil {
		return wire.SignedPermit{}, err
	}
	// What stands there and is not on record, the key that is to go among it: the work went back
	// before the server had shown to take it.
	now, err := w.Store.Now(ctx)
	if err != nil {
		return wire.SignedPermit{}, err
	}
	for _, all := range lines {
		q.Openers = append(q.Openers, strangers(q.Openers, own, all, Taking{Key: fresh}, now, i.RescueFor != 0)...)
	}
	policy, err := w.Policy(ctx)
	if err != nil {
		return wire.SignedPermit{}, err
	}
	q.ShownSince, q.Lines, q.Until = now.Add(-time.Duration(policy.PrivateHalf)), r.Lines,
		time.Now().Add(store.PermitLife)
	q.Taken = []rotation.Taking{{ID: fresh.ID, Blob: fresh.Blob, Was: was}}
	q.Confirm = func(context.Context) error { return nil } // the client's, by the end and the file's hash
	permit, err := rotation.Judge(q)
	if err != nil {
		return wire.SignedPermit{}, FieldError{Field: "lines", Problem: Words(err)}
	}
	rests := permit.Rests()
	if _, err := w.Store.AddPermit(ctx, store.NewPermit{Work: work.ID, Instance: i.ID, LoginUser: i.LoginUser,
		Rests: rests}); err != nil {
		return wire.SignedPermit{}, err
	}
	p := rotation.Paper{Work: work.ID, Instance: i.Alias, LoginUser: i.LoginUser, File: r.File, SHA256: r.SHA256,
		Lines: r.Lines, Until: now.Add(store.PermitLife - 2*time.Second)}
	for _, o := range q.Openers {
		if o.ID != fresh.ID && slices.ContainsFunc(rests, func(rest rotation.Rest) bool { return rest.ID == o.ID }) {
			p.Rests = append(p.Rests, authkeys.Name(o.Blob))
		}
	}
	text := p.Text()
	return wire.SignedPermit{Text: string(text), Signature: w.Heads.Sign(text), PublicKey: w.Heads.Public()}, nil
}

// questionByHand is what the guard is asked, by what the client saw: the recorded keys, and the lines
// of every key by its blob.
func (w *Service) questionByHand(ctx context.Context, i store.Instance, r wire.PermitRequest) (rotation.Question,
	map[string][]authkeys.Line, []store.Access, error) {
	q := rotation.Question{Instance: i.ID, LoginUser: i.LoginUser, Files: map[string][]byte{r.File: nil}}
	every, err := w.Store.AccessesOf(ctx, i.ID)
	if err != nil {
		return q, nil, nil, err
	}
	q.Session = rotation.Session{NotSeen: []string{"the login user's shell"}}
	for _, a := range every {
		if !a.Steward && a.LoginUser == i.LoginUser && a.Standing == access.Proven.String() && !a.StandingOld {
			q.Session.Proven = true
		}
	}
	lines := map[string][]authkeys.Line{}
	for n, k := range r.Keys {
		p, err := keypair.ReadPublic([]byte(k.PublicKey))
		if err != nil || plaintext.HasControl(k.Options) || k.File != r.File {
			return q, nil, nil, FieldError{Field: "keys",
				Problem: fmt.Sprintf("key %d of the file cannot be read", n+1)}
		}
		text := p.Line()
		if k.Options != "" {
			text = k.Options + " " + text
		}
		lines[string(p.Blob)] = append(lines[string(p.Blob)], authkeys.Parse([]byte(text), time.UTC)...)
	}
	var rows []store.Access
	now, err := w.Store.Now(ctx)
	if err != nil {
		return q, nil, nil, err
	}
	for _, a := range every {
		if a.Steward || a.LoginUser != i.LoginUser {
			continue
		}
		o := opener{rotation.Opener{ID: a.KeyID, Blob: a.Blob, Key: a.Key,
			Mark: rotation.Mark{Holder: a.HolderSort, State: a.OutOfUse()}, Shown: timeOf(a.ShownAt)}}
		o.lines(lines[string(a.Blob)], now, i.RescueFor != 0)
		q.Openers, rows = append(q.Openers, o.Opener), append(rows, a)
	}
	return q, lines, rows, nil
}

// answeredNow asks the server which of the keys it takes now.
func (w *Service) answeredNow(ctx context.Context, i store.Instance, openers []rotation.Opener,
	rows []store.Access) ([]rotation.Opener, error) {
	t, err := w.TargetInside(ctx, i)
	if err != nil {
		return nil, err
	}
	order := make([]int, len(openers))
	for n := range order {
		order[n] = n
	}
	slices.SortStableFunc(order, func(a, b int) int { return Likeliest(rows[a], rows[b]) })
	var blobs [][]byte
	for _, n := range order {
		blobs = append(blobs, openers[n].Blob)
	}
	var kept []store.Asked
	for k, p := range w.AskWithin(ctx, Soon, t, blobs) {
		n := order[k]
		openers[n].Accepted, openers[n].Refused = p.Answer == reach.Accepted, p.Answer == reach.Refused
		kept = append(kept, store.Asked{AccessID: rows[n].ID, Answer: string(p.Answer), Detail: p.Detail,
			From: p.Vantage})
	}
	if ctx.Err() != nil {
		return nil, errors.New("the server was not asked to the end")
	}
	return openers, w.Store.Probed(ctx, kept...)
}

// Likeliest orders accesses for a server that may not answer for all of them: the
// service's own key, then those of people, which the guard and a way back may rest on.
func Likeliest(a, b store.Access) int {
	rank := func(a store.Access) int {
		switch {
		case a.Steward:
			return 0
		case a.OfPerson() && a.OutOfUse() == "":
			return 1
		}
		return 2
	}
	return cmp.Compare(rank(a), rank(b))
}

func timeOf(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}
