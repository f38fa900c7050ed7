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
	contains(t, "key check", d.client(t, "", "key", "check", filepath.Join(dir, "stray")).out, "(not recorded)", "pontoon-board")
	contains(t, "open", d.must(t, "open", "pontoon-board", "-dir", strayOnly(t, dir), "--", "hostname"), "pontoon-board")

	// It is withdrawn in one command, without being recorded first; the recorded key stays.
	contains(t, "withdrawn", d.must(t, "access", "remove", "-yes", "pontoon-board", "-key", filepath.Join(dir, "stray")), "withdrawn")
	text, err := os.ReadFile(file)
	mustDo(t, err)
	if strings.Contains(string(text), strings.Fields(public("stray"))[1]) ||
		!strings.Contains(string(text), strings.Fields(public("pontoon-crew"))[1]) {
		t.Errorf("after the withdrawal there stands:\n%s", text)
	}
	contains(t, "opens what was withdrawn", d.must(t, "opens", fingerprint), "It opens nothing", "It stood there once")
	if r := d.client(t, "", "access", "remove", "-yes", "pontoon-board", "-key", fingerprint); r.code == 0 {
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
	contains(t, "key check of a lost key", d.client(t, "", "key", "check", filepath.Join(dir, "pontoon-crew")).out, "pontoon-crew (lost)")
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

// TestRecordMany: what surveys found is recorded in one go, under names from the comments; one key is
// recorded wherever it stands, and withdrawn wherever it stands though nobody ever recorded it.
func TestRecordMany(t *testing.T) {
	t.Parallel()
	d, dir := shared, t.TempDir()
	for _, k := range []string{"slip-crew", "slip-mate"} {
		d.must(t, "key", "create", k, "-dir", dir)
	}
	strayPair(t, dir, "slip-fitter")
	strayPair(t, dir, "slip-intruder")
	public := func(name string) string {
		t.Helper()
		text, err := os.ReadFile(filepath.Join(dir, name+".pub"))
		mustDo(t, err)
		return strings.TrimSpace(string(text))
	}
	boards := []string{"slip-board-1", "slip-board-2"}
	for _, name := range boards {
		d.must(t, "instance", "launch", name, "-image", "debian-12", "-size", "small", "-region", "north-pier", "-key",
			"slip-crew", "-tag", "line=slip")
		file := filepath.Join(d.disk(t, name), "home/debian/.ssh/authorized_keys")
		text, err := os.ReadFile(file)
		mustDo(t, err)
		mustDo(t, os.WriteFile(file, []byte(string(text)+public("slip-fitter")+"\n"+public("slip-intruder")+"\n"), 0o600))
		d.must(t, "survey", name, "-inside")
	}
	intruder := strings.Fields(sshKeygenLine(t, public("slip-intruder")))[1]

	// The intruder's key goes from everywhere, unrecorded as it is.
	contains(t, "plan", d.must(t, "access", "remove", "-everywhere", "-key", intruder, "-plan"), boards...)
	d.must(t, "access", "remove", "-everywhere", "-key", filepath.Join(dir, "slip-intruder.pub"), "-yes")
	waitFor(t, "the end of the intruder", func() bool { return strings.Contains(d.must(t, "opens", intruder), "It opens nothing") })
	for _, name := range boards {
		text, err := os.ReadFile(filepath.Join(d.disk(t, name), "home/debian/.ssh/authorized_keys"))
		mustDo(t, err)
		if strings.Contains(string(text), strings.Fields(public("slip-intruder"))[1]) ||
			!strings.Contains(string(text), strings.Fields(public("slip-fitter"))[1]) {
			t.Errorf("%s: there stands\n%s", name, text)
		}
	}

	// The rest is recorded, once somebody has said yes.
	if r := d.client(t, "", "access", "record", "-tag", "line=slip"); r.code == 0 || !strings.Contains(r.err, "Record 1 key on 2 instances?") {
		t.Errorf("without a yes: %+v", r)
	}
	if r := d.client(t, "", "access", "list", "-key", "slip-fitter"); r.code == 0 && strings.Contains(r.out, "slip-board") {
		t.Errorf("recorded without a yes: %+v", r)
	}
	contains(t, "record", d.must(t, "access", "record", "-tag", "line=slip", "-yes"), "2 of 2 recorded", "plumlatch key set slip-fitter -holder NAME")
	contains(t, "recorded", d.must(t, "access", "list", "-key", "slip-fitter"), boards...)
	contains(t, "again", d.must(t, "access", "record", "-tag", "line=slip", "-yes"), "No survey found a key there that nobody recorded")

	// One recorded key, wherever it stands.
	for _, name := range boards {
		file := filepath.Join(d.disk(t, name), "home/debian/.ssh/authorized_keys")
		text, err := os.ReadFile(file)
		mustDo(t, err)
		mustDo(t, os.WriteFile(file, []byte(string(text)+public("slip-mate")+"\n"), 0o600))
		d.must(t, "survey", name, "-inside")
	}
	contains(t, "everywhere", d.must(t, "access", "record", "-everywhere", "slip-mate", "-yes"), "2 of 2 recorded")
	contains(t, "mate opens", d.must(t, "opens", "slip-mate"), "On record, it opens 2 instances")

	// An authority is recorded as that: named with its holder, and put on no instance.
	strayPair(t, dir, "slip-authority")
	file := filepath.Join(d.disk(t, boards[0]), "home/debian/.ssh/authorized_keys")
	text, err := os.ReadFile(file)
	mustDo(t, err)
	mustDo(t, os.WriteFile(file, []byte(string(text)+`cert-authority,principals="deck,bridge" `+public("slip-authority")+"\n"), 0o600))
	d.must(t, "survey", boards[0], "-inside")
	d.must(t, "holder", "add", "slip-office", "-sort", "team")
	contains(t, "import", d.must(t, "key", "import", "slip-ca", filepath.Join(dir, "slip-authority.pub"), "-authority", "-holder", "slip-office"),
		"authority (ed25519)", "Trusted as a certificate authority")
	contains(t, "who", d.must(t, "who", boards[0]), "a certificate authority (slip-ca, held by slip-office)", "principals deck,bridge")
	contains(t, "key list", d.must(t, "key", "list", "-kind", "authority"), "slip-ca")
	if r := d.client(t, "", "access", "add", boards[1], "-key", "slip-ca"); r.code == 0 || !strings.Contains(r.err, "certificate authority") {
		t.Errorf("an authority was added as a key: %+v", r)
	}
	// Its line is taken by the same command, as somebody else is shown to get in.
	d.must(t, "key", "prove", "slip-crew", "-identity", filepath.Join(dir, "slip-crew"))
	contains(t, "authority withdrawn", d.must(t, "access", "remove", boards[0], "-key", "slip-ca", "-yes"), "withdrawn")
	if out := d.must(t, "who", boards[0]); strings.Contains(out, "another door: a certificate authority") {
		t.Errorf("after it was withdrawn: %s", out)
	}
}

// TestNextOpener: what today says of a sole opener, copied, asks which key is to be the second one, and
// names those that can be; with one of them it is done.
func TestNextOpener(t *testing.T) {
	t.Parallel()
	d, dir := shared, t.TempDir()
	for _, k := range []string{"spar-crew", "spar-mate"} {
		d.must(t, "key", "create", k, "-dir", dir)
	}
	d.launchBoard(t, "spar-board", "spar-crew")
	r := d.client(t, "", "access", "second", "spar-board")
	if r.code != 1 || !strings.Contains(r.out, "spar-mate") || strings.Contains(r.out, "spar-crew") ||
		!strings.Contains(r.err, "the same command with -key") {
		t.Fatalf("%+v", r)
	}
	contains(t, "second", d.must(t, "access", "second", "spar-board", "-key", "spar-mate"), "spar-mate opens spar-board")
	has(t, "today", d.reasonsOf(t, "instance", "spar-board"), "sole-opener", false)

	// What takes a way in away asks once, with what is left.
	r = d.client(t, "", "access", "remove", "spar-board", "-key", "spar-mate")
	if r.code != 1 || !strings.Contains(r.out, "is withdrawn") || !strings.Contains(r.out, "opens it still") ||
		!strings.Contains(r.err, "Withdraw spar-mate from spar-board?") {
		t.Errorf("%+v", r)
	}
	if r = d.client(t, "", "instance", "stop", "spar-board"); r.code != 1 || !strings.Contains(r.err, "Stop spar-board") {
		t.Errorf("%+v", r)
	}
	// A name that there is not has its neighbours named, and no others.
	if r = d.client(t, "", "who", "spar-bord"); r.code != 1 || !strings.Contains(r.err, "near it: spar-board") {
		t.Errorf("%+v", r)
	}
	if r = d.client(t, "", "access", "add", "spar-board", "-key", "spar-mat"); r.code != 1 || !strings.Contains(r.err, "spar-mate") ||
		strings.Contains(r.err, "day-crew") {
		t.Errorf("%+v", r)
	}
	// What is refused because nobody has shown the other key's private half names the way to show it.
	strayPair(t, dir, "spar-silent")
	d.must(t, "holder", "add", "spar-bosun")
	d.must(t, "key", "import", "spar-silent", filepath.Join(dir, "spar-silent.pub"), "-holder", "spar-bosun")
	d.launchBoard(t, "spar-two", "spar-crew", "spar-silent")
	if r = d.client(t, "", "access", "remove", "spar-two", "-key", "spar-crew", "-yes"); r.code != 1 ||
		!strings.Contains(r.err, "next: plumlatch key prove spar-silent -identity FILE") {
		t.Errorf("%+v", r)
	}
	d.must(t, "key", "prove", "spar-silent", "-identity", filepath.Join(dir, "spar-silent"))
	contains(t, "then", d.must(t, "access", "remove", "spar-two", "-key", "spar-crew", "-yes"), "withdrawn")

	// A plan needs nothing that is not made yet.
	contains(t, "plan", d.must(t, "rotate", "spar-board", "-old", "spar-crew", "-plan"), "(a new pair) in the place of spar-crew",
		"Nothing was changed")
	contains(t, "plan of an exposed one", d.must(t, "rotate", "exposed", "spar-crew", "-plan"), "spar-board")
}
