package e2e

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"plumlatch/core/wire"
)

// TestSurvey changes an instance's file behind the ledger's back.
func TestSurvey(t *testing.T) {
	d, dir := shared, t.TempDir()
	d.must(t, "key", "create", "survey-a", "-dir", dir)
	d.must(t, "key", "create", "survey-b", "-dir", dir)
	d.must(t, "key", "create", "survey-c", "-dir", dir)
	d.must(t, "instance", "launch", "survey-board", "-image", "debian-12", "-size", "small", "-region", "north-pier",
		"-key", "survey-a,survey-b")
	contains(t, "nothing changed", d.must(t, "survey", "survey-board"), "3 recorded, 0 unrecorded, 0 missing",
		"not seen:")
	contains(t, "evidence", d.must(t, "access", "list", "-instance", "survey-board"), "accepted")

	file := d.path("standin", "instances", d.instance(t, "survey-board").CloudID, "home", "debian", ".ssh",
		"authorized_keys")
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	var kept []string
	for line := range strings.Lines(string(data)) {
		if !strings.Contains(line, " survey-a") {
			kept = append(kept, line)
		}
	}
	stranger := newPublic(t)
	text := strings.Join(kept, "") + d.key(t, "survey-c").PublicKey + "\nno-pty " + stranger +
		"\x1b[2J\nfrobnicate " + stranger + "\n"
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	var s wire.Survey
	out := d.must(t, "survey", "survey-board", "-json")
	if err := json.Unmarshal([]byte(out), &s); err != nil || strings.Contains(out, "\x1b") {
		t.Fatal(err, out)
	}
	got := map[string]string{}
	for _, k := range s.Keys {
		name := k.Key
		if k.Steward {
			name = "steward"
		} else if name == "" {
			name = "stranger " + k.Options
		}
		got[name] = k.Result
	}
	want := map[string]string{"survey-a": "missing", "survey-b": "recorded", "steward": "recorded",
		"survey-c": "unrecorded", "stranger no-pty": "unrecorded"}
	for name, w := range want {
		if got[name] != w {
			t.Errorf("%s: %q, want %q", name, got[name], w)
		}
	}
	if len(got) != len(want) || len(s.Broken) != 1 || len(s.NotSeen) != 2 {
		t.Errorf("%+v", s)
	}
	contains(t, "what is known now", d.must(t, "access", "list", "-instance", "survey-board"), "not in the file since")
	contains(t, "journal", d.must(t, "journal", "list", "-target", "instance survey-board"), "instance.survey",
		"2 recorded, 2 unrecorded, 1 missing")

	// A link in the file's place is not followed, and nothing is said to be gone.
	if err := os.WriteFile(file+".real", []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("authorized_keys.real", file); err != nil {
		t.Fatal(err)
	}
	before := d.must(t, "access", "list", "-instance", "survey-board", "-json")
	r := d.client(t, "", "survey", "survey-board")
	if r.code == 0 || !strings.Contains(r.err, "symbolic link") && !strings.Contains(r.err, "steward does not get in") {
		t.Errorf("a link: %+v", r)
	}
	if after := d.must(t, "access", "list", "-instance", "survey-board", "-json"); after != before {
		t.Errorf("a link changed what is known:\n%s\n%s", before, after)
	}
	d.must(t, "instance", "stop", "-yes", "survey-board")
	if r := d.client(t, "", "survey", "survey-board"); r.code != 1 || !strings.Contains(r.err, "stopped") {
		t.Errorf("a stopped instance: %+v", r)
	}
}
