package times

import (
	"errors"
	"testing"
	"time"
)

func TestSpan(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]time.Duration{
		"1w": 7 * 24 * time.Hour, "2w": 14 * 24 * time.Hour, "90d": 90 * 24 * time.Hour, "0d": 0, "24h": 24 * time.Hour,
		"1h30m": 90 * time.Minute, "45s": 45 * time.Second, "0": 0, "36525d": Max, "5217w": 5217 * 7 * 24 * time.Hour,
	} {
		if got, err := Span(text); err != nil || got != want {
			t.Errorf("%s is %v, %v", text, got, err)
		}
	}
	for _, text := range []string{"", "w", "d", "1", "-1d", "-1h", "1.5d", "+1d", "36526d", "5218w", "99999999999999999999d",
		"1 d", "soon", "1y", "1e3d"} {
		if got, err := Span(text); !errors.Is(err, ErrSpan) {
			t.Errorf("%q is %v, %v", text, got, err)
		}
	}
}

func TestEnd(t *testing.T) {
	t.Parallel()
	zone := time.FixedZone("CET", 3600)
	now := time.Date(2026, 11, 30, 17, 30, 0, 0, zone)
	for text, want := range map[string]string{
		"18:00":                     "2026-11-30 18:00 CET",
		"17:30":                     "2026-12-01 17:30 CET", // now itself has passed
		"08:15":                     "2026-12-01 08:15 CET",
		"2026-12-01":                "2026-12-01 23:59 CET",
		"2026-11-30":                "2026-11-30 23:59 CET", // today
		"2026-12-01 06:00":          "2026-12-01 06:00 CET",
		"2026-12-01T06:00":          "2026-12-01 06:00 CET",
		"2026-12-01T06:00:00Z":      "2026-12-01 06:00 UTC",
		" 2026-12-01T06:00:00Z ":    "2026-12-01 06:00 UTC",
		"2026-12-01T06:00:00+02:00": "2026-12-01 06:00 +0200",
	} {
		if got, err := End(text, now); err != nil || Show(got) != want {
			t.Errorf("%s is %s, %v, and not %s", text, Show(got), err, want)
		}
	}
	for text, want := range map[string]error{"": ErrEnd, "tomorrow": ErrEnd, "25:00": ErrEnd, "2026-13-01": ErrEnd,
		"2026-02-30": ErrEnd, "18": ErrEnd, "2026-11-29": ErrPassed, "2026-11-30 17:30": ErrPassed,
		"2020-01-01T00:00:00Z": ErrPassed} {
		if got, err := End(text, now); !errors.Is(err, want) || !got.IsZero() {
			t.Errorf("%q is %v, %v", text, got, err)
		}
	}
}

// TestDaysThatAreNot24Hours: where clocks are put forward, 18:00 and the end of the day are still those.
func TestDaysThatAreNot24Hours(t *testing.T) {
	t.Parallel()
	zone, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Skip("this machine has no zones")
	}
	now := time.Date(2026, 3, 28, 19, 0, 0, 0, zone) // the night after, 02:00 becomes 03:00
	if got, err := End("18:00", now); err != nil || got.Sub(now) != 22*time.Hour {
		t.Errorf("%v, %v", got, err)
	}
	if got, err := End("2026-03-29", now); err != nil || Show(got) != "2026-03-29 23:59 CEST" {
		t.Errorf("%v, %v", Show(got), err)
	}
}

func TestLength(t *testing.T) {
	t.Parallel()
	for d, want := range map[time.Duration]string{
		168 * time.Hour: "7 days", 24 * time.Hour: "1 day", 36 * time.Hour: "1 day 12 hours", time.Hour: "1 hour",
		90 * time.Minute: "1 hour 30 minutes", time.Minute: "1 minute", 61 * time.Second: "1 minute 1 second",
		45 * time.Second: "45 seconds", time.Second: "1 second", 1040835 * time.Microsecond: "1 second",
		0: "less than a second", -time.Hour: "less than a second",
		24*time.Hour + 5*time.Minute: "1 day", // the third unit tells nobody anything
	} {
		if got := Length(d); got != want {
			t.Errorf("%v is %s, and not %s", d, got, want)
		}
	}
}

func FuzzEnd(f *testing.F) {
	for _, s := range []string{"18:00", "2026-12-01", "2026-12-01T06:00:00Z", "2026-12-01 06:00", "x"} {
		f.Add(s)
	}
	now := time.Date(2026, 11, 30, 17, 30, 0, 0, time.UTC)
	f.Fuzz(func(t *testing.T, s string) {
		if at, err := End(s, now); (err == nil) != at.After(now) {
			t.Errorf("%q is %v, %v", s, at, err)
		}
	})
}
