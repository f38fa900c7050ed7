package keypair

import (
	"crypto/rsa"
	"errors"
	"fmt"
	"math/big"

	"golang.org/x/crypto/ssh"
)

// Severity is how bad a weakness is.
type Severity string

// The severities. A key with a Broken or Weak weakness is never placed.
const (
	Broken Severity = "broken" // the private half can be computed from the public one
	Weak   Severity = "weak"   // within reach of somebody with means
	Dated  Severity = "dated"  // sound as far as is known; no longer made so
)

// Weakness is one thing that is wrong with a public key.
type Weakness struct {
	Name     string   `json:"name"`
	Severity Severity `json:"severity"`
	Sentence string   `json:"sentence"`
}

// fermatSteps bounds the search for two primes that are too close: they are
// found at once when they share about half of their leading bits.
const fermatSteps = 200

// Weaknesses looks for what can be seen on a public half alone: small or even
// modulus, small exponent, tiny factors, and primes too close (Fermat).
func (p Public) Weaknesses() []Weakness {
	var out []Weakness
	add := func(name string, s Severity, format string, a ...any) {
		out = append(out, Weakness{name, s, fmt.Sprintf(format, a...)})
	}
	if p.Type() == typeDSA {
		add("dsa", Weak, "DSA keys of 1024 bits are within reach, and current ssh servers refuse them.")
	}
	key, err := ssh.ParsePublicKey(p.Blob)
	if err != nil {
		return out
	}
	c, ok := key.(ssh.CryptoPublicKey)
	if !ok {
		return out
	}
	k, ok := c.CryptoPublicKey().(*rsa.PublicKey)
	if !ok {
		return out
	}
	switch n := k.N.BitLen(); {
	case n < 1024:
		add("small-modulus", Broken, "RSA of %d bits has been factored by ordinary computers.", n)
	case n < 2048:
		add("small-modulus", Weak, "RSA of %d bits is within reach of somebody with means; 2048 is the least.", n)
	}
	if k.E < 65537 {
		add("small-exponent", Dated, "The exponent %d is small, which has broken careless signature checks; 65537 is usual.", k.E)
	}
	if k.N.Bit(0) == 0 {
		add("even-modulus", Broken, "The modulus is even: one of its factors is 2.")
	} else if f := tinyFactor(k.N); f != 0 {
		add("tiny-factor", Broken, "The modulus is divisible by %d.", f)
	} else if closePrimes(k.N) {
		add("close-primes", Broken, "The two primes are so close that the modulus is factored at once (Fermat's method).")
	}
	return out
}

// tinyFactor returns a prime factor below 2^16, or 0.
func tinyFactor(n *big.Int) int {
	composite := make([]bool, 1<<16)
	r, d := new(big.Int), new(big.Int)
	for p := 3; p < len(composite); p += 2 {
		if composite[p] {
			continue
		}
		for q := p * p; q < len(composite); q += 2 * p {
			composite[q] = true
		}
		d.SetInt64(int64(p))
		if r.Mod(n, d).Sign() == 0 && n.Cmp(d) != 0 {
			return p
		}
	}
	return 0
}

// closePrimes tries Fermat's method: n = a*a - b*b for an a just above its root.
func closePrimes(n *big.Int) bool {
	a := new(big.Int).Sqrt(n)
	if new(big.Int).Mul(a, a).Cmp(n) == 0 {
		return true
	}
	one := big.NewInt(1)
	b2, b := new(big.Int), new(big.Int)
	for range fermatSteps {
		a.Add(a, one)
		b2.Mul(a, a).Sub(b2, n)
		if b.Sqrt(b2); new(big.Int).Mul(b, b).Cmp(b2) == 0 {
			return true
		}
	}
	return false
}

// ErrWeak says that a key is too weak to be placed on an instance.
var ErrWeak = errors.New("too weak to be placed; it can be recorded, tracked and rotated away")

// Placeable returns nil if the key may be placed on an instance. The error
// wraps ErrWeak and says why not.
func (p Public) Placeable() error {
	for _, w := range p.Weaknesses() {
		if w.Severity != Dated {
			return fmt.Errorf("%w: %s", ErrWeak, w.Sentence)
		}
	}
	return nil
}
