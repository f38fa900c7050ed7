package e2e

import (
	"encoding/json"
	"strings"
	"testing"

	"plumlatch/core/wire"
)

// TestPricesAndStaticAddress: what things cost is said before they are made, where the cloud says so; and an
// instance is launched with a static address, of its own or one that is there.
func TestPricesAndStaticAddress(t *testing.T) {
	t.Parallel()
	s := newSlot(t, 133)
	d := newHome(t, &demo{dir: s.dir, url: s.serve(t).URL(), token: s.token})
	contains(t, "sizes", d.must(t, "size", "list"), "AN HOUR", "2 harbour pence", "A MONTH", "1460 harbour pence")
	launch := func(name string, more ...string) result {
		return d.client(t, "", append([]string{"instance", "launch", name, "-image", "debian-12", "-size", "small/10", "-region",
			"north-pier", "-key", s.key}, more...)...)
	}
	if r := launch("price-1", "-plan"); r.code != 0 || !strings.HasPrefix(r.out, "#cloud-config") || !strings.Contains(r.err,
		"It costs 2.2 harbour pence an hour, 1606 a month, by the cloud's list") || !strings.Contains(r.err, "It usually runs after ") {
		t.Errorf("the plan: %+v", r)
	}
	if r := launch("price-1", "-plan", "-static-address", "new"); !strings.Contains(r.err, "It costs 2.7 harbour pence an hour") {
		t.Errorf("with an address: %+v", r)
	}
	addressOf := func(name string) (at wire.StaticAddress) {
		t.Helper()
		var list wire.List[wire.StaticAddress]
		mustDo(t, json.Unmarshal([]byte(d.must(t, "static-address", "list", "-json")), &list))
		for _, a := range list.Items {
			if a.Name == name {
				at = a
			}
		}
		return at
	}

	// One of its own.
	if r := launch("price-own", "-static-address", "new"); r.code != 0 {
		t.Fatalf("%+v", r)
	}
	own := addressOf("price-own")
	if i := d.instance(t, "price-own"); own.Instance != "price-own" || i.Address != own.Address || len(i.Addresses) == 0 ||
		!i.Addresses[0].Static {
		t.Errorf("it is at %s, and the address is %+v", i.Address, own)
	}
	contains(t, "it stays", d.must(t, "instance", "stop", "-yes", "price-own"), "")
	d.must(t, "instance", "start", "price-own")
	if i := d.instance(t, "price-own"); i.Address != own.Address {
		t.Errorf("after a stop it is at %s, and not at %s", i.Address, own.Address)
	}

	// One that is there.
	d.must(t, "static-address", "reserve", "price-front", "-region", "north-pier")
	contains(t, "what it costs", d.must(t, "static-address", "list"), "price-front", "nobody", "0.5 harbour pence", "365 harbour pence")
	if r := launch("price-front-board", "-static-address", "price-front"); r.code != 0 {
		t.Fatalf("%+v", r)
	}
	if a := addressOf("price-front"); a.Instance != "price-front-board" || d.instance(t, "price-front-board").Address != a.Address {
		t.Errorf("%+v", a)
	}
	d.must(t, "static-address", "reserve", "price-south", "-region", "south-pier")
	for address, want := range map[string]string{
		"price-front":   "another instance has price-front",
		"price-south":   "price-south is an address of south-pier",
		"price-nowhere": "there is no such static address; new reserves one",
	} {
		if r := launch("price-never", "-static-address", address); r.code != 1 || !strings.Contains(r.err, want) ||
			!strings.Contains(r.err, "-static-address") {
			t.Errorf("%s: %+v", address, r)
		}
	}
	if r := launch("price-front", "-static-address", "new"); r.code != 1 || !strings.Contains(r.err, "there is a static address price-front already") {
		t.Errorf("a name that is taken: %+v", r)
	}
	if r := d.client(t, "", "instance", "show", "price-never"); r.code == 0 {
		t.Errorf("it was launched all the same: %s", r.out)
	}

	// What mends it costs something.
	d.launchBoard(t, "price-lost", s.key)
	d.must(t, "key", "lost", s.key, "-yes")
	contains(t, "today", d.must(t, "today", "-instance", "price-lost"), "plumlatch restore price-lost", "costs at most 2 harbour pence")
}
