package agentcalls

import (
	"encoding/json"
	"time"

	"plumlatch/core/accounts"
	"plumlatch/core/logins"
)

// LookArgs are the arguments of look.
type LookArgs struct {
	LoginsSince time.Time `json:"logins_since"` // from when the log of logins is read; the whole of it for the zero time
}

// EditArgs are the arguments of edit. With neither a line to add nor lines to take out, it reads.
type EditArgs struct {
	User string `json:"user"`
	Line string `json:"line,omitempty"` // to be added: an authorized_keys line
	// Take are lines to be taken out, each just as it stands. The file has to be as it was judged, and one of the keys that stay, Rests, has to
	// stand in it with a line that lets it in on no terms.
	Take  []string `json:"take,omitempty"`
	Rests []string `json:"rests,omitempty"` // fingerprints, SHA256:...
}

// Edited is what edit did, or read.
type Edited struct {
	File   string    `json:"file"`
	There  bool      `json:"there,omitempty"`  // the line stood there before; nothing was written
	Taken  bool      `json:"taken,omitempty"`  // the lines are out
	SHA256 string    `json:"sha256,omitempty"` // of the file as it was read, in hexadecimal
	Keys   []SeenKey `json:"keys,omitempty"`
}

// SeenKey is a key that stands in a file.
type SeenKey struct {
	Line      int    `json:"line"`
	Options   string `json:"options,omitempty"`
	PublicKey string `json:"public_key"`
}

// UsersArgs are the arguments of users.
type UsersArgs struct {
	Do       string `json:"do"` // list, add, owned, remove, lock, password
	User     string `json:"user,omitempty"`
	Shell    string `json:"shell,omitempty"`
	Sudo     bool   `json:"sudo,omitempty"`
	Ends     int64  `json:"ends,omitempty"` // seconds since 1970; 0 for no end
	Line     string `json:"line,omitempty"` // an authorized_keys line
	KeepHome bool   `json:"keep_home,omitempty"`
	Box      string `json:"box,omitempty"`    // a NewPassword
	Expire   bool   `json:"expire,omitempty"` // it has to be changed at the first login
}

// UsersDone is what users saw or did.
type UsersDone struct {
	All   []accounts.Account `json:"all,omitempty"`
	Keys  map[string]int     `json:"keys,omitempty"`
	Owned accounts.Owned     `json:"owned,omitzero"`
	Said  string             `json:"said,omitempty"`
	UID   int                `json:"uid,omitempty"`   // of the account that was made
	Takes string             `json:"takes,omitempty"` // how it hashes passwords: yescrypt or sha512crypt
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

// LoginsArgs are the arguments of logins.
type LoginsArgs struct {
	Do        string        `json:"do"` // look, change, back, confirm, heard
	Change    logins.Change `json:"change,omitzero"`
	Signers   []string      `json:"signers,omitempty"`   // change: public keys of those who may confirm
	Process   int           `json:"process,omitempty"`   // confirm: of the SSH server's, of a login that was made after the change
	Signature string        `json:"signature,omitempty"` // confirm: over the challenge, by one of the signers (PROTOCOL.sshsig)
}

// LoginsDone is what logins saw or did.
type LoginsDone struct {
	Ways      json.RawMessage `json:"ways,omitempty"`    // look: as reach.LoginWays has them
	Nothing   bool            `json:"nothing,omitempty"` // change: it has it so already
	File      string          `json:"file,omitempty"`
	Challenge string          `json:"challenge,omitempty"`
}

// StreamBegins is what stream answers, on a line of its own before the bytes of the SSH server, which follow.
type StreamBegins struct {
	From string `json:"from"` // the address that the server sees
}
