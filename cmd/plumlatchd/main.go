// Command plumlatchd is the service.
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
	"runtime/debug"
	"syscall"

	"plumlatch/cmd/internal/built"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/secrets"
	"plumlatch/service/api"
	"plumlatch/service/store"
)

const usage = `plumlatchd is the Plum Latch service.

  plumlatchd serve [options]         run the service
  plumlatchd admin NAME [options]    make an admin, or give one a new password
  plumlatchd new-identity [options]  another identity, and every steward key encrypted anew
  plumlatchd demo [options]          run everything with demo data
  plumlatchd version                 what this program was built from

"plumlatchd COMMAND -help" lists a command's options. Each can also stand in
the environment (PLUMLATCHD_LISTEN) or in the YAML file of -config.
`

func main() {
	// What is alive is small beside what a survey of many throws away: collecting
	// half as often costs little memory. GOGC says otherwise, if it is set.
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(300)
	}
	if len(os.Args) < 2 || os.Args[1] == "help" || os.Args[1] == "-help" || os.Args[1] == "--help" {
		fmt.Print(usage)
		if len(os.Args) < 2 {
			os.Exit(2)
		}
		return
	}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	var err error
	switch args := os.Args[2:]; os.Args[1] {
	case "serve":
		err = serve(ctx, args)
	case "admin":
		err = admin(ctx, args)
	case "new-identity":
		err = newIdentity(ctx, args)
	case "demo":
		err = demo(ctx, args)
	case "version":
		fmt.Println(built.Text("plumlatchd"))
	default:
		fmt.Fprintf(os.Stderr, "plumlatchd: there is no command %q\n\n%s", os.Args[1], usage)
		os.Exit(2)
	}
	if errors.Is(err, flag.ErrHelp) {
		return
	}
	if err != nil {
		fmt.Fprintf(os.Stderr, "plumlatchd: %v\n", err)
		os.Exit(1)
	}
}

func newLog(w io.Writer, format string) *slog.Logger {
	// What comes from a cloud or an instance may hold escape sequences, which
	// the JSON handler passes on in part.
	options := &slog.HandlerOptions{ReplaceAttr: func(_ []string, a slog.Attr) slog.Attr {
		switch v := a.Value.Any().(type) {
		case error:
			text, _ := secrets.Blank(v.Error())
			return slog.String(a.Key, plaintext.Line(text))
		case string:
			if text, _ := secrets.Blank(v); a.Key != "stack" {
				return slog.String(a.Key, plaintext.Line(text))
			}
		}
		return a
	}}
	if format == "json" {
		return slog.New(slog.NewJSONHandler(w, options))
	}
	return slog.New(slog.NewTextHandler(w, options))
}

func serve(ctx context.Context, args []string) error {
	var c config
	if err := c.load(flag.NewFlagSet("serve", flag.ContinueOnError), args, os.LookupEnv); err != nil {
		return err
	}
	s, err := startService(ctx, c, newLog(os.Stderr, c.logFormat))
	if err != nil {
		return err
	}
	if c.pprofListen != "" {
		profiles, err := serveProfiles(c.pprofListen)
		if err != nil {
			return errors.Join(err, s.Close())
		}
		defer profiles.Close()
	}
	select {
	case <-ctx.Done():
	case err = <-s.Failed():
	}
	return errors.Join(err, s.Close())
}

// admin makes the first operator, whom nobody else can make.
func admin(ctx context.Context, args []string) error {
	if len(args) == 0 || names.Check(args[0]) != nil {
		return errors.New("give the admin's name first: plumlatchd admin NAME [options]")
	}
	var c config
	if err := c.load(flag.NewFlagSet("admin", flag.ContinueOnError), args[1:], os.LookupEnv); err != nil {
		return err
	}
	db, err := store.Open(ctx, c.databaseURL, c.ownerURL, c.connections, newLog(os.Stderr, c.logFormat))
	if err != nil {
		return err
	}
	defer db.Close()
	password := api.NewPassword()
	hash := api.HashPassword(password)
	err = db.AddOperator(ctx, store.Service, args[0], store.Admin, hash)
	if errors.Is(err, store.ErrNameTaken) {
		role, enabled := store.Admin, false
		err = db.ChangeOperator(ctx, store.Service, args[0], &role, &enabled, &hash)
	}
	if err != nil {
		return err
	}
	fmt.Printf("%s is an admin. Password, shown this once:\n%s\nSign in on the console.\n", args[0], password)
	return nil
}
