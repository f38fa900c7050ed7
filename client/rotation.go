package client

import (
	"context"

	"plumlatch/core/wire"
)

// PlanRotation tells what a rotation of an instance would do.
func (c *Client) PlanRotation(ctx context.Context, name string, r wire.Rotate) (p wire.RotationPlan, err error) {
	return p, c.do(ctx, "POST", instancePath(name, "rotation-plan"), nil, r, &p)
}

// Rotate begins to put a new key in the place of an old one on one instance.
func (c *Client) Rotate(ctx context.Context, name string, r wire.Rotate) (w wire.Work, err error) {
	return w, c.once(ctx, "POST", instancePath(name, "rotate"), r, &w)
}

// ReportNewLogin tells that a login with the new key of a rotation was let in.
func (c *Client) ReportNewLogin(ctx context.Context, id int64, fingerprint string) error {
	return c.do(ctx, "POST", workPath(id)+"/login", nil, wire.LoginReport{Fingerprint: fingerprint}, nil)
}

// AddAccess begins to let a key open an instance besides those that do.
func (c *Client) AddAccess(ctx context.Context, name string, r wire.AccessAdd) (w wire.Work, err error) {
	return w, c.once(ctx, "POST", instancePath(name, "access-add"), r, &w)
}

// RemoveAccess begins to withdraw a key from an instance.
func (c *Client) RemoveAccess(ctx context.Context, name string, r wire.AccessRemove) (w wire.Work, err error) {
	return w, c.once(ctx, "POST", instancePath(name, "access-remove"), r, &w)
}

// ExtendAccess begins to give an access another end.
func (c *Client) ExtendAccess(ctx context.Context, name string, r wire.AccessExtend) (w wire.Work, err error) {
	return w, c.once(ctx, "POST", instancePath(name, "access-extend"), r, &w)
}
