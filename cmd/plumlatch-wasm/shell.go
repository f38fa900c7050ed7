//go:build js && wasm

package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"syscall/js"
	"time"

	"github.com/coder/websocket"

	"plumlatch/core/keypair"
	"plumlatch/shell"
	"plumlatch/stream"
)

// What is kept here between calls: pairs, whose private halves no call gives back, and shells.
var (
	keeping sync.Mutex
	number  int
	pairs   = map[int]*keypair.Pair{}
	shells  = map[int]*open{}
)

type open struct {
	conn   *stream.Conn
	shell  *shell.Shell
	in     io.Writer
	cancel context.CancelFunc
	end    func(code, reason string)

	mu    sync.Mutex
	typed []byte        // that was not sent yet
	some  chan struct{} // told when there is some
	shown int           // bytes that the page was given and has not drawn
	drawn chan struct{} // told when it has
	moves map[int]*transfer
}

// mostShown is how many bytes the page may have and not have drawn: what more comes waits at the server.
const mostShown = 128 << 10

const openLimit = 30 * time.Second

// keyOpen keeps the pair of a private file for the calls that open with it: {file, passphrase}. The file's bytes are cleared here.
func keyOpen(in js.Value) (map[string]any, error) {
	file := data(in, "file")
	defer clear(file)
	f, err := keypair.Read(file, []byte(text(in, "passphrase")))
	if err != nil {
		return nil, err
	}
	if f.Pair == nil {
		if f.Private {
			return nil, keypair.ErrPassphrase
		}
		return nil, errors.New("the file holds a public half only: a private one opens an instance")
	}
	return keepPair(f.Pair), nil
}

// keyMake makes a pair for one session: its private half never leaves the worker.
func keyMake(js.Value) (map[string]any, error) {
	p, err := keypair.Create(keypair.Ed25519, "session")
	if err != nil {
		return nil, err
	}
	return keepPair(p), nil
}

func keepPair(p *keypair.Pair) map[string]any {
	keeping.Lock()
	defer keeping.Unlock()
	number++
	pairs[number] = p
	out := describePublic(p.Public)
	out["pair"] = number
	return out
}

// keyForget lets a pair go: {pair}.
func keyForget(in js.Value) (map[string]any, error) {
	keeping.Lock()
	defer keeping.Unlock()
	delete(pairs, in.Get("pair").Int())
	return map[string]any{}, nil
}

// shellOpen opens a terminal over a stream: {stream, secret, pair, user, hostKeys, columns, rows}. What comes of it is posted: {shell, data}, {shell, line} when
// the connection breaks and is there again, {shell, over} with why it ended. A server that does not take the key is answered with {refused: why}.
func shellOpen(in js.Value) (map[string]any, error) {
	keeping.Lock()
	pair := pairs[in.Get("pair").Int()]
	keeping.Unlock()
	if pair == nil {
		return nil, errors.New("the key was let go; choose it again")
	}
	signer, err := pair.Signer()
	if err != nil {
		return nil, err
	}
	o := shell.Options{User: text(in, "user"), Signer: signer, Limit: openLimit}
	for n := range in.Get("hostKeys").Length() {
		p, err := keypair.ReadPublic([]byte(in.Get("hostKeys").Index(n).String()))
		if err != nil {
			return nil, errors.New("the service's record of the host key cannot be read")
		}
		o.HostKeys = append(o.HostKeys, p.Blob)
	}
	location := js.Global().Get("location")
	scheme := "ws"
	if location.Get("protocol").String() == "https:" {
		scheme = "wss"
	}
	at := fmt.Sprintf("%s://%s/api/v1/streams/%d/bytes", scheme, location.Get("host").String(), in.Get("stream").Int())
	ctx, cancel := context.WithCancel(context.Background())
	s := &open{conn: stream.New(), cancel: cancel, drawn: make(chan struct{}, 1), some: make(chan struct{}, 1), moves: map[int]*transfer{}}
	keeping.Lock()
	number++
	id := number
	shells[id] = s
	keeping.Unlock()
	var once sync.Once
	s.end = func(code, reason string) {
		once.Do(func() {
			cancel()
			s.conn.End("it was closed")
			keeping.Lock()
			delete(shells, id)
			keeping.Unlock()
			post(map[string]any{"shell": id, "over": reason, "code": code})
		})
	}
	s.conn.Line = func(connected bool) { post(map[string]any{"shell": id, "line": connected}) }
	go func() {
		err := s.conn.Keep(ctx, func(ctx context.Context) (*websocket.Conn, error) {
			c, _, err := websocket.Dial(ctx, at, nil)
			return c, err
		}, text(in, "secret"))
		s.end("stream", reasonOf(err))
	}()
	fail := func(err error) (map[string]any, error) {
		if over := s.conn.Err(); over != nil && !errors.Is(over, stream.ErrClosed) {
			err = over
		}
		s.end("login", err.Error())
		return nil, err
	}
	if s.shell, err = shell.Open(ctx, s.conn, o); errors.Is(err, shell.ErrRefused) && errors.Is(cmp.Or(s.conn.Err(), stream.ErrClosed), stream.ErrClosed) {
		s.end("login", err.Error())
		return map[string]any{"refused": err.Error()}, nil // a key that was lent may be taken a little later
	}
	if err != nil {
		return fail(err)
	}
	t, err := s.shell.Start(in.Get("columns").Int(), in.Get("rows").Int())
	if err != nil {
		return fail(err)
	}
	s.in = t.In
	go s.send(ctx)
	go s.show(ctx, id, t.Out)
	return map[string]any{"shell": id}, nil
}

func reasonOf(err error) string {
	var over stream.Over
	if errors.As(err, &over) {
		return over.Reason
	}
	return err.Error()
}

func post(message map[string]any) { js.Global().Call("postMessage", message) }

// show gives the page what comes, as fast as it draws it.
func (s *open) show(ctx context.Context, id int, out io.Reader) {
	b := make([]byte, 32<<10)
	for {
		n, err := out.Read(b)
		if n > 0 {
			post(map[string]any{"shell": id, "data": array(b[:n])})
			s.mu.Lock()
			s.shown += n
			for s.shown > mostShown && ctx.Err() == nil {
				s.mu.Unlock()
				select {
				case <-s.drawn:
				case <-ctx.Done():
				}
				s.mu.Lock()
			}
			s.mu.Unlock()
		}
		if err != nil {
			s.end("shell", s.shell.Wait())
			return
		}
	}
}

func shellOf(in js.Value) (*open, error) {
	keeping.Lock()
	defer keeping.Unlock()
	s := shells[in.Get("shell").Int()]
	if s == nil {
		return nil, errors.New("this session has ended")
	}
	return s, nil
}

// shellDrawn tells how much was drawn: {shell, bytes}.
func shellDrawn(in js.Value) (map[string]any, error) {
	s, err := shellOf(in)
	if err != nil {
		return map[string]any{}, nil // it is over
	}
	s.mu.Lock()
	s.shown -= in.Get("bytes").Int()
	s.mu.Unlock()
	select {
	case s.drawn <- struct{}{}:
	default:
	}
	return map[string]any{}, nil
}

// shellType sends what was typed: {shell, data}.
func shellType(in js.Value) (map[string]any, error) {
	s, err := shellOf(in)
	if err != nil {
		return nil, err
	}
	if s.in == nil {
		return nil, errors.New("the login is not over yet")
	}
	b := data(in, "data")
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.typed)+len(b) > mostTyped {
		return nil, errors.New("this is more than the server takes at one time: nothing of it was sent")
	}
	s.typed = append(s.typed, b...)
	select {
	case s.some <- struct{}{}:
	default:
	}
	return map[string]any{}, nil
}

// mostTyped is how much may wait for a server that takes nothing.
const mostTyped = 4 << 20

// send sends what is typed, in its order.
func (s *open) send(ctx context.Context) {
	for {
		select {
		case <-s.some:
		case <-ctx.Done():
			return
		}
		s.mu.Lock()
		b := s.typed
		s.typed = nil
		s.mu.Unlock()
		if _, err := s.in.Write(b); err != nil {
			return // whoever reads finds out
		}
	}
}

// shellResize tells the size of the terminal: {shell, columns, rows}.
func shellResize(in js.Value) (map[string]any, error) {
	s, err := shellOf(in)
	if err != nil || s.shell == nil {
		return map[string]any{}, nil
	}
	return map[string]any{}, s.shell.Resize(in.Get("columns").Int(), in.Get("rows").Int())
}

// shellClose ends a session: {shell}.
func shellClose(in js.Value) (map[string]any, error) {
	if s, err := shellOf(in); err == nil {
		s.end("closed", "")
	}
	return map[string]any{}, nil
}

// shellFiles lists a folder: {shell, folder}.
func shellFiles(in js.Value) (map[string]any, error) {
	s, err := shellOf(in)
	if err != nil {
		return nil, err
	}
	where, files, err := s.shell.Files(text(in, "folder"))
	if err != nil {
		return nil, err
	}
	out := []any{}
	for _, f := range files {
		out = append(out, map[string]any{"name": f.Name, "size": float64(f.Size), "folder": f.Folder, "mode": f.Mode.String(), "at": f.At.UTC().Format(time.RFC3339)})
	}
	return map[string]any{"where": where, "files": out}, nil
}

// transfer is a file on its way.
type transfer struct {
	cancel context.CancelFunc
	more   chan []byte // of one that goes up
}

const filePart = 256 << 10

// shellGet brings a file, in parts: {shell, name, part} has a function called with each, and waits for what it returns, so that no more is held than the page takes.
func shellGet(in js.Value) (map[string]any, error) {
	s, err := shellOf(in)
	if err != nil {
		return nil, err
	}
	id, ctx, end := s.move(in)
	defer end()
	w := &parts{take: func(b []byte) {
		post(map[string]any{"shell": in.Get("shell").Int(), "move": id, "part": array(b)})
	}}
	if err := s.shell.Get(ctx, text(in, "name"), w); err != nil {
		return nil, err
	}
	w.flush()
	return map[string]any{}, nil
}

func (s *open) move(in js.Value) (id int, ctx context.Context, end func()) {
	id = in.Get("move").Int()
	ctx, cancel := context.WithCancel(context.Background())
	s.mu.Lock()
	s.moves[id] = &transfer{cancel, make(chan []byte, 1)}
	s.mu.Unlock()
	return id, ctx, func() {
		cancel()
		s.mu.Lock()
		delete(s.moves, id)
		s.mu.Unlock()
	}
}

// parts gathers small writes.
type parts struct {
	b    []byte
	take func([]byte)
}

func (p *parts) Write(b []byte) (int, error) {
	if p.b = append(p.b, b...); len(p.b) >= filePart {
		p.flush()
	}
	return len(b), nil
}

func (p *parts) flush() {
	if len(p.b) > 0 {
		p.take(p.b)
		p.b = p.b[:0]
	}
}

// shellPut sends a file, whose parts come by shellPart: {shell, move, folder, name}.
func shellPut(in js.Value) (map[string]any, error) {
	s, err := shellOf(in)
	if err != nil {
		return nil, err
	}
	id, ctx, end := s.move(in)
	defer end()
	s.mu.Lock()
	m := s.moves[id]
	s.mu.Unlock()
	return map[string]any{}, s.shell.Put(ctx, text(in, "folder"), text(in, "name"), &coming{ctx: ctx, more: m.more})
}

// coming reads what the page sends.
type coming struct {
	ctx  context.Context
	more chan []byte
	b    []byte
}

func (c *coming) Read(p []byte) (int, error) {
	if len(c.b) == 0 {
		select {
		case b, some := <-c.more:
			if !some {
				return 0, io.EOF
			}
			c.b = b
		case <-c.ctx.Done():
			return 0, c.ctx.Err()
		}
	}
	n := copy(p, c.b)
	c.b = c.b[n:]
	return n, nil
}

// shellPart gives a part of a file that goes up; none is its end: {shell, move, data}. It returns when the part is taken.
func shellPart(in js.Value) (map[string]any, error) {
	s, err := shellOf(in)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	m := s.moves[in.Get("move").Int()]
	s.mu.Unlock()
	if m == nil {
		return nil, errors.New("this file is not on its way any more")
	}
	b := data(in, "data")
	if len(b) == 0 {
		close(m.more)
		return map[string]any{}, nil
	}
	select {
	case m.more <- b:
		return map[string]any{}, nil
	case <-time.After(time.Minute):
		return nil, errors.New("the server takes nothing more")
	}
}

// shellStop ends a file on its way: {shell, move}.
func shellStop(in js.Value) (map[string]any, error) {
	s, err := shellOf(in)
	if err != nil {
		return map[string]any{}, nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if m := s.moves[in.Get("move").Int()]; m != nil {
		m.cancel()
	}
	return map[string]any{}, nil
}
