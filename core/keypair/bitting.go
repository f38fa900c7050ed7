package keypair

import "crypto/sha256"

// Cuts is the number of cuts in a bitting, and Depths the number of depths a cut can have.
const (
	Cuts   = 16
	Depths = 8
)

// Bitting is the picture of a key: sixteen cuts of eight depths (0 shallow, 7
// deep), taken from the first 48 bits of the blob's SHA-256, three bits a cut
// from the most significant end. It is for telling keys apart at a glance.
// 48 bits are not a fingerprint: never compare bittings to prove identity.
type Bitting [Cuts]uint8

// Bitting returns the key's bitting.
func (p Public) Bitting() Bitting {
	sum := sha256.Sum256(p.Blob)
	var bits uint64
	for _, b := range sum[:6] {
		bits = bits<<8 | uint64(b)
	}
	var out Bitting
	for i := range out {
		out[i] = uint8(bits >> (3 * (Cuts - 1 - i)) & 7)
	}
	return out
}

// String draws the bitting with the eight block characters U+2581 to U+2588.
func (b Bitting) String() string {
	out := make([]rune, Cuts)
	for i, d := range b {
		out[i] = '▁' + rune(d)
	}
	return string(out)
}
