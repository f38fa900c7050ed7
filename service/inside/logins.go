package inside

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/keypair"
	"plumlatch/core/logins"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/survey"
	"plumlatch/service/work"
)

// loginsInput is what a change of the ways of logging in was asked for, and what the client told of it.
type loginsInput struct {
	logins.Change
	Told      bool   `json:"told"`
	Confirmed bool   `json:"confirmed"` // by a login that was made after the change
	Said      string `json:"said"`      // why not; the client's words
}

// loginsSeen is what the service saw of it afterwards.
type loginsSeen struct {
	NotSeen string   `json:"not_seen,omitempty"`
	From    string   `json:"from,omitempty"`
	Offered []string `json:"offered,omitempty"` // users whom the server offers a password still
}

// toldLimit is how long the client may take: the way back on the instance runs out long before.
const toldLimit = 10 * time.Minute

type loginsJob struct {
	door.Job[loginsInput, loginsSeen]
	svc *Service
}

func (w *Service) loginsKind() *work.Kind {
	of := door.Family[*loginsJob](func() *loginsJob { return &loginsJob{svc: w} })
	return &work.Kind{
		Name: "set-logins", Action: "instance.logins",
		Steps: []work.Step{
			{Name: "told", Title: "waiting for the engineer's session, which changes it there", Do: of.Do((*loginsJob).untilTold)},
			{Name: "seen", Title: "asking the server which ways it offers", Do: of.Do((*loginsJob).look)},
		},
		End: of.End(func(j *loginsJob, state store.WorkState) (store.WorkEnd, error) {
			if state != store.Done {
				outcome := "it does not hold"
				if !j.In.Told {
					outcome = "whether it holds is not known: plumlatch instance logins " + j.Instance.Name
				}
				return store.WorkEnd{Outcome: j.TookBack(state, outcome)}, nil
			}
			e := store.WorkEnd{Outcome: j.In.Change.String() + ", confirmed by a login after it"}
			switch {
			case len(j.D.Offered) > 0:
				e.Code = wire.WorkStillOffered
				e.Outcome = door.OutcomeOf(e.Outcome, fmt.Sprintf("asked from %s, the server still offers a password to %s", j.D.From, strings.Join(j.D.Offered, " and ")))
			case j.D.NotSeen != "":
				e.Outcome = door.OutcomeOf(e.Outcome, "not seen from outside: "+j.D.NotSeen)
			}
			return e, nil
		}),
	}
}

// untilTold waits for what the client has to say.
func (j *loginsJob) untilTold() error {
	if err := j.Reread(); err != nil {
		return err
	}
	switch {
	case j.In.Confirmed:
		return nil
	case j.In.Told:
		return door.Failf("%s", cmp.Or(j.In.Said, "the client did not confirm it"))
	}
	over, err := j.WaitOver()
	if err != nil {
		return err
	}
	if over {
		return door.Failf("the client has not told what came of it")
	}
	return j.Wait(wire.WaitsHands, "the engineer's session to change it there, and to confirm it by a new login; nobody is locked out if it does not", time.Minute,
		toldLimit)
}

// look asks the server from outside, as a survey does. What it still offers is told; nothing is undone by that, as a login has confirmed
// the change.
func (j *loginsJob) look() error {
	out, err := j.svc.Survey(j.Ctx, store.Service, j.Instance, survey.SurveyWish{Outside: true})
	j.D = loginsSeen{}
	switch {
	case errors.Is(err, door.ErrCannotSurvey):
		j.D.NotSeen = door.Words(err)
	case err != nil:
		return err
	case out.Outside == nil || out.Outside.Trouble != "":
		j.D.NotSeen = "the server did not answer"
		if out.Outside != nil {
			j.D.NotSeen = out.Outside.Trouble
		}
	default:
		j.D.From = out.Outside.Vantage
		for _, m := range out.Outside.Methods {
			if j.In.Password == "off" && (m.Open || slices.Contains(m.Methods, "password")) {
				j.D.Offered = append(j.D.Offered, m.User)
			}
		}
	}
	return j.KeepNote()
}

// SetLogins begins a change of the ways of logging in to an instance. It is confirmed by a login of a person's, by a key that the ledger
// holds, and that a login was seen with: where there is none, it is refused. FieldError, store.ErrReused.
func (w *Service) SetLogins(ctx context.Context, by store.Actor, once store.Once, i store.Instance, r wire.SetLogins) (store.Work, error) {
	wrong := func(field, format string, a ...any) (store.Work, error) {
		return store.Work{}, door.FieldError{Field: field, Problem: fmt.Sprintf(format, a...)}
	}
	change := logins.Change{Password: r.Password, Root: r.Root}
	switch {
	case change.Check() != nil:
		return wrong("password", "%s", change.Check())
	case i.Phase != store.Ready || i.State != string(cloud.Running):
		return wrong("instance", "it is %s, and this needs one that runs", cmp.Or(i.State, string(i.Phase)))
	case i.Desktop:
		return wrong("instance", "%s", door.NoSSH(i))
	case r.Root == "off" && i.LoginUser == "root":
		return wrong("root", "people come in to %s as root: root logins are switched off once another user of it is recorded", i.Name)
	case plaintext.HasControl(r.Reason) || len(r.Reason) > 200:
		return wrong("reason", "a reason is at most 200 printable characters")
	}
	signers, err := w.mayConfirm(ctx, i, change)
	if err != nil {
		return store.Work{}, err
	}
	if len(signers) == 0 {
		who := "a person's key"
		if change.Root == "off" {
			who += " for another user than root"
		}
		return wrong("instance", "nobody was seen to log in to %s with %s, so nobody could confirm it: plumlatch open %s", i.Name, who, i.Name)
	}
	intent := change.String()
	if r.Reason != "" {
		intent += ": " + r.Reason
	}
	n := w.Begun(w.Named("set-logins"), "set logins of "+i.Name+": "+change.String(), door.Token(26), i, intent, loginsInput{Change: change})
	return w.BeginOf(ctx, by, once, i, n)
}

// LoginsToChange tells what a change that waits is, and whose login may confirm it. store.ErrWorkState.
func (w *Service) LoginsToChange(ctx context.Context, task store.Work) (wire.LoginsToChange, error) {
	out := wire.LoginsToChange{Signers: []string{}}
	if task.Kind != "set-logins" || task.Over() || task.At != "told" {
		return out, store.ErrWorkState
	}
	var in loginsInput
	if err := door.Decode(task.Input, &in); err != nil {
		return out, err
	}
	i, err := w.Store.InstanceByID(ctx, task.InstanceID)
	if err != nil {
		return out, err
	}
	out.Password, out.Root = in.Password, in.Root
	signers, err := w.mayConfirm(ctx, i, in.Change)
	out.Signers = append(out.Signers, signers...)
	return out, err
}

// mayConfirm returns the public lines of those who may confirm.
func (w *Service) mayConfirm(ctx context.Context, i store.Instance, c logins.Change) ([]string, error) {
	d, err := w.Store.DoorOf(ctx, i.ID)
	if err != nil {
		return nil, err
	}
	snapshot, err := w.Store.Snapshot(ctx, i.ID)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, k := range d.Keys {
		if ok, _ := k.WayIn(); !ok || c.Narrows() && k.Standing != access.Proven || c.Root == "off" && k.LoginUser == "root" {
			continue
		}
		for _, a := range snapshot.Accesses {
			if p := (keypair.Public{Blob: a.Blob}); a.LoginUser == k.LoginUser && p.Fingerprint() == k.Fingerprint && !slices.Contains(out, p.Line()) {
				out = append(out, p.Line())
			}
		}
	}
	return out, nil
}

// LoginsTold takes in what a client tells of a change. store.ErrWorkState.
func (w *Service) LoginsTold(ctx context.Context, by store.Actor, task store.Work, t wire.LoginsTold) error {
	if task.Kind != "set-logins" || task.Over() || task.At != "told" {
		return store.ErrWorkState
	}
	said := plaintext.Line(plaintext.Cut(t.Said, 300))
	words := fmt.Sprintf("%s, from %s, says that it is confirmed by a login after the change", by.Operator, by.Address)
	if !t.Confirmed {
		words = fmt.Sprintf("%s, from %s, says that it was not changed: %s", by.Operator, by.Address, said)
	}
	return w.Store.Tell(ctx, task.ID, map[string]any{"told": true, "confirmed": t.Confirmed, "said": said}, words)
}
