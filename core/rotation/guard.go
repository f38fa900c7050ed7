package rotation

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumlatch/core/times"
)

// Opener is one key at an instance, for one login user, as it was found after
// the last write there. Keys are told apart by their blob, and by their ID where
// they are recorded; names are for sentences only.
type Opener struct {
	ID   int64  // of the key; 0 for one that nobody recorded
	Blob []byte // RFC 4253 section 6.6
	Key  string // what a sentence calls it

	Mark
	There    bool // it stands in the files that the server reads, in a line that sshd takes
	Forced   bool // every line of it runs one command
	Excluded bool // every line of it is for certain addresses
	Ends     bool // every line of it has an end
	// Accepted: the server said so after the last write. Refused: it said that it
	// would not; with neither, it was not asked or did not answer.
	Accepted, Refused bool
	// Shown is when its private half was last shown to exist; zero for never. Within:
	// that was within the piece of work that asks.
	Shown  time.Time
	Within bool
}

// Mark is what people have said of a key.
type Mark struct {
	// Holder is what its holder is: person, team, machine, job; "" where nobody
	// knows whom it belongs to.
	Holder string `json:"holder"`
	State  string `json:"state"` // lost, exposed or retired; "" for in use
}

// person tells whether the key is a person's; one whose holder nobody knows may be.
func (m Mark) mayBePerson() bool { return m.Holder != "machine" && m.Holder != "job" }

// guarded tells whether a key of this mark is not taken without another: lost
// ones are no way in, by their holder's own word.
func (m Mark) guarded() bool { return m.mayBePerson() && m.State != "lost" }

// opens tells whether taking the key can take anything from anybody: it stands
// there, and nothing shows that the server does not take it from anywhere.
func (o Opener) opens() bool { return o.There && !(o.Refused && !o.Excluded) }

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
	case len(s.Bars) > 0: // what is there now, whatever was so before
		return false, strings.Join(s.Bars, "; ")
	case s.Proven:
		return true, ""
	case len(s.NotSeen) > 0:
		return false, "not seen: " + strings.Join(s.NotSeen, "; ")
	}
	return true, ""
}

// Errors of Judge.
var (
	// ErrLockOut says that a change would leave an instance without a way in for
	// people that was shown to work.
	ErrLockOut = errors.New("this would leave no way in for people that was shown to work (rule 1)")
	// ErrNotThere: a key that is to be taken is not among what was found. It guards
	// nothing then, and nothing is taken.
	ErrNotThere = errors.New("a key that is to be taken was not found there")
	// ErrQuestion: the question is not complete, so there is no answer.
	ErrQuestion = errors.New("the guard was not told everything")
)

// Taking is a key that is to be narrowed or taken out.
type Taking struct {
	ID   int64 // of the key; 0 for one that nobody recorded
	Blob []byte
	// Was is what the key was when the work began. It is guarded by that as well as
	// by what it is now, so that a mark set meanwhile is no way round the guard.
	Was Mark
}

// Question is what the guard judges.
type Question struct {
	Instance  int64
	LoginUser string
	Taken     []Taking
	// Openers are all keys there as they are after the last write, the taken ones
	// among them, and without the service's own.
	Openers []Opener
	Session Session
	// ShownSince: a private half counts as there if it was shown since then.
	ShownSince time.Time
	// CutOff: this instance was counted out, by number, as one that nobody gets
	// into afterwards.
	CutOff bool
	// Files are the files that the server reads for the user, as they were judged.
	Files map[string][]byte
	// Lines, if it is not empty, are the only lines that may go: ours, just as we
	// wrote them.
	Lines []string
	// Until is when the permit ends.
	Until time.Time
	// Confirm is asked right before the write whether everything that the answer
	// rests on is still so.
	Confirm func(context Context) error
}

// Judge answers whether keys may be narrowed or taken out of an instance's files
// (rule 1). Its permit is the only thing that lets the safe edit do it, holds for
// one write of each file, and ends soon. The error is ErrLockOut with what each
// other key lacks, ErrNotThere, or ErrQuestion.
//
//   - What a person has, or may have, is taken only if another key that a person
//     is known to hold was shown to be a way in after the last write.
//   - Whatever is taken, at least one key must be left that the server takes: a mark
//     that somebody sets is no way round the guard.
//   - Keys that open nothing as they stand are taken freely: expired, refused
//     without a limit on addresses, not read by sshd.
func Judge(q Question) (Permit, error) {
	if q.Instance == 0 || q.LoginUser == "" || len(q.Taken) == 0 || q.Confirm == nil ||
		q.Until.IsZero() || q.Files == nil {
		return Permit{}, ErrQuestion
	}
	takes := func(blob []byte) bool {
		return slices.ContainsFunc(q.Taken, func(t Taking) bool { return bytes.Equal(t.Blob, blob) })
	}
	guarded, opens := false, false
	for _, t := range q.Taken {
		n := slices.IndexFunc(q.Openers, func(o Opener) bool { return bytes.Equal(o.Blob, t.Blob) })
		if n < 0 || t.ID != 0 && q.Openers[n].ID != t.ID {
			return Permit{}, ErrNotThere
		}
		if o := q.Openers[n]; o.opens() {
			opens = true
			guarded = guarded || !o.Forced && (o.guarded() || t.Was.guarded())
		}
	}
	var lacks []string
	var rests []Rest
	left := false
	for _, o := range q.Openers {
		if takes(o.Blob) {
			rests = append(rests, Rest{o.ID, o.Mark, o.Shown})
			continue
		}
		left = left || o.There && o.Accepted
		if lack := o.lacks(q.ShownSince); lack != "" {
			if o.ID == 0 { // there may be many
				o.Key, lack = "what nobody recorded", "does not count"
			}
			lacks = append(lacks, o.Key+" "+lack)
			continue
		}
		if ok, why := q.Session.Known(); !ok {
			lacks = append(lacks, "whether anybody gets a session is not known ("+why+")")
			continue
		}
		rests = append(rests, Rest{o.ID, o.Mark, o.Shown})
		guarded = false
	}
	if opens && !q.CutOff {
		if len(lacks) == 0 {
			lacks = []string{"there is no other key"}
		}
		slices.Sort(lacks)
		why := strings.Join(slices.Compact(lacks), "; ")
		switch {
		case guarded:
			return Permit{}, fmt.Errorf("%w: %s", ErrLockOut, why)
		case !left:
			return Permit{}, fmt.Errorf("%w: no key would be left that the server takes: %s", ErrLockOut, why)
		}
	}
	g := &grant{instance: q.Instance, user: q.LoginUser, files: q.Files, lines: q.Lines, until: q.Until,
		confirm: q.Confirm, rests: rests, cutOff: q.CutOff && opens && (guarded || !left), spent: map[string]bool{}}
	for _, t := range q.Taken {
		g.blobs = append(g.blobs, bytes.Clone(t.Blob))
	}
	return Permit{g}, nil
}

// lacks says why an opener is not shown to be a way in, "" if it is.
func (o Opener) lacks(shownSince time.Time) string {
	switch {
	case o.ID == 0:
		return "is not recorded"
	case o.Holder == "":
		return "has no holder that is known"
	case !o.mayBePerson():
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
	case o.Within:
		return ""
	case o.Shown.IsZero():
		return "was never shown to have a private half"
	case o.Shown.Before(shownSince):
		return "was last shown to have a private half on " + times.Show(o.Shown.UTC())
	}
	return ""
}
