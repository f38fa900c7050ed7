package wire

import "time"

// KeyLists is what the cloud keeps of public keys under names, for launches, set against the ledger.
type KeyLists struct {
	// Rules say what the cloud's lists are like; absent if it keeps none.
	Rules *KeyListRules `json:"rules,omitempty"`
	Lists []KeyList     `json:"lists"`
	// Entries are those that are keys of the ledger, or that were asked for; and then others, up to the limit.
	Entries []KeyEntry `json:"entries"`
	LeftOut int        `json:"left_out,omitempty"` // entries beyond the limit, none of them a key of the ledger
}

// KeyListRules is what a cloud says of its lists of keys.
type KeyListRules struct {
	Scope string   `json:"scope"` // region, project, person or all: of what there is one list each
	Names string   `json:"names"` // which names it takes, in words
	Kinds []string `json:"kinds"` // algorithms that it takes, as on a key's line
	Print string   `json:"print"` // how it writes fingerprints, in words
}

// KeyList is one list, counted.
type KeyList struct {
	Region  string `json:"region"`
	Used    int    `json:"used"`
	Limit   int    `json:"limit,omitempty"` // how many it holds; absent if the cloud does not say
	Known   int    `json:"known"`           // of those, keys of the ledger
	Trouble string `json:"trouble,omitempty"`
}

// KeyEntry is one key of a list.
type KeyEntry struct {
	ID          string `json:"id"`
	Name        string `json:"name"`
	Region      string `json:"region"`
	Fingerprint string `json:"fingerprint"`      // as the cloud writes it: its word
	SHA256      string `json:"sha256,omitempty"` // of the public half, where the cloud shows that
	// Lies: the fingerprint that the cloud shows is not that of the public half that it shows.
	Lies     bool       `json:"lies,omitempty"`
	Key      string     `json:"key,omitempty"` // of the ledger, that it is
	KeyState string     `json:"key_state,omitempty"`
	Retired  bool       `json:"retired,omitempty"`
	AddedAt  *time.Time `json:"added_at,omitempty"`
	// Labelled counts the instances whose label is this name: launched with it, as the cloud says.
	Labelled int      `json:"labelled,omitempty"`
	Some     []string `json:"some,omitempty"` // of those, at most ten of the ledger
}

// PlacedKey is a key that the cloud's own agent places on an instance, again and again.
type PlacedKey struct {
	ID     string `json:"id"`
	Name   string `json:"name"`
	User   string `json:"user"`             // whom it lets in as; "" if the cloud does not say
	ForAll bool   `json:"for_all"`          // it is placed on every instance of the project
	SHA256 string `json:"sha256,omitempty"` // of the public half
	Key    string `json:"key,omitempty"`    // of the ledger, that it is
	// KeyState is "in use", "lost" or "exposed".
	KeyState string `json:"key_state,omitempty"`
	Retired  bool   `json:"retired,omitempty"`
}

// PlaceKey asks for the cloud's own agent to place a key of the ledger on an instance.
type PlaceKey struct {
	Key    string `json:"key"`
	Reason string `json:"reason,omitempty"`
}

// ListKey asks for a key of the ledger to be taken into lists of the cloud.
type ListKey struct {
	Key     string   `json:"key"`
	Name    string   `json:"name,omitempty"` // in the list; "" for the key's own
	Regions []string `json:"regions"`        // none for all
}

// UnlistKey asks for entries to be taken out of lists: those of a name, or of a key of the ledger.
type UnlistKey struct {
	Name    string   `json:"name"`
	Regions []string `json:"regions"` // none for all
}

// LookKeyLists asks for the cloud's lists of keys, as they are now.
type LookKeyLists struct {
	Regions []string `json:"regions,omitempty"` // none for all
	// Prints are SHA-256 fingerprints of keys that the caller has: their entries are shown as those of the
	// ledger's keys are. At most 1000.
	Prints []string `json:"prints,omitempty"`
	Limit  int      `json:"limit,omitempty"` // of entries that are neither; 0 for 200, at most 100000
}

// LendKey asks for a key made for this minute to be lent by the cloud.
type LendKey struct {
	PublicKey string `json:"public_key"`
	Reason    string `json:"reason,omitempty"` // why, where no work says it
}

// Lent is a key that the cloud's agent takes for a while.
type Lent struct {
	Until     time.Time `json:"until"`
	LoginUser string    `json:"login_user"`
}
