package standin

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"sort"

	"plumlatch/core/inbound"
)

// Rule is one inbound rule: it lets an address range in to the SSH port, or to other ports. What stands
// on other ports here is open to everybody: their rules are kept and shown, and not enforced.
type Rule struct {
	ID    string `json:"id"`
	From  string `json:"from"`            // CIDR
	Ports string `json:"ports,omitempty"` // such as 9000-9001; "" for the SSH port
	Note  string `json:"note"`
}

// Group is a group of inbound rules, which instances can share. What no rule
// of an instance's groups admits is held in silence.
type Group struct {
	ID     string `json:"id"`
	Name   string `json:"name"`
	Region string `json:"region"`
	Rules  []Rule `json:"rules"`
	Own    string `json:"own,omitempty"` // the one instance that it was made for
	Token  string `json:"client_token,omitempty"`
	// Done says what each client token came to: a rule's ID.
	Done map[string]string `json:"done_tokens,omitempty"`
	// Members are shown, and not kept: the instances that have it.
	Members []string `json:"members"`
}

// Address is a static address, which stays until it is released.
type Address struct {
	ID       string   `json:"id"`
	Address  string   `json:"address"`
	Region   string   `json:"region"`
	Name     string   `json:"name"`
	Instance string   `json:"instance"` // "" while nobody has it
	Done     []string `json:"done_tokens,omitempty"`
}

// Errors of rules and addresses.
var (
	ErrNoGroup   = fmt.Errorf("%w: no such group, rule or address", ErrNotFound)
	ErrAddresses = errors.New("no address is left")
)

const (
	maxRules  = 60
	maxStatic = 64
)

// defaultGroup returns the group that every new instance of a region has; the caller holds mu.
func (c *Cloud) defaultGroup(region string) *Group {
	id := "wall-" + region
	if g, ok := c.groups[id]; ok {
		return g
	}
	g := &Group{ID: id, Name: region + "-shared", Region: region, Done: map[string]string{}}
	for n, p := range c.opts.Admit {
		g.Rules = append(g.Rules, Rule{ID: fmt.Sprintf("%s-r%d", id, n+1), From: p.String(),
			Note: "there from the beginning"})
	}
	c.groups[id] = g
	return g
}

// enforce gives the server of an instance the ranges that its groups admit; the caller holds mu.
func (c *Cloud) enforce(in *stored) {
	var ranges []netip.Prefix
	for _, id := range in.Groups {
		if g := c.groups[id]; g != nil {
			for _, r := range g.Rules {
				if p, err := netip.ParsePrefix(r.From); err == nil && r.Ports == "" {
					ranges = append(ranges, p)
				}
			}
		}
	}
	if in.server != nil {
		in.server.admitted.Store(&ranges)
	}
}

func (c *Cloud) enforceGroup(id string) {
	for _, in := range c.instances {
		if slices.Contains(in.Groups, id) {
			c.enforce(in)
		}
	}
}

func (c *Cloud) shown(g *Group) Group {
	out := *g
	out.Rules, out.Members, out.Token, out.Done = slices.Clone(g.Rules), []string{}, "", nil
	for _, in := range c.instances {
		if slices.Contains(in.Groups, g.ID) && in.State != Removed {
			out.Members = append(out.Members, in.ID)
		}
	}
	sort.Strings(out.Members)
	return out
}

// Groups returns the groups of an instance.
func (c *Cloud) Groups(id string) ([]Group, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	in, ok := c.instances[id]
	if !ok {
		return nil, ErrNotFound
	}
	out := []Group{}
	for _, g := range in.Groups {
		if c.groups[g] != nil {
			out = append(out, c.shown(c.groups[g]))
		}
	}
	return out, nil
}

// OwnGroup returns the group of an instance's own, and makes it if there is
// none: empty, and beside the ones that it has.
func (c *Cloud) OwnGroup(token, id string) (Group, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	in, ok := c.instances[id]
	switch {
	case !ok:
		return Group{}, ErrNotFound
	case token == "":
		return Group{}, fmt.Errorf("%w: client_token is missing", ErrInvalid)
	}
	for _, g := range c.groups {
		if g.Own == id {
			return c.shown(g), nil
		}
	}
	c.serial++
	g := &Group{ID: fmt.Sprintf("wall-%05d", c.serial), Name: in.Name + "-own", Region: in.Region, Own: id,
		Token: token, Done: map[string]string{}}
	c.groups[g.ID] = g
	in.Groups = append(in.Groups, g.ID)
	return c.shown(g), c.save()
}

// shutIn gives a new instance a group of its own and no other, and lets nothing out of it; the caller holds mu.
func (c *Cloud) shutIn(in *stored, admit []string) error {
	c.serial++
	g := &Group{ID: fmt.Sprintf("wall-%05d", c.serial), Name: in.Name + "-own", Region: in.Region, Own: in.ID, Token: in.Token,
		Done: map[string]string{}}
	for n, from := range admit {
		p, err := netip.ParsePrefix(from)
		if err != nil || p != p.Masked() || !p.Addr().Is4() {
			return fmt.Errorf("%w: admit are IPv4 networks in CIDR notation", ErrInvalid)
		}
		g.Rules = append(g.Rules, Rule{ID: fmt.Sprintf("%s-r%d", g.ID, n+1), From: from, Note: "from its launch"})
	}
	c.groups[g.ID] = g
	in.Groups, in.Shut = []string{g.ID}, true
	return nil
}

// SetGroups gives an instance these shared groups instead of those that it has; its own stays.
func (c *Cloud) SetGroups(token, id string, groups []string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	in, ok := c.instances[id]
	switch {
	case !ok || in.State == Removed:
		return ErrNotFound
	case token == "":
		return fmt.Errorf("%w: client_token is missing", ErrInvalid)
	case slices.Contains(in.Done, token):
		return nil
	}
	for _, g := range groups {
		if have := c.groups[g]; have == nil || have.Region != in.Region || have.Own != "" {
			return fmt.Errorf("%w: %s has no shared group %s", ErrInvalid, in.Region, g)
		}
	}
	out := slices.Clone(groups)
	for _, g := range in.Groups {
		if have := c.groups[g]; have != nil && have.Own == id {
			out = append(out, g)
		}
	}
	in.Groups, in.Done = out, append(in.Done, token)
	c.enforce(in)
	return c.save()
}

// SetOutbound lets out of an instance what leads out of it, or nothing.
func (c *Cloud) SetOutbound(token, id string, open bool) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	in, ok := c.instances[id]
	switch {
	case !ok || in.State == Removed:
		return ErrNotFound
	case token == "":
		return fmt.Errorf("%w: client_token is missing", ErrInvalid)
	case slices.Contains(in.Done, token):
		return nil
	}
	in.Shut, in.Done = !open, append(in.Done, token)
	return c.save()
}

// Admit adds a rule to a group. One that is there already is returned as it is.
func (c *Cloud) Admit(token, groupID string, r Rule) (Rule, error) {
	p, err := netip.ParsePrefix(r.From)
	if err != nil || p != p.Masked() || !p.Addr().Is4() {
		return Rule{}, fmt.Errorf("%w: from is an IPv4 network in CIDR notation", ErrInvalid)
	}
	if r.Ports != "" {
		if _, err := inbound.ParsePorts(r.Ports); err != nil {
			return Rule{}, fmt.Errorf("%w: ports: %w", ErrInvalid, err)
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	g, ok := c.groups[groupID]
	switch {
	case !ok:
		return Rule{}, ErrNoGroup
	case token == "":
		return Rule{}, fmt.Errorf("%w: client_token is missing", ErrInvalid)
	}
	if id, done := g.Done[token]; done { // it comes again, or late
		r.ID = id
		return r, nil
	}
	for _, have := range g.Rules {
		if have.From == r.From && have.Ports == r.Ports {
			g.Done[token] = have.ID
			return have, c.save()
		}
	}
	if len(g.Rules) >= maxRules {
		return Rule{}, fmt.Errorf("%w: a group has at most %d rules", ErrInvalid, maxRules)
	}
	c.serial++
	r.ID = fmt.Sprintf("%s-r%d", groupID, c.serial)
	g.Rules = append(g.Rules, r)
	g.Done[token] = r.ID
	c.enforceGroup(groupID)
	return r, c.save()
}

// Unadmit takes a rule out of a group; one that is gone is no error.
func (c *Cloud) Unadmit(token, groupID, ruleID string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	g, ok := c.groups[groupID]
	switch {
	case !ok:
		return ErrNoGroup
	case token == "":
		return fmt.Errorf("%w: client_token is missing", ErrInvalid)
	}
	if _, done := g.Done[token]; done {
		return nil
	}
	g.Done[token] = ruleID
	g.Rules = slices.DeleteFunc(g.Rules, func(r Rule) bool { return r.ID == ruleID })
	c.enforceGroup(groupID)
	return c.save()
}

// Addresses returns the static addresses of a region, or all with "".
func (c *Cloud) Addresses(region string) []Address {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := []Address{}
	for _, a := range c.static {
		if region == "" || a.Region == region {
			out = append(out, a.shown())
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].ID < out[j].ID })
	return out
}

func (a *Address) shown() Address {
	out := *a
	out.Done = nil
	return out
}

// Reserve takes an address for good.
func (c *Cloud) Reserve(token, region, name string) (Address, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	switch {
	case token == "":
		return Address{}, fmt.Errorf("%w: client_token is missing", ErrInvalid)
	case !slices.ContainsFunc(Regions, func(r Region) bool { return r.Name == region }):
		return Address{}, fmt.Errorf("%w: unknown region", ErrInvalid)
	case !NameRule.MatchString(name) || len(name) > MaxNameSize:
		return Address{}, fmt.Errorf("%w: the name", ErrInvalid)
	}
	if before, ok := c.reserved[token]; ok { // it comes again, or late: perhaps it was given back since
		return before, nil
	}
	for _, a := range c.static {
		if a.Name == name {
			return Address{}, fmt.Errorf("%w: a static address of this name is there", ErrState)
		}
	}
	if len(c.static) >= maxStatic {
		return Address{}, fmt.Errorf("%w: %w", ErrInvalid, ErrAddresses)
	}
	c.serial++
	a := &Address{ID: fmt.Sprintf("mark-%05d", c.serial), Address: c.newAddress(), Region: region, Name: name}
	c.static[a.ID] = a
	c.reserved[token] = a.shown()
	return a.shown(), c.save()
}

// Move gives a static address to an instance, or to none with "". Whoever
// loses it gets a dynamic one, if it runs; what the new one had is given back.
func (c *Cloud) Move(token, addressID, instanceID string) (Address, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	a, ok := c.static[addressID]
	switch {
	case !ok:
		return Address{}, ErrNoGroup
	case token == "":
		return Address{}, fmt.Errorf("%w: client_token is missing", ErrInvalid)
	case slices.Contains(a.Done, token):
		return a.shown(), nil
	}
	to, ok := c.instances[instanceID]
	if instanceID != "" && (!ok || to.State == Removed || to.State == Removing) {
		return Address{}, ErrNotFound
	}
	if ok && to.Region != a.Region {
		return Address{}, fmt.Errorf("%w: the address is of region %s, and the instance is not", ErrState, a.Region)
	}
	a.Done = append(a.Done, token)
	if a.Instance == instanceID {
		return a.shown(), c.save()
	}
	if from := c.instances[a.Instance]; from != nil {
		a.Instance = ""
		if err := c.readdress(from); err != nil {
			return Address{}, err
		}
	}
	if ok {
		for _, other := range c.static { // an instance has one
			if other.Instance == instanceID {
				other.Instance = ""
			}
		}
		a.Instance = instanceID
		if err := c.readdress(to); err != nil {
			return Address{}, err
		}
	}
	return a.shown(), c.save()
}

// Release gives a static address back for good.
func (c *Cloud) Release(token, addressID string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	a, ok := c.static[addressID]
	switch {
	case !ok:
		return ErrNoGroup
	case token == "":
		return fmt.Errorf("%w: client_token is missing", ErrInvalid)
	case a.Instance != "":
		return fmt.Errorf("%w: an instance has the address", ErrState)
	}
	delete(c.static, addressID)
	c.freed(a.Address)
	return c.save()
}

// staticOf returns the static address of an instance, "" if it has none; the caller holds mu.
func (c *Cloud) staticOf(id string) string {
	for _, a := range c.static {
		if a.Instance == id {
			return a.Address
		}
	}
	return ""
}

// giveAddress gives an instance its static address, or the next free one.
func (c *Cloud) giveAddress(in *stored) {
	in.Address = c.staticOf(in.ID)
	if in.Static = in.Address != ""; !in.Static {
		in.Address = c.newAddress()
	}
}

// readdress moves a running instance to the address that is its own now.
func (c *Cloud) readdress(in *stored) error {
	if in.State != Running {
		return nil
	}
	before := in.Address
	c.unserve(in)
	c.giveAddress(in)
	c.freed(before)
	return c.serve(in)
}
