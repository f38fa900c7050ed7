package inbound_test

import (
	"fmt"
	"net/netip"

	"plumlatch/core/inbound"
)

func ExampleParseRange() {
	p, err := inbound.ParseRange("198.51.100.7")
	fmt.Println(p, err)
	_, err = inbound.ParseRange("198.51.100.7/24")
	fmt.Println(err)
	// Output:
	// 198.51.100.7/32 <nil>
	// an address within the network is given, and not the network itself: did you mean 198.51.100.0/24, or only 198.51.100.7?
}

func ExampleAdmits() {
	rules := []inbound.Rule{{ID: "r-1", From: netip.MustParsePrefix("198.51.100.0/24")}}
	r, ok := inbound.Admits(rules, netip.MustParseAddr("198.51.100.7"))
	fmt.Println(r.ID, ok)
	_, ok = inbound.Admits(rules, netip.MustParseAddr("203.0.113.9"))
	fmt.Println(ok)
	// Output:
	// r-1 true
	// false
}
