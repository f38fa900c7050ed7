package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"plumlatch/core/wire"
)

// refusedStart runs the demo where it must not start, and checks that it says
// why and leaves nothing running.
func (d *demo) refusedStart(t *testing.T, wants ...string) {
	t.Helper()
	out, err := d.command("-seed=false").CombinedOutput()
	if err == nil {
		t.Errorf("it started: %s", out)
	}
	contains(t, "refused start", string(out), wants...)
	if strings.Contains(string(out), "goroutine") {
		t.Errorf("a stack trace: %s", out)
	}
}

// processes returns the running processes that were started with the folder's name.
func (d *demo) processes() string {
	out, _ := exec.Command("pgrep", "-fa", d.dir).Output()
	return string(out)
}

func TestDemo(t *testing.T) {
	t.Parallel()
	d := newDemo(t.TempDir())
	if err := d.start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = d.stop() }()

	for path, mode := range map[string]os.FileMode{"": 0o700, "client.env": 0o600, "service/identity.txt": 0o600,
		"database-url": 0o600} {
		if fi, err := os.Stat(d.path(path)); err != nil || fi.Mode().Perm() != mode {
			t.Errorf("%s: %v, %v, want mode %o", path, fi.Mode(), err, mode)
		}
	}
	var instances wire.List[wire.Instance]
	var keys wire.List[wire.Key]
	for _, l := range []struct {
		what string
		into any
	}{{"instance", &instances}, {"key", &keys}} {
		if err := json.Unmarshal([]byte(d.must(t, l.what, "list", "-json")), l.into); err != nil {
			t.Fatal(err)
		}
	}
	regions := map[string]bool{}
	for _, i := range instances.Items {
		regions[i.Region] = true
		if i.Trouble != "" {
			t.Errorf("%s: %s", i.Name, i.Trouble)
		}
	}
	if len(instances.Items) != 13 || len(keys.Items) != 8 || len(regions) != 3 {
		t.Errorf("%d instances, %d keys, %d regions", len(instances.Items), len(keys.Items), len(regions))
	}
	crew := filepath.Join(d.dir, "demo-holders", "day-crew", "day-crew")
	openBoard := func() {
		t.Helper()
		if out := d.must(t, "open", "berth-board-1", "-identity", crew, "--", "hostname"); out != "berth-board-1\n" {
			t.Errorf("open: %q", out)
		}
	}
	openBoard()
	before := d.instance(t, "berth-board-1")

	// A second one in the same folder, and one on the same port.
	d.refusedStart(t, "another demo runs in")
	other := newDemo(t.TempDir())
	other.port = d.port
	other.refusedStart(t, "is taken", "PORT=")
	block := newDemo(t.TempDir())
	block.net = d.net
	block.refusedStart(t, "in use by another stand-in", "NET=")
	for _, x := range []*demo{other, block} {
		if p := x.processes(); p != "" {
			t.Errorf("left running:\n%s", p)
		}
	}

	same := func(when string) {
		t.Helper()
		after := d.instance(t, "berth-board-1")
		if after.Address != before.Address || after.HostKeys[0].Fingerprint != before.HostKeys[0].Fingerprint {
			t.Errorf("%s: %s %s, before %s %s", when, after.Address, after.HostKeys[0].Fingerprint, before.Address,
				before.HostKeys[0].Fingerprint)
		}
		openBoard()
	}
	token := d.token
	if err := d.stop(); err != nil {
		t.Errorf("Ctrl-C: %v %s", err, d.out)
	}
	if p := d.processes(); p != "" {
		t.Errorf("left running after Ctrl-C:\n%s", p)
	}
	if err := d.start(); err != nil {
		t.Fatal(err)
	}
	same("after Ctrl-C")
	if d.token != token {
		t.Error("the token changed")
	}

	// kill -9 in the middle of a launch: nothing stays behind, and the next start goes on.
	for _, name := range []string{"kill-board-1", "kill-board-2"} {
		d.must(t, "instance", "launch", name, "-image", "debian-12", "-size", "small", "-region", "north-pier",
			"-key", "day-crew", "-detach")
	}
	_ = d.cmd.Process.Signal(syscall.SIGKILL)
	<-d.ended
	waitFor(t, "the end of what a killed demo had started", func() bool { return d.processes() == "" })
	if err := d.start(); err != nil {
		t.Fatal(err)
	}
	same("after kill -9")
	for _, name := range []string{"kill-board-1", "kill-board-2"} {
		waitFor(t, name, func() bool { return d.instance(t, name).Phase == "ready" })
		if i := d.instance(t, name); i.State != "running" || len(i.HostKeys) != 1 || i.Trouble != "" {
			t.Errorf("after kill -9: %+v", i)
		}
		d.must(t, "open", name, "-identity", crew, "--", "true")
	}
	if cloud, err := os.ReadFile(d.path("standin", "cloud.json")); err != nil ||
		strings.Count(string(cloud), `"name": "kill-board-`) != 2 {
		t.Errorf("a launch was done twice: %v\n%s", err, cloud)
	}
	if err := d.stop(); err != nil {
		t.Error(err)
	}
	t.Run("new-identity", func(t *testing.T) { identityRenewed(t, d, crew) })
	t.Run("identity", func(t *testing.T) { identityLost(t, d) })
	t.Run("broken PostgreSQL", func(t *testing.T) { brokenPostgres(t, d) })
}

// identityRenewed gives the service another identity, in two goes, the first of which is cut off.
func identityRenewed(t *testing.T, d *demo, crew string) {
	mustDo(t, d.start("-surveys=0"))
	file := d.path("service", "identity.txt")
	before, err := os.ReadFile(file)
	mustDo(t, err)
	run := func(want string, more ...string) string {
		t.Helper()
		cmd := exec.Command(filepath.Join(bin, "plumlatchd"),
			append([]string{"new-identity", "-database-url-file", d.path("database-url"), "-owner-url-file",
				d.path("owner-url"), "-identity-file", file,
				"-standin-url", "http://127.0.0.1:1", "-standin-token-file", d.path("standin-token")}, more...)...)
		out, err := cmd.CombinedOutput()
		if err != nil || !strings.Contains(string(out), want) {
			t.Fatalf("new-identity %q: %v %s", more, err, out)
		}
		return string(out)
	}
	run("holds the new identity beside the old one", "-prepare")
	both, err := os.ReadFile(file)
	mustDo(t, err)
	old := strings.Split(strings.TrimSpace(string(before)), "\n")[1]
	if strings.Count(string(both), "AGE-SECRET-KEY-1") != 2 || !strings.Contains(string(both), old) {
		t.Fatal("a file in the middle of it does not hold both")
	}
	d.must(t, "survey", "kill-board-1")
	if out := run("encrypted anew"); strings.HasPrefix(out, "0 ") || strings.Contains(out, "AGE-SECRET") {
		t.Error(out)
	}
	after, err := os.ReadFile(file)
	mustDo(t, err)
	if strings.Count(string(after), "AGE-SECRET-KEY-1") != 1 || strings.Contains(string(after), old) ||
		!strings.HasPrefix(string(both), strings.TrimSuffix(string(after), "\n")) {
		t.Error("the old identity stays, or another one than the prepared")
	}
	d.must(t, "survey", "kill-board-1") // the running service opens what was made meanwhile
	d.must(t, "instance", "launch", "identity-board", "-image", "debian-12", "-size", "small", "-region",
		"north-pier", "-key", "day-crew")
	d.must(t, "survey", "identity-board")
	mustDo(t, os.WriteFile(file, before, 0o600))
	d.must(t, "survey", "kill-board-2")
	mustDo(t, d.stop())
	d.refusedStart(t, "sealed with another identity", "put that file back")
	mustDo(t, os.WriteFile(file, after, 0o600))
	mustDo(t, d.start())
	d.must(t, "open", "kill-board-1", "-identity", crew, "--", "true")
	mustDo(t, d.stop())
}

// identityLost takes the identity file away, and puts another in its place.
func identityLost(t *testing.T, d *demo) {
	file := d.path("service", "identity.txt")
	kept, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	d.refusedStart(t, "identity file does not exist", "put that file back")
	if _, err := os.Stat(file); err == nil {
		t.Error("a new identity was made over a sealed database")
	}
	other := newDemo(t.TempDir())
	if err := other.start("-seed=false"); err != nil {
		t.Fatal(err)
	}
	if err := other.stop(); err != nil {
		t.Fatal(err)
	}
	wrong, err := os.ReadFile(other.path("service", "identity.txt"))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		text, want string
		mode       os.FileMode
	}{{string(wrong), "sealed with another identity", 0o600}, {"nonsense", "holds no age identity", 0o600},
		{string(kept), "0600", 0o644}} {
		if err := os.WriteFile(file, []byte(c.text), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(file, c.mode); err != nil {
			t.Fatal(err)
		}
		d.refusedStart(t, c.want)
	}
	if err := os.Chmod(file, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := d.start(); err != nil {
		t.Errorf("with the file back: %v", err)
	}
	if err := d.stop(); err != nil {
		t.Error(err)
	}
}

func brokenPostgres(t *testing.T, d *demo) {
	conf := d.path("postgres", "data", "postgresql.conf")
	kept, err := os.ReadFile(conf)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(conf, append(kept, "\nfrobnicate = on\n"...), 0o600); err != nil {
		t.Fatal(err)
	}
	d.refusedStart(t, "PostgreSQL ended at its start", "frobnicate")
	if err := os.Remove(d.path("postgres", "data", "PG_VERSION")); err != nil {
		t.Fatal(err)
	}
	d.refusedStart(t, "no whole database folder", "make demo-reset")
	if p := d.processes(); p != "" {
		t.Errorf("left running:\n%s", p)
	}
}
