package sshconfig_test

import (
	"fmt"
	"net/netip"

	"plumlatch/core/sshconfig"
)

func ExampleRender() {
	text, err := sshconfig.Render([]string{"Written by plumlatch hosts write."}, []sshconfig.Host{{
		Name: "ticket-gate-1", Address: netip.MustParseAddr("198.51.100.7"), Port: 22, User: "debian",
		IdentityFile: "/home/purser/.ssh/id_ed25519", Alias: "ticket-gate-1",
		KnownHosts: "/home/purser/.ssh/plumlatch_hosts",
	}}, nil)
	fmt.Print(text, err)
	// Output:
	// # Written by plumlatch hosts write.
	//
	// Host ticket-gate-1
	//     HostName 198.51.100.7
	//     Port 22
	//     User debian
	//     IdentityFile "/home/purser/.ssh/id_ed25519"
	//     IdentitiesOnly yes
	//     HostKeyAlias ticket-gate-1
	//     UserKnownHostsFile "/home/purser/.ssh/plumlatch_hosts"
	//     StrictHostKeyChecking yes
	//     CheckHostIP no
	//     UpdateHostKeys no
	// <nil>
}
