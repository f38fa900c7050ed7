package e2e

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"plumlatch/core/agentcalls"
)

// buildAgent builds the agent with a version.
func buildAgent(t *testing.T, file, version string) {
	t.Helper()
	out, err := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w -X plumlatch/agent.Version="+version, "-o", file, "plumlatch/cmd/plumlatch-agent").CombinedOutput()
	if err != nil {
		t.Fatalf("%v %s", err, out)
	}
}

// TestAgentUpgrade: an agent takes a newer program that the key of releases has signed, and no other; one that does not come up is not put in its
// place.
func TestAgentUpgrade(t *testing.T) {
	t.Parallel()
	m := startAgentHost(t)
	s := newSlot(t, 146)
	// A key of releases, made by OpenSSH's own tool, and one that is none.
	for _, k := range []string{"release", "other"} {
		if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(s.dir, k)).CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
	dir := t.TempDir()
	program := filepath.Join(dir, "plumlatch-agent")
	mustDo(t, os.WriteFile(program, []byte(mustRead(t, filepath.Join(bin, "plumlatch-agent"))), 0o755))
	sign := func(version int, key string) {
		t.Helper()
		out, err := exec.Command("go", "run", "plumlatch/tools/agentrelease", "-program", program, "-version", fmt.Sprint(version), "-key", filepath.Join(s.dir, key)).CombinedOutput()
		if err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
	agents := freePorts(1)
	s.options = []string{"-agent-listen", fmt.Sprintf("127.0.0.1:%d", agents), "-agent-program", program}
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	name := fmt.Sprintf("inner-up-%d", m.port)
	d.must(t, m.args(name, "-record", name+"-key")...)
	d.must(t, "instance", "agent", "install", name, "-identity", m.identity, "-release", filepath.Join(s.dir, "release.pub"), "-yes")
	contains(t, "the owner's file", mustRead(t, "/etc/plumlatch-agent.yaml"), "release: \"ssh-ed25519 ")
	contains(t, "shown", d.must(t, "instance", "agent", "show", name), "version 1\n")
	upgrade := func() result { return d.client(t, "", "instance", "agent", "upgrade", name) }
	hash := func() string {
		sum := sha256.Sum256([]byte(mustRead(t, "/usr/local/sbin/plumlatch-agent")))
		return hex.EncodeToString(sum[:])
	}
	was := hash()
	refused := func(what, word string) {
		t.Helper()
		r := upgrade()
		if r.code == 0 || !strings.Contains(r.err, word) || hash() != was {
			t.Errorf("%s: %+v", what, r)
		}
		waitFor(t, "it is connected", func() bool { return d.agentOf(t, name).Connected })
		if _, err := os.Lstat("/usr/local/sbin/plumlatch-agent.new"); err == nil {
			t.Errorf("%s: a program is left", what)
		}
	}
	refused("nobody has signed", "no release lies beside")
	sign(1, "release")
	refused("the same version", "is not newer than this one")
	buildAgent(t, program, "2")
	refused("a release of another program", "is not that of the program beside it")
	_ = os.Remove(program + ".release")
	refused("not signed", "no release lies beside")
	sign(2, "other")
	refused("another key", "no release that the pinned key has signed")

	// A program that reads the files, and does not come up; and one that does not even read them.
	fake := filepath.Join(dir, "fake")
	mustDo(t, os.MkdirAll(fake, 0o755))
	mustDo(t, os.WriteFile(filepath.Join(fake, "main.go"), []byte("package main\n\nimport \"os\"\n\nfunc main() {\n\tif os.Args[1] == \"check\" {\n\t\treturn\n\t}\n\tprintln(\"it is lost at sea\")\n\tos.Exit(3)\n}\n"), 0o644))
	build := exec.Command("go", "build", "-o", program, filepath.Join(fake, "main.go"))
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	sign(7, "release")
	refused("it does not come up", "it is lost at sea")
	contains(t, "told", d.must(t, "instance", "agent", "show", name), "version 1; the service has 7 for it", "of the last upgrade it says: version 7 did not come up")
	mustDo(t, os.WriteFile(program, []byte(mustRead(t, "/bin/false")), 0o755))
	sign(8, "release")
	refused("it does not read the files", "does not read the files here")

	// The owner can turn it off.
	text := mustRead(t, "/etc/plumlatch-agent.yaml")
	buildAgent(t, program, "2")
	sign(2, "release")
	mustDo(t, os.WriteFile("/etc/plumlatch-agent.yaml", []byte(text+"upgrades: off\n"), 0o644))
	refused("turned off", "takes no upgrades")
	mustDo(t, os.WriteFile("/etc/plumlatch-agent.yaml", []byte(text), 0o644))

	// What the service sends is not what was signed: by a service that lies.
	c := newCaller(t, d, name, m.identity)
	r := c.request(agentcalls.Upgrade, agentcalls.UpgradeArgs{Release: "x", Signature: "y"})
	if _, err := c.service.AgentCall(t.Context(), name, r, c.signed(r)); err == nil {
		t.Error("an upgrade by a call")
	}

	// Taken: the same key, the same connection's owner, another version, and it works.
	before := d.agentOf(t, name)
	r2 := upgrade()
	if r2.code != 0 || !strings.Contains(r2.out, "is version 2") || hash() == was {
		t.Fatalf("taken: %+v", r2)
	}
	after := d.agentOf(t, name)
	if after.Fingerprint != before.Fingerprint || after.Version != "2" || !strings.Contains(after.LastUpgrade, "version 2 was taken") {
		t.Errorf("taken: %+v", after)
	}
	d.must(t, "survey", name, "-by", "agent")
	contains(t, "the journal", d.must(t, "journal", "list", "-target", "instance "+name), "ask its agent: upgrade to version 2", "done: ", "not done: the agent says: ")
	was = hash()
	refused("once more", "is not newer than this one")
	mustDo(t, os.WriteFile(program, []byte(mustRead(t, filepath.Join(bin, "plumlatch-agent"))), 0o755))
	sign(1, "release")
	refused("an older one", "is not newer than this one")
	// After a start anew it is the new one.
	m.sh("systemctl restart plumlatch-agent.service")
	waitFor(t, "it came back", func() bool { a := d.agentOf(t, name); return a.Connected && a.ConnectedAt.After(*after.ConnectedAt) })
	if a := d.agentOf(t, name); a.Version != "2" {
		t.Errorf("started anew: %s", a.Version)
	}
	d.must(t, "instance", "agent", "remove", name, "-identity", m.identity, "-yes")
	if left := m.left(); len(left) > 0 {
		t.Errorf("left: %q", left)
	}
}

// TestAgentProgram: anybody may fetch the program from the agents' listener, and nothing else; and not without end.
func TestAgentProgram(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 147)
	port := freePorts(1)
	s.options = []string{"-agent-listen", fmt.Sprintf("127.0.0.1:%d", port), "-agent-program", filepath.Join(bin, "plumlatch-agent")}
	s.serve(t)
	get := func(path string) string {
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		out, err := exec.CommandContext(ctx, "curl", "-sk", "-o", filepath.Join(s.dir, "got"), "-w", "%{http_code}", fmt.Sprintf("https://127.0.0.1:%d%s", port, path)).Output()
		if err != nil {
			t.Errorf("%s: %v", path, err)
		}
		return string(out)
	}
	if code := get("/agent/program"); code != "200" || mustRead(t, filepath.Join(s.dir, "got")) != mustRead(t, filepath.Join(bin, "plumlatch-agent")) {
		t.Errorf("the program: %s", code)
	}
	for _, path := range []string{"/", "/agent", "/agent/program/..", "/agent/program.release", "/metrics", "/api/v1/instances"} {
		if code := get(path); code != "404" && code != "301" {
			t.Errorf("%s: %s", path, code)
		}
	}
	// Those who ask and read nothing do not keep others out for ever.
	var held []net.Conn
	for range 3 {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		mustDo(t, err)
		held = append(held, c)
	}
	if code := get("/agent/program"); code != "200" {
		t.Errorf("beside others: %s", code)
	}
	for _, c := range held {
		c.Close()
	}
}
