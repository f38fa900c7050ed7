// Package drivertest holds the tests that every cloud driver must pass: what
// cloud.Driver promises, tried against a cloud that runs.
package drivertest

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"plumlatch/core/inbound"
	"plumlatch/service/cloud"
)

// Options say what the suite may use of a cloud.
type Options struct {
	Region, Image, Size string        // of instances that it launches, and removes again
	OtherRegion         string        // in which some image or size is missing; "" if there is none
	Name                string        // a name that the cloud takes; the suite appends digits
	BadName             string        // one that it does not take
	Patience            time.Duration // for a change of state
	// NoSystem: its instances have no operating system, so that one that runs does not let go of a volume.
	NoSystem bool
}

// Run tries a driver. Each part is a subtest.
func Run(t *testing.T, d cloud.Driver, o Options) {
	s := &suite{d: d, o: o}
	t.Run("catalogue", s.catalogue)
	t.Run("names", s.names)
	t.Run("life", s.life)
	t.Run("tokens", s.tokens)
	t.Run("rules", s.rules)
	t.Run("static addresses", s.addresses)
	t.Run("volumes", s.volumes)
	t.Run("user data", s.userData)
	t.Run("lists of keys", s.keyLists)
	t.Run("images of instances", s.ownImages)
	t.Run("lent keys", s.lending)
	t.Run("first passwords", s.firstPasswords)
	t.Run("terms", s.terms)
	t.Run("refusals", s.refusals)
	t.Run("an end to waiting", s.deadline)
}

type suite struct {
	d cloud.Driver
	o Options
}

func (s *suite) launch(token string) cloud.Launch {
	return cloud.Launch{Name: s.o.Name + token[:6], Region: s.o.Region, Image: s.o.Image, Size: s.o.Size,
		Tags: map[string]string{"suite": "driver"}, UserData: "#cloud-config\n"}
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
	if err != nil || !slices.ContainsFunc(regions, func(r cloud.Region) bool {
		return r.Name == s.o.Region &&
			len(r.Zones) > 0
	}) {
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
	if in.ID == "" || in.Name != l.Name || in.Region != l.Region || in.Zone == "" || in.LoginUser == "" ||
		in.Tags["suite"] != "driver" || in.DiskGB < 1 {
		t.Errorf("launched: %+v", in)
	}
	in = s.await(t, in.ID, cloud.Running)
	if in.Address == "" || in.Port == 0 {
		t.Errorf("running: %+v", in)
	}
	for deadline := time.Now().Add(s.o.Patience); ; time.Sleep(100 * time.Millisecond) {
		text, err := s.d.BootOutput(t.Context(), in.ID)
		if err != nil {
			t.Fatal(err)
		}
		if text != "" {
			break
		}
		if time.Now().After(deadline) {
			t.Fatal("it writes nothing when it boots")
		}
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
	if in, err := s.d.Launch(t.Context(), tok, l); err == nil && (in.ID != first.ID || in.State == cloud.Running ||
		in.State == cloud.Pending) {
		t.Errorf("launched again after it was removed: %+v", in)
	}
}

func (s *suite) refusals(t *testing.T) {
	if _, err := s.d.Get(t.Context(), "no-such-instance"); !errors.Is(err, cloud.ErrNotFound) {
		t.Errorf("get: %v", err)
	}
	for name, call := range map[string]func(context.Context, string, string) (cloud.Instance, error){"stop": s.d.Stop,
		"start": s.d.Start, "remove": s.d.Remove} {
		if _, err := call(t.Context(), token(), "no-such-instance"); !errors.Is(err, cloud.ErrNotFound) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for name, change := range map[string]func(*cloud.Launch){
		"region": func(l *cloud.Launch) { l.Region = "nowhere" },
		"image":  func(l *cloud.Launch) { l.Image = "nothing" }, "size": func(l *cloud.Launch) { l.Size = "none" },
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

// launched launches an instance and waits until it runs.
func (s *suite) launched(t *testing.T) cloud.Instance {
	t.Helper()
	tok := token()
	in, err := s.d.Launch(t.Context(), tok, s.launch(tok))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _, _ = s.d.Remove(context.Background(), token(), in.ID) })
	return s.await(t, in.ID, cloud.Running)
}

// rules: who is admitted, in groups that are shared and in an instance's own.
func (s *suite) rules(t *testing.T) {
	if s.d.Properties().NoRules {
		in := s.launched(t)
		if groups, err := s.d.Groups(t.Context(), in.ID); !errors.Is(err, cloud.ErrRefused) {
			t.Errorf("it has no rules, and does not say so: %+v %v", groups, err)
		}
		if _, err := s.d.OwnGroup(t.Context(), token(), in.ID); !errors.Is(err, cloud.ErrRefused) {
			t.Errorf("it has no rules, and makes a group: %v", err)
		}
		return
	}
	in, other := s.launched(t), s.launched(t)
	all, err := s.d.List(t.Context(), s.o.Region)
	if err != nil || !slices.ContainsFunc(all, func(i cloud.Instance) bool {
		return i.ID == in.ID &&
			i.Address == in.Address
	}) {
		t.Errorf("the list lacks it: %v", err)
	}
	groups, err := s.d.Groups(t.Context(), in.ID)
	if err != nil || len(groups) == 0 || !slices.Contains(groups[0].Members, in.ID) ||
		!slices.Contains(groups[0].Members, other.ID) || groups[0].Own {
		t.Fatalf("the group that instances share: %+v %v", groups, err)
	}
	tok := token()
	own, err := s.d.OwnGroup(t.Context(), tok, in.ID)
	if err != nil || !own.Own || len(own.Members) != 1 {
		t.Fatalf("a group of its own: %+v %v", own, err)
	}
	if again, err := s.d.OwnGroup(t.Context(), tok, in.ID); err != nil || again.ID != own.ID {
		t.Errorf("asked again: %+v %v", again, err)
	}
	from := netip.MustParsePrefix("192.0.2.0/24")
	admit := token()
	first, err := s.d.Admit(t.Context(), admit, own.ID, from, inbound.Ports{}, "the suite")
	if err != nil || first.From != from || first.ID == "" {
		t.Fatalf("admit: %+v %v", first, err)
	}
	again, err := s.d.Admit(t.Context(), admit, own.ID, from, inbound.Ports{}, "the suite")
	if err != nil || again.ID != first.ID {
		t.Errorf("admitted twice: %+v %v", again, err)
	}
	has := func() bool {
		groups, err := s.d.Groups(t.Context(), in.ID)
		if err != nil {
			t.Fatal(err)
		}
		n := slices.IndexFunc(groups, func(g cloud.Group) bool { return g.ID == own.ID })
		return n >= 0 && slices.ContainsFunc(groups[n].Rules, func(r cloud.Rule) bool { return r.From == from && r.Ports.SSH() })
	}
	if !has() {
		t.Error("the rule is not there")
	}
	// The same range for other ports is another rule.
	wide, err := s.d.Admit(t.Context(), token(), own.ID, from, inbound.Ports{First: 9000, Last: 9001}, "the suite")
	if err != nil || wide.ID == first.ID || wide.From != from || wide.Ports != (inbound.Ports{First: 9000, Last: 9001}) {
		t.Errorf("other ports: %+v %v", wide, err)
	}
	if err := s.d.Unadmit(t.Context(), token(), own.ID, wide.ID); err != nil || !has() {
		t.Errorf("other ports are let in no more: %v, and the rule of the SSH port is there: %t", err, has())
	}
	unadmit := token()
	for range 2 {
		if err := s.d.Unadmit(t.Context(), unadmit, own.ID, first.ID); err != nil {
			t.Fatal(err)
		}
	}
	if has() {
		t.Error("the rule is still there")
	}
	if _, err := s.d.Admit(t.Context(), admit, own.ID, from, inbound.Ports{}, "the suite"); err != nil || has() {
		t.Errorf("an admit that comes late lets somebody in again: %v", err)
	}
	if _, err := s.d.Admit(t.Context(), token(), "no-such-group", from, inbound.Ports{}, ""); !errors.Is(err, cloud.ErrNotFound) {
		t.Errorf("no such group: %v", err)
	}
}

// addresses: a static address stays through a stop and a start, and moves.
func (s *suite) addresses(t *testing.T) {
	if s.d.Properties().NoStaticAddresses {
		if _, err := s.d.Reserve(t.Context(), token(), s.o.Region, s.o.Name); !errors.Is(err, cloud.ErrRefused) {
			t.Errorf("it has no addresses to reserve, and reserves one: %v", err)
		}
		return
	}
	in, other := s.launched(t), s.launched(t)
	tok := token()
	name := s.o.Name + tok[:6]
	a, err := s.d.Reserve(t.Context(), tok, s.o.Region, name)
	if err != nil || a.Address == "" || a.ID == "" || a.Instance != "" {
		t.Fatalf("reserve: %+v %v", a, err)
	}
	if again, err := s.d.Reserve(t.Context(), tok, s.o.Region, name); err != nil || again.ID != a.ID {
		t.Errorf("reserved twice: %+v %v", again, err)
	}
	move := token()
	if _, err := s.d.Move(t.Context(), move, a.ID, in.ID); err != nil {
		t.Fatal(err)
	}
	at := func(i cloud.Instance) string {
		i, err := s.d.Get(t.Context(), i.ID)
		if err != nil {
			t.Fatal(err)
		}
		return i.Address
	}
	if at(in) != a.Address {
		t.Errorf("it is at %s", at(in))
	}
	if err := s.d.Release(t.Context(), token(), a.ID); !errors.Is(err, cloud.ErrRefused) {
		t.Errorf("released from under an instance: %v", err)
	}
	if _, err := s.d.Stop(t.Context(), token(), in.ID); err != nil {
		t.Fatal(err)
	}
	s.await(t, in.ID, cloud.Stopped)
	if _, err := s.d.Start(t.Context(), token(), in.ID); err != nil {
		t.Fatal(err)
	}
	if got := s.await(t, in.ID, cloud.Running); got.Address != a.Address {
		t.Errorf("after a stop and a start it is at %s, and not %s", got.Address, a.Address)
	}
	if _, err := s.d.Move(t.Context(), token(), a.ID, other.ID); err != nil {
		t.Fatal(err)
	}
	if at(other) != a.Address || at(in) == a.Address || at(in) == "" {
		t.Errorf("moved: %s has it, %s", at(other), at(in))
	}
	if _, err := s.d.Move(t.Context(), move, a.ID, in.ID); err != nil || at(other) != a.Address {
		t.Errorf("a move that comes late moves it back: %v", err)
	}
	all, err := s.d.StaticAddresses(t.Context(), s.o.Region)
	if err != nil || !slices.ContainsFunc(all, func(x cloud.StaticAddress) bool {
		return x.ID == a.ID &&
			x.Instance == other.ID
	}) {
		t.Errorf("the list: %+v %v", all, err)
	}
	if _, err := s.d.Move(t.Context(), token(), a.ID, ""); err != nil {
		t.Fatal(err)
	}
	if err := s.d.Release(t.Context(), token(), a.ID); err != nil {
		t.Fatal(err)
	}
	if err := s.d.Release(t.Context(), token(), a.ID); !errors.Is(err, cloud.ErrNotFound) {
		t.Errorf("released twice: %v", err)
	}
	_, _ = s.d.Reserve(t.Context(), tok, s.o.Region, name) // it comes late
	if all, err = s.d.StaticAddresses(t.Context(), s.o.Region); err != nil ||
		slices.ContainsFunc(all, func(x cloud.StaticAddress) bool { return x.Name == name }) {
		t.Errorf("a request that comes late reserves again: %v", err)
	}
}

func (s *suite) deadline(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := s.d.Get(ctx, "x"); err == nil {
		t.Error("a call goes on after its context has ended")
	}
}
