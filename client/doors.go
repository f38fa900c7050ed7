package client

import (
	"context"
	"net/url"

	"plumlatch/core/wire"
)

func instancePath(name, what string) string { return "/instances/" + url.PathEscape(name) + "/" + what }

// Why asks the service what it sees of an instance's door.
func (c *Client) Why(ctx context.Context, name string, r wire.WhyRequest) (out wire.WhyAnswer, err error) {
	return out, c.do(ctx, "POST", instancePath(name, "why"), nil, r, &out)
}

// Refresh has the service take down what the cloud says of an instance now, or where an adopted one has gone.
func (c *Client) Refresh(ctx context.Context, name string, r wire.Refresh) (out wire.Refreshed, err error) {
	return out, c.do(ctx, "POST", instancePath(name, "refresh"), nil, r, &out)
}

// Rules returns whom the inbound rules of an instance let in.
func (c *Client) Rules(ctx context.Context, name string) (out wire.Rules, err error) {
	return out, c.do(ctx, "GET", instancePath(name, "rules"), nil, nil, &out)
}

// Admit begins to let address ranges in.
func (c *Client) Admit(ctx context.Context, name string, r wire.Admit) (w wire.Work, err error) {
	return w, c.once(ctx, "POST", instancePath(name, "rules"), r, &w)
}

// Unadmit begins to withdraw rules.
func (c *Client) Unadmit(ctx context.Context, name string, r wire.Unadmit) (w wire.Work, err error) {
	return w, c.once(ctx, "POST", instancePath(name, "unadmit"), r, &w)
}

// HostKey sets the recorded host keys of an instance beside what answers.
func (c *Client) HostKey(ctx context.Context, name string) (out wire.HostKeyState, err error) {
	return out, c.do(ctx, "GET", instancePath(name, "host-key"), nil, nil, &out)
}

// AcceptHostKey records the host key that answers in the place of the old.
func (c *Client) AcceptHostKey(ctx context.Context, name string, r wire.AcceptHostKey) (out wire.HostKeyState,
	err error) {
	return out, c.do(ctx, "POST", instancePath(name, "host-key"), nil, r, &out)
}

// BootLog returns what an instance printed on its console.
func (c *Client) BootLog(ctx context.Context, name string) (out wire.BootLog, err error) {
	return out, c.do(ctx, "GET", instancePath(name, "boot-log"), nil, nil, &out)
}

// StaticAddresses returns the static addresses of a region, or all.
func (c *Client) StaticAddresses(ctx context.Context, region string) ([]wire.StaticAddress, error) {
	return all[wire.StaticAddress](ctx, c, "/static-addresses", url.Values{"region": {region}})
}

// Reserve begins to reserve a static address.
func (c *Client) Reserve(ctx context.Context, n wire.NewStaticAddress) (w wire.Work, err error) {
	return w, c.once(ctx, "POST", "/static-addresses", n, &w)
}

// MoveAddress begins to give a static address to an instance, or to nobody with "".
func (c *Client) MoveAddress(ctx context.Context, name, instance string) (w wire.Work, err error) {
	return w, c.once(ctx, "POST", "/static-addresses/"+url.PathEscape(name)+"/move",
		wire.MoveAddress{Instance: instance}, &w)
}

// Release begins to give a static address back.
func (c *Client) Release(ctx context.Context, name string) (w wire.Work, err error) {
	return w, c.once(ctx, "DELETE", "/static-addresses/"+url.PathEscape(name), nil, &w)
}
