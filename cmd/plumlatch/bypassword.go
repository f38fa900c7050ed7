package main

import (
	"fmt"

	"plumlatch/client"
	"plumlatch/core/logins"
)

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
