package reach

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"
)

// Bounds of what one peer may cost. Whatever speaks to an instance goes through
// a line (its bytes are counted) and, once it is logged in, through a Client (its
// operations have a deadline each). Reaching one ends the connection: the peer
// loses its own answer, and nobody else notices.
var (
	// opLimit is the most that one operation may take: a read, a listing, a rename.
	opLimit = 15 * time.Second
	// lifeLimit is the most that one connection of the service may be held.
	lifeLimit = 10 * time.Minute
)

const (
	// quietBytes is what a peer may send beside what it was asked for: its part of
	// the handshake, keep-alives, a new key exchange.
	quietBytes = 1 << 20
	// opBytes is what it may send in answer to one operation that reads no file.
	opBytes = 1 << 20
	// folderBytes is as much of a folder's listing as is read: some 7,000 names.
	folderBytes = 1 << 20
)

// ErrFlood says that a server sent more than it was asked for.
var ErrFlood = errors.New("the server sends without end, and was cut off")

// line is a connection to a peer that may be hostile: it has a budget of bytes,
// which each operation sets anew, and looks how the peer begins (RFC 4253 section
// 4.2 lets other lines come first, but "SSH-" must come).
type line struct {
	net.Conn
	budget  sync.Mutex
	left    int64 // bytes that may come
	asked   int64 // of those, what the operations at hand may bring
	flooded atomic.Bool
	soft    atomic.Pointer[watch] // is told when its own budget is used up
	first   []byte
	carrier *line // of a connection through a jump host; its bytes are counted too
}

// watch is told once that some bytes have been read.
type watch struct {
	left atomic.Int64
	tell func()
	once sync.Once
}

func newLine(conn net.Conn) *line {
	return &line{Conn: conn, left: quietBytes}
}

// allow lets an operation bring n bytes, until disallow; several may be at hand.
func (l *line) allow(n int64) {
	for ; l != nil; l = l.carrier {
		l.budget.Lock()
		l.left, l.asked = l.left+withCodes(n), l.asked+withCodes(n)
		l.budget.Unlock()
	}
}

// disallow takes back what an operation has not brought.
func (l *line) disallow(n int64) {
	for ; l != nil; l = l.carrier {
		l.budget.Lock()
		l.asked -= withCodes(n)
		l.left = min(l.left, quietBytes+l.asked)
		l.budget.Unlock()
	}
}

// withCodes is what n bytes become on the wire: packets have lengths, padding and
// codes of their own.
func withCodes(n int64) int64 { return n + n/8 }

// take counts bytes that came; false if they are too many.
func (l *line) take(n int) bool {
	l.budget.Lock()
	defer l.budget.Unlock()
	l.left -= int64(n)
	return l.left >= 0
}

// errNotSSH says that something answered in another protocol.
var errNotSSH = errors.New("what answers there does not speak SSH")

const greetingKept = 1 << 10

func (l *line) Read(p []byte) (int, error) {
	n, err := l.Conn.Read(p)
	if w := l.soft.Load(); w != nil && w.left.Add(-int64(n)) < 0 {
		w.once.Do(w.tell)
	}
	if !l.take(n) {
		l.flooded.Store(true)
		l.Conn.Close()
		return 0, ErrFlood
	}
	if room := greetingKept - len(l.first); room > 0 && n > 0 {
		l.first = append(l.first, p[:min(room, n)]...)
	}
	if err != nil && len(l.first) > 0 && !bytes.HasPrefix(l.first, []byte("SSH-")) &&
		!bytes.Contains(l.first, []byte("\nSSH-")) {
		err = errNotSSH
	}
	return n, err
}

// Client is a connection that is logged in to an instance. Its operations end
// with their deadline, with the context that it was opened under, and with Close,
// whatever the server does or does not do.
type Client struct {
	*ssh.Client
	line *line
	ctx  context.Context
	once sync.Once
	end  func()
	gone atomic.Bool // the connection was cut
}

// newClient takes a logged-in connection over. The context ends it; so does life,
// if it is not 0.
func newClient(ctx context.Context, c *ssh.Client, l *line, life time.Duration) *Client {
	out := &Client{Client: c, line: l}
	cancel := func() {}
	if life > 0 {
		ctx, cancel = context.WithTimeout(ctx, life)
	}
	out.ctx = ctx
	stop := context.AfterFunc(ctx, func() { out.cut() })
	out.end = func() { stop(); cancel() }
	return out
}

// cut ends the connection under whatever waits for it: the bytes first, since a
// channel may be closed only when the server agrees.
func (c *Client) cut() {
	c.gone.Store(true)
	c.line.Close()
	for l := c.line.carrier; l != nil; l = l.carrier {
		l.Close()
	}
}

// Close ends the connection at once.
func (c *Client) Close() error {
	c.once.Do(func() {
		c.cut()
		_ = c.Client.Close()
		c.end()
	})
	return nil
}

// Broken tells whether the connection behind a way is gone: what was asked on it
// since was not answered, and says nothing.
func Broken(f Files) bool {
	switch f := f.(type) {
	case *remembering:
		return Broken(f.Files)
	case ownedFiles:
		return Broken(f.Files)
	case *sftpFiles:
		return f.c.gone.Load() || f.c.ctx.Err() != nil
	}
	return false
}

// within does something that the server has a part in. It ends, at the latest,
// limit after it began, when ctx ends, or when more than bytes have come: the
// connection is gone then, and the error says why.
func (c *Client) within(ctx context.Context, limit time.Duration, bytes int64, f func() error) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	c.line.allow(bytes)
	late := false
	var mu sync.Mutex
	timer := time.AfterFunc(limit, func() { mu.Lock(); late = true; mu.Unlock(); c.cut() })
	stop := context.AfterFunc(ctx, c.cut)
	err := f()
	timer.Stop()
	stop()
	c.line.disallow(bytes)
	mu.Lock()
	defer mu.Unlock()
	switch {
	case err == nil:
	case c.line.flooded.Load():
		c.gone.Store(true)
		err = ErrFlood
	case late:
		err = fmt.Errorf("%w (%s)", errInTime, limit)
	case ctx.Err() != nil:
		err = ctx.Err()
	case c.ctx.Err() != nil:
		err = c.ctx.Err()
	case errors.Is(err, net.ErrClosed): // by the SSH package, which found the other end gone
		err = errLost
	}
	return err
}

// session opens a channel and starts a command on it; the caller ends it by
// closing the session, within the bounds of within.
func (c *Client) start(command string, in io.Reader, out, said *bounded) (*ssh.Session, error) {
	session, err := c.Client.NewSession()
	if err != nil {
		return nil, err
	}
	session.Stdin, session.Stdout = in, out
	if said != nil {
		session.Stderr = said
	}
	return session, session.Start(command)
}

// run runs a command, at most for limit: then, as when ctx ends, the connection
// is cut, since the server need not let a channel go.
func (c *Client) run(ctx context.Context, command string, limit time.Duration, out, said *bounded) error {
	return c.feed(ctx, command, nil, limit, out, said)
}

// feed is run of a command that reads something.
func (c *Client) feed(ctx context.Context, command string, in io.Reader, limit time.Duration, out, said *bounded) error {
	size := int64(out.limit)
	if said != nil {
		size += int64(said.limit)
	}
	return c.within(ctx, limit, size, func() error {
		session, err := c.start(command, in, out, said)
		if err != nil {
			return err
		}
		defer session.Close()
		return session.Wait()
	})
}
