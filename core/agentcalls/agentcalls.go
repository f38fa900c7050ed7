// Package agentcalls is what the service may ask of an agent: a fixed list of verbs, and the request that an operator signs for each that
// changes something. The agent, not the service, decides whether a request is carried out: by the file on its instance, which no verb can
// change.
package agentcalls

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"plumlatch/core/keypair"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
)

// Verb is something that an agent does.
type Verb string

// The verbs.
const (
	Look     Verb = "look"     // see who gets in, what runs there, who came in: changes nothing
	Edit     Verb = "edit"     // add a line to a user's authorized_keys, or take one out
	Users    Verb = "users"    // add, change and remove accounts
	Logins   Verb = "logins"   // change how people log in besides keys, with the way back laid first
	Sessions Verb = "sessions" // end sessions that a key opened
	Stream   Verb = "stream"   // carry the bytes of an SSH connection to the machine's own server: whoever has no key gets no further there
	// Upgrade puts a newer program of the agent in the place of the old one. It is none of the verbs that the owner's file lists: the key of
	// releases that stands there decides, and "upgrades: off" turns it off.
	Upgrade Verb = "upgrade"
)

// Verbs are all of them.
var Verbs = []Verb{Look, Edit, Users, Logins, Sessions, Stream}

// Changes tells whether the verb changes something: then it carries an operator's signature.
func (v Verb) Changes() bool { return v != Look && v != Stream }

// MaxStreams is how many streams an agent carries at one time: channels are left for what else is asked of it.
const MaxStreams = 8

// Namespace is what such a request is signed for (PROTOCOL.sshsig).
const Namespace = "agent@plumlatch"

// Longest is the most that a request may be good for.
const Longest = time.Hour

// Request is what is asked of an agent.
type Request struct {
	Verb     Verb      `json:"verb"`
	Instance int64     `json:"instance"` // its ID in the ledger
	Agent    string    `json:"agent"`    // the fingerprint of the agent's key: a former one's request is none of this one's
	Args     string    `json:"args"`     // JSON, as it is signed
	Judged   string    `json:"judged"`   // SHA-256, in hexadecimal, of the file that a change was judged on; "" where there is none
	Nonce    string    `json:"nonce"`    // random: a request is carried out once
	Until    time.Time `json:"until"`    // it is not begun later; in whole seconds
}

// Text is what is signed: one line a field, so that no two requests have one text. ErrRequest.
func (r Request) Text() ([]byte, error) {
	if err := r.check(); err != nil {
		return nil, err
	}
	sum := sha256.Sum256([]byte(r.Args))
	return fmt.Appendf(nil, "plumlatch agent request\nverb %s\ninstance %d\nagent %s\nargs %s\njudged %s\nnonce %s\nuntil %s\n", r.Verb, r.Instance, r.Agent,
		hex.EncodeToString(sum[:]), r.Judged, r.Nonce, r.Until.UTC().Format(time.RFC3339)), nil
}

// Errors of a request that is not carried out.
var (
	// ErrRequest: it is none.
	ErrRequest = errors.New("it is no request to an agent")
	// ErrNotOpen: the file on the instance does not allow it.
	ErrNotOpen = errors.New("the agent's own file does not allow it")
	// ErrUnsigned: no operator of the agent's file signed it.
	ErrUnsigned = errors.New("it is signed by nobody whom the agent's own file names")
	// ErrElsewhere: it is another agent's, or another instance's.
	ErrElsewhere = errors.New("it is for another agent")
	// ErrOver: its end is past, or too far off.
	ErrOver = errors.New("its time is over")
	// ErrTwice: it was carried out before.
	ErrTwice = errors.New("it was carried out before")
)

var (
	hexSum = regexp.MustCompile(`^[0-9a-f]{64}$`)
	prints = regexp.MustCompile(`^SHA256:[A-Za-z0-9+/]{43}$`)
	nonces = regexp.MustCompile(`^[A-Z0-9]{26,64}$`)
)

// IsFingerprint tells whether a text is a fingerprint as OpenSSH writes it (SHA256:...).
func IsFingerprint(s string) bool { return prints.MatchString(s) }

func (r Request) check() error {
	switch {
	case !slices.Contains(Verbs, r.Verb) && r.Verb != Upgrade:
		return fmt.Errorf("%w: there is no verb %q", ErrRequest, plaintext.Line(plaintext.Cut(string(r.Verb), 40)))
	case r.Instance < 1, !prints.MatchString(r.Agent), r.Judged != "" && !hexSum.MatchString(r.Judged), !nonces.MatchString(r.Nonce), r.Until.IsZero(),
		!r.Until.Equal(r.Until.Truncate(time.Second)):
		return fmt.Errorf("%w: a field of it is not as it must be", ErrRequest)
	}
	return nil
}

// Owner is what the file on an instance says.
type Owner struct {
	Verbs     []Verb           // that are allowed
	Never     []string         // users whom no verb touches
	Trust     Trust            // who may ask for a change
	Operators []keypair.Public // their keys, where operators are asked
	Release   keypair.Public   // the key whose releases of the agent are taken; the zero value for none
	Upgrades  bool             // they are taken
}

// Trust says on whose word an agent changes something.
type Trust string

// The two of them.
const (
	// ByOperators: each change carries an operator's signature. It is what holds unless the file says otherwise.
	ByOperators Trust = "operators"
	// ByService: the service's word is enough, which rotations by schedule need. Whoever has the service has the instance then.
	ByService Trust = "service"
)

// Own is what an agent knows of itself.
type Own struct {
	Instance int64
	Agent    string
}

// Judge says whether a request is carried out: whether the owner's file allows it, for this agent, now, and whether somebody signed it who
// may. Whether its nonce was seen before, the caller knows (ErrTwice), and which users it touches, the caller asks of Untouched.
func (o Owner) Judge(r Request, signature string, own Own, now time.Time) error {
	text, err := r.Text()
	switch {
	case err != nil:
		return err
	case r.Verb == Upgrade && (!o.Upgrades || o.Release.Blob == nil):
		return fmt.Errorf("%w: it takes no upgrades, as it says so, or names no key of releases", ErrNotOpen)
	case !slices.Contains(o.Verbs, r.Verb) && r.Verb != Upgrade:
		return fmt.Errorf("%w: %s is not among its verbs", ErrNotOpen, r.Verb)
	case r.Instance != own.Instance || r.Agent != own.Agent:
		return ErrElsewhere
	case !r.Verb.Changes() || o.Trust == ByService || r.Verb == Upgrade: // a release carries a signature of its own
		return nil
	case now.After(r.Until):
		return fmt.Errorf("%w: it was good until %s, and the clock there says %s", ErrOver, r.Until.UTC().Format(time.RFC3339), now.UTC().Format(time.RFC3339))
	case r.Until.Sub(now) > Longest:
		return fmt.Errorf("%w: it would be good until %s, more than %s from what the clock there says, %s", ErrOver, r.Until.UTC().Format(time.RFC3339), Longest,
			now.UTC().Format(time.RFC3339))
	}
	if !slices.ContainsFunc(o.Operators, func(p keypair.Public) bool { return p.Verify([]byte(signature), Namespace, text) == nil }) {
		return ErrUnsigned
	}
	return nil
}

// Untouched says that a user is not among those whom no verb touches. ErrNotOpen.
func (o Owner) Untouched(user string) error {
	if !names.LoginUser(user) {
		return fmt.Errorf("%w: it names no login user", ErrRequest)
	}
	if slices.Contains(o.Never, user) {
		return fmt.Errorf("%w: it is never to touch %s", ErrNotOpen, user)
	}
	return nil
}

// OwnerFile is the file on an instance, word by word.
type OwnerFile struct {
	Service   string   `yaml:"service"` // HOST:PORT
	Verbs     []string `yaml:"verbs"`
	Never     []string `yaml:"never"`
	Trust     string   `yaml:"trust"`     // operators, or service; "" is operators
	Operators []string `yaml:"operators"` // public keys, as authorized_keys has them
	Release   string   `yaml:"release"`   // a public key; "" for none
	Upgrades  string   `yaml:"upgrades"`  // on, or off; "" is on
}

// Read makes an Owner of it. What it does not know is refused: a slip of the pen must not allow anything. The error names the word.
func (f OwnerFile) Read() (Owner, error) {
	o := Owner{Never: f.Never, Trust: Trust(f.Trust), Upgrades: f.Upgrades != "off"}
	if f.Trust == "" {
		o.Trust = ByOperators
	}
	if o.Trust != ByOperators && o.Trust != ByService {
		return Owner{}, fmt.Errorf("trust: %q is neither %s nor %s", plaintext.Line(plaintext.Cut(f.Trust, 40)), ByOperators, ByService)
	}
	for n, v := range f.Verbs {
		if !slices.Contains(Verbs, Verb(v)) {
			return Owner{}, fmt.Errorf("verbs: %q, number %d, is none of %s", plaintext.Line(plaintext.Cut(v, 40)), n+1, words(Verbs))
		}
		o.Verbs = append(o.Verbs, Verb(v))
	}
	for n, u := range f.Never {
		if !names.LoginUser(u) {
			return Owner{}, fmt.Errorf("never: number %s is no login user", strconv.Itoa(n+1))
		}
	}
	for n, line := range f.Operators {
		p, err := keypair.ReadPublic([]byte(line))
		if err != nil {
			return Owner{}, fmt.Errorf("operators: number %d is no public key", n+1)
		}
		o.Operators = append(o.Operators, p)
	}
	if f.Release != "" {
		p, err := keypair.ReadPublic([]byte(f.Release))
		if err != nil {
			return Owner{}, errors.New("release: it is no public key")
		}
		o.Release = p
	}
	if !slices.Contains([]string{"", "on", "off"}, f.Upgrades) {
		return Owner{}, fmt.Errorf("upgrades: %q is neither on nor off", plaintext.Line(plaintext.Cut(f.Upgrades, 40)))
	}
	return o, nil
}

func words(all []Verb) string {
	var out []string
	for _, v := range all {
		out = append(out, string(v))
	}
	return strings.Join(out, ", ")
}

// Frozen tells whether nothing that this file allows could ever be carried out for want of somebody to sign it.
func (o Owner) Frozen() bool {
	return o.Trust == ByOperators && len(o.Operators) == 0 && slices.ContainsFunc(o.Verbs, Verb.Changes)
}

// Where agents connect: the path, and the name in the service's certificate for agents, whatever address is dialled.
const (
	Path = "/agent"
	// ProgramPath is where a first boot fetches the agent's program.
	ProgramPath = "/agent/program"
	ServerName  = "agents.plumlatch.internal"
)

// Hello is the first message of an agent, once TLS has shown each to the other: what it is, and what its owner allows.
type Hello struct {
	Version string   `json:"version"`
	Verbs   []Verb   `json:"verbs"`
	Never   []string `json:"never"`
	Trust   Trust    `json:"trust"`
	Frozen  bool     `json:"frozen"`          // changes are allowed, and nobody could sign one
	Last    string   `json:"last,omitempty"`  // what became of the last upgrade that was taken up
	Token   string   `json:"token,omitempty"` // of a launch: it enrolls the agent's key, once
}

// Welcome is what the service answers: frames follow, unless it refuses.
type Welcome struct {
	Instance int64  `json:"instance"`
	Refused  Code   `json:"refused,omitempty"`
	Why      string `json:"why,omitempty"`
}

// Call is the head of a channel: what is asked for, and who signed it.
type Call struct {
	Request   Request `json:"request"`
	Signature string  `json:"signature,omitempty"` // armored (PROTOCOL.sshsig)
}

// Answer is what comes back on the channel, before it ends.
type Answer struct {
	Code   Code            `json:"code,omitempty"` // "" if it was done
	Said   string          `json:"said,omitempty"` // in words; the instance's own, so not to be trusted in form
	Result json.RawMessage `json:"result,omitempty"`
}

// Code says what became of a call, or of a connection.
type Code string

// The codes.
const (
	NotOpen   Code = "not-open"  // the owner's file does not allow it
	Unsigned  Code = "unsigned"  // nobody signed it whom the owner's file names
	Elsewhere Code = "elsewhere" // it is for another agent
	Over      Code = "over"      // its time is over
	Twice     Code = "twice"     // it was carried out before
	Malformed Code = "malformed" // it is no request
	Refused   Code = "refused"   // what was asked for would do harm, or the machine did not do it
	Changed   Code = "changed"   // the file is not what it was judged on
	Failed    Code = "failed"    // something went wrong there
	Unknown   Code = "unknown"   // of a connection: no instance has an agent with this key
	Second    Code = "second"    // of a connection: an agent with this key is connected
	OldToken  Code = "old-token" // of a connection: the token is nobody's, was used, or is over
)

// CodeOf is the code of an error of this package; Failed for any other.
func CodeOf(err error) Code {
	for _, known := range []struct {
		err  error
		code Code
	}{{ErrNotOpen, NotOpen}, {ErrUnsigned, Unsigned}, {ErrElsewhere, Elsewhere}, {ErrOver, Over}, {ErrTwice, Twice}, {ErrRequest, Malformed}} {
		if errors.Is(err, known.err) {
			return known.code
		}
	}
	return Failed
}
