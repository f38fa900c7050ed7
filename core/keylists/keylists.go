// Package keylists says which keys of the ledger stand in a cloud's own lists. A cloud shows a fingerprint in a
// form of its own, and sometimes the public half: only the public half tells for certain which key it is.
package keylists

import (
	"encoding/base64"
	"encoding/binary"
	"strings"

	"plumlatch/core/keypair"
)

// Key is a key of the ledger.
type Key struct {
	ID      int64
	Name    string
	State   string // access.InUse, Lost, Exposed
	Retired bool
	Blob    []byte
	// PrivateSHA1 is the fingerprint of its private half, in hex digits, if somebody told it; "" else.
	PrivateSHA1 string
}

// Unusable tells, in one word, why nothing should be launched with a key any more; "" for one that is in use.
func (k Key) Unusable() string {
	switch {
	case k.State == "lost" || k.State == "exposed":
		return k.State
	case k.Retired:
		return "retired"
	}
	return ""
}

// Index finds keys by what a cloud shows of them. The zero Index knows none.
type Index struct {
	sha256 map[string]int
	weaker map[string][]int // MD5 and SHA1: others can be made to fit
	keys   []Key
}

// NewIndex makes an index of keys.
func NewIndex(keys []Key) *Index {
	x := &Index{sha256: map[string]int{}, weaker: map[string][]int{}, keys: keys}
	for n, k := range keys {
		p := keypair.Public{Blob: k.Blob}
		x.sha256[p.Fingerprint()] = n
		for _, print := range []string{p.FingerprintMD5(), p.FingerprintDER(), keypair.PrintOfHex(keypair.PrintSHA1,
			k.PrivateSHA1)} {
			if print != "" {
				x.weaker[print] = append(x.weaker[print], n)
			}
		}
	}
	return x
}

// Match is what an entry of a list comes to.
type Match struct {
	Key *Key // of the ledger; nil for none
	// Public is the public half, if the cloud shows one that can be read.
	Public keypair.Public
	SHA256 string // of the public half, or as the cloud shows it; "" if it shows neither
	// Lies: the fingerprint that it shows is not one of the public half that it shows.
	Lies bool
	// Claim: only the cloud's fingerprint says which key it is.
	Claim bool
}

// Of tells which key an entry is: by its public half, or by the cloud's fingerprint where it shows no other. A
// fingerprint that fits several keys is none's.
func (x *Index) Of(fingerprint, public string) Match {
	print, isPrint, err := keypair.ParsePrint(fingerprint)
	isPrint = isPrint && err == nil
	if public != "" {
		if p, ok := readLine(public); ok {
			m := Match{Public: p, SHA256: p.Fingerprint(), Key: x.key(p.Fingerprint())}
			// What a cloud says of a private half that it made cannot be compared with the public one.
			m.Lies = isPrint && print.Form != keypair.PrintSHA1 && print.Text != m.SHA256 &&
				print.Text != p.FingerprintMD5() && print.Text != p.FingerprintDER()
			return m
		}
	}
	if !isPrint {
		return Match{}
	}
	if print.Form == keypair.PrintSHA256 {
		return Match{SHA256: print.Text, Key: x.key(print.Text), Claim: true}
	}
	if all := x.weaker[print.Text]; len(all) == 1 {
		return Match{Key: &x.keys[all[0]], Claim: true}
	}
	return Match{}
}

// readLine reads a line of a file of keys. Lists have thousands of them, so only its blob is read where it is a plain one
// (RFC 4253 section 6.6: it begins with the name of the algorithm).
func readLine(line string) (keypair.Public, bool) {
	algorithm, rest, _ := strings.Cut(strings.TrimSpace(line), " ")
	text, _, _ := strings.Cut(rest, " ")
	if blob, err := base64.StdEncoding.DecodeString(text); err == nil && len(blob) > 4+len(algorithm) &&
		int(binary.BigEndian.Uint32(blob)) == len(algorithm) && string(blob[4:4+len(algorithm)]) == algorithm {
		return keypair.Public{Blob: blob}, true
	}
	p, err := keypair.ReadPublic([]byte(line))
	return p, err == nil
}

func (x *Index) key(sha256 string) *Key {
	n, ok := x.sha256[sha256]
	if !ok {
		return nil
	}
	return &x.keys[n]
}

// Full tells whether a list is nearly full: nine tenths of it, or more.
func Full(used, limit int) bool { return limit > 0 && 10*used >= 9*limit }
