// Package why finds out what is wrong with a door: from what was seen of it,
// from the service and from the engineer's machine, it says which stages were
// passed, and which cause is the first, from outside to inside. It asks nobody
// itself: whoever calls it has gathered the Facts.
package why

// Code names one cause. Codes are stable: programs may rely on them.
type Code string

// The causes, from outside to inside.
const (
	InstanceGone    Code = "instance_gone"
	InstanceStopped Code = "instance_stopped"
	InstanceBusy    Code = "instance_busy"
	NoAddress       Code = "no_address"
	AddressChanged  Code = "address_changed"
	RuleShuts       Code = "rule"
	PortClosed      Code = "port_closed"
	PortSilent      Code = "port_silent"
	NotSSH          Code = "not_ssh"
	Penalised       Code = "penalised"
	TooManyConns    Code = "too_many_connections"
	NoHostKey       Code = "no_host_key"
	HostKey         Code = "host_key"
	NoAlgorithm     Code = "no_common_algorithm"
	FileMissing     Code = "file_missing"
	FileIsPublic    Code = "file_is_public"
	FileDamaged     Code = "file_damaged"
	FileLineEndings Code = "file_line_endings"
	FileFormat      Code = "file_format"
	FileMode        Code = "file_mode"
	PubDiffers      Code = "pub_differs"
	TooManyKeys     Code = "too_many_keys"
	LoginUser       Code = "login_user"
	PasswordOnly    Code = "password_only"
	ServerModes     Code = "server_modes"
	KeyNotInFile    Code = "key_not_in_file"
	KeyExpired      Code = "key_expired"
	KeyFrom         Code = "key_from"
	KeyRefused      Code = "key_refused"
	AccountExpired  Code = "account_expired"
	LoginsOff       Code = "logins_off"
	RootOff         Code = "root_off"
	SecondFactor    Code = "second_factor"
	ForcedCommand   Code = "forced_command"
	NoShell         Code = "no_shell"
	LoginRefused    Code = "login_refused"
	Passphrase      Code = "passphrase"
)

// Finding is one thing that is wrong.
type Finding struct {
	Code     Code   `json:"code"`
	Stage    string `json:"stage"`
	Sentence string `json:"sentence"`           // what is wrong
	Evidence string `json:"evidence,omitempty"` // how that is known
	Expected string `json:"expected,omitempty"` // side by side with Found
	Found    string `json:"found,omitempty"`
	Next     string `json:"next,omitempty"` // the command that mends it
	Fix      string `json:"fix,omitempty"`  // what -fix does; "" where it can do nothing
	// Soft: it stands in the way of programs, or only sometimes.
	Soft bool `json:"soft,omitempty"`
}

// Passed is a cause that was looked for and is not there.
type Passed struct {
	Code     Code   `json:"code"`
	Stage    string `json:"stage"`
	Sentence string `json:"sentence"` // what holds instead
}

// Report is the answer. First is nil where nothing was found to be wrong.
type Report struct {
	Instance string    `json:"instance"`
	User     string    `json:"user"`
	Key      string    `json:"key,omitempty"` // its name, or fingerprint
	First    *Finding  `json:"first"`
	Also     []Finding `json:"also"` // further things that are wrong
	Passed   []Passed  `json:"passed"`
	NotSeen  []string  `json:"not_seen"` // what could not be looked at, with the reason
}

// What a connection to the port came to.
const (
	Answers     = "answers"
	Refused     = "refused"     // nothing listens
	Silent      = "silent"      // no answer in time
	Closed      = "closed"      // before a word of SSH
	OtherSpeech = "other"       // something else than SSH
	Unreachable = "unreachable" // no way there from here
)

// Side is what one machine saw of the door.
type Side struct {
	From    string `json:"from"` // its address, as far as known
	Reached string `json:"reached"`
	Said    string `json:"said,omitempty"`    // the first line that came, or the system's own word
	HostKey string `json:"hostkey,omitempty"` // the fingerprint that was offered
	// Algorithms: why no algorithm was agreed on; "" if one was.
	Algorithms string `json:"algorithms,omitempty"`
	// Asked are the answers about keys, by "USER FINGERPRINT": see the acceptance probe.
	Asked map[string]string `json:"asked,omitempty"`
	// AskedFailed is why the server could not be asked.
	AskedFailed string `json:"asked_failed,omitempty"`
}

func (s *Side) answer(user, fingerprint string) string {
	if s == nil {
		return ""
	}
	return s.Asked[user+" "+fingerprint]
}

// The answers of the acceptance probe that count here.
const (
	Accepted   = "accepted"
	KeyRefusal = "refused"
	NotOffered = "publickey not offered"
)

// Rule is an inbound rule, as text.
type Rule struct {
	From string `json:"from"`
}

// Key is a key that may open the door.
type Key struct {
	Name        string `json:"name"`
	Fingerprint string `json:"fingerprint"`
	Type        string `json:"type"`
	Steward     bool   `json:"steward,omitempty"`
	Before      bool   `json:"before,omitempty"` // the server took it once, or it was read in the file
}

// Line is a line of an authorized_keys file that holds the key.
type Line struct {
	Where   string `json:"where"`             // file and number
	Reason  string `json:"reason,omitempty"`  // for which it does not count: "expired ..." or "from"
	Expired bool   `json:"expired,omitempty"` // its end has come
	From    string `json:"from,omitempty"`    // it is limited to these addresses, which exclude the asker's
	Command string `json:"command,omitempty"` // its forced command
	Forced  bool   `json:"forced,omitempty"`
}

// Inside is what the steward could see. Seen is false where it did not get in.
type Inside struct {
	Seen     bool     `json:"seen"`
	NotSeen  string   `json:"not_seen,omitempty"`
	FileSeen bool     `json:"file_seen"`      // the files that count for this user were read
	File     string   `json:"file,omitempty"` // the first of them
	Lines    []Line   `json:"lines,omitempty"`
	Shell    string   `json:"shell,omitempty"` // of the asked user; "" if the user is not there
	Users    []string `json:"users,omitempty"` // who can log in, by their shell
	HasUsers bool     `json:"has_users"`       // /etc/passwd was read
	NoLogin  bool     `json:"no_login"`        // /etc/nologin stands
	RootOff  bool     `json:"root_off"`        // the configuration says so, as far as it was read
	// The steward's own login: what the server said as it refused, after it had
	// taken the key.
	Banner   string `json:"banner,omitempty"`
	Refused  bool   `json:"refused"`
	Prompted bool   `json:"prompted"` // it asked for something besides the key
}

// File is the engineer's private file. Its codes come from looking at it.
type File struct {
	Path     string    `json:"path"`
	Findings []Finding `json:"findings,omitempty"`
	Locked   bool      `json:"locked"`
	InAgent  bool      `json:"in_agent"`
}

// Agent is how many keys plain ssh would offer before the right one.
type Agent struct {
	Before   int  `json:"before"`
	Written  bool `json:"written"` // the written configuration keeps ssh to the one file
	Relevant bool `json:"relevant"`
}

// Login is what the engineer's own ssh came to.
type Login struct {
	Tried         bool     `json:"tried"`
	NotTried      string   `json:"not_tried,omitempty"`
	Authenticated bool     `json:"authenticated"`
	Partial       bool     `json:"partial"`  // the key was taken, and something besides is asked for
	TookKey       bool     `json:"took_key"` // the server said that it would take it
	Methods       []string `json:"methods,omitempty"`
	NoMutual      bool     `json:"no_mutual"`
	Closed        bool     `json:"closed"` // by the server, after the key was taken
	Banner        string   `json:"banner,omitempty"`
	// the algorithms that the server says it verifies (RFC 8308)
	SignaturesOf []string `json:"signatures_of,omitempty"`
	Forced       bool     `json:"forced"`       // the server says that a forced command stands with the key
	OptionsKnown bool     `json:"options_seen"` // it told with which options the key stands
	SessionTried bool     `json:"session_tried"`
	SessionOK    bool     `json:"session_ok"`
	SessionSaid  string   `json:"session_said,omitempty"`
	Said         string   `json:"said,omitempty"` // ssh's last word
}

// Facts are everything that was seen.
type Facts struct {
	Instance  string `json:"instance"`
	User      string `json:"user"`     // asked for
	Recorded  string `json:"recorded"` // the recorded login user
	ImageUser string `json:"image_user,omitempty"`
	Adopted   bool   `json:"adopted"`

	State        string `json:"state"` // as the ledger has it
	Address      string `json:"address"`
	Port         int    `json:"port"`
	CloudAsked   bool   `json:"cloud_asked"`
	CloudFailed  string `json:"cloud_failed,omitempty"`
	CloudGone    bool   `json:"cloud_gone"`
	CloudState   string `json:"cloud_state,omitempty"`
	CloudAddress string `json:"cloud_address,omitempty"`
	Written      string `json:"written,omitempty"` // the address in the engineer's written configuration
	Via          string `json:"via,omitempty"`     // the jump host
	Restarted    bool   `json:"restarted"`         // it had another address before
	// Forwarded: what listens at its address is a forward of its host. It takes a connection also while no server runs behind it.
	Forwarded bool `json:"forwarded,omitempty"`

	RulesSeen bool   `json:"rules_seen"`
	Rules     []Rule `json:"rules,omitempty"`
	SeenAs    string `json:"seen_as,omitempty"` // the address that the cloud sees the engineer under

	HostKeys []string `json:"hostkeys,omitempty"` // recorded fingerprints
	KeyTypes []string `json:"key_types,omitempty"`
	Key      *Key     `json:"key,omitempty"` // the one that is tried
	Keys     []Key    `json:"keys,omitempty"`

	Service *Side    `json:"service,omitempty"`
	Here    *Side    `json:"here,omitempty"`
	Inside  Inside   `json:"inside"`
	File    *File    `json:"file,omitempty"`
	Agent   *Agent   `json:"agent,omitempty"`
	Login   *Login   `json:"login,omitempty"`
	NotSeen []string `json:"not_seen,omitempty"`
}
