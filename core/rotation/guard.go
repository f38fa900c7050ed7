package rotation

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Opener is one key at an instance, for one login user, as it was found after
// the last write there.
type Opener struct {
	Key      string // its name
	Person   bool   // held by a person or a team, or by nobody knows whom
	State    string // lost, exposed or retired; "" for in use
	There    bool   // it stands in the files that the server reads
	Forced   bool   // every line of it runs one command
	Excluded bool   // every line of it is for addresses that its holder does not come from
	Ends     bool   // every line of it has an end
	Accepted bool   // the server said so, or a login with it succeeded, after the last write
	// Shown is when its private half was last shown to exist; zero for never.
	Shown time.Time
}

// Way tells whether the opener can be a way in for people at all, whether or
// not it was shown to be one.
func (o Opener) Way() bool {
	return o.Person && o.State != "lost" && o.There && !o.Forced && !o.Excluded && !o.Ends
}

// Session is what is known of the login user getting a session once logged in.
type Session struct {
	// Proven: somebody got one on this server as it is now.
	Proven bool
	// Bars is what was found that would bar it, such as "the shell is /usr/sbin/nologin".
	Bars []string
	// NotSeen is what could bar it and was not seen.
	NotSeen []string
}

// Known tells whether the login user is known to get a session; why says what
// stands against it.
func (s Session) Known() (ok bool, why string) {
	switch {
	case s.Proven:
		return true, ""
	case len(s.Bars) > 0:
		return false, strings.Join(s.Bars, "; ")
	case len(s.NotSeen) > 0:
		return false, "not seen: " + strings.Join(s.NotSeen, "; ")
	}
	return true, ""
}

// ErrLockOut says that a change would leave an instance without a way in for
// people that was shown to work.
var ErrLockOut = errors.New("this would leave no way in for people that was shown to work (rule 1)")

// MayTake tells whether the keys of some names may be narrowed or taken out,
// for one login user. openers are all keys there, as they are after the last
// write, the taken ones among them. A private half counts as there if it was
// shown since shownSince. The error is ErrLockOut with what each other key lacks.
//
// Keys that are no way in for people as they stand (of machines, with a forced
// command, with an end already) may be taken without another.
func MayTake(taken []string, openers []Opener, s Session, shownSince time.Time) error {
	guarded := false
	var lacks []string
	for _, o := range openers {
		if slices.Contains(taken, o.Key) {
			guarded = guarded || o.Way()
			continue
		}
		if lack := o.lacks(shownSince); lack != "" {
			lacks = append(lacks, o.Key+" "+lack)
			continue
		}
		if ok, why := s.Known(); !ok {
			lacks = append(lacks, "whether anybody gets a session is not known ("+why+")")
			continue
		}
		return nil
	}
	if !guarded {
		return nil
	}
	if len(lacks) == 0 {
		lacks = []string{"there is no other key"}
	}
	slices.Sort(lacks)
	return fmt.Errorf("%w: %s", ErrLockOut, strings.Join(slices.Compact(lacks), "; "))
}

// lacks says why an opener is not shown to be a way in, "" if it is.
func (o Opener) lacks(shownSince time.Time) string {
	switch {
	case !o.Person:
		return "is no person's key"
	case o.State != "":
		return "is " + o.State
	case !o.There:
		return "does not stand there"
	case o.Forced:
		return "runs one command only"
	case o.Excluded:
		return "is not taken from where its holder comes from"
	case o.Ends:
		return "has an end"
	case !o.Accepted:
		return "was not accepted after the last change"
	case o.Shown.IsZero():
		return "was never shown to have a private half"
	case o.Shown.Before(shownSince):
		return "was last shown to have a private half on " + o.Shown.UTC().Format("2006-01-02")
	}
	return ""
}
