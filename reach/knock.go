package reach

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/core/hostkeys"
	"plumlatch/core/plaintext"
	"plumlatch/core/why"
)

// Knocked is what came of connecting to a port, without naming any user.
type Knocked struct {
	Reached    string // why.Answers and its like
	Said       string // the first line that came, or the system's own word
	From       string // the address that asked
	HostKey    []byte // that was offered; nil if it did not come to that
	Algorithms string // why the two ends agreed on none; "" if they did
}

// Words says in a few words what came of it.
func (k Knocked) Words() string {
	switch k.Reached {
	case why.Answers:
		if k.Algorithms != "" {
			return k.Algorithms
		}
		return "an SSH server answers: " + k.Said
	case why.Refused:
		return "connection refused: nothing listens there"
	case why.Silent:
		return "no answer in time"
	case why.Closed:
		return "the server closed the connection before a word of SSH"
	case why.OtherSpeech:
		return "what answers there does not speak SSH"
	}
	return k.Said
}

// knockTimeout is how long a server may stay silent before it counts as that.
const knockTimeout = 5 * time.Second

// Knock connects to a port, reads the greeting (RFC 4253 section 4.2) and the
// host key (section 8), and goes away.
func Knock(ctx context.Context, p Policy, t Target) Knocked {
	return KnockOver(ctx, func(ctx context.Context) (net.Conn, error) { return p.dial(ctx, t) }, t)
}

// KnockOver is Knock over a connection that dial opens.
func KnockOver(ctx context.Context, dial func(context.Context) (net.Conn, error), t Target) Knocked {
	ctx, cancel := context.WithTimeout(ctx, knockTimeout)
	defer cancel()
	conn, err := dial(ctx)
	if err != nil {
		return unreached(ctx, err)
	}
	defer conn.Close()
	k := Knocked{}
	if host, _, err := net.SplitHostPort(conn.LocalAddr().String()); err == nil {
		k.From = host
	}
	if t.Via != nil {
		k.From = t.Via.Address
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	heard := &listened{Conn: conn}
	prefer := append(hostkeys.Algorithms(t.HostKeys), ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384,
		ssh.KeyAlgoECDSA521, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
	_, _, _, err = ssh.NewClientConn(heard, t.Address, &ssh.ClientConfig{
		User: "plumlatch-knock", ClientVersion: "SSH-2.0-plumlatch-probe", HostKeyAlgorithms: prefer,
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			k.HostKey = key.Marshal()
			return errAsked // enough was seen: no user is named to the server
		},
	})
	first := heard.line()
	k.Said = plaintext.Line(plaintext.Cut(first, 120))
	switch {
	case strings.HasPrefix(first, "SSH-"):
		k.Reached = why.Answers
		if k.HostKey == nil && err != nil && strings.Contains(err.Error(), "no common algorithm") {
			k.Algorithms = plaintext.Line(plaintext.Cut(strings.TrimPrefix(err.Error(), "ssh: handshake failed: "),
				300))
		}
	case first == "" && ctx.Err() != nil:
		k.Reached = why.Silent
	case first == "", strings.HasPrefix(first, "Not allowed at this time"),
		strings.HasPrefix(first, "Exceeded MaxStartups"):
		k.Reached = why.Closed
	default:
		k.Reached = why.OtherSpeech
	}
	return k
}

func unreached(ctx context.Context, err error) Knocked {
	var netErr net.Error
	said := plaintext.Line(plaintext.Cut(err.Error(), 160))
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return Knocked{Reached: why.Refused, Said: said}
	case ctx.Err() != nil, errors.As(err, &netErr) && netErr.Timeout():
		return Knocked{Reached: why.Silent, Said: said}
	}
	if opErr, ok := errors.AsType[*net.OpError](err); ok {
		said = plaintext.Line(fmt.Sprint(opErr.Err))
	}
	return Knocked{Reached: why.Unreachable, Said: said}
}

// listened keeps the first bytes that came.
type listened struct {
	net.Conn
	first []byte
}

func (l *listened) Read(p []byte) (int, error) {
	n, err := l.Conn.Read(p)
	if room := greetingKept - len(l.first); room > 0 {
		l.first = append(l.first, p[:min(room, n)]...)
	}
	return n, err
}

// line is the identification line, or the first one if there is none.
func (l *listened) line() string {
	first := ""
	for line := range bytes.Lines(l.first) {
		text := strings.TrimRight(string(line), "\r\n")
		if first == "" {
			first = text
		}
		if strings.HasPrefix(text, "SSH-") {
			return text
		}
	}
	return first
}

// Entered is what a login by key came to, beyond getting in or not.
type Entered struct {
	Took     bool   // the server asked for a signature: it would take the key
	Prompted bool   // it took the key, and asked for something besides
	Banner   string // what it said (RFC 4252 section 5.4)
}

// Enter logs in with a signer, and tells what the server said if it did not let it in.
func Enter(ctx context.Context, p Policy, t Target, signer ssh.Signer) (*Client, Entered, error) {
	var e Entered
	dialled, cancel := context.WithTimeout(ctx, probeTimeout)
	defer cancel()
	conn, err := p.dial(dialled, t)
	if err != nil {
		return nil, e, dialError(err)
	}
	l := lineOf(conn)
	stop := context.AfterFunc(dialled, func() { l.Close() })
	used := &usedFor{Signer: signer, signed: &e.Took}
	c, channels, requests, err := ssh.NewClientConn(l, t.Address, &ssh.ClientConfig{
		User: t.User, ClientVersion: "SSH-2.0-plumlatch-steward", HostKeyCallback: pinned(t.HostKeys),
		HostKeyAlgorithms: hostkeys.Algorithms(t.HostKeys),
		BannerCallback: func(message string) error {
			if e.Took { // what comes before greets everybody
				e.Banner = plaintext.Line(plaintext.Cut(strings.TrimSpace(message), 200))
			}
			return nil
		},
		Auth: []ssh.AuthMethod{ssh.PublicKeys(used),
			ssh.KeyboardInteractive(func(string, string, []string, []bool) ([]string, error) {
				e.Prompted = e.Took
				return nil, errAsked
			})},
	})
	if !stop() || err != nil {
		l.Close()
		if dialled.Err() != nil {
			err = errInTime
		}
		return nil, e, dialError(err)
	}
	return newClient(ctx, ssh.NewClient(c, channels, requests), l, lifeLimit), e, nil
}

// usedFor notes that a signer was asked to sign.
type usedFor struct {
	ssh.Signer
	signed *bool
}

// SignWithAlgorithm notes that the server would take the key, and signs (RFC 8332).
func (u *usedFor) SignWithAlgorithm(rand io.Reader, data []byte, algorithm string) (*ssh.Signature, error) {
	*u.signed = true
	if s, ok := u.Signer.(ssh.AlgorithmSigner); ok {
		return s.SignWithAlgorithm(rand, data, algorithm)
	}
	return u.Signer.Sign(rand, data)
}
