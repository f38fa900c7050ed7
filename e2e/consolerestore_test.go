package e2e

import (
	"fmt"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
)

// consoleRestore goes from an instance to the ways back into it, sees the whole way
// of one before its first step, carries it out, and reads its report.
func consoleRestore(t *testing.T, b *browser, d *demo, _ string) {
	dir, none := t.TempDir(), writeFile(t, "")
	for _, k := range []string{"back-lost", "back-new"} {
		d.must(t, "key", "create", k, "-dir", dir, "-new-passphrase", none)
	}
	d.must(t, "instance", "launch", "back-board", "-image", "harrow-web-2", "-size", "small", "-region", "north-pier",
		"-key", "back-lost")
	d.must(t, "instance", "check", "add", "back-board", "http://:7080/health")
	d.must(t, "key", "lost", "back-lost")
	b.visit(t, "/instances/back-board")
	b.press(t, "Ways back in")
	b.see(t, "Lost or exposed: back-lost", "steward", "boot-text", "disk", "not open", "Until somebody is in",
		"lacking:", "plumlatch survey back-board -outside", "The whole way by steward")
	b.press(t, "disk")
	b.see(t, "The whole way by disk", "find the right filesystem on it, and mount that",
		"see that nothing is left open behind")
	// It is rehearsed first: what that takes is shown before, and it is begun by a button.
	b.press(t, "What a rehearsal would take")
	b.see(t, "launch a copy from that", "costs at most", "Not shown by it")
	b.do(t, chromedp.Click(chromedp.Search(`//main//button[normalize-space(.)="Rehearse"]`), seldom))
	b.see(t, "rehearse the way back into back-board by disk", "by disk somebody would be in after", "the copy and its image are removed")
	b.visit(t, "/instances/back-board")
	b.press(t, "Ways back in")
	b.see(t, "in after ")
	b.press(t, "disk")
	b.do(t, chromedp.Click(css(".key-choice .ant-select"), seldom), chromedp.SendKeys(css(".key-choice input"), "back-new", seldom))
	b.pick(t, "back-new")
	b.press(t, "Restore access")
	b.do(t, chromedp.Click(chromedp.Search(`//div[contains(@class,"ant-popconfirm")]//button[normalize-space(.)="Restore"]`), seldom))
	b.see(t, "restore access to back-board, by disk", "Seen from outside", "It waits for a login with back-new")
	d.must(t, "key", "prove", "back-new", "-identity", filepath.Join(dir, "back-new"))
	b.see(t, "back-new opens back-board; back-lost is withdrawn")
	b.visit(t, fmt.Sprintf("/work/%d/report", lastRestore(t, d, "back-board")))
	b.see(t, "Access to back-board, restored", "back-lost", "Down, measured from outside", "unmounting it",
		"http://:7080/health: works (it answers 200)", "its address: ", "rescue instance rescue-w", "Print")
	// By a copy: how long the old one is kept is chosen; going back to it, and its end, are a word on the page of the work that keeps it.
	for n, c := range []struct{ button, word string }{{"Cancel", "Take it back"}, {"Remove the old machine", "Remove it"}} {
		key := fmt.Sprintf("back-copy-%d", n)
		d.must(t, "key", "create", key, "-dir", dir, "-new-passphrase", none)
		before := d.instance(t, "back-board").CloudID
		b.visit(t, "/instances/back-board")
		b.press(t, "Ways back in")
		b.press(t, "copy")
		b.see(t, "The whole way by copy", "The old one is kept, stopped, for", "plumlatch restore copy back-board -keep 7d")
		b.do(t, chromedp.Click(css(".key-choice .ant-select"), seldom), chromedp.SendKeys(css(".key-choice input"), key, seldom))
		b.pick(t, key)
		b.press(t, "Restore access")
		b.do(t, chromedp.Click(chromedp.Search(`//div[contains(@class,"ant-popconfirm")]//button[normalize-space(.)="Restore"]`), seldom))
		b.see(t, "It waits for a login with "+key)
		d.must(t, "key", "prove", key, "-identity", filepath.Join(dir, key))
		b.see(t, key+" opens back-board")
		copied := d.instance(t, "back-board").CloudID
		kept := lastOf(t, d, "back-board", "restore-kept")
		b.visit(t, "/instances/back-board")
		b.see(t, before) // the old one, kept beside it
		b.visit(t, fmt.Sprint("/work/", kept.ID))
		b.press(t, c.button)
		b.do(t, chromedp.Click(chromedp.Search(fmt.Sprintf(`//div[contains(@class,"ant-popconfirm")]//button[normalize-space(.)=%q]`, c.word)), seldom))
		waitFor(t, c.button, func() bool { return d.workByID(t, kept.ID).Over() })
		want := map[string]string{"Cancel": before, "Remove the old machine": copied}[c.button]
		if i := d.instance(t, "back-board"); copied == before || i.CloudID != want || i.State != "running" {
			t.Errorf("%s: it was %s, then %s, and is %s", c.button, before, copied, i.CloudID)
		}
	}
}
