package cloudconfig_test

import (
	"fmt"

	"plumlatch/core/cloudconfig"
)

func ExampleBuild() {
	out, err := cloudconfig.Build(cloudconfig.Settings{
		Hostname:  "ticket-gate-1",
		LoginUser: "debian",
		Keys:      []string{"ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAABAgMEBQYHCAkKCwwNDg8QERITFBUWFxgZGhscHR4f purser"},
	})
	fmt.Println(err)
	fmt.Print(out.Text)
	// Output:
	// <nil>
	// #cloud-config
	// hostname: ticket-gate-1
	// users:
	//     - default
	//     - name: debian
	//       ssh_authorized_keys:
	//         - ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAABAgMEBQYHCAkKCwwNDg8QERITFBUWFxgZGhscHR4f purser
	// disable_root: true
	// ssh_pwauth: false
}
