// Command plumlatch is the client: commands over the service's API, and all
// work with private keys, which never leave this machine.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	"golang.org/x/term"

	"plumlatch/client"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
)

// Exit statuses.
const (
	exitDone   = 0
	exitFailed = 1
	exitUsage  = 2
)

// command is one command of the client.
type command struct {
	name    string // such as "key create"
	args    string // what follows the name in the usage line
	about   string // one sentence
	example string // one real command line
	flags   func(*flag.FlagSet) func(*cli) error
}

// cli is one run of the client.
type cli struct {
	ctx    context.Context
	args   []string // names, in their order
	rest   []string // what followed "--"
	in     io.Reader
	out    io.Writer // text for people: made safe for a terminal on its way
	err    io.Writer // the same
	raw    io.Writer // standard output, for JSON and key files
	tty    bool      // standard input and error are a terminal
	outTTY bool
	chosen string // the service that -service or PLUMLATCH_SERVICE names
	exit   int    // a status to end with although nothing failed
}

// safe is a terminal to which nothing goes that could steer it: names,
// comments and errors may come from anywhere.
type safe struct{ w io.Writer }

func (s safe) Write(p []byte) (int, error) {
	if _, err := io.WriteString(s.w, plaintext.Lines(string(p))); err != nil {
		return 0, err
	}
	return len(p), nil
}

// usageError is a mistake on the command line: status 2.
type usageError struct{ text string }

func (u usageError) Error() string { return u.text }

func usagef(format string, a ...any) error { return usageError{fmt.Sprintf(format, a...)} }

// failure is an error with the next thing to try.
type failure struct {
	err  error
	next string
}

func (f failure) Error() string { return f.err.Error() }
func (f failure) Unwrap() error { return f.err }

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	c := &cli{ctx: ctx, in: os.Stdin, out: safe{os.Stdout}, err: safe{os.Stderr}, raw: os.Stdout,
		tty:    term.IsTerminal(int(os.Stdin.Fd())) && term.IsTerminal(int(os.Stderr.Fd())),
		outTTY: term.IsTerminal(int(os.Stdout.Fd())),
	}
	os.Exit(c.run(os.Args[1:]))
}

func (c *cli) run(args []string) int {
	if len(args) == 0 {
		help(c.err, "")
		return exitUsage
	}
	if args[0] == "help" || args[0] == "-help" || args[0] == "--help" || args[0] == "-h" {
		if !help(c.out, strings.Join(args[1:], " ")) {
			return exitUsage
		}
		return exitDone
	}
	cmd, rest := find(args)
	if cmd == nil {
		fmt.Fprintf(c.err, "plumlatch: there is no command %q\nnext: plumlatch help\n",
			plaintext.Line(plaintext.Cut(strings.Join(args[:min(2, len(args))], " "), 60)))
		return exitUsage
	}
	fs := flag.NewFlagSet(cmd.name, flag.ContinueOnError)
	fs.SetOutput(io.Discard)
	run := cmd.flags(fs)
	serviceFlag(fs, &c.chosen)
	err := c.parse(fs, rest)
	if errors.Is(err, flag.ErrHelp) {
		help(c.out, cmd.name)
		return exitDone
	}
	if err == nil {
		err = run(c)
	}
	return c.report(cmd, err)
}

// report prints an error and returns the exit status for it.
func (c *cli) report(cmd *command, err error) int {
	if err == nil {
		return c.exit
	}
	fmt.Fprintf(c.err, "plumlatch: %s\n", err)
	if _, ok := errors.AsType[usageError](err); ok {
		fmt.Fprintf(c.err, "usage: plumlatch %s %s\nnext: plumlatch help %s\n", cmd.name, cmd.args, cmd.name)
		return exitUsage
	}
	if f, ok := errors.AsType[failure](err); ok && f.next != "" {
		fmt.Fprintf(c.err, "next: %s\n", f.next)
	} else if next := nextFor(err); next != "" {
		fmt.Fprintf(c.err, "next: %s\n", next)
	}
	return exitFailed
}

// nextFor returns what to try after an error of the service's.
func nextFor(err error) string {
	if _, ok := errors.AsType[*client.Unreachable](err); ok {
		return "see that the service runs there, or set PLUMLATCH_URL (the demo: make demo, and . .demo/client.env)"
	}
	p, ok := errors.AsType[*client.Problem](err)
	switch {
	case !ok:
		return ""
	case p.Status == 401:
		return "plumlatch sign-in URL, or set PLUMLATCH_TOKEN to a good token (the demo: . .demo/client.env)"
	case p.Of("may-not-stream"):
		return "plumlatch policy show, and have an admin name who may (stream.who)"
	case p.Of("forbidden"):
		return "ask an admin for a role that may do this: plumlatch operator role NAME operator"
	case p.Of("not-found") && p.Field == "instance":
		return "plumlatch instance list"
	case p.Of("in-progress"):
		return "wait, and try again; plumlatch instance show NAME tells what is going on"
	}
	return ""
}

// parse takes flags before and after the names; "--" ends both.
func (c *cli) parse(fs *flag.FlagSet, args []string) error {
	// No message may quote it, as that of a flag that is none would.
	if slices.ContainsFunc(args, func(a string) bool { return keypair.LooksPrivate([]byte(a)) }) {
		return usagef("that is a private key; it was neither sent nor kept. Its file is what commands take, or the " +
			"one line of its .pub; this shell's history may have it now")
	}
	if i := slices.Index(args, "--"); i >= 0 {
		args, c.rest = args[:i], args[i+1:]
	}
	if err := twice(fs, args); err != nil {
		return err
	}
	for {
		if err := fs.Parse(args); err != nil {
			if errors.Is(err, flag.ErrHelp) {
				return err
			}
			return usageError{err.Error()}
		}
		if fs.NArg() == 0 {
			return nil
		}
		c.args = append(c.args, fs.Arg(0))
		args = fs.Args()[1:]
	}
}

// twice refuses an option that is given twice with different values: the package flag would take the last one, in silence, and
// somebody's key would not be there. Options that are meant to be given again have a type of their own.
func twice(fs *flag.FlagSet, args []string) error {
	given := map[string]string{}
	for n := 0; n < len(args); n++ {
		name, value, joined := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(args[n], "-"), "-"), "=")
		f := fs.Lookup(name)
		if !strings.HasPrefix(args[n], "-") || f == nil {
			continue
		}
		if b, ok := f.Value.(interface{ IsBoolFlag() bool }); ok && b.IsBoolFlag() {
			continue
		}
		if !joined {
			if n++; n < len(args) {
				value = args[n]
			}
		}
		if had, again := given[name]; again && had != value && strings.HasPrefix(fmt.Sprintf("%T", f.Value), "*flag.") {
			return usagef("-%s is given twice; where several are meant they stand in one, with commas between", name)
		}
		given[name] = value
	}
	return nil
}

// names returns the arguments if there are as many as wanted.
func (c *cli) names(what ...string) ([]string, error) {
	if len(c.args) < len(what) {
		return nil, usagef("%s is missing", what[len(c.args)])
	}
	if len(c.args) > len(what) {
		return nil, usagef("unexpected argument %q", plaintext.Line(plaintext.Cut(c.args[len(what)], 60)))
	}
	return c.args, nil
}

// serviceFlag is the one option that every command has: which service is meant.
func serviceFlag(fs *flag.FlagSet, into *string) {
	fs.StringVar(into, "service", os.Getenv("PLUMLATCH_SERVICE"),
		"`name` of a service that you are signed in to (sign-in)")
}

// service returns the client for the service that the environment names, or a sign-in.
func (c *cli) service() (*client.Client, error) {
	base, token := os.Getenv("PLUMLATCH_URL"), os.Getenv("PLUMLATCH_TOKEN")
	if c.chosen != "" || base == "" || token == "" {
		s, err := chosenSignIn(c.chosen, strings.TrimRight(base, "/"))
		if err != nil {
			return nil, err
		}
		base, token = s.URL, s.Token
	}
	cl, err := client.New(base, token)
	if errors.Is(err, client.ErrURL) {
		return nil, failure{fmt.Errorf("PLUMLATCH_URL: %w", err), "export PLUMLATCH_URL=http://127.0.0.1:8470"}
	}
	if err != nil {
		return nil, fmt.Errorf("PLUMLATCH_TOKEN: %w", err)
	}
	return cl, nil
}

// begin is how nearly every command begins: its names, and the service.
func (c *cli) begin(what ...string) ([]string, *client.Client, error) {
	args, err := c.names(what...)
	if err != nil {
		return nil, nil, err
	}
	service, err := c.service()
	return args, service, err
}

func find(args []string) (*command, []string) {
	for n := min(2, len(args)); n > 0; n-- {
		name := strings.Join(args[:n], " ")
		for i := range commands {
			if commands[i].name == name {
				return &commands[i], args[n:]
			}
		}
	}
	return nil, nil
}

// help prints what there is, or one command; false if there is no such command.
func help(w io.Writer, name string) bool {
	if name == "" {
		overview(w)
		return true
	}
	if s := stageOf(name); s != nil {
		s.print(w)
		return true
	}
	var group []*command
	for i := range commands {
		c := &commands[i]
		if c.name == name {
			one(w, c)
			return true
		}
		if strings.HasPrefix(c.name, name+" ") {
			group = append(group, c)
		}
	}
	for i, c := range group {
		if i > 0 {
			fmt.Fprintln(w)
		}
		one(w, c)
	}
	if len(group) == 0 {
		fmt.Fprintf(w, "plumlatch: there is no command %q\nnext: plumlatch help\n",
			plaintext.Line(plaintext.Cut(name, 60)))
	}
	return len(group) > 0
}

func one(w io.Writer, c *command) {
	fmt.Fprintf(w, "plumlatch %s %s\n\n  %s\n\n", c.name, c.args, c.about)
	fs := flag.NewFlagSet(c.name, flag.ContinueOnError)
	fs.SetOutput(w)
	c.flags(fs)
	fs.PrintDefaults()
	fmt.Fprintf(w, "\nExample:\n  %s\n", c.example)
}
