package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"plumlatch/core/accounts"
	"plumlatch/core/agentcalls"
	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/reach"
)

// atOnce holds as many as are carried out at one time; the others wait.
var atOnce = make(chan struct{}, 2)

// verbLimit is how long one call may take at most.
const verbLimit = 12 * time.Minute

// refused is an error of something that is not done: it would do harm, or the machine did not do it.
type refused struct{ error }

func (r refused) Unwrap() error { return r.error }

// Refuse makes an error of what a machine does not do: it would do harm, or cannot be done there.
func Refuse(format string, a ...any) error { return refused{fmt.Errorf(format, a...)} }

// ErrChanged says that a file is not what the change was judged on.
var ErrChanged = errors.New("the file is not what this was judged on")

// serve carries out what a channel asks for, and answers. The files are read anew: what their owner says now counts.
func (a *Agent) serve(ctx context.Context, ch *reach.Channel, head []byte) {
	if a.stream(ctx, ch, head) {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, verbLimit)
	defer cancel()
	defer context.AfterFunc(ctx, ch.Close)() // what is read from a service that sends nothing more ends with the time, too
	select {                                 // a service that asks for much at a time does not take the machine from its own work
	case atOnce <- struct{}{}:
		defer func() { <-atOnce }()
	case <-ctx.Done():
		return
	}
	result, err := a.call(ctx, head, ch)
	answer := agentcalls.Answer{}
	if err == nil {
		answer.Result, err = json.Marshal(result)
	}
	if err != nil {
		answer = agentcalls.Answer{Code: agentcalls.CodeOf(err), Said: plaintext.Line(plaintext.Cut(err.Error(), 400))}
		var no refused
		switch {
		case errors.Is(err, ErrChanged):
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

// judged reads a call, and the files anew, and asks their owner's whether it is carried out.
func (a *Agent) judged(head []byte) (c agentcalls.Call, e enrolled, err error) {
	if err := json.Unmarshal(head, &c); err != nil {
		return c, e, agentcalls.ErrRequest
	}
	if e, err = a.Paths.load(); err != nil {
		return c, e, err
	}
	return c, e, e.owner.Judge(c.Request, c.Signature, e.own, time.Now())
}

func (a *Agent) call(ctx context.Context, head []byte, in io.Reader) (any, error) {
	c, e, err := a.judged(head)
	if err != nil {
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
		w, err := args[agentcalls.LookArgs](c.Request)
		if err != nil {
			return nil, err
		}
		return a.machine().Look(ctx, w)
	case agentcalls.Edit:
		return a.edit(ctx, e.owner, c.Request)
	case agentcalls.Users:
		return a.users(ctx, e, c.Request)
	case agentcalls.Logins:
		return a.logins(ctx, e.owner, c.Request)
	case agentcalls.Upgrade:
		return a.upgrade(ctx, e.owner, c.Request, in)
	case agentcalls.Sessions:
		return a.sessions(ctx, e.owner, c.Request)
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

// edit adds a line to a user's file of keys, in one append; or takes lines out, by the safe edit, if one of the keys that the request rests on
// stays there as a way in; or reads.
func (a *Agent) edit(ctx context.Context, owner agentcalls.Owner, r agentcalls.Request) (agentcalls.Edited, error) {
	w, err := args[agentcalls.EditArgs](r)
	if err != nil {
		return agentcalls.Edited{}, err
	}
	if err := owner.Untouched(w.User); err != nil {
		return agentcalls.Edited{}, err
	}
	lines := w.Take
	if w.Line != "" {
		lines = append([]string{w.Line}, lines...)
	}
	for _, line := range lines {
		parsed := authkeys.Parse([]byte(line), time.UTC)
		if strings.ContainsAny(line, "\r\n\x00") || len(parsed) != 1 || parsed[0].Err != nil {
			return agentcalls.Edited{}, fmt.Errorf("%w: it is no line of a file of keys", agentcalls.ErrRequest)
		}
	}
	if len(w.Take) > 0 && (w.Line != "" || r.Judged == "" || len(w.Rests) == 0) {
		return agentcalls.Edited{}, fmt.Errorf("%w: lines are taken out by themselves, of a file that was judged, with the keys that stay", agentcalls.ErrRequest)
	}
	return a.machine().Edit(ctx, w, r.Judged)
}

func (a *Agent) users(ctx context.Context, e enrolled, r agentcalls.Request) (out agentcalls.UsersDone, err error) {
	w, err := args[agentcalls.UsersArgs](r)
	if err != nil {
		return out, err
	}
	if !slices.Contains([]string{"list", "add", "owned", "remove", "lock", "password"}, w.Do) {
		return out, fmt.Errorf("%w: users does list, add, owned, remove, lock and password", agentcalls.ErrRequest)
	}
	if w.Do != "list" {
		if err := e.owner.Untouched(w.User); err != nil {
			return out, err
		}
	}
	hash := ""
	if w.Do == "password" {
		if hash, err = agentcalls.OpenBox(e.key, w.Box, r, w.User); err != nil {
			return out, refused{err}
		}
	}
	if out, err = a.machine().Users(ctx, w, hash); err != nil {
		return out, err
	}
	switch {
	case w.Do == "add" && w.Ends > 0:
		err = a.Paths.keepEnd(w.User, out.UID, accounts.EndDay(w.Ends), time.Unix(w.Ends, 0).UTC())
	case w.Do == "remove":
		err = a.Paths.keepEnd(w.User, 0, 0, time.Time{})
	}
	return out, err
}

// logins sees and changes how people log in, as an engineer's session with sudo does: the way back lies there before anything is changed, and only
// a login that was made after the change ends it, with the signature of one who may confirm.
func (a *Agent) logins(ctx context.Context, owner agentcalls.Owner, r agentcalls.Request) (out agentcalls.LoginsDone, err error) {
	w, err := args[agentcalls.LoginsArgs](r)
	if err != nil {
		return out, err
	}
	switch w.Do {
	case "look", "back", "heard":
	case "confirm":
		if w.Process < 2 || len(w.Signature) > 16<<10 {
			return out, fmt.Errorf("%w: no login is named", agentcalls.ErrRequest)
		}
	case "change":
		if err := w.Change.Check(); err != nil {
			return out, fmt.Errorf("%w: %w", agentcalls.ErrRequest, err)
		}
		for n, line := range w.Signers {
			p, err := keypair.ReadPublic([]byte(line))
			if err != nil || strings.ContainsAny(line, "\r\n") {
				return out, fmt.Errorf("%w: who may confirm is no public key", agentcalls.ErrRequest)
			}
			w.Signers[n] = keypair.Public{Blob: p.Blob}.Line()
		}
		if len(w.Signers) == 0 {
			return out, Refuse("nobody is named who could confirm it")
		}
		if w.Change.Root != "" {
			if err := owner.Untouched("root"); err != nil {
				return out, err
			}
		}
	default:
		return out, fmt.Errorf("%w: logins does look, change, back, confirm and heard", agentcalls.ErrRequest)
	}
	return a.machine().Logins(ctx, w)
}

func (a *Agent) sessions(ctx context.Context, owner agentcalls.Owner, r agentcalls.Request) (out agentcalls.SessionsDone, err error) {
	w, err := args[agentcalls.SessionsArgs](r)
	if err != nil {
		return out, err
	}
	if err := owner.Untouched(w.User); err != nil {
		return out, err
	}
	if !agentcalls.IsFingerprint(w.Fingerprint) {
		return out, fmt.Errorf("%w: the key is not named", agentcalls.ErrRequest)
	}
	return a.machine().Sessions(ctx, w)
}
