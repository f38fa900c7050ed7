package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// consoleTracking sees a hand edit in the console, writes it down, puts a matter
// off, looks at the map and the time lines, and takes a key into its bad day.
func consoleTracking(t *testing.T, b *browser, d *demo, dir string) {
	file := filepath.Join(d.ownDisk(t, "quay-board"), "home", "debian", ".ssh", "authorized_keys")
	visitor := strings.Join(strings.Fields(newPublic(t))[:2], " ")
	d.must(t, "open", "quay-board", "-identity", filepath.Join(dir, "quay-desk"), "--", "echo '"+visitor+
		" <b>visitor</b>' >> .ssh/authorized_keys")
	b.visit(t, "/instances/quay-board")
	b.press(t, "Look inside now")
	b.see(t, "From inside, by the steward", "unrecorded", "<b>visitor</b>", "not seen:", "and nobody wrote it down")
	b.press(t, "Ask from outside now")
	b.see(t, "From outside, without any private key", "to debian: publickey", "inbound rules admit")

	b.visit(t, "/")
	b.see(t, "Today", "Soon", "1 unrecorded-key", "opens quay-board as debian", "plumlatch access record quay-board SHA256:")
	b.visit(t, "/today?reason=unrecorded-key")
	b.see(t, "nobody wrote it down")
	b.press(t, "Put off")
	b.do(t, chromedp.WaitVisible(css(".ant-picker input"), seldom), chromedp.Click(css(".ant-picker input"), seldom),
		chromedp.SendKeys(css(".ant-picker input"), time.Now().AddDate(0, 0, 3).Format("2006-01-02")+"\r", seldom))
	b.fill(t, `input[placeholder="why it can wait"]`, "the fitter comes on Monday")
	b.do(t, chromedp.Click(chromedp.Search(`//div[contains(@class,"ant-modal-footer")]//button[normalize-space(.)="Put off"]`), seldom))
	b.see(t, "Nothing of that needs a hand", "put off (1)")
	b.visit(t, "/today?off=true")
	b.see(t, "the fitter comes on Monday", "Take up")
	b.press(t, "Take up")
	b.see(t, "Nothing is put off")

	b.visit(t, "/instances/quay-board")
	b.press(t, "Write down")
	b.fill(t, `input[placeholder="name for the key"]`, "quay-visitor")
	b.do(t, chromedp.Click(chromedp.Search(`//div[contains(@class,"ant-modal-footer")]//button[normalize-space(.)="Write down"]`), seldom))
	b.see(t, "quay-visitor", "seen")
	if got := d.reasonsOf(t, "instance", "quay-board"); len(got) != 0 {
		t.Errorf("written down, and still: %q", got)
	}

	// The map: a cell leads to its rows, a bar to its own.
	b.visit(t, "/map")
	b.see(t, "Instances opened per key", "Age of evidence", "The same as a table: ")
	b.do(t, chromedp.Focus(css("details.fine > summary"), seldom), chromedp.SendKeys(css("details.fine > summary"), " ", seldom))
	b.see(t, "The only way in", "Days old")
	at, err := chromedp.Run(b.ctx, chromedp.Evaluate[[]float64](`(() => {
		const c = document.querySelector("canvas.grid"), r = c.getBoundingClientRect(), g = c.getContext("2d"), k = c.width / r.width;
		for (let y = 125; y < 400; y += 4) for (let x = 155; x < 400; x += 4) {
			const p = g.getImageData(x * k, y * k, 1, 1).data;
			if (p[0] < 120 && p[2] > 90) return [r.left + x, r.top + y];
		}
		return [];
	})()`))
	if err != nil || len(at) != 2 {
		t.Fatalf("no mark on the map: %v %v", at, err)
	}
	b.do(t, chromedp.MouseClickXY(at[0], at[1]))
	b.see(t, "What opens it")
	b.visit(t, "/map?group=holder")
	b.see(t, "Instances opened per key")
	b.visit(t, "/access?evidence=seen")
	b.see(t, "What opens what", "quay-visitor")
	b.visit(t, "/access?evidence_older_than_days=90")
	b.see(t, "Nothing matches")

	// A heading never claims what nobody has recorded.
	b.visit(t, "/keys/quay-visitor/exposed")
	b.see(t, "If quay-visitor is exposed: contain it, and replace it", "Record first that it is exposed")

	// A key's page: its history, and its bad day.
	b.visit(t, "/keys/quay-visitor")
	b.see(t, "What happened to it", "stands in a file")
	b.do(t, chromedp.Click(chromedp.Search(`//*[contains(@class, "ant-collapse-header")][contains(., "The same in words")]`), seldom))
	b.see(t, "stood in .ssh/authorized_keys of debian", "seen as debian")
	b.press(t, "Exposed")
	b.see(t, "Nothing on instances is changed", "Shut these, in this order", "quay-desk")
	b.press(t, "Record that it is exposed")
	b.see(t, "Recorded. Nothing on instances was changed")
	if k := d.key(t, "quay-visitor"); k.State != "exposed" {
		t.Errorf("the key is %s", k.State)
	}
	b.visit(t, "/today?urgency=now")
	b.see(t, "quay-visitor, which somebody else may have, still opens quay-board")

	b.visit(t, "/journal?target=instance+quay-board")
	b.see(t, "access.record", "instance.survey", "harbour-lead")
	b.press(t, "Verify")
	b.see(t, "The journal holds", "computes it on your machine")

	text, err := os.ReadFile(file)
	mustDo(t, err)
	mustDo(t, os.WriteFile(file, []byte(strings.ReplaceAll(string(text), visitor, "# gone")), 0o600))
	d.surveyOf(t, "quay-board")
}

// ownDisk is an instance's root volume in this demo's own stand-in.
func (d *demo) ownDisk(t *testing.T, name string) string {
	t.Helper()
	return d.path("standin", "instances", d.instance(t, name).CloudID)
}
