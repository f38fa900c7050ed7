package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"

	"golang.org/x/crypto/ssh"

	"plumlatch/client"
	"plumlatch/core/keypair"
	"plumlatch/core/logins"
	"plumlatch/core/plaintext"
	"plumlatch/reach"
)

// keyByPassword places the engineer's own key where a server takes a password and not the key, with the engineer's own rights there. The
// password is asked for, used for one login, and kept nowhere. false if the server takes none, or none was given.
func (c *cli) keyByPassword(dial func(context.Context) (net.Conn, error), t reach.Target, a adoptee, signer ssh.Signer, keysFile string) (bool, error) {
	methods, _, err := reach.Methods(c.ctx, here, t)
	if err != nil || !slices.Contains(methods, "password") && !slices.Contains(methods, "keyboard-interactive") {
		return false, nil // why the key does not get in is said by the caller
	}
	own, err := keypair.FromBlob(signer.PublicKey().Marshal(), a.name)
	if err != nil {
		return false, err
	}
	fmt.Fprintf(c.err, "%s does not take %s for %s. It takes a password: by that the key can be placed there.\n", plaintext.Line(a.host), own.Fingerprint(), a.user)
	password, err := c.ask(fmt.Sprintf("Password of %s at %s (nothing shows while you type; empty: leave it): ", a.user, plaintext.Line(a.host)))
	if err != nil || len(password) == 0 {
		return false, err
	}
	defer clear(password)
	conn, err := reach.LoginBy(c.ctx, dial, t, []ssh.AuthMethod{ssh.Password(string(password)),
		ssh.KeyboardInteractive(func(_, _ string, questions []string, echos []bool) ([]string, error) {
			if len(questions) == 0 {
				return nil, nil
			}
			if len(questions) > 1 || echos[0] { // it asks for something else
				return nil, errors.New("the server asks for more than a password")
			}
			return []string{string(password)}, nil
		})}, enterLimit)
	if errors.Is(err, reach.ErrNotLetIn) {
		return false, failure{fmt.Errorf("%s does not let %s in by that password; nothing was changed", plaintext.Line(a.host), a.user), "run the command again"}
	}
	if err != nil {
		return false, fmt.Errorf("%s: %w", plaintext.Line(a.host), err)
	}
	defer conn.Close()
	file, err := reach.PlaceOwnKey(c.ctx, conn, a.user, keysFile, own.Line())
	if err != nil {
		return false, fmt.Errorf("%s: the key could not be placed: %w", plaintext.Line(a.host), err)
	}
	fmt.Fprintf(c.err, "%s stands in %s of %s now.\n", own.Fingerprint(), plaintext.Line(file), a.user)
	return true, nil
}

// offerPasswordOff asks whether password logins go off, once the key that was placed was shown to get in.
func (c *cli) offerPasswordOff(service *client.Client, r adoptResult, o adoptOptions) {
	command := "plumlatch instance logins " + r.Instance.Name + " -password off"
	if r.Privilege != "root" && r.Privilege != "sudo without a password" {
		fmt.Fprintf(c.err, "Its server takes passwords still, and %s has %s: next, as somebody who has sudo without a password: %s\n", r.Instance.LoginUser, r.Privilege, command)
		return
	}
	if err := c.confirm(fmt.Sprintf("Switch password logins off on %s? It is put back if no new login confirms it.", r.Instance.Name)); err != nil {
		fmt.Fprintf(c.err, "Its server takes passwords still.\nnext: %s\n", command)
		return
	}
	if err := c.loginsOf(service, r.Instance.Name, loginsOptions{Change: logins.Change{Password: "off"}, identity: o.identity, agent: o.agent, passFile: o.passFile}); err != nil {
		fmt.Fprintf(c.err, "plumlatch: %s\nnext: %s\n", err, command)
	}
}
