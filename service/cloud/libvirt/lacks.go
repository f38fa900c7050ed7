package libvirt

import (
	"context"
	"fmt"

	"plumlatch/service/cloud"
)

// What a libvirt host lacks. Properties says so, and nobody asks; whoever does is told.

func lacks(what string) error {
	return fmt.Errorf("%w: a libvirt host has no %s", cloud.ErrLacks, what)
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
