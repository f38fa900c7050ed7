package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"go.yaml.in/yaml/v3"

	"plumlatch/core/agentcalls"
	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/wire"
)

// TestAgentPinned: nothing is signed for an agent that is not the one that is pinned here, whatever the service says.
func TestAgentPinned(t *testing.T) {
	t.Parallel()
	m := startAgentHost(t)
	d := newHome(t, shared)
	name := fmt.Sprintf("inner-pins-%d", m.port)
	d.must(t, m.args(name, "-record", name+"-key")...)
	pin := func(more ...string) result {
		return d.client(t, "", append([]string{"instance", "agent", "pin", name}, more...)...)
	}
	if r := pin("-identity", m.identity); r.code == 0 || !strings.Contains(r.err, "has no agent") {
		t.Errorf("none yet: %+v", r)
	}
	d.must(t, "instance", "agent", "install", name, "-identity", m.identity, "-verbs", "look,users", "-yes")
	contains(t, "pinned by installing it", d.must(t, "instance", "agent", "show", name), "; pinned here since ")
	a := d.agentOf(t, name)
	list := func(d *demo) result {
		return d.client(t, "", "instance", "user", "list", name, "-identity", m.identity)
	}
	if r := list(d); r.code != 0 || !strings.Contains(r.out, "seen by the agent there") {
		t.Errorf("pinned: %+v", r)
	}

	// Another client has no pin: it does it in a session, and signs nothing.
	other := newHome(t, shared)
	if r := list(other); r.code != 0 || !strings.Contains(r.err, "is not pinned here") || !strings.Contains(r.err, "plumlatch instance agent pin "+name) ||
		!strings.Contains(r.out, "seen by "+m.user) {
		t.Errorf("not pinned: %+v", r)
	}
	contains(t, "not pinned", other.must(t, "instance", "agent", "show", name), "not pinned here, so nothing is signed for it")
	for _, bad := range []string{"SHA256:short", "MD5:00:11", "x"} {
		if r := other.client(t, "", "instance", "agent", "pin", name, "-fingerprint", bad); r.code != 2 {
			t.Errorf("%s: %+v", bad, r)
		}
	}
	if r := other.client(t, "", "instance", "agent", "pin", name, "-fingerprint", "SHA256:"+strings.Repeat("A", 43)); r.code == 0 ||
		!strings.Contains(r.err, "is not that agent") {
		t.Errorf("another's: %+v", r)
	}
	contains(t, "read there", other.must(t, "instance", "agent", "pin", name, "-identity", m.identity), a.Fingerprint+", is pinned here")
	if r := list(other); r.code != 0 || !strings.Contains(r.out, "seen by the agent there") {
		t.Errorf("pinned by hand: %+v", r)
	}

	// A service that says another agent, or another instance, gets no signature: it lies through a proxy that changes what is said.
	lying := newHome(t, shared)
	lying.must(t, "instance", "agent", "pin", name, "-fingerprint", a.Fingerprint)
	stranger, err := keypair.Create(keypair.Ed25519, "stranger")
	mustDo(t, err)
	asked := 0
	for what, lie := range map[string]func(*wire.Agent){
		"another agent": func(a *wire.Agent) {
			a.Fingerprint, a.PublicKey = stranger.Public.Fingerprint(), stranger.Public.Line()
		},
		"another instance": func(a *wire.Agent) { a.InstanceID++ },
		"another key":      func(a *wire.Agent) { a.PublicKey = stranger.Public.Line() },
	} {
		base, err := url.Parse(d.url)
		mustDo(t, err)
		proxy := httputil.NewSingleHostReverseProxy(base)
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			switch {
			case strings.HasSuffix(r.URL.Path, "/agent/call"):
				asked++
				http.Error(w, "{}", http.StatusConflict)
			case strings.HasSuffix(r.URL.Path, "/agent"):
				said := a
				lie(&said)
				w.Header().Set("Content-Type", "application/json")
				_ = json.NewEncoder(w).Encode(said)
			default:
				r.Host = base.Host
				proxy.ServeHTTP(w, r)
			}
		}))
		t.Cleanup(server.Close)
		there := *lying
		there.url = server.URL
		pins := mustRead(t, filepath.Join(lying.dir, "home/.config/plumlatch/agents.json"))
		mustDo(t, os.WriteFile(filepath.Join(lying.dir, "home/.config/plumlatch/agents.json"), []byte(strings.ReplaceAll(pins, d.url, server.URL)), 0o600))
		if r := list(&there); !strings.Contains(r.err, "othing is signed for it") || strings.Contains(r.out, "by the agent") {
			t.Errorf("%s: %+v", what, r)
		}
		mustDo(t, os.WriteFile(filepath.Join(lying.dir, "home/.config/plumlatch/agents.json"), []byte(pins), 0o600))
	}
	if asked > 0 {
		t.Errorf("%d requests were signed for a service that lies", asked)
	}

	// Installed anew, it is another: who pinned the former one is told, and who installed it has the new one.
	d.must(t, "instance", "agent", "install", name, "-identity", m.identity, "-yes")
	if r := list(other); r.code != 0 || !strings.Contains(r.err, "has another key than the one that is pinned here") {
		t.Errorf("installed anew: %+v", r)
	}
	if r := other.client(t, "", "instance", "agent", "pin", name, "-identity", m.identity); r.code == 0 || !strings.Contains(r.err, "in its place?") {
		t.Errorf("nobody was asked: %+v", r)
	}
	other.must(t, "instance", "agent", "pin", name, "-identity", m.identity, "-yes")
	if r := list(d); !strings.Contains(r.out, "seen by the agent there") {
		t.Errorf("whoever installed it: %+v", r)
	}
	d.must(t, "instance", "agent", "remove", name, "-identity", m.identity, "-yes")
	if left := m.left(); len(left) > 0 || strings.Contains(mustRead(t, filepath.Join(d.dir, "home/.config/plumlatch/agents.json")), name) {
		t.Errorf("left: %q", left)
	}
}

// TestAgentUsers: with the port shut, a password gets there in a box that the agent alone opens, and an account comes to its end though the service
// is away.
func TestAgentUsers(t *testing.T) {
	t.Parallel()
	m := startAgentHost(t)
	d := newHome(t, shared)
	name := fmt.Sprintf("inner-box-%d", m.port)
	d.must(t, m.args(name, "-record", name+"-key")...)
	d.must(t, "instance", "agent", "install", name, "-identity", m.identity, "-verbs", "look,users,edit", "-never", "root", "-yes")
	guest := fmt.Sprintf("pl-box-%d", m.port)
	t.Cleanup(func() {
		_ = exec.Command("pkill", "-KILL", "-u", guest).Run()
		_ = exec.Command("userdel", "--force", "--remove", guest).Run()
	})
	user := func(args ...string) []string {
		return append(append([]string{"instance", "user"}, args...), "-identity", m.identity, "-yes")
	}
	m.stop()
	d.must(t, user("add", name, guest, "-key", name+"-key", "-sudo", "-for", "24h")...)
	said := d.must(t, user("password", name, guest, "-new", "random")...)
	password := strings.TrimSpace(strings.Split(said, "\n")[0])
	m.start()
	if !sshBy(t, m.adoptee, guest, password) || sshBy(t, m.adoptee, guest, password+"x") {
		t.Error("the password does not get in by the real ssh, or another does")
	}
	su := exec.Command("su", "-s", "/bin/sh", "-c", "su -c 'id -un' "+guest, "nobody")
	su.Stdin = strings.NewReader(password + "\n")
	if out, err := su.CombinedOutput(); err != nil || !strings.HasSuffix(strings.TrimSpace(string(out)), guest) {
		t.Errorf("su: %v %s", err, out)
	}
	hash := shadowOf(t, guest)[1]
	d.must(t, user("password", name, guest, "-new", "random", "-expire")...)
	if s := shadowOf(t, guest); s[1] == hash || s[2] != "0" {
		t.Errorf("expired: %v", s[2:])
	}
	if r := d.client(t, "", user("password", name, "root", "-new", "random")...); r.code == 0 || !strings.Contains(r.err, "never to touch root") || strings.Contains(r.err, "$y$") {
		t.Errorf("whom it never touches: %+v", r)
	}

	// A box of a former request, and one for another, set nothing.
	c := newCaller(t, d, name, m.identity)
	agent, err := keypair.ReadPublic([]byte(c.agent.PublicKey))
	mustDo(t, err)
	was := shadowOf(t, guest)[1]
	box := func(p agentcalls.NewPassword) string {
		t.Helper()
		text, err := p.Seal(agent.Blob)
		mustDo(t, err)
		return text
	}
	r := c.request(agentcalls.Users, nil)
	for what, p := range map[string]agentcalls.NewPassword{"a former request's": {User: guest, Hash: hash, Nonce: "FORMER"}, "another user's": {User: m.user, Hash: hash, Nonce: r.Nonce},
		"in the clear": {User: guest, Hash: "mast-lamp-7", Nonce: r.Nonce}} {
		again := c.request(agentcalls.Users, agentcalls.UsersArgs{Do: "password", User: guest, Box: box(p)})
		if what != "a former request's" {
			p.Nonce = again.Nonce
			args, err := json.Marshal(agentcalls.UsersArgs{Do: "password", User: guest, Box: box(p)})
			mustDo(t, err)
			again.Args = string(args)
		}
		_, err := c.service.AgentCall(t.Context(), name, again, c.signed(again))
		c.refused(what, "refused", err)
	}
	if shadowOf(t, guest)[1] != was {
		t.Error("refused, and set")
	}
	dump, err := exec.Command("pg_dump", "--inserts", strings.TrimSpace(mustRead(t, shared.path("owner-url")))).Output()
	mustDo(t, err)
	if text := string(dump); !strings.Contains(text, name) || strings.Contains(text, "$y$") || strings.Contains(text, "$6$") || strings.Contains(text, password) {
		t.Error("the database has a hash or a password, or the dump is none")
	}

	// Its end comes, with no service to be heard of: the account, sudo, and what it runs.
	mustDo(t, exec.Command("chage", "-d", "-1", guest).Run())
	if who, ok := sshAs(m.adoptee, guest, m.identity, "sudo -n id -un"); !ok || who != "root" {
		t.Errorf("before its end: %s", who)
	}
	run := exec.Command("su", "-s", "/bin/sh", "-c", "exec sleep 1000", guest)
	mustDo(t, run.Start())
	t.Cleanup(func() { _ = run.Process.Kill(); _ = run.Wait() })
	waitFor(t, "its process", func() bool { return exec.Command("pgrep", "-u", guest, "sleep").Run() == nil })
	ends := "/var/lib/plumlatch-agent/ends.json"
	var kept []map[string]any
	mustDo(t, json.Unmarshal([]byte(mustRead(t, ends)), &kept))
	if len(kept) != 1 || kept[0]["user"] != guest {
		t.Fatalf("kept are %v", kept)
	}
	// Somebody gives it another end by hand: then it is theirs to end.
	day := shadowOf(t, guest)[7]
	mustDo(t, exec.Command("chage", "-E", "2099-01-01", guest).Run())
	was2 := kept[0]["at"]
	write := func(at any) {
		t.Helper()
		kept[0]["at"] = at
		text, err := json.Marshal(kept)
		mustDo(t, err)
		mustDo(t, os.WriteFile(ends, text, 0o600))
	}
	write(time.Now().Add(-time.Second).UTC())
	m.sh("systemctl restart plumlatch-agent.service")
	waitFor(t, "it was looked at", func() bool { return strings.TrimSpace(mustRead(t, ends)) == "[]" })
	if _, ok := sshAs(m.adoptee, guest, m.identity, "true"); !ok {
		t.Error("an account with another end was ended")
	}
	mustDo(t, exec.Command("chage", "-E", day, guest).Run())
	write(was2)
	owner := mustRead(t, "/etc/plumlatch-agent.yaml")
	mustDo(t, os.WriteFile("/etc/plumlatch-agent.yaml", []byte(strings.Replace(owner, "service: "+c.agent.Service, "service: 127.0.0.1:1", 1)), 0o644))
	write(time.Now().Add(-time.Second).UTC())
	m.sh("systemctl restart plumlatch-agent.service")
	waitFor(t, "the end", func() bool { return strings.TrimSpace(mustRead(t, ends)) == "[]" })
	if s := shadowOf(t, guest); s == nil || s[7] != "1" {
		t.Errorf("the account: %v", s)
	}
	if _, err := os.Stat(m.sudoer("plumlatch-" + guest)); err == nil {
		t.Error("its rule for sudo is left")
	}
	if exec.Command("pgrep", "-u", guest).Run() == nil {
		t.Error("it runs something still")
	}
	if who, ok := sshAs(m.adoptee, guest, m.identity, "id -un"); ok {
		t.Errorf("it gets in still: %s", who)
	}
	if _, ok := sshAs(m.adoptee, m.user, m.identity, "true"); !ok {
		t.Error("another was ended")
	}
}

// TestAgentTakes: the agent takes lines out of a file that was judged, if a key that stays lets in; and no last way in.
func TestAgentTakes(t *testing.T) {
	t.Parallel()
	m := startAgentHost(t)
	d := newHome(t, shared)
	name := fmt.Sprintf("inner-takes-%d", m.port)
	d.must(t, m.args(name, "-record", name+"-key")...)
	d.must(t, "instance", "agent", "install", name, "-identity", m.identity, "-verbs", "look,edit", "-yes")
	m.stop()
	c := newCaller(t, d, name, m.identity)
	ask := func(judged string, args agentcalls.EditArgs) (out agentcalls.Edited, err error) {
		t.Helper()
		r := c.request(agentcalls.Edit, args)
		r.Judged = judged
		answer, err := c.service.AgentCall(t.Context(), name, r, c.signed(r))
		if err == nil {
			mustDo(t, json.Unmarshal([]byte(answer), &out))
		}
		return out, err
	}
	fresh, err := keypair.Create(keypair.Ed25519, "fresh")
	mustDo(t, err)
	line := fresh.Public.Line()
	_, err = ask("", agentcalls.EditArgs{User: m.user, Line: line})
	mustDo(t, err)
	mustDo(t, os.WriteFile(m.file, []byte("# kept as it is  \n\n"+mustRead(t, m.file)+"what is no line\n"), 0o600))
	before := mustRead(t, m.file)
	own := ""
	for l := range strings.Lines(before) {
		if strings.HasPrefix(l, keypair.Public{Blob: keyOfFile(t, m.identity+".pub")}.Line()) {
			own = strings.TrimSuffix(l, "\n")
		}
	}
	ownName := authkeys.Name(keyOfFile(t, m.identity+".pub"))
	seen, err := ask("", agentcalls.EditArgs{User: m.user})
	if err != nil || len(seen.SHA256) != 64 || len(seen.Keys) < 2 || seen.File != m.file {
		t.Fatalf("read: %+v %v", seen, err)
	}
	rests := []string{ownName}
	_, err = ask("", agentcalls.EditArgs{User: m.user, Take: []string{line}, Rests: rests})
	c.refused("on no file that was judged", "malformed", err)
	_, err = ask(seen.SHA256, agentcalls.EditArgs{User: m.user, Take: []string{line}})
	c.refused("resting on nothing", "malformed", err)
	_, err = ask(strings.Repeat("0", 64), agentcalls.EditArgs{User: m.user, Take: []string{line}, Rests: rests})
	c.refused("judged on another file", "changed", err)
	_, err = ask(seen.SHA256, agentcalls.EditArgs{User: m.user, Take: []string{line}, Rests: []string{fresh.Public.Fingerprint()}})
	c.refused("resting on what goes", "refused", err)
	_, err = ask(seen.SHA256, agentcalls.EditArgs{User: m.user, Take: []string{line, own}, Rests: rests})
	c.refused("the last way in", "refused", err)
	if now := mustRead(t, m.file); now != before {
		t.Errorf("refused, and changed: %s", now)
	}
	done, err := ask(seen.SHA256, agentcalls.EditArgs{User: m.user, Take: []string{line}, Rests: rests})
	if err != nil || !done.Taken {
		t.Fatalf("taken out: %+v %v", done, err)
	}
	if now := mustRead(t, m.file); now != strings.Replace(before, "\n"+line+"\n", "", 1) || !strings.Contains(now, own) {
		t.Errorf("the file is %q, and was %q", now, before)
	}
	if fi, err := os.Stat(m.file); err != nil || fi.Mode().Perm() != 0o600 {
		t.Errorf("its mode: %v %v", fi, err)
	}
	if _, err := os.Lstat(m.file + ".plumlatch-new"); err == nil {
		t.Error("something of the edit is left")
	}
	m.start()
	if !m.letsIn() {
		t.Error("nobody gets in any more")
	}
}

// TestAgentLogins: the agent changes how people log in, for an account without sudo, and a new login confirms it. What nobody confirms goes back.
func TestAgentLogins(t *testing.T) {
	t.Parallel()
	m := startAgentHost(t)
	d := newHome(t, shared)
	name := fmt.Sprintf("inner-ways-%d", m.port)
	d.must(t, m.args(name, "-record", name+"-key")...)
	d.must(t, "instance", "agent", "install", name, "-identity", m.identity, "-verbs", "look,logins", "-yes")
	mustDo(t, os.Remove(m.sudoer(m.user))) // from here on it is the agent alone that can
	logins := func(more ...string) []string {
		return append([]string{"instance", "logins", name, "-identity", m.identity}, more...)
	}
	contains(t, "shown", d.must(t, logins()...), "asked by the agent there", "password", "SET IN")
	armed := func() bool { return m.has("lib/logins/armed") || m.has("units/plumlatch-logins.timer") }
	ours := "etc-ssh/sshd_config.d/00-plumlatch.conf"

	contains(t, "off", d.must(t, logins("-password", "off", "-yes")...), name+": password off, confirmed by a login after it")
	if m.offered(m.user) != "publickey" || !m.letsIn() || armed() || !m.has(ours) {
		t.Errorf("off: it offers %s", m.offered(m.user))
	}
	contains(t, "shown", d.must(t, logins()...), "/etc/ssh/sshd_config.d/00-plumlatch.conf")
	contains(t, "once more", d.must(t, logins("-password", "off", "-yes")...), "has it so already")
	if armed() {
		t.Error("a way back lies there, and nothing was changed")
	}

	// A login that was made before the change confirms nothing, and neither does another's signature.
	c := newCaller(t, d, name, m.identity)
	held := exec.Command("ssh", "-F", "none", "-i", m.identity, "-p", fmt.Sprint(m.port), "-o", "IdentitiesOnly=yes", "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=no",
		"-o", "UserKnownHostsFile=/dev/null", "-l", m.user, "127.0.0.1", "echo $PPID; exec sleep 300")
	out, err := held.StdoutPipe()
	mustDo(t, err)
	mustDo(t, held.Start())
	t.Cleanup(func() { _ = held.Process.Kill(); _ = held.Wait() })
	var old int
	_, err = fmt.Fscan(out, &old)
	mustDo(t, err)
	ask := func(args agentcalls.LoginsArgs) (out agentcalls.LoginsDone, err error) {
		t.Helper()
		answer, err := c.call(agentcalls.Logins, args)
		if err == nil {
			mustDo(t, json.Unmarshal([]byte(answer), &out))
		}
		return out, err
	}
	signer := keypair.Public{Blob: c.signer.PublicKey().Marshal()}.Line()
	change := agentcalls.LoginsArgs{Do: "change", Signers: []string{signer}}
	change.Change.Password = "on"
	_, err = ask(agentcalls.LoginsArgs{Do: "change", Change: change.Change})
	c.refused("nobody could confirm it", "refused", err)
	_, err = ask(agentcalls.LoginsArgs{Do: "change", Signers: []string{signer}})
	c.refused("no change", "malformed", err)
	root := agentcalls.LoginsArgs{Do: "change", Signers: []string{signer}}
	root.Change.Root = "off"
	_, err = ask(root)
	c.refused("nobody else becomes root", "refused", err)
	done, err := ask(change)
	if err != nil || done.Challenge == "" || !armed() {
		t.Fatalf("on: %+v %v", done, err)
	}
	m.steady()
	signed, err := keypair.Sign(c.signer, "logins@plumlatch", []byte(done.Challenge))
	mustDo(t, err)
	_, err = ask(agentcalls.LoginsArgs{Do: "confirm", Process: old, Signature: string(signed)})
	c.refused("a login from before", "refused", err)
	if !armed() {
		t.Error("it disarmed the way back")
	}
	fresh := exec.Command("ssh", "-F", "none", "-i", m.identity, "-p", fmt.Sprint(m.port), "-o", "IdentitiesOnly=yes", "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=no",
		"-o", "UserKnownHostsFile=/dev/null", "-l", m.user, "127.0.0.1", "echo $PPID; exec sleep 300")
	out, err = fresh.StdoutPipe()
	mustDo(t, err)
	mustDo(t, fresh.Start())
	t.Cleanup(func() { _ = fresh.Process.Kill(); _ = fresh.Wait() })
	var now int
	_, err = fmt.Fscan(out, &now)
	mustDo(t, err)
	strange, err := keypair.Create(keypair.Ed25519, "strange")
	mustDo(t, err)
	other, err := strange.Signer()
	mustDo(t, err)
	wrong, err := keypair.Sign(other, "logins@plumlatch", []byte(done.Challenge))
	mustDo(t, err)
	_, err = ask(agentcalls.LoginsArgs{Do: "confirm", Process: now, Signature: string(wrong)})
	c.refused("another's signature", "refused", err)
	_, err = ask(agentcalls.LoginsArgs{Do: "confirm", Process: os.Getpid(), Signature: string(signed)})
	c.refused("a process that is no login", "refused", err)
	// The instance puts it back by itself, when its time is over.
	m.state("fire", "")
	waitFor(t, "the way back", func() bool { return !armed() })
	m.state("fire", "-")
	m.steady()
	if m.offered(m.user) != "publickey" || !m.letsIn() {
		t.Errorf("not put back: it offers %s", m.offered(m.user))
	}
	_, err = ask(agentcalls.LoginsArgs{Do: "confirm", Process: now, Signature: string(signed)})
	c.refused("after it went back", "refused", err)
	r := d.client(t, "", logins()...)
	if r.code != 0 || !strings.Contains(r.err, "said of an earlier change: ") || !strings.Contains(r.err, "put back") {
		t.Errorf("told: %+v", r)
	}

	// With the port shut nobody can confirm, so it goes back at once.
	before := m.has(ours)
	m.stop()
	r = d.client(t, "", logins("-password", "on", "-yes")...)
	if r.code == 0 || armed() || m.has(ours) != before {
		t.Errorf("with the port shut: %+v", r)
	}
	m.start()
	if m.offered(m.user) != "publickey" {
		t.Errorf("with the port shut: it offers %s", m.offered(m.user))
	}
}

// TestAgentFirstBoot: what a launch with an agent has first boot do enrolls it on a real machine: the program is fetched from the service whose
// authority is pinned, and nothing else is taken for it.
func TestAgentFirstBoot(t *testing.T) {
	t.Parallel()
	m := startAgentHost(t)
	d := newHome(t, shared)
	name := fmt.Sprintf("inner-boot-%d", m.port)
	d.must(t, m.args(name, "-record", name+"-key")...)
	r := d.client(t, "", "instance", "launch", name+"-plan", "-plan", "-image", "harrow-linux-4", "-size", "medium", "-region", "north-pier", "-key", name+"-key",
		"-agent", "look,users")
	if r.code != 0 {
		t.Fatalf("the plan: %+v", r)
	}
	var boot struct {
		Files []struct{ Path, Permissions, Content string } `yaml:"write_files"`
		Run   [][]string                                    `yaml:"runcmd"`
	}
	mustDo(t, yaml.Unmarshal([]byte(r.out), &boot))
	if len(boot.Files) != 4 || len(boot.Run) != 1 {
		t.Fatalf("the plan: %s", r.out)
	}
	token := strings.TrimSpace(d.must(t, "instance", "agent", "token", name))
	do := func(token string, change func(string) string) (string, error) {
		t.Helper()
		for _, f := range boot.Files {
			text := strings.Replace(f.Content, "TOKEN-OF-THIS-LAUNCH", token, 1)
			file := filepath.Join(d.dir, "boot-file")
			mustDo(t, os.WriteFile(file, []byte(text), 0o600))
			m.sh(fmt.Sprintf("mkdir -p %[1]s && cp %[2]s %[3]s && chmod %[4]s %[3]s", filepath.Dir(f.Path), file, f.Path, f.Permissions))
		}
		script := boot.Run[0][2]
		if change != nil {
			script = change(script)
		}
		out, err := exec.Command(m.within[0], append(m.within[1:], "sh", "-c", script)...).CombinedOutput()
		return string(out), err
	}
	t.Cleanup(func() { _ = os.RemoveAll("/run/plumlatch-agent") })
	refused := func(what, word string, change func(string) string) {
		t.Helper()
		out, err := do(token, change)
		if err == nil || !strings.Contains(out, word) || d.agentOf(t, name).Enrolled {
			t.Errorf("%s: %v %s", what, err, out)
		}
		if _, err := os.Stat("/usr/local/sbin/plumlatch-agent"); err == nil {
			t.Errorf("%s: a program is there", what)
		}
	}
	refused("another program", "what came is not the program", func(s string) string {
		i := strings.Index(s, `  -" ]`) - 64
		return s[:i] + strings.Repeat("0", 64) + s[i+64:]
	})
	refused("another machine", "and this is", func(s string) string { return strings.ReplaceAll(s, "x86_64", "aarch64x") })
	other, err := exec.Command("openssl", "req", "-x509", "-newkey", "ed25519", "-nodes", "-keyout", "/dev/null", "-subj", "/CN=other", "-days", "1").Output()
	mustDo(t, err)
	was := boot.Files[3].Content
	boot.Files[3].Content = string(other)
	refused("another service", "it could not be fetched", nil)
	boot.Files[3].Content = was

	if out, err := do(token, nil); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	waitFor(t, "the agent", func() bool { return d.agentOf(t, name).Connected })
	if a := d.agentOf(t, name); strings.Join(a.Verbs, " ") != "look users" || a.Trust != "operators" || a.Frozen {
		t.Errorf("it is %+v", a)
	}
	if _, err := os.Stat("/run/plumlatch-agent"); err == nil {
		t.Error("the token is left")
	}
	d.must(t, "instance", "agent", "pin", name, "-identity", m.identity)
	if r := d.client(t, "", "instance", "user", "list", name, "-identity", m.identity); r.code != 0 || !strings.Contains(r.out, "seen by the agent there") {
		t.Errorf("the key of the launch signs for it: %+v", r)
	}
	unit := filepath.Join(m.dir, "units/plumlatch-agent.service")
	if out, err := exec.Command("systemd-analyze", "verify", "--man=no", unit).CombinedOutput(); err != nil || strings.Contains(string(out), "plumlatch-agent") {
		t.Errorf("systemd finds: %v %s", err, out)
	}
	d.must(t, "instance", "agent", "remove", name, "-identity", m.identity, "-yes")
	if left := m.left(); len(left) > 0 {
		t.Errorf("left: %q", left)
	}
}

// TestAgentLaunched: an instance of the stand-in is launched with its agent, which is late, dies, and comes back; a copy of it dials nobody.
func TestAgentLaunched(t *testing.T) {
	t.Parallel()
	d := newHome(t, shared)
	name := "agent-launched"
	d.must(t, "key", "create", name+"-key", "-dir", d.dir, "-new-passphrase", "none")
	key := filepath.Join(d.dir, name+"-key")
	r := d.client(t, "", "instance", "launch", name, "-image", "debian-12", "-size", "small/12", "-region", "north-pier", "-key", name+"-key", "-agent", "look,users,edit")
	if r.code != 0 || !strings.Contains(r.err, "its agent came, from 127.0.0.1") || !strings.Contains(r.err, "plumlatch instance agent pin "+name) {
		t.Fatalf("launched: %+v", r)
	}
	d.must(t, "instance", "agent", "pin", name, "-identity", key)
	contains(t, "its users", d.must(t, "instance", "user", "list", name, "-identity", key), "seen by the agent there", "debian")
	if r := d.client(t, "", "instance", "user", "password", name, "debian", "-new", "random", "-identity", key, "-yes"); r.code != 0 {
		t.Errorf("a password: %+v", r)
	}
	contains(t, "seen", d.must(t, "survey", name, "-by", "agent"), "Seen by the agent there", name+"-key")
	// A login in its log, which is like that of a real server.
	d.must(t, "open", name, "-identity", key, "--", "true")
	d.must(t, "survey", name, "-by", "agent")
	contains(t, "who came in", d.must(t, "who", name), "as a text file says")

	fault := func(call, how string, delay int) {
		mustDo(t, standinCall("POST", "/v1/faults", fmt.Sprintf(`{"call":%q,"how":%q,"name":%q,"delay_ms":%d}`, call, how, name, delay), nil))
	}
	first := d.agentOf(t, name)
	fault("agent", "slow", 700)
	d.must(t, "survey", name, "-by", "agent")
	fault("agent", "fail", 0)
	if r := d.client(t, "", "survey", name, "-by", "agent"); r.code == 0 {
		t.Errorf("it died in the middle: %+v", r)
	}
	waitFor(t, "it came back", func() bool { a := d.agentOf(t, name); return a.Connected && a.ConnectedAt.After(*first.ConnectedAt) })
	d.must(t, "survey", name, "-by", "agent")
	d.must(t, "instance", "remove", name, "-yes")
}

// TestAgentSessions: the agent reads who came in from the log that a real sshd has written, and ends the sessions that one key opened, and no others.
func TestAgentSessions(t *testing.T) {
	t.Parallel()
	syslogTo(t)
	m := startAgentHost(t, toSyslog)
	d := newHome(t, shared)
	name := fmt.Sprintf("inner-in-%d", m.port)
	d.must(t, m.args(name, "-record", name+"-key")...)
	d.must(t, "instance", "agent", "install", name, "-identity", m.identity, "-verbs", "look,sessions", "-never", "root", "-yes")
	fresh := pairIn(t, filepath.Join(d.dir, "fresh"))
	m.put(t, m.file, m.now(t)+"\n"+fresh.Line()+"\n", true)
	session := func(identity string) (ended chan error) {
		t.Helper()
		cmd := exec.Command("ssh", "-F", "none", "-i", identity, "-p", fmt.Sprint(m.port), "-o", "IdentitiesOnly=yes", "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=no",
			"-o", "UserKnownHostsFile=/dev/null", "-l", m.user, "127.0.0.1", "echo in; sleep 300")
		out, err := cmd.StdoutPipe()
		mustDo(t, err)
		mustDo(t, cmd.Start())
		t.Cleanup(func() { _ = cmd.Process.Kill() })
		if n, err := out.Read(make([]byte, 3)); err != nil {
			t.Fatalf("a session: %d %v", n, err)
		}
		ended = make(chan error, 1)
		go func() { ended <- cmd.Wait() }()
		return ended
	}
	theirs, ours := session(filepath.Join(d.dir, "fresh")), session(m.identity)
	c := newCaller(t, d, name, m.identity)
	waitFor(t, "the log", func() bool { return strings.Contains(mustRead(t, "/var/log/auth.log"), fresh.Fingerprint()) })
	_, err := c.call(agentcalls.Sessions, agentcalls.SessionsArgs{User: "root", Fingerprint: fresh.Fingerprint()})
	c.refused("whom it never touches", "not-open", err)
	_, err = c.call(agentcalls.Sessions, agentcalls.SessionsArgs{User: m.user, Fingerprint: "all"})
	c.refused("no key", "malformed", err)
	answer, err := c.call(agentcalls.Sessions, agentcalls.SessionsArgs{User: m.user, Fingerprint: fresh.Fingerprint()})
	if err != nil || !strings.Contains(answer, `"ended":1`) {
		t.Fatalf("sessions: %s %v", answer, err)
	}
	<-theirs
	select {
	case err := <-ours:
		t.Errorf("another session ended: %v", err)
	default:
	}
	answer, err = c.call(agentcalls.Sessions, agentcalls.SessionsArgs{User: m.user, Fingerprint: fresh.Fingerprint()})
	if err != nil || !strings.Contains(answer, `"ended":0`) {
		t.Errorf("once more: %s %v", answer, err)
	}
	d.must(t, "survey", name, "-by", "agent")
	contains(t, "who came in", d.must(t, "who", name), "as a text file says", "by the agent there")
}
