// Package streams carries the bytes of SSH connections to instances for operators, who hold the keys: SSH runs from end to end, and what goes through here is
// its cipher text. It decides who may have one, to which instance, and for how long; it never reads one.
package streams

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/coder/websocket"

	"plumlatch/core/access"
	"plumlatch/core/plaintext"
	"plumlatch/core/streams"
	"plumlatch/core/why"
	"plumlatch/reach"
	"plumlatch/service/agents"
	"plumlatch/service/door"
	"plumlatch/service/store"
	"plumlatch/stream"
)

// Service carries streams. Its Agents carry those of instances whose port is shut.
type Service struct {
	*door.Service
	Agents *agents.Service

	mu     sync.Mutex
	live   map[int64]*live
	met    map[string]time.Time // where the recorded host key was met, and when
	rates  map[int64]*rate      // by operator
	clock  func() time.Time     // what idle times and lengths are told by; nil is time.Now
	closed bool
	done   sync.WaitGroup
}

// live is a stream that this replica carries.
type live struct {
	id       int64
	instance store.Instance
	operator string
	sum      [32]byte // of its secret
	signedIn []byte
	seenFrom string
	reason   string
	conn     *stream.Conn
	far      net.Conn
	rate     *rate
	address  string // of whoever opened it
	valid    func(context.Context) (bool, error)
	up, down atomic.Int64
	last     atomic.Int64 // when a byte went through, in seconds since 1970
	begun    time.Time
	asked    time.Time // when it was found out that it may go on; for watch alone
	stop     context.CancelFunc

	mu  sync.Mutex
	why streams.Why
}

// Times and limits. They are variables for the tests.
var (
	metFor     = time.Hour
	lookEvery  = 5 * time.Second
	lostEvery  = time.Minute
	firstWords = 10 * time.Second // for the server's identification
	flushLimit = 10 * time.Second
	unaskedFor = 5 * time.Minute // while the database is away a stream goes on, for so long
)

const (
	leastBuffer, mostBuffer = 512, 32 << 10
	maxReason               = 300 // runes
)

// Errors.
var (
	// ErrMayNot: the policy does not let this operator open a stream there.
	ErrMayNot = errors.New("the policy does not let you open a stream there (stream.who)")
	// ErrNotThere: the instance does not run, or is not ready.
	ErrNotThere = errors.New("it cannot be reached now")
	// ErrHostKey: no recorded host key was met there.
	ErrHostKey = errors.New("the recorded host key was not met there")
	// ErrNoWay: the way that was taken does not lead there.
	ErrNoWay = errors.New("no way leads there")
	// ErrShut is an ErrNoWay: the service makes no connection from its own address.
	ErrShut = fmt.Errorf("%w from the service's own address", ErrNoWay)
	// ErrElsewhere: another replica of the service has what is needed, the stream or the agent.
	ErrElsewhere = errors.New("another replica of the service has it")
	// ErrNoStream: there is no such stream, or it is another's.
	ErrNoStream = errors.New("there is no such stream, or it has ended")
)

// Ask is what an operator asks for.
type Ask struct {
	Instance   store.Instance
	OperatorID int64
	By         store.Actor
	Reason     string
	SignedIn   []byte                              // the hash of the token or session of whoever asks: nobody else carries it on
	Way        string                              // streams.ByService, streams.ByAgent, or "" for the agent where it can, and the service otherwise
	Valid      func(context.Context) (bool, error) // whether whoever asks is still signed in, with a role that may
}

// Opened is a stream that waits for its first connection.
type Opened struct {
	ID       int64
	Secret   string
	Way      string
	SeenFrom string // the address that the server sees
	Until    time.Time
}

// Open opens a stream: it asks the policy, meets the host key, connects to the server, and waits for its identification. FieldError, ErrMayNot, ErrNotThere,
// ErrHostKey, ErrNoWay, ErrElsewhere, store.ErrStreams, reach.ErrPolicy.
func (s *Service) Open(ctx context.Context, a Ask) (Opened, error) {
	policy, err := s.Policy(ctx)
	if err != nil {
		return Opened{}, err
	}
	i := a.Instance
	a.Reason = strings.TrimSpace(a.Reason)
	switch {
	case !policy.MayStream(a.By.Operator, i.Region, i.Tags):
		return Opened{}, ErrMayNot
	case policy.Stream.Reason && a.Reason == "":
		return Opened{}, door.FieldError{Field: "reason", Problem: "the policy asks for a reason (stream.reason)"}
	case len([]rune(a.Reason)) > maxReason || plaintext.HasControl(a.Reason):
		return Opened{}, door.FieldError{Field: "reason", Problem: fmt.Sprintf("a reason is one line of at most %d characters", maxReason)}
	case !slices.Contains([]string{"", streams.ByService, streams.ByAgent}, a.Way):
		return Opened{}, door.FieldError{Field: "way", Problem: "unknown way", Choices: []string{streams.ByService, streams.ByAgent}}
	case i.Phase != store.Ready || i.State != "running" || i.VanishedAt != nil:
		return Opened{}, fmt.Errorf("%w: it is %s, %s", ErrNotThere, cmp.Or(i.State, "of no known state"), i.Phase)
	}
	target, err := s.Target(ctx, i)
	if err != nil {
		return Opened{}, err
	}
	if len(target.HostKeys) == 0 {
		return Opened{}, fmt.Errorf("%w: none is recorded of %s", ErrHostKey, i.Name)
	}
	l := &live{instance: i, operator: a.By.Operator, signedIn: a.SignedIn, conn: stream.New(), address: a.By.Address, valid: a.Valid, begun: time.Now(), asked: time.Now(), rate: s.rateOf(a.OperatorID, policy)}
	// What is opened lasts longer than the request.
	life, stop := context.WithTimeout(context.Background(), time.Duration(policy.Stream.Longest)+time.Minute)
	l.stop = stop
	out, first, err := s.connect(ctx, life, a, l, target)
	if err == nil {
		out.ID, err = s.Store.BeginStream(ctx, a.By, store.Stream{InstanceID: i.ID, OperatorID: a.OperatorID, Instance: i.Name, Way: out.Way,
			Target: net.JoinHostPort(i.Address, strconv.Itoa(i.Port)), SeenFrom: out.SeenFrom, Reason: a.Reason}, policy.Stream.Each)
	}
	if err == nil {
		l.seenFrom, l.reason = out.SeenFrom, a.Reason
		l.id, out.Secret, out.Until = out.ID, rand.Text()+rand.Text(), l.begun.Add(time.Duration(policy.Stream.Longest))
		l.sum = sha256.Sum256([]byte(out.Secret))
		if !s.keep(l) {
			err = fmt.Errorf("%w: the service stops", ErrNotThere)
			s.ended(life, l, streams.Stopped)
		}
	}
	if err != nil {
		l.conn.Close()
		if l.far != nil {
			l.far.Close()
		}
		stop()
		return Opened{}, err
	}
	s.carry(life, l, first)
	return out, nil
}

// keep has a stream found by its ID, until it is over; false if the service stops.
func (s *Service) keep(l *live) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return false
	}
	if s.live == nil {
		s.live = map[int64]*live{}
	}
	s.live[l.id] = l
	s.done.Add(1)
	return true
}

// connect finds a way to the server, and returns the first bytes that it sent.
func (s *Service) connect(ctx, life context.Context, a Ask, l *live, target reach.Target) (out Opened, first []byte, err error) {
	i := a.Instance
	dial := func(life context.Context) (net.Conn, string, error) { return s.Reach.Carry(life, target) }
	out.Way = streams.ByService
	if a.Way == streams.ByAgent || a.Way == "" && s.Agents != nil && s.Agents.Streams(i.ID) {
		out.Way = streams.ByAgent
		dial = func(life context.Context) (net.Conn, string, error) { return s.Agents.Stream(life, i) }
	}
	if out.Way == streams.ByAgent && !s.Agents.Streams(i.ID) && s.Agents.StreamsElsewhere(ctx, i) {
		return out, nil, ErrElsewhere
	}
	if err := s.meet(ctx, i, out.Way, target, dial); err != nil {
		if errors.Is(err, ErrShut) && a.Way == "" && s.Agents != nil && s.Agents.StreamsElsewhere(ctx, i) {
			err = ErrElsewhere
		}
		return out, nil, err
	}
	if l.far, out.SeenFrom, err = dial(life); err != nil {
		return out, nil, s.noWay(ctx, out.Way, err)
	}
	// The server speaks first or not at all (RFC 4253 section 4.2): what does not begin as SSH gets to nobody, and nobody to it.
	late := time.AfterFunc(firstWords, func() { l.far.Close() })
	stop := context.AfterFunc(ctx, func() { l.far.Close() })
	first = make([]byte, 4)
	_, err = io.ReadFull(l.far, first)
	if !late.Stop() || !stop() || err != nil {
		return out, nil, fmt.Errorf("%w: the server says nothing", ErrNoWay)
	}
	if !bytes.Equal(first, []byte("SSH-")) {
		return out, nil, fmt.Errorf("%w: what answers there does not speak SSH", ErrNoWay)
	}
	return out, first, nil
}

// noWay words an error of a way; those that others decide by stay what they are.
func (s *Service) noWay(ctx context.Context, way string, err error) error {
	var no agents.Refused
	switch {
	case errors.Is(err, reach.ErrPolicy), errors.Is(err, agents.ErrAway), errors.As(err, &no):
		return err
	}
	as, words := ErrNoWay, plaintext.Line(plaintext.Cut(err.Error(), 200))
	if way == streams.ByService && !errors.Is(err, syscall.ECONNREFUSED) { // refused is that nothing listens: no rule helps
		as = ErrShut
	}
	if ctx.Err() != nil {
		words = "no answer in time"
	}
	return fmt.Errorf("%w: %s", as, words)
}

// meet makes a key exchange with the server, unless the service has met the recorded host key there within the last hour: whoever may adopt an instance writes
// any address and port, and a stream leads to nothing that is not that instance.
func (s *Service) meet(ctx context.Context, i store.Instance, way string, target reach.Target, dial func(context.Context) (net.Conn, string, error)) error {
	h := sha256.New()
	for _, k := range target.HostKeys {
		fmt.Fprintf(h, "%x\n", k)
	}
	place := fmt.Sprintf("%d %s %s:%d %x", i.ID, way, target.Address, target.Port, h.Sum(nil))
	s.mu.Lock()
	at := s.met[place]
	s.mu.Unlock()
	if time.Since(at) < metFor {
		return nil
	}
	var wrong error
	k := reach.KnockOver(ctx, func(ctx context.Context) (net.Conn, error) {
		conn, _, err := dial(ctx)
		wrong = err
		return conn, err
	}, target)
	switch {
	case wrong != nil:
		return s.noWay(ctx, way, wrong)
	case k.Reached == why.Silent && way == streams.ByService:
		return fmt.Errorf("%w: %s", ErrShut, k.Words())
	case k.Reached != why.Answers:
		return fmt.Errorf("%w: %s", ErrNoWay, k.Words())
	case !slices.ContainsFunc(target.HostKeys, func(b []byte) bool { return bytes.Equal(b, k.HostKey) }):
		return fmt.Errorf("%w: plumlatch why %s says what stands there", ErrHostKey, i.Name)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.met == nil {
		s.met = map[string]time.Time{}
	}
	for p, at := range s.met {
		if time.Since(at) >= metFor {
			delete(s.met, p)
		}
	}
	s.met[place] = time.Now()
	return nil
}

// Attach carries a stream over a connection, until that ends: the first one or a later one. Whoever attaches has the stream's secret, and is who opened it.
// ErrNoStream, ErrElsewhere; others say why the connection ended.
func (s *Service) Attach(ctx context.Context, id, operatorID int64, signedIn []byte, secret string, received uint64, conn *websocket.Conn) error {
	s.mu.Lock()
	l := s.live[id]
	s.mu.Unlock()
	sum := sha256.Sum256([]byte(secret))
	if l == nil {
		limited, cancel := context.WithTimeout(ctx, flushLimit)
		defer cancel()
		if open, err := s.Store.StreamOpen(limited, id, operatorID); err != nil || !open {
			return cmp.Or(err, ErrNoStream)
		}
		return ErrElsewhere
	}
	if !bytes.Equal(l.signedIn, signedIn) || subtle.ConstantTimeCompare(sum[:], l.sum[:]) != 1 {
		return ErrNoStream
	}
	switch valid, err := l.valid(ctx); {
	case err != nil:
		return err
	case !valid:
		l.end(streams.Token)
		return ErrNoStream
	}
	return l.conn.Accept(ctx, conn, received)
}

// end ends a stream; the first reason counts.
func (l *live) end(why streams.Why) {
	l.mu.Lock()
	if l.why == "" {
		l.why = why
	}
	why = l.why
	l.mu.Unlock()
	l.conn.End(why.Words())
}

// carry passes bytes on, both ways, until the stream is over: it has no goroutine of its own.
func (s *Service) carry(ctx context.Context, l *live, first []byte) {
	l.last.Store(time.Now().Unix())
	tooLong := context.AfterFunc(ctx, func() { l.end(streams.TooLong) })
	var left atomic.Int32
	left.Store(2)
	over := func() {
		if left.Add(-1) > 0 {
			return
		}
		l.end(streams.Closed)
		l.far.Close()
		tooLong()
		s.mu.Lock()
		delete(s.live, l.id)
		s.mu.Unlock()
		s.ended(ctx, l, l.why)
		l.stop()
		s.done.Done()
	}
	l.conn.AtEnd(func() { l.far.Close() }) // whoever opened it has ended it, or did not come back
	go func() {                            // to the server
		defer over()
		switch read, wrote := pass(l.far, l.conn, &l.up, l); {
		case read != nil:
			l.broke()
			return
		case wrote != nil:
			return // the server takes nothing more; what it still says is heard
		}
		if half, ok := l.far.(interface{ CloseWrite() error }); ok {
			_ = half.CloseWrite()
		}
	}()
	go func() { // and from it
		defer over()
		_, err := l.conn.Write(first)
		l.down.Add(int64(len(first)))
		if err == nil {
			read, wrote := pass(l.conn, l.far, &l.down, l)
			err = errors.Join(read, wrote)
		}
		if err != nil {
			l.broke()
			return
		}
		_ = l.conn.CloseWrite()
		_ = l.conn.Flush(ctx) // as long as whoever reads it takes: an idle one ends, too
	}()
}

// broke ends a stream after an error of one of its ends.
func (l *live) broke() {
	var over stream.Over
	switch err := l.conn.Err(); {
	case errors.As(err, &over), errors.Is(err, stream.ErrClosed):
		l.end(streams.Closed)
	case errors.Is(err, stream.ErrBroken):
		l.end(streams.Gone)
	default:
		l.end(streams.Broken)
	}
}

// buffers are what busy streams read with.
var buffers = sync.Pool{New: func() any { return new([mostBuffer]byte) }}

// pass copies, at the operator's rate. What waits for bytes waits with little: a great buffer is lent as long as what comes fills it.
func pass(to io.Writer, from io.Reader, count *atomic.Int64, l *live) (read, wrote error) {
	small := make([]byte, leastBuffer)
	buffer := small
	var lent *[mostBuffer]byte
	defer func() {
		if lent != nil {
			buffers.Put(lent)
		}
	}()
	for {
		n, err := from.Read(buffer)
		if n > 0 {
			l.rate.wait(n)
			if _, err := to.Write(buffer[:n]); err != nil {
				return nil, err
			}
			count.Add(int64(n))
			l.last.Store(time.Now().Unix())
			switch {
			case n == len(buffer) && lent == nil:
				lent = buffers.Get().(*[mostBuffer]byte)
				buffer = lent[:]
			case n < len(buffer) && lent != nil:
				buffers.Put(lent)
				buffer, lent = small, nil
			}
		}
		if err == io.EOF {
			return nil, nil
		}
		if err != nil {
			return err, nil
		}
	}
}

// watch looks again and again whether the streams that this replica carries may go on, all of them at once.
func (s *Service) watch(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(lookEvery):
		}
		s.mu.Lock()
		all := slices.Collect(maps.Values(s.live))
		s.mu.Unlock()
		if len(all) == 0 {
			continue
		}
		err := s.look(ctx, all)
		if err == nil || ctx.Err() != nil {
			continue
		}
		s.Log.Warn("whether streams may go on was not found out", "streams", len(all), "error", door.Words(err))
		for _, l := range all {
			if time.Since(l.asked) > unaskedFor {
				l.end(streams.Unasked)
			}
		}
	}
}

// look ends those that may not go on.
func (s *Service) look(ctx context.Context, all []*live) error {
	limited, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	var going []store.Going
	for _, l := range all {
		going = append(going, store.Going{ID: l.id, Up: l.up.Load(), Down: l.down.Load()})
	}
	policy, err := s.Policy(limited)
	if err != nil {
		return err
	}
	known, err := s.Store.StreamsGo(limited, going)
	if err != nil {
		return err
	}
	goes := map[int64]store.Goes{}
	for _, g := range known {
		goes[g.ID] = g
	}
	at := time.Now()
	if s.clock != nil {
		at = s.clock()
	}
	asked := map[string]bool{} // whoever has several is asked about once
	for _, l := range all {
		g, there := goes[l.id]
		who := string(l.signedIn) + l.address
		valid, is := asked[who]
		if !is {
			if valid, err = l.valid(limited); err != nil {
				return err
			}
			asked[who] = valid
		}
		l.asked = time.Now()
		switch {
		case !there:
			l.end(streams.Lost)
		case g.EndBy != "":
			l.end(streams.Cut)
		case !valid:
			l.end(streams.Token)
		case !policy.MayStream(l.operator, g.Region, g.Tags):
			l.end(streams.Policy)
		case at.Sub(l.begun) > time.Duration(policy.Stream.Longest):
			l.end(streams.TooLong)
		case at.Sub(time.Unix(l.last.Load(), 0)) > time.Duration(policy.Stream.Idle):
			l.end(streams.Idle)
		}
	}
	return nil
}

func (s *Service) ended(ctx context.Context, l *live, why streams.Why) {
	limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), flushLimit)
	defer cancel()
	if err := s.Store.EndStream(limited, l.id, l.up.Load(), l.down.Load(), why); err != nil {
		s.Log.Warn("the end of a stream was not kept", "stream", l.id, "error", door.Words(err))
	}
}

// Start watches over the streams of this replica, and ends what others left.
func (s *Service) Start() {
	s.Engine.Go(func() { s.watch(s.Engine.Base()) })
	s.Engine.Go(func() {
		for {
			if err := s.Store.LostStreams(s.Engine.Base()); err != nil && s.Engine.Base().Err() == nil {
				s.Log.Warn("streams of a service that was killed", "error", door.Words(err))
			}
			if err := s.forgetKeys(s.Engine.Base()); err != nil && s.Engine.Base().Err() == nil {
				s.Log.Warn("the key of a session was not forgotten", "error", door.Words(err))
			}
			select {
			case <-s.Engine.Base().Done():
				return
			case <-time.After(lostEvery):
			}
		}
	})
}

// forgetKeys forgets the pairs of sessions that open nothing any more.
func (s *Service) forgetKeys(ctx context.Context) error {
	ids, err := s.Store.SessionKeysOver(ctx)
	for _, id := range ids {
		k, e := s.Store.KeyByID(ctx, id)
		if e == nil {
			e = s.Store.ForgetKey(ctx, store.Service, k)
		}
		if !errors.Is(e, store.ErrNotFound) {
			err = errors.Join(err, e)
		}
	}
	return err
}

// Of returns what an open stream leads to, and the address that the server sees, for whoever opened it. ErrNoStream.
func (s *Service) Of(id int64, signedIn []byte) (i store.Instance, seenFrom, reason string, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	l := s.live[id]
	if l == nil || !bytes.Equal(l.signedIn, signedIn) {
		return i, "", "", ErrNoStream
	}
	return l.instance, l.seenFrom, l.reason, nil
}

// Close ends all streams, with a sentence, and waits until that is kept.
func (s *Service) Close() {
	s.mu.Lock()
	s.closed = true
	for _, l := range s.live {
		l.end(streams.Stopped)
	}
	s.mu.Unlock()
	s.done.Wait()
}

// rate is how fast the streams of one operator go, together. A nil one has no bound.
type rate struct {
	mu   sync.Mutex
	each float64 // bytes a second
	next time.Time
}

func (s *Service) rateOf(operator int64, p access.Policy) *rate {
	if p.Stream.Rate == 0 {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.rates == nil {
		s.rates = map[int64]*rate{}
	}
	r := s.rates[operator]
	if r == nil {
		r = &rate{}
		s.rates[operator] = r
	}
	r.mu.Lock()
	r.each = float64(p.Stream.Rate) * (1 << 20)
	r.mu.Unlock()
	return r
}

// wait waits until so many bytes may go.
func (r *rate) wait(n int) {
	if r == nil {
		return
	}
	r.mu.Lock()
	now := time.Now()
	if r.next.Before(now.Add(-100 * time.Millisecond)) {
		r.next = now.Add(-100 * time.Millisecond) // a little at once
	}
	r.next = r.next.Add(time.Duration(float64(n) / r.each * float64(time.Second)))
	until := r.next
	r.mu.Unlock()
	time.Sleep(time.Until(until))
}
