package client

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"plumlatch/core/secrets"
	"plumlatch/core/wire"
)

// Work returns the pieces of work that the query (state, kind, instance, parent)
// chooses, the newest first; at most limit of them, all if it is 0.
func (c *Client) Work(ctx context.Context, query url.Values, limit int) ([]wire.Work, error) {
	if limit <= 0 {
		return all[wire.Work](ctx, c, "/work", query)
	}
	var page wire.List[wire.Work]
	query.Set("limit", strconv.Itoa(min(limit, 500)))
	err := c.do(ctx, "GET", "/work", query, nil, &page)
	return page.Items, err
}

func workPath(id int64) string { return "/work/" + strconv.FormatInt(id, 10) }

// WorkByID returns one piece of work with its steps.
func (c *Client) WorkByID(ctx context.Context, id int64) (w wire.Work, err error) {
	return w, c.do(ctx, "GET", workPath(id), nil, nil, &w)
}

// CancelWork asks that a piece of work go back.
func (c *Client) CancelWork(ctx context.Context, id int64) (w wire.Work, err error) {
	return w, c.do(ctx, "POST", workPath(id)+"/cancel", nil, nil, &w)
}

// RetryWork takes a piece of work up again.
func (c *Client) RetryWork(ctx context.Context, id int64) (w wire.Work, err error) {
	return w, c.do(ctx, "POST", workPath(id)+"/retry", nil, nil, &w)
}

// Adopt begins to adopt an instance; the answer has the lines to place for the steward.
func (c *Client) Adopt(ctx context.Context, a wire.Adoption) (out wire.Adopted, err error) {
	secrets.BlankAll(&a.Keys) // what stands on the instance
	return out, c.once(ctx, "POST", "/adoptions", a, &out)
}

// ReportLine tells the service what became of the steward's line, and keeps
// trying for a while: the work waits for it.
func (c *Client) ReportLine(ctx context.Context, id int64, r wire.LineReport) error {
	for begun := time.Now(); ; {
		err := c.do(ctx, "POST", workPath(id)+"/line", nil, r, nil)
		if err == nil || Definite(err) || ctx.Err() != nil || time.Since(begun) > patience {
			return err
		}
		if !pause(ctx, 300*time.Millisecond) {
			return err
		}
	}
}

// AdoptMany begins a piece of work that many adoptions are part of.
func (c *Client) AdoptMany(ctx context.Context, count int) (w wire.Work, err error) {
	return w, c.once(ctx, "POST", "/adopt-many", wire.AdoptMany{Count: count}, &w)
}

// CloseParts says that a piece of work gets no further parts.
func (c *Client) CloseParts(ctx context.Context, id int64) error {
	return c.do(ctx, "POST", workPath(id)+"/close", nil, nil, nil)
}

// patience is how long the service may be away while work is followed.
const patience = 2 * time.Minute

// Follow tells the events of a piece of work after the one numbered after,
// each once and in order, until the work is over, and returns it then. A
// connection that drops is made again, and goes on after the last event.
func (c *Client) Follow(ctx context.Context, id int64, after int, tell func(wire.WorkEvent)) (wire.Work, error) {
	lost := time.Time{}
	for {
		w, last, err := c.follow(ctx, id, after, tell)
		if err == nil && w != nil {
			return *w, nil
		}
		if last > after {
			after, lost = last, time.Time{}
		}
		if p, ok := errors.AsType[*Problem](err); ok && p.Status < 500 {
			return wire.Work{}, err
		}
		if ctx.Err() != nil {
			return wire.Work{}, ctx.Err()
		}
		if lost.IsZero() {
			lost = time.Now()
		} else if time.Since(lost) > patience {
			return wire.Work{}, err
		}
		select {
		case <-ctx.Done():
			return wire.Work{}, ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

const maxLine = 1 << 20

// follow reads one stream of server-sent events. It returns the work if the
// stream came to the work's end, and the number of the last event in any case.
func (c *Client) follow(ctx context.Context, id int64, after int, tell func(wire.WorkEvent)) (*wire.Work, int, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	silent := time.AfterFunc(quietLimit, cancel)
	defer silent.Stop()
	req, err := http.NewRequestWithContext(ctx, "GET", c.url+"/api/v1"+workPath(id)+"/events", nil)
	if err != nil {
		return nil, after, err
	}
	req.Header.Set("Authorization", "Bearer "+c.token)
	req.Header.Set("Accept", "text/event-stream")
	if after > 0 {
		req.Header.Set("Last-Event-ID", strconv.Itoa(after))
	}
	endless := *c.http
	endless.Timeout = 0 // a stream lasts as long as the work
	resp, err := endless.Do(req)
	if err != nil {
		return nil, after, &Unreachable{c.url, err}
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, after, c.problem(resp)
	}
	lines := bufio.NewScanner(lively{resp.Body, silent})
	lines.Buffer(nil, maxLine)
	kind, data := "", ""
	for lines.Scan() {
		field, value, _ := strings.Cut(lines.Text(), ": ")
		switch field {
		case "event":
			kind = value
		case "data":
			data = value
		case "":
			var e wire.WorkEvent
			var w wire.Work
			switch {
			case kind == "end" && json.Unmarshal([]byte(data), &w) == nil:
				return &w, after, nil
			case data != "" && json.Unmarshal([]byte(data), &e) == nil && e.N > after:
				after = e.N
				if tell != nil {
					tell(e)
				}
			}
			kind, data = "", ""
		}
	}
	return nil, after, &Unreachable{c.url, errors.Join(errors.New("the stream of events broke off"), lines.Err())}
}
