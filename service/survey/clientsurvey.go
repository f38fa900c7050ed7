package survey

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/authkeys"
	"plumlatch/core/comeback"
	"plumlatch/core/keypair"
	"plumlatch/core/loginlog"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/service/door"
	"plumlatch/service/store"
)

const MaxFound = 5000 // keys that a client may hand over

// ReadByClient takes what a client read in files for what stands there.
func ReadByClient(keys []wire.FoundKey) []access.Found {
	var files []string
	lines := map[string][]authkeys.Line{}
	for _, k := range keys {
		if lines[k.File] == nil {
			files = append(files, k.File)
		}
		for _, l := range authkeys.Parse([]byte(strings.TrimSpace(k.Options+" "+k.PublicKey)), time.UTC) {
			l.Number, l.Comment = k.Line, plaintext.Line(plaintext.Cut(l.Comment, 200))
			lines[k.File] = append(lines[k.File], l)
		}
	}
	return access.Gather(files, lines, time.Now(), maxPlaces)
}

// Limits of what a client may report.
const (
	maxUsers   = 200
	maxReports = 300 // lines of each sort of words
)

// TakeClientSurvey takes in what an engineer's client, or the agent there, saw from
// inside. It is their word, and its vantage says whose. FieldError, store.ErrSurveying.
func (w *Service) TakeClientSurvey(ctx context.Context, by store.Actor, i store.Instance, vantage string,
	r wire.ClientSurvey) (wire.Survey, error) {
	if len(r.Users) > maxUsers {
		return wire.Survey{}, door.FieldError{Field: "users", Problem: fmt.Sprintf("more than %d users", maxUsers)}
	}
	out := wire.Survey{Instance: i.Name, LoginUser: i.LoginUser, Vantage: vantage, Files: said(r.Files), NotSeen: said(r.NotSeen), Broken: said(r.Broken),
		Ignored: said(r.Ignored), Config: said(r.Config), Doors: doorsSaid(r.Doors), Lying: []wire.LyingKey{},
		Keys: []wire.Surveyed{}, Machine: machineSaid(r.Machine)}
	for _, l := range r.Lying[:min(maxReports, len(r.Lying))] {
		if l.Fingerprint != "" && !strings.HasPrefix(l.Fingerprint, "SHA256:") {
			return out, door.FieldError{Field: "lying", Problem: "a fingerprint is written as SHA256:..."}
		}
		out.Lying = append(out.Lying, wire.LyingKey{File: plaintext.Line(plaintext.Cut(l.File, 300)),
			Owner:       plaintext.Line(plaintext.Cut(l.Owner, 40)),
			Fingerprint: plaintext.Line(plaintext.Cut(l.Fingerprint, 60))})
	}
	w.surveying.Add(1)
	defer w.surveying.Add(-1)
	fence, err := w.Store.TakeTurn(ctx, i.ID)
	if err != nil {
		return out, err
	}
	turn := store.Turn{InstanceID: i.ID, Fence: fence}
	kept := store.Kept{By: by, Turn: turn, Instance: i.Name}
	c := Compared{Found: map[int64]bool{}}
	known, err := w.Store.ForSurvey(ctx, i.ID)
	if err == nil {
		err = w.clientUsers(ctx, &out, &c, known[i.ID].Accesses, r.Users, &kept)
	}
	if err != nil {
		return out, errJoinGive(ctx, w, turn, err)
	}
	if now, err := w.Store.Now(ctx); err == nil {
		out.At = now.UTC()
	}
	kept.Found = c.Found
	kept.Parts = []store.SurveyPart{{Sort: "client", Vantage: out.Vantage, Recorded: c.Recorded,
		Unrecorded: c.Unrecorded, Missing: c.missing, Expired: c.lapsed, Report: out}}
	kept.Journal = "by " + vantage + ": " + c.words()
	log, uses, err := w.loggedUses(ctx, out.Vantage, r.Logins)
	if err != nil {
		return out, errJoinGive(ctx, w, turn, err)
	}
	if err := w.keepSurvey(ctx, kept); err != nil || log == nil {
		return out, err
	}
	return out, w.Store.KeepUses(ctx, by, i, *log, uses)
}

// skewFrom is from which difference on an instance's clock is taken to be wrong.
const skewFrom = 5 * time.Second

// loggedUses checks what a client read in an instance's log, and mends its times by the clock's skew. FieldError.
func (w *Service) loggedUses(ctx context.Context, vantage string, r *wire.LoginLog) (*store.LoginLog, []store.Use, error) {
	if r == nil {
		return nil, nil, nil
	}
	wrong := func(format string, a ...any) (*store.LoginLog, []store.Use, error) {
		return nil, nil, door.FieldError{Field: "logins", Problem: fmt.Sprintf(format, a...)}
	}
	now, err := w.Store.Now(ctx)
	if err != nil {
		return nil, nil, err
	}
	switch {
	case !slices.Contains(loginlog.Sources, r.Source):
		return wrong("the source is one of %s", strings.Join(loginlog.Sources, ", "))
	case len(r.Uses) > loginlog.MaxUses || r.LeftOut < 0:
		return wrong("more than %d rows", loginlog.MaxUses)
	case r.ClockAt < 0 || r.ClockAt > 3600 || r.Clock.Year() < 1971 || r.Clock.Year() > 9000:
		return wrong("the clock was read within the hour")
	}
	skew := r.Clock.Sub(now.Add(-time.Duration(r.ClockAt * float64(time.Second))))
	if skew < skewFrom && skew > -skewFrom {
		skew = 0
	}
	log := &store.LoginLog{Source: r.Source, Vantage: vantage, Skew: skew.Round(time.Second).Seconds(), LeftOut: r.LeftOut}
	if r.Since != nil && !r.Since.After(r.Clock) {
		since := r.Since.Add(-skew).UTC()
		log.Since = &since
	}
	seen := map[store.Use]bool{}
	var out []store.Use
	for n, u := range r.Uses {
		from, bad := netip.ParseAddr(u.From)
		day, odd := time.Parse(time.DateOnly, u.Day)
		switch {
		case bad != nil || from.Zone() != "" || odd != nil:
			return wrong("row %d has no address or no day", n+1)
		case u.LoginUser == "" || len(u.LoginUser) > 100 || plaintext.HasControl(u.LoginUser) || len(u.Method) > 60 || plaintext.HasControl(u.Method):
			return wrong("row %d has no user, or no method", n+1)
		case u.Fingerprint != "" && !loginlog.IsPrint(u.Fingerprint) || u.Authority != "" && !loginlog.IsPrint(u.Authority):
			return wrong("row %d: a fingerprint is written as SHA256:...", n+1)
		case u.Count < 1 || u.Count > 1<<30 || u.Last.Before(u.First) || u.Last.After(r.Clock.Add(time.Minute)) || u.First.Before(day.Add(-time.Minute)) ||
			!u.Last.Before(day.Add(24*time.Hour+time.Minute)):
			return wrong("row %d has times that are not of its day, or a count that is none", n+1)
		case u.Trusted && r.Source != loginlog.FromJournal:
			return wrong("row %d: the system vouches for nothing in %s", n+1, r.Source)
		}
		x := store.Use{LoginUser: u.LoginUser, Method: u.Method, Fingerprint: u.Fingerprint, Authority: u.Authority, Trusted: u.Trusted,
			Address: from.Unmap().String(), Day: u.Day}
		if seen[x] {
			return wrong("row %d stands there twice", n+1)
		}
		seen[x] = true
		x.CertID = plaintext.Line(plaintext.Cut(u.CertID, 200))
		x.First, x.Last, x.Count = u.First.Add(-skew).UTC(), u.Last.Add(-skew).UTC(), u.Count
		out = append(out, x)
	}
	return log, out, nil
}

func errJoinGive(ctx context.Context, w *Service, turn store.Turn, err error) error {
	if give := w.Store.GiveTurn(ctx, turn); give != nil {
		w.Log.Warn("a turn was not given back; it runs out by itself", "error", door.Words(give))
	}
	return err
}

func (w *Service) clientUsers(ctx context.Context, out *wire.Survey, c *Compared, rows []store.SurveyedAccess,
	users []wire.UserFiles, kept *store.Kept) error {
	var done []string
	for _, u := range users {
		if !names.LoginUser(u.User) || slices.Contains(done, u.User) {
			return door.FieldError{Field: "users", Problem: "a user is named that is no login user, or named twice"}
		}
		done = append(done, u.User)
		for _, k := range u.Keys {
			if _, err := keypair.ReadPublic([]byte(k.PublicKey)); err != nil {
				return door.FieldError{Field: "users",
					Problem: fmt.Sprintf("%s line %d: %v", plaintext.Line(plaintext.Cut(k.File, 100)), k.Line, err)}
			}
		}
		found := ReadByClient(u.Keys)
		for n := range found {
			for p := range found[n].Places {
				place := &found[n].Places[p]
				place.File, place.Options = plaintext.Line(plaintext.Cut(place.File, 300)),
					plaintext.Line(plaintext.Cut(place.Options, 500))
			}
		}
		out.Files = append(out.Files, said(u.Files)...)
		out.NotSeen = append(out.NotSeen, said(u.NotSeen)...)
		if err := w.Show(ctx, out, c, u.User, rows, found, u.Whole); err != nil {
			return err
		}
		for _, f := range found {
			kept.Keys = append(kept.Keys, store.SeenKey{LoginUser: u.User, Found: f})
		}
		if u.Whole {
			kept.Users = append(kept.Users, u.User)
		}
	}
	return nil
}

// maxUnits is how many units, ports or mounts of a machine a client may report, of each.
const maxUnits = 5000

// machineSaid is what a client saw of a machine, fit to be kept: names that could be those of units, ports that could be ports, and
// mount points in words.
func machineSaid(m *wire.MachineSeen) *wire.MachineSeen {
	if m == nil {
		return nil
	}
	kept := func(all []string, ok func(string) bool) []string {
		if all == nil {
			return nil
		}
		out := []string{}
		for _, s := range all[:min(maxUnits, len(all))] {
			if s = plaintext.Line(plaintext.Cut(s, 300)); ok(s) {
				out = append(out, s)
			}
		}
		return out
	}
	anything := func(string) bool { return true }
	out := &wire.MachineSeen{Running: kept(m.Running, comeback.IsService), Enabled: kept(m.Enabled, comeback.IsUnit),
		Mounted: kept(m.Mounted, anything), Written: kept(m.Written, anything)}
	if m.Ports != nil {
		out.Ports = []wire.PortSeen{}
	}
	for _, p := range m.Ports[:min(maxUnits, len(m.Ports))] {
		if p.Number > 0 && p.Number < 1<<16 {
			out.Ports = append(out.Ports, p)
		}
	}
	return out
}

// said makes words from elsewhere fit to be kept and shown.
func said(all []string) []string {
	out := []string{}
	for _, s := range all[:min(maxReports, len(all))] {
		out = append(out, plaintext.Line(plaintext.Cut(s, 300)))
	}
	return out
}

// doorsSaid are the doors that a client's settings open: the client's word on what the server says. Its
// lines of authorities come with the lines of keys.
func doorsSaid(all []wire.OtherDoor) []wire.OtherDoor {
	out := []wire.OtherDoor{}
	for _, d := range all[:min(maxReports, len(all))] {
		o := access.Other{Sort: access.OtherSort(d.Sort), Place: plaintext.Line(plaintext.Cut(d.Place, 300)),
			Value: plaintext.Line(plaintext.Cut(d.Value, 300))}
		if o.Sort == access.CASetting || o.Sort == access.KeyCmd || o.Sort == access.HostBased {
			out = append(out, ShowOther(o))
		}
	}
	return out
}

// Unwritten is a key that a survey found on an instance and that the ledger does
// not have for it.
func (w *Service) Unwritten(ctx context.Context, i store.Instance, fingerprint, user string) (store.Sighting, error) {
	rows, err := w.Store.SightingsOf(ctx, i.ID)
	if err != nil {
		return store.Sighting{}, err
	}
	var found []store.Sighting
	var there []string
	for _, s := range rows {
		if s.GoneAt != nil || s.Recorded || s.FirstBoots || s.Limits == access.Authority && s.Key != "" {
			continue
		}
		if (s.Fingerprint == fingerprint || s.Key != "" && strings.EqualFold(s.Key, fingerprint)) &&
			(user == "" || user == s.LoginUser) {
			found = append(found, s)
		}
		there = append(there, s.Fingerprint)
	}
	switch {
	case len(found) == 1:
		return found[0], nil
	case len(found) > 1:
		return store.Sighting{}, door.FieldError{Field: "user", Problem: "it stands there for several users; say which"}
	case len(there) == 0:
		return store.Sighting{}, door.FieldError{Field: "fingerprint",
			Problem: "no survey found an unrecorded key there; \"plumlatch survey " + i.Name + "\" looks again"}
	}
	return store.Sighting{}, door.FieldError{Field: "fingerprint",
		Problem: "no survey found that key there as an unrecorded one", Choices: there[:min(8, len(there))]}
}
