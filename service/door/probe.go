package door

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/plaintext"
	"plumlatch/core/rotation"
	"plumlatch/core/times"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/store"
)

// soon is how long somebody who waits for an answer waits where a server was asked often
// enough for now.
const Soon = 10 * time.Second

// AskWithin asks a server about keys, and waits up to patience where it was asked often
// enough for now.
func (w *Service) AskWithin(ctx context.Context, patience time.Duration, t reach.Target,
	blobs [][]byte) []reach.Result {
	return reach.ProbeAll(ctx, w.Reach, t, blobs, time.Now, func(d time.Duration) bool {
		if patience -= d; patience < 0 {
			return false
		}
		select {
		case <-ctx.Done():
		case <-time.After(d):
		}
		return true
	})
}

const LongestGrace = 366 * 24 * time.Hour

const answerLimit = 10 * time.Minute // for a server that does not answer

const withdrawLimit = 7 * 24 * time.Hour

const freshAnswer = time.Minute // an answer of the server's that is no older needs no asking again

const settleLook = 2 * time.Second

// SpanWords writes a length of time for a sentence.
func SpanWords(d time.Duration) string {
	switch {
	case d >= 48*time.Hour && d%(24*time.Hour) == 0:
		return fmt.Sprintf("%d days", d/(24*time.Hour))
	case d >= time.Hour && d%time.Hour == 0:
		return Plural(int(d/time.Hour), "hour")
	case d%time.Minute == 0:
		return Plural(int(d/time.Minute), "minute")
	}
	return times.Length(d.Round(time.Second))
}

// EndCame tells whether an end that a server keeps by itself has come, to the second: what it refuses from then on it
// refuses rightly. Work may have been at rest since the end was written. nil never comes.
func (r *Run) EndCame(end *time.Time) (bool, error) {
	if end == nil {
		return false, nil
	}
	now, err := r.Store.Now(r.Ctx)
	return !now.Add(time.Second).Before(*end), err
}

// AskServer asks about accesses, in the order given, and keeps the answers. A
// server that cannot be asked has the step wait, up to answerLimit.
func (r *Run) AskServer(ids ...int64) (map[int64]reach.Answer, error) {
	d, err := r.Doors()
	if err != nil {
		return nil, err
	}
	all := d.Accesses
	var rows []store.Access
	var blobs [][]byte
	for _, id := range ids {
		if n := slices.IndexFunc(all, func(a store.Access) bool { return a.ID == id }); n >= 0 {
			rows, blobs = append(rows, all[n]), append(blobs, all[n].Blob)
		}
	}
	t, err := r.TargetBy(r.Ctx, r.Instance, d.HostKeys)
	if err != nil {
		return nil, err
	}
	r.lead(&t, r.Instance)
	r.forgetOld(d)
	out := map[int64]reach.Answer{}
	var kept []store.Asked
	trouble := ""
	if r.Edits.Accepted == nil {
		r.Edits.Accepted = map[int64]bool{}
	}
	if r.Edits.Refused == nil {
		r.Edits.Refused = map[int64]bool{}
	}
	for n, p := range r.AskKeys(t, blobs) {
		out[rows[n].ID] = p.Answer
		kept = append(kept, store.Asked{AccessID: rows[n].ID, Answer: string(p.Answer), Detail: p.Detail,
			From: p.Vantage})
		delete(r.Edits.Accepted, rows[n].ID)
		delete(r.Edits.Refused, rows[n].ID)
		switch p.Answer {
		case reach.Accepted:
			r.Edits.Accepted[rows[n].ID] = true
		case reach.Refused:
			r.Edits.Refused[rows[n].ID] = true
		}
		if p.Answer != reach.Accepted && p.Answer != reach.Refused {
			trouble = cmp.Or(trouble, strings.TrimSpace(string(p.Answer)+": "+p.Detail))
		}
	}
	if r.Ctx.Err() != nil {
		return nil, store.ErrLost // what ended with the claim is no answer
	}
	if trouble != "" {
		if _, err := r.Witness(store.Witness{Asked: kept}); err != nil {
			return nil, err
		}
		return out, r.UntilAnswered(errors.New(trouble))
	}
	r.Edits.AskedAt = d.Now // before it was asked: what was written since then is not in the answers
	return out, r.NotedWitness(store.Witness{Asked: kept})
}

// UntilAccepted asks the server about a key until it takes it, or the time is over: it may still be coming up, or the line be on
// its way. Whether it takes the key is for its caller to find out.
func (r *Run) UntilAccepted(keyID int64, left time.Duration) error {
	k, err := r.Store.KeyByID(r.Ctx, keyID)
	if err != nil {
		return err
	}
	for deadline := time.Now().Add(left); ; {
		t, err := r.TargetInside(r.Ctx, r.Instance)
		if err != nil {
			return err
		}
		answers := reach.Probe(r.Ctx, r.Reach, t, [][]byte{k.Blob}, time.Now)
		if answers[0].Answer == reach.Accepted || time.Now().After(deadline) {
			return nil
		}
		if stop := r.Stopping(); stop != nil {
			return stop
		}
		r.Sleep(2 * Poll)
	}
}

// forgetOld forgets answers that say nothing now: they are too old, or a file was written
// since, by this work, on its way back, or by any other. A key that was refused while its
// line was out is no key that opens nothing once the line is back.
func (r *Run) forgetOld(d store.Snapshot) {
	if d.ChangedAt.After(r.Edits.AskedAt) || d.Now.Sub(r.Edits.AskedAt) > freshAnswer {
		r.Edits.Accepted, r.Edits.Refused = nil, nil
	}
}

// AskKeys asks a server about keys, and waits where it was asked often enough for now:
// up to answerLimit, so that even hundreds of keys are asked about to the last.
func (r *Run) AskKeys(t reach.Target, blobs [][]byte) []reach.Result {
	left := answerLimit
	return reach.ProbeAll(r.Ctx, r.Reach, t, blobs, time.Now, func(d time.Duration) bool {
		if left -= d; left < 0 {
			return false
		}
		r.Sleep(d)
		return r.Stopping() == nil
	})
}

// UntilAnswered waits for a server that does not answer now, up to its limit.
func (r *Run) UntilAnswered(err error) error {
	if r.Ctx.Err() != nil {
		return store.ErrLost
	}
	over, e := r.WaitOver()
	if e != nil {
		return e
	}
	if over {
		return Failf("%s does not answer: %s", r.Instance.Name, Words(err))
	}
	var in struct{ Back time.Duration }
	if e := Decode(r.Work.Input, &in); e == nil && in.Back > 0 && r.Step().BackLater && !r.Work.Back {
		return r.Wait(wire.WaitsBack, "it to be back ("+Words(err)+"); it stays as it is until then",
			min(time.Minute, 4*r.Lease), in.Back)
	}
	what := "the server to answer (" + Words(err) + ")"
	if !r.NoReturn() && !r.Work.Back {
		what += "; if it does not, this goes back"
	}
	return r.Wait(wire.WaitsAnswer, what, 3*time.Second, answerLimit)
}

// InstanceGone tells that the instance is no more: there is nothing to do or to take back.
func (r *Run) InstanceGone() bool {
	return r.Instance.Phase == store.Removed || r.Instance.Phase == store.Removing || r.Instance.VanishedAt != nil
}

// SessionOf finds out whether the login user gets a session, from what every user
// may read; that the steward got one shows the account to be in order.
func SessionOf(files reach.Files, user string, rows []store.Access) rotation.Session {
	var s rotation.Session
	for _, a := range rows {
		if !a.Steward && a.LoginUser == user && a.Standing == access.Proven.String() && !a.StandingOld {
			s.Proven = true
		}
	}
	text, err := reach.ReadText(files, "/etc/passwd")
	if err != nil {
		s.NotSeen = append(s.NotSeen, "the login user's shell: /etc/passwd cannot be read")
		return s
	}
	for line := range strings.Lines(text) {
		f := strings.Split(strings.TrimSpace(line), ":")
		if len(f) != 7 || f[0] != user {
			continue
		}
		shell := cmp.Or(f[6], "/bin/sh")
		if fi, err := files.Lstat(shell); access.NoLoginShell(shell) {
			s.Bars = append(s.Bars, "the shell of "+user+" is "+plaintext.Line(plaintext.Cut(shell, 80)))
		} else if err != nil {
			s.NotSeen = append(s.NotSeen, "whether "+plaintext.Line(plaintext.Cut(shell, 80))+", the shell of "+
				user+", is there")
		} else if fi.Mode.Perm()&0o111 == 0 && fi.Mode.IsRegular() {
			s.Bars = append(s.Bars, "nobody may run "+plaintext.Line(plaintext.Cut(shell, 80))+", the shell of "+user)
		}
		return s
	}
	s.NotSeen = append(s.NotSeen, "the login user's shell: "+user+" is not in /etc/passwd")
	return s
}

// OthersStill fails if a key of others is not accepted any more.
func (r *Run) OthersStill(answers map[int64]reach.Answer) error {
	for _, id := range r.Edits.Others {
		if a, ok := answers[id]; ok && a == reach.Refused {
			row, err := r.Store.AccessByID(r.Ctx, id)
			if err != nil {
				return err
			}
			return Failf("the server does not take %s any more, which it took before", row.Key)
		}
	}
	return nil
}

// surveysAfter are when an instance is looked at again by itself: what puts keys
// back (guest programs, configuration runs) does it within a day.
var surveysAfter = []time.Duration{15 * time.Minute, 24 * time.Hour}

// SurveysAfter are when the instance is to be looked at again.
func (r *Run) SurveysAfter() []time.Duration {
	if r.InstanceGone() {
		return nil
	}
	return surveysAfter
}
