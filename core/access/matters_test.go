package access

import (
	"bytes"
	"encoding/base64"
	"slices"
	"strings"
	"testing"
	"time"

	"plumlatch/core/authkeys"
)

var t0 = time.Date(2026, 3, 1, 6, 0, 0, 0, time.UTC)

func policy(t *testing.T, text string) Policy {
	t.Helper()
	p, err := ReadPolicy(text)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// inOrder is an instance with two people's keys, seen an hour ago: nothing of it needs a hand.
func inOrder() Door {
	key := func(name, fp string) DoorKey {
		return DoorKey{Key: name, Fingerprint: fp, LoginUser: "debian", Recorded: true, HolderSort: "person",
			State: InUse, Standing: Accepted, At: t0.Add(-time.Hour),
			There: &There{At: t0.Add(-time.Hour), From: "steward", Place: ".ssh/authorized_keys:1"}}
	}
	return Door{Name: "gauge", LoginUser: "debian", Running: true, CreatedAt: t0.Add(-90 * 24 * time.Hour),
		Inside: Looked{SeenAt: t0.Add(-time.Hour)}, Outside: Looked{SeenAt: t0.Add(-time.Hour)},
		Keys: []DoorKey{key("night", "SHA256:n"), key("day", "SHA256:d"),
			{Steward: true, Recorded: true, LoginUser: "debian", Standing: Accepted}}}
}

func TestJudge(t *testing.T) {
	stranger := func(more ...func(*DoorKey)) func(*Door) {
		return func(d *Door) {
			k := DoorKey{Fingerprint: "SHA256:s", Comment: "stranger", LoginUser: "debian", State: InUse,
				There: &There{At: t0, From: "steward", Place: "f:9"}}
			for _, m := range more {
				m(&k)
			}
			d.Keys = append(d.Keys, k)
		}
	}
	both := func(f func(*DoorKey)) func(*Door) {
		return func(d *Door) { f(&d.Keys[0]); f(&d.Keys[1]) }
	}
	first := func(f func(*DoorKey)) func(*Door) { return func(d *Door) { f(&d.Keys[0]) } }
	for _, c := range []struct {
		name  string
		broke func(*Door)
		want  []Reason
	}{
		{"in order", func(*Door) {}, nil},
		{"a restore asks", func(d *Door) { d.Asked = []Ask{{Work: 12, By: "night-lead", New: "fresh"}} }, []Reason{GrantAsked}},
		{"a rotation at hand ends one soon", first(func(k *DoorKey) { k.There.Ends, k.Leaving = t0.Add(48*time.Hour), true }), nil},
		{"the label's key was rotated out", func(d *Door) { d.Label, d.WereHere = "Former", []string{"former"} }, nil},
		{"a stranger that is an authority too", stranger(func(k *DoorKey) {
			k.There.Vouches = []Vouch{{Place: "f:10", Principals: "deck"}}
		}), []Reason{UnrecordedKey}},
		{"both lost", both(func(k *DoorKey) { k.State = Lost }), []Reason{NoWayIn, LostOpens, LostOpens}},
		{"both a machine's", both(func(k *DoorKey) { k.HolderSort = "machine" }), []Reason{NoWayIn}},
		{"both never seen", both(func(k *DoorKey) { k.Standing = None }), []Reason{NoWayIn}},
		{"both run one command", both(func(k *DoorKey) { k.There.Limits = Command }), []Reason{NoWayIn}},
		{"stopped, and nobody could get in", func(d *Door) { d.Running = false; d.Keys = d.Keys[2:] },
			[]Reason{NoWayIn}},
		{"no holder known counts as a person", both(func(k *DoorKey) { k.HolderSort = "" }), nil},
		{"one refused", first(func(k *DoorKey) { k.Against, k.AgainstAt = Accepted, t0 }), []Reason{SoleOpenerKey}},
		{"one exposed", first(func(k *DoorKey) { k.State = Exposed }), []Reason{SoleOpenerKey, ExposedOpens}},
		{"one exposed and gone", first(func(k *DoorKey) { k.State, k.Against, k.There = Exposed, Seen, nil }),
			[]Reason{SoleOpenerKey, MissingKey}},
		{"one missing", first(func(k *DoorKey) { k.Standing, k.Against, k.There = None, Seen, nil }),
			[]Reason{SoleOpenerKey, MissingKey}},
		{"one lapsed", first(func(k *DoorKey) { k.There.Limits, k.Against = Expired, Seen }),
			[]Reason{SoleOpenerKey, AccessExpired}},
		{"one ends soon", first(func(k *DoorKey) { k.There.Ends = t0.Add(48 * time.Hour) }), []Reason{SoleOpenerKey, AccessExpiring}},
		{"one ends later", first(func(k *DoorKey) { k.There.Ends = t0.Add(30 * 24 * time.Hour) }), []Reason{SoleOpenerKey}},
		{"a stranger", stranger(), []Reason{UnrecordedKey}},
		{"a stranger that was gone", stranger(func(k *DoorKey) { k.There.Before = true }), []Reason{CameBack}},
		{"a retired key put there", stranger(func(k *DoorKey) { k.Key, k.Retired = "old", true }), []Reason{CameBack}},
		{"a stranger's end has come", stranger(func(k *DoorKey) { k.There.Limits = Expired }), nil},
		{"an authority", stranger(func(k *DoorKey) { k.There.Limits = Authority }), nil},
		{"an exposed stranger", stranger(func(k *DoorKey) { k.Key, k.State = "leaked", Exposed }),
			[]Reason{ExposedOpens, UnrecordedKey}},
		{"first boot's line for root", stranger(func(k *DoorKey) {
			k.Fingerprint, k.LoginUser,
				k.There.Limits = "SHA256:n", "root", Command
		}), nil},
		{"root's own line", stranger(func(k *DoorKey) { k.Fingerprint, k.LoginUser = "SHA256:n", "root" }),
			[]Reason{UnrecordedKey}},
		{"root's line with the key of another user", func(d *Door) {
			d.Keys[0].LoginUser = "backup"
			stranger(func(k *DoorKey) { k.Fingerprint, k.LoginUser, k.There.Limits = "SHA256:n", "root", Command })(d)
		}, []Reason{UnrecordedKey}},
		{"a lost key came in", func(d *Door) {
			d.Uses = []BadUse{{Key: "old", Fingerprint: "SHA256:o", State: Lost, LoginUser: "debian", Last: t0, Trusted: true}}
		}, []Reason{BadKeyUsed}},
		{"strangers came in", func(d *Door) {
			d.Uses = []BadUse{{Fingerprint: "SHA256:s", LoginUser: "debian", Last: t0}, {Fingerprint: "SHA256:s", LoginUser: "root", Last: t0}}
		}, []Reason{StrangerUsed, StrangerUsed}},
		{"unused", func(d *Door) {
			unusedFor(d, 181*24*time.Hour)
		}, []Reason{UnusedKey, UnusedKey}},
		{"one used", func(d *Door) {
			unusedFor(d, 181*24*time.Hour)
			d.Keys[0].UsedAt = t0.Add(-179 * 24 * time.Hour)
		}, []Reason{UnusedKey}},
		{"not known for long enough", func(d *Door) { unusedFor(d, 179*24*time.Hour) }, nil},
		{"known only until the log was read", func(d *Door) {
			unusedFor(d, 200*24*time.Hour)
			d.LogRead = t0.Add(-21 * 24 * time.Hour)
		}, nil},
		{"placed since", func(d *Door) {
			unusedFor(d, 400*24*time.Hour)
			d.Keys[0].RecordedAt, d.Keys[1].RecordedAt = t0.Add(-100*24*time.Hour), t0.Add(-181*24*time.Hour)
		}, []Reason{UnusedKey}},
		{"no log", func(d *Door) { d.LogRead, d.LogSince = time.Time{}, time.Time{} }, nil},
		{"from a new address", func(d *Door) { newUse(d, t0.Add(-time.Hour), t0.Add(-8*24*time.Hour)) }, []Reason{NewAddress, NewAddress, NewAddress}},
		{"an address that was new", func(d *Door) { newUse(d, t0.Add(-8*24*time.Hour), t0.Add(-90*24*time.Hour)) }, nil},
		{"a log that has nothing before it", func(d *Door) { newUse(d, t0.Add(-time.Hour), t0.Add(-6*24*time.Hour)) }, nil},
		{"an agent", func(d *Door) { d.Agent = &ResidentAgent{EnrolledAt: t0.Add(-time.Hour)} }, nil},
		{"an agent that never came", func(d *Door) { d.Agent = &ResidentAgent{EnrolledAt: t0.Add(-24 * time.Hour)} }, []Reason{AgentAway}},
		{"an agent that went", func(d *Door) { d.Agent = &ResidentAgent{SeenAt: t0.Add(-24 * time.Hour)} }, []Reason{AgentAway}},
		{"an agent of a stopped one", func(d *Door) { d.Running, d.Agent = false, &ResidentAgent{SeenAt: t0.Add(-48 * time.Hour)} }, nil},
		{"a long session through the service", func(d *Door) { d.Streams = []OpenStream{{ID: 7, Operator: "runa", Begun: t0.Add(-9 * time.Hour)}} }, []Reason{StreamLong}},
		{"a session through the service", func(d *Door) { d.Streams = []OpenStream{{ID: 7, Operator: "runa", Begun: t0.Add(-7 * time.Hour)}} }, nil},
		{"an agent that trusts", func(d *Door) { d.Agent = &ResidentAgent{SeenAt: t0, Trusting: true} }, []Reason{AgentTrusts}},
		{"a second agent", func(d *Door) { d.Agent = &ResidentAgent{SeenAt: t0, RefusedAt: t0.Add(-29 * 24 * time.Hour)} }, []Reason{AgentCopied}},
		{"a second agent, long ago", func(d *Door) { d.Agent = &ResidentAgent{SeenAt: t0, RefusedAt: t0.Add(-30 * 24 * time.Hour)} }, nil},
		{"passwords", func(d *Door) { d.Password = []string{"debian"} }, []Reason{PasswordLogin}},
		{"open", func(d *Door) { d.Open = true }, []Reason{OpenToAnybody}},
		{"the world", func(d *Door) { d.World = "0.0.0.0/0" }, []Reason{OpenToWorld}},
		{"a host key of two", func(d *Door) { d.SameHostKey = []string{"a", "b", "c", "d", "e", "f"} },
			[]Reason{SharedHostKey}},
		{"another host key", func(d *Door) { d.Inside.Trouble, d.Inside.Cause = "x", "host key" },
			[]Reason{HostKeyChanged}},
		{"another host key, from outside", func(d *Door) { d.Outside.Trouble, d.Outside.Cause = "x", "host key" },
			[]Reason{HostKeyChanged}},
		{"another host key at a new address",
			func(d *Door) { d.Trouble, d.TroubleCode = "another host key answers at x", TroubleHostKey },
			[]Reason{HostKeyChanged}},
		{"a failed survey", func(d *Door) { d.Inside.Trouble, d.Inside.Cause = "x", "reach" }, []Reason{SurveyFailed}},
		{"no steward", func(d *Door) { d.Inside.Trouble, d.Inside.Cause = "x", "none" }, nil},
		{"old", func(d *Door) {
			d.Inside.SeenAt, d.Outside.SeenAt = t0.Add(-40*24*time.Hour),
				t0.Add(-31*24*time.Hour)
		}, []Reason{OldEvidence}},
		{"one look is not old", func(d *Door) { d.Inside.SeenAt = time.Time{} }, nil},
		{"vanished", func(d *Door) { d.Vanished = true; d.World = "0.0.0.0/0" }, []Reason{VanishedReason}},
		{"a label of another", func(d *Door) { d.Label = "gone-key" }, []Reason{LabelDiffers}},
		{"a label whatever its case", func(d *Door) { d.Label = "NIGHT" }, nil},
		{"a label of a former name", func(d *Door) { d.Label = "eve"; d.Keys[0].Former = []string{"eve"} }, nil},
	} {
		d := inOrder()
		c.broke(&d)
		got, _ := policy(t, "").Judge(d, t0)
		var reasons []Reason
		for _, m := range got {
			reasons = append(reasons, m.Reason)
			if m.Sentence == "" || m.Evidence == "" || m.Command == "" || !strings.Contains(m.Sentence, "gauge") ||
				m.Reason.Rank() == 0 {
				t.Errorf("%s: %+v lacks words", c.name, m)
			}
		}
		if !slices.Equal(reasons, c.want) {
			t.Errorf("%s: %v, want %v", c.name, reasons, c.want)
		}
	}
}

// unusedFor makes of a door one whose log covers a time in which no key came in.
func unusedFor(d *Door, long time.Duration) {
	d.LogSince, d.LogRead = t0.Add(-long), t0
	for n := range d.Keys {
		d.Keys[n].RecordedAt = t0.Add(-500 * 24 * time.Hour)
	}
}

// newUse makes of a door one where a key of the ledger, another and a password came in from somewhere.
func newUse(d *Door, at, since time.Time) {
	d.LogSince, d.LogRead = since, t0
	d.NewAddresses = []NewUse{{Address: "192.0.2.1", Key: "night", Fingerprint: "SHA256:n", LoginUser: "debian", Method: "publickey", First: at},
		{Address: "192.0.2.2", Fingerprint: "SHA256:s", LoginUser: "debian", Method: "publickey", First: at, Trusted: true},
		{Address: "192.0.2.3", LoginUser: "debian", Method: "password", First: at}}
	for n := range d.Keys {
		d.Keys[n].UsedAt = t0
	}
}

// TestJudgeAgain: what time alone changes is judged when it does.
func TestJudgeAgain(t *testing.T) {
	d := inOrder()
	d.Keys[0].There.Ends = t0.Add(20 * 24 * time.Hour)
	if _, again := policy(t, "").Judge(d, t0); !again.Equal(t0.Add(13 * 24 * time.Hour)) {
		t.Errorf("again at %v: a week before its end is due", again)
	}
	d = inOrder()
	newUse(&d, t0.Add(-24*time.Hour), t0.Add(-90*24*time.Hour))
	if _, again := policy(t, "").Judge(d, t0); !again.Equal(t0.Add(6 * 24 * time.Hour)) {
		t.Errorf("again at %v: an address is new for a week", again)
	}
	if got, _ := policy(t, "today:\n  new_address: 0\n  unused: 0\n").Judge(d, t0); len(got) != 0 {
		t.Errorf("told though the policy says no: %+v", got)
	}
	if _, again := policy(t, "").Judge(inOrder(), t0); !again.Equal(t0.Add(-time.Hour + 30*24*time.Hour)) {
		t.Errorf("again at %v: when the evidence gets old", again)
	}
}

func TestPolicy(t *testing.T) {
	p := policy(t, "survey:\n  every: 2d\ntoday:\n  leave_out: [sole-opener, missing-key]\n")
	if time.Duration(p.Survey.Every) != 48*time.Hour || time.Duration(p.PrivateHalf) != 90*24*time.Hour ||
		!p.Outside() {
		t.Errorf("%+v", p)
	}
	d := inOrder()
	d.Keys = d.Keys[:1]
	if got, _ := p.Judge(d, t0); len(got) != 0 {
		t.Errorf("left out, and told: %+v", got)
	}
	if policy(t, "survey: {outside: false}").Outside() {
		t.Error("outside: false is not heard")
	}
	for text, want := range map[string]string{
		"survey: {evry: 1d}":               "evry",
		"survey: {every: soon}":            "give a time",
		"survey: {every: 5s}":              "once a minute",
		"today: {evidence_old: 1m}":        "less than an hour",
		"today: {weak_from: rusty}":        "dated, weak or broken",
		"today: {leave_out: [everything]}": "there are: grant-asked, no-way-in",
		"adopt: {who: [{tag: env=test}]}":  "each entry has operators",
		"adopt: {never: ['']}":             "each entry is a tag",
		"rehearse: {every: 1h}":            "once a day is the most",
		"rehearse: {at_most: -1}":          "in a month",
		"rehearse: {route: second-key}":    "rehearse.route: give one of",
		"a: b\n---\nc: d":                  "",
		"survey: {}\n---\nsurvey: {}":      "one document",
		"[":                                "",
		strings.Repeat("# x\n", 40_000):    "more than",
	} {
		_, err := ReadPolicy(text)
		if err != nil && (strings.Contains(err.Error(), "struct") || strings.Contains(err.Error(), "!!")) {
			t.Errorf("%q: the words of a program: %v", text, err)
		}
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.40q: %v", text, err)
		}
	}
}

func FuzzReadPolicy(f *testing.F) {
	f.Add(DefaultPolicy)
	f.Add("survey: {every: 1d}\n")
	f.Fuzz(func(t *testing.T, s string) {
		p, err := ReadPolicy(s)
		if err == nil && (p.Survey.Every < 0 || p.Today.EvidenceOld <= 0) {
			t.Errorf("%q: %+v", s, p)
		}
	})
}

func TestGather(t *testing.T) {
	key := func(fill byte, options string) string {
		return options + testKey(fill)
	}
	text := strings.Join([]string{key(1, ""), key(2, `command="x" `), key(3, `expiry-time="20200101Z" `), key(3, ""),
		key(4, `from="192.0.2.1" `), key(4, `command="x" `),
		key(5, "cert-authority "), key(6, `expiry-time="20300101Z" `), key(6, `expiry-time="20310101Z" `), "nonsense",
		key(1, "no-pty ")}, "\n")
	found := Gather([]string{"a", "b"}, map[string][]authkeys.Line{"a": authkeys.Parse([]byte(text), time.UTC),
		"b": authkeys.Parse([]byte(key(2, "")), time.UTC)}, t0, 20)
	want := []struct {
		limits string
		lines  int
		ends   bool
		result string
	}{{NoLimit, 2, false, Recorded}, {NoLimit, 2, false, Recorded}, {NoLimit, 2, false, Recorded},
		{From, 2, false, Recorded}, {Authority, 1, false, Unrecorded}, {NoLimit, 2, true, Recorded}}
	if len(found) != len(want) {
		t.Fatalf("%d keys", len(found))
	}
	for n, w := range want {
		f := found[n]
		if f.Limits != w.limits || len(f.Places) != w.lines || f.Ends.IsZero() == w.ends ||
			f.Result(true) != w.result || f.Result(false) != Unrecorded {
			t.Errorf("key %d: %+v, want %+v", n+1, f, w)
		}
	}
	if !found[5].Ends.Equal(time.Date(2031, 1, 1, 0, 0, 0, 0, time.UTC)) || found[1].Places[1].File != "b" {
		t.Errorf("%+v", found)
	}
	lapsed := Gather([]string{"a"}, map[string][]authkeys.Line{"a": authkeys.Parse([]byte(key(7,
		`expiry-time="20200101Z" `)), time.UTC)}, t0, 1)
	if lapsed[0].Result(true) != Lapsed || lapsed[0].Opens() {
		t.Errorf("%+v", lapsed)
	}
}

func TestFollows(t *testing.T) {
	door := func(name string, change func(*Door)) Door {
		d := inOrder()
		d.Name = name
		change(&d)
		return d
	}
	doors := []Door{
		door("a-seen", func(d *Door) { d.Keys[0].Standing = Seen }),
		door("b-world", func(d *Door) { d.World = "0.0.0.0/0" }),
		door("c-sure", func(*Door) {}),
		door("d-alone", func(d *Door) { d.Keys = d.Keys[:1] }),
		door("e-gone", func(d *Door) { d.Keys[0].Against = Seen }),
		door("f-stopped", func(d *Door) { d.Running = false }),
		door("g-unrecorded", func(d *Door) { d.Keys[0].Recorded = false }),
		door("h-command", func(d *Door) { d.Keys[0].There.Limits = Command }),
		door("i-other", func(d *Door) { d.Keys = d.Keys[1:] }),
	}
	names := func(all []Follow) (out []string) {
		for _, f := range all {
			out = append(out, f.Door.Name)
		}
		return out
	}
	others, none := Follows(doors, "SHA256:n")
	if got := strings.Join(names(others), " "); got != "b-world c-sure g-unrecorded a-seen h-command f-stopped" {
		t.Errorf("in the order %s", got)
	}
	if got := names(none); !slices.Equal(got, []string{"d-alone"}) {
		t.Errorf("none: %s", got)
	}
	if others, none = Follows(doors, "SHA256:n", "SHA256:d"); len(others) != 0 || len(none) != 7 {
		t.Errorf("with the other exposed too: %v %v", names(others), names(none))
	}
}

// testKey is the line of an Ed25519 key whose bytes are all fill.
func testKey(fill byte) string {
	blob := append([]byte("\x00\x00\x00\x0bssh-ed25519\x00\x00\x00\x20"), bytes.Repeat([]byte{fill}, 32)...)
	return "ssh-ed25519 " + base64.StdEncoding.EncodeToString(blob)
}

// TestAdopters: who may adopt from the cloud's list, and what nobody may.
func TestAdopters(t *testing.T) {
	p := policy(t, "adopt: {who: [{operators: [mate], region: north, tag: env=test}, {operators: [lead]}], never: [owner=pilots, keep]}")
	for _, c := range []struct {
		who, region string
		tags        map[string]string
		may         bool
		never       string
	}{
		{"mate", "north", map[string]string{"env": "test"}, true, ""},
		{"mate", "south", map[string]string{"env": "test"}, false, ""},
		{"mate", "north", map[string]string{"env": "prod"}, false, ""},
		{"mate", "north", nil, false, ""},
		{"lead", "south", nil, true, ""},
		{"lead", "south", map[string]string{"owner": "pilots"}, true, "owner=pilots"},
		{"lead", "south", map[string]string{"keep": ""}, true, "keep"},
		{"nobody", "north", map[string]string{"env": "test"}, false, ""},
	} {
		if may, never := p.MayAdopt(c.who, c.region, c.tags), p.NeverAdopted(c.tags); may != c.may || never != c.never {
			t.Errorf("%+v: may %t, never %q", c, may, never)
		}
	}
	if p := policy(t, ""); p.MayAdopt("mate", "north", nil) || p.NeverAdopted(map[string]string{"keep": ""}) != "" {
		t.Error("by default only admins may, and nothing is left alone")
	}
	if got := p.JudgeDiscovered("hull-1", "x", "north", "", map[string]string{"keep": "1"}); len(got) != 0 {
		t.Errorf("left alone, and told: %+v", got)
	}
	if got := p.JudgeDiscovered("hull-1", "x", "north", "", nil); len(got) != 1 || got[0].Command != "plumlatch discover adopt hull-1" {
		t.Errorf("found: %+v", got)
	}
}

// TestListed: a key that nobody should launch with stands on today for each list that has it; one in use does not.
func TestListed(t *testing.T) {
	t.Parallel()
	p, err := ReadPolicy("")
	if err != nil {
		t.Fatal(err)
	}
	listed := []Listed{{Name: "berth-2024", Region: "north-pier"}, {Name: "a", Region: ""}}
	for _, c := range []struct {
		state   string
		retired bool
		want    string
	}{
		{InUse, false, ""},
		{InUse, true, "is retired"},
		{Lost, false, "is lost"},
		{Exposed, true, "is exposed"},
	} {
		var got []Matter
		for _, m := range p.JudgeKey(KeyFacts{Name: "night-crew", State: c.state, Retired: c.retired, Listed: listed}) {
			if m.Reason == StillListed {
				got = append(got, m)
			}
		}
		if c.want == "" {
			if len(got) > 0 {
				t.Errorf("%s: %+v", c.state, got)
			}
			continue
		}
		if len(got) != 2 || got[0].About == got[1].About || !strings.Contains(got[0].Sentence, c.want) ||
			got[0].Command != "plumlatch cloud-key remove night-crew -region north-pier" ||
			got[1].Command != "plumlatch cloud-key remove night-crew" || !strings.Contains(got[0].Sentence, "berth-2024") {
			t.Errorf("%s: %+v", c.state, got)
		}
	}
	if m := p.JudgeKeyList("north-pier", 4812, 5000); len(m) != 1 ||
		m[0].Sentence != "The cloud's list of keys of north-pier holds 4812 of 5000." {
		t.Errorf("%+v", m)
	}
	p, err = ReadPolicy("today:\n  leave_out: [key-still-listed, key-list-full]\n")
	if err != nil {
		t.Fatal(err)
	}
	if m := append(p.JudgeKeyList("x", 1, 1), p.JudgeKey(KeyFacts{State: Lost, Listed: listed})...); len(m) > 0 {
		t.Errorf("left out, and told: %+v", m)
	}
}
