package keybook

import (
	"errors"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// TestUpdate: a text is brought up to date where it stands: what is so stays byte for byte, with its comments, its order and its layout.
func TestUpdate(t *testing.T) {
	key := func(n int) LedgerKey {
		name := []string{"ada", "otto", "ines", "pump"}[n]
		return LedgerKey{ID: int64(n + 1), Name: name, Fingerprint: printOf(lines[n]), Line: lines[n], Holder: name + "-h", HolderSort: "person", Origin: "imported", State: "in use"}
	}
	l := &Ledger{Now: now, Keys: []LedgerKey{key(0), key(1), key(2), key(3)}}
	for n := range 4 {
		l.Holders = append(l.Holders, LedgerHolder{ID: int64(n + 1), Name: l.Keys[n].Holder, Sort: "person"})
	}
	for n, name := range []string{"gull-1", "gull-2", "gull-3"} {
		l.Instances = append(l.Instances, LedgerInstance{ID: int64(n + 1), Name: name, Region: "north", LoginUser: "deck", Ready: true, Running: true, Steward: true, Seen: true,
			Tags: map[string]string{"env": "prod"}})
	}
	opens := func(key, instance int32, terms Terms) {
		l.Accesses = append(l.Accesses, LedgerAccess{ID: int64(len(l.Accesses) + 1), Instance: instance, Key: key, User: "deck", Shown: true, Terms: terms})
	}
	opens(0, 0, Terms{})
	opens(0, 1, Terms{})
	opens(2, 2, Terms{From: "192.0.2.0/24"})
	const text = `# who opens what
keybook:   ferry-line   # the name

keys:
    # of the bridge
    ada: {line: "LINE0", holder: ada-h, origin: imported}

    gone: LINE7   # nobody has it any more

access:
    # the decks
    - whom: [ ada ]
      to:   {instances: [gull-1]}   # only the first

    # the old watch
    - {whom: ada, to: {instances: [gull-2, gull-3]}}
# the end
`
	got, err := Update(Source{"book.yaml", withLines(text)}, nil, l, Selector{Tags: []string{"env=prod"}})
	if err != nil {
		t.Fatal(err)
	}
	const want = `# who opens what
keybook:   ferry-line   # the name

keys:
    # of the bridge
    ada: {line: "LINE0", holder: ada-h, origin: imported}

    ines:
      line: LINE2
      holder: ines-h
      origin: imported

access:
    # the decks
    - whom: [ ada ]
      to:   {instances: [gull-1]}   # only the first

    # the old watch
    - whom: [ada]
      to: {instances: [gull-2]}
    - whom: [ines]
      to: {instances: [gull-3]}
      from: [192.0.2.0/24]
# the end
holders:
  ada-h: person
  ines-h: person
`
	if got != withLines(want) {
		t.Errorf("it is\n%s\n--- wanted\n%s", got, withLines(want))
	}
	again, err := Update(Source{"book.yaml", got}, nil, l, Selector{Tags: []string{"env=prod"}})
	if err != nil || again != got {
		t.Errorf("once more: %v\n%s", err, again)
	}
	// What cannot be done line by line is not done.
	if _, err := Update(Source{"book.yaml", withLines("keybook: b\nkeys: {gone: LINE7}\n")}, nil, l, Selector{}); !errors.Is(err, ErrUpdate) {
		t.Errorf("in one line: %v", err)
	}
	if _, err := Update(Source{"book.yaml", "keybook: [\n"}, nil, l, Selector{}); !errors.Is(err, ErrUpdate) {
		t.Errorf("no YAML: %v", err)
	}
}

// TestUpdateProperty: the text of one world, brought up to date with another, has nothing to do there, and keeps its comments.
func TestUpdateProperty(t *testing.T) {
	done := 0
	for seed := range uint64(300) {
		a, b := world(rand.New(rand.NewPCG(seed, 9))), world(rand.New(rand.NewPCG(seed, 10)))
		text, err := Write("b", a, Selector{})
		if err != nil {
			t.Fatal(err)
		}
		text = "# a word before\n" + strings.Replace(text, "\naccess:", "\n# a word between\naccess:", 1) + "# a word after\n"
		got, err := Update(Source{"book.yaml", text}, nil, b, Selector{All: true})
		if errors.Is(err, ErrUpdate) {
			continue
		}
		if err != nil {
			t.Fatal(err)
		}
		done++
		book, r := Read([]Source{{"book.yaml", got}}, nil, now)
		if r.Errors() > 0 {
			t.Fatalf("seed %d: %v\n%s", seed, r.Findings, got)
		}
		book.Complete = &Complete{To: Selector{All: true}, Also: []string{Machines}, Strict: true}
		d := Compare(book, b)
		if n := slices.IndexFunc(d.Items, func(i Item) bool { return !Told(i.Do) && i.Do != Cannot }); n >= 0 {
			t.Fatalf("seed %d: to do: %+v\n%s\n--- of\n%s", seed, d.Items[n], got, text)
		}
		for _, word := range []string{"# a word before\n", "# a word after\n"} {
			if !strings.Contains(got, word) {
				t.Fatalf("seed %d: %q is gone:\n%s", seed, word, got)
			}
		}
	}
	t.Logf("%d of 300", done)
	if done < 100 {
		t.Errorf("only %d of 300 could be done", done)
	}
}
