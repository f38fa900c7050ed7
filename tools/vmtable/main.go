// Command vmtable writes what a whole run of make vm-test measured into a document, between two marks.
//
//	vmtable TIMES DOCUMENT
//
// TIMES has a line of JSON for each step that was timed, as the tests write it.
package main

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"log"
	"os"
	"time"
)

// Step is one step of a test that was timed.
type Step struct {
	Test    string  `json:"test"`
	Image   string  `json:"image"`
	What    string  `json:"what"`
	Seconds float64 `json:"seconds"`
	Figure  string  `json:"figure"` // instead of a time
}

const begins, ends = "<!-- what make vm-test measured -->\n", "<!-- to here -->\n"

func main() {
	log.SetFlags(0)
	log.SetPrefix("vmtable: ")
	if len(os.Args) != 3 {
		log.Fatal("vmtable TIMES DOCUMENT")
	}
	times, err := os.ReadFile(os.Args[1])
	if err != nil {
		log.Fatal(err)
	}
	document, err := os.ReadFile(os.Args[2])
	if err != nil {
		log.Fatal(err)
	}
	out, err := rewrite(document, times, time.Now())
	if err != nil {
		log.Fatal(err)
	}
	if err := os.WriteFile(os.Args[2], out, 0o644); err != nil {
		log.Fatal(err)
	}
}

// rewrite puts the table of a run between the marks of a document.
func rewrite(document, times []byte, now time.Time) ([]byte, error) {
	before, rest, ok := bytes.Cut(document, []byte(begins))
	_, after, end := bytes.Cut(rest, []byte(ends))
	if !ok || !end {
		return nil, errors.New("the document has not the two marks of the table")
	}
	var out bytes.Buffer
	out.Write(before)
	fmt.Fprintf(&out, "%s\nOn %s, each step of a run that passed whole:\n\n| test | image | step | time |\n|---|---|---|---|\n", begins, now.Format(time.DateOnly))
	lines := 0
	for s := bufio.NewScanner(bytes.NewReader(times)); s.Scan(); lines++ {
		var step Step
		if err := json.Unmarshal(s.Bytes(), &step); err != nil {
			return nil, fmt.Errorf("line %d of the times: %w", lines+1, err)
		}
		fmt.Fprintf(&out, "| %s | %s | %s | %s |\n", step.Test, step.Image, step.What,
			cmp.Or(step.Figure, time.Duration(step.Seconds*float64(time.Second)).Round(time.Second).String()))
	}
	if lines == 0 {
		return nil, errors.New("nothing was timed")
	}
	fmt.Fprintf(&out, "\n%s", ends)
	out.Write(after)
	return out.Bytes(), nil
}
