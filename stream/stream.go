// Package stream carries the bytes of one SSH connection over a connection of messages that may break and be made again within half a minute (package
// streams says how). Both ends use it: the service, the client's program, and the page, where it is compiled for the browser. It knows nothing of SSH: what
// it carries it cannot read.
package stream

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"github.com/coder/websocket"

	"plumlatch/core/plaintext"
	"plumlatch/core/streams"
)

// Times. They are variables for the tests.
var (
	writeLimit = 30 * time.Second // for one message
	beatEvery  = 15 * time.Second // each end says at least this often that it is there
	silent     = 40 * time.Second // a connection of which nothing was heard for so long is broken
	takeUp     = streams.TakeUp
	overLimit  = 2 * time.Second // for telling the other end that it is over
)

// Errors.
var (
	// ErrClosed: this end closed it.
	ErrClosed = errors.New("the stream was closed here")
	// ErrBroken: the connection broke, and no other was made in time.
	ErrBroken = errors.New("the connection broke, and no other was made within 30 s")
)

// Over is the error after the other end has ended the stream.
type Over struct{ Reason string }

func (o Over) Error() string { return "the other end ended the stream: " + o.Reason }

// Refused is the error of an end that does not take this stream up.
type Refused struct{ Reason string }

func (r Refused) Error() string { return r.Reason }

// Conn is one end of a stream. It is safe for use by several goroutines: one that reads, one that writes, and others that end it. New makes one.
type Conn struct {
	// Line, if it is not nil, is told when a connection that Keep made begins and ends. It is set before Keep.
	Line func(connected bool)

	mu      sync.Mutex
	wake    chan struct{} // closed, and made anew, when something changed
	out     streams.Sender
	in      streams.Receiver
	drop    func()        // ends the one at hand; nil for none
	gone    chan struct{} // closed when it has ended
	err     error         // it is over
	reason  string        // that the other end is told
	closing bool          // nothing more is written here
	late    *time.Timer

	accepting sync.Mutex
	atEnd     func()
}

// New makes an end of a new stream. It waits for its first connection for as long as for a later one.
func New() *Conn {
	c := &Conn{wake: make(chan struct{})}
	c.late = time.AfterFunc(takeUp, func() { c.fail(ErrBroken, "") })
	return c
}

// changed wakes whoever waits; mu is held.
func (c *Conn) changed() {
	close(c.wake)
	c.wake = make(chan struct{})
}

func (c *Conn) fail(err error, reason string) {
	c.mu.Lock()
	if c.err == nil {
		c.err, c.reason = err, reason
		c.late.Stop()
		c.changed()
		if c.atEnd != nil {
			go c.atEnd()
		}
	}
	c.mu.Unlock()
}

// AtEnd has f called once it is over, at once if it is already.
func (c *Conn) AtEnd(f func()) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.atEnd = f; c.err != nil {
		go f()
	}
}

// Err returns why it is over; nil as long as it is not.
func (c *Conn) Err() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.err
}

// Done is closed at the end of ctx, or when the stream is over.
func (c *Conn) Done(ctx context.Context) error {
	for {
		c.mu.Lock()
		err, wake := c.err, c.wake
		c.mu.Unlock()
		if err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-wake:
		}
	}
}

// Received returns how many bytes came so far, for the Hello or the Welcome of the next connection.
func (c *Conn) Received() uint64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.in.Received()
}

// begin makes a connection that of the stream: the former one ends, and what the other end has not received is sent again. ErrFrame.
func (c *Conn) begin(received uint64) (ctx context.Context, end func(), err error) {
	for {
		c.mu.Lock()
		if c.err != nil {
			defer c.mu.Unlock()
			return nil, nil, c.err
		}
		drop, gone := c.drop, c.gone
		if drop == nil {
			break
		}
		c.mu.Unlock()
		drop()
		<-gone
	}
	defer c.mu.Unlock()
	if err := c.out.Again(received); err != nil {
		return nil, nil, err
	}
	c.in.Again()
	c.late.Stop()
	ctx, cancel := context.WithCancel(context.Background())
	gone := make(chan struct{})
	c.drop, c.gone = cancel, gone
	return ctx, func() {
		cancel()
		c.mu.Lock()
		c.drop = nil
		if c.err == nil {
			c.late = time.AfterFunc(takeUp, func() { c.fail(ErrBroken, "") })
		}
		c.mu.Unlock()
		close(gone)
	}, nil
}

// Accept takes a connection as the service: a Hello was read on it, which said how many bytes the other end has received. It says Welcome, and serves.
func (c *Conn) Accept(ctx context.Context, conn *websocket.Conn, received uint64) error {
	c.accepting.Lock() // what is said to have come has to be so until the connection is the stream's
	c.mu.Lock()
	drop, gone := c.drop, c.gone
	c.mu.Unlock()
	if drop != nil {
		drop()
		<-gone
	}
	text, err := json.Marshal(streams.Welcome{Received: c.Received()})
	if err == nil {
		limited, cancel := context.WithTimeout(ctx, writeLimit)
		err = conn.Write(limited, websocket.MessageText, text)
		cancel()
	}
	if err != nil {
		c.accepting.Unlock()
		conn.CloseNow()
		return err
	}
	return c.serve(ctx, conn, received, c.accepting.Unlock)
}

// Serve carries the stream over a connection, on which Hello and Welcome were said, until that ends: by itself, with ctx, or with the stream (Err). The
// other end has received so many bytes. It may be called again, with another connection.
func (c *Conn) Serve(ctx context.Context, conn *websocket.Conn, received uint64) error {
	return c.serve(ctx, conn, received, func() {})
}

func (c *Conn) serve(ctx context.Context, conn *websocket.Conn, received uint64, begun func()) error {
	defer conn.CloseNow()
	line, end, err := c.begin(received)
	begun()
	if err != nil {
		return err
	}
	defer end()
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	defer context.AfterFunc(line, func() { cancel(errors.New("another connection took its place")) })()
	heard := time.AfterFunc(silent, func() { cancel(errors.New("nothing was heard")) })
	defer heard.Stop()
	sent := make(chan error, 1)
	go func() {
		err := c.send(ctx, conn)
		sent <- err
		if c.Err() != nil { // what was sent last is lost if the connection goes before the other end has read it
			time.Sleep(overLimit / 4)
		}
		cancel(err)
	}()
	err = c.receive(ctx, conn, heard)
	if ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	if errors.Is(err, streams.ErrFrame) {
		c.fail(err, err.Error())
	}
	if c.Err() != nil { // the sender has one more thing to say
		select {
		case <-sent:
		case <-time.After(overLimit):
		}
		return c.Err()
	}
	cancel(err)
	<-sent
	return err
}

func (c *Conn) receive(ctx context.Context, conn *websocket.Conn, heard *time.Timer) error {
	conn.SetReadLimit(streams.MaxFrame)
	small := make([]byte, little)
	for {
		kind, r, err := conn.Reader(ctx)
		if err != nil {
			return err
		}
		message, lent, err := readAll(r, small)
		if err == nil {
			err = c.heard(kind, message, heard)
		}
		if lent != nil {
			messages.Put(lent)
		}
		if err != nil {
			return err
		}
		if c.Err() != nil {
			return nil
		}
	}
}

// heard takes a message of the other end's.
func (c *Conn) heard(kind websocket.MessageType, message []byte, heard *time.Timer) error {
	heard.Reset(silent)
	if kind != websocket.MessageBinary {
		return fmt.Errorf("%w: a message of text", streams.ErrFrame)
	}
	f, err := streams.Read(message)
	if err != nil {
		return err
	}
	if f.Type == streams.Over {
		c.fail(Over{plaintext.Line(string(f.Body))}, "")
		return nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	defer c.changed()
	if f.Type == streams.Ack {
		return c.out.Acked(f.Offset)
	}
	return c.in.Take(f)
}

// readAll reads a message into a small buffer, or into one that is lent for it.
func readAll(r io.Reader, small []byte) (message []byte, lent *[streams.MaxFrame]byte, err error) {
	n, err := io.ReadFull(r, small)
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		return small[:n], nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	lent = messages.Get().(*[streams.MaxFrame]byte)
	n = copy(lent[:], small)
	for n < len(lent) {
		more, err := r.Read(lent[n:])
		n += more
		if err == io.EOF {
			return lent[:n], lent, nil
		}
		if err != nil {
			return nil, lent, err
		}
	}
	switch _, err := r.Read(make([]byte, 1)); err { // the connection's limit is as much
	case io.EOF:
		return lent[:n], lent, nil
	case nil:
		return nil, lent, errors.New("a message is longer than any frame")
	default:
		return nil, lent, err
	}
}

// messages are what busy streams write with.
var messages = sync.Pool{New: func() any { return new([streams.MaxFrame]byte) }}

// little is what a stream reads with that is idle.
const little = 512

func (c *Conn) send(ctx context.Context, conn *websocket.Conn) error {
	var lent *[streams.MaxFrame]byte // what waits waits without one
	var message []byte
	back := func() {
		if lent != nil {
			messages.Put(lent)
			lent, message = nil, nil
		}
	}
	defer back()
	write := func(f streams.Frame) (err error) {
		if lent == nil {
			lent = messages.Get().(*[streams.MaxFrame]byte)
		}
		message, err = f.Encode(lent[:0])
		return err
	}
	put := func(limit time.Duration) error {
		limited, cancel := context.WithTimeout(ctx, limit)
		defer cancel()
		return conn.Write(limited, websocket.MessageBinary, message)
	}
	beat := time.NewTicker(beatEvery)
	defer beat.Stop()
	for {
		c.mu.Lock()
		wake, over, reason := c.wake, c.err, c.reason
		var f streams.Frame
		var some bool
		if over == nil {
			if f, some = c.in.Ack(); !some {
				f, some = c.out.Next()
			}
		}
		var err error
		if some {
			err = write(f) // its body is the sender's own
		}
		c.mu.Unlock()
		switch {
		case err != nil:
			return err
		case over != nil:
			var ended Over
			if errors.As(over, &ended) { // it knows
				return over
			}
			if err := write(streams.Frame{Type: streams.Over, Body: streams.Reason(reason)}); err != nil {
				return err
			}
			err := put(overLimit)
			return errors.Join(over, err)
		case some:
			if err := put(writeLimit); err != nil {
				return err
			}
			continue
		}
		back()
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-wake:
		case <-beat.C:
			c.mu.Lock()
			c.in.Beat()
			c.in.Rest()
			c.out.Rest()
			c.mu.Unlock()
		}
	}
}

// Read reads what came. io.EOF after the other end has said that nothing more comes.
func (c *Conn) Read(p []byte) (int, error) {
	if len(p) == 0 {
		return 0, nil
	}
	for {
		c.mu.Lock()
		n, done := c.in.Get(p)
		wake, err := c.wake, c.err
		if n > 0 {
			c.changed() // there may be something to acknowledge
		}
		c.mu.Unlock()
		switch {
		case n > 0:
			return n, nil
		case done:
			return 0, io.EOF
		case err != nil:
			return 0, err
		}
		<-wake
	}
}

// Write has bytes sent, and waits while the other end takes none.
func (c *Conn) Write(p []byte) (sent int, err error) {
	for len(p) > 0 {
		c.mu.Lock()
		err, wake := c.err, c.wake
		if c.closing && err == nil {
			err = ErrClosed
		}
		n := 0
		if err == nil {
			if n = c.out.Put(p); n > 0 {
				c.changed()
			}
		}
		c.mu.Unlock()
		switch {
		case err != nil:
			return sent, err
		case n == 0:
			<-wake
		}
		sent, p = sent+n, p[n:]
	}
	return sent, nil
}

// CloseWrite says that nothing more comes from this end; what was written is still sent.
func (c *Conn) CloseWrite() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.closing = true
	c.out.Close()
	c.changed()
	return c.err
}

// Flush waits until the other end has read what was written here.
func (c *Conn) Flush(ctx context.Context) error {
	for {
		c.mu.Lock()
		left, err, wake := c.out.Left(), c.err, c.wake
		c.mu.Unlock()
		switch {
		case err != nil:
			return err
		case !left:
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-wake:
		}
	}
}

// Close ends the stream for both ends; what was not sent is not sent any more.
func (c *Conn) Close() error {
	c.End("the other end closed it")
	return nil
}

// End ends the stream for both ends; the other one is told why.
func (c *Conn) End(reason string) { c.fail(ErrClosed, reason) }

// What net.Conn has besides. A stream has no deadlines of its own: whoever needs one ends it.

type address struct{}

func (address) Network() string { return "stream" }
func (address) String() string  { return "stream" }

// LocalAddr is of no use: a stream has no address.
func (c *Conn) LocalAddr() net.Addr { return address{} }

// RemoteAddr is of no use: a stream has no address.
func (c *Conn) RemoteAddr() net.Addr { return address{} }

// SetDeadline fails.
func (c *Conn) SetDeadline(time.Time) error { return errors.ErrUnsupported }

// SetReadDeadline fails.
func (c *Conn) SetReadDeadline(time.Time) error { return errors.ErrUnsupported }

// SetWriteDeadline fails.
func (c *Conn) SetWriteDeadline(time.Time) error { return errors.ErrUnsupported }

// Dial opens a connection.
type Dial func(ctx context.Context) (*websocket.Conn, error)

// Keep makes the connections of a stream, one after another, as whoever opened it: with the stream's secret, until it is over. It returns why it is.
func (c *Conn) Keep(ctx context.Context, dial Dial, secret string) error {
	defer context.AfterFunc(ctx, func() { c.fail(ErrClosed, "the other end went away") })()
	wait := 50 * time.Millisecond
	for {
		conn, received, err := c.hello(ctx, dial, secret)
		var no Refused
		if errors.As(err, &no) {
			c.fail(no, "")
		}
		if err == nil {
			wait = 50 * time.Millisecond
			c.tell(true)
			// ctx has ended the stream by then, and the other end is told.
			_ = c.Serve(context.WithoutCancel(ctx), conn, received)
			c.tell(false)
		}
		if err := c.Err(); err != nil {
			return err
		}
		limited, cancel := context.WithTimeout(ctx, wait)
		over := c.Done(limited)
		cancel()
		if c.Err() != nil {
			return over
		}
		wait = min(2*wait, 2*time.Second)
	}
}

func (c *Conn) tell(connected bool) {
	if c.Line != nil {
		c.Line(connected)
	}
}

// hello opens a connection and says whose stream it is to carry.
func (c *Conn) hello(ctx context.Context, dial Dial, secret string) (*websocket.Conn, uint64, error) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	conn, err := dial(ctx)
	if err != nil {
		return nil, 0, err
	}
	conn.SetReadLimit(streams.MaxHello)
	text, err := json.Marshal(streams.Hello{Secret: secret, Received: c.Received()})
	if err == nil {
		err = conn.Write(ctx, websocket.MessageText, text)
	}
	var w streams.Welcome
	if err == nil {
		if _, text, err = conn.Read(ctx); err == nil {
			err = json.Unmarshal(text, &w)
		}
	}
	if err == nil && w.Elsewhere {
		err = errors.New("another replica of the service carries it")
	}
	if err == nil && w.Refused != "" {
		err = Refused{plaintext.Line(plaintext.Cut(w.Refused, streams.MaxReason))}
	}
	if err != nil {
		conn.CloseNow()
		return nil, 0, err
	}
	return conn, w.Received, nil
}
