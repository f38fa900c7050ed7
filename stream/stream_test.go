package stream

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/coder/websocket"

	"plumlatch/core/streams"
)

// hub is a service with one stream, and a network that can be cut.
type hub struct {
	t      testing.TB
	conn   *Conn
	url    string
	mu     sync.Mutex
	open   []net.Conn
	cut    bool // nothing gets through
	served chan error
}

func newHub(t testing.TB) *hub {
	h := &hub{t: t, conn: New(), served: make(chan error, 1000)}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		conn, err := websocket.Accept(w, r, &websocket.AcceptOptions{CompressionMode: websocket.CompressionDisabled})
		if err != nil {
			return
		}
		_, text, err := conn.Read(context.Background())
		var hello streams.Hello
		if err != nil || json.Unmarshal(text, &hello) != nil {
			conn.CloseNow()
			return
		}
		if hello.Secret != "open" {
			text, _ := json.Marshal(streams.Welcome{Refused: "not yours"})
			_ = conn.Write(context.Background(), websocket.MessageText, text)
			conn.CloseNow()
			return
		}
		h.served <- h.conn.Accept(context.Background(), conn, hello.Received)
	}))
	h.url = server.URL
	t.Cleanup(func() { h.conn.Close(); h.sever(); server.Close() })
	return h
}

func (h *hub) sever() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, c := range h.open {
		c.Close()
	}
	h.open = nil
}

// dial is the other end's way there.
func (h *hub) dial(ctx context.Context) (*websocket.Conn, error) {
	transport := &http.Transport{DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
		h.mu.Lock()
		defer h.mu.Unlock()
		if h.cut {
			return nil, errors.New("no way there")
		}
		c, err := (&net.Dialer{}).DialContext(ctx, network, address)
		if err == nil {
			h.open = append(h.open, c)
		}
		return c, err
	}, DisableKeepAlives: true}
	c, _, err := websocket.Dial(ctx, h.url, &websocket.DialOptions{HTTPClient: &http.Client{Transport: transport}})
	return c, err
}

func (h *hub) client(secret string) (*Conn, chan error) {
	c, over := New(), make(chan error, 1)
	go func() { over <- c.Keep(h.t.Context(), h.dial, secret) }()
	h.t.Cleanup(func() { c.Close() })
	return c, over
}

// TestBothWays: bytes go both ways at once, whatever breaks, and each end can say that nothing more comes while it still reads.
func TestBothWays(t *testing.T) {
	for _, breaks := range []bool{false, true} {
		h := newHub(t)
		c, over := h.client("open")
		up, down := noise(3<<20), noise(2<<20)
		stop := make(chan struct{})
		if breaks {
			go func() {
				for range 40 { // each loses what is on its way; a slow machine is to come to an end too
					select {
					case <-stop:
						return
					case <-time.After(time.Duration(5+rand.IntN(40)) * time.Millisecond):
						h.sever()
					}
				}
			}()
		}
		var both sync.WaitGroup
		both.Go(func() {
			_, err := c.Write(up)
			if err := errors.Join(err, c.CloseWrite()); err != nil {
				t.Error(err)
			}
		})
		both.Go(func() {
			got, err := io.ReadAll(h.conn)
			if err != nil || !bytes.Equal(got, up) {
				t.Errorf("breaks %v: up came %d of %d, %v", breaks, len(got), len(up), err)
			}
			// Only now, as the other end has closed its half, does this one write.
			_, err = h.conn.Write(down)
			if err := errors.Join(err, h.conn.CloseWrite(), h.conn.Flush(t.Context())); err != nil {
				t.Error(err)
			}
			h.conn.End("all was said")
		})
		got, err := io.ReadAll(c)
		if err != nil || !bytes.Equal(got, down) {
			t.Errorf("breaks %v: down came %d of %d, %v", breaks, len(got), len(down), err)
		}
		both.Wait()
		close(stop)
		var ended Over
		if err := <-over; !errors.As(err, &ended) || ended.Reason != "all was said" {
			t.Errorf("breaks %v: over: %v", breaks, err)
		}
	}
}

func noise(n int) []byte {
	out := make([]byte, n)
	for i := range out {
		out[i] = byte(rand.Uint32())
	}
	return out
}

// TestSlowReader: who does not read stops who writes, and no more than a window is held.
func TestSlowReader(t *testing.T) {
	h := newHub(t)
	c, _ := h.client("open")
	sent := make(chan int, 1)
	go func() {
		n, _ := c.Write(make([]byte, 5<<20))
		sent <- n
	}()
	for deadline := time.Now().Add(10 * time.Second); h.conn.Received() < streams.Window && time.Now().Before(deadline); {
		time.Sleep(time.Millisecond)
	}
	time.Sleep(50 * time.Millisecond)
	if got := h.conn.Received(); got != streams.Window {
		t.Errorf("held are %d bytes", got)
	}
	c.Close()
	if n := <-sent; n > 2*streams.Window { // what is held at each end
		t.Errorf("sent were %d", n)
	}
}

// TestOver: why it is over is told to both, and both are let go.
func TestOver(t *testing.T) {
	t.Run("this end", func(t *testing.T) {
		h := newHub(t)
		c, over := h.client("open")
		if _, err := c.Write([]byte("x")); err != nil {
			t.Fatal(err)
		}
		_, _ = h.conn.Read(make([]byte, 1))
		c.End("enough\x1b[31m")
		var ended Over
		if _, err := h.conn.Read(make([]byte, 1)); !errors.As(err, &ended) || !strings.HasPrefix(ended.Reason, "enough") || strings.Contains(ended.Reason, "\x1b") {
			t.Errorf("the other end: %v", err)
		}
		if err := <-over; !errors.Is(err, ErrClosed) {
			t.Error(err)
		}
		if _, err := c.Write([]byte("x")); !errors.Is(err, ErrClosed) {
			t.Error(err)
		}
	})
	t.Run("refused", func(t *testing.T) {
		h := newHub(t)
		_, over := h.client("another")
		var no Refused
		if err := <-over; !errors.As(err, &no) || no.Reason != "not yours" {
			t.Error(err)
		}
	})
	t.Run("not taken up", func(t *testing.T) {
		was := takeUp
		takeUp = 100 * time.Millisecond
		defer func() { takeUp = was }()
		h := newHub(t)
		c, over := h.client("open")
		_, _ = c.Write([]byte("x"))
		_, _ = h.conn.Read(make([]byte, 1))
		h.mu.Lock()
		h.cut = true
		h.mu.Unlock()
		h.sever()
		if err := <-over; !errors.Is(err, ErrBroken) {
			t.Error(err)
		}
		if err := h.conn.Done(t.Context()); !errors.Is(err, ErrBroken) {
			t.Error(err)
		}
	})
	t.Run("silent", func(t *testing.T) {
		was := silent
		silent = 100 * time.Millisecond
		defer func() { silent = was }()
		h := newHub(t)
		conn := h.raw(t, "open", 0)
		defer conn.CloseNow()
		if err := <-h.served; err == nil || !strings.Contains(err.Error(), "nothing was heard") {
			t.Error(err)
		}
	})
}

// raw is a client that keeps to nothing, after its hello.
func (h *hub) raw(t *testing.T, secret string, received uint64) *websocket.Conn {
	t.Helper()
	conn, err := h.dial(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	text, _ := json.Marshal(streams.Hello{Secret: secret, Received: received})
	if err := conn.Write(t.Context(), websocket.MessageText, text); err != nil {
		t.Fatal(err)
	}
	if _, _, err := conn.Read(t.Context()); err != nil {
		t.Fatal(err)
	}
	return conn
}

// TestHostile: an end that does not keep to the protocol ends the stream, and costs no memory.
func TestHostile(t *testing.T) {
	frame := func(f streams.Frame) []byte { b, _ := f.Encode(nil); return b }
	for what, c := range map[string]struct {
		kind     websocket.MessageType
		message  []byte
		received uint64
		over     bool // it ends the stream, not the connection alone
	}{
		"text":                     {websocket.MessageText, []byte("hello"), 0, true},
		"no frame":                 {websocket.MessageBinary, []byte("hello"), 0, true},
		"64 MB":                    {websocket.MessageBinary, make([]byte, 64<<20), 0, false},
		"a gap":                    {websocket.MessageBinary, frame(streams.Frame{Type: streams.Data, Offset: 5, Body: []byte("x")}), 0, true},
		"an ack of what never was": {websocket.MessageBinary, frame(streams.Frame{Type: streams.Ack, Offset: 5}), 0, true},
		"received what never was":  {websocket.MessageBinary, nil, 77, false},
	} {
		h := newHub(t)
		conn := h.raw(t, "open", c.received)
		if c.message != nil {
			_ = conn.Write(t.Context(), c.kind, c.message)
		}
		if err := <-h.served; err == nil {
			t.Errorf("%s: taken", what)
		}
		if over := errors.Is(h.conn.Err(), streams.ErrFrame); over != c.over {
			t.Errorf("%s: the stream: %v", what, h.conn.Err())
		}
		conn.CloseNow()
		if n := h.conn.Received(); n != 0 {
			t.Errorf("%s: received %d", what, n)
		}
	}
}

// TestTakenOver: another connection with the stream's secret takes the place of the one at hand, which ends.
func TestTakenOver(t *testing.T) {
	h := newHub(t)
	first := h.raw(t, "open", 0)
	defer first.CloseNow()
	second := h.raw(t, "open", 0)
	defer second.CloseNow()
	if err := <-h.served; err == nil {
		t.Error("the first goes on")
	}
	b, _ := streams.Frame{Type: streams.Data, Body: []byte("second")}.Encode(nil)
	if err := second.Write(t.Context(), websocket.MessageBinary, b); err != nil {
		t.Fatal(err)
	}
	p := make([]byte, 10)
	if n, err := h.conn.Read(p); err != nil || string(p[:n]) != "second" {
		t.Errorf("%q %v", p[:n], err)
	}
}

// BenchmarkCarry carries bytes through a stream over loopback, all of it in one process.
func BenchmarkCarry(b *testing.B) {
	h := newHub(b)
	c := New()
	b.Cleanup(func() { c.Close() })
	go func() { _ = c.Keep(b.Context(), h.dial, "open") }()
	piece := make([]byte, 32<<10)
	b.SetBytes(int64(len(piece)))
	go func() {
		for {
			if _, err := c.Write(piece); err != nil {
				return
			}
		}
	}()
	into := make([]byte, len(piece))
	for b.Loop() {
		if _, err := io.ReadFull(h.conn, into); err != nil {
			b.Fatal(err)
		}
	}
}
