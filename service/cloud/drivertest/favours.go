package drivertest

import (
	"errors"
	"slices"
	"testing"
	"time"

	"plumlatch/core/firstpassword"
	"plumlatch/core/keypair"
	"plumlatch/service/cloud"
)

// lending tries a cloud's favour to take a key for a while, if it says that it does that.
func (s *suite) lending(t *testing.T) {
	p := s.d.Properties().Lends
	if p == nil {
		t.Skip("the cloud lends no keys")
	}
	if p.For <= 0 {
		t.Errorf("for %s", p.For)
	}
	pair, err := keypair.Create(keypair.Ed25519, "driver")
	if err != nil {
		t.Fatal(err)
	}
	in, err := s.d.Launch(t.Context(), token(), s.launch(token()))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _, _ = s.d.Remove(t.Context(), token(), in.ID) }()
	in = s.await(t, in.ID, cloud.Running)
	if len(p.Images) > 0 && !slices.Contains(p.Images, s.o.Image) {
		if _, err := s.d.Lend(t.Context(), token(), in.ID, in.LoginUser, pair.Public.Line()); !errors.Is(err, cloud.ErrRefused) {
			t.Errorf("on an image without the agent: %v", err)
		}
		return
	}
	if s.o.NoSystem { // no agent runs there
		if _, err := s.d.Lend(t.Context(), token(), in.ID, in.LoginUser, pair.Public.Line()); !errors.Is(err, cloud.ErrRefused) {
			t.Errorf("without an agent: %v", err)
		}
		return
	}
	first := token()
	until, err := s.d.Lend(t.Context(), first, in.ID, in.LoginUser, pair.Public.Line())
	if err != nil || !until.After(time.Now()) || until.After(time.Now().Add(p.For+time.Minute)) {
		t.Errorf("until %s: %v", until, err)
	}
	if again, err := s.d.Lend(t.Context(), first, in.ID, in.LoginUser, pair.Public.Line()); err != nil || !again.Equal(until) {
		t.Errorf("the same token: %s, and %s before: %v", again, until, err)
	}
	if _, err := s.d.Lend(t.Context(), token(), "no-such-instance", in.LoginUser, pair.Public.Line()); err == nil {
		t.Error("on no instance")
	}
	if _, err := s.d.Lend(t.Context(), token(), in.ID, in.LoginUser, "no key"); !errors.Is(err, cloud.ErrRefused) {
		t.Errorf("no key: %v", err)
	}
}

// firstPasswords tries an image that gives a first password, if the region has one.
func (s *suite) firstPasswords(t *testing.T) {
	images, err := s.d.Images(t.Context(), s.o.Region)
	if err != nil {
		t.Fatal(err)
	}
	n := slices.IndexFunc(images, func(i cloud.Image) bool { return i.FirstPassword })
	if n < 0 {
		t.Skip("no image of the region gives a first password")
	}
	image := images[n]
	pair, err := keypair.Create(keypair.RSA2048, "driver")
	if err != nil {
		t.Fatal(err)
	}
	l := s.launch(token())
	l.Image, l.Size, l.UserData, l.PasswordKey = image.Name, image.SmallestSize, "", pair.Public.Line()
	in, err := s.d.Launch(t.Context(), token(), l)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _, _ = s.d.Remove(t.Context(), token(), in.ID) }()
	s.await(t, in.ID, cloud.Running)
	text := ""
	for deadline := time.Now().Add(s.o.Patience); text == ""; time.Sleep(100 * time.Millisecond) {
		if text, err = s.d.FirstPassword(t.Context(), in.ID); err != nil && !errors.Is(err, cloud.ErrNotFound) || time.Now().After(deadline) {
			t.Fatal(err)
		}
	}
	sealed, err := firstpassword.CipherText(text)
	if err != nil {
		t.Fatal(err)
	}
	if password, err := firstpassword.Decrypt(pair, sealed); err != nil || password == "" {
		t.Errorf("%q %v", password, err)
	}
	plain, err := s.d.Launch(t.Context(), token(), s.launch(token()))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _, _ = s.d.Remove(t.Context(), token(), plain.ID) }()
	s.await(t, plain.ID, cloud.Running)
	if _, err := s.d.FirstPassword(t.Context(), plain.ID); !errors.Is(err, cloud.ErrNotFound) {
		t.Errorf("of one that gives none: %v", err)
	}
}
