package client

import (
	"context"
	"net/url"

	"plumlatch/core/wire"
)

// Routes compares the ways back into an instance. With ask the service asks its
// server now which keys it takes.
func (c *Client) Routes(ctx context.Context, name string, ask bool) (out wire.Routes, err error) {
	return out, c.do(ctx, "POST", instancePath(name, "routes"), nil, wire.CompareRoutes{Ask: ask}, &out)
}

// Restore begins to carry out a way back in.
func (c *Client) Restore(ctx context.Context, name string, r wire.Restore) (w wire.Work, err error) {
	return w, c.once(ctx, "POST", instancePath(name, "restore"), r, &w)
}

// PlanRehearsal tells what a rehearsal of a way back in would do, take and cost.
func (c *Client) PlanRehearsal(ctx context.Context, name string, r wire.Rehearse) (p wire.RehearsalPlan, err error) {
	return p, c.do(ctx, "POST", instancePath(name, "rehearsals/plan"), nil, r, &p)
}

// Rehearse begins to carry a way back in out on a copy.
func (c *Client) Rehearse(ctx context.Context, name string, r wire.Rehearse) (w wire.Work, err error) {
	return w, c.once(ctx, "POST", instancePath(name, "rehearsals"), r, &w)
}

// Rehearsals tells what the last ones of an instance came to, the newest first.
func (c *Client) Rehearsals(ctx context.Context, name string) ([]wire.Rehearsed, error) {
	var out wire.List[wire.Rehearsed]
	err := c.do(ctx, "GET", instancePath(name, "rehearsals"), nil, nil, &out)
	return out.Items, err
}

// RestoreReady tells, of every instance with a tag (all for ""), which ways back in are open today.
func (c *Client) RestoreReady(ctx context.Context, tag string) ([]wire.ReadyRow, error) {
	var out wire.List[wire.ReadyRow]
	err := c.do(ctx, "GET", "/restore-ready", url.Values{"tag": {tag}}, nil, &out)
	return out.Items, err
}

// PlanRestoreMany tells which instances only a lost key opened, and by which route each would be restored.
func (c *Client) PlanRestoreMany(ctx context.Context, r wire.RestoreMany) (p wire.FleetPlan, err error) {
	return p, c.do(ctx, "POST", "/restores/plan", nil, r, &p)
}

// RestoreMany begins to restore them.
func (c *Client) RestoreMany(ctx context.Context, r wire.RestoreMany) (w wire.Work, err error) {
	return w, c.once(ctx, "POST", "/restores", r, &w)
}

// RestoreLines are what somebody with another way in adds to an instance's file.
func (c *Client) RestoreLines(ctx context.Context, id int64) (out wire.RestoreLines, err error) {
	return out, c.do(ctx, "GET", workPath(id)+"/lines", nil, nil, &out)
}

// ReportPlaced tells that the lines stand.
func (c *Client) ReportPlaced(ctx context.Context, id int64, r wire.PlacedReport) error {
	return c.do(ctx, "POST", workPath(id)+"/placed", nil, r, nil)
}

// CopyDoor tells where services are started on a copy.
func (c *Client) CopyDoor(ctx context.Context, id int64) (out wire.CopyDoor, err error) {
	return out, c.do(ctx, "GET", workPath(id)+"/copy-door", nil, nil, &out)
}

// ReportEnabled says which services were started there.
func (c *Client) ReportEnabled(ctx context.Context, id int64, e wire.EnabledServices) error {
	return c.do(ctx, "POST", workPath(id)+"/enabled", nil, e, nil)
}

// RescueDoor tells where files are copied out of a volume.
func (c *Client) RescueDoor(ctx context.Context, id int64) (out wire.RescueDoor, err error) {
	return out, c.do(ctx, "GET", workPath(id)+"/rescue-door", nil, nil, &out)
}

// ReportFetched tells what was copied out.
func (c *Client) ReportFetched(ctx context.Context, id int64, r wire.Fetched) error {
	return c.do(ctx, "POST", workPath(id)+"/fetched", nil, r, nil)
}

// Report returns what is to be known of a restore.
func (c *Client) Report(ctx context.Context, id int64) (out wire.Report, err error) {
	return out, c.do(ctx, "GET", workPath(id)+"/report", nil, nil, &out)
}

// ChangeChecks adds or removes what "works" means for an instance.
func (c *Client) ChangeChecks(ctx context.Context, name string, r wire.CheckChange) error {
	return c.do(ctx, "POST", instancePath(name, "checks"), nil, r, nil)
}

// RescueTerms shows what a rescue instance is opened with for a piece of work.
func (c *Client) RescueTerms(ctx context.Context) (out wire.RescueTerms, err error) {
	return out, c.do(ctx, "GET", "/rescue-terms", nil, nil, &out)
}

// SetRescue says that an instance rescues others, or no longer.
func (c *Client) SetRescue(ctx context.Context, name string, r wire.RescueChange) error {
	return c.do(ctx, "POST", instancePath(name, "rescue"), nil, r, nil)
}

// Permit asks the guard for the permit to take lines out again that were added here.
func (c *Client) Permit(ctx context.Context, id int64, r wire.PermitRequest) (p wire.SignedPermit, err error) {
	return p, c.do(ctx, "POST", workPath(id)+"/permit", nil, r, &p)
}
