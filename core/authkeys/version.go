package authkeys

import (
	"errors"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Version is a release of OpenSSH's portable sshd, as its identification
// string tells (RFC 4253 section 4.2). The zero Version is not known.
type Version struct{ Major, Minor int }

var bannerVersion = regexp.MustCompile(`^SSH-2\.0-OpenSSH_(\d{1,2})\.(\d{1,2})`)

// ParseVersion reads the version out of an identification string such as
// "SSH-2.0-OpenSSH_9.2p1 Debian-2+deb12u3". Another server than OpenSSH, or one
// that hides its version, gives the zero Version.
func ParseVersion(banner string) Version {
	m := bannerVersion.FindStringSubmatch(banner)
	if m == nil {
		return Version{}
	}
	major, _ := strconv.Atoi(m[1])
	minor, _ := strconv.Atoi(m[2])
	return Version{major, minor}
}

// Known tells whether the version is known.
func (v Version) Known() bool { return v != Version{} }

func (v Version) atLeast(major, minor int) bool {
	return v.Major > major || v.Major == major && v.Minor >= minor
}

// Errors of Expiry and CheckOptions.
var (
	// ErrVersion: it is not known which options the server reads.
	ErrVersion = errors.New("the server's version is not known, and one that does not know an option refuses the " +
		"whole line")
	// ErrTooOld: the server does not know an option, and would refuse the line.
	ErrTooOld = errors.New("the server's sshd is too old for this option, and would refuse the whole line")
	// ErrZone: the time has to be written in the server's own zone, which is not known.
	ErrZone = errors.New("this sshd reads an expiry-time in its own time zone only, and that is not known")
)

// Expiry returns an expiry-time value that this server reads as the instant t:
// in UTC with a final Z since OpenSSH 9.1, in the server's own zone from 7.7
// on (zone may be nil where it is not known; then ErrZone). Before that there
// is no such option: ErrTooOld. skew is how far the server's clock is ahead of
// ours; the result is by its clock.
func Expiry(v Version, t time.Time, zone *time.Location, skew time.Duration) (string, error) {
	t = t.Add(skew)
	switch {
	case !v.Known():
		return "", ErrVersion
	case v.atLeast(9, 1):
		return FormatTime(t), nil
	case !v.atLeast(7, 7):
		return "", ErrTooOld
	case zone == nil:
		return "", ErrZone
	}
	return t.In(zone).Format("20060102150405"), nil
}

// CheckOptions returns nil if the server reads every option of a line that
// Plum Latch writes, by version: restrict since 7.2, expiry-time since 7.7, its
// final Z since 9.1. ErrVersion, ErrTooOld, or what parsing the options gives.
func CheckOptions(v Version, options string) error {
	o, err := parseOptions(options, time.UTC)
	if err != nil {
		return err
	}
	lower := strings.ToLower(options)
	needs := Version{}
	for _, c := range []struct {
		used  bool
		since Version
	}{
		{strings.Contains(lower, "restrict"), Version{7, 2}},
		{!o.Expires.IsZero(), Version{7, 7}},
		{!o.Expires.IsZero() && strings.Contains(lower, `z"`), Version{9, 1}},
	} {
		if c.used && c.since.atLeast(needs.Major, needs.Minor) {
			needs = c.since
		}
	}
	switch {
	case !needs.Known():
		return nil
	case !v.Known():
		return ErrVersion
	case !v.atLeast(needs.Major, needs.Minor):
		return ErrTooOld
	}
	return nil
}
