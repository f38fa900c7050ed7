package names

import (
	"slices"
	"testing"
)

func TestNear(t *testing.T) {
	all := []string{"berth-board-1", "berth-board-2", "tide-gauge-1", "Ticket-Gate-1", "a"}
	for wrong, want := range map[string][]string{
		"berth-bord-1": {"berth-board-1", "berth-board-2"}, "board": {"berth-board-1", "berth-board-2"},
		"ticket-gate-l": {"Ticket-Gate-1"}, "fare-ledger": nil, "": nil, "tide-guage-1": {"tide-gauge-1"},
	} {
		if got := Near(wrong, all, 3); !slices.Equal(got, want) {
			t.Errorf("%q: %v", wrong, got)
		}
	}
	if got := Near("b", []string{"b1", "b2", "b3", "b4"}, 2); len(got) != 2 {
		t.Errorf("%v", got)
	}
}
