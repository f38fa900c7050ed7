package e2e

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"math/big"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"plumlatch/core/keypair"
	"plumlatch/core/wire"
)

func (d *demo) key(t *testing.T, name string) wire.Key {
	t.Helper()
	var k wire.Key
	if err := json.Unmarshal([]byte(d.must(t, "key", "show", name, "-json")), &k); err != nil {
		t.Fatal(err)
	}
	return k
}

func sshKeygen(t *testing.T, args ...string) string {
	t.Helper()
	out, err := exec.Command("ssh-keygen", args...).CombinedOutput()
	if err != nil {
		t.Fatalf("ssh-keygen %v: %v\n%s", args, err, out)
	}
	return string(out)
}

// TestCreateAndConvert makes pairs in every format, converts them back to
// OpenSSH's, and has ssh-keygen read the result.
func TestCreateAndConvert(t *testing.T) {
	t.Parallel()
	d, dir := shared, t.TempDir()
	pass := filepath.Join(dir, "pass")
	if err := os.WriteFile(pass, []byte("neap tide tomorrow"), 0o600); err != nil {
		t.Fatal(err)
	}
	n := 0
	for _, c := range []struct{ kind, format, extension string }{
		{"ed25519", "openssh", ""}, {"ed25519", "ppk", ".ppk"}, {"ed25519", "ppk2", ".ppk"},
		{"ed25519", "pkcs8", ".pem"},
		{"rsa-2048", "pem", ".pem"}, {"ecdsa-256", "pkcs8", ".pem"}, {"ecdsa-384", "ppk", ".ppk"},
		{"ecdsa-521", "pem", ".pem"},
	} {
		name := fmt.Sprintf("conv-%s-%s", c.kind, c.format)
		r := d.client(t, "", "key", "create", name, "-kind", c.kind, "-format", c.format, "-dir", dir,
			"-new-passphrase", pass)
		if r.code != 0 {
			t.Errorf("%s: %+v", name, r)
			continue
		}
		warned := strings.Contains(r.err, "OpenSSH")
		if wantWarning := strings.HasPrefix(c.format, "ppk") ||
			c.format == "pkcs8" && c.kind == "ed25519"; warned != wantWarning {
			t.Errorf("%s: warned: %t\n%s", name, warned, r.err)
		}
		file, back := filepath.Join(dir, name+c.extension), filepath.Join(dir, name+".back")
		// The passphrase is kept; without one given, none is asked for where there is no terminal.
		if r := d.client(t, "", "key", "convert", file, "-format", "openssh", "-out", back); r.code != 1 ||
			!strings.Contains(r.err, "-passphrase-file") {
			t.Errorf("%s without its passphrase: %+v", name, r)
		}
		d.must(t, "key", "convert", file, "-format", "openssh", "-out", back, "-passphrase-file", pass)
		public := strings.TrimSpace(sshKeygen(t, "-y", "-P", "neap tide tomorrow", "-f", back))
		if out, err := exec.Command("ssh-keygen", "-y", "-P", "", "-f", back).CombinedOutput(); err == nil {
			t.Errorf("%s: the conversion lost its passphrase: %s", name, out)
		}
		recorded := d.key(t, name)
		if strings.TrimSuffix(public, " "+name) != strings.TrimSuffix(recorded.PublicKey, " "+name) ||
			recorded.Passphrase != "yes" || recorded.Comment != name {
			t.Errorf("%s: %s, recorded %+v", name, public, recorded)
		}
		if r := d.client(t, "", "key", "convert", file, "-format", "openssh", "-out", back, "-passphrase-file",
			pass); r.code != 1 || !strings.Contains(r.err, "not overwritten") {
			t.Errorf("%s over a file that stands: %+v", name, r)
		}
		r = d.clientWith(t, "", "", "", "key", "public", file, "-passphrase-file", pass)
		if r.code != 0 || strings.TrimSpace(r.out) != recorded.PublicKey {
			t.Errorf("%s: key public without a service: %+v", name, r)
		}
		n++
	}
	t.Logf("%d pairs", n)
	if r := d.client(t, "", "key", "create", "conv-no", "-format", "pem", "-dir", dir); r.code != 2 ||
		!strings.Contains(r.err, "no PEM form") {
		t.Errorf("Ed25519 as PEM: %+v", r)
	}
	// From a pipe to a pipe, and from a public half to nothing private.
	private, err := os.ReadFile(filepath.Join(dir, "conv-ed25519-openssh"))
	if err != nil {
		t.Fatal(err)
	}
	r := d.client(t, string(private), "key", "convert", "-", "-format", "rfc4716", "-out", "-",
		"-passphrase-file", pass)
	if r.code != 0 || !strings.HasPrefix(r.out, "---- BEGIN SSH2 PUBLIC KEY ----") {
		t.Errorf("through pipes: %+v", r)
	}
	if r := d.client(t, r.out, "key", "convert", "-", "-format", "ppk", "-out", "-"); r.code != 1 ||
		!strings.Contains(r.err, "public half only") {
		t.Errorf("a private file out of a public one: %+v", r)
	}
	if r := d.client(t, string(private), "key", "convert", "-", "-format", "pem", "-out", "-", "-passphrase-file",
		"/dev/null"); r.code != 1 || strings.Contains(r.out+r.err, string(private[60:90])) {
		t.Errorf("a locked key without its passphrase: %+v", r)
	}
}

func TestRandomPassphrase(t *testing.T) {
	d, dir := shared, t.TempDir()
	if r := d.client(t, "", "key", "create", "random-key", "-new-passphrase", "random", "-dir", dir); r.code != 1 ||
		!strings.Contains(r.err, "-passphrase-fd") {
		t.Errorf("nowhere to show it: %+v", r)
	}
	out, err := os.Create(filepath.Join(dir, "shown"))
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(filepath.Join(bin, "plumlatch"), "key", "create", "random-key", "-new-passphrase", "random",
		"-passphrase-fd", "3", "-dir", dir)
	cmd.Env = append(os.Environ(), "PLUMLATCH_URL="+d.url, "PLUMLATCH_TOKEN="+d.token)
	cmd.ExtraFiles = []*os.File{out}
	text, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%v %s", err, text)
	}
	pass, err := os.ReadFile(filepath.Join(dir, "shown"))
	if err != nil || len(pass) < 25 || strings.Contains(string(text), strings.TrimSpace(string(pass))) {
		t.Fatalf("%v: %d bytes; %s", err, len(pass), text)
	}
	sshKeygen(t, "-y", "-P", strings.TrimSuffix(string(pass), "\n"), "-f", filepath.Join(dir, "random-key"))

	trivial := filepath.Join(dir, "trivial")
	if err := os.WriteFile(trivial, []byte("password1\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if r := d.client(t, "", "key", "create", "trivial-key", "-new-passphrase", trivial, "-dir",
		dir); r.code != 0 || !strings.Contains(r.err, "this passphrase is trivial") ||
		strings.Contains(r.err, "password1") {
		t.Errorf("a trivial passphrase: %+v", r)
	}
}

// TestKeyCheck looks at a folder in which everything is wrong that can be.
func TestKeyCheck(t *testing.T) {
	d, dir := shared, t.TempDir()
	write := func(name string, data []byte, mode os.FileMode) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, name), data, mode); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(filepath.Join(dir, name), mode); err != nil {
			t.Fatal(err)
		}
	}
	read := func(name string) []byte {
		t.Helper()
		data, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			t.Fatal(err)
		}
		return data
	}
	d.must(t, "key", "create", "check-good", "-dir", dir)
	d.must(t, "instance", "launch", "check-board", "-image", "debian-12", "-size", "small", "-region", "north-pier",
		"-key", "check-good")
	good := read("check-good")
	write("crlf", []byte(strings.TrimSuffix(strings.ReplaceAll(string(good), "\n", "\r\n"), "\r\n")), 0o644)
	write("leaked.pub", good, 0o600)
	write("wrong.ppk", good, 0o600)
	sshKeygen(t, "-q", "-t", "rsa", "-b", "1024", "-N", "", "-C", "mate@quay-7", "-f", filepath.Join(dir, "weak"))
	sshKeygen(t, "-q", "-t", "ed25519", "-N", "x1x2x3", "-f", filepath.Join(dir, "locked"))
	write("locked.pub", read("weak.pub"), 0o644)
	write("notes.txt", []byte("the tide table is in the drawer"), 0o644)
	write("broken", good[:200], 0o600)

	type checked struct {
		File, Kind, Format, Passphrase, Error, Get_in, Recorded_as string
		Private                                                    bool
		Findings, Fixed, Opens                                     []string
	}
	look := func(url string, args ...string) map[string]checked {
		t.Helper()
		r := d.clientWith(t, url, d.token, "", append([]string{"key", "check", dir, "-json"}, args...)...)
		var l wire.List[checked]
		if err := json.Unmarshal([]byte(r.out), &l); err != nil || r.code != 3 { // there are findings
			t.Fatalf("%v %+v", err, r)
		}
		out := map[string]checked{}
		for _, c := range l.Items {
			out[filepath.Base(c.File)] = c
		}
		return out
	}
	found := look(d.url)
	for name, wants := range map[string][]string{
		"check-good": {"temporary folder"}, // the test's own
		"crlf":       {"CRLF", "too open (mode 0644)", "last line has no end"},
		"leaked.pub": {"called .pub, and holds a private key"},
		"wrong.ppk":  {"called .ppk, and holds OpenSSH"},
		"weak":       {"small-modulus", "gives away a user name and a machine"},
		"locked":     {"locked.pub beside it is not its own"},
	} {
		all := strings.Join(found[name].Findings, " ")
		for _, w := range wants {
			if !strings.Contains(all, w) {
				t.Errorf("%s lacks %q: %v", name, w, found[name])
			}
		}
	}
	if c := found["check-good"]; c.Recorded_as != "check-good" || len(c.Opens) != 1 ||
		c.Get_in != "plumlatch open check-board -identity "+filepath.Join(dir, "check-good") || c.Passphrase != "no" {
		t.Errorf("%+v", c)
	}
	if c := found["locked"]; c.Passphrase != "yes" || c.Kind != "ed25519" || c.Recorded_as != "" {
		t.Errorf("%+v", c)
	}
	if _, ok := found["notes.txt"]; ok {
		t.Error("notes.txt is listed as a key")
	}
	if c := found["broken"]; !strings.Contains(c.Error, "not a private key") &&
		!strings.Contains(c.Error, "damaged") && !strings.Contains(c.Error, "cut short") {
		t.Errorf("broken: %+v", c)
	}
	if c := look("")["check-good"]; c.Kind != "ed25519" || c.Recorded_as != "" {
		t.Errorf("without a service: %+v", c)
	}
	fixed := look(d.url, "-fix")["crlf"]
	if len(fixed.Fixed) != 2 || string(read("crlf")) != string(good) {
		t.Errorf("-fix: %+v", fixed)
	}
	if fi, err := os.Stat(filepath.Join(dir, "crlf")); err != nil || fi.Mode().Perm() != 0o600 {
		t.Errorf("-fix left the mode at %v %v", fi.Mode(), err)
	}
	if backups, _ := filepath.Glob(filepath.Join(dir, "crlf.before-*")); len(backups) != 1 {
		t.Errorf("backups: %v", backups)
	}
	contains(t, "the table", d.client(t, "", "key", "check", dir).out, "check-good", "gets in: plumlatch open check-board",
		"OpenSSH", "HALF")
	for _, place := range []string{"Downloads", "my-sync", "repo/.git"} {
		sub := filepath.Join(t.TempDir(), place)
		if err := os.MkdirAll(sub, 0o700); err != nil {
			t.Fatal(err)
		}
		r := d.client(t, "", "key", "create", "place-"+filepath.Base(strings.TrimPrefix(place, "repo/.")), "-dir",
			strings.TrimSuffix(sub, "/.git"))
		want := map[string]string{"Downloads": "downloads folder", "my-sync": "synchronised folder",
			"repo/.git": "version-controlled tree"}[place]
		if r.code != 0 || !strings.Contains(r.err, want) {
			t.Errorf("%s: %+v", place, r)
		}
	}
}

// TestKeyLife goes through what is recorded of a key, and its ends.
func TestKeyLife(t *testing.T) {
	d, dir := shared, t.TempDir()
	d.must(t, "holder", "add", "night-shift", "-sort", "team")
	contains(t, "holders", d.must(t, "holder", "list"), "night-shift", "team")
	if r := d.client(t, "", "holder", "add", "x-holder", "-sort", "ghost"); r.code != 1 ||
		!strings.Contains(r.err, "person, team, machine, job") {
		t.Errorf("%+v", r)
	}
	d.must(t, "key", "create", "life-key", "-dir", dir, "-holder", "night-shift", "-note", "first")
	if r := d.client(t, "", "key", "create", "life-other", "-dir", dir, "-holder", "nobody"); r.code != 1 ||
		!strings.Contains(r.err, "no holder") {
		t.Errorf("an unknown holder: %+v", r)
	}
	if left, _ := filepath.Glob(filepath.Join(dir, "life-other*")); len(left) != 0 {
		t.Errorf("left: %v", left)
	}
	d.must(t, "key", "note", "life-key", "the spare one")
	d.must(t, "key", "set", "life-key", "-kept-at", "the safe on the bridge", "-origin", "made elsewhere")
	d.must(t, "instance", "launch", "life-board", "-image", "debian-12", "-size", "small", "-region", "north-pier",
		"-key", "life-key")
	d.must(t, "key", "rename", "life-key", "life-key-2")
	k := d.key(t, "life-key-2")
	if k.Holder != "night-shift" || k.HolderSort != "team" || k.Note != "the spare one" ||
		k.KeptAt != "the safe on the bridge" || k.Origin != "made elsewhere" || k.Reach != 1 ||
		k.Passphrase != "no" || k.EvidenceAt == nil {
		t.Errorf("%+v", k)
	}
	for _, filter := range []string{"holder=night-shift", "origin=made+elsewhere&q=life", "state=in+use&q=life-key-2",
		"kind=ed25519&q=life-key-2"} {
		var l wire.List[wire.Key]
		a := d.api(t, "GET", "/api/v1/keys?"+filter, "")
		if err := json.Unmarshal([]byte(a.body), &l); err != nil || len(l.Items) != 1 ||
			l.Items[0].Name != "life-key-2" {
			t.Errorf("%s: %s", filter, a.body)
		}
	}
	if a := d.api(t, "GET", "/api/v1/keys?q=life-key-2&older_than_days=30",
		""); strings.Contains(a.body, "life-key-2") {
		t.Errorf("older than 30 days: %s", a.body)
	}
	d.must(t, "key", "retire", "life-key-2")
	if r := d.client(t, "", "instance", "launch", "life-board-2", "-image", "debian-12", "-size", "small", "-region",
		"north-pier", "-key", "life-key-2"); r.code != 1 || !strings.Contains(r.err, "is retired") {
		t.Errorf("a launch with a retired key: %+v", r)
	}
	d.must(t, "key", "use-again", "life-key-2")
	d.must(t, "instance", "launch", "life-board-2", "-image", "debian-12", "-size", "small", "-region", "north-pier",
		"-key", "life-key-2")
	if r := d.client(t, "", "key", "forget", "life-key-2", "-yes"); r.code != 1 ||
		!strings.Contains(r.err, "life-board, life-board-2") {
		t.Errorf("forgetting what opens something: %+v", r)
	}
	d.must(t, "instance", "remove", "life-board", "-yes")
	d.must(t, "instance", "remove", "life-board-2", "-yes")
	if r := d.client(t, "", "key", "forget", "life-key-2"); r.code != 1 || !strings.Contains(r.err, "-yes") {
		t.Errorf("forgetting without an answer: %+v", r)
	}
	d.must(t, "key", "forget", "life-key-2", "-yes")
	if r := d.client(t, "", "key", "show", "life-key-2"); r.code != 1 {
		t.Errorf("%+v", r)
	}
	contains(t, "help", d.must(t, "help", "key", "forget"), "key retire", "it must open nothing")
	contains(t, "journal", d.must(t, "journal", "list", "-target", "key life-key-2"), "key.retire",
		"key.use-again", "key.forget")
}

// TestWeakKeysAreRecordedNeverPlaced brings an old fleet's keys.
func TestWeakKeysAreRecordedNeverPlaced(t *testing.T) {
	d, dir := shared, t.TempDir()
	sshKeygen(t, "-q", "-t", "rsa", "-b", "1024", "-N", "", "-f", filepath.Join(dir, "small"))
	sshKeygen(t, "-q", "-t", "dsa", "-N", "", "-f", filepath.Join(dir, "dsa"))
	p, err := rand.Prime(rand.Reader, 1024)
	if err != nil {
		t.Fatal(err)
	}
	even := keypair.Public{Blob: ssh.Marshal(struct {
		Type string
		E, N *big.Int
	}{"ssh-rsa", big.NewInt(65537), new(big.Int).Lsh(p, 1024)})}
	if err := os.WriteFile(filepath.Join(dir, "even.pub"), []byte(even.Line()), 0o600); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"small": "small-modulus", "dsa": "dsa", "even": "even-modulus"} {
		r := d.client(t, "", "key", "import", "old-"+name, filepath.Join(dir, name+".pub"))
		if r.code != 0 || !strings.Contains(r.err, want) {
			t.Errorf("%s: %+v", name, r)
			continue
		}
		if r := d.client(t, "", "instance", "launch", "old-board", "-image", "debian-12", "-size", "small", "-region",
			"north-pier", "-key", "old-"+name); r.code != 1 || !strings.Contains(r.err, "too weak") {
			t.Errorf("%s placed: %+v", name, r)
		}
	}
	if out := d.must(t, "key", "list", "-weakness", "any", "-match", "old-"); strings.Count(out, "old-") < 3 {
		t.Errorf("the filter: %s", out)
	}
}

func TestImportSaysWhatItFound(t *testing.T) {
	d, dir := shared, t.TempDir()
	public := strings.TrimSuffix(newPublic(t), " made for a test")
	file := filepath.Join(dir, "k.pub")
	if err := os.WriteFile(file, []byte("\ufeff"+`restrict,pty `+public+" mate@quay-7.example\r\n"),
		0o600); err != nil {
		t.Fatal(err)
	}
	r := d.client(t, "", "key", "import", "found-a", file, "-comment", "", "-elsewhere", "-kept-at", "nowhere")
	if r.code != 0 || !strings.Contains(r.err, "byte-order mark") || !strings.Contains(r.err, "CRLF") ||
		!strings.Contains(r.err, "Options stand in front") || strings.Contains(r.err, "gives away") {
		t.Errorf("%+v", r)
	}
	if k := d.key(t, "found-a"); k.Comment != "" || k.Origin != "made elsewhere" {
		t.Errorf("%+v", k)
	}
	other := strings.TrimSuffix(newPublic(t), " made for a test")
	if r := d.client(t, other+" mate@quay-7", "key", "import", "found-b", "-"); r.code != 0 ||
		!strings.Contains(r.err, "gives away a user name and a machine") {
		t.Errorf("%+v", r)
	}
	// Many at once.
	list := "# the old fleet\n" + newPublic(t) + "\nssh-ed25519 AAAA broken\n" + other + "\n" + newPublic(t) + "\n"
	batch := filepath.Join(dir, "authorized_keys")
	if err := os.WriteFile(batch, []byte(list), 0o600); err != nil {
		t.Fatal(err)
	}
	r = d.client(t, "", "key", "import", "-batch", batch, "-whole")
	if r.code != 1 || strings.Count(r.out, "not tried") != 2 || !strings.Contains(r.out, "0 of 4 recorded") {
		t.Errorf("-whole: %+v", r)
	}
	r = d.client(t, "", "key", "import", "-batch", batch)
	if r.code != 1 || !strings.Contains(r.out, "2 of 4 recorded") ||
		!strings.Contains(r.out, "recorded already, as found-b") || !strings.Contains(r.out, "authorized_keys:3") {
		t.Errorf("-batch: %+v", r)
	}
	if r = d.client(t, "", "key", "import", "-batch", batch); !strings.Contains(r.out, "0 of 4 recorded") {
		t.Errorf("-batch again: %+v", r)
	}
}

func TestKeyProve(t *testing.T) {
	d, dir := shared, t.TempDir()
	pass := filepath.Join(dir, "pass")
	if err := os.WriteFile(pass, []byte("flood stream"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, kind := range []string{"ed25519", "rsa-2048", "ecdsa-384"} {
		name := "prove-" + kind
		d.must(t, "key", "create", name, "-kind", kind, "-dir", dir, "-new-passphrase", pass)
		if k := d.key(t, name); k.ShownAt == nil {
			t.Errorf("%s was made a moment ago, and is not shown", name)
		}
		d.must(t, "key", "forget", name, "-yes")
		d.must(t, "key", "import", name, filepath.Join(dir, name+".pub"))
		if k := d.key(t, name); k.ShownAt != nil {
			t.Errorf("%s is shown before it is", name)
		}
		d.must(t, "key", "prove", name, "-identity", filepath.Join(dir, name), "-passphrase-file", pass)
		if k := d.key(t, name); k.ShownAt == nil || k.ShownBy != "harbour-lead" {
			t.Errorf("%s: %+v", name, k)
		}
	}
	if r := d.client(t, "", "key", "prove", "prove-ed25519", "-identity", filepath.Join(dir, "prove-rsa-2048"),
		"-passphrase-file", pass); r.code != 1 || !strings.Contains(r.err, "another key") {
		t.Errorf("another key: %+v", r)
	}

	// The real ssh-agent.
	socket := filepath.Join(dir, "agent")
	agent := exec.Command("ssh-agent", "-D", "-a", socket)
	if err := agent.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = agent.Process.Kill(); _ = agent.Wait() }()
	waitFor(t, "the agent", func() bool { _, err := os.Stat(socket); return err == nil })
	d.must(t, "key", "create", "prove-agent", "-kind", "rsa-2048", "-dir", dir)
	t.Setenv("SSH_AUTH_SOCK", socket)
	if r := d.client(t, "", "key", "prove", "prove-agent", "-ssh-agent"); r.code != 1 ||
		!strings.Contains(r.err, "next: ssh-add") {
		t.Errorf("an agent without the key: %+v", r)
	}
	if out, err := exec.Command("ssh-add", filepath.Join(dir, "prove-agent")).CombinedOutput(); err != nil {
		t.Fatalf("ssh-add: %v %s", err, out)
	}
	d.must(t, "key", "prove", "prove-agent", "-ssh-agent")
	if k := d.key(t, "prove-agent"); k.ShownAt == nil {
		t.Errorf("%+v", k)
	}
	t.Run("challenges", func(t *testing.T) { challenges(t, d, filepath.Join(dir, "prove-agent")) })
}

// challenges answers challenges in wrong ways.
func challenges(t *testing.T, d *demo, file string) {
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	pair, err := keypair.ReadPrivate(data, nil)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := pair.Signer()
	if err != nil {
		t.Fatal(err)
	}
	path := "/api/v1/keys/prove-agent"
	ask := func() wire.Challenge {
		t.Helper()
		var ch wire.Challenge
		a := d.api(t, "POST", path+"/challenge", "")
		if err := json.Unmarshal([]byte(a.body), &ch); err != nil || ch.Nonce == "" {
			t.Fatal(a.body)
		}
		return ch
	}
	answer := func(nonce, namespace, text string, headers ...string) answer {
		t.Helper()
		sig, err := keypair.Sign(signer, namespace, []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		return d.api(t, "POST", path+"/proof", mustJSON(t, wire.Proof{Nonce: nonce, Signature: string(sig)}),
			headers...)
	}
	ch := ask()
	u, err := url.Parse(d.url)
	if err != nil || !strings.Contains(ch.Text, u.Host) || !strings.Contains(ch.Text, "operator harbour-lead") ||
		!strings.Contains(ch.Text, pair.Public.Fingerprint()) {
		t.Errorf("the challenge: %s", ch.Text)
	}
	if a := answer(ch.Nonce, keypair.ProofNamespace, ch.Text); a.status != 200 {
		t.Errorf("the right answer: %s", a.body)
	}
	if a := answer(ch.Nonce, keypair.ProofNamespace, ch.Text); a.status != 422 || a.field(t, "field") != "nonce" {
		t.Errorf("the same again: %s", a.body)
	}
	ch = ask()
	if a := answer(ch.Nonce, "file", ch.Text); a.status != 422 || a.field(t, "field") != "signature" {
		t.Errorf("another namespace: %s", a.body)
	}
	ch = ask()
	if a := answer(ch.Nonce, keypair.ProofNamespace, ch.Text+"x"); a.status != 422 {
		t.Errorf("another text: %s", a.body)
	}
	ch = ask()
	var o wire.Operator
	if err := json.Unmarshal([]byte(d.must(t, "operator", "add", "prove-other", "-role", "operator", "-json")),
		&o); err != nil {
		t.Fatal(err)
	}
	in := d.api(t, "POST", "/api/v1/session",
		mustJSON(t, wire.Credentials{Operator: "prove-other", Password: o.Password}), "Origin", d.url)
	cookie, _, _ := strings.Cut(in.header.Get("Set-Cookie"), ";")
	if a := answer(ch.Nonce, keypair.ProofNamespace, ch.Text, "Cookie", cookie, "Origin", d.url); a.status != 422 ||
		a.field(t, "field") != "nonce" {
		t.Errorf("another operator: %s", a.body)
	}
	if _, err := d.database(t).Exec(t.Context(),
		"UPDATE challenges SET expires_at = now() - interval '1 s'"); err != nil {
		t.Fatal(err)
	}
	if a := answer(ch.Nonce, keypair.ProofNamespace, ch.Text); a.status != 422 {
		t.Errorf("too late: %s", a.body)
	}
	// The real ssh-keygen finds our signature good.
	dir := t.TempDir()
	sig, err := keypair.Sign(signer, keypair.ProofNamespace, []byte(ch.Text))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "sig"), sig, 0o600); err != nil {
		t.Fatal(err)
	}
	check := exec.Command("ssh-keygen", "-Y", "check-novalidate", "-n", keypair.ProofNamespace, "-s",
		filepath.Join(dir, "sig"))
	check.Stdin = strings.NewReader(ch.Text)
	if out, err := check.CombinedOutput(); err != nil {
		t.Errorf("ssh-keygen -Y: %v %s", err, out)
	}
}
