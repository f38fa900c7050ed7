// Package reach holds the ways to touch an instance: where the service may
// dial, how it learns a host key, and the acceptance probe. It knows nothing
// of the ledger.
package reach

import (
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
	// Dialed counts the connections that were opened, Asked the keys that servers were asked
	// about and answered; nil counts none.
	Dialed, Asked *atomic.Int64
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
	for _, inner := range embedded(a) {
		if _, err := p.Check(inner.String(), port); err != nil {
			return target, fmt.Errorf("%w: %s leads to %s", ErrPolicy, a, inner)
		}
	}
	for _, m := range metadata {
		if m.Contains(a) {
			return target, fmt.Errorf("%w: %s is that of a metadata service", ErrPolicy, a)
		}
	}
	switch {
	case a.Zone() != "" || a.IsUnspecified() || a.IsMulticast():
		return target, fmt.Errorf("%w: %s is no host's address", ErrPolicy, a)
	case a.IsLinkLocalUnicast(): // metadata services live here
		return target, fmt.Errorf("%w: %s is link-local", ErrPolicy, a)
	case a.IsLoopback() && !p.AllowLoopback:
		return target, fmt.Errorf("%w: %s is loopback, which the configuration does not allow", ErrPolicy, a)
	}
	for _, f := range p.Forbidden {
		own := f.Addr().Unmap()
		if f.Port() == target.Port() && (own == a || own.IsUnspecified() || own.IsLoopback() && a.IsLoopback()) {
			return target, fmt.Errorf("%w: %s is a listener of Plum Latch's own", ErrPolicy, target)
		}
	}
	return target, nil
}

// metadata are where clouds tell an instance about itself, besides link-local
// addresses.
var metadata = []netip.Prefix{
	netip.MustParsePrefix("fd00:0ec2::254/128"),
	netip.MustParsePrefix("fd00:0ec2::23/128"),
	netip.MustParsePrefix("fd20:ce::254/128"),
	netip.MustParsePrefix("100.100.100.200/32"),
	netip.MustParsePrefix("168.63.129.16/32"),
	netip.MustParsePrefix("192.0.0.192/32"),
}

// embedded are the IPv4 addresses that an IPv6 address has within it, to which a
// translator or a tunnel on the way leads: compatible (RFC 4291 section 2.5.5.1),
// NAT64 (RFC 6052, RFC 8215), 6to4 (RFC 3056), Teredo (RFC 4380), ISATAP (RFC 5214).
func embedded(a netip.Addr) []netip.Addr {
	if !a.Is6() || a.Is4In6() {
		return nil
	}
	b := a.As16()
	at := func(n int) netip.Addr { return netip.AddrFrom4([4]byte(b[n : n+4])) }
	in := func(prefix string) bool { return netip.MustParsePrefix(prefix).Contains(a) }
	switch {
	case in("::/96") && !a.IsUnspecified() && !a.IsLoopback():
		return []netip.Addr{at(12)}
	case in("64:ff9b::/96"):
		return []netip.Addr{at(12)}
	case in("64:ff9b:1::/48"): // its prefix may have any of these lengths
		return []netip.Addr{at(12), netip.AddrFrom4([4]byte{b[6], b[7], b[9], b[10]}),
			netip.AddrFrom4([4]byte{b[7], b[9], b[10], b[11]}), at(9)}
	case in("2002::/16"):
		return []netip.Addr{at(2)}
	case in("2001::/32"):
		c := at(12).As4()
		return []netip.Addr{at(4), netip.AddrFrom4([4]byte{^c[0], ^c[1], ^c[2], ^c[3]})}
	case (b[8] == 0 || b[8] == 2) && b[9] == 0 && b[10] == 0x5e && b[11] == 0xfe:
		return []netip.Addr{at(12)}
	}
	return nil
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
	switch {
	case t.Via == nil && t.Over != nil:
		return p.dialOver(ctx, t)
	case t.Via == nil:
		return p.Dial(ctx, t.Address, t.Port)
	}
	target, err := p.Check(t.Address, t.Port)
	if err != nil {
		return nil, err
	}
	hop, err := login(ctx, func(ctx context.Context, t Target) (net.Conn,
		error) {
		return p.Dial(ctx, t.Address, t.Port)
	}, t.Via.Target,
		[]ssh.AuthMethod{ssh.PublicKeys(t.Via.Signer)}, enterTimeout, lifeLimit)
	if err != nil {
		return nil, fmt.Errorf("jump host: %w", err)
	}
	inner, err := hop.DialContext(ctx, "tcp", target.String())
	if err != nil {
		hop.Close()
		return nil, fmt.Errorf("the jump host does not get there: %w", err)
	}
	l := inner.(*line)
	l.Conn = hopped{l.Conn, hop.Close}
	return l, nil
}

// directLimit is how long a connection to an address may take to which another way leads, too.
const directLimit = 3 * time.Second

// dialOver opens a connection to a target's address, and where none is made, one over its other way. What is forbidden stays so.
func (p Policy) dialOver(ctx context.Context, t Target) (net.Conn, error) {
	limited, cancel := context.WithTimeout(ctx, directLimit)
	defer cancel()
	conn, err := p.Dial(limited, t.Address, t.Port)
	if err == nil || ctx.Err() != nil || errors.Is(err, ErrPolicy) {
		return conn, err
	}
	over, e := t.Over(ctx)
	if e != nil {
		return nil, errors.Join(err, e)
	}
	return newLine(over), nil
}

// hopped is a connection through a hop, which ends with it: the hop first, since
// its server need not let the channel go.
type hopped struct {
	net.Conn
	end func() error
}

func (h hopped) Close() error { return errors.Join(h.end(), h.Conn.Close()) }

// Dial opens a TCP connection to an SSH server that the policy allows.
func (p Policy) Dial(ctx context.Context, address string, port int) (net.Conn, error) {
	conn, err := p.DialAny(ctx, address, port)
	if err != nil {
		return nil, err
	}
	return newLine(conn), nil
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
