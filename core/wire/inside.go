package wire

import "time"

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

// What SetUser does.
const (
	UserAdd      = "add"
	UserRemove   = "remove"
	UserPassword = "password"
)

// SetUser asks for a change of an instance's users. No password and no hash is in it: those go to the instance alone.
type SetUser struct {
	Do     string     `json:"do"`
	User   string     `json:"user"`
	Key    string     `json:"key,omitempty"`   // add: a recorded key; "" for none
	Sudo   bool       `json:"sudo,omitempty"`  // add: it may become root, without a password
	Until  *time.Time `json:"until,omitempty"` // add: its end; nil for none
	Lock   bool       `json:"lock,omitempty"`  // password: none any more
	Reason string     `json:"reason,omitempty"`
}

// UserToChange is a change of a user that waits for the engineer's session.
type UserToChange struct {
	Do        string `json:"do"`
	User      string `json:"user"`
	PublicKey string `json:"public_key,omitempty"` // add: the line of the key, without options
}

// UserTold is what a client tells of it.
type UserTold struct {
	Done bool   `json:"done"`
	Said string `json:"said,omitempty"`
}
