package e2e

import (
	"context"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"crypto/rand"

	"golang.org/x/crypto/ssh"

	"plumlatch/client"
	"plumlatch/core/agentcalls"
	"plumlatch/core/keypair"
	"plumlatch/core/wire"
)

// An agent's files have one place on a machine, and the tests share this one's /etc: one agent at a time.
var oneAgent sync.Mutex

// startAgentHost is an inner machine on which an agent can be installed.
func startAgentHost(t *testing.T, options ...string) *inner {
	t.Helper()
	oneAgent.Lock()
	m := startInner(t, options...)
	clean := func() {
		for _, f := range []string{"/etc/plumlatch-agent.yaml", "/etc/plumlatch-agent.yaml.new", "/usr/local/sbin/plumlatch-agent", "/usr/local/sbin/plumlatch-agent.new",
			"/etc/plumlatch-agent.pub", "/etc/plumlatch-agent.pub.new"} {
			_ = os.Remove(f)
		}
		_ = os.RemoveAll("/var/lib/plumlatch-agent")
	}
	clean()
	t.Cleanup(func() { clean(); oneAgent.Unlock() })
	return m
}

func (d *demo) agentOf(t *testing.T, name string) (a wire.Agent) {
	t.Helper()
	mustDo(t, json.Unmarshal([]byte(d.must(t, "instance", "agent", "show", name, "-json")), &a))
	return a
}

// left is what an agent left on the machine.
func (m *inner) left() (out []string) {
	for _, f := range []string{"/etc/plumlatch-agent.yaml", "/etc/plumlatch-agent.pub", "/usr/local/sbin/plumlatch-agent", "/var/lib/plumlatch-agent", filepath.Join(m.dir, "units/plumlatch-agent.service"),
		filepath.Join(m.dir, "run/state/enabled.plumlatch-agent.service"), filepath.Join(m.dir, "run/state/service.plumlatch-agent.service")} {
		if _, err := os.Lstat(f); err == nil {
			out = append(out, f)
		}
	}
	return out
}

// TestAgent: an agent is installed by the engineer's session on a stock sshd, looks with the SSH port shut, and is removed without a trace.
func TestAgent(t *testing.T) {
	t.Parallel()
	m := startAgentHost(t)
	d := newHome(t, shared)
	name := fmt.Sprintf("inner-agent-%d", m.port)
	d.must(t, m.args(name, "-record", name+"-key")...)
	contains(t, "before", d.must(t, "instance", "agent", "show", name), "has no agent", "plumlatch instance agent install "+name)
	r := d.client(t, "", "survey", name, "-by", "agent")
	if r.code == 0 || !strings.Contains(r.err, "has no agent") {
		t.Errorf("without one: %+v", r)
	}
	install := []string{"instance", "agent", "install", name, "-identity", m.identity, "-yes"}
	contains(t, "installed", d.must(t, install...), "connected, from 127.0.0.1", "its owner's file allows: look", "it changes nothing", "plumlatch survey "+name+" -by agent")
	unit := filepath.Join(m.dir, "units/plumlatch-agent.service")
	if out, err := exec.Command("systemd-analyze", "verify", "--man=no", unit).CombinedOutput(); err != nil || strings.Contains(string(out), "plumlatch-agent") {
		t.Errorf("systemd finds: %v %s", err, out)
	}
	if !m.has("run/state/enabled.plumlatch-agent.service") {
		t.Error("it does not begin at boot")
	}
	for file, mode := range map[string]os.FileMode{"/var/lib/plumlatch-agent": 0o700, "/var/lib/plumlatch-agent/key": 0o600, "/etc/plumlatch-agent.yaml": 0o644} {
		if fi, err := os.Stat(file); err != nil || fi.Mode().Perm() != mode {
			t.Errorf("%s: %v %v", file, fi, err)
		}
	}
	contains(t, "the journal", d.must(t, "journal", "list", "-target", "instance "+name), "agent.enroll", "its agent has the key SHA256:")

	// With the port shut, the agent goes on seeing: all users, what sshd obeys, who came in.
	m.stop()
	if c, err := net.Dial("tcp", m.at()); err == nil {
		c.Close()
		t.Fatal("the port is open")
	}
	var s wire.Survey
	mustDo(t, json.Unmarshal([]byte(d.must(t, "survey", name, "-by", "agent", "-json")), &s))
	own := keypair.Fingerprint(keyOfFile(t, m.identity+".pub"))
	found := slices.IndexFunc(s.Keys, func(k wire.Surveyed) bool { return k.LoginUser == m.user && k.Fingerprint == own })
	if found < 0 || s.Keys[found].Result != "recorded" || s.Vantage != "the agent there" {
		t.Errorf("it saw %+v from %s", s.Keys, s.Vantage)
	}
	contains(t, fmt.Sprintf("sshd (not seen: %q)", s.NotSeen), strings.Join(s.Config, "\n"), "passwordauthentication", "permitrootlogin")
	if s.Machine == nil || s.Machine.Mounted == nil {
		t.Errorf("the machine: %+v", s.Machine)
	}
	contains(t, "in words", d.must(t, "survey", name, "-by", "agent"), "Seen by the agent there", m.user)
	contains(t, "who", d.must(t, "who", name), "the agent there")
	m.start()

	// It comes back: after it died, and after the service of its machine was started anew.
	first := d.agentOf(t, name)
	m.sh("systemctl restart plumlatch-agent.service")
	waitFor(t, "it came back", func() bool {
		a := d.agentOf(t, name)
		return a.Connected && a.ConnectedAt.After(*first.ConnectedAt) && a.Fingerprint == first.Fingerprint
	})

	// Installed again, it has another key, the owner's file stays, and the former key opens nothing.
	mustDo(t, os.WriteFile("/etc/plumlatch-agent.yaml", []byte(mustRead(t, "/etc/plumlatch-agent.yaml")+"never: [nobody-there]\n"), 0o644))
	r = d.client(t, "", install...)
	if r.code != 0 || !strings.Contains(r.err, "There was a file of its owner's already, and it stays") || !strings.Contains(r.out, "it never touches: nobody-there") {
		t.Errorf("again: %+v", r)
	}
	if again := d.agentOf(t, name); again.Fingerprint == first.Fingerprint || !again.Connected {
		t.Errorf("again: %+v", again)
	}

	r = d.client(t, "", "instance", "agent", "remove", name, "-identity", m.identity, "-yes")
	if r.code != 0 || len(m.left()) > 0 {
		t.Errorf("removed: %+v; left are %q", r, m.left())
	}
	contains(t, "after", d.must(t, "instance", "agent", "show", name), "has no agent")

	// Without sudo nothing is installed.
	mustDo(t, os.Remove(m.sudoer(m.user)))
	r = d.client(t, "", install...)
	if r.code == 0 || !strings.Contains(r.err, "no sudo without a password") || len(m.left()) > 0 {
		t.Errorf("without sudo: %+v; left are %q", r, m.left())
	}
}

func keyOfFile(t *testing.T, file string) []byte {
	t.Helper()
	p, err := keypair.ReadPublic([]byte(mustRead(t, file)))
	mustDo(t, err)
	return p.Blob
}

// caller signs requests to an agent, and sends them through the service.
type caller struct {
	t        *testing.T
	service  *client.Client
	instance string
	agent    wire.Agent
	signer   ssh.Signer
}

func newCaller(t *testing.T, d *demo, name, identity string) *caller {
	t.Helper()
	service, err := client.New(d.url, d.token)
	mustDo(t, err)
	signer, err := ssh.ParsePrivateKey([]byte(mustRead(t, identity)))
	mustDo(t, err)
	return &caller{t, service, name, d.agentOf(t, name), signer}
}

func (c *caller) request(verb agentcalls.Verb, args any) agentcalls.Request {
	c.t.Helper()
	text, err := json.Marshal(args)
	mustDo(c.t, err)
	return agentcalls.Request{Verb: verb, Instance: c.agent.InstanceID, Agent: c.agent.Fingerprint, Args: string(text), Nonce: rand.Text(),
		Until: time.Now().Add(10 * time.Minute).Truncate(time.Second)}
}

func (c *caller) signed(r agentcalls.Request) string {
	c.t.Helper()
	text, err := r.Text()
	mustDo(c.t, err)
	armored, err := keypair.Sign(c.signer, agentcalls.Namespace, text)
	mustDo(c.t, err)
	return string(armored)
}

func (c *caller) call(verb agentcalls.Verb, args any) (string, error) {
	c.t.Helper()
	r := c.request(verb, args)
	return c.service.AgentCall(c.t.Context(), c.instance, r, c.signed(r))
}

// refused says that a call was refused with a code.
func (c *caller) refused(what, code string, err error) {
	c.t.Helper()
	if err == nil || !strings.Contains(err.Error(), "("+code+")") {
		c.t.Errorf("%s: %v, want %s", what, err, code)
	}
}

// TestAgentVerbs: what changes something is done once, if an operator signed it whom the owner's file names, and not by the service's word.
func TestAgentVerbs(t *testing.T) {
	t.Parallel()
	m := startAgentHost(t)
	d := newHome(t, shared)
	name := fmt.Sprintf("inner-verbs-%d", m.port)
	d.must(t, m.args(name, "-record", name+"-key")...)
	other := startAdoptee(t, "") // an account that is never touched
	d.must(t, "instance", "agent", "install", name, "-identity", m.identity, "-verbs", "look,edit,users,sessions", "-never", other.user, "-yes")
	contains(t, "show", d.must(t, "instance", "agent", "show", name), "only what an operator has signed", "it never touches: "+other.user)
	c := newCaller(t, d, name, m.identity)
	edit := func(user, line string) map[string]string { return map[string]string{"user": user, "line": line} }
	fresh, err := keypair.Create(keypair.Ed25519, "fresh")
	mustDo(t, err)
	before := mustRead(t, m.file)

	// A service that lies.
	r := c.request(agentcalls.Edit, edit(m.user, fresh.Public.Line()))
	good := c.signed(r)
	_, err = c.service.AgentCall(t.Context(), name, r, "")
	c.refused("the service's word alone", "unsigned", err)
	stranger, err := keypair.Create(keypair.Ed25519, "stranger")
	mustDo(t, err)
	strange, err := stranger.Signer()
	mustDo(t, err)
	_, err = c.service.AgentCall(t.Context(), name, r, (&caller{t: t, signer: strange}).signed(r))
	c.refused("a key of the service's own", "unsigned", err)
	lie := r
	lie.Args = strings.ReplaceAll(lie.Args, m.user, "root")
	_, err = c.service.AgentCall(t.Context(), name, lie, good)
	c.refused("other arguments", "unsigned", err)
	old := c.request(agentcalls.Edit, edit(m.user, fresh.Public.Line()))
	old.Until = time.Now().Add(-time.Minute).Truncate(time.Second)
	_, err = c.service.AgentCall(t.Context(), name, old, c.signed(old))
	c.refused("an old signature", "over", err)
	long := c.request(agentcalls.Edit, edit(m.user, fresh.Public.Line()))
	long.Until = time.Now().Add(3 * time.Hour).Truncate(time.Second)
	_, err = c.service.AgentCall(t.Context(), name, long, c.signed(long))
	c.refused("a clock hours off", "over", err)
	stale := c.request(agentcalls.Edit, edit(m.user, fresh.Public.Line()))
	stale.Judged = strings.Repeat("0", 64)
	_, err = c.service.AgentCall(t.Context(), name, stale, c.signed(stale))
	c.refused("judged on another file", "changed", err)
	_, err = c.call(agentcalls.Edit, edit(other.user, fresh.Public.Line()))
	c.refused("a user whom it never touches", "not-open", err)
	_, err = c.call(agentcalls.Edit, edit(m.user, fresh.Public.Line()+"\n"+stranger.Public.Line()))
	c.refused("two lines", "malformed", err)
	_, err = c.call(agentcalls.Edit, map[string]string{"user": m.user, "line": fresh.Public.Line(), "command": "id"})
	c.refused("more arguments", "malformed", err)
	if now := mustRead(t, m.file); now != before {
		t.Errorf("refused, and changed: %s", now)
	}

	// Signed, it is done, once; and the real ssh gets in by it.
	answer, err := c.service.AgentCall(t.Context(), name, r, good)
	if err != nil || !strings.Contains(answer, m.file) {
		t.Fatalf("signed: %s %v", answer, err)
	}
	if now := mustRead(t, m.file); !strings.HasPrefix(now, before) || !strings.Contains(now, fresh.Public.Line()) {
		t.Errorf("the file is %s", now)
	}
	if fi, err := os.Stat(m.file); err != nil || fi.Mode().Perm() != 0o600 || int(fi.Sys().(*syscall.Stat_t).Uid) == 0 {
		t.Errorf("its mode and owner: %v %v", fi, err)
	}
	private, err := fresh.OpenSSH(nil)
	mustDo(t, err)
	key := filepath.Join(d.dir, "fresh")
	mustDo(t, os.WriteFile(key, private, 0o600))
	login := func() error {
		return exec.Command("ssh", "-F", "none", "-i", key, "-p", fmt.Sprint(m.port), "-o", "IdentitiesOnly=yes", "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=no",
			"-o", "UserKnownHostsFile=/dev/null", "-l", m.user, "127.0.0.1", "true").Run()
	}
	if err := login(); err != nil {
		t.Errorf("the real ssh: %v", err)
	}
	_, err = c.service.AgentCall(t.Context(), name, r, good)
	c.refused("once more", "twice", err)
	m.sh("systemctl restart plumlatch-agent.service")
	waitFor(t, "it came back", func() bool { a := d.agentOf(t, name); return a.Connected && a.ConnectedAt.After(*c.agent.ConnectedAt) })
	_, err = c.service.AgentCall(t.Context(), name, r, good)
	c.refused("once more, after it began anew", "twice", err)
	answer, err = c.call(agentcalls.Edit, edit(m.user, fresh.Public.Line()))
	if err != nil || !strings.Contains(answer, `"there":true`) || strings.Count(mustRead(t, m.file), fresh.Public.Line()) != 1 {
		t.Errorf("the same line: %s %v", answer, err)
	}
	contains(t, "the journal", d.must(t, "journal", "list", "-target", "instance "+name), "ask its agent: edit", "not done: the agent says: ", "done: ")

	// A link that the user puts in the way is not followed by root.
	dir := filepath.Dir(m.file)
	aim := filepath.Join(d.dir, "aim")
	mustDo(t, os.WriteFile(aim, nil, 0o644))
	mustDo(t, os.Rename(m.file, m.file+".was"))
	mustDo(t, os.Symlink(aim, m.file))
	_, err = c.call(agentcalls.Edit, edit(m.user, stranger.Public.Line()))
	c.refused("a link", "refused", err)
	if text := mustRead(t, aim); text != "" {
		t.Errorf("it was followed: %s", text)
	}
	mustDo(t, os.Rename(m.file+".was", m.file))

	// Users: made with a key, seen, and removed; neither root nor whom the file names.
	guest := fmt.Sprintf("pl-guest-%d", m.port)
	t.Cleanup(func() { _ = exec.Command("userdel", "-r", guest).Run() })
	answer, err = c.call(agentcalls.Users, map[string]any{"do": "add", "user": guest, "line": fresh.Public.Line()})
	if err != nil {
		t.Errorf("a user: %s %v", answer, err)
	}
	in := exec.Command("ssh", "-F", "none", "-i", key, "-p", fmt.Sprint(m.port), "-o", "IdentitiesOnly=yes", "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=no", "-o",
		"UserKnownHostsFile=/dev/null", "-l", guest, "127.0.0.1", "id -un")
	if out, err := in.Output(); err != nil || strings.TrimSpace(string(out)) != guest {
		t.Errorf("the real ssh as %s: %s %v", guest, out, err)
	}
	_, err = c.call(agentcalls.Users, map[string]any{"do": "add", "user": guest})
	c.refused("the same user", "refused", err)
	_, err = c.call(agentcalls.Users, map[string]any{"do": "remove", "user": other.user})
	c.refused("a user whom it never touches", "not-open", err)
	_, err = c.call(agentcalls.Users, map[string]any{"do": "remove", "user": "root"})
	c.refused("root", "refused", err)
	if answer, err = c.call(agentcalls.Users, map[string]any{"do": "remove", "user": guest}); err != nil || exec.Command("id", guest).Run() == nil {
		t.Errorf("removed: %s %v", answer, err)
	}

	// By the client, with the port shut: the agent's hands, which an operator's key moves.
	contains(t, "the list", d.must(t, "instance", "user", "list", name, "-identity", m.identity), "seen by the agent there", m.user)
	m.stop()
	r2 := d.client(t, "", "instance", "user", "add", name, guest, "-key", name+"-key", "-identity", m.identity, "-yes")
	if r2.code != 0 || exec.Command("id", guest).Run() != nil {
		t.Errorf("with the port shut: %+v", r2)
	}
	m.start()
	own := exec.Command("ssh", "-F", "none", "-i", m.identity, "-p", fmt.Sprint(m.port), "-o", "IdentitiesOnly=yes", "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=no",
		"-o", "UserKnownHostsFile=/dev/null", "-l", guest, "127.0.0.1", "id -un")
	if out, err := own.Output(); err != nil || strings.TrimSpace(string(out)) != guest {
		t.Errorf("the real ssh as %s: %s %v", guest, out, err)
	}
	r2 = d.client(t, "", "instance", "user", "remove", name, guest, "-identity", m.identity, "-yes")
	if r2.code != 0 || exec.Command("id", guest).Run() == nil {
		t.Errorf("removed: %+v", r2)
	}
	// Somebody whose key its owner's file does not name does it in a session.
	r2 = d.client(t, "", "instance", "user", "list", name, "-identity", key)
	if r2.code != 0 || !strings.Contains(r2.err, "Not by the agent") || !strings.Contains(r2.err, "(unsigned)") || !strings.Contains(r2.out, "seen by "+m.user) {
		t.Errorf("another's: %+v", r2)
	}

	// What its owner allows counts at once, and what the owner wrote badly allows nothing.
	text := mustRead(t, "/etc/plumlatch-agent.yaml")
	for what, c2 := range map[string]struct{ text, code string }{
		"look alone":     {strings.Replace(text, "verbs: [look, edit, users, sessions]", "verbs: [look]", 1), "not-open"},
		"nobody named":   {text[:strings.Index(text, "operators:\n")], "unsigned"},
		"a slip":         {strings.Replace(text, "verbs:", "verb:", 1), "failed"},
		"a verb unknown": {strings.Replace(text, "sessions]", "shell]", 1), "failed"},
	} {
		mustDo(t, os.WriteFile("/etc/plumlatch-agent.yaml", []byte(c2.text), 0o644))
		_, err := c.call(agentcalls.Edit, edit(m.user, stranger.Public.Line()))
		c.refused(what, c2.code, err)
	}
	mustDo(t, os.WriteFile("/etc/plumlatch-agent.yaml", []byte(text), 0o666))
	mustDo(t, os.Chmod("/etc/plumlatch-agent.yaml", 0o666))
	_, err = c.call(agentcalls.Edit, edit(m.user, stranger.Public.Line()))
	c.refused("a file that anybody can write", "failed", err)
	mustDo(t, os.Chmod("/etc/plumlatch-agent.yaml", 0o644))

	// With trust: service the service's word is enough, and it is said what that means.
	trusting := strings.Replace(text, "trust: operators", "trust: service", 1)
	mustDo(t, os.WriteFile("/etc/plumlatch-agent.yaml", []byte(trusting), 0o644))
	word := c.request(agentcalls.Edit, edit(m.user, stranger.Public.Line()))
	if answer, err := c.service.AgentCall(t.Context(), name, word, ""); err != nil || !strings.Contains(mustRead(t, filepath.Join(dir, filepath.Base(m.file))), stranger.Public.Line()) {
		t.Errorf("trusted: %s %v", answer, err)
	}
	_, err = c.service.AgentCall(t.Context(), name, word, "")
	c.refused("trusted, and once more", "twice", err)
	m.sh("systemctl restart plumlatch-agent.service")
	waitFor(t, "it says whom it trusts", func() bool { return d.agentOf(t, name).Trust == "service" })
	has(t, "today, trusting", d.reasonsOf(t, "instance", name), "agent-trusts-service", true)
	contains(t, "the instance", d.must(t, "instance", "show", name), "agent        connected; it changes what the service asks for: whoever has the service has this instance")
	contains(t, "trusting", d.must(t, "instance", "agent", "show", name), "whoever has the service has this instance")
}

// TestAgentCopies: a copy of a machine dials nobody; a second one with the same key is refused, and told; a token is good once.
func TestAgentCopies(t *testing.T) {
	t.Parallel()
	m := startAgentHost(t)
	d := newHome(t, shared)
	name := fmt.Sprintf("inner-copy-%d", m.port)
	d.must(t, m.args(name, "-record", name+"-key")...)
	d.must(t, "instance", "agent", "install", name, "-identity", m.identity, "-yes")
	program := filepath.Join(bin, "plumlatch-agent")

	// run runs an agent on a machine that is a folder, until it said something.
	folder := func(machine string) string {
		root := t.TempDir()
		for _, dir := range []string{"etc", "var/lib/plumlatch-agent"} {
			mustDo(t, os.MkdirAll(filepath.Join(root, dir), 0o755))
		}
		for _, f := range []string{"key", "authority.pem", "bound.json"} {
			mustDo(t, os.WriteFile(filepath.Join(root, "var/lib/plumlatch-agent", f), []byte(mustRead(t, "/var/lib/plumlatch-agent/"+f)), 0o600))
		}
		mustDo(t, os.WriteFile(filepath.Join(root, "etc/plumlatch-agent.yaml"), []byte(mustRead(t, "/etc/plumlatch-agent.yaml")), 0o644))
		mustDo(t, os.WriteFile(filepath.Join(root, "etc/machine-id"), []byte(machine), 0o644))
		for _, same := range []string{"/sys/class/dmi/id/product_uuid", "/var/lib/cloud/data/instance-id"} {
			if data, err := os.ReadFile(same); err == nil {
				mustDo(t, os.MkdirAll(filepath.Join(root, filepath.Dir(same)), 0o755))
				mustDo(t, os.WriteFile(filepath.Join(root, same), data, 0o644))
			}
		}
		return root
	}
	run := func(root, want string) {
		t.Helper()
		ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
		defer cancel()
		cmd := exec.CommandContext(ctx, program, "run", "-root", root)
		said, err := cmd.StderrPipe()
		mustDo(t, err)
		mustDo(t, cmd.Start())
		var text strings.Builder
		buffer := make([]byte, 4096)
		for !strings.Contains(text.String(), want) {
			n, err := said.Read(buffer)
			text.Write(buffer[:n])
			if err != nil {
				break
			}
		}
		if !strings.Contains(text.String(), want) {
			t.Errorf("it said %s; want %s", text.String(), want)
		}
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}
	// Another machine-id: it dials nobody, and ends.
	run(folder("0123456789abcdef0123456789abcdef\n"), "a copy of the one that was enrolled")
	if a := d.agentOf(t, name); a.RefusedAt != nil {
		t.Error("the copy dialled")
	}
	// One that hides that it is a copy is refused while the first is connected, which is told.
	twin := folder(mustRead(t, "/etc/machine-id"))
	run(twin, "the service refuses this agent (second)")
	a := d.agentOf(t, name)
	if a.RefusedAt == nil || a.RefusedFrom != "127.0.0.1" || !a.Connected {
		t.Errorf("a second one: %+v", a)
	}
	contains(t, "told", d.must(t, "instance", "agent", "show", name), "another machine came with its key")
	contains(t, "the journal", d.must(t, "journal", "list", "-target", "instance "+name), "agent.refuse", "a copy of the machine, or of its key")
	has(t, "today", d.reasonsOf(t, "instance", name), "agent-key-elsewhere", true)

	// A service with another certificate is not the one that was pinned.
	other := newSlot(t, 145)
	elsewhere := freePorts(1)
	cmd := other.command("serve", "-listen", fmt.Sprintf("127.0.0.1:%d", freePorts(1)), "-agent-listen", fmt.Sprintf("127.0.0.1:%d", elsewhere))
	mustDo(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	waitFor(t, "the other service", func() bool {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", elsewhere))
		if err == nil {
			c.Close()
		}
		return err == nil
	})
	yaml := mustRead(t, "/etc/plumlatch-agent.yaml")
	at := filepath.Join(twin, "etc/plumlatch-agent.yaml")
	moved := strings.Replace(yaml, "service: "+a.Service, fmt.Sprintf("service: 127.0.0.1:%d", elsewhere), 1)
	mustDo(t, os.WriteFile(at, []byte(moved), 0o644))
	run(twin, "is not the service that was pinned here")
	mustDo(t, os.WriteFile(at, []byte(yaml), 0o644))

	// Forgotten, its key opens nothing.
	service, err := client.New(d.url, d.token)
	mustDo(t, err)
	mustDo(t, service.ForgetAgent(t.Context(), name))
	run(twin, "the service refuses this agent (unknown)")

	// By a token, once.
	token, err := service.AgentToken(t.Context(), name)
	mustDo(t, err)
	if block, _ := pem.Decode([]byte(token.Authority)); block == nil || token.Service != a.Service {
		t.Errorf("%+v", token)
	}
	enroll := func(root, token string) {
		t.Helper()
		file := filepath.Join(root, "token")
		mustDo(t, os.WriteFile(file, []byte(token), 0o600))
		out, err := exec.Command(program, "enroll", "-root", root, "-token-file", file, "-authority", filepath.Join(root, "var/lib/plumlatch-agent/authority.pem")).CombinedOutput()
		if err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
	launched, thief := folder("fedcba9876543210fedcba9876543210\n"), folder("00000000000000000000000000000001\n")
	enroll(launched, token.Token)
	enroll(thief, token.Token)
	run(launched, "msg=connected")
	run(thief, "the service refuses this agent (old-token)")
	run(launched, "msg=connected") // its token is used up, and its key is known
	enroll(thief, "NOBODYS")
	run(thief, "the service refuses this agent (old-token)")
	fresh, err := service.AgentToken(t.Context(), name)
	mustDo(t, err)
	enroll(thief, fresh.Token)
	run(thief, "has an agent already") // a token replaces nobody
	if data := mustRead(t, filepath.Join(launched, "var/lib/plumlatch-agent/bound.json")); strings.Contains(data, token.Token) {
		t.Error("the token is kept")
	}
	if out, err := exec.Command(program, "enroll", "-root", thief, "-token-file", filepath.Join(thief, "token"), "-authority", at).CombinedOutput(); err == nil {
		t.Errorf("an authority that is none: %s", out)
	}
}

// TestRestoreByAgent: the private key is gone, and the agent lets a new one in, signed by an operator: with the port open, and with it shut from
// everywhere, where what was not seen is said.
func TestRestoreByAgent(t *testing.T) {
	t.Parallel()
	m := startAgentHost(t)
	d := newHome(t, shared)
	name := fmt.Sprintf("inner-lost-%d", m.port)
	d.must(t, m.args(name, "-record", name+"-key")...)
	operator, err := keypair.Create(keypair.Ed25519, "operator")
	mustDo(t, err)
	private, err := operator.OpenSSH(nil)
	mustDo(t, err)
	op := filepath.Join(d.dir, "operator")
	mustDo(t, os.WriteFile(op, private, 0o600))
	mustDo(t, os.WriteFile(op+".pub", []byte(operator.Public.Line()), 0o644))
	contains(t, "the ways", d.must(t, "restore", name), "Not open: agent", "it has no agent", "plumlatch instance agent install "+name)
	d.must(t, "instance", "agent", "install", name, "-identity", m.identity, "-verbs", "look", "-yes")
	contains(t, "the ways", d.must(t, "restore", name), "its owner's file does not open edit to the agent")
	mustDo(t, os.Remove("/etc/plumlatch-agent.yaml"))
	d.must(t, "instance", "agent", "install", name, "-identity", m.identity, "-verbs", "look,edit", "-operators", op+".pub", "-yes")
	d.must(t, "key", "lost", name+"-key")
	var ways wire.Routes
	mustDo(t, json.Unmarshal([]byte(d.must(t, "restore", name, "-json")), &ways))
	if o := ways.Offers[0]; o.Route != "agent" || !o.Open || o.Down != 0 || ways.Offers[1].Route != "steward" {
		t.Errorf("first is %+v, then %s", o, ways.Offers[1].Route)
	}
	login := func(file string) error {
		return exec.Command("ssh", "-F", "none", "-i", file, "-p", fmt.Sprint(m.port), "-o", "IdentitiesOnly=yes", "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=no",
			"-o", "UserKnownHostsFile=/dev/null", "-l", m.user, "127.0.0.1", "true").Run()
	}
	restored := func(fresh string) (wire.Work, string) {
		t.Helper()
		d.must(t, "key", "create", fresh, "-dir", d.dir)
		d.must(t, "restore", name, "-route", "agent", "-new", fresh, "-detach", "-yes")
		id := lastRestore(t, d, name)
		waitFor(t, "it waits for a signature", func() bool {
			return d.workByID(t, id).StepName == "agent" && d.workByID(t, id).WaitsCode == wire.WaitsHands
		})
		// Another's signature lets nobody in.
		r := d.client(t, "", "restore", "grant", fmt.Sprint(id), "-identity", m.identity, "-yes")
		if r.code == 0 || !strings.Contains(r.err, "(unsigned)") || login(filepath.Join(d.dir, fresh)) == nil {
			t.Errorf("another's signature: %+v", r)
		}
		contains(t, "signed", d.must(t, "restore", "grant", fmt.Sprint(id), "-identity", op, "-yes"), "The agent of "+name+" has added them to")
		waitFor(t, "it waits for a login", func() bool { w := d.workByID(t, id); return w.StepName == "login" || w.Over() })
		d.must(t, "key", "prove", fresh, "-identity", filepath.Join(d.dir, fresh))
		waitFor(t, "the end", func() bool { return d.workByID(t, id).Over() })
		return d.workByID(t, id), d.must(t, "work", "report", fmt.Sprint(id))
	}
	w, report := restored(name + "-open")
	if w.State != "done" || login(filepath.Join(d.dir, name+"-open")) != nil || strings.Contains(report, "not seen from outside") {
		t.Errorf("with the port open: %+v %s", w, report)
	}
	d.must(t, "key", "lost", name+"-open")
	m.stop()
	w, report = restored(name + "-shut")
	if w.State != "done" || !strings.Contains(report, "not seen from outside: whether its server takes "+name+"-shut") {
		t.Errorf("with the port shut: %+v %s", w, report)
	}
	m.start()
	if err := login(filepath.Join(d.dir, name+"-shut")); err != nil {
		t.Errorf("the real ssh: %v", err)
	}
}
