package streams

import (
	"context"
	"time"
)

func init() { lookEvery, unaskedFor = 50*time.Millisecond, 3*time.Second }

// SetClock has idle times and lengths told by another clock. It is called before a stream is opened.
func (s *Service) SetClock(clock func() time.Time) { s.clock = clock }

// Live is how many streams are carried.
func (s *Service) Live() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.live)
}

// MetNobody forgets which host keys were met.
func (s *Service) MetNobody() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.met = nil
}

// ForgetKeys is what is done now and then.
func (s *Service) ForgetKeys(ctx context.Context) error { return s.forgetKeys(ctx) }
