package main

import (
	"errors"
	"fmt"

	"plumlatch/client"
	"plumlatch/core/wire"
)

// knownEntrance is a session of the engineer's own on an instance of the ledger.
type knownEntrance struct {
	*entrance
	of       wire.Instance
	door     door
	identity string       // the file of the key; "" for an agent's
	used     *wire.Access // of a key that was chosen here; nil where it was given
}

// enterKnown logs in to an instance of the ledger with the key that the options name or, where they name none, with one of ~/.ssh that opens
// it. Its host key is compared with what is pinned here. next is the command that -identity is added to, if no key is found.
func (c *cli) enterKnown(service *client.Client, name string, o adoptOptions, next string) (*knownEntrance, error) {
	i, err := service.Instance(c.ctx, name)
	if err != nil {
		return nil, err
	}
	if err := openable(i); err != nil {
		return nil, err
	}
	d, err := pinnedDoor(service, i)
	if err != nil {
		return nil, err
	}
	if len(d.keys) == 0 {
		return nil, failure{fmt.Errorf("no host key of %s is recorded, so nobody can tell who answers", i.Name),
			"plumlatch instance host-key " + i.Name}
	}
	out := &knownEntrance{of: i, door: d, identity: o.identity}
	if out.identity == "" && !o.agent {
		if out.used, out.identity, err = c.ownIdentity(service, i, next); err != nil {
			return nil, err
		}
	}
	o.unattended = true
	out.entrance, err = c.enter(adopteeOf(i, d, out.identity), o)
	return out, err
}

// ownIdentity is a key of ~/.ssh that opens an instance as its login user, and the access that it has; next is the command to go on with.
func (c *cli) ownIdentity(service *client.Client, i wire.Instance, next string) (*wire.Access, string, error) {
	o, err := service.Opening(c.ctx, i.Name)
	if err != nil {
		return nil, "", err
	}
	used, file, err := chooseIdentity(forUser(openers(o), i.LoginUser), i.Name, "", "")
	if f, ok := errors.AsType[failure](err); ok {
		f.next = next + " -identity FILE"
		err = f
	}
	return used, file, err
}
