package wire

import "time"

// Rotate asks for a new key in the place of an old one, on one instance.
type Rotate struct {
	Old string `json:"old,omitempty"` // name; "" takes the one that there is
	New string `json:"new"`           // name of a recorded key
	// GraceSeconds is for how long the old key is accepted besides; nil for a
	// day, 0 for not at all, at most a year.
	GraceSeconds *int64 `json:"grace_seconds,omitempty"`
	// Contain are the networks that the old key is taken from until it is replaced,
	// where that cuts nobody off; none leaves it as it is until then.
	Contain []string `json:"contain,omitempty"`
}

// RotationPlan is what a rotation of one instance would do.
type RotationPlan struct {
	Instance  string      `json:"instance"`
	LoginUser string      `json:"login_user"`
	Old       string      `json:"old"`
	New       string      `json:"new"`
	Grace     int64       `json:"grace_seconds"`
	Keys      []KeyBefore `json:"keys"`
	Notes     []string    `json:"notes"`
}

// KeyBefore is what a key may do at an instance before a change and after it.
type KeyBefore struct {
	Key    string `json:"key"`
	Holder string `json:"holder,omitempty"`
	Before string `json:"before"`
	After  string `json:"after"`
}

// Rotating is how far a rotation has come, as its work keeps it.
type Rotating struct {
	Options  string     `json:"options,omitempty"`  // carried over
	Notes    []string   `json:"notes,omitempty"`    // what the engineer should know of that
	Ends     *time.Time `json:"ends,omitempty"`     // of the grace time
	Enforced bool       `json:"enforced,omitempty"` // the server ends it itself
	Why      string     `json:"why,omitempty"`      // it does not
	Login    bool       `json:"login,omitempty"`    // a login from the engineer's machine has to show it
	Stays    string     `json:"stays,omitempty"`    // why the new line was not taken out again when it went back
	NewKey   string     `json:"new_key,omitempty"`  // name of the new key
	OldKey   string     `json:"old_key,omitempty"`  // name of the key that is taken
}

// LoginReport says that a login with a key ended well, from the client's machine.
// It counts with the key's signature over a challenge that names the instance (and
// the work, if it is reported to one); without one it is the client's word.
type LoginReport struct {
	Fingerprint string `json:"fingerprint,omitempty"`
	Nonce       string `json:"nonce,omitempty"`
	Signature   string `json:"signature,omitempty"`
}

// AccessAdd asks for a key to open an instance besides those that do, on terms
// that its server enforces where it can.
type AccessAdd struct {
	Key    string     `json:"key"`
	User   string     `json:"user,omitempty"`  // login user; "" for the instance's
	Until  *time.Time `json:"until,omitempty"` // its end; nil for none
	From   []string   `json:"from,omitempty"`  // addresses, or networks in CIDR notation; none for all
	Only   string     `json:"only,omitempty"`  // the one command that it runs; "" for whatever is asked for
	Reason string     `json:"reason,omitempty"`
}

// AccessRemove asks for a key to be withdrawn from an instance.
type AccessRemove struct {
	Key    string `json:"key"`
	Reason string `json:"reason,omitempty"`
	CutOff int    `json:"cut_off,omitempty"` // how many instances nobody gets into afterwards: 1, or 0 for none
}

// What AccessMany does.
const (
	ManyAdd    = "add"    // lets a key open every instance chosen
	ManySecond = "second" // the same, where only one key of a person is known to be taken
	ManyRemove = "remove" // withdraws a key, or every key that a holder has
)

// AccessMany asks for one change of access on many instances.
type AccessMany struct {
	Do     string     `json:"do"`
	Key    string     `json:"key,omitempty"`    // that is added or withdrawn
	Holder string     `json:"holder,omitempty"` // remove: whose keys are withdrawn
	Tag    string     `json:"tag,omitempty"`    // NAME=VALUE, or NAME; "" for all instances
	Until  *time.Time `json:"until,omitempty"`
	From   []string   `json:"from,omitempty"`
	Only   string     `json:"only,omitempty"`
	Reason string     `json:"reason,omitempty"`
	// remove: how many instances nobody gets into afterwards, counted out
	CutOff      int    `json:"cut_off,omitempty"`
	First       int    `json:"first,omitempty"`        // size of the first wave; 0 for 1
	Grow        int    `json:"grow,omitempty"`         // how many times as large the next is; 0 for all at once
	AtMost      string `json:"at_most,omitempty"`      // in one wave: a number, or a part; "" for all
	StopAfter   int    `json:"stop_after,omitempty"`   // failures; 0 for 1 (add, second), none (remove)
	BackSeconds int64  `json:"back_seconds,omitempty"` // for how long to wait for what is out of reach; 0 for a week
}

// AccessExtend asks for another end of an access.
type AccessExtend struct {
	Key   string     `json:"key"`
	Until *time.Time `json:"until"`
}

// Fleet asks for a rotation of many instances, in waves.
type Fleet struct {
	Key          string            `json:"key,omitempty"`   // the old key; "" for the only one of each instance
	Tag          string            `json:"tag,omitempty"`   // NAME=VALUE, or NAME
	Due          bool              `json:"due,omitempty"`   // what is older than the policy's age
	New          string            `json:"new,omitempty"`   // one new key for all
	Pairs        map[string]string `json:"pairs,omitempty"` // or the new key of each instance
	GraceSeconds *int64            `json:"grace_seconds,omitempty"`
	First        int               `json:"first,omitempty"`      // size of the first wave; 0 for 1
	Grow         int               `json:"grow,omitempty"`       // how many times as large the next is; 0 for 3
	AtMost       string            `json:"at_most,omitempty"`    // in one wave: a number, or a part; "" for 10%
	StopAfter    int               `json:"stop_after,omitempty"` // failures; 0 for 1
	// for how long to wait for what is out of reach; 0 for a week
	BackSeconds int64 `json:"back_seconds,omitempty"`
	// Exposed: the old key may be somebody else's too. It is contained first, then
	// replaced everywhere at once as far as AtMost allows, with no grace.
	Exposed bool `json:"exposed,omitempty"`
	// Contain are the networks that the exposed key is taken from until it is
	// replaced; none leaves it as it is until then.
	Contain []string `json:"contain,omitempty"`
}

// FleetMember is one instance of a rotation of many.
type FleetMember struct {
	Instance string `json:"instance"`
	Old      string `json:"old"`
	New      string `json:"new,omitempty"`
	Wave     int    `json:"wave"`           // from 1; 0 for one that is left out
	State    string `json:"state"`          // to do, going, shown, back later, failed; left out
	Note     string `json:"note,omitempty"` // why
	Sole     bool   `json:"sole,omitempty"` // the old key is the only one of a person that is known to be taken
	// Contained tells, of an exposed key, whether it was contained until it was replaced.
	Contained string `json:"contained,omitempty"`
	CutOff    bool   `json:"cut_off,omitempty"` // nobody gets into it afterwards
	Work      int64  `json:"work,omitempty"`
}

// FleetPlan is what a rotation of many would do, or how far it is.
type FleetPlan struct {
	Members []FleetMember `json:"members"`
	Waves   []FleetWave   `json:"waves"`
	CutOff  int           `json:"cut_off,omitempty"` // instances that nobody would get into afterwards
	Word    string        `json:"word,omitempty"`    // that it waits for first: second, signature or either
	Found   []FoundBeside `json:"found,omitempty"`   // exposed: what else is there
	AtOnce  bool          `json:"at_once,omitempty"` // of a rotation: the old key is out as soon as the new one is in
	Kept    []string      `json:"kept,omitempty"`    // of a keybook: what stays although the book says otherwise, and why
}

// FoundBeside is what whoever had an exposed key may have left behind.
type FoundBeside struct {
	Instance    string    `json:"instance"`
	LoginUser   string    `json:"login_user"`
	Fingerprint string    `json:"fingerprint"`
	Comment     string    `json:"comment,omitempty"`
	Since       time.Time `json:"since"`
}

// Word is what a large piece of work waits for, and the text that its operator
// signs with ssh-keygen -Y sign or the client (namespace word@plumlatch).
type Word struct {
	Needs string `json:"needs"` // second, signature or either
	Text  string `json:"text"`
	// Keys are the fingerprints of the keys that sign for whoever asked for the work.
	Keys []string `json:"keys,omitempty"`
}

// GiveWord gives a piece of work the word that it waits for: a signature of the
// text (armored, PROTOCOL.sshsig), or, from another operator, none.
type GiveWord struct {
	Signature string `json:"signature,omitempty"`
}

// FleetWave counts one wave.
type FleetWave struct {
	Wave   int `json:"wave"` // from 1
	All    int `json:"all"`
	ToDo   int `json:"to_do"`
	Going  int `json:"going"`
	Shown  int `json:"shown"` // the new key is shown to work, and the old one has its end
	Later  int `json:"later"` // out of reach; taken when they are back
	Failed int `json:"failed"`
}

// PermitRequest asks for the permit to take lines out again that an engineer's
// client has added: with the file that they stand in, by its hash, and the keys in
// it. The service's guard judges by these, by the ledger and by what the server
// answers now.
type PermitRequest struct {
	File   string     `json:"file"`
	SHA256 string     `json:"sha256"` // of the file, in hex
	Lines  []string   `json:"lines"`  // to be taken out
	Keys   []FoundKey `json:"keys"`   // every key of the file
}

// SignedPermit is a permit as the service has signed it (core/rotation.Paper).
type SignedPermit struct {
	Text      string `json:"text"`
	Signature []byte `json:"signature"`
	PublicKey []byte `json:"public_key"` // Ed25519; the one that signs the journal's heads
}
