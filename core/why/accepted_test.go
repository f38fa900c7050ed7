package why

import (
	"strings"
	"testing"
)

const fp = "SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"

func TestReadSessions(t *testing.T) {
	other := strings.ReplaceAll(fp, "AAA", "BBB")
	log := "Nov 23 10:00:00 gate sshd[100]: Accepted publickey for crew from 192.0.2.1 port 4 ssh2: ED25519 " +
		other + "\n" +
		"Nov 23 11:00:00 gate sshd[100]: Accepted publickey for crew from 192.0.2.7 port 5 ssh2: ED25519 " + fp + "\n" +
		"Nov 23 11:00:00 gate sshd-session[200]: Accepted publickey for crew from 192.0.2.8 port 5 ssh2: RSA " +
		other + "\n" +
		"Nov 23 11:00:00 gate sshd[300]: Accepted publickey for other from 192.0.2.8 port 5 ssh2: RSA " + fp + "\n" +
		"Nov 23 11:00:01 gate sshd[900]: Invalid user sshd[200]: Accepted publickey for crew from 192.0.2.66 port 5 ssh2: RSA " + fp + "\n" +
		"Nov 23 11:00:00 gate crew: sshd[400]: Accepted publickey for crew from x port 5 ssh2: RSA " + fp[:20] + "\n"
	ps := "    1     0 init\n  100     1 sshd: crew [priv]\n  101   100 sshd: crew@pts/0\n  102   101 -bash\n  200 " +
		"    1 sshd-session: crew [priv]\n  201   200 sshd-session: crew@notty\n  202   201 sh -c ps\n" +
		"  300     1 sshd: other [priv]\n  400     1 sshd: crew [priv]\n  500     1 vim sshd: crew [priv]\n"
	got := ReadSessions(log, ps, "crew", 202)
	want := []SSHDSession{{100, "crew", "192.0.2.7", fp, false}, {200, "crew", "192.0.2.8", other, true},
		{400, "crew", "", "", false}}
	if len(got) != len(want) {
		t.Fatalf("%+v", got)
	}
	for n := range want {
		if got[n] != want[n] {
			t.Errorf("%+v, want %+v", got[n], want[n])
		}
	}
	if got := ReadSessions("", " 7 1 sshd: root@pts/1\n", "root", 9); len(got) != 1 || got[0].PID != 7 || got[0].Own {
		t.Errorf("root: %+v", got)
	}
}

func FuzzReadSessions(f *testing.F) {
	f.Add("sshd[1]: Accepted publickey for a from b port 1 ssh2: X "+fp, "1 1 sshd: a [priv]", 1)
	f.Fuzz(func(t *testing.T, log, ps string, own int) {
		for _, s := range ReadSessions(log, ps, "a", own) {
			if s.PID < 0 || s.User != "a" {
				t.Errorf("%+v", s)
			}
		}
	})
}
