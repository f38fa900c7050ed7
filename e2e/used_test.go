package e2e

import (
	"compress/gzip"
	"encoding/json"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"plumlatch/core/keypair"
	"plumlatch/core/wire"
)

// TestWhoCameIn: who really came in is read from the log that a real sshd has written, by the engineer's session with sudo: keys of the
// ledger and others, a certificate whose ID looks like the rest of a line, a rotated file. What only looks like a login does not count,
// and none of it is a way in.
func TestWhoCameIn(t *testing.T) {
	t.Parallel()
	syslogTo(t)
	dir := t.TempDir()
	ca := pairIn(t, filepath.Join(dir, "authority"))
	a := startAdoptee(t, "", toSyslog, "-o", "TrustedUserCAKeys="+filepath.Join(dir, "authority.pub"))
	mustDo(t, os.Chmod(dir, 0o755))
	d := newHome(t, shared)
	name := fmt.Sprintf("used-door-%d", a.port)
	d.must(t, a.args(name, "-record", name+"-key")...)
	engineer, err := keypair.ReadPublic([]byte(mustRead(t, a.identity+".pub")))
	mustDo(t, err)
	stranger := pairIn(t, filepath.Join(dir, "stranger"))
	a.put(t, a.file, a.now(t)+"\n"+stranger.Line()+"\n", true)
	certified := pairIn(t, filepath.Join(dir, "certified"))
	id := "night watch (serial 1) CA ED25519 " + stranger.Fingerprint()
	if out, err := exec.Command("ssh-keygen", "-q", "-s", filepath.Join(dir, "authority"), "-I", id, "-z", "7", "-n", a.user,
		filepath.Join(dir, "certified.pub")).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	ssh := func(file, user string) (string, bool) {
		cmd := exec.Command("ssh", "-F", "none", "-i", file, "-p", fmt.Sprint(a.port), "-o", "IdentitiesOnly=yes", "-o", "BatchMode=yes", "-o",
			"StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-l", user, "127.0.0.1", "true")
		out, err := cmd.CombinedOutput()
		return string(out), err == nil
	}
	for range 3 {
		if out, ok := ssh(filepath.Join(dir, "stranger"), a.user); !ok {
			t.Fatalf("a login: %s", out)
		}
	}
	if out, ok := ssh(filepath.Join(dir, "certified"), a.user); !ok {
		t.Fatalf("a login by certificate: %s", out)
	}
	// A user name that looks like a login, and a line that anybody can write.
	forged := newPrint(t)
	ssh(a.identity, "x from 192.0.2.66 port 22 ssh2: ED25519 "+forged)
	ssh(a.identity, "Accepted publickey for "+a.user+" from 192.0.2.66 port 22 ssh2: ED25519 "+forged)
	byAnybody := newPrint(t)
	conn, err := net.Dial("unixgram", "/dev/log")
	mustDo(t, err)
	fmt.Fprintf(conn, "<38>%s sshd[1]: Accepted publickey for %s from 192.0.2.67 port 22 ssh2: ED25519 %s", time.Now().Format(time.Stamp), a.user, byAnybody)
	conn.Close()
	// A file that was rotated, a month ago.
	rotated, err := os.Create("/var/log/auth.log.7.gz")
	mustDo(t, err)
	t.Cleanup(func() { _ = os.Remove(rotated.Name()) })
	then := time.Now().UTC().Add(-30 * 24 * time.Hour).Truncate(time.Second)
	z := gzip.NewWriter(rotated)
	fmt.Fprintf(z, "%s gate sshd[9]: Accepted publickey for %s from 2001:db8::9 port 9 ssh2: ED25519 %s\n", then.Format(time.RFC3339), a.user,
		engineer.Fingerprint())
	mustDo(t, z.Close())
	mustDo(t, rotated.Close())
	mustDo(t, os.Chtimes(rotated.Name(), then, then.Add(time.Minute)))

	used := func(query ...string) map[string]wire.UsedRow {
		t.Helper()
		var all wire.List[wire.UsedRow]
		mustDo(t, json.Unmarshal([]byte(d.must(t, append([]string{"access", "used", "-json"}, query...)...)), &all))
		out := map[string]wire.UsedRow{}
		for _, r := range all.Items {
			if r.LoginUser == a.user && r.Instance == name {
				out[r.Fingerprint] = r
			}
		}
		return out
	}
	onRecord := func() wire.Access {
		t.Helper()
		var all wire.List[wire.Access]
		mustDo(t, json.Unmarshal([]byte(d.must(t, "access", "list", "-instance", name, "-key", name+"-key", "-json")), &all))
		if len(all.Items) != 1 {
			t.Fatalf("%+v", all)
		}
		return all.Items[0]
	}
	without := d.must(t, "survey", name, "-identity", a.identity)
	contains(t, "without sudo", without, "not seen: no log of logins can be read there")
	if rows := used("-instance", name); len(rows) != 0 {
		t.Errorf("read by nobody: %+v", rows)
	}
	contains(t, "who, before", d.must(t, "who", name), "not seen")
	a.grantSudo(t)
	evidence := onRecord().Evidence
	contains(t, "read", d.must(t, "survey", name, "-identity", a.identity), "of its log (auth.log) were read", "plumlatch access used -instance "+name)
	rows := used("-instance", name)
	if r := rows[engineer.Fingerprint()]; r.Key != name+"-key" || r.Count < 3 || !r.First.Equal(then) || time.Since(r.Last) > time.Hour ||
		r.Trusted || !strings.Contains(strings.Join(r.Addresses, " "), "2001:db8::9") || !strings.Contains(strings.Join(r.Addresses, " "), "127.0.0.1") {
		t.Errorf("the engineer's: %+v", r)
	}
	if r := rows[stranger.Fingerprint()]; r.Key != "" || r.Count != 3 || r.Authority != "" {
		t.Errorf("a stranger's: %+v", r)
	}
	if r := rows[certified.Fingerprint()]; r.Authority != ca.Fingerprint() || r.CertID != id || r.Count != 1 {
		t.Errorf("a certificate's: %+v", r)
	}
	if r, ok := rows[forged]; ok {
		t.Errorf("no login, and counted: %+v", r)
	}
	if r := rows[byAnybody]; r.Count != 1 || r.Trusted {
		t.Errorf("what anybody can write: %+v", r)
	}
	text := d.must(t, "access", "used", "-instance", name)
	contains(t, "listed", text, name+"-key", "? "+stranger.Fingerprint(), "as a text file says", "Its log (auth.log) was read", "is not seen",
		"certified as \"night watch")
	contains(t, "who", d.must(t, "who", name), "LAST USED", "as a text file says")
	contains(t, "the key", d.must(t, "key", "show", name+"-key"), "last used", ", on "+name)
	if r := used("-key", name+"-key"); len(r) != 1 {
		t.Errorf("by its key: %+v", r)
	}
	if r := used("-key", stranger.Fingerprint()); len(r) != 1 {
		t.Errorf("by a fingerprint: %+v", r)
	}
	has(t, "today", d.reasonsOf(t, "instance", name), "unknown-key-used", true)
	has(t, "today", d.reasonsOf(t, "instance", name), "bad-key-used", false)
	fresh := d.must(t, "today", "-what", "new-address-used", "-instance", name)
	contains(t, "a new address, by a line that anybody can write", fresh, "192.0.2.67", "any local user can write")
	if strings.Contains(fresh, "2001:db8::9") {
		t.Errorf("a month ago: %s", fresh)
	}
	strangers := d.must(t, "today", "-what", "unknown-key-used", "-instance", name)
	contains(t, "today", strangers, stranger.Fingerprint(), "plumlatch access used -instance "+name)
	if strings.Contains(strangers, certified.Fingerprint()) || strings.Contains(strangers, engineer.Fingerprint()) {
		t.Errorf("no strangers: %s", strangers)
	}
	// It is the instance's word: what is known of the access by ourselves is what it was.
	if now := onRecord(); now.Evidence != evidence || now.Used == nil {
		t.Errorf("known was %s, and is %+v", evidence, now)
	}
	// Read again, a day counts what it counted, and the logins since.
	before := rows[engineer.Fingerprint()]
	mustDo(t, os.Remove(rotated.Name()))
	d.must(t, "survey", name, "-identity", a.identity)
	again := used("-instance", name)
	if r := again[engineer.Fingerprint()]; r.Count <= before.Count || r.Count > before.Count+6 || !r.First.Equal(then) {
		t.Errorf("again: %+v, before %+v", r, before)
	}
	if r := again[stranger.Fingerprint()]; r.Count != 3 {
		t.Errorf("again, a stranger's: %+v", r)
	}
	// Lost, and used: before that it was nobody's business.
	d.must(t, "key", "lost", name+"-key")
	d.must(t, "survey", name, "-inside")
	has(t, "lost, and not used since", d.reasonsOf(t, "instance", name), "bad-key-used", false)
	time.Sleep(1100 * time.Millisecond) // the log has seconds
	if out, ok := ssh(a.identity, a.user); !ok {
		t.Fatalf("a login: %s", out)
	}
	d.must(t, "survey", name, "-identity", a.identity)
	has(t, "lost, and used", d.reasonsOf(t, "instance", name), "bad-key-used", true)
	contains(t, "listed", d.must(t, "access", "used", "-key", name+"-key"), name+"-key is lost, and came in on "+name)
	// What a client makes up is refused, and changes nothing.
	var body wire.ClientSurvey
	body.Privilege = "root"
	now := time.Now().UTC()
	good := wire.LoggedUse{LoginUser: a.user, Method: "publickey", Fingerprint: forged, From: "192.0.2.66", Day: now.Format(time.DateOnly), First: now.Truncate(time.Second),
		Last: now.Truncate(time.Second), Count: 1}
	for what, change := range map[string]func(*wire.LoginLog, *wire.LoggedUse){
		"another source":  func(l *wire.LoginLog, _ *wire.LoggedUse) { l.Source = "hearsay" },
		"a trusted text":  func(_ *wire.LoginLog, u *wire.LoggedUse) { u.Trusted = true },
		"no fingerprint":  func(_ *wire.LoginLog, u *wire.LoggedUse) { u.Fingerprint = "SHA256:x" },
		"no address":      func(_ *wire.LoginLog, u *wire.LoggedUse) { u.From = "gate" },
		"another day":     func(_ *wire.LoginLog, u *wire.LoggedUse) { u.Day = "2001-01-01" },
		"in the future":   func(_ *wire.LoginLog, u *wire.LoggedUse) { u.Last = u.Last.Add(12 * time.Hour) },
		"no count":        func(_ *wire.LoginLog, u *wire.LoggedUse) { u.Count = 0 },
		"a clock of 1970": func(l *wire.LoginLog, _ *wire.LoggedUse) { l.Clock = time.Unix(1, 0) },
	} {
		log, use := wire.LoginLog{Source: "auth.log", Clock: now}, good
		change(&log, &use)
		log.Uses, body.Logins = []wire.LoggedUse{use}, &log
		if r := d.api(t, "POST", "/api/v1/instances/"+url.PathEscape(name)+"/client-survey", mustJSON(t, body), "Authorization", "Bearer "+d.token); r.status != 422 {
			t.Errorf("%s: %d %s", what, r.status, r.body)
		}
	}
	if _, ok := used("-instance", name)[forged]; ok {
		t.Error("what was refused stands there")
	}
}

// newPrint is the fingerprint of a key that nobody has.
func newPrint(t *testing.T) string {
	t.Helper()
	p, err := keypair.ReadPublic([]byte(newPublic(t)))
	mustDo(t, err)
	return p.Fingerprint()
}
