package client

import (
	"context"
	"net/url"
	"strconv"

	"plumlatch/core/wire"
)

// CompareBook sets a keybook against the ledger, and changes nothing.
func (c *Client) CompareBook(ctx context.Context, t wire.KeybookText) (d wire.KeybookCompared, err error) {
	return d, c.do(ctx, "POST", "/keybooks/compare", nil, t, &d)
}

// SettleBook begins to settle a keybook.
func (c *Client) SettleBook(ctx context.Context, r wire.KeybookSettle) (w wire.Work, err error) {
	return w, c.once(ctx, "POST", "/keybooks", r, &w)
}

// WriteBook returns the text of what is there.
func (c *Client) WriteBook(ctx context.Context, r wire.KeybookWrite) (string, error) {
	var out wire.KeybookWritten
	return out.Text, c.do(ctx, "POST", "/keybooks/write", nil, r, &out)
}

// Books lists the keybooks that were settled, the newest first: at most 100.
func (c *Client) Books(ctx context.Context, name string) ([]wire.Keybook, error) {
	var l wire.List[wire.Keybook]
	return l.Items, c.do(ctx, "GET", "/keybooks", url.Values{"name": {name}, "limit": {"100"}}, nil, &l)
}

// Book returns one of them, with its text.
func (c *Client) Book(ctx context.Context, work int64) (b wire.Keybook, err error) {
	return b, c.do(ctx, "GET", "/keybooks/"+strconv.FormatInt(work, 10), nil, nil, &b)
}

// Tag gives an instance tags in the ledger, and takes some away.
func (c *Client) Tag(ctx context.Context, instance string, t wire.TagChange) error {
	return c.do(ctx, "POST", "/instances/"+url.PathEscape(instance)+"/tags", nil, t, nil)
}
