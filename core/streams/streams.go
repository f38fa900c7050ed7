// Package streams is the protocol of a stream: the bytes of an SSH connection between whoever opens a shell and the service, over a connection that
// carries whole messages (RFC 6455), which may break and be made again. It only reads, writes and counts; package stream does it.
//
// The first message of each connection is text: a Hello, answered by a Welcome. Each says how many bytes that end has received so far, and the other
// goes on from there. What follows is binary, one frame a message: a byte that says what it is, and an offset in eight bytes, the higher ones first.
//
//	data  bytes, at least one and at most MaxData; the offset is that of the first of them, counted from the stream's begin
//	ack   everything before the offset was read here: as much more may be sent, and nothing before it is asked for again
//	end   nothing comes at or after the offset from this end; the other direction goes on (half-close)
//	over  the stream is over for both; the offset is 0, and what follows says why, at most MaxReason bytes of text
//
// Each end sends at most Window bytes more than were acknowledged, and keeps them until they are: so neither holds more than Window bytes for a reader that
// does not read, and a connection that broke loses nothing. A frame that breaks this ends the stream: an end that counts differently cannot be trusted.
package streams

import (
	"encoding/binary"
	"errors"
	"fmt"
	"time"
	"unicode/utf8"

	"plumlatch/core/plaintext"
)

// Type says what a frame is.
type Type byte

// The types of frames.
const (
	Data Type = iota + 1
	Ack
	End
	Over
)

// Limits.
const (
	MaxData   = 32 << 10  // bytes
	MaxReason = 400       // bytes
	Window    = 256 << 10 // bytes that are sent and not acknowledged, in each direction
	MaxFrame  = head + MaxData
	MaxHello  = 1 << 10 // bytes of a Hello or a Welcome
	// TakeUp is for how long a stream whose connection broke waits for another one.
	TakeUp = 30 * time.Second

	head = 9
)

// Hello is the first message of whoever opens the stream, on each of its connections.
type Hello struct {
	Secret   string `json:"secret"`   // of this stream, as the service gave it: it belongs to whoever asked for it
	Received uint64 `json:"received"` // bytes that came so far
}

// Welcome is what the service answers. With Refused or Elsewhere, the connection ends.
type Welcome struct {
	Received uint64 `json:"received"`
	Refused  string `json:"refused,omitempty"`
	// Elsewhere: another replica of the service carries it, and another connection may lead there.
	Elsewhere bool `json:"elsewhere,omitempty"`
}

// Frame is one message.
type Frame struct {
	Type   Type
	Offset uint64
	Body   []byte
}

// ErrFrame says that an end breaks the protocol.
var ErrFrame = errors.New("the other end does not keep to the protocol")

func broken(format string, a ...any) error {
	return fmt.Errorf("%w: %s", ErrFrame, fmt.Sprintf(format, a...))
}

// Encode writes the frame behind b. Only a frame that Read takes is written. ErrFrame.
func (f Frame) Encode(b []byte) ([]byte, error) {
	if err := f.check(); err != nil {
		return b, err
	}
	b = append(b, byte(f.Type))
	b = binary.BigEndian.AppendUint64(b, f.Offset)
	return append(b, f.Body...), nil
}

// Read reads a message. Body is a part of it, not a copy. ErrFrame.
func Read(message []byte) (Frame, error) {
	if len(message) < head {
		return Frame{}, broken("a message of %d bytes is no frame", len(message))
	}
	f := Frame{Type: Type(message[0]), Offset: binary.BigEndian.Uint64(message[1:]), Body: message[head:]}
	if len(f.Body) == 0 {
		f.Body = nil
	}
	return f, f.check()
}

func (f Frame) check() error {
	n := len(f.Body)
	switch {
	case f.Type == Data && n > 0 && n <= MaxData && f.Offset+uint64(n) > f.Offset:
	case (f.Type == Ack || f.Type == End) && n == 0:
	case f.Type == Over && f.Offset == 0 && n <= MaxReason && utf8.Valid(f.Body) && !plaintext.HasControl(string(f.Body)):
	default:
		return broken("a frame of type %d with %d bytes", f.Type, n)
	}
	return nil
}

// Reason is a text as an Over frame carries it: a character has at most four bytes.
func Reason(text string) []byte { return []byte(plaintext.Cut(plaintext.Line(text), MaxReason/4)) }

// Left returns whether there is anything that the other end has not acknowledged, or not been told.
func (s *Sender) Left() bool { return s.held.size() > 0 || s.ended && !s.told }

// queue holds bytes in the order in which they came. Its room is used again and again, so that a busy stream makes no garbage; rest gives it back.
type queue struct {
	room []byte
	from int // before it, all was taken
}

func (q *queue) bytes() []byte { return q.room[q.from:] }

func (q *queue) size() int { return len(q.room) - q.from }

func (q *queue) add(p []byte) {
	if n := q.size(); len(q.room)+len(p) > cap(q.room) {
		room := q.room[:0]
		if n+len(p) > cap(room) {
			room = make([]byte, 0, max(n+len(p), min(2*cap(room), Window)))
		}
		q.room, q.from = append(room, q.bytes()...), 0
	}
	q.room = append(q.room, p...)
}

func (q *queue) take(n int) {
	if q.from += n; q.from == len(q.room) {
		q.room, q.from = q.room[:0], 0
	}
}

func (q *queue) rest() {
	if q.size() == 0 {
		q.room, q.from = nil, 0
	}
}

// Sender is one end's count of what it sends. The zero value is a new stream's.
type Sender struct {
	held  queue  // that was given to it and is not acknowledged
	acked uint64 // offset of the first of them
	next  uint64 // offset from which the connection at hand has not sent
	ended bool
	told  bool // the end was sent on the connection at hand
}

// Room returns how many bytes it takes now.
func (s *Sender) Room() int { return Window - s.held.size() }

// Rest gives back memory that nothing is held in.
func (s *Sender) Rest() { s.held.rest() }

// Put takes bytes to be sent: at most as many as there is room for. It returns how many it took.
func (s *Sender) Put(p []byte) int {
	n := min(len(p), s.Room())
	s.held.add(p[:n])
	return n
}

// Close says that nothing more will be put.
func (s *Sender) Close() { s.ended = true }

// Next returns the frame that is to be sent now; false if there is none. Its body is good until the next call of any method.
func (s *Sender) Next() (Frame, bool) {
	at := s.next - s.acked
	if rest := s.held.bytes()[at:]; len(rest) > 0 {
		f := Frame{Data, s.next, rest[:min(len(rest), MaxData)]}
		s.next += uint64(len(f.Body))
		return f, true
	}
	if s.ended && !s.told {
		s.told = true
		return Frame{End, s.next, nil}, true
	}
	return Frame{}, false
}

// Acked counts what the other end has read. ErrFrame if it cannot have.
func (s *Sender) Acked(offset uint64) error {
	if offset < s.acked || offset > s.next {
		return broken("an ack of %d, and sent were %d", offset, s.next)
	}
	s.drop(offset)
	return nil
}

func (s *Sender) drop(offset uint64) {
	s.held.take(int(offset - s.acked))
	s.acked = offset
}

// Again goes on from an offset, on a new connection: the other end has received what is before it. ErrFrame if it cannot have.
func (s *Sender) Again(received uint64) error {
	if received < s.acked || received > s.acked+uint64(s.held.size()) {
		return broken("it says that it received %d bytes, and holds of %d to %d", received, s.acked, s.acked+uint64(s.held.size()))
	}
	s.next, s.told = received, false
	return nil
}

// Receiver is one end's count of what it receives. The zero value is a new stream's.
type Receiver struct {
	held     queue  // that came and was not read
	received uint64 // offset behind the last of them
	acked    uint64 // that was told to the other end
	again    bool   // and is to be told once more
	ended    bool
}

// Rest gives back memory that nothing is held in.
func (r *Receiver) Rest() { r.held.rest() }

// Beat has Ack return a frame the next time, whatever was read: it shows that this end is still there.
func (r *Receiver) Beat() { r.again = true }

// Again goes on with a new connection: what was acknowledged on the former one may never have come.
func (r *Receiver) Again() { r.again = r.acked > 0 }

// Received returns how many bytes came.
func (r *Receiver) Received() uint64 { return r.received }

// Take takes a frame of the other end's: Data or End. ErrFrame.
func (r *Receiver) Take(f Frame) error {
	switch {
	case f.Offset != r.received:
		return broken("an offset of %d, and received were %d", f.Offset, r.received)
	case f.Type == End:
		r.ended = true
		return nil
	case r.ended:
		return broken("data after the end")
	case r.received+uint64(len(f.Body))-r.acked > Window:
		return broken("more than %d bytes that nobody has read", Window)
	}
	r.held.add(f.Body)
	r.received += uint64(len(f.Body))
	return nil
}

// Get reads what came; done if nothing more will come.
func (r *Receiver) Get(p []byte) (n int, done bool) {
	n = copy(p, r.held.bytes())
	r.held.take(n)
	return n, n == 0 && r.ended
}

// Ack returns the frame that tells what was read; false as long as the other end has enough.
func (r *Receiver) Ack() (Frame, bool) {
	read := r.received - uint64(r.held.size())
	last := r.ended && read == r.received && read > r.acked
	if read-r.acked < Window/4 && !r.again && !last {
		return Frame{}, false
	}
	r.acked, r.again = read, false
	return Frame{Ack, read, nil}, true
}

// The two ways to an instance.
const (
	ByService = "service" // from the service's own address, by the reach policy
	ByAgent   = "agent"   // through the instance's agent, to its own loopback
)

// Why says why a stream ended.
type Why string

// The codes.
const (
	Closed  Why = "closed"  // by whoever opened it, or by the server
	Gone    Why = "gone"    // whoever opened it went away, and did not come back in time
	Idle    Why = "idle"    // nothing went through for longer than the policy lets
	TooLong Why = "long"    // it lasted as long as the policy lets
	Token   Why = "token"   // the token or the session that it was opened with ended, or its operator's role
	Cut     Why = "cut"     // an operator ended it
	Policy  Why = "policy"  // the policy lets its operator open none any more
	Stopped Why = "stopped" // the service was stopped
	Lost    Why = "lost"    // the service that carried it was killed
	Unasked Why = "unasked" // the service could not ask whether it may go on
	Broken  Why = "broken"  // an end did not keep to the protocol, or the way to the instance broke
)

var why = map[Why]string{
	Closed: "it was closed", Gone: "whoever opened it went away", Idle: "nothing went through it for as long as the policy lets", TooLong: "it lasted as long as the policy lets",
	Token: "the token or session that it was opened with is good no more", Cut: "an operator ended it", Policy: "the policy lets no stream be opened any more by whoever opened it",
	Stopped: "the service was stopped", Lost: "the service that carried it was killed", Unasked: "the service could not ask whether it may go on", Broken: "the way to the instance broke",
}

// Words says it in a sentence.
func (w Why) Words() string { return why[w] }
