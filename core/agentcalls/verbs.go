package agentcalls

import (
	"time"

	"plumlatch/core/accounts"
)

// LookArgs are the arguments of look.
type LookArgs struct {
	LoginsSince time.Time `json:"logins_since"` // from when the log of logins is read; the whole of it for the zero time
}

// EditArgs are the arguments of edit.
type EditArgs struct {
	User string `json:"user"`
	Line string `json:"line"` // to be added: an authorized_keys line
}

// Edited is what edit did.
type Edited struct {
	File  string `json:"file"`
	There bool   `json:"there"` // the line stood there before; nothing was written
}

// UsersArgs are the arguments of users.
type UsersArgs struct {
	Do       string `json:"do"` // list, add, owned, remove, lock
	User     string `json:"user,omitempty"`
	Shell    string `json:"shell,omitempty"`
	Sudo     bool   `json:"sudo,omitempty"`
	Ends     int64  `json:"ends,omitempty"` // seconds since 1970; 0 for no end
	Line     string `json:"line,omitempty"` // an authorized_keys line
	KeepHome bool   `json:"keep_home,omitempty"`
}

// UsersDone is what users saw or did.
type UsersDone struct {
	All   []accounts.Account `json:"all,omitempty"`
	Keys  map[string]int     `json:"keys,omitempty"`
	Owned accounts.Owned     `json:"owned,omitzero"`
	Said  string             `json:"said,omitempty"`
}

// SessionsArgs are the arguments of sessions.
type SessionsArgs struct {
	User        string `json:"user"`
	Fingerprint string `json:"fingerprint"` // SHA256:..., of the key that opened those that end
}

// SessionsDone is what sessions did.
type SessionsDone struct {
	Ended int   `json:"ended"`
	Left  []int `json:"left,omitempty"` // processes that are still there
}
