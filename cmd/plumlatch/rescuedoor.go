package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net"
	"net/netip"

	"golang.org/x/crypto/ssh"

	"plumlatch/client"
	"plumlatch/core/hostkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/reach"
)

var errNoRescue = errors.New("the service names a rescue instance that makes no sense")

// enterRescue logs in to the rescue instance of a piece of work, by the engineer's own key. One that is pinned here has the host key that is pinned.
func (c *cli) enterRescue(service *client.Client, door wire.RescueDoor, signer ssh.Signer) (*reach.Rescue, error) {
	if _, err := netip.ParseAddr(door.Address); err != nil || door.Port < 1 || door.Port > 65535 ||
		!names.LoginUser(door.User) || len(door.HostKeys) == 0 {
		return nil, errNoRescue
	}
	if pins, err := readPins(); err != nil {
		return nil, err
	} else if pins != nil {
		var keys []keypair.Public
		for _, line := range door.HostKeys {
			if p, err := keypair.ReadPublic([]byte(line)); err == nil {
				keys = append(keys, p)
			}
		}
		// One that was adopted is an instance like others, and may be pinned.
		owner := hostkeys.Owner(service.URL(), door.Name, "")
		if alias := pins.AliasOf(owner); alias != "" && !pins.Same(alias, keys) {
			return nil, fmt.Errorf("the host key of the rescue instance %s is another one than is pinned here: nothing "+
				"was done there", plaintext.Line(door.Name))
		}
	}
	t := reach.Target{Address: door.Address, Port: door.Port, User: door.User}
	for _, line := range door.HostKeys {
		p, err := keypair.ReadPublic([]byte(line))
		if err != nil {
			return nil, err
		}
		t.HostKeys = append(t.HostKeys, p.Blob)
	}
	conn, err := reach.Login(c.ctx, func(ctx context.Context) (net.Conn,
		error) {
		return here.Dial(ctx, t.Address, t.Port)
	}, t, []ssh.Signer{signer}, enterLimit)
	if err != nil {
		return nil, err
	}
	rescue, err := reach.RescueOver(c.ctx, conn)
	if err != nil {
		conn.Close()
	}
	return rescue, err
}

// unlocking is what opens the encrypted parts of a volume: a passphrase of the engineer's, which is given to cryptsetup(8) on the rescue instance, over
// SSH from here, and never to the service.
type unlocking struct {
	from   string // asked, or the file with it; "" for a volume that is not encrypted
	phrase []byte // nil until it was read
}

func (u *unlocking) flags(fs *flag.FlagSet) {
	fs.StringVar(&u.from, "unlock", "", "open what is encrypted on the volume (LUKS), on the rescue instance, by the passphrase in this `file`, or ask; the service is not sent it")
}

// askPhrase has a passphrase be asked on the terminal.
const askPhrase = "ask"

func (u *unlocking) forget() { clear(u.phrase) }

// readUnlock reads the passphrase before anything is stopped, if one is to be used: nothing waits for it later.
func (c *cli) readUnlock(u *unlocking, instance string) (err error) {
	if u.from == "" {
		return nil
	}
	u.phrase, err = c.unlockPhrase(u.from, instance)
	return err
}

func (c *cli) unlockPhrase(from, instance string) ([]byte, error) {
	if from != "" && from != askPhrase {
		return readPassphrase(from, "-unlock")
	}
	if !c.tty {
		return nil, failure{errors.New("a passphrase is needed, and there is no terminal to ask on"), "the same command with -unlock FILE"}
	}
	return c.ask(fmt.Sprintf("Passphrase of the encrypted volume of %s (used on the rescue instance, and never sent to the service): ", instance))
}

// unlockTries is how often a passphrase is asked on a terminal.
const unlockTries = 3

// unlockThere opens on the rescue instance what the work waits for. One part that opens is enough: what the service finds open it uses.
func (c *cli) unlockThere(service *client.Client, w wire.Work, signer ssh.Signer, u *unlocking) error {
	door, err := service.RescueDoor(c.ctx, w.ID)
	if err != nil || len(door.Locked) == 0 {
		return err
	}
	rescue, err := c.enterRescue(service, door, signer)
	if err != nil {
		return err
	}
	defer rescue.Close()
	for try := 1; ; try++ {
		if u.phrase == nil {
			if u.phrase, err = c.unlockPhrase(u.from, w.Instance); err != nil {
				return err
			}
		}
		var trouble error
		opened := 0
		for _, part := range door.Locked {
			err := rescue.Unlock(c.ctx, part.Device, part.Mapping, u.phrase)
			if err != nil && !errors.Is(err, reach.ErrPassphrase) {
				return err
			}
			trouble = errors.Join(trouble, err)
			if err == nil {
				opened++
				fmt.Fprintf(c.err, "%s is open on the rescue instance\n", part.Device)
			}
		}
		if opened > 0 {
			return c.stillWaits(service, w, rescue, door)
		}
		u.forget()
		u.phrase = nil
		if u.from != "" && u.from != askPhrase || !c.tty || try == unlockTries {
			return trouble
		}
		fmt.Fprintf(c.err, "%s\n", plaintext.Line(trouble.Error()))
	}
}

// stillWaits closes what was opened here, if the work has gone back meanwhile: the service has closed what it found open, and nobody else would.
func (c *cli) stillWaits(service *client.Client, w wire.Work, rescue *reach.Rescue, door wire.RescueDoor) error {
	_, err := service.RescueDoor(c.ctx, w.ID)
	if p, ok := errors.AsType[*client.Problem](err); !ok || p.Status != 409 { // it goes on, or that is not known: the service looks for what is open
		return nil
	}
	var opened []string
	for _, part := range door.Locked {
		opened = append(opened, part.Mapping)
	}
	return errors.Join(fmt.Errorf("work %d went back meanwhile, and what was opened is closed again", w.ID), rescue.CloseMapped(c.ctx, opened))
}
