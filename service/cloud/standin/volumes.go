package standin

import (
	"context"
	"net/url"
	"time"

	"plumlatch/service/cloud"
)

type volume struct {
	ID       string `json:"id"`
	Zone     string `json:"zone"`
	SizeGB   int    `json:"size_gb"`
	State    string `json:"state"`
	Instance string `json:"instance"`
	Device   string `json:"device"`
	Note     string `json:"note"`
}

func (v volume) show() cloud.Volume {
	return cloud.Volume{ID: v.ID, Zone: v.Zone, SizeGB: v.SizeGB, State: cloud.VolumeState(v.State),
		Instance: v.Instance, Device: v.Device, Note: v.Note}
}

func (d *Driver) volume(ctx context.Context, method, path string, body any) (cloud.Volume, error) {
	var v volume
	err := d.call(ctx, method, path, body, &v)
	return v.show(), err
}

// Volumes returns the volumes that are attached to an instance.
func (d *Driver) Volumes(ctx context.Context, id string) ([]cloud.Volume, error) {
	var all []volume
	err := d.call(ctx, "GET", "/v1/instances/"+url.PathEscape(id)+"/volumes", nil, &all)
	var out []cloud.Volume
	for _, v := range all {
		out = append(out, v.show())
	}
	return out, err
}

// Volume returns one volume.
func (d *Driver) Volume(ctx context.Context, volumeID string) (cloud.Volume, error) {
	return d.volume(ctx, "GET", "/v1/volumes/"+url.PathEscape(volumeID), nil)
}

// Detach begins to take a volume from its instance.
func (d *Driver) Detach(ctx context.Context, clientToken, volumeID, note string) (cloud.Volume, error) {
	return d.volume(ctx, "POST", "/v1/volumes/"+url.PathEscape(volumeID)+"/detach",
		map[string]string{"client_token": clientToken, "note": note})
}

// Attach begins to give a volume to an instance.
func (d *Driver) Attach(ctx context.Context, clientToken, volumeID, id, device, note string) (cloud.Volume, error) {
	return d.volume(ctx, "POST", "/v1/volumes/"+url.PathEscape(volumeID)+"/attach",
		map[string]string{"client_token": clientToken, "instance": id, "device": device, "note": note})
}

// UserData returns what an instance reads when it boots.
func (d *Driver) UserData(ctx context.Context, id string) (text string, err error) {
	return text, d.call(ctx, "GET", "/v1/instances/"+url.PathEscape(id)+"/user-data", nil, &text)
}

// SetUserData changes what an instance reads when it boots next.
func (d *Driver) SetUserData(ctx context.Context, clientToken, id, text string) error {
	return d.call(ctx, "POST", "/v1/instances/"+url.PathEscape(id)+"/user-data",
		map[string]string{"client_token": clientToken, "text": text}, &struct{}{})
}

// Terms returns the price list.
func (d *Driver) Terms(ctx context.Context) (cloud.Terms, error) {
	var t struct {
		Currency     string             `json:"currency"`
		InstanceHour map[string]float64 `json:"instance_hour"`
		VolumeHourGB float64            `json:"volume_hour_gb"`
		StaticHour   *float64           `json:"static_hour"`
		PaceMS       int64              `json:"pace_ms"`
	}
	err := d.call(ctx, "GET", "/v1/terms", nil, &t)
	return cloud.Terms{Currency: t.Currency, InstanceHour: t.InstanceHour, VolumeHourGB: t.VolumeHourGB,
		StaticHour: t.StaticHour,
		Change:     time.Duration(t.PaceMS) * time.Millisecond}, err
}
