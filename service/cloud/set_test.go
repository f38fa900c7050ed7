package cloud

import (
	"context"
	"errors"
	"slices"
	"testing"
)

// quay is a cloud with some regions and instances.
type quay struct {
	Driver
	name      string
	regions   []string
	instances []string
	down      bool
	lists     bool
	asked     int
}

func (q *quay) Name() string { return q.name }

func (q *quay) Properties() Properties {
	p := Properties{}
	if q.lists {
		p.KeyLists = &KeyLists{}
	}
	return p
}

func (q *quay) Regions(context.Context) (out []Region, err error) {
	q.asked++
	for _, r := range q.regions {
		out = append(out, Region{Name: r})
	}
	if q.down {
		return nil, ErrFailed
	}
	return out, nil
}

func (q *quay) Images(_ context.Context, region string) ([]Image, error) {
	if region != "" && !slices.Contains(q.regions, region) {
		return nil, ErrRefused
	}
	return []Image{{Name: q.name + "-image"}}, nil
}

func (q *quay) StaticAddresses(context.Context, string) ([]StaticAddress, error) {
	return []StaticAddress{{ID: q.name + "-address"}}, nil
}

func (q *quay) Get(_ context.Context, id string) (Instance, error) {
	if q.down {
		return Instance{}, ErrFailed
	}
	if !slices.Contains(q.instances, id) {
		return Instance{}, ErrNotFound
	}
	return Instance{ID: id}, nil
}

func TestSet(t *testing.T) {
	ctx := t.Context()
	north, south := &quay{name: "north", regions: []string{"pier", "shed"}, instances: []string{"i-1"}}, &quay{name: "south", regions: []string{"office"}, instances: []string{"i-2"}}
	s, err := NewSet(north, south)
	if err != nil {
		t.Fatal(err)
	}
	for region, want := range map[string]string{"pier": "north", "shed": "north", "office": "south"} {
		if d, err := s.In(ctx, region); err != nil || d.Name() != want {
			t.Errorf("%s is of %v: %v", region, d, err)
		}
	}
	if north.asked != 1 {
		t.Errorf("the regions were asked for %d times", north.asked)
	}
	if _, err := s.In(ctx, "elsewhere"); !errors.Is(err, ErrNoSuchRegion) || !errors.Is(err, ErrRefused) {
		t.Errorf("a region that there is not: %v", err)
	}
	if _, err := s.Still(ctx, "elsewhere"); !errors.Is(err, ErrFailed) || errors.Is(err, ErrRefused) {
		t.Errorf("a region that there was: %v", err)
	}
	if d, err := s.Still(ctx, "office"); err != nil || d.Name() != "south" {
		t.Errorf("a region that there still is: %v", err)
	}
	all, err := s.Images(ctx, "")
	if err != nil || len(all) != 2 {
		t.Errorf("all images: %+v %v", all, err)
	}
	if one, err := s.Images(ctx, "office"); err != nil || len(one) != 1 || one[0].Name != "south-image" {
		t.Errorf("the images of a region: %+v %v", one, err)
	}
	if regions, err := s.Regions(ctx); err != nil || len(regions) != 3 {
		t.Errorf("all regions: %+v %v", regions, err)
	}
	if found, err := s.Instance(ctx, "i-2"); err != nil || found.Cloud.Name() != "south" {
		t.Errorf("i-2 is of %v: %v", found.Cloud, err)
	}
	if _, err := s.Instance(ctx, "i-3"); !errors.Is(err, ErrNotFound) {
		t.Errorf("an instance that there is not: %v", err)
	}
	south.instances = append(south.instances, "i-1")
	if found, err := s.Instance(ctx, "i-1"); !errors.Is(err, ErrRefused) || found.Cloud != nil {
		t.Errorf("two clouds have it: %+v %v", found, err)
	}
	// One that does not answer: what the other has is found, and nothing is said not to be there.
	north.down = true
	if found, err := s.Instance(ctx, "i-2"); err != nil || found.Cloud.Name() != "south" {
		t.Errorf("beside one that is down: %v", err)
	}
	if _, err := s.Instance(ctx, "i-3"); errors.Is(err, ErrNotFound) || !errors.Is(err, ErrFailed) {
		t.Errorf("the one that is down may have it: %v", err)
	}
	fresh, err := NewSet(north, south)
	if err != nil {
		t.Fatal(err)
	}
	if d, err := fresh.In(ctx, "office"); err != nil || d.Name() != "south" {
		t.Errorf("a region of the one that answers: %v", err)
	}
	if _, err := fresh.In(ctx, "pier"); !errors.Is(err, ErrFailed) {
		t.Errorf("a region of the one that does not: %v", err)
	}
}

func TestSetRefuses(t *testing.T) {
	for what, all := range map[string][]Driver{
		"none":           nil,
		"one name twice": {&quay{name: "a"}, &quay{name: "a"}},
		"lists twice":    {&quay{name: "a", lists: true}, &quay{name: "b", lists: true}},
	} {
		if _, err := NewSet(all...); err == nil {
			t.Errorf("%s: taken", what)
		}
	}
	s, err := NewSet(&quay{name: "a", regions: []string{"pier"}}, &quay{name: "b", regions: []string{"pier"}})
	if err != nil {
		t.Fatal(err)
	}
	if d, err := s.In(t.Context(), "pier"); err == nil {
		t.Errorf("a region of two clouds is %s's", d.Name())
	}
}

// TestAbsent: a cloud that the service does not have fails, and never says that an instance is gone.
func TestAbsent(t *testing.T) {
	s := One(&quay{name: "north"})
	d := s.Named("south")
	if _, err := d.Get(t.Context(), "i"); !errors.Is(err, ErrFailed) || errors.Is(err, ErrNotFound) {
		t.Errorf("south: %v", err)
	}
	if p := d.Properties(); p.Volumes || p.BootText || p.Images != nil || p.KeyLists != nil || p.Places != nil || p.Lends != nil {
		t.Errorf("it has %+v", p)
	}
	if _, err := s.Named("").Get(t.Context(), "i"); !errors.Is(err, ErrNotFound) {
		t.Errorf("no cloud: %v", err)
	}
}
