package main

import (
	"bytes"
	"cmp"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/bookfile"
	"plumlatch/client"
	"plumlatch/core/keybook"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
)

// openBook finds the files of a book.
func openBook(name string) (*bookfile.Folder, error) {
	f, err := bookfile.Open(name)
	if errors.Is(err, bookfile.ErrEmpty) {
		return nil, failure{err, "plumlatch keybook write -out " + filepath.Join(name, "keybook.yaml")}
	}
	return f, err
}

// checkedBook reads a book that is to be sent, and prints what is wrong with it.
func (c *cli) checkedBook(name string) (*bookfile.Folder, *keybook.Book, wire.KeybookText, error) {
	b, err := openBook(name)
	if err != nil {
		return nil, nil, wire.KeybookText{}, err
	}
	r := b.Read(time.Now())
	for _, f := range r.Report.Findings {
		if f.Severity != keybook.Note {
			fmt.Fprintln(c.err, f.String())
		}
	}
	if r.Report.Errors() > 0 || r.Book == nil {
		return nil, nil, wire.KeybookText{}, failure{fmt.Errorf("the keybook has %s; nothing was sent", count(max(1, r.Report.Errors()), "error")), "plumlatch keybook check " + name}
	}
	return b, r.Book, wire.KeybookText{Files: r.Sources, Publics: r.Publics}, nil
}

func keybookCheck(fs *flag.FlagSet) func(*cli) error {
	asJSON := fs.Bool("json", false, "print JSON")
	sarif := fs.String("sarif", "", "write it also as SARIF 2.1.0, for code review, to this `file`, or - for standard output")
	return func(c *cli) error {
		args, err := c.names("PATH")
		if err != nil {
			return err
		}
		b, err := openBook(args[0])
		if err != nil {
			return err
		}
		report := b.Read(time.Now()).Report
		if *sarif != "" {
			text, err := report.SARIF("")
			if err != nil {
				return err
			}
			text = append(text, '\n')
			if *sarif == "-" {
				if _, err := c.raw.Write(text); err != nil {
					return err
				}
			} else if err := os.WriteFile(*sarif, text, 0o644); err != nil {
				return err
			}
		}
		errs := report.Errors()
		switch {
		case *asJSON:
			if err := c.json(report); err != nil {
				return err
			}
		case *sarif != "-":
			for _, f := range report.Findings {
				fmt.Fprintln(c.out, f.String())
			}
			if errs == 0 {
				fmt.Fprintf(c.out, "The keybook %s is well formed: %s, %s.\nnext: plumlatch keybook compare %s\n", plaintext.Line(report.Book), count(len(report.Files), "file"),
					count(len(report.Findings), "remark"), plaintext.Line(args[0]))
			}
		}
		if errs > 0 {
			return failure{fmt.Errorf("the keybook has %s", count(errs, "error")), "mend them, and check it again"}
		}
		return nil
	}
}

func keybookSchema(fs *flag.FlagSet) func(*cli) error {
	return func(c *cli) error {
		if len(c.args) > 0 {
			return usagef("keybook schema takes no argument")
		}
		_, err := io.WriteString(c.raw, keybook.Schema)
		return err
	}
}

func keybookCompare(fs *flag.FlagSet) func(*cli) error {
	asJSON := fs.Bool("json", false, "print JSON")
	markdown := fs.Bool("markdown", false, "print Markdown, for a comment in a review")
	all := fs.Bool("all", false, "show every line, however many there are")
	return func(c *cli) error {
		args, err := c.names("PATH")
		if err != nil {
			return err
		}
		_, _, text, err := c.checkedBook(args[0])
		if err != nil {
			return err
		}
		service, err := c.service()
		if err != nil {
			return err
		}
		d, err := c.compared(service, text)
		if err != nil {
			return err
		}
		switch {
		case *asJSON:
			err = c.json(d)
		case *markdown:
			fmt.Fprint(c.raw, markdownOf(*d.Difference))
		default:
			c.printDifference(d, *all)
			if !d.Difference.Nothing() {
				fmt.Fprintf(c.out, "next: plumlatch keybook settle %s%s\n", plaintext.Line(args[0]), limitWords(*d.Difference))
			}
		}
		if err == nil && !d.Difference.Nothing() {
			c.exit = exitNeedsHand
		}
		return err
	}
}

// compared sets a book against the service's ledger.
func (c *cli) compared(service *client.Client, text wire.KeybookText) (wire.KeybookCompared, error) {
	d, err := service.CompareBook(c.ctx, text)
	if err != nil {
		return d, err
	}
	for _, f := range d.Report.Findings {
		if f.Severity == keybook.Error {
			return d, fmt.Errorf("the service does not take the keybook: %s", plaintext.Line(f.String()))
		}
	}
	if d.Difference == nil {
		return d, errors.New("the service said nothing of the difference")
	}
	return d, nil
}

// limitWords are the options that a difference asks for.
func limitWords(d keybook.Difference) (out string) {
	if n := d.Counts[keybook.Withdraw]; n > d.Limit {
		out += fmt.Sprintf(" -withdraw %d", n)
	}
	if d.CutOffs > 0 {
		out += fmt.Sprintf(" -cut-off %d", d.CutOffs)
	}
	if d.Counts[keybook.Launch] > 0 {
		out += " -launch"
	}
	return out
}

// doTitles say what the items of each sort are.
var doTitles = map[string]string{keybook.Cannot: "cannot be", keybook.Withdraw: "to withdraw", keybook.Change: "to change", keybook.Add: "to add",
	keybook.TakeOver: "there already, to record", keybook.Launch: "to launch (with -launch)", keybook.KeyAdd: "keys to record", keybook.KeySet: "keys to change",
	keybook.HolderAdd: "holders to record", keybook.HolderSet: "teams to change", keybook.CheckSet: "checks to set", keybook.ListAdd: "to take into the cloud's lists",
	keybook.RuleAdd: "inbound rules to add", keybook.Hand: "for somebody's hand", keybook.NotSeen: "not seen", keybook.ByHand: "changed by hand, left as it is",
	keybook.Shared: "left until its end", keybook.Uncovered: "not covered by the book", keybook.ScopeIn: "came into what the book is complete for",
	keybook.ScopeOut: "left what the book is complete for", keybook.CloudTag: "tagged by the cloud alone", keybook.NoMatch: "chooses nothing"}

// shownOfEach are the lines of each sort that are shown without -all.
const shownOfEach = 20

// printDifference shows a difference, what matters most first.
func (c *cli) printDifference(d wire.KeybookCompared, all bool) {
	f := d.Difference
	for _, do := range keybook.Dos {
		n := f.Counts[do]
		if n == 0 {
			continue
		}
		fmt.Fprintf(c.out, "%s: %d\n", doTitles[do], n)
		shown := 0
		for _, i := range f.Items {
			if i.Do != do {
				continue
			}
			if shown++; shown > shownOfEach && !all {
				continue
			}
			fmt.Fprintf(c.out, "  %s\n", itemLine(i))
		}
		if left := n - min(shown, shownOfEach); left > 0 && !all {
			fmt.Fprintf(c.out, "  and %d more (-all shows them)\n", left)
		} else if n > shown {
			fmt.Fprintf(c.out, "  and %d more, which the service does not send\n", n-shown)
		}
	}
	if f.Nothing() {
		fmt.Fprintf(c.out, "All is as the keybook %s says.\n", plaintext.Line(f.Book))
	} else {
		fmt.Fprintf(c.out, "It touches %s. The difference is %s.\n", count(f.Instances, "instance"), f.Hash)
	}
	if f.Scope > 0 {
		fmt.Fprintf(c.out, "The book is complete for %s, with %s.\n", count(f.Scope, "instance"), count(f.InScope, "access"))
	}
	if f.Unseen > 0 {
		fmt.Fprintf(c.out, "No survey has read the files of %s of them: what stands there is not known.\n", count(f.Unseen, "instance"))
	}
	if f.CutOffs > 0 {
		fmt.Fprintf(c.out, "NOBODY would get into %s any more.\n", count(f.CutOffs, "instance"))
	}
	c.printWordNeeded(d.Word)
}

// itemLine is one line of a difference.
func itemLine(i keybook.Item) string {
	text := plaintext.Line(i.Sentence)
	if i.CutOff {
		text += "; NOBODY GETS IN AFTERWARDS"
	}
	if i.Evidence != "" {
		text += " (" + i.Evidence + ")"
	}
	if i.Doubt != "" {
		text += "; " + plaintext.Line(i.Doubt)
	}
	if i.Away && i.Do != keybook.Cannot {
		text += "; it does not run, and is taken when it is back"
	}
	if i.At != nil {
		text += fmt.Sprintf("  [%s:%d]", plaintext.Line(i.At.File), i.At.Line)
	}
	return text
}

// markdownOf is a difference as Markdown: what is sent by others stands in code spans, where it is nothing but text.
func markdownOf(d keybook.Difference) string {
	var out strings.Builder
	code := func(s string) string { return "`" + strings.ReplaceAll(plaintext.Line(s), "`", "'") + "`" }
	fmt.Fprintf(&out, "### Keybook %s\n\n", code(d.Book))
	if d.Nothing() {
		out.WriteString("All is as the keybook says.\n")
	} else {
		fmt.Fprintf(&out, "It touches %s. Difference %s\n", count(d.Instances, "instance"), code(d.Hash))
	}
	if d.CutOffs > 0 {
		fmt.Fprintf(&out, "\n**Nobody would get into %s any more.**\n", count(d.CutOffs, "instance"))
	}
	shown := 0
	for _, do := range keybook.Dos {
		if d.Counts[do] == 0 {
			continue
		}
		fmt.Fprintf(&out, "\n**%s: %d**\n\n", doTitles[do], d.Counts[do])
		n := 0
		for _, i := range d.Items {
			if i.Do == do && shown < 500 {
				n, shown = n+1, shown+1
				fmt.Fprintf(&out, "- %s\n", code(itemLine(i)))
			}
		}
		if left := d.Counts[do] - n; left > 0 {
			fmt.Fprintf(&out, "- and %d more\n", left)
		}
	}
	return out.String()
}

// settleOptions are those of keybook settle.
type settleOptions struct {
	compared, version, passphrase string
	yes, launch, detach, asJSON   bool
	withdraw, cutOff, stopAfter   int
	waves                         waves
}

func keybookSettle(fs *flag.FlagSet) func(*cli) error {
	var o settleOptions
	fs.StringVar(&o.compared, "compared", "", "the `hash` of the difference that was reviewed; another difference begins nothing")
	fs.BoolVar(&o.yes, "yes", false, "do not ask; -compared is needed then")
	fs.BoolVar(&o.launch, "launch", false, "launch the instances that do not exist")
	fs.IntVar(&o.withdraw, "withdraw", 0, "how many accesses are withdrawn: `N`, where that is more than the book's limit")
	fs.IntVar(&o.cutOff, "cut-off", 0, "how many instances nobody gets into any more: `N`")
	fs.StringVar(&o.version, "version", "", "the text's `version`, such as what your version control tells")
	o.waves.flag(fs, "one, then four times as many")
	fs.IntVar(&o.stopAfter, "stop-after", 0, "wait for a word after this many failures, `N` (1 if it is left out)")
	newPassphraseFlag(fs, &o.passphrase, "a pair that is made for the book", asked)
	fs.BoolVar(&o.detach, "detach", false, "print the work's ID and leave")
	fs.BoolVar(&o.asJSON, "json", false, "print JSON")
	return func(c *cli) error {
		args, err := c.names("PATH")
		if err != nil {
			return err
		}
		if o.yes && o.compared == "" {
			return usagef("-yes needs -compared HASH: the difference that was reviewed")
		}
		return c.settleBook(args[0], o)
	}
}

func (c *cli) settleBook(name string, o settleOptions) error {
	folder, book, text, err := c.checkedBook(name)
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	if made, err := c.makeBookKeys(folder, book, o); err != nil {
		return err
	} else if made > 0 {
		if _, _, text, err = c.checkedBook(name); err != nil {
			return err
		}
	}
	d, err := c.compared(service, text)
	if err != nil {
		return err
	}
	f := d.Difference
	if o.compared != "" && o.compared != f.Hash {
		return failure{errors.New("the difference is another one than the one that was reviewed; nothing was changed"), "plumlatch keybook compare " + name}
	}
	if !o.asJSON && (o.compared == "" || !o.yes) {
		c.printDifference(d, false)
	}
	todo := 0
	for do, n := range f.Counts {
		if !keybook.Told(do) && do != keybook.Cannot && do != keybook.Hand && (do != keybook.Launch || o.launch) {
			todo += n
		}
	}
	if todo == 0 {
		if o.asJSON {
			return c.json(d)
		}
		if f.Counts[keybook.Cannot]+f.Counts[keybook.Launch]+f.Counts[keybook.Hand] > 0 {
			fmt.Fprintf(c.out, "Nothing can be settled: %d cannot be, %d wait for somebody's hand, %d would be launched with -launch.\n", f.Counts[keybook.Cannot],
				f.Counts[keybook.Hand], f.Counts[keybook.Launch])
			c.exit = exitNeedsHand
			return nil
		}
		if o.yes {
			fmt.Fprintf(c.out, "All is as the keybook %s says.\n", plaintext.Line(f.Book))
		}
		fmt.Fprintln(c.out, "Nothing was sent to any instance.")
		return nil
	}
	if n := f.Counts[keybook.Withdraw]; n > f.Limit && n != o.withdraw {
		return failure{fmt.Errorf("it would withdraw %s, which is more than %d; nothing was changed", count(n, "access"), f.Limit),
			fmt.Sprintf("if all of them are to go: plumlatch keybook settle %s%s", name, limitWords(*f))}
	}
	if f.CutOffs != o.cutOff {
		return failure{fmt.Errorf("nobody would get into %s any more: those are marked above; nothing was changed", count(f.CutOffs, "instance")),
			fmt.Sprintf("add a key to them in the book; or, to cut them off on purpose: the same command with -cut-off %d", f.CutOffs)}
	}
	if !o.yes {
		if err := c.confirm("Settle it?"); err != nil {
			return err
		}
	}
	w, err := service.SettleBook(c.ctx, wire.KeybookSettle{KeybookText: text, Compared: f.Hash, Version: o.version, Withdraw: o.withdraw, CutOff: o.cutOff, Launch: o.launch,
		First: o.waves.first, Grow: o.waves.grow, AtMost: o.waves.atMost, StopAfter: o.stopAfter})
	if err != nil {
		return err
	}
	if o.detach {
		if o.asJSON {
			return c.json(w)
		}
		fmt.Fprintf(c.out, "Work %d: %s.\nnext: plumlatch work follow %d\n", w.ID, plaintext.Line(w.Title), w.ID)
		return nil
	}
	err = c.followMany(service, w, manyWordsOf(w), o.asJSON)
	if err == nil && o.launch && !o.asJSON {
		c.tellLaunched(service, *f)
	}
	c.renewHosts(service)
	return err
}

// tellLaunched gives the address of each instance that was launched, and the command that opens it.
func (c *cli) tellLaunched(service *client.Client, f keybook.Difference) {
	for _, x := range f.Items {
		if x.Do != keybook.Launch {
			continue
		}
		i, err := service.Instance(c.ctx, x.Instance)
		if err != nil {
			fmt.Fprintf(c.err, "%s: %s\n", plaintext.Line(x.Instance), err)
			continue
		}
		fmt.Fprintf(c.out, "%s: %s, %s; plumlatch open %s\n", i.Name, cmp.Or(i.Address, "no address yet"), i.State, i.Name)
	}
}

// makeBookKeys makes the pairs that the book has made on this machine and that are not there yet, and returns how many.
func (c *cli) makeBookKeys(folder *bookfile.Folder, book *keybook.Book, o settleOptions) (made int, err error) {
	for _, k := range book.Keys {
		if k.Make == nil || k.Fingerprint != "" {
			continue
		}
		if !c.tty && o.passphrase == "" {
			return made, failure{fmt.Errorf("the book has a pair made for %s, which is made by somebody and never unattended: there is no terminal to ask for a passphrase on", k.Name.Text),
				"plumlatch keybook settle PATH on a terminal; or plumlatch key create, and file: in the book"}
		}
		private := filepath.Join(folder.Root, filepath.FromSlash(k.Make.Out))
		files := pairFiles{private: private, public: private + ".pub"}
		for _, f := range []string{files.private, files.public} {
			if _, err := os.Lstat(f); err == nil {
				return made, failure{fmt.Errorf("%s exists, and is not overwritten", f), "give another out: in the book, or file: for a pair that exists"}
			}
		}
		passphrase, show, err := c.passphraseFor(k.Name.Text, o.passphrase, -1)
		if err != nil {
			return made, err
		}
		pair, err := keypair.Create(k.Make.Kind, k.Name.Text)
		if err != nil {
			return made, err
		}
		data, err := pair.Write(keypair.FormatOpenSSH, passphrase)
		if err == nil {
			err = writePair(filepath.Dir(private), files, data, pair.Public)
		}
		clear(data)
		clear(passphrase)
		if err != nil {
			return made, err
		}
		c.warnPlace(private)
		show()
		fmt.Fprintf(c.err, "Made the pair of %s: %s, and %s.pub beside it. Keep the private half out of version control.\n", k.Name.Text, private, path.Base(k.Make.Out))
		made++
	}
	return made, nil
}

// keybookSign signs the text of a book for a service that settles it by itself.
func keybookSign(fs *flag.FlagSet) func(*cli) error {
	identity := fs.String("identity", "", "sign with this private `file`; it is used here and never sent")
	useAgent := fs.Bool("ssh-agent", false, "sign with a key in the running ssh-agent")
	passFile := fs.String("passphrase-file", "", "`file` with the passphrase of -identity")
	return func(c *cli) error {
		args, err := c.names("PATH")
		if err != nil {
			return err
		}
		if (*identity == "") == !*useAgent {
			return usagef("give -identity FILE or -ssh-agent")
		}
		folder, book, text, err := c.checkedBook(args[0])
		if err != nil {
			return err
		}
		var signer ssh.Signer
		if *identity != "" {
			_, signer, err = c.fileSigner(*identity, *passFile)
		} else {
			signer, err = agentSigner()
		}
		if err != nil {
			return err
		}
		signed := bookfile.SignedText(book.Name, text.Hash(), time.Now())
		armored, err := keypair.Sign(signer, bookfile.Namespace, []byte(signed))
		if err != nil {
			return err
		}
		file := filepath.Join(folder.Root, folder.Signature)
		tmp := file + ".new"
		if err := os.WriteFile(tmp, append([]byte(signed), armored...), 0o644); err != nil {
			return err
		}
		if err := os.Rename(tmp, file); err != nil {
			return err
		}
		fmt.Fprintf(c.out, "%sSigned with %s, in %s.\n", signed, keypair.Fingerprint(signer.PublicKey().Marshal()), file)
		return nil
	}
}

func keybookWrite(fs *flag.FlagSet) func(*cli) error {
	name := fs.String("name", "fleet", "the `name` of the book")
	tag := fs.String("tag", "", "only the instances with this tag, `NAME=VALUE`, or NAME, and the keys that open them")
	region := fs.String("region", "", "only the instances of this `region`")
	out := fs.String("out", "-", "`file` to write, or - for standard output")
	into := fs.String("into", "", "bring this `file` of a keybook up to date: what is so in it stays as it is, with its comments and its order")
	return func(c *cli) error {
		if len(c.args) > 0 {
			return usagef("keybook write takes no argument: give -out FILE")
		}
		if *into != "" {
			if *out != "-" {
				return usagef("give -out or -into")
			}
			return c.updateBook(*into, wire.KeybookWrite{Tag: *tag, Region: *region})
		}
		if err := names.Check(*name); err != nil {
			return usageError{err.Error()}
		}
		service, err := c.service()
		if err != nil {
			return err
		}
		text, err := service.WriteBook(c.ctx, wire.KeybookWrite{Name: *name, Tag: *tag, Region: *region})
		if err != nil {
			return err
		}
		if _, report := keybook.Read([]keybook.Source{{Name: "keybook.yaml", Text: text}}, nil, time.Now()); report.Errors() > 0 {
			return errors.New("what the service wrote is no keybook; nothing was kept")
		}
		if err := c.deliver(*out, bytes.TrimLeft([]byte(text), "\n"), 0o644); err != nil {
			return err
		}
		if *out != "-" {
			fmt.Fprintf(c.out, "Written to %s.\nnext: plumlatch keybook compare %s\n", *out, *out)
		}
		return nil
	}
}

// updateBook brings a file of a book up to date.
func (c *cli) updateBook(file string, r wire.KeybookWrite) error {
	if fi, err := os.Stat(file); err != nil {
		return err
	} else if fi.IsDir() {
		return usagef("-into is one file of a keybook")
	}
	folder, _, text, err := c.checkedBook(file)
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	r.Into = &text
	fresh, err := service.WriteBook(c.ctx, r)
	if err != nil {
		return err
	}
	if fresh == text.Files[0].Text {
		fmt.Fprintf(c.out, "%s is up to date already.\n", file)
		return nil
	}
	_, report := keybook.Read([]keybook.Source{{Name: text.Files[0].Name, Text: fresh}}, func(name string) ([]byte, error) { return folder.File(name, keypair.MaxFile) }, time.Now())
	if report.Errors() > 0 {
		return errors.New("what the service made of it is no keybook; the file is as it was")
	}
	fi, err := os.Stat(file)
	if err != nil {
		return err
	}
	if now, err := os.ReadFile(file); err != nil || string(now) != text.Files[0].Text {
		return fmt.Errorf("%s was changed meanwhile, and is left as it is", file)
	}
	tmp := file + ".new"
	if err := os.WriteFile(tmp, []byte(fresh), fi.Mode().Perm()); err != nil {
		return err
	}
	if err := os.Rename(tmp, file); err != nil {
		return err
	}
	fmt.Fprintf(c.out, "%s is brought up to date.\nnext: plumlatch keybook compare %s\n", file, file)
	return nil
}

func keybookHistory(fs *flag.FlagSet) func(*cli) error {
	asJSON := fs.Bool("json", false, "print JSON")
	text := fs.Int64("text", 0, "print the text that this piece of work settled: its `ID`")
	return func(c *cli) error {
		if len(c.args) > 1 {
			return usagef("give one NAME, or none for all")
		}
		service, err := c.service()
		if err != nil {
			return err
		}
		if *text != 0 {
			b, err := service.Book(c.ctx, *text)
			if err != nil {
				return err
			}
			if *asJSON {
				return c.json(b)
			}
			for _, f := range b.Files {
				if len(b.Files) > 1 {
					fmt.Fprintf(c.raw, "# %s\n", plaintext.Line(f.Name))
				}
				fmt.Fprintln(c.raw, strings.TrimRight(plaintext.Lines(f.Text), "\n"))
			}
			return nil
		}
		name := ""
		if len(c.args) == 1 {
			name = c.args[0]
		}
		all, err := service.Books(c.ctx, name)
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(all)
		}
		var rows [][]string
		for _, b := range all {
			var what []string
			for _, do := range keybook.Dos {
				if n := b.Counts[do]; n > 0 && !keybook.Told(do) {
					what = append(what, fmt.Sprintf("%d %s", n, do))
				}
			}
			rows = append(rows, []string{fmt.Sprint(b.Work), b.Name, ago(b.At, time.Now()), b.Operator, plaintext.Line(b.Version), b.Text[:min(12, len(b.Text))],
				strings.Join(what, ", "), b.State})
		}
		c.table([]string{"work", "book", "settled", "by", "version", "text", "what", "state"}, rows, "No keybook was settled yet: plumlatch keybook compare PATH")
		return nil
	}
}

// instanceTag gives an instance tags in the ledger.
func instanceTag(fs *flag.FlagSet) func(*cli) error {
	removed := fs.String("remove", "", "`names` of tags to take away, with commas")
	return func(c *cli) error {
		remove := strings.FieldsFunc(*removed, func(r rune) bool { return r == ',' })
		if len(c.args) == 0 || len(c.args) == 1 && len(remove) == 0 {
			return usagef("give INSTANCE, and NAME=VALUE or -remove NAME")
		}
		t := wire.TagChange{Set: map[string]string{}, Remove: remove}
		for _, a := range c.args[1:] {
			name, value, ok := strings.Cut(a, "=")
			if !ok || name == "" {
				return usagef("a tag is given as NAME=VALUE")
			}
			t.Set[name] = value
		}
		service, err := c.service()
		if err != nil {
			return err
		}
		if err := service.Tag(c.ctx, c.args[0], t); err != nil {
			return err
		}
		fmt.Fprintf(c.out, "Tagged. The cloud's own tags are as they were.\nnext: plumlatch instance show %s\n", c.args[0])
		return nil
	}
}
