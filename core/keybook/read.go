package keybook

import (
	"errors"
	"fmt"
	"io"
	"net/netip"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/secrets"
	"plumlatch/core/times"
)

// Bounds of what is read.
const (
	MaxText  = 32 << 20 // bytes of all files together
	MaxFiles = 1000
	// MaxMarks bounds the memory: so many values, at most, each of some hundred bytes once the text is read.
	MaxMarks = 2_000_000
	// maxFindings are told; a book with more is wrong in another way.
	maxFindings = 200
)

// Files reads the files that a book names, such as public halves. An error says what is wrong in words without control characters; one that
// wraps ErrOutside is about a file that lies elsewhere. A file that a pair is yet to be made for is none.
type Files func(name string) (data []byte, err error)

// Errors of reading a book's files.
var (
	// ErrOutside: a file lies outside the book's folder, or a link leads there.
	ErrOutside = errors.New("it lies outside the folder of the book")
	// ErrNoFile: there is no such file.
	ErrNoFile = errors.New("there is no such file")
)

// Read reads a book, and tells what is wrong with it, by place. now is for ends that have passed; files may be nil where none can be read.
// The book is nil if it cannot be read at all; it is not to be used if a finding is an Error.
func Read(sources []Source, files Files, now time.Time) (*Book, Report) {
	r := &reader{book: &Book{keys: map[string]int{}, holders: map[string]int{}, sets: map[string]int{}, instances: map[string]int{}}, files: files, now: now, private: map[string]bool{}}
	report := func(book *Book) (*Book, Report) {
		inOrder(r.found)
		out := Report{Files: []string{}, Findings: append([]Finding{}, r.found...)}
		for _, s := range sources {
			out.Files = append(out.Files, plaintext.Line(plaintext.Cut(s.Name, 300)))
		}
		if book != nil {
			out.Book = book.Name
		}
		return book, out
	}
	// Before anything else, and without a look at what else it is.
	for _, s := range sources {
		if secrets.Holds(s.Text) {
			r.add(Error, "private-key", Place{File: s.Name}, "a private key stands in it; nothing of it was read. Take it out of the file and of the history "+
				"that the file is kept in, and take the key for exposed: plumlatch key exposed NAME")
		}
	}
	if len(r.found) > 0 {
		return report(nil)
	}
	size, marks := 0, 0
	for _, s := range sources {
		size += len(s.Text)
		marks += valuesOf(s.Text)
	}
	switch {
	case len(sources) == 0:
		r.add(Error, "missing", Place{}, "there is no file of a keybook: its files end in .yaml or .yml")
	case len(sources) > MaxFiles:
		r.add(Error, "too-large", Place{File: sources[MaxFiles].Name}, "a book has at most %d files", MaxFiles)
	case marks > MaxMarks:
		r.add(Error, "too-large", Place{File: sources[0].Name}, "a book has at most %d values in all its files; settle several books, each complete for its own instances", MaxMarks)
	case size > MaxText:
		r.add(Error, "too-large", Place{File: sources[0].Name}, "a book has at most %d MiB in all its files", MaxText>>20)
	}
	if len(r.found) > 0 {
		return report(nil)
	}
	for _, s := range sources {
		r.source(s)
	}
	r.check(sources)
	return report(r.book)
}

// valuesOf is how many values a YAML text can have at most: one begins the text, and each other one comes after one of these.
func valuesOf(text string) (n int) {
	for i := range len(text) {
		switch text[i] {
		case ',', ':', '[', '{', '\n', '\r', '-', '?':
			n++
		}
	}
	return n
}

type reader struct {
	book    *Book
	file    string
	found   []Finding
	cut     bool
	files   Files
	now     time.Time
	private map[string]bool // files that were found to be private
}

func (r *reader) add(severity, code string, at Place, format string, a ...any) *Finding {
	if len(r.found) >= maxFindings {
		if !r.cut {
			r.cut = true
			r.found = append(r.found, Finding{Code: "too-large", Severity: Error, Place: at, Sentence: fmt.Sprintf("more than %d findings: the rest is not told", maxFindings)})
		}
		return new(Finding)
	}
	r.found = append(r.found, Finding{Code: code, Severity: severity, Place: at, Sentence: plaintext.Line(plaintext.Cut(fmt.Sprintf(format, a...), 500))})
	return &r.found[len(r.found)-1]
}

func (r *reader) at(n *yaml.Node) Place { return Place{r.file, max(n.Line, 1), max(n.Column, 1)} }

// wrong adds an error at a node.
func (r *reader) wrong(code string, n *yaml.Node, format string, a ...any) *Finding {
	return r.add(Error, code, r.at(n), format, a...)
}

// yamlLine is how the YAML package names a line.
var yamlLine = regexp.MustCompile(`^yaml: (?:line (\d+): )?(.*)`)

// source reads one file.
func (r *reader) source(s Source) {
	r.file = s.Name
	d := yaml.NewDecoder(strings.NewReader(strings.TrimPrefix(s.Text, "\ufeff")))
	var doc, more yaml.Node
	err := decode(d, &doc)
	if errors.Is(err, io.EOF) || err == nil && len(doc.Content) == 0 {
		if strings.TrimSpace(s.Text) == "" || err != nil {
			r.add(Warning, "missing", Place{File: s.Name, Line: 1, Column: 1}, "the file is empty")
		}
		return
	}
	if err == nil {
		if err = decode(d, &more); err == nil {
			r.wrong("form", &more, "a file is one document: take out this --- or what follows it")
			return
		} else if errors.Is(err, io.EOF) {
			err = nil
		}
	}
	if err != nil {
		at := Place{File: s.Name, Line: 1, Column: 1}
		text := "it cannot be read"
		if m := yamlLine.FindStringSubmatch(err.Error()); m != nil {
			if line, err := strconv.Atoi(m[1]); err == nil {
				at.Line = line
			}
			text = m[2]
		}
		if strings.Contains(text, "character that cannot start any token") || strings.Contains(text, "found a tab") {
			text += "; a line is indented with blanks, never with tabs"
		}
		r.add(Error, "yaml", at, "this is no YAML: %s", text)
		return
	}
	root := doc.Content[0]
	if root.Kind != yaml.MappingNode {
		r.wrong("form", root, "a keybook is a list of words with what belongs to each, such as keys: and access:")
		return
	}
	r.mapping(root, "a keybook", fields{
		"keybook":   r.head,
		"form":      func(_, v *yaml.Node) { r.form(v) },
		"complete":  func(k, v *yaml.Node) { r.complete(k, v) },
		"holders":   func(_, v *yaml.Node) { r.named(v, "holders", r.holder) },
		"keys":      func(_, v *yaml.Node) { r.named(v, "keys", r.key) },
		"sets":      func(_, v *yaml.Node) { r.named(v, "sets", r.set) },
		"access":    func(_, v *yaml.Node) { r.list(v, "access", r.grant) },
		"instances": func(_, v *yaml.Node) { r.named(v, "instances", r.instance) },
		"rules":     func(_, v *yaml.Node) { r.list(v, "rules", r.rule) },
		"checks":    func(_, v *yaml.Node) { r.list(v, "checks", r.checkOf) },
		"logins":    func(_, v *yaml.Node) { r.list(v, "logins", r.login) },
		"users":     func(_, v *yaml.Node) { r.list(v, "users", r.user) },
	})
}

// decode reads a document. The package panics on some texts.
func decode(d *yaml.Decoder, n *yaml.Node) (err error) {
	defer func() {
		if v := recover(); v != nil {
			err = errors.New("yaml: it cannot be read")
		}
	}()
	return d.Decode(n)
}

// fields are the words of a mapping.
type fields map[string]func(key, value *yaml.Node)

// mapping reads the words of a mapping, each once.
func (r *reader) mapping(n *yaml.Node, what string, f fields) bool {
	if !r.is(n, yaml.MappingNode, what+" is a list of words with what belongs to each: WORD: VALUE") {
		return false
	}
	var seen map[string]bool
	if len(n.Content) > 2 {
		seen = make(map[string]bool, len(n.Content)/2)
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, v := n.Content[i], n.Content[i+1]
		if !r.is(k, yaml.ScalarNode, "a word is expected here") {
			continue
		}
		if seen[k.Value] {
			r.wrong("twice", k, "%s has the word %s twice", what, shown(k.Value))
			continue
		}
		if seen != nil {
			seen[k.Value] = true
		}
		do, ok := f[k.Value]
		if !ok {
			var known []string
			for w := range f {
				known = append(known, w)
			}
			slices.Sort(known)
			found := r.wrong("unknown-word", k, "%s has no word %s; it has %s", what, shown(k.Value), strings.Join(known, ", "))
			found.Near = names.Near(k.Value, known, 2)
			continue
		}
		do(k, v)
	}
	return true
}

// shown is a word of a book in a sentence.
func shown(s string) string { return strconv.Quote(plaintext.Cut(s, 60)) }

// is checks the kind of a node, and that it is no alias.
func (r *reader) is(n *yaml.Node, kind yaml.Kind, otherwise string) bool {
	switch {
	case n.Kind == yaml.AliasNode || n.Anchor != "":
		r.wrong("alias", n, "a keybook has no anchors (&) and aliases (*): what is said once for several is a set")
		return false
	case n.Kind != kind:
		r.wrong("form", n, "%s", otherwise)
		return false
	}
	return true
}

// named reads a mapping of names, each with what belongs to it.
func (r *reader) named(n *yaml.Node, what string, one func(name Word, v *yaml.Node)) {
	if n.Kind == yaml.ScalarNode && n.Tag == "!!null" {
		return
	}
	if !r.is(n, yaml.MappingNode, what+" is a list of names with what belongs to each: NAME: {...}") {
		return
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		k := n.Content[i]
		if !r.is(k, yaml.ScalarNode, "a name is expected here") {
			continue
		}
		if err := names.Check(k.Value); err != nil {
			r.wrong("name", k, "%v", err)
			continue
		}
		one(Word{k.Value, r.at(k)}, n.Content[i+1])
	}
}

// list reads a list of mappings.
func (r *reader) list(n *yaml.Node, what string, one func(v *yaml.Node)) {
	if n.Kind == yaml.ScalarNode && n.Tag == "!!null" {
		return
	}
	if !r.is(n, yaml.SequenceNode, what+" is a list: each entry begins with \"- \"") {
		return
	}
	for _, v := range n.Content {
		one(v)
	}
}

// text reads a text without control characters.
func (r *reader) text(v *yaml.Node, what string, longest int) (string, bool) {
	if !r.is(v, yaml.ScalarNode, what+" is a text") {
		return "", false
	}
	if v.Tag == "!!null" {
		r.wrong("missing", v, "%s is empty", what)
		return "", false
	}
	if plaintext.HasControl(v.Value) || len(v.Value) > longest {
		r.wrong("form", v, "%s is at most %d printable characters", what, longest)
		return "", false
	}
	if v.Style&yaml.DoubleQuotedStyle != 0 && len(v.Value) > 40 && secrets.Holds(v.Value) {
		r.wrong("private-key", v, "a private key stands here: take it out, and take the key for exposed")
		return "", false
	}
	return v.Value, true
}

// choice reads one of some words.
func (r *reader) choice(v *yaml.Node, what string, of ...string) string {
	s, ok := r.text(v, what, 60)
	if ok && !slices.Contains(of, s) {
		r.wrong("form", v, "%s is one of %s, and not %s", what, strings.Join(of, ", "), shown(s)).Near = names.Near(s, of, 2)
		return ""
	}
	return s
}

// texts reads a text, or a list of them.
func (r *reader) texts(v *yaml.Node, what string, longest int) (out []Word) {
	if v.Kind == yaml.ScalarNode {
		if s, ok := r.text(v, what, longest); ok {
			out = append(out, Word{s, r.at(v)})
		}
		return out
	}
	if !r.is(v, yaml.SequenceNode, what+" is a text, or a list of them") {
		return nil
	}
	out = make([]Word, 0, len(v.Content))
	for _, n := range v.Content {
		if s, ok := r.text(n, what, longest); ok {
			out = append(out, Word{s, r.at(n)})
		}
	}
	return out
}

// words reads a name, or a list of names. With sorts, a name may have one before it: holder/NAME.
func (r *reader) words(v *yaml.Node, what string, sorts ...string) (out []Word) {
	for _, w := range r.texts(v, what, 200) {
		sort, name := split(w.Text)
		if sort != "" && !slices.Contains(sorts, sort) {
			r.add(Error, "form", w.At, "%s: %s is no sort of name; there are %s", what, shown(sort), strings.Join(sorts, ", ")).Near = names.Near(sort, sorts, 1)
			continue
		}
		if err := names.Check(name); err != nil {
			r.add(Error, "name", w.At, "%s: %v", what, err)
			continue
		}
		out = append(out, w)
	}
	return out
}

func plain(words []Word) (out []string) {
	for _, w := range words {
		out = append(out, w.Text)
	}
	return out
}

func (r *reader) boolean(v *yaml.Node, what string) bool {
	s := r.choice(v, what, "true", "false")
	return s == "true"
}

func (r *reader) head(_, v *yaml.Node) {
	s, ok := r.text(v, "keybook", names.MaxLength)
	if !ok {
		return
	}
	if err := names.Check(s); err != nil {
		r.wrong("name", v, "keybook: %v", err)
		return
	}
	if had := r.book; had.Name != "" && names.Fold(had.Name) != names.Fold(s) {
		r.wrong("two-books", v, "this file is of the book %s, and %s:%d of the book %s: a folder is one book", s, had.At.File, had.At.Line, had.Name)
		return
	} else if had.Name != "" {
		return
	}
	r.book.Name, r.book.At = s, r.at(v)
}

func (r *reader) form(v *yaml.Node) {
	if s, ok := r.text(v, "form", 20); ok && s != "1" {
		r.wrong("form", v, "form is 1: this program knows no other")
	}
}

func (r *reader) complete(k, v *yaml.Node) {
	if r.book.Complete != nil {
		r.wrong("twice", k, "what the book is complete for stands in %s:%d already", r.book.Complete.At.File, r.book.Complete.At.Line)
		return
	}
	c := &Complete{At: r.at(k)}
	f := r.selector(&c.To)
	f["also"] = func(_, v *yaml.Node) {
		for _, w := range r.texts(v, "also", 60) {
			all := []string{Machines, Unrecorded, Authorities}
			if !slices.Contains(all, w.Text) {
				r.add(Error, "form", w.At, "also is some of %s, and not %s", strings.Join(all, ", "), shown(w.Text)).Near = names.Near(w.Text, all, 1)
				continue
			}
			c.Also = append(c.Also, w.Text)
		}
	}
	f["strict"] = func(_, v *yaml.Node) { c.Strict = r.boolean(v, "strict") }
	f["files"] = func(_, v *yaml.Node) { c.Files = r.texts(v, "files", 300) }
	if !r.mapping(v, "complete", f) {
		return
	}
	r.book.Complete = c
	if c.To.Empty() {
		r.wrong("no-target", k, "complete says for which instances: tag, region, image, instances, or all: true")
	}
	if len(c.Files) == 0 {
		r.wrong("files", k, "a complete book lists its files, so that one which is missing withdraws nothing: complete: {..., files: [%s]}", path.Base(r.file))
	}
}

// selector are the words that choose instances.
func (r *reader) selector(s *Selector) fields {
	return fields{
		"instances": func(_, v *yaml.Node) { s.Instances = r.words(v, "instances") },
		"tag": func(_, v *yaml.Node) {
			for _, w := range r.texts(v, "tag", 200) {
				if name, _, _ := strings.Cut(w.Text, "="); name == "" {
					r.add(Error, "form", w.At, "a tag is NAME=VALUE, or NAME")
					continue
				}
				s.Tags = append(s.Tags, w.Text)
			}
		},
		"region": func(_, v *yaml.Node) { s.Regions = plain(r.texts(v, "region", 100)) },
		"image":  func(_, v *yaml.Node) { s.Images = plain(r.texts(v, "image", 200)) },
		"all":    func(_, v *yaml.Node) { s.All = r.boolean(v, "all") },
	}
}

// to reads what an entry is for.
func (r *reader) to(s *Selector) func(k, v *yaml.Node) {
	return func(k, v *yaml.Node) {
		s.At = r.at(k)
		f := r.selector(s)
		f["except"] = func(_, v *yaml.Node) {
			s.Except = new(Selector)
			r.mapping(v, "except", r.selector(s.Except))
		}
		f["must_match"] = func(_, v *yaml.Node) { s.MustMatch = r.boolean(v, "must_match") }
		if r.mapping(v, "to", f) && s.Empty() {
			r.wrong("no-target", k, "to says which instances: instances, tag, region, image, or all: true")
		}
	}
}

// had tells whether a name is there already, and remembers it. Names that differ by case are one.
func (r *reader) had(of map[string]int, w Word, what string, n int, other func(n int) Word) bool {
	if at, ok := of[names.Fold(w.Text)]; ok {
		o := other(at)
		r.add(Error, "twice", w.At, "the %s %s stands in %s:%d already, as %s: names that differ only in capitals are one", what, w.Text, o.At.File, o.At.Line, o.Text)
		return true
	}
	of[names.Fold(w.Text)] = n
	return false
}

func (r *reader) holder(name Word, v *yaml.Node) {
	h := Holder{Name: name, Sort: "person"}
	if r.had(r.book.holders, name, "holder", len(r.book.Holders), func(n int) Word { return r.book.Holders[n].Name }) {
		return
	}
	if v.Kind == yaml.ScalarNode { // NAME: team
		if v.Tag != "!!null" {
			h.Sort = r.choice(v, "a holder", "person", "team", "machine", "job")
		}
	} else {
		r.mapping(v, "a holder", fields{
			"sort":    func(_, v *yaml.Node) { h.Sort = r.choice(v, "sort", "person", "team", "machine", "job") },
			"members": func(_, v *yaml.Node) { h.Members = r.words(v, "members") },
		})
	}
	if len(h.Members) > 0 && h.Sort != "team" {
		r.add(Error, "form", name.At, "%s has members, and is no team: give sort: team", name.Text)
	}
	r.book.Holders = append(r.book.Holders, h)
}

// isPrint is a fingerprint as keys are named by.
var isPrint = regexp.MustCompile(`^SHA256:[A-Za-z0-9+/]{43}=?$`)

func (r *reader) key(name Word, v *yaml.Node) {
	k := Key{Name: name}
	if r.had(r.book.keys, name, "key", len(r.book.Keys), func(n int) Word { return r.book.Keys[n].Name }) {
		return
	}
	ways := 0
	line := func(_, v *yaml.Node) {
		if ways++; v.Kind == yaml.ScalarNode {
			r.public(&k, v, []byte(v.Value), "")
		} else {
			r.wrong("form", v, "line is the public key in one line: ssh-ed25519 AAAA... comment")
		}
	}
	if v.Kind == yaml.ScalarNode { // NAME: LINE
		line(nil, v)
	} else {
		r.mapping(v, "a key", fields{
			"line": line,
			"file": func(_, v *yaml.Node) { ways++; r.keyFile(&k, v) },
			"fingerprint": func(_, v *yaml.Node) {
				ways++
				if s, ok := r.text(v, "fingerprint", 100); ok && !isPrint.MatchString(s) {
					r.wrong("key", v, "a fingerprint is written as ssh-keygen -l shows it: SHA256: and 43 characters")
				} else {
					k.Fingerprint = strings.TrimRight(s, "=")
				}
			},
			"make":      func(_, v *yaml.Node) { ways++; r.make(&k, v) },
			"authority": func(_, v *yaml.Node) { k.Authority = r.boolean(v, "authority") },
			"holder": func(_, v *yaml.Node) {
				if all := r.words(v, "holder"); len(all) == 1 {
					k.Holder = all[0]
				} else if len(all) > 1 {
					r.wrong("form", v, "a key has one holder; a team is one too")
				}
			},
			"note": func(_, v *yaml.Node) {
				if s, ok := r.text(v, "note", 1000); ok {
					k.Note = &s
				}
			},
			"origin": func(_, v *yaml.Node) { k.Origin = r.choice(v, "origin", "made here", "imported", "made elsewhere") },
			"state":  func(_, v *yaml.Node) { k.State = r.choice(v, "state", "in use", "retired") },
			"cloud_lists": func(_, v *yaml.Node) {
				k.Lists = r.texts(v, "cloud_lists", 200)
			},
		})
	}
	if ways != 1 && v.Kind == yaml.MappingNode {
		r.add(Error, "missing", name.At, "the key %s has one of line, file, fingerprint and make", name.Text)
	}
	r.book.Keys = append(r.book.Keys, k)
}

// public reads a public key, which may stand in a file.
func (r *reader) public(k *Key, v *yaml.Node, data []byte, file string) {
	p, err := keypair.ReadPublic(data)
	where := ""
	if file != "" {
		where = file + ": "
	}
	if errors.Is(err, keypair.ErrPrivateKey) {
		r.wrong("private-key", v, "%sthis is a private key, and a keybook has public ones: give the .pub file, and take the key for exposed if others read it", where)
		return
	}
	if err != nil {
		r.wrong("key", v, "%s%v", where, err)
		return
	}
	k.Public, k.Fingerprint, k.File = p, p.Fingerprint(), file
	for _, w := range p.Weaknesses() {
		severity := Warning
		if w.Severity != keypair.Dated {
			severity = Error
		}
		r.add(severity, "weak-key", r.at(v), "%s%s", where, w.Sentence)
	}
}

func (r *reader) keyFile(k *Key, v *yaml.Node) {
	name, ok := r.filePath(v, "file")
	if !ok {
		return
	}
	if r.files == nil {
		r.wrong("key", v, "%s is not at hand here", name)
		return
	}
	data, err := r.files(name)
	switch {
	case errors.Is(err, ErrOutside):
		r.wrong("outside", v, "%s: %v", name, err)
	case err != nil:
		r.wrong("key", v, "%s: %v", name, err)
	default:
		r.public(k, v, data, name)
	}
}

// filePath is a file beside the book, by its path from the book's folder.
func (r *reader) filePath(v *yaml.Node, what string) (string, bool) {
	s, ok := r.text(v, what, 300)
	if !ok {
		return "", false
	}
	clean := path.Clean(path.Join(path.Dir(r.file), s))
	if path.IsAbs(s) || clean == ".." || strings.HasPrefix(clean, "../") || strings.Contains(s, "\\") {
		r.wrong("outside", v, "%s lies outside the folder of the book: give a path within it, with slashes", what)
		return "", false
	}
	return clean, true
}

func (r *reader) make(k *Key, v *yaml.Node) {
	m, before := &Make{Kind: keypair.Ed25519}, len(r.found)
	r.mapping(v, "make", fields{
		"kind": func(_, v *yaml.Node) {
			if s, ok := r.text(v, "kind", 40); ok {
				kind, err := keypair.ParseKind(s)
				if err != nil {
					r.wrong("form", v, "%v", err)
				}
				m.Kind = kind
			}
		},
		"out": func(_, v *yaml.Node) { m.Out, _ = r.filePath(v, "out") },
	})
	if m.Out == "" && len(r.found) > before {
		return
	}
	if m.Out == "" {
		r.wrong("missing", v, "make has out: the file that the private half is written to; the .pub goes beside it")
		return
	}
	k.Make = m
	if r.files == nil {
		return
	}
	data, err := r.files(m.Out + ".pub")
	switch {
	case errors.Is(err, ErrNoFile): // it is yet to be made
	case errors.Is(err, ErrOutside):
		r.wrong("outside", v, "%s.pub: %v", m.Out, err)
	case err != nil:
		r.wrong("key", v, "%s.pub: %v", m.Out, err)
	default:
		r.public(k, v, data, m.Out+".pub")
	}
}

func (r *reader) set(name Word, v *yaml.Node) {
	if r.had(r.book.sets, name, "set", len(r.book.Sets), func(n int) Word { return r.book.Sets[n].Name }) {
		return
	}
	r.book.Sets = append(r.book.Sets, Set{name, r.words(v, "a set", sortKey, sortHolder, sortSet)})
}

func (r *reader) grant(v *yaml.Node) {
	g := Grant{At: r.at(v)}
	if !r.mapping(v, "an access", fields{
		"whom": func(_, v *yaml.Node) { g.Whom = r.words(v, "whom", sortKey, sortHolder, sortSet) },
		"to":   r.to(&g.To),
		"as": func(_, v *yaml.Node) {
			if s, ok := r.text(v, "as", 40); ok && !names.LoginUser(s) {
				r.wrong("name", v, "as is a login user: small letters, digits, '.', '_' and '-'")
			} else {
				g.As = s
			}
		},
		"until": func(_, v *yaml.Node) { g.Until = r.until(v) },
		"from":  func(_, v *yaml.Node) { g.From = r.networks(v, "from") },
		"only": func(_, v *yaml.Node) {
			if s, ok := r.text(v, "only", 500); ok {
				g.Only = s
			}
		},
		"reason": func(_, v *yaml.Node) { g.Reason, _ = r.text(v, "reason", 200) },
	}) {
		return
	}
	if len(g.Whom) == 0 {
		r.add(Error, "missing", g.At, "an access says whom: keys, holders or sets")
	}
	if g.To.At.Line == 0 {
		r.add(Error, "missing", g.At, "an access says to which instances: to: {...}")
	}
	r.book.Access = append(r.book.Access, g)
}

// until reads an end: a date lasts to the end of its day, in UTC.
func (r *reader) until(v *yaml.Node) *time.Time {
	s, ok := r.text(v, "until", 40)
	if !ok {
		return nil
	}
	t, err := times.End(s, r.now.UTC())
	if _, clock := time.Parse("15:04", s); clock == nil {
		r.wrong("form", v, "an end in a text that is read many times has a date: 2027-01-31, or 2027-01-31T18:00:00Z")
		return nil
	}
	switch {
	case errors.Is(err, times.ErrPassed):
		r.add(Warning, "ended", r.at(v), "this end has passed: the access should not be there")
		at, err := times.End(s, time.Unix(0, 0).UTC())
		if err != nil {
			at = time.Unix(1, 0)
		}
		at = at.UTC().Truncate(time.Second)
		return &at
	case err != nil:
		r.wrong("form", v, "an end is a date, 2027-01-31, or a time, 2027-01-31T18:00:00Z")
		return nil
	}
	t = t.UTC().Truncate(time.Second)
	return &t
}

func (r *reader) networks(v *yaml.Node, what string) (out []string) {
	for _, w := range r.texts(v, what, 60) {
		p, err := netip.ParsePrefix(w.Text)
		if a, e := netip.ParseAddr(w.Text); e == nil && a.Zone() == "" {
			p, err = netip.PrefixFrom(a, a.BitLen()), nil
		}
		if err != nil || p != p.Masked() {
			r.add(Error, "form", w.At, "%s has addresses, or networks without host bits such as 192.0.2.0/24", what)
			continue
		}
		out = append(out, p.String())
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func (r *reader) instance(name Word, v *yaml.Node) {
	i := Instance{Name: name, Tags: map[string]string{}}
	if r.had(r.book.instances, name, "instance", len(r.book.Instances), func(n int) Word { return r.book.Instances[n].Name }) {
		return
	}
	text := func(to *string, what string) func(_, v *yaml.Node) {
		return func(_, v *yaml.Node) { *to, _ = r.text(v, what, 200) }
	}
	r.mapping(v, "an instance", fields{
		"image": text(&i.Image, "image"), "size": text(&i.Size, "size"), "region": text(&i.Region, "region"), "zone": text(&i.Zone, "zone"),
		"address": text(&i.Address, "address"),
		"disk_gb": func(_, v *yaml.Node) {
			s, ok := r.text(v, "disk_gb", 10)
			if n, err := strconv.Atoi(s); ok && (err != nil || n < 1 || n > 1<<20) {
				r.wrong("form", v, "disk_gb is a number of GiB")
			} else {
				i.DiskGB = n
			}
		},
		"keys": func(_, v *yaml.Node) { i.Keys = r.words(v, "keys", sortKey, sortHolder, sortSet) },
		"tags": func(_, v *yaml.Node) {
			if !r.is(v, yaml.MappingNode, "tags are written NAME: VALUE") {
				return
			}
			for n := 0; n+1 < len(v.Content); n += 2 {
				key, ok := r.text(v.Content[n], "a tag's name", 100)
				value, good := r.text(v.Content[n+1], "a tag", 200)
				if _, had := i.Tags[key]; had {
					r.wrong("twice", v.Content[n], "the tag %s stands there twice", shown(key))
				}
				if ok && good {
					i.Tags[key] = value
				}
			}
		},
	})
	for _, need := range [][2]string{{"image", i.Image}, {"size", i.Size}, {"region", i.Region}} {
		if need[1] == "" {
			r.add(Error, "missing", name.At, "the instance %s has a %s: it could not be launched without", name.Text, need[0])
		}
	}
	if len(i.Keys) == 0 {
		r.add(Error, "missing", name.At, "the instance %s has keys: nobody could log in to it without", name.Text)
	}
	r.book.Instances = append(r.book.Instances, i)
}

// ports is how ports of a rule are written.
var ports = regexp.MustCompile(`^([1-9][0-9]{0,4})(-[1-9][0-9]{0,4})?$`)

func (r *reader) rule(v *yaml.Node) {
	u := Rule{At: r.at(v), Ports: "22"}
	r.mapping(v, "a rule", fields{"to": r.to(&u.To), "from": func(_, v *yaml.Node) { u.From = r.networks(v, "from") },
		"ports": func(_, v *yaml.Node) {
			if s, ok := r.text(v, "ports", 20); ok && !ports.MatchString(s) {
				r.wrong("form", v, "ports are a number, or two with a - between")
			} else {
				u.Ports = s
			}
		}})
	if len(u.From) == 0 || u.To.At.Line == 0 {
		r.add(Error, "missing", u.At, "a rule says to which instances, and from which networks")
	}
	r.book.Rules = append(r.book.Rules, u)
}

// checkForm is how checks are written.
var checkForm = regexp.MustCompile(`^(tcp:[0-9]{1,5}|https?://:[0-9]{1,5}(/[^ ?#@]*)?)$`)

func (r *reader) checkOf(v *yaml.Node) {
	c := Check{At: r.at(v)}
	r.mapping(v, "a check", fields{"to": r.to(&c.To), "is": func(_, v *yaml.Node) { c.Is = r.texts(v, "is", 300) }})
	for _, w := range c.Is {
		if !checkForm.MatchString(w.Text) {
			r.add(Error, "form", w.At, "a check is tcp:PORT, http://:PORT/PATH or https://:PORT/PATH")
		}
	}
	if len(c.Is) == 0 || c.To.At.Line == 0 {
		r.add(Error, "missing", c.At, "a check says for which instances (to), and what it is (is: [...])")
	}
	r.book.Checks = append(r.book.Checks, c)
}

func (r *reader) login(v *yaml.Node) {
	l := Login{At: r.at(v)}
	r.mapping(v, "a way of logging in", fields{"to": r.to(&l.To),
		"password": func(_, v *yaml.Node) { l.Password = r.choice(v, "password", "on", "off") },
		"root":     func(_, v *yaml.Node) { l.Root = r.choice(v, "root", "on", "keys", "off") }})
	if l.Password+l.Root == "" || l.To.At.Line == 0 {
		r.add(Error, "missing", l.At, "a way of logging in says for which instances (to), and password or root")
	}
	r.book.Logins = append(r.book.Logins, l)
}

func (r *reader) user(v *yaml.Node) {
	u := User{At: r.at(v)}
	r.mapping(v, "a user", fields{"to": r.to(&u.To),
		"name": func(_, v *yaml.Node) {
			if s, ok := r.text(v, "name", 40); ok && !names.LoginUser(s) {
				r.wrong("name", v, "name is a login user: small letters, digits, '.', '_' and '-'")
			} else {
				u.User = s
			}
		},
		"keys": func(_, v *yaml.Node) { u.Keys = r.words(v, "keys", sortKey, sortHolder, sortSet) },
		"sudo": func(_, v *yaml.Node) { u.Sudo = r.boolean(v, "sudo") }})
	if u.User == "" || u.To.At.Line == 0 {
		r.add(Error, "missing", u.At, "a user has a name, and instances (to)")
	}
	r.book.Users = append(r.book.Users, u)
}
