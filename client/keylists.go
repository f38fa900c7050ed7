package client

import (
	"context"
	"fmt"

	"plumlatch/core/wire"
)

// KeyLists reads the cloud's own lists of keys, set against the ledger.
func (c *Client) KeyLists(ctx context.Context, l wire.LookKeyLists) (out wire.KeyLists, err error) {
	return out, c.do(ctx, "POST", "/cloud-keys/look", nil, l, &out)
}

// ListKey begins to take a key of the ledger into lists of the cloud.
func (c *Client) ListKey(ctx context.Context, l wire.ListKey) (w wire.Work, err error) {
	return w, c.once(ctx, "POST", "/cloud-keys", l, &w)
}

// UnlistKey begins to take entries out of lists of the cloud.
func (c *Client) UnlistKey(ctx context.Context, u wire.UnlistKey) (w wire.Work, err error) {
	return w, c.once(ctx, "POST", "/cloud-keys/removals", u, &w)
}

// PlacedKeys returns the keys that the cloud's agent places on an instance.
func (c *Client) PlacedKeys(ctx context.Context, instance string) ([]wire.PlacedKey, error) {
	return all[wire.PlacedKey](ctx, c, instancePath(instance, "placed-keys"), nil)
}

// PlaceKey has the cloud's own agent let a key in to an instance.
func (c *Client) PlaceKey(ctx context.Context, instance string, p wire.PlaceKey) (w wire.Work, err error) {
	return w, c.once(ctx, "POST", instancePath(instance, "placed-keys"), p, &w)
}

// Lend has the cloud lend a key for a restore that waits for it.
func (c *Client) Lend(ctx context.Context, work int64, publicLine string) (l wire.Lent, err error) {
	return l, c.do(ctx, "POST", fmt.Sprintf("/work/%d/lend", work), nil, wire.LendKey{PublicKey: publicLine}, &l)
}

// LendTo has the cloud lend a key for one login, and says why.
func (c *Client) LendTo(ctx context.Context, instance, publicLine, reason string) (l wire.Lent, err error) {
	return l, c.do(ctx, "POST", instancePath(instance, "lend"), nil, wire.LendKey{PublicKey: publicLine, Reason: reason}, &l)
}

// FirstPassword returns the first password of an instance without SSH, as it is encrypted to its launch key.
func (c *Client) FirstPassword(ctx context.Context, instance string) (p wire.SealedPassword, err error) {
	return p, c.do(ctx, "POST", instancePath(instance, "password"), nil, nil, &p)
}

// PasswordChanged records that the first password of an instance was changed there.
func (c *Client) PasswordChanged(ctx context.Context, instance string) (p wire.FirstPassword, err error) {
	return p, c.do(ctx, "POST", instancePath(instance, "password/changed"), nil, nil, &p)
}
