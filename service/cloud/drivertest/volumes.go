package drivertest

import (
	"errors"
	"strings"
	"testing"
	"time"

	"plumlatch/service/cloud"
)

// awaitVolume polls until a volume is in the state.
func (s *suite) awaitVolume(t *testing.T, id string, want cloud.VolumeState) cloud.Volume {
	t.Helper()
	for deadline := time.Now().Add(s.o.Patience); ; time.Sleep(100 * time.Millisecond) {
		v, err := s.d.Volume(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		if v.State == want {
			return v
		}
		if time.Now().After(deadline) {
			t.Fatalf("volume %s is %s, and never %s", id, v.State, want)
		}
	}
}

// volumes: a root volume leaves a stopped instance, is somebody else's for a
// while, and comes home; what comes late moves nothing.
func (s *suite) volumes(t *testing.T) {
	if !s.d.Properties().Volumes {
		t.Skip("root volumes stay where they are")
	}
	in, other := s.launched(t), s.launched(t)
	root, device := in.RootVolume, in.RootDevice
	list, err := s.d.Volumes(t.Context(), in.ID)
	if err != nil || len(list) != 1 || list[0].ID != root || list[0].Device != device ||
		list[0].State != cloud.VolumeInUse || list[0].Zone != in.Zone || list[0].SizeGB != in.DiskGB {
		t.Fatalf("the volumes of %+v: %+v %v", in, list, err)
	}
	if _, err := s.d.Detach(t.Context(), token(), root, "the suite"); !errors.Is(err, cloud.ErrRefused) {
		t.Errorf("a root volume is pulled from under an instance that runs: %v", err)
	}
	if _, err := s.d.Stop(t.Context(), token(), in.ID); err != nil {
		t.Fatal(err)
	}
	s.await(t, in.ID, cloud.Stopped)
	detach := token()
	for range 2 {
		if _, err := s.d.Detach(t.Context(), detach, root, "the suite"); err != nil {
			t.Fatal(err)
		}
	}
	if v := s.awaitVolume(t, root, cloud.VolumeAvailable); v.Instance != "" || v.Note != "the suite" {
		t.Errorf("detached: %+v", v)
	}
	if now, err := s.d.Get(t.Context(), in.ID); err != nil || now.RootVolume != "" {
		t.Errorf("its instance: %+v %v", now, err)
	}
	if _, err := s.d.Start(t.Context(), token(), in.ID); !errors.Is(err, cloud.ErrRefused) {
		t.Errorf("an instance without its root volume starts: %v", err)
	}
	lend := token()
	if _, err := s.d.Attach(t.Context(), lend, root, other.ID, "", "lent"); err != nil {
		t.Fatal(err)
	}
	if v := s.awaitVolume(t, root, cloud.VolumeInUse); v.Instance != other.ID || v.Device == "" || v.Note != "lent" {
		t.Errorf("lent: %+v", v)
	}
	if _, err := s.d.Attach(t.Context(), token(), root, in.ID, device, ""); !errors.Is(err, cloud.ErrRefused) {
		t.Errorf("a volume is attached to two at once: %v", err)
	}
	if s.o.NoSystem {
		if _, err := s.d.Stop(t.Context(), token(), other.ID); err != nil {
			t.Fatal(err)
		}
		s.await(t, other.ID, cloud.Stopped)
	}
	if _, err := s.d.Detach(t.Context(), token(), root, ""); err != nil {
		t.Fatal(err)
	}
	s.awaitVolume(t, root, cloud.VolumeAvailable)
	home := token()
	for range 2 {
		if _, err := s.d.Attach(t.Context(), home, root, in.ID, device, ""); err != nil {
			t.Fatal(err)
		}
	}
	s.awaitVolume(t, root, cloud.VolumeInUse)
	if _, err := s.d.Attach(t.Context(), lend, root, other.ID, "", "lent"); err != nil &&
		!errors.Is(err, cloud.ErrRefused) {
		t.Fatal(err)
	}
	if _, err := s.d.Detach(t.Context(), detach, root, ""); err != nil && !errors.Is(err, cloud.ErrRefused) {
		t.Fatal(err)
	}
	time.Sleep(300 * time.Millisecond)
	if v := s.awaitVolume(t, root, cloud.VolumeInUse); v.Instance != in.ID || v.Device != device {
		t.Errorf("what comes late moves it: %+v", v)
	}
	if _, err := s.d.Start(t.Context(), token(), in.ID); err != nil {
		t.Fatal(err)
	}
	if now := s.await(t, in.ID, cloud.Running); now.RootVolume != root {
		t.Errorf("it boots from %q, and booted from %q", now.RootVolume, root)
	}
	if _, err := s.d.Volume(t.Context(), "no-such-volume"); !errors.Is(err, cloud.ErrNotFound) {
		t.Errorf("no such volume: %v", err)
	}
	if _, err := s.d.Attach(t.Context(), token(), "no-such-volume", in.ID, device, ""); !errors.Is(err,
		cloud.ErrNotFound) {
		t.Errorf("no such volume to attach: %v", err)
	}
}

// userData: what an instance reads when it boots can be changed, and put back.
func (s *suite) userData(t *testing.T) {
	if !s.d.Properties().BootText {
		t.Skip("user data is what it was launched with")
	}
	in := s.launched(t)
	was, err := s.d.UserData(t.Context(), in.ID)
	if err != nil || was != "#cloud-config\n" {
		t.Fatalf("as launched: %q %v", was, err)
	}
	if err := s.d.SetUserData(t.Context(), token(), in.ID, "#cloud-config\n{}\n"); err != nil { // while it runs, for its next boot
		t.Fatal(err)
	}
	if now, err := s.d.UserData(t.Context(), in.ID); err != nil || now != "#cloud-config\n{}\n" {
		t.Errorf("changed while it runs: %q %v", now, err)
	}
	if err := s.d.SetUserData(t.Context(), token(), in.ID, was); err != nil {
		t.Fatal(err)
	}
	if _, err := s.d.Stop(t.Context(), token(), in.ID); err != nil {
		t.Fatal(err)
	}
	s.await(t, in.ID, cloud.Stopped)
	set := token()
	for range 2 {
		if err := s.d.SetUserData(t.Context(), set, in.ID, "#cloud-boothook\n"); err != nil {
			t.Fatal(err)
		}
	}
	if now, err := s.d.UserData(t.Context(), in.ID); err != nil || now != "#cloud-boothook\n" {
		t.Errorf("changed: %q %v", now, err)
	}
	if err := s.d.SetUserData(t.Context(), token(), in.ID, was); err != nil {
		t.Fatal(err)
	}
	if err := s.d.SetUserData(t.Context(), set, in.ID, "#cloud-boothook\n"); err != nil &&
		!errors.Is(err, cloud.ErrRefused) {
		t.Fatal(err)
	}
	if now, err := s.d.UserData(t.Context(), in.ID); err != nil || now != was {
		t.Errorf("what comes late changes it: %q %v", now, err)
	}
	if err := s.d.SetUserData(t.Context(), token(), in.ID,
		strings.Repeat("#", s.d.Properties().MaxUserData+1)); !errors.Is(err, cloud.ErrRefused) {
		t.Errorf("too long a text: %v", err)
	}
	if _, err := s.d.UserData(t.Context(), "no-such-instance"); !errors.Is(err, cloud.ErrNotFound) {
		t.Errorf("no such instance: %v", err)
	}
}

// terms: what a rescue instance costs can be said before it is launched.
func (s *suite) terms(t *testing.T) {
	p := s.d.Properties()
	terms, err := s.d.Terms(t.Context())
	if p.NoPrices {
		if err != nil || terms.Change <= 0 || terms.Currency != "" || terms.InstanceHour != nil || terms.VolumeHourGB != 0 {
			t.Errorf("no prices: %+v %v", terms, err)
		}
		return
	}
	if err != nil || terms.Currency == "" || terms.VolumeHourGB <= 0 || terms.Change <= 0 ||
		terms.InstanceHour[s.o.Size] <= 0 {
		t.Errorf("terms: %+v %v", terms, err)
	}
	if p.Volumes && (p.RescueImage == "" || terms.InstanceHour[p.RescueSize] <= 0) {
		t.Errorf("a rescue instance is launched from %q, as %q, at a price that nobody knows",
			p.RescueImage, p.RescueSize)
	}
}
