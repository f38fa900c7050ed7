package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// TestBashCompletes asks bash itself what it would complete: every command, and every option
// of each.
func TestBashCompletes(t *testing.T) {
	script := filepath.Join(t.TempDir(), "completion")
	if err := os.WriteFile(script, []byte(bashCompletion()), 0o600); err != nil {
		t.Fatal(err)
	}
	var ask strings.Builder
	fmt.Fprintf(&ask, "source %s\nt() { COMP_WORDS=(\"$@\"); COMP_CWORD=$(($#-1)); _plumlatch; echo "+
		"\"${COMPREPLY[*]}\"; }\n", script)
	var want [][]string
	first, second := groups()
	fmt.Fprint(&ask, "t plumlatch ''\n")
	want = append(want, append(slices.Clone(first), "help"))
	for _, f := range first {
		if len(second[f]) > 0 {
			fmt.Fprintf(&ask, "t plumlatch %s ''\n", f)
			want = append(want, second[f])
		}
	}
	for _, c := range commands {
		words := c.name
		if !strings.Contains(c.name, " ") {
			words += " x"
		}
		fmt.Fprintf(&ask, "t plumlatch %s -\n", words)
		var names []string
		for _, f := range flagsOf(c) {
			names = append(names, "-"+f.Name)
		}
		want = append(want, names)
	}
	fmt.Fprint(&ask, "t plumlatch key create n\n") // anything else is a file
	want = append(want, nil)
	out, err := exec.CommandContext(t.Context(), "bash", "--norc", "-c", ask.String()).CombinedOutput()
	if err != nil {
		t.Fatalf("%v %s", err, out)
	}
	got := strings.Split(strings.TrimSuffix(string(out), "\n"), "\n")
	if len(got) != len(want) {
		t.Fatalf("%d answers for %d questions: %s", len(got), len(want), out)
	}
	for n, line := range strings.Split(ask.String(), "\n")[2:][:len(want)] {
		if got[n] != strings.Join(want[n], " ") {
			t.Errorf("%s: %q, want %q", line, got[n], want[n])
		}
	}
}

// TestManual: every command and option stands in the manual page, and nothing of a text is
// taken for a request of the formatter.
func TestManual(t *testing.T) {
	page := manPage()
	for _, c := range commands {
		if !strings.Contains(page, ".SS plumlatch "+roff(c.name)+" ") {
			t.Errorf("%s is missing", c.name)
		}
		for _, f := range flagsOf(c) {
			if !strings.Contains(page, ".B \\-"+roff(f.Name)) {
				t.Errorf("%s: -%s is missing", c.name, f.Name)
			}
		}
	}
	requests := []string{".TH", ".SH", ".SS", ".B", ".I", ".PP", ".TP", ".nf", ".fi"}
	for n, line := range strings.Split(page, "\n") {
		if strings.HasPrefix(line, ".") || strings.HasPrefix(line, "'") {
			if request, _, _ := strings.Cut(line, " "); !slices.Contains(requests, request) {
				t.Errorf("line %d is a request: %q", n+1, line)
			}
		}
	}
}

// TestFishCompletes: a line for every command and option, with its texts in quotes that end.
func TestFishCompletes(t *testing.T) {
	script := fishCompletion()
	for _, c := range commands {
		words := strings.Fields(c.name)
		if !strings.Contains(script, " -a "+words[len(words)-1]+" -d '") {
			t.Errorf("%s is missing", c.name)
		}
		for _, f := range flagsOf(c) {
			if !strings.Contains(script, "plumlatch "+c.name+"*'") || !strings.Contains(script, " -o "+f.Name+" -d '") {
				t.Errorf("%s: -%s is missing", c.name, f.Name)
			}
		}
	}
	for n, line := range strings.Split(strings.TrimSuffix(script, "\n"), "\n") {
		plain := strings.ReplaceAll(strings.ReplaceAll(line, `\\`, ""), `\'`, "")
		if strings.Count(plain, "'")%2 != 0 || !strings.HasSuffix(line, "'") {
			t.Errorf("line %d: %s", n+1, line)
		}
	}
}
