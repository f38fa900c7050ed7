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

// SetUser begins a change of an instance's users, which the engineer's session carries out.
func (c *Client) SetUser(ctx context.Context, instance string, r wire.SetUser) (w wire.Work, err error) {
	return w, c.once(ctx, "POST", instancePath(instance, "users"), r, &w)
}

// UserToChange tells what the engineer's session does there.
func (c *Client) UserToChange(ctx context.Context, work int64) (out wire.UserToChange, err error) {
	return out, c.do(ctx, "GET", workPath(work)+"/user", nil, nil, &out)
}

// UserTold tells what came of it.
func (c *Client) UserTold(ctx context.Context, work int64, t wire.UserTold) error {
	return c.do(ctx, "POST", workPath(work)+"/user", nil, t, nil)
}
