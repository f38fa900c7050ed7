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

// ReportNewLogin tells that a login with the new key of a rotation was let in. It
// counts with the key's signature.
func (c *Client) ReportNewLogin(ctx context.Context, id int64, r wire.LoginReport) error {
	return c.do(ctx, "POST", workPath(id)+"/login", nil, r, nil)
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

// PlanFleet tells which instances a rotation of many would take, in which waves.
func (c *Client) PlanFleet(ctx context.Context, f wire.Fleet) (p wire.FleetPlan, err error) {
	return p, c.do(ctx, "POST", "/rotations/plan", nil, f, &p)
}

// RotateMany begins a rotation of many.
func (c *Client) RotateMany(ctx context.Context, f wire.Fleet) (w wire.Work, err error) {
	return w, c.once(ctx, "POST", "/rotations", f, &w)
}

// Fleet shows the members of a rotation of many, and how far each is.
func (c *Client) Fleet(ctx context.Context, id int64) (p wire.FleetPlan, err error) {
	return p, c.do(ctx, "GET", workPath(id)+"/fleet", nil, nil, &p)
}

// PauseFleet has no further wave of a rotation of many begin.
func (c *Client) PauseFleet(ctx context.Context, id int64) (w wire.Work, err error) {
	return w, c.do(ctx, "POST", workPath(id)+"/pause", nil, nil, &w)
}

// GoOnFleet lets a rotation of many go on, after a pause or failures.
func (c *Client) GoOnFleet(ctx context.Context, id int64) (w wire.Work, err error) {
	return w, c.do(ctx, "POST", workPath(id)+"/go-on", nil, nil, &w)
}

// PlanMany tells which instances a change of access would take.
func (c *Client) PlanMany(ctx context.Context, r wire.AccessMany) (p wire.FleetPlan, err error) {
	return p, c.do(ctx, "POST", "/access/many/plan", nil, r, &p)
}

// ChangeMany begins a change of access on many instances.
func (c *Client) ChangeMany(ctx context.Context, r wire.AccessMany) (w wire.Work, err error) {
	return w, c.once(ctx, "POST", "/access/many", r, &w)
}

// Word tells what a piece of work waits for before it begins.
func (c *Client) Word(ctx context.Context, id int64) (w wire.Word, err error) {
	return w, c.do(ctx, "GET", workPath(id)+"/word", nil, nil, &w)
}

// GiveWord lets a piece of work begin: by a signature, or as another operator without one.
func (c *Client) GiveWord(ctx context.Context, id int64, signature string) (w wire.Work, err error) {
	return w, c.do(ctx, "POST", workPath(id)+"/word", nil, wire.GiveWord{Signature: signature}, &w)
}

// RotateSteward begins to replace the service's own key on an instance.
func (c *Client) RotateSteward(ctx context.Context, name string) (w wire.Work, err error) {
	return w, c.once(ctx, "POST", instancePath(name, "steward-key"), struct{}{}, &w)
}
