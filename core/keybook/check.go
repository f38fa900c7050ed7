package keybook

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"plumlatch/core/names"
)

// check looks at a book as a whole: what names what, circles, keys under two names, and the files of a complete book.
func (r *reader) check(sources []Source) {
	b := r.book
	byPrint := map[string]*Key{}
	for n := range b.Keys {
		k := &b.Keys[n]
		if k.Fingerprint == "" {
			continue
		}
		if o, ok := byPrint[k.Fingerprint]; ok {
			r.add(Error, "same-key", k.Name.At, "%s is the same key as %s in %s:%d: one key has one name", k.Name.Text, o.Name.Text, o.Name.At.File, o.Name.At.Line)
			continue
		}
		byPrint[k.Fingerprint] = k
	}
	known := map[string][]string{} // what a book has, for what is near
	for _, k := range b.Keys {
		known[sortKey] = append(known[sortKey], k.Name.Text)
	}
	for _, h := range b.Holders {
		known[sortHolder] = append(known[sortHolder], h.Name.Text)
	}
	for _, s := range b.Sets {
		known[sortSet] = append(known[sortSet], s.Name.Text)
	}
	for _, k := range b.Keys {
		if k.Holder.Text != "" {
			r.named1(known, k.Holder, sortHolder)
		}
	}
	for _, h := range b.Holders {
		for _, m := range h.Members {
			r.named1(known, m, sortHolder)
		}
	}
	for _, s := range b.Sets {
		for _, w := range s.Of {
			r.whom(known, w)
		}
	}
	for _, g := range b.Access {
		for _, w := range g.Whom {
			r.whom(known, w)
		}
	}
	for _, i := range b.Instances {
		for _, w := range i.Keys {
			r.whom(known, w)
		}
	}
	for _, u := range b.Users {
		for _, w := range u.Keys {
			r.whom(known, w)
		}
	}
	r.circles()
	r.listed(sources)
	if b.Name == "" && len(r.found) == 0 {
		r.add(Error, "missing", Place{File: sources[0].Name, Line: 1, Column: 1}, "the book has no name: begin with keybook: NAME")
	}
}

// sorts are all that a word in whom can name.
var sorts = []string{sortKey, sortHolder, sortSet}

// said is where the book says what has a name, of one sort.
func (b *Book) said(sort, name string) (Word, bool) {
	switch name = names.Fold(name); sort {
	case sortKey:
		if n, ok := b.keys[name]; ok {
			return b.Keys[n].Name, true
		}
	case sortHolder:
		if n, ok := b.holders[name]; ok {
			return b.Holders[n].Name, true
		}
	case sortSet:
		if n, ok := b.sets[name]; ok {
			return b.Sets[n].Name, true
		}
	}
	return Word{}, false
}

// named1 checks a name of one sort.
func (r *reader) named1(known map[string][]string, w Word, sort string) {
	has, ok := r.book.said(sort, w.Text)
	if !ok {
		r.unknown(known, w, sort)
	} else if has.Text != w.Text {
		r.add(Warning, "case", w.At, "%s is written %s where it is said", w.Text, has.Text)
	}
}

// unknown tells that a name is not in the book: the ledger may have it. One that is nearly there is rather mistyped.
func (r *reader) unknown(known map[string][]string, w Word, sorts ...string) {
	var all []string
	for _, s := range sorts {
		all = append(all, known[s]...)
	}
	var near []string
	if len(all) <= 20_000 {
		near = names.Near(w.Text, all, 2)
	}
	severity := Note
	if len(near) > 0 {
		severity = Warning
	}
	r.add(severity, "unknown-name", w.At, "%s is no %s of this book; compare looks for it in the ledger", w.Text, strings.Join(sorts, " or ")).Near = near
}

// whom checks a word that names keys.
func (r *reader) whom(known map[string][]string, w Word) {
	sort, name := split(w.Text)
	if sort != "" {
		r.named1(known, Word{name, w.At}, sort)
		return
	}
	var is []string
	var has Word
	for _, s := range sorts {
		if x, ok := r.book.said(s, name); ok {
			is, has = append(is, s), x
		}
	}
	switch len(is) {
	case 0:
		r.unknown(known, w, sorts...)
	case 1:
		if has.Text != name {
			r.add(Warning, "case", w.At, "%s is written %s where it is said", w.Text, has.Text)
		}
	default:
		var forms []string
		for _, s := range is {
			forms = append(forms, s+"/"+name)
		}
		r.add(Error, "ambiguous", w.At, "%s is the name of a %s: write %s", name, strings.Join(is, " and of a "), strings.Join(forms, " or "))
	}
}

// circles looks for sets, and teams, that have themselves in them.
func (r *reader) circles() {
	walk := func(all int, next func(n int) []int, name func(n int) Word, what string) {
		state := make([]int8, all) // 1: on the way, 2: seen to the end
		var told bool
		for begin := range all {
			type stand struct{ n, at int }
			stack := []stand{{begin, 0}}
			for len(stack) > 0 {
				top := &stack[len(stack)-1]
				if top.at == 0 {
					if state[top.n] == 2 {
						stack = stack[:len(stack)-1]
						continue
					}
					state[top.n] = 1
				}
				of := next(top.n)
				if top.at == len(of) {
					state[top.n] = 2
					stack = stack[:len(stack)-1]
					continue
				}
				to := of[top.at]
				top.at++
				switch state[to] {
				case 1:
					if !told {
						told = true
						at := slices.IndexFunc(stack, func(s stand) bool { return s.n == to })
						var way []string
						for _, s := range stack[at:] {
							way = append(way, name(s.n).Text)
						}
						r.add(Error, "circle", name(to).At, "the %s %s has itself in it: %s", what, name(to).Text, strings.Join(append(way, name(to).Text), ", in it "))
					}
				case 0:
					stack = append(stack, stand{to, 0})
				}
			}
		}
	}
	walk(len(r.book.Sets), func(n int) (out []int) {
		for _, w := range r.book.Sets[n].Of {
			sort, name := split(w.Text)
			if at, ok := r.book.sets[names.Fold(name)]; ok && (sort == sortSet || sort == "") {
				out = append(out, at)
			}
		}
		return out
	}, func(n int) Word { return r.book.Sets[n].Name }, sortSet)
	walk(len(r.book.Holders), func(n int) (out []int) {
		for _, w := range r.book.Holders[n].Members {
			if at, ok := r.book.holders[names.Fold(w.Text)]; ok {
				out = append(out, at)
			}
		}
		return out
	}, func(n int) Word { return r.book.Holders[n].Name }, "team")
}

// listed compares the files of a complete book with those that it lists.
func (r *reader) listed(sources []Source) {
	c := r.book.Complete
	if c == nil || len(c.Files) == 0 {
		return
	}
	there := map[string]Source{}
	for _, s := range sources {
		there[path.Clean(s.Name)] = s
	}
	listed := map[string]bool{}
	for _, w := range c.Files {
		name := path.Clean(path.Join(path.Dir(c.At.File), w.Text))
		s, ok := there[name]
		switch listed[name] = true; {
		case !ok:
			r.add(Error, "files", w.At, "%s belongs to the book, and is not there: without it, what stands in it would be withdrawn", w.Text)
		case strings.TrimSpace(s.Text) == "":
			r.add(Error, "files", w.At, "%s belongs to the book, and is empty: what stood in it would be withdrawn", w.Text)
		}
	}
	for _, s := range sources {
		if !listed[path.Clean(s.Name)] {
			r.add(Error, "files", c.At, "%s is there, and the book does not list it: add it to files, or take it out of the folder", fmt.Sprintf("%.300s", s.Name))
		}
	}
}
