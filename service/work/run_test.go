package work

import (
	"errors"
	"log/slog"
	"strings"
	"testing"
)

// TestPanicIsAFailure: a step that panics makes its work go back, and says
// nothing of what it panicked with.
func TestPanicIsAFailure(t *testing.T) {
	var log strings.Builder
	r := &Run{Worker: &Worker{Log: slog.New(slog.NewTextHandler(&log, nil))}, at: "launch/create"}
	err := r.guarded(func(*Run) error { panic("a secret") })
	if _, ok := errors.AsType[Failure](err); !ok || strings.Contains(err.Error(), "secret") {
		t.Errorf("%v", err)
	}
	if !strings.Contains(log.String(), "launch/create") || strings.Contains(log.String(), "a secret") {
		t.Errorf("the log: %s", log.String())
	}
}

// TestHalts: every step and effect is listed, once.
func TestHalts(t *testing.T) {
	seen := map[string]bool{}
	for _, h := range Halts((&Worker{}).Kinds()) {
		if seen[h] {
			t.Errorf("%s stands there twice", h)
		}
		seen[h] = true
	}
	for _, want := range []string{"launch/create/begin", "launch/create/launch/inside", "launch/create/undo/remove/after", "adopt/line/undo/withdraw/before", "remove/gone/end"} {
		if !seen[want] {
			t.Errorf("%s is missing", want)
		}
	}
}
