package main

import (
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"plumlatch/client"
	"plumlatch/core/journal"
	"plumlatch/core/plaintext"
	"plumlatch/core/times"
	"plumlatch/core/wire"
)

func journalList(fs *flag.FlagSet) func(*cli) error {
	target := fs.String("target", "", "`what` it was done to, such as 'instance berth-board-1'")
	limit := fs.Int("limit", 40, "`number` of entries, at most 500")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		_, service, err := c.begin()
		if err != nil {
			return err
		}
		entries, err := service.Journal(c.ctx, *target, *limit)
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(wire.List[wire.JournalEntry]{Items: entries})
		}
		var rows [][]string
		for _, e := range entries {
			what := e.Intent
			if e.Of != 0 {
				what = fmt.Sprintf("of %d: %s", e.Of, e.Outcome)
			} else if e.Outcome != "" {
				what = strings.TrimSpace(e.Intent + ": " + e.Outcome)
			}
			rows = append(rows, []string{fmt.Sprint(e.ID), times.ShowLong(e.At.Local()), e.Operator,
				e.Address, e.Action, e.Target, what})
		}
		c.table([]string{"id", "at", "operator", "from", "action", "target", "what"}, rows,
			"The journal has nothing on that.")
		return nil
	}
}

// remembered is what this machine keeps of a service's journal, so that whoever
// rewrites it on the service is found out here.
type remembered struct {
	Service string           `json:"service"`
	Head    wire.JournalHead `json:"head"` // the last that verified, with the public key that was first seen
}

// rememberedFile is where the head of a service's journal is kept.
func rememberedFile(service string) (string, error) {
	dir := os.Getenv("PLUMLATCH_STATE")
	if dir == "" {
		config, err := os.UserConfigDir()
		if err != nil {
			return "", err
		}
		dir = filepath.Join(config, "plumlatch")
	}
	u, err := url.Parse(service)
	if err != nil {
		return "", err
	}
	name := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '.' || r == '-' {
			return r
		}
		return '_'
	}, strings.ToLower(u.Host))
	return filepath.Join(dir, "journal-"+name+".json"), nil
}

func recall(file string) (*remembered, error) {
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var r remembered
	if err := json.Unmarshal(data, &r); err != nil || len(r.Head.PublicKey) != ed25519.PublicKeySize {
		return nil, fmt.Errorf("%s, which remembers the head of the journal, cannot be read; move it away to begin anew", file)
	}
	return &r, nil
}

func (r remembered) keep(file string) error {
	if err := makeFolder(filepath.Dir(file)); err != nil {
		return err
	}
	data, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return err
	}
	next := file + ".new"
	if err := os.WriteFile(next, append(data, '\n'), 0o600); err != nil {
		return err
	}
	return os.Rename(next, file)
}

// journalVerify computes the chain on this machine, against the head that this
// machine has seen before.
func journalVerify(fs *flag.FlagSet) func(*cli) error {
	file := fs.String("file", "", "verify this exported `FILE` instead of what the service has now")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		if _, err := c.names(); err != nil {
			return err
		}
		service, err := c.service()
		if err != nil {
			return err
		}
		at, err := rememberedFile(service.URL())
		if err != nil {
			return err
		}
		known, err := recall(at)
		if err != nil {
			return err
		}
		v := journal.Verifier{Now: time.Now()}
		if known != nil {
			v.Key, v.Remembered = known.Head.PublicKey, []wire.JournalHead{known.Head}
		}
		if *file != "" {
			if err := addFile(*file, &v); err != nil {
				return err
			}
		} else if err := service.Export(c.ctx,
			func(_ []byte, l journal.Line) error { v.Add(l); return nil }); err != nil {
			return err
		}
		check := v.Done()
		if *file == "" {
			// The service holds its chain against its own memory as well.
			own, err := service.VerifyJournal(c.ctx)
			if err != nil {
				return err
			}
			for _, b := range own.Breaks {
				if !slices.Contains(check.Breaks, b) {
					check.Breaks = append(check.Breaks, "the service says: "+b)
				}
			}
			check.OwnerRole = own.OwnerRole
			if len(check.Breaks) > len(own.Breaks) {
				if _, err := service.JournalChecked(c.ctx, check); err != nil {
					return err
				}
			}
		}
		if len(check.Breaks) == 0 && check.Head != nil && *file == "" {
			if err := (remembered{service.URL(), *check.Head}).keep(at); err != nil {
				return err
			}
		}
		if len(check.Breaks) > 0 {
			c.exit = exitNeedsHand
		}
		if *asJSON {
			return c.json(check)
		}
		c.printCheck(check, known, at)
		return nil
	}
}

func addFile(name string, v *journal.Verifier) error {
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	d := json.NewDecoder(f)
	for n := 1; d.More(); n++ {
		var l journal.Line
		if err := d.Decode(&l); err != nil {
			return fmt.Errorf("%s: line %d is no line of an exported journal", name, n)
		}
		v.Add(l)
	}
	return nil
}

func (c *cli) printCheck(check wire.JournalCheck, known *remembered, file string) {
	if len(check.Breaks) == 0 {
		fmt.Fprintf(c.out, "The journal holds: %s, %s, computed on this machine.\n", count(int(check.Links), "link"),
			count(check.Heads, "signed head"))
	} else {
		fmt.Fprintf(c.out, "The journal does not hold; %s:\n\n", count(len(check.Breaks), "break"))
		for _, b := range check.Breaks {
			fmt.Fprintf(c.out, "  %s\n", plaintext.Line(b))
		}
		fmt.Fprintln(c.out)
	}
	if check.Unchained > 0 {
		fmt.Fprintf(c.out, "Not chained yet: %d, the oldest %d s old.\n", check.Unchained, int(check.UnchainedAge))
	}
	switch {
	case known == nil:
		fmt.Fprintf(c.out, "Its public key was seen here for the first time; from now on this machine remembers "+
			"it, and the head (%s).\n", file)
	case len(check.Breaks) == 0 && known.Head.N > 0:
		fmt.Fprintf(c.out, "It goes on from link %d, which this machine saw %s.\n", known.Head.N,
			ago(known.Head.At, time.Now()))
	}
	if check.OwnerRole {
		fmt.Fprintln(c.out, "The service's database role could change the journal: give the service an "+
			"-owner-url-file, so that it has a role of its own.")
	}
	if len(check.Breaks) > 0 {
		if known != nil && strings.Contains(strings.Join(check.Breaks, " "), "another key signs") {
			fmt.Fprintf(c.out, "If the service was set up anew, and you know by whom: move %s away.\n", file)
		}
		fmt.Fprintln(c.out, "next: plumlatch journal export -out FILE, and keep it; then find out who could write "+
			"to the database")
	}
}

// journalExport writes the whole journal, one JSON object a line.
func journalExport(fs *flag.FlagSet) func(*cli) error {
	out := fs.String("out", "", "`file` to write, or - for standard output (needed)")
	return func(c *cli) error {
		_, service, err := c.begin()
		if err != nil {
			return err
		}
		if *out == "" {
			return usagef("-out is missing: a FILE, or -")
		}
		if *out == "-" {
			return service.Export(c.ctx, func(line []byte, _ journal.Line) error {
				_, err := c.raw.Write(asciiLine(line))
				return err
			})
		}
		return c.exportTo(service, *out)
	}
}

func (c *cli) exportTo(service *client.Client, name string) error {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return failure{fmt.Errorf("%s is there already, and is not written over", name),
			"the same command with another -out"}
	}
	if err != nil {
		return err
	}
	entries, heads := 0, 0
	err = service.Export(c.ctx, func(line []byte, l journal.Line) error {
		if l.Head != nil {
			heads++
		} else {
			entries++
		}
		_, err := f.Write(asciiLine(line))
		return err
	})
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return errors.Join(err, os.Remove(name))
	}
	fmt.Fprintf(c.out, "%s written: %d entries, %s.\nnext: plumlatch journal verify -file %s\n", name, entries,
		count(heads, "signed head"), shellWord(name))
	return nil
}

// asciiLine writes what could steer a terminal as JSON escapes.
func asciiLine(line []byte) []byte {
	var b strings.Builder
	for _, r := range string(line) {
		escape(&b, r)
	}
	return []byte(b.String())
}
