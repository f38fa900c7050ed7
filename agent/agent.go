// Package agent is the resident program on an instance. It dials out to the service, so that no port has to be open; it shows its own key,
// and takes no other service than the one whose authority was pinned when it was installed. It carries out a fixed list of verbs, of which
// the file of the instance's owner says which are open, and runs no command that it was sent.
package agent

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"sync"
	"time"

	"github.com/coder/websocket"

	"plumlatch/core/agentcalls"
	"plumlatch/core/plaintext"
	"plumlatch/reach"
)

// Version is the agent's own, a whole number: it grows, and never falls. A build can set it (go help build, -ldflags -X).
var Version = "1"

// Times of dialling. They are variables for tests.
var (
	// dialLimit bounds getting in, from the first packet to the service's welcome.
	dialLimit = 45 * time.Second
	// backFrom and backTo are the least and the most that is waited between two tries: each time up to twice as long as before, at random.
	backFrom, backTo = 2 * time.Second, 5 * time.Minute
	// afterGood is the most that is waited after a connection that was good: the service may have begun anew, and then others come too.
	afterGood = 30 * time.Second
	// pingEvery is how often a connection on which nothing goes on is tried.
	pingEvery = 45 * time.Second
)

// Agent is one, ready to run.
type Agent struct {
	Paths Paths
	Log   *slog.Logger
	// Trial: it is to show that it comes up, and ends then; Run returns nil once the service has let it in.
	Trial bool
	// Machine is what the verbs are done on; nil for the one that this program runs on, as root.
	Machine Machine

	mu   sync.Mutex
	next *next // a program that is to be tried once this connection has ended; nil for none
	// upgrading: one upgrade goes on, from its first byte to its end. A second one would write where the first one's program lies that was found to
	// be the signed one.
	upgrading bool
}

// refusal is the service's own no.
type refusal struct {
	code agentcalls.Code
	why  string
}

func (r refusal) Error() string {
	return fmt.Sprintf("the service refuses this agent (%s): %s", r.code, r.why)
}

// Run connects, serves what is asked, and connects again, until ctx ends. ErrNotEnrolled, ErrCopied, ErrOwnerFile and other errors of the
// files end it at once: nothing is dialled then.
func (a *Agent) Run(ctx context.Context) error {
	if _, err := a.Paths.load(); err != nil { // a copy ends nobody's account
		return err
	}
	if a.Trial {
		return a.once(ctx)
	}
	go a.keepEnds(ctx)
	wait := backFrom
	for {
		begun := time.Now()
		err := a.once(ctx)
		if ctx.Err() != nil {
			return nil
		}
		var own ownError
		if errors.As(err, &own) {
			return err
		}
		if n := a.takeNext(); n != nil {
			a.try(ctx, *n)
			a.endUpgrade()
			wait = backFrom
			continue
		}
		if time.Since(begun) > time.Minute {
			wait = afterGood
		}
		var pause time.Duration
		pause, wait = backOff(wait, rand.N[time.Duration])
		a.Log.Warn("not connected", "error", plaintext.Line(plaintext.Cut(err.Error(), 300)), "again_in", pause.Round(time.Second).String())
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(pause):
		}
	}
}

// backOff is how long is waited now, at random up to wait, and what the next wait is: up to twice as long, and never more than backTo.
func backOff(wait time.Duration, random func(time.Duration) time.Duration) (pause, next time.Duration) {
	return backFrom/2 + random(wait), min(wait*2, backTo)
}

// once is one connection, to its end. The files are read anew for each: their owner may have changed them.
func (a *Agent) once(ctx context.Context) error {
	enrolled, err := a.Paths.load()
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	late := time.AfterFunc(dialLimit, cancel)
	conn, err := enrolled.dial(ctx)
	if err != nil {
		return err
	}
	defer conn.CloseNow()
	conn.SetReadLimit(64 << 10)
	hello, err := json.Marshal(agentcalls.Hello{Version: Version, Verbs: enrolled.owner.Verbs, Never: enrolled.owner.Never, Trust: enrolled.owner.Trust,
		Frozen: enrolled.owner.Frozen(), Last: a.Paths.lastUpgrade(), Token: enrolled.token})
	if err != nil {
		return err
	}
	if err := conn.Write(ctx, websocket.MessageText, hello); err != nil {
		return err
	}
	_, text, err := conn.Read(ctx)
	if err != nil {
		return err
	}
	var w agentcalls.Welcome
	if err := json.Unmarshal(text, &w); err != nil {
		return errors.New("the service's welcome is none")
	}
	if w.Refused != "" {
		return refusal{w.Refused, plaintext.Line(plaintext.Cut(w.Why, 200))}
	}
	if enrolled.token != "" {
		if enrolled, err = a.Paths.redeemed(w.Instance); err != nil {
			return err
		}
	}
	if w.Instance != enrolled.own.Instance {
		return fmt.Errorf("the service takes this agent for that of instance %d, and it was enrolled for %d", w.Instance, enrolled.own.Instance)
	}
	late.Stop()
	a.Log.Info("connected", "service", enrolled.service, "instance", w.Instance)
	if a.Trial {
		return nil
	}
	link := reach.NewLink(ctx, reach.OverWebSocket(conn), func(ctx context.Context, ch *reach.Channel, head []byte) {
		a.serve(ctx, ch, head)
		if a.hasNext() { // what else is asked for meanwhile is not answered: it is asked again
			time.AfterFunc(answerHeard, cancel)
		}
	})
	go a.ping(ctx, conn, link)
	return link.Run()
}

// ping tries the connection, now and then: a network that has forgotten it says nothing by itself.
func (a *Agent) ping(ctx context.Context, conn *websocket.Conn, link *reach.Link) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(pingEvery):
		}
		limited, cancel := context.WithTimeout(ctx, pingEvery/2)
		err := conn.Ping(limited)
		cancel()
		if err != nil {
			link.End(errors.New("the service does not answer any more"))
			return
		}
	}
}

// dial opens the connection: TLS 1.3, with a certificate of the agent's own key, to a service whose certificate the pinned authority made.
func (e enrolled) dial(ctx context.Context) (*websocket.Conn, error) {
	pool := x509.NewCertPool()
	pool.AddCert(e.authority)
	transport := &http.Transport{
		DialTLSContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			dialer := tls.Dialer{Config: &tls.Config{RootCAs: pool, ServerName: agentcalls.ServerName, MinVersion: tls.VersionTLS13, Certificates: []tls.Certificate{e.certificate}}}
			return dialer.DialContext(ctx, network, address)
		},
		DisableKeepAlives: true,
	}
	conn, answer, err := websocket.Dial(ctx, "wss://"+e.service+agentcalls.Path, &websocket.DialOptions{HTTPClient: &http.Client{Transport: transport,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}, // it leads to whom nobody pinned
		CompressionMode: websocket.CompressionDisabled})
	var unknown x509.UnknownAuthorityError
	switch {
	case errors.As(err, &unknown):
		return nil, fmt.Errorf("%s is not the service that was pinned here: another authority made its certificate", e.service)
	case err != nil && answer != nil:
		return nil, fmt.Errorf("%s answered %s", e.service, answer.Status)
	case err != nil:
		return nil, fmt.Errorf("%s: %w", e.service, err)
	}
	return conn, nil
}
