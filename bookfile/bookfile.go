// Package bookfile reads a keybook from the disk: one file, or a folder of them, with the public halves and the signature beside it. No link is
// followed out of the folder.
package bookfile

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"plumlatch/core/keybook"
	"plumlatch/core/keypair"
	"plumlatch/core/secrets"
)

// ErrEmpty: a folder has no file of a keybook.
var ErrEmpty = errors.New("it has no file of a keybook: they end in .yaml or .yml")

// Folder is a keybook on a disk.
type Folder struct {
	Root  string   // the folder
	Names []string // files, with slashes, from it
	// Signature is the name of the file that a signature of the text stands in.
	Signature string
}

// Read is a book as it was read.
type Read struct {
	Sources []keybook.Source
	Publics map[string]string // public halves that stand in files beside it
	Book    *keybook.Book     // nil if it cannot be read
	Report  keybook.Report
}

// Open finds the files of a book. ErrEmpty, wrapped.
func Open(name string) (*Folder, error) {
	fi, err := os.Stat(name)
	if err != nil {
		return nil, err
	}
	f := &Folder{Root: name, Signature: "keybook.sig"}
	if !fi.IsDir() {
		f.Root, f.Names, f.Signature = filepath.Dir(name), []string{filepath.Base(name)}, filepath.Base(name)+".sig"
		return f, nil
	}
	err = filepath.WalkDir(name, func(at string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(name, at)
		if err != nil || rel == "." {
			return err
		}
		if strings.HasPrefix(d.Name(), ".") { // .git, and what editors leave
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if ext := filepath.Ext(at); !d.IsDir() && (ext == ".yaml" || ext == ".yml") {
			if len(f.Names) > keybook.MaxFiles {
				return fmt.Errorf("%s has more than %d files of a keybook", name, keybook.MaxFiles)
			}
			f.Names = append(f.Names, filepath.ToSlash(rel))
		}
		return nil
	})
	slices.Sort(f.Names)
	if err == nil && len(f.Names) == 0 {
		err = fmt.Errorf("%s: %w", name, ErrEmpty)
	}
	return f, err
}

// File reads a file of the folder: no link leads out of it. keybook.ErrNoFile, keybook.ErrOutside; other errors say in words what is wrong.
func (f *Folder) File(name string, limit int64) ([]byte, error) {
	root, err := os.OpenRoot(f.Root)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	file, err := root.Open(filepath.FromSlash(name))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, keybook.ErrNoFile
	case err != nil:
		base, e := filepath.EvalSymlinks(f.Root)
		at, g := filepath.EvalSymlinks(filepath.Join(f.Root, filepath.FromSlash(name)))
		if rel, r := filepath.Rel(base, at); e == nil && g == nil && r == nil && (rel == ".." || strings.HasPrefix(rel, ".."+string(filepath.Separator))) {
			return nil, keybook.ErrOutside
		}
		return nil, errors.New("it cannot be read")
	}
	defer file.Close()
	if fi, err := file.Stat(); err != nil || !fi.Mode().IsRegular() {
		return nil, errors.New("it is no regular file")
	}
	data, err := io.ReadAll(io.LimitReader(file, limit+1))
	if err != nil {
		return nil, errors.New("it cannot be read")
	}
	if int64(len(data)) > limit {
		return nil, fmt.Errorf("it is longer than %d bytes", limit)
	}
	return data, nil
}

// Read reads the book. What is wrong with its files is a finding, and no error.
func (f *Folder) Read(now time.Time) Read {
	out := Read{Publics: map[string]string{}}
	var wrong []keybook.Finding
	for _, n := range f.Names {
		data, err := f.File(n, keybook.MaxText)
		if err != nil {
			code := "key"
			if errors.Is(err, keybook.ErrOutside) {
				code = "outside"
			}
			wrong = append(wrong, keybook.Finding{Code: code, Severity: keybook.Error, Place: keybook.Place{File: n}, Sentence: err.Error()})
			continue
		}
		out.Sources = append(out.Sources, keybook.Source{Name: n, Text: string(data)})
	}
	out.Book, out.Report = keybook.Read(out.Sources, func(name string) ([]byte, error) {
		data, err := f.File(name, keypair.MaxFile)
		if err == nil && !secrets.Holds(string(data)) {
			out.Publics[name] = string(data)
		}
		return data, err
	}, now)
	out.Report.Findings = append(wrong, out.Report.Findings...)
	return out
}

// Stamp tells by the names, sizes and times of its files whether a book may have changed. It is cheap, and proves nothing.
func (f *Folder) Stamp() string {
	h := sha256.New()
	for _, n := range append(slices.Clone(f.Names), f.Signature) {
		if fi, err := os.Stat(filepath.Join(f.Root, filepath.FromSlash(n))); err == nil {
			fmt.Fprintf(h, "%s %d %d\n", n, fi.Size(), fi.ModTime().UnixNano())
		}
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Namespace is that of a signature of a keybook (ssh-keygen(1), -n).
const Namespace = "keybook@plumlatch"

// SignedText is what is signed: the name of the book, the hash of its text, and when. A later one is taken in the place of an earlier one, and
// never the other way round.
func SignedText(name, hash string, at time.Time) string {
	return fmt.Sprintf("Plum Latch: settle this keybook\nbook %s\ntext %s\nsigned %s\n", name, hash, at.UTC().Format(time.RFC3339))
}

// Signed is a signature beside a book: what was signed, and the armored signature.
type Signed struct {
	Name, Hash string
	At         time.Time
	Text       string
	Signature  string
}

// ParseSigned reads a signature's file: the signed text, and the armored signature after it.
func ParseSigned(data []byte) (Signed, error) {
	var s Signed
	at := bytes.Index(data, []byte("-----BEGIN SSH SIGNATURE-----"))
	if at < 0 || len(data) > 16<<10 {
		return s, errors.New("it is no signature of a keybook: plumlatch keybook sign writes one")
	}
	s.Text, s.Signature = string(data[:at]), string(data[at:])
	lines := strings.Split(s.Text, "\n")
	if len(lines) != 5 {
		return s, errors.New("it is no signature of a keybook: plumlatch keybook sign writes one")
	}
	var when string
	for n, into := range map[int]*string{1: &s.Name, 2: &s.Hash, 3: &when} {
		_, *into, _ = strings.Cut(lines[n], " ")
	}
	at2, err := time.Parse(time.RFC3339, when)
	if s.At = at2.UTC(); err != nil || s.Text != SignedText(s.Name, s.Hash, s.At) {
		return s, errors.New("it is no signature of a keybook: plumlatch keybook sign writes one")
	}
	return s, nil
}
