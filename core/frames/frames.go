// Package frames is the protocol between the service and an agent, once both know each other: numbered channels with flow control, over
// a connection that carries whole messages (RFC 6455 over TLS). It only reads, writes and counts; reach.Link does it.
//
// A message is one frame: a byte that says what it is, the number of the channel in four bytes, the higher ones first, and what belongs
// to it:
//
//	open    asks for a new channel; what follows is its head, at most MaxHead bytes, and says what it is for
//	data    bytes of the channel, at least one and at most MaxData
//	window  four bytes: how many more bytes of data the other end may send
//	end     nothing more comes from this end
//	reset   the channel is over for both; what follows says why, at most MaxReason bytes of text
//
// Whoever accepted the connection opens channels, numbered from 1 upwards; no number comes twice. Each end may send Window bytes of data
// on a channel at first, and further ones as the other end has read them, so nobody holds more than that of a channel that nobody reads.
// A frame that breaks this ends the connection: an end that counts differently cannot be trusted with anything that follows.
package frames

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// Type says what a frame is.
type Type byte

// The types of frames.
const (
	Open Type = iota + 1
	Data
	Window
	End
	Reset
)

// Limits, in bytes.
const (
	MaxData   = 32 << 10
	MaxHead   = 256 << 10 // a change is told in the head, with the signature over it
	MaxReason = 400
	MaxFrame  = head + MaxHead
	// First is what may be sent on a new channel before the other end has read anything.
	First = 256 << 10
	// MaxChannels is how many may be open at one time.
	MaxChannels = 16

	head = 5
)

// Frame is one message.
type Frame struct {
	Type    Type
	Channel uint32
	Body    []byte
	More    uint32 // of a Window
}

// ErrFrame says that an end breaks the protocol.
var ErrFrame = errors.New("the other end does not keep to the protocol")

func broken(format string, a ...any) error {
	return fmt.Errorf("%w: %s", ErrFrame, fmt.Sprintf(format, a...))
}

// Append writes the frame behind b. Only a frame that Read takes is written. ErrFrame.
func (f Frame) Append(b []byte) ([]byte, error) {
	if err := f.check(); err != nil {
		return b, err
	}
	b = append(b, byte(f.Type))
	b = binary.BigEndian.AppendUint32(b, f.Channel)
	if f.Type == Window {
		return binary.BigEndian.AppendUint32(b, f.More), nil
	}
	return append(b, f.Body...), nil
}

// Read reads a message. Body is a part of it, not a copy. ErrFrame.
func Read(message []byte) (Frame, error) {
	if len(message) < head {
		return Frame{}, broken("a message of %d bytes is no frame", len(message))
	}
	f := Frame{Type: Type(message[0]), Channel: binary.BigEndian.Uint32(message[1:]), Body: message[head:]}
	if f.Type == Window {
		if len(f.Body) != 4 {
			return Frame{}, broken("a window of %d bytes", len(f.Body))
		}
		f.More, f.Body = binary.BigEndian.Uint32(f.Body), nil
	}
	if len(f.Body) == 0 {
		f.Body = nil
	}
	return f, f.check()
}

func (f Frame) check() error {
	n := len(f.Body)
	switch {
	case f.Channel == 0:
		return broken("channels begin with 1")
	case f.Type == Open && n <= MaxHead:
	case f.Type == Data && n > 0 && n <= MaxData:
	case f.Type == Window && n == 0 && f.More > 0 && f.More <= First:
	case f.Type == End && n == 0:
	case f.Type == Reset && n <= MaxReason:
	default:
		return broken("a frame of type %d with %d bytes", f.Type, n)
	}
	return nil
}

// Flow counts what one end of a channel may send and holds. The zero value is of no use; NewFlow makes one.
type Flow struct {
	send uint32 // that this end may send
	come uint32 // that the other end may send
	read uint32 // that was read here and is not told yet
}

// NewFlow is the count of a new channel.
func NewFlow() Flow { return Flow{send: First, come: First} }

// May returns how many of n bytes may be sent now, in one frame.
func (f *Flow) May(n int) int { return min(n, int(f.send), MaxData) }

// Sent counts bytes that were sent: at most as many as May allowed.
func (f *Flow) Sent(n int) { f.send -= uint32(n) }

// Came counts bytes of the other end. ErrFrame if they are more than it may send.
func (f *Flow) Came(n int) error {
	if uint64(n) > uint64(f.come) {
		return broken("%d bytes on a channel that takes %d", n, f.come)
	}
	f.come -= uint32(n)
	return nil
}

// More takes in that the other end has read. ErrFrame if it then would take more than ever.
func (f *Flow) More(n uint32) error {
	if uint64(f.send)+uint64(n) > First {
		return broken("a window of more than %d bytes", First)
	}
	f.send += n
	return nil
}

// Took counts bytes that were read here, and returns how many the other end is to be told now: 0 as long as it has enough.
func (f *Flow) Took(n int) (tell uint32) {
	f.read += uint32(n)
	if f.read < First/2 {
		return 0
	}
	tell, f.read = f.read, 0
	f.come += tell
	return tell
}
