package client

import (
	"context"

	"plumlatch/core/wire"
)

// SetLogins begins a change of the ways of logging in to an instance, which the engineer's session carries out.
func (c *Client) SetLogins(ctx context.Context, instance string, r wire.SetLogins) (w wire.Work, err error) {
	return w, c.once(ctx, "POST", instancePath(instance, "logins"), r, &w)
}

// LoginsToChange tells what the engineer's session changes, and who may confirm it.
func (c *Client) LoginsToChange(ctx context.Context, work int64) (out wire.LoginsToChange, err error) {
	return out, c.do(ctx, "GET", workPath(work)+"/logins", nil, nil, &out)
}

// LoginsTold tells what came of it.
func (c *Client) LoginsTold(ctx context.Context, work int64, t wire.LoginsTold) error {
	return c.do(ctx, "POST", workPath(work)+"/logins", nil, t, nil)
}

// LoginsSeen tells what a way back on an instance did.
func (c *Client) LoginsSeen(ctx context.Context, instance string, said []string) error {
	return c.do(ctx, "POST", instancePath(instance, "logins-seen"), nil, wire.LoginsSeen{Said: said}, nil)
}
