package e2e

import (
	"encoding/csv"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"plumlatch/core/keypair"
	"plumlatch/core/wire"
)

// TestAnswers asks both ways: what opens this, and what does this open, by
// whatever names a key.
func TestAnswers(t *testing.T) {
	t.Parallel()
	d, dir := shared, t.TempDir()
	d.must(t, "holder", "add", "answer-crew", "-sort", "team")
	d.must(t, "key", "create", "answer-key", "-dir", dir, "-holder", "answer-crew")
	d.must(t, "key", "create", "answer-second", "-dir", dir)
	d.must(t, "key", "set", "answer-second", "-holder", "")
	d.must(t, "instance", "launch", "answer-board", "-image", "debian-12", "-size", "small", "-region", "south-pier",
		"-tag", "line=answer", "-key", "answer-key,answer-second")
	d.must(t, "instance", "launch", "answer-gate", "-image", "debian-12", "-size", "small", "-region", "south-pier",
		"-key", "answer-key")

	text := d.must(t, "who", "answer-board")
	contains(t, "who", text, "answer-crew", "team", "answer-key", "answer-second", "(not known)", "accepted", "2 keys")
	if strings.Contains(text, "steward") {
		t.Errorf("the steward is no person: %s", text)
	}
	contains(t, "who, one key", d.must(t, "who", "answer-gate"), "answer-key is the sole opener")
	if r := d.client(t, "", "who", "answer-bord"); r.code != 1 || !strings.Contains(r.err, "near it: answer-board") {
		t.Errorf("who, a name that is nearly one: %+v", r)
	}

	file := filepath.Join(dir, "answer-key")
	line, err := os.ReadFile(file + ".pub")
	mustDo(t, err)
	p, err := keypair.ReadPublic(line)
	mustDo(t, err)
	locked := filepath.Join(dir, "locked")
	data, err := os.ReadFile(file)
	mustDo(t, err)
	mustDo(t, os.WriteFile(locked, data, 0o600))
	if out, err := exec.Command("ssh-keygen", "-q", "-p", "-N", "neap tide", "-f",
		locked).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	for what, args := range map[string][]string{
		"key": {"answer-key"}, "key in capitals": {"ANSWER-KEY"}, "file": {file}, "public file": {file + ".pub"},
		"locked file": {locked},
		"fingerprint": {p.Fingerprint()}, "fingerprint, padded": {p.Fingerprint() + "="},
		"fingerprint, bare":         {strings.TrimPrefix(p.Fingerprint(), "SHA256:")},
		"MD5":                       {p.FingerprintMD5()},
		"MD5, bare and in capitals": {strings.ToUpper(strings.TrimPrefix(p.FingerprintMD5(), "MD5:"))},
		"line":                      {strings.TrimSpace(string(line))}, "line in words": strings.Fields(string(line)),
	} {
		out := d.must(t, append([]string{"opens"}, args...)...)
		if !strings.Contains(out, "answer-board") || !strings.Contains(out, "answer-gate") ||
			!strings.Contains(out, p.Fingerprint()) {
			t.Errorf("%s: %s", what, out)
		}
	}
	contains(t, "a stranger's line", d.must(t, "opens", newPublic(t)), "is not recorded", "next: plumlatch survey")
	for what, c := range map[string]struct {
		args []string
		says string
		code int
	}{
		"nothing":       {nil, "is missing", 2},
		"nonsense":      {[]string{"no-such-thing"}, "is no file, no fingerprint", 1},
		"a private key": {[]string{string(data)}, "neither sent nor kept", 2},
		"no key":        {[]string{"/etc/hostname"}, "/etc/hostname", 1},
	} {
		r := d.client(t, "", append([]string{"opens"}, c.args...)...)
		if r.code != c.code || !strings.Contains(r.err, c.says) || strings.Contains(r.out+r.err, "BEGIN OPENSSH") {
			t.Errorf("%s: %+v", what, r)
		}
	}
	// A file that has the name of another key.
	clash := t.TempDir()
	mustDo(t, os.WriteFile(filepath.Join(clash, "answer-second"), data, 0o600))
	if r := d.clientIn(t, clash, d.url, "opens", "answer-second"); r.code != 1 ||
		!strings.Contains(r.err, "two meanings") || !strings.Contains(r.err, "./answer-second") {
		t.Errorf("two meanings: %+v", r)
	}
	if r := d.clientIn(t, clash, d.url, "opens", "./answer-second"); r.code != 0 ||
		!strings.Contains(r.out, "answer-gate") {
		t.Errorf("the file, said plainly: %+v", r)
	}

	count := func(args ...string) int {
		var l wire.List[wire.Access]
		mustDo(t, json.Unmarshal([]byte(d.must(t, append([]string{"access", "list", "-json"}, args...)...)), &l))
		return len(l.Items)
	}
	for what, c := range map[string]struct {
		args []string
		want int
	}{
		"holder": {[]string{"-holder", "Answer-Crew"}, 2}, "tag": {[]string{"-tag", "line=answer"}, 3},
		"tag, another value": {[]string{"-tag", "line=other"}, 0},
		"holder and tag":     {[]string{"-holder", "answer-crew", "-tag", "line"}, 1},
		"region":             {[]string{"-key", "answer-key", "-region", "north-pier"}, 0},
		"user":               {[]string{"-instance", "answer-board", "-user", "debian"}, 3},
	} {
		if got := count(c.args...); got != c.want {
			t.Errorf("access list by %s: %d, want %d", what, got, c.want)
		}
	}
	rows, err := csv.NewReader(strings.NewReader(d.must(t, "access", "list", "-holder", "answer-crew",
		"-csv"))).ReadAll()
	if err != nil || len(rows) != 3 || rows[0][0] != "instance" || rows[1][0] != "answer-board" ||
		rows[1][5] != "answer-crew" {
		t.Errorf("CSV: %q %v", rows, err)
	}
}
