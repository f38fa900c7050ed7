package e2e

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// chooseKey picks a key in the n-th field of a page's line of choices.
func (b *browser) chooseKey(t *testing.T, n, name string) {
	t.Helper()
	field := ".choices-line .ant-form-item:nth-child(" + n + ") "
	b.do(t, chromedp.Click(css(field+".ant-select"), seldom), chromedp.SendKeys(css(field+"input"), name, seldom))
	b.do(t, chromedp.Click(chromedp.Search(`//div[contains(@class,"ant-select-dropdown")][not(contains(@class,"ant-select-dropdown-hidden"))]//div[contains(@class,"ant-select-item-option")][contains(.,"`+name+`")]`), seldom))
}

// consoleRotation previews a rotation and begins it, begins one of many and lets
// it go on and back, and goes through the guide for an exposed key.
func consoleRotation(t *testing.T, b *browser, d *demo, _ string) {
	dir, none := t.TempDir(), writeFile(t, "")
	for _, k := range []string{"turn-old", "turn-new", "turn-next", "turn-last"} {
		d.must(t, "key", "create", k, "-dir", dir, "-new-passphrase", none)
	}
	for _, i := range []string{"turn-1", "turn-2", "turn-3"} {
		d.must(t, "instance", "launch", i, "-image", "debian-12", "-size", "small", "-region", "north-pier", "-key",
			"turn-old", "-tag", "line=turn")
	}
	d.must(t, "access", "add", "turn-1", "-key", "turn-next", "-for", "8h", "-reason", "mends the gauge")
	b.visit(t, "/instances/turn-1")
	b.see(t, "Time left", "ends in 7 h", "no end")
	b.press(t, "Rotate a key")
	b.see(t, "Choose both keys to see what changes")
	b.chooseKey(t, "1", "turn-old")
	b.chooseKey(t, "2", "turn-new")
	b.see(t, "Before", "After", "opens (accepted)", "opens for another 24 hours, then withdrawn",
		"plumlatch key prove turn-new")
	b.press(t, "Rotate")
	b.see(t, "rotate turn-old to turn-new on turn-1", "It waits for the private half of turn-new")
	d.must(t, "key", "prove", "turn-new", "-identity", filepath.Join(dir, "turn-new"))
	b.see(t, "It waits for the end of the grace time")
	b.visit(t, "/instances/turn-1")
	b.see(t, "turn-new", "ends in 23 h")

	// Many: what is at hand is left out; the rest in waves.
	b.visit(t, "/rotate?key=turn-old")
	b.chooseKey(t, "3", "turn-last")
	b.see(t, "wave 1", "wave 2", "is at hand there with it", "the only key of a person there")
	b.press(t, "Rotate")
	b.see(t, "rotate turn-old on 2 instances", "It waits for the private half of turn-last")
	b.press(t, "Pause")
	d.must(t, "key", "prove", "turn-last", "-identity", filepath.Join(dir, "turn-last"))
	b.see(t, "It waits for a word: it is paused")
	b.press(t, "Go on")
	b.see(t, "1 of 1", "It waits for the old key's end on 2 instances")
	b.press(t, "Go back")
	b.do(t, chromedp.Click(chromedp.Search(`//div[contains(@class,"ant-popconfirm")]//button[normalize-space(.)="Go back"]`), seldom))
	b.see(t, "failed, or went back", "1 failed")
	waitFor(t, "the end of it", func() bool {
		return !strings.Contains(d.must(t, "access", "list", "-key",
			"turn-last"), "turn-2")
	})

	// Exposed, by the guide.
	d.must(t, "key", "exposed", "turn-old", "-yes")
	b.visit(t, "/keys/turn-old")
	b.press(t, "Contain and replace")
	b.see(t, "Contain it", "Replace it everywhere at once", "What else was found", "turn-2", "turn-3")
	b.fill(t, `input[placeholder="198.51.100.7/32"]`, "127.0.0.0/8")
	b.do(t, chromedp.Click(css(".guide li:nth-child(2) .ant-select"), seldom),
		chromedp.SendKeys(css(".guide li:nth-child(2) .ant-select input"), "turn-last", seldom))
	b.pick(t, "turn-last")
	b.press(t, "Contain and replace")
	b.see(t, "It waits for the private half of turn-last")
	d.must(t, "key", "prove", "turn-last", "-identity", filepath.Join(dir, "turn-last"))
	b.see(t, "2 of 2")
	b.visit(t, "/today?reason=host-key-doubtful")
	b.see(t, "The host key of turn-2 is doubtful")
}
