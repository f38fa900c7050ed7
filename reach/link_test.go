package reach

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"io"
	"strings"
	"sync"
	"testing"

	"plumlatch/core/frames"
)

// pipe is a connection in memory; what is written at one end is read at the other.
type pipe struct {
	in, out chan []byte
	over    chan struct{}
	once    *sync.Once
	reason  *string
}

func newPipe() (a, b pipe) {
	one, two, over, once, reason := make(chan []byte), make(chan []byte), make(chan struct{}), new(sync.Once), new(string)
	return pipe{one, two, over, once, reason}, pipe{two, one, over, once, reason}
}

func (p pipe) Read(ctx context.Context) ([]byte, error) {
	select {
	case m := <-p.in:
		return m, nil
	case <-p.over:
		return nil, io.EOF
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func (p pipe) Write(ctx context.Context, m []byte) error {
	select {
	case p.out <- bytes.Clone(m):
		return nil
	case <-p.over:
		return io.ErrClosedPipe
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (p pipe) Close(reason string) {
	p.once.Do(func() { *p.reason = reason; close(p.over) })
}

// linked is two ends; serve is what the second one does.
func linked(t *testing.T, serve func(context.Context, *Channel, []byte)) *Link {
	t.Helper()
	a, b := newPipe()
	ctx, cancel := context.WithCancel(t.Context())
	opens, serves := NewLink(ctx, a, nil), NewLink(ctx, b, serve)
	var both sync.WaitGroup
	both.Go(func() { _ = opens.Run() })
	both.Go(func() { _ = serves.Run() })
	t.Cleanup(func() { cancel(); both.Wait() })
	return opens
}

func TestLink(t *testing.T) {
	l := linked(t, func(_ context.Context, ch *Channel, head []byte) {
		if string(head) == "echo" {
			_, _ = io.Copy(ch, ch)
		} else {
			_, _ = io.WriteString(ch, "no")
		}
	})
	// Much more than a window, both ways, on several channels at one time.
	sent := make([]byte, 3*frames.First+17)
	rand.Read(sent)
	var all sync.WaitGroup
	for range 5 {
		all.Go(func() {
			ch, err := l.Open(t.Context(), []byte("echo"))
			if err != nil {
				t.Error(err)
				return
			}
			go func() {
				if _, err := ch.Write(sent); err != nil || ch.CloseWrite() != nil {
					t.Errorf("writing: %v", err)
				}
			}()
			got, err := io.ReadAll(ch)
			if err != nil || !bytes.Equal(got, sent) {
				t.Errorf("%d bytes came back, %v", len(got), err)
			}
			ch.Close()
		})
	}
	all.Wait()
	ch, err := l.Open(t.Context(), []byte("other"))
	if err != nil {
		t.Fatal(err)
	}
	if got, err := io.ReadAll(ch); err != nil || string(got) != "no" {
		t.Errorf("%q, %v", got, err)
	}
	if _, err := ch.Write(make([]byte, 2*frames.First)); err == nil {
		t.Error("it was written to a channel that the other end has closed")
	}
}

// TestLinkSlow: a channel that nobody reads stops its writer, and no other channel.
func TestLinkSlow(t *testing.T) {
	held := make(chan struct{})
	l := linked(t, func(ctx context.Context, ch *Channel, head []byte) {
		if string(head) == "slow" {
			<-held
			return
		}
		_, _ = io.Copy(ch, ch)
	})
	slow, err := l.Open(t.Context(), []byte("slow"))
	if err != nil {
		t.Fatal(err)
	}
	wrote := make(chan int)
	go func() {
		n, _ := slow.Write(make([]byte, 2*frames.First))
		wrote <- n
	}()
	quick, err := l.Open(t.Context(), []byte("quick"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := quick.Write([]byte("hello")); err != nil || quick.CloseWrite() != nil {
		t.Fatal(err)
	}
	if got, err := io.ReadAll(quick); err != nil || string(got) != "hello" {
		t.Errorf("%q, %v", got, err)
	}
	close(held)
	if n := <-wrote; n > frames.First {
		t.Errorf("%d bytes were sent that nobody read", n)
	}
}

func TestLinkEnds(t *testing.T) {
	started := make(chan struct{}, 100)
	gone := make(chan error, 100)
	l := linked(t, func(_ context.Context, ch *Channel, _ []byte) {
		started <- struct{}{}
		_, err := io.Copy(io.Discard, ch)
		gone <- err
	})
	// Whoever asked gives up: the other end hears it.
	ctx, cancel := context.WithCancel(t.Context())
	ch, err := l.Open(ctx, nil)
	if err != nil {
		t.Fatal(err)
	}
	<-started
	cancel()
	if err := <-gone; err == nil || !strings.Contains(err.Error(), "canceled") {
		t.Errorf("it heard %v", err)
	}
	if _, err := ch.Read(make([]byte, 1)); !errors.Is(err, context.Canceled) {
		t.Errorf("reading: %v", err)
	}
	// No more than there may be.
	for range frames.MaxChannels {
		if _, err := l.Open(t.Context(), nil); err != nil {
			t.Fatal(err)
		}
		<-started
	}
	if _, err := l.Open(t.Context(), nil); !errors.Is(err, ErrLinkBusy) {
		t.Errorf("one more: %v", err)
	}
	l.End(errors.New("over"))
	<-l.Done()
	if _, err := l.Open(t.Context(), nil); !errors.Is(err, ErrLinkGone) {
		t.Errorf("after the end: %v", err)
	}
	for range frames.MaxChannels {
		<-gone
	}
}

// TestLinkHostile: an end that breaks the protocol is cut off.
func TestLinkHostile(t *testing.T) {
	frame := func(f frames.Frame) []byte {
		m, err := f.Append(nil)
		if err != nil {
			t.Fatal(err)
		}
		return m
	}
	open := frame(frames.Frame{Type: frames.Open, Channel: 1})
	data := frame(frames.Frame{Type: frames.Data, Channel: 1, Body: make([]byte, frames.MaxData)})
	flood := [][]byte{open}
	for range frames.First/frames.MaxData + 1 {
		flood = append(flood, data)
	}
	many := [][]byte{}
	for n := range frames.MaxChannels + 1 {
		many = append(many, frame(frames.Frame{Type: frames.Open, Channel: uint32(n + 1)}))
	}
	for what, sent := range map[string][][]byte{
		"garbage":                     {{0xff, 1, 2, 3, 4, 5, 6}},
		"nothing":                     {{}},
		"a channel that nobody opens": {data},
		"a channel twice":             {open, open},
		"more than the window":        flood,
		"too many channels":           many,
		"a window that is too wide":   {open, frame(frames.Frame{Type: frames.Window, Channel: 1, More: 1})},
		"data after the end":          {open, frame(frames.Frame{Type: frames.End, Channel: 1}), data},
	} {
		a, b := newPipe()
		l := NewLink(t.Context(), b, func(ctx context.Context, ch *Channel, _ []byte) { <-ctx.Done() })
		over := make(chan error, 1)
		go func() { over <- l.Run() }()
		for _, m := range sent {
			_ = a.Write(t.Context(), m)
		}
		if err := <-over; !errors.Is(err, frames.ErrFrame) || !strings.Contains(*a.reason, "protocol") {
			t.Errorf("%s: %v, told %q", what, err, *a.reason)
		}
	}
	// An agent asks nothing of the service.
	a, b := newPipe()
	l := NewLink(t.Context(), b, nil)
	over := make(chan error, 1)
	go func() { over <- l.Run() }()
	_ = a.Write(t.Context(), open)
	if err := <-over; !errors.Is(err, frames.ErrFrame) {
		t.Errorf("it opens a channel: %v", err)
	}
}
