package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"plumlatch/core/keybook"
	"plumlatch/core/wire"
)

// bookIn writes a book of one file into a folder of its own, with public halves beside it.
func bookIn(t *testing.T, text string, publics map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	mustDo(t, os.WriteFile(filepath.Join(dir, "book.yaml"), []byte(text), 0o644))
	for name, p := range publics {
		mustDo(t, os.WriteFile(filepath.Join(dir, name), []byte(p), 0o644))
	}
	return dir
}

// difference is what a book and the ledger differ in.
func (d *demo) difference(t *testing.T, dir string) keybook.Difference {
	t.Helper()
	r := d.client(t, "", "keybook", "compare", dir, "-json")
	var out wire.KeybookCompared
	if err := json.Unmarshal([]byte(r.out), &out); err != nil || out.Difference == nil {
		t.Fatalf("%v %+v", err, r)
	}
	if (r.code == 0) != out.Difference.Nothing() || r.code != 0 && r.code != 3 {
		t.Errorf("it ends with %d", r.code)
	}
	return *out.Difference
}

// TestKeybookSSHD settles keybooks on Debian's own sshd, PAM and StrictModes on, an ordinary account without sudo, and a file that people have
// edited: what they wrote stays byte for byte, and real logins bear out who gets in and who does not any more.
func TestKeybookSSHD(t *testing.T) {
	t.Parallel()
	a := startAdoptee(t, "")
	d := newHome(t, shared)
	dir := t.TempDir()
	name := fmt.Sprintf("book-door-%d", a.port)
	d.must(t, a.args(name, "-record", name+"-key")...)
	d.surveyOf(t, name)
	d.must(t, "holder", "add", name+"-engineer")
	d.must(t, "key", "set", name+"-key", "-holder", name+"-engineer")
	d.must(t, "key", "prove", name+"-key", "-identity", a.identity)
	before := a.now(t)
	ada, job := pairIn(t, filepath.Join(dir, "ada")), pairIn(t, filepath.Join(dir, "job"))
	ran := filepath.Join(a.home, "ran")
	text := func(also, access string) string {
		return fmt.Sprintf(`keybook: %[1]s
complete: {instances: [%[1]s], files: [book.yaml]%[2]s}
holders:
  %[1]s-ada: person
  %[1]s-robot: job
keys:
  %[1]s-ada: {file: ada.pub, holder: %[1]s-ada}
  %[1]s-job: {line: %[3]s, holder: %[1]s-robot}
access:
%[4]s`, name, also, job.Line(), strings.ReplaceAll(access, "NAME", name))
	}
	publics := map[string]string{"ada.pub": ada.Line() + "\n"}
	both := "  - {whom: [NAME-key, key/NAME-ada], to: {instances: [NAME]}}\n"
	first := bookIn(t, text("", both+"  - {whom: NAME-job, to: {instances: [NAME]}, only: touch "+ran+"}\n"), publics)
	diff := d.difference(t, first)
	if diff.Counts[keybook.Add] != 2 || diff.Counts[keybook.Uncovered] != 3 || diff.Counts[keybook.KeyAdd] != 2 {
		t.Errorf("%+v", diff.Items)
	}
	// Nobody is asked, and nothing was reviewed: nothing happens. Neither by another hash.
	for _, args := range [][]string{{"-yes"}, {"-yes", "-compared", strings.Repeat("0", 64)}} {
		if r := d.client(t, "", append([]string{"keybook", "settle", first}, args...)...); r.code == 0 || a.now(t) != before {
			t.Errorf("%v: %+v", args, r)
		}
	}
	out := d.must(t, "keybook", "settle", first, "-yes", "-compared", diff.Hash, "-version", "v1-2-gabc")
	contains(t, "settled", out, "1 instance settled")
	want := before + "\n" + ada.Line() + "\n\ncommand=\"touch " + ran + "\" " + job.Line() + "\n"
	if got := a.now(t); got != want {
		t.Errorf("the file is\n%q\n--- wanted\n%q", got, want)
	}
	if !a.logsIn(t, filepath.Join(dir, "ada"), "true") || !a.logsIn(t, filepath.Join(dir, "job"), "id") {
		t.Error("who is in the book does not get in")
	}
	if _, err := os.Stat(ran); err != nil {
		t.Errorf("the one command did not run: %v", err)
	}
	contains(t, "the second time", d.must(t, "keybook", "settle", first, "-yes", "-compared", d.difference(t, first).Hash), "All is as the keybook "+name+" says", "Nothing was sent to any instance")
	contains(t, "history", d.must(t, "keybook", "history", name), "v1-2-gabc", "2 add")

	// The job is bound to another network, what nobody recorded goes, and all that is no key stays.
	d.must(t, "key", "prove", name+"-ada", "-identity", filepath.Join(dir, "ada"))
	second := bookIn(t, text(", also: [machines, unrecorded]", both+"  - {whom: NAME-job, to: {instances: [NAME]}, from: 192.0.2.0/24}\n"), publics)
	diff = d.difference(t, second)
	if diff.Counts[keybook.Change] != 1 || diff.Counts[keybook.Withdraw] != 3 {
		t.Errorf("%+v", diff.Items)
	}
	d.must(t, "keybook", "settle", second, "-yes", "-compared", diff.Hash)
	var kept strings.Builder
	for line := range strings.Lines(want) {
		if strings.Contains(line, "backup job") || strings.Contains(line, " bridge") || strings.Contains(line, "last, without") {
			continue
		}
		kept.WriteString(strings.Replace(line, "command=\"touch "+ran+"\" ", "from=\"192.0.2.0/24\" ", 1))
	}
	if got := a.now(t); got != kept.String() {
		t.Errorf("the file is\n%q\n--- wanted\n%q", got, kept.String())
	}
	if a.logsIn(t, filepath.Join(dir, "job"), "true") || !a.logsIn(t, filepath.Join(dir, "ada"), "true") || !a.logsIn(t, a.identity, "true") {
		t.Error("the job still gets in, or somebody else does not")
	}

	// Ada goes, and the engineer stays; then nobody is left, which is refused without the number.
	third := bookIn(t, text("", "  - {whom: NAME-key, to: {instances: [NAME]}}\n"), publics)
	d.must(t, "keybook", "settle", third, "-yes", "-compared", d.difference(t, third).Hash)
	if a.logsIn(t, filepath.Join(dir, "ada"), "true") || !a.logsIn(t, a.identity, "true") {
		t.Error("ada still gets in, or the engineer does not")
	}
	fourth := bookIn(t, text("", "  - {whom: NAME-job, to: {instances: [NAME]}, from: 192.0.2.0/24}\n"), publics)
	r := d.client(t, "", "keybook", "settle", fourth, "-yes", "-compared", d.difference(t, fourth).Hash)
	if r.code == 0 || !strings.Contains(r.err, "nobody would get into 1 instance") || !strings.Contains(r.err, "-cut-off 1") || !a.logsIn(t, a.identity, "true") {
		t.Errorf("nobody left: %+v", r)
	}
}

// TestKeybookCommands: check needs no service, and says what is wrong as people and as code review read it; write describes what is there; what
// is secret goes nowhere.
func TestKeybookCommands(t *testing.T) {
	t.Parallel()
	d := newHome(t, shared)
	offline := &demo{dir: d.dir, url: "http://127.0.0.1:1", token: "none"}
	dir := bookIn(t, "keybook: b\nkeys:\n  ada: {lin: x}\n", nil)
	r := offline.client(t, "", "keybook", "check", dir)
	if r.code != 1 || !strings.Contains(r.out, "book.yaml:3:9: error: a key has no word \"lin\"") || !strings.Contains(r.out, "did you mean line") {
		t.Errorf("%+v", r)
	}
	r = offline.client(t, "", "keybook", "check", dir, "-sarif", "-")
	var sarif struct{ Version string }
	if json.Unmarshal([]byte(r.out), &sarif) != nil || sarif.Version != "2.1.0" || r.code != 1 {
		t.Errorf("%+v", r)
	}
	var report keybook.Report
	r = offline.client(t, "", "keybook", "check", dir, "-json")
	if json.Unmarshal([]byte(r.out), &report) != nil || report.Errors() != 2 {
		t.Errorf("%+v", r)
	}
	// A private key beside the book, in it, and behind a link out of it.
	private := filepath.Join(t.TempDir(), "secret")
	pairIn(t, private)
	secret := mustRead(t, private)
	body := strings.Split(secret, "\n")[1]
	for what, b := range map[string]string{
		"in it":   bookIn(t, "keybook: b\nkeys:\n  ada: |\n    "+strings.ReplaceAll(strings.TrimSpace(secret), "\n", "\n    ")+"\n", nil),
		"beside":  bookIn(t, "keybook: b\nkeys: {ada: {file: ada.pub}}\n", map[string]string{"ada.pub": secret}),
		"outside": bookIn(t, "keybook: b\nkeys: {ada: {file: ada.pub}}\n", nil),
	} {
		if what == "outside" {
			mustDo(t, os.Symlink(private+".pub", filepath.Join(b, "ada.pub")))
		}
		for _, command := range []string{"check", "compare", "settle"} {
			r := d.client(t, "", "keybook", command, b)
			if r.code == 0 || strings.Contains(r.out+r.err, body) {
				t.Errorf("%s, %s: %+v", what, command, r)
			}
			says := map[string]string{"in it": "a private key stands in it", "beside": "this is a private key", "outside": "outside the folder"}[what]
			contains(t, what+", "+command, r.out+r.err, says)
		}
	}
	// The schema is one.
	var schema map[string]any
	mustDo(t, json.Unmarshal([]byte(offline.client(t, "", "keybook", "schema").out), &schema))

	// What is there, as text: nothing to do, and nothing wrong.
	written := filepath.Join(t.TempDir(), "now.yaml")
	d.must(t, "keybook", "write", "-name", "now", "-tag", "no=such", "-out", written)
	contains(t, "written", d.must(t, "keybook", "check", written), "The keybook now is well formed")
	if diff := d.difference(t, written); !diff.Nothing() {
		t.Errorf("%+v", diff.Items)
	}
	// A text that is brought up to date: what is so in it stays, byte for byte.
	dir = t.TempDir()
	board := fmt.Sprintf("book-board-%d", os.Getpid())
	d.must(t, "key", "create", board+"-key", "-dir", dir, "-new-passphrase", "none")
	d.launchBoard(t, board, board+"-key")
	into := filepath.Join(dir, "mine.yaml")
	mustDo(t, os.WriteFile(into, []byte("# mine\nkeybook:  mine   # odd\n\n# nobody yet\n"), 0o640))
	d.must(t, "instance", "tag", board, "book="+board)
	contains(t, "into", d.must(t, "keybook", "write", "-into", into, "-tag", "book="+board), "is brought up to date")
	now := mustRead(t, into)
	if fi, err := os.Stat(into); err != nil || fi.Mode().Perm() != 0o640 || !strings.HasPrefix(now, "# mine\nkeybook:  mine   # odd\n\n# nobody yet\n") || !strings.Contains(now, "instances: ["+board+"]") {
		t.Errorf("into: %v\n%s", err, now)
	}
	contains(t, "into again", d.must(t, "keybook", "write", "-into", into, "-tag", "book="+board), "up to date already")
	contains(t, "as Markdown", d.client(t, "", "keybook", "compare", written, "-markdown").out, "### Keybook `now`", "All is as the keybook says")
	// A signature beside the text, which OpenSSH's own tool reads.
	signedBy := filepath.Join(dir, board+"-key")
	contains(t, "signed", d.must(t, "keybook", "sign", into, "-identity", signedBy), "book mine", "Signed with SHA256:")
	whole := mustRead(t, into+".sig")
	signed, armored, _ := strings.Cut(whole, "-----BEGIN")
	verify := exec.Command("ssh-keygen", "-Y", "check-novalidate", "-n", "keybook@plumlatch", "-s", writeFile(t, "-----BEGIN"+armored))
	verify.Stdin = strings.NewReader(signed)
	if out, err := verify.CombinedOutput(); err != nil || !strings.Contains(string(out), "Good") {
		t.Errorf("%v %s", err, out)
	}
	// What does not exist is launched where that is said, and each has its address and the command that opens it.
	launches := bookIn(t, fmt.Sprintf("keybook: launches-%d\ninstances: {%s-2: {image: debian-12, size: small, region: north-pier, keys: [%s-key]}}\n", os.Getpid(), board, board), nil)
	hash := d.difference(t, launches).Hash
	if r := d.client(t, "", "keybook", "settle", launches, "-yes", "-compared", hash); r.code != 3 || !strings.Contains(r.out, "1 would be launched with -launch") {
		t.Errorf("without -launch: %+v", r)
	}
	contains(t, "launched", d.must(t, "keybook", "settle", launches, "-yes", "-compared", hash, "-launch"), board+"-2: ", "running; plumlatch open "+board+"-2")
	contains(t, "open", d.must(t, "open", board+"-2", "-dir", dir, "--", "hostname"), board+"-2")
	// A pair that the book has made is made by somebody, never unattended.
	makes := bookIn(t, fmt.Sprintf("keybook: made-%[1]d\nkeys: {made-%[1]d: {make: {out: pair}}}\n", os.Getpid()), nil)
	r = d.client(t, "", "keybook", "settle", makes)
	if r.code == 0 || !strings.Contains(r.err, "never unattended") {
		t.Errorf("unattended: %+v", r)
	}
	r = d.client(t, "", "keybook", "settle", makes, "-new-passphrase", "none")
	if _, err := os.Stat(filepath.Join(makes, "pair.pub")); err != nil || r.code == 0 || !strings.Contains(r.err, "no terminal") {
		t.Errorf("made: %v %+v", err, r) // and then it would ask
	}
	d.must(t, "keybook", "settle", makes, "-yes", "-compared", d.difference(t, makes).Hash)
	if k := d.key(t, fmt.Sprintf("made-%d", os.Getpid())); k.Origin != "made here" {
		t.Errorf("%+v", k)
	}
	if out, err := exec.Command("ssh-keygen", "-y", "-P", "", "-f", filepath.Join(makes, "pair")).Output(); err != nil || !strings.HasPrefix(mustRead(t, filepath.Join(makes, "pair.pub")), strings.TrimSpace(string(out))) {
		t.Errorf("%v %s", err, out)
	}
}
