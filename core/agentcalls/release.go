package agentcalls

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"plumlatch/core/keypair"
)

// Release is one version of the agent's program. It is signed with a key that is kept away from the service, and that each instance has pinned in its
// owner's file: so whoever has the service cannot give an agent another program.
type Release struct {
	Version int    // a whole number that grows
	Arch    string // as uname(1) says it: "x86_64"
	SHA256  string // of the program, in hexadecimal
	Size    int64  // in bytes
}

// ReleaseNamespace is what a release is signed for (PROTOCOL.sshsig).
const ReleaseNamespace = "release@plumlatch"

// MaxProgram is the largest program that an agent takes, in bytes.
const MaxProgram = 128 << 20

// ErrRelease says that a release is none, or is not signed by the key that is pinned.
var ErrRelease = errors.New("it is no release that the pinned key has signed")

const releaseBegin = "plumlatch agent release"

// Text is what is signed, a field a line.
func (r Release) Text() string {
	return fmt.Sprintf("%s\nversion %d\narch %s\nsha256 %s\nsize %d\n", releaseBegin, r.Version, r.Arch, r.SHA256, r.Size)
}

// ReadRelease reads what Text writes. ErrRelease.
func ReadRelease(text string) (r Release, err error) {
	lines := strings.Split(text, "\n")
	if len(lines) != 6 || lines[0] != releaseBegin || lines[5] != "" {
		return r, ErrRelease
	}
	var values []string
	for n, name := range []string{"version", "arch", "sha256", "size"} {
		value, ok := strings.CutPrefix(lines[n+1], name+" ")
		if !ok {
			return r, ErrRelease
		}
		values = append(values, value)
	}
	r.Arch, r.SHA256 = values[1], values[2]
	var bad, odd error
	r.Version, bad = strconv.Atoi(values[0])
	r.Size, odd = strconv.ParseInt(values[3], 10, 64)
	if bad != nil || odd != nil || r.Version < 1 || r.Size < 1 || r.Size > MaxProgram || !hexSum.MatchString(r.SHA256) || r.Text() != text { // each number in one way
		return Release{}, ErrRelease
	}
	return r, nil
}

// CheckRelease reads a release that a key has signed. ErrRelease.
func CheckRelease(text, signature string, key keypair.Public) (Release, error) {
	if key.Verify([]byte(signature), ReleaseNamespace, []byte(text)) != nil {
		return Release{}, ErrRelease
	}
	return ReadRelease(text)
}

// UpgradeArgs are the arguments of upgrade; the program follows on the channel.
type UpgradeArgs struct {
	Release   string `json:"release"`   // Release.Text
	Signature string `json:"signature"` // armored
}

// Upgrading says that an upgrade was taken: the agent tries the new program now, and comes back with it, or with the old one.
type Upgrading struct {
	From int `json:"from"`
	To   int `json:"to"`
}
