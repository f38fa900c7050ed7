package e2e

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"plumlatch/core/keypair"
	"plumlatch/core/wire"
)

// strayed is an instance of the cloud that somebody else launched, with a key that is lost.
type strayed struct {
	*lostDoor
	old keypair.Public
}

func newStray(t *testing.T, d *demo, name, image string, tags string) *strayed {
	t.Helper()
	return newStrayOn(t, shared, d, name, image, tags)
}

func newStrayOn(t *testing.T, cloud, d *demo, name, image string, tags string) *strayed {
	t.Helper()
	l := &lostDoor{at: cloud, d: d, name: name, lost: name + "-lost", new: name + "-new", dir: t.TempDir(), none: writeFile(t, "")}
	x := &strayed{l, pairIn(t, filepath.Join(l.dir, l.lost))}
	d.must(t, "key", "create", l.new, "-dir", l.dir, "-new-passphrase", l.none)
	data, err := json.Marshal("#cloud-config\nssh_authorized_keys:\n  - " + x.old.Line() + "\n")
	mustDo(t, err)
	size := "small"
	if image == "harrow-linux-4" {
		size = "medium"
	}
	var in struct{ ID string }
	mustDo(t, standinCallAt(cloud, "POST", "/v1/instances", fmt.Sprintf(`{"client_token":%q,"name":%q,"region":"south-pier",
		"zone":"south-pier-b","image":%q,"size":%q,"key_label":"somebody","tags":{%s},"user_data":%s}`, name, name, image, size,
		tags, data), &in))
	l.id = in.ID
	waitFor(t, name+" to run", func() bool {
		var now struct{ State string }
		mustDo(t, standinCallAt(cloud, "GET", "/v1/instances/"+in.ID, "", &now))
		return now.State == "running"
	})
	return x
}

// found is what discover says of an instance of the cloud; nil if it does not list it.
func (d *demo) found(t *testing.T, id string) *wire.Discovered {
	t.Helper()
	var list wire.Discovery
	mustDo(t, json.Unmarshal([]byte(d.must(t, "discover", "-json")), &list))
	for n := range list.Unknown {
		if list.Unknown[n].CloudID == id {
			return &list.Unknown[n]
		}
	}
	return nil
}

// TestAdoptFound: an instance that nobody of the ledger gets into is adopted from the cloud's list, by its name
// alone, and got back into by disk and by boot text. Its host keys are those of its own disk, or those that its
// boot has printed; the real ssh logs in by them.
func TestAdoptFound(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 139)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	for n, c := range []struct {
		route, image string
		claim        bool // the first block of its boot output still stands
		known        string
	}{
		{"disk", "debian-12", true, "from its own disk"},
		{"disk", "harrow-linux-4", false, "from its own disk"},
		{"boot-text", "debian-12", false, "as its boot printed them"},
	} {
		t.Run(fmt.Sprint(c.route, " ", c.image), func(t *testing.T) {
			t.Parallel()
			x := newStray(t, d, fmt.Sprintf("stray-%d", n), c.image, `"owner":"lamps"`)
			if !c.claim { // what it printed at its first boot has gone
				mustDo(t, os.WriteFile(shared.path("standin", "instances", x.id+".console"), []byte("login:"), 0o600))
			}
			if u := d.found(t, x.id); u == nil || u.Name != x.name || u.Tags["owner"] != "lamps" {
				t.Fatalf("discovered: %+v", u)
			}
			contains(t, "today", d.must(t, "today", "-what", "unknown-instance", "-limit", "400"), "plumlatch discover adopt "+x.id)
			r := d.client(t, "", "discover", "adopt", x.name)
			if r.code != 1 || !strings.Contains(r.err, "same command with -yes") {
				t.Errorf("nobody was asked: %+v", r)
			}
			out := d.must(t, "discover", "adopt", x.name, "-yes")
			contains(t, "adopted", out, "adopted: running at ", "no key of the ledger is known to open it",
				"next: plumlatch restore "+x.name)
			i := d.instance(t, x.name)
			if i.CloudID != x.id || i.Image != c.image || !i.Found || i.Adopted || i.State != "running" || i.Keys != 0 ||
				i.KeyLabel != "somebody" {
				t.Errorf("recorded: %+v", i)
			}
			if claimed := len(i.HostKeys) == 1 && strings.Contains(i.HostKeys[0].Source, "a claim"); claimed != c.claim ||
				!c.claim && (len(i.HostKeys) > 0 || !strings.Contains(out, "its host key is not known")) {
				t.Errorf("host keys %+v: %s", i.HostKeys, out)
			}
			if d.found(t, x.id) != nil {
				t.Error("it is still listed")
			}
			contains(t, "who", d.must(t, "who", x.name), "Nothing is known that lets people in.", "next: plumlatch restore "+x.name)
			contains(t, "again", d.client(t, "", "discover", "adopt", x.id, "-yes").err, "the cloud has no "+x.id+" that the ledger does not know")
			if a := d.api(t, "POST", "/api/v1/discovery/adoptions", fmt.Sprintf(`{"cloud_id":%q,"name":"second"}`, x.id), "Authorization",
				"Bearer "+d.token, "Idempotency-Key", "second-"+x.id); a.status != 409 {
				t.Errorf("claimed twice: %d %s", a.status, a.body)
			}

			contains(t, "restored", d.must(t, "restore", x.name, "-route", c.route, "-new", x.new, "-dir", x.dir, "-yes"),
				"At the cloud it is "+x.id+", called "+x.name+", launched 20", ", with the volume ", x.new+" opens "+x.name)
			i = d.instance(t, x.name)
			if len(i.HostKeys) == 0 || i.HostKeys[0].Source != c.known {
				t.Errorf("host keys: %+v", i.HostKeys)
			}
			// The steward's line was placed by the same edit, and the server was asked about it too.
			var rows wire.List[wire.Access]
			mustDo(t, json.Unmarshal([]byte(d.must(t, "access", "list", "-instance", x.name, "-json")), &rows))
			for _, a := range rows.Items {
				if a.Evidence != "accepted" && a.Evidence != "proven" {
					t.Errorf("after the restore: %+v", a)
				}
			}
			if out, ok := x.ssh(t, x.new, "hostname"); !ok || strings.TrimSpace(out) != x.name {
				t.Errorf("the new key does not log in: %s", out)
			}
			// The same edit has placed the steward's line: what nobody recorded is seen, and goes by rule 1.
			d.must(t, "survey", x.name)
			contains(t, "who", d.must(t, "who", x.name), x.old.Fingerprint())
			d.must(t, "access", "remove", "-yes", x.name, "-key", x.old.Fingerprint())
			x.restored(t)

			contains(t, "forgotten", d.must(t, "instance", "forget", x.name, "-yes"), "forgotten")
			var now struct{ State string }
			mustDo(t, standinCall("GET", "/v1/instances/"+x.id, "", &now))
			if u := d.found(t, x.id); u == nil || now.State != "running" {
				t.Errorf("the cloud has it %s, and lists %+v", now.State, u)
			}
		})
	}
}

// TestWhoAdoptsFound: adopting from the cloud's list is for admins and whom the policy names, and so is the first
// restore; what the policy leaves alone is listed, and touched by nobody.
func TestWhoAdoptsFound(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 140)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	x, pilots := newStray(t, d, "who-stray", "debian-12", `"env":"test"`), newStray(t, d, "pilot-stray", "debian-12", `"owner":"pilots"`)
	mate := newHome(t, &demo{dir: s.dir, url: d.url, token: anotherOperator(t, d, "found-mate")})
	refused := func(what string, r result, words string) {
		t.Helper()
		if r.code != 1 || !strings.Contains(r.err+r.out, words) {
			t.Errorf("%s: %+v", what, r)
		}
	}
	policy := func(text string) {
		t.Helper()
		d.must(t, "policy", "set", writeFile(t, text))
	}
	refused("no admin", mate.client(t, "", "discover", "adopt", x.id, "-yes"), "it takes an admin, or whom the policy names")
	policy("adopt:\n  who: [{operators: [found-mate], tag: env=prod}]\n  never: [owner=pilots]\n")
	refused("another tag", mate.client(t, "", "discover", "adopt", x.id, "-yes"), "it takes an admin")
	refused("left alone", d.client(t, "", "discover", "adopt", pilots.id, "-yes"), "the policy leaves it alone: it bears the tag owner=pilots")
	if u := d.found(t, pilots.id); u == nil || u.Never != "owner=pilots" {
		t.Errorf("left alone, and listed as %+v", u)
	}
	waitFor(t, "it is no matter", func() bool {
		return !strings.Contains(d.must(t, "today", "-what", "unknown-instance", "-limit", "400"), pilots.id)
	})
	d.must(t, "discover", "adopt", x.id, "-yes", "-name", "who-adopted", "-no-steward")
	refused("the first restore", mate.client(t, "", "restore", "who-adopted", "-route", "boot-text", "-new", x.new, "-dir", x.dir, "-yes"),
		"it takes an admin")
	policy("adopt:\n  who: [{operators: [found-mate], region: south-pier, tag: env=test}]\n")
	mate.must(t, "restore", "who-adopted", "-route", "boot-text", "-new", x.new, "-dir", x.dir, "-yes")
	if text := mustRead(t, shared.path("standin", "instances", x.id, "home/debian/.ssh/authorized_keys")); stewardLine.MatchString(text) {
		t.Errorf("adopted without a steward, and restored:\n%s", text)
	}
	// A word, for adopting and for the first restore; later nobody is asked.
	policy("adopt:\n  word: second\n")
	w := newStray(t, d, "word-stray", "debian-12", "")
	a := d.api(t, "POST", "/api/v1/discovery/adoptions", fmt.Sprintf(`{"cloud_id":%q}`, w.id), "Authorization", "Bearer "+d.token,
		"Idempotency-Key", "word-"+w.id)
	var begun wire.Instance
	mustDo(t, json.Unmarshal([]byte(a.body), &begun))
	word := func(id int64) {
		t.Helper()
		waitFor(t, "it waits for a word", func() bool { return d.workByID(t, id).WaitsCode == wire.WaitsWord })
		refused("one's own word", d.client(t, "", "work", "word", fmt.Sprint(id)), "another operator's")
		contains(t, "the text", mate.must(t, "work", "word", fmt.Sprint(id)), "root be gained where nobody of the ledger gets in", w.id,
			"begins")
	}
	word(begun.Work)
	waitFor(t, "it is adopted", func() bool { return d.workByID(t, begun.Work).Over() })
	restored := wire.Work{}
	mustDo(t, json.Unmarshal([]byte(d.must(t, "restore", w.name, "-route", "boot-text", "-new", w.new, "-yes", "-detach", "-json")),
		&restored))
	word(restored.ID)
	d.must(t, "work", "here", fmt.Sprint(restored.ID), "-identity", filepath.Join(w.dir, w.new))
	d.must(t, "key", "create", "word-next", "-dir", w.dir, "-new-passphrase", w.none)
	d.must(t, "restore", w.name, "-route", "boot-text", "-new", "word-next", "-dir", w.dir, "-yes")
	refused("no word", d.client(t, "", "policy", "check", writeFile(t, "adopt:\n  word: maybe\n")), "adopt.word")
	refused("no entry", d.client(t, "", "policy", "check", writeFile(t, "adopt:\n  who: [{tag: env=test}]\n")), "adopt.who")
}

// TestAdoptAll: all that the ledger does not know are adopted, or those of them with a tag, in a region; those that the policy leaves
// alone are left.
func TestAdoptAll(t *testing.T) {
	t.Parallel()
	own := ownCloud(t)
	s := newSlotOn(t, 152, own)
	s.options = []string{"-dial-from", "127.0.0.9"}
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	d.must(t, "policy", "set", writeFile(t, "adopt:\n  never: [owner=pilots]\n"))
	lamps, pilots, bare := newStrayOn(t, own, d, "all-lamps", "debian-12", `"owner":"lamps"`),
		newStrayOn(t, own, d, "all-pilots", "debian-12", `"owner":"pilots"`), newStrayOn(t, own, d, "all-bare", "debian-12", "")
	known := func() (names []string) {
		t.Helper()
		var all wire.List[wire.Instance]
		mustDo(t, json.Unmarshal([]byte(d.must(t, "instance", "list", "-json")), &all))
		for _, i := range all.Items {
			names = append(names, i.Name)
		}
		return names
	}
	for what, args := range map[string][]string{"nothing": nil, "a tag alone": {"-tag", "owner=lamps"}, "both": {lamps.id, "-all"},
		"a name for all": {"-all", "-name", "x"}} {
		if r := d.client(t, "", append([]string{"discover", "adopt", "-yes"}, args...)...); r.code != 2 {
			t.Errorf("%s: %+v", what, r)
		}
	}
	d.must(t, "discover", "adopt", "-all", "-tag", "owner=nobody", "-yes")
	d.must(t, "discover", "adopt", "-all", "-tag", "owner=lamps", "-region", "skerry-island", "-yes")
	if n := known(); len(n) != 0 {
		t.Errorf("none of these fits, and adopted is %q", n)
	}
	d.must(t, "discover", "adopt", "-all", "-tag", "owner=lamps", "-region", "south-pier", "-yes")
	if n := known(); !slices.Equal(n, []string{lamps.name}) {
		t.Errorf("with its tag, in its region: %q", n)
	}
	d.must(t, "discover", "adopt", "-all", "-region", "south-pier", "-yes")
	if n := known(); !slices.Contains(n, bare.name) || slices.Contains(n, pilots.name) {
		t.Errorf("all of the region: %q", n)
	}
	// By a copy, too: in with the new key; the one that nobody recorded goes by rule 1, and is refused.
	before := d.instance(t, lamps.name)
	contains(t, "restored", d.must(t, "restore", "copy", lamps.name, "-new", lamps.new, "-dir", lamps.dir, "-yes"), lamps.new+" opens "+lamps.name)
	if i := d.instance(t, lamps.name); i.CloudID == before.CloudID || i.State != "running" || len(i.HostKeys) == 0 {
		t.Errorf("it was %+v, and is %+v", before, i)
	}
	d.must(t, "survey", lamps.name)
	d.must(t, "access", "remove", "-yes", lamps.name, "-key", lamps.old.Fingerprint())
	lamps.restored(t)
}

// TestLink: an instance that was adopted by hand is linked to the cloud's, where address and host key agree, and
// nothing else claims it.
func TestLink(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 141)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	x, other := newStray(t, d, "link-stray", "debian-12", ""), newStray(t, d, "link-other", "debian-12", "")
	var in struct{ Address string }
	mustDo(t, standinCall("GET", "/v1/instances/"+x.id, "", &in))
	d.must(t, "instance", "adopt", "by-hand", "-address", net.JoinHostPort(in.Address, "2222"), "-user", "debian", "-identity",
		filepath.Join(x.dir, x.lost), "-record", "none", "-yes")
	if u := d.found(t, x.id); u == nil || u.Like != "by-hand" {
		t.Errorf("it is offered as %+v", u)
	}
	for what, c := range map[string]struct{ id, words string }{
		"another address": {other.id, "and by-hand is recorded at"},
		"none":            {"hull-99999", "the cloud has no instance hull-99999"},
	} {
		if r := d.client(t, "", "instance", "link", "by-hand", c.id, "-yes"); r.code != 1 || !strings.Contains(r.err, c.words) {
			t.Errorf("%s: %+v", what, r)
		}
	}
	// Another that shows the same host key: one of the two passes on what it is asked, or is a copy. Neither is known by it.
	twin := func(name string) string { return shared.path("standin", "instances", name) }
	for _, file := range []string{"etc/ssh/ssh_host_ed25519_key", "etc/ssh/ssh_host_ed25519_key.pub"} {
		mustDo(t, os.WriteFile(filepath.Join(twin(other.id), file), []byte(mustRead(t, filepath.Join(twin(x.id), file))), 0o600))
	}
	(&broken{d: shared, id: other.id}).door(t, "open")
	contains(t, "not what its first boot printed", d.must(t, "discover", "adopt", other.name, "-yes"), "its host key is not known: its server shows ",
		"the first block of its boot output names others: something else may stand behind its address")
	d.must(t, "instance", "forget", other.name, "-yes")
	mustDo(t, os.WriteFile(twin(other.id)+".console", []byte(mustRead(t, twin(x.id)+".console")), 0o600))
	contains(t, "a twin", d.must(t, "discover", "adopt", other.name, "-yes"), "its host key is not known: by-hand shows the same one")
	if i := d.instance(t, other.name); len(i.HostKeys) != 0 {
		t.Errorf("a twin: %+v", i.HostKeys)
	}
	print := d.instance(t, "by-hand").HostKeys[0].Fingerprint
	d.must(t, "instance", "host-key", other.name, "-accept", print, "-yes")
	if r := d.client(t, "", "instance", "link", "by-hand", x.id, "-yes"); r.code != 1 || !strings.Contains(r.err, "tells it from no other: "+other.name+
		" shows the same one") {
		t.Errorf("a twin: %+v", r)
	}
	// Another host key than the recorded one answers: somebody else may stand there.
	newHostKey(t, &broken{d: shared, name: "by-hand", id: x.id, disk: shared.path("standin", "instances", x.id), home: t.TempDir()})
	r := d.client(t, "", "instance", "link", "by-hand", x.id, "-yes")
	if r.code != 1 || !strings.Contains(r.err, "another host key answers at its address") {
		t.Errorf("another host key: %+v", r)
	}
	var state wire.HostKeyState
	mustDo(t, json.Unmarshal([]byte(d.client(t, "", "instance", "host-key", "by-hand", "-json").out), &state))
	d.must(t, "instance", "host-key", "by-hand", "-accept", state.Offered.Fingerprint, "-yes")
	contains(t, "linked", d.must(t, "instance", "link", "by-hand", x.id, "-yes"), "by-hand is the cloud's "+x.id)
	i := d.instance(t, "by-hand")
	if i.Adopted || !i.Found || i.CloudID != x.id || i.Region != "south-pier" || d.found(t, x.id) != nil {
		t.Errorf("linked: %+v", i)
	}
	if r := d.client(t, "", "instance", "link", "by-hand", other.id, "-yes"); r.code != 1 ||
		!strings.Contains(r.err, "a cloud is behind it already") {
		t.Errorf("linked twice: %+v", r)
	}
	d.must(t, "instance", "stop", "by-hand", "-yes")
	d.must(t, "instance", "start", "by-hand")
}
