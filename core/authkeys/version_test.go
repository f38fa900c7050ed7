package authkeys

import (
	"errors"
	"testing"
	"time"
)

func TestParseVersion(t *testing.T) {
	for banner, want := range map[string]Version{
		"SSH-2.0-OpenSSH_9.2p1 Debian-2+deb12u3": {9, 2},
		"SSH-2.0-OpenSSH_10.0":                   {10, 0},
		"SSH-2.0-OpenSSH_7.6p1":                  {7, 6},
		"SSH-2.0-mooring_1.0":                    {},
		"SSH-2.0-OpenSSH":                        {},
		"SSH-2.0-OpenSSH_for_Piers_8.1":          {},
		"":                                       {},
	} {
		if got := ParseVersion(banner); got != want {
			t.Errorf("%q: %v, want %v", banner, got, want)
		}
	}
}

func TestExpiryByVersionAndClock(t *testing.T) {
	at := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	east := time.FixedZone("east", 3*3600)
	for _, c := range []struct {
		v    Version
		zone *time.Location
		skew time.Duration
		want string
		err  error
	}{
		{Version{9, 2}, nil, 0, "20260301120000Z", nil},
		{Version{9, 1}, east, 0, "20260301120000Z", nil},
		{Version{9, 2}, nil, 90 * time.Second, "20260301120130Z", nil},
		{Version{9, 0}, east, 0, "20260301150000", nil},
		{Version{7, 7}, east, -time.Minute, "20260301145900", nil},
		{Version{8, 9}, nil, 0, "", ErrZone},
		{Version{7, 6}, east, 0, "", ErrTooOld},
		{Version{}, east, 0, "", ErrVersion},
	} {
		got, err := Expiry(c.v, at, c.zone, c.skew)
		if got != c.want || !errors.Is(err, c.err) {
			t.Errorf("%v, %v: %q, %v; want %q, %v", c.v, c.zone, got, err, c.want, c.err)
		}
		if err != nil {
			continue
		}
		// The server, by its own zone and clock, lets the key in just until then.
		zone := time.UTC
		if c.zone != nil {
			zone = c.zone
		}
		lines := Parse([]byte(`expiry-time="`+got+`" `+keyA), zone)
		theirs := at.Add(c.skew)
		if !Decide(lines, blobOf(keyA), "192.0.2.1", theirs).Allowed ||
			Decide(lines, blobOf(keyA), "192.0.2.1", theirs.Add(time.Second)).Allowed {
			t.Errorf("%v: %q does not end at %v by the server's clock", c.v, got, theirs)
		}
	}
}

func TestCheckOptions(t *testing.T) {
	for _, c := range []struct {
		v       Version
		options string
		want    error
	}{
		{Version{9, 2}, StewardOptions, nil},
		{Version{7, 2}, StewardOptions, nil},
		{Version{7, 1}, StewardOptions, ErrTooOld},
		{Version{}, StewardOptions, ErrVersion},
		{Version{}, "no-pty", nil},
		{Version{8, 4}, `expiry-time="20260301120000"`, nil},
		{Version{8, 4}, `expiry-time="20260301120000Z"`, ErrTooOld},
		{Version{7, 4}, `restrict,expiry-time="20260301"`, ErrTooOld},
		{Version{9, 9}, "frobnicate", ErrOption},
	} {
		if err := CheckOptions(c.v, c.options); !errors.Is(err, c.want) {
			t.Errorf("%v %s: %v, want %v", c.v, c.options, err, c.want)
		}
	}
}
