package e2e

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"plumlatch/core/keypair"
	"plumlatch/core/wire"
)

// adoptee is a real sshd, with an account that the engineer's key opens.
type adoptee struct {
	*realSSHD
	identity string // the engineer's private file
	file     string // that the server reads
	text     string // what stood in it
	sudoers  string // the directory of sudo's rules; "" is this machine's
}

// handWritten is what people leave in such a file; KEY is the engineer's, and
// the others are keys of nobody here.
const handWritten = "# the night crew's keys -- ask before you touch them\n\n" +
	"KEY engineer@desk\n" +
	"command=\"/usr/local/bin/backup --all\",no-pty OTHER1 backup job\n" +
	"   # indented, with a tab\tin it\n" +
	"from=\"192.0.2.0/24\" OTHER2 bridge\r\n" +
	"this line is no key at all\n" +
	"OTHER3 last, without a newline"

func startAdoptee(t testing.TB, file string, more ...string) *adoptee {
	t.Helper()
	a := &adoptee{realSSHD: startSSHD(t, more...)}
	dir := t.TempDir()
	pair, err := keypair.Create(keypair.Ed25519, "engineer")
	if err != nil {
		t.Fatal(err)
	}
	private, err := pair.OpenSSH(nil)
	if err != nil {
		t.Fatal(err)
	}
	a.identity = filepath.Join(dir, "engineer")
	if err := os.WriteFile(a.identity, private, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(a.identity+".pub", []byte(pair.Public.Line()+"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	a.text = strings.Replace(handWritten, "KEY", keypair.Public{Blob: pair.Public.Blob}.Line(), 1)
	for n := range 3 {
		a.text = strings.Replace(a.text, fmt.Sprintf("OTHER%d", n+1), keypair.Public{Blob: publicKey(t).Blob}.Line(), 1)
	}
	a.file = filepath.Join(a.home, ".ssh", "authorized_keys")
	a.put(t, a.file, a.text, true)
	if file != "" {
		a.file = strings.ReplaceAll(file, "%u", a.user)
		a.put(t, a.file, a.text, strings.HasPrefix(a.file, a.home))
		if err := os.Remove(filepath.Join(a.home, ".ssh", "authorized_keys")); err != nil {
			t.Fatal(err)
		}
	}
	return a
}

func (a *adoptee) put(t testing.TB, file, text string, own bool) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	if own {
		for _, p := range []string{filepath.Dir(file), file} {
			if err := os.Chown(p, a.uid, a.gid); err != nil {
				t.Fatal(err)
			}
		}
		_ = os.Chmod(filepath.Dir(file), 0o700)
	}
}

func (a *adoptee) hostKeyLine() string {
	return fmt.Sprintf("[127.0.0.1]:%d %s\n", a.port, keypair.Public{Blob: a.hostKey}.Line())
}

func (a *adoptee) now(t testing.TB) string {
	t.Helper()
	data, err := os.ReadFile(a.file)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

// args are those of adopting it.
// at is its address and port.
func (a *adoptee) at() string { return fmt.Sprintf("127.0.0.1:%d", a.port) }

func (a *adoptee) args(name string, more ...string) []string {
	return append([]string{"instance", "adopt", name, "-address", a.at(), "-user",
		a.user, "-identity", a.identity,
		"-host-key", keypair.Fingerprint(a.hostKey)}, more...)
}

// sudoer is the file of that name among sudo's rules.
func (a *adoptee) sudoer(name string) string {
	return filepath.Join(cmp.Or(a.sudoers, "/etc/sudoers.d"), name)
}

// grantSudo lets the account become root without a password.
func (a *adoptee) grantSudo(t *testing.T) {
	t.Helper()
	file := a.sudoer(a.user)
	if err := os.WriteFile(file, []byte(a.user+" ALL=(ALL) NOPASSWD: ALL\n"), 0o440); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.Remove(file) })
}

func survives(t *testing.T, what, before, after string, stewards int) {
	t.Helper()
	if !strings.HasPrefix(after, before) {
		t.Errorf("%s: what stood there was changed:\n%s\n--- before\n%s", what, after, before)
	}
	if n := strings.Count(after, `restrict,command="internal-sftp" ssh-ed25519 `); n != stewards {
		t.Errorf("%s: %d steward lines, want %d:\n%s", what, n, stewards, after)
	}
}

// TestAdoptStockSSHD adopts Debian's own sshd as it is configured, PAM and
// StrictModes on, by an ordinary account without sudo.
func TestAdoptStockSSHD(t *testing.T) {
	t.Parallel()
	a := startAdoptee(t, "")
	d := shared
	out := d.must(t, a.args("stock-board", "-record", "engineer-stock", "-tag", "line=north")...)
	contains(t, "the report", out, "stock-board is adopted", "no sudo",
		"its configuration file, which leaves the defaults", "steward", "not seen", "engineer-stock",
		"Not in the ledger, and there: 3", "next: plumlatch open stock-board")
	survives(t, "adopt", a.text, a.now(t), 1)
	in := d.instance(t, "stock-board")
	if !in.Adopted || in.Phase != "ready" || in.Trouble != "" || in.Tags["line"] != "north" ||
		len(in.HostKeys) != 1 || in.HostKeys[0].Source != "given" {
		t.Errorf("%+v", in)
	}
	list := d.must(t, "access", "list", "-instance", "stock-board")
	contains(t, "its accesses", list, "engineer-stock", "proven", "(steward)", "accepted")
	if got := d.must(t, "open", "stock-board", "-identity", a.identity, "--", "id", "-un"); got != a.user+"\n" {
		t.Errorf("open: %q", got)
	}
	contains(t, "survey", d.must(t, "survey", "stock-board"), "recorded", "unrecorded", "backup job")
	for _, verb := range []string{"stop", "start"} {
		if r := d.client(t, "", "instance", verb, "stock-board"); r.code != 1 || !strings.Contains(r.err, "adopted") {
			t.Errorf("%s: %+v", verb, r)
		}
	}
	if r := d.client(t, "", a.args("stock-again")...); r.code != 1 ||
		!strings.Contains(r.err, "in the ledger already, as stock-board") {
		t.Errorf("the same server twice: %+v", r)
	}
	survives(t, "a second name", a.text, a.now(t), 1)
	contains(t, "remove", d.must(t, "instance", "remove", "stock-board", "-yes"), "forgotten", "taken out")
	if now := a.now(t); strings.TrimRight(now, "\n") != a.text {
		t.Errorf("forgetting it left:\n%s", now)
	}
	// Without a steward nothing is written.
	a.put(t, a.file, a.text, true)
	if out, err := exec.Command("usermod", "-aG", "sudo", a.user).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	out = d.must(t, a.args("probe-board", "-no-steward")...)
	contains(t, "-no-steward", out, "none: it can be probed", "engineer-stock", "sudo, with a password")
	if a.now(t) != a.text {
		t.Error("-no-steward wrote something")
	}
	d.must(t, "instance", "remove", "probe-board", "-yes")
}

// TestAdoptByAgent comes in with a key of the running ssh-agent, and answers
// the question about an unknown host key on a terminal.
func TestAdoptByAgent(t *testing.T) {
	a := startAdoptee(t, "")
	d := shared
	socket := filepath.Join(t.TempDir(), "agent")
	agent := exec.Command("ssh-agent", "-D", "-a", socket)
	if err := agent.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = agent.Process.Kill(); _ = agent.Wait() }()
	waitFor(t, "the agent", func() bool { _, err := os.Stat(socket); return err == nil })
	t.Setenv("SSH_AUTH_SOCK", socket)
	base := []string{"instance", "adopt", "agent-door", "-address", a.at(), "-user",
		a.user, "-ssh-agent"}
	if r := d.client(t, "", append(base, "-yes")...); r.code != 1 ||
		!strings.Contains(r.err, "the ssh-agent has no keys") {
		t.Errorf("an empty agent: %+v", r)
	}
	if out, err := exec.Command("ssh-add", a.identity).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	x := d.terminal(t, base...)
	x.answer(t, "Is it the right one?", "no")
	if code := x.end(t); code != 1 || !strings.Contains(x.shows(), "nothing was changed") || a.now(t) != a.text {
		t.Errorf("no: %d\n%s", code, x.shows())
	}
	x = d.terminal(t, base...)
	x.answer(t, keypair.Fingerprint(a.hostKey), "y")
	x.answer(t, "Who holds the key that you came in with", "") // nothing: the operator, whom it proposes
	if code := x.end(t); code != 0 || !strings.Contains(x.shows(), "agent-door is adopted") ||
		!strings.Contains(d.must(t, "who", "agent-door"), "harbour-lead") ||
		!strings.Contains(x.shows(), "confirmed by hand") {
		t.Errorf("yes: %d\n%s", code, x.shows())
	}
	survives(t, "adopt", a.text, a.now(t), 1)
	d.must(t, "instance", "remove", "agent-door", "-yes")
}

// TestAdoptWithSudo adopts a server on its own port with its own configuration
// file, which names another file for one user in a Match block, owned by root.
func TestAdoptWithSudo(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("sudo"); err != nil {
		t.Fatal("sudo is missing; make test installs it")
	}
	dir := t.TempDir()
	_ = os.Chmod(filepath.Dir(dir), 0o755)
	_ = os.Chmod(dir, 0o755)
	conf := "/etc/ssh/plumlatch-test-" + fmt.Sprint(os.Getpid()) + ".conf"
	keys := filepath.Join("/etc/ssh", "plumlatch-test-keys-"+fmt.Sprint(os.Getpid()))
	t.Cleanup(func() { os.Remove(conf); os.RemoveAll(keys) })
	text := "UsePAM yes\nStrictModes yes\nSubsystem sftp internal-sftp\nAuthorizedKeysFile .ssh/nothing\nMatch " +
		"User pl-door-*\n    AuthorizedKeysFile " + keys + "/%u .ssh/more_keys\n"
	if err := os.WriteFile(conf, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	a := startAdoptee(t, keys+"/%u", "-f", conf)
	if err := os.Chmod(a.file, 0o644); err != nil {
		t.Fatal(err)
	}
	d := shared
	// Without sudo nobody can tell which file counts, and nothing is changed.
	if r := d.client(t, "", a.args("own-conf")...); r.code != 1 ||
		!strings.Contains(r.err, "not known which file counts") || !strings.Contains(r.err, "-authorized-keys PATH") {
		t.Errorf("without sudo: %+v", r)
	}
	// Nor where the configuration cannot even be read: the defaults are tried, and are not there.
	if err := os.Chmod(conf, 0o600); err != nil {
		t.Fatal(err)
	}
	if r := d.client(t, "", a.args("own-conf")...); r.code != 1 ||
		!strings.Contains(r.err, "none of .ssh/authorized_keys, .ssh/authorized_keys2 exists") {
		t.Errorf("without sudo, unreadable: %+v", r)
	}
	// Said by hand, the file is root's, and the steward's line cannot be placed.
	if r := d.client(t, "", a.args("own-conf", "-authorized-keys", a.file)...); r.code != 1 ||
		!strings.Contains(r.err, "belongs to somebody else") {
		t.Errorf("root's file: %+v", r)
	}
	if a.now(t) != a.text {
		t.Error("something was written")
	}
	a.grantSudo(t)
	out := d.must(t, a.args("own-conf", "-record", "engineer-own")...)
	contains(t, "the report", out, "sudo without a password", "sshd -T", a.file, "engineer-own")
	survives(t, "adopt", a.text, a.now(t), 1)
	if fi, err := os.Stat(a.file); err != nil || fi.Mode().Perm() != 0o644 {
		t.Errorf("%v %v", fi, err)
	}
	contains(t, "survey", d.must(t, "survey", "own-conf"), "backup job", a.file)
	// The steward cannot write root's file: forgetting says so.
	contains(t, "remove", d.must(t, "instance", "remove", "own-conf", "-yes"),
		"could not be taken out", "opens nothing")
}

// TestAdoptTakesTheLineOutAgain places a line that the server will not take.
func TestAdoptTakesTheLineOutAgain(t *testing.T) {
	t.Parallel()
	a := startAdoptee(t, "")
	d := shared
	other := filepath.Join(a.home, ".ssh", "not_read")
	a.put(t, other, a.text, true)
	r := d.client(t, "", a.args("refused-door", "-authorized-keys", ".ssh/not_read")...)
	if r.code != 1 || !strings.Contains(r.err, "does not take the steward's key") ||
		!strings.Contains(r.err, "is out again") {
		t.Errorf("%+v", r)
	}
	for _, f := range []string{other, a.file} {
		if data, err := os.ReadFile(f); err != nil || strings.TrimRight(string(data), "\n") != a.text {
			t.Errorf("%s: %v\n%s", f, err, data)
		}
	}
	if r := d.client(t, "", "instance", "show", "refused-door"); r.code != 1 ||
		!strings.Contains(r.err, "no instance") {
		t.Errorf("it is in the ledger: %+v", r)
	}
	contains(t, "work list", d.must(t, "work", "list", "-kind", "adopt"), "adopt refused-door", "failed")
	// The same name, rightly: a failure holds nothing.
	d.must(t, a.args("refused-door")...)
	survives(t, "the second time", a.text, a.now(t), 1)
	d.must(t, "instance", "remove", "refused-door", "-yes")
}

// TestAdoptPlacesNoOtherLine has a service between that asks for more than a
// steward may have.
func TestAdoptPlacesNoOtherLine(t *testing.T) {
	t.Parallel()
	a := startAdoptee(t, "")
	target, err := url.Parse(shared.url)
	if err != nil {
		t.Fatal(err)
	}
	var change atomic.Value // func(line string) string
	srv := httptest.NewServer(&httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(target) },
		ModifyResponse: func(r *http.Response) error {
			if !strings.HasSuffix(r.Request.URL.Path, "/adoptions") {
				return nil
			}
			var out wire.Adopted
			if err := json.NewDecoder(r.Body).Decode(&out); err != nil {
				return err
			}
			out.StewardLine = change.Load().(func(string) string)(out.StewardLine)
			text := mustJSON(t, out)
			r.Body, r.ContentLength = io.NopCloser(strings.NewReader(text)), int64(len(text))
			r.Header.Set("Content-Length", fmt.Sprint(len(text)))
			return nil
		},
	})
	defer srv.Close()
	for n, f := range []func(string) string{
		func(l string) string { return strings.TrimPrefix(l, `restrict,command="internal-sftp" `) },
		func(l string) string { return strings.Replace(l, "internal-sftp", "sh", 1) },
		func(l string) string { return l + "\n" + strings.TrimPrefix(l, `restrict,command="internal-sftp" `) },
		func(l string) string { return strings.Replace(l, "restrict,", "restrict,pty,", 1) },
		func(l string) string { return "" },
	} {
		change.Store(f)
		name := fmt.Sprintf("other-line-%d", n)
		r := shared.clientWith(t, srv.URL, shared.token, "", a.args(name)...)
		if r.code != 1 || !strings.Contains(r.err, "not of the steward's form; nothing was placed") {
			t.Errorf("%d: %+v", n, r)
		}
		if a.now(t) != a.text {
			t.Fatalf("%d: the file was changed", n)
		}
		waitFor(t, "the work to go back", func() bool {
			return strings.Contains(shared.must(t, "work", "list", "-kind", "adopt", "-instance", name), "cancelled")
		})
	}
}

// TestAdoptBadFiles: each file that is no place for a line has its own reason,
// and nothing is changed.
func TestAdoptBadFiles(t *testing.T) {
	t.Parallel()
	a := startAdoptee(t, "")
	d := shared
	in := func(name string) string { return filepath.Join(a.home, ".ssh", name) }
	big := strings.Repeat("# filler filler filler filler filler filler filler filler filler\n", 1<<20)
	a.put(t, in("large"), big, true)
	for _, err := range []error{os.Mkdir(in("folder"), 0o700), os.Symlink("authorized_keys", in("link")),
		os.Symlink("..", in("way")), exec.Command("mkfifo", in("pipe")).Run(),
		os.WriteFile(in("roots"), []byte(a.text), 0o644)} {
		if err != nil {
			t.Fatal(err)
		}
	}
	for name, want := range map[string]string{
		".ssh/missing": "exists", ".ssh/folder": "no regular file", ".ssh/link": "symbolic link",
		".ssh/way/.ssh/authorized_keys": "symbolic link", ".ssh/pipe": "no regular file",
		".ssh/roots": "belongs to somebody else", ".ssh/large": "larger than any",
	} {
		r := d.client(t, "", a.args("bad-file", "-authorized-keys", name)...)
		if r.code != 1 || !strings.Contains(r.err, want) || !strings.Contains(r.err, "next: ") {
			t.Errorf("%s: %+v", name, r)
		}
	}
	if r := d.client(t, "", "instance", "show", "bad-file"); r.code != 1 {
		t.Errorf("something was recorded: %+v", r)
	}
	if a.now(t) != a.text {
		t.Error("the file was changed")
	}
	if data, err := os.ReadFile(in("large")); err != nil || string(data) != big {
		t.Error("the large file was changed")
	}
}

// TestAdoptHostKey: given, known, unknown, another.
func TestAdoptHostKey(t *testing.T) {
	t.Parallel()
	a := startAdoptee(t, "")
	d := newHome(t, shared)
	base := []string{"instance", "adopt", "host-key-door", "-address", a.at(),
		"-user", a.user, "-identity", a.identity}
	if r := d.client(t, "", base...); r.code != 1 || !strings.Contains(r.err, keypair.Fingerprint(a.hostKey)) ||
		!strings.Contains(r.err, "-host-key") {
		t.Errorf("unknown: %+v", r)
	}
	if r := d.client(t, "", append(base, "-host-key", "SHA256:"+strings.Repeat("A", 43))...); r.code != 1 ||
		!strings.Contains(r.err, "nothing was sent") {
		t.Errorf("another was given: %+v", r)
	}
	known := filepath.Join(d.dir, "home", ".ssh", "known_hosts")
	if err := os.MkdirAll(filepath.Dir(known), 0o700); err != nil {
		t.Fatal(err)
	}
	write := func(text string) {
		if err := os.WriteFile(known, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write(fmt.Sprintf("[127.0.0.1]:%d %s\n", a.port, keypair.Public{Blob: publicKey(t).Blob}.Line()))
	if r := d.client(t, "", base...); r.code != 1 || !strings.Contains(r.err, "known_hosts has another") {
		t.Errorf("known_hosts has another: %+v", r)
	}
	if a.now(t) != a.text {
		t.Error("something was written")
	}
	// Hashed, as Debian writes it.
	write(a.hostKeyLine())
	if out, err := exec.Command("ssh-keygen", "-q", "-H", "-f", known).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	out := d.must(t, append(base, "-record", "none")...)
	contains(t, "known", out, "(known_hosts)", "the one that you came in with", "The key that you came in with is not recorded",
		"plumlatch access record host-key-door SHA256:")
	d.must(t, "instance", "remove", "host-key-door", "-yes")
}

// newHome is the same service for a person with a home of their own.
func newHome(t testing.TB, d *demo) *demo {
	t.Helper()
	own := *d
	own.dir = t.TempDir()
	return &own
}

// TestAdoptThroughAJumpHost reaches a server through another one.
func TestAdoptThroughAJumpHost(t *testing.T) {
	t.Parallel()
	inner, hop := startAdoptee(t, ""), startAdoptee(t, "")
	// One engineer: the same key opens both.
	line, err := os.ReadFile(inner.identity + ".pub")
	if err != nil {
		t.Fatal(err)
	}
	hop.text = string(line) + hop.text
	hop.put(t, hop.file, hop.text, true)
	d := newHome(t, shared)
	known := filepath.Join(d.dir, "home", ".ssh", "known_hosts")
	if err := os.MkdirAll(filepath.Dir(known), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(known, []byte(inner.hostKeyLine()+hop.hostKeyLine()), 0o600); err != nil {
		t.Fatal(err)
	}
	r := d.client(t, "", "instance", "adopt", "inner-door", "-address", inner.at(),
		"-user", inner.user, "-identity", inner.identity,
		"-jump", fmt.Sprintf("%s@127.0.0.1:%d", hop.user, hop.port), "-record", "engineer-inner")
	if r.code != 0 {
		t.Fatalf("%+v", r)
	}
	contains(t, "shown before it is placed", r.err, `restrict,port-forwarding,permitopen="127.0.0.1:`+
		fmt.Sprint(inner.port)+`",command="/bin/false" ssh-ed25519`)
	survives(t, "inside", inner.text, inner.now(t), 1)
	if now := hop.now(t); !strings.HasPrefix(now, hop.text) || strings.Count(now, "permitopen=") != 1 ||
		strings.Contains(now, "internal-sftp") {
		t.Errorf("on the jump host:\n%s", now)
	}
	contains(t, "access", d.must(t, "access", "list", "-instance", "inner-door"), "engineer-inner", "accepted",
		"from 127.0.0.1")
	contains(t, "show", d.must(t, "instance", "show", "inner-door"), "through", hop.user)
	if got := d.must(t, "open", "inner-door", "-identity", inner.identity, "--", "id", "-un"); got != inner.user+"\n" {
		t.Errorf("open through the jump host: %q", got)
	}
	contains(t, "survey", d.must(t, "survey", "inner-door"), "backup job")
	contains(t, "remove", d.must(t, "instance", "remove", "inner-door", "-yes"), "was taken out",
		"still stands on the jump host 127.0.0.1")
	if now := inner.now(t); strings.TrimRight(now, "\n") != inner.text {
		t.Errorf("inside, forgotten:\n%s", now)
	}
}

// TestAdoptMany takes an OpenSSH client configuration and CSV.
func TestAdoptMany(t *testing.T) {
	t.Parallel()
	first, second := startAdoptee(t, ""), startAdoptee(t, "")
	d := newHome(t, shared)
	sshDir := filepath.Join(d.dir, "home", ".ssh")
	if err := os.MkdirAll(sshDir, 0o700); err != nil {
		t.Fatal(err)
	}
	write := func(name, text string) string {
		file := filepath.Join(sshDir, name)
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return file
	}
	inner := startAdoptee(t, "")
	line, err := os.ReadFile(first.identity + ".pub")
	if err != nil {
		t.Fatal(err)
	}
	inner.text = string(line) + inner.text
	inner.put(t, inner.file, inner.text, true)
	write("known_hosts", first.hostKeyLine()+second.hostKeyLine()+inner.hostKeyLine())
	write("piers.conf", fmt.Sprintf("Host many-b\n  HostName 127.0.0.1\n  Port %d\n  User %s\n  IdentityFile %s\n",
		second.port, second.user, second.identity))
	closed := 1 // nothing listens on port 1
	config := write("fleet", fmt.Sprintf("Include piers.conf\nHost many-d\n  ProxyJump many-a\n  Port %d\n  User "+
		"%s\n  IdentityFile %s\nHost many-a\n  Port %d\n  User %s\n  IdentityFile %s\nHost many-c\n  Port %d\n  "+
		"IdentityFile %s\nHost many-* !x\n  HostName 127.0.0.1\n  User nobody\n",
		inner.port, inner.user, first.identity, first.port, first.user, first.identity, closed, first.identity))
	d.must(t, "holder", "add", "many-people", "-sort", "team")
	if r := d.client(t, "", "instance", "adopt-many", config); r.code != 2 || !strings.Contains(r.err, "-holder NAME") {
		t.Errorf("without a holder: %+v", r)
	}
	r := d.client(t, "", "instance", "adopt-many", config, "-holder", "many-people")
	if r.code != 1 || !strings.Contains(r.out, "3 adopted, 0 adopted already, 1 failed") ||
		!strings.Contains(r.out, "nothing listens there") {
		t.Fatalf("%+v", r)
	}
	contains(t, "a line each", r.err, "of 4: many-a adopted", "of 4: many-b adopted", "of 4: many-c failed",
		"of 4: many-d adopted")
	// The keys that came in are recorded, each once, and theirs.
	if keys := d.must(t, "key", "list", "-holder", "many-people", "-json"); strings.Count(keys, `"fingerprint":`) != 2 {
		t.Errorf("recorded: %s", keys)
	}
	survives(t, "many-a", first.text, first.now(t), 1)
	survives(t, "many-d", inner.text, inner.now(t), 1)
	if n := strings.Count(first.now(t), "permitopen="); n != 1 {
		t.Errorf("%d lines for forwarding on the jump host", n)
	}
	survives(t, "many-b", second.text, second.now(t), 1)
	// The second run, by CSV, picks up what failed, and touches nothing else.
	third := startAdoptee(t, "")
	table := write("fleet.csv", fmt.Sprintf("name,address,port,user,identity,host_key\nmany-a,127.0.0.1,%d,%s,%s,\nmany-c,127.0.0.1,%d,%s,%s,%s\n",
		first.port, first.user, first.identity, third.port, third.user, third.identity,
		keypair.Fingerprint(third.hostKey)))
	out := d.must(t, "instance", "adopt-many", table, "-record", "none")
	contains(t, "again", out, "1 adopted, 1 adopted already, 0 failed")
	survives(t, "many-a again", first.text, first.now(t), 1)
	var parents wire.List[wire.Work]
	if err := json.Unmarshal([]byte(d.must(t, "work", "list", "-kind", "adopt-many", "-json")),
		&parents); err != nil || len(parents.Items) != 2 {
		t.Fatalf("%v %+v", err, parents)
	}
	waitFor(t, "the end of the whole", func() bool {
		return strings.Contains(d.must(t, "work", "show", fmt.Sprint(parents.Items[1].ID)),
			"3 of 4 adopted; 0 failed, 1 the client did not get into")
	})
	contains(t, "its parts", d.must(t, "work", "list", "-parent", fmt.Sprint(parents.Items[1].ID)),
		"adopt many-a", "adopt many-b")
	for _, bad := range []struct{ name, text, want string }{
		{"bad1.csv", "name,address,colour\na,b,c\n", "unknown column"},
		{"bad2.csv", "name,address,port\na,127.0.0.1,ninety\n", "line 2"},
		{"bad3.csv", "name,address\na b,127.0.0.1\n", "try a-b"},
		{"bad4.csv", "name,address\na,127.0.0.1\nA,127.0.0.2\n", "twice"},
		{"bad5", "Match exec \"touch /tmp/x\"\nHost a\n", "would run a command"},
		{"bad6", "Port many\nHost a\n", "ssh cannot read it"},
		{"bad7", "nothing here\n", "names no instance"},
	} {
		if r := d.client(t, "", "instance", "adopt-many", "-record", "none", write(bad.name, bad.text), "-identity",
			first.identity); r.code != 1 || !strings.Contains(r.err, bad.want) {
			t.Errorf("%s: %+v", bad.text, r)
		}
	}
	for _, n := range []string{"many-d", "many-a", "many-b", "many-c"} {
		d.must(t, "instance", "remove", n, "-yes")
	}
}

// TestAdoptBadAddresses: each ends within bounds, with its own reason.
func TestAdoptBadAddresses(t *testing.T) {
	t.Parallel()
	a := startAdoptee(t, "")
	d := shared
	try := func(address string, port int, want ...string) {
		t.Helper()
		begun := time.Now()
		r := d.client(t, "", "instance", "adopt", "bad-door", "-address", net.JoinHostPort(address, fmt.Sprint(port)), "-user",
			a.user, "-identity", a.identity, "-yes")
		if r.code == 0 || time.Since(begun) > time.Minute {
			t.Errorf("%s port %d: %+v", address, port, r)
		}
		contains(t, fmt.Sprintf("%s port %d", address, port), r.err, want...)
	}
	var wg sync.WaitGroup
	defer wg.Wait()
	slow := func(how, want string) {
		port := odd(t, how)
		wg.Go(func() { try("127.0.0.1", port, want) })
	}
	try("169.254.169.254", 22, "link-local")
	try("127.0.0.1", d.port, "does not speak SSH")
	try("127.0.0.1", 1, "nothing listens there")
	try("no-such-name.invalid", 22, "has no address")
	try("0.0.0.0", 22, "no host's address")
	slow("silent", "did not answer in time")
	slow("drip", "did not answer in time")
	slow("flood", "does not speak SSH")
	slow("old", "too old to be taken")
	// The service itself refuses what the client would dial.
	body := wire.Adoption{Name: "own-door", Address: "127.0.0.1", Port: d.port, LoginUser: "a",
		HostKeys: []string{keypair.Public{Blob: a.hostKey}.Line()}, KeysFiles: []string{"k"}, File: "k"}
	if r := d.api(t, "POST", "/api/v1/adoptions", mustJSON(t, body)); r.status != 422 ||
		!strings.Contains(r.body, "listener of Plum Latch's own") {
		t.Errorf("its own listener: %d %s", r.status, r.body)
	}
	for field, change := range map[string]func(*wire.Adoption){
		"address":    func(b *wire.Adoption) { b.Address = "berth.example" },
		"login_user": func(b *wire.Adoption) { b.LoginUser = "-oProxyCommand=x" },
		"host_keys":  func(b *wire.Adoption) { b.HostKeys = []string{"ssh-ed25519 AAAA"} },
		"keys_files": func(b *wire.Adoption) { b.KeysFiles = []string{"a\nb"} },
		"file":       func(b *wire.Adoption) { b.File = "elsewhere" },
		"name":       func(b *wire.Adoption) { b.Name = "a b" }, "parent": func(b *wire.Adoption) { b.Parent = 99999 },
	} {
		b := body
		b.Port = a.port
		change(&b)
		if r := d.api(t, "POST", "/api/v1/adoptions", mustJSON(t, b)); r.status != 422 || r.field(t, "field") != field {
			t.Errorf("%s: %d %s", field, r.status, r.body)
		}
	}
}

// TestAdoptWaitsForASurvey: somebody has the turn to survey the instance, such as who had this work
// before and is gone. The adoption waits until that ends, and does not go back.
func TestAdoptWaitsForASurvey(t *testing.T) {
	a := startAdoptee(t, "")
	url, err := os.ReadFile(shared.path("owner-url"))
	mustDo(t, err)
	db, err := pgx.Connect(t.Context(), strings.TrimSpace(string(url)))
	mustDo(t, err)
	defer db.Close(context.Background())
	held := make(chan bool, 1)
	go func() {
		for begin := time.Now(); time.Since(begin) < 30*time.Second; time.Sleep(10 * time.Millisecond) {
			r, err := db.Exec(context.Background(), "UPDATE survey_turns SET busy_until = clock_timestamp() + interval '7 s' "+
				"WHERE instance_id = (SELECT id FROM instances WHERE name = 'turn-door')")
			if err == nil && r.RowsAffected() == 1 {
				held <- true
				return
			}
		}
		held <- false
	}()
	contains(t, "adopted", shared.must(t, a.args("turn-door")...), "turn-door is adopted")
	if !<-held {
		t.Error("nobody had the turn")
	}
	contains(t, "what happened", shared.must(t, "work", "list", "-kind", "adopt", "-instance", "turn-door"), "done")
}
