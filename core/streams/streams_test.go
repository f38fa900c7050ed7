package streams

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"strings"
	"testing"
)

// TestFrames: what is written is read; what is none is refused by both.
func TestFrames(t *testing.T) {
	for _, f := range []Frame{{Data, 0, []byte{0}}, {Data, 1 << 40, bytes.Repeat([]byte("x"), MaxData)}, {Ack, 7, nil}, {End, 9, nil}, {Over, 0, []byte("it was ended")},
		{Over, 0, nil}} {
		b, err := f.Encode(nil)
		if err != nil {
			t.Fatalf("%v: %v", f.Type, err)
		}
		got, err := Read(b)
		if err != nil || got.Type != f.Type || got.Offset != f.Offset || !bytes.Equal(got.Body, f.Body) {
			t.Errorf("%v: %v, %v", f.Type, got, err)
		}
	}
	for what, f := range map[string]Frame{
		"data of nothing":        {Data, 0, nil},
		"data of too much":       {Data, 0, make([]byte, MaxData+1)},
		"data beyond all counts": {Data, 1<<64 - 1, []byte("x")},
		"an ack with a body":     {Ack, 1, []byte("x")},
		"an end with a body":     {End, 1, []byte("x")},
		"a reason of too much":   {Over, 0, []byte(strings.Repeat("x", MaxReason+1))},
		"a control sequence":     {Over, 0, []byte("\x1b]0;x\a")},
		"no text":                {Over, 0, []byte{0xff}},
		"a reason with a place":  {Over, 1, nil},
		"no type":                {0, 0, nil},
		"another type":           {9, 0, []byte("x")},
	} {
		if _, err := f.Encode(nil); !errors.Is(err, ErrFrame) {
			t.Errorf("%s: written: %v", what, err)
		}
	}
	for _, m := range []string{"", "\x01", strings.Repeat("\x00", 9)} {
		if _, err := Read([]byte(m)); !errors.Is(err, ErrFrame) {
			t.Errorf("%q: read: %v", m, err)
		}
	}
	if got := Reason("a\x1b[31m" + strings.Repeat("ä", 500)); len(got) > MaxReason || bytes.Contains(got, []byte{0x1b}) {
		t.Errorf("a reason as it is sent: %q", got)
	}
}

// FuzzRead: nothing panics, and what is read is what would be written.
func FuzzRead(f *testing.F) {
	f.Add([]byte("\x01\x00\x00\x00\x00\x00\x00\x00\x05hello"))
	f.Add([]byte("\x02\x00\x00\x00\x00\x00\x00\x00\x05"))
	f.Add([]byte("\x04\x00\x00\x00\x00\x00\x00\x00\x00why"))
	f.Fuzz(func(t *testing.T, m []byte) {
		got, err := Read(m)
		if err != nil {
			return
		}
		again, err := got.Encode(nil)
		if err != nil || !bytes.Equal(again, m) {
			t.Errorf("%x is written as %x, %v", m, again, err)
		}
	})
}

// TestBroken: what an end cannot have sent, or cannot have read, ends it.
func TestBroken(t *testing.T) {
	full := bytes.Repeat([]byte("x"), MaxData)
	for what, do := range map[string]func(s *Sender, r *Receiver) error{
		"an ack of what was never sent": func(s *Sender, _ *Receiver) error { s.Put(full); return s.Acked(1) },
		"an ack that goes back": func(s *Sender, _ *Receiver) error {
			s.Put(full)
			s.Next()
			return errors.Join(s.Acked(5), s.Acked(4))
		},
		"received more than there is":  func(s *Sender, _ *Receiver) error { s.Put([]byte("abc")); return s.Again(4) },
		"received less than was acked": func(s *Sender, _ *Receiver) error { s.Put(full); s.Next(); s.Acked(10); return s.Again(9) },
		"a gap":                        func(_ *Sender, r *Receiver) error { return r.Take(Frame{Data, 1, []byte("x")}) },
		"the same again": func(_ *Sender, r *Receiver) error {
			return errors.Join(r.Take(Frame{Data, 0, []byte("x")}), r.Take(Frame{Data, 0, []byte("x")}))
		},
		"data after the end": func(_ *Sender, r *Receiver) error {
			return errors.Join(r.Take(Frame{End, 0, nil}), r.Take(Frame{Data, 0, []byte("x")}))
		},
		"an end elsewhere": func(_ *Sender, r *Receiver) error { return r.Take(Frame{End, 3, nil}) },
		"more than the window": func(_ *Sender, r *Receiver) (err error) {
			for n := range uint64(Window/MaxData + 1) {
				if err = r.Take(Frame{Data, n * MaxData, full}); err != nil && n < Window/MaxData {
					t.Error("less than the window is refused")
				}
			}
			return err
		},
	} {
		if err := do(&Sender{}, &Receiver{}); !errors.Is(err, ErrFrame) {
			t.Errorf("%s: %v", what, err)
		}
	}
	if s := (&Sender{}); s.Put(make([]byte, 2*Window)) != Window || s.Put([]byte("x")) != 0 {
		t.Error("a sender takes more than the window")
	}
}

// TestLossless: whatever is lost with a connection that breaks, at any moment and in both directions, everything comes once, in its order, and
// neither end ever holds more than the window.
func TestLossless(t *testing.T) {
	for seed := range uint64(200) {
		rnd := rand.New(rand.NewPCG(seed, 1))
		want := make([]byte, rnd.IntN(3*Window))
		for n := range want {
			want[n] = byte(rnd.Uint32())
		}
		var s Sender
		var r Receiver
		var got []byte
		var wire, back []Frame // on their way
		put, done, breaks := 0, false, 0
		for step := 0; !done; step++ {
			if step > 1_000_000 {
				t.Fatalf("seed %d: it goes on for ever", seed)
			}
			switch rnd.IntN(6) {
			case 0:
				put += s.Put(want[put:min(len(want), put+rnd.IntN(100_000))])
				if put == len(want) {
					s.Close()
				}
			case 1:
				if f, ok := s.Next(); ok {
					f.Body = bytes.Clone(f.Body)
					wire = append(wire, f)
				}
			case 2:
				if len(wire) > 0 {
					if err := r.Take(wire[0]); err != nil {
						t.Fatalf("seed %d: %v", seed, err)
					}
					wire = wire[1:]
				}
			case 3:
				p := make([]byte, rnd.IntN(100_000)+1)
				n, over := r.Get(p)
				got, done = append(got, p[:n]...), over
			case 4:
				if f, ok := r.Ack(); ok {
					back = append(back, f)
				}
				if len(back) > 0 && rnd.IntN(2) == 0 {
					if err := s.Acked(back[0].Offset); err != nil {
						t.Fatalf("seed %d: %v", seed, err)
					}
					back = back[1:]
				}
			case 5:
				if rnd.IntN(20) == 0 {
					wire, back, breaks = nil, nil, breaks+1
					r.Again()
					if err := s.Again(r.Received()); err != nil {
						t.Fatalf("seed %d: %v", seed, err)
					}
				}
			}
			if s.held.size() > Window || r.held.size() > Window {
				t.Fatalf("seed %d: held are %d and %d", seed, s.held.size(), r.held.size())
			}
		}
		if !bytes.Equal(got, want) {
			t.Errorf("seed %d: %d bytes of %d came, or others; the connection broke %d times", seed, len(got), len(want), breaks)
		}
	}
}
