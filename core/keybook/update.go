package keybook

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"plumlatch/core/names"
)

// ErrUpdate: a text could not be brought up to date line by line.
var ErrUpdate = errors.New("this text cannot be brought up to date where it stands: write another one beside it (-out FILE), and take over what you want to keep")

// Update brings one file of a book up to date with a ledger: what it says and is not so any more goes, and what is so and not said comes to
// the end of its part. All other lines stay as they are, byte for byte: comments, order, layout. to chooses the instances that the book is about; an
// empty one is for those that it names. The result has nothing to do when it is compared. ErrUpdate.
func Update(source Source, files Files, l *Ledger, to Selector) (string, error) {
	book, report := Read([]Source{source}, files, l.Now)
	if report.Errors() > 0 || book == nil {
		return "", fmt.Errorf("%s: %w", report.Findings[0].String(), ErrUpdate)
	}
	text := source.Text
	// What is taken away may make a key, or a holder, needed no more, and what is added may need one: twice is enough.
	for range 2 {
		u := &updating{text: strings.TrimPrefix(text, "\ufeff"), l: l, book: book, cut: map[int]bool{}}
		next, err := u.update(to)
		if err != nil {
			return "", err
		}
		if text != u.text {
			next = "\ufeff" + next
		}
		if text = next; true {
			if book, report = Read([]Source{{source.Name, text}}, files, l.Now); report.Errors() > 0 || book == nil {
				return "", ErrUpdate
			}
		}
	}
	asked := *book
	asked.Complete = u2(to)
	if d := Compare(&asked, l); slices.ContainsFunc(d.Items, func(i Item) bool {
		return !Told(i.Do) && !slices.Contains([]string{Cannot, Launch, ListAdd, RuleAdd, Hand}, i.Do)
	}) {
		return "", ErrUpdate
	}
	return text, nil
}

// u2 is a book's scope while it is brought up to date: everything there is of the chosen instances.
func u2(to Selector) *Complete {
	if to.Empty() {
		return nil
	}
	return &Complete{To: to, Also: []string{Machines}, Strict: true}
}

// updating is one round of bringing a text up to date.
type updating struct {
	text  string
	lines []string
	l     *Ledger
	book  *Book
	cut   map[int]bool     // lines that go, from 0
	after map[int][]string // what comes after a line
	tail  []string         // what comes to the end
}

func (u *updating) update(to Selector) (string, error) {
	u.lines, u.after = strings.SplitAfter(u.text, "\n"), map[int][]string{}
	var doc yaml.Node
	if err := yaml.Unmarshal([]byte(u.text), &doc); err != nil || len(doc.Content) == 0 {
		return "", ErrUpdate
	}
	asked := *u.book
	asked.Complete = u2(to)
	d := Compare(&asked, u.l)
	gone := map[string]bool{}     // accesses that are not so: instance, fingerprint, user
	rewritten := map[Place]bool{} // grants that say something which is not so
	pair := func(i Item) string { return fmt.Sprintf("%d %s %s", i.InstanceID, i.Fingerprint, i.User) }
	dropKeys, dropHolders := map[string]bool{}, map[string]bool{}
	var more []line2
	for _, i := range d.Items {
		switch i.Do {
		case Add, TakeOver, ByHand:
			gone[pair(i)] = true
			if i.At != nil {
				rewritten[*i.At] = true
			}
		case Change:
			gone[pair(i)] = true
			if i.At != nil {
				rewritten[*i.At] = true
			}
			more = append(more, line2{i.Key, i.Instance, i.User, i.Was})
		case Withdraw, Shared:
			more = append(more, line2{i.Key, i.Instance, i.User, i.Was})
		case KeyAdd:
			dropKeys[names.Fold(i.Key)] = true
		case HolderAdd:
			dropHolders[names.Fold(i.Holder)] = true
		}
	}
	// What those grants say and is so, is said anew.
	c := comparisonOf(u.book, u.l)
	for n := range u.book.Access {
		g := &u.book.Access[n]
		if !rewritten[g.At] {
			continue
		}
		chosen, _ := c.choose(&g.To)
		for _, at := range chosen {
			i := &u.l.Instances[at]
			for _, k := range c.expand(g.Whom, map[string]bool{}) {
				key := &c.keys[k]
				user := g.As
				if user == "" {
					user = i.LoginUser
				}
				if !gone[fmt.Sprintf("%d %s %s", i.ID, key.fingerprint, user)] && key.id != 0 {
					more = append(more, line2{key.name, i.Name, user, g.terms()})
				}
			}
		}
	}
	root := doc.Content[0]
	if err := u.sequence(root, "access", func(n *yaml.Node) bool {
		return rewritten[Place{File: u.book.Access[0].At.File, Line: n.Line, Column: n.Column}]
	}); len(u.book.Access) > 0 && err != nil {
		return "", err
	}
	if err := u.entries(root, "keys", dropKeys); err != nil {
		return "", err
	}
	if err := u.entries(root, "holders", dropHolders); err != nil {
		return "", err
	}
	if err := u.sets(root, d); err != nil {
		return "", err
	}
	fresh, err := u.fresh(more)
	if err != nil {
		return "", err
	}
	for _, part := range []string{"holders", "keys", "access"} {
		if err := u.append(root, part, fresh[part]); err != nil {
			return "", err
		}
	}
	var out strings.Builder
	for n, l := range u.lines {
		if !u.cut[n] {
			out.WriteString(l)
		}
		for _, add := range u.after[n] {
			if s := out.String(); s != "" && !strings.HasSuffix(s, "\n") {
				out.WriteString("\n")
			}
			out.WriteString(add)
		}
	}
	for _, add := range u.tail {
		if s := out.String(); s != "" && !strings.HasSuffix(s, "\n") {
			out.WriteString("\n")
		}
		out.WriteString(add)
	}
	return out.String(), nil
}

// line2 is an access that is to be said.
type line2 struct {
	key, instance, user string
	terms               Terms
}

// comparisonOf makes the keys and instances of a book and a ledger findable.
func comparisonOf(b *Book, l *Ledger) *comparing {
	c := &comparing{b: b, l: l, named: map[string]int32{}, called: map[string]int32{}, closed: map[string]bool{}, held: map[string][]int32{}, tags: map[string][]int32{},
		region: map[string][]int32{}, image: map[string][]int32{}}
	c.index()
	c.keysOf()
	return c
}

// part finds a part of the book by its word: its key and its value; nil if it has none.
func part(root *yaml.Node, word string) (k, v *yaml.Node, next int) {
	for n := 0; n+1 < len(root.Content); n += 2 {
		if root.Content[n].Value == word {
			next := 1 << 30
			if n+2 < len(root.Content) {
				next = root.Content[n+2].Line - 1
			}
			return root.Content[n], root.Content[n+1], next
		}
	}
	return nil, nil, 0
}

// end is the line after the last one of an entry which begins at a line, where the next thing begins at another: comments and empty lines before
// that belong to it. Lines count from 0.
func (u *updating) end(begin, next int) int {
	next = min(next, len(u.lines))
	for next > begin+1 {
		t := strings.TrimSpace(u.lines[next-1])
		if t != "" && !strings.HasPrefix(t, "#") {
			break
		}
		next--
	}
	return next
}

// sequence takes entries out of a list in block style.
func (u *updating) sequence(root *yaml.Node, word string, goes func(n *yaml.Node) bool) error {
	_, v, next := part(root, word)
	if v == nil {
		return nil
	}
	for n, e := range v.Content {
		if !goes(e) {
			continue
		}
		if v.Style&yaml.FlowStyle != 0 {
			return ErrUpdate
		}
		to := next
		if n+1 < len(v.Content) {
			to = v.Content[n+1].Line - 1
		}
		begin := e.Line - 1
		for x := begin; x < u.end(begin, to); x++ {
			u.cut[x] = true
		}
	}
	return nil
}

// entries takes named entries out of a mapping in block style.
func (u *updating) entries(root *yaml.Node, word string, goes map[string]bool) error {
	_, v, next := part(root, word)
	if v == nil || len(goes) == 0 {
		return nil
	}
	for n := 0; n+1 < len(v.Content); n += 2 {
		if !goes[names.Fold(v.Content[n].Value)] {
			continue
		}
		if v.Style&yaml.FlowStyle != 0 {
			return ErrUpdate
		}
		to := next
		if n+2 < len(v.Content) {
			to = v.Content[n+2].Line - 1
		}
		begin := v.Content[n].Line - 1
		for x := begin; x < u.end(begin, to); x++ {
			u.cut[x] = true
		}
	}
	return nil
}

// sets writes what the ledger says of keys and teams that the book says otherwise: the entry is written anew, in its place.
func (u *updating) sets(root *yaml.Node, d Difference) error {
	for _, i := range d.Items {
		word, name := "keys", i.Key
		switch i.Do {
		case KeySet:
		case HolderSet:
			word, name = "holders", i.Holder
		default:
			continue
		}
		_, v, next := part(root, word)
		if v == nil || v.Style&yaml.FlowStyle != 0 {
			return ErrUpdate
		}
		w := &writing{l: u.l, all: true, keys: map[int32]bool{}, holders: map[string]bool{}}
		all := w.keysNode()
		if word == "holders" {
			all = w.holdersNode()
		}
		at := slices.IndexFunc(all.Content, func(n *yaml.Node) bool { return names.Fold(n.Value) == names.Fold(name) })
		if at < 0 {
			return ErrUpdate
		}
		called := name
		if i.Do == KeySet {
			called = u.book.Keys[i.N()].Name.Text
		}
		for n := 0; n+1 < len(v.Content); n += 2 {
			if names.Fold(v.Content[n].Value) != names.Fold(called) {
				continue
			}
			to := next
			if n+2 < len(v.Content) {
				to = v.Content[n+2].Line - 1
			}
			begin := v.Content[n].Line - 1
			end := u.end(begin, to)
			for x := begin; x < end; x++ {
				u.cut[x] = true
			}
			one := mapping()
			put(one, all.Content[at].Value, all.Content[at+1])
			text, err := encoded(one, v.Content[n].Column-1)
			if err != nil {
				return err
			}
			u.after[end-1] = append(u.after[end-1], text...)
		}
	}
	return nil
}

// fresh are the entries that are to be added, by their part: accesses, and the keys and holders that those need and the book lacks.
func (u *updating) fresh(more []line2) (map[string]*yaml.Node, error) {
	only := &Ledger{Now: u.l.Now, Keys: u.l.Keys, Holders: u.l.Holders, Instances: u.l.Instances}
	keys, instances := map[string]int32{}, map[string]int32{}
	for n := range u.l.Keys {
		keys[u.l.Keys[n].Name] = int32(n)
	}
	for n := range u.l.Instances {
		instances[u.l.Instances[n].Name] = int32(n)
	}
	for _, m := range more {
		k, ok := keys[m.key]
		i, is := instances[m.instance]
		if !ok || !is {
			continue
		}
		only.Accesses = append(only.Accesses, LedgerAccess{Instance: i, Key: k, User: m.user, Terms: m.terms})
	}
	w := &writing{l: only, keys: map[int32]bool{}, holders: map[string]bool{}}
	out := map[string]*yaml.Node{"access": w.access(Selector{All: true})}
	out["keys"], out["holders"] = w.keysNode(), w.holdersNode()
	lacking := func(n *yaml.Node, has func(name string) bool) *yaml.Node {
		lacks := mapping()
		for x := 0; x+1 < len(n.Content); x += 2 {
			if !has(n.Content[x].Value) {
				lacks.Content = append(lacks.Content, n.Content[x], n.Content[x+1])
			}
		}
		return lacks
	}
	prints := map[string]bool{}
	for _, k := range u.book.Keys {
		prints[k.Fingerprint] = true
	}
	out["keys"] = lacking(out["keys"], func(name string) bool { return u.book.KeyOf(name) != nil || prints[u.l.Keys[keys[name]].Fingerprint] })
	out["holders"] = lacking(out["holders"], func(name string) bool { return u.book.HolderOf(name) != nil })
	return out, nil
}

// append adds entries to the end of a part, or the part to the end of the book.
func (u *updating) append(root *yaml.Node, word string, entries *yaml.Node) error {
	if entries == nil || len(entries.Content) == 0 {
		return nil
	}
	k, v, next := part(root, word)
	if v == nil || v.Kind == yaml.ScalarNode {
		if v != nil { // "access:" with nothing behind it
			return ErrUpdate
		}
		one := mapping()
		put(one, word, entries)
		text, err := encoded(one, 0)
		if err != nil {
			return err
		}
		u.tail = append(u.tail, text...)
		return nil
	}
	if v.Style&yaml.FlowStyle != 0 {
		return ErrUpdate
	}
	indent := v.Column - 1
	if v.Kind == yaml.SequenceNode && len(v.Content) > 0 {
		indent = strings.IndexByte(u.lines[v.Content[0].Line-1], '-')
	}
	text, err := encoded(entries, max(indent, 0))
	if err != nil {
		return err
	}
	last := u.end(k.Line-1, next) - 1
	u.after[last] = append(u.after[last], text...)
	return nil
}

// encoded is a node as lines, indented.
func encoded(n *yaml.Node, indent int) ([]string, error) {
	var out bytes.Buffer
	e := yaml.NewEncoder(&out)
	e.SetIndent(2)
	if err := e.Encode(n); err != nil {
		return nil, err
	}
	if err := e.Close(); err != nil {
		return nil, err
	}
	lines := strings.SplitAfter(strings.TrimSuffix(out.String(), "\n"), "\n")
	for i := range lines {
		lines[i] = strings.Repeat(" ", indent) + strings.TrimSuffix(lines[i], "\n") + "\n"
	}
	return lines, nil
}
