// Package keybook reads the text that says which keys, holders, sets, instances and accesses should exist, and compares it with what is
// there.
//
// A keybook is one YAML file, or several that make one book. Read takes it apart and tells all that is wrong with it, each with its file,
// line and column: form, names, keys, circles, weak keys, unknown words. Compare sets a book that was read without errors against a ledger,
// and says what is to be done; Write makes the text of a ledger.
//
// The order of a book does not matter: whatever names something may stand before or after it. Names follow package names; two that differ
// only in case are one. A private key anywhere in a book is refused before anything else, and nothing of it is ever quoted.
package keybook

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"plumlatch/core/keypair"
	"plumlatch/core/names"
)

// Source is one file of a book.
type Source struct {
	Name string `json:"name"` // with slashes, from the book's folder
	Text string `json:"text"`
}

// Place is where something stands in a book. Lines and columns begin at 1; a line of 0 is the whole file.
type Place struct {
	File   string `json:"file"`
	Line   int    `json:"line,omitempty"`
	Column int    `json:"column,omitempty"`
}

// Book is what a keybook says.
type Book struct {
	Name      string
	At        Place
	Complete  *Complete
	Holders   []Holder
	Keys      []Key
	Sets      []Set
	Access    []Grant
	Instances []Instance
	Rules     []Rule
	Checks    []Check
	Logins    []Login
	Users     []User

	keys, holders, sets, instances map[string]int // by folded name
}

// Word is a name, or another text, and where it stands.
type Word struct {
	Text string
	At   Place
}

// Complete says for which instances a book is complete: what is not in the book is to be withdrawn there.
type Complete struct {
	At     Place
	To     Selector
	Also   []string // Machines, Unrecorded, Authorities
	Strict bool     // what was shared by hand until an end is withdrawn too
	Files  []Word   // that the book consists of
}

// What a complete book covers besides the recorded keys of persons, if it says so.
const (
	Machines    = "machines"
	Unrecorded  = "unrecorded"
	Authorities = "authorities"
)

// Selector chooses instances: those for which all that is given holds. One that gives nothing chooses none.
type Selector struct {
	At        Place
	Instances []Word   // one of these names
	Tags      []string // all of these, NAME=VALUE or NAME
	Regions   []string // one of these
	Images    []string // one of these
	All       bool
	Except    *Selector // not those for which any of this holds
	MustMatch bool      // that it chooses none is an error
}

// Target is an instance, as far as selectors ask.
type Target struct {
	Name, Region, Image string
	Tags                map[string]string
}

// Empty tells whether a selector gives nothing.
func (s Selector) Empty() bool {
	return !s.All && len(s.Instances)+len(s.Tags)+len(s.Regions)+len(s.Images) == 0
}

// Fits tells whether a selector chooses an instance.
func (s Selector) Fits(t Target) bool {
	if s.Empty() {
		return false
	}
	if len(s.Instances) > 0 && !slices.ContainsFunc(s.Instances, func(w Word) bool { return names.Fold(w.Text) == names.Fold(t.Name) }) {
		return false
	}
	for _, tag := range s.Tags {
		if !names.TagFits(tag, t.Tags) {
			return false
		}
	}
	if len(s.Regions) > 0 && !slices.Contains(s.Regions, t.Region) || len(s.Images) > 0 && !slices.Contains(s.Images, t.Image) {
		return false
	}
	return s.Except == nil || !s.Except.any(t)
}

// any tells whether any part of a selector holds.
func (s Selector) any(t Target) bool {
	return s.All || slices.ContainsFunc(s.Instances, func(w Word) bool { return names.Fold(w.Text) == names.Fold(t.Name) }) ||
		slices.ContainsFunc(s.Tags, func(tag string) bool { return names.TagFits(tag, t.Tags) }) ||
		slices.Contains(s.Regions, t.Region) || slices.Contains(s.Images, t.Image)
}

// String is a selector as a sentence has it: "tag env=prod, without instance gull-1".
func (s Selector) String() string {
	var out []string
	add := func(word string, all []string) {
		if len(all) > 0 {
			out = append(out, word+" "+strings.Join(all, " "))
		}
	}
	if s.All {
		out = append(out, "all")
	}
	var called []string
	for _, w := range s.Instances {
		called = append(called, w.Text)
	}
	add("instance", called)
	add("tag", s.Tags)
	add("region", s.Regions)
	add("image", s.Images)
	text := strings.Join(out, ", ")
	if s.Except != nil && !s.Except.Empty() {
		text += ", without " + s.Except.String()
	}
	return text
}

// Holder is who has private keys.
type Holder struct {
	Name    Word
	Sort    string // person, team, machine, job
	Members []Word // of a team
}

// Key is a key pair's public half, and what is to be known of it.
type Key struct {
	Name        Word
	Public      keypair.Public // zero where the book has only a fingerprint, or where a pair is yet to be made
	Fingerprint string         // SHA256:...; "" where a pair is yet to be made
	File        string         // that the public half was read from
	Make        *Make
	Authority   bool
	Holder      Word // Text is "" where the book does not say
	Note        *string
	Origin      string // "" where the book does not say
	State       string // "in use", "retired"; "" where the book does not say
	Lists       []Word // entries of the cloud's own list: REGION, or REGION/NAME
}

// Make is a pair that the client which settles the book makes, if there is none.
type Make struct {
	Kind keypair.Kind
	Out  string // private file; the public one is beside it, with .pub
}

// Set is a set of keys, holders and other sets.
type Set struct {
	Name Word
	Of   []Word
}

// Grant is an access that should be there: whom, to what, on which terms.
type Grant struct {
	At     Place
	Whom   []Word // keys, holders (holder/NAME) and sets (set/NAME)
	To     Selector
	As     string // login user; "" for the instance's own
	Until  *time.Time
	From   []string // networks, in their usual form
	Only   string   // forced command
	Reason string
}

// Instance is one that should exist.
type Instance struct {
	Name                      Word
	Image, Size, Region, Zone string
	DiskGB                    int
	Keys                      []Word
	Tags                      map[string]string
	Address                   string // "new", or the name of a static address
}

// Rule is an inbound rule of instances.
type Rule struct {
	At    Place
	To    Selector
	From  []string
	Ports string
}

// Check is what "works" means for instances, as instance check has it.
type Check struct {
	At Place
	To Selector
	Is []Word
}

// Login is how people may log in to instances besides keys.
type Login struct {
	At             Place
	To             Selector
	Password, Root string // on, off; on, keys, off
}

// User is an account on instances.
type User struct {
	At   Place
	To   Selector
	User string
	Keys []Word
	Sudo bool
}

// KeyOf returns the key of a name; nil if the book has none.
func (b *Book) KeyOf(name string) *Key {
	if n, ok := b.keys[names.Fold(name)]; ok {
		return &b.Keys[n]
	}
	return nil
}

// HolderOf returns the holder of a name; nil if the book has none.
func (b *Book) HolderOf(name string) *Holder {
	if n, ok := b.holders[names.Fold(name)]; ok {
		return &b.Holders[n]
	}
	return nil
}

// SetOf returns the set of a name; nil if the book has none.
func (b *Book) SetOf(name string) *Set {
	if n, ok := b.sets[names.Fold(name)]; ok {
		return &b.Sets[n]
	}
	return nil
}

// Sorts of what a word in whom can name.
const (
	sortKey    = "key"
	sortHolder = "holder"
	sortSet    = "set"
)

// split takes "holder/NAME" apart. sort is "" for a name alone.
func split(word string) (sort, name string) {
	if before, after, ok := strings.Cut(word, "/"); ok {
		return before, after
	}
	return "", word
}

// Findings in the order of their places.
func inOrder(all []Finding) {
	slices.SortStableFunc(all, func(a, b Finding) int {
		return cmp.Or(strings.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
}
