package savedsessions

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"math/big"
	"net/netip"
	"strings"
	"testing"
	"unicode/utf16"

	"golang.org/x/crypto/ssh"

	"plumlatch/core/keypair"
)

func publicOf(t *testing.T, key any) keypair.Public {
	t.Helper()
	k, err := ssh.NewPublicKey(key)
	if err != nil {
		t.Fatal(err)
	}
	return keypair.Public{Blob: k.Marshal()}
}

// The base point of Curve25519's twisted Edwards form, whose coordinates RFC 8032 section 5.1 gives.
func TestEdwardsPoint(t *testing.T) {
	y, _ := hex.DecodeString("5866666666666666666666666666666666666666666666666666666666666666")
	px, py, err := edwardsPoint(y)
	if err != nil {
		t.Fatal(err)
	}
	if px.String() != "15112221349535400772501151409588531511454012693041857206046113283949847762202" ||
		py.String() != "46316835694926478169428394003475163141307993866256225615783033603165251855960" {
		t.Errorf("%d, %d", px, py)
	}
	y[31] |= 0x80 // the point below
	below, _, err := edwardsPoint(y)
	p := new(big.Int).Sub(new(big.Int).Lsh(big.NewInt(1), 255), big.NewInt(19))
	if err != nil || new(big.Int).Add(px, below).Cmp(p) != 0 {
		t.Errorf("%d, %v", below, err)
	}
	for _, bad := range [][]byte{nil, make([]byte, 31), []byte(strings.Repeat("\xff", 32)),
		append([]byte{2}, make([]byte, 31)...)} {
		if _, _, err := edwardsPoint(bad); err == nil {
			t.Errorf("%x is a point", bad)
		}
	}
	// Every point that a key is lies on the curve: -x^2 + y^2 = 1 + d x^2 y^2.
	d, _ := new(big.Int).SetString("37095705934669439343138083508754565189542113879843219016388785533085940283555", 10)
	for range 50 {
		public, _, _ := ed25519.GenerateKey(rand.Reader)
		x, y, err := edwardsPoint(public)
		if err != nil {
			t.Fatal(err)
		}
		xx, yy := new(big.Int).Mul(x, x), new(big.Int).Mul(y, y)
		left := new(big.Int).Sub(yy, xx)
		right := new(big.Int).Add(big.NewInt(1), new(big.Int).Mul(d, new(big.Int).Mul(xx, yy)))
		if new(big.Int).Mod(new(big.Int).Sub(left, right), p).Sign() != 0 {
			t.Fatalf("%x is not on the curve", public)
		}
	}
}

func TestHostKey(t *testing.T) {
	r := &rsa.PublicKey{N: new(big.Int).Lsh(big.NewInt(0xabc), 2040), E: 65537}
	kind, value, err := HostKey(publicOf(t, r))
	if err != nil || kind != "rsa2" || value != "0x10001,0xabc"+strings.Repeat("0", 510) {
		t.Errorf("%s %s %v", kind, value, err)
	}
	e, _ := ecdsa.GenerateKey(elliptic.P384(), rand.Reader)
	point, _ := e.PublicKey.Bytes()
	want := fmt.Sprintf("nistp384,0x%x,0x%x", new(big.Int).SetBytes(point[1:49]), new(big.Int).SetBytes(point[49:]))
	if kind, value, err = HostKey(publicOf(t, &e.PublicKey)); err != nil || kind != "ecdsa-sha2-nistp384" || value != want {
		t.Errorf("%s %s %v", kind, value, err)
	}
	if _, _, err := HostKey(keypair.Public{Blob: []byte("nothing")}); err == nil {
		t.Error("nothing is a host key")
	}
}

func session(t *testing.T) Session {
	public, _, _ := ed25519.GenerateKey(rand.Reader)
	return Session{Name: "berth-board-1", Address: netip.MustParseAddr("192.0.2.7"), Port: 2222, User: "debian",
		KeyFile: `C:\Users\night crew\keys\night-crew.ppk`, HostKeys: []keypair.Public{publicOf(t, public)}}
}

func TestRender(t *testing.T) {
	s := session(t)
	data, err := Render([]Session{s})
	if err != nil {
		t.Fatal(err)
	}
	if data[0] != 0xff || data[1] != 0xfe {
		t.Error("no byte-order mark")
	}
	var units []uint16
	for n := 2; n < len(data); n += 2 {
		units = append(units, binary.LittleEndian.Uint16(data[n:]))
	}
	text := string(utf16.Decode(units))
	for _, want := range []string{"Windows Registry Editor Version 5.00\r\n\r\n[", `\Sessions\plumlatch-berth-board-1]` + "\r\n",
		`"HostName"="192.0.2.7"`, `"PortNumber"=dword:000008ae`, `"UserName"="debian"`,
		`"PublicKeyFile"="C:\\Users\\night crew\\keys\\night-crew.ppk"`, `"ssh-ed25519@2222:192.0.2.7"="0x`} {
		if !strings.Contains(text, want) {
			t.Errorf("%q lacks %q", text, want)
		}
	}
	if strings.Count(text, "\n") != strings.Count(text, "\r\n") {
		t.Error("a line ends without a carriage return")
	}
}

func TestCheck(t *testing.T) {
	for what, c := range map[string]struct {
		spoil func(*Session)
		want  error
	}{
		"a name with a backslash": {func(s *Session) { s.Name = `a\b` }, ErrName},
		"a name with a bracket":   {func(s *Session) { s.Name = "a]b" }, ErrName},
		"no name":                 {func(s *Session) { s.Name = "" }, ErrName},
		"no address":              {func(s *Session) { s.Address = netip.Addr{} }, ErrAddress},
		"an address of a zone":    {func(s *Session) { s.Address = netip.MustParseAddr("fe80::1%eth0") }, ErrAddress},
		"no port":                 {func(s *Session) { s.Port = 0 }, ErrPort},
		"a user with a quote":     {func(s *Session) { s.User = `de"bian` }, ErrUser},
		"a user of two lines":     {func(s *Session) { s.User = "a\r\nb" }, ErrUser},
		"a relative path":         {func(s *Session) { s.KeyFile = "night-crew.ppk" }, ErrKeyFile},
		"a path with a quote":     {func(s *Session) { s.KeyFile = `C:\a"b.ppk` }, ErrKeyFile},
		"a path of two lines":     {func(s *Session) { s.KeyFile = "C:\\a\r\nb.ppk" }, ErrKeyFile},
		"another format":          {func(s *Session) { s.KeyFile = `C:\night-crew.pem` }, ErrKeyFile},
		"no host key":             {func(s *Session) { s.HostKeys = nil }, ErrHostKey},
	} {
		s := session(t)
		c.spoil(&s)
		if err := s.Check(); !errors.Is(err, c.want) {
			t.Errorf("%s: %v", what, err)
		}
		if _, err := Render([]Session{session(t), s}); !errors.Is(err, c.want) {
			t.Errorf("%s was written: %v", what, err)
		}
	}
}
