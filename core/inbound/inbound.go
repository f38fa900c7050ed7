// Package inbound reasons about inbound rules: whom they let in to which ports, and whether
// people still come in to the SSH port when one of them is gone.
package inbound

import (
	"errors"
	"fmt"
	"net/netip"
	"strconv"
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
	Ports   Ports     // zero: the SSH port
}

// Ports is a range of ports besides the SSH port. The zero value is the SSH port itself.
type Ports struct{ First, Last int }

// ErrPorts says that a text is no range of ports.
var ErrPorts = errors.New("that is no port: write a number from 1 to 65535, or a range such as 9000-9001")

// ParsePorts reads "9000" or "9000-9001".
func ParsePorts(text string) (Ports, error) {
	first, last, isRange := strings.Cut(text, "-")
	if !isRange {
		last = first
	}
	var p Ports
	for _, n := range []struct {
		text string
		into *int
	}{{first, &p.First}, {last, &p.Last}} {
		port, err := strconv.ParseUint(n.text, 10, 16)
		if err != nil || port == 0 {
			return Ports{}, ErrPorts
		}
		*n.into = int(port)
	}
	if p.First > p.Last {
		return Ports{}, fmt.Errorf("%w: did you mean %d-%d?", ErrPorts, p.Last, p.First)
	}
	return p, nil
}

// SSH tells whether it is the SSH port.
func (p Ports) SSH() bool { return p == Ports{} }

// Has tells whether a port is in the range.
func (p Ports) Has(port int) bool { return p.First <= port && port <= p.Last }

// String writes the range as ParsePorts reads it; "" for the SSH port.
func (p Ports) String() string {
	switch {
	case p.SSH():
		return ""
	case p.First == p.Last:
		return strconv.Itoa(p.First)
	}
	return fmt.Sprintf("%d-%d", p.First, p.Last)
}

const portWord = " port "

// Word is what a rule lets in, in one text by which it is told from others of its group: the range of
// addresses, and the ports if they are others than the SSH port.
func Word(from netip.Prefix, p Ports) string {
	if p.SSH() {
		return from.String()
	}
	return from.String() + portWord + p.String()
}

// ParseWord reads what Word writes.
func ParseWord(word string) (netip.Prefix, Ports, error) {
	text, ports, others := strings.Cut(word, portWord)
	from, err := netip.ParsePrefix(text)
	if err != nil {
		return netip.Prefix{}, Ports{}, ErrRange
	}
	var p Ports
	if others {
		if p, err = ParsePorts(ports); err != nil {
			return netip.Prefix{}, Ports{}, err
		}
	}
	return from, p, nil
}

// Admits returns the first rule that lets an address in to the SSH port.
func Admits(rules []Rule, a netip.Addr) (Rule, bool) {
	for _, r := range rules {
		if r.Ports.SSH() && r.From.Contains(a.Unmap()) {
			return r, true
		}
	}
	return Rule{}, false
}

// PeopleComeIn tells whether, without the named rules, there is still one that
// people come in by: one of the SSH port, without an end, and not the service's alone.
func PeopleComeIn(rules []Rule, without ...string) bool {
next:
	for _, r := range rules {
		for _, id := range without {
			if r.ID == id {
				continue next
			}
		}
		if r.Ports.SSH() && r.Until.IsZero() && !r.Service {
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
