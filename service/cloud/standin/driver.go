// Package standin is the driver for the stand-in cloud. It meets it over HTTP only.
package standin

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"time"

	"plumlatch/core/plaintext"
	"plumlatch/service/cloud"
)

// Driver speaks to a stand-in cloud at a base URL, with its token.
type Driver struct {
	base, token string
	http        *http.Client

	// OutStaysOpen has it be a cloud that cannot shut the way out of a copy. It is set before the driver is used.
	OutStaysOpen bool
}

var _ cloud.Driver = (*Driver)(nil)

// New returns a driver; base is such as "http://127.0.0.1:8471".
func New(base, token string) *Driver {
	return &Driver{base: strings.TrimRight(base, "/"), token: token, http: &http.Client{
		Timeout: 20 * time.Second,
		// A redirect would carry the token elsewhere, or the request to another one than was meant.
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}
}

// Name returns "standin".
func (d *Driver) Name() string { return "standin" }

// Properties says what this cloud takes.
func (d *Driver) Properties() cloud.Properties {
	return cloud.Properties{
		Names: cloud.NameRule{Pattern: regexp.MustCompile(`^[a-z0-9]([a-z0-9-]*[a-z0-9])?$`), MaxLength: 50,
			Words: "it takes 1 to 50 of a-z, 0-9 and '-', and '-' neither first nor last"},
		MaxUserData: 16 << 10,
		MaxTags:     20,
		CallerURL:   d.base + "/v1/caller",
		BootText:    true, Volumes: true, RescueImage: "debian-12", RescueSize: "small",
		Places: &cloud.Placing{Images: []string{"debian-12", "harrow-web-2"}, Takes: 10 * time.Second,
			Grant: "set-keys on the instance to this service's account", Granted: 2 * time.Minute},
		Images: &cloud.Imaging{Running: true, Shuts: true, ShutsOut: !d.OutStaysOpen, PerGB: 40 * time.Millisecond, Limit: 20},
		Lends:  &cloud.Lending{For: time.Minute, Images: []string{"debian-12", "harrow-web-2"}},
		KeyLists: &cloud.KeyLists{Scope: cloud.KeysByRegion, Kinds: []string{"ssh-ed25519", "ssh-rsa"},
			Names: cloud.NameRule{Pattern: regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 ._@-]*$`), MaxLength: 100,
				Words: "it takes 1 to 100 of letters, digits, spaces and ._@-, a letter or digit first"},
			Print: "of RSA the MD5 of the DER, of Ed25519 the SHA-256"},
	}
}

const maxAnswer = 8 << 20

func (d *Driver) call(ctx context.Context, method, path string, body, answer any) error {
	var r io.Reader
	if body != nil {
		data, err := json.Marshal(body)
		if err != nil {
			return err
		}
		r = bytes.NewReader(data)
	}
	req, err := http.NewRequestWithContext(ctx, method, d.base+path, r)
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+d.token)
	resp, err := d.http.Do(req)
	if err != nil {
		return fmt.Errorf("%w: %w", cloud.ErrFailed, err)
	}
	defer resp.Body.Close()
	data, err := io.ReadAll(io.LimitReader(resp.Body, maxAnswer))
	if err != nil {
		return fmt.Errorf("%w: %w", cloud.ErrFailed, err)
	}
	if resp.StatusCode != http.StatusOK {
		var e struct{ Error string }
		_ = json.Unmarshal(data, &e)
		said := plaintext.Line(plaintext.Cut(e.Error, 200))
		switch {
		case resp.StatusCode == http.StatusNotFound:
			return cloud.ErrNotFound
		case resp.StatusCode >= 300 && resp.StatusCode < 400:
			return fmt.Errorf("%w: it answers %s, and is not followed elsewhere", cloud.ErrFailed, resp.Status)
		case resp.StatusCode >= 500:
			return fmt.Errorf("%w: %s: %s", cloud.ErrFailed, resp.Status, said)
		}
		return fmt.Errorf("%w: %s", cloud.ErrRefused, said)
	}
	if text, ok := answer.(*string); ok {
		*text = string(data)
		return nil
	}
	if err := json.Unmarshal(data, answer); err != nil {
		return fmt.Errorf("%w: an answer that cannot be read: %w", cloud.ErrFailed, err)
	}
	return nil
}

// Regions returns the regions.
func (d *Driver) Regions(ctx context.Context) (out []cloud.Region, err error) {
	return out, d.call(ctx, "GET", "/v1/regions", nil, &out)
}

// Images returns the images of a region, or all.
func (d *Driver) Images(ctx context.Context, region string) (out []cloud.Image, err error) {
	return out, d.call(ctx, "GET", "/v1/images?region="+url.QueryEscape(region), nil, &out)
}

// Sizes returns the sizes of a region, or all.
func (d *Driver) Sizes(ctx context.Context, region string) (out []cloud.Size, err error) {
	return out, d.call(ctx, "GET", "/v1/sizes?region="+url.QueryEscape(region), nil, &out)
}

type instance struct {
	ID        string `json:"id"`
	Name      string `json:"name"`
	Region    string `json:"region"`
	State     string `json:"state"`
	Address   string `json:"address"`
	Port      int    `json:"port"`
	LoginUser string `json:"login_user"`

	Image   string    `json:"image"`
	Size    string    `json:"size"`
	Created time.Time `json:"created"`

	Zone   string            `json:"zone"`
	DiskGB int               `json:"disk_gb"`
	Tags   map[string]string `json:"tags"`
	Static bool              `json:"static_address"`

	KeyLabel string `json:"key_label"`

	RootVolume string `json:"root_volume"`
	RootDevice string `json:"root_device"`
	Nature     struct {
		StopDestroys  string        `json:"stop_destroys"`
		MissingRights []cloud.Right `json:"missing_rights"`
	} `json:"nature"`
}

func (d *Driver) instance(ctx context.Context, method, path string, body any) (cloud.Instance, error) {
	var i instance
	err := d.call(ctx, method, path, body, &i)
	return i.show(), err
}

func (i instance) show() cloud.Instance {
	return cloud.Instance{ID: i.ID, Name: i.Name, Region: i.Region, State: cloud.State(i.State), Address: i.Address,
		Port: i.Port, LoginUser: i.LoginUser, Image: i.Image, Size: i.Size, Launched: i.Created,
		Zone: i.Zone, DiskGB: i.DiskGB, Tags: i.Tags, Static: i.Static, KeyLabel: i.KeyLabel,
		RootVolume: i.RootVolume, RootDevice: i.RootDevice, StopDestroys: i.Nature.StopDestroys,
		MissingRights: i.Nature.MissingRights}
}

// Launch begins a new instance.
func (d *Driver) Launch(ctx context.Context, clientToken string, l cloud.Launch) (cloud.Instance, error) {
	return d.instance(ctx, "POST", "/v1/instances", map[string]any{
		"client_token": clientToken, "name": l.Name, "region": l.Region, "zone": l.Zone,
		"image": l.Image, "size": l.Size,
		"disk_gb": l.DiskGB, "tags": l.Tags, "user_data": l.UserData, "key_label": l.KeyLabel,
		"key_entry": l.KeyEntry, "password_key": l.PasswordKey, "shut": l.Shut != nil, "out_open": d.OutStaysOpen, "admit": admitted(l.Shut),
	})
}

// ByToken returns what a launch with a client token made.
func (d *Driver) ByToken(ctx context.Context, clientToken string) (cloud.Instance, error) {
	return d.instance(ctx, "GET", "/v1/instances?client_token="+url.QueryEscape(clientToken), nil)
}

// Get returns one instance.
func (d *Driver) Get(ctx context.Context, id string) (cloud.Instance, error) {
	return d.instance(ctx, "GET", "/v1/instances/"+url.PathEscape(id), nil)
}

// Stop begins to stop an instance.
func (d *Driver) Stop(ctx context.Context, clientToken, id string) (cloud.Instance, error) {
	return d.instance(ctx, "POST", "/v1/instances/"+url.PathEscape(id)+"/stop",
		map[string]string{"client_token": clientToken})
}

// Start begins to start an instance.
func (d *Driver) Start(ctx context.Context, clientToken, id string) (cloud.Instance, error) {
	return d.instance(ctx, "POST", "/v1/instances/"+url.PathEscape(id)+"/start",
		map[string]string{"client_token": clientToken})
}

// Remove begins to remove an instance.
func (d *Driver) Remove(ctx context.Context, clientToken, id string) (cloud.Instance, error) {
	return d.instance(ctx, "DELETE", "/v1/instances/"+url.PathEscape(id)+"?client_token="+
		url.QueryEscape(clientToken), nil)
}

// FirstPassword reads the last block of the console that has one.
func (d *Driver) FirstPassword(ctx context.Context, id string) (string, error) {
	text, err := d.BootOutput(ctx, id)
	if err != nil {
		return "", err
	}
	_, text, found := lastCut(text, "-----BEGIN FIRST PASSWORD-----")
	text, _, ends := strings.Cut(text, "-----END FIRST PASSWORD-----")
	if !found || !ends {
		return "", cloud.ErrNotFound
	}
	return strings.TrimSpace(text), nil
}

// lastCut cuts a text at the last place of sep.
func lastCut(s, sep string) (before, after string, found bool) {
	if i := strings.LastIndex(s, sep); i >= 0 {
		return s[:i], s[i+len(sep):], true
	}
	return s, "", false
}

// BootOutput returns the console's text.
func (d *Driver) BootOutput(ctx context.Context, id string) (text string, err error) {
	return text, d.call(ctx, "GET", "/v1/instances/"+url.PathEscape(id)+"/boot-output", nil, &text)
}
