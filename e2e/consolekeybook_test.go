package e2e

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// TestConsoleKeybook: a text is pasted, compared, shown by instance and by person, and settled; it stands in the history with its text, and what
// changed since is told. What is wrong with a text is told with its line; a private key goes no further.
func TestConsoleKeybook(t *testing.T) {
	t.Parallel()
	d := newHome(t, shared)
	dir := t.TempDir()
	board := fmt.Sprintf("page-board-%d", os.Getpid())
	for _, k := range []string{board + "-one", board + "-two"} {
		d.must(t, "key", "create", k, "-dir", dir, "-new-passphrase", "none")
	}
	d.launchBoard(t, board, board+"-one")
	b := openBrowser(t, d.url)
	b.signIn(t, "harbour-lead", strings.TrimSpace(mustRead(t, shared.path("console-password"))))
	b.see(t, "Today")
	paste := func(text string) {
		t.Helper()
		b.visit(t, "/keybooks")
		b.see(t, "Set a keybook against the ledger")
		b.fill(t, `textarea[aria-label="Or paste the text of a keybook"]`, text)
		b.press(t, "Compare")
	}
	paste("keybook: page\nkeys: {ada: {lin: x}}\n")
	b.see(t, "Something is wrong with the keybook", "pasted.yaml:2:14", "did you mean line")
	text := fmt.Sprintf("keybook: %[1]s\naccess: [{whom: [%[1]s-one, %[1]s-two], to: {instances: [%[1]s]}}]\n", board)
	paste(text)
	b.see(t, "1 to add", "add "+board+"-two to "+board, "pasted.yaml:2", "It touches 1 instance")
	b.do(t, chromedp.Click[css](`input[type="radio"][value="person"]`))
	b.see(t, "harbour-lead")
	b.press(t, "Settle it")
	b.see(t, "Each instance is touched once")
	b.do(t, chromedp.Click[css](`.ant-modal .ant-btn-primary`))
	b.see(t, "settle the keybook "+board, "done")
	b.visit(t, "/keybooks")
	b.see(t, board, "1 to add")
	paste(text)
	b.see(t, "All is as the keybook "+board+" says")
	b.press(t, "Its text")
	b.see(t, "A text that was settled", "Settled by harbour-lead", "whom: ["+board+"-one")
	d.must(t, "access", "remove", board, "-key", board+"-two", "-yes")
	b.press(t, "What has changed since")
	b.see(t, "add "+board+"-two to "+board, "withdraw "+board+"-two")
	if said := b.complaints(); len(said) > 0 {
		t.Errorf("the browser complains: %v", said)
	}
}
