package main

import (
	"bytes"
	"cmp"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/term"

	"plumlatch/client"
	"plumlatch/core/access"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
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

// readKeyDir is os.ReadDir of a folder of keys; ~/.ssh has none where it is not there yet.
func readKeyDir(dir string) ([]os.DirEntry, error) {
	entries, err := os.ReadDir(dir)
	if own, e := sshDir(); e == nil && dir == own && errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	return entries, err
}

func keyCreate(fs *flag.FlagSet) func(*cli) error {
	kind := fs.String("kind", string(keypair.Ed25519),
		"`kind` of key: ed25519, rsa-2048, rsa-3072, rsa-4096, ecdsa-256, ecdsa-384, ecdsa-521")
	format := fs.String("format", string(keypair.FormatOpenSSH), "file `format`: openssh, pem, pkcs8, ppk, ppk2")
	dir := fs.String("dir", "", "`folder` to write the files in (default ~/.ssh)")
	comment := fs.String("comment", "", "`text` for the key's comment (default: its name)")
	note := fs.String("note", "", "`text` to remember it by, one line")
	holder := fs.String("holder", "", "`name` of who holds the private half (holder list)")
	var passphrase string
	newPassphraseFlag(fs, &passphrase, "the private file", asked)
	passFD := fs.Int("passphrase-fd", -1,
		"with -new-passphrase random: open file `descriptor` to write it to, instead of showing it")
	form := privateForm(fs)
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
		f, err := keypair.ParseFormat(*format, keypair.PrivateFormats())
		if err != nil {
			return usageError{"-format: " + err.Error()}
		}
		if k == keypair.Ed25519 && f == keypair.FormatPEM {
			return usagef("-format: %s has no PEM form; take openssh, which every current ssh reads, or ppk, or pkcs8", k)
		}
		service, err := c.service()
		if err != nil {
			return err
		}
		p := newPair{name: name, kind: k, format: f, dir: *dir, comment: *comment, note: *note, holder: *holder,
			passphrase: passphrase, passFD: *passFD, form: *form}
		recorded, _, err := c.makePair(service, &p)
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(recorded)
		}
		lock, files := map[string]string{"yes": "with a passphrase", "no": "without a passphrase"}[p.locked], p.files
		fmt.Fprintf(c.out, "Made %s, %s, %s, in the format %s.\n\n  private half  %s (%s, stays here)\n  "+
			"public half   %s (recorded)\n  fingerprint   %s\n  bitting       %s\n\nnext: plumlatch instance "+
			"launch NAME -image debian-12 -size small -region north-pier -key %s\n",
			name, k, lock, f.Title(), files.private, aloneNote, files.public, recorded.Fingerprint, recorded.Bitting, name)
		return nil
	}
}

// newPair is a pair that is to be made on this machine.
type newPair struct {
	name, dir, comment, note, holder string
	kind                             keypair.Kind
	format                           keypair.Format
	passphrase                       string // as -new-passphrase says it
	passFD                           int    // -1 to show a passphrase that is made up
	form                             bool   // send the fingerprint of the private half

	files  pairFiles // where it was written
	locked string    // "yes" or "no": whether it has a passphrase
}

// makePair makes a pair, writes its files, records its public half, and shows
// the service that the private half exists.
func (c *cli) makePair(service *client.Client, p *newPair) (recorded wire.Key, signer ssh.Signer, err error) {
	if p.dir == "" {
		if p.dir, err = sshDir(); err != nil {
			return recorded, nil, err
		}
	}
	p.comment = cmp.Or(p.comment, p.name)
	p.files = pairFiles{private: filepath.Join(p.dir, p.name+extension(p.format)),
		public: filepath.Join(p.dir, p.name+".pub")}
	if err := c.freePlace(service, p.name, p.files); err != nil {
		return recorded, nil, err
	}
	passphrase, show, err := c.passphraseFor(p.name, p.passphrase, p.passFD)
	if err != nil {
		return recorded, nil, err
	}
	defer clear(passphrase)
	pair, err := keypair.Create(p.kind, p.comment)
	if err != nil {
		return recorded, nil, err
	}
	private, err := pair.Write(p.format, passphrase)
	if err != nil {
		return recorded, nil, err
	}
	defer clear(private)
	if err := writePair(p.dir, p.files, private, pair.Public); err != nil {
		return recorded, nil, err
	}
	p.locked = map[bool]string{true: "yes", false: "no"}[len(passphrase) > 0]
	recorded, err = service.AddKey(c.ctx,
		wire.NewKey{Name: p.name, PublicKey: pair.Public.Line(), MadeHere: true, Note: p.note, Holder: p.holder,
			Passphrase: p.locked})
	if client.Definite(err) {
		return recorded, nil, errors.Join(err, os.Remove(p.files.private), os.Remove(p.files.public))
	}
	if err != nil {
		c.warnPlace(p.files.private)
		show()
		return recorded, nil, failure{fmt.Errorf("%w\nThe pair was written to %s, and is kept: whether the service "+
			"has recorded it is not known", err, p.files.private),
			fmt.Sprintf("plumlatch key show %s; if it is not there: plumlatch key import %s %s", p.name,
				p.name, p.files.public)}
	}
	// The private half is at hand: what else would show better that it exists.
	if signer, err = pair.Signer(); err == nil {
		if shown, err := c.prove(service, recorded, signer); err == nil {
			recorded = shown
		}
	}
	if p.form {
		if known, err := c.recordPrivateForm(service, p.name, pair); err == nil {
			recorded = known
		} else {
			fmt.Fprintf(c.err, "warning: the private half's fingerprint was not recorded: %s; plumlatch key prove %s "+
				"-identity %s -record-private-form does it.\n", err, p.name, p.files.private)
		}
	}
	c.warnPlace(p.files.private)
	if w := keypair.LoadWarning(string(p.kind), p.format); w != "" {
		fmt.Fprintf(c.err, "warning: %s.\n", w)
	}
	show()
	return recorded, signer, nil
}

// pairFiles are the two files of a pair.
type pairFiles struct{ private, public string }

// extension is what a format's files are usually called.
func extension(f keypair.Format) string {
	return map[keypair.Format]string{keypair.FormatPEM: ".pem", keypair.FormatPKCS8: ".pem",
		keypair.FormatPPK3: ".ppk", keypair.FormatPPK2: ".ppk"}[f]
}

// freePlace makes sure that neither the files nor the name are taken, before
// anything is made.
func (c *cli) freePlace(service *client.Client, name string, files pairFiles) error {
	for _, f := range []string{files.private, files.public} {
		if _, err := os.Lstat(f); err == nil {
			return failure{fmt.Errorf("%s exists, and is not overwritten: %s", f, c.whatIs(service, f)),
				"choose another name, or another folder with -dir"}
		}
	}
	k, err := service.Key(c.ctx, name)
	if err == nil {
		return failure{fmt.Errorf("the name %s is taken by %s %s", k.Name, k.Kind, k.Fingerprint),
			"choose another name"}
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
	o, err := service.Opens(c.ctx, p.Fingerprint())
	if err != nil {
		return "it is " + p.Fingerprint() + " (the service did not say which key that is)"
	}
	what := "it is " + p.Fingerprint() + ", which is not recorded"
	if o.Key != nil {
		what = "it is the recorded key " + o.Key.Name
	}
	if all := opened(o); len(all) > 0 {
		return what + ", which opens " + strings.Join(all, ", ")
	}
	return what + ", and opens nothing that is known"
}

func readLimited(file string) ([]byte, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, keypair.MaxFile+1))
}

// passphraseFor returns the passphrase for a new pair: made up, none, from a file, or
// with "" from the terminal, twice. show tells a made-up one, once.
func (c *cli) passphraseFor(name, how string, fd int) (passphrase []byte, show func(), err error) {
	show = func() {}
	if how != "random" {
		if fd >= 0 {
			return nil, show, usagef("-passphrase-fd goes with -new-passphrase random")
		}
		if how == none {
			return nil, show, nil
		}
		passphrase, err = c.newPassphrase(how)
		if why := trivial(string(passphrase), name); err == nil && len(passphrase) > 0 && why != "" {
			fmt.Fprintf(c.err, "warning: this passphrase is trivial: %s. Whoever gets the file will try such ones first.\n", why)
		}
		return passphrase, show, err
	}
	text := randomPassphrase()
	if fd < 0 {
		if !c.tty {
			return nil, show, failure{errors.New("a passphrase that is made up is shown on a terminal, and there is none"), "on another machine than yours: key create with -passphrase-fd 3 3>FILE; or give -new-passphrase FILE"}
		}
		return []byte(text), func() {
			fmt.Fprintf(c.err, "\nThe passphrase, shown this once:\n\n  %s\n\n", text)
		}, nil
	}
	out := os.NewFile(uintptr(fd), "passphrase")
	if fd < 3 || out == nil {
		return nil, show, usagef("-passphrase-fd: give a descriptor from 3 on that is open for writing")
	}
	// Before anything is made: a pair whose passphrase nobody has is worth nothing.
	if _, err := fmt.Fprintln(out, text); err != nil {
		return nil, show, fmt.Errorf("the passphrase could not be written to descriptor %d; nothing was made", fd)
	}
	return []byte(text), show, out.Close()
}

// newPassphrase reads a passphrase from the file, or from the terminal, twice.
// Without either there is none.
func (c *cli) newPassphrase(file string) ([]byte, error) {
	if file != "" {
		return readPassphrase(file, "-new-passphrase")
	}
	if !c.tty {
		fmt.Fprintln(c.err, "Without a terminal and without -new-passphrase: the private half gets no passphrase.")
		return nil, nil
	}
	if again, err := hush(int(os.Stdin.Fd())); err == nil { // between the two questions as well
		defer again()
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

// readPassphrase reads a passphrase from a file: one line, whose last newline is dropped.
func readPassphrase(file, option string) ([]byte, error) {
	data, err := readLimited(file)
	if err != nil {
		return nil, err
	}
	data = bytes.TrimSuffix(data, []byte("\n"))
	if bytes.ContainsAny(data, "\r\n\x00") || len(data) > 1024 {
		return nil, usagef("%s: a passphrase is one line of at most 1024 bytes", option)
	}
	return data, nil
}

// ask asks on the terminal for something that is not shown. The echo is off before the question is there: whoever types at once
// would be shown their secret otherwise.
func (c *cli) ask(prompt string) ([]byte, error) {
	fd := int(os.Stdin.Fd())
	again, err := hush(fd)
	if err != nil {
		return nil, err
	}
	defer again()
	fmt.Fprint(c.err, prompt)
	b, err := term.ReadPassword(fd)
	fmt.Fprintln(c.err)
	return b, err
}

// writePair writes both halves, the private one for its owner alone, and never over
// a file that stands there. On a failure neither is left.
func writePair(dir string, files pairFiles, private []byte, public keypair.Public) error {
	if err := makeFolder(dir); err != nil {
		return err
	}
	if err := writeNew(files.private, private, 0o600); err != nil {
		return err
	}
	if err := writeNew(files.public, []byte(public.Line()+"\n"), 0o644); err != nil {
		return errors.Join(err, os.Remove(files.private))
	}
	return nil
}

func writeNew(file string, data []byte, mode os.FileMode) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
	if err != nil {
		return err
	}
	if mode == 0o600 { // before anything stands in it
		err = ownAlone(file)
	}
	if err == nil {
		_, err = f.Write(data)
	}
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return errors.Join(err, os.Remove(file))
	}
	return nil
}

func keyImport(fs *flag.FlagSet) func(*cli) error {
	var n wire.NewKey
	fs.StringVar(&n.Note, "note", "", "`text` to remember it by, one line")
	fs.StringVar(&n.Holder, "holder", "", "`name` of who holds the private half (holder list)")
	fs.StringVar(&n.KeptAt, "kept-at", "", "`text`: where the private half is kept")
	fs.BoolVar(&n.Elsewhere, "elsewhere", false,
		"the pair was made by a cloud or provisioning tool: its private half was in other hands")
	fs.BoolVar(&n.Authority, "authority", false,
		"it is a certificate authority, which lines of instances trust, and no key of a person")
	comment := fs.String("comment", "", "`text` to record as the comment instead; -comment \"\" drops it")
	batch := fs.String("batch", "", "`file or folder` with many public halves, recorded under names taken from "+
		"their comments or files")
	whole := fs.Bool("whole", false, "with -batch: all or nothing")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		given := false
		fs.Visit(func(f *flag.Flag) { given = given || f.Name == "comment" })
		if *batch != "" {
			if _, err := c.names(); err != nil {
				return err
			}
			return c.importBatch(*batch, n, *whole, *asJSON)
		}
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
		f, err := keypair.ReadPublicFile(data)
		if errors.Is(err, keypair.ErrPrivateKey) {
			next := "give the public half: plumlatch key public FILE > FILE.pub"
			if args[1] != "-" {
				next = fmt.Sprintf("plumlatch key public %s | plumlatch key import %s -", args[1], args[0])
			}
			return failure{fmt.Errorf("%w. Nothing was sent", err), next}
		}
		if err != nil {
			return fmt.Errorf("%s: %w", args[1], err)
		}
		p := f.Public
		if given {
			if p, err = keypair.FromBlob(p.Blob, *comment); err != nil {
				return usageError{"-comment: " + err.Error()}
			}
		}
		service, err := c.service()
		if err != nil {
			return err
		}
		if what := givesAway(p.Comment); what != "" { // before it is recorded
			fmt.Fprintf(c.err, "note: its comment %q gives away %s, on every instance that it is placed on; import "+
				"it with -comment \"\" to drop that.\n", p.Comment, what)
		}
		n.Name, n.PublicKey = args[0], p.Line()
		k, err := service.AddKey(c.ctx, n)
		if p, ok := errors.AsType[*client.Problem](err); ok && p.Of("key-known") {
			if names.Fold(p.Known) != names.Fold(n.Name) {
				return failure{err, "plumlatch key show " + p.Known}
			}
			// The same key under the same name: there is nothing to do, and a script may go on.
			if k, err = service.Key(c.ctx, p.Known); err == nil && !*asJSON {
				fmt.Fprintf(c.out, "%s is recorded already, under this name; nothing was changed.\nnext: plumlatch key "+
					"show %s\n", k.Name, k.Name)
				return nil
			}
		}
		if err != nil {
			return err
		}
		for _, r := range f.Remarks {
			fmt.Fprintf(c.err, "note: %s\n", r)
		}
		if *asJSON {
			return c.json(k)
		}
		c.weak(k)
		fmt.Fprintf(c.out, "Recorded %s: %s, comment %q.\n\n  fingerprint  %s\n  bitting      %s\n", k.Name, kindOf(k),
			k.Comment, k.Fingerprint, k.Bitting)
		// What surveys saw of it before it had a name is known at once.
		if o, err := service.Opens(c.ctx, k.Name); err != nil {
			return err
		} else if len(o.Found)+len(o.Trusted)+len(o.Gone) > 0 {
			c.printOpens(o)
			return nil
		}
		if k.Authority {
			fmt.Fprintln(c.out, "\nnext: plumlatch survey -all -inside, which finds the lines that trust it")
			return nil
		}
		fmt.Fprintf(c.out, "\nnext: plumlatch instance launch NAME ... -key %s\n", k.Name)
		return nil
	}
}

// kindOf is a key's kind for people.
func kindOf(k wire.Key) string {
	if k.Authority {
		return "authority (" + k.Kind + ")"
	}
	return k.Kind
}

// weak warns of a key's weaknesses.
func (c *cli) weak(k wire.Key) {
	for _, w := range k.Weaknesses {
		fmt.Fprintf(c.err, "warning: %s (%s): %s\n", plaintext.Line(w.Name), plaintext.Line(w.Severity),
			plaintext.Line(w.Sentence))
	}
}

func keyList(fs *flag.FlagSet) func(*cli) error {
	text := fs.String("match", "", "`part` of the name or comment")
	kind := fs.String("kind", "", "`kind` of key, such as ed25519, or authority")
	holder := fs.String("holder", "", "`name` of a holder")
	origin := fs.String("origin", "", "`origin`: 'made here', imported, 'made elsewhere'")
	weakness := fs.String("weakness", "", "`severity`: any, dated, weak, broken")
	state := fs.String("state", "", "`state`: 'in use', retired")
	older := fs.Int("older-than-days", 0, "recorded at least so many `days` ago")
	sort := fs.String("order", "name", "`order`: name, created, reach (the greatest first)")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		_, service, err := c.begin()
		if err != nil {
			return err
		}
		q := url.Values{"q": {*text}, "kind": {*kind}, "sort": {*sort},
			"holder": {*holder}, "origin": {*origin}, "weakness": {*weakness}, "state": {*state}}
		if *older != 0 {
			q.Set("older_than_days", fmt.Sprint(*older))
		}
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
			rows = append(rows, []string{k.Name, k.Bitting, kindOf(k), fmt.Sprint(k.Reach), k.Holder,
				ago(k.CreatedAt, time.Now()), k.Origin, standing(k), k.Fingerprint})
		}
		c.table([]string{"key", "bitting", "kind", "reach", "holder", "recorded", "origin", "", "fingerprint"}, rows,
			nothing(fs, "No key is recorded.\nnext: plumlatch key create NAME"))
		return nil
	}
}

// standing tells in a word or two what is particular about a key.
func standing(k wire.Key) string {
	var out []string
	if k.State != "" && k.State != access.InUse { // the strongest first
		out = append(out, k.State)
	} else if k.Retired {
		out = append(out, "retired")
	}
	if k.Found > 0 {
		out = append(out, fmt.Sprintf("found on %d more, not recorded", k.Found))
	}
	for _, w := range k.Weaknesses {
		out = append(out, w.Severity)
	}
	return strings.Join(out, ", ")
}

func keyShow(fs *flag.FlagSet) func(*cli) error {
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		k, err := c.recordedKey(service, args[0])
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(k)
		}
		o, err := service.Opens(c.ctx, k.Name)
		if err != nil {
			return err
		}
		fmt.Fprintf(c.out, "%s  %s\n\n", marked(k.Name, k.State), k.Bitting)
		line := func(label, value string) {
			if value != "" {
				fmt.Fprintf(c.out, "  %-12s %s\n", label, plaintext.Line(value))
			}
		}
		line("kind", kindOf(k))
		line("fingerprint", k.Fingerprint)
		form := func(text, of string) {
			if text != "" {
				fmt.Fprintf(c.out, "  %-12s %s, %s\n", "", plaintext.Line(text), plaintext.Line(of))
			}
		}
		form(k.FingerprintMD5, "of the same")
		form(k.FingerprintDER, "of its DER")
		if k.FingerprintPrivateAt != nil {
			form(k.FingerprintPrivate, "of the private half's DER, as "+k.FingerprintPrivateBy+" said "+
				ago(*k.FingerprintPrivateAt, time.Now()))
		}
		line("comment", k.Comment)
		line("origin", k.Origin+", recorded "+ago(k.CreatedAt, time.Now())+" by "+k.CreatedBy)
		if k.Holder != "" {
			line("holder", k.Holder+", a "+k.HolderSort)
		}
		line("kept at", k.KeptAt)
		passphrase := k.Passphrase
		if k.PassphraseAt != nil {
			passphrase += ", as of " + ago(*k.PassphraseAt, time.Now())
		}
		line("passphrase", passphrase)
		shown := "never shown to exist; plumlatch key prove " + k.Name
		if k.ShownAt != nil {
			shown = "shown to exist " + ago(*k.ShownAt, time.Now()) + " by " + k.ShownBy
		}
		line("private half", shown)
		line("last used", lastUsedOf(o.Access, time.Now()))
		line("note", k.Note)
		if k.Retired {
			line("state", "retired: for no new launches")
		}
		for _, w := range k.Weaknesses {
			line("weakness", w.Name+" ("+w.Severity+"): "+w.Sentence)
		}
		fmt.Fprintf(c.out, "  public half  %s\n", k.PublicKey)
		c.printOpens(o)
		return nil
	}
}
