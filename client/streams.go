package client

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"github.com/coder/websocket"

	"plumlatch/core/wire"
	"plumlatch/stream"
)

// OpenStream opens a stream to an instance; it waits for half a minute to be carried (Carry).
func (c *Client) OpenStream(ctx context.Context, instance string, r wire.NewStream) (s wire.StreamBegun, err error) {
	for tries := 0; ; tries++ {
		err = c.do(ctx, "POST", instancePath(instance, "streams"), nil, r, &s)
		if p, ok := errors.AsType[*Problem](err); !ok || !p.Of("agent-elsewhere") || tries == replicaTries {
			return s, err
		}
		c.http.CloseIdleConnections() // a new one may lead to the replica that has the agent
		select {
		case <-ctx.Done():
			return s, ctx.Err()
		case <-time.After(replicaPause):
		}
	}
}

// How often it is asked again for a replica of the service that has the agent.
const (
	replicaTries = 20
	replicaPause = 200 * time.Millisecond
)

// Streams lists those of an instance, "" for all; with open only those that are.
func (c *Client) Streams(ctx context.Context, instance string, open bool) ([]wire.Stream, error) {
	q := url.Values{}
	if instance != "" {
		q.Set("instance", instance)
	}
	if open {
		q.Set("open", "true")
	}
	var out wire.List[wire.Stream]
	return out.Items, c.do(ctx, "GET", "/streams", q, nil, &out)
}

// EndStream has one ended.
func (c *Client) EndStream(ctx context.Context, id int64) error {
	return c.do(ctx, "DELETE", fmt.Sprintf("/streams/%d", id), nil, nil, nil)
}

// Carry carries an opened stream, over as many connections as it takes, until it is over or ctx ends.
func (c *Client) Carry(ctx context.Context, s wire.StreamBegun, conn *stream.Conn) error {
	dial := func(ctx context.Context) (*websocket.Conn, error) {
		header := http.Header{"Authorization": {"Bearer " + c.token}}
		whole := *c.http
		whole.Timeout = 0 // ctx ends what takes too long; a stream does not
		ws, answer, err := websocket.Dial(ctx, fmt.Sprintf("%s/api/v1/streams/%d/bytes", c.url, s.ID), &websocket.DialOptions{HTTPClient: &whole, HTTPHeader: header,
			CompressionMode: websocket.CompressionDisabled})
		if err == nil || answer == nil {
			return ws, err
		}
		text, _ := io.ReadAll(io.LimitReader(answer.Body, maxAnswer)) // what a refusal says
		problem, _ := errors.AsType[*Problem](c.problemOf(answer, text))
		if answer.StatusCode < 500 {
			return nil, stream.Refused{Reason: problem.Error()}
		}
		return nil, problem
	}
	return conn.Keep(ctx, dial, s.Secret)
}
