package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"

	"golang.org/x/crypto/ssh"

	"plumlatch/client"
	"plumlatch/core/comeback"
	"plumlatch/core/hostkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/reach"
)

// enableThere logs in to a copy with the new key, and starts and enables what ran on the old machine and does not come up there.
// The copy is shut still: the service has let this machine in.
func (c *cli) enableThere(service *client.Client, w wire.Work, signer ssh.Signer) error {
	d, err := service.CopyDoor(c.ctx, w.ID)
	if err != nil || !d.Ready {
		return err
	}
	if _, err := netip.ParseAddr(d.Address); err != nil || d.Port < 1 || d.Port > 65535 || !names.LoginUser(d.User) || len(d.HostKeys) == 0 {
		return errors.New("the service names a copy that makes no sense")
	}
	t := reach.Target{Address: d.Address, Port: d.Port, User: d.User}
	var keys []keypair.Public
	for _, line := range d.HostKeys {
		p, err := keypair.ReadPublic([]byte(line))
		if err != nil {
			return err
		}
		keys, t.HostKeys = append(keys, p), append(t.HostKeys, p.Blob)
	}
	// A copy makes a host key of its own. One that has the old machine's, which is pinned here, is no copy.
	if pins, err := readPins(); err != nil {
		return err
	} else if pins != nil {
		if alias := pins.AliasOf(hostkeys.Owner(service.URL(), w.Instance, "")); alias != "" && pins.Same(alias, keys) {
			return fmt.Errorf("the copy of %s has the host key that is pinned here for the old machine: nothing was done", w.Instance)
		}
	}
	conn, err := reach.Login(c.ctx, func(ctx context.Context) (net.Conn, error) { return here.Dial(ctx, t.Address, t.Port) }, t,
		[]ssh.Signer{signer}, enterLimit)
	if err != nil {
		return err
	}
	defer conn.Close()
	said := wire.EnabledServices{Done: []string{}, Failed: []string{}}
	for _, unit := range d.Services {
		if !comeback.IsService(unit) {
			return fmt.Errorf("the service names %q, which is no name of a service: nothing more was done", plaintext.Line(plaintext.Cut(unit, 80)))
		}
		fmt.Fprintf(c.err, "on %s: sudo systemctl enable --now %s\n", plaintext.Line(d.CloudID), unit)
		if err := reach.EnableUnit(c.ctx, conn, unit); err != nil {
			said.Failed = append(said.Failed, err.Error())
			fmt.Fprintf(c.err, "  failed: %s\n", plaintext.Line(err.Error()))
			continue
		}
		said.Done = append(said.Done, unit)
	}
	if len(said.Failed) > 0 {
		fmt.Fprintf(c.err, "warning: not started there: %s\n", plaintext.Line(strings.Join(said.Failed, "; ")))
	}
	return service.ReportEnabled(c.ctx, w.ID, said)
}
