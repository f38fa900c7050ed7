package inside_test

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"plumlatch/core/wire"
	"plumlatch/service/door"
	"plumlatch/service/kinds"
	"plumlatch/service/kinds/kindtest"
	"plumlatch/service/store"
)

// proven has a login seen with a key of an instance.
func proven(t *testing.T, h *kindtest.House, i store.Instance, key store.Key) {
	t.Helper()
	all, err := h.DB.AccessesOf(t.Context(), i.ID)
	if err != nil {
		t.Fatal(err)
	}
	n := slices.IndexFunc(all, func(a store.Access) bool { return !a.Steward && a.Key == key.Name })
	if n < 0 {
		t.Fatalf("no access of %s: %+v", key.Name, all)
	}
	if err := h.DB.LoginReported(t.Context(), kindtest.By, all[n], true); err != nil {
		t.Fatal(err)
	}
}

// TestSetLogins: a change waits for the client's word, wherever the replica is killed that has it; it is done by the word of a login alone.
func TestSetLogins(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	k := h.Key("first")
	i := h.Launch("berth-1", "first")
	begin := func(h *kindtest.House) (store.Work, error) {
		return h.W.Inside.SetLogins(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"), wire.SetLogins{Password: "off", Reason: "nobody needs it"})
	}
	if _, err := begin(h); !fieldIs(err, "instance", "plumlatch open berth-1") {
		t.Errorf("nobody was seen to log in: %v", err)
	}
	proven(t, h, i, k)
	tell := wire.LoginsTold{Confirmed: true}
	told := func(h *kindtest.House, w store.Work) {
		if w.At != "told" {
			return
		}
		todo, err := h.W.Inside.LoginsToChange(t.Context(), w)
		if err != nil { // the replica is gone
			return
		}
		if todo.Password != "off" || todo.Root != "" || len(todo.Signers) != 1 || !strings.HasPrefix(todo.Signers[0], "ssh-ed25519 ") {
			t.Errorf("to change: %+v %v", todo, err)
		}
		_ = h.W.Inside.LoginsTold(t.Context(), kindtest.By, w, tell)
	}
	h.While(told)
	points := 0
	for _, point := range kinds.Halts() {
		if !strings.HasPrefix(point, "set-logins/") {
			continue
		}
		points++
		w, came := h.Halted(point, begin)
		h.GoOn()
		if w = h.Done(w, nil); w.State != store.Done || !strings.HasPrefix(w.Outcome, "password off, confirmed by a login after it") || !came {
			t.Errorf("%s: %s, %s", point, w.State, w.Outcome)
		}
	}
	if points < 4 {
		t.Errorf("%d points", points)
	}
	// The server offers it still: the client was wrong, or lies.
	conf := filepath.Join(h.KeysFile(i), "../../../../etc/ssh/sshd_config.d/00-a.conf")
	if err := os.MkdirAll(filepath.Dir(conf), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(conf, []byte("PasswordAuthentication yes\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if w := h.Done(begin(h)); w.State != store.Done || w.Code != wire.WorkStillOffered || !strings.Contains(w.Outcome, "still offers a password to debian") {
		t.Errorf("offered still: %s %q %s", w.State, w.Code, w.Outcome)
	}
	if err := os.Remove(conf); err != nil {
		t.Fatal(err)
	}
	if w := h.Done(begin(h)); w.Code != "" {
		t.Errorf("offered no more: %q %s", w.Code, w.Outcome)
	}
	// The client says why not.
	tell = wire.LoginsTold{Said: "the server would not obey it"}
	if w := h.Done(begin(h)); w.State != store.WentBack || !strings.Contains(w.Outcome, "the server would not obey it") || !strings.Contains(w.Outcome, "it does not hold") {
		t.Errorf("not confirmed: %s, %s", w.State, w.Outcome)
	}
	// Nobody says anything, and somebody cancels.
	h.While(func(h *kindtest.House, w store.Work) {
		if w.At == "told" {
			_ = h.W.Door.Engine.Cancel(t.Context(), kindtest.By, w)
		}
	})
	w := h.Done(begin(h))
	if w.State != store.Cancelled || !strings.Contains(w.Outcome, "not known") {
		t.Errorf("cancelled: %s, %s", w.State, w.Outcome)
	}
	if err := h.W.Inside.LoginsTold(t.Context(), kindtest.By, w, tell); !errors.Is(err, store.ErrWorkState) {
		t.Errorf("told after its end: %v", err)
	}
	if _, err := h.W.Inside.LoginsToChange(t.Context(), w); !errors.Is(err, store.ErrWorkState) {
		t.Errorf("asked after its end: %v", err)
	}
}

// TestSetLoginsRefused: what is refused before anything is begun.
func TestSetLoginsRefused(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	k := h.Key("first")
	i := h.Launch("berth-1", "first")
	proven(t, h, i, k)
	rooted := i
	rooted.LoginUser = "root"
	stopped := i
	stopped.State = "stopped"
	for what, c := range map[string]struct {
		i     store.Instance
		r     wire.SetLogins
		field string
	}{
		"nothing":              {i, wire.SetLogins{}, "password"},
		"no such word":         {i, wire.SetLogins{Password: "never"}, "password"},
		"keys for passwords":   {i, wire.SetLogins{Password: "keys"}, "password"},
		"root by which it is":  {rooted, wire.SetLogins{Root: "off"}, "root"},
		"stopped":              {stopped, wire.SetLogins{Password: "off"}, "instance"},
		"a reason with escape": {i, wire.SetLogins{Password: "off", Reason: "x\x1b[2J"}, "reason"},
	} {
		if _, err := h.W.Inside.SetLogins(t.Context(), kindtest.By, store.Once{}, c.i, c.r); !fieldIs(err, c.field, "") {
			t.Errorf("%s: %v", what, err)
		}
	}
	// Root logins go off only where a key of another user was seen to log in.
	h.Launch("berth-2", "first")
	i2 := h.Instance("berth-2")
	id, err := h.DB.AddAccess(t.Context(), i2.ID, k.ID, "root")
	if err != nil {
		t.Fatal(err)
	}
	if err := h.DB.LoginReported(t.Context(), kindtest.By, store.Access{ID: id, Instance: "berth-2", LoginUser: "root", Key: "first"}, true); err != nil {
		t.Fatal(err)
	}
	if _, err := h.W.Inside.SetLogins(t.Context(), kindtest.By, store.Once{}, i2, wire.SetLogins{Root: "off"}); !fieldIs(err, "instance", "another user than root") {
		t.Errorf("root alone was seen to log in: %v", err)
	}
	if w, err := h.W.Inside.SetLogins(t.Context(), kindtest.By, store.Once{}, i2, wire.SetLogins{Password: "off"}); err != nil {
		t.Errorf("passwords: %v", err)
	} else if err := h.W.Door.Engine.Cancel(t.Context(), kindtest.By, w); err != nil {
		t.Error(err)
	}
	// A machine's key confirms nothing, and a lost one.
	if err := h.DB.SetKeyState(t.Context(), kindtest.By, k, "lost", ""); err != nil {
		t.Fatal(err)
	}
	if _, err := h.W.Inside.SetLogins(t.Context(), kindtest.By, store.Once{}, i, wire.SetLogins{Password: "off"}); !fieldIs(err, "instance", "plumlatch open") {
		t.Errorf("by a lost key: %v", err)
	}
}

func fieldIs(err error, field, words string) bool {
	f, ok := errors.AsType[door.FieldError](err)
	return ok && f.Field == field && strings.Contains(f.Problem, words)
}

// TestSetUser: the ledger follows what the client did, wherever the replica is killed that has it; rule 1 holds for removing.
func TestSetUser(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	first := h.Key("first")
	second := h.Key("second")
	i := h.Launch("berth-1", "first")
	tell := wire.UserTold{Done: true}
	h.While(func(h *kindtest.House, w store.Work) {
		if w.At != "told" {
			return
		}
		todo, err := h.W.Inside.UserToChange(t.Context(), w)
		if err != nil { // the replica is gone
			return
		}
		if todo.User != "maria" || todo.Do == wire.UserAdd != (todo.PublicKey == second.Public().Line()) {
			t.Errorf("to change: %+v", todo)
		}
		_ = h.W.Inside.UserTold(t.Context(), kindtest.By, w, tell)
	})
	begin := func(r wire.SetUser) func(*kindtest.House) (store.Work, error) {
		return func(h *kindtest.House) (store.Work, error) {
			return h.W.Inside.SetUser(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"), r)
		}
	}
	users := func() string {
		t.Helper()
		all, err := h.DB.AccessesOf(t.Context(), i.ID)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, a := range all {
			if !a.Steward {
				out = append(out, a.Key+" "+a.LoginUser)
			}
		}
		slices.Sort(out)
		return strings.Join(out, ", ")
	}
	add, remove := wire.SetUser{Do: wire.UserAdd, User: "maria", Key: "second", Sudo: true}, wire.SetUser{Do: wire.UserRemove, User: "maria"}
	// The stand-in has no such user: what the client says is recorded, and the server says that it does not take the key.
	for _, point := range kinds.Halts() {
		if !strings.HasPrefix(point, "set-user/") {
			continue
		}
		w, came := h.Halted(point, begin(add))
		h.GoOn()
		if w = h.Done(w, nil); w.State != store.Done || !strings.Contains(w.Outcome, "the server does not take the key for it: refused") ||
			users() != "first debian, second maria" || !came {
			t.Fatalf("%s: %s, %s; %s", point, w.State, w.Outcome, users())
		}
		if _, err := begin(remove)(h); !fieldIs(err, "user", "plumlatch open berth-1") && point == "set-user/told/begin" {
			t.Errorf("nobody was seen to log in as another: %v", err)
		}
		proven(t, h, i, first)
		w, _ = h.Halted(point, begin(remove)) // it does not come to every point
		h.GoOn()
		if w = h.Done(w, nil); w.State != store.Done || w.Outcome != "maria has no account any more" || users() != "first debian" {
			t.Fatalf("%s, removed: %s, %s; %s", point, w.State, w.Outcome, users())
		}
	}
	if w := h.Done(begin(wire.SetUser{Do: wire.UserPassword, User: "maria", Lock: true})(h)); w.State != store.Done || !strings.Contains(w.Outcome, "no password any more") {
		t.Errorf("locked: %s, %s", w.State, w.Outcome)
	}
	tell = wire.UserTold{Said: "there is a group maria there already"}
	if w := h.Done(begin(add)(h)); w.State != store.WentBack || !strings.Contains(w.Outcome, "a group maria") || users() != "first debian" {
		t.Errorf("not done: %s, %s; %s", w.State, w.Outcome, users())
	}
	end := time.Now().Add(-time.Hour)
	for what, c := range map[string]struct {
		r     wire.SetUser
		field string
	}{
		"nothing to do":           {wire.SetUser{User: "maria"}, "do"},
		"no user":                 {wire.SetUser{Do: wire.UserAdd, User: "a b"}, "user"},
		"the login user":          {wire.SetUser{Do: wire.UserAdd, User: "debian"}, "user"},
		"removing the login user": {wire.SetUser{Do: wire.UserRemove, User: "debian"}, "user"},
		"removing root":           {wire.SetUser{Do: wire.UserRemove, User: "root"}, "user"},
		"a key that is not there": {wire.SetUser{Do: wire.UserAdd, User: "maria", Key: "nobody-s"}, "keys"},
		"an end that has passed":  {wire.SetUser{Do: wire.UserAdd, User: "maria", Until: &end}, "until"},
		"sudo for a password":     {wire.SetUser{Do: wire.UserPassword, User: "maria", Sudo: true}, "do"},
		"a lock for an account":   {wire.SetUser{Do: wire.UserAdd, User: "maria", Lock: true}, "do"},
	} {
		if _, err := begin(c.r)(h); !fieldIs(err, c.field, "") {
			t.Errorf("%s: %v", what, err)
		}
	}
	if err := h.DB.SetKeyState(t.Context(), kindtest.By, second, "exposed", ""); err != nil {
		t.Fatal(err)
	}
	if _, err := begin(add)(h); !fieldIs(err, "key", "exposed") {
		t.Errorf("an exposed key: %v", err)
	}
}
