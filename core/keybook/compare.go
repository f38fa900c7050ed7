package keybook

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"plumlatch/core/names"
	"plumlatch/core/times"
)

// Ledger is what a book is compared with: what is recorded, and what the surveys saw.
type Ledger struct {
	Now       time.Time
	Keys      []LedgerKey
	Holders   []LedgerHolder
	Instances []LedgerInstance
	Accesses  []LedgerAccess // of people's, machines' and jobs' keys; none of the service's own
	Sightings []Sighting     // keys that stand in files, and that nobody recorded there; none of the service's own
	Others    []OtherBook    // books that were settled before, but this one
	Scope     map[int64]bool // the instances that the book was complete for the last time; nil for never
	// ShownSince: a private half counts as there if it was shown since then. Zero: that is not known.
	ShownSince time.Time
	// Refuses says why the policy does not let an access be given on these terms; "" where it does. kind and origin are of a key that would be
	// put there. nil refuses nothing.
	Refuses func(i *LedgerInstance, kind, origin string, t Terms, reason string) string
	// Lists are the entries of the cloud's own lists of keys, as they were read last, by region; nil for a region whose list was never read.
	Lists map[string][]Listed
	// Admits tells whether an inbound rule lets a network in to ports ("22" for the SSH port); known is false where the cloud did not say. nil
	// is never known.
	Admits func(i *LedgerInstance, from, ports string) (admitted, known bool)
	// Takes tells whether an image, of a region, takes keys of a type, such as ssh-rsa; also where that is not known. nil is not known.
	Takes func(region, image, keyType string) bool
}

// LedgerKey is a recorded key.
type LedgerKey struct {
	ID                 int64
	Name, Fingerprint  string
	Line               string // "ssh-ed25519 AAAA... comment"
	Kind               string // such as ed25519
	Holder, HolderSort string
	Note, Origin       string
	State              string // in use, lost, exposed
	Retired, Authority bool
	ShownAt            time.Time // when its private half was last shown to be there; zero for never
}

// LedgerHolder is a recorded holder.
type LedgerHolder struct {
	ID         int64
	Name, Sort string
	Members    []string
	Left       bool
}

// LedgerInstance is a recorded instance.
type LedgerInstance struct {
	ID                             int64
	Name, Region, Image, LoginUser string
	Tags                           map[string]string
	CloudTags                      bool // its tags are the cloud's word: no operator gave them
	Ready, Running, Steward        bool
	NoSSH                          bool   // nobody opens it by a key: only that it exists matters
	Phase, State                   string // in words
	Seen                           bool   // a survey has read all files of its login user
	Password                       string // whether its server lets people in by a password: on, off; "" for not seen
	Checks                         []string
	// TagsBy is who changed its tags last, and when, in words; "" for nobody.
	TagsBy string
}

// LedgerAccess is an access. Instance and Key are indexes into the ledger's.
type LedgerAccess struct {
	ID            int64
	Instance, Key int32
	User          string
	Shown         bool // the server took the key, or a login with it was seen, and nothing speaks against that since
	Missing       bool // a survey has looked since, and it was not in the files
	Edited        bool // a survey saw other limits in its line than those that are on record
	ByHand        bool // shared until an end, and not by a keybook
	Leaving       bool // a rotation has given it that end
	Terms         Terms
}

// Sighting is a key in a file of an instance's that nobody recorded there. Key is an index into the ledger's, or -1.
type Sighting struct {
	Instance, Key     int32
	User, Fingerprint string
	Comment           string
	Limits            string // what makes it no opener: expired, command, from, authority; "" for nothing
}

// Listed is an entry of a list of the cloud's. Key is an index into the ledger's keys.
type Listed struct {
	Name string
	Key  int32
}

// OtherBook is another book that is complete for instances.
type OtherBook struct {
	Name string
	At   Place
	To   Selector
}

// Terms are what an access is bound to.
type Terms struct {
	Until time.Time `json:"until,omitzero"`
	From  string    `json:"from,omitempty"` // networks, with commas
	Only  string    `json:"only,omitempty"` // forced command
}

// String is terms as a sentence has them, with a blank before; "" for none.
func (t Terms) String() string {
	var out string
	if !t.Until.IsZero() {
		out += " until " + times.Show(t.Until.UTC())
	}
	if t.From != "" {
		out += " from " + t.From
	}
	if t.Only != "" {
		out += " for one command only"
	}
	return out
}

// end is the end in a form of its own; "" for none.
func (t Terms) end() string {
	if t.Until.IsZero() {
		return ""
	}
	return t.Until.UTC().Format(time.RFC3339)
}

// Free tells whether nothing is bound.
func (t Terms) Free() bool { return t == Terms{} }

// What an item of a difference is.
const (
	Cannot    = "cannot"    // the book wants it, and it cannot be; Why says why
	Withdraw  = "withdraw"  // an access, or a key that nobody recorded
	Change    = "change"    // an access gets other terms
	Add       = "add"       // an access
	TakeOver  = "take-over" // it stands there, and is recorded
	Launch    = "launch"    // an instance
	KeyAdd    = "key-add"   // a key is recorded
	KeySet    = "key-set"   // what is recorded of a key changes
	HolderAdd = "holder-add"
	HolderSet = "holder-set"
	CheckSet  = "check-set" // what "works" means for an instance
	ListAdd   = "list-add"  // an entry of a cloud's list of keys
	RuleAdd   = "rule-add"  // an inbound rule
	Hand      = "hand"      // somebody has to do it: the sentence has the command

	// What is told, and not done.
	ByHand    = "by-hand"   // taken out, or edited, by hand: it is not put back in silence
	Shared    = "shared"    // by hand until an end: it is left until then
	Uncovered = "listed"    // within the scope, and not covered by it
	ScopeIn   = "scope-in"  // an instance came into the scope
	ScopeOut  = "scope-out" // an instance left it
	CloudTag  = "cloud-tag" // it would be in the scope by a tag that only the cloud states
	NoMatch   = "no-match"  // a selector chooses nothing
	NotSeen   = "not-seen"  // nobody has looked
)

// Dos lists what an item can be, by what matters most.
var Dos = []string{Cannot, Withdraw, Change, Add, TakeOver, Launch, KeyAdd, KeySet, HolderAdd, HolderSet, CheckSet, ListAdd, RuleAdd, Hand, ByHand, Shared, Uncovered,
	ScopeIn, ScopeOut, CloudTag, NoMatch, NotSeen}

// Told tells whether items of this sort change nothing.
func Told(do string) bool { return slices.Index(Dos, do) >= slices.Index(Dos, ByHand) }

// Reasons why something cannot be.
const (
	WhyNoKey      = "no-key"      // the book and the ledger have no such key
	WhyNotMade    = "not-made"    // the client makes the pair when it settles the book
	WhyNameTaken  = "name-taken"  // another key, or another sort of holder, has the name
	WhyKeyState   = "key-state"   // the key is lost, exposed or retired
	WhyNoInstance = "no-instance" // there is no such instance
	WhyNoSteward  = "no-steward"  // nobody is there to edit its files
	WhyNotReady   = "not-ready"   // something goes on there
	WhyUser       = "user"        // the steward is confined to the files of the login user
	WhyTerms      = "terms"       // two accesses of one key say different terms
	WhyOverlap    = "overlap"     // another book is complete for the instance too
	WhyNoMatch    = "no-match"    // must_match, and nothing is chosen
	WhyAuthority  = "authority"   // a certificate authority is put on no instance
	WhyPolicy     = "policy"      // the policy does not let it be
	WhyImage      = "image"       // the instance's image does not take such keys
	WhyNotSeen    = "not-seen"    // the cloud did not say what there is
)

// inUse is the state of a key that is neither lost nor exposed, as core/access has it.
const inUse = "in use"

// Item is one line of a difference.
type Item struct {
	Do       string   `json:"do"`
	Why      string   `json:"why,omitempty"` // of Cannot
	Instance string   `json:"instance,omitempty"`
	Key      string   `json:"key,omitempty"` // name, or fingerprint of one that is not recorded
	Holder   string   `json:"holder,omitempty"`
	User     string   `json:"user,omitempty"` // login user
	Terms    Terms    `json:"terms,omitzero"` // that are wanted
	Was      Terms    `json:"was,omitzero"`
	Reason   string   `json:"reason,omitempty"`
	Sentence string   `json:"sentence"`
	Evidence string   `json:"evidence,omitempty"` // how what is there now is known
	Away     bool     `json:"away,omitempty"`     // its instance does not run: it is taken when it is back
	CutOff   bool     `json:"cut_off,omitempty"`  // nobody gets in there afterwards
	Doubt    string   `json:"doubt,omitempty"`    // why rule 1 will keep it, as things stand
	At       *Place   `json:"at,omitempty"`       // where the book says so
	Set      []string `json:"set,omitempty"`      // of KeySet, HolderSet: what changes, WORD=VALUE

	// WasHolder and WasState are what a recorded key counted as before the book: the sort of its holder, and lost, exposed or retired. Whoever guards
	// it goes by that, so that no book makes a key count for less and takes it in one go.
	WasHolder   string `json:"-"`
	WasState    string `json:"-"`
	Sum         string `json:"-"` // SHA-256 of what would be done of it; "" for what settling does not do
	InstanceID  int64  `json:"-"`
	KeyID       int64  `json:"-"` // 0 for one that is not recorded yet
	Fingerprint string `json:"fingerprint,omitempty"`
	n           int    // of the book's instance, key or holder
	machine     bool   // the key is a machine's or a job's, and was before the book
	recorded    bool   // it is an access that goes, and not what nobody recorded
	kind        string // of the key that is added
	origin      string // of it
	keyType     string // of it, such as ssh-rsa
}

// N is the index of the book's key, holder or instance that an item is about; -1 for none.
func (i Item) N() int { return i.n }

// Difference is what a book says and is not so, ordered by what matters.
type Difference struct {
	Book      string         `json:"book"`
	Hash      string         `json:"hash"` // SHA-256 of all that would be done: another difference has another one
	Counts    map[string]int `json:"counts"`
	Items     []Item         `json:"items"`
	Instances int            `json:"instances"` // that would be touched
	Unseen    int            `json:"unseen"`    // instances of the book that no survey has read as a whole
	Scope     int            `json:"scope"`     // instances that the book is complete for
	InScope   int            `json:"in_scope"`  // accesses there
	Limit     int            `json:"limit"`     // withdrawals above which their number has to be given
	CutOffs   int            `json:"cut_offs"`  // instances that nobody gets into afterwards
	ScopeIDs  []int64        `json:"-"`
}

// Nothing tells whether all is as the book says.
func (d Difference) Nothing() bool {
	return !slices.ContainsFunc(d.Items, func(i Item) bool { return !Told(i.Do) })
}

// comparing is a comparison at hand.
type comparing struct {
	b *Book
	l *Ledger

	out    []Item
	keys   []bookKey        // all that are named: the ledger's, then the book's new ones
	named  map[string]int32 // by folded name, the book's names first
	called map[string]int32 // instances by folded name
	closed map[string]bool  // those without SSH
	held   map[string][]int32
	tags   map[string][]int32
	region map[string][]int32
	image  map[string][]int32
	all    []int32
}

// bookKey is a key as the book and the ledger together have it.
type bookKey struct {
	name, fingerprint string
	id                int64 // 0 for one that is not recorded yet
	holder            string
	machine           bool
	off               string // why it is placed nowhere: lost, exposed, retired, authority
	kind, origin      string
	keyType           string // such as ssh-rsa
	n                 int    // in the book; -1
}

// Compare sets a book against a ledger.
func Compare(b *Book, l *Ledger) Difference {
	c := &comparing{b: b, l: l, named: map[string]int32{}, called: map[string]int32{}, closed: map[string]bool{}, held: map[string][]int32{}, tags: map[string][]int32{},
		region: map[string][]int32{}, image: map[string][]int32{}}
	c.index()
	c.holders()
	c.keysOf()
	d := Difference{Book: b.Name}
	scope := c.scope(&d)
	c.instances(&d, scope)
	c.checks()
	c.lists()
	c.inbound()
	c.logins()
	c.users()
	c.launches()
	d.Items = append([]Item{}, c.out...)
	c.finish(&d)
	return d
}

func (c *comparing) add(i Item) { c.out = append(c.out, i) }

// index makes the ledger's instances findable.
func (c *comparing) index() {
	c.all = make([]int32, 0, len(c.l.Instances))
	for n := range c.l.Instances {
		i, at := &c.l.Instances[n], int32(n)
		if i.NoSSH {
			c.closed[names.Fold(i.Name)] = true
			continue
		}
		c.all = append(c.all, at)
		c.called[names.Fold(i.Name)] = at
		c.region[i.Region] = append(c.region[i.Region], at)
		c.image[i.Image] = append(c.image[i.Image], at)
		for k, v := range i.Tags {
			c.tags[k] = append(c.tags[k], at)
			c.tags[k+"="+v] = append(c.tags[k+"="+v], at)
		}
	}
}

func target(i *LedgerInstance) Target {
	return Target{Name: i.Name, Region: i.Region, Image: i.Image, Tags: i.Tags}
}

// choose returns the instances that a selector chooses, and the names of it that there is no instance of.
func (c *comparing) choose(s *Selector) (out []int32, lacks []Word) {
	from := c.all
	narrow := func(some []int32) {
		if len(some) < len(from) {
			from = some
		}
	}
	if len(s.Instances) > 0 {
		var some []int32
		for _, w := range s.Instances {
			if at, ok := c.called[names.Fold(w.Text)]; ok {
				some = append(some, at)
			} else {
				lacks = append(lacks, w)
			}
		}
		slices.Sort(some)
		from = slices.Compact(some)
		if len(s.Tags)+len(s.Regions)+len(s.Images) == 0 && s.Except == nil {
			return from, lacks
		}
	}
	for _, t := range s.Tags {
		narrow(c.tags[t])
	}
	if len(s.Regions) == 1 {
		narrow(c.region[s.Regions[0]])
	}
	if len(s.Images) == 1 {
		narrow(c.image[s.Images[0]])
	}
	plain := *s
	if len(s.Instances) > 0 { // they were looked up already; a long list is not gone through for each
		plain.Instances, plain.All = nil, true
	}
	for _, at := range from {
		if plain.Fits(target(&c.l.Instances[at])) {
			out = append(out, at)
		}
	}
	return out, lacks
}

// holders compares who is recorded.
func (c *comparing) holders() {
	known := map[string]*LedgerHolder{}
	for n := range c.l.Holders {
		known[names.Fold(c.l.Holders[n].Name)] = &c.l.Holders[n]
	}
	// Whoever a book names as a holder, without saying more, is a person of the ledger, or none.
	for n := range c.b.Holders {
		h := &c.b.Holders[n]
		at := h.Name.At
		had := known[names.Fold(h.Name.Text)]
		if had == nil {
			i := Item{Do: HolderAdd, Holder: h.Name.Text, Sentence: fmt.Sprintf("record %s, a %s", h.Name.Text, h.Sort), At: &at, n: n, Set: []string{"sort=" + h.Sort}}
			for _, m := range h.Members {
				i.Set = append(i.Set, "join="+m.Text)
			}
			c.add(i)
			continue
		}
		if had.Sort != h.Sort {
			c.add(Item{Do: Cannot, Why: WhyNameTaken, Holder: h.Name.Text, At: &at, n: n,
				Sentence: fmt.Sprintf("%s is a %s in the ledger, and a %s in the book: a holder's sort does not change", had.Name, had.Sort, h.Sort)})
			continue
		}
		if h.Sort != "team" || h.Members == nil {
			continue
		}
		var set []string
		for _, m := range h.Members {
			if !slices.ContainsFunc(had.Members, func(o string) bool { return names.Fold(o) == names.Fold(m.Text) }) {
				set = append(set, "join="+m.Text)
			}
		}
		for _, m := range had.Members {
			if !slices.ContainsFunc(h.Members, func(o Word) bool { return names.Fold(o.Text) == names.Fold(m) }) {
				set = append(set, "leave="+m)
			}
		}
		if len(set) > 0 {
			c.add(Item{Do: HolderSet, Holder: had.Name, At: &at, n: n, Set: set,
				Sentence: fmt.Sprintf("members of %s: %s", had.Name, strings.NewReplacer("join=", "add ", "leave=", "take out ").Replace(strings.Join(set, ", ")))})
		}
	}
}

// keysOf compares which keys are recorded, and makes all of them findable.
func (c *comparing) keysOf() {
	prints, ledger := map[string]int32{}, map[string]int32{}
	for n := range c.l.Keys {
		k := &c.l.Keys[n]
		x := bookKey{name: k.Name, fingerprint: k.Fingerprint, id: k.ID, holder: k.Holder, machine: k.HolderSort == "machine" || k.HolderSort == "job", n: -1,
			kind: k.Kind, origin: k.Origin, keyType: firstWord(k.Line)}
		switch {
		case k.Authority:
			x.off = "a certificate authority"
		case k.State != inUse:
			x.off = k.State
		case k.Retired:
			x.off = "retired"
		}
		c.keys = append(c.keys, x)
		prints[k.Fingerprint], ledger[names.Fold(k.Name)] = int32(n), int32(n)
	}
	sorts := map[string]string{}
	for _, h := range c.b.Holders {
		sorts[names.Fold(h.Name.Text)] = h.Sort
	}
	for _, h := range c.l.Holders { // a holder's sort does not change
		sorts[names.Fold(h.Name)] = h.Sort
	}
	for n := range c.b.Keys {
		k := &c.b.Keys[n]
		fold := names.Fold(k.Name.Text)
		at := k.Name.At
		i := Item{Key: k.Name.Text, At: &at, n: n, Fingerprint: k.Fingerprint}
		held, isKnown := prints[k.Fingerprint]
		if k.Fingerprint == "" {
			isKnown = false
		}
		if o, taken := ledger[fold]; taken && (!isKnown || o != held) {
			if k.Fingerprint == "" {
				i.Sentence = fmt.Sprintf("the ledger has a key %s already, and its .pub is not beside the book: give its line, file or fingerprint", k.Name.Text)
			} else {
				i.Sentence = fmt.Sprintf("the ledger has another key under the name %s: %s; give this one another name, or rename that one: plumlatch key rename %s NEW-NAME",
					k.Name.Text, c.l.Keys[o].Fingerprint, c.l.Keys[o].Name)
			}
			i.Do, i.Why = Cannot, WhyNameTaken
			c.add(i)
			continue
		}
		if !isKnown {
			x := bookKey{name: k.Name.Text, fingerprint: k.Fingerprint, holder: k.Holder.Text, n: n, kind: k.Public.Kind(), origin: cmp.Or(k.Origin, "imported"), keyType: firstWord(k.Public.Line())}
			switch sorts[names.Fold(k.Holder.Text)] {
			case "machine", "job":
				x.machine = true
			}
			switch {
			case k.Make != nil && k.Fingerprint == "":
				i.Do, i.Why, i.Sentence = Cannot, WhyNotMade, fmt.Sprintf("the pair of %s is not made yet: keybook settle makes it on your machine, in %s", k.Name.Text, k.Make.Out)
				c.add(i)
				continue
			case len(k.Public.Blob) == 0:
				i.Do, i.Why, i.Sentence = Cannot, WhyNoKey, fmt.Sprintf("the ledger has no key with the fingerprint that %s has in the book: give its line or its file", k.Name.Text)
				c.add(i)
				continue
			}
			if k.State == "retired" {
				x.off = "retired"
			}
			if k.Authority {
				x.off = "a certificate authority"
			}
			i.Do, i.Sentence = KeyAdd, fmt.Sprintf("record the key %s, %s", k.Name.Text, k.Fingerprint)
			if k.Holder.Text != "" {
				i.Sentence += ", held by " + k.Holder.Text
			}
			c.add(i)
			c.named[fold] = int32(len(c.keys))
			c.keys = append(c.keys, x)
			continue
		}
		had := &c.l.Keys[held]
		x := &c.keys[held]
		c.named[fold] = held
		x.n = n
		i.KeyID = had.ID
		if had.Name != k.Name.Text {
			i.Set = append(i.Set, "name="+k.Name.Text)
		}
		if k.Holder.Text != "" && names.Fold(k.Holder.Text) != names.Fold(had.Holder) {
			i.Set = append(i.Set, "holder="+k.Holder.Text)
			x.holder = k.Holder.Text
			sort := sorts[names.Fold(k.Holder.Text)]
			x.machine = sort == "machine" || sort == "job"
		}
		if k.Note != nil && *k.Note != had.Note {
			i.Set = append(i.Set, "note="+*k.Note)
		}
		if k.Origin != "" && k.Origin != had.Origin {
			i.Set = append(i.Set, "origin="+k.Origin)
		}
		switch {
		case k.State == "retired" && !had.Retired:
			i.Set = append(i.Set, "state=retired")
			if x.off == "" {
				x.off = "retired"
			}
		case k.State == "in use" && had.Retired:
			i.Set = append(i.Set, "state=in use")
			if x.off == "retired" {
				x.off = ""
			}
		}
		if len(i.Set) > 0 {
			i.Key, i.Do = had.Name, KeySet
			i.Sentence = fmt.Sprintf("key %s: %s", had.Name, strings.Join(i.Set, ", "))
			c.add(i)
		}
	}
	for fold, at := range ledger {
		if _, ok := c.named[fold]; !ok {
			c.named[fold] = at
		}
	}
	for n := range c.keys {
		if h := c.keys[n].holder; h != "" {
			c.held[names.Fold(h)] = append(c.held[names.Fold(h)], int32(n))
		}
	}
}

func firstWord(line string) string {
	word, _, _ := strings.Cut(line, " ")
	return word
}

// members are the members of a team: the book's, or else the ledger's.
func (c *comparing) members(name string) (out []string, is bool) {
	if h := c.b.HolderOf(name); h != nil {
		for _, m := range h.Members {
			out = append(out, m.Text)
		}
		if h.Members != nil || h.Sort != "team" {
			return out, true
		}
	}
	for _, h := range c.l.Holders {
		if names.Fold(h.Name) == names.Fold(name) {
			return h.Members, true
		}
	}
	return out, c.b.HolderOf(name) != nil
}

// expand returns the keys that words name. What they name that is nowhere is said once.
func (c *comparing) expand(words []Word, told map[string]bool) []int32 {
	var out []int32
	seen := map[string]bool{}
	var one func(w Word)
	var held func(name string)
	held = func(name string) {
		if fold := "holder/" + names.Fold(name); !seen[fold] {
			seen[fold] = true
			out = append(out, c.held[names.Fold(name)]...)
			all, _ := c.members(name)
			for _, m := range all {
				held(m)
			}
		}
	}
	one = func(w Word) {
		sort, name := split(w.Text)
		fold := names.Fold(name)
		if sort == sortSet || sort == "" {
			if s := c.b.SetOf(name); s != nil {
				if !seen["set/"+fold] {
					seen["set/"+fold] = true
					for _, of := range s.Of {
						one(of)
					}
				}
				return
			}
		}
		if sort == sortHolder || sort == "" && c.b.HolderOf(name) != nil {
			if _, is := c.members(name); is {
				held(name)
				return
			}
		} else if sort != sortSet {
			if at, ok := c.named[fold]; ok {
				out = append(out, at)
				return
			}
			if c.b.KeyOf(name) != nil { // why it cannot be is said of the key
				return
			}
			if _, is := c.members(name); is && sort == "" {
				held(name)
				return
			}
		}
		if key := w.Text; !told[key] {
			told[key] = true
			at := w.At
			c.add(Item{Do: Cannot, Why: WhyNoKey, Key: name, At: &at, n: -1, Sentence: fmt.Sprintf("%s is no key, holder or set, in the book or in the ledger", w.Text)})
		}
	}
	for _, w := range words {
		one(w)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// scope tells which instances the book is complete for.
func (c *comparing) scope(d *Difference) map[int32]bool {
	out := map[int32]bool{}
	if c.b.Complete == nil {
		c.moved(d, out)
		return out
	}
	to := c.b.Complete.To
	byTags := len(to.Tags) > 0
	chosen, lacks := c.choose(&to)
	for _, w := range lacks {
		at := w.At
		c.add(Item{Do: NoMatch, Instance: w.Text, At: &at, n: -1, Sentence: fmt.Sprintf("the book is complete for %s, and there is no such instance", w.Text)})
	}
	told := map[string]bool{}
	for _, at := range chosen {
		i := &c.l.Instances[at]
		if byTags && i.CloudTags {
			c.add(Item{Do: CloudTag, Instance: i.Name, InstanceID: i.ID, n: -1,
				Sentence: fmt.Sprintf("%s has the tag by the cloud's word alone, so the book is not complete for it: plumlatch instance tag %s %s says so here", i.Name, i.Name, strings.Join(to.Tags, " "))})
			continue
		}
		for _, o := range c.l.Others {
			if o.To.Fits(target(i)) && !told[o.Name] {
				told[o.Name] = true
				place := c.b.Complete.At
				c.add(Item{Do: Cannot, Why: WhyOverlap, Instance: i.Name, InstanceID: i.ID, At: &place, n: -1,
					Sentence: fmt.Sprintf("the book %s (%s:%d) is complete for %s, as %s (%s:%d) is here: two books would withdraw what the other one says", o.Name, o.At.File,
						o.At.Line, i.Name, c.b.Name, place.File, place.Line)})
			}
		}
		out[at] = true
		d.ScopeIDs = append(d.ScopeIDs, i.ID)
	}
	d.Scope = len(out)
	c.moved(d, out)
	return out
}

// moved tells which instances came into the scope, or left it, since the last time.
func (c *comparing) moved(d *Difference, now map[int32]bool) {
	if c.l.Scope == nil {
		return
	}
	seen := map[int64]bool{}
	for n := range c.l.Instances {
		i := &c.l.Instances[n]
		seen[i.ID] = true
		by := ""
		if i.TagsBy != "" {
			by = ": its tags were changed " + i.TagsBy
		}
		switch {
		case now[int32(n)] && !c.l.Scope[i.ID]:
			c.add(Item{Do: ScopeIn, Instance: i.Name, InstanceID: i.ID, n: -1, Sentence: fmt.Sprintf("%s came into what the book is complete for%s", i.Name, by)})
		case !now[int32(n)] && c.l.Scope[i.ID]:
			c.add(Item{Do: ScopeOut, Instance: i.Name, InstanceID: i.ID, n: -1,
				Sentence: fmt.Sprintf("%s left what the book is complete for%s; nothing is withdrawn there any more", i.Name, by)})
		}
	}
	_ = d
}

// wanted is one access that the book wants.
type wanted struct{ key, grant int32 }

// terms are those of a grant.
func (g *Grant) terms() Terms {
	t := Terms{From: strings.Join(g.From, ","), Only: g.Only}
	if g.Until != nil {
		t.Until = *g.Until
	}
	return t
}

// instances compares the accesses of each instance.
func (c *comparing) instances(d *Difference, scope map[int32]bool) {
	wants := make([][]wanted, len(c.l.Instances))
	told := map[string]bool{}
	shared := map[string][]int32{} // what the same words named before
	for n := range c.b.Access {
		g := &c.b.Access[n]
		var keys []int32
		if len(g.Whom) == 1 {
			var had bool
			if keys, had = shared[g.Whom[0].Text]; !had {
				keys = c.expand(g.Whom, told)
				shared[g.Whom[0].Text] = keys
			}
		} else {
			keys = c.expand(g.Whom, told)
		}
		chosen, lacks := c.choose(&g.To)
		at := g.To.At
		for _, w := range lacks {
			if _, launched := c.b.instances[names.Fold(w.Text)]; launched {
				continue // it is given its keys when it is there
			}
			place := w.At
			c.add(Item{Do: Cannot, Why: WhyNoInstance, Instance: w.Text, At: &place, n: -1, Sentence: fmt.Sprintf("there is no instance %s", w.Text)})
		}
		if len(chosen) == 0 && len(lacks) == 0 {
			i := Item{Do: NoMatch, At: &at, n: -1, Sentence: fmt.Sprintf("no instance is chosen by %s", g.To)}
			if g.To.MustMatch {
				i.Do, i.Why = Cannot, WhyNoMatch
			}
			c.add(i)
		}
		if g.Until != nil && !g.Until.After(c.l.Now) {
			continue // it has ended
		}
		for _, i := range chosen {
			for _, k := range keys {
				wants[i] = append(wants[i], wanted{k, int32(n)})
			}
		}
	}
	has := byInstance(len(c.l.Instances), len(c.l.Accesses), func(n int) int32 { return c.l.Accesses[n].Instance })
	seen := byInstance(len(c.l.Instances), len(c.l.Sightings), func(n int) int32 { return c.l.Sightings[n].Instance })
	for n := range c.l.Instances {
		if len(wants[n]) == 0 && !scope[int32(n)] {
			continue
		}
		if !c.l.Instances[n].Seen {
			d.Unseen++
		}
		c.instance(d, int32(n), wants[n], has(n), seen(n), scope[int32(n)])
	}
}

// byInstance groups rows by their instance, in the order of the rows.
func byInstance(instances, rows int, of func(n int) int32) func(n int) []int32 {
	begins := make([]int32, instances+1)
	for n := range rows {
		begins[of(n)+1]++
	}
	for n := range instances {
		begins[n+1] += begins[n]
	}
	sorted, next := make([]int32, rows), slices.Clone(begins)
	for n := range rows {
		i := of(n)
		sorted[next[i]] = int32(n)
		next[i]++
	}
	return func(n int) []int32 { return sorted[begins[n]:begins[n+1]] }
}

// instance compares the accesses of one instance.
func (c *comparing) instance(d *Difference, at int32, wants []wanted, has, seen []int32, scope bool) {
	i := &c.l.Instances[at]
	begin := len(c.out)
	stays, adds := false, false // a person's key that is known to be a way in, or may become one
	doable := func(x Item) (Item, bool) {
		x.Instance, x.InstanceID, x.Away = i.Name, i.ID, !i.Running
		why, text := "", ""
		switch {
		case x.User != i.LoginUser:
			why, text = WhyUser, fmt.Sprintf("the steward is confined to the files of %s: plumlatch instance user add %s %s -key %s", i.LoginUser, i.Name, x.User, x.Key)
		case !i.Ready:
			why, text = WhyNotReady, fmt.Sprintf("%s is %s", i.Name, i.Phase)
		case !i.Steward:
			why, text = WhyNoSteward, fmt.Sprintf("%s has no steward: nobody is there to edit its files", i.Name)
		case x.Do == Add && c.l.Takes != nil && !c.l.Takes(i.Region, i.Image, x.keyType):
			why, text = WhyImage, fmt.Sprintf("its image %s does not take keys of the type %s", i.Image, x.keyType)
		case c.l.Refuses != nil && (x.Do == Add || x.Do == Change):
			kind, origin := "", ""
			if x.Do == Add {
				kind, origin = x.kind, x.origin
			}
			if text = c.l.Refuses(i, kind, origin, x.Terms, x.Reason); text != "" {
				why = WhyPolicy
			}
		}
		if why == "" {
			return x, true
		}
		x.Sentence += ": " + text
		x.Do, x.Why = Cannot, why
		return x, false
	}
	slices.SortStableFunc(wants, func(a, b wanted) int { return cmp.Compare(a.key, b.key) })
	ways := left{c: c}
	used := map[int32]bool{}
	for n := 0; n < len(wants); n++ {
		w := wants[n]
		g := &c.b.Access[w.grant]
		user := cmp.Or(g.As, i.LoginUser)
		terms, reason, at := g.terms(), g.Reason, g.At
		differs := -1
		for n+1 < len(wants) && wants[n+1].key == w.key {
			n++
			o := &c.b.Access[wants[n].grant]
			if cmp.Or(o.As, i.LoginUser) != user || o.terms() != terms {
				differs = int(wants[n].grant)
			}
		}
		k := &c.keys[w.key]
		x := Item{Key: k.name, KeyID: k.id, Fingerprint: k.fingerprint, Holder: k.holder, User: user, Terms: terms, Reason: reason, At: &at, n: k.n, machine: k.machine, kind: k.kind, origin: k.origin, keyType: k.keyType}
		for _, h := range has {
			if a := &c.l.Accesses[h]; a.Key == w.key {
				used[h] = true
			}
		}
		if differs >= 0 {
			o := &c.b.Access[differs]
			x.Do, x.Why, x.Instance, x.InstanceID = Cannot, WhyTerms, i.Name, i.ID
			x.Sentence = fmt.Sprintf("%s is to open %s on the terms of line %d and on those of %s:%d, which differ: say which", k.name, i.Name, g.At.Line, o.At.File, o.At.Line)
			c.add(x)
			stays = true // nothing of it is withdrawn
			continue
		}
		var a *LedgerAccess
		for _, h := range has {
			if o := &c.l.Accesses[h]; o.Key == w.key && o.User == user {
				a = o
			}
		}
		if k.off != "" && (a == nil || a.Terms != terms) {
			x.Do, x.Why, x.Instance, x.InstanceID = Cannot, WhyKeyState, i.Name, i.ID
			if k.off == "a certificate authority" {
				x.Why = WhyAuthority
			}
			x.Sentence = fmt.Sprintf("%s is to open %s, and is %s", k.name, i.Name, k.off)
			c.add(x)
			continue
		}
		free := terms.Free() && !k.machine && k.off == ""
		if a != nil {
			switch {
			case a.Leaving:
				x.Do, x.Instance, x.InstanceID = Shared, i.Name, i.ID
				x.Sentence = fmt.Sprintf("a rotation at hand replaces %s on %s%s", k.name, i.Name, a.Terms)
				c.add(x)
			case a.Missing:
				x.Do, x.Instance, x.InstanceID = ByHand, i.Name, i.ID
				x.Sentence = fmt.Sprintf("%s was taken out of %s by hand: a survey did not find it. It is not put back: plumlatch survey %s shows what stands there; take it out of the "+
					"book, or out of the ledger (plumlatch access remove %s -key %s), and the book adds it again", k.name, i.Name, i.Name, i.Name, k.name)
				c.add(x)
			case a.Edited:
				x.Do, x.Instance, x.InstanceID, x.Evidence = ByHand, i.Name, i.ID, "seen by a survey"
				x.Sentence = fmt.Sprintf("the line of %s on %s was edited by hand: a survey saw other limits than those on record%s. It is left as it is: plumlatch survey %s shows it",
					k.name, i.Name, a.Terms, i.Name)
				c.add(x)
			case a.Terms != terms:
				x.Do, x.Was = Change, a.Terms
				holder, state, machine := c.was(a.Key)
				x.WasHolder, x.WasState, x.machine = holder, state, k.machine && machine
				x.Sentence = fmt.Sprintf("%s opens %s%s, and is to open it%s", k.name, i.Name, orFree(a.Terms), orFree(terms))
				x.Evidence = evidence(a)
				x, _ = doable(x)
				c.add(x)
				adds = adds || free
				ways.add(free, w.key)
			default:
				stays = stays || free && a.Shown
				adds = adds || free
				ways.add(free, w.key)
			}
			continue
		}
		over := -1
		for _, s := range seen {
			if o := &c.l.Sightings[s]; o.Fingerprint == k.fingerprint && o.User == user {
				over = int(s)
			}
		}
		if over >= 0 {
			o := &c.l.Sightings[over]
			if o.Limits == "" && terms.Free() || k.id == 0 {
				x.Do, x.Sentence, x.Evidence = TakeOver, fmt.Sprintf("%s stands on %s already, and nobody recorded it: it is recorded", k.name, i.Name), "seen by a survey"
				x.Instance, x.InstanceID = i.Name, i.ID
				adds = adds || free
				ways.add(free, w.key)
			} else {
				x.Do, x.Instance, x.InstanceID, x.Evidence = ByHand, i.Name, i.ID, "seen by a survey"
				x.Sentence = fmt.Sprintf("%s stands on %s already, on other terms than the book's (%s), and nobody recorded it: take that line out by hand, or record it "+
					"(plumlatch access record %s %s)", k.name, i.Name, cmp.Or(o.Limits, "none"), i.Name, k.name)
			}
			c.add(x)
			continue
		}
		x.Do, x.Sentence = Add, fmt.Sprintf("add %s to %s%s", k.name, i.Name, terms)
		var can bool
		if x, can = doable(x); can && free {
			adds = true
			ways.add(free, w.key)
		}
		c.add(x)
	}
	for _, h := range has {
		a := &c.l.Accesses[h]
		k := &c.keys[a.Key]
		if scope {
			d.InScope++
		}
		if used[h] {
			continue
		}
		free := a.Terms.Free() && !k.machine && k.off == ""
		if !scope {
			stays, adds = stays || free && a.Shown, adds || free
			ways.add(free, a.Key)
			continue
		}
		x := Item{Do: Withdraw, Key: k.name, KeyID: k.id, Fingerprint: k.fingerprint, Holder: k.holder, User: a.User, Was: a.Terms, Evidence: evidence(a), n: -1, recorded: true,
			Sentence: fmt.Sprintf("withdraw %s from %s", k.name, i.Name)}
		holder, state, machine := c.was(a.Key)
		x.WasHolder, x.WasState, x.machine = holder, state, k.machine && machine
		x.Instance, x.InstanceID = i.Name, i.ID
		switch {
		case k.machine && !slices.Contains(c.b.Complete.Also, Machines):
			x.Do, x.Sentence = Uncovered, fmt.Sprintf("%s opens %s: it is a machine's or a job's, which the book does not cover (also: [machines])", k.name, i.Name)
			c.add(x)
			continue
		case a.Leaving:
			x.Do, x.Sentence = Shared, fmt.Sprintf("a rotation at hand replaces %s on %s%s", k.name, i.Name, a.Terms)
			c.add(x)
			continue
		case a.ByHand && !c.b.Complete.Strict:
			x.Do, x.Sentence = Shared, fmt.Sprintf("%s was let in to %s by hand%s: it is left until then", k.name, i.Name, a.Terms)
			c.add(x)
			continue
		case a.Missing:
			x.Sentence += ": it is in the ledger alone, as a survey did not find it"
		}
		var can bool
		if x, can = doable(x); !can {
			stays, adds = stays || free && a.Shown, adds || free
			ways.add(free, a.Key)
		}
		c.add(x)
	}
	if scope {
		c.strangers(i, at, seen, wants, doable)
	}
	// Whether anybody gets in afterwards: rule 1 has the last word, on the server itself.
	if !stays && !adds {
		cut := false
		for n := begin; n < len(c.out); n++ {
			x := &c.out[n]
			narrowed := x.Do == Change && x.Was.Free() && !x.Terms.Free()
			if (narrowed || x.Do == Withdraw && x.recorded) && !x.machine {
				x.CutOff, cut = true, true
			}
		}
		if cut {
			d.CutOffs++
		}
	} else if doubt := ways.doubt(); doubt != "" {
		for n := begin; n < len(c.out); n++ {
			x := &c.out[n]
			if (x.Do == Change && x.Was.Free() && !x.Terms.Free() || x.Do == Withdraw && x.recorded && x.Was.Free()) && !x.machine {
				x.Doubt = doubt
			}
		}
	}
	for _, x := range c.out[begin:] {
		if !Told(x.Do) && x.Do != Cannot {
			d.Instances++
			break
		}
	}
}

// left are the keys that are left on an instance as ways in for people.
type left struct {
	c     *comparing
	some  bool
	shown bool   // of one, the private half was shown, lately enough
	name  string // of one that was not
}

func (l *left) add(free bool, key int32) {
	k := &l.c.keys[key]
	if !free {
		return
	}
	l.some = true
	at := time.Time{}
	if int(key) < len(l.c.l.Keys) {
		at = l.c.l.Keys[key].ShownAt
	}
	if !at.IsZero() && !at.Before(l.c.l.ShownSince) {
		l.shown = true
	} else if l.name == "" || k.name < l.name {
		l.name = k.name
	}
}

// doubt is why rule 1 takes nobody's way in here. It is known beforehand only that nobody has shown to
// have the private half of what is left; the rest is judged on the server itself.
func (l *left) doubt() string {
	if !l.some || l.shown || l.c.l.ShownSince.IsZero() {
		return ""
	}
	return fmt.Sprintf("rule 1 keeps it as things stand, since of no key that is left the private half was shown lately: plumlatch key prove %s -ssh-agent shows it", l.name)
}

// strangers are the keys that stand in the files, and that nobody recorded.
func (c *comparing) strangers(i *LedgerInstance, at int32, seen []int32, wants []wanted, doable func(Item) (Item, bool)) {
	for _, s := range seen {
		o := &c.l.Sightings[s]
		if slices.ContainsFunc(wants, func(w wanted) bool { return c.keys[w.key].fingerprint == o.Fingerprint }) {
			continue
		}
		word, what := Unrecorded, "a key that nobody recorded"
		if o.Limits == "authority" {
			word, what = Authorities, "an authority, which lets in whomever it signs for"
		}
		name := o.Fingerprint
		x := Item{Fingerprint: o.Fingerprint, User: o.User, Evidence: "seen by a survey", n: -1, Instance: i.Name, InstanceID: i.ID}
		if o.Key >= 0 {
			name, x.KeyID, x.Holder = c.keys[o.Key].name, c.keys[o.Key].id, c.keys[o.Key].holder
		}
		x.Key = name
		if !slices.Contains(c.b.Complete.Also, word) || word == Authorities {
			x.Do, x.Sentence = Uncovered, fmt.Sprintf("%s stands on %s: %s, which the book does not cover (also: [%s])", name, i.Name, what, word)
			if slices.Contains(c.b.Complete.Also, word) {
				x.Do, x.Why = Cannot, WhyAuthority
				x.Sentence = fmt.Sprintf("%s stands on %s: %s. It is taken out with your own way in: open %s, and take the line out", name, i.Name, what, i.Name)
			}
			c.add(x)
			continue
		}
		x.Do, x.Sentence = Withdraw, fmt.Sprintf("withdraw %s from %s: nobody recorded it there", name, i.Name)
		x, _ = doable(x)
		c.add(x)
	}
	_ = at
}

// was is what a key of the ledger counts as before the book.
func (c *comparing) was(key int32) (holder, state string, machine bool) {
	k := &c.l.Keys[key]
	switch {
	case k.State != inUse:
		state = k.State
	case k.Retired:
		state = "retired"
	}
	return k.HolderSort, state, k.HolderSort == "machine" || k.HolderSort == "job"
}

// evidence says how an access is known.
func evidence(a *LedgerAccess) string {
	switch {
	case a.Missing:
		return "a survey did not find it"
	case a.Shown:
		return "its server took it"
	}
	return "on record"
}

// orFree are terms in a sentence.
func orFree(t Terms) string {
	if t.Free() {
		return " without an end or limits"
	}
	return t.String()
}

// checks compares what "works" means for instances: the book's checks for one are all of its checks.
func (c *comparing) checks() {
	want := map[int32][]string{}
	for n := range c.b.Checks {
		k := &c.b.Checks[n]
		chosen, lacks := c.choose(&k.To)
		for _, w := range lacks {
			if _, launched := c.b.instances[names.Fold(w.Text)]; launched {
				continue
			}
			at := w.At
			c.add(Item{Do: Cannot, Why: WhyNoInstance, Instance: w.Text, At: &at, n: -1, Sentence: fmt.Sprintf("there is no instance %s", w.Text)})
		}
		for _, i := range chosen {
			for _, w := range k.Is {
				if !slices.Contains(want[i], w.Text) {
					want[i] = append(want[i], w.Text)
				}
			}
		}
	}
	for _, at := range slices.Sorted(maps.Keys(want)) {
		i := &c.l.Instances[at]
		slices.Sort(want[at])
		has := slices.Sorted(slices.Values(i.Checks))
		if !slices.Equal(want[at], has) {
			c.add(Item{Do: CheckSet, Instance: i.Name, InstanceID: i.ID, n: -1, Set: want[at], Sentence: fmt.Sprintf("what works means for %s: %s", i.Name, strings.Join(want[at], ", "))})
		}
	}
}

// chosen are the instances that an entry is for; those that there are none of are told, but for those that the book launches.
func (c *comparing) chosen(s *Selector) []int32 {
	all, lacks := c.choose(s)
	for _, w := range lacks {
		if _, launched := c.b.instances[names.Fold(w.Text)]; launched {
			continue
		}
		at := w.At
		c.add(Item{Do: Cannot, Why: WhyNoInstance, Instance: w.Text, At: &at, n: -1, Sentence: fmt.Sprintf("there is no instance %s", w.Text)})
	}
	return all
}

// lists compares which of the cloud's own lists have a key.
func (c *comparing) lists() {
	for n := range c.b.Keys {
		k := &c.b.Keys[n]
		at, known := c.named[names.Fold(k.Name.Text)]
		for _, w := range k.Lists {
			region, name, _ := strings.Cut(w.Text, "/")
			place := w.At
			x := Item{Do: ListAdd, Key: k.Name.Text, Fingerprint: k.Fingerprint, At: &place, n: n, Set: []string{"region=" + region, "name=" + name},
				Sentence: fmt.Sprintf("take %s into the cloud's list of keys of %s", k.Name.Text, region)}
			entries, read := c.l.Lists[region]
			switch {
			case !read:
				x.Do, x.Why = Cannot, WhyNotSeen
				x.Sentence += ": that list was never read; plumlatch cloud-key list -region " + region
			case !known || c.keys[at].off != "":
				x.Do, x.Why, x.Sentence = Cannot, WhyKeyState, x.Sentence+": nobody should launch with it"
			case slices.ContainsFunc(entries, func(e Listed) bool { return e.Key == at && (name == "" || e.Name == name) }):
				continue
			}
			c.add(x)
		}
	}
}

// inbound compares the inbound rules that a book wants. What others let in besides is not its business.
func (c *comparing) inbound() {
	for n := range c.b.Rules {
		u := &c.b.Rules[n]
		for _, at := range c.chosen(&u.To) {
			i := &c.l.Instances[at]
			for _, from := range u.From {
				place := u.At
				x := Item{Do: RuleAdd, Instance: i.Name, InstanceID: i.ID, At: &place, n: -1, Set: []string{"from=" + from, "ports=" + u.Ports},
					Sentence: fmt.Sprintf("let %s in to port %s of %s", from, u.Ports, i.Name)}
				admitted, known := false, false
				if c.l.Admits != nil {
					admitted, known = c.l.Admits(i, from, u.Ports)
				}
				switch {
				case admitted:
					continue
				case !known:
					x.Do, x.Why = Cannot, WhyNotSeen
					x.Sentence += ": the cloud did not say which rules there are; plumlatch instance rules " + i.Name
				}
				c.add(x)
			}
		}
	}
}

// logins compares how people may log in besides keys, as far as a survey has seen that. It is changed by somebody with sudo there.
func (c *comparing) logins() {
	for n := range c.b.Logins {
		l := &c.b.Logins[n]
		for _, at := range c.chosen(&l.To) {
			i := &c.l.Instances[at]
			place := l.At
			look := Item{Do: NotSeen, Instance: i.Name, InstanceID: i.ID, At: &place, n: -1}
			if l.Root != "" {
				look.Sentence = fmt.Sprintf("whether root may log in to %s (%s is wanted) is in no survey: plumlatch instance logins %s", i.Name, l.Root, i.Name)
				c.add(look)
			}
			switch {
			case l.Password == "" || l.Password == i.Password:
			case i.Password == "":
				look.Sentence = fmt.Sprintf("whether people log in to %s by a password is not seen: plumlatch survey %s", i.Name, i.Name)
				c.add(look)
			default:
				c.add(Item{Do: Hand, Instance: i.Name, InstanceID: i.ID, At: &place, n: -1, Evidence: "seen by a survey",
					Sentence: fmt.Sprintf("password logins of %s are %s, and are to be %s: plumlatch instance logins %s -password %s", i.Name, i.Password, l.Password, i.Name, l.Password)})
			}
		}
	}
}

// users compares accounts, as far as the ledger knows them: by the keys that open an instance as them.
func (c *comparing) users() {
	told := map[string]bool{}
	has := map[string]bool{}
	if len(c.b.Users) > 0 {
		for n := range c.l.Accesses {
			a := &c.l.Accesses[n]
			has[fmt.Sprintf("%d %d %s", a.Instance, a.Key, a.User)] = true
		}
	}
	for n := range c.b.Users {
		u := &c.b.Users[n]
		keys := c.expand(u.Keys, told)
		for _, at := range c.chosen(&u.To) {
			i := &c.l.Instances[at]
			for _, k := range keys {
				if has[fmt.Sprintf("%d %d %s", at, k, u.User)] {
					continue
				}
				place := u.At
				sudo := ""
				if u.Sudo {
					sudo = " -sudo"
				}
				c.add(Item{Do: Hand, Instance: i.Name, InstanceID: i.ID, Key: c.keys[k].name, Fingerprint: c.keys[k].fingerprint, User: u.User, At: &place, n: -1,
					Sentence: fmt.Sprintf("%s is to log in to %s as %s, and that is not on record: plumlatch instance user add %s %s -key %s%s", c.keys[k].name, i.Name, u.User,
						i.Name, u.User, c.keys[k].name, sudo)})
			}
		}
	}
}

// launches tells which instances the book wants and the ledger lacks.
func (c *comparing) launches() {
	told := map[string]bool{}
	for n := range c.b.Instances {
		i := &c.b.Instances[n]
		if _, ok := c.called[names.Fold(i.Name.Text)]; ok || c.closed[names.Fold(i.Name.Text)] {
			continue
		}
		at := i.Name.At
		x := Item{Do: Launch, Instance: i.Name.Text, At: &at, n: n, Sentence: fmt.Sprintf("launch %s: %s, %s, in %s", i.Name.Text, i.Image, i.Size, i.Region)}
		keys := c.expand(i.Keys, told)
		for g := range c.b.Access { // what opens it besides, without an end or limits, it has from the beginning
			if g := &c.b.Access[g]; g.terms().Free() && g.As == "" && g.To.Fits(Target{Name: i.Name.Text, Region: i.Region, Image: i.Image, Tags: i.Tags}) {
				keys = append(keys, c.expand(g.Whom, told)...)
			}
		}
		slices.Sort(keys)
		for _, k := range slices.Compact(keys) {
			if c.keys[k].off == "" {
				x.Set = append(x.Set, c.keys[k].name)
			}
		}
		c.add(x)
	}
}

// sum is over all that would be done of an item.
func (c *comparing) sum(i *Item) string {
	h := sha256.New()
	fmt.Fprintf(h, "%q %d %q %q %q %q %q %t\n", i.Do, i.InstanceID, i.Instance, i.Fingerprint, i.User,
		[]string{i.Terms.end(), i.Terms.From, i.Terms.Only, i.Was.end(), i.Was.From, i.Was.Only}, i.Set, i.CutOff)
	if i.Do == KeyAdd && i.n >= 0 {
		k := &c.b.Keys[i.n]
		note := ""
		if k.Note != nil {
			note = *k.Note
		}
		fmt.Fprintf(h, "%q %q %q %q %q %t\n", k.Name.Text, k.Holder.Text, note, k.Origin, k.State, k.Authority)
	}
	if i.Do == Launch {
		x := &c.b.Instances[i.n]
		fmt.Fprintf(h, "%q %q %q %q %d %q %q %q\n", x.Image, x.Size, x.Region, x.Zone, x.DiskGB, x.Tags, x.Address, plain(x.Keys))
	}
	return hex.EncodeToString(h.Sum(nil))
}

// finish orders the items, and counts and sums them up.
func (c *comparing) finish(d *Difference) {
	rank := map[string]int{}
	for n, do := range Dos {
		rank[do] = n
	}
	slices.SortStableFunc(d.Items, func(a, b Item) int {
		cut := func(i Item) int {
			if i.CutOff {
				return 0
			}
			return 1
		}
		return cmp.Or(cmp.Compare(rank[a.Do], rank[b.Do]), cmp.Compare(cut(a), cut(b)), strings.Compare(names.Fold(a.Instance), names.Fold(b.Instance)),
			strings.Compare(names.Fold(a.Key), names.Fold(b.Key)), strings.Compare(a.Holder, b.Holder), strings.Compare(a.User, b.User))
	})
	d.Counts = map[string]int{}
	h := sha256.New()
	fmt.Fprintf(h, "%q\n", d.Book)
	for n := range d.Items {
		i := &d.Items[n]
		d.Counts[i.Do]++
		if Told(i.Do) || i.Do == Cannot || i.Do == Hand { // settling does none of it
			continue
		}
		i.Sum = c.sum(i)
		fmt.Fprintln(h, i.Sum)
	}
	d.Hash = hex.EncodeToString(h.Sum(nil))
	d.Limit = max(10, d.InScope/10)
}
