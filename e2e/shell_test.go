package e2e

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"plumlatch/core/plaintext"
)

// screen is what the terminal that is shown has on its screen.
func (b *browser) screen(t testing.TB) string {
	t.Helper()
	text, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`[...document.querySelectorAll(".xterm-rows > div")].map(r => r.textContent.replace(/\u00a0/g, " ").trimEnd()).join("\n")`))
	if err != nil {
		t.Fatal(err)
	}
	return text
}

// shows waits until the terminal shows something.
func (b *browser) shows(t testing.TB, words string) {
	t.Helper()
	text := ""
	for deadline := time.Now().Add(time.Minute); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		if text = b.screen(t); strings.Contains(text, words) {
			return
		}
	}
	t.Fatalf("the terminal never shows %q:\n%s\nthe page: %s\nthe browser: %q", words, text, b.text(t), plaintext.Cut(fmt.Sprint(b.complaints("")), 2000))
}

// typing is what a person types into the terminal that is shown.
func (b *browser) typing(t testing.TB, text string) {
	t.Helper()
	// A key that is pressed and its letter are one event, as they are of a keyboard: a terminal that takes the first has no second one.
	b.do(t, chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		for _, r := range text {
			events := kb.Encode(r)
			down := *events[0]
			if len(events) == 3 {
				down.Text, down.UnmodifiedText = events[1].Text, events[1].UnmodifiedText
			}
			for _, e := range []input.DispatchKeyEventParams{down, *events[len(events)-1]} {
				if _, err := cdp.Call(ctx, target, input.DispatchKeyEvent, e); err != nil {
					return err
				}
			}
		}
		return nil
	}))
}

// inBrowser is a browser that is signed in to the shared service, by whatever way leads there.
func inBrowser(t testing.TB, url string) *browser {
	t.Helper()
	password, err := os.ReadFile(shared.path("console-password"))
	mustDo(t, err)
	b := openBrowser(t, url)
	b.signIn(t, "harbour-lead", strings.TrimSpace(string(password)))
	b.see(t, "harbour-lead, admin")
	return b
}

// goTo has the page show another one, without loading it anew: what the tab holds stays.
func (b *browser) goTo(t testing.TB, path string) {
	t.Helper()
	if _, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](fmt.Sprintf(`(() => { history.pushState({}, "", %q); dispatchEvent(new PopStateEvent("popstate")); return true })()`, path))); err != nil {
		t.Fatal(err)
	}
}

// shellOn opens a shell in the page, with a private file.
func (b *browser) shellOn(t testing.TB, name, identity string) {
	t.Helper()
	b.visit(t, "/shells?instance="+name)
	b.shellBy(t, identity)
}

// shellBy is that once the page asks for the key.
func (b *browser) shellBy(t testing.TB, identity string) {
	t.Helper()
	b.see(t, "Your private file is opened in this page")
	b.do(t, chromedp.SetUploadFiles(css(`input[type="file"]`), []string{identity}, seldom))
	b.see(t, "Private file: "+filepath.Base(identity))
	b.do(t, chromedp.Click(chromedp.Search(`//button[contains(., "Open a shell on") and not(@disabled)]`), seldom))
	b.do(t, chromedp.WaitVisible(css(".xterm-rows"), seldom))
}

// TestShell: a shell in the page, on a real sshd, with the engineer's private file: what is typed, a size that changes, programs that take the whole screen,
// colours, other scripts, much output, files both ways, and a network that breaks. What goes to the service is SSH's cipher text.
func TestShell(t *testing.T) {
	t.Parallel()
	way := newTap(t, shared.url)
	a, d, name, _ := streamed(t, way.url)
	b := inBrowser(t, way.url)
	b.shellOn(t, name, a.identity)
	b.typing(t, "PS1='at the quay> '; clear\r")
	b.shows(t, "at the quay>")
	const typed = "lanterns-out-at-dusk"
	b.typing(t, "echo \"$(echo "+typed+" | tr a-z A-Z) $((40+2)) $TERM\"\r")
	b.shows(t, strings.ToUpper(typed)+" 42 xterm-256color")

	// Its size is the page's, and follows it.
	b.typing(t, "clear; stty size\r")
	size := func() (columns int) {
		t.Helper()
		for range 100 {
			for line := range strings.Lines(b.screen(t)) {
				rows := 0
				if n, _ := fmt.Sscanf(line, "%d %d", &rows, &columns); n == 2 && rows > 10 {
					return columns
				}
			}
			time.Sleep(50 * time.Millisecond)
		}
		t.Fatalf("no size: %s", b.screen(t))
		return 0
	}
	columns := size()
	b.do(t, chromedp.EmulateViewport(900, 700))
	waitFor(t, "another size", func() bool {
		b.typing(t, "clear; stty size\r")
		c := size()
		return c < columns && c > 40
	})
	b.do(t, chromedp.EmulateViewport(1280, 800))

	// Programs that take the whole screen; a table in UTF-8; colours, which the page's policy lets through.
	b.typing(t, "clear; vi note\r")
	b.shows(t, "note")
	b.typing(t, "iwritten in the page\x1b")
	b.shows(t, "written in the page")
	b.typing(t, ":wq\r")
	b.shows(t, "at the quay>")
	b.typing(t, "clear; cat note; wc -c <note\r")
	b.shows(t, "written in the page\n20")
	b.typing(t, "clear; top -n 1 -b | head -3; printf '│ 潮位 │ ørsted │ \\360\\237\\230\\200 │\\n'\r")
	b.shows(t, "│ 潮位 │ ørsted │ 😀 │")
	b.typing(t, "clear; printf '\\033[38;2;12;34;56mtrue\\033[48;5;120mmany\\033[0m\\n'\r")
	b.shows(t, "truemany")
	if n, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](`[...document.querySelectorAll(".xterm-rows span")].some(s => s.style.color !== "")`)); err != nil || !n {
		t.Errorf("no colour of its own: %v %v", n, err)
	}

	// What reaches out of a terminal is off: its title, links, the clipboard. The bell is seen.
	title, err := chromedp.Run(b.ctx, chromedp.Evaluate[string]("document.title"))
	mustDo(t, err)
	b.typing(t, "clear; printf '\\033]0;taken\\007\\033]52;c;dGFrZW4=\\007\\033]8;;http://elsewhere.example\\007link\\033]8;;\\007\\n\\007'\r")
	b.shows(t, "link")
	b.see(t, "The bell rang")
	if now, err := chromedp.Run(b.ctx, chromedp.Evaluate[string]("document.title")); err != nil || now != title {
		t.Errorf("the title is %q, and was %q: %v", now, title, err)
	}

	// Much at once: the page goes on, and all of it came.
	b.typing(t, "clear; yes 0123456789012345678901234567890123456789 | head -c 10000000 | tee flood; sha256sum flood | cut -c1-10; echo all\r")
	b.shows(t, "\nall")

	// Several lines are asked about before they are pasted.
	paste := func(text string) {
		t.Helper()
		said, _ := json.Marshal(text)
		if _, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](`(() => { const d = new DataTransfer(); d.setData("text/plain", `+string(said)+`);
			document.querySelector(".xterm-helper-textarea").dispatchEvent(new ClipboardEvent("paste", {clipboardData: d, bubbles: true, cancelable: true})); return true })()`)); err != nil {
			t.Fatal(err)
		}
	}
	b.typing(t, "clear\r")
	paste("echo pasted-$((1+1))")
	b.typing(t, "\r")
	b.shows(t, "pasted-2")
	paste("echo one\necho two-$((1+1))\n")
	b.see(t, "Paste several lines?")
	b.press(t, "Paste them")
	b.typing(t, "\r") // a bracketed paste waits for it
	b.shows(t, "two-2")

	// The connection breaks; the session does not.
	b.typing(t, "clear; for n in 1 2 3 4 5 6; do sleep 0.5; echo tick-$n; done\r")
	b.shows(t, "tick-1")
	way.sever()
	b.shows(t, "tick-6")

	// Files, both ways.
	whole := make([]byte, 3<<20)
	_, _ = rand.Read(whole)
	dir := t.TempDir()
	mustDo(t, os.WriteFile(filepath.Join(dir, "chart.bin"), whole, 0o600))
	b.downloads(t, dir)
	b.press(t, "Files")
	b.see(t, "Files on "+name, "flood")
	b.do(t, chromedp.SetUploadFiles(css(`.ant-drawer input[type="file"]`), []string{filepath.Join(dir, "chart.bin")}, seldom))
	b.see(t, "chart.bin: whole")
	if got, err := os.ReadFile(filepath.Join(a.home, "chart.bin")); err != nil || !bytes.Equal(got, whole) {
		t.Errorf("up went %d bytes, %v", len(got), err)
	}
	mustDo(t, os.Remove(filepath.Join(dir, "chart.bin")))
	b.do(t, chromedp.Click(css(`button[aria-label="Bring chart.bin"]`), seldom))
	waitFor(t, "the file", func() bool {
		got, err := os.ReadFile(filepath.Join(dir, "chart.bin"))
		return err == nil && bytes.Equal(got, whole)
	})
	b.do(t, chromedp.Click(css(`.ant-drawer button[aria-label="Close"]`), seldom))

	// What the service can know of it stands on the page of the instance; nothing of what was typed went there, and nothing of the key.
	waitFor(t, "what the service knows", func() bool {
		open := d.streamsOf(t, name, "-open")
		return len(open) == 1 && open[0].Up > 3<<20 && open[0].Down > 12<<20
	})
	private, err := os.ReadFile(a.identity)
	mustDo(t, err)
	way.mu.Lock()
	for what, secret := range map[string][]byte{"what was typed": []byte(typed), "what came": []byte("0123456789012345"), "the private key": private[40:140],
		"what was pasted": []byte("two-2"), "a file": whole[:64]} {
		if bytes.Contains(way.all, secret) {
			t.Errorf("%s went through the service", what)
		}
	}
	way.mu.Unlock()
	if said := b.complaints("Content Security Policy", "exception"); len(said) > 0 {
		t.Errorf("the browser: %q", said)
	}

	// The shell's own end is said.
	b.do(t, chromedp.Focus(css(".xterm-helper-textarea"), seldom))
	b.typing(t, "exit 3\r")
	b.see(t, "This session has ended: it ended with status 3")
}

// TestShellTabs: two sessions in one page, each with its own terminal; the browser asks before they are lost; one is ended by the button on the instance's page.
func TestShellTabs(t *testing.T) {
	t.Parallel()
	a, d, name, _ := streamed(t, shared.url)
	b := inBrowser(t, shared.url)
	asks := func() bool {
		t.Helper()
		yes, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](`(() => { const e = new Event("beforeunload", {cancelable: true}); dispatchEvent(e); return e.defaultPrevented })()`))
		mustDo(t, err)
		return yes
	}
	b.visit(t, "/shells")
	b.see(t, "No session is open in this tab")
	if asks() {
		t.Error("it asks, and holds no session")
	}
	b.goTo(t, "/shells?instance="+name)
	b.shellBy(t, a.identity)
	b.typing(t, "PS1='first> '; clear\r")
	b.shows(t, "first>")
	b.goTo(t, "/shells?instance="+name)
	b.shellBy(t, a.identity)
	b.typing(t, "PS1='second> '; clear\r")
	b.shows(t, "second>")
	tab := func(n int) {
		t.Helper()
		b.do(t, chromedp.Click(css(fmt.Sprintf(`.shells [role=tab]:nth-of-type(%d)`, n)), seldom))
	}
	tab(1)
	b.shows(t, "first>")
	b.typing(t, "echo one-$((1+1))\r")
	b.shows(t, "one-2")
	tab(2)
	b.shows(t, "second>")
	if text := b.screen(t); strings.Contains(text, "one-2") {
		t.Errorf("what was typed into the first is in the second: %s", text)
	}
	if open := d.streamsOf(t, name, "-open"); len(open) != 2 {
		t.Errorf("%d streams are open", len(open))
	}
	if !asks() {
		t.Error("two sessions would be lost, and it does not ask")
	}

	// The button that ends one, for the newer of the two.
	b.goTo(t, "/instances/"+name)
	b.see(t, "Open sessions through the service")
	newer := d.streamsOf(t, name, "-open")[0].ID
	b.do(t, chromedp.Click(chromedp.Search(fmt.Sprintf(`//tr[td[normalize-space()="%d"]]//button[contains(., "End it")]`, newer)), seldom))
	b.do(t, chromedp.Click(css(`.ant-popconfirm .ant-btn-primary`), seldom))
	waitFor(t, "its end", func() bool { return len(d.streamsOf(t, name, "-open")) == 1 })
	b.goTo(t, "/shells")
	tab(2)
	b.see(t, "This session has ended: an operator ended it")
	tab(1)
	b.typing(t, "clear; echo goes-on-$((1+1))\r")
	b.shows(t, "goes-on-2")
	b.typing(t, "exit\r")
	b.see(t, "This session has ended: it was closed")
	if asks() {
		t.Error("both have ended, and it asks")
	}
}

// TestShellHostKey: a service that says another host key later is found out by the browser, and a server that is another one by the page.
func TestShellHostKey(t *testing.T) {
	t.Parallel()
	a, d, name, _ := streamed(t, shared.url)
	b := inBrowser(t, shared.url)
	b.shellOn(t, name, a.identity)
	b.typing(t, "echo in-$((1+1))\r")
	b.shows(t, "in-2")
	// As after a change of the record that nobody told this browser of.
	if _, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](`(() => { for (const k of Object.keys(localStorage)) if (k.startsWith("plumlatch-host-keys ")) {
		localStorage.setItem(k, "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIPHltHBNVYYJ+1O6z8g5Oko6QFQoZ70zVACIZH11wMWY"); return true } return false })()`)); err != nil {
		t.Fatal(err)
	}
	b.typing(t, "exit\r")
	b.see(t, "This session has ended")
	b.visit(t, "/shells?instance="+name)
	b.see(t, "The host key of this instance is another one than this browser remembers")
	b.do(t, chromedp.SetUploadFiles(css(`input[type="file"]`), []string{a.identity}, seldom))
	if n, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](`[...document.querySelectorAll("button[type=submit]")].every(x => x.disabled)`)); err != nil || !n {
		t.Errorf("it can be opened: %v %v", n, err)
	}
	b.press(t, "Remember the new one")
	b.press(t, "I know it")
	// A key that does not open it.
	other := filepath.Join(t.TempDir(), "other")
	d.must(t, "key", "create", name+"-other", "-dir", filepath.Dir(other), "-new-passphrase", writeFile(t, ""))
	b.do(t, chromedp.SetUploadFiles(css(`input[type="file"]`), []string{filepath.Join(filepath.Dir(other), name+"-other")}, seldom))
	b.see(t, "Private file: "+name+"-other")
	b.do(t, chromedp.Click(chromedp.Search(`//button[contains(., "Open a shell on") and not(@disabled)]`), seldom))
	b.see(t, "the server does not take this key")
}

// TestShellMade: a pair that the page makes for one session is let in by a line with an end that the real server keeps and the address that it sees, opens the
// session, and is withdrawn while that goes on. Its private half is nowhere but in the page.
func TestShellMade(t *testing.T) {
	t.Parallel()
	way := newTap(t, shared.url)
	a, d, name, _ := streamed(t, way.url)
	before := a.now(t)
	b := inBrowser(t, way.url)
	b.visit(t, "/shells?instance="+name)
	b.see(t, "A pair made for this session")
	b.do(t, chromedp.Click(chromedp.Search(`//label[contains(., "A pair made for this session")]`), seldom))
	b.see(t, "is withdrawn once the session has begun")
	b.fill(t, css(`input[aria-label="why, for the journal"]`), "the night's tally")
	b.do(t, chromedp.Click(chromedp.Search(`//button[contains(., "Open a shell on") and not(@disabled)]`), seldom))
	b.do(t, chromedp.WaitVisible(css(".xterm-rows"), seldom))
	b.typing(t, "echo in-$((1+1))\r")
	b.shows(t, "in-2")
	stream := d.streamsOf(t, name, "-open")[0]
	key := fmt.Sprintf("session-%d", stream.ID)
	journal := d.must(t, "journal", "list", "-target", "instance "+name)
	contains(t, "the journal", journal, "let "+key+" open it until", ", from "+stream.SeenFrom, "the night's tally", "the session has begun")
	// A line end that ours needed before it may stay.
	waitFor(t, "its line to be gone", func() bool { return strings.TrimRight(a.now(t), "\n") == strings.TrimRight(before, "\n") })
	// The session goes on without it.
	b.typing(t, "clear; echo still-$((1+1))\r")
	b.shows(t, "still-2")
	waitFor(t, "its record to be gone", func() bool { return !strings.Contains(d.client(t, "", "access", "list", "-instance", name).out, key) })
	way.mu.Lock()
	defer way.mu.Unlock()
	for _, secret := range []string{"PRIVATE KEY", "openssh-key-v1", "still-2"} {
		if bytes.Contains(way.all, []byte(secret)) {
			t.Errorf("%q went to the service", secret)
		}
	}
}
