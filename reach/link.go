package reach

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"github.com/coder/websocket"

	"plumlatch/core/frames"
	"plumlatch/core/plaintext"
)

// Messages is a connection that carries whole messages.
type Messages interface {
	// Read returns the next one: at most frames.MaxFrame bytes.
	Read(ctx context.Context) ([]byte, error)
	Write(ctx context.Context, message []byte) error
	// Close ends the connection; the other end is told why, as far as that still goes.
	Close(reason string)
}

// OverWebSocket is a connection of binary messages (RFC 6455).
func OverWebSocket(conn *websocket.Conn) Messages {
	conn.SetReadLimit(frames.MaxFrame)
	return webSocket{conn}
}

type webSocket struct{ conn *websocket.Conn }

func (w webSocket) Read(ctx context.Context) ([]byte, error) {
	kind, message, err := w.conn.Read(ctx)
	if err == nil && kind != websocket.MessageBinary {
		err = fmt.Errorf("%w: a message of text", frames.ErrFrame)
	}
	return message, err
}

func (w webSocket) Write(ctx context.Context, message []byte) error {
	return w.conn.Write(ctx, websocket.MessageBinary, message)
}

func (w webSocket) Close(reason string) {
	_ = w.conn.Close(websocket.StatusPolicyViolation, plaintext.Cut(plaintext.Line(reason), 100))
	_ = w.conn.CloseNow()
}

// Link is one end of a connection with numbered channels (package frames). One end opens them, the other serves them; neither holds more
// of the other's bytes than flow control allows, and each write has a deadline.
type Link struct {
	conn  Messages
	serve func(ctx context.Context, ch *Channel, head []byte) // nil at the end that opens

	ctx     context.Context
	cancel  context.CancelCauseFunc
	writing sync.Mutex

	mu       sync.Mutex
	channels map[uint32]*Channel
	last     uint32
}

// Errors of a link.
var (
	// ErrLinkGone: the connection ended.
	ErrLinkGone = errors.New("the connection to the agent ended")
	// ErrLinkBusy: as many channels are open as there may be.
	ErrLinkBusy = errors.New("the agent has its hands full")
	// errReset: the other end gave the channel up.
	errReset = errors.New("the other end gave it up")
)

// writeLimit is how long one frame may take to be sent.
var writeLimit = 30 * time.Second

// NewLink makes an end of a connection. With serve, the other end opens the channels, each served in a goroutine of its own, and closed
// when serve returns. Run must be called.
func NewLink(ctx context.Context, conn Messages, serve func(ctx context.Context, ch *Channel, head []byte)) *Link {
	l := &Link{conn: conn, serve: serve, channels: map[uint32]*Channel{}}
	l.ctx, l.cancel = context.WithCancelCause(ctx)
	return l
}

// Run reads until the connection ends, and returns why it did. All channels end with it.
func (l *Link) Run() error {
	err := l.read()
	if cause := context.Cause(l.ctx); cause != nil {
		err = cause
	}
	reason := "over"
	if errors.Is(err, frames.ErrFrame) {
		reason = err.Error()
	}
	l.End(err)
	l.conn.Close(reason)
	l.mu.Lock()
	all := l.channels
	l.channels = map[uint32]*Channel{}
	l.mu.Unlock()
	for _, ch := range all {
		ch.fail(ErrLinkGone)
	}
	return err
}

// End ends the connection.
func (l *Link) End(why error) { l.cancel(why) }

// Done is closed once the connection ends.
func (l *Link) Done() <-chan struct{} { return l.ctx.Done() }

func (l *Link) read() error {
	for {
		message, err := l.conn.Read(l.ctx)
		if err != nil {
			return err
		}
		f, err := frames.Read(message)
		if err != nil {
			return err
		}
		if err := l.take(f); err != nil {
			return err
		}
	}
}

func (l *Link) take(f frames.Frame) error {
	l.mu.Lock()
	ch := l.channels[f.Channel]
	if f.Type == frames.Open {
		defer l.mu.Unlock()
		switch {
		case l.serve == nil:
			return fmt.Errorf("%w: it opens a channel", frames.ErrFrame)
		case f.Channel <= l.last:
			return fmt.Errorf("%w: channel %d comes twice", frames.ErrFrame, f.Channel)
		case len(l.channels) >= frames.MaxChannels:
			return fmt.Errorf("%w: more than %d channels", frames.ErrFrame, frames.MaxChannels)
		}
		l.last = f.Channel
		ch = newChannel(l, f.Channel)
		l.channels[f.Channel] = ch
		head := append([]byte(nil), f.Body...)
		go func() {
			l.serve(l.ctx, ch, head)
			ch.Close()
		}()
		return nil
	}
	known := f.Channel <= l.last
	l.mu.Unlock()
	switch {
	case ch == nil && known:
		return nil // it was given up here, and the other end does not know yet
	case ch == nil:
		return fmt.Errorf("%w: there is no channel %d", frames.ErrFrame, f.Channel)
	}
	return ch.take(f)
}

func (l *Link) write(f frames.Frame) error {
	message, err := f.Append(nil)
	if err != nil {
		return err
	}
	l.writing.Lock()
	defer l.writing.Unlock()
	ctx, cancel := context.WithTimeout(l.ctx, writeLimit)
	defer cancel()
	if err := l.conn.Write(ctx, message); err != nil {
		l.End(fmt.Errorf("%w: %w", ErrLinkGone, err))
		return ErrLinkGone
	}
	return nil
}

// Open opens a channel; the context ends it. ErrLinkGone, ErrLinkBusy.
func (l *Link) Open(ctx context.Context, head []byte) (*Channel, error) {
	l.writing.Lock() // numbers are written in their order
	l.mu.Lock()
	var err error
	switch {
	case l.ctx.Err() != nil:
		err = ErrLinkGone
	case len(l.channels) >= frames.MaxChannels || l.last == 1<<32-1:
		err = ErrLinkBusy
	}
	if err != nil {
		l.mu.Unlock()
		l.writing.Unlock()
		return nil, err
	}
	l.last++
	ch := newChannel(l, l.last)
	l.channels[ch.number] = ch
	l.mu.Unlock()
	message, err := frames.Frame{Type: frames.Open, Channel: ch.number, Body: head}.Append(nil)
	if err == nil {
		limited, cancel := context.WithTimeout(l.ctx, writeLimit)
		if err = l.conn.Write(limited, message); err != nil {
			l.End(fmt.Errorf("%w: %w", ErrLinkGone, err))
			err = ErrLinkGone
		}
		cancel()
	}
	l.writing.Unlock()
	if err != nil {
		l.forget(ch)
		return nil, err
	}
	ch.stop = context.AfterFunc(ctx, func() { ch.Reset(context.Cause(ctx)) })
	return ch, nil
}

func (l *Link) forget(ch *Channel) {
	l.mu.Lock()
	delete(l.channels, ch.number)
	l.mu.Unlock()
}

// Channel is one of a connection's channels: bytes both ways.
type Channel struct {
	link   *Link
	number uint32
	stop   func() bool

	mu     sync.Mutex
	wake   chan struct{} // closed, and made anew, when something changed
	flow   frames.Flow
	held   []byte // came and was not read
	ended  bool   // nothing more comes
	closed bool   // nothing more is sent
	err    error  // it is over
}

func newChannel(l *Link, number uint32) *Channel {
	return &Channel{link: l, number: number, flow: frames.NewFlow(), wake: make(chan struct{}), stop: func() bool { return true }}
}

// changed wakes whoever waits; mu is held.
func (ch *Channel) changed() {
	close(ch.wake)
	ch.wake = make(chan struct{})
}

func (ch *Channel) fail(err error) {
	ch.mu.Lock()
	if ch.err == nil {
		ch.err = err
	}
	ch.changed()
	ch.mu.Unlock()
	ch.stop()
}

func (ch *Channel) take(f frames.Frame) error {
	switch f.Type {
	case frames.Reset:
		reason := plaintext.Line(plaintext.Cut(string(f.Body), frames.MaxReason))
		ch.link.forget(ch)
		ch.fail(fmt.Errorf("%w: %s", errReset, reason))
		return nil
	}
	ch.mu.Lock()
	defer ch.mu.Unlock()
	switch f.Type {
	case frames.Data:
		if ch.ended {
			return fmt.Errorf("%w: data after the end of channel %d", frames.ErrFrame, f.Channel)
		}
		if err := ch.flow.Came(len(f.Body)); err != nil {
			return err
		}
		ch.held = append(ch.held, f.Body...)
	case frames.Window:
		if err := ch.flow.More(f.More); err != nil {
			return err
		}
	case frames.End:
		ch.ended = true
	}
	ch.changed()
	return nil
}

// Read reads what came. io.EOF after the other end has said that nothing more comes.
func (ch *Channel) Read(p []byte) (int, error) {
	for {
		ch.mu.Lock()
		switch {
		case len(ch.held) > 0:
			n := copy(p, ch.held)
			ch.held = ch.held[n:]
			if len(ch.held) == 0 {
				ch.held = nil
			}
			tell := ch.flow.Took(n)
			over := ch.err != nil || ch.ended
			ch.mu.Unlock()
			if tell > 0 && !over {
				if err := ch.link.write(frames.Frame{Type: frames.Window, Channel: ch.number, More: tell}); err != nil {
					return n, err
				}
			}
			return n, nil
		case ch.ended:
			ch.mu.Unlock()
			return 0, io.EOF
		case ch.err != nil:
			defer ch.mu.Unlock()
			return 0, ch.err
		}
		wake := ch.wake
		ch.mu.Unlock()
		<-wake
	}
}

// Write sends bytes, and waits while the other end takes none.
func (ch *Channel) Write(p []byte) (sent int, err error) {
	for len(p) > 0 {
		ch.mu.Lock()
		if ch.err != nil || ch.closed {
			err := ch.err
			ch.mu.Unlock()
			return sent, errors.Join(err, io.ErrClosedPipe)
		}
		n := ch.flow.May(len(p))
		if n == 0 {
			wake := ch.wake
			ch.mu.Unlock()
			<-wake
			continue
		}
		ch.flow.Sent(n)
		ch.mu.Unlock()
		if err := ch.link.write(frames.Frame{Type: frames.Data, Channel: ch.number, Body: p[:n]}); err != nil {
			return sent, err
		}
		sent, p = sent+n, p[n:]
	}
	return sent, nil
}

// CloseWrite says that nothing more comes from this end.
func (ch *Channel) CloseWrite() error {
	ch.mu.Lock()
	over := ch.closed || ch.err != nil
	ch.closed = true
	ch.mu.Unlock()
	if over {
		return nil
	}
	return ch.link.write(frames.Frame{Type: frames.End, Channel: ch.number})
}

// Close ends the channel here: what this end had to say was said, and what still comes is not read.
func (ch *Channel) Close() {
	_ = ch.CloseWrite()
	ch.mu.Lock()
	whole := ch.ended
	ch.mu.Unlock()
	if !whole {
		ch.Reset(io.ErrClosedPipe)
		return
	}
	ch.link.forget(ch)
	ch.fail(io.ErrClosedPipe)
}

// Reset gives the channel up; the other end is told why.
func (ch *Channel) Reset(why error) {
	ch.mu.Lock()
	over := ch.err != nil
	ch.mu.Unlock()
	ch.link.forget(ch)
	ch.fail(why)
	if !over {
		_ = ch.link.write(frames.Frame{Type: frames.Reset, Channel: ch.number, Body: []byte(plaintext.Cut(plaintext.Line(why.Error()), frames.MaxReason/4))}) // of four bytes at most
	}
}
