// Package journal makes and verifies the chain over the journal: what was
// written once cannot be changed, taken out, put in between or cut off at the
// end without being noticed by whoever has an earlier head.
//
// Link n is SHA-256 over a fixed line, the link before it (32 zero bytes for
// the first), n and the entry's ID as 8 bytes each in network order, and the
// entry's bytes exactly as they are stored. A head is the latest link with its
// time, signed with an Ed25519 key (RFC 8032) that is not in the database.
package journal

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"plumlatch/core/wire"
)

const linkPrefix = "plumlatch journal link 1\n"

// Link returns the n-th link: previous is the one before it, nil for the first.
func Link(previous []byte, n, id int64, entry []byte) []byte {
	h := sha256.New()
	h.Write([]byte(linkPrefix))
	if previous == nil {
		previous = make([]byte, sha256.Size)
	}
	h.Write(previous)
	h.Write(binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(nil, uint64(n)), uint64(id)))
	h.Write(entry)
	return h.Sum(nil)
}

// HeadText is what the signature of a head covers.
func HeadText(n int64, at time.Time, sum []byte) []byte {
	return fmt.Appendf(nil, "plumlatch journal head 1\n%d\n%s\n%x\n", n, at.UTC().Format(time.RFC3339Nano), sum)
}

// Line is one line of an export: an entry, or a head.
type Line struct {
	Entry *wire.ChainedEntry `json:"entry,omitempty"`
	Head  *wire.JournalHead  `json:"head,omitempty"`
}

// Limits of what is taken for the unchained tail, and of what is told.
const (
	// settled is how old an entry must be to be counted as passed over by the
	// chain, which takes one in within a second of its being committed.
	settled = time.Minute
	// backwards is how much older than the one before it a chained entry may be:
	// an entry has the time of its transaction's beginning.
	backwards = 10 * time.Minute
	maxBreaks = 100
)

// Verifier reads an export in its order: chained entries by their place,
// unchained ones, heads.
type Verifier struct {
	// Key is the public key that heads must be signed with; nil takes that of the
	// first head, which then vouches for nothing but itself.
	Key ed25519.PublicKey
	// Remembered are heads that whoever verifies has seen before.
	Remembered []wire.JournalHead
	Now        time.Time

	check  wire.JournalCheck
	stored []byte // the last link, as it is stored
	last   time.Time
	maxID  int64
	oldest time.Time        // of the unchained
	sums   map[int64]string // links at which a head may stand
	other  bool             // heads are signed with another key
}

func (v *Verifier) broken(format string, a ...any) {
	if len(v.check.Breaks) < maxBreaks {
		v.check.Breaks = append(v.check.Breaks, fmt.Sprintf(format, a...))
	} else if len(v.check.Breaks) == maxBreaks {
		v.check.Breaks = append(v.check.Breaks, "and more")
	}
}

// Add reads one line.
func (v *Verifier) Add(l Line) {
	if v.sums == nil {
		v.sums = map[int64]string{}
	}
	switch {
	case l.Entry != nil && l.Entry.N == 0:
		v.unchained(*l.Entry)
	case l.Entry != nil:
		v.chained(*l.Entry)
	case l.Head != nil:
		v.head(*l.Head)
	}
}

func (v *Verifier) chained(e wire.ChainedEntry) {
	for n := v.check.Links + 1; n < e.N && n < v.check.Links+maxBreaks; n++ {
		v.broken("link %d was taken out of the chain", n)
	}
	if e.N <= v.check.Links {
		v.broken("link %d stands there twice", e.N)
	}
	sum, err := hex.DecodeString(e.SHA256)
	switch {
	case err != nil || len(sum) != sha256.Size:
		v.broken("link %d is no hash", e.N)
	case e.Bytes == nil:
		v.broken("entry %d (link %d) was removed", e.ID, e.N)
	case (e.N == 1 || v.stored != nil) && e.N == v.check.Links+1 &&
		!bytes.Equal(Link(v.stored, e.N, e.ID, e.Bytes), sum):
		v.broken("entry %d (link %d) was changed", e.ID, e.N)
	default:
		v.columns(e)
	}
	at := e.Columns.At
	if e.Bytes != nil && at.Before(v.last.Add(-backwards)) {
		v.broken("entry %d (link %d) was put in: it is dated %s, long before the one that came before it", e.ID, e.N,
			at.UTC().Format(time.RFC3339))
	}
	if at.After(v.last) {
		v.last = at
	}
	v.stored, v.check.Links, v.maxID = sum, e.N, max(v.maxID, e.ID)
	v.sums[e.N] = e.SHA256
}

// columns compares what lists show with the stored bytes.
func (v *Verifier) columns(e wire.ChainedEntry) {
	var said struct {
		At, Operator, Address, Action, Target, Intent, Outcome string
		Of                                                     int64
	}
	if err := json.Unmarshal(e.Bytes, &said); err != nil {
		v.broken("entry %d cannot be read", e.ID)
		return
	}
	at, err := time.Parse(time.RFC3339Nano, said.At)
	c := e.Columns
	if err != nil || !at.Equal(c.At) || said.Operator != c.Operator || said.Address != c.Address ||
		said.Action != c.Action || said.Target != c.Target || said.Intent != c.Intent || said.Outcome != c.Outcome ||
		said.Of != c.Of {
		v.broken("entry %d (link %d) was changed: what lists show is not what was written", e.ID, e.N)
	}
}

func (v *Verifier) unchained(e wire.ChainedEntry) {
	v.columns(e)
	if e.ID < v.maxID && v.Now.Sub(e.Columns.At) > settled {
		v.broken("entry %d was put in between: the chain does not have it, though it has later ones", e.ID)
		return
	}
	v.check.Unchained++
	if v.oldest.IsZero() || e.Columns.At.Before(v.oldest) {
		v.oldest = e.Columns.At
	}
}

func (v *Verifier) head(h wire.JournalHead) {
	v.check.Heads++
	if v.Key == nil {
		v.Key = h.PublicKey
	}
	if len(h.PublicKey) > 0 && !bytes.Equal(h.PublicKey, v.Key) {
		if !v.other {
			v.broken("another key signs this journal than the one that was seen before: it is another journal, or " +
				"somebody made it anew")
		}
		v.other = true
		return
	}
	sum, err := hex.DecodeString(h.SHA256)
	if err != nil || len(v.Key) != ed25519.PublicKeySize ||
		!ed25519.Verify(v.Key, HeadText(h.N, h.At, sum), h.Signature) {
		v.broken("the head of link %d is not signed with the journal's key", h.N)
		return
	}
	v.against(h, "signed")
	if v.check.Head == nil || h.N >= v.check.Head.N {
		v.check.Head = &h
	}
}

// against holds the chain against a head that is vouched for.
func (v *Verifier) against(h wire.JournalHead, how string) {
	sum, ok := v.sums[h.N]
	switch at := h.At.UTC().Format(time.RFC3339); {
	case h.N > v.check.Links:
		v.broken("the tail was cut: a head %s %s names link %d, and the chain ends at %d", how, at, h.N, v.check.Links)
	case !ok:
		v.broken("link %d, which a head %s %s names, is not there", h.N, how, at)
	case sum != h.SHA256:
		v.broken("the chain was rehashed: link %d is another one than in the head %s %s", h.N, how, at)
	}
}

// Done returns what was found.
func (v *Verifier) Done() wire.JournalCheck {
	for _, h := range v.Remembered {
		if !v.other {
			v.against(h, "remembered, of")
		}
	}
	if !v.other && v.check.Links > 0 && (v.check.Head == nil || v.check.Head.N < v.check.Links) &&
		v.Now.Sub(v.last) > settled {
		v.broken("the end of the chain is not signed: the last head is missing")
	}
	if !v.oldest.IsZero() {
		v.check.UnchainedAge = max(0, v.Now.Sub(v.oldest).Seconds())
	}
	v.check.Breaks = slices.Compact(append([]string{}, v.check.Breaks...))
	return v.check
}
