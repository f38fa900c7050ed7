package wire

import (
	"time"

	"plumlatch/core/why"
)

// Rules is whom the inbound rules of an instance let in to its SSH port.
type Rules struct {
	Instance string      `json:"instance"`
	Groups   []RuleGroup `json:"groups"`
	// CallerURL answers with the address that the cloud sees the caller under;
	// "" if the cloud has no such thing.
	CallerURL string `json:"caller_url,omitempty"`
	IPv6      bool   `json:"ipv6"` // the cloud's instances have IPv6 addresses
	// ServiceAddress is the address that the service itself connects from; "" if its settings do not say.
	ServiceAddress string `json:"service_address,omitempty"`
	// Desktop: it has no SSH; a rule without ports is for the remote desktop.
	Desktop bool `json:"desktop,omitempty"`
}

// RuleGroup is a group of rules. A rule of a shared one opens the others too.
type RuleGroup struct {
	ID         string   `json:"id"`
	Name       string   `json:"name"`
	Own        bool     `json:"own"` // the instance's own
	Others     int      `json:"others"`
	SharedWith []string `json:"shared_with"` // those that the ledger knows
	Rules      []Rule   `json:"rules"`
}

// Rule is one inbound rule. By to Work are known of rules asked for here.
type Rule struct {
	ID      string     `json:"id"`
	From    string     `json:"from"`            // CIDR
	Ports   string     `json:"ports,omitempty"` // such as 9000-9001; none for the SSH port
	Note    string     `json:"note,omitempty"`
	World   bool       `json:"world,omitempty"`   // it lets everybody in
	Service bool       `json:"service,omitempty"` // the service itself comes in by it
	By      string     `json:"by,omitempty"`
	At      *time.Time `json:"at,omitempty"`
	Until   *time.Time `json:"until,omitempty"`
	Me      bool       `json:"me,omitempty"`
	Reason  string     `json:"reason,omitempty"`
	Work    int64      `json:"work,omitempty"`
}

// Admit asks for address ranges to be let in.
type Admit struct {
	From    []string `json:"from"` // addresses, or networks in CIDR notation
	Me      bool     `json:"me"`   // they are the operator's own, and replace what was so before
	World   bool     `json:"world"`
	Shared  bool     `json:"shared"`  // into the group that others have too; else into one of the instance's own
	Seconds int64    `json:"seconds"` // until its end; 0 for none
	Reason  string   `json:"reason"`
	Ports   string   `json:"ports,omitempty"` // such as 9000 or 9000-9001; none for the SSH port
}

// Unadmit asks for rules to be withdrawn.
type Unadmit struct {
	From   []string `json:"from"`
	Ports  string   `json:"ports,omitempty"` // none for rules of the SSH port
	CutOff int      `json:"cut_off"`
}

// HostKeyState sets the recorded host keys of an instance beside what answers.
type HostKeyState struct {
	Instance string    `json:"instance"`
	Recorded []HostKey `json:"recorded"`
	Former   []HostKey `json:"former"`
	Offered  *HostKey  `json:"offered,omitempty"` // what answers now
	Problem  string    `json:"problem,omitempty"` // why nothing could be fetched
	Printed  []string  `json:"printed"`           // fingerprints in the boot output, the last block's first
	Same     bool      `json:"same"`              // what answers is recorded
	Doubt    string    `json:"doubt,omitempty"`   // why somebody else may have its private half
}

// AcceptHostKey asks for a new host key to be recorded in the place of the old.
type AcceptHostKey struct {
	Fingerprint string `json:"fingerprint"`
	FromBootLog bool   `json:"from_boot_log"` // only if the boot output has it
}

// BootLog is what an instance printed on its console.
type BootLog struct {
	Instance string    `json:"instance"`
	Text     string    `json:"text"`
	At       time.Time `json:"at"`
}

// Refresh asks for the state and address of an instance to be taken down. An
// adopted one has no cloud to be asked: its new address is given.
type Refresh struct {
	Address string `json:"address,omitempty"`
	Port    int    `json:"port,omitempty"` // 0 keeps it
}

// Refreshed is what the cloud says now of an instance.
type Refreshed struct {
	Changed  bool     `json:"changed"`
	Before   string   `json:"before"` // state and address, in words
	Now      string   `json:"now"`
	Instance Instance `json:"instance"`
}

// StaticAddress is an address that stays until it is released.
type StaticAddress struct {
	ID       string `json:"id"`
	Name     string `json:"name"`
	Region   string `json:"region"`
	Address  string `json:"address"`
	Instance string `json:"instance,omitempty"` // its name here
	CloudID  string `json:"cloud_id,omitempty"` // of whoever has it
	Price    *Price `json:"price,omitempty"`    // also while nobody has it
}

// NewStaticAddress asks for an address to be reserved.
type NewStaticAddress struct {
	Name   string `json:"name"`
	Region string `json:"region"`
}

// MoveAddress asks for a static address to be given to an instance, or, with
// "", to be taken from whoever has it.
type MoveAddress struct {
	Instance string `json:"instance"`
}

// WhyRequest asks the service what it sees of a door.
type WhyRequest struct {
	User      string `json:"user"`       // "" for the recorded login user
	PublicKey string `json:"public_key"` // one line; "" for the best recorded key
	SeenAs    string `json:"seen_as"`    // the address that the cloud sees the engineer under, if known
}

// WhyAnswer is what the service saw, and what it makes of that alone.
type WhyAnswer struct {
	Facts  why.Facts  `json:"facts"`
	Report why.Report `json:"report"`
}
