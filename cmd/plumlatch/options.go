package main

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"

	"plumlatch/client"
	"plumlatch/core/access"
	"plumlatch/core/keypair"
	"plumlatch/core/rotation"
	"plumlatch/core/wire"
)

// Options that several commands have are defined here, once, so that they mean the same everywhere.

// none is the word for no key, and for no passphrase. A file of that name is ./none.
const none = "none"

// showing are the options that find the private half of a recorded key on this machine.
type showing struct {
	identity, passFile, dir string
	agent                   bool
}

func (s *showing) flags(fs *flag.FlagSet) {
	fs.StringVar(&s.identity, "identity", "",
		"`file` with the private half of the new key; it is used here and never sent")
	fs.BoolVar(&s.agent, "ssh-agent", false, "the private half of the new key is in the running ssh-agent")
	fs.StringVar(&s.passFile, "passphrase-file", "", "`file` with the passphrase of -identity")
	s.dirFlag(fs)
}

func (s *showing) dirFlag(fs *flag.FlagSet) {
	fs.StringVar(&s.dir, "dir", "", "`folder` for a pair that is made, and to look for the new key's file in "+
		"(default ~/.ssh)")
}

func (s showing) check() error {
	if s.identity != "" && s.agent {
		return usagef("give -identity or -ssh-agent")
	}
	return nil
}

// newSigner finds the new key's private half: the given file, the agent, or a
// file of the key folder.
func (c *cli) newSigner(k wire.Key, s showing) (ssh.Signer, error) {
	identity := s.identity
	if identity == "" && !s.agent {
		dir := s.dir
		if dir == "" {
			var err error
			if dir, err = sshDir(); err != nil {
				return nil, err
			}
		}
		files, err := localKeys(dir)
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return nil, err
		}
		if identity = files[k.Fingerprint]; identity == "" {
			return nil, fmt.Errorf("its private half is not in %s", dir)
		}
	}
	signer, _, _, err := c.signerFor(k, identity, s.passFile)
	return signer, err
}

// newPassphraseFlag is the option for the passphrase of a file that is written.
// asked is what happens without it.
const asked = "it is asked"

func newPassphraseFlag(fs *flag.FlagSet, into *string, of, otherwise string) {
	fs.StringVar(into, "new-passphrase", "", "passphrase of "+of+": the `file` that holds it; none; or random: a "+
		"strong one, shown once (default: "+otherwise+")")
}

// pairKind is the kind of a pair that is made on the way: ed25519, or else the first that the policy
// allows and that is of one of the types, such as ssh-rsa, if there are any. It is "" if there is none.
func (c *cli) pairKind(service *client.Client, types ...string) keypair.Kind {
	var p access.Policy
	if text, err := service.Policy(c.ctx); err == nil { // else the service says what is wrong, when it is recorded
		if read, err := access.ReadPolicy(text.Text); err == nil {
			p = read
		}
	}
	for _, k := range keypair.Kinds() {
		if p.Places(string(k)) && (len(types) == 0 || slices.Contains(types, lineType(k))) {
			return k
		}
	}
	return ""
}

// lineType is what a public line of this kind begins with (RFC 4253 section 6.6, RFC 5656, RFC 8709).
func lineType(k keypair.Kind) string {
	switch curve, ok := strings.CutPrefix(string(k), "ecdsa-"); {
	case ok:
		return "ecdsa-sha2-nistp" + curve
	case k == keypair.Ed25519:
		return "ssh-ed25519"
	}
	return "ssh-rsa"
}

// waves is the option for the sizes of waves: such as 1,x3,10%. Each part may be left out.
type waves struct {
	first, grow int
	atMost      string
}

func (w *waves) flag(fs *flag.FlagSet, otherwise string) {
	fs.Var(w, "waves", "sizes of the waves, such as `1,x3,10%`: the first of one instance, each next three times as "+
		"large, none over a tenth of all (default: "+otherwise+")")
}

// String writes the sizes as Set reads them.
func (w *waves) String() string {
	var parts []string
	if w.first > 0 {
		parts = append(parts, strconv.Itoa(w.first))
	}
	if w.grow > 0 {
		parts = append(parts, "x"+strconv.Itoa(w.grow))
	}
	if w.atMost != "" {
		parts = append(parts, w.atMost)
	}
	return strings.Join(parts, ",")
}

// Set reads FIRST,xTIMES,MOST. A number behind another part, or a percentage, is the most in one wave.
func (w *waves) Set(text string) error {
	var out waves
	for n, part := range strings.Split(text, ",") {
		part = strings.TrimSpace(part)
		times, grows := strings.CutPrefix(part, "x")
		number, err := strconv.Atoi(strings.TrimSpace(times))
		switch {
		case out.atMost != "":
			return errors.New("the most in one wave comes last: FIRST,xTIMES,MOST, such as 1,x3,10%")
		case grows && err == nil && number >= 1 && out.grow == 0:
			out.grow = number
		case !grows && n == 0 && err == nil && number >= 1:
			out.first = number
		default:
			share, err := rotation.ParseShare(part)
			if err != nil {
				return errors.New("give FIRST,xTIMES,MOST, such as 1,x3,10%: numbers from 1, the last one may be a part of all")
			}
			out.atMost = share.String()
		}
	}
	*w = out
	return nil
}

// sizesSaid says how large the waves are, and why they are small where the bound makes them so.
func sizesSaid(all []wire.FleetWave, atMost string) string {
	if len(all) == 0 {
		return ""
	}
	var sizes []string
	total, largest := 0, 0
	for _, w := range all {
		sizes = append(sizes, fmt.Sprint(w.All))
		total, largest = total+w.All, max(largest, w.All)
	}
	out := fmt.Sprintf("Waves of %s; the next begins when every instance of the one before is shown to work.",
		strings.Join(sizes, ", "))
	if largest == 1 && total > 1 {
		most, err := rotation.ParseShare(atMost)
		if atMost == "" {
			most, err = rotation.Share{Percent: 10}, nil
		}
		if err == nil && most.Of(total) == 1 {
			out += fmt.Sprintf("\nEach wave is one instance, as %s of %d allows no more; -waves 1,x3,50%% makes them larger.",
				most, total)
		}
	}
	return out
}
