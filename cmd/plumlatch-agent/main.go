// Command plumlatch-agent is resident on an instance: see docs/agent.md. It is installed by "plumlatch instance agent install NAME".
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"syscall"

	"plumlatch/agent"
)

const usage = `plumlatch-agent lets Plum Latch see and change who gets in to this machine, as far as its owner's file allows.

  plumlatch-agent run      connect, and serve (the unit does that)
  plumlatch-agent enroll   make a key for this machine, and print its public half
  plumlatch-agent check    read the owner's file, and say what it allows

The owner's file is ` + agent.OwnerFile + `. Its own files are in ` + agent.StateDir + `.
`

func main() { os.Exit(run(os.Args[1:])) }

func run(args []string) int {
	fail := func(err error) int {
		fmt.Fprintln(os.Stderr, "plumlatch-agent:", err)
		return 1
	}
	if len(args) == 0 {
		fmt.Fprint(os.Stderr, usage)
		return 2
	}
	switch args[0] {
	case agent.EditKeysCommand: // by itself, as another user
		if err := agent.EditKeys(context.Background(), os.Stdin, os.Stdout); err != nil {
			return fail(err)
		}
		return 0
	case "-h", "-help", "--help", "help":
		fmt.Print(usage)
		return 0
	}
	fs := flag.NewFlagSet("plumlatch-agent "+args[0], flag.ContinueOnError)
	// "check" and "run -trial" are what an older version calls of a newer one before it takes it: they stay as they are.
	var p agent.Paths
	fs.StringVar(&p.Root, "root", "", "`folder` before all of its files, to try it")
	trial := fs.Bool("trial", false, "with run: connect once, and end: an upgrade tries itself so")
	instance := fs.Int64("instance", 0, "with enroll: the instance's `ID` in the ledger")
	authority := fs.String("authority", "-", "with enroll: `file` with the certificate of the service's authority; - is the standard input")
	token := fs.String("token-file", "", "with enroll: `file` with the token of a launch, instead of -instance")
	if err := fs.Parse(args[1:]); err != nil || fs.NArg() > 0 {
		return 2
	}
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	switch args[0] {
	case "run":
		ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
		defer stop()
		if err := (&agent.Agent{Paths: p, Log: log, Trial: *trial}).Run(ctx); err != nil {
			fail(err)
			return agent.ExitOwn // the unit does not start it again: nothing here mends itself
		}
	case "enroll":
		if err := enroll(p, *instance, *authority, *token); err != nil {
			return fail(err)
		}
	case "check":
		o, service, err := p.ReadOwner()
		if err != nil {
			return fail(err)
		}
		fmt.Printf("service   %s\nverbs     %v\nnever     %v\ntrust     %s\noperators %d\n", service, o.Verbs, o.Never, o.Trust, len(o.Operators))
		if o.Frozen() {
			fmt.Println("Nothing is ever changed: no operator's key is named, and the service is not trusted.")
		}
	default:
		fmt.Fprint(os.Stderr, usage)
		return 2
	}
	return 0
}

func enroll(p agent.Paths, instance int64, authority, tokenFile string) error {
	in := io.Reader(os.Stdin)
	if authority != "-" {
		f, err := os.Open(authority)
		if err != nil {
			return err
		}
		defer f.Close()
		in = f
	}
	pem, err := io.ReadAll(io.LimitReader(in, 64<<10))
	if err != nil {
		return err
	}
	token := ""
	if tokenFile != "" {
		data, err := os.ReadFile(tokenFile)
		if err != nil {
			return err
		}
		token = string(data)
	}
	if (instance > 0) == (token != "") {
		return errors.New("give -instance, or -token-file")
	}
	public, err := p.Enroll(instance, pem, token)
	if err != nil {
		return err
	}
	fmt.Println(public)
	return nil
}
