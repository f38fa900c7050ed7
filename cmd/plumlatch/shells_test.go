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

// TestFishCompletes asks fish itself: every command, and every option of each.
func TestFishCompletes(t *testing.T) {
	t.Parallel()
	script := filepath.Join(t.TempDir(), "completion.fish")
	if err := os.WriteFile(script, []byte(fishCompletion()), 0o600); err != nil {
		t.Fatal(err)
	}
	ask, want := "source "+script+"\n", map[string][]string{}
	question := func(line string, words []string) {
		want[line] = slices.Sorted(slices.Values(words))
		// fish says each word with what it is, behind a tab.
		ask += fmt.Sprintf("for w in (complete -C '%s')\n echo '%[1]s:'(string split -f1 \\t -- $w)\nend\n", line)
	}
	first, second := groups()
	question("plumlatch ", first)
	for _, f := range first {
		if len(second[f]) > 0 {
			question("plumlatch "+f+" ", second[f])
		}
	}
	for _, c := range commands {
		var names []string
		for _, f := range flagsOf(c) {
			names = append(names, "-"+f.Name)
		}
		question("plumlatch "+c.name+" x -", names)
	}
	got := map[string][]string{}
	for line := range strings.Lines(shellSays(t, "fish", "--no-config", "-c", ask)) {
		asked, word, _ := strings.Cut(strings.TrimSuffix(line, "\n"), ":")
		got[asked] = append(got[asked], word)
	}
	for line, words := range want {
		slices.Sort(got[line])
		if !slices.Equal(got[line], words) {
			t.Errorf("%s: %q, want %q", line, got[line], words)
		}
	}
}

// TestZshCompletes types into an interactive zsh, and presses the key that lists what there is.
func TestZshCompletes(t *testing.T) {
	t.Parallel()
	script := filepath.Join(t.TempDir(), "completion.zsh")
	if err := os.WriteFile(script, []byte(zshCompletion()), 0o600); err != nil {
		t.Fatal(err)
	}
	first, second := groups()
	want := map[string][]string{"plumlatch ": append(slices.Clone(first), "help"), "plumlatch key ": second["key"]}
	for _, c := range commands {
		if !slices.Contains([]string{"key create", "rotate", "open", "instance launch"}, c.name) {
			continue
		}
		for _, f := range flagsOf(c) {
			line := "plumlatch " + c.name + " x -"
			want[line] = append(want[line], "-"+f.Name)
		}
	}
	for line, words := range want {
		// Control sequences stand between the words; they come when they come.
		out := shellSays(t, "zsh", "-f", "-c", fmt.Sprintf(`zmodload zsh/zpty; zpty z zsh -f -i
zpty -w z 'PROMPT= LISTMAX=9999 LINES=999; autoload -U compinit && compinit -D -u; source %s; bindkey "^I" list-choices; echo REA""DY'
zpty -r z out '*READY*'
zpty -w -n z '%s'$'\t'
seen=
repeat 100; do
	sleep 0.1
	while zpty -r -t z out; do seen+=$out; done
	missing=
	for w in %s; do [[ $seen == *${w}[[:space:][:cntrl:]]* ]] || missing+="$w "; done
	[[ -z $missing ]] && break
done
print -r -- "missing: $missing"; [[ -z $missing ]] || print -r -- "$seen"`, script, line, strings.Join(words, " ")))
		if strings.TrimSpace(out) != "missing:" {
			t.Errorf("%q: %s", line, out)
		}
	}
}

// shellSays runs a shell that "make test" installs, and returns what it prints.
func shellSays(t *testing.T, shell string, args ...string) string {
	t.Helper()
	cmd := exec.CommandContext(t.Context(), shell, args...)
	cmd.Env = append(os.Environ(), "HOME="+t.TempDir())
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%s, which \"make test\" installs: %v %s", shell, err, out)
	}
	return string(out)
}
