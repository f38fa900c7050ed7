package rotation

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"plumlatch/core/authkeys"
)

// Paper is a permit as a document: for a write that the engineer's own session
// makes, on a machine that is not the service's. The service signs it after its
// guard has judged; whoever writes judges the file in front of it once more.
type Paper struct {
	Work      int64
	Instance  string // the alias, which no other instance ever has
	LoginUser string
	File      string
	SHA256    string   // of the file as it was judged, in hex
	Lines     []string // that may go, each just as it stands
	Rests     []string // SHA256 fingerprints of the keys that stay as a way in
	Until     time.Time
}

const paperBegin = "Plum Latch permit\n"

// ErrPaper says that a document is no permit for this write.
var ErrPaper = errors.New("this is no permit for this write")

// Text is the document, as it is signed: a field a line.
func (p Paper) Text() []byte {
	var b strings.Builder
	b.WriteString(paperBegin)
	field := func(name, value string) { fmt.Fprintf(&b, "%s %s\n", name, value) }
	field("work", strconv.FormatInt(p.Work, 10))
	field("instance", p.Instance)
	field("user", p.LoginUser)
	field("file", p.File)
	field("sha256", p.SHA256)
	for _, l := range p.Lines {
		field("take", l)
	}
	for _, r := range p.Rests {
		field("rests", r)
	}
	field("until", p.Until.UTC().Format(time.RFC3339))
	return []byte(b.String())
}

// ReadPaper reads what Text writes. ErrPaper.
func ReadPaper(text []byte) (p Paper, err error) {
	rest, ok := strings.CutPrefix(string(text), paperBegin)
	if !ok || !strings.HasSuffix(rest, "\n") || strings.ContainsAny(rest, "\r\x00") {
		return p, ErrPaper
	}
	for line := range strings.SplitSeq(strings.TrimSuffix(rest, "\n"), "\n") {
		name, value, _ := strings.Cut(line, " ")
		switch name {
		case "work":
			p.Work, err = strconv.ParseInt(value, 10, 64)
		case "instance":
			p.Instance = value
		case "user":
			p.LoginUser = value
		case "file":
			p.File = value
		case "sha256":
			p.SHA256 = value
		case "take":
			p.Lines = append(p.Lines, value)
		case "rests":
			p.Rests = append(p.Rests, value)
		case "until":
			p.Until, err = time.Parse(time.RFC3339, value)
		default:
			err = ErrPaper
		}
		if err != nil {
			return Paper{}, ErrPaper
		}
	}
	if !bytes.Equal(p.Text(), text) { // each field once, in its order
		return Paper{}, ErrPaper
	}
	return p, nil
}

// Signed makes the permit of a document that the service has signed with key, for
// one write of the file that is in front of whoever writes. The file is judged
// once more: it must be the one that was judged, and, without the lines, at least
// one of the keys that the permit rests on must stand in it with a line that lets
// it in on no terms. ErrPaper, ErrStale, ErrEnded.
func Signed(text, signature []byte, key ed25519.PublicKey, want Paper, data []byte, now time.Time) (Permit, error) {
	p, err := CheckPaper(text, signature, key, want, now)
	if err != nil {
		return Permit{}, err
	}
	sum := sha256.Sum256(data)
	if p.SHA256 != hex.EncodeToString(sum[:]) {
		return Permit{}, ErrStale
	}
	return withLeft(p, data)
}

// CheckPaper reads a document that the service has signed with key, for one write. Whoever has the file judges that besides. ErrPaper, ErrEnded.
func CheckPaper(text, signature []byte, key ed25519.PublicKey, want Paper, now time.Time) (Paper, error) {
	if len(key) != ed25519.PublicKeySize || !ed25519.Verify(key, text, signature) {
		return Paper{}, fmt.Errorf("%w: it is not signed by this service", ErrPaper)
	}
	p, err := ReadPaper(text)
	if err != nil {
		return Paper{}, err
	}
	if p.Work != want.Work || p.Instance != want.Instance || p.LoginUser != want.LoginUser || p.File != want.File ||
		!slices.Equal(p.Lines, want.Lines) || len(p.Lines) == 0 {
		return Paper{}, fmt.Errorf("%w: it is for another one", ErrPaper)
	}
	if now.After(p.Until) {
		return Paper{}, ErrEnded
	}
	return p, nil
}

// OnRequest makes the permit for what an operator has asked the agent on an instance for, in a request that it has judged: the operator's
// signature stands where the service's guard does elsewhere. As with Signed, the file must be the one that was judged, and one of the keys that
// stay must be in it with a line that lets it in on no terms. ErrPaper, ErrStale, ErrLockOut.
func OnRequest(p Paper, data []byte) (Permit, error) {
	if len(p.Lines) == 0 || len(p.Rests) == 0 {
		return Permit{}, ErrPaper
	}
	sum := sha256.Sum256(data)
	if p.SHA256 != hex.EncodeToString(sum[:]) {
		return Permit{}, ErrStale
	}
	return withLeft(p, data)
}

// withLeft makes the permit of a document, if one of the keys that it rests on is left.
func withLeft(p Paper, data []byte) (Permit, error) {
	doc := authkeys.ParseDocument(data)
	g := &grant{user: p.LoginUser, files: map[string][]byte{p.File: data}, lines: p.Lines, until: p.Until,
		spent: map[string]bool{}}
	for _, l := range p.Lines {
		doc.RemoveAppended(l)
		for _, k := range authkeys.Parse([]byte(l), time.UTC) {
			if k.Err == nil {
				g.blobs = append(g.blobs, k.Blob)
			}
		}
	}
	left := false
	for _, l := range authkeys.Parse(doc.Bytes(), time.UTC) {
		free := l.Err == nil && !l.Options.CertAuthority && !l.Options.HasCommand && l.Options.From == "" &&
			l.Options.Expires.IsZero()
		left = left || free && slices.Contains(p.Rests, authkeys.Name(l.Blob))
	}
	if !left {
		return Permit{}, fmt.Errorf("%w: none of the keys that it rests on stands in the file", ErrLockOut)
	}
	g.confirm = func(Context) error { return nil } // the end, and the file, are looked at by Covers and Confirm
	return Permit{g}, nil
}
