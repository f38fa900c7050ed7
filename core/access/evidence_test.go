package access

import (
	"testing"
	"time"
)

func TestStanding(t *testing.T) {
	t0 := time.Date(2026, 3, 1, 6, 0, 0, 0, time.UTC)
	at := func(min int) time.Time { return t0.Add(time.Duration(min) * time.Minute) }
	yes := func(k Kind, min int) Observation { return Observation{Kind: k, Positive: true, At: at(min)} }
	no := func(k Kind, min int) Observation { return Observation{Kind: k, At: at(min)} }
	for _, c := range []struct {
		name    string
		obs     []Observation
		changed int
		want    Kind
		old     bool
		against Kind
	}{
		{"nothing known", nil, 0, None, false, None},
		{"placed only", []Observation{yes(Placed, 0)}, 0, Placed, false, None},
		{"accepted beats placed", []Observation{yes(Placed, 0), yes(Accepted, 1)}, 0, Accepted, false, None},
		{"an older accepted still beats a newer seen", []Observation{yes(Accepted, 1), yes(Seen, 2)}, 0,
			Accepted, false, None},
		{"a refusal takes accepted away, not placed",
			[]Observation{yes(Placed, 0), yes(Accepted, 1), no(Accepted, 2)}, 0, Placed, false, Accepted},
		{"a refusal takes proven away too", []Observation{yes(Placed, 0), yes(Proven, 1), no(Accepted, 2)}, 0, Placed,
			false, Accepted},
		{"a failed login leaves accepted", []Observation{yes(Accepted, 1), yes(Proven, 1), no(Proven, 2)}, 0,
			Accepted, false, Proven},
		{"accepted again after a refusal", []Observation{no(Accepted, 1), yes(Accepted, 2)}, 0, Accepted, false, None},
		{"not in the file: nothing is left", []Observation{yes(Placed, 0), yes(Accepted, 1), no(Seen, 2)}, 0,
			None, false, Seen},
		{"withdrawn by us", []Observation{yes(Placed, 0), yes(Accepted, 1), no(Placed, 2)}, 0, None, false, Placed},
		{"a write makes it old", []Observation{yes(Accepted, 1)}, 2, Accepted, true, None},
		{"fresh and weak beats old and strong", []Observation{yes(Proven, 1), yes(Seen, 3)}, 2, Seen, false, None},
		{"among old ones the strongest", []Observation{yes(Placed, 0), yes(Proven, 1)}, 5, Proven, true, None},
		{"a late report does not undo a newer one",
			[]Observation{yes(Accepted, 5), no(Accepted, 6), yes(Accepted, 4)}, 0, None, false, Accepted},
	} {
		var r Record
		for _, o := range c.obs {
			r.Add(o)
		}
		s := r.Standing(at(c.changed))
		if s.Shown.Kind != c.want || s.Old != c.old || s.Against.Kind != c.against {
			t.Errorf("%s: %v old=%v against=%v, want %v old=%v against=%v",
				c.name, s.Shown.Kind, s.Old, s.Against.Kind, c.want, c.old, c.against)
		}
	}
}

func TestKindWords(t *testing.T) {
	for k := None; k <= Proven; k++ {
		if got, err := ParseKind(k.String()); err != nil || got != k {
			t.Errorf("%v reads back as %v, %v", k, got, err)
		}
	}
	if _, err := ParseKind("maybe"); err == nil {
		t.Error("an unknown word was read")
	}
}
