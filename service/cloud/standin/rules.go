package standin

import (
	"context"
	"fmt"
	"net/netip"
	"net/url"

	"plumlatch/core/inbound"
	"plumlatch/service/cloud"
)

type rule struct {
	ID   string `json:"id"`
	From string `json:"from"`
	// Ports besides the SSH port; "" for that.
	Ports string `json:"ports"`
	Note  string `json:"note"`
}

func (r rule) show() (cloud.Rule, error) {
	p, err := netip.ParsePrefix(r.From)
	if err != nil {
		return cloud.Rule{}, fmt.Errorf("%w: a rule that cannot be read", cloud.ErrFailed)
	}
	out := cloud.Rule{ID: r.ID, From: p, Note: r.Note}
	if r.Ports != "" {
		if out.Ports, err = inbound.ParsePorts(r.Ports); err != nil {
			return cloud.Rule{}, fmt.Errorf("%w: a rule that cannot be read", cloud.ErrFailed)
		}
	}
	return out, nil
}

type group struct {
	ID      string   `json:"id"`
	Name    string   `json:"name"`
	Own     string   `json:"own"`
	Rules   []rule   `json:"rules"`
	Members []string `json:"members"`
}

func (g group) show() (cloud.Group, error) {
	out := cloud.Group{ID: g.ID, Name: g.Name, Own: g.Own != "", Members: g.Members}
	for _, r := range g.Rules {
		shown, err := r.show()
		if err != nil {
			return out, err
		}
		out.Rules = append(out.Rules, shown)
	}
	return out, nil
}

type address struct {
	ID       string `json:"id"`
	Address  string `json:"address"`
	Region   string `json:"region"`
	Name     string `json:"name"`
	Instance string `json:"instance"`
}

func (a address) show() cloud.StaticAddress {
	return cloud.StaticAddress{ID: a.ID, Name: a.Name, Region: a.Region, Address: a.Address, Instance: a.Instance}
}

// List returns every instance of a region that is not removed.
func (d *Driver) List(ctx context.Context, region string) ([]cloud.Instance, error) {
	var all []instance
	if err := d.call(ctx, "GET", "/v1/instances?region="+url.QueryEscape(region), nil, &all); err != nil {
		return nil, err
	}
	var out []cloud.Instance
	for _, i := range all {
		if cloud.State(i.State) != cloud.Removed {
			out = append(out, i.show())
		}
	}
	return out, nil
}

// Groups returns the groups of an instance.
func (d *Driver) Groups(ctx context.Context, id string) ([]cloud.Group, error) {
	var all []group
	if err := d.call(ctx, "GET", "/v1/instances/"+url.PathEscape(id)+"/groups", nil, &all); err != nil {
		return nil, err
	}
	var out []cloud.Group
	for _, g := range all {
		shown, err := g.show()
		if err != nil {
			return nil, err
		}
		out = append(out, shown)
	}
	return out, nil
}

// OwnGroup returns the group of an instance's own.
func (d *Driver) OwnGroup(ctx context.Context, clientToken, id string) (cloud.Group, error) {
	var g group
	if err := d.call(ctx, "POST", "/v1/instances/"+url.PathEscape(id)+"/own-group",
		map[string]string{"client_token": clientToken}, &g); err != nil {
		return cloud.Group{}, err
	}
	return g.show()
}

// Admit adds a rule to a group.
func (d *Driver) Admit(ctx context.Context, clientToken, groupID string, from netip.Prefix,
	ports inbound.Ports, note string) (cloud.Rule, error) {
	var r rule
	body := map[string]string{"client_token": clientToken, "from": from.String(), "ports": ports.String(), "note": note}
	if err := d.call(ctx, "POST", "/v1/groups/"+url.PathEscape(groupID)+"/rules", body, &r); err != nil {
		return cloud.Rule{}, err
	}
	return r.show()
}

// Unadmit takes a rule out of a group.
func (d *Driver) Unadmit(ctx context.Context, clientToken, groupID, ruleID string) error {
	var done struct{}
	return d.call(ctx, "DELETE", "/v1/groups/"+url.PathEscape(groupID)+"/rules/"+url.PathEscape(ruleID)+
		"?client_token="+url.QueryEscape(clientToken), nil, &done)
}

// StaticAddresses returns the static addresses of a region, or all.
func (d *Driver) StaticAddresses(ctx context.Context, region string) ([]cloud.StaticAddress, error) {
	var all []address
	if err := d.call(ctx, "GET", "/v1/addresses?region="+url.QueryEscape(region), nil, &all); err != nil {
		return nil, err
	}
	var out []cloud.StaticAddress
	for _, a := range all {
		out = append(out, a.show())
	}
	return out, nil
}

func (d *Driver) address(ctx context.Context, path string, body map[string]string) (cloud.StaticAddress, error) {
	var a address
	err := d.call(ctx, "POST", path, body, &a)
	return a.show(), err
}

// Reserve takes a static address.
func (d *Driver) Reserve(ctx context.Context, clientToken, region, name string) (cloud.StaticAddress, error) {
	return d.address(ctx, "/v1/addresses",
		map[string]string{"client_token": clientToken, "region": region, "name": name})
}

// Move gives a static address to an instance, or to none.
func (d *Driver) Move(ctx context.Context, clientToken, addressID, id string) (cloud.StaticAddress, error) {
	return d.address(ctx, "/v1/addresses/"+url.PathEscape(addressID)+"/move",
		map[string]string{"client_token": clientToken, "instance": id})
}

// Release gives a static address back.
func (d *Driver) Release(ctx context.Context, clientToken, addressID string) error {
	var done struct{}
	return d.call(ctx, "DELETE", "/v1/addresses/"+url.PathEscape(addressID)+"?client_token="+
		url.QueryEscape(clientToken), nil, &done)
}
