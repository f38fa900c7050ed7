package reach

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"plumlatch/core/accounts"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
)

// Accounts is what an engineer's session with sudo sees of an instance's users, and the way to change them.
type Accounts struct {
	Privilege string
	All       []accounts.Account
	Keys      map[string]int // lines in the files that the server reads for each; -1 where they were not seen
	NotSeen   []string

	around Around
	prefix string
}

// ErrRefused says that the instance did not do what was asked; the error has its reason.
var ErrRefused = errors.New("not done there")

// ReadAccounts looks at the users of an instance from a session of user's; with a name at that one alone, and not at its keys. ErrNoSudo.
func ReadAccounts(ctx context.Context, host Host, own Files, user, only string) (Accounts, error) {
	a := Accounts{Keys: map[string]int{}}
	var err error
	if only != "" {
		a.around.Inspection, err = Inspect(ctx, host, user, "")
	} else {
		a.around, err = LookAround(ctx, host, own, user, "")
	}
	if err != nil && !errors.Is(err, ErrKeysFiles) {
		return a, err
	}
	a.Privilege, a.NotSeen = a.around.Privilege, a.around.NotSeen
	if a.Privilege != "root" && a.around.SFTPCommand == "" {
		return a, ErrNoSudo
	}
	if strings.HasPrefix(a.around.SFTPCommand, "sudo ") {
		a.prefix = "sudo -n "
	}
	text, err := asRoot(ctx, host, a.prefix, accounts.List(only))
	if err != nil && text == "" {
		return a, fmt.Errorf("the users could not be listed: %w", err)
	}
	if a.All, err = accounts.Read(text); err != nil {
		return a, err
	}
	for n, one := range a.All {
		a.All[n].Shell, a.All[n].Home = plaintext.Line(plaintext.Cut(one.Shell, 100)), plaintext.Line(plaintext.Cut(one.Home, 200))
		a.Keys[one.Name] = -1
	}
	for _, u := range a.around.Users {
		if _, ok := a.Keys[u.User]; ok && u.Whole {
			a.Keys[u.User] = len(u.Lines)
		}
	}
	return a, nil
}

// Find returns an account; nil if there is none of that name.
func (a *Accounts) Find(user string) *accounts.Account {
	for n := range a.All {
		if a.All[n].Name == user {
			return &a.All[n]
		}
	}
	return nil
}

// asRoot runs a script of ours, which is handed over on the standard input.
func asRoot(ctx context.Context, host Host, prefix, script string) (string, error) {
	return withInput(ctx, host, prefix+`sh -c 'script=$(cat); exec </dev/null; eval "$script"'`, script)
}

// answer reads what a script said in the end. ErrRefused.
func answer(text string, err error) (string, error) {
	said := lastLine(text)
	if reason, ok := strings.CutPrefix(said, accounts.SaidRefused); ok {
		return "", fmt.Errorf("%w: %s", ErrRefused, plaintext.Line(plaintext.Cut(strings.TrimSpace(reason), 300)))
	}
	if done, ok := strings.CutPrefix(said, accounts.SaidDone); ok {
		return plaintext.Line(plaintext.Cut(strings.TrimSpace(done), 300)), nil
	}
	return "", fmt.Errorf("whether it was done there is not known: %w", errors.Join(err, errors.New("the server's answer is cut")))
}

// Add makes an account, and returns its home. ErrRefused, accounts.ErrWanted: then nothing of it is there.
func (a *Accounts) Add(ctx context.Context, host Host, w accounts.Wanted) (home string, err error) {
	if w.Line != "" && w.File == "" {
		files := a.around.filesFor(ctx, host, w.Name, a.prefix)
		if len(files) == 0 {
			return "", fmt.Errorf("%w: it is not known which file of keys its server reads", ErrRefused)
		}
		w.File = files[0]
	}
	if err := w.Check(); err != nil {
		return "", err
	}
	return answer(asRoot(ctx, host, a.prefix, w.Script()))
}

// Owned looks at what an account runs and owns.
func (a *Accounts) Owned(ctx context.Context, host Host, user string) (accounts.Owned, error) {
	if !names.LoginUser(user) {
		return accounts.Owned{}, accounts.ErrWanted
	}
	text, err := asRoot(ctx, host, a.prefix, accounts.Owns(user))
	o, cut := accounts.ReadOwned(text)
	for _, list := range [][]string{o.Runs, o.Others} {
		for n := range list {
			list[n] = plaintext.Line(plaintext.Cut(list[n], 200))
		}
	}
	if cut != nil {
		return o, fmt.Errorf("what %s runs and owns was not seen whole: %w", user, errors.Join(err, cut))
	}
	return o, nil
}

// Remove removes an account; what it says is what stays. ErrRefused.
func (a *Accounts) Remove(ctx context.Context, host Host, user string, keepHome bool) (stays string, err error) {
	if !names.LoginUser(user) {
		return "", accounts.ErrWanted
	}
	return answer(asRoot(ctx, host, a.prefix, accounts.Remove(user, keepHome)))
}

// End ends an account whose time is over; it stays, with all that is its own. ErrRefused.
func (a *Accounts) End(ctx context.Context, host Host, user string) error {
	if !names.LoginUser(user) {
		return accounts.ErrWanted
	}
	_, err := answer(asRoot(ctx, host, a.prefix, accounts.End(user)))
	return err
}

// SetPassword gives an account a password, whose hash alone leaves this machine, on the standard input of chpasswd(8): it stands in no
// command line there. With expire, it has to be changed at the first login. ErrRefused.
func (a *Accounts) SetPassword(ctx context.Context, host Host, user string, password []byte, expire bool) error {
	if !names.LoginUser(user) {
		return accounts.ErrWanted
	}
	takes, err := a.Takes(ctx, host)
	if err != nil {
		return err
	}
	hash, err := HashPassword(takes, password)
	if err != nil {
		return err
	}
	return a.SetHash(ctx, host, user, hash, expire)
}

// Takes tells how the system hashes passwords: yescrypt or sha512crypt.
func (a *Accounts) Takes(ctx context.Context, host Host) (string, error) {
	return answer(asRoot(ctx, host, a.prefix, accounts.Takes))
}

// SetHash gives an account a password by its hash, as SetPassword does. ErrRefused.
func (a *Accounts) SetHash(ctx context.Context, host Host, user, hash string, expire bool) error {
	if !names.LoginUser(user) {
		return accounts.ErrWanted
	}
	if _, err := withInput(ctx, host, a.prefix+"/usr/sbin/chpasswd -e", user+":"+hash+"\n"); err != nil {
		return fmt.Errorf("%w: chpasswd did not take it: %w", ErrRefused, err)
	}
	is, err := answer(asRoot(ctx, host, a.prefix, accounts.After(user, expire, false)))
	if err == nil && is != hash[:3] {
		err = fmt.Errorf("%w: the password is not there", ErrRefused)
	}
	return err
}

// LockPassword takes an account's password away; its keys go on working. ErrRefused.
func (a *Accounts) LockPassword(ctx context.Context, host Host, user string) error {
	if !names.LoginUser(user) {
		return accounts.ErrWanted
	}
	is, err := answer(asRoot(ctx, host, a.prefix, accounts.After(user, false, true)))
	if err == nil && is != "locked" {
		err = fmt.Errorf("%w: it has a password still", ErrRefused)
	}
	return err
}
