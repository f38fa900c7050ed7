package access

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"plumlatch/core/names"
	"plumlatch/core/routes"
	"plumlatch/core/times"
)

// Policy says how often the service looks, and from when on something needs a hand.
type Policy struct {
	Survey struct {
		Every   Span  `yaml:"every"`   // an instance is surveyed this often by itself; 0 never
		Outside *bool `yaml:"outside"` // from outside too
	} `yaml:"survey"`
	Today struct {
		EvidenceOld  Span     `yaml:"evidence_old"`  // evidence of an access is old from this age on
		ExpiringIn   Span     `yaml:"expiring_in"`   // an access that ends within this time is told beforehand
		SoleOpeners  *bool    `yaml:"sole_openers"`  // instances with one opener are told
		WeakFrom     string   `yaml:"weak_from"`     // the least severity of a key that is told: dated, weak or broken
		JournalCheck Span     `yaml:"journal_check"` // the journal is to be verified this often
		Unused       Span     `yaml:"unused"`        // a key that did not come in for this long is told; 0: none is
		NewAddress   Span     `yaml:"new_address"`   // an address that no log had before is told for this long; 0: none is
		LeaveOut     []Reason `yaml:"leave_out"`     // reasons that are not told
	} `yaml:"today"`
	Keys struct {
		// of keys that are put on instances, such as ed25519; empty for all that are not weak
		Kinds []string `yaml:"kinds"`
		// Origins are where keys that are put on instances have to come from, as key list shows it;
		// empty: from wherever.
		Origins []string `yaml:"origins"`
	} `yaml:"keys"`
	Access struct {
		Reason  bool `yaml:"reason"`  // whoever shares access has to give one
		Longest Span `yaml:"longest"` // access is shared for no longer than this; 0: for as long as one likes
		Who     []struct {
			Tag       string   `yaml:"tag"`       // NAME=VALUE, or NAME, of instances
			Operators []string `yaml:"operators"` // who alone may share access to them
		} `yaml:"who"`
	} `yaml:"access"`
	Adopt struct {
		// Who may adopt from the cloud's list, besides admins: that is root on the instance.
		Who   []Adopters `yaml:"who"`
		Never []string   `yaml:"never"` // NAME=VALUE, or NAME, of instances that are listed and never touched
		Word  string     `yaml:"word"`  // that it and the first restore wait for: none, second, signature or either
	} `yaml:"adopt"`
	Rotation struct {
		Age  Span     `yaml:"age"`  // an access that is older is due; 0: none ever is
		Ages []TagAge `yaml:"ages"` // by tag; the first that fits counts
	} `yaml:"rotation"`
	Steward struct {
		Age Span `yaml:"age"` // the service's own key on an instance is replaced at this age; 0: never
	} `yaml:"steward"`
	// Rehearse has ways back in rehearsed regularly, each on a copy.
	Rehearse struct {
		Every  Span    `yaml:"every"`   // each instance; 0: never
		AtMost float64 `yaml:"at_most"` // money a month, in the cloud's currency; 0: whatever it costs
		Tag    string  `yaml:"tag"`     // only instances with this tag, NAME=VALUE or NAME; "": all
		Route  string  `yaml:"route"`   // "": the best open one of those that need nobody's hand
	} `yaml:"rehearse"`
	// Word is asked for before work on many instances begins.
	Word struct {
		Over int    `yaml:"over"` // work on more instances than this; 0: none
		By   string `yaml:"by"`   // second, signature or either
	} `yaml:"word"`
	// Stream says who may have the bytes of SSH connections carried by the service, and how much of that.
	Stream struct {
		Who     []Adopters `yaml:"who"`     // nobody besides; empty: nobody at all
		Reason  bool       `yaml:"reason"`  // whoever opens one has to give one
		Idle    Span       `yaml:"idle"`    // one through which nothing goes for this long ends
		Long    Span       `yaml:"long"`    // one that lasts longer is told on today; 0: none is
		Longest Span       `yaml:"longest"` // one that lasts this long ends
		Each    int        `yaml:"each"`    // how many one operator may have open
		Rate    int        `yaml:"rate"`    // MiB a second of all that an operator has open, on one replica; 0: as fast as it goes
	} `yaml:"stream"`
	// PrivateHalf is how long a private half that was shown to exist counts as there.
	PrivateHalf Span `yaml:"private_half"`
}

// DefaultPolicy is the policy until another one is set.
const DefaultPolicy = `# How often Plum Latch looks, and from when on something needs a hand.
# Times are written as 90d, 24h or 30m. What is left out keeps the value given here.
survey:
  every: 24h          # each instance, by itself, spread out; 0: never
  outside: true       # from outside too; an adopted instance only once it is allowed
today:
  evidence_old: 30d   # evidence of this age is old
  expiring_in: 7d     # an access that ends within this time is told beforehand
  sole_openers: true  # tell instances that only one person's key opens
  weak_from: weak     # the least severity that is told: dated, weak or broken
  journal_check: 7d   # the journal is to be verified this often
  unused: 180d        # a key that opens an instance and by its log did not come in for this long is told; 0: none is
  new_address: 7d     # an address from which nobody came in before, by any log, is told for this long; 0: none is
  leave_out: []       # reasons that are not told, such as [sole-opener]
keys:
  kinds: []           # of keys that are put on instances, such as [ed25519, rsa-4096]; empty: all that are not weak
  origins: []         # where they come from: imported, made here, made elsewhere; empty: from wherever
access:
  reason: false       # whoever shares access (access add) has to give a reason
  longest: 0          # access is shared for no longer than this, such as 30d; 0: for as long as one likes
  who: []             # who alone may share access where, such as [{tag: env=prod, operators: [night-lead]}]; empty: every operator
adopt:
  who: []             # who may adopt from the cloud's list besides admins, such as [{operators: [night-lead], region: north-pier, tag: env=test}]
  never: []           # tags of instances that are listed and never touched, such as [owner=pilots]
  word: none          # that it and the first restore there wait for: none, second, signature or either, as below
rotation:
  age: 365d           # an access that is older than this is due (rotate many -due); 0: none ever is
  ages: []            # by tag, the first that fits counts, such as [{tag: env=prod, age: 90d}]
steward:
  age: 90d            # the service replaces its own key on an instance at this age; 0: never
rehearse:
  every: 0            # each instance's way back in is carried out on a copy this often, such as 90d; 0: never
  at_most: 0          # what that may cost in a month, in the cloud's currency; 0: whatever it costs
  tag: ""             # only instances with this tag, such as env=prod; "": all
  route: ""           # steward, boot-text, disk or copy; "": the best that is open
word:
  over: 0             # work on more instances than this waits for a word besides; 0: none does
  by: either          # second (another operator's word), signature (a fresh SSH signature of whoever asked), or either
stream:
  who: []             # who may open a stream (plumlatch stream, the shell in the page), such as [{operators: [night-lead], tag: env=prod}]; empty: nobody
  reason: false       # whoever opens one has to give a reason
  idle: 1h            # one through which nothing goes for this long ends
  long: 8h            # one that lasts longer is told on today; 0: none is
  longest: 24h        # one that lasts this long ends
  each: 8             # how many one operator may have open
  rate: 0             # MiB a second of all that an operator has open; 0: as fast as it goes
private_half: 90d     # for how long a private half that was shown to exist counts as there
`

// TagAge is an age of its own for instances with a tag.
type TagAge struct {
	Tag string `yaml:"tag"` // NAME=VALUE, or NAME
	Age Span   `yaml:"age"`
}

// TagFits tells whether tags have NAME=VALUE, or NAME with any value.
func TagFits(tag string, tags map[string]string) bool { return names.TagFits(tag, tags) }

// MayShare returns the operators who alone may share access to instances with
// these tags, and the tag that says so; nil if every operator may.
func (p Policy) MayShare(tags map[string]string) (operators []string, tag string) {
	for _, w := range p.Access.Who {
		if TagFits(w.Tag, tags) {
			return w.Operators, w.Tag
		}
	}
	return nil, ""
}

// Adopters are operators who may do something with instances of a region, or with a tag.
type Adopters struct {
	Operators []string `yaml:"operators"`
	Region    string   `yaml:"region"` // "" for every region
	Tag       string   `yaml:"tag"`    // NAME=VALUE, or NAME; "" for all
}

// MayAdopt tells whether an operator who is no admin may adopt an instance from the cloud's list.
func (p Policy) MayAdopt(operator, region string, tags map[string]string) bool {
	return slices.ContainsFunc(p.Adopt.Who, func(a Adopters) bool { return a.fit(operator, region, tags) })
}

// MayStream tells whether an operator may open a stream to an instance.
func (p Policy) MayStream(operator, region string, tags map[string]string) bool {
	return slices.ContainsFunc(p.Stream.Who, func(a Adopters) bool { return a.fit(operator, region, tags) })
}

func (a Adopters) fit(operator, region string, tags map[string]string) bool {
	return slices.ContainsFunc(a.Operators, func(n string) bool { return names.Fold(n) == names.Fold(operator) }) && (a.Region == "" || a.Region == region) &&
		(a.Tag == "" || TagFits(a.Tag, tags))
}

// NeverAdopted returns the tag by which an instance is left alone; "" if there is none.
func (p Policy) NeverAdopted(tags map[string]string) string {
	n := slices.IndexFunc(p.Adopt.Never, func(tag string) bool { return TagFits(tag, tags) })
	if n < 0 {
		return ""
	}
	return p.Adopt.Never[n]
}

// Words of the policy that a piece of large work can wait for.
const (
	SecondWord    = "second"    // another operator's
	SignatureWord = "signature" // a fresh SSH signature of whoever asked
	EitherWord    = "either"
	NoWord        = "none"
)

// WordFor returns what work on n instances waits for; "" for nothing.
func (p Policy) WordFor(n int) string {
	if p.Word.Over == 0 || n <= p.Word.Over {
		return ""
	}
	return p.Word.By
}

// Span is a length of time, written as 90d, 24h or 30m, or 0.
type Span time.Duration

// UnmarshalYAML reads a length of time.
func (s *Span) UnmarshalYAML(n *yaml.Node) error {
	d, err := times.Span(n.Value)
	if err != nil || n.Kind != yaml.ScalarNode {
		return fmt.Errorf("line %d: %w", n.Line, times.ErrSpan)
	}
	*s = Span(d)
	return nil
}

// maxPolicy is the greatest policy that is read, in bytes.
const maxPolicy = 64 << 10

// ReadPolicy reads a policy (YAML). What it leaves out keeps its default; a
// word that it should not have is an error that names its line.
func ReadPolicy(text string) (Policy, error) {
	var p Policy
	if err := decodePolicy(DefaultPolicy, &p); err != nil {
		return p, err
	}
	if len(text) > maxPolicy {
		return p, fmt.Errorf("a policy of more than %d bytes is none", maxPolicy)
	}
	if err := decodePolicy(text, &p); err != nil && !errors.Is(err, io.EOF) {
		return p, err
	}
	return p, p.check()
}

func decodePolicy(text string, p *Policy) error {
	d := yaml.NewDecoder(bytes.NewReader([]byte(text)))
	d.KnownFields(true)
	if err := d.Decode(p); err != nil {
		return inPlainWords(err)
	}
	if err := d.Decode(&Policy{}); !errors.Is(err, io.EOF) {
		return errors.New("a policy is one document")
	}
	return nil
}

var (
	unknownWord = regexp.MustCompile(`^line (\d+): field (.+) not found in type `)
	wrongValue  = regexp.MustCompile(`^line (\d+): cannot unmarshal `)
)

// inPlainWords says what is wrong with a policy without the names of Go's types.
func inPlainWords(err error) error {
	wrong, ok := errors.AsType[*yaml.TypeError](err)
	if !ok {
		return err
	}
	var all []string
	for _, text := range wrong.Errors {
		if m := unknownWord.FindStringSubmatch(text); m != nil {
			text = fmt.Sprintf("line %s: a policy has no word %q there", m[1], m[2])
		} else if m := wrongValue.FindStringSubmatch(text); m != nil {
			text = fmt.Sprintf("line %s: this is no value for that word", m[1])
		}
		all = append(all, text)
	}
	return errors.New(strings.Join(all, "; "))
}

func (p Policy) check() error {
	if e := time.Duration(p.Survey.Every); e > 0 && e < time.Minute {
		return errors.New("survey.every: once a minute is the most; 0 never surveys by itself")
	}
	if !slices.Contains([]string{"dated", "weak", "broken"}, p.Today.WeakFrom) {
		return errors.New("today.weak_from: give dated, weak or broken")
	}
	if !slices.Contains([]string{SecondWord, SignatureWord, EitherWord}, p.Word.By) || p.Word.Over < 0 {
		return errors.New("word: give over, a number of instances, and by: second, signature or either")
	}
	if a := time.Duration(p.Steward.Age); a > 0 && a < time.Hour {
		return errors.New("steward.age: once an hour is the most; 0 never replaces them")
	}
	for _, w := range p.Access.Who {
		if w.Tag == "" || len(w.Operators) == 0 {
			return errors.New("access.who: each entry has a tag and operators")
		}
	}
	for _, a := range p.Adopt.Who {
		if len(a.Operators) == 0 {
			return errors.New("adopt.who: each entry has operators, and a region or a tag if it is not for all")
		}
	}
	if !slices.Contains([]string{NoWord, SecondWord, SignatureWord, EitherWord}, p.Adopt.Word) {
		return errors.New("adopt.word is none, second, signature or either")
	}
	if slices.Contains(p.Adopt.Never, "") {
		return errors.New("adopt.never: each entry is a tag")
	}
	for _, a := range p.Stream.Who {
		if len(a.Operators) == 0 {
			return errors.New("stream.who: each entry has operators, and a region or a tag if it is not for all")
		}
	}
	switch s := p.Stream; {
	case time.Duration(s.Idle) < time.Minute, time.Duration(s.Longest) < time.Minute:
		return errors.New("stream.idle and stream.longest: a minute is the least, and there is always an end")
	case time.Duration(s.Longest) > 7*24*time.Hour:
		return errors.New("stream.longest: 7d is the most")
	case s.Each < 1 || s.Each > 1000, s.Rate < 0:
		return errors.New("stream.each is a number from 1 to 1000, and stream.rate MiB a second, 0 for as fast as it goes")
	}
	if e := time.Duration(p.Rehearse.Every); e > 0 && e < 24*time.Hour {
		return errors.New("rehearse.every: once a day is the most; 0 never rehearses by itself")
	}
	if p.Rehearse.AtMost < 0 {
		return errors.New("rehearse.at_most: what it may cost in a month; 0 for whatever it costs")
	}
	if r := p.Rehearse.Route; r != "" && !slices.Contains(routes.Rehearsable, r) {
		return fmt.Errorf("rehearse.route: give one of %s, or none for the best", strings.Join(routes.Rehearsable, ", "))
	}
	for _, a := range p.Rotation.Ages {
		if a.Tag == "" {
			return errors.New("rotation.ages: each entry has a tag and an age")
		}
	}
	for _, o := range p.Keys.Origins {
		if !slices.Contains(Origins, o) {
			return fmt.Errorf("keys.origins: there is no %q; give some of %s", o, strings.Join(Origins, ", "))
		}
	}
	for _, k := range p.Keys.Kinds {
		if !kindWord.MatchString(k) {
			return errors.New("keys.kinds: give kinds as key list shows them, such as ed25519 or rsa-4096")
		}
	}
	for name, s := range map[string]Span{"today.evidence_old": p.Today.EvidenceOld, "private_half": p.PrivateHalf,
		"today.journal_check": p.Today.JournalCheck} {
		if time.Duration(s) < time.Hour {
			return fmt.Errorf("%s: less than an hour would tell everything all the time", name)
		}
	}
	for name, s := range map[string]Span{"today.unused": p.Today.Unused, "today.new_address": p.Today.NewAddress} {
		if s != 0 && time.Duration(s) < 24*time.Hour {
			return fmt.Errorf("%s: a log is counted by days, so a day is the least; 0 tells none", name)
		}
	}
	for _, r := range p.Today.LeaveOut {
		if _, ok := reasons[r]; !ok {
			return fmt.Errorf("today.leave_out: there is no reason %q; there are: %s", string(r),
				strings.Join(ReasonNames(), ", "))
		}
	}
	return nil
}

// Origins are where a key can come from.
var Origins = []string{"made here", "imported", "made elsewhere"}

// PlacesFrom tells whether a key of this origin is put on instances.
func (p Policy) PlacesFrom(origin string) bool {
	return len(p.Keys.Origins) == 0 || slices.Contains(p.Keys.Origins, origin)
}

// Places tells whether a key of this kind is put on instances.
func (p Policy) Places(kind string) bool {
	return len(p.Keys.Kinds) == 0 || slices.Contains(p.Keys.Kinds, kind)
}

// kindWord is how kinds of keys are written.
var kindWord = regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`)

// Outside tells whether surveys by themselves look from outside too.
func (p Policy) Outside() bool { return p.Survey.Outside == nil || *p.Survey.Outside }
