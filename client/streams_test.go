package client

import (
	"context"
	"errors"
	"net/http"
	"testing"
	"time"

	"plumlatch/core/wire"
)

// TestOpenStreamElsewhere: behind an address that leads to several replicas it is asked again, over another connection each
// time, until one has the instance's agent; and no longer than somebody waits.
func TestOpenStreamElsewhere(t *testing.T) {
	elsewhere := answer(http.StatusConflict, wire.Problem{Type: "/problems/agent-elsewhere", Detail: "another replica has it", RequestID: "r-1"})
	s, c := script(t, elsewhere, elsewhere, answer(http.StatusCreated, wire.StreamBegun{ID: 7, Secret: "x"}))
	opened, err := c.OpenStream(t.Context(), "ticket-gate-1", wire.NewStream{})
	if err != nil || opened.ID != 7 {
		t.Fatalf("%+v %v", opened, err)
	}
	from := map[string]bool{}
	for _, r := range s.requests() {
		from[r.RemoteAddr] = true
	}
	if len(from) != 3 {
		t.Errorf("it was asked over %d connections, and not 3", len(from))
	}
	_, c = script(t, elsewhere)
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	if _, err := c.OpenStream(ctx, "ticket-gate-1", wire.NewStream{}); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("nobody waits any more: %v", err)
	}
	s, c = script(t, answer(http.StatusConflict, wire.Problem{Type: "/problems/stream-shut", RequestID: "r-1"}))
	if _, err := c.OpenStream(t.Context(), "ticket-gate-1", wire.NewStream{}); err == nil || len(s.requests()) != 1 {
		t.Errorf("another refusal: %v, asked %d times", err, len(s.requests()))
	}
}
