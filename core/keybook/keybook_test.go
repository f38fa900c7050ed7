package keybook

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"plumlatch/core/keypair"
)

var now = time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)

// lines are public keys, made once.
var lines = func() (out []string) {
	for range 12 {
		p, err := keypair.Create(keypair.Ed25519, "")
		if err != nil {
			panic(err)
		}
		out = append(out, p.Public.Line())
	}
	return out
}()

func printOf(line string) string {
	p, err := keypair.ReadPublic([]byte(line))
	if err != nil {
		panic(err)
	}
	return p.Fingerprint()
}

// read reads a book of one file, with LINEn in it replaced.
func read(t *testing.T, text string) (*Book, Report) {
	t.Helper()
	return Read([]Source{{"book.yaml", withLines(text)}}, nil, now)
}

func withLines(text string) string {
	for n, l := range slices.Backward(lines) {
		text = strings.ReplaceAll(text, fmt.Sprint("LINE", n), l)
	}
	return text
}

const whole = `keybook: ferry-line
complete: {tag: env=prod, also: [machines], files: [book.yaml]}
holders:
  ada-loom: person
  otto-reef:
  deck-crew: {sort: team, members: [ada-loom, otto-reef]}
keys:
  ada: {line: "LINE0", holder: ada-loom, note: "for the decks", origin: imported, state: in use}
  otto: LINE1
  pump: {line: "LINE2", state: retired}
sets:
  night-shift: [ada, set/day-shift]
  day-shift: [otto]
access:
  - whom: [night-shift, holder/deck-crew]
    to: {tag: [env=prod, line=east], region: north-pier, except: {instances: [gull-2]}}
    until: 2027-01-31
    from: [192.0.2.7, 198.51.100.0/24]
    only: /usr/bin/true
    reason: the winter timetable
  - {whom: ada, to: {instances: gull-1}, as: deck}
instances:
  gull-9: {image: debian-12, size: small, region: north-pier, keys: [night-shift], tags: {env: prod}, address: new, disk_gb: 20}
rules:
  - {to: {tag: env=prod}, from: 192.0.2.0/24, ports: 22}
checks:
  - {to: {instances: [gull-1]}, is: ["tcp:443"]}
logins:
  - {to: {all: true}, password: off, root: keys}
users:
  - {to: {instances: [gull-1]}, name: otto, keys: [otto], sudo: true}
`

func TestRead(t *testing.T) {
	b, r := read(t, whole)
	if len(r.Findings) > 0 || r.Book != "ferry-line" {
		t.Fatalf("%+v", r)
	}
	g := b.Access[0]
	if len(b.Keys) != 3 || b.KeyOf("ADA").Fingerprint != printOf(lines[0]) || *b.KeyOf("ada").Note != "for the decks" || b.HolderOf("otto-reef").Sort != "person" ||
		len(b.HolderOf("deck-crew").Members) != 2 || len(b.SetOf("night-shift").Of) != 2 || len(b.Access) != 2 ||
		!g.Until.Equal(time.Date(2027, 1, 31, 23, 59, 59, 0, time.UTC)) || !slices.Equal(g.From, []string{"192.0.2.7/32", "198.51.100.0/24"}) ||
		g.Only != "/usr/bin/true" || b.Access[1].As != "deck" || b.Instances[0].DiskGB != 20 || b.Logins[0].Root != "keys" || !b.Users[0].Sudo {
		t.Errorf("%+v", b)
	}
	fits := func(name, region string, tags map[string]string) bool {
		return g.To.Fits(Target{Name: name, Region: region, Tags: tags})
	}
	both := map[string]string{"env": "prod", "line": "east"}
	if !fits("gull-1", "north-pier", both) || fits("Gull-2", "north-pier", both) || fits("gull-1", "south-pier", both) ||
		fits("gull-1", "north-pier", map[string]string{"env": "prod"}) || (Selector{}).Fits(Target{Name: "gull-1"}) {
		t.Error("who is chosen")
	}
}

func TestFindings(t *testing.T) {
	pair, err := keypair.Create(keypair.Ed25519, "x")
	if err != nil {
		t.Fatal(err)
	}
	private, err := pair.Write(keypair.FormatOpenSSH, nil)
	if err != nil {
		t.Fatal(err)
	}
	indented := strings.ReplaceAll(strings.TrimSpace(string(private)), "\n", "\n    ")
	const key = "keybook: b\nkeys:\n  ada: LINE0\n"
	for _, c := range []struct {
		what, text, code string
		line, column     int
		says             string
	}{
		{"two keys under one name", key + "  ada: LINE1\n", "twice", 4, 3, "book.yaml:3 already"},
		{"a name that differs by case", key + "  Ada: LINE1\n", "twice", 4, 3, "differ only in capitals"},
		{"one key under two names", key + "  otto: LINE0\n", "same-key", 4, 3, "same key as ada in book.yaml:3"},
		{"a word that is not known", key + "acess: []\n", "unknown-word", 4, 1, "did you mean access"},
		{"a word of a key that is not known", "keybook: b\nkeys:\n  ada: {lin: LINE0}\n", "unknown-word", 3, 9, "did you mean line"},
		{"a word twice", "keybook: b\nkeys: {}\nkeys: {}\n", "twice", 3, 1, "the word \"keys\" twice"},
		{"a set of itself", key + "sets:\n  night: [night]\n", "circle", 5, 3, "night, in it night"},
		{"a circle of sets", key + "sets:\n  a1: [b1]\n  b1: [c1, ada]\n  c1: [a1]\n", "circle", 5, 3, "a1, in it b1, in it c1, in it a1"},
		{"a circle of teams", key + "holders:\n  t1: {sort: team, members: [t2]}\n  t2: {sort: team, members: [t1]}\n", "circle", 5, 3, "the team t1 has itself"},
		{"a tab", "keybook: b\nkeys:\n\tada: LINE0\n", "yaml", 0, 0, "never with tabs"},
		{"no YAML", "keybook: [\n", "yaml", 0, 0, "this is no YAML"},
		{"an alias", "keybook: b\nkeys: &x {}\nsets: *x\n", "alias", 2, 7, "no anchors"},
		{"two documents", "keybook: b\n---\nkeybook: c\n", "form", 2, 1, "one document"},
		{"a key that is none", "keybook: b\nkeys: {ada: ssh-ed25519 AAAA}\n", "key", 2, 13, ""},
		{"a key without any", "keybook: b\nkeys: {ada: {note: x}}\n", "missing", 2, 8, "one of line, file"},
		{"a fingerprint that is none", "keybook: b\nkeys: {ada: {fingerprint: MD5:00}}\n", "key", 2, 27, "ssh-keygen -l"},
		{"no name", "keys: {ada: LINE0}\n", "missing", 1, 1, "keybook: NAME"},
		{"a bad name", key + "sets: {-x: [ada]}\n", "name", 4, 8, "does not start"},
		{"no whom", key + "access: [{to: {all: true}}]\n", "missing", 4, 10, "whom"},
		{"no to", key + "access: [{whom: ada}]\n", "missing", 4, 10, "to which instances"},
		{"to nothing", key + "access: [{whom: ada, to: {}}]\n", "no-target", 4, 22, "which instances"},
		{"an end without a date", key + "access: [{whom: ada, to: {all: true}, until: \"18:00\"}]\n", "form", 4, 46, "has a date"},
		{"an end in the past", key + "access: [{whom: ada, to: {all: true}, until: 2026-11-30}]\n", "ended", 4, 46, "has passed"},
		{"a network with host bits", key + "access: [{whom: ada, to: {all: true}, from: 192.0.2.7/24}]\n", "form", 4, 45, "without host bits"},
		{"a name of two sorts", key + "holders: {ada: person}\naccess: [{whom: ada, to: {all: true}}]\n", "ambiguous", 5, 17, "key/ada or holder/ada"},
		{"a name that is nearly there", key + "access: [{whom: adu, to: {all: true}}]\n", "unknown-name", 4, 17, "did you mean ada"},
		{"other capitals", key + "access: [{whom: Ada, to: {all: true}}]\n", "case", 4, 17, "written ada"},
		{"a complete book without files", key + "complete: {tag: env=prod}\n", "files", 4, 1, "lists its files"},
		{"complete for nothing", key + "complete: {files: [book.yaml]}\n", "no-target", 4, 1, "for which instances"},
		{"a file that is not there", key + "complete: {tag: a, files: [book.yaml, more.yaml]}\n", "files", 4, 39, "is not there"},
		{"a file that is not listed", key + "complete: {tag: a, files: [other.yaml]}\n", "files", 4, 1, "does not list it"},
		{"a file outside", "keybook: b\nkeys: {ada: {file: ../../etc/x.pub}}\n", "outside", 2, 20, "outside the folder"},
		{"an instance that nobody could launch", "keybook: b\ninstances: {g1: {image: i}}\n", "missing", 2, 13, ""},
		{"control characters", "keybook: b\nkeys: {ada: {line: LINE0, note: \"\\e[2J\"}}\n", "form", 2, 0, "printable"},
		{"a private key", "keybook: b\nkeys:\n  ada: |\n    " + indented + "\n", "private-key", 0, 0, "nothing of it was read"},
		{"a private key in a comment, in base64", "keybook: b\n# " + strings.Join(strings.Split(strings.TrimSpace(string(private)), "\n")[1:4], "") + "\n", "private-key", 0, 0, ""},
		{"a private key as escapes", "keybook: b\nkeys: {ada: {line: LINE0, note: \"" + strings.ReplaceAll(strings.ReplaceAll(string(private), "\n", "\\n"), "-", "\\x2d") + "\"}}\n", "private-key", 0, 0, ""},
		{"a number for a list", key + "access: 7\n", "form", 4, 9, "is a list"},
		{"a list for a text", "keybook: [b]\n", "form", 1, 10, "is a text"},
		{"a sort that is none", "keybook: b\nholders: {ada: persn}\n", "form", 2, 16, "did you mean person"},
		{"a bomb", "keybook: b\n" + strings.Repeat("[", 20_000) + "\n", "yaml", 0, 0, ""},
	} {
		_, r := read(t, c.text)
		n := slices.IndexFunc(r.Findings, func(f Finding) bool { return f.Code == c.code })
		if n < 0 {
			t.Errorf("%s: %v", c.what, r.Findings)
			continue
		}
		f := r.Findings[n]
		if c.line > 0 && (f.Line != c.line || c.column > 0 && f.Column != c.column) || !strings.Contains(f.String(), c.says) {
			t.Errorf("%s: %v", c.what, f)
		}
		body := strings.Split(strings.TrimSpace(string(private)), "\n")[1]
		for _, f := range r.Findings {
			if strings.Contains(f.String(), body) || strings.ContainsAny(f.String(), "\x1b\n") || Codes[f.Code] == "" {
				t.Errorf("%s: it says %q", c.what, f)
			}
		}
	}
	// More findings than are told, and a book that is too large.
	if _, r := read(t, "keybook: b\nkeys:\n"+strings.Repeat("  -x: 1\n", 1000)); len(r.Findings) > maxFindings+1 {
		t.Errorf("%d findings", len(r.Findings))
	}
	if _, r := Read([]Source{{"a.yaml", strings.Repeat("#\n", MaxText/2+1)}}, nil, now); r.Errors() != 1 || r.Findings[0].Code != "too-large" {
		t.Errorf("too large: %v", r.Findings)
	}
	if _, r := Read([]Source{{"a.yaml", "keybook: b\nsets: {x: [" + strings.Repeat("a,", MaxMarks) + "]}\n"}}, nil, now); r.Errors() != 1 || r.Findings[0].Code != "too-large" {
		t.Errorf("too many values: %v", r.Findings)
	}
	if _, r := Read(nil, nil, now); r.Errors() != 1 {
		t.Errorf("nothing: %v", r.Findings)
	}
	if b, r := read(t, "\ufeff"+key); r.Errors() > 0 || len(b.Keys) != 1 {
		t.Errorf("a byte-order mark: %v", r.Findings)
	}
	_, r := Read([]Source{{"a.yaml", "keybook: a\n"}, {"b.yaml", "keybook: b\n"}}, nil, now)
	if r.Errors() != 1 || r.Findings[0].Code != "two-books" || !strings.Contains(r.Findings[0].Sentence, "a.yaml:1") {
		t.Errorf("two books: %v", r.Findings)
	}
}

// TestFiles: public halves stand in files beside the book; a private one there is refused, and not quoted.
func TestFiles(t *testing.T) {
	pair, err := keypair.Create(keypair.Ed25519, "x")
	if err != nil {
		t.Fatal(err)
	}
	private, err := pair.Write(keypair.FormatOpenSSH, nil)
	if err != nil {
		t.Fatal(err)
	}
	files := func(name string) ([]byte, error) {
		switch name {
		case "keys/ada.pub", "made.pub":
			return []byte(lines[0] + "\n"), nil
		case "keys/secret":
			return private, nil
		case "keys/link.pub":
			return nil, fmt.Errorf("a link: %w", ErrOutside)
		}
		return nil, ErrNoFile
	}
	one := func(key string) (*Book, Report) {
		return Read([]Source{{"book.yaml", "keybook: b\nkeys:\n  ada: " + key + "\n"}}, files, now)
	}
	for _, key := range []string{"{file: keys/ada.pub}", "{make: {out: made}}"} {
		if b, r := one(key); len(r.Findings) > 0 || b.Keys[0].Fingerprint != printOf(lines[0]) {
			t.Errorf("%s: %v", key, r.Findings)
		}
	}
	if b, r := one("{make: {kind: rsa-3072, out: yet}}"); len(r.Findings) > 0 || b.Keys[0].Fingerprint != "" || b.Keys[0].Make.Kind != keypair.RSA3072 {
		t.Errorf("yet to be made: %v", r.Findings)
	}
	for key, code := range map[string]string{"{file: keys/secret}": "private-key", "{file: keys/link.pub}": "outside", "{file: none.pub}": "key", "{make: {out: ../x}}": "outside"} {
		if _, r := one(key); r.Errors() != 1 || r.Findings[0].Code != code || strings.Contains(fmt.Sprint(r), "b3Blb") {
			t.Errorf("%s: %v", key, r.Findings)
		}
	}
}

func TestSARIF(t *testing.T) {
	_, r := Read([]Source{{"a b/book.yaml", "keybook: b\nkeys: {ada: ssh-x}\n"}}, nil, now)
	text, err := r.SARIF("1")
	if err != nil {
		t.Fatal(err)
	}
	var out struct {
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct{ Rules []struct{ ID string } }
			}
			Results []struct {
				RuleID, Level string
				Locations     []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine int }
					}
				}
			}
		}
	}
	if err := json.Unmarshal(text, &out); err != nil {
		t.Fatal(err)
	}
	one := out.Runs[0].Results[0]
	if out.Version != "2.1.0" || one.RuleID != "key" || one.Level != "error" || one.Locations[0].PhysicalLocation.ArtifactLocation.URI != "a%20b/book.yaml" ||
		one.Locations[0].PhysicalLocation.Region.StartLine != 2 || len(out.Runs[0].Tool.Driver.Rules) != 1 {
		t.Errorf("%s", text)
	}
}

// FuzzRead: whatever comes in, the reader ends, names a code that is known, and lets no control character out.
func FuzzRead(f *testing.F) {
	f.Add(withLines(whole))
	for _, s := range []string{"keybook: b\nkeys: &x {}\nsets: *x\n", "keybook: b\n---\n", "{{{", "a: !!binary AAAA\n", "? [a]\n: b\n", "keybook: b\naccess:\n- {whom: {a: b}, to: [c]}\n",
		"keybook: b\ncomplete: {all: true, files: [book.yaml], also: x}\n"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		b, r := Read([]Source{{"book.yaml", text}}, func(string) ([]byte, error) { return nil, errors.New("none") }, now)
		for _, x := range r.Findings {
			if Codes[x.Code] == "" || strings.ContainsFunc(x.String(), func(r rune) bool { return r < ' ' || r == 0x7f }) {
				t.Fatalf("%q", x)
			}
		}
		if b != nil && r.Errors() == 0 {
			d := Compare(b, &Ledger{Now: now})
			if d.Hash == "" {
				t.Fatal("no hash")
			}
		}
		if _, err := r.SARIF(""); err != nil {
			t.Fatal(err)
		}
	})
}

// world is a ledger that a test makes up.
func world(r *rand.Rand) *Ledger {
	l := &Ledger{Now: now}
	for n := range 3 + r.IntN(3) {
		l.Holders = append(l.Holders, LedgerHolder{ID: int64(n + 1), Name: fmt.Sprint("h", n), Sort: []string{"person", "person", "team", "machine"}[r.IntN(4)]})
	}
	for n, line := range lines[:4+r.IntN(6)] {
		k := LedgerKey{ID: int64(n + 1), Name: fmt.Sprint("k", n), Fingerprint: printOf(line), Line: line, Origin: "imported", State: "in use", Retired: r.IntN(8) == 0}
		if r.IntN(4) > 0 {
			h := l.Holders[r.IntN(len(l.Holders))]
			k.Holder, k.HolderSort = h.Name, h.Sort
		}
		if r.IntN(3) == 0 {
			k.Note = "note: " + fmt.Sprint(n)
		}
		l.Keys = append(l.Keys, k)
	}
	for n := range 3 + r.IntN(6) {
		i := LedgerInstance{ID: int64(n + 1), Name: fmt.Sprint("i", n), Region: []string{"north", "south"}[r.IntN(2)], Image: "debian-12", LoginUser: "deck", Ready: true,
			Running: r.IntN(6) > 0, Steward: r.IntN(6) > 0, Phase: "ready", Seen: true, Tags: map[string]string{"env": []string{"prod", "test"}[r.IntN(2)]}}
		l.Instances = append(l.Instances, i)
		for k := range l.Keys {
			if r.IntN(3) > 0 {
				continue
			}
			a := LedgerAccess{ID: int64(len(l.Accesses) + 1), Instance: int32(n), Key: int32(k), User: "deck", Shown: r.IntN(2) == 0}
			switch r.IntN(6) {
			case 0:
				a.Terms.Until = now.Add(time.Duration(1+r.IntN(50)) * time.Hour)
				a.ByHand = r.IntN(2) == 0
			case 1:
				a.Terms.From = "192.0.2.0/24"
			case 2:
				a.User = "root"
			}
			l.Accesses = append(l.Accesses, a)
		}
	}
	return l
}

// record does in a ledger what a difference says of keys and holders, as the service would.
func record(b *Book, l *Ledger, d Difference) {
	keyOf := func(print string) int32 {
		return int32(slices.IndexFunc(l.Keys, func(k LedgerKey) bool { return k.Fingerprint == print }))
	}
	for _, i := range d.Items {
		switch i.Do {
		case HolderAdd:
			h := b.Holders[i.N()]
			l.Holders = append(l.Holders, LedgerHolder{Name: h.Name.Text, Sort: h.Sort, Members: plain(h.Members)})
		case HolderSet:
			n := slices.IndexFunc(l.Holders, func(h LedgerHolder) bool { return h.Name == i.Holder })
			l.Holders[n].Members = plain(b.Holders[i.N()].Members)
		}
	}
	sortOf := func(name string) string {
		n := slices.IndexFunc(l.Holders, func(h LedgerHolder) bool { return h.Name == name })
		if n < 0 {
			return ""
		}
		return l.Holders[n].Sort
	}
	for _, i := range d.Items {
		switch i.Do {
		case KeyAdd:
			k := b.Keys[i.N()]
			x := LedgerKey{ID: int64(100 + len(l.Keys)), Name: k.Name.Text, Fingerprint: k.Fingerprint, Origin: k.Origin, State: "in use", Holder: k.Holder.Text,
				HolderSort: sortOf(k.Holder.Text), Retired: k.State == "retired", Authority: k.Authority}
			if k.Note != nil {
				x.Note = *k.Note
			}
			l.Keys = append(l.Keys, x)
		case KeySet:
			k := &l.Keys[keyOf(i.Fingerprint)]
			for _, s := range i.Set {
				word, value, _ := strings.Cut(s, "=")
				switch word {
				case "name":
					k.Name = value
				case "holder":
					k.Holder, k.HolderSort = value, sortOf(value)
				case "note":
					k.Note = value
				case "origin":
					k.Origin = value
				case "state":
					k.Retired = value == "retired"
				}
			}
		}
	}
}

// settle does in a ledger what a difference says of accesses.
func settle(l *Ledger, d Difference) {
	keyOf := func(print string) int32 {
		return int32(slices.IndexFunc(l.Keys, func(k LedgerKey) bool { return k.Fingerprint == print }))
	}
	for _, i := range d.Items {
		at := int32(slices.IndexFunc(l.Instances, func(o LedgerInstance) bool { return o.ID == i.InstanceID }))
		has := func(a LedgerAccess) bool {
			return a.Instance == at && a.Key == keyOf(i.Fingerprint) && a.User == i.User
		}
		switch i.Do {
		case Add, TakeOver:
			l.Accesses = append(l.Accesses, LedgerAccess{Instance: at, Key: keyOf(i.Fingerprint), User: i.User, Shown: true, Terms: i.Terms})
			l.Sightings = slices.DeleteFunc(l.Sightings, func(s Sighting) bool { return s.Instance == at && s.Fingerprint == i.Fingerprint })
		case Change:
			l.Accesses[slices.IndexFunc(l.Accesses, has)].Terms = i.Terms
		case Withdraw:
			l.Accesses = slices.DeleteFunc(l.Accesses, has)
			l.Sightings = slices.DeleteFunc(l.Sightings, func(s Sighting) bool { return s.Instance == at && s.Fingerprint == i.Fingerprint })
		}
	}
}

// TestProperty: for ledgers and books by chance: what was settled has nothing to do any more but what could not be; the text of a ledger has
// nothing wrong and nothing to do; and where nobody is left, that is counted.
func TestProperty(t *testing.T) {
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 7))
		l := world(r)
		text, err := Write("written", l, Selector{})
		if err != nil {
			t.Fatal(err)
		}
		b, report := Read([]Source{{"book.yaml", text}}, nil, now)
		if report.Errors() > 0 {
			t.Fatalf("seed %d: written: %v\n%s", seed, report.Findings, text)
		}
		if d := Compare(b, l); !d.Nothing() {
			t.Fatalf("seed %d: written, and to do: %+v\n%s", seed, d.Items, text)
		}
		// Another world's text, against this one.
		other := world(rand.New(rand.NewPCG(seed, 8)))
		if text, err = Write("other", other, Selector{}); err != nil {
			t.Fatal(err)
		}
		if r.IntN(2) == 0 {
			text += "complete: {all: true, files: [book.yaml]" + []string{"", ", strict: true, also: [machines]"}[r.IntN(2)] + "}\n"
		}
		if b, report = Read([]Source{{"book.yaml", text}}, nil, now); report.Errors() > 0 {
			t.Fatalf("seed %d: other: %v", seed, report.Findings)
		}
		d := Compare(b, l)
		if again := Compare(b, l); again.Hash != d.Hash {
			t.Fatalf("seed %d: two hashes", seed)
		}
		ways := func(i int) (n int) { // people's ways in that are bound to nothing
			for _, a := range l.Accesses {
				k := l.Keys[a.Key]
				if int(a.Instance) == i && a.Terms.Free() && k.HolderSort != "machine" && !k.Retired {
					n++
				}
			}
			return n
		}
		record(b, l, d)
		before := map[int]int{}
		for i := range l.Instances {
			before[i] = ways(i)
		}
		cut := map[string]bool{}
		for _, i := range d.Items {
			if i.CutOff {
				cut[i.Instance] = true
			}
		}
		settle(l, d)
		for i, had := range before {
			withdrawn := slices.ContainsFunc(d.Items, func(x Item) bool { return x.Do == Withdraw && x.Instance == l.Instances[i].Name })
			if had > 0 && ways(i) == 0 && withdrawn && !cut[l.Instances[i].Name] {
				t.Fatalf("seed %d: nobody gets into %s, and nobody was told: %+v", seed, l.Instances[i].Name, d.Items)
			}
		}
		if len(cut) != d.CutOffs {
			t.Fatalf("seed %d: %d cut off, told %d", seed, len(cut), d.CutOffs)
		}
		after := Compare(b, l)
		if n := slices.IndexFunc(after.Items, func(i Item) bool { return !Told(i.Do) && i.Do != Cannot }); n >= 0 {
			t.Fatalf("seed %d: settled, and to do: %+v\nof %+v", seed, after.Items[n], d.Items)
		}
	}
}
