//go:build !halt

package work

// halt does nothing: only a service built for the harness can be halted.
func halt(string) {}
