package e2e

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"plumlatch/core/why"
	"plumlatch/core/wire"
)

// broken is one door, with everything that a case needs to break it.
type broken struct {
	d        *demo
	name     string
	identity string // the engineer's private file, a copy of the case's own
	home     string // of the engineer
	env      []string
	args     []string // further ones for why
	disk     string   // the root volume, on the stand-in
	id       string   // in the stand-in
	user     string
	real     *adoptee // nil on the stand-in
}

// whyCase breaks a door in exactly one way.
type whyCase struct {
	want   why.Code
	what   string
	region string // of its instance; north-pier if ""
	image  string
	broke  func(t *testing.T, b *broken)
	says   []string // in what is printed
	fixed  bool     // -fix mends it
	here   bool     // only the engineer's machine can see it
}

func (b *broken) client(t testing.TB, args ...string) result {
	t.Helper()
	cmd := exec.Command(filepath.Join(bin, "plumlatch"), args...)
	cmd.Env = append(append(os.Environ(), "PLUMLATCH_URL="+b.d.url, "PLUMLATCH_TOKEN="+b.d.token, "HOME="+b.home,
		"SSH_AUTH_SOCK="), b.env...)
	var out, errOut strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &errOut
	_ = cmd.Run()
	return result{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
}

func (b *broken) why(t *testing.T, more ...string) (why.Report, result) {
	t.Helper()
	args := append([]string{"why", b.name, "-identity", b.identity, "-json"}, append(b.args, more...)...)
	r := b.client(t, args...)
	var report why.Report
	if err := json.Unmarshal([]byte(r.out), &report); err != nil {
		t.Fatalf("no JSON: %d %s %s", r.code, r.out, r.err)
	}
	return report, r
}

// edit changes a file of the root volume, or of the account's home.
func (b *broken) edit(t *testing.T, file string, change func(string) string) {
	t.Helper()
	data, err := os.ReadFile(file)
	if err != nil && !os.IsNotExist(err) {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte(change(string(data))), 0o600); err != nil {
		t.Fatal(err)
	}
}

// keysFile is the authorized_keys file that the server reads.
func (b *broken) keysFile() string {
	if b.real != nil {
		return b.real.file
	}
	return filepath.Join(b.disk, "home", b.user, ".ssh", "authorized_keys")
}

// engineersLine changes the line of the engineer's key, and no other.
func (b *broken) engineersLine(t *testing.T, change func(string) string) {
	t.Helper()
	data, err := os.ReadFile(b.identity + ".pub")
	if err != nil {
		t.Fatal(err)
	}
	blob := strings.Fields(string(data))[1]
	found := false
	b.edit(t, b.keysFile(), func(text string) string {
		var out strings.Builder
		for line := range strings.Lines(text) {
			if strings.Contains(line, blob) {
				found = true
				line = change(line)
			}
			out.WriteString(line)
		}
		return out.String()
	})
	if !found {
		t.Fatalf("the engineer's line is not in %s", b.keysFile())
	}
}

// config adds to the stand-in's sshd_config.
func (b *broken) config(t *testing.T, line string) {
	t.Helper()
	b.edit(t, filepath.Join(b.disk, "etc/ssh/sshd_config.d/00-test.conf"),
		func(s string) string { return s + line + "\n" })
}

func (b *broken) cloud(t *testing.T, method, path, body string) {
	t.Helper()
	if err := standinCallAt(b.d, method, path, body, nil); err != nil {
		t.Fatal(err)
	}
}

func (b *broken) door(t *testing.T, is string) {
	b.cloud(t, "POST", "/v1/instances/"+b.id+"/door", `{"is":"`+is+`"}`)
}

// restart stops and starts the instance behind the ledger's back.
func (b *broken) restart(t *testing.T) {
	t.Helper()
	for _, verb := range []struct{ call, state string }{{"stop", "stopped"}, {"start", "running"}} {
		b.cloud(t, "POST", "/v1/instances/"+b.id+"/"+verb.call, `{"client_token":"behind-`+verb.call+b.id+`"}`)
		waitFor(t, verb.state, func() bool {
			var in struct{ State string }
			return standinCallAt(b.d, "GET", "/v1/instances/"+b.id, "", &in) == nil && in.State == verb.state
		})
	}
}

func before(prefix string) func(string) string {
	return func(line string) string { return prefix + line }
}

func writes(name string, change func(string) string, mode os.FileMode) func(*testing.T, *broken) {
	return func(t *testing.T, b *broken) {
		b.edit(t, filepath.Join(b.disk, name), change)
		if err := os.Chmod(filepath.Join(b.disk, name), mode); err != nil {
			t.Fatal(err)
		}
	}
}

// Those that concern the engineer's machine only, and so stand before both servers.
var fileCases = []whyCase{
	{here: true, want: why.FileMissing, what: "no such file",
		broke: func(t *testing.T, b *broken) { b.identity += "-gone" }, says: []string{"not there"}},
	{here: true, want: why.FileMissing, what: "no local key opens it", broke: func(t *testing.T, b *broken) {
		b.args = []string{"-dir", t.TempDir()}
		b.identity = ""
	}, says: []string{"No private file here"}},
	{here: true, want: why.FileIsPublic, what: "the .pub is given",
		broke: func(t *testing.T, b *broken) { b.identity += ".pub" }, says: []string{"public half"}},
	{here: true, want: why.FileMode, what: "too open", fixed: true,
		broke: func(t *testing.T, b *broken) { mustDo(t, os.Chmod(b.identity, 0o644)) },
		says:  []string{"0600", "0644"}},
	{here: true, want: why.FileLineEndings, what: "CRLF", fixed: true, broke: func(t *testing.T, b *broken) {
		b.edit(t, b.identity, func(s string) string { return strings.ReplaceAll(s, "\n", "\r\n") })
	}, says: []string{"CRLF"}},
	{here: true, want: why.FileLineEndings, what: "no last line feed", fixed: true,
		broke: func(t *testing.T, b *broken) {
			b.edit(t, b.identity, func(s string) string { return strings.TrimRight(s, "\n") })
		}},
	{here: true, want: why.FileDamaged, what: "cut short", broke: func(t *testing.T, b *broken) {
		b.edit(t, b.identity, func(s string) string { return s[:len(s)/2] + "\n-----END OPENSSH PRIVATE KEY-----\n" })
	}},
	{here: true, want: why.FileFormat, what: "PPK", broke: func(t *testing.T, b *broken) {
		b.d.must(t, "key", "convert", b.identity, "-format", "ppk", "-new-passphrase", "/dev/null", "-out",
			b.identity+".ppk")
		b.identity += ".ppk"
	}, says: []string{"key convert"}},
	{here: true, want: why.Passphrase, what: "locked, and no agent",
		broke: func(t *testing.T, b *broken) { lock(t, b) }, says: []string{"ssh-add"}},
	{here: true, want: why.Passphrase, what: "the wrong passphrase", broke: func(t *testing.T, b *broken) {
		lock(t, b)
		wrong := filepath.Join(t.TempDir(), "wrong")
		mustDo(t, os.WriteFile(wrong, []byte("not this one\n"), 0o600))
		b.args = []string{"-passphrase-file", wrong}
	}},
	{here: true, want: "", what: "locked, with its passphrase", broke: func(t *testing.T, b *broken) {
		lock(t, b)
		right := filepath.Join(t.TempDir(), "right")
		mustDo(t, os.WriteFile(right, []byte("tide and time\n"), 0o600))
		b.args = []string{"-passphrase-file", right}
	}, says: []string{"a login as", "gets a session"}},
	{here: true, want: why.PubDiffers, what: "another's .pub beside it", fixed: true,
		broke: func(t *testing.T, b *broken) {
			mustDo(t, os.WriteFile(b.identity+".pub", []byte(newPublic(t)+"\n"), 0o644))
		}, says: []string{"expected", "found"}},
	{here: true, want: why.TooManyKeys, what: "the agent has seven others", fixed: true,
		broke: func(t *testing.T, b *broken) {
			b.env = []string{"SSH_AUTH_SOCK=" + crowdedAgent(t, 7)}
			b.client(t, "hosts", "write", "-dir", filepath.Dir(b.identity), "-yes")
			// Written before, and lost since: that is what -fix writes anew.
			mustDo(t, os.Remove(filepath.Join(b.home, ".ssh", "plumlatch_hosts")))
		}, says: []string{"7 keys"}},
}

func mustDo(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

func lock(t *testing.T, b *broken) {
	t.Helper()
	if out, err := exec.Command("ssh-keygen", "-q", "-p", "-N", "tide and time", "-f",
		b.identity).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
}

// crowdedAgent runs an ssh-agent with keys of nobody.
func crowdedAgent(t *testing.T, n int) (socket string) {
	t.Helper()
	dir, err := os.MkdirTemp("", "pl-agent-") // a socket's path must be short
	mustDo(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	socket = filepath.Join(dir, "s")
	cmd := exec.Command("ssh-agent", "-D", "-a", socket)
	mustDo(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	waitFor(t, "ssh-agent", func() bool { _, err := os.Stat(socket); return err == nil })
	for k := range n {
		file := filepath.Join(dir, fmt.Sprint("k", k))
		if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f",
			file).CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
		add := exec.Command("ssh-add", "-q", file)
		add.Env = append(os.Environ(), "SSH_AUTH_SOCK="+socket)
		if out, err := add.CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
	return socket
}

var standinCases = []whyCase{
	{want: "", what: "a door in order", broke: func(*testing.T, *broken) {}, says: []string{"Nothing is in the way"}},
	{want: why.InstanceStopped, what: "stopped",
		broke: func(t *testing.T, b *broken) { b.d.must(t, "instance", "stop", "-yes", b.name) },
		says:  []string{"instance start"}},
	{want: why.InstanceStopped, what: "stopped in the cloud, unknown to the ledger",
		broke: func(t *testing.T, b *broken) {
			b.cloud(t, "POST", "/v1/instances/"+b.id+"/stop", `{"client_token":"behind-`+b.id+`"}`)
			time.Sleep(900 * time.Millisecond)
		}},
	{want: why.InstanceGone, what: "removed in the cloud", broke: func(t *testing.T, b *broken) {
		b.cloud(t, "DELETE", "/v1/instances/"+b.id+"?client_token=gone-"+b.id, "")
		time.Sleep(900 * time.Millisecond)
	}},
	{want: why.InstanceBusy, what: "stopping, and never stopped", broke: func(t *testing.T, b *broken) {
		b.cloud(t, "POST", "/v1/faults", `{"call":"state","name":"`+b.name+`"}`)
		b.cloud(t, "POST", "/v1/instances/"+b.id+"/stop", `{"client_token":"behind-`+b.id+`"}`)
	}},
	{want: why.NoAddress, what: "without any address", broke: func(t *testing.T, b *broken) { b.door(t, "none") }},
	{want: why.AddressChanged, what: "restarted in the cloud; a stranger has the old address",
		broke: func(t *testing.T, b *broken) { b.restart(t) },
		says:  []string{"instance refresh", "another machine"}},
	{here: true, want: why.AddressChanged, what: "the written configuration is old", fixed: true,
		broke: func(t *testing.T, b *broken) {
			if r := b.client(t, "hosts", "write", "-dir", filepath.Dir(b.identity), "-yes"); r.code != 0 {
				t.Fatalf("%+v", r)
			}
			b.d.must(t, "instance", "stop", "-yes", b.name)
			b.d.must(t, "instance", "start", b.name)
		}, says: []string{"hosts write"}},
	{here: true, want: why.RuleShuts, what: "no rule for this address", region: "south-pier",
		broke: func(t *testing.T, b *broken) {
			b.d.must(t, "instance", "unadmit", b.name, "-from", "127.0.0.1", "-cut-off", "1", "-yes")
		}, says: []string{"instance admit", "127.0.0.1"}},
	{want: why.PortClosed, what: "the server is down", broke: func(t *testing.T, b *broken) { b.door(t, "closed") }},
	{want: why.PortSilent, what: "its own firewall", broke: func(t *testing.T, b *broken) { b.door(t, "silent") }},
	{want: why.NotSSH, what: "a web server", broke: func(t *testing.T, b *broken) { b.door(t, "other") },
		says: []string{"HTTP/1.1"}},
	{here: true, want: why.Penalised, what: "five failed logins from here", broke: func(t *testing.T, b *broken) {
		b.config(t, "PerSourcePenalties yes")
		i := b.d.instance(t, b.name)
		for range 5 {
			c, err := net.Dial("tcp", net.JoinHostPort(i.Address, fmt.Sprint(i.Port)))
			mustDo(t, err)
			fmt.Fprint(c, "SSH-2.0-nobody\r\n")
			c.Close()
		}
		time.Sleep(300 * time.Millisecond)
	}, says: []string{"Not allowed"}},
	{want: why.NoHostKey, what: "none on record", broke: func(t *testing.T, b *broken) {
		_, err := b.d.database(t).Exec(t.Context(),
			"DELETE FROM host_keys WHERE instance_id = (SELECT id FROM instances WHERE name = $1)", b.name)
		mustDo(t, err)
	}, says: []string{"host-key"}},
	{want: why.HostKey, what: "rebuilt", broke: func(t *testing.T, b *broken) { newHostKey(t, b) },
		says: []string{"expected", "found", "Nothing was sent"}},
	{want: why.NoAlgorithm, what: "an ancient cipher only",
		broke: func(t *testing.T, b *broken) { b.config(t, "Ciphers aes128-cbc") }},
	{want: why.NoAlgorithm, what: "an image that takes no RSA", region: "skerry-island", image: "tideline-2",
		broke: func(t *testing.T, b *broken) {
			dir := t.TempDir()
			b.d.must(t, "key", "create", "rsa-"+b.name, "-kind", "rsa-3072", "-dir", dir)
			b.identity = filepath.Join(dir, "rsa-"+b.name)
		}},
	{want: why.LoginUser, what: "no such user",
		broke: func(t *testing.T, b *broken) { b.args = []string{"-user", "captain"} },
		says:  []string{"debian", "captain"}},
	{want: why.LoginUser, what: "root's line only prints which user to use",
		broke: func(t *testing.T, b *broken) { b.args = []string{"-user", "root"} }, says: []string{"debian"}},
	{want: why.KeyNotInFile, what: "the line is gone", broke: func(t *testing.T, b *broken) {
		b.engineersLine(t, func(string) string { return "" })
	}, says: []string{"key export door-key"}},
	{want: why.KeyExpired, what: "expired",
		broke: func(t *testing.T, b *broken) { b.engineersLine(t, before(`expiry-time="20200101000000Z" `)) }},
	{want: why.KeyFrom, what: "from elsewhere",
		broke: func(t *testing.T, b *broken) { b.engineersLine(t, before(`from="192.0.2.1" `)) },
		says:  []string{"192.0.2.1", "127.0.0.1"}},
	{want: why.ForcedCommand, what: "a forced command", broke: func(t *testing.T, b *broken) {
		b.engineersLine(t, before(`command="touch ran" `))
	}, says: []string{"touch ran"}},
	{want: why.ServerModes, what: "the home is writable by all", broke: func(t *testing.T, b *broken) {
		mustDo(t, os.Chmod(filepath.Join(b.disk, "home", b.user), 0o777))
	}, says: []string{"chmod go-w"}},
	{want: why.NoShell, what: "nologin", broke: writes("etc/passwd", func(s string) string {
		return strings.Replace(s, "/home/debian:/bin/sh", "/home/debian:/usr/sbin/nologin", 1)
	}, 0o644), says: []string{"/usr/sbin/nologin"}},
	{want: why.AccountExpired, what: "expired account",
		broke: writes("etc/shadow", func(string) string { return "debian:*:19000:0:99999:7::1:\n" }, 0o640),
		says:  []string{"expired"}},
	{want: why.LoginsOff, what: "/etc/nologin",
		broke: writes("etc/nologin", func(string) string { return "Down for the spring tide.\n" }, 0o644),
		says:  []string{"spring tide"}},
	{here: true, want: why.RootOff, what: "root by no key", broke: func(t *testing.T, b *broken) {
		pub, err := os.ReadFile(b.identity + ".pub")
		mustDo(t, err)
		b.config(t, "PermitRootLogin no")
		writes("root/.ssh/authorized_keys", func(string) string { return string(pub) }, 0o600)(t, b)
		b.args = []string{"-user", "root"}
	}},
	{want: why.SecondFactor, what: "a code besides the key",
		broke: func(t *testing.T, b *broken) { b.config(t, "AuthenticationMethods publickey,keyboard-interactive") }},
	{want: why.PasswordOnly, what: "passwords only", broke: func(t *testing.T, b *broken) {
		b.edit(t, filepath.Join(b.disk, "etc/ssh/sshd_config.d/00-test.conf"),
			func(string) string { return "PubkeyAuthentication no\nPasswordAuthentication yes\n" })
	}},
}

// newHostKey gives an instance another host key, as a rebuild does.
func newHostKey(t *testing.T, b *broken) {
	t.Helper()
	file := filepath.Join(b.disk, "etc/ssh/ssh_host_ed25519_key")
	mustDo(t, os.Remove(file))
	_ = os.Remove(file + ".pub")
	if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f",
		file).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	b.door(t, "open")
}

// check has why look at a broken door, and at it again after -fix.
func (c whyCase) check(t *testing.T, b *broken) {
	t.Helper()
	var report why.Report
	var r result
	var got why.Code
	for range 3 { // a machine that stands still for a while says nothing either: it is asked again
		got = ""
		if report, r = b.why(t); report.First != nil {
			got = report.First.Code
		}
		if got != why.PortSilent || got == c.want {
			break
		}
	}
	if got != c.want {
		t.Fatalf("first is %q, want %q: %s %s", got, c.want, r.out, r.err)
	}
	if want := map[bool]int{true: 0, false: 3}[c.want == ""]; r.code != want {
		t.Errorf("status %d, want %d", r.code, want)
	}
	if slices.ContainsFunc(report.Passed, func(p why.Passed) bool { return p.Code == c.want }) {
		t.Errorf("%s is said to be passed too: %s", c.want, r.out)
	}
	if report.First != nil && (report.First.Evidence == "" || report.First.Next == "") {
		t.Errorf("without evidence or a next step: %+v", report.First)
	}
	if b.real == nil && !c.here {
		c.fromService(t, b)
	}
	args := append([]string{"why", b.name, "-identity", b.identity}, b.args...)
	text := b.client(t, args...)
	text.out = strings.Join(strings.Fields(text.out), " ") // its lines are wrapped
	contains(t, "what is printed", text.out, c.says...)
	if c.want != "" {
		contains(t, "what is printed", text.out, "WRONG", "What matters is "+string(c.want), "next: ")
	}
	if !c.fixed {
		if c.want != "" && report.First.Fix != "" {
			t.Errorf("-fix promises something that is not tried: %+v", report.First)
		}
		return
	}
	after, r := b.why(t, "-fix")
	if after.First != nil || r.code != 0 {
		t.Errorf("after -fix: %s %s", r.out, r.err)
	}
}

// fromService asks as the console does: the service alone must find the same.
func (c whyCase) fromService(t *testing.T, b *broken) {
	t.Helper()
	pub, err := os.ReadFile(b.identity + ".pub")
	mustDo(t, err)
	ask := wire.WhyRequest{PublicKey: string(pub)}
	if n := slices.Index(b.args, "-user"); n >= 0 {
		ask.User = b.args[n+1]
	}
	a := b.d.api(t, "POST", "/api/v1/instances/"+b.name+"/why", mustJSON(t, ask))
	var answer wire.WhyAnswer
	mustDo(t, json.Unmarshal([]byte(a.body), &answer))
	got := why.Code("")
	if answer.Report.First != nil {
		got = answer.Report.First.Code
	}
	if got != c.want {
		t.Errorf("the service alone says %q: %s", got, a.body)
	}
}

// TestWhyOnTheStandIn breaks doors of the stand-in, each in one way.
func TestWhyOnTheStandIn(t *testing.T) {
	t.Parallel()
	d := newDemo(filepath.Join(t.TempDir(), "why"))
	if err := d.start("-seed=false", "-follow=-1s"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = d.stop() })
	all := append(slices.Clone(standinCases), fileCases...)
	codes := map[why.Code]bool{}
	for n, c := range all {
		codes[c.want] = true
		t.Run(fmt.Sprintf("%s: %s", c.want, c.what), func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			b := &broken{d: d, name: fmt.Sprintf("door-%d", n), home: filepath.Join(dir, "home")}
			mustDo(t, os.MkdirAll(filepath.Join(b.home, ".ssh"), 0o700))
			key := fmt.Sprintf("door-key-%d", n)
			d.must(t, "key", "create", key, "-dir", dir)
			b.identity = filepath.Join(dir, key)
			region, image := "north-pier", "debian-12"
			if c.region != "" {
				region = c.region
			}
			if c.image != "" {
				image = c.image
			}
			d.must(t, "instance", "launch", b.name, "-image", image, "-size", "small", "-region", region, "-key", key)
			i := d.instance(t, b.name)
			b.id, b.user, b.disk = i.CloudID, i.LoginUser, d.path("standin", "instances", i.CloudID)
			c.broke(t, b)
			c.check(t, b)
			if _, err := os.Stat(filepath.Join(b.disk, "home", b.user, "ran")); err == nil {
				t.Error("the forced command was run")
			}
		})
	}
	t.Logf("%d cases, %d causes", len(all), len(codes)-1)
}
