package cloud

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"time"

	"plumlatch/core/inbound"
	"plumlatch/core/plaintext"
)

// ErrNoSuchRegion says that none of the clouds has a region of that name.
var ErrNoSuchRegion = fmt.Errorf("%w: no cloud of this service has such a region", ErrRefused)

// Set are the clouds of a service. What is asked of a region is asked of the cloud that has it, and what is asked of all regions of
// all clouds; what is asked of an instance is asked of its cloud, which Named returns. No two clouds have a region in common.
type Set struct {
	all []Driver

	mu    sync.Mutex
	of    map[string]Driver // by region
	until time.Time
}

// regionsHeld is how long it is believed which cloud has a region. Clouds get new ones seldom.
const regionsHeld = time.Minute

// NewSet takes the clouds, each under a name of its own. At most one of them may keep lists of keys: an entry there is named by its
// region, or by nothing.
func NewSet(all ...Driver) (*Set, error) {
	if len(all) == 0 {
		return nil, errors.New("a service has at least one cloud")
	}
	lists := 0
	for n, d := range all {
		if slices.ContainsFunc(all[:n], func(o Driver) bool { return o.Name() == d.Name() }) {
			return nil, fmt.Errorf("two clouds are called %s", d.Name())
		}
		if d.Properties().KeyLists != nil {
			lists++
		}
	}
	if lists > 1 {
		return nil, errors.New("two clouds keep lists of keys, and a service knows those of one")
	}
	return &Set{all: all}, nil
}

// One is the set of one cloud.
func One(d Driver) *Set { return &Set{all: []Driver{d}} }

// All returns the clouds.
func (s *Set) All() []Driver { return slices.Clone(s.all) }

// Named returns the cloud that an instance was recorded with. One that this service was not started with has no properties, and fails
// whatever it is asked.
func (s *Set) Named(name string) Driver {
	for _, d := range s.all {
		if d.Name() == name {
			return d
		}
	}
	return absent(name)
}

// In returns the cloud that has a region. ErrNoSuchRegion. A cloud that does not answer is an error only if no other has the region.
func (s *Set) In(ctx context.Context, region string) (Driver, error) {
	if len(s.all) == 1 {
		return s.all[0], nil
	}
	s.mu.Lock()
	d, ok := s.of[region]
	ok = ok && time.Now().Before(s.until)
	s.mu.Unlock()
	if ok {
		return d, nil
	}
	of, failed := map[string]Driver{}, error(nil)
	for _, d := range s.all {
		regions, err := d.Regions(ctx)
		failed = errors.Join(failed, err)
		for _, r := range regions {
			if other, ok := of[r.Name]; ok {
				return nil, fmt.Errorf("%w: both %s and %s have a region %s", ErrFailed, other.Name(), d.Name(), plaintext.Line(plaintext.Cut(r.Name, 50)))
			}
			of[r.Name] = d
		}
	}
	if failed == nil {
		s.mu.Lock()
		s.of, s.until = of, time.Now().Add(regionsHeld)
		s.mu.Unlock()
	}
	if d, ok := of[region]; ok {
		return d, nil
	}
	return nil, errors.Join(failed, ErrNoSuchRegion)
}

// Still is In for what is known to have been in a region: a region that no cloud has is one of a cloud that this service was not started
// with, and that is an answer that did not come (ErrFailed), never a refusal.
func (s *Set) Still(ctx context.Context, region string) (Driver, error) {
	d, err := s.In(ctx, region)
	if errors.Is(err, ErrNoSuchRegion) {
		return nil, fmt.Errorf("%w: no cloud of this service has the region %s", ErrFailed, plaintext.Line(plaintext.Cut(region, 50)))
	}
	return d, err
}

// each collects what every cloud has.
func each[T any](s *Set, f func(Driver) ([]T, error)) (out []T, err error) {
	for _, d := range s.all {
		got, err := f(d)
		if err != nil {
			return nil, err
		}
		out = append(out, got...)
	}
	return out, nil
}

// ofRegion collects what a region has, or with "" what all have.
func ofRegion[T any](ctx context.Context, s *Set, region string, f func(Driver) ([]T, error)) ([]T, error) {
	if region == "" {
		return each(s, f)
	}
	d, err := s.In(ctx, region)
	if err != nil {
		return nil, err
	}
	return f(d)
}

// Regions returns the regions of all clouds.
func (s *Set) Regions(ctx context.Context) ([]Region, error) {
	return each(s, func(d Driver) ([]Region, error) { return d.Regions(ctx) })
}

// Images returns the images of a region, or of all.
func (s *Set) Images(ctx context.Context, region string) ([]Image, error) {
	return ofRegion(ctx, s, region, func(d Driver) ([]Image, error) { return d.Images(ctx, region) })
}

// Sizes returns the sizes of a region, or of all.
func (s *Set) Sizes(ctx context.Context, region string) ([]Size, error) {
	return ofRegion(ctx, s, region, func(d Driver) ([]Size, error) { return d.Sizes(ctx, region) })
}

// List returns the instances of a region.
func (s *Set) List(ctx context.Context, region string) ([]Instance, error) {
	return ofRegion(ctx, s, region, func(d Driver) ([]Instance, error) { return d.List(ctx, region) })
}

// Owned is something of a cloud, with the cloud that has it.
type Owned[T any] struct {
	Cloud Driver
	Of    T
}

// StaticAddresses returns the reserved addresses of a region, or of all, each with its cloud. A cloud without such has none.
func (s *Set) StaticAddresses(ctx context.Context, region string) ([]Owned[StaticAddress], error) {
	return ofRegion(ctx, s, region, func(d Driver) (out []Owned[StaticAddress], err error) {
		if d.Properties().NoStaticAddresses {
			return nil, nil
		}
		all, err := d.StaticAddresses(ctx, region)
		for _, a := range all {
			out = append(out, Owned[StaticAddress]{d, a})
		}
		return out, err
	})
}

// Instance looks an instance up by its cloud's own name for it, in every cloud. ErrNotFound if all of them answer that they have none;
// ErrRefused if two have one of that name.
func (s *Set) Instance(ctx context.Context, id string) (found Owned[Instance], failed error) {
	for _, d := range s.all {
		in, err := d.Get(ctx, id)
		if err == nil && found.Cloud != nil {
			return Owned[Instance]{}, fmt.Errorf("%w: %s and %s both have an instance %s", ErrRefused, found.Cloud.Name(), d.Name(), plaintext.Line(plaintext.Cut(id, 100)))
		}
		if err == nil {
			found = Owned[Instance]{d, in}
			continue
		}
		if !errors.Is(err, ErrNotFound) && !errors.Is(err, ErrRefused) {
			failed = errors.Join(failed, err)
		}
	}
	switch {
	case found.Cloud != nil: // one that does not answer keeps nobody from what another has
		return found, nil
	case failed != nil:
		return found, failed
	}
	return found, ErrNotFound
}

// KeyLists returns the cloud that keeps lists of keys; false if none does.
func (s *Set) KeyLists() (Driver, bool) {
	for _, d := range s.all {
		if d.Properties().KeyLists != nil {
			return d, true
		}
	}
	return nil, false
}

// absent is a cloud that the service does not have: what was recorded with it stays, and is not seen.
type absent string

var _ Driver = absent("")

func (a absent) err() error {
	if a == "" {
		return fmt.Errorf("%w: no cloud of ours is behind it", ErrNotFound)
	}
	return fmt.Errorf("%w: this service was not started with the cloud %s", ErrFailed, string(a))
}

func (a absent) Name() string { return string(a) }
func (a absent) Properties() Properties {
	return Properties{NoRules: true, NoStaticAddresses: true, NoPrices: true}
}
func (a absent) Regions(context.Context) ([]Region, error)                 { return nil, a.err() }
func (a absent) Images(context.Context, string) ([]Image, error)           { return nil, a.err() }
func (a absent) Sizes(context.Context, string) ([]Size, error)             { return nil, a.err() }
func (a absent) Launch(context.Context, string, Launch) (Instance, error)  { return Instance{}, a.err() }
func (a absent) ByToken(context.Context, string) (Instance, error)         { return Instance{}, a.err() }
func (a absent) Get(context.Context, string) (Instance, error)             { return Instance{}, a.err() }
func (a absent) Stop(context.Context, string, string) (Instance, error)    { return Instance{}, a.err() }
func (a absent) Start(context.Context, string, string) (Instance, error)   { return Instance{}, a.err() }
func (a absent) Remove(context.Context, string, string) (Instance, error)  { return Instance{}, a.err() }
func (a absent) BootOutput(context.Context, string) (string, error)        { return "", a.err() }
func (a absent) FirstPassword(context.Context, string) (string, error)     { return "", a.err() }
func (a absent) List(context.Context, string) ([]Instance, error)          { return nil, a.err() }
func (a absent) Volumes(context.Context, string) ([]Volume, error)         { return nil, a.err() }
func (a absent) Volume(context.Context, string) (Volume, error)            { return Volume{}, a.err() }
func (a absent) Detach(_ context.Context, _, _, _ string) (Volume, error)  { return Volume{}, a.err() }
func (a absent) UserData(context.Context, string) (string, error)          { return "", a.err() }
func (a absent) SetUserData(_ context.Context, _, _, _ string) error       { return a.err() }
func (a absent) Terms(context.Context) (Terms, error)                      { return Terms{}, a.err() }
func (a absent) Groups(context.Context, string) ([]Group, error)           { return nil, a.err() }
func (a absent) OwnGroup(context.Context, string, string) (Group, error)   { return Group{}, a.err() }
func (a absent) Unadmit(_ context.Context, _, _, _ string) error           { return a.err() }
func (a absent) ListKeys(context.Context, string) (KeyList, error)         { return KeyList{}, a.err() }
func (a absent) RemoveKey(_ context.Context, _, _, _ string) error         { return a.err() }
func (a absent) PlacedKeys(context.Context, string) ([]PlacedKey, error)   { return nil, a.err() }
func (a absent) UnplaceKey(context.Context, string, string) error          { return a.err() }
func (a absent) OwnImage(context.Context, string) (OwnImage, error)        { return OwnImage{}, a.err() }
func (a absent) OwnImages(context.Context, string) ([]OwnImage, error)     { return nil, a.err() }
func (a absent) RemoveImage(context.Context, string, string) error         { return a.err() }
func (a absent) SetGroups(context.Context, string, string, []string) error { return a.err() }
func (a absent) SetOutbound(context.Context, string, string, bool) error   { return a.err() }
func (a absent) Release(context.Context, string, string) error             { return a.err() }

func (a absent) Attach(_ context.Context, _, _, _, _, _ string) (Volume, error) {
	return Volume{}, a.err()
}

func (a absent) Admit(context.Context, string, string, netip.Prefix, inbound.Ports, string) (Rule, error) {
	return Rule{}, a.err()
}

func (a absent) AddKey(_ context.Context, _, _, _, _ string) (KeyEntry, error) {
	return KeyEntry{}, a.err()
}

func (a absent) PlaceKey(_ context.Context, _, _, _, _, _ string) (PlacedKey, error) {
	return PlacedKey{}, a.err()
}

func (a absent) MakeImage(context.Context, string, string, string, map[string]string) (OwnImage, error) {
	return OwnImage{}, a.err()
}

func (a absent) Lend(_ context.Context, _, _, _, _ string) (time.Time, error) {
	return time.Time{}, a.err()
}

func (a absent) StaticAddresses(context.Context, string) ([]StaticAddress, error) {
	return nil, a.err()
}

func (a absent) Reserve(_ context.Context, _, _, _ string) (StaticAddress, error) {
	return StaticAddress{}, a.err()
}

func (a absent) Move(_ context.Context, _, _, _ string) (StaticAddress, error) {
	return StaticAddress{}, a.err()
}
