package wire

import (
	"time"

	"plumlatch/core/streams"
)

// NewStream asks for a stream to an instance.
type NewStream struct {
	Reason string `json:"reason,omitempty"`
	Way    string `json:"way,omitempty"` // service, or agent; "": through its agent where that is open, else by the service
}

// StreamBegun is a stream that waits for its first connection, half a minute: a WebSocket at /streams/ID/bytes. Package streams says what goes over it.
type StreamBegun struct {
	ID       int64     `json:"id"`
	Secret   string    `json:"secret"` // whoever carries it on shows it, in the first message
	Way      string    `json:"way"`
	SeenFrom string    `json:"seen_from"` // the address that the SSH server sees
	Until    time.Time `json:"until"`     // it lasts until then at most
}

// Stream is one that goes through the service, or went: what it can know of it.
type Stream struct {
	ID       int64       `json:"id"`
	Instance string      `json:"instance"`
	Operator string      `json:"operator"`
	Address  string      `json:"address"` // of whoever asked
	Way      string      `json:"way"`
	SeenFrom string      `json:"seen_from"`
	Reason   string      `json:"reason,omitempty"`
	Begun    time.Time   `json:"begun"`
	Up       int64       `json:"up"`   // bytes to the server
	Down     int64       `json:"down"` // bytes from it
	Open     bool        `json:"open"`
	Ended    *time.Time  `json:"ended,omitempty"`
	Why      streams.Why `json:"why,omitempty"` // why it ended
	Words    string      `json:"words,omitempty"`
}

// SessionKey is the public half of a pair that was made for the session of a stream: it is let in for five minutes.
type SessionKey struct {
	PublicKey string `json:"public_key"`
}
