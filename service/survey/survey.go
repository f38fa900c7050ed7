package survey

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"plumlatch/core/access"
	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/door"
	"plumlatch/service/store"
)

// Limits of one look at an instance from inside.
const (
	surveyLimit   = 30 * time.Second
	maxShownKeys  = 2000 // unrecorded ones that are kept; the rest is counted
	maxPlaces     = 20   // lines of one key that are kept
	maxBroken     = 20   // lines that are told as passed over; the rest is counted
	maxHomeFiles  = 200
	sshdConfig    = "/etc/ssh/sshd_config"
	othersNotSeen = "other users' files, and what only root may read: the steward is confined to the login user's; " +
		"\"plumlatch survey %s -identity FILE\" sees more"
)

// Looked is what a look from inside came to.
type Looked struct {
	Out      wire.Survey
	Found    []access.Found
	Whole    bool // every file that counts was read, or is not there
	Document string
	config   *wire.Survey // what the server's configuration says; nil if it was not read
}

// LookInside reads, by the steward over SFTP, what its login user may read: the
// files of keys, their modes, the server's configuration, and which pairs lie
// beside a .pub. No file that may be a private key is opened.
func (w *Service) LookInside(ctx context.Context, i store.Instance, known *store.ToSurvey) (Looked, error) {
	ctx, cancel := context.WithTimeout(ctx, surveyLimit)
	defer cancel()
	l := Looked{Out: wire.Survey{Instance: i.Name, LoginUser: i.LoginUser, Vantage: "steward", Files: []string{},
		NotSeen: []string{}, Broken: []string{}, Ignored: []string{}, Config: []string{}, Doors: []wire.OtherDoor{},
		Lying: []wire.LyingKey{}, Keys: []wire.Surveyed{}}}
	files, closer, err := w.StewardBy(ctx, i, known)
	if err != nil {
		return l, err
	}
	defer closer()
	files = reach.Remember(files)
	// The answers of one connection overlap: an instance is as slow as its slowest, not as their sum.
	var wg sync.WaitGroup
	config := wire.Survey{Config: []string{}, Doors: []wire.OtherDoor{}, NotSeen: []string{}}
	var lying []wire.LyingKey
	var lyingErr error
	if !known.Config {
		wg.Go(func() { readConfig(files, i, &config) })
		l.config = &config
	}
	// First, as reading the folder tells of the files in it.
	lying, lyingErr = lyingIn(files, ".ssh")
	l.readKeys(ctx, files, i)
	wg.Wait()
	l.Out.NotSeen = append(l.Out.NotSeen, fmt.Sprintf(othersNotSeen, i.Name))
	l.Out.Lying = append(l.Out.Lying, lying...)
	if lyingErr != nil && !errors.Is(lyingErr, fs.ErrNotExist) {
		l.Out.NotSeen = append(l.Out.NotSeen, "pairs that lie in .ssh: "+door.Words(lyingErr))
	}
	l.Out.At = time.Now().UTC()
	if ctx.Err() != nil || reach.Broken(files) { // what was not read is not seen, and no finding
		return l, fmt.Errorf("%w: it stopped answering halfway", door.ErrCannotSurvey)
	}
	if len(l.Out.Files) == 0 && !l.Whole {
		return l, fmt.Errorf("%w: none of the files of keys could be read: %s", door.ErrCannotSurvey, l.Out.NotSeen[0])
	}
	return l, nil
}

// readKeys reads the files of an instance's login user.
func (l *Looked) readKeys(ctx context.Context, files reach.Files, i store.Instance) {
	hash := sha256.New()
	lines := map[string][]authkeys.Line{}
	l.Whole = true
	broken := 0
	for _, name := range door.FilesOf(i) {
		err := reach.SurveyKeys(ctx, files, name, func(fi reach.FileInfo, data []byte) {
			l.Out.Files = append(l.Out.Files, name)
			l.ignored(files, name, fi)
			fmt.Fprintf(hash, "%s %d\n", name, len(data))
			hash.Write(data)
			for _, line := range authkeys.Parse(data, time.UTC) {
				if line.Err == nil {
					lines[name] = append(lines[name], line)
				} else if broken++; broken <= maxBroken {
					l.Out.Broken = append(l.Out.Broken, fmt.Sprintf("%s line %d: %v", name, line.Number, line.Err))
				}
			}
		})
		if err != nil && !errors.Is(err, reach.ErrMissing) {
			l.Whole = false
			l.Out.NotSeen = append(l.Out.NotSeen,
				plaintext.Line(plaintext.Cut(fmt.Sprintf("%s of %s: %v", name, i.LoginUser, err), 300)))
		}
	}
	if broken > maxBroken {
		l.Out.Broken = append(l.Out.Broken, fmt.Sprintf("and %d more", broken-maxBroken))
	}
	l.Document = hex.EncodeToString(hash.Sum(nil))
	l.Found = access.Gather(door.FilesOf(i), lines, time.Now(), maxPlaces)
	for n, f := range l.Found {
		for _, p := range f.Places {
			if principals, yes := authkeys.Vouches(p.Options); yes {
				l.Out.Doors = append(l.Out.Doors, ShowOther(access.Other{Sort: access.CALine, User: i.LoginUser,
					Fingerprint: keypair.Fingerprint(f.Blob), Principals: plaintext.Line(plaintext.Cut(principals, 200)),
					Place: fmt.Sprintf("%s:%d", p.File, p.Line)}))
			}
		}
		l.Found[n].Comment = plaintext.Line(plaintext.Cut(f.Comment, 200))
		for p := range f.Places {
			f.Places[p].Options = plaintext.Line(plaintext.Cut(f.Places[p].Options, 500))
		}
	}
}

// ignored tells for which modes sshd would pass a file over (sshd_config(5),
// StrictModes): its own, and those of the folders up to the home.
func (l *Looked) ignored(files reach.Files, name string, fi reach.FileInfo) {
	if path.IsAbs(name) { // root's: the folders are not the user's to spoil
		return
	}
	say := func(what string, fi reach.FileInfo) {
		switch {
		case fi.Mode.Perm()&0o022 != 0:
			l.Out.Ignored = append(l.Out.Ignored,
				fmt.Sprintf("%s: others may write to %s (mode %o), so a server with StrictModes, which is the "+
					"default, passes over it", name, what, fi.Mode.Perm()))
		case fi.Owner > 0 && files.Whoami() >= 0 && fi.Owner != files.Whoami():
			l.Out.Ignored = append(l.Out.Ignored,
				fmt.Sprintf("%s: %s belongs to another user (%d), so a server with StrictModes, which is the "+
					"default, passes over it", name, what, fi.Owner))
		}
	}
	say("it", fi)
	for dir := path.Dir(name); ; dir = path.Dir(dir) {
		if d, err := files.Lstat(dir); err == nil {
			what := dir
			if dir == "." {
				what = "the home"
			}
			say(what, d)
		}
		if dir == "." || dir == "/" {
			return
		}
	}
}

// readConfig reads what every user may read of the server's configuration.
func readConfig(files reach.Files, i store.Instance, out *wire.Survey) {
	c := reach.ReadServerConfig(files, sshdConfig)
	if slices.Contains(c.Missing, sshdConfig) {
		out.NotSeen = append(out.NotSeen, "the server's configuration: "+sshdConfig+" cannot be read by "+i.LoginUser)
		return
	}
	for _, keyword := range []string{"PasswordAuthentication", "KbdInteractiveAuthentication", "PermitRootLogin",
		"AuthorizedKeysFile", "AuthorizedKeysCommand", "TrustedUserCAKeys", "HostbasedAuthentication", "StrictModes", "AllowUsers",
		"AuthenticationMethods"} {
		s, ok := c.Get(keyword)
		if !ok {
			continue
		}
		value := plaintext.Line(plaintext.Cut(s.Value, 200))
		out.Config = append(out.Config, fmt.Sprintf("%s %s (%s)", keyword, value, plaintext.Line(s.File)))
		if o, ok := access.Setting(keyword, value); ok {
			o.Place = fmt.Sprintf("%s:%d", plaintext.Line(s.File), s.Line)
			out.Doors = append(out.Doors, ShowOther(o))
		}
	}
	if len(c.Matched) > 0 {
		slices.Sort(c.Matched)
		out.NotSeen = append(out.NotSeen,
			plaintext.Line(plaintext.Cut("what Match blocks of the server's configuration set for some: "+
				strings.Join(slices.Compact(c.Matched), ", "), 300)))
	}
	for _, f := range c.Missing {
		out.NotSeen = append(out.NotSeen, plaintext.Line(f)+
			", which the server's configuration includes: it cannot be read by "+i.LoginUser)
	}
	out.NotSeen = append(out.NotSeen, "whether the server was started with another configuration than "+sshdConfig+
		", and what a command gives it")
}

// ShowOther is a door in no list of keys, as the API tells it.
func ShowOther(o access.Other) wire.OtherDoor {
	out := wire.OtherDoor{Sort: string(o.Sort), User: o.User, Fingerprint: o.Fingerprint, Key: o.Name, Holder: o.Holder, Principals: o.Principals,
		Place: o.Place, Value: o.Value, Text: o.String() + ": " + o.Sort.Explains(), From: o.From}
	if !o.At.IsZero() {
		at := o.At.UTC()
		out.At = &at
	}
	return out
}

// lyingIn tells which pairs lie in a folder, by the .pub beside them alone.
func lyingIn(files reach.Files, dir string) ([]wire.LyingKey, error) {
	all, _, err := files.ReadDir(dir, maxHomeFiles)
	if err != nil {
		return nil, err
	}
	var out []wire.LyingKey
	for _, name := range all {
		private, isPublic := strings.CutSuffix(name, ".pub")
		if !isPublic || !slices.Contains(all, private) {
			continue
		}
		k := wire.LyingKey{File: plaintext.Line(path.Join(dir, private))}
		if fi, err := files.Lstat(path.Join(dir, name)); err == nil && fi.Mode.IsRegular() {
			if text, err := reach.ReadText(files, path.Join(dir, name)); err == nil {
				if p, err := keypair.ReadPublic([]byte(text)); err == nil {
					k.Fingerprint = p.Fingerprint()
				}
			}
		}
		out = append(out, k)
	}
	return out, nil
}

// Compared counts what was found against the accesses of an instance.
type Compared struct {
	Found                                 map[int64]bool // accesses: there, or not
	Recorded, Unrecorded, missing, lapsed int
}

func (c Compared) words() string {
	s := fmt.Sprintf("%d recorded, %d unrecorded, %d missing", c.Recorded, c.Unrecorded, c.missing)
	if c.lapsed > 0 {
		s += fmt.Sprintf(", %d expired", c.lapsed)
	}
	return s
}

// Show makes the rows of a survey: what was found against what is recorded for
// one login user. If not every file could be read (whole is false), a recorded key that was
// not found is not called missing: it may stand in what was not read.
func (w *Service) Show(ctx context.Context, out *wire.Survey, c *Compared, user string, rows []store.SurveyedAccess,
	found []access.Found, whole bool) error {
	type recorded struct {
		store.SurveyedAccess
		seen bool
	}
	var mine []*recorded
	byBlob := map[string]*recorded{}
	for _, a := range rows {
		if a.LoginUser == user {
			r := &recorded{SurveyedAccess: a}
			mine = append(mine, r)
			byBlob[string(a.Blob)] = r
		}
	}
	var unknown []int // places in out.Keys
	dropped := 0
	for _, f := range found {
		r := byBlob[string(f.Blob)]
		result := f.Result(r != nil)
		switch result {
		case access.Recorded:
			c.Recorded++
			c.Found[r.ID], r.seen = true, true
		case access.Lapsed:
			c.lapsed++
			c.Found[r.ID], r.seen = false, true
		default:
			if c.Unrecorded++; c.Unrecorded > maxShownKeys {
				dropped++
				continue
			}
		}
		s := surveyed(result, user, keypair.Public{Blob: f.Blob, Comment: f.Comment})
		s.File, s.Line, s.Options, s.Limits = f.Places[0].File, f.Places[0].Line, f.Places[0].Options, f.Limits
		if len(f.Places) > 1 {
			s.Lines = len(f.Places)
		}
		if !f.Ends.IsZero() {
			s.Ends = &f.Ends
		}
		if r != nil {
			s.Key, s.Steward = r.Key, r.Steward
		} else {
			unknown = append(unknown, len(out.Keys))
		}
		out.Keys = append(out.Keys, s)
	}
	if dropped > 0 {
		out.NotSeen = append(out.NotSeen,
			fmt.Sprintf("%d more unrecorded keys of %s: the first %d are shown", dropped, user, maxShownKeys))
	}
	if whole {
		for _, r := range mine {
			if r.seen {
				continue
			}
			c.missing++
			c.Found[r.ID] = false
			s := surveyed(access.Missing, user, keypair.Public{Blob: r.Blob, Comment: r.Comment})
			s.Key, s.Steward = r.Key, r.Steward
			out.Keys = append(out.Keys, s)
		}
	}
	// The ledger may know a key, though not that it opens this instance.
	var fingerprints []string
	for _, n := range unknown {
		fingerprints = append(fingerprints, out.Keys[n].Fingerprint)
	}
	for _, l := range out.Lying {
		if l.Fingerprint != "" {
			fingerprints = append(fingerprints, l.Fingerprint)
		}
	}
	names, err := w.Store.KeysByFingerprint(ctx, fingerprints)
	for _, n := range unknown {
		out.Keys[n].Key = names[out.Keys[n].Fingerprint]
	}
	for n := range out.Lying {
		out.Lying[n].Key = names[out.Lying[n].Fingerprint]
	}
	return err
}

func surveyed(result, user string, p keypair.Public) wire.Surveyed {
	return wire.Surveyed{Result: result, LoginUser: user, Kind: p.Kind(), Fingerprint: p.Fingerprint(),
		Bitting: p.Bitting().String(), Comment: plaintext.Line(p.Comment),
		PublicKey: keypair.Public{Blob: p.Blob}.Line()}
}

// lookOutside asks the server, without any private key, about keys, and by
// which methods it would let the login user and root in; and the cloud, whom
// its inbound rules let through.
func (w *Service) lookOutside(ctx context.Context, i store.Instance, rows []store.SurveyedAccess,
	chosen []store.Key) (*wire.OutsideSurvey, []store.Asked, error) {
	ctx, cancel := context.WithTimeout(ctx, surveyLimit)
	defer cancel()
	out := &wire.OutsideSurvey{Answers: []wire.KeyAnswer{}, Methods: []wire.UserMethods{}, Rules: []string{},
		NotSeen: []string{}}
	w.rulesSeen(ctx, i, out)
	t, err := w.Target(ctx, i)
	if err != nil {
		return out, nil, err
	}
	if len(t.HostKeys) == 0 {
		return out, nil, fmt.Errorf("%w: %w", door.ErrCannotSurvey, door.ErrNoHostKey)
	}
	for _, user := range slices.Compact([]string{i.LoginUser, "root"}) {
		mt := t
		mt.User = user
		methods, open, err := reach.Methods(ctx, w.Reach, mt)
		if err != nil && user == i.LoginUser { // it does not get as far as that: nothing else would
			return out, nil, fmt.Errorf("%w from outside: %w", door.ErrCannotSurvey, err)
		}
		if err != nil {
			out.NotSeen = append(out.NotSeen, "login methods of "+user+": "+door.Words(err))
			continue
		}
		out.Methods = append(out.Methods,
			wire.UserMethods{User: user, Methods: append([]string{}, methods...), Open: open})
	}
	asked := rows
	if len(chosen) > 0 {
		asked = nil
		for _, k := range chosen {
			row := store.SurveyedAccess{Key: k.Name, Blob: k.Blob, LoginUser: i.LoginUser}
			for _, a := range rows {
				if bytes.Equal(a.Blob, k.Blob) && a.LoginUser == i.LoginUser {
					row = a
				}
			}
			asked = append(asked, row)
		}
	}
	var kept []store.Asked
	var trouble string
	for user, group := range byUser(asked) {
		ut := t
		ut.User = user
		var blobs [][]byte
		for _, a := range group {
			blobs = append(blobs, a.Blob)
		}
		for n, p := range w.AskWithin(ctx, surveyLimit/2, ut, blobs) {
			a := group[n]
			out.Answers = append(out.Answers,
				wire.KeyAnswer{Key: a.Key, Steward: a.Steward, LoginUser: user,
					Fingerprint: keypair.Fingerprint(a.Blob), Answer: string(p.Answer), Detail: p.Detail,
					Recorded: a.ID != 0})
			out.Vantage = cmp.Or(p.Vantage, out.Vantage)
			if p.Answer == reach.NotAsked {
				trouble = cmp.Or(trouble, p.Detail)
			}
			if a.ID != 0 {
				kept = append(kept, store.Asked{AccessID: a.ID, Answer: string(p.Answer), Detail: p.Detail,
					From: p.Vantage})
			}
		}
	}
	out.At = time.Now().UTC()
	if trouble != "" && !slices.ContainsFunc(out.Answers,
		func(a wire.KeyAnswer) bool { return a.Answer != string(reach.NotAsked) }) {
		return out, kept, fmt.Errorf("%w from outside: %s", door.ErrCannotSurvey, trouble)
	}
	return out, kept, nil
}

func byUser(rows []store.SurveyedAccess) map[string][]store.SurveyedAccess {
	out := map[string][]store.SurveyedAccess{}
	for _, a := range rows {
		out[a.LoginUser] = append(out[a.LoginUser], a)
	}
	return out
}

// rulesSeen notes whom the inbound rules let in.
func (w *Service) rulesSeen(ctx context.Context, i store.Instance, out *wire.OutsideSurvey) {
	if i.Adopted || i.CloudID == "" {
		out.NotSeen = append(out.NotSeen, "inbound rules: no cloud of ours is behind it")
		return
	}
	groups, err := w.CloudOf(i).Groups(ctx, i.CloudID)
	if err != nil {
		out.NotSeen = append(out.NotSeen, "inbound rules: "+door.Words(err))
		return
	}
	for _, g := range groups {
		for _, r := range g.SSH() {
			out.Rules = append(out.Rules, r.From.String())
			if r.From.Bits() == 0 {
				out.World = r.From.String()
			}
		}
	}
}
