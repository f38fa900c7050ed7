package libvirt

import (
	"context"
	"net/netip"
	"time"

	"plumlatch/core/inbound"
	"plumlatch/service/cloud"
)

// What a libvirt host lacks. Properties says so, and nobody asks; whoever does is told.

func lacks(what string) error { return refused("a libvirt host has no %s", what) }

// Groups is refused: whoever reaches the host's loopback address reaches the machine.
func (d *Driver) Groups(ctx context.Context, id string) ([]cloud.Group, error) {
	return nil, lacks("inbound rules")
}

// OwnGroup is refused.
func (d *Driver) OwnGroup(ctx context.Context, clientToken, id string) (cloud.Group, error) {
	return cloud.Group{}, lacks("inbound rules")
}

// Admit is refused.
func (d *Driver) Admit(ctx context.Context, clientToken, groupID string, from netip.Prefix, ports inbound.Ports, note string) (cloud.Rule, error) {
	return cloud.Rule{}, lacks("inbound rules")
}

// Unadmit is refused.
func (d *Driver) Unadmit(ctx context.Context, clientToken, groupID, ruleID string) error {
	return lacks("inbound rules")
}

// SetGroups is refused.
func (d *Driver) SetGroups(ctx context.Context, clientToken, id string, groupIDs []string) error {
	return lacks("inbound rules")
}

// SetOutbound is refused.
func (d *Driver) SetOutbound(ctx context.Context, clientToken, id string, open bool) error {
	return lacks("rules for what leads out")
}

// ListKeys is refused, and so are AddKey and RemoveKey.
func (d *Driver) ListKeys(ctx context.Context, region string) (cloud.KeyList, error) {
	return cloud.KeyList{}, lacks("lists of keys")
}

// AddKey is refused.
func (d *Driver) AddKey(ctx context.Context, clientToken, region, name, line string) (cloud.KeyEntry, error) {
	return cloud.KeyEntry{}, lacks("lists of keys")
}

// RemoveKey is refused.
func (d *Driver) RemoveKey(ctx context.Context, clientToken, region, entryID string) error {
	return lacks("lists of keys")
}

// PlacedKeys is refused, and so are PlaceKey and UnplaceKey.
func (d *Driver) PlacedKeys(ctx context.Context, id string) ([]cloud.PlacedKey, error) {
	return nil, lacks("keys that it places by itself")
}

// PlaceKey is refused.
func (d *Driver) PlaceKey(ctx context.Context, clientToken, id, user, name, line string) (cloud.PlacedKey, error) {
	return cloud.PlacedKey{}, lacks("keys that it places by itself")
}

// UnplaceKey is refused.
func (d *Driver) UnplaceKey(ctx context.Context, clientToken, entryID string) error {
	return lacks("keys that it places by itself")
}

// MakeImage is refused, and so are the other calls for images of instances.
func (d *Driver) MakeImage(ctx context.Context, clientToken, id, name string, tags map[string]string) (cloud.OwnImage, error) {
	return cloud.OwnImage{}, lacks("images of instances yet")
}

// OwnImage answers ErrNotFound.
func (d *Driver) OwnImage(ctx context.Context, imageID string) (cloud.OwnImage, error) {
	return cloud.OwnImage{}, cloud.ErrNotFound
}

// OwnImages answers none.
func (d *Driver) OwnImages(ctx context.Context, region string) ([]cloud.OwnImage, error) {
	return nil, nil
}

// RemoveImage has nothing to remove.
func (d *Driver) RemoveImage(ctx context.Context, clientToken, imageID string) error { return nil }

// Lend is refused.
func (d *Driver) Lend(ctx context.Context, clientToken, id, user, line string) (time.Time, error) {
	return time.Time{}, lacks("keys that it lends")
}

// StaticAddresses answers none: each machine's address is its own for its life.
func (d *Driver) StaticAddresses(ctx context.Context, region string) ([]cloud.StaticAddress, error) {
	return nil, nil
}

// Reserve is refused, and so are Move and Release.
func (d *Driver) Reserve(ctx context.Context, clientToken, region, name string) (cloud.StaticAddress, error) {
	return cloud.StaticAddress{}, lacks("addresses to reserve")
}

// Move is refused.
func (d *Driver) Move(ctx context.Context, clientToken, addressID, id string) (cloud.StaticAddress, error) {
	return cloud.StaticAddress{}, lacks("addresses to move")
}

// Release is refused.
func (d *Driver) Release(ctx context.Context, clientToken, addressID string) error {
	return lacks("addresses to release")
}
