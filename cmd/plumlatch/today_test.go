package main

import (
	"fmt"
	"slices"
	"testing"

	"plumlatch/core/wire"
)

// TestGrouped: lines that say the same of more than three instances stand together, by the first of
// them; each stands alone where somebody asked for lines of one sort.
func TestGrouped(t *testing.T) {
	t.Parallel()
	var all []wire.Matter
	add := func(n int, reason, key string) {
		for range n {
			id := int64(len(all) + 1)
			all = append(all, wire.Matter{ID: id, Reason: reason, Key: key, Instance: fmt.Sprintf("berth-%d", id)})
		}
	}
	add(5, "sole-opener", "day-crew")   // 1 to 5
	add(3, "sole-opener", "night-crew") // too few
	add(4, "password-login", "")        // 9 to 12
	all = append(all, wire.Matter{ID: 13, Reason: "journal-broken"})
	groups := grouped(all, false)
	if got := groups[1].more; !slices.Equal(got, []string{"berth-2", "berth-3", "berth-4", "berth-5"}) {
		t.Errorf("with the first: %q", got)
	}
	for id := int64(1); id <= 13; id++ {
		if left, want := groups[id].left, id >= 2 && id <= 5 || id >= 10 && id <= 12; left != want {
			t.Errorf("line %d is left out: %t", id, left)
		}
	}
	if got := grouped(all, true); len(got) != 0 {
		t.Errorf("asked for: %v", got)
	}
}
