package agent

import (
	"context"
	"encoding/json"
	"errors"
	"net"
	"slices"

	"plumlatch/core/accounts"
	"plumlatch/core/agentcalls"
	"plumlatch/core/logins"
	"plumlatch/core/plaintext"
	"plumlatch/core/why"
	"plumlatch/core/wire"
	"plumlatch/reach"
)

// Machine is what the verbs are done on. What the owner's file says, and who signed, the agent has judged before. An error that is not of Refuse,
// ErrChanged or agentcalls says that something went wrong there.
type Machine interface {
	Look(context.Context, agentcalls.LookArgs) (wire.ClientSurvey, error)
	// Edit changes a file of keys; ErrChanged if judged, the file's hash, is not "" and another one.
	Edit(ctx context.Context, w agentcalls.EditArgs, judged string) (agentcalls.Edited, error)
	// Users sees and changes the users; hash is that of a password that is set.
	Users(ctx context.Context, w agentcalls.UsersArgs, hash string) (agentcalls.UsersDone, error)
	Logins(context.Context, agentcalls.LoginsArgs) (agentcalls.LoginsDone, error)
	Sessions(context.Context, agentcalls.SessionsArgs) (agentcalls.SessionsDone, error)
	// SSH opens a connection to the machine's own SSH server, by loopback, and to nothing else.
	SSH(context.Context) (net.Conn, error)
	// End ends an account whose time is over, if it is still the one with this number and this day of its own end.
	End(ctx context.Context, user string, uid, day int) error
}

func (a *Agent) machine() Machine {
	if a.Machine == nil {
		return here{}
	}
	return a.Machine
}

// here is the machine that the agent runs on, as root.
type here struct{}

var onIt = reach.Here{}

// Look sees all that an engineer's session with sudo sees.
func (here) Look(ctx context.Context, w agentcalls.LookArgs) (wire.ClientSurvey, error) {
	around, err := reach.LookAround(ctx, onIt, reach.LocalFiles(), "root", "")
	if err != nil {
		return wire.ClientSurvey{}, err
	}
	out := around.Report()
	logins, err := reach.ReadLogins(ctx, onIt, w.LoginsSince)
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

func (here) Edit(ctx context.Context, w agentcalls.EditArgs, judged string) (agentcalls.Edited, error) {
	u, name, err := reach.KeysFileHere(ctx, w.User)
	if err != nil {
		return agentcalls.Edited{}, refused{err}
	}
	done, err := editAs(ctx, u, keysEdit{User: w.User, File: name, Line: w.Line, Take: w.Take, Rests: w.Rests, Judged: judged})
	return agentcalls.Edited{File: name, There: done.There, Taken: done.Taken, SHA256: done.SHA256, Keys: done.Keys}, err
}

func (here) Users(ctx context.Context, w agentcalls.UsersArgs, hash string) (out agentcalls.UsersDone, err error) {
	only := ""
	if w.Do == "add" || w.Do == "lock" || w.Do == "password" {
		only = w.User
	}
	there, err := reach.ReadAccounts(ctx, onIt, reach.LocalFiles(), "root", only)
	if err != nil {
		return out, err
	}
	account := there.Find(w.User)
	if account == nil && w.Do != "list" && w.Do != "add" {
		return out, Refuse("there is no such user")
	}
	switch w.Do {
	case "list":
		out = agentcalls.UsersDone{All: there.All, Keys: there.Keys}
		out.Takes, err = there.Takes(ctx, onIt)
	case "add":
		if account != nil {
			return out, Refuse("there is a user of that name already")
		}
		if out.Said, err = there.Add(ctx, onIt, accounts.Wanted{Name: w.User, Shell: w.Shell, Sudo: w.Sudo, Ends: w.Ends, Line: w.Line}); err != nil {
			break
		}
		if there, err = reach.ReadAccounts(ctx, onIt, reach.LocalFiles(), "root", w.User); err == nil {
			if account = there.Find(w.User); account == nil {
				return out, errors.New("the account that was made is not there")
			}
			out.UID = account.UID
		}
	case "owned":
		out.Owned, err = there.Owned(ctx, onIt, w.User)
	case "remove":
		switch {
		case account.UID == 0:
			return out, Refuse("root stays")
		case accounts.LastRoot(there.All, there.Keys, w.User):
			return out, Refuse("it is the last user who can become root")
		}
		out.Said, err = there.Remove(ctx, onIt, w.User, w.KeepHome)
	case "lock":
		err = there.LockPassword(ctx, onIt, w.User)
	case "password":
		err = there.SetHash(ctx, onIt, w.User, hash, w.Expire)
	}
	if errors.Is(err, reach.ErrRefused) || errors.Is(err, accounts.ErrWanted) {
		err = refused{err}
	}
	return out, err
}

func (here) Logins(ctx context.Context, w agentcalls.LoginsArgs) (out agentcalls.LoginsDone, err error) {
	switch w.Do {
	case "look":
		ways, err := reach.ReadLoginWays(ctx, onIt, reach.LocalFiles(), "root")
		if err != nil {
			return out, err
		}
		out.Ways, err = json.Marshal(ways)
		return out, err
	case "back":
		return out, reach.PutBackLogins(ctx, onIt)
	case "heard":
		return out, reach.HeardLogins(ctx, onIt)
	case "confirm":
		if err := reach.ConfirmLogin(ctx, onIt, w.Process, w.Signature); err != nil {
			return out, refused{err}
		}
		return out, nil
	}
	ways, err := reach.ReadLoginWays(ctx, onIt, reach.LocalFiles(), "root")
	if err != nil {
		return out, err
	}
	if err := stayIn(ctx, ways, w.Change); err != nil {
		return out, err
	}
	plan, err := ways.PlanLogins(ctx, onIt, reach.LocalFiles(), w.Change)
	if err != nil {
		return out, refused{err}
	}
	out.File, out.Nothing, out.Challenge = plan.File(), plan.Nothing(), plan.Challenge()
	if out.Nothing {
		return out, nil
	}
	if err := plan.Arm(ctx, onIt, w.Signers); err != nil {
		return out, refused{err}
	}
	if err := plan.Place(ctx, onIt); err != nil {
		return out, refused{err}
	}
	return out, nil
}

// stayIn refuses what would leave nobody a way in that is seen here: a change that narrows wants a user with a key, and root is switched off if
// another user with a key can become root. Whether that one's login works, the login that confirms shows.
func stayIn(ctx context.Context, ways reach.LoginWays, c logins.Change) error {
	if !c.Narrows() {
		return nil
	}
	keyed := func(user string) bool {
		return slices.ContainsFunc(ways.Accounts, func(a logins.Account) bool { return a.User == user && a.Keys != 0 })
	}
	if c.Root != "off" {
		if !slices.ContainsFunc(ways.Accounts, func(a logins.Account) bool { return keyed(a.User) }) {
			return Refuse("no user there has a key, so nobody would get in any more")
		}
		return nil
	}
	there, err := reach.ReadAccounts(ctx, onIt, reach.LocalFiles(), "root", "")
	if err != nil {
		return err
	}
	for _, a := range there.All {
		if a.UID != 0 && a.MayRoot() && keyed(a.Name) {
			return nil
		}
	}
	return Refuse("no other user who can become root has a key there")
}

func (here) Sessions(ctx context.Context, w agentcalls.SessionsArgs) (out agentcalls.SessionsDone, err error) {
	all, err := reach.Sessions(ctx, onIt, w.User)
	if err != nil {
		return out, err
	}
	all = slices.DeleteFunc(all, func(s why.SSHDSession) bool { return s.Fingerprint != w.Fingerprint })
	out.Left, err = reach.EndSessions(ctx, onIt, all)
	out.Ended = len(all) - len(out.Left)
	return out, err
}

// End ends the account: nobody logs in to it any more, it can become root no more, and what it runs ends. Its files stay.
func (here) End(ctx context.Context, user string, uid, day int) error {
	there, err := reach.ReadAccounts(ctx, onIt, reach.LocalFiles(), "root", user)
	if err != nil {
		return err
	}
	if a := there.Find(user); a == nil || a.UID != uid || a.UID == 0 || a.Expires != day {
		return nil // it is gone, or another by now
	}
	return there.End(ctx, onIt, user)
}
