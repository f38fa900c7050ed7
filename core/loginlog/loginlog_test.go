package loginlog

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"
)

const (
	printA = "SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"
	printB = "SHA256:BBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBB"
	good   = "Accepted publickey for debian from 192.0.2.7 port 50022 ssh2: ED25519 " + printA
)

// TestMessage: logins that the server let in are read, and nothing that only looks like one.
func TestMessage(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		good: "debian 192.0.2.7 publickey ED25519 " + printA,
		"Accepted publickey for root from 2001:db8::7 port 22 ssh2: RSA " + printB:                                                   "root 2001:db8::7 publickey RSA " + printB,
		"Accepted password for debian from ::ffff:192.0.2.7 port 50022 ssh2":                                                         "debian 192.0.2.7 password  ",
		"Accepted keyboard-interactive/pam for debian from 192.0.2.7 port 50022 ssh2":                                                "debian 192.0.2.7 keyboard-interactive/pam  ",
		"Accepted hostbased for debian from 192.0.2.7 port 50022 ssh2: ED25519 " + printA + ", client user \"x\", client host \"y\"": "debian 192.0.2.7 hostbased  ",
		"Accepted publickey for debian from 192.0.2.7 port 50022 ssh2: ED25519-CERT " + printA + " ID night watch (serial 7) CA ED25519 " + printB: "debian 192.0.2.7 publickey ED25519-CERT " +
			printA + " by " + printB + " 7 night watch",
		// A key ID that looks like the rest of the line: what the server wrote is what stands last.
		"Accepted publickey for debian from 192.0.2.7 port 50022 ssh2: ED25519-CERT " + printA + " ID x (serial 1) CA RSA " + printA + " (serial 7) CA ED25519 " + printB: "debian 192.0.2.7 publickey ED25519-CERT " +
			printA + " by " + printB + " 7 x (serial 1) CA RSA " + printA,
		"Accepted publickey for debian from 192.0.2.7 port 50022 ssh2: ED25519-CERT " + printA + " ID y from 198.51.100.1 port 1 ssh2: ED25519 " + printB + " (serial 7) CA ED25519 " + printB: "debian 192.0.2.7 publickey ED25519-CERT " +
			printA + " by " + printB + " 7 y from 198.51.100.1 port 1 ssh2: ED25519 " + printB,

		"Accepted publickey for debian from 192.0.2.7 port 50022 ssh2: ED25519-CERT " + printA + " ID x (serial 7) CA ED25519 " + printB + " and more": "",
		"": "",
		"Failed publickey for debian from 192.0.2.7 port 50022 ssh2: ED25519 " + printA:                          "",
		"Failed password for invalid user Accepted publickey for root from 192.0.2.7 port 1 ssh2: RSA " + printA: "",
		"Invalid user " + good + " from 192.0.2.9 port 5":                                                        "",
		"Invalid user x\n" + good: "",
		good + "\n" + good:        "",
		good + "\x00":             "",
		" " + good:                "",
		"Partial publickey for debian from 192.0.2.7 port 50022 ssh2: ED25519 " + printA:                             "",
		"Accepted publickey for invalid user debian from 192.0.2.7 port 50022 ssh2: ED25519 " + printA:               "",
		"Accepted publickey for a from 192.0.2.1 port 1 ssh2: b from 192.0.2.7 port 50022 ssh2: ED25519 " + printA:   "",
		"Accepted publickey for debian from 192.0.2.7 port 50022 ssh2":                                               "",
		"Accepted publickey for debian from 192.0.2.7 port 99999 ssh2: ED25519 " + printA:                            "",
		"Accepted publickey for debian from UNKNOWN port 50022 ssh2: ED25519 " + printA:                              "",
		"Accepted publickey for debian from 192.0.2.7 port 50022 ssh2: ED25519 SHA256:AAAA":                          "",
		"Accepted publickey for debian from 192.0.2.7 port 50022 ssh2: ED25519-CERT " + printA:                       "",
		"Accepted publickey for debian from 192.0.2.7 port 50022 ssh2: ED25519 MD5:00:11:22:33":                      "",
		"Accepted publickey for " + strings.Repeat("a", 5000) + " from 192.0.2.7 port 50022 ssh2: ED25519 " + printA: "",
	} {
		l, ok := Message(text)
		got := ""
		if ok {
			got = fmt.Sprintf("%s %s %s %s %s", l.User, l.From, l.Method, l.Kind, l.Print)
			if l.Cert != nil {
				got += fmt.Sprintf(" by %s %d %s", l.Cert.CA, l.Cert.Serial, l.Cert.ID)
			}
		}
		if got != want {
			t.Errorf("%q:\n%q, and not\n%q", text, got, want)
		}
	}
}

// entry is one of the journal with these fields, over those of sshd's own.
func entry(over map[string]string) string {
	f := map[string]string{"__REALTIME_TIMESTAMP": `"1764512430000000"`, "__CURSOR": `"s=1;i=2"`, "_UID": `"0"`, "_EXE": `"/usr/sbin/sshd"`,
		"_SYSTEMD_UNIT": `"ssh.service"`, "MESSAGE": `"` + good + `"`, "SYSLOG_IDENTIFIER": `"sshd"`}
	for k, v := range over {
		f[k] = v
		if v == "" {
			delete(f, k)
		}
	}
	var out []string
	for k, v := range f {
		out = append(out, fmt.Sprintf("%q:%s", k, v))
	}
	return "{" + strings.Join(out, ",") + "}"
}

// TestJournal: an entry counts where the trusted fields say that the server wrote it.
func TestJournal(t *testing.T) {
	t.Parallel()
	for what, c := range map[string]struct {
		over map[string]string
		is   bool
	}{
		"the server's":                    {nil, true},
		"of a session of the server":      {map[string]string{"_EXE": `"/usr/lib/openssh/sshd-session"`}, true},
		"its program is not told":         {map[string]string{"_EXE": ""}, true},
		"its own unit for a connection":   {map[string]string{"_EXE": "", "_SYSTEMD_UNIT": `"ssh@3-192.0.2.1:22.service"`}, true},
		"logger, by anybody":              {map[string]string{"_UID": `"1000"`, "_EXE": `"/usr/bin/logger"`}, false},
		"logger, by root":                 {map[string]string{"_EXE": `"/usr/bin/logger"`, "_SYSTEMD_UNIT": `"session-3.scope"`}, false},
		"logger in the server's unit":     {map[string]string{"_EXE": `"/usr/bin/logger"`}, false},
		"somebody's copy of the server":   {map[string]string{"_UID": `"1000"`}, false},
		"a unit that only sounds like it": {map[string]string{"_EXE": "", "_SYSTEMD_UNIT": `"sshd-exporter.service"`}, false},
		"no unit, no program":             {map[string]string{"_EXE": "", "_SYSTEMD_UNIT": ""}, false},
		"the trusted field twice":         {map[string]string{"_UID": `["0","1000"]`}, false},
		"another message":                 {map[string]string{"MESSAGE": `"Connection closed by 192.0.2.7"`}, false},
		"a message that is no text":       {map[string]string{"MESSAGE": `[65,99,99]`}, false},
		"no message":                      {map[string]string{"MESSAGE": `null`}, false},
	} {
		e, err := Journal([]byte(entry(c.over)))
		if err != nil || e.Is != c.is || e.Cursor != "s=1;i=2" {
			t.Errorf("%s: %+v %v", what, e, err)
		}
		if e.Is && (!e.Login.Trusted || e.Login.Print != printA || !e.Login.At.Equal(time.Unix(1764512430, 0))) {
			t.Errorf("%s: %+v", what, e.Login)
		}
	}
	for _, text := range []string{"", "{", "[]", "garbage", entry(map[string]string{"__CURSOR": ""}), entry(map[string]string{"__REALTIME_TIMESTAMP": `"-1"`}),
		entry(map[string]string{"__REALTIME_TIMESTAMP": `"x"`}), `{"MESSAGE":"` + strings.Repeat("a", 70<<10) + `"}`} {
		if e, err := Journal([]byte(text)); !errors.Is(err, ErrEntry) || e.Is {
			t.Errorf("%.60q: %+v %v", text, e, err)
		}
	}
}

// TestText: lines of a text file are read with both sorts of times, and none of them is trusted.
func TestText(t *testing.T) {
	t.Parallel()
	written := time.Date(2026, 1, 2, 3, 0, 0, 0, time.FixedZone("x", 3600))
	for text, want := range map[string]string{
		"Jan  2 02:59:59 berth-1 sshd[77]: " + good:                             "2026-01-02T01:59:59Z",
		"Dec 31 23:00:00 berth-1 sshd[77]: " + good:                             "2025-12-31T22:00:00Z",
		"2026-01-02T02:59:59.123456+01:00 berth-1 sshd-session[77]: " + good:    "2026-01-02T01:59:59Z",
		"2026-01-02T01:59:59Z berth-1 sshd[77]: " + good + "\r\n":               "2026-01-02T01:59:59Z",
		"Jan  2 02:59:59 berth-1 sshd: " + good:                                 "",
		"Jan  2 02:59:59 berth-1 sudo[77]: " + good:                             "",
		"Jan  2 02:59:59 berth-1 sshd[77]: Invalid user " + good:                "",
		"Jan 99 02:59:59 berth-1 sshd[77]: " + good:                             "",
		"Jan  2 02:59:59 berth-1 note[1]: sshd[77]: " + good:                    "",
		"Jan  2 02:59:59 berth-1 sshd[77]: message repeated 2 times: [ " + good: "",
		"2026-99-02T01:59:59Z berth-1 sshd[77]: " + good:                        "",
		good: "",
	} {
		l, ok := Text(text, written)
		if ok != (want != "") || ok && (l.At.Format(time.RFC3339) != want || l.Trusted) {
			t.Errorf("%q: %v %+v", text, ok, l)
		}
	}
}

// TestTally: logins are counted by key, user, address and day, in bounded memory.
func TestTally(t *testing.T) {
	t.Parallel()
	var tally Tally
	l, _ := Message(good)
	for n := range 5 {
		l.At = time.Date(2026, 11, 29, 23, 58+n, 0, 0, time.UTC)
		tally.Add(l)
	}
	cert := l
	cert.Cert = &Cert{ID: "night watch", CA: printB}
	tally.Add(cert)
	all := tally.Uses()
	if len(all) != 3 || all[0].Count != 2 || all[0].Day != "2026-11-29" || all[0].Last.Minute() != 59 || all[1].Count+all[2].Count != 4 {
		t.Errorf("%+v", all)
	}
	if all[1].CA+all[2].CA != printB || all[1].CertID+all[2].CertID != "night watch" {
		t.Errorf("%+v", all)
	}
	var many Tally
	for n := range MaxUses + 10 {
		l.From = netip.AddrFrom4([4]byte{10, byte(n >> 16), byte(n >> 8), byte(n)})
		many.Add(l)
	}
	if len(many.Uses()) != MaxUses || many.LeftOut != 10 {
		t.Errorf("%d rows, %d left out", len(many.Uses()), many.LeftOut)
	}
}

// FuzzMessage: whatever a message is, what is taken for a login begins as the server begins, and names an address.
func FuzzMessage(f *testing.F) {
	f.Add(good)
	f.Add("Accepted publickey for debian from 192.0.2.7 port 50022 ssh2: ED25519-CERT " + printA + " ID x (serial 1) CA RSA " + printA + " (serial 7) CA ED25519 " + printB)
	f.Fuzz(func(t *testing.T, text string) {
		l, ok := Message(text)
		if ok && (!strings.HasPrefix(text, "Accepted "+l.Method+" for "+l.User+" from ") || !l.From.IsValid() || strings.ContainsAny(l.User, " \t\n")) {
			t.Errorf("%q: %+v", text, l)
		}
	})
}

func FuzzJournal(f *testing.F) {
	f.Add([]byte(entry(nil)))
	f.Add([]byte(entry(map[string]string{"_UID": `"7"`})))
	f.Fuzz(func(t *testing.T, line []byte) {
		if e, err := Journal(line); err != nil && e.Is || e.Is && (e.Login.User == "" || !e.Login.Trusted) {
			t.Errorf("%+v %v", e, err)
		}
	})
}
