package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"plumlatch/core/wire"
)

// TestOneAnswer: what surveys saw belongs to every answer. A key that nobody recorded opens what it was
// seen on; a recorded one that was found where nobody recorded it opens that too, and is not forgotten;
// nothing is called the only way in beside it, and nothing is called shut that somebody gets into.
func TestOneAnswer(t *testing.T) {
	t.Parallel()
	d, dir := shared, t.TempDir()
	for _, k := range []string{"pontoon-crew", "pontoon-other"} {
		d.must(t, "key", "create", k, "-dir", dir)
	}
	d.launchBoard(t, "pontoon-board", "pontoon-crew")
	file := filepath.Join(d.disk(t, "pontoon-board"), "home/debian/.ssh/authorized_keys")
	before, err := os.ReadFile(file)
	mustDo(t, err)
	write := func(lines ...string) {
		t.Helper()
		mustDo(t, os.WriteFile(file, []byte(string(before)+strings.Join(lines, "\n")+"\n"), 0o600))
		d.must(t, "survey", "pontoon-board", "-inside")
	}
	public := func(name string) string {
		t.Helper()
		text, err := os.ReadFile(filepath.Join(dir, name+".pub"))
		mustDo(t, err)
		return strings.TrimSpace(string(text))
	}
	contains(t, "before", d.must(t, "who", "pontoon-board"), "pontoon-crew is the sole opener")
	has(t, "today before", d.reasonsOf(t, "instance", "pontoon-board"), "sole-opener", true)

	// A key that nobody recorded, by its file, its line and its fingerprint.
	strayPair(t, dir, "stray")
	write(public("stray"))
	fingerprint := strings.Fields(sshKeygenLine(t, public("stray")))[1]
	for _, word := range []string{filepath.Join(dir, "stray"), public("stray"), fingerprint} {
		contains(t, "opens "+word, d.must(t, "opens", word), "is not recorded", "Found where nobody recorded it",
			"pontoon-board", ".ssh/authorized_keys:", "next: plumlatch access record pontoon-board "+fingerprint)
	}
	contains(t, "who", d.must(t, "who", "pontoon-board"), "NOT RECORDED", "1 key", "and besides: keys that nobody recorded")
	if out := d.must(t, "who", "pontoon-board"); strings.Contains(out, "sole opener") {
		t.Errorf("beside a key that nobody recorded: %s", out)
	}
	has(t, "today", d.reasonsOf(t, "instance", "pontoon-board"), "sole-opener", false)
	contains(t, "instance show", d.must(t, "instance", "show", "pontoon-board"), "NOT RECORDED")
	contains(t, "access list", d.must(t, "access", "list", "-instance", "pontoon-board"), "NOT RECORDED", "? ")
	contains(t, "CSV", d.must(t, "access", "list", "-instance", "pontoon-board", "-csv"), "until,key_state,recorded,file",
		fingerprint+",seen,", ",false,.ssh/authorized_keys:")
	contains(t, "key check", d.must(t, "key", "check", filepath.Join(dir, "stray")), "(not recorded)", "pontoon-board")
	contains(t, "open", d.must(t, "open", "pontoon-board", "-dir", strayOnly(t, dir), "--", "hostname"), "pontoon-board")

	// It is withdrawn in one command, without being recorded first; the recorded key stays.
	contains(t, "withdrawn", d.must(t, "access", "remove", "pontoon-board", "-key", filepath.Join(dir, "stray")), "withdrawn")
	text, err := os.ReadFile(file)
	mustDo(t, err)
	if strings.Contains(string(text), strings.Fields(public("stray"))[1]) ||
		!strings.Contains(string(text), strings.Fields(public("pontoon-crew"))[1]) {
		t.Errorf("after the withdrawal there stands:\n%s", text)
	}
	contains(t, "opens what was withdrawn", d.must(t, "opens", fingerprint), "It opens nothing", "It stood there once")
	if r := d.client(t, "", "access", "remove", "pontoon-board", "-key", fingerprint); r.code == 0 {
		t.Errorf("once more: %+v", r)
	}

	// A recorded key, where nobody expected it.
	write(public("pontoon-other"))
	contains(t, "opens", d.must(t, "opens", "pontoon-other"), "Found where nobody recorded it", "pontoon-board",
		"next: plumlatch access record pontoon-board pontoon-other")
	contains(t, "key show", d.must(t, "key", "show", "pontoon-other"), "Found where nobody recorded it", "pontoon-board")
	contains(t, "key list", d.must(t, "key", "list", "-match", "pontoon-other"), "found on 1 more, not recorded")
	contains(t, "access list", d.must(t, "access", "list", "-key", "pontoon-other"), "NOT RECORDED", "pontoon-board")
	if r := d.client(t, "", "key", "forget", "pontoon-other", "-yes"); r.code == 0 ||
		!strings.Contains(r.err, "still opens pontoon-board") {
		t.Errorf("a key that stands in a file was forgotten: %+v", r)
	}
	var m wire.AccessMap
	if err := json.Unmarshal([]byte(d.api(t, "GET", "/api/v1/access-map", "").body), &m); err != nil {
		t.Fatal(err)
	}
	for _, cell := range m.Cells {
		if m.Instances[cell.I].Name == "pontoon-board" && cell.Sole {
			t.Error("the map calls a key the only way in beside one that nobody recorded")
		}
	}

	// An import is compared with what was seen before, at once.
	contains(t, "import", d.must(t, "key", "import", "pontoon-other", filepath.Join(dir, "pontoon-other.pub")),
		"recorded already, under this name")
	if r := d.client(t, "", "key", "import", "pontoon-third", filepath.Join(dir, "pontoon-other.pub")); r.code != 1 ||
		!strings.Contains(r.err, "pontoon-other") {
		t.Errorf("under another name: %+v", r)
	}
	strayPair(t, dir, "imported")
	write(public("imported"))
	contains(t, "import of what was seen", d.must(t, "key", "import", "pontoon-imported", filepath.Join(dir, "imported.pub")),
		"Found where nobody recorded it", "pontoon-board", "next: plumlatch access record pontoon-board pontoon-imported")
	write(public("pontoon-other"))

	// It is gone: told as that, and no opener.
	write()
	contains(t, "gone", d.must(t, "opens", "pontoon-other"), "It opens nothing", "It stood there once")
	contains(t, "who again", d.must(t, "who", "pontoon-board"), "pontoon-crew is the sole opener")

	// An authority is another door, and no key.
	write("cert-authority " + public("stray"))
	contains(t, "who with an authority", d.must(t, "who", "pontoon-board"), "another door: a certificate authority",
		".ssh/authorized_keys:", "and besides: a certificate authority")
	contains(t, "opens the authority", d.must(t, "opens", filepath.Join(dir, "stray")), "Trusted as a certificate authority")
	has(t, "today with an authority", d.reasonsOf(t, "instance", "pontoon-board"), "sole-opener", false)

	// The recorded key is lost: only what nobody recorded is left.
	write(public("stray"))
	d.must(t, "key", "lost", "pontoon-crew")
	contains(t, "who of a lost key", d.must(t, "who", "pontoon-board"), "Only what nobody recorded lets people in",
		"Lost, and so no opener: pontoon-crew")
	has(t, "today of a lost key", d.reasonsOf(t, "instance", "pontoon-board"), "no-way-in", false)
	has(t, "today of a lost key", d.reasonsOf(t, "instance", "pontoon-board"), "way-in-unrecorded", true)
	contains(t, "access list of a lost key", d.must(t, "access", "list", "-key", "pontoon-crew"), "pontoon-crew (lost)")
	contains(t, "key show of a lost key", d.must(t, "key", "show", "pontoon-crew"), "pontoon-crew (lost)")
	contains(t, "key check of a lost key", d.must(t, "key", "check", filepath.Join(dir, "pontoon-crew")), "pontoon-crew (lost)")
}

// strayPair makes a pair by ssh-keygen, of which the ledger knows nothing.
func strayPair(t *testing.T, dir, name string) {
	t.Helper()
	sshKeygen(t, "-q", "-t", "ed25519", "-N", "", "-C", name, "-f", filepath.Join(dir, name))
}

// strayOnly is a folder with the stray key alone.
func strayOnly(t *testing.T, dir string) string {
	t.Helper()
	out := t.TempDir()
	for _, f := range []string{"stray", "stray.pub"} {
		text, err := os.ReadFile(filepath.Join(dir, f))
		mustDo(t, err)
		mustDo(t, os.WriteFile(filepath.Join(out, f), text, 0o600))
	}
	return out
}
