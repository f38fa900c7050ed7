package keybook

import (
	"bytes"
	"cmp"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"plumlatch/core/names"
)

// Write makes the text that describes what a ledger has: its holders, its keys, and who opens what, of the instances that to chooses (all
// that there are, for an empty one). Keys and holders that those do not need are left out if to chooses some. Compare of the text with the
// same ledger has nothing to do.
func Write(name string, l *Ledger, to Selector) (string, error) {
	w := &writing{l: l, all: to.Empty(), keys: map[int32]bool{}, holders: map[string]bool{}}
	access := w.access(to)
	top := mapping()
	put(top, "keybook", scalar(name))
	if n := w.holdersNode(); len(n.Content) > 0 {
		put(top, "holders", n)
	}
	if n := w.keysNode(); len(n.Content) > 0 {
		put(top, "keys", n)
	}
	if len(access.Content) > 0 {
		put(top, "access", access)
	}
	if n := w.checks(to); len(n.Content) > 0 {
		put(top, "checks", n)
	}
	var out bytes.Buffer
	e := yaml.NewEncoder(&out)
	e.SetIndent(2)
	if err := e.Encode(top); err != nil {
		return "", err
	}
	return out.String(), e.Close()
}

type writing struct {
	l       *Ledger
	all     bool
	keys    map[int32]bool
	holders map[string]bool // folded
}

func mapping() *yaml.Node { return &yaml.Node{Kind: yaml.MappingNode} }

// scalar is a text as a node; it is quoted where it would be read as something else.
func scalar(text string) *yaml.Node {
	n := new(yaml.Node)
	n.SetString(text)
	return n
}

func flow(words ...string) *yaml.Node {
	n := &yaml.Node{Kind: yaml.SequenceNode, Style: yaml.FlowStyle}
	for _, w := range words {
		n.Content = append(n.Content, scalar(w))
	}
	return n
}

func put(m *yaml.Node, word string, value *yaml.Node) {
	m.Content = append(m.Content, scalar(word), value)
}

// line is one line of an access: a key for a login user on terms.
type line struct {
	key   int32
	user  string // "" for the instance's own
	terms Terms
}

// access is who opens what, with instances together that have the same.
func (w *writing) access(to Selector) *yaml.Node {
	of := make([][]line, len(w.l.Instances))
	for _, a := range w.l.Accesses {
		i := &w.l.Instances[a.Instance]
		if i.NoSSH {
			continue
		}
		if !w.all && !to.Fits(target(i)) {
			continue
		}
		if !a.Terms.Until.IsZero() && !a.Terms.Until.After(w.l.Now) {
			continue
		}
		one := line{key: a.Key, terms: a.Terms}
		if a.User != i.LoginUser {
			one.user = a.User
		}
		of[a.Instance] = append(of[a.Instance], one)
		w.keys[a.Key] = true
	}
	// Free accesses of an instance together, by which keys; each bound one by itself.
	type group struct {
		keys      []int32
		user      string
		terms     Terms
		instances []int32
	}
	groups := map[string]*group{}
	var order []string
	join := func(sum string, make func() *group, instance int32) {
		g, ok := groups[sum]
		if !ok {
			g = make()
			groups[sum] = g
			order = append(order, sum)
		}
		g.instances = append(g.instances, instance)
	}
	for n, lines := range of {
		var free []int32
		for _, one := range lines {
			if one.user == "" && one.terms.Free() {
				free = append(free, one.key)
				continue
			}
			sum := "t" + string(rune(one.key)) + "\x00" + one.user + "\x00" + one.terms.end() + "\x00" + one.terms.From + "\x00" + one.terms.Only
			join(sum, func() *group { return &group{keys: []int32{one.key}, user: one.user, terms: one.terms} }, int32(n))
		}
		if len(free) == 0 {
			continue
		}
		slices.SortFunc(free, func(a, b int32) int {
			return strings.Compare(names.Fold(w.l.Keys[a].Name), names.Fold(w.l.Keys[b].Name))
		})
		var sum strings.Builder
		for _, k := range free {
			sum.WriteString("f" + string(rune(k)))
		}
		join(sum.String(), func() *group { return &group{keys: free} }, int32(n))
	}
	out := &yaml.Node{Kind: yaml.SequenceNode}
	for _, sum := range order {
		g := groups[sum]
		entry, where := mapping(), mapping()
		where.Style = yaml.FlowStyle
		var whom, called []string
		for _, k := range g.keys {
			whom = append(whom, w.word(k))
		}
		for _, i := range g.instances {
			called = append(called, w.l.Instances[i].Name)
		}
		put(entry, "whom", flow(whom...))
		put(where, "instances", flow(called...))
		put(entry, "to", where)
		if g.user != "" {
			put(entry, "as", scalar(g.user))
		}
		if !g.terms.Until.IsZero() {
			put(entry, "until", &yaml.Node{Kind: yaml.ScalarNode, Value: g.terms.Until.UTC().Format(time.RFC3339)})
		}
		if g.terms.From != "" {
			put(entry, "from", flow(strings.Split(g.terms.From, ",")...))
		}
		if g.terms.Only != "" {
			put(entry, "only", scalar(g.terms.Only))
		}
		out.Content = append(out.Content, entry)
	}
	return out
}

// word is a key in whom: with its sort if a holder has the same name.
func (w *writing) word(key int32) string {
	name := w.l.Keys[key].Name
	if slices.ContainsFunc(w.l.Holders, func(h LedgerHolder) bool { return names.Fold(h.Name) == names.Fold(name) }) {
		return sortKey + "/" + name
	}
	return name
}

func (w *writing) keysNode() *yaml.Node {
	out := mapping()
	var all []int32
	for n := range w.l.Keys {
		if w.all || w.keys[int32(n)] {
			all = append(all, int32(n))
		}
	}
	slices.SortFunc(all, func(a, b int32) int {
		return strings.Compare(names.Fold(w.l.Keys[a].Name), names.Fold(w.l.Keys[b].Name))
	})
	for _, n := range all {
		k := &w.l.Keys[n]
		one := mapping()
		put(one, "line", scalar(k.Line))
		if k.Authority {
			put(one, "authority", &yaml.Node{Kind: yaml.ScalarNode, Value: "true"})
		}
		if k.Holder != "" {
			put(one, "holder", scalar(k.Holder))
		}
		if k.Note != "" {
			put(one, "note", scalar(k.Note))
		}
		put(one, "origin", scalar(k.Origin))
		if k.Retired {
			put(one, "state", scalar("retired"))
		}
		put(out, k.Name, one)
	}
	return out
}

func (w *writing) holdersNode() *yaml.Node {
	for n := range w.keys {
		w.holders[names.Fold(w.l.Keys[n].Holder)] = true
	}
	out := mapping()
	all := slices.Clone(w.l.Holders)
	slices.SortFunc(all, func(a, b LedgerHolder) int { return cmp.Compare(names.Fold(a.Name), names.Fold(b.Name)) })
	for again := true; again; { // members of teams that are named are named too
		again = false
		for _, h := range all {
			for _, m := range h.Members {
				if w.holders[names.Fold(h.Name)] && !w.holders[names.Fold(m)] {
					w.holders[names.Fold(m)], again = true, true
				}
			}
		}
	}
	for _, h := range all {
		if !w.all && !w.holders[names.Fold(h.Name)] {
			continue
		}
		if len(h.Members) == 0 {
			put(out, h.Name, scalar(h.Sort))
			continue
		}
		one := mapping()
		put(one, "sort", scalar(h.Sort))
		members := slices.Clone(h.Members)
		slices.Sort(members)
		put(one, "members", flow(members...))
		put(out, h.Name, one)
	}
	return out
}

func (w *writing) checks(to Selector) *yaml.Node {
	out := &yaml.Node{Kind: yaml.SequenceNode}
	for n := range w.l.Instances {
		i := &w.l.Instances[n]
		if len(i.Checks) == 0 || !w.all && !to.Fits(target(i)) {
			continue
		}
		one, where := mapping(), mapping()
		where.Style = yaml.FlowStyle
		put(where, "instances", flow(i.Name))
		put(one, "to", where)
		put(one, "is", flow(i.Checks...))
		out.Content = append(out.Content, one)
	}
	return out
}
