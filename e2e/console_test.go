package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"plumlatch/core/wire"
)

// TestConsole goes through the console as an operator does, on an empty demo.
func TestConsole(t *testing.T) {
	t.Parallel()
	d := newDemo(t.TempDir())
	if err := d.start("-seed=false"); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = d.stop() }()
	password, err := os.ReadFile(d.path("console-password"))
	if err != nil {
		t.Fatal(err)
	}
	b := openBrowser(t, d.url)

	b.signIn(t, "harbour-lead", "wrong")
	b.see(t, "Name or password are wrong", "Try again")
	b.signIn(t, "harbour-lead", strings.TrimSpace(string(password)))
	b.see(t, "Nothing needs a hand", "harbour-lead, admin", "Nothing is recorded yet: three first steps",
		"plumlatch key create NAME", "plumlatch open NAME")
	b.visit(t, "/adopt")
	b.see(t, "plumlatch instance adopt NAME -address ADDRESS -identity FILE", "plumlatch instance adopt-many")
	b.fill(t, "#name", "old-berth-1")
	b.fill(t, "#address", "2001:db8::7")
	b.fill(t, "#port", "2222")
	b.fill(t, "#user", "debian")
	b.fill(t, "#identity", "~/.ssh/harbour ops")
	b.fill(t, "#holder", "harbour-lead")
	b.do(t, chromedp.Click(css("#steward"), seldom))
	b.see(t, "plumlatch instance adopt old-berth-1 -address [2001:db8::7]:2222 -user debian "+
		"-identity ~/'.ssh/harbour ops' -holder harbour-lead -no-steward")
	b.visit(t, "/instances")
	b.see(t, "No instance. Launch the first one")
	b.visit(t, "/keys")
	b.see(t, "No key is recorded")
	b.visit(t, "/keys/nobody")
	b.see(t, "There is no such thing", "no key of this name")
	b.visit(t, "/frob")
	b.see(t, "There is no such page")

	dir := t.TempDir()
	if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "quay@desk", "-f",
		filepath.Join(dir, "quay-desk")).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	t.Run("import", func(t *testing.T) { consoleImport(t, b, d, dir) })
	t.Run("launch", func(t *testing.T) { consoleLaunch(t, b, d, dir) })
	t.Run("door", func(t *testing.T) { consoleDoor(t, b, d, dir) })
	t.Run("tracking", func(t *testing.T) { consoleTracking(t, b, d, dir) })
	t.Run("rotation", func(t *testing.T) { consoleRotation(t, b, d, dir) })
	t.Run("restore", func(t *testing.T) { consoleRestore(t, b, d, dir) })
	t.Run("work", func(t *testing.T) { consoleWork(t, b, d, dir) })
	t.Run("viewer", func(t *testing.T) { consoleViewer(t, d) })

	b.press(t, "Sign out")
	b.see(t, "Operator", "Password")
	b.visit(t, "/instances")
	b.see(t, "Operator", "Password")

	if c := b.complaints("Content Security Policy", "Refused", "violat"); len(c) > 0 {
		t.Errorf("the content security policy was violated: %q", c)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, r := range b.requests {
		if !strings.HasPrefix(r.url, d.url) && !strings.HasPrefix(r.url, "data:") {
			t.Errorf("a request elsewhere: %s", r.url)
		}
	}
}

func consoleImport(t *testing.T, b *browser, d *demo, dir string) {
	private, err := os.ReadFile(filepath.Join(dir, "quay-desk"))
	if err != nil {
		t.Fatal(err)
	}
	public, err := os.ReadFile(filepath.Join(dir, "quay-desk.pub"))
	if err != nil {
		t.Fatal(err)
	}
	b.visit(t, "/keys")
	b.see(t, "No key is recorded")
	_, before := b.sentSince(0)
	b.press(t, "Import a key")
	b.fill(t, "#name", "quay-desk")
	// Pasted, as from a clipboard; and dropped as a file.
	b.fill(t, "#public_key", string(private))
	b.press(t, "Import")
	b.see(t, "This is a private key", "Nothing was sent")
	b.do(t, chromedp.SetUploadFiles(css(`input[type="file"]`), []string{filepath.Join(dir, "quay-desk")}, seldom))
	b.see(t, "This is a private key")
	time.Sleep(300 * time.Millisecond)
	after, _ := b.sentSince(before)
	for _, r := range after {
		if r.method != "GET" {
			t.Errorf("something was sent: %s %s", r.method, r.url)
		}
	}
	b.do(t, chromedp.SetUploadFiles(css(`input[type="file"]`), []string{filepath.Join(dir, "quay-desk.pub")}, seldom))
	waitFor(t, "the file's text", func() bool {
		v, err := chromedp.Run(b.ctx, chromedp.Value(css("#public_key"), seldom))
		return err == nil && v == strings.TrimSpace(string(public))
	})
	b.press(t, "Import")
	b.see(t, "Recorded quay-desk", "ed25519")
	b.do(t, chromedp.WaitNotVisible(css(".ant-modal-wrap"), seldom))
	// The same half again: the error stands at its field and names the first.
	b.press(t, "Import a key")
	b.fill(t, "#name", "again")
	b.fill(t, "#public_key", strings.TrimSpace(string(public)))
	b.press(t, "Import")
	b.see(t, "recorded already, as quay-desk")
	b.visit(t, "/keys/quay-desk")
	b.see(t, "SHA256:", "MD5:", "quay@desk", "It opens nothing")
	contains(t, "the ledger", d.must(t, "key", "list"), "quay-desk")
}

// consoleDoor lets somebody in, compares the host key, and asks why.
func consoleDoor(t *testing.T, b *browser, d *demo, dir string) {
	b.visit(t, "/instances/quay-board")
	b.see(t, "Who gets to its ports", "the service itself", "ssh quay-board", "Its addresses")
	b.fill(t, "#admit-from", "198.51.100.7/24")
	b.press(t, "Let it in")
	b.see(t, "did you mean 198.51.100.0/24")
	b.fill(t, "#admit-from", "198.51.100.0/24")
	b.press(t, "Let it in")
	b.see(t, "by harbour-lead", "in 30 min", "its own")
	b.press(t, "Compare with what answers now")
	b.see(t, "The recorded one answers.")
	i := d.instance(t, "quay-board")
	disk := d.path("standin", "instances", i.CloudID)
	console, err := os.ReadFile(disk + ".console")
	mustDo(t, err)
	mustDo(t, os.WriteFile(disk+".console", append(console, "<b>tide</b>\x1b[31m"...), 0o600))
	b.do(t, chromedp.Click(chromedp.Search(`//*[contains(@class, "ant-collapse-header")][contains(., "What it wrote")]`), seldom))
	b.see(t, "<b>tide</b>", "root volume mounted")
	b.press(t, "Why can't I get in?")
	b.see(t, "Nothing is in the way", "it is an SSH server", "not seen", "plumlatch why quay-board")
	file := filepath.Join(disk, "home", "debian", ".ssh", "authorized_keys")
	text, err := os.ReadFile(file)
	mustDo(t, err)
	pub, err := os.ReadFile(filepath.Join(dir, "quay-desk.pub"))
	mustDo(t, err)
	mustDo(t, os.WriteFile(file, []byte(strings.ReplaceAll(string(text), strings.Fields(string(pub))[1], "AAAA")),
		0o600))
	b.press(t, "Look again")
	b.see(t, "What matters is key_not_in_file", "wrong", "plumlatch key export quay-desk", "things are fine: ")
	if strings.Contains(b.text(t), "it is an SSH server") {
		t.Error("what is fine is not folded")
	}
	mustDo(t, os.WriteFile(file, text, 0o600))
	b.visit(t, "/instances/quay-board/why?user=captain")
	b.see(t, "What matters is login_user", "expected", "captain")
	b.visit(t, "/instances/nowhere/why")
	b.see(t, "There is no such thing")
}

func consoleLaunch(t *testing.T, b *browser, d *demo, dir string) {
	b.visit(t, "/launch")
	b.do(t, chromedp.WaitVisible(css("#name"), seldom), chromedp.SendKeys(css("#name"), "quay board", seldom))
	b.press(t, "Launch")
	b.see(t, "Without a key nobody can log in")
	b.do(t, chromedp.Click(css("#keys"), seldom), chromedp.SendKeys(css("#keys"), "quay-desk", seldom),
		chromedp.Click(css(`.ant-select-item-option[title^="quay-desk"]`), seldom))
	b.press(t, "Launch")
	b.see(t, "try quay-board")
	b.do(t, chromedp.SendKeys(css("#name"), strings.Repeat("\b", 10)+"quay-board", seldom))
	b.press(t, "Show what it costs, and its cloud-config")
	b.see(t, "#cloud-config", "ssh_pwauth: false", `restrict,command="internal-sftp"`)
	b.press(t, "Launch")
	b.see(t, "What opens it", "accepted", "plumlatch open quay-board", "steward")
	if out := d.must(t, "open", "quay-board", "-dir", dir, "--", "hostname"); out != "quay-board\n" {
		t.Errorf("the command that the page shows: %q", out)
	}
	b.visit(t, "/instances/quay-board")
	b.see(t, "proven", "from 127.0.0.1")
	b.press(t, "Stop")
	b.see(t, "stopped", "(old)", "none while it is stopped")
	b.press(t, "Start")
	b.see(t, "running", "port 2222")
	b.visit(t, "/instances?region=south-pier")
	b.see(t, "Nothing matches")
	b.visit(t, "/keys/quay-desk")
	b.see(t, "quay-board", "north-pier")
}

// consoleWork launches with all that the form has, watches the work live, takes
// it back, and takes it up again.
func consoleWork(t *testing.T, b *browser, d *demo, dir string) {
	if err := standinCallAt(d, "POST", "/v1/faults", `{"call":"state","name":"work-board"}`, nil); err != nil {
		t.Fatal(err)
	}
	b.downloads(t, dir)
	b.visit(t, "/launch")
	b.fill(t, "#name", "work-board")
	b.see(t, "It needs at least size small and a root volume of 8 GiB", "the cloud chooses")
	b.choose(t, "region", "Skerry Island")
	b.choose(t, "zone", "skerry-island-a")
	b.fill(t, "#disk_gb", "14")
	b.do(t, chromedp.Click(css("#keys"), seldom), chromedp.SendKeys(css("#keys"), "quay-desk", seldom),
		chromedp.Click(css(`.ant-select-item-option[title^="quay-desk"]`), seldom), chromedp.Click(css("h1"), seldom))
	b.see(t, "quay-desk is the sole opener")
	// A pair for it, made on the spot: the form goes on once it is saved.
	b.press(t, "Create a pair for it")
	b.fill(t, "#pair_name", "work-desk")
	b.press(t, "Make the pair")
	b.press(t, "Save the private file")
	downloaded(t, filepath.Join(dir, "work-desk"))
	b.do(t, chromedp.Click(css(`.ant-modal input[type="checkbox"]`), seldom))
	b.press(t, "Record the public half")
	b.see(t, "work-desk (ed25519)")
	b.do(t, chromedp.WaitNotPresent(css(".ant-modal-container"), seldom))
	if strings.Contains(b.text(t), "sole opener") {
		t.Error("two keys of two people, and one is called the sole opener")
	}
	b.do(t, chromedp.SendKeys(css("#tags"), "line=south\r", seldom),
		chromedp.SendKeys(css("#user_data"), "#cloud-config\nusers: default\n", seldom))
	b.press(t, "Show what it costs, and its cloud-config")
	b.see(t, "line 2: users must be a list")
	b.fill(t, "#user_data", "#cloud-config\npackages: [rsync]\n")
	b.do(t, chromedp.Click(css("#agent_verbs"), seldom), chromedp.SendKeys(css("#agent_verbs"), "look\r", seldom), chromedp.Click(css("h1"), seldom))
	b.press(t, "Show what it costs, and its cloud-config")
	b.see(t, "packages: [rsync]", "merge_how", "/etc/plumlatch-agent.yaml", "verbs: [look]")
	b.press(t, "Launch")
	b.see(t, "asking the cloud for the instance (done)", "waiting until it runs (doing)", "none yet",
		"skerry-island, skerry-island-a", "14 GiB", "line=south")
	b.visit(t, "/work")
	b.see(t, "launch work-board", "2 of 6")
	b.do(t, chromedp.Click(chromedp.Search(`//td/a[.="launch work-board"]`), seldom))
	b.see(t, "waiting until it runs (doing)")
	b.press(t, "Cancel")
	b.press(t, "Take it back")
	b.see(t, "cancelled", "asking the cloud for the instance (undone)", "everything was taken back")
	b.do(t, chromedp.Click(css(".work-head a"), seldom))
	b.see(t, "What happened", "cancelled: going back", "was removed from the cloud")
	b.press(t, "Try again")
	b.see(t, "taken up again by harbour-lead", "done: running at")
	b.visit(t, "/instances/work-board")
	b.see(t, "work-desk", "accepted", "Connected, from", "allows look; it changes nothing")
	if err := os.Chmod(filepath.Join(dir, "work-desk"), 0o600); err != nil {
		t.Fatal(err)
	}
	if out := d.must(t, "open", "work-board", "-identity", filepath.Join(dir, "work-desk"), "--",
		"hostname"); out != "work-board\n" {
		t.Errorf("the key that the page made: %q", out)
	}
	b.press(t, "Stop")
	b.see(t, "stopped")
	b.press(t, "Start")
	b.see(t, "running", "Its addresses", "it may be a stranger's now")
}

// consoleViewer signs in somebody who may not change anything.
func consoleViewer(t *testing.T, d *demo) {
	var o wire.Operator
	if err := json.Unmarshal([]byte(d.must(t, "operator", "add", "looker-on", "-role", "viewer", "-json")),
		&o); err != nil {
		t.Fatal(err)
	}
	b := openBrowser(t, d.url)
	b.signIn(t, "looker-on", o.Password)
	b.see(t, "looker-on, viewer", "quay-desk is the only way into", "Put off")
	if off, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](`[...document.querySelectorAll("button")].find(b => b.innerText === "Put off").disabled`)); err != nil || !off {
		t.Errorf("a viewer can put off: %v %v", off, err)
	}
	b.visit(t, "/instances")
	b.see(t, "quay-board")
	disabled, err := chromedp.Run(b.ctx,
		chromedp.Evaluate[bool](`[...document.querySelectorAll("button")].find(b => b.innerText === "Launch an instance").disabled`))
	if err != nil || !disabled {
		t.Errorf("a viewer can press Launch: %v %v", disabled, err)
	}
	// The service goes away when every page's script is here: the page says so.
	waitFor(t, "the other pages' scripts", func() bool {
		here, err := chromedp.Run(b.ctx,
			chromedp.Evaluate[bool](`performance.getEntriesByType("resource").some(e => e.name.includes("/assets/keys-") && e.responseEnd > 0)`))
		return err == nil && here
	})
	if err := d.stop(); err != nil {
		t.Error(err)
	}
	b.do(t, chromedp.Click(chromedp.Search(`//a[.="Keys"]`), seldom))
	b.see(t, "does not answer", "Try again")
	if err := d.start("-seed=false"); err != nil {
		t.Fatal(err)
	}
	b.press(t, "Try again")
	b.see(t, "quay-desk")
}
