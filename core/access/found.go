package access

import (
	"time"

	"plumlatch/core/authkeys"
)

// Place is one line of a file in which a key stands.
type Place struct {
	File    string `json:"file"`
	Line    int    `json:"line"`
	Options string `json:"options,omitempty"`
}

// What the lines of a key have in common that makes it no way in for a person.
const (
	NoLimit   = ""
	Expired   = "expired"   // every line has an end, and it has come
	Command   = "command"   // every line that is left runs one command, whatever is asked for
	From      = "from"      // every line that is left takes it from some addresses only
	Authority = "authority" // it vouches for other keys, and logs nobody in
)

// Found is one key that stands in the files of a login user, in all its lines.
type Found struct {
	Blob    []byte
	Comment string
	Places  []Place
	Limits  string
	Ends    time.Time // the last end of its lines, if all have one; else zero
}

// Gather puts the lines of several files together, a key at a time, in the
// order in which keys first appear. A key is as free as the freest of its
// lines: sshd takes the first one that allows it. Broken lines are left out. At
// most places lines of a key are kept.
func Gather(files []string, lines map[string][]authkeys.Line, now time.Time, places int) []Found {
	at := map[string]int{}
	var out []Found
	for _, file := range files {
		for _, l := range lines[file] {
			if l.Err != nil {
				continue
			}
			n, ok := at[string(l.Blob)]
			if !ok {
				n = len(out)
				at[string(l.Blob)] = n
				out = append(out, Found{Blob: l.Blob, Comment: l.Comment, Limits: limitOf(l.Options, now),
					Ends: l.Options.Expires})
			}
			f := &out[n]
			if len(f.Places) < places {
				f.Places = append(f.Places, Place{file, l.Number, l.Options.Text})
			}
			if ok {
				f.join(l.Options, now)
			}
		}
	}
	return out
}

// freedom orders the limits: the greater, the freer.
var freedom = map[string]int{Authority: 0, Expired: 1, Command: 2, From: 3, NoLimit: 4}

func limitOf(o authkeys.Options, now time.Time) string {
	switch {
	case o.CertAuthority:
		return Authority
	case !o.Expires.IsZero() && o.Expires.Before(now):
		return Expired
	case o.HasCommand:
		return Command
	case o.From != "":
		return From
	}
	return NoLimit
}

func (f *Found) join(o authkeys.Options, now time.Time) {
	if l := limitOf(o, now); freedom[l] > freedom[f.Limits] {
		f.Limits = l
	}
	if f.Ends.IsZero() || o.Expires.IsZero() {
		f.Ends = time.Time{}
	} else if o.Expires.After(f.Ends) {
		f.Ends = o.Expires
	}
}

// What a survey says of a key.
const (
	Recorded   = "recorded"   // the ledger has it, and it is there
	Unrecorded = "unrecorded" // it is there, and the ledger does not have it
	Missing    = "missing"    // the ledger has it, and it is not there
	Lapsed     = "expired"    // the ledger has it, it is there, and its end has come
)

// Result says what a survey makes of a key that was found; recorded tells
// whether the ledger has the access.
func (f Found) Result(recorded bool) string {
	switch {
	case recorded && f.Limits == Expired:
		return Lapsed
	case recorded && f.Limits != Authority:
		return Recorded
	}
	return Unrecorded
}

// Opens tells whether the server would take the key from somewhere.
func (f Found) Opens() bool { return f.Limits != Expired && f.Limits != Authority }
