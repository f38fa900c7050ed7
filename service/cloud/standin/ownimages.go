package standin

import (
	"context"
	"fmt"
	"net/url"

	"plumlatch/service/cloud"
)

// ownImage is an image of one's own, as the stand-in shows it.
type ownImage struct {
	ID       string            `json:"id"`
	Name     string            `json:"name"`
	Instance string            `json:"instance"`
	Region   string            `json:"region"`
	GB       int               `json:"gb"`
	State    string            `json:"state"`
	Ran      bool              `json:"ran"`
	Tags     map[string]string `json:"tags"`
}

func (i ownImage) image() cloud.OwnImage {
	return cloud.OwnImage{ID: i.ID, Name: i.Name, Instance: i.Instance, Region: i.Region, GB: i.GB, Ready: i.State == "ready", Ran: i.Ran,
		Tags: i.Tags}
}

// MakeImage begins to make an image of an instance.
func (d *Driver) MakeImage(ctx context.Context, clientToken, id, name string, tags map[string]string) (cloud.OwnImage, error) {
	var i ownImage
	err := d.call(ctx, "POST", "/v1/own-images", map[string]any{"client_token": clientToken, "instance": id, "name": name, "tags": tags}, &i)
	return i.image(), err
}

// OwnImage returns one.
func (d *Driver) OwnImage(ctx context.Context, imageID string) (cloud.OwnImage, error) {
	var i ownImage
	err := d.call(ctx, "GET", "/v1/own-images/"+url.PathEscape(imageID), nil, &i)
	return i.image(), err
}

// OwnImages returns those of a region.
func (d *Driver) OwnImages(ctx context.Context, region string) ([]cloud.OwnImage, error) {
	var all []ownImage
	err := d.call(ctx, "GET", "/v1/own-images?region="+url.QueryEscape(region), nil, &all)
	var out []cloud.OwnImage
	for _, i := range all {
		out = append(out, i.image())
	}
	return out, err
}

// RemoveImage removes one.
func (d *Driver) RemoveImage(ctx context.Context, _, imageID string) error {
	return d.call(ctx, "DELETE", "/v1/own-images/"+url.PathEscape(imageID), nil, new(struct{}))
}

// admitted are the networks that one which begins shut lets in.
func admitted(s *cloud.Shut) (out []string) {
	if s != nil {
		for _, p := range s.Admit {
			out = append(out, p.String())
		}
	}
	return out
}

// SetGroups gives an instance other shared groups.
func (d *Driver) SetGroups(ctx context.Context, clientToken, id string, groupIDs []string) error {
	return d.call(ctx, "POST", "/v1/instances/"+url.PathEscape(id)+"/groups", map[string]any{"client_token": clientToken,
		"groups": append([]string{}, groupIDs...)}, new(struct{}))
}

// SetOutbound shuts or opens what leads out of an instance.
func (d *Driver) SetOutbound(ctx context.Context, clientToken, id string, open bool) error {
	if d.OutStaysOpen {
		return fmt.Errorf("%w: this cloud shuts no way out", cloud.ErrRefused)
	}
	return d.call(ctx, "POST", "/v1/instances/"+url.PathEscape(id)+"/outbound", map[string]any{"client_token": clientToken, "open": open},
		new(struct{}))
}
