package keybook

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"
)

// berth is a ledger of two instances: ada (a person) and pump (a job) open both, otto (a person) opens the first.
func berth() *Ledger {
	l := &Ledger{Now: now}
	for n, k := range []struct{ name, sort string }{{"ada", "person"}, {"otto", "person"}, {"pump", "job"}, {"ines", "person"}} {
		l.Holders = append(l.Holders, LedgerHolder{ID: int64(n + 1), Name: k.name + "-h", Sort: k.sort})
		l.Keys = append(l.Keys, LedgerKey{ID: int64(n + 1), Name: k.name, Fingerprint: printOf(lines[n]), Line: lines[n], Holder: k.name + "-h", HolderSort: k.sort, Origin: "imported",
			State: "in use", Kind: "ed25519"})
	}
	for n, name := range []string{"gull-1", "gull-2"} {
		l.Instances = append(l.Instances, LedgerInstance{ID: int64(n + 1), Name: name, Region: "north", Image: "debian-12", LoginUser: "deck", Ready: true, Running: true,
			Steward: true, Seen: true, Phase: "ready", Tags: map[string]string{"env": "prod"}})
	}
	for _, a := range [][2]int32{{0, 0}, {0, 1}, {1, 0}, {2, 0}, {2, 1}} {
		l.Accesses = append(l.Accesses, LedgerAccess{ID: int64(len(l.Accesses) + 1), Key: a[0], Instance: a[1], User: "deck", Shown: true})
	}
	return l
}

// TestDoubt: a withdrawal that rule 1 will keep, since nobody has shown the private half of what is left, says so; and says nothing of a hash.
func TestDoubt(t *testing.T) {
	const since = -24 * time.Hour
	text := "keybook: b\ncomplete: {tag: env=prod, files: [book.yaml]}\naccess:\n  - {whom: ada, to: {all: true}}\n"
	hashes := map[string]bool{}
	for _, c := range []struct {
		what   string
		since  time.Time
		ada    time.Time
		doubts bool
	}{
		{"what a policy asks is not known", time.Time{}, time.Time{}, false},
		{"never shown", now.Add(since), time.Time{}, true},
		{"shown too long ago", now.Add(since), now.Add(2 * since), true},
		{"shown", now.Add(since), now.Add(since / 2), false},
	} {
		l := berth()
		l.ShownSince = c.since
		for n := range l.Keys {
			if l.Keys[n].Name == "ada" {
				l.Keys[n].ShownAt = c.ada
			}
		}
		b, _ := read(t, text)
		d := Compare(b, l)
		hashes[d.Hash] = true
		seen := false
		for _, i := range d.Items {
			if i.Doubt != "" && (i.Do != Withdraw || i.Key != "otto") {
				t.Errorf("%s: a doubt of %+v", c.what, i)
			}
			seen = seen || strings.Contains(i.Doubt, "plumlatch key prove ada")
		}
		if seen != c.doubts {
			t.Errorf("%s: told %v\n%+v", c.what, seen, d.Items)
		}
	}
	if len(hashes) != 1 {
		t.Error("a doubt makes it another difference")
	}
}

// TestCompare: each sort of item, from one change of a ledger or of a book that has nothing to do.
func TestCompare(t *testing.T) {
	const same = `keybook: b
complete: {tag: env=prod, files: [book.yaml]%s}
access:
  - {whom: ada, to: {all: true}}
  - {whom: [otto], to: {instances: [gull-1]}}
  - {whom: pump, to: {all: true}}
%s`
	soon := Terms{Until: now.Add(time.Hour)}
	for _, c := range []struct {
		what       string
		complete   string // more words of complete
		more       string // more of the book
		book       func(text string) string
		ledger     func(l *Ledger)
		wants      string // DO KEY INSTANCE, with commas; "" for nothing
		says       string
		why        string
		cut, limit int
	}{
		{what: "all is so"},
		{what: "a key of a person goes", book: func(s string) string {
			return strings.Replace(s, "  - {whom: [otto], to: {instances: [gull-1]}}\n", "", 1)
		},
			wants: "withdraw otto gull-1"},
		{what: "a job's key is listed", book: func(s string) string { return strings.Replace(s, "  - {whom: pump, to: {all: true}}\n", "", 1) },
			wants: "listed pump gull-1,listed pump gull-2", says: "also: [machines]"},
		{what: "a job's key goes where that is said", complete: ", also: [machines]", book: func(s string) string { return strings.Replace(s, "  - {whom: pump, to: {all: true}}\n", "", 1) },
			wants: "withdraw pump gull-1,withdraw pump gull-2"},
		{what: "nobody left", book: func(s string) string {
			return "keybook: b\ncomplete: {tag: env=prod, files: [book.yaml]}\n"
		}, wants: "withdraw ada gull-1,withdraw otto gull-1,withdraw ada gull-2,listed pump gull-1,listed pump gull-2", cut: 2},
		{what: "a key to add", more: "  - {whom: ines, to: {instances: [gull-2]}}\n", wants: "add ines gull-2"},
		{what: "outside of the scope absence means nothing", ledger: func(l *Ledger) { l.Instances[0].Tags = nil },
			book: func(s string) string {
				return strings.Replace(s, "  - {whom: [otto], to: {instances: [gull-1]}}\n", "", 1)
			},
			wants: ""},
		{what: "other terms", ledger: func(l *Ledger) { l.Accesses[2].Terms.From = "192.0.2.0/24" }, wants: "change otto gull-1", says: "from 192.0.2.0/24, and is to open it without an end or limits"},
		{what: "shared by hand until an end", ledger: func(l *Ledger) {
			l.Accesses = append(l.Accesses, LedgerAccess{Key: 3, Instance: 1, User: "deck", Terms: soon, ByHand: true})
		}, wants: "shared ines gull-2", says: "left until then"},
		{what: "strict", complete: ", strict: true", ledger: func(l *Ledger) {
			l.Accesses = append(l.Accesses, LedgerAccess{Key: 3, Instance: 1, User: "deck", Terms: soon, ByHand: true})
		}, wants: "withdraw ines gull-2"},
		{what: "with an end by a book, and out of it", ledger: func(l *Ledger) {
			l.Accesses = append(l.Accesses, LedgerAccess{Key: 3, Instance: 1, User: "deck", Terms: soon})
		}, wants: "withdraw ines gull-2"},
		{what: "a rotation at hand", complete: ", strict: true", ledger: func(l *Ledger) {
			l.Accesses = append(l.Accesses, LedgerAccess{Key: 3, Instance: 1, User: "deck", Terms: soon, ByHand: true, Leaving: true})
		}, wants: "shared ines gull-2", says: "a rotation at hand replaces"},
		{what: "taken out by hand", ledger: func(l *Ledger) { l.Accesses[2].Missing = true }, wants: "by-hand otto gull-1", says: "was taken out of gull-1 by hand"},
		{what: "edited by hand", ledger: func(l *Ledger) { l.Accesses[2].Edited = true }, wants: "by-hand otto gull-1", says: "was edited by hand"},
		{what: "there already, and nobody recorded it", more: "  - {whom: ines, to: {instances: [gull-2]}}\n",
			ledger: func(l *Ledger) {
				l.Sightings = append(l.Sightings, Sighting{Instance: 1, Key: 3, User: "deck", Fingerprint: printOf(lines[3])})
			},
			wants: "take-over ines gull-2"},
		{what: "there already on other terms", more: "  - {whom: ines, to: {instances: [gull-2]}}\n",
			ledger: func(l *Ledger) {
				l.Sightings = append(l.Sightings, Sighting{Instance: 1, Key: 3, User: "deck", Fingerprint: printOf(lines[3]), Limits: "command"})
			},
			wants: "by-hand ines gull-2", says: "on other terms than the book's"},
		{what: "unrecorded keys are listed", ledger: func(l *Ledger) {
			l.Sightings = append(l.Sightings, Sighting{Instance: 0, Key: -1, User: "deck", Fingerprint: printOf(lines[7])})
		}, wants: "listed " + printOf(lines[7]) + " gull-1", says: "also: [unrecorded]"},
		{what: "unrecorded keys go where that is said", complete: ", also: [unrecorded]", ledger: func(l *Ledger) {
			l.Sightings = append(l.Sightings, Sighting{Instance: 0, Key: -1, User: "deck", Fingerprint: printOf(lines[7])})
		}, wants: "withdraw " + printOf(lines[7]) + " gull-1"},
		{what: "authorities are for a hand", complete: ", also: [unrecorded, authorities]", ledger: func(l *Ledger) {
			l.Sightings = append(l.Sightings, Sighting{Instance: 0, Key: -1, User: "deck", Fingerprint: printOf(lines[7]), Limits: "authority"})
		}, wants: "cannot " + printOf(lines[7]) + " gull-1", why: WhyAuthority},
		{what: "a lost key", more: "  - {whom: ines, to: {instances: [gull-2]}}\n", ledger: func(l *Ledger) { l.Keys[3].State = "lost" }, wants: "cannot ines gull-2", why: WhyKeyState},
		{what: "no steward", more: "  - {whom: ines, to: {instances: [gull-2]}}\n", ledger: func(l *Ledger) { l.Instances[1].Steward = false }, wants: "cannot ines gull-2", why: WhyNoSteward},
		{what: "something goes on there", more: "  - {whom: ines, to: {instances: [gull-2]}}\n", ledger: func(l *Ledger) { l.Instances[1].Ready = false }, wants: "cannot ines gull-2", why: WhyNotReady},
		{what: "another login user", more: "  - {whom: ines, to: {instances: [gull-2]}, as: root}\n", wants: "cannot ines gull-2", why: WhyUser, says: "instance user add gull-2 root -key ines"},
		{what: "two terms", more: "  - {whom: ada, to: {instances: [gull-2]}, only: /bin/true}\n", wants: "cannot ada gull-2", why: WhyTerms, says: "say which"},
		{what: "no such instance", more: "  - {whom: ada, to: {instances: [gull-7]}}\n", wants: "cannot  gull-7", why: WhyNoInstance},
		{what: "no such key", more: "  - {whom: nobody, to: {all: true}}\n", wants: "cannot nobody ", why: WhyNoKey},
		{what: "a tag that matches nothing", more: "  - {whom: ada, to: {tag: env=none}}\n", wants: "no-match  "},
		{what: "a tag that must match", more: "  - {whom: ada, to: {tag: env=none, must_match: true}}\n", wants: "cannot  ", why: WhyNoMatch},
		{what: "an end in the past", more: "  - {whom: ines, to: {all: true}, until: 2026-11-30}\n"},
		{what: "the cloud's word", ledger: func(l *Ledger) { l.Instances[1].CloudTags = true }, wants: "cloud-tag  gull-2", says: "plumlatch instance tag gull-2 env=prod"},
		{what: "came and left", ledger: func(l *Ledger) {
			l.Scope = map[int64]bool{1: true, 2: true}
			l.Instances[1].Tags, l.Instances[1].TagsBy = nil, "by otto"
		}, wants: "scope-out  gull-2", says: "its tags were changed by otto"},
		{what: "another book", ledger: func(l *Ledger) {
			l.Others = []OtherBook{{Name: "other", At: Place{"o.yaml", 3, 1}, To: Selector{Tags: []string{"env"}}}}
		}, wants: "cannot  gull-1", why: WhyOverlap, says: "o.yaml:3"},
		{what: "another key has the name", more: "keys: {ada: LINE5}\n", wants: "cannot ada ", why: WhyNameTaken},
		{what: "a key under another name", more: "keys: {adele: {line: LINE0, holder: otto-h, note: x}}\n", wants: "key-set ada ", says: "name=adele, holder=otto-h, note=x"},
		{what: "a fingerprint that nobody knows", more: "keys: {new: {fingerprint: " + strings.Repeat("x", 0) + "SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA}}\n", wants: "cannot new ", why: WhyNoKey},
		{what: "a holder of another sort", more: "holders: {ada-h: team}\n", wants: "cannot  ", why: WhyNameTaken},
		{what: "a team", more: "holders: {crew: {sort: team, members: [ada-h]}}\n", wants: "holder-add  "},
		{what: "the policy", more: "  - {whom: ines, to: {instances: [gull-2]}}\n", ledger: func(l *Ledger) {
			l.Refuses = func(i *LedgerInstance, kind, origin string, t Terms, reason string) string {
				return "the policy says no to " + kind
			}
		}, wants: "cannot ines gull-2", why: WhyPolicy, says: "no to ed25519"},
		{what: "checks", more: "checks: [{to: {instances: [gull-1]}, is: [\"tcp:443\"]}]\n", wants: "check-set  gull-1"},
		{what: "to launch", more: "instances: {gull-9: {image: i, size: s, region: north, keys: [ines], tags: {env: prod}}}\n", wants: "launch  gull-9"},
	} {
		text := fmt.Sprintf(same, c.complete, c.more)
		if c.book != nil {
			text = c.book(text)
		}
		l := berth()
		if c.ledger != nil {
			c.ledger(l)
		}
		b, r := read(t, text)
		if r.Errors() > 0 {
			t.Errorf("%s: %v", c.what, r.Findings)
			continue
		}
		d := Compare(b, l)
		var got []string
		for _, i := range d.Items {
			got = append(got, fmt.Sprintf("%s %s %s", i.Do, i.Key, i.Instance))
		}
		if strings.Join(got, ",") != c.wants || d.CutOffs != c.cut {
			t.Errorf("%s: %v, %d cut off", c.what, got, d.CutOffs)
			continue
		}
		if len(d.Items) > 0 && (d.Items[0].Why != c.why || !strings.Contains(d.Items[0].Sentence, c.says)) {
			t.Errorf("%s: %s: %s", c.what, d.Items[0].Why, d.Items[0].Sentence)
		}
		if b2 := Compare(b, l); b2.Hash != d.Hash {
			t.Errorf("%s: two hashes", c.what)
		}
	}
}

// TestHash: whatever would be done otherwise has another hash, and what is only known otherwise has none.
func TestHash(t *testing.T) {
	book := func(text string) *Book {
		t.Helper()
		b, r := read(t, "keybook: b\n"+text)
		if r.Errors() > 0 {
			t.Fatal(r.Findings)
		}
		return b
	}
	texts := []string{"", "access: [{whom: ines, to: {all: true}}]\n", "access: [{whom: ines, to: {instances: [gull-1]}}]\n",
		"access: [{whom: ines, to: {all: true}, only: /bin/a}]\n", "access: [{whom: ines, to: {all: true}, only: /bin/b}]\n", "access: [{whom: ines, to: {all: true}, from: 192.0.2.7}]\n",
		"access: [{whom: ines, to: {all: true}, until: 2027-01-01}]\n", "keys: {n: LINE5}\n", "keys: {n: {line: LINE5, note: a}}\n", "keys: {n: {line: LINE5, holder: ada-h}}\n",
		"instances: {x: {image: i, size: s, region: r, keys: [ada]}}\n", "instances: {x: {image: j, size: s, region: r, keys: [ada]}}\n"}
	var seen []string
	for _, text := range texts {
		d := Compare(book(text), berth())
		if slices.Contains(seen, d.Hash) {
			t.Errorf("%q has a hash that another one has", text)
		}
		seen = append(seen, d.Hash)
	}
	l := berth()
	for n := range l.Accesses {
		l.Accesses[n].Shown = false
	}
	if d := Compare(book(texts[1]), l); d.Hash != seen[1] {
		t.Error("what is known of it changes the hash")
	}
}
