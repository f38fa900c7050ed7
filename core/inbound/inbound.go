// Package inbound reasons about inbound rules of the SSH port: whom they let
// in, and whether people still come in when one of them is gone.
package inbound

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"
)

// Errors of ParseRange. The text of each says what to write instead.
var (
	ErrRange    = errors.New("that is no address range: write an address, or a network such as 198.51.100.0/24")
	ErrHostBits = errors.New("an address within the network is given, and not the network itself")
	ErrFamily   = errors.New("the wrong family of addresses")
)

// ParseRange reads an address or a network in CIDR notation (RFC 4632, RFC
// 4291). A lone address is a network of one. A network with host bits set is
// refused, with the network that may have been meant.
func ParseRange(text string) (netip.Prefix, error) {
	if a, err := netip.ParseAddr(text); err == nil {
		if a.Zone() != "" {
			return netip.Prefix{}, fmt.Errorf("%w; and without a zone", ErrRange)
		}
		a = a.Unmap()
		return netip.PrefixFrom(a, a.BitLen()), nil
	}
	p, err := netip.ParsePrefix(text)
	if err != nil {
		return netip.Prefix{}, ErrRange
	}
	if p.Addr().Is4In6() {
		return netip.Prefix{}, fmt.Errorf("%w: write the IPv4 network itself", ErrRange)
	}
	if p != p.Masked() {
		return netip.Prefix{}, fmt.Errorf("%w: did you mean %s, or only %s?", ErrHostBits, p.Masked(), p.Addr())
	}
	return p, nil
}

// CheckFamily refuses a range that can let nobody in to an instance with the
// given address, because it is of the other family.
func CheckFamily(p netip.Prefix, address string) error {
	a, err := netip.ParseAddr(address)
	if err != nil || a.Unmap().Is4() == p.Addr().Is4() {
		return nil
	}
	of := func(v4 bool) string { return map[bool]string{true: "IPv4", false: "IPv6"}[v4] }
	return fmt.Errorf("%w: the instance's address %s is %s, and %s would let nobody in", ErrFamily, a,
		of(a.Unmap().Is4()), of(p.Addr().Is4())+" from "+p.String())
}

// World tells whether a range is so wide that it stands for everybody.
func World(p netip.Prefix) bool { return p.Bits() <= map[bool]int{true: 4, false: 16}[p.Addr().Is4()] }

// Rule is one inbound rule of an instance.
type Rule struct {
	ID      string
	From    netip.Prefix
	Until   time.Time // zero: it has no end
	Service bool      // the service itself comes in by it, and nobody else
}

// Admits returns the first rule that lets an address in.
func Admits(rules []Rule, a netip.Addr) (Rule, bool) {
	for _, r := range rules {
		if r.From.Contains(a.Unmap()) {
			return r, true
		}
	}
	return Rule{}, false
}

// PeopleComeIn tells whether, without the named rules, there is still one that
// people come in by: one without an end, and not the service's alone.
func PeopleComeIn(rules []Rule, without ...string) bool {
next:
	for _, r := range rules {
		for _, id := range without {
			if r.ID == id {
				continue next
			}
		}
		if r.Until.IsZero() && !r.Service {
			return true
		}
	}
	return false
}

// Words names ranges in a sentence.
func Words(rules []Rule) string {
	if len(rules) == 0 {
		return "nobody"
	}
	var out []string
	for _, r := range rules {
		out = append(out, r.From.String())
	}
	return strings.Join(out, ", ")
}
