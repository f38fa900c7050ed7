// Package drivertest holds the tests that every cloud driver must pass: what
// cloud.Driver promises, tried against a cloud that runs.
package drivertest

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"plumlatch/service/cloud"
)

// Options say what the suite may use of a cloud.
type Options struct {
	Region, Image, Size string        // of instances that it launches, and removes again
	OtherRegion         string        // in which some image or size is missing; "" if there is none
	Name                string        // a name that the cloud takes; the suite appends digits
	BadName             string        // one that it does not take
	Patience            time.Duration // for a change of state
}

// Run tries a driver. Each part is a subtest.
func Run(t *testing.T, d cloud.Driver, o Options) {
	s := &suite{d: d, o: o}
	t.Run("catalogue", s.catalogue)
	t.Run("names", s.names)
	t.Run("life", s.life)
	t.Run("tokens", s.tokens)
	t.Run("refusals", s.refusals)
	t.Run("an end to waiting", s.deadline)
}

type suite struct {
	d cloud.Driver
	o Options
}

func (s *suite) launch(token string) cloud.Launch {
	return cloud.Launch{Name: s.o.Name + token[:6], Region: s.o.Region, Image: s.o.Image, Size: s.o.Size, Tags: map[string]string{"suite": "driver"}, UserData: "#cloud-config\n"}
}

// token is a client token of its own, which begins with digits.
func token() string { return fmt.Sprintf("%06d-%d", rand.IntN(1_000_000), rand.Uint64()) }

// await polls until the instance is in the state; a removed one may be unknown.
func (s *suite) await(t *testing.T, id string, want cloud.State) cloud.Instance {
	t.Helper()
	for deadline := time.Now().Add(s.o.Patience); ; time.Sleep(100 * time.Millisecond) {
		in, err := s.d.Get(t.Context(), id)
		if errors.Is(err, cloud.ErrNotFound) && want == cloud.Removed {
			return in
		}
		if err != nil {
			t.Fatal(err)
		}
		if in.State == want {
			return in
		}
		if time.Now().After(deadline) {
			t.Fatalf("it is %s, and never %s", in.State, want)
		}
	}
}

func (s *suite) catalogue(t *testing.T) {
	regions, err := s.d.Regions(t.Context())
	if err != nil || !slices.ContainsFunc(regions, func(r cloud.Region) bool { return r.Name == s.o.Region && len(r.Zones) > 0 }) {
		t.Fatalf("regions: %+v %v", regions, err)
	}
	images, err := s.d.Images(t.Context(), s.o.Region)
	if err != nil {
		t.Fatal(err)
	}
	sizes, err := s.d.Sizes(t.Context(), s.o.Region)
	if err != nil {
		t.Fatal(err)
	}
	for _, i := range images {
		if i.LoginUser == "" || len(i.KeyTypes) == 0 || i.MinDiskGB < 1 || !slices.Contains(i.Regions, s.o.Region) {
			t.Errorf("an image that does not say what it needs: %+v", i)
		}
		if !slices.ContainsFunc(sizes, func(z cloud.Size) bool { return z.Name == i.SmallestSize }) {
			t.Errorf("image %s: its smallest size %q is not offered", i.Name, i.SmallestSize)
		}
	}
	for _, z := range sizes {
		if z.CPUs < 1 || z.MemoryMB < 1 || z.DiskGB < 1 || !slices.Contains(z.Regions, s.o.Region) {
			t.Errorf("size %+v", z)
		}
	}
	if s.o.OtherRegion == "" {
		return
	}
	all, err := s.d.Images(t.Context(), "")
	if err != nil {
		t.Fatal(err)
	}
	other, err := s.d.Images(t.Context(), s.o.OtherRegion)
	if err != nil {
		t.Fatal(err)
	}
	if len(other) >= len(all) {
		t.Errorf("%s has all %d images", s.o.OtherRegion, len(all))
	}
}

func (s *suite) names(t *testing.T) {
	rule := s.d.Properties().Names
	if err := rule.Check(s.o.Name + "123456"); err != nil {
		t.Errorf("a good name: %v", err)
	}
	if err := rule.Check(s.o.BadName); err == nil || !strings.Contains(err.Error(), rule.Words) {
		t.Errorf("a bad name: %v", err)
	}
	// The cloud itself agrees with what its driver states.
	l := s.launch(token())
	l.Name = s.o.BadName
	if in, err := s.d.Launch(t.Context(), token(), l); !errors.Is(err, cloud.ErrRefused) {
		t.Errorf("the cloud takes a name that its driver says it refuses: %+v %v", in, err)
	}
}

func (s *suite) life(t *testing.T) {
	tok := token()
	l := s.launch(tok)
	in, err := s.d.Launch(t.Context(), tok, l)
	if err != nil {
		t.Fatal(err)
	}
	if in.ID == "" || in.Name != l.Name || in.Region != l.Region || in.Zone == "" || in.LoginUser == "" || in.Tags["suite"] != "driver" || in.DiskGB < 1 {
		t.Errorf("launched: %+v", in)
	}
	in = s.await(t, in.ID, cloud.Running)
	if in.Address == "" || in.Port == 0 {
		t.Errorf("running: %+v", in)
	}
	if text, err := s.d.BootOutput(t.Context(), in.ID); err != nil || text == "" {
		t.Errorf("boot output: %q %v", text, err)
	}
	if _, err := s.d.Stop(t.Context(), token(), in.ID); err != nil {
		t.Fatal(err)
	}
	s.await(t, in.ID, cloud.Stopped)
	if _, err := s.d.Start(t.Context(), token(), in.ID); err != nil {
		t.Fatal(err)
	}
	s.await(t, in.ID, cloud.Running)
	if _, err := s.d.Remove(t.Context(), token(), in.ID); err != nil {
		t.Fatal(err)
	}
	s.await(t, in.ID, cloud.Removed)
}

// tokens: what is asked again is not done again, however late it comes.
func (s *suite) tokens(t *testing.T) {
	tok := token()
	l := s.launch(tok)
	if _, err := s.d.ByToken(t.Context(), tok); !errors.Is(err, cloud.ErrNotFound) {
		t.Errorf("before anything was launched: %v", err)
	}
	first, err := s.d.Launch(t.Context(), tok, l)
	if err != nil {
		t.Fatal(err)
	}
	again, err := s.d.Launch(t.Context(), tok, l)
	if err != nil || again.ID != first.ID {
		t.Errorf("launched twice: %s and %s %v", first.ID, again.ID, err)
	}
	if found, err := s.d.ByToken(t.Context(), tok); err != nil || found.ID != first.ID {
		t.Errorf("by its token: %+v %v", found, err)
	}
	other := l
	other.Image += "-other"
	if in, err := s.d.Launch(t.Context(), tok, other); err == nil && in.ID != first.ID {
		t.Error("another launch under the same token was taken")
	}
	s.await(t, first.ID, cloud.Running)
	stop := token()
	if _, err := s.d.Stop(t.Context(), stop, first.ID); err != nil {
		t.Fatal(err)
	}
	s.await(t, first.ID, cloud.Stopped)
	start := token()
	if _, err := s.d.Start(t.Context(), start, first.ID); err != nil {
		t.Fatal(err)
	}
	s.await(t, first.ID, cloud.Running)
	if in, err := s.d.Stop(t.Context(), stop, first.ID); err != nil || in.State != cloud.Running {
		t.Errorf("a stop that comes late stops it again: %+v %v", in, err)
	}
	time.Sleep(300 * time.Millisecond)
	s.await(t, first.ID, cloud.Running)
	remove := token()
	for range 2 {
		if _, err := s.d.Remove(t.Context(), remove, first.ID); err != nil && !errors.Is(err, cloud.ErrNotFound) {
			t.Fatal(err)
		}
	}
	s.await(t, first.ID, cloud.Removed)
	// The token stays used: nothing comes to life again.
	if in, err := s.d.Launch(t.Context(), tok, l); err == nil && (in.ID != first.ID || in.State == cloud.Running || in.State == cloud.Pending) {
		t.Errorf("launched again after it was removed: %+v", in)
	}
}

func (s *suite) refusals(t *testing.T) {
	if _, err := s.d.Get(t.Context(), "no-such-instance"); !errors.Is(err, cloud.ErrNotFound) {
		t.Errorf("get: %v", err)
	}
	for name, call := range map[string]func(context.Context, string, string) (cloud.Instance, error){"stop": s.d.Stop, "start": s.d.Start, "remove": s.d.Remove} {
		if _, err := call(t.Context(), token(), "no-such-instance"); !errors.Is(err, cloud.ErrNotFound) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for name, change := range map[string]func(*cloud.Launch){
		"region": func(l *cloud.Launch) { l.Region = "nowhere" }, "image": func(l *cloud.Launch) { l.Image = "nothing" }, "size": func(l *cloud.Launch) { l.Size = "none" },
		"zone": func(l *cloud.Launch) { l.Zone = "nowhere" }, "disk": func(l *cloud.Launch) { l.DiskGB = 1 },
		"user data": func(l *cloud.Launch) { l.UserData = strings.Repeat("#", s.d.Properties().MaxUserData+1) },
	} {
		l := s.launch(token())
		change(&l)
		if in, err := s.d.Launch(t.Context(), token(), l); !errors.Is(err, cloud.ErrRefused) {
			t.Errorf("%s: %+v %v", name, in, err)
		}
	}
}

func (s *suite) deadline(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := s.d.Get(ctx, "x"); err == nil {
		t.Error("a call goes on after its context has ended")
	}
}
