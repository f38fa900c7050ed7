package main

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"strings"
	"time"
	"unicode/utf16"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"plumlatch/core/plaintext"
	"plumlatch/core/times"
	"plumlatch/core/wire"
)

// json prints one document. What could steer a terminal is escaped, as
// encoding/json does for some of it only.
func (c *cli) json(v any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent("", "  ")
	if err := e.Encode(v); err != nil {
		return err
	}
	var out strings.Builder
	for _, r := range b.String() {
		escape(&out, r)
	}
	_, err := io.WriteString(c.raw, out.String())
	return err
}

// escape writes a rune of JSON; one that could steer a terminal as an escape.
func escape(out *strings.Builder, r rune) {
	if r == '\n' || !plaintext.HasControl(string(r)) {
		out.WriteRune(r)
		return
	}
	for _, u := range utf16.Encode([]rune{r}) {
		fmt.Fprintf(out, `\u%04x`, u)
	}
}

// table prints rows under a header, every cell made safe for a terminal. A
// list that is empty says so.
func (c *cli) table(header []string, rows [][]string, empty string) {
	if len(rows) == 0 {
		fmt.Fprintln(c.out, empty)
		return
	}
	t := table.NewWriter()
	t.SetStyle(table.Style{
		Name:    "plain",
		Box:     table.BoxStyle{PaddingLeft: "", PaddingRight: "  ", MiddleVertical: ""},
		Options: table.Options{},
		Format:  table.FormatOptions{Header: text.FormatUpper},
	})
	head := table.Row{}
	for _, h := range header {
		head = append(head, h)
	}
	t.AppendHeader(head)
	for _, r := range rows {
		row := table.Row{}
		for _, cell := range r {
			row = append(row, plaintext.Line(cell))
		}
		t.AppendRow(row)
	}
	for line := range strings.Lines(t.Render()) {
		fmt.Fprintln(c.out, strings.TrimRight(line, " \n"))
	}
}

// nothing returns what an empty list says: empty, unless something was asked
// for that may be why.
func nothing(fs *flag.FlagSet, empty string) string {
	fs.Visit(func(f *flag.Flag) {
		if f.Name != "order" && f.Name != "json" {
			empty = "Nothing matches."
		}
	})
	return empty
}

// ago tells how long ago a time was, in the greatest unit that fits.
func ago(t, now time.Time) string {
	d := now.Sub(t)
	switch {
	case d < 0:
		if d < -2*time.Minute {
			d -= 30 * time.Second // to the nearest minute
		}
		return "in " + span(-d)
	case d < 10*time.Second:
		return "just now"
	}
	return span(d) + " ago"
}

func span(d time.Duration) string {
	switch {
	case d < 2*time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

// evidence draws how an access is known: a mark that fills, and the word.
func evidence(a wire.Access) string {
	mark := map[string]string{"placed": "○", "seen": "◔", "accepted": "◑", "proven": "●"}[a.Evidence]
	if mark == "" {
		mark = "-"
	}
	s := mark + " " + a.Evidence
	if a.Old {
		s += " (old)"
	}
	if a.Against != nil {
		word := map[string]string{"accepted": "refused", "proven": "login failed", "seen": "not in the file",
			"placed": "withdrawn"}[a.Against.Kind]
		s += ", " + word + " since"
	}
	if a.Until != nil {
		s += ", until " + times.Show(a.Until.Local())
	}
	return s
}

// known tells when and from where.
func known(a wire.Access, now time.Time) string {
	var parts []string
	if a.At != nil {
		parts = append(parts, ago(*a.At, now))
	}
	if a.From != "" {
		parts = append(parts, "from "+a.From)
	}
	if a.Probe != nil && a.Probe.Answer != "accepted" && a.Probe.Answer != "refused" {
		parts = append(parts, "then: "+strings.TrimSpace(a.Probe.Answer+" "+a.Probe.Detail))
	}
	return strings.Join(parts, ", ")
}

func opener(a wire.Access) string {
	if a.Steward {
		return "(steward)"
	}
	return marked(a.Key, a.KeyState)
}

func (c *cli) accessRows(rows []wire.Access, instances bool) {
	var out [][]string
	now := time.Now()
	for _, a := range rows {
		r := []string{opener(a), a.Bitting, a.Kind, a.LoginUser, evidence(a), known(a, now)}
		if instances {
			r = append([]string{a.Instance}, r...)
		}
		out = append(out, r)
	}
	head := []string{"key", "bitting", "kind", "user", "evidence", "known"}
	if instances {
		head = append([]string{"instance"}, head...)
	}
	c.table(head, out, "No key is recorded for it.")
}
