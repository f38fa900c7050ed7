package e2e

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/core/authkeys"
	"plumlatch/core/hostkeys"
	"plumlatch/core/keypair"
	"plumlatch/reach"
	"plumlatch/standin"
)

// realSSHD starts Debian's own sshd with its stock configuration (PAM and
// StrictModes on) on a port of its own, and makes an ordinary account.
type realSSHD struct {
	port    int
	hostKey []byte
	user    string
	home    string
	uid     int
	gid     int

	key    string // file of its host key
	dir    string
	within []string // what its command is run by; nil
	cmd    *exec.Cmd
	end    chan struct{} // closed when it has ended
}

func (r *realSSHD) target() reach.Target {
	return reach.Target{Address: "127.0.0.1", Port: r.port, User: r.user, HostKeys: [][]byte{r.hostKey}}
}

// doors numbers the accounts made for tests.
var doors atomic.Int32

func startSSHD(t testing.TB, more ...string) *realSSHD {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("a stock sshd needs root: run the tests as root to have this one")
	}
	dir := t.TempDir()
	if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
		t.Fatal(err)
	}
	r := &realSSHD{user: fmt.Sprintf("pl-door-%d-%d", os.Getpid()%100000, doors.Add(1))}
	for _, args := range [][]string{{"useradd", "--create-home", "--shell", "/bin/sh", r.user},
		{"usermod", "--password", "*", r.user}} {
		if out, err := exec.Command(args[0], args[1:]...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %v %s", args, err, out)
		}
	}
	t.Cleanup(func() {
		if text, err := os.ReadFile(filepath.Join(dir, "log")); err == nil && t.Failed() {
			t.Logf("the last that its server said:\n%s", text[max(0, len(text)-4<<10):])
		}
		_ = exec.Command("pkill", "-KILL", "-u", r.user).Run() // sessions that have not seen their end yet
		_ = exec.Command("userdel", "--force", "--remove", r.user).Run()
	})
	u, err := user.Lookup(r.user)
	if err != nil {
		t.Fatal(err)
	}
	r.home = u.HomeDir
	r.uid, _ = strconv.Atoi(u.Uid)
	r.gid, _ = strconv.Atoi(u.Gid)
	key := filepath.Join(dir, "host")
	if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	public, err := os.ReadFile(key + ".pub")
	if err != nil {
		t.Fatal(err)
	}
	p, err := keypair.ReadPublic(public)
	if err != nil {
		t.Fatal(err)
	}
	r.hostKey = p.Blob
	r.port, r.key, r.dir = freePorts(1), key, dir
	t.Cleanup(r.stop)
	r.serve(t, more...)
	return r
}

// toSyslog, as the first option, has a server log as Debian's does.
const toSyslog = "to syslog"

// serve starts the server, or starts it anew with further options.
func (r *realSSHD) serve(t testing.TB, more ...string) {
	t.Helper()
	r.stop()
	where := "-e" // to its standard error
	if len(more) > 0 && more[0] == toSyslog {
		where, more = "-4", more[1:] // as Debian has it: to syslog (-4: IPv4, as it is anyway)
	}
	args := append([]string{"-D", where, "-h", r.key, "-p", strconv.Itoa(r.port), "-o", "ListenAddress=127.0.0.1",
		"-o", "PidFile=none"}, more...)
	words := append(append(append([]string{}, r.within...), "/usr/sbin/sshd"), args...)
	r.cmd = exec.Command(words[0], words[1:]...)
	r.cmd.Env = append(os.Environ(), "TZ=UTC") // as the stand-in's instances have it
	log, err := os.OpenFile(filepath.Join(r.dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	r.cmd.Stderr = log
	if err := r.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	r.end = make(chan struct{})
	go func(cmd *exec.Cmd, end chan struct{}) { _ = cmd.Wait(); close(end) }(r.cmd, r.end)
	waitFor(t, "sshd", func() bool {
		select {
		case <-r.end: // whoever answers there is somebody else
			text, _ := os.ReadFile(filepath.Join(r.dir, "log"))
			t.Fatalf("sshd ended (%v): %s", r.cmd.ProcessState, text)
		default:
		}
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", r.port))
		if err != nil {
			return false
		}
		defer c.Close()
		_ = c.SetDeadline(time.Now().Add(5 * time.Second))
		begin := make([]byte, 12)
		_, err = io.ReadFull(c, begin)
		return err == nil && string(begin) == "SSH-2.0-Open"
	})
}

// stop ends the listener; sessions that are open stay.
func (r *realSSHD) stop() {
	if r.cmd != nil {
		_ = r.cmd.Process.Kill()
		<-r.end
		r.cmd = nil
	}
}

// home is an account's home of either server: its files, owned as they should be.
type home struct {
	path     string
	uid, gid int // -1: leave the owner
}

// place writes a file of an authorizedCase anew, in a clean home.
func (h home) place(t *testing.T, c authorizedCase, text string) {
	t.Helper()
	sshDir := filepath.Join(h.path, ".ssh")
	name := ".ssh/authorized_keys"
	if c.name != "" {
		name = c.name
	}
	file := filepath.Join(h.path, name)
	or := func(m, otherwise os.FileMode) os.FileMode {
		if m == 0 {
			return otherwise
		}
		return m
	}
	mode := or(c.mode, 0o600)
	if c.unreadable {
		mode = 0
	}
	steps := []error{os.Chmod(h.path, 0o755), os.RemoveAll(sshDir), os.Mkdir(sshDir, 0o700)}
	switch {
	case c.missing:
	case c.folder:
		steps = append(steps, os.Mkdir(file, 0o700))
	case c.link:
		real := filepath.Join(sshDir, "elsewhere")
		steps = append(steps, os.WriteFile(real, []byte(text), 0o600), os.Chmod(real, mode),
			os.Symlink("elsewhere", file))
	default:
		steps = append(steps, os.WriteFile(file, []byte(text), 0o600), os.Chmod(file, mode))
	}
	steps = append(steps, os.Chmod(sshDir, or(c.dirMode, 0o700)), os.Chmod(h.path, or(c.homeMode, 0o755)))
	if h.uid >= 0 {
		steps = append(steps, filepath.Walk(sshDir, func(p string, _ os.FileInfo, err error) error {
			if err == nil {
				err = os.Lchown(p, h.uid, h.gid)
			}
			return err
		}))
	}
	for _, err := range steps {
		if err != nil {
			t.Fatalf("%s: %v", c.what, err)
		}
	}
}

// authorizedCase is one authorized_keys file. In its text A and R stand for
// the key that is offered, as Ed25519 and RSA; B for another.
type authorizedCase struct {
	what, text              string
	from                    string // address to ask from; 127.0.0.1 if ""
	rsa                     bool   // offer the RSA key
	name                    string // another file
	mode, dirMode, homeMode os.FileMode
	unreadable, missing     bool
	folder, link            bool
}

var authorizedCases = []authorizedCase{
	{what: "plain", text: "A\n"},
	{what: "another key", text: "B\n"},
	{what: "RSA", text: "R\n", rsa: true},
	{what: "RSA among others", text: "B\n# x\n\nR\n", rsa: true},
	{what: "no last newline", text: "A"},
	{what: "CRLF", text: "A\r\n"},
	{what: "CRLF with a comment", text: "B b@b\r\nA a@a\r\n"},
	{what: "empty file", text: ""},
	{what: "blank lines and comments", text: "\n\n  # A\n\t\nA it's a \"comment\n"},
	{what: "commented out", text: "#A\n"},
	{what: "leading blanks", text: " \t A\n"},
	{what: "tabs between", text: "A\tcomment\n"},
	{what: "NUL before", text: "\x00A\n"},
	{what: "NUL in the comment", text: "A a\x00b\n"},
	{what: "byte-order mark", text: "\ufeffA\n"},
	{what: "very long comment", text: "A " + longComment + "\n"},
	{what: "broken line first", text: "ssh-ed25519 AAAA\nA\n"},
	{what: "type and key disagree", text: "ssh-rsa AKEY\n"},
	{what: "only base64", text: "AKEY\n"},
	{what: "restrict", text: "restrict A\n"},
	{what: "RESTRICT in capitals", text: "RESTRICT,PTY A\n"},
	{what: "several options", text: `no-pty,no-port-forwarding,no-agent-forwarding,no-X11-forwarding,no-user-rc A` +
		"\n"},
	{what: "unknown option", text: "frobnicate A\n"},
	{what: "known option with a tail", text: "no-ptyx A\n"},
	{what: "unknown option after a known one", text: "restrict,frobnicate A\n"},
	{what: "trailing comma", text: "restrict, A\n"},
	{what: "leading comma", text: ",restrict A\n"},
	{what: "double comma", text: "restrict,,pty A\n"},
	{what: "no-restrict", text: "no-restrict A\n"},
	{what: "command", text: `command="echo \"hi there\", you" A` + "\n"},
	{what: "empty command", text: `command="" A` + "\n"},
	{what: "two commands", text: `command="a",command="b" A` + "\n"},
	{what: "command without quotes", text: "command=true A\n"},
	{what: "quote not closed", text: `command="true A` + "\n"},
	{what: "quote not closed, then a good line", text: `command="true A` + "\nA\n"},
	{what: "backslash before the last quote", text: `command="a\" A` + "\n"},
	{what: "environment", text: `environment="TIDE=high" A` + "\n"},
	{what: "environment without =", text: `environment="TIDE" A` + "\n"},
	{what: "environment with a bad name", text: `environment="TI-DE=x" A` + "\n"},
	{what: "permitopen", text: `permitopen="tide.example:80" A` + "\n"},
	{what: "permitopen without a port", text: `permitopen="tide.example" A` + "\n"},
	{what: "permitopen of any port", text: `permitopen="tide.example:*" A` + "\n"},
	{what: "permitopen port too great", text: `permitopen="tide.example:70000" A` + "\n"},
	{what: "permitlisten", text: `permitlisten="8080" A` + "\n"},
	{what: "permitlisten of a name", text: `permitlisten="localhost:8080" A` + "\n"},
	{what: "tunnel", text: `tunnel="1" A` + "\n"},
	{what: "tunnel of a word", text: `tunnel="x" A` + "\n"},
	{what: "principals on a key", text: `principals="x" A` + "\n"},
	{what: "cert-authority", text: "cert-authority A\n"},
	{what: "cert-authority, then the key", text: "cert-authority A\nA\n"},
	{what: "expired day", text: `expiry-time="20200101" A` + "\n"},
	{what: "expired second, Z", text: `expiry-time="20200101000000Z" A` + "\n"},
	{what: "future, Z", text: `expiry-time="20991231235959Z" A` + "\n"},
	{what: "future, 12 digits", text: `expiry-time="209912312359" A` + "\n"},
	{what: "future, UTC", text: `expiry-time="20991231UTC" A` + "\n"},
	{what: "expiry of nonsense", text: `expiry-time="tomorrow" A` + "\n"},
	{what: "expiry of ten digits", text: `expiry-time="2099123123" A` + "\n"},
	{what: "expiry on 30 February", text: `expiry-time="20990230" A` + "\n"},
	{what: "expiry empty", text: `expiry-time="" A` + "\n"},
	{what: "expired line, then an open one", text: `expiry-time="20200101Z" A` + "\nA\n"},
	{what: "two expiries, one past", text: `expiry-time="20991231Z",expiry-time="20200101Z" A` + "\n"},
	{what: "from this address", text: `from="127.0.0.1" A` + "\n"},
	{what: "from another address", text: `from="127.0.0.9" A` + "\n"},
	{what: "from a CIDR", text: `from="127.0.0.0/24" A` + "\n", from: "127.0.0.7"},
	{what: "from outside of a CIDR", text: `from="127.0.0.0/24" A` + "\n", from: "127.0.1.7"},
	{what: "from a CIDR with host bits", text: `from="127.0.0.7/24" A` + "\n", from: "127.0.0.7"},
	{what: "from negated", text: `from="127.0.0.0/8,!127.0.0.7" A` + "\n", from: "127.0.0.7"},
	{what: "from negated first", text: `from="!127.0.0.7,127.0.0.0/8" A` + "\n", from: "127.0.0.7"},
	{what: "from only negated", text: `from="!127.0.0.8" A` + "\n"},
	{what: "from a wildcard", text: `from="127.0.?.*" A` + "\n", from: "127.0.0.44"},
	{what: "from a wildcard negated", text: `from="*,!127.0.0.4*" A` + "\n", from: "127.0.0.44"},
	{what: "from nothing", text: `from="" A` + "\n"},
	{what: "from with an empty part", text: `from="127.0.0.1,,127.0.0.2" A` + "\n"},
	{what: "from with a blank", text: `from="127.0.0.2, 127.0.0.1" A` + "\n"},
	{what: "from IPv6", text: `from="::1" A` + "\n"},
	{what: "from a name", text: `from="localhost" A` + "\n"},
	{what: "two froms", text: `from="127.0.0.1",from="127.0.0.1" A` + "\n"},
	{what: "from refused, then an open line", text: `from="192.0.2.1" A` + "\nA\n"},
	{what: "file 0644", text: "A\n", mode: 0o644},
	{what: "file 0664", text: "A\n", mode: 0o664},
	{what: "file 0666", text: "A\n", mode: 0o666},
	{what: "file 0400", text: "A\n", mode: 0o400},
	{what: "file 0200", text: "A\n", mode: 0o200},
	{what: "file 0000", text: "A\n", unreadable: true},
	{what: "folder 0755", text: "A\n", dirMode: 0o755},
	{what: "folder 0775", text: "A\n", dirMode: 0o775},
	{what: "folder 0600", text: "A\n", dirMode: 0o600},
	{what: "home 0777", text: "A\n", homeMode: 0o777},
	{what: "home 0770", text: "A\n", homeMode: 0o770},
	{what: "home 0700", text: "A\n", homeMode: 0o700},
	{what: "missing", missing: true},
	{what: "a folder in its place", folder: true},
	{what: "a link beside it", text: "A\n", link: true},
	{what: "a link to a file too open", text: "A\n", link: true, mode: 0o666},
	{what: "authorized_keys2", text: "A\n", name: ".ssh/authorized_keys2"},
	{what: "authorized_keys3", text: "A\n", name: ".ssh/authorized_keys3"},
}

var longComment = strings.Repeat("tide ", 4000)

// TestStandinDecidesAsSSHD puts the same files before the real sshd and before
// a stand-in's server, and asks both by the acceptance probe.
func TestStandinDecidesAsSSHD(t *testing.T) {
	t.Parallel()
	real := startSSHD(t)
	d := newDemo(t.TempDir())
	block := netip.MustParsePrefix(d.net)
	folder := t.TempDir()
	cloud, err := standin.Open(standin.Options{Folder: folder, Network: block, Pace: time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	defer cloud.Close()
	in, err := cloud.Launch(standin.Launch{ClientToken: "t", Name: "compare", Region: "north-pier",
		Image: "debian-12", Size: "small", UserData: "#cloud-config\nssh_pwauth: false\n"})
	if err != nil {
		t.Fatal(err)
	}
	waitFor(t, "the stand-in's instance", func() bool { in, _ = cloud.Get(in.ID); return in.State == standin.Running })
	hostKey, err := reach.HostKey(t.Context(), reach.Policy{AllowLoopback: true},
		reach.Target{Address: in.Address, Port: in.Port}, "")
	if err != nil {
		t.Fatal(err)
	}
	fake := reach.Target{Address: in.Address, Port: in.Port, User: "debian", HostKeys: [][]byte{hostKey}}

	keys := map[string]keypair.Public{}
	for name, kind := range map[string]keypair.Kind{"A": keypair.Ed25519, "B": keypair.Ed25519, "R": keypair.RSA3072} {
		pair, err := keypair.Create(kind, "")
		if err != nil {
			t.Fatal(err)
		}
		keys[name] = pair.Public
	}
	fill := strings.NewReplacer("AKEY", strings.Fields(keys["A"].Line())[1], "A\n", keys["A"].Line()+"\n", "A\r",
		keys["A"].Line()+"\r", "A a", keys["A"].Line()+" a",
		"A i", keys["A"].Line()+" i", "A t", keys["A"].Line()+" t", "A\t", keys["A"].Line()+"\t", "B\n",
		keys["B"].Line()+"\n", "B b", keys["B"].Line()+" b", "R\n", keys["R"].Line()+"\n")
	realHome := home{real.home, real.uid, real.gid}
	fakeHome := home{filepath.Join(folder, "instances", in.ID, "home", "debian"), -1, -1}
	counts := map[reach.Answer]int{}
	for _, c := range authorizedCases {
		text := fill.Replace(c.text)
		if c.text == "A" {
			text = keys["A"].Line()
		}
		offered := keys["A"]
		if c.rsa {
			offered = keys["R"]
		}
		policy := reach.Policy{AllowLoopback: true}
		if c.from != "" {
			policy.Source = netip.MustParseAddr(c.from)
		}
		realHome.place(t, c, text)
		fakeHome.place(t, c, text)
		ask := func(target reach.Target) reach.Result {
			return reach.Probe(t.Context(), policy, target, [][]byte{offered.Blob}, time.Now)[0]
		}
		want, got := ask(real.target()), ask(fake)
		if want.Answer != reach.Accepted && want.Answer != reach.Refused {
			t.Errorf("%s: sshd gives no answer: %+v", c.what, want)
		}
		if got.Answer != want.Answer {
			t.Errorf("%s: sshd says %s, the stand-in says %s %s", c.what, want.Answer, got.Answer, got.Detail)
		}
		counts[want.Answer]++
	}
	t.Logf("%d files: sshd accepted %d and refused %d", len(authorizedCases), counts[reach.Accepted],
		counts[reach.Refused])
	if counts[reach.Accepted] < 20 || counts[reach.Refused] < 20 {
		t.Errorf("too few of one sort to mean anything: %v", counts)
	}
}

// TestProbeAgainstSSHD has the real sshd give each answer that it can give.
func TestProbeAgainstSSHD(t *testing.T) {
	real := startSSHD(t)
	var publics []keypair.Public
	for range 9 {
		p, err := keypair.Create(keypair.Ed25519, "")
		if err != nil {
			t.Fatal(err)
		}
		publics = append(publics, p.Public)
	}
	rsa, err := keypair.Create(keypair.RSA3072, "")
	if err != nil {
		t.Fatal(err)
	}
	publics = append(publics, rsa.Public)
	// In the file: 0, 6 (behind more than one connection can offer) and the RSA key.
	in := map[int]bool{0: true, 6: true, 9: true}
	var file strings.Builder
	var blobs [][]byte
	for i, p := range publics {
		blobs = append(blobs, p.Blob)
		if in[i] {
			fmt.Fprintln(&file, p.Line())
		}
	}
	home{real.home, real.uid, real.gid}.place(t, authorizedCase{what: "probe"}, file.String())
	loopback := reach.Policy{AllowLoopback: true}
	for i, r := range reach.Probe(t.Context(), loopback, real.target(), blobs, time.Now) {
		want := reach.Refused
		if in[i] {
			want = reach.Accepted
		}
		if r.Answer != want || r.Vantage != "127.0.0.1" || r.At.IsZero() {
			t.Errorf("key %d: %+v, want %s", i, r, want)
		}
	}
	ask := func(p reach.Policy, target reach.Target) reach.Result {
		return reach.Probe(t.Context(), p, target, blobs[:1], time.Now)[0]
	}
	stranger := real.target()
	stranger.HostKeys = [][]byte{publics[1].Blob}
	if r := ask(loopback, stranger); r.Answer != reach.NotAsked || !strings.Contains(r.Detail, "another host key") {
		t.Errorf("another host key: %+v", r)
	}
	if r := ask(reach.Policy{}, real.target()); r.Answer != reach.NotAsked || !strings.Contains(r.Detail, "loopback") {
		t.Errorf("a forbidden address: %+v", r)
	}
	own := reach.Policy{AllowLoopback: true,
		Forbidden: []netip.AddrPort{netip.MustParseAddrPort(fmt.Sprintf("127.0.0.1:%d", real.port))}}
	if r := ask(own, real.target()); r.Answer != reach.NotAsked || !strings.Contains(r.Detail, "own") {
		t.Errorf("a listener of our own: %+v", r)
	}
	// Two connections are allowed: the first ends with key 0, the second asks about the next five.
	tight := reach.Policy{AllowLoopback: true, Budget: &reach.Budget{Burst: 2, Every: time.Hour}}
	for i, r := range reach.Probe(t.Context(), tight, real.target(), blobs, time.Now) {
		want := map[bool]reach.Answer{true: reach.Refused, false: reach.NotAsked}[i < 6]
		if i == 0 {
			want = reach.Accepted
		}
		if r.Answer != want || want == reach.NotAsked && !strings.Contains(r.Detail, "often enough") {
			t.Errorf("on a budget, key %d: %+v, want %s", i, r, want)
		}
	}
	// With time, it comes to the last key on the same budget.
	paused := 0
	tight = reach.Policy{AllowLoopback: true, Budget: &reach.Budget{Burst: 2, Every: 50 * time.Millisecond}}
	for i, r := range reach.ProbeAll(t.Context(), tight, real.target(),
		append(slices.Clone(blobs), blobs[0], blobs[0], blobs[0]), time.Now, func(d time.Duration) bool {
			paused++
			time.Sleep(d)
			return paused < 100
		}) {
		if want := map[bool]reach.Answer{true: reach.Accepted, false: reach.Refused}[in[i] ||
			i >= len(blobs)]; r.Answer != want {
			t.Errorf("with time, key %d: %+v, want %s", i, r, want)
		}
	}
	tight = reach.Policy{AllowLoopback: true, Budget: &reach.Budget{Burst: 2, Every: time.Hour}}
	for range 2 {
		ask(tight, real.target())
	}
	if r := reach.ProbeAll(t.Context(), tight, real.target(), blobs[:1], time.Now,
		func(time.Duration) bool { return false })[0]; r.Answer != reach.NotAsked || r.Wait <= 0 {
		t.Errorf("without time: %+v", r)
	}
	other := real.target()
	other.Port = 1
	if r := ask(tight, other); strings.Contains(r.Detail, "often enough") {
		t.Errorf("another server's budget: %+v", r)
	}
}

func TestProbeWhenPublickeyIsNotOffered(t *testing.T) {
	real := startSSHD(t, "-o", "PubkeyAuthentication=no", "-o", "PasswordAuthentication=yes")
	p, err := keypair.Create(keypair.Ed25519, "")
	if err != nil {
		t.Fatal(err)
	}
	r := reach.Probe(t.Context(), reach.Policy{AllowLoopback: true}, real.target(),
		[][]byte{p.Public.Blob}, time.Now)[0]
	if r.Answer != reach.NotOffered {
		t.Errorf("%+v", r)
	}
}

// TestProbeNeverMistakesSilence asks servers that misbehave: none of them may
// come out as "refused", nor as "accepted".
func TestProbeNeverMistakesSilence(t *testing.T) {
	hostPair, err := keypair.Create(keypair.Ed25519, "")
	if err != nil {
		t.Fatal(err)
	}
	signer, err := hostPair.Signer()
	if err != nil {
		t.Fatal(err)
	}
	asked, err := keypair.Create(keypair.Ed25519, "")
	if err != nil {
		t.Fatal(err)
	}
	serve := func(config *ssh.ServerConfig) func(net.Conn) {
		config.AddHostKey(signer)
		return func(c net.Conn) { _, _, _, _ = ssh.NewServerConn(c, config) }
	}
	for what, c := range map[string]struct {
		handle func(net.Conn)
		want   reach.Answer
	}{
		"takes any key": {serve(&ssh.ServerConfig{PublicKeyCallback: func(ssh.ConnMetadata,
			ssh.PublicKey) (*ssh.Permissions, error) {
			return nil, nil
		}}), reach.NotAsked},
		"needs no key": {serve(&ssh.ServerConfig{NoClientAuth: true}), reach.Open},
		"closes at once": {func(c net.Conn) {
			c.Close()
		}, reach.NotAsked},
		"resets when a key is offered": {func(c net.Conn) {
			config := &ssh.ServerConfig{PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions,
				error) {
				_ = c.(*net.TCPConn).SetLinger(0)
				c.Close()
				return nil, fmt.Errorf("gone")
			}}
			serve(config)(c)
		}, reach.NotAsked},
		"speaks HTTP": {func(c net.Conn) {
			fmt.Fprint(c, "HTTP/1.1 400 Bad Request\r\n\r\n")
			c.Close()
		}, reach.NotAsked},
		"says nothing": {func(c net.Conn) {
			time.Sleep(3 * time.Second)
			c.Close()
		}, reach.NotAsked},
	} {
		t.Run(what, func(t *testing.T) {
			l, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				t.Fatal(err)
			}
			defer l.Close()
			go func() {
				for {
					conn, err := l.Accept()
					if err != nil {
						return
					}
					go c.handle(conn)
				}
			}()
			port := l.Addr().(*net.TCPAddr).Port
			ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
			defer cancel()
			r := reach.Probe(ctx, reach.Policy{AllowLoopback: true},
				reach.Target{Address: "127.0.0.1", Port: port, User: "debian",
					HostKeys: [][]byte{hostPair.Public.Blob}},
				[][]byte{asked.Public.Blob}, time.Now)[0]
			if r.Answer != c.want || c.want == reach.NotAsked && r.Detail == "" {
				t.Errorf("%+v, want %s with its reason", r, c.want)
			}
		})
	}
}

// TestCreatedKeysOpenARealDoor logs in to the real sshd with pairs that the
// client made, and shows how narrow the steward's line is there.
func TestCreatedKeysOpenARealDoor(t *testing.T) {
	t.Parallel()
	real, dir := startSSHD(t), t.TempDir()
	known := filepath.Join(dir, "known")
	line, err := hostkeys.KnownHostsLine("plumlatch-real", real.hostKey)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(known, []byte(line), 0o600); err != nil {
		t.Fatal(err)
	}
	ssh := func(key, program string, args ...string) (string, error) {
		base := []string{"-F", "none", "-i", filepath.Join(dir, key), "-o", "IdentitiesOnly=yes", "-o",
			"IdentityAgent=none", "-o", "StrictHostKeyChecking=yes",
			"-o", "UserKnownHostsFile=" + known, "-o", "HostKeyAlias=plumlatch-real", "-o", "BatchMode=yes", "-o",
			"Port=" + strconv.Itoa(real.port)}
		out, err := exec.Command(program, append(base, args...)...).CombinedOutput()
		return string(out), err
	}
	target := real.user + "@127.0.0.1"
	var file strings.Builder
	for _, kind := range []string{"ed25519", "rsa-3072", "rsa-4096"} {
		shared.must(t, "key", "create", "real-"+kind, "-kind", kind, "-dir", dir)
		public, err := os.ReadFile(filepath.Join(dir, "real-"+kind+".pub"))
		if err != nil {
			t.Fatal(err)
		}
		file.Write(public)
	}
	shared.must(t, "key", "create", "real-stranger", "-dir", dir)
	shared.must(t, "key", "create", "real-steward", "-dir", dir)
	steward, err := os.ReadFile(filepath.Join(dir, "real-steward.pub"))
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprintf(&file, "%s %s", authkeys.StewardOptions, steward)
	home{real.home, real.uid, real.gid}.place(t, authorizedCase{what: "login"}, file.String())
	for _, kind := range []string{"ed25519", "rsa-3072", "rsa-4096"} {
		if out, err := ssh("real-"+kind, "ssh", target, "whoami"); err != nil || strings.TrimSpace(out) != real.user {
			t.Errorf("%s: %v %s", kind, err, out)
		}
	}
	if out, err := ssh("real-stranger", "ssh", target, "whoami"); err == nil ||
		!strings.Contains(out, "Permission denied") {
		t.Errorf("a stranger's key: %v %s", err, out)
	}
	// The steward's line: SFTP yes; a shell, a command, a forward no.
	list := filepath.Join(dir, "batch")
	if err := os.WriteFile(list, []byte("ls -la .ssh\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err := ssh("real-steward", "sftp", "-b", list, target); err != nil ||
		!strings.Contains(out, "authorized_keys") {
		t.Errorf("the steward's SFTP: %v %s", err, out)
	}
	if out, err := ssh("real-steward", "ssh", "-o", "ConnectTimeout=5", "-n", target, "whoami"); strings.Contains(out,
		real.user) {
		t.Errorf("the steward has a shell: %v %s", err, out)
	}
	if out, err := ssh("real-steward", "ssh", "-o", "ExitOnForwardFailure=yes", "-n", "-W", "127.0.0.1:"+
		strconv.Itoa(real.port), target); err == nil || !strings.Contains(out, "prohibited") {
		t.Errorf("the steward can forward: %v %s", err, out)
	}
}
