// Package times reads and writes times and lengths of time as people do: "1w", "18:00",
// "2026-12-01", "7 days". Every command and every text shows a time in one form, with its zone.
//
// It knows no clock: whoever calls says what time it is, and in which zone.
package times

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Max is the longest length of time that is read: 100 years.
const Max = 36525 * 24 * time.Hour

// ErrSpan says that a text is no length of time.
var ErrSpan = errors.New("give a time such as 90d, 1w, 24h or 30m")

// ErrEnd says that a text is no time at which something can end.
var ErrEnd = errors.New("give a time such as 18:00, 2026-12-24 (to the end of that day), '2026-12-24 18:00' (both " +
	"here), or 2026-12-24T18:00:00Z")

// ErrPassed says that a time has passed.
var ErrPassed = errors.New("that time has passed")

// Span reads a length of time: whole weeks (1w), whole days (90d), or what Go writes (24h, 1h30m),
// from 0 to Max. ErrSpan.
func Span(text string) (time.Duration, error) {
	for _, unit := range []struct {
		suffix string
		length time.Duration
	}{{"w", 7 * 24 * time.Hour}, {"d", 24 * time.Hour}} {
		if count, ok := strings.CutSuffix(text, unit.suffix); ok {
			n, err := strconv.Atoi(count)
			if err != nil || n < 0 || strings.HasPrefix(count, "+") || n > int(Max/unit.length) {
				return 0, ErrSpan
			}
			return time.Duration(n) * unit.length, nil
		}
	}
	d, err := time.ParseDuration(text)
	if err != nil || d < 0 || d > Max {
		return 0, ErrSpan
	}
	return d, nil
}

// End reads the time at which something is to end. Where the text names no zone, that of now is meant:
// "18:00" is the next time that clocks show it, and a date alone lasts to the end of its day.
// ErrEnd; ErrPassed for a time that is not after now.
func End(text string, now time.Time) (time.Time, error) {
	at, err := end(strings.TrimSpace(text), now)
	if err == nil && !at.After(now) {
		return time.Time{}, ErrPassed
	}
	return at, err
}

func end(text string, now time.Time) (time.Time, error) {
	if at, err := time.Parse(time.RFC3339, text); err == nil {
		return at, nil
	}
	if at, err := time.Parse("15:04", text); err == nil {
		y, m, d := now.Date()
		today := time.Date(y, m, d, at.Hour(), at.Minute(), 0, 0, now.Location())
		if today.After(now) {
			return today, nil
		}
		return time.Date(y, m, d+1, at.Hour(), at.Minute(), 0, 0, now.Location()), nil
	}
	for _, layout := range []string{"2006-01-02 15:04", "2006-01-02T15:04"} {
		if at, err := time.ParseInLocation(layout, text, now.Location()); err == nil {
			return at, nil
		}
	}
	if at, err := time.ParseInLocation("2006-01-02", text, now.Location()); err == nil {
		y, m, d := at.Date()
		return time.Date(y, m, d, 23, 59, 59, 0, now.Location()), nil // a day has not 24 hours everywhere
	}
	return time.Time{}, ErrEnd
}

// Show is a time, to the minute, in its own zone, and that zone's name: "2026-12-01 18:00 CET". Use
// t.Local() for who sits at a terminal, and t.UTC() for what is kept, or read by many.
func Show(t time.Time) string { return t.Format("2006-01-02 15:04 MST") }

// ShowLong is Show to the second.
func ShowLong(t time.Time) string { return t.Format("2006-01-02 15:04:05 MST") }

// Length is a length of time in words, in at most two units: "7 days", "1 hour 30 minutes",
// "45 seconds". Below a second it is "less than a second".
func Length(d time.Duration) string {
	d = max(d, 0)
	if d < time.Second {
		return "less than a second"
	}
	units := []struct {
		name   string
		length time.Duration
	}{{"day", 24 * time.Hour}, {"hour", time.Hour}, {"minute", time.Minute}, {"second", time.Second}}
	for n, u := range units {
		if d < u.length {
			continue
		}
		out := count(int(d/u.length), u.name)
		if n+1 < len(units) {
			if rest := int(d % u.length / units[n+1].length); rest > 0 {
				out += " " + count(rest, units[n+1].name)
			}
		}
		return out
	}
	return ""
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
