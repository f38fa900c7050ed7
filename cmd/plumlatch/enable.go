package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"

	"golang.org/x/crypto/ssh"

	"plumlatch/client"
	"plumlatch/core/comeback"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/reach"
)

// enableThere logs in to a copy with the new key, and starts and enables what ran on the old machine and does not come up there.
// The copy is shut still: the service has let this machine in.
func (c *cli) enableThere(service *client.Client, w wire.Work, signer ssh.Signer) error {
	i, d, err := c.copyOf(service, w)
	if err != nil || !d.Ready {
		return err
	}
	at, err := pinnedDoor(service, i)
	if err != nil {
		return err
	}
	t := reach.Target{Address: i.Address, Port: i.Port, User: i.LoginUser}
	for _, k := range at.keys {
		t.HostKeys = append(t.HostKeys, k.Blob)
	}
	conn, err := reach.Login(c.ctx, func(ctx context.Context) (net.Conn, error) { return here.Dial(ctx, i.Address, i.Port) }, t,
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

// copyOf is the copy that work waits for this machine to come in to, as an instance. A copy makes host keys of its own: one that has
// what is pinned here for any machine is no copy, and nothing is done there.
func (c *cli) copyOf(service *client.Client, w wire.Work) (i wire.Instance, d wire.CopyDoor, err error) {
	if d, err = service.CopyDoor(c.ctx, w.ID); err != nil || !d.Ready {
		return i, d, err
	}
	i = wire.Instance{Name: "the copy of " + w.Instance, Alias: "plumlatch-copy", Address: d.Address, Port: d.Port, LoginUser: d.User}
	for _, line := range d.HostKeys {
		i.HostKeys = append(i.HostKeys, wire.HostKey{PublicKey: line})
	}
	at, err := checkDoor(i)
	if err != nil {
		return i, d, err
	}
	if len(at.keys) == 0 {
		return i, d, errors.New("the service names a copy without a host key; nothing was started")
	}
	pins, err := readPins()
	if err == nil && pins != nil && pins.Hold(at.keys) {
		err = fmt.Errorf("the copy of %s has a host key that is pinned here for another machine: nothing was done", w.Instance)
	}
	return i, d, err
}
