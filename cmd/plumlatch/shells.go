package main

import (
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"

	"plumlatch/cmd/internal/built"
)

// What this file prints is made of the table of commands: a new command, or a new option, is
// completed and stands in the manual by itself.

func version(*flag.FlagSet) func(*cli) error {
	return func(c *cli) error {
		if _, err := c.names(); err != nil {
			return err
		}
		fmt.Fprintln(c.out, built.Text("plumlatch"))
		return nil
	}
}

// flagsOf are a command's options, with what is said of each.
func flagsOf(c command) (out []*flag.Flag) {
	fs := flag.NewFlagSet(c.name, flag.ContinueOnError)
	fs.SetOutput(io.Discard)
	c.flags(fs)
	fs.VisitAll(func(f *flag.Flag) { out = append(out, f) })
	return out
}

// groups are the first words of commands, in their order, each with the second words that
// there are.
func groups() (first []string, second map[string][]string) {
	second = map[string][]string{}
	for _, c := range commands {
		a, b, two := strings.Cut(c.name, " ")
		if !slices.Contains(first, a) {
			first = append(first, a)
		}
		if two {
			second[a] = append(second[a], b)
		}
	}
	return first, second
}

func completion(*flag.FlagSet) func(*cli) error {
	return func(c *cli) error {
		names, err := c.names("SHELL")
		if err != nil {
			return err
		}
		switch names[0] {
		case "bash":
			fmt.Fprint(c.raw, bashCompletion())
		case "zsh":
			fmt.Fprint(c.raw, zshCompletion())
		case "fish":
			fmt.Fprint(c.raw, fishCompletion())
		default:
			return usagef("SHELL is bash, zsh or fish")
		}
		return nil
	}
}

// bashCompletion completes commands, then their options; anything else is a file.
func bashCompletion() string {
	var b strings.Builder
	first, second := groups()
	b.WriteString("_plumlatch() {\n  local cur=\"${COMP_WORDS[COMP_CWORD]}\" options=\"\"\n  COMPREPLY=()\n  if [ " +
		"\"$COMP_CWORD\" -eq 1 ]; then\n")
	fmt.Fprintf(&b, "    COMPREPLY=($(compgen -W \"%s help\" -- \"$cur\"))\n    return\n  fi\n  if [ "+
		"\"$COMP_CWORD\" -eq 2 ]; then\n    case \"${COMP_WORDS[1]}\" in\n", strings.Join(first, " "))
	for _, f := range first {
		if len(second[f]) > 0 {
			fmt.Fprintf(&b, "      %s) COMPREPLY=($(compgen -W \"%s\" -- \"$cur\")); [ \"${cur#-}\" = \"$cur\" ] "+
				"&& return ;;\n", f, strings.Join(second[f], " "))
		}
	}
	b.WriteString("    esac\n  fi\n  case \"$cur\" in -*) ;; *) return ;; esac\n  case \"${COMP_WORDS[1]} " +
		"${COMP_WORDS[2]}\" in\n")
	all := slices.Clone(commands) // of two words first: "access list" before "access"
	slices.SortStableFunc(all, func(x, y command) int {
		return strings.Count(y.name,
			" ") - strings.Count(x.name, " ")
	})
	for _, c := range all {
		var names []string
		for _, f := range flagsOf(c) {
			names = append(names, "-"+f.Name)
		}
		pattern := "\"" + c.name + "\""
		if !strings.Contains(c.name, " ") {
			pattern = "\"" + c.name + " \"*"
		}
		fmt.Fprintf(&b, "    %s) options=\"%s\" ;;\n", pattern, strings.Join(names, " "))
	}
	b.WriteString("  esac\n  COMPREPLY=($(compgen -W \"$options\" -- \"$cur\"))\n}\ncomplete -o default -F " +
		"_plumlatch plumlatch\n")
	return b.String()
}

// zshCompletion is that of bash: zsh's own bashcompinit takes it.
func zshCompletion() string {
	return "autoload -U +X bashcompinit && bashcompinit\n" + bashCompletion()
}

// fishQuoted is a text in single quotes, as fish reads it.
func fishQuoted(text string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, "'", `\'`).Replace(text) + "'"
}

func fishCompletion() string {
	var b strings.Builder
	first, second := groups()
	said := func(name string) string {
		for _, c := range commands {
			if c.name == name {
				about, _, _ := strings.Cut(c.about, "\n")
				return about
			}
		}
		return "commands: " + strings.Join(second[name], ", ")
	}
	for _, f := range first {
		fmt.Fprintf(&b, "complete -c plumlatch -f -n '__fish_use_subcommand' -a %s -d %s\n", f, fishQuoted(said(f)))
		for _, s := range second[f] {
			fmt.Fprintf(&b, "complete -c plumlatch -f -n 'test (count (commandline -o -p -c)) -eq 2; and "+
				"__fish_seen_subcommand_from %s' -a %s -d %s\n", f, s, fishQuoted(said(f+" "+s)))
		}
	}
	for _, c := range commands {
		not := "" // "restore" is followed by an instance, and not by a command's second word
		if len(second[c.name]) > 0 {
			not = "(?! (" + strings.Join(second[c.name], "|") + ")( |\\$))"
		}
		for _, f := range flagsOf(c) {
			fmt.Fprintf(&b, "complete -c plumlatch -n \"string match -qr -- '^plumlatch %s%s( |\\$)' (string join ' ' "+
				"(commandline -o -p -c))\" -o %s -d %s\n", c.name, not, f.Name,
				fishQuoted(strings.ReplaceAll(f.Usage, "`", "")))
		}
	}
	return b.String()
}

func manual(*flag.FlagSet) func(*cli) error {
	return func(c *cli) error {
		if _, err := c.names(); err != nil {
			return err
		}
		fmt.Fprint(c.raw, manPage())
		return nil
	}
}

// roff is a text as man(7) takes it: no line of it is a request, and a hyphen stays one.
func roff(text string) string {
	text = strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(text)
	lines := strings.Split(text, "\n")
	for n, l := range lines {
		if strings.HasPrefix(l, ".") || strings.HasPrefix(l, "'") {
			lines[n] = `\&` + l
		}
	}
	return strings.Join(lines, "\n")
}

// manPage is plumlatch(1), in the man macros.
func manPage() string {
	var b strings.Builder
	b.WriteString(".TH PLUMLATCH 1 \"\" \"Plum Latch\" \"User Commands\"\n.SH NAME\nplumlatch \\- which key opens " +
		"which instance, how that is known, and the way in\n.SH SYNOPSIS\n.B plumlatch\n.I COMMAND\n[options]\n.SH " +
		"COMMANDS\n")
	for _, c := range commands {
		fmt.Fprintf(&b, ".SS plumlatch %s %s\n", roff(c.name), roff(c.args))
		about, more, _ := strings.Cut(c.about, "\n")
		b.WriteString(roff(about) + "\n")
		if strings.TrimSpace(more) != "" {
			b.WriteString(".PP\n.nf\n" + roff(strings.Trim(more, "\n")) + "\n.fi\n")
		}
		for _, f := range flagsOf(c) {
			value, usage := flag.UnquoteUsage(f)
			fmt.Fprintf(&b, ".TP\n.B \\-%s", roff(f.Name))
			if value != "" {
				fmt.Fprintf(&b, " \\fI%s\\fR", roff(value))
			}
			b.WriteString("\n" + roff(usage) + "\n")
		}
		fmt.Fprintf(&b, ".PP\nExample:\n.PP\n.nf\n    %s\n.fi\n", roff(c.example))
	}
	b.WriteString(`.SH ENVIRONMENT
.TP
.B PLUMLATCH_URL
the service
.TP
.B PLUMLATCH_TOKEN
a token of one's own there
.TP
.B PLUMLATCH_STATE
where this machine keeps what it has seen of a journal
.SH EXIT STATUS
0 done, 1 failed, 2 used wrongly, 3 it worked and the answer needs a hand;
.B plumlatch open
ends with that of ssh.
`)
	return b.String()
}
