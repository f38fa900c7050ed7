package kinds

import "testing"

// TestHalts: every step and effect is listed, once.
func TestHalts(t *testing.T) {
	seen := map[string]bool{}
	for _, h := range Halts() {
		if seen[h] {
			t.Errorf("%s stands there twice", h)
		}
		seen[h] = true
	}
	for _, want := range []string{"launch/create/begin", "launch/create/launch/inside",
		"launch/create/undo/remove/after", "adopt/line/undo/withdraw/before", "remove/gone/end"} {
		if !seen[want] {
			t.Errorf("%s is missing", want)
		}
	}
}
