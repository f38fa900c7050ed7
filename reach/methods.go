package reach

import (
	"context"
	"errors"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/core/hostkeys"
)

// Methods asks a server by which methods it would let a user log in (RFC 4252
// section 5.2, "none"), without offering anything. keyboard-interactive is not
// told apart where it stands beside password: asking further would count as an
// attempt. open means that the server let us in without anything.
func Methods(ctx context.Context, p Policy, t Target) (methods []string, open bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, probeTimeout)
	defer cancel()
	if p.Budget.take(t.place(), time.Now()) > 0 {
		return nil, false, errors.New("this server was probed often enough for now")
	}
	conn, err := p.dial(ctx, t)
	if err != nil {
		return nil, false, dialError(err)
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	note := func(method string) { methods = append(methods, method) }
	client, _, requests, err := ssh.NewClientConn(conn, t.Address, &ssh.ClientConfig{
		User: t.User, ClientVersion: "SSH-2.0-plumlatch-probe", HostKeyCallback: pinned(t.HostKeys),
		HostKeyAlgorithms: hostkeys.Algorithms(t.HostKeys),
		// The library calls each only where the server offers the method; the last two end the connection.
		Auth: []ssh.AuthMethod{
			ssh.PublicKeysCallback(func() ([]ssh.Signer, error) { note("publickey"); return nil, nil }),
			ssh.PasswordCallback(func() (string, error) { note("password"); return "", errAsked }),
			ssh.KeyboardInteractive(func(string, string, []string, []bool) ([]string, error) {
				note("keyboard-interactive")
				return nil, errAsked
			}),
		},
	})
	if err == nil {
		go ssh.DiscardRequests(requests)
		client.Close()
		return nil, true, nil
	}
	switch {
	case len(methods) > 0, unauthenticated(err):
		return methods, false, nil
	case ctx.Err() != nil:
		return nil, false, errInTime
	}
	return nil, false, dialError(err)
}
