package inside

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/service/cloud"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/service/survey"
	"plumlatch/service/work"
)

// userInput is a change of a user, and what the client told of it.
type userInput struct {
	Do    string     `json:"do"`
	User  string     `json:"user"`
	NewID int64      `json:"new_id,omitempty"` // add: the key
	Key   string     `json:"key,omitempty"`
	Sudo  bool       `json:"sudo,omitempty"`
	Until *time.Time `json:"until,omitempty"`
	Lock  bool       `json:"lock,omitempty"`
	Told  bool       `json:"told"`
	Done  bool       `json:"done"`
	Said  string     `json:"said"`
}

// userSeen is what the steps keep.
type userSeen struct {
	NotSeen string `json:"not_seen,omitempty"`
	Takes   string `json:"takes,omitempty"` // what the server answered for the key
}

type userJob struct {
	door.Job[userInput, userSeen]
	svc *Service
}

func (w *Service) userKind() *work.Kind {
	of := door.Family[*userJob](func() *userJob { return &userJob{svc: w} })
	password := func(j *userJob) bool { return j.In.Do == wire.UserPassword }
	return &work.Kind{
		Name: "set-user", Action: "instance.user",
		Steps: []work.Step{
			{Name: "told", Title: "waiting for the engineer's session, which does it there", Do: of.Do((*userJob).untilTold)},
			{Name: "record", Title: "recording what opens it now", Do: of.Do((*userJob).record), Skip: of.Skip(password), NoReturn: true},
			{Name: "ask", Title: "asking the server whether it takes the key", Do: of.Do((*userJob).ask), NoReturn: true,
				Skip: of.Skip(func(j *userJob) bool { return j.In.Do != wire.UserAdd || j.In.NewID == 0 })},
		},
		End: of.End((*userJob).end),
	}
}

func (j *userJob) end(state store.WorkState) (store.WorkEnd, error) {
	in := j.In
	if state != store.Done {
		outcome := "it was not done"
		if !in.Told {
			outcome = "whether it was done there is not known: plumlatch instance user list " + j.Instance.Name
		}
		return store.WorkEnd{Outcome: j.TookBack(state, outcome)}, nil
	}
	var text string
	switch {
	case in.Do == wire.UserAdd:
		text = in.User + " has an account"
		if in.NewID != 0 {
			text += ", and " + in.Key + " opens it"
		}
		if j.D.Takes != "" && j.D.Takes != "accepted" {
			text = door.OutcomeOf(in.User+" has an account with "+in.Key, "the server does not take the key for it: "+j.D.Takes)
		}
	case in.Do == wire.UserRemove:
		text = in.User + " has no account any more"
	case in.Lock:
		text = in.User + " has no password any more; keys go on working"
	default:
		text = in.User + " has a new password"
	}
	if in.Said != "" {
		text = door.OutcomeOf(text, in.Said)
	}
	if j.D.NotSeen != "" {
		text = door.OutcomeOf(text, "not seen from outside: "+j.D.NotSeen)
	}
	return store.WorkEnd{Outcome: text}, nil
}

// untilTold waits for what the client has to say.
func (j *userJob) untilTold() error {
	if err := j.Reread(); err != nil {
		return err
	}
	switch {
	case j.In.Done:
		return nil
	case j.In.Told:
		return door.Failf("%s", cmp.Or(j.In.Said, "the client did not do it"))
	}
	over, err := j.WaitOver()
	if err != nil {
		return err
	}
	if over {
		return door.Failf("the client has not told what came of it")
	}
	return j.Wait(wire.WaitsHands, "the engineer's session to do it there", time.Minute, toldLimit)
}

// record has the ledger know what the client did: its word, which the server is asked about after it.
func (j *userJob) record() error {
	if j.In.Do == wire.UserAdd {
		if j.In.NewID == 0 {
			return nil
		}
		_, err := j.Store.AddAccess(j.Ctx, j.Instance.ID, j.In.NewID, j.In.User)
		return err
	}
	all, err := j.Store.AccessesOf(j.Ctx, j.Instance.ID)
	if err != nil {
		return err
	}
	for _, a := range all {
		if a.LoginUser == j.In.User && !a.Steward {
			if err := j.Store.EndAccess(j.Ctx, a.ID, j.Work.ID, "its account was removed"); err != nil {
				return err
			}
		}
	}
	return nil
}

// ask asks the server for the key of a new account, as a survey from outside does.
func (j *userJob) ask() error {
	out, err := j.svc.Survey(j.Ctx, store.Service, j.Instance, survey.SurveyWish{Outside: true})
	j.D = userSeen{}
	switch {
	case errors.Is(err, door.ErrCannotSurvey):
		j.D.NotSeen = door.Words(err)
	case err != nil:
		return err
	case out.Outside == nil || out.Outside.Trouble != "":
		j.D.NotSeen = "the server did not answer"
	default:
		for _, a := range out.Outside.Answers {
			if a.LoginUser == j.In.User && names.Fold(a.Key) == names.Fold(j.In.Key) {
				j.D.Takes = a.Answer
			}
		}
	}
	return j.KeepNote()
}

// SetUser begins a change of an instance's users. FieldError, store.ErrReused.
func (w *Service) SetUser(ctx context.Context, by store.Actor, once store.Once, i store.Instance, r wire.SetUser) (store.Work, error) {
	wrong := func(field, format string, a ...any) (store.Work, error) {
		return store.Work{}, door.FieldError{Field: field, Problem: fmt.Sprintf(format, a...)}
	}
	switch {
	case r.Do != wire.UserAdd && r.Do != wire.UserRemove && r.Do != wire.UserPassword:
		return wrong("do", "give add, remove or password")
	case !names.LoginUser(r.User):
		return wrong("user", "that is no login user")
	case i.Phase != store.Ready || i.State != string(cloud.Running):
		return wrong("instance", "it is %s, and this needs one that runs", cmp.Or(i.State, string(i.Phase)))
	case i.Desktop:
		return wrong("instance", "%s", door.NoSSH(i))
	case r.Do != wire.UserAdd && (r.Key != "" || r.Sudo || r.Until != nil), r.Do != wire.UserPassword && r.Lock:
		return wrong("do", "a key, sudo and an end are for adding, a lock is for a password")
	}
	in := userInput{Do: r.Do, User: r.User, Sudo: r.Sudo, Until: r.Until, Lock: r.Lock}
	title := fmt.Sprintf("%s user %s on %s", r.Do, r.User, i.Name)
	intent := r.Do + " user " + r.User
	switch r.Do {
	case wire.UserAdd:
		if err := w.mayAdd(ctx, by, i, r, &in); err != nil {
			return store.Work{}, err
		}
		if in.Key != "" {
			intent += " with " + in.Key
		}
		if r.Sudo {
			intent += ", who may become root"
		}
		if in.Until != nil {
			intent += ", until " + in.Until.Format(time.RFC3339)
		}
	case wire.UserRemove:
		if err := w.mayRemove(ctx, i, r.User); err != nil {
			return store.Work{}, err
		}
	default:
		title, intent = fmt.Sprintf("set the password of %s on %s", r.User, i.Name), "set the password of "+r.User
		if r.Lock {
			title, intent = fmt.Sprintf("take the password of %s away on %s", r.User, i.Name), "take the password of "+r.User+" away"
		}
	}
	if plaintext.HasControl(r.Reason) || len(r.Reason) > 200 {
		return wrong("reason", "a reason is at most 200 printable characters")
	}
	if r.Reason != "" {
		intent += ": " + r.Reason
	}
	return w.BeginOf(ctx, by, once, i, w.Begun(w.Named("set-user"), title, door.Token(26), i, intent, in))
}

// mayAdd checks an account that is to be made as one checks access that is to be shared: it is that. FieldError.
func (w *Service) mayAdd(ctx context.Context, by store.Actor, i store.Instance, r wire.SetUser, in *userInput) error {
	if err := w.MayShare(ctx, by, i); err != nil {
		return err
	}
	terms, err := w.CheckTerms(ctx, wire.AccessAdd{Key: r.Key, User: r.User, Until: r.Until, Reason: r.Reason})
	if err != nil {
		return err
	}
	in.Until = terms.Until
	if r.User == i.LoginUser || r.User == "root" {
		return door.FieldError{Field: "user", Problem: r.User + " is there already: plumlatch access add " + i.Name + " -key KEY"}
	}
	if r.Key == "" {
		return nil
	}
	k, err := w.Store.KeyByName(ctx, r.Key)
	if errors.Is(err, store.ErrNotFound) {
		return w.UnknownKey(ctx, r.Key)
	}
	if err != nil {
		return err
	}
	in.NewID, in.Key = k.ID, k.Name
	return w.Allowed(ctx, k, "key")
}

// mayRemove is rule 1: people get in by another user's account, as was seen by a login. FieldError.
func (w *Service) mayRemove(ctx context.Context, i store.Instance, user string) error {
	if user == i.LoginUser || user == "root" {
		return door.FieldError{Field: "user", Problem: fmt.Sprintf("people come in to %s as %s: it stays", i.Name, user)}
	}
	d, err := w.Store.DoorOf(ctx, i.ID)
	if err != nil {
		return err
	}
	for _, k := range d.Keys {
		if ok, _ := k.WayIn(); ok && k.LoginUser != user && k.Standing == access.Proven {
			return nil
		}
	}
	return door.FieldError{Field: "user", Problem: fmt.Sprintf("nobody was seen to log in to %s as another user than %s with a person's key: plumlatch open %s", i.Name,
		user, i.Name)}
}

// UserToChange tells the engineer's session what to do. store.ErrWorkState.
func (w *Service) UserToChange(ctx context.Context, task store.Work) (wire.UserToChange, error) {
	var in userInput
	if task.Kind != "set-user" || task.Over() || task.At != "told" {
		return wire.UserToChange{}, store.ErrWorkState
	}
	if err := door.Decode(task.Input, &in); err != nil {
		return wire.UserToChange{}, err
	}
	out := wire.UserToChange{Do: in.Do, User: in.User}
	if in.NewID != 0 {
		k, err := w.Store.KeyByID(ctx, in.NewID)
		if err != nil {
			return out, err
		}
		out.PublicKey = k.Public().Line()
	}
	return out, nil
}

// UserTold takes in what a client tells. store.ErrWorkState.
func (w *Service) UserTold(ctx context.Context, by store.Actor, task store.Work, t wire.UserTold) error {
	if task.Kind != "set-user" || task.Over() || task.At != "told" {
		return store.ErrWorkState
	}
	said := plaintext.Line(plaintext.Cut(t.Said, 300))
	words := fmt.Sprintf("%s, from %s, says that it is done", by.Operator, by.Address)
	if !t.Done {
		words = fmt.Sprintf("%s, from %s, says that it was not done: %s", by.Operator, by.Address, said)
	}
	return w.Store.Tell(ctx, task.ID, map[string]any{"told": true, "done": t.Done, "said": said}, words)
}
