package main

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"flag"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"plumlatch/client"
	"plumlatch/core/accounts"
	"plumlatch/core/agentcalls"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/times"
	"plumlatch/core/wire"
	"plumlatch/reach"
)

// userOptions are what instance user is asked for.
type userOptions struct {
	ends
	key, shell, identity, passFile, reason, fresh string
	sudo, expire, keepHome, agent, yes, asJSON    bool
}

// instanceUser lists, adds and removes users of an instance, and sets their passwords, in the engineer's own session.
func instanceUser(fs *flag.FlagSet) func(*cli) error {
	var o userOptions
	fs.StringVar(&o.key, "key", "", "add: recorded `key` that is to open the account")
	fs.BoolVar(&o.sudo, "sudo", false, "add: it may become root, without a password")
	fs.StringVar(&o.shell, "shell", "", "add: its `shell` (default: the system's)")
	o.ends.flags(fs)
	fs.StringVar(&o.fresh, "new", "", "password: `random`, made here and shown once; or none: keys alone go on working (default: asked for, twice)")
	fs.BoolVar(&o.expire, "expire", false, "password: it has to be changed at the first login")
	fs.BoolVar(&o.keepHome, "keep-home", false, "remove: leave its home there")
	fs.StringVar(&o.identity, "identity", "", "your private key `file`: it is used here and never sent (default: a key of ~/.ssh that opens the instance)")
	fs.BoolVar(&o.agent, "ssh-agent", false, "the same with the keys in the running ssh-agent")
	fs.StringVar(&o.passFile, "passphrase-file", "", "`file` with the passphrase of -identity")
	fs.StringVar(&o.reason, "reason", "", "`why`: it is kept in the journal")
	fs.BoolVar(&o.yes, "yes", false, "do not ask")
	fs.BoolVar(&o.asJSON, "json", false, "list: print JSON")
	return func(c *cli) error {
		verb, rest := "", []string(nil)
		if len(c.args) > 0 {
			verb, rest = c.args[0], c.args[1:]
		}
		want := map[string]int{"list": 1, "add": 2, "remove": 2, "password": 2}[verb]
		switch {
		case want == 0:
			return usagef("say list, add, remove or password")
		case len(rest) != want:
			return usagef("%s", map[int]string{1: "say list NAME", 2: "say " + verb + " NAME USER"}[want])
		case want == 2 && !names.LoginUser(rest[1]):
			return usagef("%q is no login user", plaintext.Line(plaintext.Cut(rest[1], 60)))
		case verb != "add" && (o.key != "" || o.sudo || o.shell != "" || o.span != "" || o.until != ""):
			return usagef("-key, -sudo, -shell, -for and -until go with add")
		case verb != "password" && (o.fresh != "" || o.expire):
			return usagef("-new and -expire go with password")
		case o.fresh != "" && o.fresh != "random" && o.fresh != "none":
			return usagef("-new is random or none")
		case verb != "remove" && o.keepHome, verb != "list" && o.asJSON:
			return usagef("-keep-home goes with remove, and -json with list")
		case o.fresh == "none" && o.expire:
			return usagef("-new none leaves no password to change: leave out -expire")
		case o.identity != "" && o.agent:
			return usagef("give -identity or -ssh-agent")
		}
		service, err := c.service()
		if err != nil {
			return err
		}
		return c.userOf(service, verb, rest, o)
	}
}

// userHands see and change the users of an instance: the engineer's own session, or the agent there.
type userHands struct {
	all         []accounts.Account
	keys        map[string]int // lines in the files that the server reads for each; -1 where they were not seen
	seenBy      string
	notSeen     []string
	add         func(context.Context, accounts.Wanted) error
	owned       func(context.Context, string) (accounts.Owned, error)
	remove      func(ctx context.Context, user string, keepHome bool) (stays string, err error)
	lock        func(context.Context, string) error
	setPassword func(ctx context.Context, user string, password []byte, expire bool) error
}

// find returns an account; nil if there is none of that name.
func (h userHands) find(user string) *accounts.Account {
	for n := range h.all {
		if h.all[n].Name == user {
			return &h.all[n]
		}
	}
	return nil
}

// userOf looks, by the agent where that may, else by logging in, and does what was asked for.
func (c *cli) userOf(service *client.Client, verb string, rest []string, o userOptions) error {
	i, err := service.Instance(c.ctx, rest[0])
	if err != nil {
		return err
	}
	hands, err := c.usersByAgent(service, rest[0], i, o)
	if err != nil {
		return err
	}
	if hands == nil {
		known, err := c.enterKnown(service, rest[0], adoptOptions{identity: o.identity, agent: o.agent, passFile: o.passFile}, "plumlatch instance user "+verb+" "+
			strings.Join(rest, " "))
		if err != nil {
			return err
		}
		defer known.close()
		only := ""
		if verb == "add" || verb == "password" { // what is asked of the others is asked for removing one alone
			only = rest[1]
		}
		if hands, err = c.usersBySession(known, only); err != nil {
			return err
		}
	}
	switch verb {
	case "list":
		return c.listUsers(i, *hands, o.asJSON)
	case "add":
		return c.addUser(service, i, *hands, rest[1], o)
	case "remove":
		return c.removeUser(service, i, *hands, rest[1], o)
	}
	return c.setPassword(service, i, *hands, rest[1], o)
}

// usersBySession are the hands of an engineer's session; with a name they look at that user alone.
func (c *cli) usersBySession(known *knownEntrance, only string) (*userHands, error) {
	i, in := known.of, known.entrance
	there, err := reach.ReadAccounts(c.ctx, in.ssh, in.files, i.LoginUser, only)
	if errors.Is(err, reach.ErrNoSudo) {
		return nil, failure{fmt.Errorf("%s has %s on %s: its users are seen and changed as root alone", i.LoginUser, cmp.Or(there.Privilege, "no sudo"), i.Name),
			"the same command with the key of a user who has sudo without a password; an agent there that may do it needs none (plumlatch instance agent show " + i.Name + ")"}
	}
	if err != nil {
		return nil, err
	}
	return &userHands{all: there.All, keys: there.Keys, seenBy: i.LoginUser + " with " + there.Privilege, notSeen: there.NotSeen,
		add: func(ctx context.Context, w accounts.Wanted) error {
			_, err := there.Add(ctx, in.ssh, w)
			return err
		},
		owned: func(ctx context.Context, user string) (accounts.Owned, error) { return there.Owned(ctx, in.ssh, user) },
		remove: func(ctx context.Context, user string, keepHome bool) (string, error) {
			return there.Remove(ctx, in.ssh, user, keepHome)
		},
		lock: func(ctx context.Context, user string) error { return there.LockPassword(ctx, in.ssh, user) },
		setPassword: func(ctx context.Context, user string, password []byte, expire bool) error {
			return there.SetPassword(ctx, in.ssh, user, password, expire)
		}}, nil
}

// usersByAgent are the hands of the agent, if it is connected and pinned here, its owner's file opens users, and it takes this engineer's
// signature; nil if not.
func (c *cli) usersByAgent(service *client.Client, called string, i wire.Instance, o userOptions) (*userHands, error) {
	if openable(i) != nil {
		return nil, nil
	}
	hands, err := c.agentFor(service, called, i, agentcalls.Users, adoptOptions{identity: o.identity, agent: o.agent, passFile: o.passFile})
	if hands == nil || err != nil {
		return nil, err
	}
	ask := func(ctx context.Context, args agentcalls.UsersArgs) (out agentcalls.UsersDone, err error) {
		err = hands.ask(ctx, agentcalls.Users, "", args, &out)
		return plainUsers(out), err
	}
	there, err := ask(c.ctx, agentcalls.UsersArgs{Do: "list"})
	if p, ok := errors.AsType[*client.Problem](err); ok && (p.Of("agent-refused") || p.Of("agent-away")) {
		fmt.Fprintf(c.err, "Not by the agent: %s\n", p.Detail)
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return &userHands{all: there.All, keys: there.Keys, seenBy: "the agent there",
		add: func(ctx context.Context, w accounts.Wanted) error {
			_, err := ask(ctx, agentcalls.UsersArgs{Do: "add", User: w.Name, Shell: w.Shell, Sudo: w.Sudo, Ends: w.Ends, Line: w.Line})
			return err
		},
		owned: func(ctx context.Context, user string) (accounts.Owned, error) {
			out, err := ask(ctx, agentcalls.UsersArgs{Do: "owned", User: user})
			return out.Owned, err
		},
		remove: func(ctx context.Context, user string, keepHome bool) (string, error) {
			out, err := ask(ctx, agentcalls.UsersArgs{Do: "remove", User: user, KeepHome: keepHome})
			return out.Said, err
		},
		lock: func(ctx context.Context, user string) error {
			_, err := ask(ctx, agentcalls.UsersArgs{Do: "lock", User: user})
			return err
		},
		setPassword: func(ctx context.Context, user string, password []byte, expire bool) error {
			hash, err := reach.HashPassword(there.Takes, password)
			if err != nil {
				return err
			}
			key, err := keypair.ReadPublic([]byte(hands.agent.PublicKey)) // the pinned one: agentOf has compared it
			if err != nil {
				return err
			}
			nonce := rand.Text()
			box, err := agentcalls.NewPassword{User: user, Hash: hash, Nonce: nonce}.Seal(key.Blob)
			if err != nil {
				return err
			}
			var done agentcalls.UsersDone
			return hands.askAs(ctx, agentcalls.Users, "", nonce, agentcalls.UsersArgs{Do: "password", User: user, Box: box, Expire: expire}, &done)
		}}, nil
}

// plainUsers makes what an agent says fit to be shown: it may be anybody's by now.
func plainUsers(out agentcalls.UsersDone) agentcalls.UsersDone {
	line := func(s *string) { *s = plaintext.Line(plaintext.Cut(*s, 200)) }
	out.All = slices.DeleteFunc(out.All, func(a accounts.Account) bool { return !names.LoginUser(a.Name) })
	for n := range out.All {
		line(&out.All[n].Shell)
		line(&out.All[n].Home)
		line(&out.All[n].Password)
	}
	for _, list := range [][]string{out.Owned.Runs, out.Owned.Others} {
		for n := range list {
			line(&list[n])
		}
	}
	line(&out.Said)
	return out
}

// shownUser is one user, as -json has it.
type shownUser struct {
	User      string `json:"user"`
	UID       int    `json:"uid"`
	Sudo      string `json:"sudo"`     // root, free, asks, some, no; "" where it was not seen
	Password  string `json:"password"` // set, locked, empty; "" where it was not seen
	Keys      int    `json:"keys"`     // -1 where they were not seen
	Processes int    `json:"processes"`
	Shell     string `json:"shell"`
	Home      string `json:"home"`
	HomeIs    string `json:"home_is"`
	Expires   string `json:"expires,omitempty"`
	Trouble   string `json:"trouble,omitempty"`
}

// day is a day of shadow(5).
func day(n int) string { return time.Unix(int64(n)*24*60*60, 0).UTC().Format(time.DateOnly) }

func (c *cli) listUsers(i wire.Instance, there userHands, asJSON bool) error {
	out := []shownUser{}
	for _, a := range there.all {
		u := shownUser{User: a.Name, UID: a.UID, Sudo: a.Sudo, Password: a.Password, Keys: there.keys[a.Name], Processes: a.Processes, Shell: a.Shell, Home: a.Home,
			HomeIs: a.HomeIs}
		if a.Expires > 0 {
			u.Expires = day(a.Expires)
		}
		var wrong []string
		for _, b := range there.all {
			if b.UID == a.UID && b.Name != a.Name {
				wrong = append(wrong, "same number as "+b.Name)
			}
		}
		switch {
		case a.HomeIs == accounts.HomeLink:
			wrong = append(wrong, "its home is a link")
		case a.HomeIs == accounts.HomeNone:
			wrong = append(wrong, "it has no home")
		case a.HomeOwner >= 0 && a.HomeOwner != a.UID:
			wrong = append(wrong, "its home is another's")
		}
		u.Trouble = strings.Join(wrong, "; ")
		out = append(out, u)
	}
	if asJSON {
		return c.json(wire.List[shownUser]{Items: out})
	}
	fmt.Fprintf(c.out, "Users of %s with a shell that logs in, seen by %s.\n\n", i.Name, there.seenBy)
	var rows [][]string
	for _, u := range out {
		keys := "not seen"
		if u.Keys >= 0 {
			keys = strconv.Itoa(u.Keys)
		}
		rows = append(rows, []string{u.User, strconv.Itoa(u.UID), sudoWords(u.Sudo), cmp.Or(u.Password, "not seen"), keys, strconv.Itoa(u.Processes), u.Expires, u.Home, u.Trouble})
	}
	c.table([]string{"user", "uid", "becomes root", "password", "keys", "runs", "ends", "home", ""}, rows, "There is no such user.")
	fmt.Fprintln(c.out)
	c.said("not seen", there.notSeen)
	return nil
}

func sudoWords(s string) string {
	return map[string]string{accounts.SudoRoot: "is root", accounts.SudoFree: "without a password", accounts.SudoAsks: "with its password",
		accounts.SudoSome: "some commands", accounts.SudoNone: "no", "": "not seen"}[s]
}

// begun begins the work, waits until it waits for this session, and returns what to tell it.
func (c *cli) userBegun(service *client.Client, i wire.Instance, r wire.SetUser) (w wire.Work, todo wire.UserToChange, tell func(error, string) error, err error) {
	if w, err = service.SetUser(c.ctx, i.Name, r); err != nil {
		return w, todo, nil, err
	}
	tell = func(failed error, said string) error {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(c.ctx), 30*time.Second)
		defer cancel()
		t := wire.UserTold{Done: failed == nil, Said: said}
		if failed != nil {
			t.Said = plaintext.Line(plaintext.Cut(failed.Error(), 300))
		}
		return errors.Join(failed, service.UserTold(ctx, w.ID, t))
	}
	if w, err = c.settled(service, w); err == nil && w.State != "waiting" {
		err = c.workFailed(service, w)
	}
	if err == nil {
		todo, err = service.UserToChange(c.ctx, w.ID)
	}
	if err == nil && (todo.Do != r.Do || todo.User != r.User) {
		err = errors.New("the service names another change than the one that was asked for: nothing was done")
	}
	return w, todo, tell, err
}

// userDone waits for the end of the work, and says what came of it.
func (c *cli) userDone(service *client.Client, i wire.Instance, w wire.Work) error {
	for {
		now, err := service.WorkByID(c.ctx, w.ID)
		switch {
		case err != nil:
			return err
		case now.Over() && now.State != "done":
			return c.workFailed(service, now)
		case now.Over():
			fmt.Fprintf(c.out, "%s: %s.\n", i.Name, plaintext.Line(now.Outcome))
			return nil
		}
		select {
		case <-c.ctx.Done():
			return failure{errors.New("stopped following; it is done there"), fmt.Sprintf("plumlatch work follow %d", w.ID)}
		case <-time.After(150 * time.Millisecond):
		}
	}
}

func (c *cli) addUser(service *client.Client, i wire.Instance, there userHands, user string, o userOptions) error {
	until, err := o.at(time.Now())
	if err != nil {
		return err
	}
	if there.find(user) != nil {
		return failure{fmt.Errorf("%s has a user %s already", i.Name, user), "plumlatch instance user list " + i.Name}
	}
	w, todo, tell, err := c.userBegun(service, i, wire.SetUser{Do: wire.UserAdd, User: user, Key: o.key, Sudo: o.sudo, Until: until, Reason: o.reason})
	if tell == nil {
		return err
	}
	wanted := accounts.Wanted{Name: user, Shell: o.shell, Sudo: o.sudo}
	if until != nil {
		wanted.Ends = until.Unix()
	}
	what := fmt.Sprintf("Make the account %s on %s", user, i.Name)
	if err == nil && o.key != "" {
		var p keypair.Public
		if p, err = keypair.ReadPublic([]byte(todo.PublicKey)); err == nil {
			wanted.Line = keypair.Public{Blob: p.Blob, Comment: o.key}.Line()
			what += fmt.Sprintf(", opened by %s (%s)", o.key, p.Fingerprint())
		}
	}
	if o.sudo {
		what += ", who may become root without a password"
	}
	if until != nil {
		what += ", until " + times.Show(until.Local())
	}
	if err == nil && !o.yes {
		err = c.confirm(what + "?")
	}
	if err == nil {
		err = there.add(c.ctx, wanted)
	}
	if err := tell(err, ""); err != nil {
		return err
	}
	return c.userDone(service, i, w)
}

func (c *cli) removeUser(service *client.Client, i wire.Instance, there userHands, user string, o userOptions) error {
	a := there.find(user)
	switch {
	case a == nil:
		return failure{fmt.Errorf("%s has no user %s whose shell logs in", i.Name, user), "plumlatch instance user list " + i.Name}
	case user == i.LoginUser || a.UID == 0:
		return failure{fmt.Errorf("people come in to %s as %s: it stays", i.Name, user), "plumlatch instance user list " + i.Name}
	case accounts.LastRoot(there.all, there.keys, user):
		return failure{fmt.Errorf("%s is the last user of %s who can become root", user, i.Name), "plumlatch instance user add " + i.Name + " USER -key KEY -sudo"}
	}
	owned, err := there.owned(c.ctx, user)
	if err != nil {
		return err
	}
	fmt.Fprintf(c.err, "%s (%d) on %s:\n", user, a.UID, i.Name)
	for _, r := range owned.Runs {
		fmt.Fprintf(c.err, "  runs %s: it is ended\n", r)
	}
	if owned.Crontab {
		fmt.Fprintln(c.err, "  has a crontab: it is removed")
	}
	home := fmt.Sprintf("  %s, %s, %s", a.Home, count(owned.Files, "file"), sizeOf(owned.KiB))
	switch {
	case a.HomeIs == accounts.HomeNone:
	case o.keepHome || a.HomeIs == accounts.HomeLink || a.HomeOwner != a.UID:
		fmt.Fprintln(c.err, home+": it stays")
	default:
		fmt.Fprintln(c.err, home+": it is removed")
	}
	for _, f := range owned.Others {
		fmt.Fprintf(c.err, "  %s is its own, and stays\n", f)
	}
	if owned.More {
		fmt.Fprintln(c.err, "  there may be more that is its own: not all was seen")
	}
	if !o.yes {
		if err := c.confirm(fmt.Sprintf("Remove %s from %s?", user, i.Name)); err != nil {
			return err
		}
	}
	w, _, tell, err := c.userBegun(service, i, wire.SetUser{Do: wire.UserRemove, User: user, Reason: o.reason})
	if tell == nil {
		return err
	}
	stays := ""
	if err == nil {
		stays, err = there.remove(c.ctx, user, o.keepHome)
	}
	if err := tell(err, stays); err != nil {
		return err
	}
	return c.userDone(service, i, w)
}

// sizeOf writes a number of KiB.
func sizeOf(kib int) string {
	switch {
	case kib >= 1<<20:
		return fmt.Sprintf("%.1f GiB", float64(kib)/(1<<20))
	case kib >= 1<<10:
		return fmt.Sprintf("%.1f MiB", float64(kib)/(1<<10))
	}
	return fmt.Sprintf("%d KiB", kib)
}

func (c *cli) setPassword(service *client.Client, i wire.Instance, there userHands, user string, o userOptions) error {
	if there.find(user) == nil {
		return failure{fmt.Errorf("%s has no user %s whose shell logs in", i.Name, user), "plumlatch instance user list " + i.Name}
	}
	var password []byte
	var err error
	switch {
	case o.fresh == "none":
	case o.fresh == "random":
		if !c.tty && !o.yes {
			return failure{errors.New("a password that is made here is shown on a terminal, and there is none"), "the same command with -yes: it stands on the standard output then"}
		}
		password = []byte(strings.ReplaceAll(randomPassphrase(), " ", "-"))
	default:
		if password, err = c.passwordTwice(user, i.Name); err != nil {
			return err
		}
	}
	defer clear(password)
	w, _, tell, err := c.userBegun(service, i, wire.SetUser{Do: wire.UserPassword, User: user, Lock: o.fresh == "none", Reason: o.reason})
	if tell == nil {
		return err
	}
	if err == nil && o.fresh == "none" {
		err = there.lock(c.ctx, user)
	} else if err == nil {
		err = there.setPassword(c.ctx, user, password, o.expire)
	}
	if err == nil && o.fresh == "random" { // it is set: whatever becomes of the rest, somebody has to know it
		fmt.Fprintf(c.err, "The password of %s on %s. It is shown here, and kept nowhere:\n", user, i.Name)
		fmt.Fprintln(c.out, string(password))
	}
	if err := tell(err, ""); err != nil {
		return err
	}
	return c.userDone(service, i, w)
}

// passwordTwice asks for a password that is to be set.
func (c *cli) passwordTwice(user, instance string) ([]byte, error) {
	if !c.tty {
		return nil, failure{errors.New("a password is asked for on a terminal, and there is none"), "the same command with -new random -yes"}
	}
	if again, err := hush(int(os.Stdin.Fd())); err == nil { // between the two questions as well
		defer again()
	}
	first, err := c.ask(fmt.Sprintf("New password of %s on %s (nothing shows while you type): ", user, instance))
	if err != nil {
		return nil, err
	}
	second, err := c.ask("The same again: ")
	if err != nil {
		return nil, err
	}
	defer clear(second)
	if len(first) == 0 || !bytes.Equal(first, second) {
		clear(first)
		return nil, failure{errors.New("the two passwords differ, or are empty; nothing was changed"), "run the command again"}
	}
	return first, nil
}
