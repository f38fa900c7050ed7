package store

import (
	"testing"
	"time"
)

// TestClock: what the database told is counted on for a while, and never beyond what it would say.
func TestClock(t *testing.T) {
	var c clock
	if _, ok := c.now(); ok {
		t.Error("a time that nobody told")
	}
	told := time.Date(2031, 5, 1, 3, 0, 0, 0, time.UTC)
	c.set(told)
	first, ok := c.now()
	if !ok || first.Before(told) {
		t.Errorf("%v %t", first, ok)
	}
	second, _ := c.now()
	if second.Before(first) {
		t.Errorf("it went back: %v after %v", second, first)
	}
	c.received = c.received.Add(-clockLife)
	if now, ok := c.now(); ok {
		t.Errorf("%v, told too long ago", now)
	}
}
