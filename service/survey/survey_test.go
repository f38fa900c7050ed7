package survey_test

import (
	"crypto/sha256"
	"encoding/base64"
	"slices"
	"strings"
	"testing"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/keypair"
	"plumlatch/core/wire"
	"plumlatch/service/kinds"
	"plumlatch/service/kinds/kindtest"
	"plumlatch/service/store"
)

// TestSurvey: wherever the replica is killed that surveys many, another one comes to the same: what
// stands in the files is known, once, and what stands there no more is known to be gone.
func TestSurvey(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	h.Launch("berth-1", "first")
	h.Launch("berth-2", "first")
	survey := func(h *kindtest.House) (store.Work, error) {
		return h.W.Survey.SurveyMany(h.Context(), kindtest.By, store.Once{}, wire.SurveyMany{All: true, Inside: true})
	}
	for _, point := range kinds.Halts() {
		if !strings.HasPrefix(point, "survey/") {
			continue
		}
		pair, err := keypair.Create(keypair.Ed25519, "stray")
		if err != nil {
			t.Fatal(err)
		}
		h.ByHand("berth-1", pair.Public.Line())
		w, came := h.Halted(point, survey)
		if !came {
			t.Fatalf("it does not come to %s", point)
		}
		h.GoOn()
		w = h.Done(w, nil)
		if want := "2 of 2 surveyed: 1 unrecorded, 0 missing, 0 expired; 0 could not be seen"; w.State != store.Done ||
			w.Outcome != want {
			t.Errorf("halted at %s it is %s: %s, not %s", point, w.State, w.Outcome, want)
		}
		seen := func() (there, gone int) {
			all, err := h.DB.SightingsOfKey(t.Context(), pair.Public.Fingerprint())
			if err != nil {
				t.Fatal(err)
			}
			for _, s := range all {
				if s.GoneAt == nil && s.Instance == "berth-1" && !s.Recorded {
					there++
				} else {
					gone++
				}
			}
			return there, gone
		}
		if there, gone := seen(); there != 1 || gone != 0 {
			t.Errorf("halted at %s, the key is seen %d times there, and %d times gone", point, there, gone)
		}
		h.ByHand("berth-1", "")
		if w = h.Done(survey(h)); w.State != store.Done {
			t.Errorf("%s: %s", w.State, w.Outcome)
		}
		if there, gone := seen(); there != 0 || gone != 1 {
			t.Errorf("halted at %s, the key that is gone is seen %d times there, and %d times gone", point, there, gone)
		}
	}
}

// TestSurveyThatIsCancelled keeps what was seen, and is over.
func TestSurveyThatIsCancelled(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	h.Key("first")
	h.Launch("berth-1", "first")
	w, _ := h.Halted("survey/look/begin", func(h *kindtest.House) (store.Work, error) {
		return h.W.Survey.SurveyMany(h.Context(), kindtest.By, store.Once{}, wire.SurveyMany{All: true})
	})
	if err := h.DB.CancelWork(t.Context(), kindtest.By, w); err != nil {
		t.Fatal(err)
	}
	h.GoOn()
	if w = h.Done(w, nil); w.State != store.Cancelled {
		t.Errorf("%s: %s", w.State, w.Outcome)
	}
	if w = h.Done(h.W.Survey.SurveyMany(t.Context(), kindtest.By, store.Once{}, wire.SurveyMany{All: true})); w.State != store.Done ||
		!strings.HasPrefix(w.Outcome, "1 of 1 surveyed") {
		t.Errorf("the next one: %s: %s", w.State, w.Outcome)
	}
}

// TestLoginsMended: times of an instance whose clock is wrong are mended, a day that is read again counts once, and an old log that
// has lost its beginning takes nothing away.
func TestLoginsMended(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	k := h.Key("first")
	i := h.Launch("berth-1", "first")
	now, err := h.DB.Now(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	const ahead = time.Hour
	clock := now.Add(ahead)
	use := wire.LoggedUse{LoginUser: "debian", Method: "publickey", Fingerprint: k.Fingerprint, From: "192.0.2.7", Trusted: true,
		Day: clock.Add(-48 * time.Hour).UTC().Format(time.DateOnly), Count: 4}
	use.First, _ = time.Parse(time.DateOnly, use.Day)
	use.Last = use.First.Add(time.Hour)
	since := use.First.Add(-time.Hour)
	read := func(count int, since time.Time, at time.Time) store.LastUse {
		t.Helper()
		u := use
		u.Count = count
		if _, err := h.W.Survey.TakeClientSurvey(t.Context(), kindtest.By, i, "a client", wire.ClientSurvey{Logins: &wire.LoginLog{Source: "journal", Since: &since,
			Clock: at, Uses: []wire.LoggedUse{u}}}); err != nil {
			t.Fatal(err)
		}
		all, err := h.DB.LastUses(t.Context(), []int64{i.ID}, "")
		if err != nil || len(all) != 1 {
			t.Fatalf("%+v %v", all, err)
		}
		return all[0]
	}
	near := func(what string, got, want time.Time) {
		t.Helper()
		if d := got.Sub(want); d > 5*time.Second || d < -5*time.Second {
			t.Errorf("%s: %s, and not %s", what, got, want)
		}
	}
	got := read(4, since, clock)
	near("the last use", got.LastAt, use.Last.Add(-ahead))
	if got.Count != 4 || !got.Trusted || got.Fingerprint != k.Fingerprint {
		t.Errorf("%+v", got)
	}
	log, err := h.DB.LogOf(t.Context(), i.ID)
	if err != nil || log == nil || log.Source != "journal" || log.Skew < 3590 || log.Skew > 3610 {
		t.Fatalf("%+v %v", log, err)
	}
	near("since", *log.Since, since.Add(-ahead))
	if got := read(2, use.Last, clock); got.Count != 4 { // what was before is in no log any more
		t.Errorf("read again, and shorter: %+v", got)
	}
	log, err = h.DB.LogOf(t.Context(), i.ID)
	if err != nil {
		t.Fatal(err)
	}
	near("since, still", *log.Since, since.Add(-ahead))
	if got := read(6, since, clock); got.Count != 6 {
		t.Errorf("read again, and longer: %+v", got)
	}
}

// TestJudgedByLog: a key that did not come in for the policy's time is told, as far as the log covers that time; an address from which
// nobody came in before is told, on whatever instance that was, and what the service itself did is nobody's.
func TestJudgedByLog(t *testing.T) {
	t.Parallel()
	h := kindtest.New(t)
	k, other := h.Key("first"), newPrint
	i, second := h.Launch("berth-1", "first"), h.Launch("berth-2", "first")
	now, err := h.DB.Now(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	day := func(ago int) time.Time { return now.UTC().AddDate(0, 0, -ago).Truncate(24 * time.Hour).Add(time.Hour) }
	read := func(i store.Instance, since time.Time, uses ...wire.LoggedUse) {
		t.Helper()
		for n := range uses {
			u := &uses[n]
			u.Last, u.Day, u.Count, u.Trusted, u.LoginUser, u.Method = u.First, u.First.Format(time.DateOnly), 1, true, "debian", "publickey"
		}
		if _, err := h.W.Survey.TakeClientSurvey(t.Context(), kindtest.By, i, "a client", wire.ClientSurvey{Logins: &wire.LoginLog{Source: "journal", Since: &since,
			Clock: now, Uses: uses}}); err != nil {
			t.Fatal(err)
		}
	}
	told := func(reason access.Reason) string {
		t.Helper()
		p, err := access.ReadPolicy("")
		if err != nil {
			t.Fatal(err)
		}
		for more := true; more; {
			if more, err = h.DB.Judge(t.Context(), p); err != nil {
				t.Fatal(err)
			}
		}
		all, _, err := h.DB.Matters(t.Context(), store.MatterQuery{Reason: string(reason), Page: store.Page{Limit: 100}})
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, m := range all {
			out = append(out, m.Instance+" "+m.About)
		}
		slices.Sort(out)
		return strings.Join(out, ", ")
	}
	h.Older(i, day(400))
	h.Older(second, day(400))
	use := wire.LoggedUse{Fingerprint: k.Fingerprint, From: "192.0.2.7", First: day(190)}
	read(i, day(200), use)
	read(second, day(170))
	if got := told(access.UnusedKey); got != "berth-1 debian "+k.Fingerprint {
		t.Errorf("not used for 190 days, and not known for more than 170 days: %s", got)
	}
	use.First = day(3)
	read(i, day(200), use)
	if got := told(access.UnusedKey) + told(access.NewAddress); got != "" {
		t.Errorf("used, and from an address that it used before: %s", got)
	}
	blob, err := h.DB.StewardPublic(t.Context(), i.ID)
	if err != nil {
		t.Fatal(err)
	}
	hash := sha256.Sum256(blob)
	steward := "SHA256:" + base64.RawStdEncoding.EncodeToString(hash[:])
	read(second, day(170),
		wire.LoggedUse{Fingerprint: k.Fingerprint, From: "192.0.2.7", First: day(2)}, // as on the other one
		wire.LoggedUse{Fingerprint: k.Fingerprint, From: "192.0.2.8", First: day(8)}, // a week ago
		wire.LoggedUse{Fingerprint: k.Fingerprint, From: "192.0.2.9", First: day(4)}, // then, and
		wire.LoggedUse{Fingerprint: k.Fingerprint, From: "192.0.2.9", First: day(1)}, // again
		wire.LoggedUse{Fingerprint: other, From: "2001:db8::1", First: day(1)})       // of a stranger's
	read(i, day(200), wire.LoggedUse{Fingerprint: steward, From: "192.0.2.77", First: day(1)},
		wire.LoggedUse{Fingerprint: k.Fingerprint, From: "192.0.2.9", First: day(1)})
	if got := told(access.NewAddress); got != "berth-2 192.0.2.9 debian, berth-2 2001:db8::1 debian" {
		t.Errorf("from new addresses: %s", got)
	}
}

// newPrint is the fingerprint of a key that is nobody's.
const newPrint = "SHA256:BBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBBB"
