package fleet_test

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"plumlatch/core/access"
	"plumlatch/core/keybook"
	"plumlatch/core/keypair"
	"plumlatch/core/wire"
	"plumlatch/service/accesses"
	"plumlatch/service/door"
	"plumlatch/service/kinds/kindtest"
	"plumlatch/service/store"
	"plumlatch/service/survey"
)

// opened lets keys open an instance besides, on record and in its file.
func opened(h *kindtest.House, name string, keys ...string) {
	h.Helper()
	for _, k := range keys {
		if w := h.Done(h.W.Accesses.AddAccess(h.Context(), kindtest.By, store.Once{}, h.Instance(name), wire.AccessAdd{Key: k})); w.State != store.Done {
			h.Fatalf("%s: %s", w.State, w.Outcome)
		}
	}
}

// book is a text of one file.
func book(text string) wire.KeybookText {
	return wire.KeybookText{Files: []keybook.Source{{Name: "book.yaml", Text: text}}}
}

// compared sets a book against the ledger.
func compared(h *kindtest.House, text string) keybook.Difference {
	h.Helper()
	d, err := h.W.Fleet.CompareBook(h.Context(), kindtest.By, book(text))
	if err != nil || d.Difference == nil {
		h.Fatalf("%v %+v", err, d.Report)
	}
	return *d.Difference
}

// settle begins to settle a book as it is compared now.
func settle(h *kindtest.House, text string, limits ...func(*wire.KeybookSettle)) (store.Work, error) {
	h.Helper()
	r := wire.KeybookSettle{KeybookText: book(text), Compared: compared(h, text).Hash, Version: "v1"}
	for _, l := range limits {
		l(&r)
	}
	return h.W.Fleet.SettleBook(h.Context(), kindtest.By, store.Once{}, r)
}

var surveyInside = survey.SurveyWish{Inside: true}

const berthBook = `keybook: berth
complete: {instances: [berth-1], files: [book.yaml]}
access:
  - {whom: [first, fresh], to: {instances: [berth-1]}}
  - {whom: bound, to: {instances: [berth-1]}, from: 127.0.0.0/8}
`

// TestKeybookSettle: wherever its replica is killed, a book is settled once; cancelled, what was not done is as it was.
func TestKeybookSettle(t *testing.T) {
	t.Parallel()
	kindtest.EveryHalt(t, kindtest.Case{
		Kind: "keybook-settle", Some: 5,
		Prepare: func(h *kindtest.House) {
			for _, k := range []string{"first", "old", "fresh", "bound"} {
				h.Key(k)
			}
			h.Launch("berth-1", "first")
			opened(h, "berth-1", "old", "bound")
			h.KeepKeys("berth-1")
		},
		Begin: func(h *kindtest.House) (store.Work, error) { return settle(h, berthBook) },
		Reset: func(h *kindtest.House) {
			h.Exec("DELETE FROM access_terms")
			h.KeysBack("berth-1")
		},
		Stays: []string{"keybook-settle/rest/end"},
		State: func(h *kindtest.House) string { return h.Keys("berth-1") },
	})
}

// TestSeveral: all changes of an instance are one piece of work, which is done once and goes back as a whole, wherever it is killed.
func TestSeveral(t *testing.T) {
	t.Parallel()
	kindtest.EveryHalt(t, kindtest.Case{
		Kind: "access-settle", Some: 8,
		Prepare: func(h *kindtest.House) {
			for _, k := range []string{"first", "old", "older", "fresh", "bound"} {
				h.Key(k)
			}
			h.Launch("berth-1", "first")
			opened(h, "berth-1", "old", "older", "bound")
			h.KeepKeys("berth-1")
		},
		Begin: func(h *kindtest.House) (store.Work, error) {
			key := func(name string) store.Key {
				k, err := h.DB.KeyAlone(h.Context(), name)
				if err != nil {
					h.Fatal(err)
				}
				return k
			}
			i := h.Instance("berth-1")
			return h.W.Door.BeginOf(h.Context(), kindtest.By, store.Once{}, i, h.W.Accesses.PlanSeveral(i, accesses.Several{Changes: []accesses.SeveralChange{
				accesses.AddChange(key("fresh"), store.Terms{}), accesses.TermsChange(key("bound"), store.Terms{FromRange: "127.0.0.0/8"}),
				accesses.WithdrawChange(key("old"), nil, false), accesses.WithdrawChange(key("older"), nil, false)}}, 0))
		},
		Reset: func(h *kindtest.House) {
			h.Exec("DELETE FROM access_terms")
			h.KeysBack("berth-1")
		},
		State: func(h *kindtest.House) string { return h.Keys("berth-1") },
	})
}

// TestSeveralIntent: what the journal says of many changes is cut between letters, whatever the reasons are written in.
func TestSeveralIntent(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	k := h.Key("first")
	h.Launch("berth-1", "first")
	i := h.Instance("berth-1")
	for lead := range 3 {
		terms := store.Terms{Reason: strings.Repeat("x", lead) + strings.Repeat("\u20ac", 2000)} // three bytes each
		n := h.W.Accesses.PlanSeveral(i, accesses.Several{Changes: []accesses.SeveralChange{accesses.AddChange(k, terms)}}, 7)
		if !utf8.ValidString(n.Intent) || utf8.RuneCountInString(n.Intent) > 1600 || !strings.HasSuffix(n.Intent, "… (part of work 7)") {
			t.Errorf("after %d letters: %q", lead, n.Intent)
		}
	}
}

// TestKeybookOnce: a settled book has nothing to do; another difference than the reviewed one begins nothing; what is beyond the limits needs
// its number; what the guard keeps is told.
func TestKeybookOnce(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	for _, k := range []string{"first", "old", "fresh", "bound"} {
		h.Key(k)
	}
	h.Launch("berth-1", "first")
	opened(h, "berth-1", "old", "bound")
	refused := func(what, field, says string, err error) {
		t.Helper()
		e, ok := errors.AsType[door.FieldError](err)
		if !ok || e.Field != field || !strings.Contains(e.Problem, says) {
			t.Errorf("%s: %v", what, err)
		}
	}
	_, err := settle(h, berthBook, func(r *wire.KeybookSettle) { r.Compared = strings.Repeat("0", 64) })
	refused("another difference", "compared", "compare the book again", err)
	_, err = settle(h, berthBook, func(r *wire.KeybookSettle) { r.CutOff = 1 })
	refused("more than is cut off", "cut_off", "0 instances", err)
	if w := h.Done(settle(h, berthBook)); w.State != store.Done {
		t.Fatalf("%s: %s", w.State, w.Outcome)
	}
	keys := h.Keys("berth-1")
	if !strings.Contains(keys, "recorded: , bound, first, fresh") || !strings.Contains(keys, `from="127.0.0.0/8" ssh-ed25519`) {
		t.Errorf("settled:\n%s", keys)
	}
	works := h.Count("SELECT count(*) FROM work")
	if d := compared(h, berthBook); !d.Nothing() || d.Scope != 1 {
		t.Errorf("settled, and to do: %+v", d.Items)
	}
	if w := h.Done(settle(h, berthBook)); w.State != store.Done || h.Count("SELECT count(*) FROM work") != works+1 || h.Keys("berth-1") != keys {
		t.Errorf("twice: %s %s", w.State, w.Outcome)
	}

	// A book that would withdraw everybody.
	nobody := strings.Replace(berthBook, "[first, fresh], to: {instances: [berth-1]}}", "[first, fresh], to: {tag: none}}", 1)
	nobody = strings.Replace(nobody, "  - {whom: bound, to: {instances: [berth-1]}, from: 127.0.0.0/8}\n", "", 1)
	d := compared(h, nobody)
	if d.CutOffs != 1 || d.Counts[keybook.Withdraw] != 3 || !d.Items[0].CutOff {
		t.Errorf("nobody left: %+v", d)
	}
	_, err = settle(h, nobody)
	refused("nobody left", "cut_off", "nobody would get into 1 instance", err)
	// By number it is done, to the last.
	w := h.Done(settle(h, nobody, func(r *wire.KeybookSettle) { r.CutOff = 1 }))
	if w.State != store.Done || !strings.HasSuffix(h.Keys("berth-1"), "recorded: ") {
		t.Errorf("cut off: %s %s\n%s", w.State, w.Outcome, h.Keys("berth-1"))
	}
}

// TestKeybookKeeps: a key that rule 1 keeps stays, is told, and the rest is done all the same.
func TestKeybookKeeps(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	for _, k := range []string{"first", "old"} {
		h.Key(k)
	}
	h.Launch("berth-1", "first")
	opened(h, "berth-1", "old")
	h.Exec("UPDATE keys SET shown_at = NULL WHERE name = 'first'") // nobody has shown that its private half exists
	text := "keybook: berth\ncomplete: {instances: [berth-1], files: [book.yaml]}\naccess: [{whom: first, to: {instances: [berth-1]}}]\n"
	if d := compared(h, text); len(d.Items) != 1 || !strings.Contains(d.Items[0].Doubt, "plumlatch key prove first") {
		t.Errorf("the comparison says beforehand that it is kept: %+v", d.Items)
	}
	w := h.Done(settle(h, text))
	kept, err := h.DB.BookKept(h.Context(), w.ID, 10)
	if w.State != store.Done || err != nil || len(kept) != 1 || !strings.HasPrefix(kept[0], "berth-1: old: ") || !strings.Contains(w.Outcome, "berth-1: old") {
		t.Errorf("%s: %s; %v %v", w.State, w.Outcome, kept, err)
	}
	if keys := h.Keys("berth-1"); !strings.HasSuffix(keys, "recorded: , first, old") {
		t.Errorf("what stands there:\n%s", keys)
	}
	if d := compared(h, text); d.Counts[keybook.Withdraw] != 1 {
		t.Errorf("it names what was kept: %+v", d.Items)
	}
	h.Exec("UPDATE keys SET shown_at = clock_timestamp() WHERE name = 'first'")
	if d := compared(h, text); len(d.Items) != 1 || d.Items[0].Doubt != "" {
		t.Errorf("shown by now: %+v", d.Items)
	}
}

// TestKeybookStands: a key that stands on an instance where no survey has ever looked is left as it is, told, and holds up no other.
func TestKeybookStands(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	for _, k := range []string{"first", "second"} {
		h.Key(k)
	}
	stray := h.Key("stray")
	h.Launch("berth-1", "first")
	h.ByHand("berth-1", stray.Public().Line())
	w := h.Done(settle(h, "keybook: berth\naccess: [{whom: [stray, second], to: {instances: [berth-1]}}]\n"))
	kept, err := h.DB.BookKept(h.Context(), w.ID, 10)
	if err != nil || w.State != store.Done || len(kept) != 1 || !strings.Contains(kept[0], "plumlatch access record berth-1 stray") {
		t.Errorf("%s: %s; kept %v %v", w.State, w.Outcome, kept, err)
	}
	if keys := h.Keys("berth-1"); !strings.HasSuffix(keys, "recorded: , first, second") || strings.Count(keys, stray.Public().Line()) != 1 {
		t.Errorf("what stands there:\n%s", keys)
	}
}

// TestKeybookGuardGoesBefore: a book that makes a key count for nothing, as a job's or as retired, and takes it in one go, gets no further than one that only
// takes it.
func TestKeybookGuardGoesBefore(t *testing.T) {
	t.Parallel()
	for what, as := range map[string]string{"a job's": "holder: robot", "retired": "state: retired"} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			h := kindtest.New(t)
			h.Key("first")
			h.Key("second")
			h.Launch("berth-1", "first")
			h.Exec("UPDATE keys SET shown_at = NULL WHERE name = 'second'")
			text := func(access string) string {
				return fmt.Sprintf("keybook: berth\ncomplete: {instances: [berth-1], files: [book.yaml], also: [machines]}\nholders: {robot: job}\nkeys: {first: {fingerprint: %s, %s}}\n%s",
					keyPrint(h, "first"), as, access)
			}
			if d := compared(h, text("")); d.CutOffs != 1 {
				t.Errorf("nobody left, and not counted: %+v", d.Items)
			}
			w := h.Done(settle(h, text("access: [{whom: second, to: {instances: [berth-1]}}]\n")))
			kept, err := h.DB.BookKept(h.Context(), w.ID, 10)
			if err != nil || len(kept) != 1 || !strings.HasSuffix(h.Keys("berth-1"), "recorded: , first, second") {
				t.Errorf("%s: %s; kept %v %v\n%s", w.State, w.Outcome, kept, err, h.Keys("berth-1"))
			}
		})
	}
}

// TestKeybookLedger: keys, holders, teams, retired keys, checks and what was unrecorded, from a text.
func TestKeybookLedger(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	first := h.Key("first")
	stray := h.Key("stray")
	h.Launch("berth-1", "first")
	h.Exec("DELETE FROM challenges")
	line := stray.Public().Line()
	if err := h.DB.ForgetKey(h.Context(), kindtest.By, stray); err != nil {
		t.Fatal(err)
	}
	h.ByHand("berth-1", line)
	if _, err := h.W.Survey.Survey(h.Context(), kindtest.By, h.Instance("berth-1"), surveyInside); err != nil {
		t.Fatal(err)
	}
	text := fmt.Sprintf(`keybook: berth
holders:
  otto-reef: person
  crew: {sort: team, members: [otto-reef, first-holder]}
keys:
  the-first: {line: %s, holder: otto-reef, note: of the berth, state: retired}
  stray: {line: %s, holder: crew}
access:
  - {whom: stray, to: {instances: [berth-1]}}
checks:
  - {to: {instances: [berth-1]}, is: ["tcp:443"]}
`, first.Public().Line(), line)
	d := compared(h, text)
	if d.Counts[keybook.HolderAdd] != 2 || d.Counts[keybook.KeyAdd] != 1 || d.Counts[keybook.KeySet] != 1 || d.Counts[keybook.TakeOver] != 1 || d.Counts[keybook.CheckSet] != 1 {
		t.Errorf("%+v", d.Items)
	}
	if w := h.Done(settle(h, text)); w.State != store.Done {
		t.Fatalf("%s: %s", w.State, w.Outcome)
	}
	if d := compared(h, text); !d.Nothing() {
		t.Errorf("settled, and to do: %+v", d.Items)
	}
	k, err := h.DB.KeyAlone(h.Context(), "the-first")
	if err != nil || k.ID != first.ID || k.Holder != "otto-reef" || k.RetiredAt == nil || k.Note != "of the berth" {
		t.Errorf("%v %+v", err, k)
	}
	if !strings.Contains(h.Keys("berth-1"), "recorded: , stray, the-first") {
		t.Errorf("taken over:\n%s", h.Keys("berth-1"))
	}
	if n := h.Count("SELECT count(*) FROM journal WHERE action IN ('holder.add', 'key.change', 'key.import', 'instance.check') AND operator = '" + kindtest.By.Operator + "'"); n < 4 {
		t.Errorf("%d lines in the journal", n)
	}
}

// TestKeybookEnd: an access with an end is withdrawn after it, by work of its own; until then another text can give it another end.
func TestKeybookEnd(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	h.Key("guest")
	h.Launch("berth-1", "first")
	until := time.Now().Add(time.Hour).UTC().Truncate(time.Second)
	text := func(until time.Time) string {
		return fmt.Sprintf("keybook: berth\naccess: [{whom: guest, to: {instances: [berth-1]}, until: %s}]\n", until.Format(time.RFC3339))
	}
	if w := h.Done(settle(h, text(until))); w.State != store.Done {
		t.Fatalf("%s: %s", w.State, w.Outcome)
	}
	if d := compared(h, text(until)); !d.Nothing() || !strings.Contains(h.Keys("berth-1"), "expiry-time=") {
		t.Errorf("%+v\n%s", d.Items, h.Keys("berth-1"))
	}
	waits := func() int {
		return h.Count("SELECT count(*) FROM work WHERE kind = 'access-end' AND state = 'waiting'")
	}
	h.Until("somebody waits for the end", func() bool { return waits() == 1 })
	soon := time.Now().Add(6 * time.Second).UTC().Truncate(time.Second)
	if w := h.Done(settle(h, text(soon))); w.State != store.Done {
		t.Fatalf("%s: %s", w.State, w.Outcome)
	}
	h.Until("it is withdrawn", func() bool {
		return strings.HasSuffix(h.Keys("berth-1"), "recorded: , first") && !strings.Contains(h.Keys("berth-1"), "expiry-time=")
	})
	h.Until("nobody waits any more", func() bool {
		return h.Count("SELECT count(*) FROM work WHERE kind = 'access-end' AND state IN ('waiting', 'running', 'queued')") == 0
	})
}

// TestAccessEnd: the end of an access is kept, wherever the replica is killed that waits for it.
func TestAccessEnd(t *testing.T) {
	t.Parallel()
	kindtest.EveryHalt(t, kindtest.Case{
		Kind: "access-end", Some: 4,
		Prepare: func(h *kindtest.House) {
			h.Key("first")
			h.Key("guest")
			h.Launch("berth-1", "first")
			opened(h, "berth-1", "guest")
			h.KeepKeys("berth-1")
		},
		Begin: func(h *kindtest.House) (store.Work, error) {
			i := h.Instance("berth-1")
			rows, err := h.DB.AccessesOf(h.Context(), i.ID)
			if err != nil {
				h.Fatal(err)
			}
			for _, a := range rows {
				if a.Key == "guest" {
					until := time.Now().Add(time.Second)
					if err := h.DB.ReplaceTerms(h.Context(), store.Terms{AccessID: a.ID, UntilAt: &until, Operator: kindtest.By.Operator}); err != nil {
						h.Fatal(err)
					}
					return h.W.Door.BeginOf(h.Context(), kindtest.By, store.Once{}, i, h.W.Accesses.EndOf(i, a, until, "", until.UnixNano()))
				}
			}
			return store.Work{}, errors.New("the guest has no access")
		},
		Reset: func(h *kindtest.House) {
			h.Exec("DELETE FROM access_terms")
			h.KeysBack("berth-1")
		},
		State: func(h *kindtest.House) string { return h.Keys("berth-1") },
	})
}

// TestKeybookTaken: what somebody took out by hand is told, and not put back; foreign lines stay as they are.
func TestKeybookTaken(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	h.Key("second")
	h.Launch("berth-1", "first")
	opened(h, "berth-1", "second")
	i := h.Instance("berth-1")
	data, err := os.ReadFile(h.KeysFile(i))
	if err != nil {
		t.Fatal(err)
	}
	var kept []string
	for line := range strings.Lines(string(data)) {
		if !strings.HasSuffix(strings.TrimSpace(line), " second") {
			kept = append(kept, line)
		}
	}
	if err := os.WriteFile(h.KeysFile(i), []byte(strings.Join(kept, "")+"# a word of somebody's\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := h.W.Survey.Survey(h.Context(), kindtest.By, i, surveyInside); err != nil {
		t.Fatal(err)
	}
	text := "keybook: berth\naccess: [{whom: [first, second], to: {instances: [berth-1]}}]\n"
	d := compared(h, text)
	if d.Counts[keybook.ByHand] != 1 || !d.Nothing() {
		t.Errorf("%+v", d.Items)
	}
	// And one whose line somebody has bound.
	if data, err = os.ReadFile(h.KeysFile(i)); err == nil {
		err = os.WriteFile(h.KeysFile(i), []byte(strings.Replace(string(data), "ssh-ed25519", "from=\"192.0.2.0/24\" ssh-ed25519", 1)), 0o600)
	}
	if err == nil {
		_, err = h.W.Survey.Survey(h.Context(), kindtest.By, i, surveyInside)
	}
	if err != nil {
		t.Fatal(err)
	}
	before := h.Keys("berth-1")
	if d = compared(h, text); d.Counts[keybook.ByHand] != 2 || !d.Nothing() || !strings.Contains(d.Items[0].Sentence, "first on berth-1 was edited by hand") {
		t.Errorf("edited: %+v", d.Items)
	}
	if w := h.Done(settle(h, text)); w.State != store.Done || h.Keys("berth-1") != before {
		t.Errorf("%s: %s\n%s", w.State, w.Outcome, h.Keys("berth-1"))
	}
}

// TestKeybookTwo: one text of a book is settled at a time. A newer one takes the place of what still waits for an instance that is out of reach.
func TestKeybookTwo(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	for _, k := range []string{"first", "second", "third"} {
		h.Key(k)
	}
	h.Launch("berth-1", "first")
	change := func(p store.Phase) {
		t.Helper()
		i, err := h.W.Lifecycle.Change(h.Context(), kindtest.By, store.Once{}, h.Instance("berth-1"), p, false)
		if w := h.Done(store.Work{ID: i.WorkID}, err); w.State != store.Done {
			t.Fatalf("%s: %s", w.State, w.Outcome)
		}
	}
	change(store.Stopping)
	text := func(keys string) string {
		return "keybook: berth\naccess: [{whom: [" + keys + "], to: {instances: [berth-1]}}]\n"
	}
	older, err := settle(h, text("first, second"))
	if err != nil {
		t.Fatal(err)
	}
	h.Until("it waits for its instance", func() bool {
		return h.Count("SELECT count(*) FROM work WHERE kind = 'access-settle' AND waits_code = 'back'") == 1 && h.Now(older).At == "rest"
	})
	if d := compared(h, text("first, second")); !d.Items[0].Away {
		t.Errorf("it is told that it does not run: %+v", d.Items)
	}
	newer, err := settle(h, text("first, third"))
	if err != nil {
		t.Fatal(err)
	}
	if w := h.Done(older, nil); w.State != store.Cancelled {
		t.Errorf("the older one: %s: %s", w.State, w.Outcome)
	}
	change(store.Starting) // the newer one may choose while it starts
	if w := h.Done(newer, nil); w.State != store.Done {
		t.Errorf("the newer one: %s: %s %s", w.State, w.Outcome, w.Trouble)
	}
	if keys := h.Keys("berth-1"); !strings.HasSuffix(keys, "recorded: , first, third") || strings.Contains(keys, " second") {
		t.Errorf("what stands there:\n%s", keys)
	}

	// One that is at its instances is not overtaken.
	w, came := h.Halted("access-settle/add/begin", func(h *kindtest.House) (store.Work, error) { return settle(h, text("first, second, third")) })
	if !came {
		t.Fatal("no part of it has begun")
	}
	h.W.Door.Store = h.DB // its own is shut, as it was killed
	_, err = settle(h, text("first, second"))
	if e, ok := errors.AsType[door.FieldError](err); !ok || !strings.Contains(e.Problem, "settles the book berth now") {
		t.Errorf("two at once: %v", err)
	}
	h.GoOn()
	if w = h.Done(w, nil); w.State != store.Done || !strings.HasSuffix(h.Keys("berth-1"), "recorded: , first, second, third") {
		t.Errorf("%s: %s\n%s", w.State, w.Outcome, h.Keys("berth-1"))
	}
}

// TestKeybookCloud: a key that is to be in the cloud's own lists, and inbound rules, are asked for once; how people log in, and accounts, are for
// somebody's hand, and what nobody has seen is told as that.
func TestKeybookCloud(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	h.Launch("berth-1", "first")
	text := `keybook: berth
keys:
  first: {fingerprint: "` + keyPrint(h, "first") + `", cloud_lists: [north-pier]}
rules:
  - {to: {instances: [berth-1]}, from: [192.0.2.0/24], ports: 9000}
logins:
  - {to: {instances: [berth-1]}, password: off, root: keys}
users:
  - {to: {instances: [berth-1]}, name: otto, keys: [first], sudo: true}
`
	d := compared(h, text)
	if d.Counts[keybook.Cannot] != 1 || d.Items[0].Why != keybook.WhyNotSeen || !strings.Contains(d.Items[0].Sentence, "never read") {
		t.Errorf("a list that nobody read: %+v", d.Items)
	}
	if err := h.W.KeyLists.LookAll(h.Context()); err != nil {
		t.Fatal(err)
	}
	d = compared(h, text)
	if d.Counts[keybook.ListAdd] != 1 || d.Counts[keybook.RuleAdd] != 1 || d.Counts[keybook.Hand] != 1 || d.Counts[keybook.NotSeen] != 2 {
		t.Errorf("%+v", d.Items)
	}
	if w := h.Done(settle(h, text)); w.State != store.Done {
		t.Fatalf("%s: %s", w.State, w.Outcome)
	}
	if rules := h.Rules("berth-1"); !strings.Contains(rules, "192.0.2.0/24") {
		t.Errorf("rules: %s", rules)
	}
	if err := h.W.KeyLists.LookAll(h.Context()); err != nil {
		t.Fatal(err)
	}
	d = compared(h, text)
	if d.Counts[keybook.ListAdd]+d.Counts[keybook.RuleAdd]+d.Counts[keybook.Cannot] != 0 || d.Counts[keybook.Hand] != 1 ||
		!strings.Contains(d.Items[0].Sentence, "plumlatch instance user add berth-1 otto -key first -sudo") {
		t.Errorf("settled: %+v", d.Items)
	}
	for report, want := range map[string]string{`{"doors":[{"sort":"password"}],"not_seen":[]}`: keybook.Hand, `{"doors":[],"not_seen":["what it obeys"]}`: keybook.NotSeen,
		`{"doors":[],"not_seen":[]}`: ""} {
		h.Exec("INSERT INTO surveys (instance_id, sort, tried_at, seen_at, report) SELECT id, 'config', now(), now(), '" + report + "' FROM instances " +
			"ON CONFLICT (instance_id, sort) DO UPDATE SET report = excluded.report")
		got := ""
		for _, i := range compared(h, text).Items {
			if strings.Contains(i.Sentence, "password") {
				got = i.Do
			}
		}
		if got != want {
			t.Errorf("%s: %q, and not %q", report, got, want)
		}
	}
}

func keyPrint(h *kindtest.House, name string) string {
	h.Helper()
	k, err := h.DB.KeyAlone(h.Context(), name)
	if err != nil {
		h.Fatal(err)
	}
	return k.Fingerprint
}

// TestKeybookWord: a book on many instances waits for the policy's word, and what is signed names what is done on each.
func TestKeybookWord(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	if err := h.DB.SetPolicy(h.Context(), kindtest.By, "word: {over: 1, by: second}\n"); err != nil {
		t.Fatal(err)
	}
	h.W.Door.PolicyChanged()
	for _, k := range []string{"first", "second", "third"} {
		h.Key(k)
	}
	h.Launch("berth-1", "first")
	h.Launch("berth-2", "first")
	var sums []string
	for _, key := range []string{"second", "third"} {
		w, err := settle(h, "keybook: berth\naccess: [{whom: "+key+", to: {all: true}}]\n")
		if err != nil {
			t.Fatal(err)
		}
		h.Until("it waits for a word", func() bool { return h.Now(w).WaitsCode == wire.WaitsWord })
		word, err := h.W.Door.Word(h.Context(), h.Now(w))
		_, sum, ok := strings.Cut(word.Text, "\ninstances 2 ")
		if err != nil || word.Needs != "second" || !ok {
			t.Fatalf("%v %+v", err, word)
		}
		sums = append(sums, sum)
		if n := h.Count("SELECT count(*) FROM work WHERE kind = 'access-settle'"); n != 0 {
			t.Errorf("%d parts have begun", n)
		}
		if err := h.W.Door.Cancel(h.Context(), kindtest.By, h.Now(w)); err != nil {
			t.Fatal(err)
		}
		h.Done(w, nil)
	}
	if sums[0] == sums[1] {
		t.Error("one signature would do for two books")
	}
}

// TestKeybookReviewed: what a book would do only since it was reviewed is not done, however long the word for it was waited for.
func TestKeybookReviewed(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	if err := h.DB.SetPolicy(h.Context(), kindtest.By, "word: {over: 1, by: second}\n"); err != nil {
		t.Fatal(err)
	}
	h.W.Door.PolicyChanged()
	for _, k := range []string{"first", "second"} {
		h.Key(k)
	}
	h.Launch("berth-1", "first")
	h.Launch("berth-2", "first")
	h.Exec("UPDATE keys SET note = 'of the berth' WHERE name = 'first'")
	text := `keybook: berth
keys:
  first: {fingerprint: "` + keyPrint(h, "first") + `", note: of the berth}
  second: {fingerprint: "` + keyPrint(h, "second") + `", note: reviewed}
access: [{whom: second, to: {all: true}}]
checks:
  - {to: {instances: [berth-1]}, is: ["tcp:443"]}
`
	w, err := settle(h, text)
	if err != nil {
		t.Fatal(err)
	}
	h.Until("it waits for a word", func() bool { return h.Now(w).WaitsCode == wire.WaitsWord })
	h.Exec("UPDATE keys SET note = 'said since' WHERE name = 'first'")
	if err := h.DB.GiveWord(h.Context(), store.Actor{Operator: "runa"}, h.Now(w), access.SecondWord, ""); err != nil {
		t.Fatal(err)
	}
	h.W.Door.Look()
	if w := h.Done(w, nil); w.State != store.Done {
		t.Fatalf("%s: %s", w.State, w.Outcome)
	}
	for name, want := range map[string]string{"first": "said since", "second": "reviewed"} {
		if k, err := h.DB.KeyAlone(h.Context(), name); err != nil || k.Note != want {
			t.Errorf("the note of %s is %q, and not %q (%v)", name, k.Note, want, err)
		}
	}
	if n := h.Count("SELECT count(*) FROM journal WHERE action = 'instance.check'"); n != 1 {
		t.Errorf("%d checks were set", n)
	}
	if d := compared(h, text); d.Counts[keybook.KeySet] != 1 || d.Counts[keybook.Add] != 0 {
		t.Errorf("the next comparison: %+v", d.Items)
	}
}

// TestKeybookRefused: what the policy or an image does not let be is told beforehand, and the rest is done.
func TestKeybookRefused(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	h.Key("second")
	if err := h.DB.SetPolicy(h.Context(), kindtest.By, "access:\n  reason: true\n  longest: 48h\n"); err != nil {
		t.Fatal(err)
	}
	h.W.Door.PolicyChanged()
	h.Launch("berth-1", "first")
	text := "keybook: berth\naccess: [{whom: second, to: {instances: [berth-1]}}]\n"
	if d := compared(h, text); d.Counts[keybook.Cannot] != 1 || d.Items[0].Why != keybook.WhyPolicy || !strings.Contains(d.Items[0].Sentence, "access.reason") {
		t.Errorf("without a reason: %+v", d.Items)
	}
	text = strings.Replace(text, "}}]", "}, reason: x}]", 1)
	if d := compared(h, text); d.Counts[keybook.Cannot] != 1 || !strings.Contains(d.Items[0].Sentence, "access.longest") {
		t.Errorf("without an end: %+v", d.Items)
	}
	text = strings.Replace(text, ", reason", fmt.Sprintf(", until: %s, reason", time.Now().Add(time.Hour).UTC().Format(time.RFC3339)), 1)
	if d := compared(h, text); d.Counts[keybook.Add] != 1 || d.Counts[keybook.Cannot] != 0 {
		t.Errorf("on its terms: %+v", d.Items)
	}
	h.Exec("UPDATE instances SET image = 'tideline-2', region = 'skerry-island'")
	pair, err := keypair.Create(keypair.RSA3072, "rsa")
	if err == nil {
		_, err = h.DB.AddKey(h.Context(), kindtest.By, store.NewKey{Name: "rsa", Public: pair.Public, Origin: store.Imported})
	}
	if err != nil {
		t.Fatal(err)
	}
	if d := compared(h, strings.Replace(text, "whom: second", "whom: rsa", 1)); d.Counts[keybook.Cannot] != 1 || d.Items[0].Why != keybook.WhyImage {
		t.Errorf("an image that takes no RSA: %+v", d.Items)
	}
}

// TestKeybookScopes: two books that are complete for one instance are refused, with both places; a tag by the cloud's word makes none complete;
// what came into the scope is told, with who changed its tags.
func TestKeybookScopes(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	h.Launch("berth-1", "first")
	h.Launch("berth-2", "first")
	tagged := func(name string, tags map[string]string) {
		t.Helper()
		if err := h.W.Lifecycle.SetTags(h.Context(), kindtest.By, h.Instance(name), tags, "tags"); err != nil {
			t.Fatal(err)
		}
	}
	tagged("berth-1", map[string]string{"env": "prod"})
	complete := func(name string) string {
		return "keybook: " + name + "\n# the first\ncomplete: {tag: env=prod, files: [book.yaml]}\naccess: [{whom: first, to: {all: true}}]\n"
	}
	if w := h.Done(settle(h, complete("one"))); w.State != store.Done {
		t.Fatalf("%s: %s", w.State, w.Outcome)
	}
	_, err := settle(h, complete("two"))
	if e, ok := errors.AsType[door.FieldError](err); !ok || !strings.Contains(e.Problem, "the book one (book.yaml:3) is complete for berth-1") {
		t.Errorf("two books: %v", err)
	}
	tagged("berth-2", map[string]string{"env": "prod"})
	d := compared(h, complete("one"))
	if d.Counts[keybook.ScopeIn] != 1 || !strings.Contains(d.Items[0].Sentence, "berth-2 came into what the book is complete for: its tags were changed by "+kindtest.By.Operator) {
		t.Errorf("came in: %+v", d.Items)
	}
	h.Exec("UPDATE instances SET tags_cloud = true WHERE name = 'berth-2'")
	if d = compared(h, complete("one")); d.Counts[keybook.CloudTag] != 1 || d.Scope != 1 {
		t.Errorf("by the cloud's word: %+v", d.Items)
	}
}

// TestKeybookLaunch: what does not exist is launched where that was asked for, with the keys that open it, and never removed.
func TestKeybookLaunch(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	h.Key("second")
	text := `keybook: berth
instances:
  berth-9: {image: debian-12, size: small, region: north-pier, keys: [first], tags: {env: prod}}
access: [{whom: second, to: {tag: env=prod}}]
`
	if w := h.Done(settle(h, text)); w.State != store.Done || h.Count("SELECT count(*) FROM instances") != 0 {
		t.Fatalf("not asked for: %s: %s", w.State, w.Outcome)
	}
	w := h.Done(settle(h, text, func(r *wire.KeybookSettle) { r.Launch = true }))
	if w.State != store.Done || !strings.HasSuffix(h.Keys("berth-9"), "recorded: , first, second") {
		t.Errorf("%s: %s\n%s", w.State, w.Outcome, h.Keys("berth-9"))
	}
	if d := compared(h, text); !d.Nothing() {
		t.Errorf("launched, and to do: %+v", d.Items)
	}
	if d := compared(h, "keybook: berth\n"); !d.Nothing() {
		t.Errorf("not in the book any more: %+v", d.Items)
	}
}
