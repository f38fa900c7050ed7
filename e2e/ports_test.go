package e2e

import (
	"encoding/json"
	"strings"
	"testing"

	"plumlatch/core/wire"
)

// TestOtherPorts: rules for other ports have the same ends and journal, and neither open the SSH port nor
// keep anybody from being cut off there.
func TestOtherPorts(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 136)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	d.launchBoard(t, "port-board", s.key)
	rules := func() (out []wire.Rule) {
		t.Helper()
		var r wire.Rules
		mustDo(t, json.Unmarshal([]byte(d.must(t, "instance", "rules", "port-board", "-json")), &r))
		for _, g := range r.Groups {
			out = append(out, g.Rules...)
		}
		return out
	}
	has := func(from, ports string) bool {
		t.Helper()
		for _, r := range rules() {
			if r.From == from && r.Ports == ports {
				return true
			}
		}
		return false
	}
	contains(t, "admitted", d.must(t, "instance", "admit", "port-board", "-from", "198.51.100.0/24", "-port", "9000-9001", "-reason",
		"the tide display"), "lets 198.51.100.0/24 in to port 9000-9001")
	if !has("198.51.100.0/24", "9000-9001") || has("198.51.100.0/24", "") {
		t.Errorf("rules: %+v", rules())
	}
	contains(t, "shown", d.must(t, "instance", "rules", "port-board"), "TO PORT", "9000-9001", "SSH", "the tide display")
	contains(t, "journal", d.must(t, "journal", "list", "-target", "instance port-board"), "198.51.100.0/24 port 9000-9001")

	// The same range for the SSH port is another rule; one's own address there is not replaced by one elsewhere.
	d.must(t, "instance", "admit", "port-board", "-from", "198.51.100.0/24")
	d.must(t, "instance", "admit", "port-board", "-from", "me", "-my-address", "203.0.113.9", "-yes")
	d.must(t, "instance", "admit", "port-board", "-from", "me", "-my-address", "203.0.113.10", "-port", "9000", "-yes")
	if !has("203.0.113.9/32", "") || !has("203.0.113.10/32", "9000") || !has("198.51.100.0/24", "") {
		t.Errorf("rules: %+v", rules())
	}
	d.must(t, "instance", "admit", "port-board", "-from", "me", "-my-address", "203.0.113.11", "-port", "9000", "-yes")
	if has("203.0.113.10/32", "9000") || !has("203.0.113.11/32", "9000") || !has("203.0.113.9/32", "") {
		t.Errorf("one's own address has moved: %+v", rules())
	}

	// An end, kept by the service.
	d.must(t, "instance", "admit", "port-board", "-from", "192.0.2.0/24", "-port", "7080", "-for", "3s")
	waitFor(t, "its end", func() bool { return !has("192.0.2.0/24", "7080") })

	// Withdrawing one of other ports leaves that of the SSH port, and asks nobody for a way in.
	d.must(t, "instance", "unadmit", "port-board", "-from", "198.51.100.0/24", "-port", "9000-9001", "-yes")
	if has("198.51.100.0/24", "9000-9001") || !has("198.51.100.0/24", "") {
		t.Errorf("withdrawn: %+v", rules())
	}

	for ports, want := range map[string]string{
		"9001-9000": "did you mean 9000-9001?", "0": "from 1 to 65535", "70000": "from 1 to 65535", "web": "from 1 to 65535",
		"2222": "port 2222 is its SSH port", "2000-3000": "port 2222 is its SSH port",
	} {
		before := len(rules())
		if r := d.client(t, "", "instance", "admit", "port-board", "-from", "198.51.100.0/24", "-port", ports, "-yes"); r.code != 1 ||
			!strings.Contains(r.err, want) || len(rules()) != before {
			t.Errorf("-port %s: %+v", ports, r)
		}
	}
}
