// Package savedsessions writes saved sessions for the Windows SSH client that reads PPK files: a file
// for the Registry Editor, with each instance's address, user, key file and host keys. Every value is
// checked by its grammar first, and nothing is written that the client would have to ask about.
package savedsessions

import (
	"crypto/ecdsa"
	"crypto/rsa"
	"encoding/binary"
	"errors"
	"fmt"
	"math/big"
	"net/netip"
	"path"
	"regexp"
	"strings"
	"unicode/utf16"

	"golang.org/x/crypto/ssh"

	"plumlatch/core/keypair"
	"plumlatch/core/names"
)

// Session is one saved session.
type Session struct {
	Name     string // of the instance
	Address  netip.Addr
	Port     int
	User     string
	KeyFile  string // a PPK file, by its full path
	HostKeys []keypair.Public
}

// Errors of Check, wrapped with the field at fault. None quotes the value.
var (
	ErrName    = errors.New("the name is none that a session can have")
	ErrAddress = errors.New("the address is none")
	ErrPort    = errors.New("the port is none")
	ErrUser    = errors.New("the login user is none")
	ErrKeyFile = errors.New("the key file is no full path of a PPK file, or holds what a registry file cannot")
	ErrHostKey = errors.New("no host key of it is of a kind that this client keeps")
)

// Prefix stands before the instance's name, so that no session of the user's own is written over.
const Prefix = "plumlatch-"

// root is where the client keeps what it knows.
const root = `HKEY_CURRENT_USER\Software\SimonTatham\PuTTY`

var (
	sessionName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$`) // of which none is escaped in a registry key
	fullPath    = regexp.MustCompile(`^(?:[A-Za-z]:\\|\\\\|/)[^"\x00-\x1f\x7f<>|?*]{1,500}$`)
)

// Check tells whether every field can stand in the file.
func (s Session) Check() error {
	switch {
	case !sessionName.MatchString(s.Name):
		return ErrName
	case !s.Address.IsValid() || s.Address.IsUnspecified() || s.Address.Zone() != "":
		return ErrAddress
	case s.Port < 1 || s.Port > 65535:
		return ErrPort
	case !names.LoginUser(s.User):
		return ErrUser
	case !fullPath.MatchString(s.KeyFile) || !strings.EqualFold(path.Ext(s.KeyFile), ".ppk"):
		return ErrKeyFile
	}
	for _, k := range s.HostKeys {
		if _, _, err := HostKey(k); err == nil {
			return nil
		}
	}
	return ErrHostKey
}

// HostKey returns how the client keeps a host key: the word for its kind, which stands before
// "@PORT:ADDRESS" in the value's name, and the value: numbers in hexadecimal, of RSA the exponent
// and the modulus, of ECDSA the curve and the point, of Ed25519 the point's coordinates.
func HostKey(p keypair.Public) (kind, value string, err error) {
	key, err := ssh.ParsePublicKey(p.Blob)
	if err != nil {
		return "", "", err
	}
	crypto, ok := key.(ssh.CryptoPublicKey)
	if !ok {
		return "", "", ErrHostKey
	}
	switch k := crypto.CryptoPublicKey().(type) {
	case *rsa.PublicKey:
		return "rsa2", fmt.Sprintf("0x%x,0x%x", k.E, k.N), nil
	case *ecdsa.PublicKey:
		point, err := k.Bytes() // 4, x, y (SEC 1 section 2.3.3)
		if err != nil {
			return "", "", err
		}
		half := len(point) / 2
		x, y := new(big.Int).SetBytes(point[1:1+half]), new(big.Int).SetBytes(point[1+half:])
		return key.Type(), fmt.Sprintf("%s,0x%x,0x%x", strings.TrimPrefix(key.Type(), "ecdsa-sha2-"), x, y), nil
	}
	if key.Type() != ssh.KeyAlgoED25519 {
		return "", "", ErrHostKey
	}
	var wire struct {
		Type string
		Key  []byte
	}
	if err := ssh.Unmarshal(p.Blob, &wire); err != nil {
		return "", "", err
	}
	x, y, err := edwardsPoint(wire.Key)
	if err != nil {
		return "", "", err
	}
	return key.Type(), fmt.Sprintf("0x%x,0x%x", x, y), nil
}

// edwardsPoint finds the coordinates of an encoded point (RFC 8032 section 5.1.3).
func edwardsPoint(encoded []byte) (x, y *big.Int, err error) {
	if len(encoded) != 32 {
		return nil, nil, errors.New("a point has 32 octets")
	}
	p := new(big.Int).Sub(new(big.Int).Lsh(big.NewInt(1), 255), big.NewInt(19))
	big1 := big.NewInt(1)
	mod := func(v *big.Int) *big.Int { return v.Mod(v, p) }
	// d = -121665/121666
	d := mod(new(big.Int).Mul(big.NewInt(-121665), new(big.Int).ModInverse(big.NewInt(121666), p)))
	// "First, interpret the string as an integer in little-endian representation. Bit 255 of this
	// number is the least significant bit of the x-coordinate"
	b := make([]byte, 32)
	for n := range encoded {
		b[31-n] = encoded[n]
	}
	sign := uint(b[0] >> 7)
	b[0] &= 0x7f
	if y = new(big.Int).SetBytes(b); y.Cmp(p) >= 0 {
		return nil, nil, errors.New("no point is encoded so")
	}
	// "the curve equation implies x^2 = (y^2 - 1) / (d y^2 + 1) (mod p)"
	yy := mod(new(big.Int).Mul(y, y))
	u := mod(new(big.Int).Sub(yy, big1))
	v := mod(new(big.Int).Add(new(big.Int).Mul(d, yy), big1))
	xx := mod(new(big.Int).Mul(u, new(big.Int).ModInverse(v, p)))
	if x = new(big.Int).ModSqrt(xx, p); x == nil || x.Sign() == 0 && sign == 1 {
		return nil, nil, errors.New("no point is encoded so")
	}
	// "if x_0 != x mod 2, set x <-- p - x"
	if x.Bit(0) != sign {
		x.Sub(p, x)
	}
	return x, y, nil
}

// Render writes the sessions as a file for the Registry Editor, version 5.00: UTF-16 in
// little-endian order with a byte-order mark, lines ended by CR LF. It fails with the first
// session that Check refuses.
func Render(all []Session) ([]byte, error) {
	var b strings.Builder
	line := func(format string, a ...any) { fmt.Fprintf(&b, format+"\r\n", a...) }
	line("Windows Registry Editor Version 5.00")
	for _, s := range all {
		if err := s.Check(); err != nil {
			return nil, fmt.Errorf("%s: %w", s.Name, err)
		}
		line("")
		line(`[%s\Sessions\%s%s]`, root, Prefix, s.Name)
		line(`"Present"=dword:00000001`)
		line(`"Protocol"="ssh"`)
		line(`"HostName"=%s`, quoted(s.Address.String()))
		line(`"PortNumber"=dword:%08x`, s.Port)
		line(`"UserName"=%s`, quoted(s.User))
		line(`"PublicKeyFile"=%s`, quoted(s.KeyFile))
		line(`"AgentFwd"=dword:00000000`)
	}
	line("")
	line(`[%s\SshHostKeys]`, root)
	for _, s := range all {
		for _, k := range s.HostKeys {
			kind, value, err := HostKey(k)
			if err != nil {
				continue // another of its keys is kept: Check
			}
			line(`%s=%s`, quoted(fmt.Sprintf("%s@%d:%s", kind, s.Port, s.Address)), quoted(value))
		}
	}
	out := []byte{0xff, 0xfe}
	for _, u := range utf16.Encode([]rune(b.String())) {
		out = binary.LittleEndian.AppendUint16(out, u)
	}
	return out, nil
}

// quoted is a string as a registry file has it.
func quoted(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}
