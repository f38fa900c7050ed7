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
	"time"
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

// Dial opens a TCP connection that the policy allows.
func (p Policy) Dial(ctx context.Context, address string, port int) (net.Conn, error) {
	target, err := p.Check(address, port)
	if err != nil {
		return nil, err
	}
	d := net.Dialer{Timeout: 10 * time.Second}
	if p.Source.IsValid() {
		d.LocalAddr = &net.TCPAddr{IP: p.Source.AsSlice()}
	}
	return d.DialContext(ctx, "tcp", net.JoinHostPort(target.Addr().String(), strconv.Itoa(port)))
}
