package frames

import (
	"bytes"
	"errors"
	"testing"
)

func TestFrames(t *testing.T) {
	for what, f := range map[string]Frame{
		"open":       {Type: Open, Channel: 1, Body: []byte(`{"verb":"look"}`)},
		"empty head": {Type: Open, Channel: 1},
		"long head":  {Type: Open, Channel: 7, Body: bytes.Repeat([]byte{1}, MaxHead)},
		"data":       {Type: Data, Channel: 1 << 31, Body: bytes.Repeat([]byte{0}, MaxData)},
		"window":     {Type: Window, Channel: 2, More: First},
		"end":        {Type: End, Channel: 2},
		"reset":      {Type: Reset, Channel: 2, Body: []byte("no")},
	} {
		m, err := f.Append([]byte("x"))
		if err != nil || m[0] != 'x' || len(m) > MaxFrame+1 {
			t.Fatalf("%s: %d bytes, %v", what, len(m), err)
		}
		back, err := Read(m[1:])
		if err != nil || back.Type != f.Type || back.Channel != f.Channel || back.More != f.More || !bytes.Equal(back.Body, f.Body) {
			t.Errorf("%s came back as %+v, %v", what, back, err)
		}
	}
	// On the wire, as the package's comment says.
	if m, _ := (Frame{Type: Window, Channel: 258, More: 3}).Append(nil); !bytes.Equal(m, []byte{3, 0, 0, 1, 2, 0, 0, 0, 3}) {
		t.Errorf("a window is % x", m)
	}
	if m, _ := (Frame{Type: Data, Channel: 5, Body: []byte("hi")}).Append(nil); !bytes.Equal(m, []byte{2, 0, 0, 0, 5, 'h', 'i'}) {
		t.Errorf("data is % x", m)
	}
}

func TestBrokenFrames(t *testing.T) {
	for what, m := range map[string][]byte{
		"nothing":          {},
		"short":            {2, 0, 0, 0},
		"channel 0":        {2, 0, 0, 0, 0, 1},
		"no such type":     {9, 0, 0, 0, 1, 1},
		"type 0":           {0, 0, 0, 0, 1, 1},
		"no data":          {2, 0, 0, 0, 1},
		"much data":        append([]byte{2, 0, 0, 0, 1}, make([]byte, MaxData+1)...),
		"a long head":      append([]byte{1, 0, 0, 0, 1}, make([]byte, MaxHead+1)...),
		"a window of 0":    {3, 0, 0, 0, 1, 0, 0, 0, 0},
		"a window of much": {3, 0, 0, 0, 1, 255, 255, 255, 255},
		"half a window":    {3, 0, 0, 0, 1, 0, 0},
		"an end with more": {4, 0, 0, 0, 1, 0},
		"a long reason":    append([]byte{5, 0, 0, 0, 1}, make([]byte, MaxReason+1)...),
	} {
		if f, err := Read(m); !errors.Is(err, ErrFrame) {
			t.Errorf("%s: %+v, %v", what, f, err)
		}
	}
	if _, err := (Frame{Type: Data, Channel: 1}).Append(nil); !errors.Is(err, ErrFrame) {
		t.Errorf("an empty frame was written: %v", err)
	}
}

func TestFlow(t *testing.T) {
	here, there := NewFlow(), NewFlow()
	sent := 0
	for here.May(MaxData*2) > 0 {
		n := here.May(MaxData * 2)
		if n > MaxData {
			t.Fatalf("%d bytes in one frame", n)
		}
		here.Sent(n)
		if err := there.Came(n); err != nil {
			t.Fatal(err)
		}
		sent += n
	}
	if sent != First || here.May(1) != 0 {
		t.Fatalf("%d bytes were sent unread", sent)
	}
	if err := there.Came(1); !errors.Is(err, ErrFrame) {
		t.Errorf("one too many: %v", err)
	}
	if tell := there.Took(First/2 - 1); tell != 0 {
		t.Errorf("told of %d", tell)
	}
	tell := there.Took(1)
	if tell != First/2 || here.More(tell) != nil || here.May(MaxData) != MaxData {
		t.Errorf("told of %d, may send %d", tell, here.May(MaxData))
	}
	if err := here.More(First/2 + 1); !errors.Is(err, ErrFrame) {
		t.Errorf("a window that is too wide: %v", err)
	}
	if err := there.Came(First / 2); err != nil {
		t.Errorf("what was told may come: %v", err)
	}
}

// FuzzRead: whatever is read is written as it was.
func FuzzRead(f *testing.F) {
	f.Add([]byte{1, 0, 0, 0, 1, '{', '}'})
	f.Add([]byte{3, 0, 0, 0, 1, 0, 0, 1, 0})
	f.Add([]byte{4, 0, 0, 0, 1})
	f.Fuzz(func(t *testing.T, m []byte) {
		frame, err := Read(m)
		if err != nil {
			if !errors.Is(err, ErrFrame) {
				t.Fatal(err)
			}
			return
		}
		again, err := frame.Append(nil)
		if err != nil || !bytes.Equal(again, m) {
			t.Fatalf("% x came back as % x, %v", m, again, err)
		}
	})
}
