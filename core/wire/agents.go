package wire

import (
	"time"

	"plumlatch/core/agentcalls"
)

// Agent is what is known of an instance's resident agent.
type Agent struct {
	Instance    string     `json:"instance"`
	InstanceID  int64      `json:"instance_id"` // what its requests are signed for
	Enrolled    bool       `json:"enrolled"`
	Fingerprint string     `json:"fingerprint,omitempty"` // of its own key
	PublicKey   string     `json:"public_key,omitempty"`  // its own key, as an authorized_keys line
	EnrolledAt  *time.Time `json:"enrolled_at,omitempty"`
	EnrolledBy  string     `json:"enrolled_by,omitempty"`
	Connected   bool       `json:"connected"`
	ConnectedAt *time.Time `json:"connected_at,omitempty"` // the last time
	SeenAt      *time.Time `json:"seen_at,omitempty"`
	Address     string     `json:"address,omitempty"`      // from where it came
	Offered     int        `json:"offered,omitempty"`      // the version that the service has for it; 0 for none
	Version     string     `json:"version,omitempty"`      // this and what follows: its own word
	LastUpgrade string     `json:"last_upgrade,omitempty"` // what became of it
	Verbs       []string   `json:"verbs"`                  // that its owner's file allows
	Never       []string   `json:"never"`                  // users whom it never touches
	Trust       string     `json:"trust,omitempty"`        // operators: each change is signed; service: the service's word is enough
	Frozen      bool       `json:"frozen,omitempty"`       // changes are allowed, and nobody could sign one
	RefusedAt   *time.Time `json:"refused_at,omitempty"`
	RefusedFrom string     `json:"refused_from,omitempty"` // another one that claimed to be this one
	// Service is HOST:PORT where agents connect, and Authority what they pin, PEM; "" where this service takes none.
	Service   string `json:"service,omitempty"`
	Authority string `json:"authority,omitempty"`
}

// AgentKey is the public half of an agent's own key, as an authorized_keys line has it.
type AgentKey struct {
	PublicKey string `json:"public_key"`
}

// AgentUpgrade says that an agent tries another version of itself.
type AgentUpgrade struct {
	From int       `json:"from"`
	To   int       `json:"to"`
	At   time.Time `json:"at"` // when it was asked: it comes back later
}

// AgentToken enrolls an agent once. It is told once.
type AgentToken struct {
	Token     string `json:"token"`
	Service   string `json:"service"`
	Authority string `json:"authority"`
}

// AgentCall is a request that an operator signed.
type AgentCall struct {
	Request   agentcalls.Request `json:"request"`
	Signature string             `json:"signature"` // armored (PROTOCOL.sshsig), namespace agent@plumlatch
}

// AgentDone is what the agent answered: JSON of the verb's own, as text.
type AgentDone struct {
	Result string `json:"result"`
}
