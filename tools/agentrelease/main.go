// Command agentrelease signs a version of the agent's program, for its upgrades: see docs/agent.md. The key of releases is kept away from every service:
// it is used where this runs, and nowhere else.
package main

import (
	"crypto/sha256"
	"debug/elf"
	"encoding/hex"
	"flag"
	"fmt"
	"os"

	"golang.org/x/term"

	"plumlatch/core/agentcalls"
	"plumlatch/core/keypair"
)

func main() {
	program := flag.String("program", "bin/plumlatch-agent", "`file` of the program that is signed; FILE.release and FILE.release.pub are written beside it")
	version := flag.Int("version", 0, "its `version`, as it was built with: a whole number, greater than the last one")
	key := flag.String("key", "", "private key `file` of releases")
	flag.Parse()
	if *version < 1 || *key == "" || flag.NArg() > 0 {
		flag.Usage()
		os.Exit(2)
	}
	if err := release(*program, *version, *key); err != nil {
		fmt.Fprintln(os.Stderr, "agentrelease:", err)
		os.Exit(1)
	}
}

func release(program string, version int, key string) error {
	e, err := elf.Open(program)
	if err != nil {
		return err
	}
	arch := map[elf.Machine]string{elf.EM_X86_64: "x86_64", elf.EM_AARCH64: "aarch64"}[e.Machine]
	if err := e.Close(); err != nil {
		return err
	}
	data, err := os.ReadFile(program)
	if err != nil {
		return err
	}
	sum := sha256.Sum256(data)
	text := agentcalls.Release{Version: version, Arch: arch, SHA256: hex.EncodeToString(sum[:]), Size: int64(len(data))}.Text()
	if _, err := agentcalls.ReadRelease(text); err != nil {
		return err
	}
	pair, err := open(key)
	if err != nil {
		return err
	}
	signer, err := pair.Signer()
	if err != nil {
		return err
	}
	signature, err := keypair.Sign(signer, agentcalls.ReleaseNamespace, []byte(text))
	if err != nil {
		return err
	}
	if err := os.WriteFile(program+".release", append([]byte(text), signature...), 0o644); err != nil {
		return err
	}
	fmt.Printf("%s.release: version %d, signed by %s\n", program, version, pair.Public.Fingerprint())
	return os.WriteFile(program+".release.pub", []byte(pair.Public.Line()+"\n"), 0o644)
}

// open reads the key, and asks for its passphrase where it has one.
func open(file string) (*keypair.Pair, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	pair, err := keypair.ReadPrivate(data, nil)
	if err == nil {
		return pair, nil
	}
	fd := int(os.Stdin.Fd())
	if !term.IsTerminal(fd) {
		return nil, err
	}
	fmt.Fprintf(os.Stderr, "Passphrase of %s: ", file)
	passphrase, wrong := term.ReadPassword(fd)
	fmt.Fprintln(os.Stderr)
	if wrong != nil {
		return nil, wrong
	}
	return keypair.ReadPrivate(data, passphrase)
}
