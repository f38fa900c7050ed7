package standin

import (
	"context"
	"net/url"
	"time"

	"plumlatch/service/cloud"
)

type keyEntry struct {
	ID          string    `json:"id"`
	Name        string    `json:"name"`
	Fingerprint string    `json:"fingerprint"`
	PublicKey   string    `json:"public_key"`
	Added       time.Time `json:"added"`
}

func (e keyEntry) show() cloud.KeyEntry {
	return cloud.KeyEntry{ID: e.ID, Name: e.Name, Fingerprint: e.Fingerprint, Public: e.PublicKey, Added: e.Added}
}

// ListKeys returns the list of keys of a region.
func (d *Driver) ListKeys(ctx context.Context, region string) (cloud.KeyList, error) {
	var list struct {
		Limit   int        `json:"limit"`
		Entries []keyEntry `json:"entries"`
	}
	err := d.call(ctx, "GET", "/v1/key-entries?region="+url.QueryEscape(region), nil, &list)
	out := cloud.KeyList{Region: region, Limit: list.Limit}
	for _, e := range list.Entries {
		out.Entries = append(out.Entries, e.show())
	}
	return out, err
}

// AddKey takes a public key into the list of a region.
func (d *Driver) AddKey(ctx context.Context, clientToken, region, name, line string) (cloud.KeyEntry, error) {
	var e keyEntry
	err := d.call(ctx, "POST", "/v1/key-entries", map[string]string{"client_token": clientToken, "region": region,
		"name": name, "public_key": line}, &e)
	return e.show(), err
}

// RemoveKey takes an entry out of its list.
func (d *Driver) RemoveKey(ctx context.Context, _, _, entryID string) error {
	return d.call(ctx, "DELETE", "/v1/key-entries/"+url.PathEscape(entryID), nil, new(struct{}))
}

type placedKey struct {
	ID        string `json:"id"`
	Instance  string `json:"instance"`
	User      string `json:"user"`
	Name      string `json:"name"`
	PublicKey string `json:"public_key"`
}

func (p placedKey) show() cloud.PlacedKey {
	return cloud.PlacedKey{ID: p.ID, Instance: p.Instance, User: p.User, Name: p.Name, Public: p.PublicKey}
}

// PlacedKeys returns the keys that the agent places on an instance.
func (d *Driver) PlacedKeys(ctx context.Context, id string) ([]cloud.PlacedKey, error) {
	var all []placedKey
	err := d.call(ctx, "GET", "/v1/instances/"+url.PathEscape(id)+"/placed-keys", nil, &all)
	var out []cloud.PlacedKey
	for _, p := range all {
		out = append(out, p.show())
	}
	return out, err
}

// PlaceKey has a key placed on an instance for a user.
func (d *Driver) PlaceKey(ctx context.Context, clientToken, id, user, name, line string) (cloud.PlacedKey, error) {
	var p placedKey
	err := d.call(ctx, "POST", "/v1/placed-keys", map[string]string{"client_token": clientToken, "instance": id, "user": user,
		"name": name, "public_key": line}, &p)
	return p.show(), err
}

// UnplaceKey takes an entry off.
func (d *Driver) UnplaceKey(ctx context.Context, _, entryID string) error {
	return d.call(ctx, "DELETE", "/v1/placed-keys/"+url.PathEscape(entryID), nil, new(struct{}))
}

// Lend has the agent take a public key for a while.
func (d *Driver) Lend(ctx context.Context, clientToken, id, user, line string) (time.Time, error) {
	var lent struct {
		Until time.Time `json:"until"`
	}
	err := d.call(ctx, "POST", "/v1/instances/"+url.PathEscape(id)+"/lend", map[string]string{"client_token": clientToken,
		"user": user, "public_key": line}, &lent)
	return lent.Until, err
}
