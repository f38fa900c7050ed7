package fleet_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/bookfile"
	"plumlatch/core/keypair"
	"plumlatch/core/wire"
	"plumlatch/service/fleet"
	"plumlatch/service/kinds/kindtest"
	"plumlatch/service/store"
)

// TestFollow: a book on the service's disk is compared when it changes; what differs stands on today. It is settled by itself only if an operator
// has signed the text, under the operator that is named, and never what needs a hand; an older text is not taken again.
func TestFollow(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	for _, k := range []string{"first", "second", "third"} {
		h.Key(k)
	}
	h.Launch("berth-1", "first")
	ctx := h.Context()
	key := func(name string) ssh.Signer {
		t.Helper()
		pair, err := keypair.Create(keypair.Ed25519, name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := h.DB.AddKey(ctx, kindtest.By, store.NewKey{Name: name, Public: pair.Public, Origin: store.Imported}); err != nil {
			t.Fatal(err)
		}
		signer, err := pair.Signer()
		if err != nil {
			t.Fatal(err)
		}
		return signer
	}
	signs, other := key("signs"), key("other")
	for name, role := range map[string]store.Role{"night-lead": store.Editor, "looker": store.Viewer} {
		if err := h.DB.AddOperator(ctx, kindtest.By, name, role, "x"); err != nil {
			t.Fatal(err)
		}
	}
	k, err := h.DB.KeyAlone(ctx, "signs")
	if err == nil {
		err = h.DB.SetOperatorKey(ctx, kindtest.By, "night-lead", k, store.KeyUse{GivesWord: true})
	}
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	f := &fleet.Following{Path: dir}
	look := func() store.FollowedBook {
		t.Helper()
		if err := h.W.Fleet.FollowOnce(ctx, f, time.Now()); err != nil {
			t.Fatal(err)
		}
		all, err := h.DB.FollowedBooks(ctx)
		if err != nil || len(all) != 1 {
			t.Fatalf("%v %+v", err, all)
		}
		return all[0]
	}
	put := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	sign := func(by ssh.Signer, at time.Time) {
		t.Helper()
		folder, err := bookfile.Open(dir)
		if err != nil {
			t.Fatal(err)
		}
		r := folder.Read(time.Now())
		text := bookfile.SignedText(r.Book.Name, wire.KeybookText{Files: r.Sources, Publics: r.Publics}.Hash(), at)
		armored, err := keypair.Sign(by, bookfile.Namespace, []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		put(folder.Signature, text+string(armored))
	}
	matters := func(reason string) int {
		return h.Count("SELECT count(*) FROM matters WHERE reason = '" + reason + "'")
	}
	works := func() int { return h.Count("SELECT count(*) FROM work WHERE kind = 'keybook-settle'") }
	settled := func() {
		t.Helper()
		h.Until("it is settled", func() bool {
			return h.Count("SELECT count(*) FROM work WHERE kind = 'keybook-settle' AND state <> 'done'") == 0
		})
	}
	book := func(keys string) string {
		return "keybook: berth\ncomplete: {instances: [berth-1], files: [book.yaml]}\naccess: [{whom: [" + keys + "], to: {instances: [berth-1]}}]\n"
	}

	if b := look(); !strings.Contains(b.Trouble, "no file of a keybook") || matters("keybook-trouble") != 1 {
		t.Errorf("an empty folder: %+v", b)
	}
	put("book.yaml", book("first, second"))
	if b := look(); b.Trouble != "" || b.Todo != 1 || b.Waits != "" || matters("keybook-differs") != 1 || matters("keybook-trouble") != 0 || works() != 0 {
		t.Errorf("followed: %+v", b)
	}
	// By itself: only what is signed, by somebody who may, and only under an operator who may.
	for as, says := range map[string]string{"nobody": "there is no operator nobody", "looker": "may only look"} {
		f = &fleet.Following{Path: dir, As: as}
		if b := look(); !strings.Contains(b.Trouble, says) || works() != 0 {
			t.Errorf("%s: %+v", as, b)
		}
	}
	f = &fleet.Following{Path: dir, As: "night-lead"}
	if b := look(); !strings.Contains(b.Waits, "nobody has signed") || works() != 0 {
		t.Errorf("unsigned: %+v", b)
	}
	now := time.Now().UTC().Truncate(time.Second)
	sign(other, now)
	if b := look(); !strings.Contains(b.Waits, "by no key that gives words") || works() != 0 {
		t.Errorf("signed by another: %+v", b)
	}
	sign(signs, now)
	old := map[string]string{}
	for _, name := range []string{"book.yaml", "keybook.sig"} {
		data, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			t.Fatal(err)
		}
		old[name] = string(data)
	}
	if b := look(); b.Waits != "" || works() != 1 {
		t.Errorf("signed: %+v", b)
	}
	settled()
	// What it came to is looked at soon, though no file has changed.
	if err := h.W.Fleet.FollowOnce(ctx, f, time.Now().Add(time.Minute)); err != nil {
		t.Fatal(err)
	}
	if all, err := h.DB.FollowedBooks(ctx); err != nil || all[0].Todo != 0 {
		t.Errorf("a minute later: %v %+v", err, all)
	}
	if !strings.HasSuffix(h.Keys("berth-1"), "recorded: , first, second") || h.Count("SELECT count(*) FROM keybooks WHERE operator = 'night-lead'") != 1 {
		t.Errorf("settled:\n%s", h.Keys("berth-1"))
	}
	f = &fleet.Following{Path: dir, As: "night-lead"}
	if b := look(); b.Todo != 0 || matters("keybook-differs") != 0 || works() != 1 {
		t.Errorf("nothing to do: %+v", b)
	}
	// Another text under the same signature, a later text, and the older one again.
	put("book.yaml", book("first, third"))
	if b := look(); !strings.Contains(b.Waits, "what was signed is another text") || works() != 1 {
		t.Errorf("another text: %+v", b)
	}
	sign(signs, now.Add(time.Second))
	if b := look(); b.Waits != "" || works() != 2 {
		t.Errorf("a later text: %+v", b)
	}
	settled()
	for name, text := range old {
		put(name, text)
	}
	if b := look(); !strings.Contains(b.Waits, "a later one was taken before") || works() != 2 {
		t.Errorf("an older text: %+v", b)
	}
	// What needs a hand.
	put("book.yaml", strings.Replace(book("first"), "[first]", "[signs]", 1))
	sign(signs, now.Add(2*time.Second))
	if b := look(); b.Waits != "" || works() != 3 { // a key that nobody has shown: rule 1 keeps the others
		t.Errorf("it is settled, as far as rule 1 lets it: %+v", b)
	}
	settled()
	f = &fleet.Following{Path: dir, As: "night-lead"}
	look() // what is left is another difference, and is tried once
	settled()
	begun := works()
	f = &fleet.Following{Path: dir, As: "night-lead"}
	if b := look(); b.Todo == 0 || b.Waits != "" || works() != begun || matters("keybook-differs") != 1 {
		t.Errorf("the same again is not begun again: %+v", b)
	}
	put("book.yaml", "keybook: berth\ncomplete: {instances: [berth-1], files: [book.yaml]}\n")
	sign(signs, now.Add(3*time.Second))
	if b := look(); !strings.Contains(b.Waits, "nobody would get into 1 instance") || works() != begun {
		t.Errorf("a cut-off: %+v", b)
	}
	put("book.yaml", "keybook: [\n")
	if b := look(); !strings.Contains(b.Trouble, "no YAML") || matters("keybook-trouble") != 1 {
		t.Errorf("broken: %+v", b)
	}
}
