package wire

import "time"

// Surveyed is one key of a survey.
type Surveyed struct {
	Result      string     `json:"result"` // recorded, unrecorded, missing, expired
	Key         string     `json:"key"`    // its name in the ledger, "" if it has none
	Steward     bool       `json:"steward"`
	LoginUser   string     `json:"login_user"`
	Kind        string     `json:"kind"`
	Fingerprint string     `json:"fingerprint"`
	Bitting     string     `json:"bitting"`
	Comment     string     `json:"comment"`
	File        string     `json:"file,omitempty"` // of the first line that it stands on
	Line        int        `json:"line,omitempty"`
	Lines       int        `json:"lines,omitempty"` // how many, if more than one
	Options     string     `json:"options,omitempty"`
	Limits      string     `json:"limits,omitempty"` // expired, command, from, authority: no free way in
	Ends        *time.Time `json:"ends,omitempty"`
	PublicKey   string     `json:"public_key"` // one line
}

// Sighted is a key that stands, or stood, in a file of an instance, as surveys saw it.
type Sighted struct {
	Instance    string     `json:"instance"`
	Region      string     `json:"region"`
	LoginUser   string     `json:"login_user"`
	Key         string     `json:"key"` // its name in the ledger, "" if it has none
	Holder      string     `json:"holder,omitempty"`
	State       string     `json:"state,omitempty"` // of a recorded key: in use, retired, lost, exposed
	Kind        string     `json:"kind"`
	Fingerprint string     `json:"fingerprint"`
	Bitting     string     `json:"bitting"`
	Comment     string     `json:"comment"`
	File        string     `json:"file"` // of the first line that it stands on
	Line        int        `json:"line"`
	Options     string     `json:"options,omitempty"`
	Limits      string     `json:"limits,omitempty"` // expired, command, from, authority: no free way in
	Ends        *time.Time `json:"ends,omitempty"`
	Recorded    bool       `json:"recorded"`              // the ledger says that it opens the instance for that user
	FirstBoots  bool       `json:"first_boots,omitempty"` // the line that first boot wrote for root: no door
	Before      bool       `json:"before,omitempty"`      // it was gone once, and came back
	Since       time.Time  `json:"since"`                 // first seen
	Seen        time.Time  `json:"seen"`                  // last seen
	Gone        *time.Time `json:"gone,omitempty"`        // since when it stands there no more
	From        string     `json:"from"`                  // who saw it
}

// Opening answers what opens an instance, and how much is known of that.
type Opening struct {
	Instance   string      `json:"instance"`
	Keys       []Access    `json:"keys"`       // on record, the steward's too
	Unrecorded []Sighted   `json:"unrecorded"` // stand in its files, and nobody recorded them
	Doors      []OtherDoor `json:"doors"`      // stand in no list of keys
	// Sole is the key that is the only way in for people; "" if there is more, or none.
	Sole string `json:"sole"`
	// Nobody: nothing at all is known that lets people in.
	Nobody  bool   `json:"nobody"`
	People  int    `json:"people"`   // recorded keys that are ways in for people
	Besides string `json:"besides"`  // what lets people in that nobody recorded, in words
	NotSeen string `json:"not_seen"` // why there may be more; "" if somebody has just looked
	// LogRead is how far its log of logins was read; nil if nobody has.
	LogRead *LogRead `json:"log_read,omitempty"`
	// Desktop: it has no SSH, and nothing of this is claimed; FirstPassword is what is known instead.
	Desktop       bool           `json:"desktop,omitempty"`
	FirstPassword *FirstPassword `json:"first_password,omitempty"`
}

// Opens answers what a key opens, recorded or not.
type Opens struct {
	Fingerprint string    `json:"fingerprint"`
	Key         *Key      `json:"key,omitempty"` // nil: nobody recorded it
	Access      []Access  `json:"access"`        // on record
	Found       []Sighted `json:"found"`         // stands there, and nobody recorded that
	Trusted     []Sighted `json:"trusted"`       // trusted there as a certificate authority
	Gone        []Sighted `json:"gone"`          // stood there, and is seen there no more
	// NeverLooked is how many instances nobody has ever looked into: it may stand there too.
	NeverLooked int `json:"never_looked"`
	// Passwords are instances without SSH whose first password it decrypts, and nobody recorded that it was changed.
	Passwords []string `json:"passwords,omitempty"`
}

// LyingKey is a file in a home that is, or may be, a private key. From inside
// by the steward it is known by the .pub beside it, and never opened.
type LyingKey struct {
	File        string `json:"file"`
	Owner       string `json:"owner,omitempty"`
	Fingerprint string `json:"fingerprint,omitempty"` // "" if it could not be told
	Key         string `json:"key,omitempty"`         // its name in the ledger
}

// OtherDoor is a way in that stands in no list of keys.
type OtherDoor struct {
	// authority (a line that trusts one), trusted-authorities (TrustedUserCAKeys), key-command,
	// password, host-based, anybody
	Sort        string     `json:"sort"`
	User        string     `json:"user,omitempty"`        // "" for every user
	Fingerprint string     `json:"fingerprint,omitempty"` // of an authority in a line
	Key         string     `json:"key,omitempty"`         // its name, if it is recorded
	Holder      string     `json:"holder,omitempty"`      // of a recorded authority
	Principals  string     `json:"principals,omitempty"`  // whom alone the authority of a line can vouch for
	Place       string     `json:"place,omitempty"`       // FILE:LINE, or FILE where the line is not known
	Value       string     `json:"value,omitempty"`       // of the setting
	Text        string     `json:"text"`                  // in words
	From        string     `json:"from,omitempty"`        // who saw it
	At          *time.Time `json:"at,omitempty"`          // when
}

// Survey is what was found out about what opens an instance, from inside: by
// the steward, or by an engineer's client.
type Survey struct {
	Instance  string      `json:"instance"`
	LoginUser string      `json:"login_user"`
	At        time.Time   `json:"at"`
	Vantage   string      `json:"vantage"`
	Files     []string    `json:"files"`    // that were read
	NotSeen   []string    `json:"not_seen"` // what could not be seen, each with its reason
	Broken    []string    `json:"broken"`   // lines that sshd passes over
	Ignored   []string    `json:"ignored"`  // files that sshd passes over for their modes, each with its reason
	Config    []string    `json:"config"`   // what the server's configuration says, as far as it was read
	Doors     []OtherDoor `json:"doors"`    // ways in that no line of a key tells of: authorities, commands
	Lying     []LyingKey  `json:"lying"`
	Keys      []Surveyed  `json:"keys"`

	Outside *OutsideSurvey `json:"outside,omitempty"`
	// Machine is what runs there and what of it starts by itself, where the engineer's client has looked.
	Machine *MachineSeen `json:"machine,omitempty"`
	// InsideTrouble says why nothing was seen from inside, where that was asked for.
	InsideTrouble string `json:"inside_trouble,omitempty"`
}

// LoginLog is what an instance's own log tells of who came in, as an engineer's client has read it: the instance's word.
type LoginLog struct {
	Source  string      `json:"source"`          // journal, auth.log or secure
	Since   *time.Time  `json:"since,omitempty"` // of its oldest entry, by the instance's clock
	Clock   time.Time   `json:"clock"`           // the instance's clock, as it was read
	ClockAt float64     `json:"clock_at"`        // how many seconds ago that was
	LeftOut int         `json:"left_out"`        // logins that were not counted: there were too many
	Uses    []LoggedUse `json:"uses"`
}

// LoggedUse is what one key, or a login without one, did as one user from one address on one day.
type LoggedUse struct {
	LoginUser   string    `json:"login_user"`
	Method      string    `json:"method"`
	Fingerprint string    `json:"fingerprint"`         // "" without a key
	Authority   string    `json:"authority,omitempty"` // of a certificate: the fingerprint of who signed it
	CertID      string    `json:"cert_id,omitempty"`   // foreign text
	Trusted     bool      `json:"trusted"`             // the instance's system vouches that its server wrote it
	From        string    `json:"from"`
	Day         string    `json:"day"` // 2026-11-30, by the instance's clock, in UTC
	First       time.Time `json:"first"`
	Last        time.Time `json:"last"`
	Count       int       `json:"count"`
}

// LogRead is how far an instance's log of logins was read.
type LogRead struct {
	Source  string     `json:"source"`
	Since   *time.Time `json:"since,omitempty"` // what was before that no log shows
	ReadAt  time.Time  `json:"read_at"`
	Vantage string     `json:"vantage"` // whose client has read it
	Skew    float64    `json:"skew"`    // how many seconds the instance's clock was ahead; times are mended by it
	LeftOut int        `json:"left_out"`
}

// Used is when a key was used: the word of the instance's log, which counts nowhere as a way in.
type Used struct {
	First   time.Time `json:"first"`
	Last    time.Time `json:"last"`
	Count   int64     `json:"count"`
	Trusted bool      `json:"trusted"` // else as a text file says, where any local user can write
}

// UsedRow is one key on one instance as one user, or a login without a key, in the instance's log.
type UsedRow struct {
	Instance    string   `json:"instance"`
	LoginUser   string   `json:"login_user"`
	Method      string   `json:"method"`
	Fingerprint string   `json:"fingerprint"`
	Key         string   `json:"key"` // of the ledger; "" for a key that it does not know, or none
	KeyState    string   `json:"key_state,omitempty"`
	Steward     bool     `json:"steward,omitempty"`   // the service's own
	Authority   string   `json:"authority,omitempty"` // of a certificate
	CertID      string   `json:"cert_id,omitempty"`
	Addresses   []string `json:"addresses"` // the last ones, at most five
	Used
}

// MachineSeen is what was read of a machine. What could not be read is null.
type MachineSeen struct {
	Running []string   `json:"running"` // services, such as nginx.service
	Enabled []string   `json:"enabled"` // units that something starts at boot
	Ports   []PortSeen `json:"ports"`
	Mounted []string   `json:"mounted"` // where filesystems are mounted that stand on a disk or come over a network
	Written []string   `json:"written"` // where fstab has one mounted
}

// PortSeen is a TCP port on which something listens.
type PortSeen struct {
	Number int  `json:"number"`
	Local  bool `json:"local"` // on loopback alone
}

// OutsideSurvey is what the server itself says, asked without any private key.
type OutsideSurvey struct {
	At      time.Time     `json:"at"`
	Vantage string        `json:"vantage"`
	Trouble string        `json:"trouble,omitempty"` // why it could not be asked
	Answers []KeyAnswer   `json:"answers"`
	Methods []UserMethods `json:"methods"`
	Rules   []string      `json:"rules"` // ranges that inbound rules let in
	World   string        `json:"world,omitempty"`
	NotSeen []string      `json:"not_seen"`
}

// KeyAnswer is the server's answer about one key.
type KeyAnswer struct {
	Key         string `json:"key"` // "" for the steward's
	Steward     bool   `json:"steward"`
	LoginUser   string `json:"login_user"`
	Fingerprint string `json:"fingerprint"`
	// accepted, refused, "publickey not offered", "open without any key", "could not ask"
	Answer   string `json:"answer"`
	Detail   string `json:"detail,omitempty"`
	Recorded bool   `json:"recorded"` // the ledger says that it opens the instance for that user
}

// UserMethods is by which methods a server would let a user log in.
type UserMethods struct {
	User    string   `json:"user"`
	Methods []string `json:"methods"`
	Open    bool     `json:"open,omitempty"` // it let us in without anything
}

// SurveyRequest asks for a survey of one instance. Nothing chosen means inside.
type SurveyRequest struct {
	Inside  bool `json:"inside,omitempty"`
	Outside bool `json:"outside,omitempty"`
	// names of recorded keys to ask about, instead of all that are recorded for it
	Keys []string `json:"keys,omitempty"`
}

// SurveyMany asks for a survey of many instances, as work.
type SurveyMany struct {
	Instances []string `json:"instances,omitempty"`
	Tag       string   `json:"tag,omitempty"`
	Region    string   `json:"region,omitempty"`
	All       bool     `json:"all,omitempty"`
	Inside    bool     `json:"inside,omitempty"`
	Outside   bool     `json:"outside,omitempty"`
}

// LastSurvey is the last survey of one sort of one instance. Report comes with
// a single instance, not in lists.
type LastSurvey struct {
	Instance   string     `json:"instance"`
	Region     string     `json:"region"`
	Sort       string     `json:"sort"` // inside, outside, client
	TriedAt    time.Time  `json:"tried_at"`
	SeenAt     *time.Time `json:"seen_at,omitempty"` // of the last that could look
	Trouble    string     `json:"trouble,omitempty"` // why the last one could not
	Vantage    string     `json:"vantage,omitempty"`
	Recorded   int        `json:"recorded"`
	Unrecorded int        `json:"unrecorded"`
	Missing    int        `json:"missing"`
	Expired    int        `json:"expired"`
	Report     any        `json:"report,omitempty"`
}

// ClientSurvey is what an engineer's client saw from inside, with the
// engineer's own key and whatever rights that gives.
type ClientSurvey struct {
	Survey
	// Logins is what its log tells of who came in, where that was read.
	Logins    *LoginLog   `json:"logins,omitempty"`
	Privilege string      `json:"privilege"`
	Users     []UserFiles `json:"users"` // whose files were read, or could not be
}

// UserFiles are the files of keys of one user of an instance.
type UserFiles struct {
	User    string     `json:"user"`
	Files   []string   `json:"files"`
	Whole   bool       `json:"whole"` // every file that the server reads for the user was read
	NotSeen []string   `json:"not_seen,omitempty"`
	Keys    []FoundKey `json:"keys"`
}

// Discovered is an instance that a cloud has and the ledger does not know.
type Discovered struct {
	Cloud     string    `json:"cloud"`
	CloudID   string    `json:"cloud_id"`
	Name      string    `json:"name"`
	Region    string    `json:"region"`
	State     string    `json:"state"`
	Address   string    `json:"address"`
	Port      int       `json:"port,omitempty"`       // of its SSH server, as the cloud has it
	LoginUser string    `json:"login_user,omitempty"` // as its image decides
	KeyLabel  string    `json:"key_label,omitempty"`  // the cloud's own word on its launch key: weaker than "placed"
	FirstAt   time.Time `json:"first_at"`

	Tags map[string]string `json:"tags,omitempty"`
	// StopDestroys says, in words, why stopping it would be its end.
	StopDestroys string `json:"stop_destroys,omitempty"`
	// Never is the tag by which the policy has it left alone (adopt.never).
	Never string `json:"never,omitempty"`
	// Like is the adopted instance that is recorded at its address: perhaps the same one (instance link).
	Like string `json:"like,omitempty"`
}

// FoundAdoption asks to adopt an instance from the cloud's list, without getting in.
type FoundAdoption struct {
	CloudID   string `json:"cloud_id"`
	Name      string `json:"name,omitempty"`       // in the ledger; "" for the cloud's own
	LoginUser string `json:"login_user,omitempty"` // "" for the image's, where the cloud says which
	NoSteward bool   `json:"no_steward,omitempty"` // no line of the service's is ever placed
}

// CloudLink says that an instance that was adopted by hand is one of the cloud's.
type CloudLink struct {
	CloudID string `json:"cloud_id"`
}

// Discovery is a cloud's list of instances against the ledger's.
type Discovery struct {
	Unknown  []Discovered `json:"unknown"`  // the cloud has it, the ledger does not
	Vanished []Instance   `json:"vanished"` // the ledger has it, the cloud does not
	Labels   []LabelDiff  `json:"labels"`   // where the cloud's label names another key than the ledger
	At       time.Time    `json:"at"`
}

// LabelDiff is one instance whose label at the cloud names a key that the ledger does not have for it.
type LabelDiff struct {
	Instance string   `json:"instance"`
	Label    string   `json:"label"`
	Recorded []string `json:"recorded"`
}

// Matter is one thing that needs a hand.
type Matter struct {
	ID        int64      `json:"id"`
	Urgency   string     `json:"urgency"` // now, soon, later
	Reason    string     `json:"reason"`
	Subject   string     `json:"subject"` // "instance NAME", "key NAME", "cloud ID", "journal"
	Sentence  string     `json:"sentence"`
	Evidence  string     `json:"evidence"`
	Command   string     `json:"command"`         // that mends it
	Costs     string     `json:"costs,omitempty"` // what the cloud asks for that, at most, in words; none where it does not say
	Instance  string     `json:"instance,omitempty"`
	Key       string     `json:"key,omitempty"`
	Since     time.Time  `json:"since"`
	OffUntil  *time.Time `json:"off_until,omitempty"` // it is put off
	OffReason string     `json:"off_reason,omitempty"`
	OffBy     string     `json:"off_by,omitempty"`
}

// Today is a page of what needs a hand, most urgent first.
type Today struct {
	List[Matter]
	Counts map[string]int `json:"counts"` // of all that is not put off, by reason
	Off    int            `json:"off"`    // how many are put off
}

// PutOff puts a matter off until a time, or takes it up again (nil).
type PutOff struct {
	Until  *time.Time `json:"until"`
	Reason string     `json:"reason"`
}

// Policy is the text of the policy, YAML.
type Policy struct {
	Text string     `json:"text"`
	At   *time.Time `json:"at,omitempty"` // nil for the built-in one
	By   string     `json:"by,omitempty"`
}

// Follows is what follows from one of the two bad days of a key, or from a
// holder who left. Nothing on instances is changed by it.
type Follows struct {
	Key    Key           `json:"key"`
	Why    string        `json:"why,omitempty"` // for a holder who left: how the holder has it
	Shut   []FollowsDoor `json:"shut"`          // that have another opener, in the order to shut them in
	Locked []FollowsDoor `json:"locked"`        // that have none
	Next   string        `json:"next"`
}

// FollowsDoor is one instance that the key opens.
type FollowsDoor struct {
	Instance  string   `json:"instance"`
	LoginUser string   `json:"login_user"`
	Evidence  string   `json:"evidence"`
	Old       bool     `json:"old"`
	Recorded  bool     `json:"recorded"` // false: a survey found it there, and nobody had written it down
	Others    []string `json:"others"`   // keys that open it besides, for people
	Why       string   `json:"why"`      // it stands where it does in the order
}

// KeyBadDay says that a key is lost, exposed or found again.
type KeyBadDay struct {
	State  string `json:"state"` // lost, exposed, "in use" (found)
	Reason string `json:"reason"`
	Plan   bool   `json:"plan"` // only show what follows
}

// HolderLeft says that a holder left.
type HolderLeft struct {
	Plan bool `json:"plan"`
}

// HolderChange changes what is not nil.
type HolderChange struct {
	Join  *string `json:"join,omitempty"`  // a team that the holder is in
	Leave *string `json:"leave,omitempty"` // a team that the holder is no more in
}

// TimelineEvent is one thing that happened to a key on an instance.
type TimelineEvent struct {
	At       time.Time  `json:"at"`
	Until    *time.Time `json:"until,omitempty"` // of a stretch of time
	Sort     string     `json:"sort"`            // stood, evidence, journal
	What     string     `json:"what"`
	Instance string     `json:"instance,omitempty"`
	Key      string     `json:"key,omitempty"` // its name, or its fingerprint if it is not recorded
	From     string     `json:"from,omitempty"`
	Open     bool       `json:"open,omitempty"` // the stretch goes on
}

// ChainedEntry is a line of the exported journal: the entry exactly as stored,
// with its link.
type ChainedEntry struct {
	N      int64  `json:"n,omitempty"` // its place in the chain; 0: not chained yet
	ID     int64  `json:"id"`
	Bytes  []byte `json:"bytes"` // base64
	SHA256 string `json:"sha256,omitempty"`
	// The columns that lists read, which must say the same as the bytes.
	Columns JournalEntry `json:"columns"`
}

// JournalHead is a signed head of the chain.
type JournalHead struct {
	N         int64     `json:"n"`
	At        time.Time `json:"at"`
	SHA256    string    `json:"sha256"`
	Signature []byte    `json:"signature"`  // Ed25519, base64
	PublicKey []byte    `json:"public_key"` // base64
}

// JournalCheck is what verifying the journal came to.
type JournalCheck struct {
	Links        int64        `json:"links"`
	Unchained    int64        `json:"unchained"`
	UnchainedAge float64      `json:"unchained_age_seconds"`
	Head         *JournalHead `json:"head,omitempty"`
	Heads        int          `json:"heads"` // signed heads that were checked
	Breaks       []string     `json:"breaks"`
	OwnerRole    bool         `json:"owner_role"` // the service's database role could change the journal
}

// MapCell is one access on the access map.
type MapCell struct {
	K    int    `json:"k"` // index of the key
	I    int    `json:"i"` // index of the instance
	E    string `json:"e"` // kind of evidence, "none"; "unrecorded" for a key that only a survey knows
	Old  bool   `json:"old,omitempty"`
	Age  int    `json:"age"` // of the evidence, in days; -1 for none
	Sole bool   `json:"sole,omitempty"`
	Used *int   `json:"used,omitempty"` // days since its last use, by the instance's own log; -1: not in it; null: no log was seen
}

// AccessMap is keys against instances.
type AccessMap struct {
	Keys      []MapKey      `json:"keys"`
	Instances []MapInstance `json:"instances"`
	Cells     []MapCell     `json:"cells"`
	Cut       bool          `json:"cut"` // there is more than is shown
}

// MapKey is a row of the access map.
type MapKey struct {
	Name        string `json:"name"` // "" for an unrecorded one
	Fingerprint string `json:"fingerprint"`
	Holder      string `json:"holder"`
	State       string `json:"state"`
	Cuts        []int  `json:"cuts"`
}

// MapInstance is a column of the access map.
type MapInstance struct {
	Name   string            `json:"name"`
	Region string            `json:"region"`
	Tags   map[string]string `json:"tags,omitempty"`
}
