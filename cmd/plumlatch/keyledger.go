package main

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"plumlatch/client"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
)

func keyNote(*flag.FlagSet) func(*cli) error {
	return func(c *cli) error {
		args, service, err := c.begin("NAME", "TEXT ('' for none)")
		if err != nil {
			return err
		}
		name, err := c.recordedToChange(service, args[0])
		if err != nil {
			return err
		}
		k, err := service.ChangeKey(c.ctx, name, wire.KeyChange{Note: &args[1]})
		if err != nil {
			return err
		}
		fmt.Fprintf(c.out, "Noted for %s.\n", k.Name)
		return nil
	}
}

func keyRename(*flag.FlagSet) func(*cli) error {
	return func(c *cli) error {
		args, service, err := c.begin("NAME", "NEW-NAME")
		if err != nil {
			return err
		}
		name, err := c.recordedToChange(service, args[0])
		if err != nil {
			return err
		}
		k, err := service.ChangeKey(c.ctx, name, wire.KeyChange{Name: &args[1]})
		if err != nil {
			return err
		}
		fmt.Fprintf(c.out, "%s is called %s now. Files keep their names, and the comment stays as it is "+
			"(plumlatch key set %s -comment TEXT).\n", name, k.Name, k.Name)
		return nil
	}
}

func keySet(fs *flag.FlagSet) func(*cli) error {
	holder := fs.String("holder", "", "`name` of who holds the private half (holder list)")
	keptAt := fs.String("kept-at", "", "`text`: where the private half is kept")
	origin := fs.String("origin", "", "`origin`: 'made here', imported, 'made elsewhere'")
	passphrase := fs.String("passphrase", "", "`whether` the private file has one: yes, no, 'not known'")
	comment := fs.String("comment", "", "`text` to record as its comment; lines that stand on instances keep theirs")
	return func(c *cli) error {
		var change wire.KeyChange
		fs.Visit(func(f *flag.Flag) {
			switch f.Name {
			case "holder":
				change.Holder = holder
			case "kept-at":
				change.KeptAt = keptAt
			case "origin":
				change.Origin = origin
			case "passphrase":
				change.Passphrase = passphrase
			case "comment":
				change.Comment = comment
			}
		})
		if change == (wire.KeyChange{}) {
			return usagef("say what to set: -holder, -kept-at, -origin, -passphrase or -comment")
		}
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		name, err := c.recordedToChange(service, args[0])
		if err != nil {
			return err
		}
		k, err := service.ChangeKey(c.ctx, name, change)
		if err != nil {
			return err
		}
		if c.soleOf(k) {
			return nil
		}
		fmt.Fprintf(c.out, "Set for %s.\nnext: plumlatch key show %s\n", k.Name, k.Name)
		return nil
	}
}

// soleOf says what a mark means that makes a key count for nobody's way in, where
// no other person's key is known to open something. False where there is nothing
// to say.
func (c *cli) soleOf(k wire.Key) bool {
	if len(k.SoleOf) == 0 {
		return false
	}
	what := "retired"
	if !k.Retired {
		what = "the key of a " + k.HolderSort
		if k.HolderSort == "" {
			what = "a key of which nobody knows whom it belongs to"
		}
	}
	fmt.Fprintf(c.out, "%s is %s now, and counts as no person's way in any more. No other person's key is known to "+
		"open %s: %s.\nNothing on instances was changed: whoever has its private half still gets in. It is not "+
		"withdrawn there without another key.\nnext: plumlatch access add %s -key KEY\n",
		k.Name, what, count(len(k.SoleOf), "instance"),
		plaintext.Line(plaintext.Cut(strings.Join(k.SoleOf, ", "), 200)), k.SoleOf[0])
	return true
}

// retireCommand makes the commands that take a key out of new launches and back.
func retireCommand(retire bool) func(*flag.FlagSet) func(*cli) error {
	return func(*flag.FlagSet) func(*cli) error {
		return func(c *cli) error {
			args, service, err := c.begin("NAME")
			if err != nil {
				return err
			}
			name, err := c.recordedToChange(service, args[0])
			if err != nil {
				return err
			}
			k, err := service.RetireKey(c.ctx, name, retire)
			if err != nil {
				return err
			}
			if !retire {
				fmt.Fprintf(c.out, "%s can be named in launches again.\n", k.Name)
				return nil
			}
			if c.soleOf(k) {
				return nil
			}
			fmt.Fprintf(c.out, "%s is retired: no new launch takes it. It still opens %d.\nnext: plumlatch access "+
				"list -key %s\n", k.Name, k.Reach, k.Name)
			return nil
		}
	}
}

func keyForget(fs *flag.FlagSet) func(*cli) error {
	yes := fs.Bool("yes", false, "do not ask")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		name, err := c.recordedToChange(service, args[0])
		if err != nil {
			return err
		}
		k, err := service.Key(c.ctx, name)
		if err != nil {
			return err
		}
		if k.Reach == 0 && !*yes {
			if err := c.confirm("Forget " + k.Name + ", so that the ledger knows nothing of it any more?"); err != nil {
				return err
			}
		}
		if err := service.ForgetKey(c.ctx, k.Name); err != nil {
			if p, ok := errors.AsType[*client.Problem](err); ok && p.Of("conflict") {
				return failure{err, "plumlatch key retire " + k.Name + ", until it opens nothing any more"}
			}
			return err
		}
		fmt.Fprintf(c.out, "%s is forgotten. Its files, if there are any here, are as they were.\n", k.Name)
		return nil
	}
}

func keyProve(fs *flag.FlagSet) func(*cli) error {
	identity := fs.String("identity", "", "`file` with the private half; it is used here and never sent")
	useAgent := fs.Bool("ssh-agent", false, "use the key in the running ssh-agent")
	passFile := fs.String("passphrase-file", "", "`file` with the passphrase of -identity")
	form := privateForm(fs)
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		if (*identity == "") == !*useAgent {
			return usagef("give -identity FILE or -ssh-agent")
		}
		if *form && *useAgent {
			return usagef("-record-private-form needs -identity: an agent gives no private half away")
		}
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		k, err := c.recordedKey(service, args[0])
		if err != nil {
			return err
		}
		signer, pair, locked, err := c.signerFor(k, *identity, *passFile)
		if err != nil {
			return err
		}
		if k, err = c.prove(service, k, signer); err != nil {
			return err
		}
		if *form {
			if k, err = c.recordPrivateForm(service, k.Name, pair); err != nil {
				return err
			}
		}
		if locked != "" && locked != k.Passphrase { // seen just now
			if k, err = service.ChangeKey(c.ctx, k.Name, wire.KeyChange{Passphrase: &locked}); err != nil {
				return err
			}
		}
		if *asJSON {
			return c.json(k)
		}
		fmt.Fprintf(c.out, "The private half of %s exists: shown %s by %s.\n", k.Name,
			ago(*k.ShownAt, time.Now()), k.ShownBy)
		return nil
	}
}

// privateForm is the option to send the fingerprint of a private half.
func privateForm(fs *flag.FlagSet) *bool {
	return fs.Bool("record-private-form", false, "send the SHA-1 of the private half's DER, by which some clouds "+
		"know a key; it is computed here")
}

// recordPrivateForm sends the fingerprint of a private half, and nothing else of it.
func (c *cli) recordPrivateForm(service *client.Client, name string, pair *keypair.Pair) (wire.Key, error) {
	text, err := pair.FingerprintPrivate()
	if err != nil {
		return wire.Key{}, err
	}
	return service.SetPrivatePrint(c.ctx, name, text)
}

// signerFor returns what signs for a recorded key: a file, with its pair, or with "" the
// agent. locked tells of a file whether it has a passphrase.
func (c *cli) signerFor(k wire.Key, identity, passFile string) (signer ssh.Signer, pair *keypair.Pair, locked string,
	err error) {
	if identity == "" {
		signer, err = agentSigner(k.Fingerprint)
		return signer, nil, "", err
	}
	f, signer, err := c.fileSigner(identity, passFile)
	if err != nil {
		return nil, nil, "", err
	}
	if f.Public.Fingerprint() != k.Fingerprint {
		return nil, nil, "", fmt.Errorf("%s is %s, and %s is %s: another key; nothing was signed", identity,
			f.Public.Fingerprint(), k.Name, k.Fingerprint)
	}
	return signer, f.Pair, map[bool]string{true: "yes", false: "no"}[f.Encrypted], nil
}

// fileSigner opens a private file for signing.
func (c *cli) fileSigner(identity, passFile string) (keypair.File, ssh.Signer, error) {
	f, _, err := c.readKey(identity, passFile)
	if err != nil {
		return f, nil, err
	}
	if f.Pair == nil {
		return f, nil, failure{fmt.Errorf("%s holds a public half only", identity), "give the private file"}
	}
	signer, err := f.Pair.Signer()
	return f, signer, err
}

// agentSigners are the keys of the running ssh-agent (draft-miller-ssh-agent).
func agentSigners() ([]ssh.Signer, error) {
	socket := os.Getenv("SSH_AUTH_SOCK")
	if socket == "" {
		return nil, failure{errors.New("no ssh-agent runs here: SSH_AUTH_SOCK is not set"),
			"eval \"$(ssh-agent)\"; ssh-add FILE"}
	}
	conn, err := net.Dial("unix", socket)
	if err != nil {
		return nil, fmt.Errorf("the ssh-agent does not answer: %w", err)
	}
	signers, err := agent.NewClient(conn).Signers()
	if err != nil {
		return nil, fmt.Errorf("the ssh-agent does not list its keys: %w", err)
	}
	return signers, nil
}

// agentSigner finds a key in the running ssh-agent: one with one of the fingerprints.
func agentSigner(fingerprints ...string) (ssh.Signer, error) {
	signers, err := agentSigners()
	if err != nil {
		return nil, err
	}
	if len(fingerprints) == 0 && len(signers) == 1 { // whichever: there is no other
		return signers[0], nil
	}
	for _, s := range signers {
		if slices.Contains(fingerprints, keypair.Fingerprint(s.PublicKey().Marshal())) {
			return s, nil
		}
	}
	return nil, failure{fmt.Errorf("the ssh-agent has %d keys, and %s is not among them", len(signers),
		cmp.Or(strings.Join(fingerprints, " or "), "one that signs for you")), "ssh-add FILE"}
}

func holderList(fs *flag.FlagSet) func(*cli) error {
	return catalogueList(fs, (*client.Client).Holders, []string{"holder", "sort", "keys", "added"},
		func(h wire.Holder) []string {
			return []string{h.Name, h.Sort, fmt.Sprint(h.Keys), ago(h.CreatedAt, time.Now())}
		})
}

func holderAdd(fs *flag.FlagSet) func(*cli) error {
	sort := fs.String("sort", "person", "`sort` of holder: person, team, machine, job")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		if err := service.AddHolder(c.ctx, args[0], *sort); err != nil {
			return err
		}
		fmt.Fprintf(c.out, "Added %s, a %s.\nnext: plumlatch key set KEY -holder %s\n", args[0], *sort, args[0])
		return nil
	}
}

// prove shows the service that the private half of a key exists.
func (c *cli) prove(service *client.Client, k wire.Key, signer ssh.Signer) (wire.Key, error) {
	r, err := signChallenge(c.ctx, service, k.Name, k.Fingerprint, signer, wire.ChallengeRequest{})
	if err != nil {
		return k, err
	}
	return service.Prove(c.ctx, k.Name, wire.Proof{Nonce: r.Nonce, Signature: r.Signature})
}

// signChallenge has a key sign a challenge of the service. Nothing is signed that
// is not for this key at this service, and for the work and the instance that are
// named.
func signChallenge(ctx context.Context, service *client.Client, name, fingerprint string, signer ssh.Signer,
	r wire.ChallengeRequest) (out wire.LoginReport, err error) {
	var ch wire.Challenge
	if err := service.ChallengeFor(ctx, name, r, &ch); err != nil {
		return out, err
	}
	rest, ok := strings.CutPrefix(ch.Text, "Plum Latch: show that a private key exists\nnonce "+ch.Nonce+"\nservice "+
		service.URL()+"\noperator ")
	who, rest, _ := strings.Cut(rest, "\n")
	if r.Work != 0 && ok {
		rest, ok = strings.CutPrefix(rest, fmt.Sprintf("work %d\n", r.Work))
	}
	if r.Instance != "" && ok {
		var alias string
		if rest, ok = strings.CutPrefix(rest, "instance "+r.Instance+" "); ok {
			alias, rest, ok = strings.Cut(rest, "\n")
			ok = ok && !plaintext.HasControl(alias)
		}
	}
	if !ok || rest != "key "+fingerprint+"\n" || plaintext.HasControl(who+ch.Nonce) {
		return out, errors.New("the service sent a challenge that is not for this key at this service; nothing was signed")
	}
	sig, err := keypair.Sign(signer, keypair.ProofNamespace, []byte(ch.Text))
	if err != nil {
		return out, fmt.Errorf("the key did not sign: %w", err)
	}
	return wire.LoginReport{Fingerprint: fingerprint, Nonce: ch.Nonce, Signature: string(sig)}, nil
}
