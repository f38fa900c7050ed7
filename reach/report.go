package reach

import (
	"time"

	"plumlatch/core/comeback"
	"plumlatch/core/keypair"
	"plumlatch/core/loginlog"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
)

// Report is what was seen, as the service takes it in from whoever looked.
func (a Around) Report() wire.ClientSurvey {
	r := wire.ClientSurvey{Privilege: a.Privilege}
	r.NotSeen, r.Config, r.Machine = a.NotSeen, a.Effective, machineSeen(a.Machine)
	for _, o := range a.Doors {
		r.Doors = append(r.Doors, wire.OtherDoor{Sort: string(o.Sort), Place: o.Place, Value: o.Value, Text: o.String()})
	}
	for _, l := range a.Lying {
		r.Lying = append(r.Lying, wire.LyingKey{File: l.File, Fingerprint: l.Fingerprint})
	}
	for _, u := range a.Users {
		files := wire.UserFiles{User: u.User, Files: u.Files, Whole: u.Whole, NotSeen: u.NotSeen, Keys: []wire.FoundKey{}}
		for _, l := range u.Lines {
			files.Keys = append(files.Keys, wire.FoundKey{File: l.File, Line: l.Number, Options: l.Options.Text,
				PublicKey: keypair.Public{Blob: l.Blob, Comment: plaintext.Line(plaintext.Cut(l.Comment, 200))}.Line()})
		}
		r.Users = append(r.Users, files)
	}
	return r
}

func machineSeen(m comeback.Machine) *wire.MachineSeen {
	out := &wire.MachineSeen{Running: m.Running, Enabled: m.Enabled, Mounted: m.Mounted, Written: m.Written}
	if m.Ports != nil {
		out.Ports = []wire.PortSeen{}
	}
	for _, p := range m.Ports {
		out.Ports = append(out.Ports, wire.PortSeen(p))
	}
	return out
}

// Report is what the log tells, as the service takes it in; and, if there was more than is read at one time, that.
func (l Logins) Report() (out wire.LoginLog, notSeen string) {
	out = wire.LoginLog{Source: l.Source, Clock: l.Clock, ClockAt: time.Since(l.Read).Seconds(), LeftOut: l.Tally.LeftOut, Uses: []wire.LoggedUse{}}
	if !l.Since.IsZero() {
		out.Since = &l.Since
	}
	for _, u := range l.Tally.Uses() {
		out.Uses = append(out.Uses, loggedUse(u))
	}
	if l.Cut {
		notSeen = "the log of logins: there is more of it than is read at one time"
	}
	return out, notSeen
}

func loggedUse(u loginlog.Use) wire.LoggedUse {
	return wire.LoggedUse{LoginUser: u.User, Method: u.Method, Fingerprint: u.Print, Authority: u.CA, CertID: plaintext.Line(plaintext.Cut(u.CertID, 200)),
		Trusted: u.Trusted, From: u.From.String(), Day: u.Day, First: u.First, Last: u.Last, Count: u.Count}
}

// LoginsSince is the time from which a log is read that was read before: a day back, for clocks that differ, as days are counted whole.
func LoginsSince(readAt time.Time) time.Time {
	return readAt.UTC().Add(-24 * time.Hour).Truncate(24 * time.Hour)
}
