package main

import (
	"cmp"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"plumlatch/client"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
)

// warnPlace warns of where a private file lies.
func (c *cli) warnPlace(file string) {
	for _, w := range placeWarnings(file) {
		fmt.Fprintf(c.err, "warning: %s lies in %s.\n", file, w)
	}
}

// placeWarnings tells what is wrong with the folder that a private file lies in.
func placeWarnings(file string) []string {
	abs, err := filepath.Abs(file)
	if err != nil {
		return nil
	}
	dir := filepath.Dir(abs)
	if real, err := filepath.EvalSymlinks(dir); err == nil {
		dir = real
	}
	var out []string
	within := func(parent string) bool {
		r, err := filepath.Rel(parent, dir)
		return err == nil && r != ".." && !strings.HasPrefix(r, "../")
	}
	for _, t := range []string{os.TempDir(), "/tmp", "/var/tmp", "/dev/shm"} {
		if within(t) {
			out = append(out, "a temporary folder, which others share and clean-ups empty")
			break
		}
	}
	for part := range strings.SplitSeq(strings.ToLower(dir), string(filepath.Separator)) {
		switch {
		case part == "downloads" || part == "download":
			out = append(out, "a downloads folder, where files are forgotten; move it to ~/.ssh")
		case strings.Contains(part, "sync") || strings.HasSuffix(part, "drive") || strings.HasPrefix(part, "cloud"):
			out = append(out, "what looks like a synchronised folder: the private half would leave this machine")
		}
	}
	for d := dir; ; d = filepath.Dir(d) {
		for _, vcs := range []string{".git", ".hg", ".svn"} {
			if _, err := os.Stat(filepath.Join(d, vcs)); err == nil {
				return append(out, "a version-controlled tree ("+d+"): one commit, and it is published")
			}
		}
		if d == filepath.Dir(d) {
			return out
		}
	}
}

// checked is what key check found out about one file.
type checked struct {
	File        string        `json:"file"`
	Error       string        `json:"error,omitempty"`
	Private     bool          `json:"private"`
	Kind        string        `json:"kind,omitempty"`
	Fingerprint string        `json:"fingerprint,omitempty"`
	Bitting     string        `json:"bitting,omitempty"`
	Format      string        `json:"format,omitempty"`
	Passphrase  string        `json:"passphrase,omitempty"` // "yes" or "no", for private files
	Comment     string        `json:"comment,omitempty"`
	Prints      []string      `json:"fingerprints,omitempty"` // its other forms
	Findings    []string      `json:"findings,omitempty"`
	Fixed       []string      `json:"fixed,omitempty"`
	RecordedAs  string        `json:"recorded_as,omitempty"`
	Opens       []string      `json:"opens,omitempty"`
	State       string        `json:"state,omitempty"`  // of the recorded key: in use, retired, lost, exposed
	GetIn       string        `json:"get_in,omitempty"` // the command that gets in with it
	Backup      bool          `json:"backup,omitempty"` // -fix has left it: its file as it was
	ofKey       []string      // what was found of the key, whichever file it is in
	pair        *keypair.Pair // where the private half could be read
	ledger      bool
	loads       bool // ssh loads it as it is
}

func keyCheck(fs *flag.FlagSet) func(*cli) error {
	passFile := fs.String("passphrase-file", "", "`file` with a passphrase to try on locked files")
	fix := fs.Bool("fix", false, "mend modes and line endings, with a backup beside the file")
	form := privateForm(fs)
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		if len(c.args) == 0 {
			return usagef("FILE or DIR is missing")
		}
		var passphrase []byte
		if *passFile != "" {
			var err error
			if passphrase, err = readPassphrase(*passFile, "-passphrase-file"); err != nil {
				return err
			}
			defer clear(passphrase)
		}
		files, err := keyFiles(c.args)
		if err != nil {
			return err
		}
		// Without a service, or without an answer, it tells what the files tell.
		service, _ := c.service()
		lookup := newLookup(service)
		out := []checked{}
		for _, f := range files {
			r := checkFile(f.path, passphrase, *fix)
			if f.found && r.Error != "" && !r.Private {
				continue // in a folder, what is no key is passed over
			}
			if r.Fingerprint != "" {
				lookup.fill(c, &r)
			}
			if *form && r.pair != nil && r.RecordedAs != "" {
				if _, err := c.recordPrivateForm(service, r.RecordedAs, r.pair); err != nil {
					return fmt.Errorf("%s: %w", f.path, err)
				}
			}
			out = append(out, r)
		}
		once(out)
		for _, r := range out {
			if len(r.Findings) > 0 || r.Error != "" && !r.Backup {
				c.exit = exitNeedsHand
			}
		}
		if *asJSON {
			return c.json(wire.List[checked]{Items: out})
		}
		c.printChecked(out, lookup)
		return nil
	}
}

// once adds what was found of a key to one of its files alone: to a private one, if there is one.
func once(all []checked) {
	said := map[string]bool{}
	for _, private := range []bool{true, false} {
		for n := range all {
			if r := &all[n]; r.Private == private && r.Fingerprint != "" && !said[r.Fingerprint] {
				r.Findings = append(r.Findings, r.ofKey...)
				said[r.Fingerprint] = !r.Backup
			}
		}
	}
}

// backups are the files that -fix, and why -fix, leave beside what they mend.
var backups = regexp.MustCompile(`\.before-\d{8}-\d{6}$`)

type keyFile struct {
	path  string
	found bool // in a folder, not named by hand
}

func keyFiles(args []string) ([]keyFile, error) {
	var out []keyFile
	for _, a := range args {
		fi, err := os.Stat(a)
		if err != nil {
			return nil, err
		}
		if !fi.IsDir() {
			out = append(out, keyFile{a, false})
			continue
		}
		entries, err := os.ReadDir(a)
		if err != nil {
			return nil, err
		}
		for _, e := range entries {
			skip := []string{"known_hosts", "known_hosts.old", "config", "authorized_keys",
				"authorized_keys2", "environment"}
			if e.Type().IsRegular() && !slices.Contains(skip, e.Name()) {
				out = append(out, keyFile{filepath.Join(a, e.Name()), true})
			}
		}
	}
	return out, nil
}

func checkFile(file string, passphrase []byte, fix bool) checked {
	r := checked{File: file, Backup: backups.MatchString(file)}
	fi, err := os.Stat(file)
	if err != nil {
		r.Error = err.Error()
		return r
	}
	if !fi.Mode().IsRegular() {
		r.Error = "it is no regular file"
		return r
	}
	data, err := readLimited(file)
	if err != nil {
		r.Error = err.Error()
		return r
	}
	defer clear(data)
	f, err := keypair.Read(data, passphrase)
	if errors.Is(err, keypair.ErrPassphrase) {
		r.Findings = append(r.Findings, "The given passphrase is not its own.")
		f, err = keypair.Read(data, nil)
	}
	r.Private = f.Private || errors.Is(err, keypair.ErrNotPrivate) && keypair.LooksPrivate(data)
	if err != nil {
		r.Error = err.Error()
	} else {
		r.describe(f)
	}
	if r.Private {
		r.checkPrivate(file, fi, f)
	}
	if r.Backup { // what is wrong with it is why it was mended; it lies there until somebody deletes it
		r.Findings, r.ofKey = nil, nil
		return r
	}
	if fix {
		r.fix(file, fi, data)
	}
	return r
}

func (r *checked) describe(f keypair.File) {
	r.Format, r.Comment = f.Format.Title(), plaintext.Line(f.Public.Comment)
	r.Findings = append(r.Findings, f.Remarks...)
	if f.Private {
		r.Passphrase = map[bool]string{true: "yes", false: "no"}[f.Encrypted]
	}
	if len(f.Public.Blob) == 0 {
		r.Findings = append(r.Findings, "It is locked, and its format hides the public half: give -passphrase-file "+
			"to know more.")
		return
	}
	r.Kind, r.Fingerprint, r.Bitting = f.Public.Kind(), f.Public.Fingerprint(), f.Public.Bitting().String()
	r.Prints = append(r.Prints, f.Public.FingerprintMD5())
	if der := f.Public.FingerprintDER(); der != "" {
		r.Prints = append(r.Prints, der+" of its DER")
	}
	if r.pair = f.Pair; f.Pair != nil {
		if private, err := f.Pair.FingerprintPrivate(); err == nil {
			r.Prints = append(r.Prints, private+" of the private half's DER")
		}
	}
	for _, w := range f.Public.Weaknesses() {
		r.ofKey = append(r.ofKey, fmt.Sprintf("Weakness %s (%s): %s", w.Name, w.Severity, w.Sentence))
	}
	if what := givesAway(f.Public.Comment); what != "" {
		r.ofKey = append(r.ofKey, "Its comment gives away "+what+".")
	}
	if f.Private {
		w := keypair.LoadWarning(f.Public.Kind(), f.Format)
		if r.loads = w == ""; !r.loads {
			r.Findings = append(r.Findings, w+".")
		}
	}
}

// checkPrivate looks at what is around a private file.
func (r *checked) checkPrivate(file string, fi fs.FileInfo, f keypair.File) {
	if how, err := othersRead(file, fi); err != nil {
		r.Findings = append(r.Findings, "Who else may read it was not seen: "+err.Error())
	} else if how != "" {
		r.Findings = append(r.Findings, fmt.Sprintf("It is too open (%s): ssh ignores it until it is for %s.", how, aloneWord))
	}
	for _, w := range placeWarnings(file) {
		r.Findings = append(r.Findings, "It lies in "+w+".")
	}
	ppk := f.Format == keypair.FormatPPK3 || f.Format == keypair.FormatPPK2
	switch ext := strings.ToLower(filepath.Ext(file)); {
	case ext == ".pub":
		r.Findings = append(r.Findings, "It is called .pub, and holds a private key: whoever is given it by "+
			"mistake has the key.")
	case ext == ".ppk" && !ppk && f.Format != "":
		r.Findings = append(r.Findings, "It is called .ppk, and holds "+f.Format.Title()+".")
	case ext == ".pem" && (ppk || f.Format == keypair.FormatOpenSSH):
		r.Findings = append(r.Findings, "It is called .pem, and holds "+f.Format.Title()+
			"; some programs will not read it as PEM.")
	}
	if len(f.Public.Blob) == 0 {
		return
	}
	for _, pub := range []string{file + ".pub", strings.TrimSuffix(file, filepath.Ext(file)) + ".pub"} {
		if pub == file {
			continue
		}
		data, err := readLimited(pub)
		if err != nil {
			continue
		}
		if p, err := keypair.ReadPublic(data); err != nil || p.Fingerprint() != f.Public.Fingerprint() {
			r.Findings = append(r.Findings, filepath.Base(pub)+
				" beside it is not its own: ssh would offer another key than it has.")
		}
		return
	}
}

// fix mends what can be mended without knowing more: the mode, and the line
// endings. The file as it was is kept beside it.
func (r *checked) fix(file string, fi fs.FileInfo, data []byte) {
	fail := func(err error) { r.Findings = append(r.Findings, "It could not be mended: "+err.Error()) }
	if how, err := othersRead(file, fi); r.Private && err == nil && how != "" {
		if err := ownAlone(file); err != nil {
			fail(err)
			return
		}
		r.Fixed = append(r.Fixed, madeAlone)
	}
	text := strings.ReplaceAll(strings.TrimPrefix(string(data), "\ufeff"), "\r\n", "\n")
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	if r.Error != "" || text == string(data) {
		return
	}
	perm := fs.FileMode(0o644)
	if r.Private {
		perm = 0o600
	}
	backup := file + ".before-" + time.Now().Format("20060102-150405")
	if err := writeNew(backup, data, perm); err != nil {
		fail(err)
		return
	}
	// In place, so that owner, mode and links stay; the backup is on the disk.
	if err := os.WriteFile(file, []byte(text), perm); err != nil {
		fail(err)
		return
	}
	r.Fixed = append(r.Fixed, "Its line endings are mended; the file as it was is "+filepath.Base(backup)+".")
}

// lookup asks the ledger about fingerprints, as long as it answers.
type lookup struct {
	service *client.Client
	err     error
	known   map[string]wire.Opens // by fingerprint
}

func newLookup(service *client.Client) *lookup {
	return &lookup{service: service, known: map[string]wire.Opens{}}
}

func (l *lookup) fill(c *cli, r *checked) {
	if l.service == nil || l.err != nil {
		return
	}
	o, ok := l.known[r.Fingerprint]
	if !ok {
		var err error
		if o, err = l.service.Opens(c.ctx, r.Fingerprint); err != nil {
			l.err = err
			return
		}
		l.known[r.Fingerprint] = o
	}
	r.ledger = true
	if o.Key != nil {
		r.RecordedAs, r.State = o.Key.Name, o.Key.State
	}
	r.Opens = append(r.Opens, opened(o)...)
	if !r.Private || len(r.Opens) == 0 {
		return
	}
	r.GetIn = fmt.Sprintf("plumlatch open %s -identity %s", r.Opens[0], r.File)
	if !r.loads {
		r.GetIn = fmt.Sprintf("plumlatch key convert %s -format openssh -out ~/.ssh/%s; plumlatch open %s", r.File,
			cmp.Or(r.RecordedAs, "NAME"), r.Opens[0])
	}
}

func (c *cli) printChecked(all []checked, l *lookup) {
	var rows [][]string
	for _, r := range all {
		sort := map[bool]string{true: "private", false: "public"}[r.Private]
		if r.Backup {
			sort += " (a backup)"
		}
		if r.Error != "" {
			sort = "?"
		}
		recorded, opens := marked(r.RecordedAs, r.State), plaintext.Cut(strings.Join(r.Opens, ", "), 50)
		if r.ledger && recorded == "" {
			recorded = "(not recorded)"
		}
		rows = append(rows, []string{filepath.Base(r.File), sort, r.Bitting, r.Kind, r.Format, r.Passphrase,
			recorded, opens})
	}
	c.table([]string{"file", "half", "bitting", "kind", "format", "passphrase", "key", "opens"}, rows,
		"There is no key file there.")
	for _, r := range all {
		if r.Error == "" && len(r.Findings)+len(r.Fixed) == 0 && r.GetIn == "" && len(all) > 1 {
			continue
		}
		fmt.Fprintf(c.out, "\n%s\n", plaintext.Line(r.File))
		if len(all) == 1 && r.Fingerprint != "" {
			fmt.Fprintf(c.out, "  known as %s\n", strings.Join(append([]string{r.Fingerprint}, r.Prints...), "\n           "))
		}
		if r.Error != "" {
			fmt.Fprintf(c.out, "  %s\n", plaintext.Line(r.Error))
		}
		for _, f := range r.Findings {
			fmt.Fprintf(c.out, "  %s\n", plaintext.Line(f))
		}
		for _, f := range r.Fixed {
			fmt.Fprintf(c.out, "  mended: %s\n", f)
		}
		if r.GetIn != "" {
			fmt.Fprintf(c.out, "  gets in: %s\n", plaintext.Line(r.GetIn))
		}
	}
	switch {
	case l.service == nil:
		fmt.Fprintln(c.out, "\nThe ledger was not asked: PLUMLATCH_URL and PLUMLATCH_TOKEN are not set.")
	case l.err != nil:
		fmt.Fprintf(c.out, "\nThe ledger did not answer: %s.\n", plaintext.Line(l.err.Error()))
	}
}
