package e2e

import (
	"context"
	"encoding/base64"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	cdbrowser "github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/chromedp"
)

// downloads makes the browser save files into a folder without asking.
func (b *browser) downloads(t testing.TB, dir string) {
	t.Helper()
	b.do(t, chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		_, err := cdp.Call(ctx, target, cdbrowser.SetDownloadBehavior, cdbrowser.SetDownloadBehaviorParams{
			Behavior: cdbrowser.SetDownloadBehaviorBehaviorAllow, DownloadPath: dir,
		})
		return err
	}))
}

func downloaded(t *testing.T, file string) []byte {
	t.Helper()
	var data []byte
	waitFor(t, "the download "+file, func() bool {
		var err error
		data, err = os.ReadFile(file)
		return err == nil && len(data) > 0
	})
	return data
}

// nothingPrivate checks that no request since carries a part of a private file
// or a passphrase, in the clear or in base64.
func (b *browser) nothingPrivate(t *testing.T, since int, secrets ...string) {
	t.Helper()
	requests, _ := b.sentSince(since)
	for _, r := range requests {
		// The protocol shows a body's parts in base64.
		body := r.body
		for _, part := range strings.Split(r.body, `"`) {
			if raw, err := base64.StdEncoding.DecodeString(part); err == nil {
				body += string(raw)
			}
		}
		for _, s := range secrets {
			if strings.Contains(r.url+body, s) ||
				strings.Contains(r.url+body, base64.StdEncoding.EncodeToString([]byte(s))) {
				t.Errorf("%s %s carries what is private", r.method, r.url)
			}
		}
	}
}

// TestConsoleKeys creates pairs in the page, saves them, and logs in with them.
func TestConsoleKeys(t *testing.T) { // alone: it reads in the log that the service was sent nothing
	d, dir := shared, t.TempDir()
	password, err := os.ReadFile(d.path("console-password"))
	if err != nil {
		t.Fatal(err)
	}
	b := openBrowser(t, d.url)
	b.downloads(t, dir)
	b.signIn(t, "harbour-lead", strings.TrimSpace(string(password)))
	b.see(t, "harbour-lead, admin")
	pass := filepath.Join(dir, "pass")
	if err := os.WriteFile(pass, []byte("ebb before noon"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ name, kind, format, passphrase string }{
		{"page-ed", "ed25519", "openssh", ""},
		{"page-rsa", "rsa-3072", "openssh", "ebb before noon"},
		{"page-ppk", "ecdsa-256", "ppk", "ebb before noon"},
	} {
		b.visit(t, "/create")
		b.do(t, chromedp.WaitVisible(css("#pair_name"), seldom))
		_, before := b.sentSince(0)
		b.do(t, chromedp.SendKeys(css("#pair_name"), c.name, seldom))
		if c.kind != "ed25519" {
			b.choose(t, "pair_kind", c.kind)
		}
		if c.format != "openssh" {
			b.choose(t, "pair_format", "PPK 3")
		}
		if c.passphrase != "" {
			b.do(t, chromedp.SendKeys(css("#pair_passphrase"), c.passphrase, seldom),
				chromedp.SendKeys(css("#pair_again"), c.passphrase, seldom))
		}
		b.press(t, "Make the pair")
		b.see(t, "SHA256:", "Save the private file")
		if a := d.api(t, "GET", "/api/v1/keys/"+c.name, ""); a.status != 404 {
			t.Errorf("%s is recorded before it is saved", c.name)
		}
		b.press(t, "Save the private file")
		file := filepath.Join(dir, c.name+map[string]string{"ppk": ".ppk"}[c.format])
		data := downloaded(t, file)
		b.do(t, chromedp.Click(css(`input[type="checkbox"]`), seldom))
		b.press(t, "Record the public half")
		b.see(t, c.name+" is recorded")
		secrets := []string{string(data[60:110]), string(data[len(data)-120 : len(data)-70])}
		if c.passphrase != "" {
			secrets = append(secrets, c.passphrase)
		}
		b.nothingPrivate(t, before, secrets...)
		if err := os.Chmod(file, 0o600); err != nil {
			t.Fatal(err)
		}
		if k := d.key(t, c.name); k.Kind != c.kind || k.Origin != "made here" ||
			k.Passphrase != map[bool]string{true: "yes", false: "no"}[c.passphrase != ""] {
			t.Errorf("%+v", k)
		}
		// What the browser saved opens a door, with the real ssh.
		login := file
		if c.passphrase != "" {
			login = file + ".open"
			d.must(t, "key", "convert", file, "-format", "openssh", "-out", login, "-passphrase-file", pass,
				"-new-passphrase", "/dev/null")
		}
		board := c.name + "-board"
		d.must(t, "instance", "launch", board, "-image", "debian-12", "-size", "small", "-region",
			"north-pier", "-key", c.name)
		if out := d.must(t, "open", board, "-identity", login, "--", "hostname"); out != board+"\n" {
			t.Errorf("%s: %q", c.name, out)
		}
	}
	t.Run("check", func(t *testing.T) { checkInPage(t, b, d, dir) })
	t.Run("filters", func(t *testing.T) {
		b.visit(t, "/keys?q=page-&kind=rsa-3072")
		b.see(t, "page-rsa")
		if text := b.text(t); strings.Contains(text, "page-ed") {
			t.Error("the filter by kind lets others through")
		}
		d.must(t, "key", "retire", "page-rsa")
		b.visit(t, "/keys?q=page-&state=retired")
		b.see(t, "page-rsa", "retired")
	})
	if c := b.complaints("Content Security Policy", "Refused", "violat"); len(c) > 0 {
		t.Errorf("the content security policy was violated: %q", c)
	}
}

// choose picks an option of a select by its text.
func (b *browser) choose(t *testing.T, id, option string) {
	t.Helper()
	b.do(t, chromedp.Click(css("#"+id), seldom))
	b.pick(t, option)
}

// pick clicks an option of the select that is open.
func (b *browser) pick(t *testing.T, option string) {
	t.Helper()
	b.do(t, chromedp.Sleep(500*time.Millisecond), // the list slides in
		chromedp.Click(chromedp.Search(`//div[contains(@class,"ant-select-dropdown") and not(contains(@class,"hidden"))]//div[contains(@class,"ant-select-item-option")][.//div[starts-with(normalize-space(.), "`+option+`")]]`), seldom))
}

// checkInPage drops files on the page: they are told apart and converted, and
// nothing of them is sent.
func checkInPage(t *testing.T, b *browser, d *demo, dir string) {
	b.visit(t, "/check")
	b.see(t, "Nothing leaves this page")
	_, before := b.sentSince(0)
	log, err := os.ReadFile(d.path("log", "service.log"))
	if err != nil {
		t.Fatal(err)
	}
	logged := len(log)
	locked, err := os.ReadFile(filepath.Join(dir, "page-ppk.ppk"))
	if err != nil {
		t.Fatal(err)
	}
	junk := filepath.Join(dir, "request.txt")
	if err := os.WriteFile(junk, []byte("<html><body>gone</body></html>"), 0o600); err != nil {
		t.Fatal(err)
	}
	drop := func(file string) {
		t.Helper()
		b.do(t, chromedp.SetUploadFiles(css(`input[type="file"]`), []string{file}, seldom))
	}
	drop(junk)
	b.see(t, "it looks like a web page")
	drop(filepath.Join(dir, "page-ppk.ppk"))
	b.see(t, "a private key, ecdsa-256, in the format PPK 3, with a passphrase", "SHA256:", "does not read PPK")
	b.do(t, chromedp.SendKeys(css("#passphrase"), "wrong\r", seldom))
	b.see(t, "This is not its passphrase")
	b.do(t, chromedp.SendKeys(css("#passphrase"), strings.Repeat("\b", 5)+"ebb before noon\r", seldom))
	waitFor(t, "the right passphrase", func() bool {
		return !strings.Contains(b.text(t),
			"This is not its passphrase")
	})
	b.do(t, chromedp.Click(chromedp.Search(`(//input[@id="format"])[last()]`), seldom))
	b.pick(t, "OpenSSH: every")
	b.press(t, "Save")
	converted := downloaded(t, filepath.Join(dir, "page-ppk"))
	if !strings.Contains(string(converted), "BEGIN OPENSSH PRIVATE KEY") {
		t.Errorf("it was converted to %q", converted[:40])
	}
	requests, _ := b.sentSince(before)
	for _, r := range requests {
		if r.method != "GET" || strings.Contains(r.url, "/api/") && !strings.Contains(r.url, "/session") {
			t.Errorf("something was sent: %s %s", r.method, r.url)
		}
	}
	// The worker's own requests are not in the page's record; the service's is whole.
	if log, err = os.ReadFile(d.path("log", "service.log")); err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(log[logged:])) {
		if strings.Contains(line, "msg=request") && !strings.Contains(line, "method=GET route=(console)") &&
			!strings.Contains(line, "route=/api/v1/session") {
			t.Errorf("the service was sent something: %s", line)
		}
	}
	b.nothingPrivate(t, before, string(locked[len(locked)-160:len(locked)-110]), "ebb before noon")
	b.press(t, "Ask the ledger what it opens")
	b.see(t, "It is the recorded key page-ppk")
}
