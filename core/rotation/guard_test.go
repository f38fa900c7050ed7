package rotation

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"plumlatch/core/authkeys"
)

const (
	keyOld = key
	keyNew = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIHGAtn6WB9M/kLOfUEZqPCwGJDEq+AGh/E6dvg3sLhTL"
)

func blobOf(t testing.TB, line string) []byte {
	l := authkeys.Parse([]byte(line), time.UTC)
	if len(l) != 1 || l[0].Err != nil {
		t.Fatalf("%q: %v", line, l)
	}
	return l[0].Blob
}

var (
	today = time.Date(2026, 11, 23, 20, 0, 0, 0, time.UTC)
	since = today.Add(-90 * 24 * time.Hour)
)

// asked is a question about taking the old key with the new one as the other.
func asked(t testing.TB, change ...func(q *Question, old, other *Opener)) Question {
	of := func(id int64, name, line string) Opener {
		return Opener{ID: id, Key: name, Blob: blobOf(t, line), Mark: Mark{Holder: "person"}, There: true,
			Accepted: true, Shown: today}
	}
	q := Question{Instance: 7, LoginUser: "debian", Openers: []Opener{of(1, "old", keyOld), of(2, "new", keyNew)},
		ShownSince: since,
		Files:      map[string][]byte{"a": []byte(keyOld + "\n" + keyNew + "\n")}, Until: today.Add(time.Minute),
		Confirm: func(context.Context) error { return nil }}
	q.Taken = []Taking{{ID: 1, Blob: blobOf(t, keyOld), Was: Mark{Holder: "person"}}}
	for _, f := range change {
		f(&q, &q.Openers[0], &q.Openers[1])
	}
	return q
}

func TestJudge(t *testing.T) {
	other := func(f func(o *Opener)) func(*Question, *Opener, *Opener) {
		return func(_ *Question, _, o *Opener) { f(o) }
	}
	old := func(f func(o *Opener)) func(*Question, *Opener, *Opener) {
		return func(_ *Question, o, _ *Opener) { f(o) }
	}
	question := func(f func(q *Question)) func(*Question, *Opener, *Opener) {
		return func(q *Question, _, _ *Opener) { f(q) }
	}
	notAsked := other(func(o *Opener) { o.Accepted = false })
	job := other(func(o *Opener) { o.Holder = "job" })
	for _, c := range []struct {
		what   string
		change []func(*Question, *Opener, *Opener)
		lacks  string // "" if it may be taken
	}{
		{"shown in every way", nil, ""},
		{"a machine's", []func(*Question, *Opener, *Opener){other(func(o *Opener) { o.Holder = "machine" })},
			"no person's key"},
		{"nobody knows whose", []func(*Question, *Opener, *Opener){other(func(o *Opener) { o.Holder = "" })},
			"no holder that is known"},
		{"a team's", []func(*Question, *Opener, *Opener){other(func(o *Opener) { o.Holder = "team" })}, ""},
		{"not recorded", []func(*Question, *Opener, *Opener){other(func(o *Opener) { o.ID = 0 })},
			"what nobody recorded does not count"},
		{"taken out meanwhile", []func(*Question, *Opener, *Opener){other(func(o *Opener) { o.There = false })},
			"does not stand there"},
		{"a forced command", []func(*Question, *Opener, *Opener){other(func(o *Opener) { o.Forced = true })},
			"one command only"},
		{"from elsewhere", []func(*Question, *Opener, *Opener){other(func(o *Opener) { o.Excluded = true })},
			"where its holder comes from"},
		{"with an end", []func(*Question, *Opener, *Opener){other(func(o *Opener) { o.Ends = true })}, "has an end"},
		{"not asked since", []func(*Question, *Opener, *Opener){notAsked}, "not accepted after"},
		{"never shown", []func(*Question, *Opener, *Opener){other(func(o *Opener) { o.Shown = time.Time{} })},
			"never shown"},
		{"shown long ago", []func(*Question, *Opener,
			*Opener){other(func(o *Opener) { o.Shown = since.Add(-time.Hour) })}, "last shown"},
		{"shown just within", []func(*Question, *Opener,
			*Opener){other(func(o *Opener) { o.Shown = since.Add(time.Hour) })}, ""},
		{"the other is exposed", []func(*Question, *Opener, *Opener){other(func(o *Opener) { o.State = "exposed" })},
			"is exposed"},
		{"the other is retired", []func(*Question, *Opener, *Opener){other(func(o *Opener) { o.State = "retired" })},
			"is retired"},
		{"no shell", []func(*Question, *Opener,
			*Opener){question(func(q *Question) { q.Session.Bars = []string{"nologin"} })}, "nologin"},
		{"shell not seen", []func(*Question, *Opener,
			*Opener){question(func(q *Question) { q.Session.NotSeen = []string{"the shell"} })}, "not seen: the shell"},
		{"no shell now, and proven before",
			[]func(*Question, *Opener, *Opener){question(func(q *Question) { q.Session = Session{Bars: []string{"nologin"}, Proven: true} })}, "nologin"},
		{"not seen, and proven", []func(*Question, *Opener,
			*Opener){question(func(q *Question) {
			q.Session = Session{NotSeen: []string{"the shell"},
				Proven: true}
		})}, ""},
		{"the only one", []func(*Question, *Opener,
			*Opener){question(func(q *Question) { q.Openers = q.Openers[:1] })}, "there is no other key"},
		{"both", []func(*Question, *Opener,
			*Opener){question(func(q *Question) {
			q.Taken = append(q.Taken,
				Taking{ID: 2, Blob: q.Openers[1].Blob})
		})}, "there is no other key"},
		{"counted out", []func(*Question, *Opener,
			*Opener){question(func(q *Question) { q.Openers, q.CutOff = q.Openers[:1], true })}, ""},
		{"the old one ends next year", []func(*Question, *Opener, *Opener){notAsked,
			old(func(o *Opener) { o.Ends = true })}, "not accepted after"},
		{"the old one is for certain addresses, and refused from here",
			[]func(*Question, *Opener, *Opener){job,
				old(func(o *Opener) { o.Excluded, o.Refused, o.Accepted = true, true, false })}, "no person's key"},
		{"the old one is nobody knows whose",
			[]func(*Question, *Opener, *Opener){job, old(func(o *Opener) { o.Holder = "" }),
				question(func(q *Question) { q.Taken[0].Was = Mark{Holder: "job"} })}, "no person's key"},
		{"the old one is not recorded", []func(*Question, *Opener, *Opener){job,
			old(func(o *Opener) { o.ID, o.Holder = 0, "" }), question(func(q *Question) { q.Taken[0].ID = 0 })},
			"no person's key"},
		{"the old one is exposed, and the only one of a person",
			[]func(*Question, *Opener, *Opener){job, old(func(o *Opener) { o.State = "exposed" })}, "no person's key"},
		{"the old one was lost when it began, and is; a job's is left",
			[]func(*Question, *Opener, *Opener){job, old(func(o *Opener) { o.State = "lost" }),
				question(func(q *Question) { q.Taken[0].Was.State = "lost" })}, ""},
		{"the old one is lost now, and was not",
			[]func(*Question, *Opener, *Opener){job, old(func(o *Opener) { o.State = "lost" })}, "no person's key"},
		{"the old one is a job's now, and was a person's",
			[]func(*Question, *Opener, *Opener){job, old(func(o *Opener) { o.Holder = "job" })}, "no person's key"},
		{"the old one is a person's now, and was a job's",
			[]func(*Question, *Opener, *Opener){job, question(func(q *Question) { q.Taken[0].Was.Holder = "job" })},
			"no person's key"},
		{"the old one is lost, and nothing else is taken",
			[]func(*Question, *Opener, *Opener){notAsked, old(func(o *Opener) { o.State = "lost" }),
				question(func(q *Question) { q.Taken[0].Was.State = "lost" })}, "no key would be left"},
		{"the old one is a job's, and nothing else is taken",
			[]func(*Question, *Opener, *Opener){notAsked, old(func(o *Opener) { o.Holder = "job" }),
				question(func(q *Question) { q.Taken[0].Was.Holder = "job" })}, "no key would be left"},
		{"the old one is a job's, another job's is left",
			[]func(*Question, *Opener, *Opener){job, old(func(o *Opener) { o.Holder = "job" }),
				question(func(q *Question) { q.Taken[0].Was.Holder = "job" })}, ""},
		{"the old one runs one command, another key is left",
			[]func(*Question, *Opener, *Opener){job, old(func(o *Opener) { o.Forced = true })}, ""},
		{"the old one is refused", []func(*Question, *Opener, *Opener){notAsked,
			old(func(o *Opener) { o.Refused, o.Accepted = true, false })}, ""},
		{"the old one has run out", []func(*Question, *Opener, *Opener){notAsked,
			old(func(o *Opener) { o.There = false })}, ""},
	} {
		p, err := Judge(asked(t, c.change...))
		if (err == nil) != (c.lacks == "") ||
			err != nil && (!errors.Is(err, ErrLockOut) || !strings.Contains(err.Error(), c.lacks)) {
			t.Errorf("%s: %v", c.what, err)
		}
		if err != nil && p.g != nil {
			t.Errorf("%s: a permit beside an error", c.what)
		}
		if c.what == "counted out" && !p.CutsOff() {
			t.Error("it is not said that it cuts off")
		}
	}
	for what, change := range map[string]func(*Question, *Opener, *Opener){
		"another blob":     question(func(q *Question) { q.Taken[0].Blob = blobOf(t, keyNew)[:40] }),
		"another ID":       question(func(q *Question) { q.Taken[0].ID = 3 }),
		"the other's name": question(func(q *Question) { q.Taken[0] = Taking{ID: 1, Blob: q.Openers[1].Blob} }),
	} {
		if _, err := Judge(asked(t, change)); !errors.Is(err, ErrNotThere) {
			t.Errorf("%s: %v", what, err)
		}
	}
	for what, change := range map[string]func(q *Question){
		"no instance": func(q *Question) { q.Instance = 0 }, "no user": func(q *Question) { q.LoginUser = "" },
		"nothing taken":   func(q *Question) { q.Taken = nil },
		"nobody confirms": func(q *Question) { q.Confirm = nil },
		"no end":          func(q *Question) { q.Until = time.Time{} }, "no files": func(q *Question) { q.Files = nil },
	} {
		if _, err := Judge(asked(t, question(change))); !errors.Is(err, ErrQuestion) {
			t.Errorf("%s: %v", what, err)
		}
	}
	// A name says nothing: both keys under one, and each under the other's.
	if _, err := Judge(asked(t, func(_ *Question, o, n *Opener) { o.Key, n.Key = "x", "x" })); err != nil {
		t.Errorf("one name: %v", err)
	}
	if _, err := Judge(asked(t, func(q *Question, o, n *Opener) {
		o.Key, n.Key, n.Accepted = "new", "old",
			false
	})); !errors.Is(err, ErrLockOut) {
		t.Errorf("each under the other's name: %v", err)
	}
}

func TestPermit(t *testing.T) {
	before, after := []byte(keyOld+"\n"+keyNew+"\n"), []byte(keyNew+"\n")
	q := asked(t)
	p, err := Judge(q)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		what          string
		p             Permit
		file          string
		before, after string
		now           time.Time
		want          error
	}{
		{"the write that it is for", p, "a", string(before), string(after), today, nil},
		{"others have appended", p, "a", string(before) + "# more\n", string(after) + "# more\n", today, nil},
		{"the other key was taken out by hand", p, "a", keyOld + "\n", "", today, ErrStale},
		{"another file", p, "b", string(before), string(after), today, ErrStale},
		{"another key", p, "a", string(before), keyOld + "\n", today, ErrNoPermit},
		{"both keys", p, "a", string(before), "", today, ErrNoPermit},
		{"a comment besides", p, "a", string(before) + "# mine\n", string(after), today, ErrNoPermit},
		{"over", p, "a", string(before), string(after), today.Add(2 * time.Minute), ErrEnded},
		{"no permit, nothing taken", Permit{}, "a", string(after), string(before), today, nil},
		{"no permit", Permit{}, "a", string(before), string(after), today, ErrNoPermit},
		{"no permit, narrowed", Permit{}, "a", string(before), `from="192.0.2.1" ` + string(before),
			today, ErrNoPermit},
		{"no permit, widened", Permit{}, "a", `expiry-time="20990101Z" ` + string(before), string(before), today, nil},
		{"our own with a forced command", Own(blobOf(t, keyOld)), "a", authkeys.StewardOptions + " " + keyOld +
			"\n", "", today, nil},
		{"our own, without one", Own(blobOf(t, keyOld)), "a", keyOld + "\n", "", today, ErrNoPermit},
		{"our own line just as written", Own(blobOf(t, keyOld), keyOld+" ours"), "a", keyOld + " ours\n", "", today,
			nil},
		{"another's line", Own(blobOf(t, keyOld)), "a", authkeys.StewardOptions + " " + keyNew + "\n", "",
			today, ErrNoPermit},
		{"lent, just as written", Lent("restrict " + keyNew), "a", string(before) + "restrict " + keyNew + "\n",
			string(before), today, nil},
		{"lent, another line of the key", Lent("restrict " + keyNew), "a", string(before) + keyNew + "\n",
			string(before), today, ErrNoPermit},
		{"lent, with a forced command", Lent("restrict " + keyNew), "a", string(before) + authkeys.StewardOptions +
			" " + keyNew + "\n", string(before), today, ErrNoPermit},
		{"lent, and not restricted", Lent(keyNew), "a", string(before) + keyNew + "\n", string(before),
			today, ErrNoPermit},
		{"never read, ours", Unread(keyNew + " ours"), "a", string(before) + keyNew + " ours\n",
			string(before), today, nil},
		{"never read, another line of the key", Unread(keyNew + " ours"), "a", string(before), keyOld + "\n",
			today, ErrNoPermit},
	} {
		if err := c.p.Covers(c.file, []byte(c.before), []byte(c.after), c.now); !errors.Is(err, c.want) ||
			c.want == nil && err != nil {
			t.Errorf("%s: %v, want %v", c.what, err, c.want)
		}
	}
	lines, err := Judge(asked(t, func(q *Question, _,
		_ *Opener) {
		q.Lines = []string{keyOld + " ours"}
		q.Files["a"] = nil
	}))
	if err != nil {
		t.Fatal(err)
	}
	if err := lines.Covers("a", []byte(keyOld+" ours\n"+keyOld+"\n"), []byte(keyOld+"\n"), today); err != nil {
		t.Errorf("our line alone: %v", err)
	}
	if err := lines.Covers("a", []byte(keyOld+" ours\n"+keyOld+"\n"), nil, today); !errors.Is(err, ErrNoPermit) {
		t.Errorf("more than our line: %v", err)
	}
	// One write, and what it rests on is asked about right before it.
	if err := p.Confirm(context.Background(), map[string][]byte{"a": before}, today); err != nil {
		t.Error(err)
	}
	if err := p.Confirm(context.Background(), map[string][]byte{"a": after}, today); !errors.Is(err, ErrStale) {
		t.Errorf("another file changed: %v", err)
	}
	if err := p.Confirm(context.Background(), nil, today.Add(time.Hour)); !errors.Is(err, ErrEnded) {
		t.Errorf("over: %v", err)
	}
	p.Spend("a")
	if err := p.Covers("a", before, after, today); !errors.Is(err, ErrEnded) {
		t.Errorf("a second write: %v", err)
	}
	q.Confirm = func(context.Context) error { return ErrStale }
	if p, err = Judge(q); err != nil {
		t.Fatal(err)
	}
	if err := p.Confirm(context.Background(), nil, today); !errors.Is(err, ErrStale) {
		t.Errorf("not so any more: %v", err)
	}
	if len(p.Rests()) != 2 {
		t.Errorf("it rests on %v", p.Rests())
	}
	for what, change := range map[string]func(r *Rest){
		"its holder":      func(r *Rest) { r.Holder = "job" },
		"its state":       func(r *Rest) { r.State = "lost" },
		"its proof":       func(r *Rest) { r.Shown = time.Time{} },
		"it is not there": func(r *Rest) { r.ID = 9 },
		"nothing":         nil,
		"a proof since":   func(r *Rest) { r.Shown = r.Shown.Add(time.Hour) },
	} {
		now := p.Rests()
		if change != nil {
			change(&now[1])
		}
		if err := Same(p.Rests(), now); (err == nil) != (what == "nothing" || what == "a proof since") {
			t.Errorf("%s: %v", what, err)
		}
	}
}
