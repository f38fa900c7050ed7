package reach

import (
	"sync"
	"time"
)

// Budget bounds how often one server (address and port) is probed: each connection is a line in
// the server's log, and too many look like an attack to what watches it. The
// zero value is a good one; nil has no bound.
type Budget struct {
	// Burst is how many connections may come at once; 40 if 0. One is given
	// back every Every; 3 s if 0.
	Burst int
	Every time.Duration

	mu   sync.Mutex
	used map[string]spent
}

type spent struct {
	n  float64
	at time.Time
}

const (
	defaultBurst = 40
	defaultEvery = 3 * time.Second
	maxTracked   = 100_000
)

// take counts a connection to a server, and returns 0, or how long to wait
// until one is allowed.
func (b *Budget) take(place string, now time.Time) time.Duration {
	if b == nil {
		return 0
	}
	burst, every := b.Burst, b.Every
	if burst == 0 {
		burst = defaultBurst
	}
	if every == 0 {
		every = defaultEvery
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.used == nil || len(b.used) > maxTracked {
		b.used = map[string]spent{}
	}
	s := b.used[place]
	s.n = max(0, s.n-now.Sub(s.at).Seconds()/every.Seconds())
	s.at = now
	if s.n+1 > float64(burst) {
		b.used[place] = s
		return time.Duration((s.n + 1 - float64(burst)) * float64(every))
	}
	s.n++
	b.used[place] = s
	return 0
}
