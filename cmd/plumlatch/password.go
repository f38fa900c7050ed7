package main

import (
	"errors"
	"flag"
	"fmt"
	"net"
	"os"
	"strconv"
	"time"

	"plumlatch/core/firstpassword"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
)

// instancePassword decrypts the first password of an instance without SSH, on this machine, or records that it was changed.
func instancePassword(fs *flag.FlagSet) func(*cli) error {
	identity := fs.String("identity", "", "`file` with the private half of the launch key; it is used here and never sent (default: "+
		"that of -dir)")
	dir := fs.String("dir", "", "`folder` to look for the launch key's file in (default ~/.ssh)")
	passFile := fs.String("passphrase-file", "", "`file` with the passphrase of -identity")
	changed := fs.Bool("changed", false, "record that it was changed there: the launch key no longer matters to it")
	yes := fs.Bool("yes", false, "do not ask")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		if *changed {
			if *identity != "" || *passFile != "" || *dir != "" {
				return usagef("-changed needs no key: leave out -identity, -dir and -passphrase-file")
			}
			if !*yes {
				if err := c.confirm("Was the first password of " + args[0] + " changed there?"); err != nil {
					return err
				}
			}
			p, err := service.PasswordChanged(c.ctx, args[0])
			if err != nil {
				return err
			}
			key := "its launch key"
			if p.Key != "" {
				key = p.Key
			}
			fmt.Fprintf(c.out, "Recorded, by %s: %s no longer matters to %s.\n", plaintext.Line(p.ChangedBy), key, args[0])
			return nil
		}
		s, err := service.FirstPassword(c.ctx, args[0])
		if err != nil {
			return err
		}
		sealed, err := firstpassword.CipherText(s.CipherText)
		if err != nil {
			return fmt.Errorf("what came as the first password of %s: %w", s.Instance, err)
		}
		file := *identity
		if file == "" {
			if file, err = c.launchKeyFile(s, *dir); err != nil {
				return err
			}
		}
		f, _, err := c.readKey(file, *passFile)
		if err != nil {
			return err
		}
		if f.Pair == nil {
			return failure{fmt.Errorf("%s holds no private half", file), "give the private file with -identity FILE"}
		}
		password, err := firstpassword.Decrypt(f.Pair, sealed)
		if err != nil {
			next := "plumlatch instance password " + s.Instance + " -identity FILE, with the private half of its launch key"
			if s.Key != "" && f.Pair.Public.Fingerprint() != s.Fingerprint {
				next = fmt.Sprintf("plumlatch instance password %s -identity FILE, with the private half of %s (%s)", s.Instance, s.Key, s.Fingerprint)
			} else if errors.Is(err, firstpassword.ErrOtherKey) && s.Key != "" {
				next = "nobody of ours can read it, though " + s.Key + " is its launch key: launch it anew"
			}
			return failure{fmt.Errorf("the first password of %s, with %s: %w", s.Instance, file, err), next}
		}
		if s.ChangedAt != nil {
			fmt.Fprintf(c.err, "It was recorded as changed %s: this one may open nothing any more.\n", ago(*s.ChangedAt, time.Now()))
		}
		fmt.Fprintf(c.err, "The first password of %s, for %s at %s (remote desktop). It is shown here, and kept nowhere:\n", s.Instance,
			plaintext.Line(s.LoginUser), net.JoinHostPort(s.Address, strconv.Itoa(s.Port)))
		fmt.Fprintln(c.out, password)
		fmt.Fprintf(c.err, "Change it there now: whoever has the private half of its launch key can read it.\nnext: plumlatch instance password "+
			"%s -changed\n", s.Instance)
		return nil
	}
}

// launchKeyFile finds the private half of an instance's launch key in a folder.
func (c *cli) launchKeyFile(s wire.SealedPassword, dir string) (string, error) {
	if s.Fingerprint == "" {
		return "", failure{errors.New("the ledger does not know which key it is encrypted to"), "the same command with -identity FILE"}
	}
	if dir == "" {
		var err error
		if dir, err = sshDir(); err != nil {
			return "", err
		}
	}
	files, err := localKeys(dir)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return "", err
	}
	file := files[s.Fingerprint]
	if file == "" {
		name := s.Key
		if name == "" {
			name = s.Fingerprint
		}
		return "", failure{fmt.Errorf("the private half of %s is not in %s", plaintext.Line(name), dir), "the same command with -identity FILE; " +
			"a key of an ssh-agent does not do, as agents sign, and do not decrypt"}
	}
	return file, nil
}

// printFirstPassword says what is known of an instance without SSH, and claims nothing of who gets in.
func (c *cli) printFirstPassword(name string, p *wire.FirstPassword) {
	fmt.Fprintf(c.out, "%s has no SSH: no key opens it, and nobody of ours sees who knows its password.\n", name)
	if p == nil {
		return
	}
	key := "a key that the ledger does not know"
	switch {
	case p.Key != "":
		key = p.Key
	case p.Fingerprint != "":
		key = p.Fingerprint
	}
	switch {
	case p.ChangedAt != nil:
		fmt.Fprintf(c.out, "Its first password was recorded as changed %s by %s; %s no longer matters to it.\n", ago(*p.ChangedAt, time.Now()),
			plaintext.Line(p.ChangedBy), plaintext.Line(key))
	default:
		fmt.Fprintf(c.out, "Its first password is encrypted to %s, and nobody has recorded that it was changed.\n", plaintext.Line(key))
	}
	if p.HandedAt != nil {
		fmt.Fprintf(c.out, "It was last handed over, encrypted, %s to %s.\n", ago(*p.HandedAt, time.Now()), plaintext.Line(p.HandedTo))
	}
	if p.ChangedAt == nil {
		fmt.Fprintf(c.out, "next: plumlatch instance password %s\n", name)
		return
	}
	fmt.Fprintf(c.out, "next: plumlatch instance show %s\n", name)
}
