package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"plumlatch/core/wire"
)

// TestCloudKeys: the cloud's own lists of keys, read, added to and taken out of, set against the ledger, the files of
// this machine and the instances that bear a label.
func TestCloudKeys(t *testing.T) {
	t.Parallel()
	own := ownCloud(t) // the lists belong to the whole cloud: other tests put keys there
	s := newSlotOn(t, 142, own)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	dir, none := t.TempDir(), writeFile(t, "")
	for _, name := range []string{"night-tally", "day-tally", "berth-tally"} {
		d.must(t, "key", "create", name, "-dir", dir, "-new-passphrase", none)
	}
	lists := func(more ...string) (out wire.KeyLists) {
		t.Helper()
		mustDo(t, json.Unmarshal([]byte(d.must(t, append([]string{"cloud-key", "list", "-json"}, more...)...)), &out))
		return out
	}
	listed := func(region, name, file string) {
		t.Helper()
		line, err := os.ReadFile(file)
		mustDo(t, err)
		text, err := json.Marshal(string(line))
		mustDo(t, err)
		mustDo(t, standinCallAt(own, "POST", "/v1/key-entries", fmt.Sprintf(`{"client_token":"by-hand-%s-%s","region":%q,"name":%q,"public_key":%s}`,
			region, name, region, name, text), nil))
	}
	refused := func(what, words string, args ...string) {
		t.Helper()
		if r := d.client(t, "", args...); r.code == 0 || !strings.Contains(r.err+r.out, words) {
			t.Errorf("%s: %+v", what, r)
		}
	}
	// By somebody else: one of the ledger's keys under another name, an RSA key that lies on this machine, and nobody's.
	listed("north-pier", "berth-2024", filepath.Join(dir, "berth-tally.pub"))
	rsa := filepath.Join(dir, "old-rsa")
	for _, file := range []string{rsa, filepath.Join(t.TempDir(), "nobody")} {
		if out, err := exec.Command("ssh-keygen", "-q", "-t", "rsa", "-b", "2048", "-N", "", "-f", file).CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
		listed("north-pier", filepath.Base(file), file+".pub")
	}
	out := d.must(t, "cloud-key", "list", "-dir", dir, "-all")
	contains(t, "listed", out, "berth-2024", "berth-tally", rsa, "nobody", "no key of the ledger", "of 5000", "of 12",
		"berth-tally is listed in 1 of 3 regions.")
	contains(t, "some of it", d.must(t, "cloud-key", "list", "-dir", dir, "-region", "north-pier"), rsa, "berth-2024")

	// Up, twice; under a name that is taken; that differs by case; of a kind that it does not take.
	contains(t, "up", d.must(t, "cloud-key", "upload", "night-tally", "day-tally", "-everywhere"),
		"night-tally is listed as night-tally, new in north-pier, south-pier, skerry-island")
	contains(t, "twice", d.must(t, "cloud-key", "upload", "night-tally", "-everywhere"),
		"was already in north-pier, south-pier, skerry-island")
	prints := map[string]string{}
	for _, e := range lists().Entries {
		prints[e.Key] = e.SHA256
	}
	refused("another key", prints["berth-tally"], "cloud-key", "upload", "night-tally", "-name", "berth-2024", "-region", "north-pier")
	refused("another key", prints["night-tally"], "cloud-key", "upload", "night-tally", "-name", "berth-2024", "-region", "north-pier")
	refused("case", "differs from Night-Tally by case alone", "cloud-key", "upload", "night-tally", "-name", "Night-Tally", "-region", "south-pier")
	d.must(t, "key", "create", "curve-tally", "-kind", "ecdsa-256", "-dir", dir, "-new-passphrase", none)
	refused("a kind", "the cloud's lists take ssh-ed25519, ssh-rsa", "cloud-key", "upload", "curve-tally", "-everywhere")
	refused("a name", "the cloud takes no key called", "cloud-key", "upload", "berth-tally", "-name", "*", "-everywhere")
	refused("a region", "there is no region moon", "cloud-key", "upload", "berth-tally", "-region", "moon")
	refused("nowhere", "say where", "cloud-key", "upload", "berth-tally")
	refused("no key", "no recorded key", "cloud-key", "upload", "nobodys", "-everywhere")

	// A list that fills up: nearly, and whole; what was begun elsewhere is not left half done.
	for n := range 9 {
		file := filepath.Join(t.TempDir(), "filler")
		pairIn(t, file)
		listed("skerry-island", fmt.Sprintf("filler-%d", n), file+".pub")
	}
	contains(t, "nearly", d.must(t, "cloud-key", "list"), "11 of 12", "nearly full")
	listed("skerry-island", "berth-2025", filepath.Join(dir, "berth-tally.pub"))
	refused("full", "skerry-island is full: it holds 12 of 12", "cloud-key", "upload", "berth-tally", "-everywhere")
	if n := len(lists("-region", "south-pier").Entries); n != 2 {
		t.Errorf("%d keys of the ledger are listed in south-pier, and not 2", n)
	}

	// Launched with an entry: the cloud places it; what it is stays the cloud's word until a survey has seen it.
	refused("no entry", "has no key of this name", "instance", "launch", "tally-board-0", "-image", "debian-12", "-size", "small", "-region",
		"south-pier", "-key", "cloud:berth-2024")
	plan := d.client(t, "", "instance", "launch", "tally-board-1", "-image", "debian-12", "-size", "small", "-region", "south-pier",
		"-key", "cloud:day-tally", "-plan")
	contains(t, "plan", plan.err, "day-tally is placed by the cloud; the cloud says that it is day-tally, until a survey has seen it")
	d.must(t, "instance", "launch", "tally-board-1", "-image", "debian-12", "-size", "small", "-region", "south-pier", "-key",
		"cloud:day-tally")
	i := d.instance(t, "tally-board-1")
	if i.Keys != 0 || i.KeyLabel != "day-tally" {
		t.Errorf("by the ledger %d keys open it, its label is %s", i.Keys, i.KeyLabel)
	}
	d.must(t, "survey", "tally-board-1", "-inside")
	contains(t, "who", d.must(t, "who", "tally-board-1"), "day-tally", "plumlatch access record tally-board-1 day-tally")
	d.must(t, "access", "record", "tally-board-1", "day-tally")
	if out := d.must(t, "open", "tally-board-1", "-identity", filepath.Join(dir, "day-tally"), "--", "hostname"); strings.TrimSpace(out) !=
		"tally-board-1" {
		t.Errorf("the real ssh: %s", out)
	}
	contains(t, "its label", d.must(t, "cloud-key", "list"), "1: tally-board-1")

	// Lost, exposed or retired, and still listed.
	d.must(t, "key", "lost", "night-tally")
	has(t, "still listed", d.reasonsOf(t, "key", "night-tally"), "key-still-listed", true)
	refused("a lost one", "night-tally is lost", "cloud-key", "upload", "night-tally", "-everywhere")
	refused("launched with it", "it is night-tally, which is lost", "instance", "launch", "tally-board-2", "-image", "debian-12", "-size",
		"small", "-region", "south-pier", "-key", "cloud:night-tally")
	refused("which lists", "stands in 3 lists", "cloud-key", "remove", "night-tally", "-yes")
	refused("nobody was asked", "1 instance bear", "cloud-key", "remove", "day-tally", "-region", "south-pier")
	contains(t, "out", d.must(t, "cloud-key", "remove", "night-tally", "-everywhere", "-yes"),
		"night-tally is out of north-pier, south-pier, skerry-island")
	has(t, "out", d.reasonsOf(t, "key", "night-tally"), "key-still-listed", false)
	refused("gone", "no list has night-tally", "cloud-key", "remove", "night-tally", "-everywhere", "-yes")

	// An entry whose fingerprint lies is what its public half says.
	var lie wire.KeyEntry
	for _, e := range lists().Entries {
		if e.Name == "berth-2024" {
			lie = e
		}
	}
	mustDo(t, standinCallAt(own, "POST", "/v1/key-entries/"+lie.ID+"/misprint", fmt.Sprintf(`{"fingerprint":%q}`, prints["day-tally"]), nil))
	contains(t, "it lies", d.must(t, "cloud-key", "list"), "its fingerprint lies", "and the key that it lists is "+prints["berth-tally"])
	contains(t, "by key", d.must(t, "cloud-key", "remove", "berth-tally", "-everywhere", "-yes"), "berth-tally is out of north-pier, skerry-island")

	// Keys that the cloud's own agent places on an instance, again and again: a withdrawal takes the entry off first.
	d.must(t, "key", "create", "pinned", "-dir", dir, "-new-passphrase", none)
	line, err := os.ReadFile(filepath.Join(dir, "pinned.pub"))
	mustDo(t, err)
	text, err := json.Marshal(string(line))
	mustDo(t, err)
	mustDo(t, standinCallAt(own, "POST", "/v1/placed-keys", fmt.Sprintf(`{"client_token":"pin","instance":%q,"user":"debian","name":"crane fitter",
		"public_key":%s}`, i.CloudID, text), nil))
	logsIn := func() bool {
		return d.client(t, "", "open", "tally-board-1", "-identity", filepath.Join(dir, "pinned"), "--", "true").code == 0
	}
	waitFor(t, "the agent has placed it", logsIn)
	contains(t, "placed", d.must(t, "cloud-key", "list", "-instance", "tally-board-1"), "crane fitter", "pinned", "debian",
		"takes the entry off first")
	d.must(t, "survey", "tally-board-1", "-inside")
	out = d.must(t, "access", "remove", "tally-board-1", "-key", "pinned", "-yes")
	contains(t, "withdrawn", out, "pinned is withdrawn from tally-board-1")
	var works wire.List[wire.Work]
	mustDo(t, json.Unmarshal([]byte(d.must(t, "work", "list", "-kind", "access-remove", "-limit", "1", "-json")), &works))
	contains(t, "what was done", d.must(t, "work", "follow", fmt.Sprint(works.Items[0].ID))+d.client(t, "", "work", "follow",
		fmt.Sprint(works.Items[0].ID)).err, "that entry is taken off")
	time.Sleep(time.Second) // the agent has looked since
	if logsIn() {
		t.Error("it is there again")
	}
	contains(t, "none", d.must(t, "cloud-key", "list", "-instance", "tally-board-1"), "places no key there")
	// One for the whole project is kept for each instance by itself before it is taken off one: others keep it.
	d.must(t, "instance", "launch", "tally-board-3", "-image", "debian-12", "-size", "small", "-region", "north-pier", "-key", "cloud:day-tally")
	mustDo(t, standinCallAt(own, "POST", "/v1/placed-keys", fmt.Sprintf(`{"client_token":"pin-all","instance":"","user":"debian","name":"for all",
		"public_key":%s}`, text), nil))
	onThird := func() bool {
		return d.client(t, "", "open", "tally-board-3", "-identity", filepath.Join(dir, "pinned"), "--", "true").code == 0
	}
	waitFor(t, "the agent has placed it on both", func() bool { return logsIn() && onThird() })
	contains(t, "for all", d.must(t, "cloud-key", "list", "-instance", "tally-board-1"), "every instance of the project")
	for _, name := range []string{"tally-board-1", "tally-board-3"} {
		d.must(t, "survey", name, "-inside")
	}
	d.must(t, "access", "record", "tally-board-3", "pinned")
	d.must(t, "survey", "tally-board-3", "-outside")
	r := d.client(t, "", "access", "remove", "tally-board-1", "-key", "pinned", "-yes")
	contains(t, "off the project", r.out+r.err, "pinned is withdrawn from tally-board-1")
	mustDo(t, json.Unmarshal([]byte(d.must(t, "work", "list", "-kind", "cloud-key-split", "-limit", "1", "-json")), &works))
	contains(t, "what was done", works.Items[0].Outcome, "keeps for all for each of 2 instances by itself", "one that is launched later does not get it")
	time.Sleep(time.Second) // the agent has looked since
	if logsIn() || !onThird() {
		t.Errorf("pinned opens tally-board-1: %t; tally-board-3: %t", logsIn(), onThird())
	}
	contains(t, "none", d.must(t, "cloud-key", "list", "-instance", "tally-board-1"), "places no key there")
	contains(t, "its own", d.must(t, "cloud-key", "list", "-instance", "tally-board-3"), "for all", "tally-board-3")

	// A list that cannot be read says so, and what others hold is shown all the same.
	mustDo(t, standinCallAt(own, "POST", "/v1/faults", `{"call":"key-entries","how":"fail","name":"south-pier","times":1}`, nil))
	contains(t, "not read", d.must(t, "cloud-key", "list"), "not read", "day-tally")
}

// TestPlaceKey: the cloud's own agent lets a key in, and access remove takes it off for good.
func TestPlaceKey(t *testing.T) {
	t.Parallel()
	own := ownCloud(t)
	s := newSlotOn(t, 149, own)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	l := &lostDoor{at: own, d: d, name: "place-board", lost: "place-first", new: "place-second", dir: t.TempDir(), none: writeFile(t, "")}
	for _, k := range []string{l.lost, l.new} {
		d.must(t, "key", "create", k, "-dir", l.dir, "-new-passphrase", l.none)
	}
	d.must(t, "instance", "launch", l.name, "-image", "debian-12", "-size", "small", "-region", "south-pier", "-key", l.lost)
	d.must(t, "key", "prove", l.lost, "-identity", filepath.Join(l.dir, l.lost))
	for what, args := range map[string][]string{"no key": {l.name}, "an unknown key": {l.name, "-key", "nobody"}, "one that opens it": {l.name, "-key", l.lost},
		"an unknown instance": {"nowhere", "-key", l.new}} {
		if r := d.client(t, "", append([]string{"cloud-key", "place"}, args...)...); r.code == 0 {
			t.Errorf("%s: %+v", what, r)
		}
	}
	contains(t, "placed", d.must(t, "cloud-key", "place", l.name, "-key", l.new, "-reason", "the steward is not there yet"), l.new+" opens "+l.name,
		"access remove "+l.name)
	if out, ok := l.ssh(t, l.new, "hostname"); !ok {
		t.Errorf("a login: %s", out)
	}
	contains(t, "listed", d.must(t, "cloud-key", "list", "-instance", l.name), l.new, "debian")
	contains(t, "who", d.must(t, "who", l.name), l.new)
	if r := d.client(t, "", "cloud-key", "place", l.name, "-key", l.new); r.code == 0 || !strings.Contains(r.err, "already") {
		t.Errorf("twice: %+v", r)
	}
	d.must(t, "access", "remove", l.name, "-key", l.new, "-yes")
	if out, ok := l.ssh(t, l.new, "true"); ok {
		t.Errorf("withdrawn, and let in: %s", out)
	}
	contains(t, "off", d.must(t, "cloud-key", "list", "-instance", l.name), "places no key there")
	d.must(t, "instance", "stop", l.name, "-yes")
	if r := d.client(t, "", "cloud-key", "place", l.name, "-key", l.new); r.code == 0 || !strings.Contains(r.err, "it is stopped") && !strings.Contains(r.err, "is stopped") {
		t.Errorf("stopped: %+v", r)
	}
}
