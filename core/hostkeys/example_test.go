package hostkeys_test

import (
	"fmt"

	"plumlatch/core/hostkeys"
)

// What a machine prints at its first boot can be read back, whatever stands around it.
func ExamplePrintedFingerprints() {
	blob := []byte("\x00\x00\x00\x0bssh-ed25519\x00\x00\x00\x2000000000000000000000000000000000")
	block, err := hostkeys.FingerprintBlock("ticket-gate-1", [][]byte{blob})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(hostkeys.PrintedFingerprints("Starting sshd.\n" + block + "\nlogin:"))
	// Output:
	// [SHA256:xjro6BiNW+NunbVdOuMUAio71FjtAgW58tW7pHI3peg]
}

// ssh looks an alias up without a port, so one line serves every address.
func ExampleKnownHostsLine() {
	blob := []byte("\x00\x00\x00\x0bssh-ed25519\x00\x00\x00\x2000000000000000000000000000000000")
	line, err := hostkeys.KnownHostsLine("ticket-gate-1", blob)
	fmt.Print(line, err)
	// Output:
	// ticket-gate-1 ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIDAwMDAwMDAwMDAwMDAwMDAwMDAwMDAwMDAwMDAwMDAw
	// <nil>
}
