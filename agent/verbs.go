package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"plumlatch/core/accounts"
	"plumlatch/core/agentcalls"
	"plumlatch/core/authkeys"
	"plumlatch/core/plaintext"
	"plumlatch/core/why"
	"plumlatch/core/wire"
	"plumlatch/reach"
)

// atOnce holds as many as are carried out at one time; the others wait.
var atOnce = make(chan struct{}, 2)

// verbLimit is how long one call may take at most.
const verbLimit = 12 * time.Minute

// refused is an error of something that is not done: it would do harm, or the machine did not do it.
type refused struct{ error }

func (r refused) Unwrap() error { return r.error }

// errChanged: the file is not what the change was judged on.
var errChanged = errors.New("the file is not what this was judged on")

// serve carries out what a channel asks for, and answers. The files are read anew: what their owner says now counts.
func (a *Agent) serve(ctx context.Context, ch *reach.Channel, head []byte) {
	ctx, cancel := context.WithTimeout(ctx, verbLimit)
	defer cancel()
	select { // a service that asks for much at a time does not take the machine from its own work
	case atOnce <- struct{}{}:
		defer func() { <-atOnce }()
	case <-ctx.Done():
		return
	}
	result, err := a.call(ctx, head)
	answer := agentcalls.Answer{}
	if err == nil {
		answer.Result, err = json.Marshal(result)
	}
	if err != nil {
		answer = agentcalls.Answer{Code: agentcalls.CodeOf(err), Said: plaintext.Line(plaintext.Cut(err.Error(), 400))}
		var no refused
		switch {
		case errors.Is(err, errChanged):
			answer.Code = agentcalls.Changed
		case errors.As(err, &no):
			answer.Code = agentcalls.Refused
		}
		a.Log.Warn("not done", "code", string(answer.Code), "why", answer.Said)
	}
	text, err := json.Marshal(answer)
	if err == nil {
		_, err = ch.Write(text)
	}
	if err == nil {
		err = ch.CloseWrite()
	}
	if err != nil && ctx.Err() == nil {
		a.Log.Warn("the answer was not heard", "error", err)
	}
}

func (a *Agent) call(ctx context.Context, head []byte) (any, error) {
	var c agentcalls.Call
	if err := json.Unmarshal(head, &c); err != nil {
		return nil, agentcalls.ErrRequest
	}
	e, err := a.Paths.load()
	if err != nil {
		return nil, err
	}
	if err := e.owner.Judge(c.Request, c.Signature, e.own, time.Now()); err != nil {
		return nil, err
	}
	if c.Request.Verb.Changes() {
		if err := a.Paths.once(c.Request); err != nil {
			return nil, err
		}
		a.Log.Info("asked", "verb", string(c.Request.Verb), "arguments", plaintext.Line(plaintext.Cut(c.Request.Args, 400)))
	}
	switch c.Request.Verb {
	case agentcalls.Look:
		return look(ctx, c.Request)
	case agentcalls.Edit:
		return edit(ctx, e.owner, c.Request)
	case agentcalls.Users:
		return users(ctx, e.owner, c.Request)
	case agentcalls.Sessions:
		return sessions(ctx, e.owner, c.Request)
	}
	return nil, agentcalls.ErrRequest
}

func args[T any](r agentcalls.Request) (out T, err error) {
	d := json.NewDecoder(strings.NewReader(r.Args))
	d.DisallowUnknownFields()
	if err := d.Decode(&out); err != nil {
		return out, fmt.Errorf("%w: its arguments are not those of %s", agentcalls.ErrRequest, r.Verb)
	}
	return out, nil
}

var onceLock sync.Mutex

// once keeps the nonce of a request before it is carried out, on the disk: a machine that begins anew has not forgotten it. Those whose
// time is over are dropped; of requests that the service alone asks for, too, an hour's. agentcalls.ErrTwice.
func (p Paths) once(r agentcalls.Request) error {
	onceLock.Lock()
	defer onceLock.Unlock()
	seen := map[string]time.Time{}
	data, err := os.ReadFile(p.at(StateDir + "/done.json"))
	if err == nil {
		err = json.Unmarshal(data, &seen)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("what was done before cannot be read, so nothing is: %w", err)
	}
	if _, done := seen[r.Nonce]; done {
		return agentcalls.ErrTwice
	}
	now := time.Now()
	for nonce, until := range seen {
		if now.After(until.Add(2 * agentcalls.Longest)) { // the clock may go back a little
			delete(seen, nonce)
		}
	}
	if len(seen) > 10_000 {
		return refused{errors.New("more was asked for in an hour than is carried out")}
	}
	seen[r.Nonce] = now.Add(agentcalls.Longest)
	if data, err = json.Marshal(seen); err == nil {
		err = p.write("done.json", data)
	}
	return err
}

// look sees all that an engineer's session with sudo sees.
func look(ctx context.Context, r agentcalls.Request) (wire.ClientSurvey, error) {
	w, err := args[agentcalls.LookArgs](r)
	if err != nil {
		return wire.ClientSurvey{}, err
	}
	around, err := reach.LookAround(ctx, reach.Here{}, reach.LocalFiles(), "root", "")
	if err != nil {
		return wire.ClientSurvey{}, err
	}
	out := around.Report()
	logins, err := reach.ReadLogins(ctx, reach.Here{}, w.LoginsSince)
	if err != nil {
		out.NotSeen = append(out.NotSeen, plaintext.Line(plaintext.Cut("the log of logins: "+err.Error(), 300)))
		return out, nil
	}
	log, notSeen := logins.Report()
	out.Logins = &log
	if notSeen != "" {
		out.NotSeen = append(out.NotSeen, notSeen)
	}
	return out, nil
}

// edit adds a line to a user's file of keys, in one append: it can only add a way in. Lines are taken out by nobody but a session, or the
// steward, which ask the guard.
func edit(ctx context.Context, owner agentcalls.Owner, r agentcalls.Request) (agentcalls.Edited, error) {
	w, err := args[agentcalls.EditArgs](r)
	if err != nil {
		return agentcalls.Edited{}, err
	}
	if err := owner.Untouched(w.User); err != nil {
		return agentcalls.Edited{}, err
	}
	lines := authkeys.Parse([]byte(w.Line), time.UTC)
	if strings.ContainsAny(w.Line, "\r\n\x00") || len(lines) != 1 || lines[0].Err != nil {
		return agentcalls.Edited{}, fmt.Errorf("%w: it is no line of a file of keys", agentcalls.ErrRequest)
	}
	u, name, err := reach.KeysFileHere(ctx, w.User)
	if err != nil {
		return agentcalls.Edited{}, refused{err}
	}
	done, err := addAs(ctx, u, addLine{name, w.Line, r.Judged})
	return agentcalls.Edited{File: name, There: done.There}, err
}

func users(ctx context.Context, owner agentcalls.Owner, r agentcalls.Request) (out agentcalls.UsersDone, err error) {
	w, err := args[agentcalls.UsersArgs](r)
	if err != nil {
		return out, err
	}
	if w.Do != "list" {
		if err := owner.Untouched(w.User); err != nil {
			return out, err
		}
	}
	only := ""
	if w.Do == "add" || w.Do == "lock" {
		only = w.User
	}
	there, err := reach.ReadAccounts(ctx, reach.Here{}, reach.LocalFiles(), "root", only)
	if err != nil {
		return out, err
	}
	a := there.Find(w.User)
	switch w.Do {
	case "list":
		return agentcalls.UsersDone{All: there.All, Keys: there.Keys}, nil
	case "add":
		if a != nil {
			return out, refused{errors.New("there is a user of that name already")}
		}
		out.Said, err = there.Add(ctx, reach.Here{}, accounts.Wanted{Name: w.User, Shell: w.Shell, Sudo: w.Sudo, Ends: w.Ends, Line: w.Line})
	case "owned":
		out.Owned, err = there.Owned(ctx, reach.Here{}, w.User)
	case "remove":
		switch {
		case a == nil:
			return out, refused{errors.New("there is no such user")}
		case a.UID == 0:
			return out, refused{errors.New("root stays")}
		case accounts.LastRoot(there.All, there.Keys, w.User):
			return out, refused{errors.New("it is the last user who can become root")}
		}
		out.Said, err = there.Remove(ctx, reach.Here{}, w.User, w.KeepHome)
	case "lock":
		if a == nil {
			return out, refused{errors.New("there is no such user")}
		}
		err = there.LockPassword(ctx, reach.Here{}, w.User)
	default:
		return out, fmt.Errorf("%w: users does list, add, owned, remove and lock", agentcalls.ErrRequest)
	}
	if errors.Is(err, reach.ErrRefused) || errors.Is(err, accounts.ErrWanted) {
		err = refused{err}
	}
	return out, err
}

func sessions(ctx context.Context, owner agentcalls.Owner, r agentcalls.Request) (out agentcalls.SessionsDone, err error) {
	w, err := args[agentcalls.SessionsArgs](r)
	if err != nil {
		return out, err
	}
	if err := owner.Untouched(w.User); err != nil {
		return out, err
	}
	if w.Fingerprint == "" {
		return out, fmt.Errorf("%w: the key is not named", agentcalls.ErrRequest)
	}
	all, err := reach.Sessions(ctx, reach.Here{}, w.User)
	if err != nil {
		return out, err
	}
	all = slices.DeleteFunc(all, func(s why.SSHDSession) bool { return s.Fingerprint != w.Fingerprint })
	out.Left, err = reach.EndSessions(ctx, reach.Here{}, all)
	out.Ended = len(all) - len(out.Left)
	return out, err
}
