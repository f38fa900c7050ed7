package agent

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net"
	"sync"
	"time"

	"plumlatch/core/agentcalls"
	"plumlatch/core/plaintext"
	"plumlatch/reach"
)

// streams holds those that are carried at one time; further ones are refused.
var streams = make(chan struct{}, agentcalls.MaxStreams)

// Times of a stream. The service ends it long before; this is for one that does not.
const (
	streamDial    = 10 * time.Second
	streamLongest = 7 * 24 * time.Hour
)

// stream carries the bytes of an SSH connection between the service and the machine's own server, if that is what a channel asks for: an answer on a line
// of its own comes first, then the server's bytes, as they are. It waits for none of the calls that change something.
func (a *Agent) stream(ctx context.Context, ch *reach.Channel, head []byte) bool {
	var asked agentcalls.Call
	if json.Unmarshal(head, &asked) != nil || asked.Request.Verb != agentcalls.Stream {
		return false
	}
	conn, err := a.openStream(ctx, head)
	answer := agentcalls.Answer{}
	if err != nil {
		answer = agentcalls.Answer{Code: agentcalls.CodeOf(err), Said: plaintext.Line(plaintext.Cut(err.Error(), 400))}
		var no refused
		if errors.As(err, &no) {
			answer.Code = agentcalls.Refused
		}
	} else {
		defer func() { <-streams }()
		defer conn.Close()
		from, _, _ := net.SplitHostPort(conn.LocalAddr().String())
		answer.Result, _ = json.Marshal(agentcalls.StreamBegins{From: from}) // of one text: it does not fail
	}
	text, wrong := json.Marshal(answer)
	if wrong == nil {
		_, wrong = ch.Write(append(text, '\n'))
	}
	if err != nil || wrong != nil {
		_ = ch.CloseWrite()
		return true
	}
	a.Log.Info("a stream begins", "to", conn.RemoteAddr().String())
	ctx, cancel := context.WithTimeout(ctx, streamLongest)
	defer cancel()
	defer context.AfterFunc(ctx, func() { ch.Close(); conn.Close() })()
	var both sync.WaitGroup
	both.Go(func() {
		_, err := io.Copy(conn, ch)
		if half, ok := conn.(interface{ CloseWrite() error }); ok && err == nil {
			_ = half.CloseWrite()
			return
		}
		conn.Close() // whoever asked is gone
	})
	both.Go(func() {
		if _, err := io.Copy(ch, conn); err != nil {
			ch.Close()
			return
		}
		_ = ch.CloseWrite()
	})
	both.Wait()
	a.Log.Info("a stream ended")
	return true
}

// openStream judges the call and dials. Its place among the streams is taken if there is no error.
func (a *Agent) openStream(ctx context.Context, head []byte) (net.Conn, error) {
	if _, _, err := a.judged(head); err != nil {
		return nil, err
	}
	select {
	case streams <- struct{}{}:
	default:
		return nil, Refuse("it carries %d streams already", agentcalls.MaxStreams)
	}
	ctx, cancel := context.WithTimeout(ctx, streamDial)
	defer cancel()
	conn, err := a.machine().SSH(ctx)
	if err != nil {
		<-streams
		return nil, err
	}
	return conn, nil
}

// SSH dials where the SSH server that runs here listens, by its own settings.
func (here) SSH(ctx context.Context) (net.Conn, error) {
	at, err := reach.OwnSSH(ctx, onIt)
	if err != nil {
		return nil, Refuse("%v", err)
	}
	var d net.Dialer
	return d.DialContext(ctx, "tcp", at.String())
}
