package e2e

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"plumlatch/core/wire"
)

func (d *demo) rules(t *testing.T, name string) (out []string) {
	t.Helper()
	var r wire.Rules
	mustDo(t, json.Unmarshal([]byte(d.must(t, "instance", "rules", name, "-json")), &r))
	for _, g := range r.Groups {
		for _, rule := range g.Rules {
			text := rule.From
			if rule.By != "" {
				text += " by " + rule.By
			}
			if rule.Until != nil {
				text += " with an end"
			}
			if !g.Own {
				text += " shared"
			}
			out = append(out, text)
		}
	}
	return out
}

// says tells whether a server greets whoever connects from an address.
func says(from, address string, port int) bool {
	d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}, Timeout: time.Second}
	c, err := d.Dial("tcp", net.JoinHostPort(address, fmt.Sprint(port)))
	if err != nil {
		return false
	}
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(time.Second))
	buf := make([]byte, 4)
	n, _ := c.Read(buf)
	return string(buf[:n]) == "SSH-"
}

// TestRules lets in and shuts out, for good and for a while, and looks at the
// door from each address.
func TestRules(t *testing.T) {
	t.Parallel()
	d := newDemo(filepath.Join(t.TempDir(), "rules"))
	if err := d.start("-seed=false", "-follow=300ms"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = d.stop() })
	dir := t.TempDir()
	d.must(t, "key", "create", "rule-key", "-dir", dir)
	for _, name := range []string{"rule-board", "rule-twin"} {
		d.must(t, "instance", "launch", name, "-image", "debian-12", "-size", "small", "-region", "north-pier",
			"-key", "rule-key")
	}
	i := d.instance(t, "rule-board")
	twin := d.instance(t, "rule-twin")
	open := func(from string) bool { return says(from, i.Address, i.Port) }
	if !open("127.0.0.1") || open("127.0.0.7") {
		t.Fatal("the beginning is not as it should be")
	}

	// A network into a group of the instance's own: nobody else is opened.
	out := d.must(t, "instance", "admit", "rule-board", "-from", "127.0.0.0/29", "-reason", "the tide office")
	if !open("127.0.0.7") || says("127.0.0.7", twin.Address, twin.Port) {
		t.Errorf("admitted: %s", out)
	}
	out = d.must(t, "instance", "rules", "rule-board")
	contains(t, "rules", out, "by harbour-lead: the tide office", "its own", "shared with 1 other",
		"the service itself")
	d.must(t, "instance", "unadmit", "rule-board", "-from", "127.0.0.0/29")
	if open("127.0.0.7") {
		t.Error("still let in")
	}

	// Into the shared one: it is said who else is opened, and asked.
	if r := d.client(t, "", "instance", "admit", "rule-board", "-from", "127.0.0.7", "-shared"); r.code != 1 ||
		!strings.Contains(r.err, "rule-twin") || !strings.Contains(r.err, "-yes") {
		t.Errorf("shared, without leave: %+v", r)
	}
	d.must(t, "instance", "admit", "rule-board", "-from", "127.0.0.7", "-shared", "-yes")
	if !open("127.0.0.7") || !says("127.0.0.7", twin.Address, twin.Port) {
		t.Error("not both are open")
	}
	d.must(t, "instance", "unadmit", "rule-twin", "-from", "127.0.0.7", "-yes")

	// For a while: the end is kept by the service.
	out = d.must(t, "instance", "admit", "rule-board", "-from", "127.0.0.9", "-for", "1h")
	if !open("127.0.0.9") || !strings.Contains(out, "ends by itself") ||
		!slices.Contains(d.rules(t, "rule-board"), "127.0.0.9/32 by harbour-lead with an end") {
		t.Errorf("for a while: %s %v", out, d.rules(t, "rule-board"))
	}
	d.must(t, "instance", "admit", "rule-board", "-from", "127.0.0.9", "-for", "1s") // a later wish counts
	waitFor(t, "the rule's end", func() bool { return !open("127.0.0.9") })
	waitFor(t, "its record's end", func() bool {
		return !slices.ContainsFunc(d.rules(t, "rule-board"),
			func(s string) bool { return strings.HasPrefix(s, "127.0.0.9/32") })
	})

	// The end is kept also of a rule that was withdrawn and put back in between.
	admitted := time.Now()
	early := func(end time.Duration) bool { return time.Since(admitted) < end } // on a machine that is busy the end may have come
	d.must(t, "instance", "admit", "rule-board", "-from", "127.0.0.13", "-for", "45s")
	slow := faultSpec{Call: "unadmit", Name: "rule-board", How: "slow", Times: 1, Delay: 6000}
	held := func() bool { // the call has come, and its answer takes its time
		var left []faultSpec
		mustDo(t, standinCallAt(d, "GET", "/v1/faults", "", &left))
		return !slices.Contains(left, slow)
	}
	mustDo(t, standinCallAt(d, "POST", "/v1/faults", mustJSON(t, slow), nil))
	begun := d.api(t, "POST", "/api/v1/instances/rule-board/unadmit", `{"from":["127.0.0.13"],"cut_off":0}`)
	var w wire.Work
	mustDo(t, json.Unmarshal([]byte(begun.body), &w))
	waitFor(t, "the withdrawal", held)
	d.must(t, "work", "cancel", fmt.Sprint(w.ID))
	if !open("127.0.0.13") && early(45*time.Second) {
		t.Error("it was not put back")
	}
	waitFor(t, "the end of what was put back", func() bool { return !open("127.0.0.13") })

	// And it is kept if whoever kept it saw the withdrawal, and was done, before it was put
	// back: the look after the withdrawal is slow here.
	admitted = time.Now()
	begun = d.api(t, "POST", "/api/v1/instances/rule-board/rules", `{"from":["127.0.0.14"],"seconds":60}`)
	var keeps wire.Work
	if begun.status != http.StatusAccepted {
		t.Fatal(begun.status, begun.body)
	}
	mustDo(t, json.Unmarshal([]byte(begun.body), &keeps))
	waitFor(t, "the rule", func() bool { return open("127.0.0.14") })
	mustDo(t, standinCallAt(d, "POST", "/v1/faults", mustJSON(t, slow), nil))
	begun = d.api(t, "POST", "/api/v1/instances/rule-board/unadmit", `{"from":["127.0.0.14"],"cut_off":0}`)
	mustDo(t, json.Unmarshal([]byte(begun.body), &w))
	waitFor(t, "the withdrawal", held) // it has looked before; the look after is left
	mustDo(t, standinCallAt(d, "POST", "/v1/faults",
		`{"call":"groups","name":"rule-board","how":"slow","delay_ms":12000}`, nil))
	waitFor(t, "the end of the work that kept the end", func() bool {
		mustDo(t, json.Unmarshal([]byte(d.api(t, "GET", fmt.Sprintf("/api/v1/work/%d", keeps.ID), "").body), &keeps))
		return keeps.State == "done"
	})
	d.must(t, "work", "cancel", fmt.Sprint(w.ID))
	if !open("127.0.0.14") && early(60*time.Second) {
		t.Error("it was not put back")
	}
	waitFor(t, "the end of what was put back, and kept by nobody", func() bool { return !open("127.0.0.14") })
	contains(t, "journal", d.must(t, "journal", "list", "-target", "instance rule-board"),
		"withdraw 127.0.0.14/32 at its end")

	// A later wish counts: no end any more.
	d.must(t, "instance", "admit", "rule-board", "-from", "127.0.0.11", "-for", "2s")
	d.must(t, "instance", "admit", "rule-board", "-from", "127.0.0.11")
	time.Sleep(3 * time.Second)
	if !open("127.0.0.11") {
		t.Error("the earlier end was kept though a later wish had none")
	}
	if r := d.client(t, "", "instance", "admit", "rule-board", "-from", "127.0.0.1", "-shared", "-yes", "-for",
		"1h"); r.code != 1 || !strings.Contains(r.err, "without an end") {
		t.Errorf("an end for what stands without one: %+v", r)
	}

	// me: shown, asked, overridable; it replaces one's former me.
	if r := d.client(t, "", "instance", "admit", "rule-twin", "-from", "me"); r.code != 1 ||
		!strings.Contains(r.err, "The cloud sees you at 127.0.0.1/32") {
		t.Errorf("me, without a word: %+v", r)
	}
	d.must(t, "instance", "admit", "rule-twin", "-from", "me", "-my-address", "127.0.0.21")
	d.must(t, "instance", "admit", "rule-twin", "-from", "me", "-my-address", "127.0.0.22")
	if got := d.rules(t, "rule-twin"); !slices.Contains(got, "127.0.0.22/32 by harbour-lead") ||
		slices.ContainsFunc(got, func(s string) bool { return strings.HasPrefix(s, "127.0.0.21") }) {
		t.Errorf("me: %v", got)
	}
	d.must(t, "instance", "unadmit", "rule-twin", "-from", "me", "-my-address", "127.0.0.22")

	// The only way people come in is not withdrawn, but by number.
	r := d.client(t, "", "instance", "unadmit", "rule-twin", "-from", "127.0.0.1", "-yes")
	if r.code != 1 || !strings.Contains(r.err, "people would come in to 1 instance no more") || !open("127.0.0.1") {
		t.Errorf("the only way in (rule-board has another): %+v", r)
	}
	d.must(t, "instance", "admit", "rule-twin", "-from", "127.0.0.30", "-for", "1h") // an end does not count
	if r := d.client(t, "", "instance", "unadmit", "rule-twin", "-from", "127.0.0.1", "-yes"); r.code != 1 {
		t.Errorf("one with an end counted: %+v", r)
	}
	if r := d.client(t, "", "instance", "unadmit", "rule-twin", "-from", "127.0.0.1", "-cut-off", "2",
		"-yes"); r.code != 1 {
		t.Errorf("the wrong number: %+v", r)
	}
	if !open("127.0.0.1") {
		t.Fatal("it was shut all the same")
	}
	d.must(t, "instance", "unadmit", "rule-twin", "-from", "127.0.0.1", "-cut-off", "1", "-yes")
	if says("127.0.0.1", twin.Address, twin.Port) {
		t.Error("cut off, and still open")
	}

	for what, c := range map[string]struct {
		args []string
		says string
		code int
	}{
		"host bits": {[]string{"-from", "198.51.100.7/24"},
			"next: plumlatch instance admit rule-board -from 198.51.100.0/24", 1},
		"IPv6":            {[]string{"-from", "2001:db8::/64"}, "wrong family", 1},
		"mapped":          {[]string{"-from", "::ffff:198.51.100.0/120"}, "write the IPv4 network", 1},
		"the world":       {[]string{"-from", "0.0.0.0/0"}, "-world", 1},
		"half the world":  {[]string{"-from", "128.0.0.0/1"}, "-world", 1},
		"no range":        {[]string{"-from", "the office"}, "no address range", 1},
		"too long":        {[]string{"-from", "198.51.100.0/33"}, "no address range", 1},
		"nothing":         {[]string{}, "-from is missing", 2},
		"a negative time": {[]string{"-from", "198.51.100.0/24", "-for", "-5m"}, "give a time such as", 2},
		"two years":       {[]string{"-from", "198.51.100.0/24", "-for", "17520h"}, "a year", 1},
		"a bad address":   {[]string{"-from", "me", "-my-address", "me"}, "-my-address", 2},
	} {
		before := d.rules(t, "rule-board")
		r := d.client(t, "", append([]string{"instance", "admit", "rule-board"}, c.args...)...)
		if r.code != c.code || !strings.Contains(r.err, c.says) {
			t.Errorf("%s: %+v", what, r)
		}
		if after := d.rules(t, "rule-board"); !slices.Equal(before, after) {
			t.Errorf("%s: %v and then %v", what, before, after)
		}
	}
	d.must(t, "instance", "admit", "rule-board", "-from", "0.0.0.0/0", "-world")
	contains(t, "the world", d.must(t, "instance", "rules", "rule-board"), "THE WHOLE WORLD")
	r = d.client(t, "", "instance", "rules", "rule-bord")
	if r.code != 1 || !strings.Contains(r.err, "near it: rule-board") {
		t.Errorf("a name that is nearly one: %+v", r)
	}
	t.Run("addresses", func(t *testing.T) { staticAddresses(t, d, dir) })
	t.Run("restore", func(t *testing.T) { shutOut(t, d, twin) })
}

// shutOut: where no rule leads to the door, no way back in is called open.
func shutOut(t *testing.T, d *demo, i wire.Instance) {
	contains(t, "while a rule lets the service in", d.must(t, "restore", i.Name),
		"next: plumlatch restore "+i.Name+" -go")
	var groups []struct {
		ID    string
		Rules []struct{ ID, From string }
	}
	each := func() {
		t.Helper()
		groups = nil
		mustDo(t, standinCallAt(d, "GET", "/v1/instances/"+i.CloudID+"/groups", "", &groups))
		for _, g := range groups {
			for _, r := range g.Rules {
				mustDo(t, standinCallAt(d, "DELETE", "/v1/groups/"+g.ID+"/rules/"+r.ID+"?client_token=shut-"+r.ID, "",
					nil))
			}
		}
	}
	each()
	contains(t, "without a rule", d.must(t, "restore", i.Name), "No way back in is open",
		"no inbound rule lets anybody in to its SSH port", "plumlatch instance admit "+i.Name+" -from me")
	mustDo(t, standinCallAt(d, "POST", "/v1/groups/"+groups[0].ID+"/rules",
		`{"client_token":"others","from":"198.51.100.0/24"}`, nil))
	contains(t, "with others' rules", d.must(t, "restore", i.Name), "no inbound rule lets the service in from 127.",
		"No way back in is open")
}

// staticAddresses reserves, moves and releases, and has the ledger follow.
func staticAddresses(t *testing.T, d *demo, dir string) {
	identity := filepath.Join(dir, "rule-key")
	for what, c := range map[string]struct {
		args []string
		says string
		code int
	}{
		"no region":      {[]string{"reserve", "board-front"}, "-region is missing", 2},
		"a wrong region": {[]string{"reserve", "board-front", "-region", "moon"}, "north-pier", 1},
		"a bad name":     {[]string{"reserve", "Board_Front", "-region", "north-pier"}, "name", 1},
		"unknown":        {[]string{"move", "nothing-such", "-to", "rule-board", "-yes"}, "no such static address", 1},
		"unasked":        {[]string{"release", "board-front"}, "-yes", 1},
	} {
		if r := d.client(t, "", append([]string{"static-address"}, c.args...)...); r.code != c.code ||
			!strings.Contains(r.err, c.says) {
			t.Errorf("%s: %+v", what, r)
		}
	}
	d.must(t, "static-address", "reserve", "board-front", "-region", "south-pier")
	if r := d.client(t, "", "static-address", "reserve", "board-front", "-region", "south-pier"); r.code != 1 ||
		!strings.Contains(r.err, "taken") {
		t.Errorf("twice: %+v", r)
	}
	if r := d.client(t, "", "static-address", "move", "board-front", "-to", "rule-board", "-yes"); r.code != 1 ||
		!strings.Contains(r.err, "south-pier") {
		t.Errorf("to another region: %+v", r)
	}
	d.must(t, "static-address", "release", "board-front", "-yes")
	d.must(t, "static-address", "reserve", "board-front", "-region", "north-pier")
	for _, name := range []string{"mark-one", "mark-two"} {
		d.must(t, "instance", "launch", name, "-image", "debian-12", "-size", "small", "-region", "north-pier",
			"-key", "rule-key", "-new-key", name+"-key", "-dir", dir)
		d.must(t, "instance", "admit", name, "-from", "127.0.0.1")
	}
	d.must(t, "static-address", "move", "board-front", "-to", "mark-one", "-yes")
	one := d.instance(t, "mark-one")
	list := d.must(t, "static-address", "list")
	if !strings.Contains(list, one.Address) || !strings.Contains(list, "mark-one") || len(one.Addresses) != 2 ||
		!one.Addresses[0].Static || one.Trouble != "" {
		t.Errorf("%s %+v", list, one)
	}
	if out := d.must(t, "open", "mark-one", "-identity", identity, "--", "hostname"); out != "mark-one\n" {
		t.Errorf("open: %q", out)
	}
	d.must(t, "instance", "stop", "-yes", "mark-one")
	d.must(t, "instance", "start", "mark-one")
	if again := d.instance(t, "mark-one"); again.Address != one.Address {
		t.Errorf("after a stop and a start it is at %s, and was at %s", again.Address, one.Address)
	}
	if r := d.client(t, "", "static-address", "release", "board-front", "-yes"); r.code != 1 ||
		!strings.Contains(r.err, "move it away first") {
		t.Errorf("released from under an instance: %+v", r)
	}
	d.must(t, "static-address", "move", "board-front", "-to", "mark-two", "-yes")
	two, lost := d.instance(t, "mark-two"), d.instance(t, "mark-one")
	if two.Address != one.Address || lost.Address == one.Address || lost.Address == "" ||
		two.Trouble+lost.Trouble != "" {
		t.Errorf("moved: %+v and %+v", two, lost)
	}
	for _, name := range []string{"mark-one", "mark-two"} {
		if out := d.must(t, "open", name, "-identity", identity, "--", "hostname"); out != name+"\n" {
			t.Errorf("open %s: %q", name, out)
		}
	}
	d.must(t, "static-address", "move", "board-front", "-yes")
	d.must(t, "static-address", "release", "board-front", "-yes")

	// Somebody stops and starts it in the cloud: the ledger follows by itself.
	before := d.instance(t, "mark-two")
	b := &broken{d: d, id: before.CloudID}
	b.restart(t)
	waitFor(t, "the ledger to follow", func() bool {
		in := d.instance(t, "mark-two")
		return in.State == "running" && in.Address != "" && in.Address != before.Address
	})
	waitFor(t, "evidence at the new address", func() bool {
		var l wire.List[wire.Access]
		mustDo(t, json.Unmarshal([]byte(d.must(t, "access", "list", "-instance", "mark-two", "-json")), &l))
		return !slices.ContainsFunc(l.Items, func(a wire.Access) bool { return a.Old || a.Evidence != "accepted" })
	})
	if out := d.must(t, "journal", "list", "-target", "instance mark-two"); !strings.Contains(out, "instance.refresh") {
		t.Errorf("journal: %s", out)
	}
}

// TestMyAddresses asks a cloud that answers over both families under which
// addresses it sees the caller.
func TestMyAddresses(t *testing.T) {
	t.Parallel()
	l4, err := net.Listen("tcp4", "127.0.0.1:0")
	mustDo(t, err)
	port := l4.Addr().(*net.TCPAddr).Port
	answer := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host, _, _ := net.SplitHostPort(r.RemoteAddr)
		switch r.URL.Path {
		case "/redirect":
			http.Redirect(w, r, "/caller", http.StatusFound)
		case "/words":
			fmt.Fprint(w, "; touch MARK")
		default:
			if r.Header.Get("Authorization") != "" {
				t.Error("the token went to the cloud")
			}
			fmt.Fprintln(w, host)
		}
	})
	go func() { _ = http.Serve(l4, answer) }()
	t.Cleanup(func() { l4.Close() })
	both := "127.0.0.1/32"
	if l6, err := net.Listen("tcp6", fmt.Sprintf("[::1]:%d", port)); err == nil {
		if addrs, _ := net.LookupHost("localhost"); slices.Contains(addrs, "::1") {
			both += " and ::1/128"
		}
		go func() { _ = http.Serve(l6, answer) }()
		t.Cleanup(func() { l6.Close() })
	}
	for what, c := range map[string]struct {
		url  string
		ipv6 bool
		says string
	}{
		"both families":          {fmt.Sprintf("http://localhost:%d/caller", port), true, "sees you at " + both + "."},
		"instances without IPv6": {fmt.Sprintf("http://localhost:%d/caller", port), false, "sees you at 127.0.0.1/32."},
		"a redirect":             {fmt.Sprintf("http://localhost:%d/redirect", port), true, "does not tell"},
		"no address":             {fmt.Sprintf("http://localhost:%d/words", port), true, "does not tell"},
		"a file":                 {"file:///etc/passwd", true, "does not tell"},
		"nothing":                {"", true, "does not tell"},
	} {
		fake := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.Method != http.MethodGet {
				t.Errorf("%s: %s %s", what, r.Method, r.URL)
			}
			_ = json.NewEncoder(w).Encode(wire.Rules{Instance: "x", CallerURL: c.url, IPv6: c.ipv6})
		}))
		r := shared.clientIn(t, t.TempDir(), fake.URL, "instance", "admit", "x", "-from", "me")
		fake.Close()
		if r.code != 1 || !strings.Contains(r.err, c.says) {
			t.Errorf("%s: %+v", what, r)
		}
	}
}

// TestMoveTellsBoth takes down where both instances are when an address goes
// from one to the other, on a service that does not follow the cloud by itself.
func TestMoveTellsBoth(t *testing.T) {
	t.Parallel()
	d, dir := shared, t.TempDir()
	d.must(t, "key", "create", "both-key", "-dir", dir)
	for _, name := range []string{"both-one", "both-two"} {
		d.must(t, "instance", "launch", name, "-image", "debian-12", "-size", "small", "-region", "north-pier",
			"-key", "both-key")
	}
	d.must(t, "static-address", "reserve", "both-mark", "-region", "north-pier")
	d.must(t, "static-address", "move", "both-mark", "-to", "both-one", "-yes")
	at := d.instance(t, "both-one").Address
	d.must(t, "static-address", "move", "both-mark", "-to", "both-two", "-yes")
	one, two := d.instance(t, "both-one"), d.instance(t, "both-two")
	if two.Address != at || one.Address == at || one.Address == "" {
		t.Errorf("%s had it; now %s and %s", at, one.Address, two.Address)
	}
	if out := d.must(t, "open", "both-one", "-dir", dir, "--", "hostname"); out != "both-one\n" {
		t.Errorf("open: %q", out)
	}
}
