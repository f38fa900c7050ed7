package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
)

// axeRules asks axe-core what is wrong with the page as it stands, and keeps what is serious or critical.
const axeRules = `window.found = ""; axe.run(document, {resultTypes: ["violations"]}).then((r) => {
	window.found = JSON.stringify(r.violations.filter((v) => v.impact === "serious" || v.impact === "critical")
		.map((v) => ({id: v.id, impact: v.impact, nodes: v.nodes.slice(0, 4).map((n) => n.html.slice(0, 160) + " " +
		(n.any[0]?.message ?? ""))})));
}, (e) => { window.found = JSON.stringify([{id: String(e)}]) }), true`

// axePages are every page, and a text that it shows when it is there.
func axePages(instance, key string, work int64) map[string]string {
	return map[string]string{
		"/today": "Today", "/instances": instance, "/instances/" + instance: instance,
		"/instances/" + instance + "/why": "Why", "/instances/" + instance + "/rotate": "Rotate",
		"/instances/" + instance + "/restore": "Rehearse it first", "/keys": key, "/keys/" + key: key, "/access": "Access",
		"/map": "Access map", "/journal": "Journal", "/create": "pair", "/check": "file", "/launch": "Launch", "/adopt": "Adopt", "/cloud-keys": "lists of keys",
		"/rotate": "Rotate", "/work": "Work", fmt.Sprintf("/work/%d", work): "launch", "/people": "Tokens",
		"/keys/" + key + "/exposed": "expos", "/keybooks": "Keybooks", "/shells?instance=" + instance: "Your private file is opened in this page",
	}
}

// TestAxe: axe-core finds nothing serious or critical on any page, light and dark, at 1280 and at 390
// wide, and no page is wider than its window. "make test" takes two of these four looks, "make matrix" all.
func TestAxe(t *testing.T) {
	t.Parallel()
	script, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal("axe-core is not there: run \"make build\" first")
	}
	d, dir := shared, t.TempDir()
	d.must(t, "key", "create", "axe-key", "-dir", dir)
	d.launchBoard(t, "axe-board", "axe-key")
	d.must(t, "survey", "axe-board", "-inside", "-outside")
	var list wireList
	mustDo(t, json.Unmarshal([]byte(d.api(t, "GET", "/api/v1/work?instance=axe-board&limit=1", "").body), &list))
	pages := axePages("axe-board", "axe-key", list.Items[0].ID)
	d.must(t, "key", "create", "axe-desk-key", "-kind", "rsa-3072", "-dir", dir)
	d.must(t, "instance", "launch", "axe-desk", "-image", "quay-desk-1", "-size", "medium", "-region", "north-pier", "-key", "axe-desk-key")
	pages["/instances/axe-desk"] = "It has no SSH"
	b := openBrowser(t, d.url)
	look := func(width int64, scheme string) {
		t.Helper()
		b.do(t, chromedp.Func(func(c context.Context, target *chromedp.Target) error {
			if _, err := cdp.Call(c, target, emulation.SetDeviceMetricsOverride,
				emulation.SetDeviceMetricsOverrideParams{Width: width, Height: 800, DeviceScaleFactor: 1}); err != nil {
				return err
			}
			_, err := cdp.Call(c, target, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
				Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme},
					{Name: "prefers-reduced-motion", Value: "reduce"}}})
			return err
		}))
	}
	check := func(page, at string) {
		t.Helper()
		eval := func(expression string) string {
			t.Helper()
			text, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](expression))
			mustDo(t, err)
			return text
		}
		wider := func() string {
			return eval("String(Math.max(0, document.documentElement.scrollWidth - window.innerWidth))")
		}
		// What is still being asked for has nothing to judge.
		waitFor(t, page+" to be whole", func() bool {
			return eval(`String(document.querySelector("main .ant-skeleton, main .ant-spin-spinning") === null)`) == "true"
		})
		wide := wider()
		// A table is drawn once before it knows that it has to be scrolled.
		for until := time.Now().Add(3 * time.Second); wide != "0" && time.Now().Before(until); wide = wider() {
			time.Sleep(100 * time.Millisecond)
		}
		if wide != "0" {
			t.Errorf("%s at %s is %s pixels wider than its window: %s", page, at, wide, eval(`(() => {
				const out = [...document.querySelectorAll("body *")].filter((e) => e.getBoundingClientRect().right > innerWidth + 1 && e.checkVisibility())
				const texts = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT)
				while (texts.nextNode()) { // a line that does not break leaves the box that it stands in
					const r = document.createRange()
					r.selectNodeContents(texts.currentNode)
					if (r.getBoundingClientRect().right > innerWidth + 1) out.unshift(texts.currentNode.parentElement)
				}
				return out.slice(0, 8).map((e) => e.outerHTML.slice(0, 160)).join("\n")
			})()`))
		}
		// What the pointer can press, the keyboard reaches: it is in the order of Tab itself, or stands in what is.
		// The drawn map is left to the table that says the same, the arrows of a number to its own keys.
		if loose := eval(`[...document.querySelectorAll("body *")].filter((e) => e.checkVisibility() &&
				getComputedStyle(e).cursor === "pointer" && !e.matches("canvas, canvas *") &&
				!e.closest("a[href], button, input, select, textarea, summary, label, [tabindex='0'], .ant-select, .ant-checkbox-wrapper, .ant-input-number, .ant-upload"))
			.slice(0, 6).map((e) => e.outerHTML.slice(0, 160)).join("\n")`); loose != "" {
			t.Errorf("%s at %s: the keyboard does not reach %s", page, at, loose)
		}
		if _, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](string(script)+";"+axeRules)); err != nil {
			t.Fatal(err)
		}
		found := ""
		waitFor(t, "axe on "+page, func() bool { found = eval("window.found"); return found != "" })
		if found != "[]" {
			t.Errorf("%s at %s: %s", page, at, found)
		}
	}
	look(1280, "light")
	b.visit(t, "/")
	b.do(t, chromedp.WaitVisible(css("#operator"), seldom))
	check("signing in", "1280 light")
	password, err := os.ReadFile(d.path("console-password"))
	mustDo(t, err)
	b.signIn(t, "harbour-lead", strings.TrimSpace(string(password)))
	b.see(t, "Today")
	type glance struct {
		width  int64
		scheme string
	}
	looks := []glance{{1280, "light"}, {390, "dark"}}
	if os.Getenv("PLUMLATCH_EVERY_HALT") != "" { // make matrix has the time for all
		looks = append(looks, glance{1280, "dark"}, glance{390, "light"})
	}
	for _, c := range looks {
		look(c.width, c.scheme)
		for page, text := range pages {
			b.visit(t, page)
			b.see(t, text)
			check(page, fmt.Sprintf("%d %s", c.width, c.scheme))
		}
	}
}

// wireList is what is read of a list of work.
type wireList struct {
	Items []struct{ ID int64 }
}
