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
	r := &Run{engine: &Engine{Log: slog.New(slog.NewTextHandler(&log, nil))}, at: "toy/a"}
	err := r.guarded(func(*Run) error { panic("a secret") })
	if _, ok := errors.AsType[Failure](err); !ok || strings.Contains(err.Error(), "secret") {
		t.Errorf("%v", err)
	}
	if !strings.Contains(log.String(), "toy/a") || strings.Contains(log.String(), "a secret") {
		t.Errorf("the log: %s", log.String())
	}
}
