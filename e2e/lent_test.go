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

	"github.com/chromedp/chromedp"

	"plumlatch/core/access"
	"plumlatch/core/wire"
)

// TestLentKey: the cloud lends a key for a minute; by it an instance whose key is lost is got back into, with nothing
// stopped, and somebody whose key is not there yet gets in once. Nothing of it stays.
func TestLentKey(t *testing.T) {
	t.Parallel()
	own := ownCloud(t) // its rules are those of a group that all instances of a region share
	s := newSlotOn(t, 143, own)
	s.options = []string{"-dial-from", "127.0.0.5"} // another address than this machine's: each needs a rule of its own
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	dir, none := t.TempDir(), writeFile(t, "")
	x := newStrayOn(t, own, d, "lent-stray", "debian-12", "")
	var group struct{ ID string }
	x.cloud(t, "POST", "/v1/instances/"+x.id+"/own-group", `{"client_token":"lent-own"}`, &group)
	mustDo(t, standinCallAt(own, "POST", "/v1/groups/"+group.ID+"/rules", `{"client_token":"lent-service","from":"127.0.0.5/32"}`, nil))
	d.must(t, "discover", "adopt", x.name, "-yes")
	var routes wire.Routes
	mustDo(t, json.Unmarshal([]byte(d.must(t, "restore", x.name, "-json")), &routes))
	if o := routes.Offers[slices.IndexFunc(routes.Offers, func(o wire.RouteOffer) bool { return o.Route == "lent-key" })]; !o.Open || o.Down != 0 {
		t.Errorf("offered first: %+v", o)
	}
	// No rule lets this machine in: one does while it is needed, and no longer.
	i := d.instance(t, x.name)
	d.must(t, "instance", "unadmit", x.name, "-from", "127.0.0.1", "-yes")
	if says("127.0.0.1", i.Address, i.Port) || !says("127.0.0.5", i.Address, i.Port) {
		t.Fatalf("the beginning is not as it should be: %v", d.rules(t, x.name))
	}
	before := i.Address
	if r := d.client(t, "", "open", x.name, "-lent", "-reason", "in by the side", "--", "true"); r.code != 1 ||
		!strings.Contains(r.err, "plumlatch restore "+x.name+" -route lent-key") {
		t.Errorf("in for the first time, with nobody asked: %+v", r)
	}
	// Somebody who may not let anybody in there first may not come in by an admin's restore either.
	d.must(t, "restore", x.name, "-route", "lent-key", "-new", x.new, "-dir", x.dir, "-yes", "-detach")
	id := fmt.Sprint(lastRestore(t, d, x.name))
	body := mustJSON(t, wire.LendKey{PublicKey: pairIn(t, filepath.Join(dir, "mate")).Line()})
	waitFor(t, "the restore to wait", func() bool { return d.workByID(t, lastRestore(t, d, x.name)).StepName == "lent" })
	if a := d.api(t, "POST", "/api/v1/work/"+id+"/lend", body, "Authorization", "Bearer "+d.token2(t, "-role", "operator", "-for", "10m")); a.status != 403 {
		t.Errorf("a key of somebody who may not: %d %s", a.status, a.body)
	}
	r := d.client(t, "", "work", "here", id, "-dir", x.dir)
	contains(t, "restored", r.out+r.err, x.new+" opens "+x.name, "No inbound rule let this machine in: "+x.name+
		" lets 127.0.0.1/32 in for 10 minutes at most", x.name+" lets 127.0.0.1/32 in no more")
	if r.code != 0 || says("127.0.0.1", i.Address, i.Port) {
		t.Errorf("%+v, and the rules are %v", r, d.rules(t, x.name))
	}
	d.must(t, "instance", "admit", x.name, "-from", "127.0.0.1")
	if after := d.instance(t, x.name); after.Address != before || after.State != "running" {
		t.Errorf("it is %s at %s, and was at %s", after.State, after.Address, before)
	}
	if out, ok := x.ssh(t, x.new, "hostname"); !ok || strings.TrimSpace(out) != x.name {
		t.Errorf("the new key does not log in: %s", out)
	}
	// Somebody whose key is not there: once, with a reason, in the journal.
	open := func(more ...string) result { return d.client(t, "", append([]string{"open", x.name}, more...)...) }
	if a := d.api(t, "POST", "/api/v1/instances/"+x.name+"/lend", body, "Authorization", "Bearer "+d.token); a.status != 422 ||
		!strings.Contains(a.body, "kept in the journal") {
		t.Errorf("without a reason: %d %s", a.status, a.body)
	}
	if r := open("-lent"); r.code != 2 || !strings.Contains(r.err, "say why") {
		t.Errorf("without a reason: %+v", r)
	}
	if r := open("-lent", "-reason", "the pump is loud", "--", "hostname"); r.code != 0 || strings.TrimSpace(r.out) != x.name {
		t.Errorf("lent: %+v", r)
	}
	contains(t, "the journal", d.must(t, "journal", "list", "-limit", "20"), "key.lend", "the pump is loud")
	if left, _ := filepath.Glob(filepath.Join(os.TempDir(), "plumlatch-lent-*")); len(left) > 0 {
		t.Errorf("left on this machine: %q", left)
	}
	waitFor(t, "the cloud's agent has taken them away", func() bool {
		text, err := os.ReadFile(x.at.path("standin", "instances", x.id, "home/debian/.ssh/authorized_keys"))
		return err == nil && !strings.Contains(string(text), "placed-by-the-cloud")
	})
	if out, ok := x.ssh(t, x.new, "hostname"); !ok {
		t.Errorf("the new key does not log in any more: %s", out)
	}
	lentComesLate(t, x)
	lentStays(t, x)
	streamShut(t, x)
	lentInPage(t, x, s.password)
	// An image without the agent, and a key that is recorded.
	d.must(t, "key", "create", "lent-plain", "-dir", dir, "-new-passphrase", none)
	d.must(t, "instance", "launch", "lent-none", "-image", "harrow-linux-4", "-size", "medium", "-region", "north-pier", "-key",
		"lent-plain", "-detach")
	if a := d.api(t, "POST", "/api/v1/instances/lent-none/lend", body, "Authorization", "Bearer "+d.token); a.status != 422 ||
		!strings.Contains(a.body, "the cloud's agent is not on its image") {
		t.Errorf("no agent: %d %s", a.status, a.body)
	}
	line, err := os.ReadFile(filepath.Join(dir, "lent-plain.pub"))
	mustDo(t, err)
	text, err := json.Marshal(wire.LendKey{PublicKey: string(line), Reason: "x"})
	mustDo(t, err)
	if a := d.api(t, "POST", "/api/v1/instances/"+x.name+"/lend", string(text), "Authorization", "Bearer "+d.token); a.status != 422 ||
		!strings.Contains(a.body, "it is recorded") {
		t.Errorf("a recorded key: %d %s", a.status, a.body)
	}
}

// streamShut: where no rule lets the service in from its own address, a stream says so, and what it names next lets it in for a while.
func streamShut(t *testing.T, x *strayed) {
	d := x.d
	policy := strings.Replace(access.DefaultPolicy, "\nstream:\n  who: []", "\nstream:\n  who: [{operators: [first-admin]}]", 1)
	d.must(t, "policy", "set", writeFile(t, policy))
	d.must(t, "instance", "unadmit", x.name, "-from", "service", "-yes")
	r := d.client(t, "", "stream", x.name, "-way", "service")
	_, next, ok := strings.Cut(r.err, "next: plumlatch ")
	if r.code != 1 || r.out != "" || !ok || !strings.Contains(r.err, "from the service's own address") {
		t.Fatalf("shut: %+v", r)
	}
	if strings.TrimSpace(next) != "instance admit "+x.name+" -from service -for 1h" {
		t.Errorf("next is %q", next)
	}
	contains(t, "let in", d.must(t, strings.Fields(next)...), x.name+" lets 127.0.0.5/32 in", "ends by itself")
	if r := d.client(t, "EXIT\r\n", "stream", x.name, "-way", "service"); !strings.HasPrefix(r.out, "SSH-2.0-") {
		t.Errorf("let in: %+v", r)
	}
	contains(t, "the rules", d.must(t, "instance", "rules", x.name), "the service itself", "ends in")
}

// lentInPage: a shell in the page by a key that the cloud lends, whose agent takes it a little late.
func lentInPage(t *testing.T, x *strayed, password string) {
	mustDo(t, standinCallAt(x.at, "POST", "/v1/faults", fmt.Sprintf(`{"call":"lent-late","how":"slow","name":%q,"delay_ms":1200}`, x.name), nil))
	b := openBrowser(t, x.d.url)
	b.signIn(t, "first-admin", password)
	b.see(t, "first-admin, admin")
	b.visit(t, "/shells?instance="+x.name)
	b.see(t, "A key that the cloud lends")
	b.do(t, chromedp.Click(chromedp.Search(`//label[contains(., "A key that the cloud lends")]`), seldom))
	b.see(t, "The cloud's own agent lets its public half in")
	b.fill(t, css(`input[aria-label="why, for the journal"]`), "the page is nearer")
	b.do(t, chromedp.Click(chromedp.Search(`//button[contains(., "Open a shell on") and not(@disabled)]`), seldom))
	b.do(t, chromedp.WaitVisible(css(".xterm-rows"), seldom))
	b.typing(t, "hostname\r")
	b.shows(t, "\n"+x.name)
	contains(t, "the journal", x.d.must(t, "journal", "list", "-limit", "20"), "key.lend", "the page is nearer", "stream.begin")
}

// lentComesLate: an agent that is slow to take the key is waited for.
func lentComesLate(t *testing.T, x *strayed) {
	mustDo(t, standinCallAt(x.at, "POST", "/v1/faults", fmt.Sprintf(`{"call":"lent-late","how":"slow","name":%q,"delay_ms":1200}`, x.name), nil))
	if r := x.d.client(t, "", "open", x.name, "-lent", "-reason", "late", "--", "hostname"); r.code != 0 ||
		strings.TrimSpace(r.out) != x.name {
		t.Errorf("late: %+v", r)
	}
}

// lentStays: a lent key that the cloud's agent forgets stands on today, and is taken off by the steward's safe edit; the
// real ssh logs in by it before, and not after. Where no steward is, the command that today names is refused with what
// is lacking, and it stands there until it is gone.
func lentStays(t *testing.T, x *strayed) {
	d := x.d
	lend := func(name string) (file string, fingerprint string) {
		t.Helper()
		file = filepath.Join(x.dir, name)
		pair := pairIn(t, file)
		mustDo(t, standinCallAt(x.at, "POST", "/v1/faults", fmt.Sprintf(`{"call":"lent-stays","how":"fail","name":%q}`, x.name), nil))
		text, err := json.Marshal(wire.LendKey{PublicKey: pair.Line(), Reason: "it stays"})
		mustDo(t, err)
		if a := d.api(t, "POST", "/api/v1/instances/"+x.name+"/lend", string(text), "Authorization", "Bearer "+d.token); a.status != 200 {
			t.Fatalf("%d %s", a.status, a.body)
		}
		return file, pair.Fingerprint()
	}
	t.Cleanup(func() {
		if t.Failed() {
			t.Log(d.client(t, "", "work", "list", "-instance", x.name).out, d.client(t, "", "today", "-what", "lent-key-stays").out,
				d.client(t, "", "journal", "list", "-target", "instance "+x.name, "-limit", "8").out)
		}
	})
	keys := x.at.path("standin", "instances", x.id, "home/debian/.ssh/authorized_keys")
	has := func(name string) bool {
		return strings.Contains(mustRead(t, keys), strings.Fields(mustRead(t, filepath.Join(x.dir, name+".pub")))[1])
	}
	_, fingerprint := lend("stays-1")
	if out, ok := x.ssh(t, "stays-1", "hostname"); !ok {
		t.Fatalf("the lent key does not log in: %s", out)
	}
	waitFor(t, "the steward to take it off", func() bool {
		return strings.Contains(d.must(t, "journal", "list", "-target", "instance "+x.name), "withdraw "+fingerprint+
			", which nobody recorded there: the cloud lent it, and it is not gone after its end") && !has("stays-1")
	})
	if out, ok := x.ssh(t, "stays-1", "hostname"); ok {
		t.Errorf("it logs in still: %s", out)
	}
	waitFor(t, "today to be rid of it", func() bool {
		return !slices.Contains(d.reasonsOf(t, "instance", x.name), "lent-key-stays")
	})

	// Nobody of ours is there to edit: the steward's line has gone.
	before := string(withoutLent([]byte(mustRead(t, keys))))
	mustDo(t, os.WriteFile(keys, []byte(stewardLine.ReplaceAllString(before, "")), 0o600))
	_, fingerprint = lend("stays-2")
	waitFor(t, "it to stand on today", func() bool { return slices.Contains(d.reasonsOf(t, "instance", x.name), "lent-key-stays") })
	contains(t, "today", d.must(t, "today", "-what", "lent-key-stays"), "The cloud lent "+fingerprint+" on "+x.name)
	mustDo(t, os.WriteFile(keys, []byte(before), 0o600)) // taken out by hand
	waitFor(t, "it to be seen gone", func() bool { return !slices.Contains(d.reasonsOf(t, "instance", x.name), "lent-key-stays") })
}

// TestCloudAgentRoute: the cloud's own agent sets the new key on an instance whose key is lost, and the real ssh gets in by it; without the right to do
// so, the offer says what has to be granted, and how long that takes.
func TestCloudAgentRoute(t *testing.T) {
	t.Parallel()
	d := newHome(t, shared)
	name := "cloud-agent-route"
	d.must(t, "key", "create", name+"-old", "-dir", d.dir, "-new-passphrase", "none")
	d.must(t, "instance", "launch", name, "-image", "debian-12", "-size", "small", "-region", "north-pier", "-key", name+"-old")
	id := d.instance(t, name).CloudID
	nature := func(text string) {
		t.Helper()
		mustDo(t, standinCall("POST", "/v1/instances/"+id+"/nature", text, nil))
	}
	nature(`{"stop_destroys":"","missing_rights":["set-keys"]}`)
	d.must(t, "key", "lost", name+"-old")
	contains(t, "no right", d.must(t, "restore", name), "cloud-agent", "may not set keys on it: grant set-keys on the instance to this service's account, which holds after about 2m")
	if r := d.client(t, "", "restore", name, "-route", "cloud-agent", "-new", name+"-old", "-yes"); r.code == 0 {
		t.Errorf("a way that is not open: %+v", r)
	}
	nature(`{"stop_destroys":"","missing_rights":[]}`)
	d.must(t, "key", "create", name+"-new", "-dir", d.dir, "-new-passphrase", "none")
	key := filepath.Join(d.dir, name+"-new")
	contains(t, "restored", d.must(t, "restore", name, "-route", "cloud-agent", "-new", name+"-new", "-identity", key, "-yes"), name+"-new")
	i := d.instance(t, name)
	cmd := exec.Command("ssh", "-F", "none", "-i", key, "-p", fmt.Sprint(i.Port), "-o", "IdentitiesOnly=yes", "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=no", "-o",
		"UserKnownHostsFile=/dev/null", "-l", "debian", i.Address, "cat .ssh/authorized_keys")
	if out, err := cmd.Output(); err != nil || !strings.Contains(string(out), "placed-by-the-cloud") {
		t.Errorf("the real ssh: %s %v", out, err)
	}
	contains(t, "who", d.must(t, "who", name), name+"-new")
	d.must(t, "instance", "remove", name, "-yes")
}
