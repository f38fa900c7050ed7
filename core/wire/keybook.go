package wire

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"time"

	"plumlatch/core/keybook"
)

// KeybookText is the text of a keybook: its files, and the public halves in files beside it.
type KeybookText struct {
	Files   []keybook.Source  `json:"files"`
	Publics map[string]string `json:"publics,omitempty"` // by the path from the book's folder
}

// Hash is the SHA-256 of a book's text: of its files' names and bytes, and of the public halves beside it.
func (t KeybookText) Hash() string {
	h := sha256.New()
	for _, f := range t.Files {
		fmt.Fprintf(h, "%d %s %d %s\n", len(f.Name), f.Name, len(f.Text), f.Text)
	}
	for _, name := range slices.Sorted(maps.Keys(t.Publics)) {
		fmt.Fprintf(h, "public %d %s %d %s\n", len(name), name, len(t.Publics[name]), t.Publics[name])
	}
	return hex.EncodeToString(h.Sum(nil))
}

// KeybookCompared is a book set against the ledger. Difference is null if something is wrong with the text: the report says what.
type KeybookCompared struct {
	Text       string              `json:"text"` // SHA-256 of the text
	Report     keybook.Report      `json:"report"`
	Difference *keybook.Difference `json:"difference"`
	Word       string              `json:"word,omitempty"` // that the policy asks for: second, signature or either
	Cut        int                 `json:"cut,omitempty"`  // items that are not shown
}

// KeybookSettle asks for a book to be settled. Compared is the hash of the difference that was reviewed.
type KeybookSettle struct {
	KeybookText
	Compared  string `json:"compared"`
	Version   string `json:"version,omitempty"`  // of the text, as its version control tells
	Withdraw  int    `json:"withdraw,omitempty"` // how many accesses it withdraws, where that is more than its limit
	CutOff    int    `json:"cut_off,omitempty"`  // how many instances nobody gets into any more
	Launch    bool   `json:"launch,omitempty"`   // launch what does not exist
	First     int    `json:"first,omitempty"`    // instances of the first wave; 0 for 1
	Grow      int    `json:"grow,omitempty"`     // how many times larger each further wave is; 0 for 4
	AtMost    string `json:"at_most,omitempty"`  // a number of instances, or a share such as 10%
	StopAfter int    `json:"stop_after,omitempty"`
}

// KeybookWrite asks for the text of what is there.
type KeybookWrite struct {
	Name   string `json:"name"`
	Tag    string `json:"tag,omitempty"` // NAME=VALUE, or NAME; "" for all
	Region string `json:"region,omitempty"`
	// Into is one file of a book that is brought up to date where it stands: its comments, order and layout stay.
	Into *KeybookText `json:"into,omitempty"`
}

// KeybookWritten is that text.
type KeybookWritten struct {
	Text string `json:"text"`
}

// Keybook is a book that was settled.
type Keybook struct {
	Work       int64          `json:"work"`
	Name       string         `json:"name"`
	Text       string         `json:"text"` // SHA-256
	Version    string         `json:"version,omitempty"`
	Difference string         `json:"difference"`
	Counts     map[string]int `json:"counts"` // of what was to be done, by sort
	Operator   string         `json:"operator"`
	At         time.Time      `json:"at"`
	State      string         `json:"state"` // of the work
	Outcome    string         `json:"outcome,omitempty"`
	Complete   string         `json:"complete,omitempty"` // for which instances, in words
	// Files and Publics are its text, of one that is asked for alone.
	Files   []keybook.Source  `json:"files,omitempty"`
	Publics map[string]string `json:"publics,omitempty"`
}

// TagChange gives an instance tags, and takes some away.
type TagChange struct {
	Set    map[string]string `json:"set,omitempty"`
	Remove []string          `json:"remove,omitempty"`
}
