package drivertest

import (
	"errors"
	"net/netip"
	"slices"
	"testing"
	"time"

	"plumlatch/service/cloud"
)

// ownImages tries images that are made from instances, if the cloud says that it makes them.
func (s *suite) ownImages(t *testing.T) {
	p := s.d.Properties().Images
	if p == nil {
		t.Skip("the cloud makes no images of instances")
	}
	in, err := s.d.Launch(t.Context(), token(), s.launch(token()))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _, _ = s.d.Remove(t.Context(), token(), in.ID) }()
	in = s.await(t, in.ID, cloud.Running)
	if !p.Running {
		if _, err := s.d.Stop(t.Context(), token(), in.ID); err != nil {
			t.Fatal(err)
		}
		s.await(t, in.ID, cloud.Stopped)
	}
	first := token()
	tags := map[string]string{"suite": "driver"}
	i, err := s.d.MakeImage(t.Context(), first, in.ID, "image-"+first[:6], tags)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = s.d.RemoveImage(t.Context(), token(), i.ID) }()
	if again, err := s.d.MakeImage(t.Context(), first, in.ID, "image-"+first[:6], tags); err != nil || again.ID != i.ID {
		t.Errorf("the same token: %+v %v", again, err)
	}
	if i.Instance != in.ID || i.Region != s.o.Region || i.GB != in.DiskGB || i.Ran != p.Running || i.Tags["suite"] != "driver" {
		t.Errorf("made: %+v", i)
	}
	l := s.launch(token())
	l.Image = i.ID
	if !i.Ready {
		if _, err := s.d.Launch(t.Context(), token(), l); !errors.Is(err, cloud.ErrRefused) {
			t.Errorf("launched from one that is still made: %v", err)
		}
	}
	for deadline := time.Now().Add(s.o.Patience); !i.Ready; time.Sleep(100 * time.Millisecond) {
		if i, err = s.d.OwnImage(t.Context(), i.ID); err != nil || time.Now().After(deadline) {
			t.Fatal(i, err)
		}
	}
	all, err := s.d.OwnImages(t.Context(), s.o.Region)
	if err != nil || !slices.ContainsFunc(all, func(x cloud.OwnImage) bool { return x.ID == i.ID && x.Ready }) {
		t.Errorf("listed: %+v %v", all, err)
	}
	copied, err := s.d.Launch(t.Context(), token(), l)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _, _ = s.d.Remove(t.Context(), token(), copied.ID) }()
	s.await(t, copied.ID, cloud.Running)
	if copied.ID == in.ID {
		t.Error("it is the same instance")
	}
	if p.Shuts {
		s.begunShut(t, l, copied)
	}
	if err := s.d.RemoveImage(t.Context(), token(), i.ID); err != nil {
		t.Error(err)
	}
	if err := s.d.RemoveImage(t.Context(), token(), i.ID); err != nil {
		t.Errorf("removed twice: %v", err)
	}
	if _, err := s.d.OwnImage(t.Context(), i.ID); !errors.Is(err, cloud.ErrNotFound) {
		t.Errorf("after that: %v", err)
	}
	if _, err := s.d.MakeImage(t.Context(), token(), "no-such-instance", "x", nil); err == nil {
		t.Error("of no instance")
	}
}

// begunShut: a copy that begins shut has a group of its own alone, and then those that it is given.
func (s *suite) begunShut(t *testing.T, l cloud.Launch, beside cloud.Instance) {
	t.Helper()
	from := netip.MustParsePrefix("127.0.0.77/32")
	l.Name, l.Shut = l.Name+"-shut", &cloud.Shut{Admit: []netip.Prefix{from}}
	in, err := s.d.Launch(t.Context(), token(), l)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _, _ = s.d.Remove(t.Context(), token(), in.ID) }()
	s.await(t, in.ID, cloud.Running)
	groups, err := s.d.Groups(t.Context(), in.ID)
	if err != nil || len(groups) != 1 || !groups[0].Own || len(groups[0].Rules) != 1 || groups[0].Rules[0].From != from {
		t.Fatalf("begun shut: %+v %v", groups, err)
	}
	if again, err := s.d.OwnGroup(t.Context(), token(), in.ID); err != nil || again.ID != groups[0].ID {
		t.Errorf("the group of its own: %+v %v", again, err)
	}
	var shared []string
	all, err := s.d.Groups(t.Context(), beside.ID)
	for _, g := range all {
		if !g.Own {
			shared = append(shared, g.ID)
		}
	}
	if err != nil || len(shared) == 0 {
		t.Fatal(all, err)
	}
	for range 2 {
		if err := s.d.SetGroups(t.Context(), token(), in.ID, shared); err != nil {
			t.Fatal(err)
		}
	}
	if groups, err = s.d.Groups(t.Context(), in.ID); err != nil || len(groups) != 1+len(shared) {
		t.Errorf("opened: %+v %v", groups, err)
	}
	if err := s.d.SetGroups(t.Context(), token(), in.ID, []string{"no-such-group"}); err == nil {
		t.Error("a group that there is not")
	}
	if !s.d.Properties().Images.ShutsOut {
		return
	}
	for _, open := range []bool{true, false, true} {
		if err := s.d.SetOutbound(t.Context(), token(), in.ID, open); err != nil {
			t.Error(err)
		}
	}
	if err := s.d.SetOutbound(t.Context(), token(), "no-such-instance", true); err == nil {
		t.Error("out of no instance")
	}
}
