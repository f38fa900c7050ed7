package standin

import (
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"net"
	"slices"
	"strconv"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
)

// stranger is somebody else's server at an address that was given back: it has
// a host key of its own, and lets nobody in.
type stranger struct {
	listener net.Listener
	wg       sync.WaitGroup
}

// maxStrangers is how many there are at most; the oldest goes first.
const maxStrangers = 64

// freed gives an address back; where the cloud is so set, a stranger gets it.
// A static address that still is somebody's is not free. The caller holds mu.
func (c *Cloud) freed(address string) {
	if address == "" || !c.opts.Strangers {
		return
	}
	for _, a := range c.static {
		if a.Address == address {
			return
		}
	}
	if err := c.stranger(address); err != nil {
		c.opts.Log.Warn("no stranger got the address", "address", address, "error", err)
	}
}

// stranger starts somebody else's server at an address; the caller holds mu.
func (c *Cloud) stranger(address string) error {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return err
	}
	signer, err := ssh.NewSignerFromSigner(private)
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp4", net.JoinHostPort(address, strconv.Itoa(c.opts.Port)))
	if err != nil {
		return err
	}
	s := &stranger{listener: l}
	config := &ssh.ServerConfig{ServerVersion: "SSH-2.0-OpenSSH_9.3 somebody-else",
		PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) {
			return nil, errRefused
		}}
	config.AddHostKey(signer)
	s.wg.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			s.wg.Go(func() {
				defer conn.Close()
				_ = conn.SetDeadline(time.Now().Add(20 * time.Second))
				_, _, _, _ = ssh.NewServerConn(conn, config)
			})
		}
	})
	c.strangers[address] = s
	c.strangerAt = append(c.strangerAt, address)
	if len(c.strangerAt) > maxStrangers {
		c.evict(c.strangerAt[0])
	}
	return nil
}

// evict ends a stranger's server; the caller holds mu.
func (c *Cloud) evict(address string) {
	if s := c.strangers[address]; s != nil {
		s.listener.Close()
		delete(c.strangers, address)
		c.strangerAt = slices.DeleteFunc(c.strangerAt, func(a string) bool { return a == address })
	}
}

// The ways in which an instance's SSH port can be.
const (
	DoorOpen   = "open"
	DoorClosed = "closed" // nothing listens
	DoorSilent = "silent" // every connection is held, and nothing said
	DoorOther  = "other"  // something that does not speak SSH
	DoorNone   = "none"   // the instance has no address at all
)

// SetDoor changes how the SSH port of an instance is, from now on.
func (c *Cloud) SetDoor(id, is string) (Instance, error) {
	if !slices.Contains([]string{DoorOpen, DoorClosed, DoorSilent, DoorOther, DoorNone}, is) {
		return Instance{}, errors.Join(ErrInvalid, errors.New("a door is open, closed, silent, other or none"))
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	in, ok := c.instances[id]
	if !ok {
		return Instance{}, ErrNotFound
	}
	in.Door = is
	if in.State == Running {
		c.unserve(in)
		if is == DoorNone {
			c.freed(in.Address)
			in.Address = ""
			return in.Instance, c.save()
		}
		if in.Address == "" {
			c.giveAddress(in)
		}
		if err := c.serve(in); err != nil {
			return Instance{}, err
		}
	}
	return in.Instance, c.save()
}
