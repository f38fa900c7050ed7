package reach

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/core/hostkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
)

// Answer is what a server said when it was asked about one key.
type Answer string

// The five answers. Only Accepted and Refused are evidence about a key.
const (
	Accepted   Answer = "accepted"
	Refused    Answer = "refused"
	NotOffered Answer = "publickey not offered"
	Open       Answer = "open without any key"
	NotAsked   Answer = "could not ask"
)

// Result is the answer for one key. Detail says why, for NotAsked.
type Result struct {
	Answer  Answer
	Detail  string
	Vantage string // the address that asked
	At      time.Time
	// Wait is how long until the policy's budget allows to ask, where that is why it was
	// NotAsked. Such a result says nothing about the key, and nothing about the server.
	Wait time.Duration
}

// Target is a server, and the user to ask it about.
type Target struct {
	Address  string
	Port     int
	User     string
	HostKeys [][]byte // pinned blobs: another host key is never asked anything
	Via      *Hop     // the jump host that it is reached through, nil for none
	// Over, if it is not nil, is another way to the same server, for where no connection to its address is made. It is the host key that says that it
	// is the same. The connection lasts until ctx ends at the latest.
	Over func(ctx context.Context) (net.Conn, error)
}

// place names the server: behind one address, and behind one jump host, there
// may be several.
func (t Target) place() string {
	place := net.JoinHostPort(t.Address, strconv.Itoa(t.Port))
	if t.Via != nil {
		place += " through " + t.Via.place()
	}
	return place
}

// The greatest number of keys that one connection offers: OpenSSH ends it
// after six failures (MaxAuthTries), and the first, "none", counts as one.
const perConnection = 5

// probeTimeout is the most that one connection may take, all told.
var probeTimeout = 20 * time.Second

// Probe asks a server, for each key, whether it would take the key for the
// user, without any private key: RFC 4252 section 7 lets a client ask before
// it signs (SSH_MSG_USERAUTH_PK_OK). Keys are public blobs (RFC 4253 section
// 6.6), the likeliest first; the results are in their order.
//
// A key made on the spot is offered too. A server that takes that one takes
// anything, and gives no evidence: every result is then NotAsked.
//
// It is gentle: at most five refused keys a connection, no more connections
// than the policy's budget allows, and none after the first that ends before
// it was answered, as it does where the server begins to ban.
func Probe(ctx context.Context, p Policy, t Target, keys [][]byte, now func() time.Time) []Result {
	results := make([]Result, len(keys))
	madeUp, err := keypair.Create(keypair.Ed25519, "")
	if err != nil {
		return fill(results, 0, Result{Answer: NotAsked, Detail: "no key could be made to test the server with",
			At: now()})
	}
	offers := append([][]byte{madeUp.Public.Blob}, keys...)
	for done := 0; done < len(offers); {
		n := min(perConnection, len(offers)-done)
		if wait := p.Budget.take(t.place(), time.Now()); wait > 0 {
			detail := fmt.Sprintf("this server was probed often enough for now; ask again in %d s",
				int(wait.Seconds())+1)
			return fill(results, max(done-1, 0), Result{Answer: NotAsked, Detail: detail, At: now(), Wait: wait})
		}
		answers, vantage, err := ask(ctx, p, t, offers[done:done+n])
		at := now()
		for i, a := range answers {
			k := done + i - 1 // -1: the made-up key
			if k >= 0 {
				results[k] = Result{Answer: a, Vantage: vantage, At: at}
				continue
			}
			if a == Accepted {
				return fill(results, 0, Result{Answer: NotAsked,
					Detail:  "the server takes any key: a key made up on the spot was accepted too",
					Vantage: vantage, At: at})
			}
		}
		done += len(answers)
		if p.Asked != nil {
			p.Asked.Add(int64(len(answers)))
		}
		if err != nil {
			rest := Result{Answer: NotAsked, Detail: plaintext.Line(plaintext.Cut(err.Error(), 200)),
				Vantage: vantage, At: at}
			if errors.Is(err, errOpen) {
				rest = Result{Answer: Open, Vantage: vantage, At: at}
			} else if errors.Is(err, errNotOffered) {
				rest = Result{Answer: NotOffered, Vantage: vantage, At: at}
			}
			return fill(results, max(done-1, 0), rest)
		}
	}
	return results
}

// ProbeAll asks as Probe does, and waits where the policy's budget is used up: a key that
// is accepted takes a connection of its own, so a server with many keys uses it up by
// itself, and asking anew from the first key would never come to the last. pause waits,
// and tells whether to go on; what is then left stays NotAsked.
func ProbeAll(ctx context.Context, p Policy, t Target, keys [][]byte, now func() time.Time,
	pause func(time.Duration) bool) []Result {
	results := Probe(ctx, p, t, keys, now)
	for {
		from := slices.IndexFunc(results, func(r Result) bool { return r.Wait > 0 })
		if from < 0 || !pause(results[from].Wait) || ctx.Err() != nil {
			return results
		}
		copy(results[from:], Probe(ctx, p, t, keys[from:], now))
	}
}

func fill(results []Result, from int, r Result) []Result {
	for i := from; i < len(results); i++ {
		results[i] = r
	}
	return results
}

var (
	errOpen       = errors.New("the server let us in without any key")
	errNotOffered = errors.New("the server does not offer publickey")
	errAsked      = errors.New("asked to sign")
	ErrStranger   = errors.New("another host key than the pinned one answers: nothing was asked")
)

// ask offers keys on one connection, and returns the answers it got, in
// order: all refused, or refused up to one that was accepted, which ends the
// connection. An error says why the answers stop short.
func ask(ctx context.Context, p Policy, t Target, keys [][]byte) (answers []Answer, vantage string, err error) {
	ctx, cancel := context.WithTimeout(ctx, probeTimeout)
	defer cancel()
	conn, err := p.dial(ctx, t)
	if err != nil {
		return nil, "", dialError(err)
	}
	defer conn.Close()
	vantage, _, _ = net.SplitHostPort(conn.LocalAddr().String())
	if t.Via != nil { // it is the jump host that the server sees
		vantage = t.Via.Address
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()

	round := &round{}
	var signers []ssh.Signer
	for _, k := range keys {
		pub, err := ssh.ParsePublicKey(k)
		if err != nil {
			return nil, vantage, errors.New("a key of an unknown type")
		}
		signers = append(signers, &asker{pub: pub, round: round})
	}
	offered := false
	client, channels, requests, err := ssh.NewClientConn(conn, t.Address, &ssh.ClientConfig{
		User:          t.User,
		ClientVersion: "SSH-2.0-plumlatch-probe",
		Auth: []ssh.AuthMethod{ssh.PublicKeysCallback(func() ([]ssh.Signer, error) {
			offered = true // called only where the server offers publickey
			return signers, nil
		})},
		HostKeyCallback:   pinned(t.HostKeys),
		HostKeyAlgorithms: hostkeys.Algorithms(t.HostKeys),
	})
	if err == nil {
		go ssh.DiscardRequests(requests)
		go func() {
			for c := range channels {
				_ = c.Reject(ssh.Prohibited, "")
			}
		}()
		client.Close()
		return nil, vantage, errOpen
	}
	if ctx.Err() != nil {
		err = errInTime
	}
	// A key was refused when the server's own failure let the next one be
	// offered, or, for the last, let the client run out of keys.
	refused := max(round.offered-1, 0)
	switch {
	case round.asked:
	case strings.Contains(err.Error(), "no common algorithm"):
		return nil, vantage, errors.New("the server takes no signature algorithm that this probe knows")
	case offered && unauthenticated(err):
		refused, err = round.offered, nil
	case !offered && unauthenticated(err):
		return nil, vantage, errNotOffered
	}
	for range refused {
		answers = append(answers, Refused)
	}
	if round.asked {
		answers, err = append(answers, Accepted), nil
	}
	if err == nil && len(answers) == 0 {
		err = errors.New("the server ended the connection before any key was offered")
	}
	if err != nil {
		err = dialError(err)
	}
	return answers, vantage, err
}

type round struct {
	offered int
	asked   bool
}

// asker is a signer that never signs: being asked to is the answer.
type asker struct {
	pub   ssh.PublicKey
	round *round
	seen  bool
}

func (a *asker) PublicKey() ssh.PublicKey {
	if !a.seen { // the client library takes the key up just before it offers it
		a.seen = true
		a.round.offered++
	}
	return a.pub
}

func (a *asker) Sign(io.Reader, []byte) (*ssh.Signature, error) {
	a.round.asked = true
	return nil, errAsked
}

func (a *asker) SignWithAlgorithm(io.Reader, []byte, string) (*ssh.Signature, error) {
	a.round.asked = true
	return nil, errAsked
}

func pinned(blobs [][]byte) ssh.HostKeyCallback {
	return func(_ string, _ net.Addr, key ssh.PublicKey) error {
		for _, b := range blobs {
			if bytes.Equal(b, key.Marshal()) {
				return nil
			}
		}
		return ErrStranger
	}
}

// dialError gives the ordinary ways of not getting through an ordinary sentence.
func dialError(err error) error {
	var netErr net.Error
	switch text := err.Error(); {
	case errors.Is(err, ErrPolicy), errors.Is(err, ErrStranger), errors.Is(err, errInTime):
		return err
	case errors.As(err, &netErr) && netErr.Timeout():
		return errors.New("no answer in time: a firewall may hold the packets, or the address is another's")
	case strings.Contains(text, "connection refused"):
		return errors.New("connection refused: nothing listens there")
	case strings.Contains(text, ErrStranger.Error()):
		return ErrStranger
	case strings.Contains(text, errNotSSH.Error()), strings.Contains(text, "reading version string"):
		return errNotSSH
	case strings.Contains(text, "no common algorithm"):
		return errors.New("the server offers only algorithms that are too old to be taken")
	case strings.Contains(text, "EOF"), strings.Contains(text, "connection reset"):
		return errors.New("the server closed the connection in the middle of the handshake")
	}
	err = fmt.Errorf("the handshake failed: %w", err)
	if unauthenticated(err) {
		return refusal{err}
	}
	return err
}

// Errors of getting in, for whoever decides by them: the server takes none of the keys (or
// the password), and it lets in and serves no files.
var (
	ErrNotLetIn = errors.New("the server does not let in")
	ErrNoFiles  = errors.New("the server serves no files")
)

// refusal is an error that is ErrNotLetIn, and keeps its own words.
type refusal struct{ error }

func (refusal) Is(target error) bool { return target == ErrNotLetIn }
func (r refusal) Unwrap() error      { return r.error }

// unauthenticated tells whether the library gave up as no method of logging in was left. It
// has no value for that.
func unauthenticated(err error) bool { return strings.Contains(err.Error(), "unable to authenticate") }

// HostKey connects without logging in and returns the host key blob that the
// server shows (RFC 4253 section 8). of is the type to ask for, such as
// "ssh-ed25519"; "" takes what the server prefers.
func HostKey(ctx context.Context, p Policy, t Target, of string) ([]byte, error) {
	return FetchHostKey(ctx, func(ctx context.Context) (net.Conn, error) { return p.dial(ctx, t) }, t.Address, of)
}

// FetchHostKey is HostKey over a connection that dial opens.
func FetchHostKey(ctx context.Context, dial func(context.Context) (net.Conn, error), address,
	of string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, probeTimeout)
	defer cancel()
	conn, err := dial(ctx)
	if err != nil {
		return nil, dialError(err)
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	var blob []byte
	config := &ssh.ClientConfig{
		User:          "plumlatch-host-key",
		ClientVersion: "SSH-2.0-plumlatch-probe",
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			blob = key.Marshal()
			return errAsked // enough was seen: no user is named to the server
		},
	}
	if of != "" {
		config.HostKeyAlgorithms = []string{of}
	}
	_, _, _, err = ssh.NewClientConn(conn, address, config)
	if blob != nil {
		return blob, nil
	}
	if ctx.Err() != nil {
		err = errors.New("the server accepted the connection, and then did not answer in time")
	}
	return nil, dialError(err)
}
