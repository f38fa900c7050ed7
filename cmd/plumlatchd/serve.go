package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"strings"
	"sync/atomic"

	"plumlatch/console"
	"plumlatch/reach"
	"plumlatch/service"
	"plumlatch/service/atrest"
	"plumlatch/service/cloud"
	"plumlatch/service/cloud/libvirt"
	"plumlatch/service/cloud/standin"
	"plumlatch/service/door"
	"plumlatch/service/fleet"
	"plumlatch/service/kinds"
	"plumlatch/service/store"
)

// halt is what a service that is built for the harness is halted by; nil in any other.
var halt func(point string)

// startService opens the database, goes on with unfinished work and listens.
func startService(ctx context.Context, c config, log *slog.Logger) (_ *service.Service, err error) {
	clouds, err := c.clouds()
	if err != nil {
		return nil, err
	}
	policy, err := c.policy()
	if err != nil {
		return nil, err
	}
	// Take the port first: one that is started twice by mistake must not touch the database.
	listener, err := net.Listen("tcp", c.listen)
	if err != nil {
		return nil, fmt.Errorf("%w; is another service running? choose another with -listen", err)
	}
	defer func() {
		if err != nil {
			listener.Close()
		}
	}()
	db, err := store.Open(ctx, c.databaseURL, c.ownerURL, c.connections, log)
	if err != nil {
		return nil, err
	}
	cipher, err := service.OpenCipher(ctx, db, c.identityFile)
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	heads, err := atrest.OpenHeads(cmp.Or(c.journalKey, c.identityFile+".journal"))
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	worker := kinds.New(&door.Service{Store: db, Clouds: clouds, Reach: policy, Cipher: cipher, Log: log,
		Lease: c.lease, StateLimit: c.stateLimit, FollowEvery: c.follow, Heads: heads, Halt: halt}, c.surveys)
	if c.keybook != "" {
		worker.Book = &fleet.Following{Path: c.keybook, As: c.keybookAs}
	}
	options := service.Options{Console: console.Files(), Listen: c.listen, CertFile: c.tlsCert, KeyFile: c.tlsKey}
	if c.allowHosts != "" {
		options.Hosts = strings.Split(c.allowHosts, ",")
	}
	options.AgentProgram = c.agentProgram
	if c.agentListen != "" {
		if options.Agents, err = net.Listen("tcp", c.agentListen); err != nil {
			return nil, errors.Join(fmt.Errorf("option agent-listen: %w", err), db.Close())
		}
		if strings.HasSuffix(c.agentAddress, ":0") { // any free port
			options.AgentAddress = options.Agents.Addr().String()
		} else {
			options.AgentAddress = c.agentAddress
		}
	}
	s, err := service.Start(ctx, worker, listener, options)
	if err != nil {
		if options.Agents != nil {
			err = errors.Join(err, options.Agents.Close())
		}
		return nil, errors.Join(err, db.Close())
	}
	log.Info("listening", "address", c.listen, "tls", c.tlsCert != "")
	return s, nil
}

// clouds are those that the options name.
func (c *config) clouds() (*cloud.Set, error) {
	var all []cloud.Driver
	if c.cloudURL != "" {
		token, err := os.ReadFile(c.cloudToken)
		if err != nil {
			return nil, err
		}
		all = append(all, standin.New(c.cloudURL, strings.TrimSpace(string(token))))
	}
	if c.libvirtFile == "" {
		return cloud.NewSet(all...)
	}
	text, err := os.ReadFile(c.libvirtFile)
	if err != nil {
		return nil, fmt.Errorf("option libvirt: %w", err)
	}
	hosts, err := libvirt.Read(text)
	if err != nil {
		return nil, fmt.Errorf("option libvirt: %s: %w", c.libvirtFile, err)
	}
	return cloud.NewSet(append(all, libvirt.New(hosts))...)
}

// policy makes the reach policy, with our own listeners forbidden.
func (c *config) policy() (reach.Policy, error) {
	p := reach.Policy{AllowLoopback: c.dialLoopback, Budget: &reach.Budget{}, Dialed: new(atomic.Int64),
		Asked: new(atomic.Int64)}
	if c.dialFrom != "" {
		a, err := netip.ParseAddr(c.dialFrom)
		if err != nil {
			return p, fmt.Errorf("option dial-from: %q is no IP address", c.dialFrom)
		}
		p.Source = a
	}
	var err error
	own := []string{c.cloudURL}
	if c.agentListen != "" {
		own = append(own, "https://"+c.agentListen)
	}
	if c.pprofListen != "" {
		own = append(own, "http://"+c.pprofListen)
	}
	p.Forbidden, err = ownListeners(c.listen, own, []string{c.databaseURL, c.ownerURL}, lookup)
	return p, err
}
