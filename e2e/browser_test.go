package e2e

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	cdplog "github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// browser is a headless Chromium that keeps what it sent and what it complained about.
type browser struct {
	ctx  context.Context
	base string

	mu       sync.Mutex
	requests []sent
	console  []string
}

type sent struct{ method, url, body string }

type css = chromedp.CSS

// seldom has what waits for a part of a page ask for it ten times a second. Two hundred times, as the package would, is a
// processor's whole time, for as long as it waits.
var seldom = chromedp.RetryInterval(100 * time.Millisecond)

func openBrowser(t testing.TB, base string) *browser {
	t.Helper()
	if _, err := os.Stat("../console/dist/index.html"); err != nil {
		t.Fatal("the console is not built: run \"make build\" first")
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("no-first-run", true),
		chromedp.Flag("force-prefers-reduced-motion", true)) // nothing moves under the mouse
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(cancel)
	b := &browser{ctx: ctx, base: base}
	// The first call starts the browser; it must have no timeout.
	if err := chromedp.Do(ctx, chromedp.Func(func(c context.Context, target *chromedp.Target) error {
		if _, err := cdp.Call(c, target, network.Enable, network.EnableParams{}); err != nil {
			return err
		}
		if _, err := cdp.Call(c, target, cdplog.Enable, cdp.Empty{}); err != nil {
			return err
		}
		_, err := cdp.Call(c, target, runtime.Enable, cdp.Empty{})
		return err
	})); err != nil {
		t.Fatal(err)
	}
	thrown := chromedp.Events(ctx, runtime.ExceptionThrown)
	go func() {
		for e, err := range thrown {
			if err != nil {
				return
			}
			text := e.ExceptionDetails.Text
			if x := e.ExceptionDetails.Exception; x != nil {
				text += " " + x.Description
			}
			b.mu.Lock()
			b.console = append(b.console, "exception: "+text)
			b.mu.Unlock()
		}
	}()
	events, entries := chromedp.Events(ctx, network.RequestWillBeSent), chromedp.Events(ctx, cdplog.EntryAdded)
	go func() {
		for e, err := range events {
			if err != nil {
				return
			}
			body, _ := json.Marshal(e.Request.PostDataEntries)
			b.mu.Lock()
			b.requests = append(b.requests, sent{e.Request.Method, e.Request.URL, string(body)})
			b.mu.Unlock()
		}
	}()
	go func() {
		for e, err := range entries {
			if err != nil {
				return
			}
			b.mu.Lock()
			b.console = append(b.console, string(e.Entry.Level)+": "+e.Entry.Text+" "+e.Entry.URL)
			b.mu.Unlock()
		}
	}()
	return b
}

// do runs steps within a time limit.
func (b *browser) do(t testing.TB, steps ...chromedp.Action[chromedp.Void]) {
	t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, 3*time.Minute)
	defer cancel()
	if err := chromedp.Do(ctx, steps...); err != nil {
		text, _ := chromedp.Run(b.ctx, chromedp.Evaluate[string]("document.body.innerText"))
		t.Fatalf("%v\nthe page says:\n%s", err, text)
	}
}

func (b *browser) text(t testing.TB) string {
	t.Helper()
	text, err := chromedp.Run(b.ctx, chromedp.Evaluate[string]("document.body.innerText"))
	if err != nil {
		t.Fatal(err)
	}
	return text
}

// see waits until the page's text has every word.
func (b *browser) see(t testing.TB, words ...string) {
	t.Helper()
	var text string
	for deadline := time.Now().Add(2 * time.Minute); time.Now().Before(deadline); {
		asked := time.Now()
		text = b.text(t)
		missing := false
		for _, w := range words {
			missing = missing || !strings.Contains(text, w)
		}
		if !missing {
			return
		}
		leaveTime(asked)
	}
	if shot, err := chromedp.Run(b.ctx, chromedp.CaptureScreenshot()); err == nil {
		_ = os.WriteFile(filepath.Join(os.TempDir(), "plumlatch-e2e-failed.png"), shot, 0o600)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	t.Fatalf("the page never says %q:\n%s\nthe browser: %q", words, text, b.console)
}

func (b *browser) visit(t testing.TB, path string) {
	t.Helper()
	b.do(t, chromedp.Navigate(b.base+path))
}

func (b *browser) press(t testing.TB, label string) {
	t.Helper()
	// One that cannot be pressed yet is waited for, as a person does.
	b.do(t, chromedp.Click(chromedp.Search(`//button[normalize-space(.)="`+label+`" and not(@disabled)]`), seldom))
}

// fill pastes into a field until it has the text: a dialog that opens may take
// the focus away in the middle. A page draws itself anew for each key that is typed.
func (b *browser) fill(t testing.TB, field css, text string) {
	t.Helper()
	b.do(t, chromedp.WaitVisible(field, seldom))
	waitFor(t, "the text in "+string(field), func() bool {
		script, _ := json.Marshal(string(field))
		b.do(t, chromedp.Focus(field, seldom))
		if _, err := chromedp.Run(b.ctx,
			chromedp.Evaluate[bool]("(document.querySelector("+string(script)+").select(), true)")); err != nil {
			t.Fatal(err)
		}
		b.do(t, chromedp.Func(func(c context.Context, target *chromedp.Target) error {
			_, err := cdp.Call(c, target, input.InsertText, input.InsertTextParams{Text: text})
			return err
		}))
		v, err := chromedp.Run(b.ctx, chromedp.Value(field, seldom))
		return err == nil && v == text
	})
}

func (b *browser) signIn(t testing.TB, operator, password string) {
	t.Helper()
	b.visit(t, "/")
	b.do(t, chromedp.WaitVisible(css("#operator"), seldom), chromedp.SendKeys(css("#operator"), operator, seldom),
		chromedp.SendKeys(css("#password"), password+"\r", seldom))
}

// sentSince returns the requests after the first n, and how many there are now.
func (b *browser) sentSince(n int) ([]sent, int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]sent(nil), b.requests[n:]...), len(b.requests)
}

// complaints returns what the browser logged that has one of the words in it.
func (b *browser) complaints(words ...string) []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	var out []string
	for _, line := range b.console {
		for _, w := range words {
			if strings.Contains(line, w) {
				out = append(out, line)
				break
			}
		}
	}
	return out
}
