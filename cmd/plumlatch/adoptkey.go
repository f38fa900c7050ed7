package main

import (
	"bufio"
	"cmp"
	"fmt"
	"net/url"
	"strings"
	"sync"

	"plumlatch/client"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
)

// ownKeys records the keys by which engineers come in when they adopt, each once.
type ownKeys struct {
	name   string // "" for one from the key's comment
	holder string // "" for nobody, or who is named at the question

	mu   sync.Mutex
	done map[string]bool // by fingerprint
}

// record records the key that an entrance was opened with, unless it is recorded. undo takes that back,
// for an adoption that was refused. quiet asks nothing.
func (o *ownKeys) record(c *cli, service *client.Client, in *entrance, quiet bool) (undo func(), err error) {
	o.mu.Lock() // many come in by one key, at once
	defer o.mu.Unlock()
	undo = func() {}
	fingerprint := in.own.Fingerprint()
	if o.done[fingerprint] {
		return undo, nil
	}
	known, err := service.Keys(c.ctx, url.Values{"fingerprint": {fingerprint}})
	if err != nil {
		return undo, err
	}
	var k wire.Key
	if len(known) > 0 {
		k = known[0]
		if o.name != "" && names.Fold(o.name) != names.Fold(k.Name) {
			fmt.Fprintf(c.err, "note: this key is recorded already, as %s\n", plaintext.Line(k.Name))
		}
	}
	holder := o.holder
	if holder == "" && k.Holder == "" && !quiet && c.tty {
		if holder, err = c.askHolder(service, fingerprint); err != nil {
			return undo, err
		}
	}
	if len(known) == 0 {
		if k, err = o.add(c, service, in, holder); err != nil {
			return undo, err
		}
		undo = func() { _ = service.ForgetKey(c.ctx, k.Name) }
		// It has just opened a door: its private half is at hand.
		if _, err := c.prove(service, k, in.signer); err != nil {
			fmt.Fprintf(c.err, "warning: that the private half of %s exists was not shown: %s.\n", plaintext.Line(k.Name), err)
		}
		fmt.Fprintf(c.err, "The key that you came in with is recorded as %s.\n", plaintext.Line(k.Name))
	} else if holder != "" && k.Holder == "" {
		if k, err = service.ChangeKey(c.ctx, k.Name, wire.KeyChange{Holder: &holder}); err != nil {
			return undo, launchError(err, holder)
		}
	}
	if o.done == nil {
		o.done = map[string]bool{}
	}
	o.done[fingerprint] = true
	return undo, nil
}

// add records the key under the name that was given, or one from its comment that is free.
func (o *ownKeys) add(c *cli, service *client.Client, in *entrance, holder string) (wire.Key, error) {
	base := cmp.Or(o.name, names.Suggest(plaintext.Line(in.own.Comment)), names.Suggest(in.name+"-key"), "key")
	base = base[:min(len(base), names.MaxLength-4)]
	for try := 1; ; try++ {
		name := base
		if try > 1 {
			name = fmt.Sprintf("%s-%d", base, try)
		}
		k, err := service.AddKey(c.ctx, wire.NewKey{Name: name, PublicKey: in.own.Line(), Holder: holder})
		if p, ok := err.(*client.Problem); ok && p.Of("name-taken") && o.name == "" && try < 100 {
			continue
		}
		if err != nil {
			return k, launchError(err, name)
		}
		return k, nil
	}
}

// askHolder asks who holds the key that somebody came in with, and proposes the operator.
func (c *cli) askHolder(service *client.Client, fingerprint string) (string, error) {
	me, err := service.WhoAmI(c.ctx)
	if err != nil {
		return "", err
	}
	fmt.Fprintf(c.err, "Who holds the key that you came in with, %s? Type a name, - for nobody yet, or nothing for %s: ",
		fingerprint, me.Name)
	answer, err := bufio.NewReader(c.in).ReadString('\n')
	if err != nil {
		return "", failure{fmt.Errorf("nobody answered; nothing was changed"), "the same command with -holder NAME, or -yes"}
	}
	switch answer = strings.TrimSpace(answer); answer {
	case "-":
		return "", nil
	case "":
		if err := service.AddHolder(c.ctx, me.Name, "person"); err != nil {
			if p, ok := err.(*client.Problem); !ok || !p.Of("name-taken") {
				return "", err
			}
		}
		return me.Name, nil
	}
	return answer, nil
}
