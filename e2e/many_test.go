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

// TestAccessMany: a key added by a tag, a second one for sole openers, a key
// withdrawn wherever it opens, and all that somebody who left had.
func TestAccessMany(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 93)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	dir, none := t.TempDir(), writeFile(t, "")
	d.must(t, "holder", "add", "fitter")
	for _, k := range []string{"wide-crew", "wide-second", "wide-fitter", "wide-guest"} {
		d.must(t, "key", "create", k, "-dir", dir, "-new-passphrase", none)
	}
	d.must(t, "key", "set", "wide-fitter", "-holder", "fitter")
	names := []string{"wide-1", "wide-2", "wide-3"}
	for n, name := range names {
		d.must(t, "instance", "launch", name, "-image", "debian-12", "-size", "small", "-region", "north-pier",
			"-key", "wide-crew", "-tag", "line=wide", "-tag", fmt.Sprint("berth=", n+1))
	}
	d.must(t, "instance", "stop", "-yes", "wide-3")
	text := func(name string) string {
		return mustRead(t, filepath.Join(shared.path("standin", "instances", d.instance(t, name).CloudID),
			"home/debian/.ssh/authorized_keys"))
	}
	opens := func(key string) (out []string) {
		t.Helper()
		var list wire.List[wire.Access]
		mustDo(t, json.Unmarshal([]byte(d.must(t, "access", "list", "-key", key, "-json")), &list))
		for _, a := range list.Items {
			out = append(out, a.Instance)
		}
		return out
	}

	// By a tag, with an end: the stopped one is taken when it is back.
	plan := d.must(t, "access", "add", "-tag", "line=wide", "-key", "wide-guest", "-for", "8h", "-plan")
	contains(t, "the plan", plan, "wide-1", "wide-2", "it is stopped: it is taken when it is back",
		"Nothing was changed")
	out := d.must(t, "access", "add", "-tag", "line=wide", "-key", "wide-guest", "-for", "8h", "-reason",
		"mends the barriers", "-yes")
	contains(t, "add -tag", out, "2 instances opened by wide-guest", "1 instance out of reach", "wide-3 (it to be back")
	if !strings.Contains(text("wide-1"), `expiry-time="`) || strings.Contains(text("wide-3"), "expiry-time") {
		t.Errorf("the files:\n%s\n%s", text("wide-1"), text("wide-3"))
	}
	d.must(t, "instance", "start", "wide-3")
	waitFor(t, "the one that is back", func() bool {
		return strings.Contains(text("wide-3"), `expiry-time="`) &&
			len(opens("wide-guest")) == 3
	})

	// A second key for sole openers. The guest has an end, and counts all the same as recorded: withdraw it first.
	d.must(t, "access", "remove", "-everywhere", "-key", "wide-guest", "-yes")
	waitFor(t, "the guest to be out", func() bool { return len(opens("wide-guest")) == 0 })
	rests := func() {
		waitFor(t, "rest", func() bool {
			return !strings.Contains(d.must(t, "work", "list", "-state", "open"),
				"wide-")
		})
	}
	rests()
	d.must(t, "access", "add", "wide-2", "-key", "wide-fitter")
	out = d.must(t, "access", "second", "-tag", "line=wide", "-key", "wide-second", "-yes")
	contains(t, "second", out, "2 instances opened by wide-second")
	if got := opens("wide-second"); len(got) != 2 || got[0] != "wide-1" || got[1] != "wide-3" {
		t.Errorf("a second key at %v", got)
	}
	contains(t, "nothing more", d.must(t, "access", "second", "-all", "-key", "wide-second", "-plan"),
		"There is no instance to do it on")

	rests()
	// Wherever it opens; where it is the last one it is counted out.
	d.must(t, "access", "remove", "-yes", "wide-2", "-key", "wide-crew")
	r := d.client(t, "", "access", "remove", "-everywhere", "-key", "wide-fitter", "-yes")
	if r.code != 1 || !strings.Contains(r.err, "nobody would get into 1 instance any more") ||
		!strings.Contains(r.err, "-cut-off 1") || !strings.Contains(r.out, "NOBODY GETS IN") {
		t.Errorf("the last way in: %+v", r)
	}
	if r := d.api(t, "POST", "/api/v1/access/many",
		`{"do":"remove","key":"wide-fitter","cut_off":2}`); r.status != 422 ||
		!strings.Contains(r.body, "1 instance any more, and 2 was counted out") {
		t.Errorf("another number: %+v", r)
	}
	rests()
	// Who left: what that one had is withdrawn, with a report.
	d.must(t, "access", "add", "wide-1", "-key", "wide-fitter")
	r = d.client(t, "", "holder", "left", "fitter", "-yes", "-withdraw")
	if r.code != 1 || !strings.Contains(r.err, "nobody would get into 1 instance any more") {
		t.Errorf("left: %+v", r)
	}
	out = d.must(t, "access", "remove", "-holder", "fitter", "-cut-off", "1", "-reason", "fitter left", "-yes")
	contains(t, "left", out, "2 instances rid of it")
	waitFor(t, "the ledger", func() bool { return len(opens("wide-fitter")) == 0 })
	for _, name := range names {
		if strings.Contains(text(name), "wide-fitter") {
			t.Errorf("still at %s", name)
		}
	}
	has(t, "cut off", d.reasonsOf(t, "instance", "wide-2"), "no-way-in", true)
}

// TestWord: large work waits for another operator's word, or for a signature.
func TestWord(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 94)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	dir, none := t.TempDir(), writeFile(t, "")
	for _, k := range []string{"word-guest", "word-own", "word-other"} {
		d.must(t, "key", "create", k, "-dir", dir, "-new-passphrase", none)
	}
	for _, name := range []string{"word-1", "word-2"} {
		d.must(t, "instance", "launch", name, "-image", "debian-12", "-size", "small", "-region", "north-pier",
			"-key", s.key, "-tag", "line=word", "-tag", "env=prod")
	}
	second := *d
	second.token = anotherOperator(t, d, "second-lead")
	add := func() string {
		var w wire.Work
		mustDo(t, json.Unmarshal([]byte(d.must(t, "access", "add", "-tag", "line=word", "-key", "word-guest", "-for",
			"1h", "-yes", "-detach", "-json")), &w))
		return fmt.Sprint(w.ID)
	}
	waits := func(id, what string) {
		t.Helper()
		waitFor(t, what, func() bool { return strings.Contains(d.must(t, "work", "show", id), what) })
	}
	begins := func(id string) {
		t.Helper()
		waitFor(t, "work "+id, func() bool {
			return strings.Count(d.must(t, "access", "list", "-key", "word-guest"),
				"accepted") == 2
		})
		d.must(t, "work", "cancel", id)
		waitFor(t, "the end of "+id, func() bool {
			return !strings.Contains(d.must(t, "access", "list", "-key",
				"word-guest"), "word-1")
		})
	}
	d.must(t, "policy", "set", writeFile(t, "word:\n  over: 1\n  by: second\n"))
	contains(t, "said beforehand", d.must(t, "access", "add", "-tag", "line=word", "-key", "word-guest", "-plan"),
		"asks for a word before this begins (word.by: second)")
	id := add()
	waits(id, "another operator's word")
	if r := d.client(t, "", "work", "word", id); r.code != 1 || !strings.Contains(r.err, "another operator's") {
		t.Errorf("one's own word: %+v", r)
	}
	contains(t, "another's", second.must(t, "work", "word", id), "begins")
	begins(id)

	d.must(t, "policy", "set", writeFile(t, "word:\n  over: 1\n  by: signature\n"))
	id = add()
	waits(id, "a signature by first-admin")
	if r := second.client(t, "", "work", "word", id); r.code != 1 ||
		!strings.Contains(r.err, "asks for a signature by first-admin") {
		t.Errorf("another's word: %+v", r)
	}
	if r := d.client(t, "", "work", "word", id, "-identity", filepath.Join(dir, "word-own")); r.code != 1 ||
		!strings.Contains(r.err, "operator key first-admin -add") {
		t.Errorf("a key of nobody's: %+v", r)
	}
	d.must(t, "operator", "key", "first-admin", "-add", "word-own")
	if r := second.client(t, "", "operator", "key", "second-lead", "-add", "word-other"); r.code != 1 {
		t.Errorf("an operator sets a key: %+v", r)
	}
	if r := d.client(t, "", "work", "word", id, "-identity", filepath.Join(dir, "word-other")); r.code != 1 ||
		!strings.Contains(r.err, "not a signature of this work's text") {
		t.Errorf("another key: %+v", r)
	}
	contains(t, "signed", d.must(t, "work", "word", id, "-identity", filepath.Join(dir, "word-own")),
		"begins", "instances 2 ")
	begins(id)
	// By the agent, which has other keys besides.
	id = add()
	waits(id, "a signature by first-admin")
	socket := crowdedAgent(t, 1)
	signs := *d
	signs.env = []string{"SSH_AUTH_SOCK=" + socket}
	if r := signs.client(t, "", "work", "word", id, "-ssh-agent"); r.code != 1 ||
		!strings.Contains(r.err, "next: ssh-add") {
		t.Errorf("an agent without the key: %+v", r)
	}
	load := exec.Command("ssh-add", "-q", filepath.Join(dir, "word-own"))
	load.Env = append(os.Environ(), signs.env...)
	mustDo(t, load.Run())
	contains(t, "signed by the agent", signs.must(t, "work", "word", id, "-ssh-agent"), "begins")
	begins(id)
	// A signature of other work is none of this.
	id = add()
	waits(id, "a signature by first-admin")
	d.must(t, "operator", "key", "first-admin", "-remove", "word-own")
	if r := d.client(t, "", "work", "word", id, "-identity", filepath.Join(dir, "word-own")); r.code != 1 {
		t.Errorf("a key that signs no longer: %+v", r)
	}
	d.must(t, "work", "cancel", id)
	contains(t, "journal", d.must(t, "journal", "list"), "work.word", "operator.key")

	// Who may share access where.
	d.must(t, "policy", "set", writeFile(t, "access:\n  who: [{tag: env=prod, operators: [second-lead]}]\n"))
	if r := d.client(t, "", "access", "add", "word-1", "-key", "word-guest"); r.code != 1 ||
		!strings.Contains(r.err, "only second-lead") || !strings.Contains(r.err, "access.who") {
		t.Errorf("somebody else shares: %+v", r)
	}
	second.must(t, "access", "add", "word-1", "-key", "word-guest")
	if r := d.client(t, "", "access", "add", "-tag", "line=word", "-key", "word-other", "-yes"); r.code != 1 ||
		!strings.Contains(r.err, "only second-lead") {
		t.Errorf("many: %+v", r)
	}
	// An age of its own, by tag.
	d.must(t, "policy", "set", writeFile(t, "rotation:\n  age: 365d\n  ages: [{tag: env=prod, age: 1s}]\n"))
	time.Sleep(time.Second)
	contains(t, "due by tag", d.must(t, "rotate", "many", "-due", "-new", "word-other", "-plan"), "word-2")
	d.must(t, "policy", "set", writeFile(t, "rotation:\n  age: 1s\n  ages: [{tag: env=prod, age: 0}]\n"))
	contains(t, "never due by tag", d.must(t, "rotate", "many", "-due", "-new", "word-other", "-plan"), "There is no instance")
}

// TestExposed: contained where that cuts nobody off, replaced everywhere at once,
// what else is there is listed, and the host keys are doubtful.
func TestExposed(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 95)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	dir, none := t.TempDir(), writeFile(t, "")
	for _, k := range []string{"leak-old", "leak-new", "leak-mate"} {
		d.must(t, "key", "create", k, "-dir", dir, "-new-passphrase", none)
	}
	names := []string{"leak-1", "leak-2", "leak-3"}
	for _, name := range names {
		d.must(t, "instance", "launch", name, "-image", "debian-12", "-size", "small", "-region", "north-pier",
			"-key", "leak-old")
	}
	d.must(t, "access", "add", "leak-1", "-key", "leak-mate")
	d.must(t, "instance", "stop", "-yes", "leak-3")
	file := func(name string) string {
		return filepath.Join(shared.path("standin", "instances", d.instance(t, name).CloudID),
			"home/debian/.ssh/authorized_keys")
	}
	visitor := newPublic(t)
	d.must(t, "open", "leak-2", "-identity", filepath.Join(dir, "leak-old"), "--", "echo '"+visitor+
		"' >> .ssh/authorized_keys")
	d.surveyOf(t, "leak-2")
	if r := d.client(t, "", "rotate", "exposed", "leak-old", "-new", "leak-new", "-plan"); r.code != 0 ||
		!strings.Contains(r.out, "What follows if leak-old is exposed") || !strings.Contains(r.out, "Nothing was changed.") {
		t.Errorf("a plan: %+v", r)
	}
	if r := d.client(t, "", "rotate", "many", "leak-old", "-new", "leak-new", "-end-sessions"); r.code != 2 {
		t.Errorf("-end-sessions alone: %+v", r)
	}
	out := d.must(t, "rotate", "exposed", "leak-old", "-new", "leak-new", "-contain", "127.0.0.0/8",
		"-dir", dir, "-yes")
	contains(t, "exposed", out, "2 instances shown to work", "1 instance out of reach", "leak-3",
		"Keys there that nobody wrote down", strings.Fields(visitor)[2], "host keys of these instances are doubtful",
		"-end-sessions ends them")
	contains(t, "contained", out, "taken from 127.0.0.0/8 alone until it was replaced",
		"not contained before it was replaced: this would leave no way in")
	for _, name := range names[:2] {
		if text := mustRead(t, file(name)); strings.Contains(text, "leak-old") || strings.Contains(text, "from=") ||
			!strings.Contains(text, "leak-new") {
			t.Errorf("%s:\n%s", name, text)
		}
	}
	// What is out of reach stays on today, first of all; the host keys, until somebody took them.
	if m := d.todayOf(t).Items; len(m) == 0 || m[0].Urgency != "now" {
		t.Errorf("today: %+v", m)
	}
	has(t, "out of reach", d.reasonsOf(t, "instance", "leak-3"), "exposed-key-opens", true)
	has(t, "doubtful", d.reasonsOf(t, "instance", "leak-1"), "host-key-doubtful", true)
	contains(t, "the host key", d.must(t, "instance", "host-key", "leak-1"), "doubtful")
	var state wire.HostKeyState
	mustDo(t, json.Unmarshal([]byte(d.must(t, "instance", "host-key", "leak-1", "-json")), &state))
	d.must(t, "instance", "host-key", "leak-1", "-accept", state.Offered.Fingerprint, "-yes")
	has(t, "taken again", d.reasonsOf(t, "instance", "leak-1"), "host-key-doubtful", false)
	waitFor(t, "its turn to start", func() bool { // it is looked at now and then, as it is out of reach
		return d.client(t, "", "instance", "start", "leak-3").code == 0
	})
	waitFor(t, "the one that is back", func() bool {
		return !strings.Contains(mustRead(t, file("leak-3")),
			"leak-old")
	})
}

// TestStewardDue: the service replaces its own keys at the policy's age, by itself.
func TestStewardDue(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 96)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	d.launchBoard(t, "own-1", s.key)
	db := s.connect(t)
	blob := func() (out string) {
		mustDo(t, db.QueryRow(t.Context(),
			"SELECT encode(blob, 'base64') FROM steward_keys k JOIN instances i ON i.id = k.instance_id WHERE "+
				"i.name = 'own-1'").Scan(&out))
		return out
	}
	before := blob()
	contains(t, "asked for", d.must(t, "instance", "steward-key", "own-1"),
		"the steward has another key; the one before is withdrawn, and refused")
	asked := blob()
	if asked == before {
		t.Error("it is the same key")
	}
	d.surveyOf(t, "own-1")
	// By itself: nothing is due, then everything is; once a day is the most it is tried.
	cmd := s.command("serve", "-listen", fmt.Sprintf("127.0.0.1:%d", freePorts(1)), "-surveys", "1")
	mustDo(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	_, err := db.Exec(t.Context(), "UPDATE steward_keys SET placed_at = now() - interval '100 days'; UPDATE work "+
		"SET created_at = created_at - interval '2 days' WHERE kind = 'steward'")
	mustDo(t, err)
	waitFor(t, "the steward's next key", func() bool { return blob() != asked })
	waitFor(t, "the end of it", func() bool {
		return strings.Contains(d.must(t, "work", "list"), "the steward has another key")
	})
	has(t, "today", d.reasonsOf(t, "instance", "own-1"), "survey-failed", false)
	if r := d.client(t, "", "open", "own-1", "-identity", filepath.Join(s.dir, s.key), "--", "true"); r.code != 0 {
		t.Errorf("open: %+v", r)
	}
}

// anotherOperator adds an operator, and returns a token of theirs.
func anotherOperator(t *testing.T, d *demo, name string) string {
	t.Helper()
	var o struct{ Password string }
	mustDo(t, json.Unmarshal([]byte(d.must(t, "operator", "add", name, "-role", "operator", "-json")), &o))
	plain := &demo{dir: d.dir, url: d.url}
	in := plain.api(t, "POST", "/api/v1/session", mustJSON(t, wire.Credentials{Operator: name, Password: o.Password}),
		"Origin", d.url)
	cookie, _, _ := strings.Cut(in.header.Get("Set-Cookie"), ";")
	tok := plain.api(t, "POST", "/api/v1/tokens", `{"name":"t","role":"","seconds":3600}`, "Cookie",
		cookie, "Origin", d.url)
	return tok.field(t, "token")
}
