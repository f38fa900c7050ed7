// Package reach holds the ways to touch an instance: where the service may
// dial, how it learns a host key, and the acceptance probe. It knows nothing
// of the ledger.
package reach

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"
)

// ErrPolicy says that the reach policy forbids an address.
var ErrPolicy = errors.New("the service does not dial this address")

// Policy says where the service may dial. The zero value forbids loopback.
type Policy struct {
	// AllowLoopback admits 127.0.0.0/8 and ::1, for a stand-in or a test.
	AllowLoopback bool
	// Forbidden are listeners of our own (the service, its database, a cloud's
	// interface), which nobody may make the service talk to.
	Forbidden []netip.AddrPort
	// Source is the address to dial from; the zero value leaves it to the system.
	Source netip.Addr
	// Budget bounds how often one address is probed; nil has no bound.
	Budget *Budget
	// Dialed counts the connections that were opened; nil counts none.
	Dialed *atomic.Int64
}

// Check returns nil if address and port may be dialled, else an error that
// wraps ErrPolicy. The address must be resolved: names are not looked up here.
func (p Policy) Check(address string, port int) (netip.AddrPort, error) {
	a, err := netip.ParseAddr(address)
	if err != nil {
		return netip.AddrPort{}, fmt.Errorf("%w: it is not an IP address", ErrPolicy)
	}
	if port < 1 || port > 65535 {
		return netip.AddrPort{}, fmt.Errorf("%w: port %d is none", ErrPolicy, port)
	}
	a = a.Unmap()
	target := netip.AddrPortFrom(a, uint16(port))
	switch {
	case a.Zone() != "" || a.IsUnspecified() || a.IsMulticast():
		return target, fmt.Errorf("%w: %s is no host's address", ErrPolicy, a)
	case a.IsLinkLocalUnicast(): // metadata services live here
		return target, fmt.Errorf("%w: %s is link-local", ErrPolicy, a)
	case a.IsLoopback() && !p.AllowLoopback:
		return target, fmt.Errorf("%w: %s is loopback, which the configuration does not allow", ErrPolicy, a)
	}
	for _, f := range p.Forbidden {
		if f.Port() == target.Port() && (f.Addr().Unmap() == a || f.Addr().IsUnspecified()) {
			return target, fmt.Errorf("%w: %s is a listener of Plum Latch's own", ErrPolicy, target)
		}
	}
	return target, nil
}

// Hop is a jump host: a server through which another one is reached.
type Hop struct {
	Target
	Signer ssh.Signer // opens the hop, for forwarding
}

// dial opens a connection to a target, through its hop if it has one. Both
// addresses must be allowed: a jump host shall not be made to reach what is
// forbidden either.
func (p Policy) dial(ctx context.Context, t Target) (net.Conn, error) {
	if t.Via == nil {
		return p.Dial(ctx, t.Address, t.Port)
	}
	target, err := p.Check(t.Address, t.Port)
	if err != nil {
		return nil, err
	}
	conn, err := p.Dial(ctx, t.Via.Address, t.Via.Port)
	if err != nil {
		return nil, fmt.Errorf("jump host: %w", dialError(err))
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	client, err := sshClient(conn, t.Via.Target, t.Via.Signer)
	if err != nil {
		stop()
		conn.Close()
		return nil, fmt.Errorf("jump host: %w", dialError(err))
	}
	inner, err := client.DialContext(ctx, "tcp", target.String())
	if err != nil {
		stop()
		client.Close()
		return nil, fmt.Errorf("the jump host does not get there: %w", err)
	}
	return hopped{inner, func() error { stop(); return client.Close() }}, nil
}

// hopped is a connection through a hop, which ends with it.
type hopped struct {
	net.Conn
	end func() error
}

func (h hopped) Close() error { return errors.Join(h.Conn.Close(), h.end()) }

// Dial opens a TCP connection to an SSH server that the policy allows.
func (p Policy) Dial(ctx context.Context, address string, port int) (net.Conn, error) {
	conn, err := p.DialAny(ctx, address, port)
	if err != nil {
		return nil, err
	}
	return &greeted{Conn: conn}, nil
}

// DialAny opens a TCP connection to any server that the policy allows.
func (p Policy) DialAny(ctx context.Context, address string, port int) (net.Conn, error) {
	target, err := p.Check(address, port)
	if err != nil {
		return nil, err
	}
	d := net.Dialer{Timeout: 10 * time.Second}
	if p.Source.IsValid() {
		d.LocalAddr = &net.TCPAddr{IP: p.Source.AsSlice()}
	}
	conn, err := d.DialContext(ctx, "tcp", net.JoinHostPort(target.Addr().String(), strconv.Itoa(port)))
	if err != nil {
		return nil, err
	}
	if p.Dialed != nil {
		p.Dialed.Add(1)
	}
	return conn, nil
}

// greeted is a connection that looks how the server begins: RFC 4253 section
// 4.2 lets other lines come first, but "SSH-" must come.
type greeted struct {
	net.Conn
	first []byte
}

// errNotSSH says that something answered in another protocol.
var errNotSSH = errors.New("what answers there does not speak SSH")

const greetingKept = 1 << 10

func (g *greeted) Read(p []byte) (int, error) {
	n, err := g.Conn.Read(p)
	if room := greetingKept - len(g.first); room > 0 {
		g.first = append(g.first, p[:min(room, n)]...)
	}
	if err != nil && len(g.first) > 0 && !bytes.HasPrefix(g.first, []byte("SSH-")) && !bytes.Contains(g.first, []byte("\nSSH-")) {
		err = errNotSSH
	}
	return n, err
}
