package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"os"
	"os/signal"
	"strconv"
	"syscall"
	"time"

	"plumlatch/client"
	"plumlatch/core/plaintext"
	"plumlatch/core/streams"
	"plumlatch/core/wire"
	"plumlatch/stream"
)

// streamCommand joins standard input and output to an instance's SSH server, through the service: for ssh's ProxyCommand (ssh_config(5)).
func streamCommand(fs *flag.FlagSet) func(*cli) error {
	reason := fs.String("reason", "", "`why`, if the policy asks for it; it is kept in the journal")
	way := fs.String("way", "", "`way` to the instance: service, from the service's own address; or agent, through the instance's agent (default: the agent where that is open)")
	return func(c *cli) error {
		args, service, err := c.begin("INSTANCE")
		if err != nil {
			return err
		}
		// ssh ends it by a hang-up, too.
		ctx, stop := signal.NotifyContext(c.ctx, syscall.SIGHUP, syscall.SIGTERM)
		defer stop()
		begun, err := service.OpenStream(ctx, args[0], wire.NewStream{Reason: *reason, Way: *way})
		if p, ok := errors.AsType[*client.Problem](err); ok {
			switch { // what comes next works when it is copied
			case p.Of("no-stream"):
				return failure{err, "plumlatch why " + shellWord(args[0])}
			case p.Of("stream-shut"):
				return failure{err, fmt.Sprintf("plumlatch instance admit %s -from service -for 1h", shellWord(args[0]))}
			}
		}
		if err != nil {
			return err
		}
		conn := stream.New()
		over := make(chan error, 1)
		go func() { over <- service.Carry(ctx, begun, conn) }()
		go func() {
			if _, err := io.Copy(conn, os.Stdin); err == nil {
				_ = conn.CloseWrite()
			}
		}()
		_, err = io.Copy(os.Stdout, conn)
		if err == nil { // the server has said all; what it still is to hear is heard
			_ = os.Stdout.Close()
			limited, cancel := context.WithTimeout(ctx, time.Second)
			err = conn.Flush(limited)
			cancel()
		}
		conn.End("it was closed")
		var ended stream.Over
		switch why := <-over; {
		case errors.As(why, &ended) && ended.Reason != streams.Closed.Words():
			return failure{fmt.Errorf("the stream ended: %s", plaintext.Line(ended.Reason)), "plumlatch open -stream " + args[0]}
		case errors.As(why, new(stream.Refused)), errors.Is(why, stream.ErrBroken):
			return failure{fmt.Errorf("the stream ended: %w", why), "plumlatch open -stream " + args[0]}
		case errors.Is(err, syscall.EPIPE), errors.Is(err, context.DeadlineExceeded), errors.Is(err, stream.ErrClosed), errors.As(err, &ended):
			return nil // ssh has gone, and needs no word
		}
		return err
	}
}

func streamsList(fs *flag.FlagSet) func(*cli) error {
	instance := fs.String("instance", "", "only those of this `instance`")
	open := fs.Bool("open", false, "only those that are open")
	asJSON := fs.Bool("json", false, "print JSON")
	return func(c *cli) error {
		_, service, err := c.begin()
		if err != nil {
			return err
		}
		all, err := service.Streams(c.ctx, *instance, *open)
		if err != nil {
			return err
		}
		if *asJSON {
			return c.json(wire.List[wire.Stream]{Items: all})
		}
		now := time.Now()
		var rows [][]string
		for _, s := range all {
			state := "open"
			if s.Ended != nil {
				state = "ended " + ago(*s.Ended, now) + ": " + plaintext.Line(s.Words)
			}
			rows = append(rows, []string{strconv.FormatInt(s.ID, 10), plaintext.Line(s.Instance), plaintext.Line(s.Operator), plaintext.Line(s.Address), plaintext.Line(s.Way),
				ago(s.Begun, now), bytesWords(s.Up), bytesWords(s.Down), state})
		}
		c.table([]string{"STREAM", "INSTANCE", "BY", "FROM", "WAY", "BEGAN", "TO IT", "FROM IT", "STATE"}, rows,
			"No stream. Nobody has one unless the policy says so (stream.who): plumlatch policy show")
		return nil
	}
}

// bytesWords is a number of bytes for people.
func bytesWords(n int64) string {
	switch {
	case n < 10_000:
		return fmt.Sprintf("%d B", n)
	case n < 10_000_000:
		return fmt.Sprintf("%d kB", n/1000)
	}
	return fmt.Sprintf("%d MB", n/1_000_000)
}

func streamsEnd(*flag.FlagSet) func(*cli) error {
	return func(c *cli) error {
		args, service, err := c.begin("ID")
		if err != nil {
			return err
		}
		id, err := strconv.ParseInt(args[0], 10, 64)
		if err != nil || id < 1 {
			return usagef("an ID is a number, as \"plumlatch streams list -open\" shows it")
		}
		if err := service.EndStream(c.ctx, id); err != nil {
			return err
		}
		fmt.Fprintln(c.out, "It ends within some seconds.\nnext: plumlatch streams list")
		return nil
	}
}

// byStream makes a door one that ssh reaches through the service.
func (d *door) byStream(instance, reason string) error {
	program, err := os.Executable()
	if err != nil {
		return err
	}
	d.hop, d.proxy = nil, streamProxy(program, instance, reason)
	return nil
}

// streamProxy is the ProxyCommand (ssh_config(5); a shell runs it).
func streamProxy(program, instance, reason string) string {
	out := shellWord(percent(program)) + " stream" // ssh puts "exec" before it
	if reason != "" {
		out += " -reason " + shellWord(percent(reason))
	}
	return out + " " + shellWord(percent(instance)) // no name begins as an option does
}

// shut tells whether no connection is made from here to where ssh would connect first, and why.
func (d door) shut(ctx context.Context) error {
	at := &d
	if d.hop != nil {
		at = d.hop
	}
	dialer := net.Dialer{Timeout: 5 * time.Second}
	conn, err := dialer.DialContext(ctx, "tcp", net.JoinHostPort(at.address.String(), strconv.Itoa(at.port)))
	if err == nil {
		conn.Close()
	}
	return err
}
