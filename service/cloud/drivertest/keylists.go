package drivertest

import (
	"errors"
	"slices"
	"testing"

	"plumlatch/core/keypair"
	"plumlatch/service/cloud"
)

// keyLists tries the cloud's lists of keys, if it says that it has some.
func (s *suite) keyLists(t *testing.T) {
	p := s.d.Properties().KeyLists
	if p == nil {
		t.Skip("the cloud keeps no keys under names")
	}
	region := ""
	if p.Scope == cloud.KeysByRegion {
		region = s.o.Region
	}
	var lines []string
	for range 2 {
		pair, err := keypair.Create(keypair.Ed25519, "driver")
		if err != nil {
			t.Fatal(err)
		}
		lines = append(lines, pair.Public.Line())
	}
	name, first := s.o.Name+token()[:6], token()
	has := func() (out []cloud.KeyEntry) {
		list, err := s.d.ListKeys(t.Context(), region)
		if err != nil {
			t.Fatal(err)
		}
		if list.Limit > 0 && len(list.Entries) > list.Limit {
			t.Errorf("%d of %d", len(list.Entries), list.Limit)
		}
		for _, e := range list.Entries {
			if e.Name == name {
				out = append(out, e)
			}
		}
		return out
	}
	e, err := s.d.AddKey(t.Context(), first, region, name, lines[0])
	if err != nil || e.Name != name || e.ID == "" || e.Fingerprint == "" {
		t.Fatalf("added: %+v, %v", e, err)
	}
	for _, again := range []string{first, token()} { // asked again, and asked by somebody else
		if other, err := s.d.AddKey(t.Context(), again, region, name, lines[0]); err != nil || other.ID != e.ID {
			t.Errorf("again: %+v, %v", other, err)
		}
	}
	if _, err := s.d.AddKey(t.Context(), token(), region, name, lines[1]); !errors.Is(err, cloud.ErrRefused) {
		t.Errorf("another key under the name: %v", err)
	}
	if all := has(); len(all) != 1 || all[0].ID != e.ID || all[0].Fingerprint != e.Fingerprint {
		t.Errorf("listed: %+v", all)
	}
	if p.Names.Check(s.o.BadName) != nil {
		if _, err := s.d.AddKey(t.Context(), token(), region, s.o.BadName, lines[1]); !errors.Is(err, cloud.ErrRefused) {
			t.Errorf("a bad name: %v", err)
		}
	}
	if len(p.Kinds) > 0 && !slices.Contains(p.Kinds, "ecdsa-sha2-nistp256") {
		pair, err := keypair.Create(keypair.ECDSA256, "driver")
		if err != nil {
			t.Fatal(err)
		}
		if _, err := s.d.AddKey(t.Context(), token(), region, name+"x", pair.Public.Line()); !errors.Is(err, cloud.ErrRefused) {
			t.Errorf("a kind that it does not take: %v", err)
		}
	}
	for range 2 { // one that is gone is no error
		if err := s.d.RemoveKey(t.Context(), token(), region, e.ID); err != nil {
			t.Error(err)
		}
	}
	if all := has(); len(all) != 0 {
		t.Errorf("removed, and listed: %+v", all)
	}
	// What comes late undoes nothing that was done since.
	if late, err := s.d.AddKey(t.Context(), first, region, name, lines[0]); err == nil {
		t.Errorf("it came late, and was done: %+v", late)
	}
	if all := has(); len(all) != 0 {
		t.Errorf("it came late, and is listed: %+v", all)
	}
}
