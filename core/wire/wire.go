// Package wire holds the documents of the HTTP API, so that the service and
// the client write and read the same ones. JSON names are snake_case, times
// RFC 3339 in UTC, and a field once published keeps its meaning.
package wire

import "time"

// Problem is the answer to a request that failed (RFC 9457, "problem details").
type Problem struct {
	Type    string   `json:"type"` // a path of the service that explains it; stable
	Title   string   `json:"title"`
	Status  int      `json:"status"`
	Detail  string   `json:"detail,omitempty"`
	Field   string   `json:"field,omitempty"`   // of the request, that is at fault
	Choices []string `json:"choices,omitempty"` // what there is instead
	Known   string   `json:"known,omitempty"`   // the name under which a key is recorded already
	Code    string   `json:"code,omitempty"`    // what is wrong, where a program decides by it
	// RequestID names the request in the service's log; the answer's header Request-Id is the same.
	RequestID string `json:"request_id,omitempty"`
}

// CloudLacks is the code of a problem with a cloud that has not at all what was asked of it.
const CloudLacks = "cloud-lacks"

// Codes of problems with a field.
const (
	FieldNoKey      = "no-key"      // an instance would be launched that nobody could log in to
	FieldWholeWorld = "whole-world" // a rule would let in everybody, and that was not asked for
)

// List is one page of a list. NextCursor is empty at the end.
type List[T any] struct {
	Items      []T    `json:"items"`
	NextCursor string `json:"next_cursor,omitempty"`
}

// Key is a recorded key pair's public half, and what is known of it.
type Key struct {
	Name           string `json:"name"`
	Kind           string `json:"kind"`
	Fingerprint    string `json:"fingerprint"`
	Authority      bool   `json:"authority,omitempty"` // a certificate authority: it is put on no instance
	FingerprintMD5 string `json:"fingerprint_md5"`
	// FingerprintDER is the MD5 of the public key's DER (SubjectPublicKeyInfo); "" for a kind without.
	FingerprintDER string `json:"fingerprint_der,omitempty"`
	// FingerprintPrivate is the SHA-1 of the private half's DER (PKCS#8), as somebody said who had it: it
	// finds the key, and proves nothing.
	FingerprintPrivate   string     `json:"fingerprint_private,omitempty"`
	FingerprintPrivateBy string     `json:"fingerprint_private_by,omitempty"`
	FingerprintPrivateAt *time.Time `json:"fingerprint_private_at,omitempty"`
	Bitting              string     `json:"bitting"`
	Cuts                 []int      `json:"cuts"` // depths 0 to 7 of the bitting
	Comment              string     `json:"comment"`
	Note                 string     `json:"note"`
	Origin               string     `json:"origin"`     // "made here", "imported", "made elsewhere"
	PublicKey            string     `json:"public_key"` // one line
	CreatedAt            time.Time  `json:"created_at"`
	CreatedBy            string     `json:"created_by"`
	Reach                int        `json:"reach"`  // instances that it opens, as the ledger has it
	Found                int        `json:"found"`  // others on which a survey found it, where nobody recorded it
	Holder               string     `json:"holder"` // "" for not known
	HolderSort           string     `json:"holder_sort,omitempty"`
	KeptAt               string     `json:"kept_at"`    // where the private half is kept, in words
	Passphrase           string     `json:"passphrase"` // "yes", "no", "not known", as last checked
	PassphraseAt         *time.Time `json:"passphrase_at,omitempty"`
	Weaknesses           []Weakness `json:"weaknesses,omitempty"`
	Retired              bool       `json:"retired"`
	ShownAt              *time.Time `json:"shown_at,omitempty"` // when its private half was last shown to exist
	ShownBy              string     `json:"shown_by,omitempty"`
	EvidenceAt           *time.Time `json:"evidence_at,omitempty"` // of the last positive observation of any access

	// "in use", "lost" (nobody has the private half), "exposed" (somebody else may have it)
	State       string     `json:"state"`
	StateAt     *time.Time `json:"state_at,omitempty"`     // of lost and exposed
	StateBy     string     `json:"state_by,omitempty"`     // operator
	StateReason string     `json:"state_reason,omitempty"` // in words

	// SoleOf has, in the answer to a change that makes the key count for nobody's way
	// in, the instances that no other person's key is known to open.
	SoleOf []string `json:"sole_of,omitempty"`
}

// Weakness is one thing that is wrong with a public key.
type Weakness struct {
	Name     string `json:"name"`
	Severity string `json:"severity"` // broken, weak, dated
	Sentence string `json:"sentence"`
}

// NewKey asks for a public half to be recorded.
type NewKey struct {
	Name       string `json:"name"`
	PublicKey  string `json:"public_key"`
	MadeHere   bool   `json:"made_here"`
	Elsewhere  bool   `json:"made_elsewhere"`
	Note       string `json:"note"`
	Holder     string `json:"holder"`
	KeptAt     string `json:"kept_at"`
	Passphrase string `json:"passphrase"` // "yes", "no", "" for not known
	Authority  bool   `json:"authority"`  // a certificate authority, and no key of a person
}

// PrivatePrint says what the fingerprint of a key's private half is: "SHA1:" and hex.
type PrivatePrint struct {
	Fingerprint string `json:"fingerprint"`
}

// KeyChange changes what is not nil.
type KeyChange struct {
	Name       *string `json:"name,omitempty"`
	Note       *string `json:"note,omitempty"`
	Holder     *string `json:"holder,omitempty"`
	KeptAt     *string `json:"kept_at,omitempty"`
	Origin     *string `json:"origin,omitempty"`
	Passphrase *string `json:"passphrase,omitempty"`
	Comment    *string `json:"comment,omitempty"` // as recorded; lines that stand on instances keep theirs
}

// Holder is a person, team, machine or job that has a private key.
type Holder struct {
	Name      string    `json:"name"`
	Sort      string    `json:"sort"`
	CreatedAt time.Time `json:"created_at"`
	Keys      int       `json:"keys"`

	Members []string   `json:"members,omitempty"` // of a team: who has its keys too
	LeftAt  *time.Time `json:"left_at,omitempty"`
	LeftBy  string     `json:"left_by,omitempty"`
}

// Challenge is a text that a key's private half is to sign, within five
// minutes, once.
type Challenge struct {
	Nonce string `json:"nonce"`
	Text  string `json:"text"`
}

// ChallengeRequest says what a challenge is to name besides the service and the
// key: what its signature is to count for.
type ChallengeRequest struct {
	Work     int64  `json:"work,omitempty"`
	Instance string `json:"instance,omitempty"` // name
}

// Proof answers a challenge: an armored OpenSSH signature of its text.
type Proof struct {
	Nonce     string `json:"nonce"`
	Signature string `json:"signature"`
}

// HostKey is a recorded host key of an instance.
type HostKey struct {
	Type        string    `json:"type"`
	Fingerprint string    `json:"fingerprint"`
	PublicKey   string    `json:"public_key"` // one line
	Source      string    `json:"source"`
	RecordedAt  time.Time `json:"recorded_at"`

	ReplacedAt *time.Time `json:"replaced_at,omitempty"`
	ReplacedBy string     `json:"replaced_by,omitempty"`
}

// Instance is an instance of the ledger. HostKeys and UserData come with a
// single instance, not in lists.
type Instance struct {
	Name      string    `json:"name"`
	State     string    `json:"state"` // as the cloud says; "failed" for a launch that came to nothing
	Phase     string    `json:"phase"` // "ready" when nothing is going on
	Progress  string    `json:"progress,omitempty"`
	Trouble   string    `json:"trouble,omitempty"`
	Region    string    `json:"region"`
	Image     string    `json:"image"`
	Size      string    `json:"size"`
	Cloud     string    `json:"cloud"`
	CloudID   string    `json:"cloud_id"`
	Address   string    `json:"address"`
	Port      int       `json:"port"`
	LoginUser string    `json:"login_user"`
	Alias     string    `json:"host_key_alias"`
	HostKeys  []HostKey `json:"host_keys,omitempty"`
	UserData  string    `json:"user_data,omitempty"`
	Keys      int       `json:"keys"` // recorded keys that open it; the steward's does not count
	CreatedAt time.Time `json:"created_at"`
	CreatedBy string    `json:"created_by"`
	Warnings  []string  `json:"warnings,omitempty"`

	Zone      string            `json:"zone,omitempty"`
	DiskGB    int               `json:"disk_gb,omitempty"` // of the root volume, as asked for; 0 for the size's own
	Tags      map[string]string `json:"tags,omitempty"`
	Adopted   bool              `json:"adopted,omitempty"` // it was there before us: no cloud of ours is behind it
	Found     bool              `json:"found,omitempty"`   // the cloud had it before us
	Work      int64             `json:"work,omitempty"`    // the last piece of work on it
	Addresses []Address         `json:"addresses,omitempty"`
	// that its server reads for the login user, if not the default ones
	KeysFiles []string `json:"keys_files,omitempty"`
	Privilege string   `json:"privilege,omitempty"` // what its login user may do, as far as anybody saw
	Via       *Hop     `json:"via,omitempty"`       // the jump host that it is reached through

	ProbeAllowed bool       `json:"probe_allowed"`         // the service may ask it from outside by itself
	VanishedAt   *time.Time `json:"vanished_at,omitempty"` // since when the cloud knows it no more
	KeyLabel     string     `json:"key_label,omitempty"`   // the cloud's own word on its launch key: a claim
	Checks       []string   `json:"checks,omitempty"`      // what "works" means for it
	Rescue       bool       `json:"rescue,omitempty"`      // it rescues others
	Lends        bool       `json:"lends,omitempty"`       // its cloud lends a key for a login; of one that is asked for alone

	// Desktop: it has no SSH, but gives a first password.
	Desktop       bool           `json:"desktop,omitempty"`
	FirstPassword *FirstPassword `json:"first_password,omitempty"` // of one that is asked for alone

	// OldMachines are kept, stopped, beside the one that has its place; of one that is asked for alone.
	OldMachines []OldMachine `json:"old_machines,omitempty"`
}

// OldMachine is a machine that a copy took the place of.
type OldMachine struct {
	CloudID   string    `json:"cloud_id"`
	Work      int64     `json:"work"` // that keeps it: a cancel goes back to it, go-on removes it
	Until     time.Time `json:"until"`
	WeekPrice float64   `json:"week_price"` // of its root volume
	Currency  string    `json:"currency"`
}

// Hop is a jump host. HostKeys are public key lines.
type Hop struct {
	Address   string   `json:"address"`
	Port      int      `json:"port"`
	LoginUser string   `json:"login_user"`
	HostKeys  []string `json:"host_keys"`
}

// Address is one address that an instance had, and when.
type Address struct {
	Address string     `json:"address"`
	Since   time.Time  `json:"since"`
	Until   *time.Time `json:"until,omitempty"`
	Static  bool       `json:"static,omitempty"`
}

// Launch asks for an instance. With Plan nothing is launched: the answer is a
// LaunchPlan.
type Launch struct {
	Name   string   `json:"name"`
	Region string   `json:"region"`
	Image  string   `json:"image"`
	Size   string   `json:"size"`
	Keys   []string `json:"keys"`
	NoKey  bool     `json:"no_key"`
	Plan   bool     `json:"plan"`

	Zone     string            `json:"zone,omitempty"`
	DiskGB   int               `json:"disk_gb,omitempty"` // of the root volume; 0 for the size's own
	Tags     map[string]string `json:"tags,omitempty"`
	UserData string            `json:"user_data,omitempty"` // the engineer's own, merged with the keys
	// StaticAddress is one that it is given: its name, or "new" for one that is reserved under the
	// instance's own name. "" for none.
	StaticAddress string `json:"static_address,omitempty"`
	// CloudKey is an entry of the cloud's own list of keys, which the cloud places itself.
	CloudKey string `json:"cloud_key,omitempty"`
	// AgentVerbs are what its resident agent may do, which first boot enrolls: look, edit, users ...; none for no agent. The people whose
	// keys are named may sign for it.
	AgentVerbs []string `json:"agent_verbs,omitempty"`
}

// LaunchPlan is what a launch would send.
type LaunchPlan struct {
	UserData  string   `json:"user_data"`
	LoginUser string   `json:"login_user"`
	Warnings  []string `json:"warnings"`
	// Price is what it costs while it is there, with its root volume, and with a static address that is
	// reserved for it; none where the cloud does not say. Seconds is how long a change of its state usually takes.
	Price   *Price  `json:"price,omitempty"`
	Seconds float64 `json:"seconds,omitempty"`
}

// Observation is one thing found out about an access.
type Observation struct {
	Kind string    `json:"kind"`
	At   time.Time `json:"at"`
	From string    `json:"from"`
}

// Probe is the server's last answer about an access, one of five.
type Probe struct {
	Answer string    `json:"answer"`
	Detail string    `json:"detail,omitempty"`
	At     time.Time `json:"at"`
	From   string    `json:"from,omitempty"`
}

// Access is one public key that opens one instance for one login user.
type Access struct {
	ID          int64        `json:"id"`
	Instance    string       `json:"instance"`
	Region      string       `json:"region"`
	LoginUser   string       `json:"login_user"`
	Key         string       `json:"key"`                 // "" for the steward's
	KeyState    string       `json:"key_state,omitempty"` // in use, retired, lost, exposed; "" for the steward's
	Steward     bool         `json:"steward"`
	Holder      string       `json:"holder,omitempty"` // of the key
	HolderSort  string       `json:"holder_sort,omitempty"`
	Since       time.Time    `json:"since"`              // on record
	Until       *time.Time   `json:"until,omitempty"`    // its end, if it was shared until one
	Reason      string       `json:"reason,omitempty"`   // why it was shared
	ShownAt     *time.Time   `json:"shown_at,omitempty"` // when its private half was last shown to exist
	Kind        string       `json:"kind"`
	Fingerprint string       `json:"fingerprint"`
	Bitting     string       `json:"bitting"`
	Cuts        []int        `json:"cuts"`
	Evidence    string       `json:"evidence"` // none, placed, seen, accepted, proven
	Old         bool         `json:"old"`
	At          *time.Time   `json:"at,omitempty"`   // of the evidence
	From        string       `json:"from,omitempty"` // its vantage
	Against     *Observation `json:"against,omitempty"`
	Probe       *Probe       `json:"probe,omitempty"`
	PublicKey   string       `json:"public_key"`
	Used        *Used        `json:"used,omitempty"` // by the instance's log; nil if no log that was read has it
}

// Region, Image and Size are what a launch can choose from.
type Region struct {
	Name  string   `json:"name"`
	Title string   `json:"title"`
	Zones []string `json:"zones"`
}

// Image is what a root volume is made from.
type Image struct {
	Name      string   `json:"name"`
	Title     string   `json:"title"`
	LoginUser string   `json:"login_user"`
	KeyTypes  []string `json:"key_types"`

	MinDiskGB    int      `json:"min_disk_gb"`
	SmallestSize string   `json:"smallest_size"`
	Regions      []string `json:"regions"` // that have it

	// FirstPassword: it takes no key and has no SSH, but gives a first password, encrypted to the RSA key of its launch.
	FirstPassword bool `json:"first_password,omitempty"`
}

// Size is how large an instance is; memory in MiB, disk in GiB.
type Size struct {
	Name     string `json:"name"`
	CPUs     int    `json:"cpus"`
	MemoryMB int    `json:"memory_mb"`
	DiskGB   int    `json:"disk_gb"`

	Regions []string `json:"regions"`         // that have it
	Price   *Price   `json:"price,omitempty"` // without a root volume; none where the cloud does not say
}

// Price is what something costs while it is there, by the cloud's list.
type Price struct {
	Hour     float64 `json:"hour"`
	Month    float64 `json:"month"` // 730 hours
	Currency string  `json:"currency"`
}

// Credentials sign an operator in for the console.
type Credentials struct {
	Operator string `json:"operator"`
	Password string `json:"password"`
	Token    bool   `json:"token"` // answer with a token for a client, and set no cookie
}

// Session says who is signed in. A client gets a token, the console a cookie.
type Session struct {
	Operator
	Token     string    `json:"token,omitempty"`
	ExpiresAt time.Time `json:"expires_at"`
}

// SigninRequest asks for a challenge.
type SigninRequest struct {
	Operator string `json:"operator"`
	Key      string `json:"key"` // SHA256 fingerprint
}

// SigninChallenge is one opaque word, good for three minutes.
type SigninChallenge struct {
	Challenge string `json:"challenge"`
}

// SigninProof is the statement that was signed (core/signin), and the signature (PROTOCOL.sshsig).
type SigninProof struct {
	Service     string    `json:"service"`
	Certificate string    `json:"certificate"`
	Operator    string    `json:"operator"`
	Key         string    `json:"key"`
	Challenge   string    `json:"challenge"`
	At          time.Time `json:"at"`
	Signature   string    `json:"signature"`
}

// ConsoleCode opens the console once.
type ConsoleCode struct {
	Code      string    `json:"code"`
	ExpiresAt time.Time `json:"expires_at,omitzero"`
}

// PasswordChange changes one's own password; Password is the present one.
type PasswordChange struct {
	Password string `json:"password"`
	New      string `json:"new"`
}

// OperatorKey is a key that signs for an operator.
type OperatorKey struct {
	Key         string `json:"key"`
	Fingerprint string `json:"fingerprint"`
	State       string `json:"state"` // of the key
	SignsIn     bool   `json:"signs_in"`
	GivesWord   bool   `json:"gives_word"`
	Opens       int    `json:"opens"` // instances: a forwarded agent can be asked there to sign
}

// OperatorKeyUse says what a key signs for an operator.
type OperatorKeyUse struct {
	SignsIn   bool `json:"signs_in"`
	GivesWord bool `json:"gives_word"`
}

// Operator is a person or program that uses the service. Password comes once,
// when the operator is added.
type Operator struct {
	Name      string       `json:"name"`
	Role      string       `json:"role"` // viewer, operator, admin
	Disabled  bool         `json:"disabled"`
	CreatedAt time.Time    `json:"created_at"`
	Password  string       `json:"password,omitempty"`
	PublicKey string       `json:"public_key,omitempty"` // on adding: it signs in by this key, and has no password
	Key       *OperatorKey `json:"key,omitempty"`        // on adding: the key by which it signs in
}

// OperatorChange changes what is not nil.
type OperatorChange struct {
	Role     *string `json:"role,omitempty"`
	Disabled *bool   `json:"disabled,omitempty"`
}

// NewToken asks for a token of one's own.
type NewToken struct {
	Name    string `json:"name"`
	Role    string `json:"role"`    // "" for one's own
	Seconds int64  `json:"seconds"` // until its end
}

// Token is an API token. Token, its text, comes once, when it is created.
type Token struct {
	ID           int64      `json:"id"`
	Operator     string     `json:"operator"`
	Name         string     `json:"name"`
	Role         string     `json:"role"`
	CreatedAt    time.Time  `json:"created_at"`
	ExpiresAt    time.Time  `json:"expires_at"`
	RevokedAt    *time.Time `json:"revoked_at,omitempty"`
	LastUsedAt   *time.Time `json:"last_used_at,omitempty"`
	LastUsedFrom string     `json:"last_used_from,omitempty"`
	Token        string     `json:"token,omitempty"`
}

// JournalEntry is one row of the journal.
type JournalEntry struct {
	ID       int64     `json:"id"`
	At       time.Time `json:"at"`
	Operator string    `json:"operator"`
	Address  string    `json:"address"`
	Action   string    `json:"action"`
	Target   string    `json:"target"`
	Intent   string    `json:"intent,omitempty"`
	Outcome  string    `json:"outcome,omitempty"`
	Of       int64     `json:"of,omitempty"` // the entry with the intent that this is the outcome of
}
