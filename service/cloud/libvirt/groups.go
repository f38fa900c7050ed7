package libvirt

import (
	"cmp"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"plumlatch/core/inbound"
	"plumlatch/core/plaintext"
	"plumlatch/service/cloud"
)

// A machine in a network of libvirt has a filter of its own (libvirt calls them network filters), which the host enforces outside the machine:
// what leads in is what its rules and those of its shared group let in, and the answers to what leads out. The filter itself is what is read
// when somebody asks for the rules: whoever changes it by hand has changed the rules. Only the notes are kept with the machine.

// The priorities of rules within a filter: the lower comes first (libvirt's "network filters": from -1000 to 1000).
const (
	priorityAddress = 300 // how a machine gets its address
	priorityRule    = 400
	priorityOut     = 700
	priorityDrop    = 900
)

// stockFilter is one of libvirt's own: a machine sends from no address but its own.
const stockFilter = "clean-traffic"

func filterName(id string) string      { return "plumlatch-" + id }
func networkName(region string) string { return "plumlatch-" + region }
func sharedName(region string) string  { return "plumlatch-shared-" + region }

// filter is a filter's definition, in so far as the driver reads it.
type filter struct {
	Refs []struct {
		Filter string `xml:"filter,attr"`
	} `xml:"filterref"`
	Rules []struct {
		Action    string   `xml:"action,attr"`
		Direction string   `xml:"direction,attr"`
		Priority  int      `xml:"priority,attr"`
		TCP       *traffic `xml:"tcp"`
		All       *traffic `xml:"all"`
	} `xml:"rule"`
}

type traffic struct {
	From  string `xml:"srcipaddr,attr"`
	Mask  string `xml:"srcipmask,attr"`
	First string `xml:"dstportstart,attr"`
	Last  string `xml:"dstportend,attr"`
}

// rule is what a rule of ours says.
func (t traffic) rule() (r cloud.Rule, err error) {
	r.From = netip.PrefixFrom(netip.IPv4Unspecified(), 0)
	if t.From != "" {
		a, err := netip.ParseAddr(t.From)
		if err != nil {
			return r, err
		}
		bits, err := strconv.Atoi(cmp.Or(t.Mask, "32"))
		if m := net.ParseIP(t.Mask).To4(); err != nil && m != nil { // libvirt takes both ways of writing it
			bits, _ = net.IPMask(m).Size()
			err = nil
		}
		if err != nil {
			return r, err
		}
		if r.From, err = a.Prefix(bits); err != nil {
			return r, err
		}
	}
	first, err := strconv.Atoi(t.First)
	if err != nil {
		return r, err
	}
	last, err := strconv.Atoi(cmp.Or(t.Last, t.First))
	if first != 22 || last != 22 {
		r.Ports = inbound.Ports{First: first, Last: last}
	}
	r.ID = r.Word()
	return r, err
}

func ruleXML(r cloud.Rule) string {
	first, last, from := 22, 22, ""
	if !r.Ports.SSH() {
		first, last = r.Ports.First, r.Ports.Last
	}
	if r.From.Bits() > 0 {
		from = fmt.Sprintf(" srcipaddr='%s' srcipmask='%d'", r.From.Addr(), r.From.Bits())
	}
	return fmt.Sprintf("<rule action='accept' direction='in' priority='%d'><tcp%s dstportstart='%d' dstportend='%d'/></rule>\n", priorityRule, from, first, last)
}

// rules are the inbound rules of a machine: its own, which shared groups it has, and whether anything leads out.
type rules struct {
	own    []cloud.Rule
	shared []string
	out    bool
}

// parseRules reads a filter. What is not as the driver writes it was changed by hand, in a way that it cannot show: ErrRefused.
func parseRules(text string) (out rules, err error) {
	var f filter
	if err := xml.Unmarshal([]byte(text), &f); err != nil {
		return out, fmt.Errorf("%w: libvirt's definition of a filter cannot be read: %w", cloud.ErrFailed, err)
	}
	for _, ref := range f.Refs {
		if strings.HasPrefix(ref.Filter, "plumlatch-shared-") {
			out.shared = append(out.shared, ref.Filter)
		}
	}
	for _, r := range f.Rules {
		switch {
		case r.Priority == priorityRule && r.Action == "accept" && r.Direction == "in" && r.TCP != nil:
			rule, err := r.TCP.rule()
			if err != nil {
				return out, refused("a filter was changed by hand, and its rules are not seen: %v", err)
			}
			out.own = append(out.own, rule)
		case r.Priority == priorityOut && r.Action == "accept" && r.Direction == "out" && r.All != nil:
			out.out = true
		case r.Priority != priorityAddress && r.Priority != priorityDrop:
			return out, refused("a filter was changed by hand, and its rules are not seen: it has one of priority %d", r.Priority)
		}
	}
	return out, nil
}

// xml is the filter by which the host enforces the rules of a machine.
func (r rules) xml(id string) string {
	var out strings.Builder
	fmt.Fprintf(&out, "<filter name='%s' chain='root'><uuid>%s</uuid>\n<filterref filter='%s'/>\n", esc(filterName(id)), uuidOf("filter "+id), stockFilter)
	for _, name := range r.shared {
		fmt.Fprintf(&out, "<filterref filter='%s'/>\n", esc(name))
	}
	fmt.Fprintf(&out, "<rule action='accept' direction='out' priority='%[1]d'><udp srcportstart='68' srcportend='68' dstportstart='67' dstportend='67'/></rule>\n"+
		"<rule action='accept' direction='in' priority='%[1]d'><udp srcportstart='67' srcportend='67' dstportstart='68' dstportend='68'/></rule>\n", priorityAddress)
	for _, rule := range r.own {
		out.WriteString(ruleXML(rule))
	}
	if r.out {
		fmt.Fprintf(&out, "<rule action='accept' direction='out' priority='%d'><all/></rule>\n", priorityOut)
	}
	fmt.Fprintf(&out, "<rule action='drop' direction='inout' priority='%[1]d'><all/></rule>\n<rule action='drop' direction='inout' priority='%[1]d'><all-ipv6/></rule>\n</filter>", priorityDrop)
	return out.String()
}

// sharedXML is the filter of the group that all machines of a host share.
func sharedXML(h Host) string {
	var out strings.Builder
	fmt.Fprintf(&out, "<filter name='%s' chain='root'><uuid>%s</uuid>\n", esc(sharedName(h.Region)), uuidOf("shared filter "+h.Region))
	for _, p := range h.Admit {
		out.WriteString(ruleXML(cloud.Rule{From: p}))
	}
	return out.String() + "</filter>"
}

// networkXML is the network of a host's machines. Each address is one card's, so that a machine has the same one for its life.
func networkXML(h Host) string {
	var hosts strings.Builder
	gate := h.Network.Addr().Next()
	for a := gate.Next(); h.Network.Contains(a.Next()); a = a.Next() {
		fmt.Fprintf(&hosts, "<host mac='%s' ip='%s'/>", macOf(a), a)
	}
	return fmt.Sprintf("<network><name>%s</name><uuid>%s</uuid><forward mode='nat'/><bridge stp='off' delay='0'/><ip address='%s' netmask='%s'><dhcp>%s</dhcp></ip></network>",
		esc(networkName(h.Region)), uuidOf("network "+h.Region), gate, net.IP(net.CIDRMask(h.Network.Bits(), 32)), hosts.String())
}

// ready has the network and the shared group of a host be there.
func (l *link) ready(h Host) error {
	name := networkName(h.Region)
	defined, err := l.network(name, uuidOf("network "+h.Region), networkXML(h))
	if err != nil {
		return err
	}
	var is struct {
		IP struct {
			Address string `xml:"address,attr"`
			Netmask string `xml:"netmask,attr"`
			Prefix  string `xml:"prefix,attr"`
		} `xml:"ip"`
	}
	if err := xml.Unmarshal([]byte(defined), &is); err != nil {
		return fmt.Errorf("%w: libvirt's definition of a network cannot be read: %w", cloud.ErrFailed, err)
	}
	mask := net.IP(net.CIDRMask(h.Network.Bits(), 32)).String()
	if is.IP.Address != h.Network.Addr().Next().String() || is.IP.Netmask != mask && is.IP.Prefix != strconv.Itoa(h.Network.Bits()) {
		return refused("the network %s is another one than %s: it was made for another configuration, or changed by hand", name, h.Network)
	}
	want := sharedXML(h)
	if text, err := l.filter(sharedName(h.Region)); err == nil {
		is, err := parseRules(text)
		if err != nil {
			return err
		}
		if slices.EqualFunc(is.own, h.Admit, func(r cloud.Rule, p netip.Prefix) bool { return r.From == p && r.Ports.SSH() }) {
			return nil
		}
	} else if !errors.Is(err, cloud.ErrNotFound) {
		return err
	}
	return l.setFilter(want)
}

// onRules is on for what is about the rules of an instance of ours.
func (d *Driver) onRules(ctx context.Context, id string, f func(*ours, *rules) error) error {
	if !d.c.networked() {
		return lacks("inbound rules")
	}
	return d.on(ctx, id, func(o *ours) error {
		if o.a == nil {
			return refused("%s was made by somebody else; its rules are not seen", plaintext.Line(plaintext.Cut(o.m.Name, 100)))
		}
		text, err := o.link.filter(filterName(id))
		if err != nil {
			return err
		}
		r, err := parseRules(text)
		if err != nil {
			return err
		}
		return f(o, &r)
	})
}

// changeRules changes them, once for each token.
func (d *Driver) changeRules(ctx context.Context, clientToken, id string, f func(*ours, *rules) error) error {
	return d.onRules(ctx, id, func(o *ours, r *rules) error {
		if o.a.done(clientToken) {
			return nil
		}
		if err := f(o, r); err != nil {
			return err
		}
		o.a.Groups = r.shared
		o.a.Notes = slices.DeleteFunc(o.a.Notes, func(n note) bool {
			return !slices.ContainsFunc(r.own, func(x cloud.Rule) bool { return x.ID == n.Rule })
		})
		if err := o.setFilter(r.xml(id)); err != nil {
			return err
		}
		return o.keep(clientToken)
	})
}

// ownGroup is the group of a machine's own; its ID is the machine's, so that no other's can be meant.
func (o *ours) ownGroup(r *rules) cloud.Group {
	g := cloud.Group{ID: filterName(o.m.UUID), Name: "own rules of " + o.a.Name, Own: true, Members: []string{o.m.UUID}}
	for _, x := range r.own {
		if n := slices.IndexFunc(o.a.Notes, func(n note) bool { return n.Rule == x.ID }); n >= 0 {
			x.Note = o.a.Notes[n].Text
		}
		g.Rules = append(g.Rules, x)
	}
	return g
}

// Groups returns the shared group of the host, if the instance has it, and then the one of its own.
func (d *Driver) Groups(ctx context.Context, id string) (out []cloud.Group, err error) {
	err = d.onRules(ctx, id, func(o *ours, r *rules) error {
		for _, name := range r.shared {
			text, err := o.link.filter(name)
			if err != nil {
				return err
			}
			s, err := parseRules(text)
			if err != nil {
				return err
			}
			g := cloud.Group{ID: name, Name: "shared rules of " + o.h.Region, Rules: s.own}
			if err := o.each(func(m machine, a *about) error {
				if slices.Contains(a.Groups, name) {
					g.Members = append(g.Members, m.UUID)
				}
				return nil
			}); err != nil {
				return err
			}
			out = append(out, g)
		}
		out = append(out, o.ownGroup(r))
		return nil
	})
	return out, err
}

// OwnGroup returns the group of an instance's own, which every instance has.
func (d *Driver) OwnGroup(ctx context.Context, clientToken, id string) (g cloud.Group, err error) {
	err = d.onRules(ctx, id, func(o *ours, r *rules) error {
		g = o.ownGroup(r)
		return nil
	})
	return g, err
}

// ofGroup is the instance whose own group it is.
func ofGroup(groupID string) (id string, err error) {
	if strings.HasPrefix(groupID, "plumlatch-shared-") {
		return "", refused("the shared rules are those of the configuration of libvirt's hosts (admit)")
	}
	id, ok := strings.CutPrefix(groupID, "plumlatch-")
	if !ok {
		return "", cloud.ErrNotFound
	}
	return id, nil
}

// Admit adds a rule to the group of an instance's own.
func (d *Driver) Admit(ctx context.Context, clientToken, groupID string, from netip.Prefix, ports inbound.Ports, text string) (cloud.Rule, error) {
	rule := cloud.Rule{From: from, Ports: ports, Note: text}
	rule.ID = rule.Word()
	if !d.c.networked() {
		return rule, lacks("inbound rules")
	}
	id, err := ofGroup(groupID)
	if err != nil {
		return rule, err
	}
	if !from.Addr().Is4() {
		return rule, refused("the machines of this host have IPv4 addresses alone, and %s would let nobody in", from)
	}
	return rule, d.changeRules(ctx, clientToken, id, func(o *ours, r *rules) error {
		if !slices.ContainsFunc(r.own, func(x cloud.Rule) bool { return x.ID == rule.ID }) {
			r.own = append(r.own, rule)
			o.a.Notes = append(o.a.Notes, note{rule.ID, text})
		}
		return nil
	})
}

// Unadmit takes a rule out of it.
func (d *Driver) Unadmit(ctx context.Context, clientToken, groupID, ruleID string) error {
	if !d.c.networked() {
		return lacks("inbound rules")
	}
	id, err := ofGroup(groupID)
	if err != nil {
		return err
	}
	return d.changeRules(ctx, clientToken, id, func(o *ours, r *rules) error {
		r.own = slices.DeleteFunc(r.own, func(x cloud.Rule) bool { return x.ID == ruleID })
		return nil
	})
}

// SetGroups gives an instance the shared group of its host, or takes it away.
func (d *Driver) SetGroups(ctx context.Context, clientToken, id string, groupIDs []string) error {
	return d.changeRules(ctx, clientToken, id, func(o *ours, r *rules) error {
		for _, g := range groupIDs {
			if g != sharedName(o.h.Region) {
				return refused("there is no group %q", plaintext.Line(plaintext.Cut(g, 100)))
			}
		}
		r.shared = slices.Clone(groupIDs)
		return nil
	})
}

// SetOutbound lets out of an instance what leads out, or nothing but the answers to what was let in.
func (d *Driver) SetOutbound(ctx context.Context, clientToken, id string, open bool) error {
	return d.changeRules(ctx, clientToken, id, func(o *ours, r *rules) error {
		r.out = open
		return nil
	})
}
