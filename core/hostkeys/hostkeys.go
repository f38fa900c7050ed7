// Package hostkeys holds what is computed about host keys: known_hosts lines
// under an alias that survives an address change, and the fingerprints that an
// instance prints at its first boot.
package hostkeys

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"plumlatch/core/keypair"
)

// ErrAlias says that an alias cannot stand in a known_hosts line.
var ErrAlias = errors.New("a host key alias is 1 to 100 of a-z, 0-9, '.' and '-', starting with a letter or digit")

var aliasGrammar = regexp.MustCompile(`^[a-z0-9][a-z0-9.-]{0,99}$`)

// CheckAlias returns ErrAlias unless alias can stand in a known_hosts line
// and after HostKeyAlias (ssh_config(5)) without any quoting.
func CheckAlias(alias string) error {
	if !aliasGrammar.MatchString(alias) {
		return ErrAlias
	}
	return nil
}

// KnownHostsLine returns one line of a known_hosts file (sshd(8), "SSH_KNOWN_HOSTS
// FILE FORMAT") with its newline. With HostKeyAlias, ssh looks the alias up
// without a port.
func KnownHostsLine(alias string, blob []byte) (string, error) {
	if err := CheckAlias(alias); err != nil {
		return "", err
	}
	p, err := keypair.FromBlob(blob, "")
	if err != nil {
		return "", fmt.Errorf("host key: %w", err)
	}
	return fmt.Sprintf("%s %s %s\n", alias, p.Type(), base64.StdEncoding.EncodeToString(p.Blob)), nil
}

const (
	blockBegin = "-----BEGIN SSH HOST KEY FINGERPRINTS-----"
	blockEnd   = "-----END SSH HOST KEY FINGERPRINTS-----"
)

var fingerprintLine = regexp.MustCompile(`\b\d+ (SHA256:[A-Za-z0-9+/]{43}) .*\([A-Z0-9-]+\)\s*$`)

// Errors of FirstBootFingerprints.
var (
	ErrNoBlock = errors.New("the boot output has no complete block of host keys")
	ErrDiffer  = errors.New("the boot output has two blocks of host keys that differ: somebody else " +
		"may have written one of them, so none is believed")
)

// FirstBootFingerprints reads the host key fingerprints that first boot prints
// on the console between its BEGIN and END lines (each line may have a prefix
// of the console's own). It returns those of the first complete block. Whoever
// can write to the console can print a block of their own, so two blocks that
// differ are worth nothing: ErrDiffer. While no block is complete, ErrNoBlock.
func FirstBootFingerprints(output string) ([]string, error) {
	all := blocks(output)
	if len(all) == 0 {
		return nil, ErrNoBlock
	}
	for _, block := range all[1:] {
		if !slices.Equal(block, all[0]) {
			return nil, ErrDiffer
		}
	}
	return all[0], nil
}

// blocks returns the fingerprints of every complete block that has any, in their order.
func blocks(output string) [][]string {
	var all [][]string
	var block []string
	open := false
	for line := range strings.Lines(output) {
		switch {
		case strings.Contains(line, blockBegin):
			open, block = true, nil
		case strings.Contains(line, blockEnd) && open:
			if open = false; len(block) > 0 {
				all = append(all, block)
			}
		case open:
			if m := fingerprintLine.FindStringSubmatch(strings.TrimRight(line, "\r\n")); m != nil {
				block = append(block, m[1])
			}
		}
	}
	return all
}

// Marks are the lines between which a machine prints its public host keys for whoever made the mark.
func Marks(mark string) (begin, end string) {
	return "-----BEGIN PLUM LATCH HOST KEYS " + mark + "-----", "-----END PLUM LATCH HOST KEYS " + mark + "-----"
}

// Printed reads the public host keys that a machine has printed on its console between two lines with a
// mark (Marks; each line may have a prefix of the console's own). While no block with a key is
// complete, ErrNoBlock; two that differ are worth nothing: ErrDiffer.
func Printed(output, mark string) ([]keypair.Public, error) {
	begin, end := Marks(mark)
	var first, block []keypair.Public
	open, done := false, 0
	for line := range strings.Lines(output) {
		switch {
		case strings.Contains(line, begin):
			open, block = true, nil
		case strings.Contains(line, end) && open:
			if open = false; len(block) == 0 {
				continue
			}
			if done++; done == 1 {
				first = block
			} else if !slices.EqualFunc(first, block, func(a, b keypair.Public) bool { return bytes.Equal(a.Blob, b.Blob) }) {
				return nil, ErrDiffer
			}
		case open && len(block) < maxPrinted:
			if at := keyLine.FindStringIndex(line); at != nil {
				if p, err := keypair.ReadPublic([]byte(strings.TrimRight(line[at[0]:], "\r\n"))); err == nil {
					block = append(block, p)
				}
			}
		}
	}
	if done == 0 {
		return nil, ErrNoBlock
	}
	return first, nil
}

// maxPrinted is how many host keys of one machine are read.
const maxPrinted = 8

// keyLine finds where a public key begins behind a prefix of the console's own.
var keyLine = regexp.MustCompile(`\b(ssh-|ecdsa-sha2-|sk-)[a-z0-9@.-]+ AAAA`)

// FingerprintBlock returns the block that FirstBootFingerprints reads, for the
// given host key blobs, as first boot prints it.
func FingerprintBlock(host string, blobs [][]byte) (string, error) {
	var b strings.Builder
	b.WriteString(blockBegin + "\n")
	for _, blob := range blobs {
		p, err := keypair.FromBlob(blob, "")
		if err != nil {
			return "", err
		}
		bits, name := 256, strings.ToUpper(strings.TrimPrefix(p.Type(), "ssh-"))
		if n := p.Bits(); n > 0 {
			bits = n
		}
		fmt.Fprintf(&b, "%d %s root@%s (%s)\n", bits, p.Fingerprint(), host, name)
	}
	b.WriteString(blockEnd + "\n")
	return b.String(), nil
}

// PrintedFingerprints returns every fingerprint that stands in a complete block
// of the boot output, those of the last block first: a machine that was rebuilt
// prints another one. They are worth as much as whoever can write to the
// console, so a person decides.
func PrintedFingerprints(output string) []string {
	var out []string
	for _, block := range blocks(output) {
		for n := len(block) - 1; n >= 0; n-- {
			out = slices.DeleteFunc(out, func(fp string) bool { return fp == block[n] })
			out = slices.Insert(out, 0, block[n])
		}
	}
	return out
}
