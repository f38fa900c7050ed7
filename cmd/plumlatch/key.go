package main

import (
	"bytes"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/term"

	"plumlatch/client"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/wire"
)

// sshDir returns the folder in which OpenSSH keeps a person's keys.
func sshDir() (string, error) {
	home, err := os.UserHomeDir()
	if err != nil {
		return "", fmt.Errorf("there is no home folder (%w); name one with -dir", err)
	}
	return filepath.Join(home, ".ssh"), nil
}

func keyCreate(fs *flag.FlagSet) func(*cli) error {
	kind := fs.String("kind", string(keypair.Ed25519), "`kind` of key: ed25519, rsa-3072, rsa-4096")
	dir := fs.String("dir", "", "`folder` to write the files in (default ~/.ssh)")
	note := fs.String("note", "", "`text` to remember it by, one line")
	passFile := fs.String("new-passphrase-file", "", "`file` with the passphrase; an empty one means none")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, err := c.names("NAME")
		if err != nil {
			return err
		}
		name := args[0]
		if err := names.Check(name); err != nil {
			return usageError{err.Error()}
		}
		k, err := keypair.ParseKind(*kind)
		if err != nil {
			return usageError{"-kind: " + err.Error()}
		}
		if *dir == "" {
			if *dir, err = sshDir(); err != nil {
				return err
			}
		}
		service, err := c.service()
		if err != nil {
			return err
		}
		file := filepath.Join(*dir, name)
		if err := c.freePlace(service, name, file); err != nil {
			return err
		}
		passphrase, err := c.newPassphrase(*passFile)
		if err != nil {
			return err
		}
		defer clear(passphrase)
		pair, err := keypair.Create(k, name)
		if err != nil {
			return err
		}
		private, err := pair.OpenSSH(passphrase)
		if err != nil {
			return err
		}
		defer clear(private)
		if err := writePair(*dir, file, private, pair.Public); err != nil {
			return err
		}
		recorded, err := service.AddKey(c.ctx, wire.NewKey{Name: name, PublicKey: pair.Public.Line(), MadeHere: true, Note: *note})
		if client.Definite(err) {
			return errors.Join(err, os.Remove(file), os.Remove(file+".pub"))
		}
		if err != nil {
			return failure{fmt.Errorf("%w\nThe pair was written to %s, and is kept: whether the service has recorded it is not known", err, file),
				fmt.Sprintf("plumlatch key show %s; if it is not there: plumlatch key import %s %s.pub", name, name, file)}
		}
		if *asJSON {
			return c.json(recorded)
		}
		lock := "with a passphrase"
		if len(passphrase) == 0 {
			lock = "without a passphrase"
		}
		fmt.Fprintf(c.out, "Made %s, %s, %s.\n\n  private half  %s (mode 0600, stays here)\n  public half   %s.pub (recorded)\n  fingerprint   %s\n  bitting       %s\n\nnext: plumlatch instance launch NAME -image debian-12 -size small -region north-pier -key %s\n",
			name, k, lock, file, file, recorded.Fingerprint, recorded.Bitting, name)
		return nil
	}
}

// freePlace makes sure that neither the files nor the name are taken, before
// anything is made.
func (c *cli) freePlace(service *client.Client, name, file string) error {
	for _, f := range []string{file, file + ".pub"} {
		if _, err := os.Lstat(f); err == nil {
			return failure{fmt.Errorf("%s exists, and is not overwritten: %s", f, c.whatIs(service, f)), "choose another name, or another folder with -dir"}
		}
	}
	k, err := service.Key(c.ctx, name)
	if err == nil {
		return failure{fmt.Errorf("the name %s is taken by %s %s", k.Name, k.Kind, k.Fingerprint), "choose another name"}
	}
	if p, ok := errors.AsType[*client.Problem](err); ok && p.Of("not-found") {
		return nil
	}
	return err
}

// whatIs tells which recorded key a file is, and what that opens.
func (c *cli) whatIs(service *client.Client, file string) string {
	data, err := readLimited(file)
	if err != nil {
		return "it cannot be read"
	}
	p, err := keypair.PublicOfPrivate(data)
	if err != nil {
		if p, err = keypair.ReadPublic(data); err != nil {
			return "it is no key that this program reads"
		}
	}
	keys, err := service.Keys(c.ctx, url.Values{"fingerprint": {p.Fingerprint()}})
	if err != nil {
		return "it is " + p.Fingerprint() + " (the service did not say which key that is)"
	}
	if len(keys) == 0 {
		return "it is " + p.Fingerprint() + ", which is not recorded"
	}
	rows, err := service.Access(c.ctx, "", keys[0].Name)
	if err != nil || len(rows) == 0 {
		return "it is the recorded key " + keys[0].Name + ", which opens nothing that the ledger knows"
	}
	var opens []string
	for _, a := range rows {
		opens = append(opens, a.Instance)
	}
	return "it is the recorded key " + keys[0].Name + ", which opens " + strings.Join(opens, ", ")
}

func readLimited(file string) ([]byte, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, keypair.MaxFile+1))
}

// newPassphrase reads the passphrase for a new pair: from the file, or from the
// terminal, twice. Without either there is none.
func (c *cli) newPassphrase(file string) ([]byte, error) {
	if file != "" {
		data, err := readLimited(file)
		if err != nil {
			return nil, err
		}
		data = bytes.TrimSuffix(data, []byte("\n"))
		if bytes.ContainsAny(data, "\r\n\x00") || len(data) > 1024 {
			return nil, usagef("-new-passphrase-file: a passphrase is one line of at most 1024 bytes")
		}
		return data, nil
	}
	if !c.tty {
		fmt.Fprintln(c.err, "Without a terminal and without -new-passphrase-file: the pair gets no passphrase.")
		return nil, nil
	}
	first, err := c.ask("Passphrase (empty for none; nothing shows while you type): ")
	if err != nil || len(first) == 0 {
		return nil, err
	}
	second, err := c.ask("The same again: ")
	if err != nil {
		return nil, err
	}
	defer clear(second)
	if !bytes.Equal(first, second) {
		clear(first)
		return nil, failure{errors.New("the two passphrases differ; nothing was made"), "run the command again"}
	}
	return first, nil
}

func (c *cli) ask(prompt string) ([]byte, error) {
	fmt.Fprint(c.err, prompt)
	b, err := term.ReadPassword(int(os.Stdin.Fd()))
	fmt.Fprintln(c.err)
	return b, err
}

// writePair writes both halves, the private one with mode 0600, and never over
// a file that stands there. On a failure neither is left.
func writePair(dir, file string, private []byte, public keypair.Public) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	if err := writeNew(file, private, 0o600); err != nil {
		return err
	}
	if err := writeNew(file+".pub", []byte(public.Line()+"\n"), 0o644); err != nil {
		return errors.Join(err, os.Remove(file))
	}
	return nil
}

func writeNew(file string, data []byte, mode os.FileMode) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return errors.Join(err, os.Remove(file))
	}
	return nil
}

func keyImport(fs *flag.FlagSet) func(*cli) error {
	note := fs.String("note", "", "`text` to remember it by, one line")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, err := c.names("NAME", "FILE (or '-' for standard input)")
		if err != nil {
			return err
		}
		if err := names.Check(args[0]); err != nil {
			return usageError{err.Error()}
		}
		var data []byte
		if args[1] == "-" {
			data, err = io.ReadAll(io.LimitReader(c.in, keypair.MaxFile+1))
		} else {
			data, err = readLimited(args[1])
		}
		if err != nil {
			return err
		}
		// Checked here first: a private key is never sent.
		p, err := keypair.ReadPublic(data)
		if errors.Is(err, keypair.ErrPrivateKey) {
			next := "give the .pub file"
			if args[1] != "-" {
				next = "plumlatch key import " + args[0] + " " + strings.TrimSuffix(args[1], ".pub") + ".pub, or make it: ssh-keygen -y -f FILE > FILE.pub"
			}
			return failure{fmt.Errorf("%w. Nothing was sent", err), next}
		}
		if err != nil {
			return fmt.Errorf("%s: %w", args[1], err)
		}
		service, err := c.service()
		if err != nil {
			return err
		}
		k, err := service.AddKey(c.ctx, wire.NewKey{Name: args[0], PublicKey: p.Line(), Note: *note})
		if err != nil {
			if p, ok := errors.AsType[*client.Problem](err); ok && p.Of("key-known") {
				return failure{err, "plumlatch key show " + p.Known}
			}
			return err
		}
		if *asJSON {
			return c.json(k)
		}
		fmt.Fprintf(c.out, "Recorded %s: %s, comment %q.\n\n  fingerprint  %s\n  bitting      %s\n\nnext: plumlatch instance launch NAME ... -key %s\n", k.Name, k.Kind, k.Comment, k.Fingerprint, k.Bitting, k.Name)
		return nil
	}
}

func keyList(fs *flag.FlagSet) func(*cli) error {
	text := fs.String("match", "", "`part` of the name or comment")
	kind := fs.String("kind", "", "`kind` of key, such as ed25519")
	sort := fs.String("sort", "name", "`order`: name, created, reach (the greatest first)")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		_, service, err := c.begin()
		if err != nil {
			return err
		}
		q := url.Values{"q": {*text}, "kind": {*kind}, "sort": {*sort}}
		if *sort == "reach" {
			q.Set("order", "desc")
		}
		keys, err := service.Keys(c.ctx, q)
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(wire.List[wire.Key]{Items: keys})
		}
		var rows [][]string
		for _, k := range keys {
			rows = append(rows, []string{k.Name, k.Bitting, k.Kind, fmt.Sprint(k.Reach), ago(k.CreatedAt, time.Now()), k.Origin, k.Fingerprint})
		}
		c.table([]string{"key", "bitting", "kind", "reach", "recorded", "origin", "fingerprint"}, rows, "No key is recorded.\nnext: plumlatch key create NAME")
		return nil
	}
}

func keyShow(fs *flag.FlagSet) func(*cli) error {
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		k, err := service.Key(c.ctx, args[0])
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(k)
		}
		rows, err := service.Access(c.ctx, "", k.Name)
		if err != nil {
			return err
		}
		fmt.Fprintf(c.out, "%s  %s\n\n  kind         %s\n  fingerprint  %s\n               %s\n  comment      %s\n  origin       %s, recorded %s by %s\n",
			k.Name, k.Bitting, k.Kind, k.Fingerprint, k.FingerprintMD5, k.Comment, k.Origin, ago(k.CreatedAt, time.Now()), k.CreatedBy)
		if k.Note != "" {
			fmt.Fprintf(c.out, "  note         %s\n", k.Note)
		}
		fmt.Fprintf(c.out, "  public half  %s\n\n", k.PublicKey)
		if len(rows) == 0 {
			fmt.Fprintln(c.out, "It opens nothing, as far as the ledger knows.")
			return nil
		}
		fmt.Fprintf(c.out, "It opens %d:\n\n", len(rows))
		c.accessRows(rows, true)
		return nil
	}
}
