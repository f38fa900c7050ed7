package main

import (
	"flag"
	"fmt"
	"strconv"

	"golang.org/x/crypto/ssh"

	"plumlatch/core/access"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
)

// workWord lets large work begin: by another operator's word, or by a signature.
func workWord(fs *flag.FlagSet) func(*cli) error {
	identity := fs.String("identity", "", "sign with this private `file`; it is used here and never sent")
	useAgent := fs.Bool("ssh-agent", false, "sign with a key in the running ssh-agent that signs for you")
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
			return usagef("give -identity or -ssh-agent")
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

// operatorKey says which keys sign for an operator: in, words, or both.
func operatorKey(fs *flag.FlagSet) func(*cli) error {
	add := fs.String("add", "", "recorded `key` that signs for the operator")
	may := fs.String("may", "both", "with -add: `what` it signs: sign-in, word, both")
	remove := fs.String("remove", "", "recorded `key` that signs for the operator no longer")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		use, known := map[string]wire.OperatorKeyUse{"sign-in": {SignsIn: true}, "word": {GivesWord: true},
			"both": {SignsIn: true, GivesWord: true}}[*may]
		if *add != "" && *remove != "" || !known {
			return usagef("give -add KEY -may sign-in|word|both, or -remove KEY, or neither to list them")
		}
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		if *add == "" && *remove == "" {
			all, err := service.OperatorKeys(c.ctx, args[0])
			if err != nil {
				return err
			}
			if *asJSON {
				return c.json(wire.List[wire.OperatorKey]{Items: all})
			}
			var rows [][]string
			for _, k := range all {
				rows = append(rows, []string{marked(k.Key, k.State), yesOrNo(k.SignsIn), yesOrNo(k.GivesWord),
					fmt.Sprint(k.Opens), k.Fingerprint})
			}
			c.table([]string{"key", "signs in", "gives words", "opens", "fingerprint"}, rows,
				"No key signs for "+plaintext.Line(args[0])+".")
			return nil
		}
		if err := c.keyNames(service, add, remove); err != nil {
			return err
		}
		if *remove != "" {
			use = wire.OperatorKeyUse{}
		}
		k, err := service.SetOperatorKey(c.ctx, args[0], *add+*remove, use)
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(k)
		}
		if *remove != "" {
			fmt.Fprintf(c.out, "%s signs for %s no longer; sessions that it opened have ended.\n", k.Key, args[0])
			return nil
		}
		if k.SignsIn {
			fmt.Fprintf(c.out, "%s signs in as %s.\n", k.Key, args[0])
			c.warnSigner(k)
		}
		if k.GivesWord {
			fmt.Fprintf(c.out, "A signature by %s is the word of %s.\n", k.Key, args[0])
		}
		return nil
	}
}

// warnSigner warns of a key that signs in and opens instances too.
func (c *cli) warnSigner(k wire.OperatorKey) {
	if k.SignsIn && k.Opens > 0 {
		fmt.Fprintf(c.err, "warning: %s opens %s. Whoever is root on one of them can ask a forwarded agent to sign in with "+
			"it: take a key for this alone, or never forward an agent that has it.\n", plaintext.Line(k.Key),
			count(k.Opens, "instance"))
	}
}

func yesOrNo(b bool) string { return map[bool]string{true: "yes", false: "no"}[b] }
