package e2e

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"

	"plumlatch/core/keypair"
	"plumlatch/core/wire"
	"plumlatch/reach"
)

// TestFirstDoor is the whole way: two pairs made here, one instance launched
// with them, the real ssh in, another key refused, and the ledger knowing.
func TestFirstDoor(t *testing.T) {
	d, keys := shared, t.TempDir()
	d.must(t, "key", "create", "door-crew", "-dir", keys)
	d.must(t, "key", "create", "door-rsa", "-kind", "rsa-3072", "-dir", keys)
	d.must(t, "key", "create", "door-stranger", "-dir", keys)
	for _, k := range []string{"door-crew", "door-rsa"} {
		if fi, err := os.Stat(filepath.Join(keys, k)); err != nil || fi.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v %v, want mode 0600", k, fi, err)
		}
	}
	out := d.must(t, "instance", "launch", "door-board-1", "-image", "debian-12", "-size", "small", "-region",
		"north-pier", "-key", "door-crew,door-rsa")
	contains(t, "launch", out, "door-crew", "accepted", "login user is debian", "next: plumlatch open door-board-1")

	for _, k := range []string{"door-crew", "door-rsa"} {
		r := d.client(t, "", "open", "door-board-1", "-identity", filepath.Join(keys, k), "--", "hostname; whoami")
		if r.code != 0 || r.out != "door-board-1\ndebian\n" {
			t.Errorf("open with %s: %+v", k, r)
		}
	}
	if r := d.client(t, "", "open", "door-board-1", "-identity", filepath.Join(keys, "door-stranger"), "--",
		"hostname"); r.code != 255 || strings.Contains(r.out, "door-board-1") {
		t.Errorf("open with a stranger's key: %+v", r)
	}
	// Without -identity the right file is found, and the command's status passed on.
	if r := d.client(t, "", "open", "door-board-1", "-dir", keys, "--", "exit 7"); r.code != 7 {
		t.Errorf("open by folder: %+v, want status 7", r)
	}

	contains(t, "access by instance", d.must(t, "access", "list", "-instance", "door-board-1"), "door-crew",
		"door-rsa", "proven", "(steward)")
	contains(t, "access by key", d.must(t, "access", "list", "-key", "door-crew"), "door-board-1", "proven")
	var list wire.List[wire.Access]
	if err := json.Unmarshal([]byte(d.must(t, "access", "list", "-instance", "door-board-1", "-json")),
		&list); err != nil || len(list.Items) != 3 {
		t.Fatalf("%v: %+v", err, list)
	}
	for _, a := range list.Items {
		if want := map[bool]string{true: "accepted", false: "proven"}[a.Steward]; a.Evidence != want || a.Old ||
			a.Probe == nil || a.Probe.Answer != "accepted" {
			t.Errorf("%s: evidence %s, want %s", a.Key, a.Evidence, want)
		}
	}

	i := d.instance(t, "door-board-1")
	if i.State != "running" || i.LoginUser != "debian" || i.Port != 2222 || len(i.HostKeys) != 1 {
		t.Errorf("instance show -json: %+v", i)
	}
	// What the first boot put into the file: two people's keys, and the narrow steward's.
	file, err := os.ReadFile(d.path("standin", "instances", i.CloudID, "home", "debian", ".ssh", "authorized_keys"))
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(strings.TrimSpace(string(file)), "\n")
	if len(lines) != 3 || !strings.HasPrefix(lines[2], `restrict,command="internal-sftp" ssh-ed25519 `) {
		t.Errorf("authorized_keys:\n%s", file)
	}

	t.Run("ssh", func(t *testing.T) { sshByHand(t, d, i, filepath.Join(keys, "door-crew")) })
	t.Run("stop and start", func(t *testing.T) { stopAndStart(t, d, i, keys) })
}

func (d *demo) instance(t *testing.T, name string) wire.Instance {
	t.Helper()
	var i wire.Instance
	if err := json.Unmarshal([]byte(d.must(t, "instance", "show", name, "-json")), &i); err != nil {
		t.Fatal(err)
	}
	return i
}

// sshByHand uses ssh, scp and sftp without our client, with the host key that
// the ledger has.
func sshByHand(t *testing.T, d *demo, i wire.Instance, key string) {
	dir := t.TempDir()
	known := filepath.Join(dir, "known")
	if err := os.WriteFile(known, []byte("["+i.Address+"]:2222 "+i.HostKeys[0].PublicKey+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	opts := []string{"-F", "none", "-i", key, "-o", "IdentitiesOnly=yes", "-o", "IdentityAgent=none", "-o",
		"StrictHostKeyChecking=yes", "-o", "UserKnownHostsFile=" + known, "-o", "BatchMode=yes"}
	local := filepath.Join(dir, "tide-table")
	if err := os.WriteFile(local, []byte("high 04:10\nlow 10:22\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	run := func(stdin, name string, args ...string) string {
		t.Helper()
		cmd := exec.Command(name, append(opts[:len(opts):len(opts)], args...)...)
		cmd.Stdin = strings.NewReader(stdin)
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Errorf("%s %v: %v\n%s", name, args, err, out)
		}
		return string(out)
	}
	target := i.LoginUser + "@" + i.Address
	run("", "scp", "-P", "2222", local, target+":tide-table")
	if got := run("", "ssh", "-p", "2222", target,
		"grep high tide-table | sed 's/high/HIGH/'; tail -n 1 < tide-table"); got != "HIGH 04:10\nlow 10:22\n" {
		t.Errorf("grep, sed, tail: %q", got)
	}
	// The shell cannot leave the instance's folder, by whatever name.
	for _, escape := range []string{"cat /etc/shadow", "cat ../../../../../../etc/shadow",
		"ls /root/../../../../proc/self", "ls /root/../../../../dev", "cat < /proc/self/environ", "command -v python3 || cat /usr/bin/env"} {
		cmd := exec.Command("ssh", append(opts[:len(opts):len(opts)], "-p", "2222", target, escape)...)
		if out, err := cmd.CombinedOutput(); err == nil {
			t.Errorf("%s: it worked: %q", escape, out)
		}
	}
	// A shell on a terminal.
	got := run("cd .ssh\npwd\nid -un\nexit\n", "ssh", "-tt", "-p", "2222", target)
	contains(t, "interactive shell", got, "/home/debian/.ssh", "debian@door-board-1")
	// Root's file names the login user and lets nobody in.
	cmd := exec.Command("ssh", append(opts[:len(opts):len(opts)], "-p", "2222", "root@"+i.Address, "id")...)
	if out, err := cmd.Output(); err == nil || !strings.Contains(string(out), "Log in as debian") {
		t.Errorf("root: %v, %q", err, out)
	}
}

func stopAndStart(t *testing.T, d *demo, before wire.Instance, keys string) {
	contains(t, "stop", d.must(t, "instance", "stop", "-yes", before.Name), "is stopped", "next: plumlatch instance start")
	contains(t, "access while stopped", d.must(t, "access", "list", "-instance", before.Name), "(old)")
	if r := d.client(t, "", "open", before.Name, "-dir", keys); r.code != 1 ||
		!strings.Contains(r.err, "next: plumlatch instance start") {
		t.Errorf("open while stopped: %+v", r)
	}
	// Its address is a stranger's by now: whoever goes there meets another host key.
	stranger, err := reach.HostKey(t.Context(), reach.Policy{AllowLoopback: true},
		reach.Target{Address: before.Address, Port: before.Port}, "")
	if err != nil || keypair.Fingerprint(stranger) == before.HostKeys[0].Fingerprint {
		t.Errorf("at the address of a stopped instance: %v", err)
	}
	d.must(t, "instance", "start", before.Name)
	after := d.instance(t, before.Name)
	if after.Address == before.Address || after.HostKeys[0].Fingerprint != before.HostKeys[0].Fingerprint {
		t.Errorf("address %s -> %s, host key %s -> %s", before.Address, after.Address, before.HostKeys[0].Fingerprint,
			after.HostKeys[0].Fingerprint)
	}
	if out := d.must(t, "access", "list", "-instance", before.Name); strings.Contains(out, "(old)") ||
		!strings.Contains(out, "accepted") {
		t.Errorf("after the start the evidence is not new:\n%s", out)
	}
	d.must(t, "open", before.Name, "-dir", keys, "--", "true")
	// Another host key than the pinned one: ssh does not go on.
	other, err := keypair.Create(keypair.Ed25519, "")
	if err != nil {
		t.Fatal(err)
	}
	db := d.database(t)
	swap := func(from, to []byte) {
		t.Helper()
		if _, err := db.Exec(t.Context(), "UPDATE host_keys SET blob = $1 WHERE blob = $2", to, from); err != nil {
			t.Fatal(err)
		}
	}
	pinned, err := keypair.ReadPublic([]byte(after.HostKeys[0].PublicKey))
	if err != nil {
		t.Fatal(err)
	}
	swap(pinned.Blob, other.Public.Blob)
	if r := d.client(t, "", "open", before.Name, "-dir", keys, "--", "true"); r.code != 255 {
		t.Errorf("another host key: %+v", r)
	}
	swap(other.Public.Blob, pinned.Blob)
	if r := d.client(t, "", "instance", "remove", before.Name); r.code != 1 || !strings.Contains(r.err, "-yes") {
		t.Errorf("remove without an answer: %+v", r)
	}
	d.must(t, "instance", "remove", before.Name, "-yes")
	if r := d.client(t, "", "instance", "show", before.Name); r.code != 1 {
		t.Errorf("a removed instance is shown: %+v", r)
	}
}

// TestOpenEndsWithCtrlC presses Ctrl-C while a command runs.
func TestOpenEndsWithCtrlC(t *testing.T) {
	d, keys := shared, t.TempDir()
	d.must(t, "key", "create", "ctrl-key", "-dir", keys)
	d.must(t, "instance", "launch", "ctrl-board", "-image", "debian-12", "-size", "small", "-region", "north-pier",
		"-key", "ctrl-key")
	for _, whole := range []bool{true, false} { // the terminal's whole group, or our program alone
		cmd := exec.Command(filepath.Join(bin, "plumlatch"), "open", "ctrl-board", "-dir", keys, "--",
			"touch here; sleep 600")
		cmd.Env = append(os.Environ(), "PLUMLATCH_URL="+d.url, "PLUMLATCH_TOKEN="+d.token)
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		waitFor(t, "the session", func() bool {
			return d.client(t, "", "open", "ctrl-board", "-dir", keys, "--", "rm here").code == 0
		})
		to, sig := -cmd.Process.Pid, syscall.SIGINT
		if !whole {
			to, sig = cmd.Process.Pid, syscall.SIGTERM
		}
		if err := syscall.Kill(to, sig); err != nil {
			t.Fatal(err)
		}
		if err := cmd.Wait(); err == nil {
			t.Error("it ended as if nothing had been")
		}
	}
}

// TestNothingSteersTheTerminal has a service that sends escape sequences.
func TestNothingSteersTheTerminal(t *testing.T) {
	evil := "x\u001b[2J\u009b31m\u202e\u0007y"
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		k := wire.Key{Name: evil, Kind: evil, Fingerprint: evil, Bitting: evil, Comment: evil, Note: evil,
			PublicKey: evil, Origin: evil, CreatedBy: evil, Holder: evil}
		var v any = wire.List[wire.Key]{Items: []wire.Key{k}}
		if strings.HasSuffix(r.URL.Path, "/keys/x") {
			v = k
		} else if strings.HasSuffix(r.URL.Path, "/access") {
			v = wire.List[wire.Access]{Items: []wire.Access{{Key: evil, Instance: evil, Evidence: evil,
				LoginUser: evil, From: evil}}}
		}
		_ = json.NewEncoder(w).Encode(v)
	}))
	defer srv.Close()
	for _, args := range [][]string{{"key", "list"}, {"key", "show", "x"}, {"key", "list", "-json"},
		{"access", "list"}} {
		r := shared.clientWith(t, srv.URL, "t", "", args...)
		if r.code != 0 || strings.ContainsAny(r.out+r.err, "\x1b\u009b\u202e\a") {
			t.Errorf("%v: %+v", args, r)
		}
		if args[len(args)-1] != "-json" {
			continue
		}
		var back wire.List[wire.Key]
		if err := json.Unmarshal([]byte(r.out), &back); err != nil || back.Items[0].Name != evil {
			t.Errorf("the JSON says something else: %v", err)
		}
	}
}

func TestKeyCreateNeverOverwrites(t *testing.T) {
	d, dir := shared, t.TempDir()
	d.must(t, "key", "create", "keep-me", "-dir", dir)
	before, err := os.ReadFile(filepath.Join(dir, "keep-me"))
	if err != nil {
		t.Fatal(err)
	}
	d.must(t, "instance", "launch", "keep-board", "-image", "debian-12", "-size", "small", "-region", "north-pier",
		"-key", "keep-me")
	r := d.client(t, "", "key", "create", "keep-me", "-dir", dir)
	contains(t, "a file stands there", r.err, "not overwritten", "the recorded key keep-me, which opens keep-board",
		"next:")
	after, err := os.ReadFile(filepath.Join(dir, "keep-me"))
	if r.code != 1 || err != nil || string(before) != string(after) {
		t.Errorf("the file changed, or the status is %d", r.code)
	}
	// The name is taken by another key: nothing is written.
	other := t.TempDir()
	if r := d.client(t, "", "key", "create", "KEEP-me", "-dir", other); r.code != 1 ||
		!strings.Contains(r.err, "taken") {
		t.Errorf("a taken name: %+v", r)
	}
	if left, _ := os.ReadDir(other); len(left) != 0 {
		t.Errorf("files were left: %v", left)
	}
}

// TestKeyCreateWhenTheServiceFails puts a proxy between: one that refuses, and
// one that does the work and loses the answer.
func TestKeyCreateWhenTheServiceFails(t *testing.T) {
	d := shared
	target, err := url.Parse(d.url)
	if err != nil {
		t.Fatal(err)
	}
	var lose atomic.Bool
	proxy := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(target) }} // and so its Host
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != "POST" {
			proxy.ServeHTTP(w, r)
			return
		}
		if lose.Load() {
			proxy.ServeHTTP(httptest.NewRecorder(), r)
			panic(http.ErrAbortHandler)
		}
		w.WriteHeader(http.StatusForbidden)
		fmt.Fprint(w, `{"type":"/problems/forbidden","title":"no","status":403,"detail":"not today \u001b[2J"}`)
	}))
	defer srv.Close()

	dir := t.TempDir()
	r := d.clientWith(t, srv.URL, d.token, "", "key", "create", "refused-key", "-dir", dir)
	left, _ := os.ReadDir(dir)
	if r.code != 1 || len(left) != 0 || strings.Contains(r.err, "\x1b") || !strings.Contains(r.err, "not today") {
		t.Errorf("refused: %+v, left %v", r, left)
	}
	lose.Store(true)
	r = d.clientWith(t, srv.URL, d.token, "", "key", "create", "lost-answer", "-dir", dir)
	if _, err := os.Stat(filepath.Join(dir, "lost-answer")); err != nil || r.code != 1 {
		t.Errorf("lost answer: the file is gone (%v), status %d", err, r.code)
	}
	contains(t, "lost answer", r.err, "is kept", "next: plumlatch key show lost-answer")
	d.must(t, "key", "show", "lost-answer")
}

func TestPassphraseFile(t *testing.T) {
	d, dir := shared, t.TempDir()
	pass := filepath.Join(dir, "pass")
	if err := os.WriteFile(pass, []byte("gull over slack water\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	r := d.client(t, "", "key", "create", "locked-key", "-dir", dir, "-new-passphrase", pass)
	if r.code != 0 || !strings.Contains(r.out, "with a passphrase") || strings.Contains(r.out+r.err, "gull") {
		t.Fatalf("%+v", r)
	}
	file := filepath.Join(dir, "locked-key")
	if out, err := exec.Command("ssh-keygen", "-y", "-P", "gull over slack water", "-f",
		file).CombinedOutput(); err != nil {
		t.Errorf("ssh-keygen with the passphrase: %v %s", err, out)
	}
	if out, err := exec.Command("ssh-keygen", "-y", "-P", "", "-f", file).CombinedOutput(); err == nil {
		t.Errorf("ssh-keygen without it: %s", out)
	}
	if r := d.client(t, "", "key", "create", "open-key", "-dir", dir); !strings.Contains(r.err+r.out, "no passphrase") {
		t.Errorf("without a terminal it does not say that there is no passphrase: %+v", r)
	}
}

func TestServiceDown(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := l.Addr().String()
	l.Close()
	r := shared.clientWith(t, "http://"+address, "x", "", "key", "list")
	if r.code != 1 || !strings.Contains(r.err, address) || !strings.Contains(r.err, "next:") {
		t.Errorf("%+v", r)
	}
}

func TestUsage(t *testing.T) {
	commands, stages := 0, 0
	for line := range strings.Lines(shared.must(t, "help")) {
		stage, ok := strings.CutPrefix(line, "  help ")
		if !ok {
			continue
		}
		stages++
		for line := range strings.Lines(shared.must(t, "help", strings.Fields(stage)[0])) {
			name, _, ok := strings.Cut(strings.TrimPrefix(line, "  "), "  ")
			if !ok || !strings.HasPrefix(line, "  ") || name == "" {
				continue
			}
			commands++
			help := shared.must(t, append([]string{"help"}, strings.Fields(name)...)...)
			if !strings.Contains(help, "Example:\n  plumlatch "+name) {
				t.Errorf("help %s has no real example:\n%s", name, help)
			}
		}
	}
	if stages != 9 {
		t.Errorf("help shows %d stages", stages)
	}
	if commands < 90 {
		t.Errorf("help lists %d commands", commands)
	}
	for _, c := range []struct {
		args []string
		code int
		want string
	}{
		{nil, 2, "instance launch"},
		{[]string{"help"}, 0, "instance launch"},
		{[]string{"help", "key", "create"}, 0, "Example:"},
		{[]string{"help", "key"}, 0, "key import"},
		{[]string{"key", "create", "-help"}, 0, "-kind"},
		{[]string{"frob"}, 2, "no command"},
		{[]string{"key", "list", "-order", "nope"}, 1, "there are: name, created, reach"},
		{[]string{"key", "list", "-older-than-days", "-4"}, 1, "number of days"},
		{[]string{"key", "list", "-holder", "nobody"}, 0, "Nothing matches."},
		{[]string{"instance", "list", "-region", "mars"}, 0, "Nothing matches."},
		{[]string{"operator", "add", "x-op", "-role", "king"}, 1, "there are: viewer, operator, admin"},
		{[]string{"operator", "role", "nobody", "viewer"}, 1, "plumlatch operator list"},
		{[]string{"token", "revoke", "999999"}, 1, "plumlatch token list"},
		{[]string{"instance", "launch", "x-board", "-image", "debian-12", "-size", "tiny", "-region", "north-pier",
			"-key", "none"}, 1, "size: unknown size in region north-pier; there are: small, medium, large\n"},
		{[]string{"key", "create"}, 2, "NAME is missing"},
		{[]string{"key", "create", "a", "b"}, 2, "unexpected"},
		{[]string{"key", "create", "a", "-frob"}, 2, "-frob"},
		{[]string{"key", "create", "night crew"}, 2, "try night-crew"},
		{[]string{"key", "create", "x", "-kind", "dsa"}, 2, "ed25519, rsa-3072"},
	} {
		r := shared.client(t, "", c.args...)
		if r.code != c.code || !strings.Contains(r.out+r.err, c.want) {
			t.Errorf("plumlatch %v: %+v, want status %d and %q", c.args, r, c.code, c.want)
		}
	}
}
