package reach

import (
	"context"
	"fmt"
	"net"

	"golang.org/x/crypto/ssh"
)

// Carry opens a connection to a target, or through its jump host, whose bytes are passed on and not read here: they have no budget, as whoever passes them on
// holds few of them at a time. It lasts until ctx ends at the latest. Both addresses must be allowed. from is the address that the server sees, as far as
// that is known here.
func (p Policy) Carry(ctx context.Context, t Target) (conn net.Conn, from string, err error) {
	if t.Via == nil {
		if conn, err = p.DialAny(ctx, t.Address, t.Port); err != nil {
			return nil, "", err
		}
		from, _, _ = net.SplitHostPort(conn.LocalAddr().String())
		return conn, from, nil
	}
	target, err := p.Check(t.Address, t.Port)
	if err != nil {
		return nil, "", err
	}
	hop, err := login(ctx, func(ctx context.Context, t Target) (net.Conn, error) { return p.Dial(ctx, t.Address, t.Port) }, t.Via.Target,
		[]ssh.AuthMethod{ssh.PublicKeys(t.Via.Signer)}, enterTimeout, 0)
	if err != nil {
		return nil, "", fmt.Errorf("jump host: %w", err)
	}
	inner, err := hop.DialContext(ctx, "tcp", target.String())
	if err != nil {
		hop.Close()
		return nil, "", fmt.Errorf("the jump host does not get there: %w", err)
	}
	l := inner.(*line)
	l.allow(1 << 60)
	return carried{hopped{l.Conn, hop.Close}, l.Conn}, t.Via.Address, nil
}

// carried is a connection through a hop that can be closed in one direction.
type carried struct {
	hopped
	inner net.Conn
}

// CloseWrite says that nothing more comes (RFC 4254 section 5.3).
func (c carried) CloseWrite() error {
	if half, ok := c.inner.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return c.Close()
}
