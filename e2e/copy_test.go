package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"plumlatch/core/wire"
)

// copyDoor is an instance whose key is lost, at a stand-in of its own, with a service that is checked, a job that sends mail
// when it boots, rules of its own and of its group, and a static address.
func copyDoor(t *testing.T, n int, name string) *lostDoor {
	t.Helper()
	own := ownCloud(t)
	s := newSlotOn(t, n, own)
	s.options = []string{"-dial-from", "127.0.0.9"}
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	l := &lostDoor{at: own, d: d, name: name, lost: name + "-lost", new: name + "-new", dir: t.TempDir(), none: writeFile(t, "")}
	for _, k := range []string{l.lost, l.new} {
		d.must(t, "key", "create", k, "-dir", l.dir, "-new-passphrase", l.none)
	}
	d.must(t, "static-address", "reserve", name+"-place", "-region", "south-pier")
	d.must(t, "instance", "launch", name, "-image", "harrow-web-2", "-size", "small", "-region", "south-pier/south-pier-b", "-key", l.lost,
		"-static-address", name+"-place", "-tag", "env=prod")
	l.id = d.instance(t, name).CloudID
	d.must(t, "instance", "check", "add", name, "http://:7080/health")
	d.must(t, "instance", "admit", name, "-from", "198.51.100.0/24", "-reason", "the tide office")
	d.must(t, "instance", "admit", name, "-from", "203.0.113.0/24", "-port", "7080", "-reason", "passengers")
	mustDo(t, os.MkdirAll(l.disk("etc/board-jobs"), 0o755))
	mustDo(t, os.WriteFile(l.disk("etc/board-jobs/mail"), []byte("the night's tally"), 0o644))
	d.must(t, "key", "lost", l.lost)
	return l
}

// disk is a file of the machine that it was launched as.
func (l *lostDoor) disk(name string) string { return l.at.path("standin", "instances", l.id, name) }

// machines are the cloud's instances that are not removed, by their IDs.
func (l *lostDoor) machines(t *testing.T) map[string]string {
	t.Helper()
	var all []struct{ ID, State string }
	l.cloud(t, "GET", "/v1/instances?region=south-pier", "", &all)
	out := map[string]string{}
	for _, in := range all {
		if in.State != "removed" {
			out[in.ID] = in.State
		}
	}
	return out
}

func (l *lostDoor) images(t *testing.T) (out []struct{ ID, State string }) {
	t.Helper()
	l.cloud(t, "GET", "/v1/own-images?region=south-pier", "", &out)
	return out
}

// keptWork is the work that keeps the old machine.
func (l *lostDoor) keptWork(t *testing.T) wire.Work {
	t.Helper()
	var list wire.List[wire.Work]
	mustDo(t, json.Unmarshal([]byte(l.d.must(t, "work", "list", "-instance", l.name, "-kind", "restore-kept", "-json")), &list))
	if len(list.Items) == 0 {
		t.Fatal("nothing keeps the old machine")
	}
	return list.Items[0]
}

// TestCopy: a copy takes the place of an instance whose key is lost, and its address; going back is a cancel, and the end of
// the old one a word.
func TestCopy(t *testing.T) {
	t.Parallel()
	l := copyDoor(t, 145, "copy-board")
	d := l.d
	before, rules := d.instance(t, l.name), d.must(t, "instance", "rules", l.name)
	var routes wire.Routes
	mustDo(t, json.Unmarshal([]byte(d.must(t, "restore", l.name, "-json")), &routes))
	n := slices.IndexFunc(routes.Offers, func(o wire.RouteOffer) bool { return o.Route == "copy" })
	if o := routes.Offers[n]; !o.Open || o.Down == 0 || o.Down > 1 || len(o.Steps) != 15 || len(o.Charges) != 1 {
		t.Errorf("offered: %+v", o)
	}
	for _, o := range routes.Offers {
		if told := strings.Join(o.ToCheck, "\n"); slices.Contains([]string{"disk", "boot-text", "copy"}, o.Route) &&
			(!strings.Contains(told, ", 7080") || strings.Contains(told, "starts at boot: not seen") || !strings.Contains(told, "fstab: not seen")) {
			t.Errorf("%s leaves to check: %v", o.Route, o.ToCheck)
		}
	}
	if r := d.client(t, "", "restore", l.name, "-route", "disk", "-new", l.new, "-dir", l.dir); r.code == 0 {
		t.Error("nobody was asked")
	}
	for _, keep := range []string{"0s", "91d", "soon"} {
		if r := d.client(t, "", "restore", "copy", l.name, "-new", l.new, "-dir", l.dir, "-keep", keep, "-yes"); r.code == 0 {
			t.Errorf("kept for %s: %+v", keep, r)
		}
	}
	// As long as the copy trusts the lost key nobody else gets as far as its server.
	lost, err := publicOf(filepath.Join(l.dir, l.lost+".pub"))
	mustDo(t, err)
	let := make(chan []string, 1)
	go func() { let <- l.letIn(strings.Fields(lost.Line())[1]) }()
	out := d.must(t, "restore", "copy", l.name, "-new", l.new, "-dir", l.dir, "-keep", "30d", "-yes")
	meanwhile := <-let
	if len(meanwhile) == 0 {
		t.Error("nobody was seen to be let in to the copy meanwhile: not even the service")
	}
	for _, from := range meanwhile {
		if from != "127.0.0.9/32" && from != "127.0.0.1/32" {
			t.Errorf("%s was let in to the copy meanwhile", from)
		}
	}
	kept := l.keptWork(t)
	contains(t, "restored", out, l.new+" opens "+l.name, l.lost+" is withdrawn", l.id+" is kept, stopped", fmt.Sprintf("plumlatch work cancel %d", kept.ID),
		"its host key: ", "load balancers")
	l.restored(t)
	now := d.instance(t, l.name)
	if now.CloudID == l.id || now.Address != before.Address || now.HostKeys[0].Fingerprint == before.HostKeys[0].Fingerprint ||
		now.State != "running" {
		t.Errorf("it was %+v and is %+v", before, now)
	}
	var report wire.Report
	mustDo(t, json.Unmarshal([]byte(d.must(t, "work", "report", fmt.Sprint(lastOf(t, d, l.name, "restore-copy").ID), "-json")), &report))
	if len(report.Checks) != 1 || !report.Checks[0].Good || report.InAt == nil {
		t.Errorf("%+v", report.Checks)
	}
	if m := l.machines(t); len(m) != 2 || m[l.id] != "stopped" || m[now.CloudID] != "running" || len(l.images(t)) != 1 {
		t.Errorf("at the cloud: %v, %v", m, l.images(t))
	}
	if d.found(t, l.id) != nil {
		t.Error("the old machine is listed as one that nobody knows")
	}
	if after := d.must(t, "instance", "rules", l.name); ruleWords(after) != ruleWords(rules) {
		t.Errorf("its rules were\n%s\nand are\n%s", rules, after)
	}
	id := func(cloudID string) string {
		return mustRead(t, l.at.path("standin", "instances", cloudID, "etc/machine-id"))
	}
	if id(now.CloudID) != id(l.id) { // as on real machines (TestVMNetwork): the image carries it
		t.Error("the copy has another machine-id than the machine that its image was made of")
	}
	var sent []struct{ Instance string }
	l.cloud(t, "GET", "/v1/sent", "", &sent)
	if len(sent) != 0 {
		t.Errorf("sent by the copy before it had the place: %v", sent)
	}
	has(t, "today", d.reasonsOf(t, "instance", l.name), "old-machine-kept", false)

	// Other work goes on meanwhile; and back, with what was recorded since.
	d.must(t, "key", "create", "copy-later", "-dir", l.dir, "-new-passphrase", l.none)
	d.must(t, "access", "add", l.name, "-key", "copy-later")
	if r := d.client(t, "", "work", "cancel", fmt.Sprint(kept.ID)); r.code == 0 || !strings.Contains(r.err, "no key in use is recorded on the old machine") {
		t.Errorf("back to where nobody gets in, and nobody was asked: %+v", r)
	}
	contains(t, "back", d.must(t, "work", "cancel", fmt.Sprint(kept.ID), "-yes"), l.name+" is "+l.id+" again")
	again := d.instance(t, l.name)
	if again.CloudID != l.id || again.Address != before.Address || again.HostKeys[0].Fingerprint != before.HostKeys[0].Fingerprint {
		t.Errorf("it is %+v again", again)
	}
	if m := l.machines(t); len(m) != 1 || m[l.id] != "running" || len(l.images(t)) != 0 {
		t.Errorf("after going back, at the cloud: %v, %v", m, l.images(t))
	}
	if out, ok := l.ssh(t, l.lost, "hostname"); !ok {
		t.Errorf("the old key on the old machine: %s", out)
	}
	who := d.must(t, "who", l.name)
	if !strings.Contains(who, l.lost) || strings.Contains(who, l.new) || strings.Contains(who, "copy-later") {
		t.Errorf("who after going back: %s", who)
	}

	// Once more, with a further volume, which stays with the old one and is named; and the image stays.
	donor := newStrayOn(t, l.at, d, "copy-donor", "debian-12", "")
	l.cloud(t, "POST", "/v1/instances/"+donor.id+"/stop", `{"client_token":"donor-stop"}`, nil)
	further := (&lostDoor{at: l.at, id: donor.id}).volumeID(t)
	waitFor(t, "the donor to be stopped", func() bool { return l.machines(t)[donor.id] == "stopped" })
	volume := func(what, body string) {
		t.Helper()
		l.cloud(t, "POST", "/v1/volumes/"+further+"/"+what, body, nil)
		waitFor(t, "it to "+what, func() bool {
			var v struct{ State string }
			l.cloud(t, "GET", "/v1/volumes/"+further, "", &v)
			return v.State == map[string]string{"attach": "in-use", "detach": "available"}[what]
		})
	}
	volume("detach", `{"client_token":"donor-off"}`)
	l.cloud(t, "DELETE", "/v1/instances/"+donor.id+"?client_token=donor-away", "", nil)
	volume("attach", fmt.Sprintf(`{"client_token":"donor-on","instance":%q,"device":"/dev/sdg"}`, l.id))
	out = d.must(t, "restore", "copy", l.name, "-new", l.new, "-dir", l.dir, "-keep-image", "-yes")
	contains(t, "a further volume", out, fmt.Sprintf("volume %s (/dev/sdg", further), "is still at the old machine "+l.id)
	contains(t, "instance show", d.must(t, "instance", "show", l.name), l.id+", kept until", "plumlatch work cancel")
	contains(t, "back, and the image stays", d.must(t, "work", "cancel", fmt.Sprint(l.keptWork(t).ID), "-yes"), l.name+" is "+l.id+" again")
	volume("detach", `{"client_token":"donor-off-again"}`)
	if left := l.images(t); len(left) != 1 {
		t.Errorf("-keep-image, and there are %v", left)
	} else {
		l.cloud(t, "DELETE", "/v1/own-images/"+left[0].ID, "", nil)
	}

	// Once more, from one at rest; its time passes, it stands on today, and a word ends it.
	contains(t, "once more", d.must(t, "restore", "copy", l.name, "-new", l.new, "-dir", l.dir, "-keep", "1s", "-still", "-yes"), l.new+" opens")
	l.restored(t)
	waitFor(t, "today to have it", func() bool { return slices.Contains(d.reasonsOf(t, "instance", l.name), "old-machine-kept") })
	kept = l.keptWork(t)
	contains(t, "today", d.must(t, "today", "-what", "old-machine-kept"), l.id, "a week", fmt.Sprintf("plumlatch work go-on %d", kept.ID))
	if r := d.client(t, "", "work", "go-on", fmt.Sprint(kept.ID)); r.code == 0 {
		t.Error("it is removed, and nobody was asked")
	}
	contains(t, "the word", d.must(t, "work", "go-on", fmt.Sprint(kept.ID), "-yes"), l.id+" is removed, and its image too")
	if m := l.machines(t); len(m) != 1 || m[d.instance(t, l.name).CloudID] != "running" || len(l.images(t)) != 0 {
		t.Errorf("after the word, at the cloud: %v, %v", m, l.images(t))
	}
	has(t, "today", d.reasonsOf(t, "instance", l.name), "old-machine-kept", false)
	l.restored(t)
}

// letIn are the ranges that the rules for SSH of a copy let in as long as it trusts the lost key, until the old one is stopped.
func (l *lostDoor) letIn(lost string) []string {
	var out []string
	for range 3000 {
		var all []struct{ ID, State string }
		if err := standinCallAt(l.at, "GET", "/v1/instances?region=south-pier", "", &all); err != nil {
			return append(out, err.Error())
		}
		for _, in := range all {
			if in.ID == l.id && in.State != "running" {
				return out
			}
			var groups []struct {
				Rules []struct{ From, Ports string }
			}
			if in.ID == l.id || in.State != "running" || standinCallAt(l.at, "GET", "/v1/instances/"+in.ID+"/groups", "", &groups) != nil {
				continue
			}
			// Read after its rules: if the line stands now, it stood then.
			file, err := os.ReadFile(l.at.path("standin", "instances", in.ID, "home", "debian", ".ssh", "authorized_keys"))
			if err != nil || !strings.Contains(string(file), lost) {
				continue
			}
			for _, g := range groups {
				for _, rule := range g.Rules {
					if rule.Ports == "" && !slices.Contains(out, rule.From) {
						out = append(out, rule.From)
					}
				}
			}
		}
		time.Sleep(20 * time.Millisecond)
	}
	return append(out, "it never ended")
}

// ruleWords are the lines of rules, without the marks that each group has.
func ruleWords(text string) string {
	var out []string
	for line := range strings.Lines(text) {
		if f := strings.Fields(line); len(f) > 1 && strings.Contains(line, "/") {
			out = append(out, f[0])
		}
	}
	slices.Sort(out)
	return strings.Join(out, " ")
}

// lastOf is the last work of a kind on an instance.
func lastOf(t *testing.T, d *demo, name, kind string) wire.Work {
	t.Helper()
	var list wire.List[wire.Work]
	mustDo(t, json.Unmarshal([]byte(d.must(t, "work", "list", "-instance", name, "-kind", kind, "-json")), &list))
	if len(list.Items) == 0 {
		t.Fatalf("no %s of %s", kind, name)
	}
	return list.Items[0]
}

// TestCopyGoesBack: what a copy meets on its way, and what is left of it then: nothing.
func TestCopyGoesBack(t *testing.T) {
	t.Parallel()
	l := copyDoor(t, 146, "copy-back")
	d := l.d
	whole := func(what string) {
		t.Helper()
		if m := l.machines(t); len(m) != 1 || m[l.id] != "running" || len(l.images(t)) != 0 {
			t.Errorf("%s: at the cloud %v, %v", what, m, l.images(t))
		}
		if i := d.instance(t, l.name); i.CloudID != l.id || i.State != "running" {
			t.Errorf("%s: it is %+v", what, i)
		}
		if out, ok := l.ssh(t, l.lost, "true"); !ok {
			t.Errorf("%s: the old key: %s", what, out)
		}
	}
	fault := func(call, how string, more string) {
		t.Helper()
		l.cloud(t, "POST", "/v1/faults", fmt.Sprintf(`{"call":%q,"how":%q,"times":1%s}`, call, how, more), nil)
	}
	copies := func(what, says string, args ...string) {
		t.Helper()
		r := d.client(t, "", append([]string{"restore", "copy", l.name, "-new", l.new, "-dir", l.dir, "-yes"}, args...)...)
		if r.code == 0 || !strings.Contains(r.err+r.out, says) {
			t.Errorf("%s: %+v", what, r)
		}
		whole(what)
	}
	// A service that nobody enabled runs on the old one, and does not come up on the copy; each way that stops it says so before.
	enabled := l.disk("etc/board-service/enabled")
	mustDo(t, os.Remove(enabled))
	mustDo(t, os.Remove(l.disk("etc/systemd/system/multi-user.target.wants/board-service.service")))
	var routes wire.Routes
	mustDo(t, json.Unmarshal([]byte(d.must(t, "restore", l.name, "-json")), &routes))
	for _, o := range routes.Offers {
		stops := slices.Contains([]string{"disk", "boot-text", "copy"}, o.Route)
		if told := strings.Contains(strings.Join(o.CanBeLost, "\n"), "board-service.service: it runs, and nothing starts it at boot"); told != stops {
			t.Errorf("%s: can be lost: %v", o.Route, o.CanBeLost)
		}
	}
	toldByClient(t, l)
	copies("a service that is not enabled", "works on the old one, and not on the copy")
	w := lastOf(t, d, l.name, "restore-copy")
	var report wire.Report
	mustDo(t, json.Unmarshal([]byte(d.must(t, "work", "report", fmt.Sprint(w.ID), "-json")), &report))
	contains(t, "what is missed", strings.Join(report.Left, "\n"), "board-service.service ran on the old one", "systemctl enable --now board-service.service",
		"port 7080")
	// Started and enabled there on the spot, it works.
	if r := d.client(t, "", "restore", "copy", l.name, "-new", l.new, "-dir", l.dir, "-enable", "-yes"); r.code != 0 ||
		!strings.Contains(r.err, "sudo systemctl enable --now board-service.service") || !strings.Contains(r.out, l.new+" opens") {
		t.Errorf("enabled: %+v", r)
	}
	if _, err := os.Stat(l.at.path("standin", "instances", d.instance(t, l.name).CloudID, "etc/board-service/enabled")); err != nil {
		t.Error(err)
	}
	mustDo(t, json.Unmarshal([]byte(d.must(t, "work", "report", fmt.Sprint(lastOf(t, d, l.name, "restore-copy").ID), "-json")), &report))
	if left := strings.Join(report.Left, "\n"); strings.Contains(left, "board-service") || !report.Checks[0].Good {
		t.Errorf("enabled, and left: %s, %+v", left, report.Checks)
	}
	d.must(t, "work", "cancel", fmt.Sprint(l.keptWork(t).ID), "-yes")
	whole("enabled, and back")
	// What was done on one copy is not taken for done on the next: taken up again, the work has another.
	mustDo(t, os.WriteFile(enabled, nil, 0o644)) // it ended with the stop
	d.must(t, "instance", "stop", l.name, "-yes")
	d.must(t, "instance", "start", l.name)
	mustDo(t, os.Remove(enabled))
	fault("outbound", "slow", `,"delay_ms":9000`) // time to cancel it, on a slow machine too
	ended := make(chan result, 1)
	go func() {
		ended <- d.client(t, "", "restore", "copy", l.name, "-new", l.new, "-dir", l.dir, "-enable", "-yes")
	}()
	waitFor(t, "it to move, enabled", func() bool {
		w = lastOf(t, d, l.name, "restore-copy")
		return !w.Over() && w.StepName == "move"
	})
	id := fmt.Sprint(w.ID)
	d.must(t, "work", "cancel", id, "-yes")
	if r := <-ended; !strings.Contains(r.err, "sudo systemctl enable --now board-service.service") {
		t.Errorf("enabled, and cancelled: %+v", r)
	}
	whole("enabled, and cancelled")
	d.must(t, "work", "retry", id, "-detach")
	again := d.client(t, "", "work", "here", id, "-dir", l.dir)
	if again.code != 0 || !strings.Contains(again.err, "sudo systemctl enable --now board-service.service") {
		t.Errorf("taken up again: %+v", again)
	}
	d.must(t, "work", "cancel", fmt.Sprint(l.keptWork(t).ID), "-yes")
	whole("taken up again, and back")
	if r := d.client(t, "", "restore", l.name, "-route", "copy", "-enable"); r.code == 0 {
		t.Error("-enable is of restore copy alone")
	}
	mustDo(t, os.WriteFile(enabled, nil, 0o644))
	fault("host-keys", "fail", fmt.Sprintf(`,"name":%q`, l.name))
	copies("a copy with the host key of the old one", "has the host key of the old one")
	fault("image-state", "fail", fmt.Sprintf(`,"name":%q`, l.name))
	copies("an image that never gets ready", "is not ready after")
	for range 20 {
		l.cloud(t, "POST", "/v1/own-images", fmt.Sprintf(`{"client_token":"full-%d","instance":%q,"name":"full"}`, len(l.images(t)), l.id), nil)
	}
	r := d.client(t, "", "restore", "copy", l.name, "-new", l.new, "-dir", l.dir, "-yes")
	if r.code == 0 || !strings.Contains(r.err, "may have no more") {
		t.Errorf("the quota: %+v", r)
	}
	for _, i := range l.images(t) {
		l.cloud(t, "DELETE", "/v1/own-images/"+i.ID, "", nil)
	}
	whole("the quota")
	// The address is taken by somebody in between: nothing of theirs is touched.
	thief := newStrayOn(t, l.at, d, "copy-thief", "debian-12", "")
	var addresses []struct{ ID, Name string }
	l.cloud(t, "GET", "/v1/addresses?region=south-pier", "", &addresses)
	fault("outbound", "slow", `,"delay_ms":5000`) // time for the theft, on a slow machine too
	d.must(t, "restore", "copy", l.name, "-new", l.new, "-dir", l.dir, "-yes", "-detach")
	waitFor(t, "it to move", func() bool { return lastOf(t, d, l.name, "restore-copy").StepName == "move" })
	l.cloud(t, "POST", "/v1/addresses/"+addresses[0].ID+"/move", fmt.Sprintf(`{"client_token":"theft","instance":%q}`, thief.id), nil)
	waitFor(t, "it to go back", func() bool { return lastOf(t, d, l.name, "restore-copy").Over() })
	w = lastOf(t, d, l.name, "restore-copy")
	contains(t, "taken in between", w.Outcome, "somebody else has taken the static address")
	l.cloud(t, "GET", "/v1/addresses?region=south-pier", "", &addresses)
	l.cloud(t, "DELETE", "/v1/instances/"+thief.id+"?client_token=away", "", nil)
	waitFor(t, "the thief to be away", func() bool { return len(l.machines(t)) == 1 })
	whole("taken in between")
	// An exposed key: going back asks, and says what it lets in again.
	d.must(t, "key", "exposed", l.lost, "-yes")
	d.must(t, "restore", "copy", l.name, "-new", l.new, "-dir", l.dir, "-yes")
	kept := fmt.Sprint(l.keptWork(t).ID)
	if r := d.client(t, "", "work", "cancel", kept); r.code == 0 || !strings.Contains(r.err, "still trusts "+l.lost) {
		t.Errorf("back to an exposed key, and nobody was asked: %+v", r)
	}
	contains(t, "back", d.must(t, "work", "cancel", kept, "-yes"), "it still trusts "+l.lost)
	whole("back")
	if left, _ := filepath.Glob(filepath.Join(l.at.path("standin", "images"), "*")); len(left) > 0 {
		t.Errorf("images that are left: %q", left)
	}
}

// TestCopyTells: where the address is a dynamic one, whoever has it written down is named: the holders of the keys that open it.
func TestCopyTells(t *testing.T) {
	t.Parallel()
	own := ownCloud(t)
	s := newSlotOn(t, 151, own)
	s.options = []string{"-dial-from", "127.0.0.9"}
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	dir, none := t.TempDir(), writeFile(t, "")
	for _, k := range []string{"told-lost", "told-new"} {
		d.must(t, "key", "create", k, "-dir", dir, "-new-passphrase", none)
	}
	d.must(t, "holder", "add", "lamp-crew", "-sort", "team")
	d.must(t, "key", "create", "told-crew", "-holder", "lamp-crew", "-dir", dir, "-new-passphrase", none)
	d.must(t, "instance", "launch", "told-board", "-image", "debian-12", "-size", "small", "-region", "south-pier", "-key", "told-lost,told-crew")
	d.must(t, "key", "lost", "told-lost")
	before := d.instance(t, "told-board")
	d.must(t, "restore", "copy", "told-board", "-new", "told-new", "-dir", dir, "-yes")
	after := d.instance(t, "told-board")
	if before.Address == after.Address {
		t.Fatalf("its address was %s, and is that still", before.Address)
	}
	var report wire.Report
	mustDo(t, json.Unmarshal([]byte(d.must(t, "work", "report", fmt.Sprint(lastOf(t, d, "told-board", "restore-copy").ID), "-json")), &report))
	contains(t, "left", strings.Join(report.Left, "\n"), "its address was dynamic, and is another one: tell first-admin, lamp-crew, and", before.Address+" written down",
		"that it is "+after.Address)
}

// toldByClient: where the steward does not see it, what would not come back is told as an engineer's client has seen it.
func toldByClient(t *testing.T, l *lostDoor) {
	t.Helper()
	d, keys := l.d, l.disk("home/debian/.ssh/authorized_keys")
	text := mustRead(t, keys)
	mustDo(t, os.WriteFile(keys, []byte(stewardLine.ReplaceAllString(text, "")), 0o600))
	of := func(what, words string, where func(wire.RouteOffer) []string) {
		t.Helper()
		var routes wire.Routes
		mustDo(t, json.Unmarshal([]byte(d.must(t, "restore", l.name, "-json")), &routes))
		for _, o := range routes.Offers {
			if o.Route == "copy" && !strings.Contains(strings.Join(where(o), "\n"), words) {
				t.Errorf("%s: %+v", what, o)
			}
		}
	}
	of("nobody has looked", "starts at boot: not seen (the service's own key does not open it); plumlatch survey "+l.name+" -identity FILE",
		func(o wire.RouteOffer) []string { return o.ToCheck })
	contains(t, "by hand", d.must(t, "survey", l.name, "-identity", filepath.Join(l.dir, l.lost)),
		"would not come back after a stop: board-service.service: it runs, and nothing starts it at boot")
	of("a client has looked", "board-service.service: it runs, and nothing starts it at boot (seen by the client of ", func(o wire.RouteOffer) []string {
		return o.CanBeLost
	})
	mustDo(t, os.WriteFile(keys, []byte(text), 0o600))
}

// TestCopyDesktop: the key that a first password is encrypted to is lost, and nobody knows the password: a copy gives another one,
// encrypted to a new key. Nobody gets further than the copy until somebody has shown the new key's private half.
func TestCopyDesktop(t *testing.T) {
	t.Parallel()
	own := ownCloud(t)
	s := newSlotOn(t, 148, own)
	s.options = []string{"-dial-from", "127.0.0.9"}
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	l := &lostDoor{at: own, d: d, name: "copy-desk", dir: t.TempDir(), none: writeFile(t, "")}
	for _, k := range []string{"desk-old", "desk-new"} {
		d.must(t, "key", "create", k, "-kind", "rsa-3072", "-dir", l.dir, "-new-passphrase", l.none)
	}
	d.must(t, "key", "create", "desk-ed", "-dir", l.dir, "-new-passphrase", l.none)
	d.must(t, "static-address", "reserve", "desk-place", "-region", "south-pier")
	d.must(t, "instance", "launch", l.name, "-image", "quay-desk-1", "-size", "medium", "-region", "south-pier", "-key", "desk-old",
		"-static-address", "desk-place")
	before := d.instance(t, l.name)
	l.id = before.CloudID
	d.must(t, "key", "lost", "desk-old", "-yes")
	d.must(t, "instance", "admit", l.name, "-from", "198.51.100.0/24", "-reason", "the harbour office")
	rules := d.must(t, "instance", "rules", l.name)
	var routes wire.Routes
	mustDo(t, json.Unmarshal([]byte(d.must(t, "restore", l.name, "-json")), &routes))
	for _, o := range routes.Offers {
		if o.Open != (o.Route == "copy") {
			t.Errorf("%s is open: %v, %+v", o.Route, o.Open, o.Lacking)
		}
	}
	contains(t, "ready", d.must(t, "restore", "ready"), "copy (no SSH)")
	if r := d.client(t, "", "restore", "copy", l.name, "-new", "desk-ed", "-dir", l.dir, "-yes"); r.code == 0 || !strings.Contains(r.err, "only an RSA key") {
		t.Errorf("an Ed25519 key: %+v", r)
	}
	if r := d.client(t, "", "restore", "rehearse", l.name, "-yes"); r.code == 0 || !strings.Contains(r.err, "has no SSH") {
		t.Errorf("a rehearsal: %+v", r)
	}
	first := func(id string) string { return mustRead(t, own.path("standin", "instances", id, "first-password")) }
	restored := func(out, key string) wire.Instance {
		t.Helper()
		contains(t, "restored", out, "the first password of "+l.name+" is encrypted to "+key, "next: plumlatch instance password "+l.name)
		i := d.instance(t, l.name)
		if i.CloudID == l.id || i.Address != before.Address || i.State != "running" || i.FirstPassword == nil || i.FirstPassword.Key != key ||
			i.FirstPassword.ChangedAt != nil || len(i.HostKeys) != 0 {
			t.Errorf("it was %+v and is %+v, %+v", before, i, i.FirstPassword)
		}
		if after := d.must(t, "instance", "rules", l.name); ruleWords(after) != ruleWords(rules) {
			t.Errorf("its rules were\n%s\nand are\n%s", rules, after)
		}
		if r := d.client(t, "", "instance", "password", l.name, "-identity", filepath.Join(l.dir, key)); r.out != first(i.CloudID)+"\n" ||
			first(i.CloudID) == first(l.id) {
			t.Errorf("its password: %+v", r)
		}
		return i
	}
	restored(d.must(t, "restore", "copy", l.name, "-new", "desk-new", "-dir", l.dir, "-yes"), "desk-new")
	// Back: it is the old one again, whose first password is encrypted to the lost key.
	contains(t, "back", d.must(t, "work", "cancel", fmt.Sprint(l.keptWork(t).ID), "-yes"), l.name+" is "+l.id+" again")
	if i := d.instance(t, l.name); i.CloudID != l.id || i.FirstPassword.Key != "desk-old" || i.Address != before.Address {
		t.Errorf("back: %+v %+v", i, i.FirstPassword)
	}
	// With a pair made on the spot, of a kind that decrypts; and the end of the old one.
	out := d.must(t, "restore", "copy", l.name, "-name", "desk-here", "-dir", l.dir, "-new-passphrase", l.none, "-keep", "1s", "-yes")
	contains(t, "made here", out, "Made desk-here, rsa")
	now := restored(out, "desk-here")
	d.must(t, "work", "go-on", fmt.Sprint(l.keptWork(t).ID), "-yes")
	if m := l.machines(t); len(m) != 1 || m[now.CloudID] != "running" || len(l.images(t)) != 0 {
		t.Errorf("at the end: %v, %v", m, l.images(t))
	}
	// Without anybody who has the new key everything goes back.
	d.must(t, "key", "create", "desk-gone", "-kind", "rsa-3072", "-dir", l.dir, "-new-passphrase", l.none)
	d.must(t, "restore", "copy", l.name, "-new", "desk-gone", "-dir", l.dir, "-yes", "-detach")
	waitFor(t, "it to wait for the key", func() bool { return lastOf(t, d, l.name, "restore-copy").WaitsCode == wire.WaitsLogin })
	d.must(t, "work", "cancel", fmt.Sprint(lastOf(t, d, l.name, "restore-copy").ID), "-yes")
	if i := d.instance(t, l.name); i.CloudID != now.CloudID || i.FirstPassword.Key != "desk-here" || i.Address != before.Address {
		t.Errorf("cancelled: %+v %+v", i, i.FirstPassword)
	}
}

// TestCopyStays: a machine that has its place again, and does not answer as itself, does not cost the copy.
func TestCopyStays(t *testing.T) {
	t.Parallel()
	l := copyDoor(t, 156, "copy-stays")
	l.d.must(t, "restore", "copy", l.name, "-new", l.new, "-dir", l.dir, "-yes")
	kept, now := l.keptWork(t), l.d.instance(t, l.name)
	key := l.disk("etc/ssh/ssh_host_ed25519_key")
	mustDo(t, os.Remove(key))
	if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	r := l.d.client(t, "", "work", "cancel", fmt.Sprint(kept.ID), "-yes")
	contains(t, "going back", r.out+r.err, l.name+" is "+l.id+" again", "the copy "+now.CloudID+" stays in the cloud", "was not seen to answer",
		"plumlatch discover")
	if m := l.machines(t); len(m) != 2 || m[l.id] != "running" || m[now.CloudID] != "running" {
		t.Errorf("at the cloud: %v", m)
	}
	if len(l.images(t)) != 0 {
		t.Error("the image stays")
	}
	contains(t, "discover", l.d.must(t, "discover"), now.CloudID)
}
