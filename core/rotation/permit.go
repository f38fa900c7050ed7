package rotation

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"plumlatch/core/authkeys"
)

// Context is context.Context.
type Context = context.Context

// Permit lets the safe edit take or narrow lines of certain keys, on one
// instance, for one login user, in files that are as they were judged. Only the
// guard makes one (Judge), and Own for the service's own keys. The zero Permit
// lets an edit add and widen, and take nothing from anybody.
type Permit struct{ g *grant }

type grant struct {
	instance int64
	user     string
	blobs    [][]byte
	lines    []string // the only lines that may go; nil for every line of the keys
	own      bool     // the service's own keys: judged by their line's form
	lent     bool     // of those, only lines, just as they were written
	files    map[string][]byte
	until    time.Time
	confirm  func(context.Context) error
	rests    []Rest
	cutOff   bool
	spent    map[string]bool
}

// Rest is a key that a permit rests on, as it was judged: the taken ones, and
// those that stay as a way in.
type Rest struct {
	ID int64
	Mark
	Shown time.Time
}

// Errors of a Permit.
var (
	// ErrNoPermit: the edit takes something that it has no permit for.
	ErrNoPermit = errors.New("nothing permits that this line is narrowed or taken out")
	// ErrStale: the file is not as it was judged. Judge it again.
	ErrStale = errors.New("the file is not as it was when the guard judged it")
	// ErrEnded: the permit has ended, or has been used. Ask the guard again.
	ErrEnded = errors.New("the permit has ended")
)

// Own is the permit for keys of the service's own: stewards' keys, and keys that
// it made for a piece of work. Their lines stand in nobody's way: an edit under it
// takes a line only if it has a forced command, as every line of a steward has, or
// if it is one of lines, just as the service wrote it.
func Own(blob []byte, lines ...string) Permit {
	return Permit{&grant{own: true, blobs: [][]byte{bytes.Clone(blob)}, lines: lines, spent: map[string]bool{}}}
}

// Unread is the permit to take lines of ours out again of a file that no server
// has read since they were added: on a volume that was not booted from meanwhile.
// Nobody can have come to rely on them.
func Unread(lines ...string) Permit {
	g := &grant{own: true, lines: lines, spent: map[string]bool{}}
	for _, l := range lines {
		for _, p := range authkeys.Parse([]byte(l), time.UTC) {
			g.blobs = append(g.blobs, p.Blob)
		}
	}
	return Permit{g}
}

// Lent is the permit to take lines out again, just as the service wrote them, that
// let keys into a rescue instance for one piece of work, a person's key among them.
// Each is restricted (sshd(8), "restrict"), and the guard counts none as a way in;
// a line without that is not covered.
func Lent(lines ...string) Permit {
	g := &grant{own: true, lent: true, lines: lines, spent: map[string]bool{}}
	for _, l := range lines {
		for _, p := range authkeys.Parse([]byte(l), time.UTC) {
			if p.Err == nil && p.Options.NoPTY {
				g.blobs = append(g.blobs, p.Blob)
			}
		}
	}
	return Permit{g}
}

// Rests returns the recorded keys that the permit rests on.
func (p Permit) Rests() []Rest {
	if p.g == nil {
		return nil
	}
	return slices.Clone(p.g.rests)
}

// CutsOff tells that nobody is known to get in after the write, as was counted out.
func (p Permit) CutsOff() bool { return p.g != nil && p.g.cutOff }

// Files returns the names of the files that were judged, with what stood in them.
func (p Permit) Files() map[string][]byte {
	if p.g == nil {
		return nil
	}
	return maps.Clone(p.g.files)
}

// Covers judges the edit that turns before into after: whatever it takes from a
// key must be permitted, and the file must begin as it was judged (what others
// have appended since only adds). ErrNoPermit, ErrStale, ErrEnded.
func (p Permit) Covers(file string, before, after []byte, now time.Time) error {
	losses, others := authkeys.Losses(before, after)
	switch {
	case others:
		return fmt.Errorf("%w: a line that is nobody's key would go", ErrNoPermit)
	case len(losses) == 0:
		return nil
	case p.g == nil:
		return fmt.Errorf("%w: %s", ErrNoPermit, authkeys.Name(losses[0].Blob))
	}
	for _, l := range losses {
		if !slices.ContainsFunc(p.g.blobs, func(b []byte) bool { return bytes.Equal(b, l.Blob) }) {
			return fmt.Errorf("%w: %s", ErrNoPermit, authkeys.Name(l.Blob))
		}
		for _, line := range l.Lines {
			if !p.g.allows(line) {
				return fmt.Errorf("%w: a line of %s that is not as we wrote it", ErrNoPermit, authkeys.Name(l.Blob))
			}
		}
	}
	if p.g.own {
		return nil
	}
	judged, ok := p.g.files[file]
	switch {
	case p.g.spent[file] || now.After(p.g.until):
		return ErrEnded
	case !ok || !bytes.HasPrefix(before, judged):
		return fmt.Errorf("%s: %w", file, ErrStale)
	}
	return nil
}

func (g *grant) allows(line string) bool {
	if slices.Contains(g.lines, line) {
		return true
	}
	if !g.own || g.lent {
		return !g.lent && len(g.lines) == 0
	}
	for _, l := range authkeys.Parse([]byte(line), time.UTC) {
		// One that sshd does not read lets nobody in either.
		if l.Err == nil && !(l.Options.HasCommand && l.Options.NoPTY) {
			return false
		}
	}
	return true
}

// Confirm asks, right before the file is replaced, whether everything that the
// permit rests on is still so. others are the other files that were judged, as
// they stand now. ErrEnded, ErrStale, or what the asker says.
func (p Permit) Confirm(ctx context.Context, others map[string][]byte, now time.Time) error {
	if p.g == nil || p.g.own {
		return nil
	}
	if now.After(p.g.until) {
		return ErrEnded
	}
	for file, data := range others {
		if judged, ok := p.g.files[file]; ok && !p.g.spent[file] && !bytes.HasPrefix(data, judged) {
			return fmt.Errorf("%s: %w", file, ErrStale)
		}
	}
	return p.g.confirm(ctx)
}

// Spend notes that a file was written: the permit holds for one write of it.
func (p Permit) Spend(file string) {
	if p.g != nil && !p.g.own {
		p.g.spent[file] = true
	}
}

// Same tells whether the keys that a permit rests on are still what they were.
// The error names the first that is not.
func Same(judged []Rest, now []Rest) error {
	for _, j := range judged {
		if j.ID == 0 {
			continue
		}
		n := slices.IndexFunc(now, func(r Rest) bool { return r.ID == j.ID })
		if n < 0 || now[n].Mark != j.Mark || now[n].Shown.Before(j.Shown) {
			return fmt.Errorf("%w: a key that the guard judged by is another now (key %d)", ErrStale, j.ID)
		}
	}
	return nil
}

// words for logs and tests
func (p Permit) String() string {
	if p.g == nil {
		return "no permit"
	}
	var names []string
	for _, b := range p.g.blobs {
		names = append(names, authkeys.Name(b))
	}
	return "permit for " + strings.Join(names, ", ")
}
