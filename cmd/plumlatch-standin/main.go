// Command plumlatch-standin runs the stand-in cloud by itself.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/signal"
	"runtime/debug"
	"strings"
	"syscall"
	"time"

	"plumlatch/standin"
)

func main() {
	if os.Getenv("GOGC") == "" { // thousands of small connections: collecting less often costs little memory
		debug.SetGCPercent(300)
	}
	if err := run(); err != nil {
		fmt.Fprintf(os.Stderr, "plumlatch-standin: %v\n", err)
		os.Exit(1)
	}
}

func run() error {
	listen := flag.String("listen", "127.0.0.1:8471", "`address` of the cloud's HTTP interface, on loopback")
	folder := flag.String("folder", "", "`folder` that the cloud keeps its instances in (needed)")
	network := flag.String("net", "127.31.0.0/16", "`block` of 127.0.0.0/8 that the instances' addresses come from")
	port := flag.Int("ssh-port", 2222, "port of every instance's SSH server")
	pace := flag.Duration("pace", 400*time.Millisecond, "how long a change of state takes")
	tokenFile := flag.String("token-file", "", "`file` with the token that callers must give (needed)")
	admit := flag.String("admit", "127.0.0.0/8",
		"`networks` that the shared inbound rules let in from the beginning, separated by commas")
	strangers := flag.Bool("strangers", false, "an address that is given back goes to somebody else's server")
	flag.Parse()
	if *folder == "" || *tokenFile == "" || flag.NArg() > 0 {
		return errors.New("give -folder and -token-file, and nothing besides; -help lists the options")
	}
	token, err := os.ReadFile(*tokenFile)
	if err != nil {
		return err
	}
	block, err := netip.ParsePrefix(*network)
	if err != nil {
		return fmt.Errorf("-net: %w", err)
	}
	if host, _, err := net.SplitHostPort(*listen); err != nil || !net.ParseIP(host).IsLoopback() {
		return fmt.Errorf("-listen %s: the stand-in listens on loopback only", *listen)
	}
	var admitted []netip.Prefix
	for a := range strings.SplitSeq(*admit, ",") {
		p, err := netip.ParsePrefix(a)
		if err != nil {
			return fmt.Errorf("-admit: %w", err)
		}
		admitted = append(admitted, p)
	}
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	l, err := net.Listen("tcp", *listen)
	if err != nil {
		return fmt.Errorf("%w; another stand-in may be running", err)
	}
	cloud, err := standin.Open(standin.Options{Folder: *folder, Network: block, Port: *port, Pace: *pace, Log: log,
		Admit: admitted, Strangers: *strangers})
	if err != nil {
		return err
	}
	defer cloud.Close()
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	server := &http.Server{Handler: cloud.Handler(strings.TrimSpace(string(token))), ReadHeaderTimeout: 5 * time.Second}
	go func() {
		<-ctx.Done()
		_ = server.Close()
	}()
	log.Info("stand-in cloud", "listen", *listen, "net", block.String())
	if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}
