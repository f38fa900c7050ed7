package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"plumlatch/core/wire"
)

// TestFirstPassword launches an image without SSH: its first password is encrypted to the launch key, decrypted by the client
// alone, and nothing readable passes the service or is kept by it. Everything else knows that there is no SSH.
func TestFirstPassword(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 144)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	dir, none := t.TempDir(), writeFile(t, "")
	d.must(t, "key", "create", "desk-rsa", "-kind", "rsa-3072", "-dir", dir, "-new-passphrase", none)
	d.must(t, "key", "create", "desk-other", "-kind", "rsa-3072", "-dir", dir, "-new-passphrase", none)
	d.must(t, "key", "create", "desk-ed", "-dir", dir, "-new-passphrase", none)
	launch := func(name string, more ...string) result {
		return d.client(t, "", append([]string{"instance", "launch", name, "-image", "quay-desk-1", "-size", "medium", "-region",
			"north-pier"}, more...)...)
	}
	for what, c := range map[string]struct {
		args []string
		says string
	}{
		"Ed25519":  {[]string{"-key", "desk-ed"}, "only an RSA key can have a password encrypted to it"},
		"two keys": {[]string{"-key", "desk-rsa,desk-other"}, "name one"},
		"no key":   {[]string{"-key", "none"}, "without one nobody could read it"},
	} {
		if r := launch("desk-wrong", c.args...); r.code != 1 || !strings.Contains(r.err, c.says) {
			t.Errorf("%s: %+v", what, r)
		}
	}
	planned := launch("desk-1", "-key", "desk-rsa", "-plan")
	contains(t, "planned", planned.out+planned.err, "it has no SSH: no key opens it", "plumlatch instance password desk-1")
	if r := launch("desk-1", "-key", "desk-rsa"); r.code != 0 {
		t.Fatalf("%+v", r)
	}
	i := d.instance(t, "desk-1")
	if !i.Desktop || i.Port != 3389 || i.State != "running" || i.Keys != 0 || len(i.HostKeys) != 0 || i.Trouble != "" ||
		i.FirstPassword == nil || i.FirstPassword.Key != "desk-rsa" {
		t.Fatalf("recorded: %+v", i)
	}
	password := mustRead(t, shared.path("standin", "instances", i.CloudID, "first-password"))

	// By its file, or by its folder; the password alone is on standard output.
	get := func(more ...string) result {
		return d.client(t, "", append([]string{"instance", "password", "desk-1"}, more...)...)
	}
	for _, how := range [][]string{{"-identity", filepath.Join(dir, "desk-rsa")}, {"-dir", dir}} {
		r := get(how...)
		if r.code != 0 || r.out != password+"\n" {
			t.Errorf("%v: %+v, want %q", how, r, password)
		}
		contains(t, "said beside it", r.err, "for Administrator at ", ":3389 (remote desktop)", "kept nowhere", "Change it there now")
	}
	if r := get("-identity", filepath.Join(dir, "desk-other")); r.code != 1 || !strings.Contains(r.err, "it was encrypted to another key") ||
		!strings.Contains(r.err, "the private half of desk-rsa") {
		t.Errorf("another key: %+v", r)
	}
	if r := get("-identity", filepath.Join(dir, "desk-ed")); r.code != 1 || !strings.Contains(r.err, "only an RSA key") {
		t.Errorf("an Ed25519 key: %+v", r)
	}
	if r := get("-dir", t.TempDir()); r.code != 1 || !strings.Contains(r.err, "the private half of desk-rsa is not in") ||
		!strings.Contains(r.err, "agents sign, and do not decrypt") {
		t.Errorf("an empty folder: %+v", r)
	}
	for _, table := range []string{"journal", "first_passwords", "instances", "work", "work_events"} {
		var n int
		if err := s.connect(t).QueryRow(t.Context(), "SELECT count(*) FROM "+table+" x WHERE position($1 in x::text) > 0", password).Scan(&n); err != nil || n != 0 {
			t.Errorf("the password is in %s: %d %v", table, n, err)
		}
	}
	contains(t, "the journal", d.must(t, "journal", "list", "-target", "instance desk-1"), "hand over its first password")

	// Nothing is claimed about SSH there, and nothing of ours tries it.
	contains(t, "who", d.must(t, "who", "desk-1"), "desk-1 has no SSH: no key opens it", "encrypted to desk-rsa, and nobody has recorded that it was changed",
		"next: plumlatch instance password desk-1")
	contains(t, "opens", d.must(t, "opens", "desk-rsa"), "It decrypts the first password of desk-1, which has no SSH")
	contains(t, "shown", d.must(t, "instance", "show", "desk-1"), "port 3389", "desk-1 has no SSH")
	for _, args := range [][]string{{"open", "desk-1"}, {"why", "desk-1"}, {"survey", "desk-1"}, {"instance", "host-key", "desk-1"},
		{"access", "add", "desk-1", "-key", "desk-ed"}, {"rotate", "desk-1", "-old", "desk-rsa", "-new", "desk-other", "-dir", dir}} {
		if r := d.client(t, "", args...); r.code != 1 || !strings.Contains(r.err, "no SSH") || !strings.Contains(r.err, "instance password desk-1") {
			t.Errorf("%v: %+v", args, r)
		}
	}
	contains(t, "ways back", d.must(t, "restore", "desk-1"), "it has no SSH: people come in by its password")
	r := d.client(t, "", "restore", "ready")
	if row := lineWith(r.out, "desk-1"); !strings.Contains(row, "(no SSH)") || strings.Contains(row, "NONE") || r.code != 0 {
		t.Errorf("ready: %+v", r)
	}
	d.must(t, "hosts", "write", "-yes", "-dir", dir)
	if text := mustRead(t, filepath.Join(d.dir, "home/.ssh/plumlatch_hosts")); strings.Contains(text, "desk-1") {
		t.Errorf("the hosts file has it:\n%s", text)
	}
	// The door of its rules is the remote desktop's.
	d.must(t, "instance", "admit", "desk-1", "-from", "203.0.113.0/24", "-reason", "the pursers")
	contains(t, "rules", d.must(t, "instance", "rules", "desk-1"), "203.0.113.0/24", "remote desktop")

	// Its key matters to it until the password was changed.
	has(t, "today", d.reasonsOf(t, "instance", "desk-1"), "first-password", true)
	has(t, "today", d.reasonsOf(t, "instance", "desk-1"), "no-way-in", false)
	if r := d.client(t, "", "key", "forget", "desk-rsa", "-yes"); r.code != 1 || !strings.Contains(r.err, "desk-1") {
		t.Errorf("forgotten: %+v", r)
	}
	d.must(t, "key", "lost", "desk-rsa")
	has(t, "lost", d.reasonsOf(t, "instance", "desk-1"), "first-password-key", true)
	if r := get("-changed"); r.code != 1 || !strings.Contains(r.err, "same command with -yes") {
		t.Errorf("nobody was asked: %+v", r)
	}
	contains(t, "changed", d.must(t, "instance", "password", "desk-1", "-changed", "-yes"), "desk-rsa no longer matters to desk-1")
	has(t, "changed", d.reasonsOf(t, "instance", "desk-1"), "first-password-key", false)
	has(t, "changed", d.reasonsOf(t, "instance", "desk-1"), "first-password", false)
	contains(t, "who", d.must(t, "who", "desk-1"), "was recorded as changed", "desk-rsa no longer matters to it")
	d.must(t, "key", "forget", "desk-rsa", "-yes")

	// A password that was encrypted to another key, and what is no cipher text.
	for name, how := range map[string]string{"desk-astray": "astray", "desk-garbage": "fail"} {
		mustDo(t, standinCall("POST", "/v1/faults", fmt.Sprintf(`{"call":"first-password","how":%q,"name":%q}`, how, name), nil))
		if r := launch(name, "-key", "desk-other"); r.code != 0 {
			t.Fatalf("%+v", r)
		}
		r := d.client(t, "", "instance", "password", name, "-dir", dir)
		if want := map[string]string{"astray": "it was encrypted to another key", "fail": "is no cipher text"}[how]; r.code != 1 ||
			!strings.Contains(r.err, want) || r.out != "" {
			t.Errorf("%s: %+v", name, r)
		}
		// What is no cipher text is not handed on by the service either, nor written down as handed over.
		if a := d.api(t, "POST", "/api/v1/instances/"+name+"/password", "", "Authorization", "Bearer "+d.token); a.status != map[string]int{
			"astray": 200, "fail": 409}[how] {
			t.Errorf("%s: %d %s", name, a.status, a.body)
		}
	}
	// Stopped and started: nobody waits for a server there.
	d.must(t, "instance", "stop", "-yes", "desk-1")
	d.must(t, "instance", "start", "desk-1")
	if i := d.instance(t, "desk-1"); i.State != "running" || i.Trouble != "" || i.Port != 3389 {
		t.Errorf("started: %+v", i)
	}
	if r := d.client(t, "", "instance", "password", "nothing-such"); r.code != 1 {
		t.Errorf("no such instance: %+v", r)
	}
	d.must(t, "instance", "launch", "desk-plain", "-image", "debian-12", "-size", "small", "-region", "north-pier", "-key", "desk-ed")
	if r := d.client(t, "", "instance", "password", "desk-plain"); r.code != 1 || !strings.Contains(r.err, "gives no first password") {
		t.Errorf("one with SSH: %+v", r)
	}

	// By an entry of the cloud's list; and one that somebody else launched, whose key nobody knows.
	d.must(t, "cloud-key", "upload", "desk-other", "-region", "north-pier", "-name", "pursers desk")
	if r := launch("desk-entry", "-key", "cloud:pursers desk"); r.code != 0 {
		t.Fatalf("%+v", r)
	}
	r = d.client(t, "", "instance", "password", "desk-entry", "-dir", dir)
	if want := mustRead(t, shared.path("standin", "instances", d.instance(t, "desk-entry").CloudID, "first-password")); r.out != want+"\n" {
		t.Errorf("by an entry: %+v, want %q", r, want)
	}
	line, err := os.ReadFile(filepath.Join(dir, "desk-other.pub"))
	mustDo(t, err)
	body, err := json.Marshal(map[string]any{"client_token": "desk-found", "name": "desk-found", "region": "north-pier", "image": "quay-desk-1",
		"size": "medium", "key_label": "somebody", "password_key": string(line)})
	mustDo(t, err)
	var in cloudInstance
	mustDo(t, standinCall("POST", "/v1/instances", string(body), &in))
	waitFor(t, "it to run", func() bool {
		mustDo(t, standinCall("GET", "/v1/instances/"+in.ID, "", &in))
		return in.State == "running"
	})
	contains(t, "adopted", d.must(t, "discover", "adopt", "desk-found", "-yes"), "has no SSH: people come in by its password")
	if r := d.client(t, "", "instance", "password", "desk-found", "-dir", dir); r.code != 1 || !strings.Contains(r.err, "does not know which key") {
		t.Errorf("an unknown key: %+v", r)
	}
	r = d.client(t, "", "instance", "password", "desk-found", "-identity", filepath.Join(dir, "desk-other"))
	if want := mustRead(t, shared.path("standin", "instances", in.ID, "first-password")); r.out != want+"\n" {
		t.Errorf("found: %+v, want %q", r, want)
	}
	var list wire.List[wire.Instance]
	mustDo(t, json.Unmarshal([]byte(d.must(t, "instance", "list", "-json")), &list))
	for _, x := range list.Items {
		if x.Desktop != (x.Name != "desk-plain") {
			t.Errorf("listed: %+v", x)
		}
	}
}

// lineWith is the first line that has a word.
func lineWith(text, word string) string {
	for line := range strings.Lines(text) {
		if strings.Contains(line, word) {
			return line
		}
	}
	return ""
}
