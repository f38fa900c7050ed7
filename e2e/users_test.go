package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	osuser "os/user"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"plumlatch/core/wire"
)

// sshAs logs in by the real ssh with a key, and runs a command.
func sshAs(a *adoptee, user, identity, command string) (string, bool) {
	out, err := exec.Command("ssh", "-F", "none", "-i", identity, "-p", fmt.Sprint(a.port), "-o", "IdentitiesOnly=yes", "-o", "BatchMode=yes", "-o",
		"StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR", "-l", user, "127.0.0.1", command).CombinedOutput()
	return strings.TrimSpace(string(out)), err == nil
}

// sshBy logs in by the real ssh with a password, which a program of ours hands over (ssh(1), SSH_ASKPASS).
func sshBy(t *testing.T, a *adoptee, user, password string) bool {
	t.Helper()
	ask := filepath.Join(t.TempDir(), "ask")
	mustDo(t, os.WriteFile(ask, []byte("#!/bin/sh\nprintf '%s\\n' \"$PASSWORD_OF_TEST\"\n"), 0o700))
	cmd := exec.Command("ssh", "-F", "none", "-p", fmt.Sprint(a.port), "-o", "PubkeyAuthentication=no", "-o", "NumberOfPasswordPrompts=1", "-o",
		"StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-l", user, "127.0.0.1", "true")
	cmd.Env = append(os.Environ(), "SSH_ASKPASS="+ask, "SSH_ASKPASS_REQUIRE=force", "PASSWORD_OF_TEST="+password)
	return cmd.Run() == nil
}

// uidOf is the number of a user (passwd(5)).
func uidOf(t *testing.T, user string) string {
	t.Helper()
	u, err := osuser.Lookup(user)
	mustDo(t, err)
	return u.Uid
}

// shadowOf is what shadow(5) has for a user.
func shadowOf(t *testing.T, user string) []string {
	t.Helper()
	for line := range strings.Lines(mustRead(t, "/etc/shadow")) {
		if f := strings.Split(strings.TrimSpace(line), ":"); f[0] == user {
			return f
		}
	}
	return nil
}

// TestUsers: accounts of a stock Debian are made, given passwords and removed by the engineer's session; ssh, su and sudo say what came of
// it. No hash is in the service's database.
func TestUsers(t *testing.T) {
	t.Parallel()
	a := startAdoptee(t, "")
	d := newHome(t, shared)
	name := fmt.Sprintf("users-door-%d", a.port)
	d.must(t, a.args(name, "-record", name+"-key")...)
	user := func(args ...string) []string {
		return append([]string{"instance", "user"}, append(args, "-identity", a.identity)...)
	}
	fresh, sailor := a.user+"-m", a.user+".s" // a name with a dot: sudo passes over such files
	t.Cleanup(func() {
		for _, u := range []string{fresh, sailor, fresh + "-l"} {
			_ = exec.Command("pkill", "-KILL", "-u", u).Run()
			_ = exec.Command("userdel", "--force", "--remove", u).Run()
		}
		_ = os.Remove("/etc/sudoers.d/plumlatch-" + strings.ReplaceAll(sailor, ".", "_dot_"))
	})
	refused := func(what, word string, args ...string) {
		t.Helper()
		if r := d.client(t, "", user(args...)...); r.code == 0 || !strings.Contains(r.err, word) {
			t.Errorf("%s: %+v", what, r)
		}
	}
	refused("without sudo", "no sudo", "list", name)
	refused("without sudo", "no sudo", "add", name, fresh, "-yes")
	if shadowOf(t, fresh) != nil {
		t.Fatal("made without sudo")
	}
	a.grantSudo(t)
	list := func() map[string]listedUser {
		t.Helper()
		var all wire.List[listedUser]
		mustDo(t, json.Unmarshal([]byte(d.must(t, user("list", name, "-json")...)), &all))
		out := map[string]listedUser{}
		for _, u := range all.Items {
			out[u.User] = u
		}
		return out
	}
	all := list()
	if u := all[a.user]; u.UID != a.uid || u.Sudo != "free" || u.Password != "locked" || u.Keys < 1 || u.Home != a.home || u.HomeIs != "folder" || u.Trouble != "" {
		t.Errorf("the login user: %+v", u)
	}
	if u := all["root"]; u.UID != 0 || u.Sudo != "root" {
		t.Errorf("root: %+v", u)
	}
	if _, there := all["nobody"]; there {
		t.Error("a user whose shell does not log in is listed")
	}

	// A key of the ledger, with an end.
	dir := t.TempDir()
	d.must(t, "key", "create", name+"-maria", "-dir", dir, "-new-passphrase", "none")
	maria := filepath.Join(dir, name+"-maria")
	refused("a key that is not recorded", "unknown key", "add", name, fresh, "-key", "nobody-s", "-yes")
	refused("nobody to ask", "terminal", "add", name, fresh, "-key", name+"-maria")
	if shadowOf(t, fresh) != nil {
		t.Fatal("made though it was refused")
	}
	contains(t, "added", d.must(t, user("add", name, fresh, "-key", name+"-maria", "-for", "36h", "-yes")...), fresh+" has an account, and "+name+"-maria opens it")
	if who, ok := sshAs(a, fresh, maria, "id -un; umask; pwd"); !ok || !strings.HasPrefix(who, fresh+"\n") || !strings.HasSuffix(who, "/"+fresh) {
		t.Errorf("it does not get in: %s", who)
	}
	if out, ok := sshAs(a, fresh, maria, "sudo -n true"); ok {
		t.Errorf("it becomes root: %s", out)
	}
	end := time.Now().Add(36 * time.Hour)
	if s := shadowOf(t, fresh); s[1] != "*" || s[7] != fmt.Sprint((end.Unix()+24*60*60-1)/(24*60*60)) {
		t.Errorf("shadow: %v", s)
	}
	home := "/home/" + fresh
	if line := mustRead(t, home+"/.ssh/authorized_keys"); !strings.HasPrefix(line, `expiry-time="`+end.UTC().Format("20060102")) {
		t.Errorf("the line: %s", line)
	}
	for file, mode := range map[string]os.FileMode{home + "/.ssh": 0o700, home + "/.ssh/authorized_keys": 0o600} {
		if fi, err := os.Stat(file); err != nil || fi.Mode().Perm() != mode {
			t.Errorf("%s: %v %v", file, fi, err)
		}
	}
	if _, err := os.Stat(home + "/.bashrc"); err != nil {
		t.Errorf("not as the distribution makes a home: %v", err)
	}
	var opens wire.List[wire.Access]
	mustDo(t, json.Unmarshal([]byte(d.must(t, "access", "list", "-instance", name, "-key", name+"-maria", "-json")), &opens))
	if len(opens.Items) != 1 || opens.Items[0].LoginUser != fresh || opens.Items[0].Evidence != "accepted" {
		t.Errorf("the ledger: %+v", opens)
	}
	contains(t, "who", d.must(t, "who", name), fresh, name+"-maria")
	refused("twice", "already", "add", name, fresh, "-yes")
	refused("the login user", "already", "add", name, a.user, "-yes")

	// One who becomes root; the name has a dot.
	d.must(t, user("add", name, sailor, "-key", name+"-maria", "-sudo", "-shell", "/bin/bash", "-yes", "-reason", "the night watch")...)
	if who, ok := sshAs(a, sailor, maria, "sudo -n id -un; getent passwd $USER"); !ok || !strings.HasPrefix(who, "root\n") || !strings.HasSuffix(who, ":/bin/bash") {
		t.Errorf("it does not become root: %s", who)
	}
	if u := list()[sailor]; u.Sudo != "free" || u.Keys != 1 {
		t.Errorf("listed: %+v", u)
	}
	refused("a shell that is none", "no shell", "add", name, fresh+"-l", "-shell", "/bin/true", "-yes")
	refused("a shell of odd characters", "plain characters", "add", name, fresh+"-l", "-shell", "/bin/sh;id", "-yes")
	mustDo(t, os.Symlink("/root", "/home/"+fresh+"-l"))
	t.Cleanup(func() { _ = os.Remove("/home/" + fresh + "-l") })
	refused("a home that is there", "is there already", "add", name, fresh+"-l", "-yes")
	mustDo(t, os.Remove("/home/"+fresh+"-l"))
	if shadowOf(t, fresh+"-l") != nil {
		t.Error("something of what was refused is left")
	}

	// Passwords: what is made here gets in by ssh and su, and is expired if that was asked for.
	refused("nobody to ask", "-new random -yes", "password", name, fresh)
	password := strings.TrimSpace(strings.Split(d.must(t, user("password", name, fresh, "-new", "random", "-yes")...), "\n")[0])
	if len(password) < 25 || !sshBy(t, a, fresh, password) || sshBy(t, a, fresh, password+"x") {
		t.Errorf("%q does not get in, or another does", password)
	}
	su := exec.Command("su", "-s", "/bin/sh", "-c", "su -c 'id -un' "+fresh, "nobody")
	su.Stdin = strings.NewReader(password + "\n")
	if out, err := su.CombinedOutput(); err != nil || !strings.HasSuffix(strings.TrimSpace(string(out)), fresh) {
		t.Errorf("su: %v %s", err, out)
	}
	hash := shadowOf(t, fresh)[1]
	if !regexp.MustCompile(`^\$(y|6)\$`).MatchString(hash) || strings.Contains(mustRead(t, "/etc/pam.d/common-password"), "yescrypt") != strings.HasPrefix(hash, "$y$") {
		t.Errorf("the hash: %.6s...", hash)
	}
	d.must(t, user("password", name, fresh, "-new", "random", "-expire", "-yes")...)
	if s := shadowOf(t, fresh); s[1] == hash || s[2] != "0" {
		t.Errorf("expired: %v", s[2:])
	}
	contains(t, "none", d.must(t, user("password", name, fresh, "-new", "none")...), "has no password any more")
	if s := shadowOf(t, fresh); s[1] != "*" {
		t.Errorf("none, and there is %.6s", s[1])
	}
	mustDo(t, exec.Command("chage", "-d", "-1", fresh).Run())
	if _, ok := sshAs(a, fresh, maria, "true"); !ok {
		t.Error("without a password, its key does not get in")
	}
	refused("somebody who is not there", "no user", "password", name, "nobody-"+fresh, "-new", "none")
	// A needle that has to be found shows that the dump is one.
	dump, err := exec.Command("pg_dump", "--inserts", strings.TrimSpace(mustRead(t, shared.path("owner-url")))).Output()
	mustDo(t, err)
	if text := string(dump); !strings.Contains(text, name) || strings.Contains(text, "$y$") || strings.Contains(text, "$6$") || strings.Contains(text, password) {
		t.Error("the database has a hash or a password, or the dump is none")
	}
	if journal := d.must(t, "journal", "list", "-target", "instance "+name); strings.Contains(journal, password) || !strings.Contains(journal, "set the password of "+fresh) ||
		!strings.Contains(journal, "the night watch") {
		t.Errorf("the journal: %s", journal)
	}

	// Removing: what it runs and owns is told first.
	refused("the login user", "it stays", "remove", name, a.user, "-yes")
	refused("root", "it stays", "remove", name, "root", "-yes")
	run := exec.Command("su", "-s", "/bin/sh", "-c", "touch /tmp/of-"+fresh+"; exec sleep 1000", fresh)
	mustDo(t, run.Start())
	t.Cleanup(func() { _ = run.Process.Kill(); _ = run.Wait(); _ = os.Remove("/tmp/of-" + fresh) })
	waitFor(t, "its process", func() bool { return exec.Command("pgrep", "-u", fresh, "sleep").Run() == nil })
	r := d.client(t, "", user("remove", name, fresh)...)
	if r.code == 0 || shadowOf(t, fresh) == nil {
		t.Errorf("nobody was asked: %+v", r)
	}
	contains(t, "told first", r.err, "runs 1 sleep: it is ended", home+", ", "it is removed", "Remove "+fresh)
	// A disk that is too large for the time says so.
	if !strings.Contains(r.err, "/tmp/of-"+fresh+" is its own, and stays") && !strings.Contains(r.err, "not all was seen") {
		t.Errorf("files elsewhere: %s", r.err)
	}
	// Another name of the same number: what is whose cannot be told.
	uid := uidOf(t, fresh)
	if out, err := exec.Command("useradd", "--non-unique", "--uid", uid, "--no-create-home", "--shell", "/bin/sh", fresh+"-l").CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	if u := list()[fresh]; u.Trouble != "same number as "+fresh+"-l" {
		t.Errorf("a twin: %+v", u)
	}
	refused("a twin", "same number as "+fresh+"-l", "remove", name, fresh, "-yes")
	if shadowOf(t, fresh)[7] == "1" {
		t.Error("refused, and it can log in no more")
	}
	if out, err := exec.Command("userdel", "--force", fresh+"-l").CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	contains(t, "removed", d.must(t, user("remove", name, fresh, "-yes")...), fresh+" has no account any more")
	if _, err := os.Stat(home); shadowOf(t, fresh) != nil || err == nil {
		t.Error("something of it is left")
	}
	if _, ok := sshAs(a, fresh, maria, "true"); ok {
		t.Error("it gets in still")
	}
	mustDo(t, json.Unmarshal([]byte(d.must(t, "access", "list", "-instance", name, "-key", name+"-maria", "-json")), &opens))
	if len(opens.Items) != 1 || opens.Items[0].LoginUser != sailor {
		t.Errorf("the ledger: %+v", opens)
	}
	// A home that is a link stays, and what it leads to.
	mustDo(t, os.Rename("/home/"+sailor, "/home/"+sailor+"-real"))
	mustDo(t, os.Symlink("/home/"+sailor+"-real", "/home/"+sailor))
	t.Cleanup(func() { _ = os.RemoveAll("/home/" + sailor + "-real") })
	if u := list()[sailor]; u.Trouble != "its home is a link" {
		t.Errorf("a linked home: %+v", u)
	}
	mustDo(t, os.Remove("/home/"+sailor))
	mustDo(t, os.Rename("/home/"+sailor+"-real", "/home/"+sailor))
	contains(t, "with its home", d.must(t, user("remove", name, sailor, "-keep-home", "-yes")...), sailor+" has no account any more")
	if _, err := os.Stat("/home/" + sailor + "/.ssh/authorized_keys"); err != nil {
		t.Errorf("its home: %v", err)
	}
	mustDo(t, os.RemoveAll("/home/"+sailor))
	if _, err := os.Stat("/etc/sudoers.d/plumlatch-" + strings.ReplaceAll(sailor, ".", "_dot_")); err == nil {
		t.Error("its rule for sudo is left")
	}
	if left, err := os.ReadDir("/etc/sudoers.d"); err == nil {
		for _, f := range left {
			if strings.Contains(f.Name(), a.user) && f.Name() != a.user {
				t.Errorf("left: %s", f.Name())
			}
		}
	}
}

// listedUser is a user as the client prints it.
type listedUser struct {
	User, Sudo, Password, Home, Trouble string
	UID, Keys                           int
	HomeIs                              string `json:"home_is"`
}

// TestAdoptByPassword: an instance that takes a password and no key is adopted: the key is placed by the password, shown to work, and then
// the password login goes off if that is said. The password stands nowhere.
func TestAdoptByPassword(t *testing.T) {
	t.Parallel()
	m := startInner(t)
	d := newHome(t, shared)
	name := fmt.Sprintf("inner-password-%d", m.port)
	const password = "quay-lamp-31 'x\"$"
	set := exec.Command("chpasswd")
	set.Stdin = strings.NewReader(m.user + ":" + password + "\n")
	mustDo(t, set.Run())
	sshDir := filepath.Join(m.home, ".ssh")
	mustDo(t, os.RemoveAll(sshDir))
	d.must(t, "holder", "add", name+"-crew", "-sort", "team")
	adopt := m.args(name, "-record", name+"-key", "-holder", name+"-crew")
	// Without a terminal nobody is asked.
	r := d.client(t, "", adopt...)
	if r.code == 0 || !strings.Contains(r.err, "does not let") {
		t.Errorf("without a terminal: %+v", r)
	}
	x := d.terminal(t, adopt...)
	defer func() {
		if t.Failed() {
			t.Log(x.shows())
		}
	}()
	x.answerHidden(t, "leave it): ", "wrong-password")
	if code := x.end(t); code != 1 || !strings.Contains(x.shows(), "by that password; nothing was changed") {
		t.Errorf("status %d: %s", code, x.shows())
	}
	if _, err := os.Stat(sshDir); err == nil {
		t.Error("something was placed by a wrong password")
	}
	x = d.terminal(t, adopt...)
	x.answerHidden(t, "leave it): ", password)
	x.answer(t, "Switch password logins off on "+name, "yes")
	// Other tests' accounts on this machine may have a password and no key: whom it leaves out is asked.
	waitFor(t, "the end, or a question", func() bool {
		return strings.Contains(x.shows(), "Go on?") || strings.Contains(x.shows(), "confirmed by a login")
	})
	if strings.Contains(x.shows(), "Go on?") {
		x.answer(t, "Go on?", "yes")
	}
	if code := x.end(t); code != 0 {
		t.Errorf("status %d: %s", code, x.shows())
	}
	contains(t, "adopted", x.shows(), "stands in .ssh/authorized_keys", "password off, confirmed by a login after it")
	if strings.Contains(x.shows(), password) {
		t.Errorf("the password was shown: %s", x.shows())
	}
	if got := m.offered(m.user); got != "publickey" || !m.letsIn() {
		t.Errorf("offered is %s", got)
	}
	for file, mode := range map[string]os.FileMode{sshDir: 0o700, filepath.Join(sshDir, "authorized_keys"): 0o600} {
		if fi, err := os.Stat(file); err != nil || fi.Mode().Perm() != mode {
			t.Errorf("%s: %v %v", file, fi, err)
		}
	}
	dump, err := exec.Command("pg_dump", "--inserts", strings.TrimSpace(mustRead(t, shared.path("owner-url")))).Output()
	mustDo(t, err)
	if !strings.Contains(string(dump), name) || strings.Contains(string(dump), "quay-lamp") {
		t.Error("the database has the password, or the dump is none")
	}
}
