package sshdconfig

import (
	"slices"
	"testing"
)

func TestRead(t *testing.T) {
	files := map[string]string{
		"/etc/ssh/sshd_config": "# ours\nInclude sshd_config.d/*.conf\nPasswordAuthentication " +
			"yes\nPermitRootLogin=no # never\nAuthorizedKeysFile \".ssh/keys\"\n" +
			"Match User quay\n  PasswordAuthentication yes\n  ForceCommand /bin/false\nMatch all\nX11Forwarding no\n" +
			"HostKey /etc/ssh/keys/quay\nHostKey /etc/ssh/keys/crane\n",
		"/etc/ssh/sshd_config.d/10-a.conf": "passwordauthentication no\nMatch Address " +
			"192.0.2.0/24\nPermitRootLogin yes\n",
	}
	text := func(f string) (string, bool) { s, ok := files[f]; return s, ok }
	glob := func(p string) []string {
		if p != "/etc/ssh/sshd_config.d/*.conf" {
			t.Errorf("pattern %q", p)
		}
		return []string{"/etc/ssh/sshd_config.d/10-a.conf", "/etc/ssh/sshd_config.d/20-gone.conf"}
	}
	c := Read("/etc/ssh/sshd_config", text, glob)
	for keyword, want := range map[string]Setting{
		"PasswordAuthentication": {"no", "/etc/ssh/sshd_config.d/10-a.conf", 1},
		"PermitRootLogin":        {"no", "/etc/ssh/sshd_config", 4},
		"authorizedkeysfile":     {".ssh/keys", "/etc/ssh/sshd_config", 5},
		"X11Forwarding":          {"no", "/etc/ssh/sshd_config", 10},
	} {
		if got, ok := c.Get(keyword); !ok || got != want {
			t.Errorf("%s: %+v %v, want %+v", keyword, got, ok, want)
		}
	}
	if got := c.All("hostkey"); len(got) != 2 || got[0].Value != "/etc/ssh/keys/quay" || got[1].Value != "/etc/ssh/keys/crane" {
		t.Errorf("HostKey: %+v", got)
	}
	if _, ok := c.Get("ForceCommand"); ok {
		t.Error("what stands below a Match holds for everybody")
	}
	if !slices.Equal(c.Matched, []string{"permitrootlogin", "passwordauthentication", "forcecommand"}) ||
		!slices.Equal(c.Missing, []string{"/etc/ssh/sshd_config.d/20-gone.conf"}) {
		t.Errorf("%+v", c)
	}
}

func TestAnIncludeOfItselfEnds(t *testing.T) {
	n := 0
	Read("/a", func(string) (string, bool) { n++; return "Include /a\nInclude /a\n", true },
		func(p string) []string { return []string{p} })
	if n > maxIncludes {
		t.Errorf("%d files were read", n)
	}
}

func FuzzRead(f *testing.F) {
	f.Add("Match all\nInclude x\nA=b #c\n")
	f.Fuzz(func(t *testing.T, s string) {
		Read("/a", func(string) (string, bool) { return s, true }, func(p string) []string { return []string{p} })
	})
}
