package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/client"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/core/times"
	"plumlatch/core/wire"
	"plumlatch/reach"
)

// placeByLent comes in by a key that the cloud lends, and adds the lines of a restore. The pair is made for this
// minute, and never leaves the memory of this program.
func (c *cli) placeByLent(service *client.Client, i wire.Instance, id int64) error {
	lines, err := service.RestoreLines(c.ctx, id)
	if err != nil {
		return err
	}
	if err := c.checkLines(service, lines); err != nil {
		return err
	}
	d, err := pinnedDoor(service, i)
	if err != nil {
		return err
	}
	if len(d.keys) == 0 {
		return failure{errors.New("no host key of it is recorded, so nobody logs in there"), "plumlatch instance host-key " + i.Name}
	}
	pair, err := keypair.Create(keypair.Ed25519, "lent")
	if err != nil {
		return err
	}
	signer, err := pair.Signer()
	if err != nil {
		return err
	}
	lent, err := service.Lend(c.ctx, id, pair.Public.Line())
	if err != nil {
		return err
	}
	conn, err := c.loginUntil(service, i, lines.LoginUser, signer, lent)
	if err != nil {
		return err
	}
	defer conn.Close()
	files, end, err := reach.OverSSH(conn)
	if err != nil {
		return err
	}
	defer end.Close()
	return c.addLines(service, files, lines, "lent by the cloud")
}

// loginUntil tries until a lent key is taken, or its time is over: an agent may be slow to take it. The server must have a
// host key that is recorded, and none other than what is pinned here.
func (c *cli) loginUntil(service *client.Client, i wire.Instance, user string, signer ssh.Signer, lent wire.Lent) (*reach.Client, error) {
	d, err := pinnedDoor(service, i)
	if err != nil {
		return nil, err
	}
	t := reach.Target{Address: i.Address, Port: i.Port, User: user}
	for _, k := range d.keys {
		t.HostKeys = append(t.HostKeys, k.Blob)
	}
	for {
		conn, err := reach.LoginBy(c.ctx, func(ctx context.Context) (net.Conn, error) { return here.Dial(ctx, i.Address, i.Port) }, t,
			[]ssh.AuthMethod{ssh.PublicKeys(signer)}, enterLimit)
		if err == nil {
			return conn, nil
		}
		if c.ctx.Err() != nil || !time.Now().Before(lent.Until) {
			return nil, failure{fmt.Errorf("%s does not take the key that the cloud lends (until %s): %w", i.Name,
				times.Show(lent.Until.Local()), err), "plumlatch restore " + i.Name}
		}
		select {
		case <-c.ctx.Done():
		case <-time.After(500 * time.Millisecond):
		}
	}
}

// forLent is why a rule lets this machine in for a lent key.
const forLent = "for a login by a key that the cloud lends"

// letInFor is how long a rule stands that lets this machine in for a login, if nobody withdraws it before.
const letInFor = 10 * time.Minute

// letIn has an inbound rule let this machine in for a while, if none does; shut withdraws it again, and does nothing if
// there was one. The service keeps its end, whatever becomes of this program.
func (c *cli) letIn(service *client.Client, i wire.Instance, reason string) (shut func(), err error) {
	nothing := func() {}
	r, err := service.Rules(c.ctx, i.Name)
	if p, ok := errors.AsType[*client.Problem](err); ok && p.Code == wire.CloudLacks { // whoever gets to its address gets in
		return nothing, nil
	}
	if err != nil || r.CallerURL == "" {
		return nothing, err
	}
	door, err := netip.ParseAddr(i.Address)
	if err != nil {
		return nothing, fmt.Errorf("the address of %s: %w", i.Name, err)
	}
	var mine []string
	for _, a := range callerAddresses(c.ctx, r.CallerURL) {
		if a.Is4() == door.Unmap().Is4() && !admitted(r, a) {
			mine = append(mine, netip.PrefixFrom(a, a.BitLen()).String())
		}
	}
	if len(mine) == 0 { // one stands, or the cloud does not tell under which address it sees this machine
		return nothing, nil
	}
	w, err := service.Admit(c.ctx, i.Name, wire.Admit{From: mine, Seconds: int64(letInFor.Seconds()),
		Reason: reason})
	if err != nil {
		return nothing, err
	}
	if w, err = c.settled(service, w); err != nil {
		return nothing, err
	}
	if w.State != "waiting" {
		return nothing, c.workFailed(service, w)
	}
	fmt.Fprintf(c.err, "No inbound rule let this machine in: %s lets %s in for %s at most (work %d).\n", i.Name,
		strings.Join(mine, " and "), times.Length(letInFor), w.ID)
	admitting := w.ID
	return func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(c.ctx), 30*time.Second)
		defer cancel()
		_, err := service.CancelWork(ctx, admitting)
		for err == nil && !w.Over() {
			select {
			case <-ctx.Done():
				err = ctx.Err()
			case <-time.After(150 * time.Millisecond):
				w, err = service.WorkByID(ctx, admitting)
			}
		}
		if err != nil {
			fmt.Fprintf(c.err, "plumlatch: the rule for this machine is not withdrawn yet (%s); it ends by itself\nnext: plumlatch work cancel %d\n",
				plaintext.Line(err.Error()), admitting)
			return
		}
		fmt.Fprintf(c.err, "%s lets %s in no more.\n", i.Name, strings.Join(mine, " and "))
	}, nil
}

// admitted tells whether a rule lets an address in to the SSH port.
func admitted(r wire.Rules, a netip.Addr) bool {
	for _, g := range r.Groups {
		for _, rule := range g.Rules {
			if p, err := netip.ParsePrefix(rule.From); err == nil && rule.Ports == "" && p.Contains(a) {
				return true
			}
		}
	}
	return false
}

// openLent logs in once by a key that the cloud lends.
func (c *cli) openLent(service *client.Client, i wire.Instance, d door, reason string) error {
	if len(d.keys) == 0 {
		return failure{errors.New("no host key of it is recorded, so nobody logs in there"), "plumlatch instance host-key " + i.Name}
	}
	shut, err := c.letIn(service, i, forLent)
	if err != nil {
		return err
	}
	defer shut()
	file, end, err := c.lentIdentity(service, i, reason)
	if err != nil {
		return err
	}
	defer end()
	status, err := c.ssh(d, file, c.rest)
	if err != nil {
		return err
	}
	if status == sshFailed {
		fmt.Fprintf(c.err, "plumlatch: ssh ended with 255: it could not log in, or the connection broke; the cloud's agent may not run "+
			"there\nnext: plumlatch why %s\n", i.Name)
	}
	c.exit = status
	return nil
}

// lentIdentity has the cloud lend a key for one login, and returns the file with its private half, in a folder of its
// own; end removes both.
func (c *cli) lentIdentity(service *client.Client, i wire.Instance, reason string) (file string, end func(), err error) {
	pair, err := keypair.Create(keypair.Ed25519, "lent by the cloud")
	if err != nil {
		return "", nil, err
	}
	data, err := pair.OpenSSH(nil)
	if err != nil {
		return "", nil, err
	}
	dir, err := os.MkdirTemp("", "plumlatch-lent-")
	if err != nil {
		return "", nil, err
	}
	end = func() { _ = os.RemoveAll(dir) }
	file = filepath.Join(dir, "lent")
	if err := os.WriteFile(file, data, 0o600); err != nil {
		end()
		return "", nil, err
	}
	lent, err := service.LendTo(c.ctx, i.Name, pair.Public.Line(), reason)
	if err != nil {
		end()
		return "", nil, err
	}
	// An agent may be slow to take it: ssh itself would ask once.
	signer, err := pair.Signer()
	if err == nil {
		var conn *reach.Client
		if conn, err = c.loginUntil(service, i, lent.LoginUser, signer, lent); err == nil {
			conn.Close()
		}
	}
	if err != nil {
		end()
		return "", nil, err
	}
	fmt.Fprintf(c.err, "The cloud lets this machine in as %s until %s.\n", plaintext.Line(lent.LoginUser), times.Show(lent.Until.Local()))
	return file, end, nil
}
