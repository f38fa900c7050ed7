package sshconfig

import (
	"errors"
	"net/netip"
	"strings"
	"testing"

	"plumlatch/core/hostkeys"
)

func good() Host {
	return Host{Name: "berth-board-1", Address: netip.MustParseAddr("192.0.2.7"), Port: 2222, User: "debian",
		IdentityFile: "/home/tess/my keys/50% night", Alias: "plumlatch-a1",
		KnownHosts: "/home/tess/.ssh/plumlatch_known_hosts"}
}

func TestRender(t *testing.T) {
	h := good()
	h.Hop = &Host{Name: "plumlatch-a1-hop", Address: netip.MustParseAddr("2001:db8::1"), Port: 22, User: "gate",
		IdentityFile: "/k", Alias: "plumlatch-a1-hop", KnownHosts: "/n"}
	text, err := Render([]string{"first", "service: x\ny"}, []Host{h},
		func(o string) bool { return o != "CheckHostIP" })
	if err != nil {
		t.Fatal(err)
	}
	want := `# first
# service: xy

Host plumlatch-a1-hop
    HostName 2001:db8::1
    Port 22
    User gate
    IdentityFile "/k"
    IdentitiesOnly yes
    HostKeyAlias plumlatch-a1-hop
    UserKnownHostsFile "/n"
    StrictHostKeyChecking yes
    UpdateHostKeys no

Host berth-board-1
    HostName 192.0.2.7
    Port 2222
    User debian
    IdentityFile "/home/tess/my keys/50%% night"
    IdentitiesOnly yes
    HostKeyAlias plumlatch-a1
    UserKnownHostsFile "/home/tess/.ssh/plumlatch_known_hosts"
    StrictHostKeyChecking yes
    UpdateHostKeys no
    ProxyJump plumlatch-a1-hop
`
	if text != want {
		t.Errorf("got\n%s", text)
	}
	if b := Blocks(text); len(b) != 2 || b["berth-board-1"]["Port"] != "2222" {
		t.Errorf("read back: %v", b)
	}
	twin := good()
	twin.Name = "Berth-Board-1"
	if text, err := Render(nil, []Host{good(), twin}, nil); err == nil {
		t.Errorf("two that differ by case: %s", text)
	}
}

func TestCheck(t *testing.T) {
	for what, c := range map[string]struct {
		change func(*Host)
		want   error
	}{
		"name":           {func(h *Host) { h.Name = "a b" }, ErrName},
		"name, pattern":  {func(h *Host) { h.Name = "a*" }, ErrName},
		"name, option":   {func(h *Host) { h.Name = "-a" }, ErrName},
		"address":        {func(h *Host) { h.Address = netip.Addr{} }, ErrAddress},
		"address, zone":  {func(h *Host) { h.Address = netip.MustParseAddr("fe80::1%a") }, ErrAddress},
		"port":           {func(h *Host) { h.Port = 65536 }, ErrPort},
		"user":           {func(h *Host) { h.User = "%r" }, ErrUser},
		"alias":          {func(h *Host) { h.Alias = "a,b" }, hostkeys.ErrAlias},
		"path, relative": {func(h *Host) { h.IdentityFile = "k" }, ErrPath},
		"path, quote":    {func(h *Host) { h.IdentityFile = `/a"b` }, ErrPath},
		"path, line":     {func(h *Host) { h.KnownHosts = "/a\nb" }, ErrPath},
		"path, variable": {func(h *Host) { h.IdentityFile = "/a/${HOME}" }, ErrPath},
		"hop of a hop":   {func(h *Host) { g, i := good(), good(); g.Hop = &i; h.Hop = &g }, ErrName},
		"hop":            {func(h *Host) { g := good(); g.Port = 0; h.Hop = &g }, ErrPort},
	} {
		h := good()
		c.change(&h)
		if err := h.Check(); !errors.Is(err, c.want) {
			t.Errorf("%s: %v", what, err)
		}
		if text, err := Render(nil, []Host{h}, nil); err == nil {
			t.Errorf("%s was written: %s", what, text)
		}
	}
}

func TestCompare(t *testing.T) {
	before, err := Render(nil, []Host{good()}, nil)
	if err != nil {
		t.Fatal(err)
	}
	moved, other := good(), good()
	moved.Address, other.Name, other.Alias = netip.MustParseAddr("192.0.2.8"), "tide-gauge-3", "plumlatch-b2"
	after, err := Render(nil, []Host{moved, other}, nil)
	if err != nil {
		t.Fatal(err)
	}
	got := Compare(before, after)
	if len(got) != 2 || got[0] != (Change{"berth-board-1", "changed", "HostName", "192.0.2.7", "192.0.2.8"}) ||
		got[1].How != "new" {
		t.Errorf("%+v", got)
	}
	if got := Compare(after, before); len(got) != 2 || got[1].How != "gone" {
		t.Errorf("back: %+v", got)
	}
}

func TestInclude(t *testing.T) {
	const path = "/home/tess/.ssh/plumlatch_hosts"
	for text, want := range map[string]string{
		"": IncludeMissing, "Host a\n": IncludeMissing, "Include " + path + "\n": IncludeFirst,
		"# x\n\n  include = \"" + path + "\"\nHost a\n": IncludeFirst,
		"Include other " + path + "\n":                  IncludeFirst,
		"Include other\nInclude plumlatch_hosts\n":      IncludeFirst, "Host a\nInclude " + path + "\n": IncludeLate,
		"Match all\n  Include plumlatch_hosts\n": IncludeLate, "#Include " + path + "\n": IncludeMissing,
		"Port 22\nInclude " + path: IncludeLate,
	} {
		if got := FindInclude(text, path, "plumlatch_hosts"); got != want {
			t.Errorf("%q: %s, want %s", text, got, want)
		}
	}
}

func TestNamed(t *testing.T) {
	got := strings.Join(Named("# Host no\nHost a b* !c\n  Port 2\nhost=\"d e\" f\nMatch host g\n"), " ")
	if got != "a d e f" {
		t.Errorf("%q", got)
	}
}

func FuzzInclude(f *testing.F) {
	for _, s := range []string{"", "Host a\n  Port 2", "Match all\r\nInclude /w", "\ufeffInclude /w x\n",
		"include=\"/w\"\n\n\n", "Include \"/w", "\r\n"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if len(text) > 10_000 {
			return
		}
		out := AddInclude(text, "/w", "w")
		if FindInclude(out, "/w", "w") != IncludeFirst {
			t.Errorf("%q became %q", text, out)
		}
		// Every line that is not the Include alone stays, in its order.
		rest := out
		for line := range strings.Lines(strings.TrimPrefix(text, "\ufeff")) {
			if word, args := directive(line); word == "include" && len(fields(args)) == 1 {
				continue
			}
			i := strings.Index(rest, line)
			if i < 0 {
				t.Fatalf("%q is gone from %q", line, out)
			}
			rest = rest[i+len(line):]
		}
		if again := AddInclude(out, "/w", "w"); FindInclude(again, "/w") != IncludeFirst ||
			strings.Count(again, "/w") > strings.Count(out, "/w") {
			t.Errorf("twice: %q", again)
		}
	})
}
