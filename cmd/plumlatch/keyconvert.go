package main

import (
	"cmp"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"plumlatch/client"
	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
)

// readKey reads a file, or standard input for "-", and opens it with the
// passphrase: from the file of passFile, or asked for on the terminal.
func (c *cli) readKey(name, passFile string) (f keypair.File, passphrase []byte, err error) {
	var data []byte
	if name == "-" {
		data, err = io.ReadAll(io.LimitReader(c.in, keypair.MaxFile+1))
	} else {
		data, err = readLimited(name)
	}
	if err != nil {
		return f, nil, err
	}
	defer clear(data)
	if passFile != "" {
		if passphrase, err = readPassphrase(passFile, "-passphrase-file"); err != nil {
			return f, nil, err
		}
	}
	f, err = keypair.Read(data, passphrase)
	if err == nil && f.Encrypted && f.Pair == nil {
		if !c.tty || name == "-" {
			return f, nil, failure{fmt.Errorf("%s: %w", name, keypair.ErrPassphrase), "give -passphrase-file FILE"}
		}
		if passphrase, err = c.ask("Passphrase of " + name + " (nothing shows while you type): "); err != nil {
			return f, nil, err
		}
		f, err = keypair.Read(data, passphrase)
	}
	if err != nil {
		return f, nil, fmt.Errorf("%s: %w", name, err)
	}
	for _, r := range f.Remarks {
		fmt.Fprintf(c.err, "note: %s\n", r)
	}
	return f, passphrase, nil
}

// deliver writes a file that must not exist yet, or to standard output for "-".
func (c *cli) deliver(out string, data []byte, mode fs.FileMode) error {
	if out == "-" {
		_, err := c.raw.Write(data)
		return err
	}
	err := writeNew(out, data, mode)
	if errors.Is(err, fs.ErrExist) {
		return failure{fmt.Errorf("%s exists, and is not overwritten", out), "choose another file with -out"}
	}
	return err
}

func keyConvert(fs *flag.FlagSet) func(*cli) error {
	format := fs.String("format", "", "`format` to write: openssh, pem, pkcs8, ppk, ppk2 for a private file; line, "+
		"rfc4716, spki for a public one")
	out := fs.String("out", "", "`file` to write, or - for standard output")
	passFile := fs.String("passphrase-file", "", "`file` with the passphrase that the key has")
	var fresh string
	newPassphraseFlag(fs, &fresh, "the file that is written", "the one that it has")
	comment := fs.String("comment", "", "`text` for the comment instead; -comment \"\" drops it")
	return func(c *cli) error {
		args, err := c.names("FILE")
		if err != nil {
			return err
		}
		if *format == "" || *out == "" {
			return usagef("-format and -out are needed")
		}
		given := false
		fs.Visit(func(f *flag.Flag) { given = given || f.Name == "comment" })
		to, err := keypair.ParseFormat(*format, append(keypair.PrivateFormats(), keypair.PublicFormats()...))
		if err != nil {
			return usageError{"-format: " + err.Error()}
		}
		f, passphrase, err := c.readKey(args[0], *passFile)
		if err != nil {
			return err
		}
		defer clear(passphrase)
		if given {
			if f.Public, err = keypair.FromBlob(f.Public.Blob, *comment); err != nil {
				return usageError{"-comment: " + err.Error()}
			}
		} else if f.Public.Comment == "" && args[0] != "-" {
			f.Public.Comment = commentBeside(args[0], f.Public)
		}
		var data []byte
		mode, show := os.FileMode(0o644), func() {}
		if slices.Contains(keypair.PublicFormats(), to) {
			data, err = f.Public.Write(to)
		} else {
			mode = 0o600
			data, show, err = c.convertPrivate(f, to, passphrase, fresh)
		}
		if err != nil {
			return err
		}
		defer clear(data)
		if err := c.deliver(*out, data, mode); err != nil {
			return err
		}
		show()
		if *out == "-" {
			return nil
		}
		if mode == 0o600 {
			c.warnPlace(*out)
		}
		fmt.Fprintf(c.out, "Wrote %s: %s as %s, read back and compared.\n", *out, f.Public.Kind(), to.Title())
		return nil
	}
}

func (c *cli) convertPrivate(f keypair.File, to keypair.Format, passphrase []byte, fresh string) (data []byte,
	show func(), err error) {
	show = func() {}
	if f.Pair == nil {
		return nil, show, failure{errors.New("the file holds a public half only, and a private format was asked for"),
			"give the private file, or -format line, rfc4716 or spki"}
	}
	if fresh != "" {
		if passphrase, show, err = c.passphraseFor(cmp.Or(f.Public.Comment, f.Public.Fingerprint()), fresh, -1); err != nil {
			return nil, show, err
		}
	} else if !f.Encrypted {
		passphrase = nil
	}
	pair, err := f.Pair.WithComment(f.Public.Comment)
	if err != nil {
		return nil, show, err
	}
	if data, err = pair.Write(to, passphrase); err != nil {
		return nil, show, err
	}
	if w := keypair.LoadWarning(f.Public.Kind(), to); w != "" {
		fmt.Fprintf(c.err, "warning: %s.\n", w)
	}
	if len(passphrase) == 0 {
		fmt.Fprintln(c.err, "note: it is written without a passphrase.")
	}
	return data, show, nil
}

// commentBeside returns the comment of the .pub file beside a private one whose
// format has none.
func commentBeside(file string, p keypair.Public) string {
	for _, pub := range []string{file + ".pub", strings.TrimSuffix(file, filepath.Ext(file)) + ".pub"} {
		if data, err := readLimited(pub); err == nil {
			if q, err := keypair.ReadPublic(data); err == nil && q.Fingerprint() == p.Fingerprint() {
				return q.Comment
			}
		}
	}
	return ""
}

func keyPublic(fs *flag.FlagSet) func(*cli) error {
	format := fs.String("format", "line", "`format`: line, rfc4716, spki")
	passFile := fs.String("passphrase-file", "", "`file` with the passphrase, where the format hides the public half")
	return func(c *cli) error {
		args, err := c.names("FILE")
		if err != nil {
			return err
		}
		to, err := keypair.ParseFormat(*format, keypair.PublicFormats())
		if err != nil {
			return usageError{"-format: " + err.Error()}
		}
		// No passphrase is asked for where the file shows its public half.
		data, err := readLimited(args[0])
		if err != nil {
			return err
		}
		defer clear(data)
		f, err := keypair.Read(data, nil)
		if err == nil && len(f.Public.Blob) == 0 {
			f, _, err = c.readKey(args[0], *passFile)
			if err != nil {
				return err
			}
		}
		if err != nil {
			return fmt.Errorf("%s: %w", args[0], err)
		}
		if f.Public.Comment == "" {
			f.Public.Comment = commentBeside(args[0], f.Public)
		}
		text, err := f.Public.Write(to)
		if err != nil {
			return err
		}
		_, err = c.raw.Write(text)
		return err
	}
}

func keyExport(fs *flag.FlagSet) func(*cli) error {
	format := fs.String("format", "line", "`format`: line, rfc4716, spki")
	out := fs.String("out", "-", "`file` to write, or - for standard output")
	return func(c *cli) error {
		args, service, err := c.begin("NAME")
		if err != nil {
			return err
		}
		to, err := keypair.ParseFormat(*format, keypair.PublicFormats())
		if err != nil {
			return usageError{"-format: " + err.Error()}
		}
		k, err := c.recordedKey(service, args[0])
		if err != nil {
			return err
		}
		p, err := keypair.ReadPublic([]byte(k.PublicKey))
		if err != nil {
			return errors.New("the service sent a public half that cannot be read")
		}
		text, err := p.Write(to)
		if err != nil {
			return err
		}
		if err := c.deliver(*out, text, 0o644); err != nil || *out == "-" {
			return err
		}
		fmt.Fprintf(c.out, "Wrote %s: the public half of %s as %s.\n", *out, k.Name, to.Title())
		return nil
	}
}

// imported is what key import -batch did with one entry.
type imported struct {
	File        string `json:"file"`
	Line        int    `json:"line"`
	Name        string `json:"name,omitempty"`
	Fingerprint string `json:"fingerprint,omitempty"`
	Result      string `json:"result"` // recorded, known, refused, "not tried"
	Detail      string `json:"detail,omitempty"`
	public      keypair.Public
}

// importBatch records every public half of a file, or of the files of a
// folder, with a result for each. With whole, nothing is recorded unless all
// can be, as far as can be told beforehand.
func (c *cli) importBatch(from string, n wire.NewKey, whole, asJSON bool) error {
	entries, err := batchEntries(from)
	if err != nil {
		return err
	}
	service, err := c.service()
	if err != nil {
		return err
	}
	taken, known := map[string]bool{}, map[string]string{}
	keys, err := service.Keys(c.ctx, nil)
	if err != nil {
		return err
	}
	for _, k := range keys {
		taken[names.Fold(k.Name)], known[k.Fingerprint] = true, k.Name
	}
	bad := 0
	for i := range entries {
		e := &entries[i]
		if e.Result == "" {
			e.Fingerprint = e.public.Fingerprint()
			if name := known[e.Fingerprint]; name != "" {
				e.Result, e.Detail, e.Name = "known", "recorded already, as "+name, name
				continue
			}
			e.Name = batchName(e, taken)
			taken[names.Fold(e.Name)], known[e.Fingerprint] = true, e.Name
			continue
		}
		bad++
	}
	for i := range entries {
		e := &entries[i]
		switch {
		case e.Result != "":
		case whole && bad > 0:
			e.Result = "not tried"
		default:
			n.Name, n.PublicKey = e.Name, e.public.Line()
			if _, err := service.AddKey(c.ctx, n); err != nil {
				if !client.Definite(err) {
					return err
				}
				e.Result, e.Detail = "refused", err.Error()
				bad++
			} else {
				e.Result = "recorded"
			}
		}
	}
	return c.reportBatch(entries, bad, asJSON)
}

func (c *cli) reportBatch(entries []imported, bad int, asJSON bool) error {
	done := 0
	var rows [][]string
	for _, e := range entries {
		if e.Result == "recorded" {
			done++
		}
		rows = append(rows, []string{fmt.Sprintf("%s:%d", filepath.Base(e.File), e.Line), e.Name, e.Result,
			plaintext.Cut(e.Detail, 90), e.Fingerprint})
	}
	if asJSON {
		if err := c.json(wire.List[imported]{Items: entries}); err != nil {
			return err
		}
	} else {
		c.table([]string{"where", "key", "result", "", "fingerprint"}, rows, "There is nothing in it.")
		fmt.Fprintf(c.out, "\n%d of %d recorded.\n", done, len(entries))
	}
	if bad > 0 {
		return failure{fmt.Errorf("%d could not be imported", bad),
			"mend or remove these lines, and run it again: what is known already is passed over"}
	}
	return nil
}

func batchEntries(from string) ([]imported, error) {
	fi, err := os.Stat(from)
	if err != nil {
		return nil, err
	}
	files := []string{from}
	if fi.IsDir() {
		entries, err := os.ReadDir(from)
		if err != nil {
			return nil, err
		}
		files = nil
		for _, e := range entries {
			if e.Type().IsRegular() && filepath.Ext(e.Name()) == ".pub" {
				files = append(files, filepath.Join(from, e.Name()))
			}
		}
		if len(files) == 0 {
			return nil, fmt.Errorf("%s: there is no .pub file in it", from)
		}
	}
	var out []imported
	for _, file := range files {
		data, err := os.ReadFile(file) // the limit is per key, not per file
		if err != nil {
			return nil, err
		}
		// A file of one key may be in any format.
		if f, err := keypair.ReadPublicFile(data); err == nil {
			out = append(out, imported{File: file, Line: 1, public: f.Public})
			continue
		}
		many, err := keypair.ReadMany(data)
		if err != nil {
			out = append(out, imported{File: file, Line: 1, Result: "refused", Detail: err.Error()})
			continue
		}
		for _, e := range many {
			r := imported{File: file, Line: e.Line, public: e.Public}
			if e.Err != nil {
				r.Result, r.Detail = "refused", e.Err.Error()
			}
			out = append(out, r)
		}
	}
	return out, nil
}

// batchName makes a free name for an entry, of its comment or of its file.
func batchName(e *imported, taken map[string]bool) string {
	base := names.Suggest(e.public.Comment)
	if base == "" {
		base = names.Suggest(strings.TrimSuffix(filepath.Base(e.File), ".pub"))
	}
	if base == "" {
		base = "key"
	}
	return freeName(base, taken)
}
