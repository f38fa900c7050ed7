package api

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"plumlatch/core/wire"
	"plumlatch/service/store"
)

// Some requests cost others: they ask instances or clouds, or read much of the
// database. Each operator has a few of them at a time, and so many a minute;
// viewers the fewest, as their word changes nothing and anybody's token may be
// one. It is counted in each replica.

// bound is how much of what is costly one operator may ask for.
type bound struct {
	atOnce int
	minute float64 // in a minute
	burst  float64 // at first
}

var (
	viewerBound = bound{atOnce: 3, minute: 60, burst: 30}
	editorBound = bound{atOnce: 12, minute: 600, burst: 200}
)

// bounds counts what operators ask for. The zero value is ready for use.
type bounds struct {
	mu   sync.Mutex
	each map[int64]*asked
}

type asked struct {
	running int
	left    float64 // of the burst
	at      time.Time
}

// begin takes one request's place; the reason says why there is none.
func (b *bounds) begin(operator int64, limit bound, now time.Time) (end func(), wait time.Duration, reason string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.each == nil {
		b.each = map[int64]*asked{}
	}
	a := b.each[operator]
	if a == nil {
		a = &asked{left: limit.burst, at: now}
		b.each[operator] = a
	}
	a.left = min(limit.burst, a.left+now.Sub(a.at).Minutes()*limit.minute)
	a.at = now
	switch {
	case a.running >= limit.atOnce:
		return nil, time.Second, fmt.Sprintf("%d requests of this sort are at hand for you already", limit.atOnce)
	case a.left < 1:
		return nil, time.Duration((1-a.left)/limit.minute*float64(time.Minute)) + time.Second,
			fmt.Sprintf("you have asked for much in a short time; %d a minute go", int(limit.minute))
	}
	a.running++
	a.left--
	return func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		a.running--
	}, 0, ""
}

// costly bounds a request by its operator.
func (s *Server) costly(c *gin.Context) {
	o := operator(c)
	limit := viewerBound
	if o.Role.Includes(store.Editor) {
		limit = editorBound
	}
	end, wait, reason := s.bounds.begin(o.ID, limit, time.Now())
	if end == nil {
		c.Header("Retry-After", fmt.Sprint(int(wait.Seconds())+1))
		busy.answer(c, wire.Problem{Detail: fmt.Sprintf("%s; try again in %d s", reason, int(wait.Seconds())+1)})
		return
	}
	defer end()
	c.Next()
}

// hashing lets two passwords be hashed at a time, since each takes 19 MiB; a few
// more wait a little. The zero value is ready for use.
type hashing struct {
	once  sync.Once
	slots chan struct{}
	queue chan struct{}
}

const (
	hashesAtOnce = 2
	hashesWait   = 8               // that wait for their turn
	hashWait     = 3 * time.Second // at most
)

var errBusyHashing = errors.New("too many sign in at this moment")

// begin waits for a turn. errBusyHashing.
func (h *hashing) begin(ctx context.Context) (end func(), err error) {
	h.once.Do(func() {
		h.slots, h.queue = make(chan struct{}, hashesAtOnce), make(chan struct{}, hashesAtOnce+hashesWait)
	})
	select {
	case h.queue <- struct{}{}:
	default:
		return nil, errBusyHashing
	}
	late := time.NewTimer(hashWait)
	defer late.Stop()
	select {
	case h.slots <- struct{}{}:
		return func() { <-h.slots; <-h.queue }, nil
	case <-ctx.Done():
		err = ctx.Err()
	case <-late.C:
		err = errBusyHashing
	}
	<-h.queue
	return nil, err
}
