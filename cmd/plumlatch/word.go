package main

import (
	"flag"
	"fmt"
	"strconv"

	"golang.org/x/crypto/ssh"

	"plumlatch/core/access"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
)

// workWord lets large work begin: by another operator's word, or by a signature.
func workWord(fs *flag.FlagSet) func(*cli) error {
	identity := fs.String("identity", "", "sign with this private `file`; it is used here and never sent")
	useAgent := fs.Bool("agent", false, "sign with a key in the running ssh-agent that signs for you")
	passFile := fs.String("passphrase-file", "", "`file` with the passphrase of -identity")
	return func(c *cli) error {
		args, service, err := c.begin("ID")
		if err != nil {
			return err
		}
		id, err := strconv.ParseInt(args[0], 10, 64)
		if err != nil {
			return usagef("ID is a number; plumlatch work list shows it")
		}
		if *identity != "" && *useAgent {
			return usagef("give -identity or -agent")
		}
		word, err := service.Word(c.ctx, id)
		if err != nil {
			return err
		}
		fmt.Fprintf(c.out, "%s\n", plaintext.Lines(word.Text))
		signature := ""
		if *identity != "" || *useAgent {
			var signer ssh.Signer
			if *identity != "" {
				_, signer, err = c.fileSigner(*identity, *passFile)
			} else {
				signer, err = agentSigner(word.Keys...)
			}
			if err != nil {
				return err
			}
			armored, err := keypair.Sign(signer, keypair.WordNamespace, []byte(word.Text))
			if err != nil {
				return err
			}
			signature = string(armored)
		}
		w, err := service.GiveWord(c.ctx, id, signature)
		if err != nil {
			if signature == "" && word.Needs != access.SecondWord {
				return failure{err, fmt.Sprintf("plumlatch work word %d -identity FILE", id)}
			}
			return err
		}
		fmt.Fprintf(c.out, "Work %d begins: %s.\nnext: plumlatch work follow %d\n", w.ID, plaintext.Line(w.Title), w.ID)
		return nil
	}
}

// operatorKey says whose signature is an operator's word.
func operatorKey(fs *flag.FlagSet) func(*cli) error {
	add := fs.String("add", "", "recorded `key` that signs for the operator")
	remove := fs.String("remove", "", "recorded `key` that signs for the operator no longer")
	return func(c *cli) error {
		if (*add == "") == (*remove == "") {
			return usagef("give -add KEY or -remove KEY")
		}
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		if err := service.SetOperatorKey(c.ctx, args[0], *add+*remove, *add != ""); err != nil {
			return err
		}
		if *add != "" {
			fmt.Fprintf(c.out, "A signature by %s is the word of %s.\n", *add, args[0])
			return nil
		}
		fmt.Fprintf(c.out, "%s signs for %s no longer.\n", *remove, args[0])
		return nil
	}
}
