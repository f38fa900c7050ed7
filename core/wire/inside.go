package wire

// SetLogins asks for a change of the ways of logging in to an instance besides keys. What is "" stays.
type SetLogins struct {
	Password string `json:"password,omitempty"` // on or off
	Root     string `json:"root,omitempty"`     // on, keys or off
	Reason   string `json:"reason,omitempty"`
}

// LoginsToChange is a change that waits for the engineer's session.
type LoginsToChange struct {
	Password string `json:"password,omitempty"`
	Root     string `json:"root,omitempty"`
	// Signers are the public keys of those whose login may confirm it, as lines.
	Signers []string `json:"signers"`
}

// LoginsTold is what a client tells of a change.
type LoginsTold struct {
	Confirmed bool   `json:"confirmed"` // by a login that was made after the change
	Said      string `json:"said,omitempty"`
}

// LoginsSeen is what a way back on an instance did, as it wrote that down there.
type LoginsSeen struct {
	Said []string `json:"said"`
}
