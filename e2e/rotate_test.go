package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"plumlatch/core/wire"
)

// TestRotateMany: waves, a failing instance in the second one, one that is
// stopped and taken when it is back, going on, and going back.
func TestRotateMany(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 79)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	dir, none := t.TempDir(), writeFile(t, "")
	for _, k := range []string{"many-old", "many-new", "many-next"} {
		d.must(t, "key", "create", k, "-dir", dir, "-new-passphrase", none)
	}
	names := []string{"many-1", "many-2", "many-3", "many-4", "many-5"}
	for _, name := range names {
		d.must(t, "instance", "launch", name, "-image", "debian-12", "-size", "small", "-region", "north-pier",
			"-key", "many-old", "-tag", "line=many")
	}
	d.must(t, "instance", "stop", "-yes", "many-5")
	file := func(name string) string {
		return filepath.Join(shared.path("standin", "instances", d.instance(t, name).CloudID),
			"home/debian/.ssh/authorized_keys")
	}
	before := map[string]string{}
	for _, name := range names {
		before[name] = mustRead(t, file(name))
	}
	hide := func(name string) { // a symbolic link is not edited
		t.Helper()
		mustDo(t, os.Rename(file(name), file(name)+".real"))
		mustDo(t, os.Symlink("authorized_keys.real", file(name)))
	}
	unhide := func(name string) { mustDo(t, os.Rename(file(name)+".real", file(name))) }
	opens := func(key string) map[string]bool {
		t.Helper()
		out := map[string]bool{}
		var list wire.List[wire.Access]
		mustDo(t, json.Unmarshal([]byte(d.must(t, "access", "list", "-key", key, "-json")), &list))
		for _, a := range list.Items {
			out[a.Instance] = a.Evidence == "accepted"
		}
		return out
	}

	// Shown first: which instance in which wave, what cannot be reached, who is sole.
	plan := d.must(t, "rotate", "many", "many-old", "-new", "many-new", "-waves", "50%", "-plan")
	contains(t, "the plan", plan, "Waves of 1, 2, 2;", "it is stopped: it is taken when it is back",
		"5 instances have one opener now, and one afterwards", "Nothing was changed")
	if r := d.client(t, "", "rotate", "many", "many-old", "-new", "many-new", "-waves", "50%", "-dir",
		dir); r.code != 1 || !strings.Contains(r.err, "Rotate on 5 instances, in 3 waves?") {
		t.Errorf("without -yes: %+v", r)
	}

	// A failure in the second wave: the third does not begin.
	hide("many-2")
	r := d.client(t, "", "rotate", "many", "many-old", "-new", "many-new", "-dir", dir, "-waves", "50%",
		"-grace", "1h", "-yes")
	if r.code != 1 {
		t.Fatalf("%+v", r)
	}
	contains(t, "a failure in the second wave", r.err, "wave 1 of 3: 1 shown to work",
		"wave 2 of 3: 1 shown to work, 1 failed", "symbolic link", "no further wave begins", "plumlatch work go-on")
	if got := opens("many-new"); !got["many-1"] || got["many-4"] || got["many-2"] || len(got) != 2 {
		t.Errorf("after the failure: %v", got)
	}
	var work int64
	_, after, _ := strings.Cut(r.err, "plumlatch work go-on ")
	_, err := fmt.Sscan(after, &work)
	mustDo(t, err)
	unhide("many-2")
	out := d.must(t, "work", "go-on", fmt.Sprint(work))
	contains(t, "going on", out, "3 instances shown to work", "1 instance out of reach")
	if got := opens("many-new"); len(got) != 3 || !got["many-4"] {
		t.Errorf("after going on: %v", got)
	}

	// Back, while the grace time lasts: every file byte for byte, and the old key opens.
	d.must(t, "work", "cancel", fmt.Sprint(work))
	for _, name := range names {
		if now := mustRead(t, file(name)); now != before[name] {
			t.Errorf("%s went back to\n%s\n--- before\n%s", name, now, before[name])
		}
	}
	if got := opens("many-new"); len(got) != 0 {
		t.Errorf("after going back: %v", got)
	}

	// Without grace, to the end; the stopped one when it is back.
	out = d.must(t, "rotate", "many", "-tag", "line=many", "-new", "many-next", "-dir", dir, "-waves", "5,100%",
		"-grace", "0", "-yes")
	contains(t, "without grace", out, "4 instances shown to work; 1 instance out of reach")
	waitFor(t, "the old key to be on record for the stopped one alone",
		func() bool { return len(opens("many-old")) == 1 })
	d.must(t, "instance", "start", "many-5")
	waitFor(t, "the one that is back", func() bool {
		return opens("many-next")["many-5"] &&
			len(opens("many-old")) == 0
	})
	for _, name := range names {
		waitFor(t, name, func() bool { return !strings.Contains(mustRead(t, file(name)), "many-old") })
	}
	contains(t, "nothing is left", d.must(t, "rotate", "many", "many-next", "-new", "many-next", "-plan"),
		"There is no instance to rotate it on")
	// What is due, with a pair of its own for each.
	d.must(t, "policy", "set", writeFile(t, "rotation:\n  age: 0\n"))
	if r := d.client(t, "", "rotate", "many", "-due", "-each", "-yes"); r.code == 0 ||
		!strings.Contains(r.err, "rotation.age") {
		t.Errorf("no age: %+v", r)
	}
	d.must(t, "policy", "set", writeFile(t, "rotation:\n  age: 1s\n"))
	time.Sleep(time.Second)
	out = d.must(t, "rotate", "many", "-due", "-each={instance}-own", "-dir", dir, "-new-passphrase", none,
		"-waves", "2,100%", "-grace", "0", "-yes")
	contains(t, "a pair for each", out, "Waves of 2, 3;", "5 instances shown to work")
	for _, name := range names {
		if got := opens(name + "-own"); len(got) != 1 || !got[name] {
			t.Errorf("%s-own opens %v", name, got)
		}
		d.must(t, "open", name, "-identity", filepath.Join(dir, name+"-own"), "--", "true")
	}
	// Paused before it begins anything.
	if r := d.client(t, "", "work", "pause", "1"); r.code != 1 ||
		!strings.Contains(r.err, "only a rotation of many") {
		t.Errorf("pausing a launch: %+v", r)
	}
}

// TestBadRotations: what is wrong is refused before anything is touched.
func TestBadRotations(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 80)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	dir, none := t.TempDir(), writeFile(t, "")
	for _, k := range []string{"bad-old", "bad-new", "bad-third"} {
		d.must(t, "key", "create", k, "-dir", dir, "-new-passphrase", none)
	}
	d.must(t, "key", "create", "bad-rsa", "-kind", "rsa-2048", "-dir", dir, "-new-passphrase", none)
	d.launchBoard(t, "bad-rot", "bad-old", "bad-third")
	file := filepath.Join(shared.path("standin", "instances", d.instance(t, "bad-rot").CloudID),
		"home/debian/.ssh/authorized_keys")
	before := mustRead(t, file)
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"bad-rot", "-new", "bad-new"}, "several keys open bad-rot: "},
		{[]string{"bad-rot", "-old", "bad-old", "-new", "bad-old"}, "the new key is the old one"},
		{[]string{"bad-rot", "-old", "nobody", "-new", "bad-new"}, "no recorded key"},
		{[]string{"bad-rot", "-old", "bad-old", "-new", "nobody"}, "no recorded key"},
		{[]string{"bad-rot", "-old", "bad-old", "-new", "bad-new", "-grace", "400d"}, "at most a year"},
		{[]string{"bad-rot", "-old", "bad-old", "-new", "bad-new", "-grace", "soon"}, "give a time such as"},
		{[]string{"nowhere", "-old", "bad-old", "-new", "bad-new"}, "there is no instance of this name"},
		{[]string{"many", "nobody", "-new", "bad-new", "-yes"}, "no recorded key"},
		{[]string{"many", "bad-old", "-new", "bad-new", "-waves", "0", "-yes"}, "numbers from 1"},
	} {
		if r := d.client(t, "", append([]string{"rotate"}, append(c.args, "-dir", dir)...)...); r.code == 0 ||
			!strings.Contains(r.err, c.want) {
			t.Errorf("%q: %d %s", c.args, r.code, r.err)
		}
	}
	d.must(t, "key", "lost", "bad-third")
	if r := d.client(t, "", "rotate", "bad-rot", "-old", "bad-old", "-new", "bad-third", "-dir", dir); r.code == 0 ||
		!strings.Contains(r.err, "is lost") {
		t.Errorf("a lost key: %+v", r)
	}
	d.must(t, "policy", "set", writeFile(t, "keys:\n  kinds: [ed25519]\n"))
	if r := d.client(t, "", "rotate", "bad-rot", "-old", "bad-old", "-new", "bad-rsa", "-dir", dir); r.code == 0 ||
		!strings.Contains(r.err, "keys.kinds") {
		t.Errorf("a kind that the policy refuses: %+v", r)
	}
	if r := d.client(t, "", "instance", "launch", "bad-launch", "-image", "debian-12", "-size", "small", "-region", "north-pier",
		"-key", "bad-rsa"); r.code == 0 || !strings.Contains(r.err, "keys.kinds") {
		t.Errorf("launched with a kind that the policy has not: %+v", r)
	}
	if r := d.client(t, "", "policy", "set", writeFile(t, "keys:\n  origins: [found]\n")); r.code == 0 ||
		!strings.Contains(r.err, "there is no \"found\"") {
		t.Errorf("an origin that there is not: %+v", r)
	}
	d.must(t, "policy", "set", writeFile(t, "keys:\n  origins: [imported]\n"))
	if r := d.client(t, "", "rotate", "bad-rot", "-old", "bad-old", "-new", "bad-new", "-dir", dir); r.code == 0 ||
		!strings.Contains(r.err, "keys.origins") {
		t.Errorf("of another origin than the policy has: %+v", r)
	}
	d.must(t, "policy", "set", writeFile(t, "keys:\n  kinds: [ed25519]\n"))
	if now := mustRead(t, file); now != before {
		t.Errorf("something was changed:\n%s", now)
	}

	// Two at once: the second is refused while the first waits for its proof, and the first goes back if it is told to.
	r := d.client(t, "", "rotate", "bad-rot", "-old", "bad-old", "-new", "bad-new", "-dir", t.TempDir())
	if r.code != 1 || !strings.Contains(r.err, "nobody has shown the new one's private half yet") {
		t.Fatalf("without the private half: %+v", r)
	}
	if r := d.client(t, "", "rotate", "bad-rot", "-old", "bad-old", "-new", "bad-new", "-dir", dir); r.code != 1 ||
		!strings.Contains(r.err, "is at hand with one of these keys on bad-rot") {
		t.Errorf("twice at once: %+v", r)
	}
	_, id, _ := strings.Cut(r.err, "plumlatch work cancel ")
	d.must(t, "work", "cancel", strings.Fields(id)[0])
	if now := mustRead(t, file); now != before {
		t.Errorf("cancelled, the file is\n%q\n--- before\n%q", now, before)
	}
	// The instance is gone in the middle: the work ends, and says so.
	began := d.client(t, "", "rotate", "bad-rot", "-old", "bad-old", "-new", "bad-new", "-dir", t.TempDir())
	_, id, _ = strings.Cut(began.err, "plumlatch work cancel ")
	d.must(t, "instance", "remove", "bad-rot", "-yes")
	d.must(t, "key", "prove", "bad-new", "-identity", filepath.Join(dir, "bad-new"))
	waitFor(t, "its end", func() bool {
		return strings.Contains(d.must(t, "work", "show", strings.Fields(id)[0]), "the instance is gone")
	})
}

// TestAccessRules: sharing with every term, what is refused, and what rule 1 keeps.
func TestAccessRules(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 81)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	dir, none := t.TempDir(), writeFile(t, "")
	for _, k := range []string{"rule-own", "rule-guest", "rule-old-guest"} {
		d.must(t, "key", "create", k, "-dir", dir, "-new-passphrase", none)
	}
	d.launchBoard(t, "rule-board", "rule-own")
	file := filepath.Join(shared.path("standin", "instances", d.instance(t, "rule-board").CloudID),
		"home/debian/.ssh/authorized_keys")
	guest, err := publicOf(filepath.Join(dir, "rule-guest.pub"))
	mustDo(t, err)
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"-key", "rule-own"}, "is recorded to open rule-board already"},
		{[]string{"-key", "rule-gust"}, "did you mean rule-guest?\nnext: plumlatch key show rule-guest"},
		{[]string{"-key", "rule-guest", "-until", "2020-01-01"}, "that time has passed"},
		{[]string{"-key", "rule-guest", "-for", "500d"}, "at most a year"},
		{[]string{"-key", "rule-guest", "-from", "10.0.0.1/8"}, "without host bits"},
		{[]string{"-key", "rule-guest", "-only", "a\nb"}, "printable"},
		{[]string{"-key", "rule-guest", "-user", "root"}, "confined to the files of debian"},
	} {
		if r := d.client(t, "", append([]string{"access", "add", "rule-board"}, c.args...)...); r.code == 0 ||
			!strings.Contains(r.err, c.want) {
			t.Errorf("%q: %d %s", c.args, r.code, r.err)
		}
	}
	d.must(t, "policy", "set", writeFile(t, "access:\n  reason: true\n  longest: 2d\n"))
	for args, want := range map[string]string{"-for 1h": "access.reason", "-for 3d -reason x": "access.longest",
		"-reason x": "access.longest"} {
		if r := d.client(t, "", append([]string{"access", "add", "rule-board", "-key", "rule-guest"},
			strings.Fields(args)...)...); r.code == 0 || !strings.Contains(r.err, want) {
			t.Errorf("%s: %+v", args, r)
		}
	}
	before := mustRead(t, file)
	out := d.must(t, "access", "add", "rule-board", "-key", "rule-guest", "-for", "8h", "-from", "127.0.0.0/8",
		"-only", `say "hello, all"`, "-reason", "mends the barrier")
	contains(t, "access add", out, "rule-guest opens rule-board", "by the server itself, also when the service is down")
	line := strings.TrimPrefix(mustRead(t, file), before+"\n")
	if !strings.HasPrefix(line, `expiry-time="`) ||
		!strings.HasSuffix(line, `,from="127.0.0.0/8",command="say \"hello, all\"" `+guest.Line()+"\n") {
		t.Errorf("the line is %q", line)
	}
	contains(t, "access list", d.must(t, "access", "list", "-instance", "rule-board"), "rule-guest",
		"accepted, until "+time.Now().Add(8*time.Hour).Format("2006-01-02"))
	// The guest's does not count: the own one is the only way in.
	r := d.client(t, "", "access", "remove", "-yes", "rule-board", "-key", "rule-own")
	if r.code != 1 || !strings.Contains(r.err, "rule 1") ||
		!strings.Contains(r.err, "rule-guest runs one command only") {
		t.Errorf("the last way in: %+v", r)
	}
	contains(t, "extend", d.must(t, "access", "extend", "rule-board", "-key", "rule-guest", "-for", "30h"),
		"opens rule-board until")
	if strings.Count(mustRead(t, file), "expiry-time=") != 1 {
		t.Errorf("extended: %s", mustRead(t, file))
	}
	waitFor(t, "the work that waits for the end to have seen the new one", func() bool {
		return !strings.Contains(d.must(t, "work", "list", "-instance", "rule-board", "-state", "open"), "running")
	})
	// From elsewhere only: whether it is taken from there is not claimed.
	far := d.client(t, "", "access", "add", "rule-board", "-key", "rule-old-guest", "-for", "1h", "-reason",
		"from afar", "-from", "192.0.2.0/24")
	if far.code != 0 || !strings.Contains(far.err, "whether it is taken from there is not seen") {
		t.Errorf("from elsewhere: %+v", far)
	}
	// Exposed: what today says to do shuts it.
	d.must(t, "key", "exposed", "rule-guest", "-yes")
	waitFor(t, "today", func() bool {
		for _, m := range d.todayOf(t).Items {
			if m.Reason == "exposed-key-opens" {
				return m.Command == "plumlatch access remove rule-board -key rule-guest"
			}
		}
		return false
	})
	contains(t, "remove", d.must(t, "access", "remove", "-yes", "rule-board", "-key", "rule-guest"),
		"rule-guest is withdrawn from rule-board, and refused there")
	// The work that waited for its end is over by that.
	waitFor(t, "the end of what waited", func() bool {
		return strings.Contains(d.must(t, "work", "list"), "rule-guest was withdrawn from rule-board")
	})
	contains(t, "by number", d.must(t, "access", "remove", "-yes", "rule-board", "-key", "rule-own", "-cut-off", "1"),
		"withdrawn")
	has(t, "locked on purpose", d.reasonsOf(t, "instance", "rule-board"), "no-way-in", true)
}
