package libvirt

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
)

// The package that speaks libvirt's protocol takes what comes for libvirt's: a length that is too small ends the whole service, and what was never asked
// for is read all the same. Whoever listens on the socket need not be libvirtd, so what is no answer to a call of ours ends the connection here, before
// the package sees it. The form of a packet is that of libvirt's "RPC infrastructure" (docs/kbase/internals/rpc.rst): a length, six words of head, all big-endian,
// and the content, in XDR (RFC 4506).

const (
	packetHead = 28
	// packetMost is the longest packet that libvirt sends (VIR_NET_MESSAGE_MAX), with its length.
	packetMost = 32<<20 + 4
	typeReply  = 1
	typeStream = 3
	// mostSent is how many calls may wait for an answer on one connection.
	mostSent = 64
)

// What begins with the number of what follows, by the word at which that stands.
var counted = map[call]int{
	{remoteProgram, 273}: 0, // connect list all domains
	{remoteProgram, 282}: 0, // storage pool list all volumes
	{remoteProgram, 298}: 1, // domain get job stats: what kind of job it is, and then its figures
	{remoteProgram, 424}: 0, // domain authorized ssh keys get
	{qemuProgram, 3}:     0, // domain agent command: whether there is an answer
}

const (
	remoteProgram = 0x20008086
	qemuProgram   = 0x20008087
)

type call struct{ program, procedure uint32 }

// errPacket says that what came is no answer of libvirt's to a call of ours.
var errPacket = errors.New("what answers on the socket is not libvirt")

// framed is a connection that lets through only what answers a call that was made on it.
type framed struct {
	net.Conn

	mu   sync.Mutex
	sent map[uint32]call // by their serial number

	head []byte // of the packet that is being written
	more int    // what is still to be written of it

	got  []byte // read, and not handed on
	rest int    // what is still to be read of the packet at hand
	bad  error
}

// Write notes the calls that go out.
func (f *framed) Write(p []byte) (int, error) {
	for left := p; len(left) > 0; {
		if f.more > 0 {
			n := min(f.more, len(left))
			f.more, left = f.more-n, left[n:]
			continue
		}
		n := min(packetHead-len(f.head), len(left))
		f.head, left = append(f.head, left[:n]...), left[n:]
		if len(f.head) < packetHead {
			break
		}
		word := func(n int) uint32 { return binary.BigEndian.Uint32(f.head[4*n:]) }
		f.mu.Lock()
		if f.sent == nil {
			f.sent = map[uint32]call{}
		}
		if len(f.sent) < mostSent {
			f.sent[word(5)] = call{word(1), word(3)}
		}
		f.mu.Unlock()
		f.more, f.head = max(0, int(word(0))-packetHead), f.head[:0]
	}
	return f.Conn.Write(p)
}

// Read hands on what answers them.
func (f *framed) Read(p []byte) (int, error) {
	if f.bad == nil && len(f.got) == 0 && f.rest == 0 {
		f.bad = f.next()
	}
	if len(f.got) > 0 {
		n := copy(p, f.got)
		f.got = f.got[n:]
		return n, nil
	}
	if f.bad != nil {
		return 0, f.bad
	}
	n, err := f.Conn.Read(p[:min(len(p), f.rest)])
	f.rest -= n
	return n, err
}

// next reads and judges the head of a packet.
func (f *framed) next() error {
	head := make([]byte, packetHead, packetHead+8)
	if _, err := io.ReadFull(f.Conn, head); err != nil {
		return err
	}
	word := func(n int) uint32 { return binary.BigEndian.Uint32(head[4*n:]) }
	length := int64(word(0))
	if length < packetHead || length > packetMost {
		return f.refuse("a packet of %d bytes", length)
	}
	f.mu.Lock()
	asked, known := f.sent[word(5)]
	if word(4) == typeReply { // what a stream sends besides names its call anew
		delete(f.sent, word(5))
	}
	f.mu.Unlock()
	switch {
	case !known || asked != call{word(1), word(3)}:
		return f.refuse("an answer to nothing that was asked: procedure %d of program %x", word(3), word(1))
	case word(4) != typeReply && word(4) != typeStream:
		return f.refuse("a packet of type %d", word(4))
	}
	f.rest = int(length) - packetHead
	if at, ok := counted[asked]; ok && word(6) == 0 {
		begin := make([]byte, min(f.rest, 8))
		if _, err := io.ReadFull(f.Conn, begin); err != nil {
			return err
		}
		f.rest -= len(begin)
		head = append(head, begin...)
		if len(begin) < 4*at+4 || int64(binary.BigEndian.Uint32(begin[4*at:]))*4 > length {
			return f.refuse("more than %d bytes hold", length)
		}
	}
	f.got = head
	return nil
}

func (f *framed) refuse(format string, a ...any) error {
	f.Conn.Close()
	return fmt.Errorf("%w: %s", errPacket, fmt.Sprintf(format, a...))
}
