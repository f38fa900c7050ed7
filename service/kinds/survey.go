package kinds

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

	"golang.org/x/crypto/ssh"

	"plumlatch/core/access"
	"plumlatch/core/authkeys"
	"plumlatch/core/keypair"
	"plumlatch/core/plaintext"
	"plumlatch/core/sshdconfig"
	"plumlatch/core/wire"
	"plumlatch/reach"
	"plumlatch/service/store"
)

// ErrCannotSurvey is wrapped with the reason for which an instance cannot be read now.
var ErrCannotSurvey = errors.New("it cannot be surveyed")

// Limits of one look at an instance from inside.
const (
	surveyLimit   = 30 * time.Second
	maxShownKeys  = 2000 // unrecorded ones that are kept; the rest is counted
	maxPlaces     = 20   // lines of one key that are kept
	maxBroken     = 20   // lines that are told as passed over; the rest is counted
	maxConfigs    = 24
	maxHomeFiles  = 200
	sshdConfig    = "/etc/ssh/sshd_config"
	othersNotSeen = "other users' files, and what only root may read: the steward is confined to the login user's; \"plumlatch survey %s -identity FILE\" sees more"
)

// looked is what a look from inside came to.
type looked struct {
	out      wire.Survey
	found    []access.Found
	whole    bool // every file that counts was read, or is not there
	document string
	config   *wire.Survey // what the server's configuration says; nil if it was not read
}

// lookInside reads, by the steward over SFTP, what its login user may read: the
// files of keys, their modes, the server's configuration, and which pairs lie
// beside a .pub. No file that may be a private key is opened.
func (w *Worker) lookInside(ctx context.Context, i store.Instance, known *store.ToSurvey) (looked, error) {
	ctx, cancel := context.WithTimeout(ctx, surveyLimit)
	defer cancel()
	l := looked{out: wire.Survey{Instance: i.Name, LoginUser: i.LoginUser, Vantage: "steward", Files: []string{}, NotSeen: []string{}, Broken: []string{}, Ignored: []string{}, Config: []string{}, Doors: []string{}, Lying: []wire.LyingKey{}, Keys: []wire.Surveyed{}}}
	files, closer, err := w.stewardBy(ctx, i, known)
	if err != nil {
		return l, err
	}
	defer closer()
	files = reach.Remember(files)
	// The answers of one connection overlap: an instance is as slow as its slowest, not as their sum.
	var wg sync.WaitGroup
	config := wire.Survey{Config: []string{}, Doors: []string{}, NotSeen: []string{}}
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
	l.out.NotSeen = append(l.out.NotSeen, fmt.Sprintf(othersNotSeen, i.Name))
	l.out.Lying = append(l.out.Lying, lying...)
	if lyingErr != nil && !errors.Is(lyingErr, fs.ErrNotExist) {
		l.out.NotSeen = append(l.out.NotSeen, "pairs that lie in .ssh: "+words(lyingErr))
	}
	l.out.At = time.Now().UTC()
	if ctx.Err() != nil || reach.Broken(files) { // what was not read is not seen, and no finding
		return l, fmt.Errorf("%w: it stopped answering halfway", ErrCannotSurvey)
	}
	if len(l.out.Files) == 0 && !l.whole {
		return l, fmt.Errorf("%w: none of the files of keys could be read: %s", ErrCannotSurvey, l.out.NotSeen[0])
	}
	return l, nil
}

// filesOf are the files that an instance's server reads for its login user.
func filesOf(i store.Instance) []string {
	if len(i.KeysFiles) > 0 {
		return i.KeysFiles
	}
	return reach.DefaultKeysFiles
}

// readKeys reads the files of an instance's login user.
func (l *looked) readKeys(ctx context.Context, files reach.Files, i store.Instance) {
	hash := sha256.New()
	lines := map[string][]authkeys.Line{}
	l.whole = true
	broken := 0
	for _, name := range filesOf(i) {
		err := reach.SurveyKeys(ctx, files, name, func(fi reach.FileInfo, data []byte) {
			l.out.Files = append(l.out.Files, name)
			l.ignored(files, name, fi)
			fmt.Fprintf(hash, "%s %d\n", name, len(data))
			hash.Write(data)
			for _, line := range authkeys.Parse(data, time.UTC) {
				if line.Err == nil {
					lines[name] = append(lines[name], line)
				} else if broken++; broken <= maxBroken {
					l.out.Broken = append(l.out.Broken, fmt.Sprintf("%s line %d: %v", name, line.Number, line.Err))
				}
			}
		})
		if err != nil && !errors.Is(err, reach.ErrMissing) {
			l.whole = false
			l.out.NotSeen = append(l.out.NotSeen, plaintext.Line(plaintext.Cut(fmt.Sprintf("%s of %s: %v", name, i.LoginUser, err), 300)))
		}
	}
	if broken > maxBroken {
		l.out.Broken = append(l.out.Broken, fmt.Sprintf("and %d more", broken-maxBroken))
	}
	l.document = hex.EncodeToString(hash.Sum(nil))
	l.found = access.Gather(filesOf(i), lines, time.Now(), maxPlaces)
	for n, f := range l.found {
		if f.Limits == access.Authority {
			l.out.Doors = append(l.out.Doors, fmt.Sprintf("%s line %d: a certificate authority: whoever it vouches for gets in, and is listed nowhere", f.Places[0].File, f.Places[0].Line))
		}
		l.found[n].Comment = plaintext.Line(plaintext.Cut(f.Comment, 200))
		for p := range f.Places {
			f.Places[p].Options = plaintext.Line(plaintext.Cut(f.Places[p].Options, 500))
		}
	}
}

// ignored tells for which modes sshd would pass a file over (sshd_config(5),
// StrictModes): its own, and those of the folders up to the home.
func (l *looked) ignored(files reach.Files, name string, fi reach.FileInfo) {
	if path.IsAbs(name) { // root's: the folders are not the user's to spoil
		return
	}
	say := func(what string, fi reach.FileInfo) {
		switch {
		case fi.Mode.Perm()&0o022 != 0:
			l.out.Ignored = append(l.out.Ignored, fmt.Sprintf("%s: others may write to %s (mode %o), so a server with StrictModes, which is the default, passes over it", name, what, fi.Mode.Perm()))
		case fi.Owner > 0 && files.Whoami() >= 0 && fi.Owner != files.Whoami():
			l.out.Ignored = append(l.out.Ignored, fmt.Sprintf("%s: %s belongs to another user (%d), so a server with StrictModes, which is the default, passes over it", name, what, fi.Owner))
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
	text := func(name string) (string, bool) {
		s, err := readText(files, name)
		return s, err == nil
	}
	glob := func(pattern string) []string {
		dir := path.Dir(pattern)
		if strings.ContainsAny(dir, "*?[") {
			return nil
		}
		if !strings.ContainsAny(pattern, "*?[") {
			return []string{pattern}
		}
		names, _, err := files.ReadDir(dir, maxConfigs)
		if err != nil {
			return nil
		}
		var out []string
		for _, n := range names {
			if ok, err := path.Match(path.Base(pattern), n); ok && err == nil {
				out = append(out, path.Join(dir, n))
			}
		}
		return out
	}
	c := sshdconfig.Read(sshdConfig, text, glob)
	if slices.Contains(c.Missing, sshdConfig) {
		out.NotSeen = append(out.NotSeen, "the server's configuration: "+sshdConfig+" cannot be read by "+i.LoginUser)
		return
	}
	for _, keyword := range []string{"PasswordAuthentication", "KbdInteractiveAuthentication", "PermitRootLogin", "AuthorizedKeysFile", "AuthorizedKeysCommand", "TrustedUserCAKeys", "StrictModes", "AllowUsers", "AuthenticationMethods"} {
		s, ok := c.Get(keyword)
		if !ok {
			continue
		}
		value := plaintext.Line(plaintext.Cut(s.Value, 200))
		out.Config = append(out.Config, fmt.Sprintf("%s %s (%s)", keyword, value, plaintext.Line(s.File)))
		switch {
		case strings.EqualFold(s.Value, "none"):
		case keyword == "AuthorizedKeysCommand":
			out.Doors = append(out.Doors, "AuthorizedKeysCommand "+value+": keys that a command gives the server, listed nowhere")
		case keyword == "TrustedUserCAKeys":
			out.Doors = append(out.Doors, "TrustedUserCAKeys "+value+": whoever these authorities vouch for gets in, and is listed nowhere")
		}
	}
	if len(c.Matched) > 0 {
		slices.Sort(c.Matched)
		out.NotSeen = append(out.NotSeen, plaintext.Line(plaintext.Cut("what Match blocks of the server's configuration set for some: "+strings.Join(slices.Compact(c.Matched), ", "), 300)))
	}
	for _, f := range c.Missing {
		out.NotSeen = append(out.NotSeen, plaintext.Line(f)+", which the server's configuration includes: it cannot be read by "+i.LoginUser)
	}
	out.NotSeen = append(out.NotSeen, "whether the server was started with another configuration than "+sshdConfig+", and what a command gives it")
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
			if text, err := readText(files, path.Join(dir, name)); err == nil {
				if p, err := keypair.ReadPublic([]byte(text)); err == nil {
					k.Fingerprint = p.Fingerprint()
				}
			}
		}
		out = append(out, k)
	}
	return out, nil
}

// compared counts what was found against the accesses of an instance.
type compared struct {
	found                                 map[int64]bool // accesses: there, or not
	recorded, unrecorded, missing, lapsed int
}

func (c compared) words() string {
	s := fmt.Sprintf("%d recorded, %d unrecorded, %d missing", c.recorded, c.unrecorded, c.missing)
	if c.lapsed > 0 {
		s += fmt.Sprintf(", %d expired", c.lapsed)
	}
	return s
}

// show makes the rows of a survey: what was found against what is recorded for
// one login user. What was not read as a whole has nothing missing.
func (w *Worker) show(ctx context.Context, out *wire.Survey, c *compared, user string, rows []store.SurveyedAccess, found []access.Found, whole bool) error {
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
			c.recorded++
			c.found[r.ID], r.seen = true, true
		case access.Lapsed:
			c.lapsed++
			c.found[r.ID], r.seen = false, true
		default:
			if c.unrecorded++; c.unrecorded > maxShownKeys {
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
		out.NotSeen = append(out.NotSeen, fmt.Sprintf("%d more unrecorded keys of %s: the first %d are shown", dropped, user, maxShownKeys))
	}
	if whole {
		for _, r := range mine {
			if r.seen {
				continue
			}
			c.missing++
			c.found[r.ID] = false
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
	return wire.Surveyed{Result: result, LoginUser: user, Kind: p.Kind(), Fingerprint: p.Fingerprint(), Bitting: p.Bitting().String(), Comment: plaintext.Line(p.Comment), PublicKey: keypair.Public{Blob: p.Blob}.Line()}
}

func (w *Worker) accessesOf(ctx context.Context, i store.Instance) ([]store.Access, error) {
	return w.Store.AccessesOf(ctx, i.ID)
}

// steward opens the steward's way into an instance.
func (w *Worker) steward(ctx context.Context, i store.Instance) (reach.Files, func(), error) {
	known, err := w.Store.ForSurvey(ctx, i.ID)
	if err != nil {
		return nil, nil, err
	}
	return w.stewardBy(ctx, i, known[i.ID])
}

// stewardBy is steward by what was read before.
func (w *Worker) stewardBy(ctx context.Context, i store.Instance, known *store.ToSurvey) (reach.Files, func(), error) {
	if len(known.HostKeys) == 0 {
		return nil, nil, fmt.Errorf("%w: %w", ErrCannotSurvey, errNoHostKey)
	}
	if known.Sealed == nil {
		return nil, nil, fmt.Errorf("%w from inside: %w", ErrCannotSurvey, errNoSteward)
	}
	signer, err := w.decrypt(ctx, known.Sealed)
	if err != nil {
		return nil, nil, err
	}
	t := reach.Target{Address: i.Address, Port: i.Port, User: i.LoginUser, HostKeys: known.HostKeys}
	if i.Via != nil {
		if t, err = w.target(ctx, i); err != nil {
			return nil, nil, err
		}
	}
	files, closer, err := reach.SFTP(ctx, w.Reach, t, signer)
	if err != nil {
		return nil, nil, fmt.Errorf("%w: the steward does not get in: %w", ErrCannotSurvey, err)
	}
	return files, func() { _ = closer.Close() }, nil
}

// What is lacking for any survey.
var (
	errNoHostKey = errors.New("no host key of it is known")
	errNoSteward = errors.New("it has no steward")
)

// causeOf says what kind of trouble kept a survey from looking.
func causeOf(err error) string {
	switch {
	case errors.Is(err, reach.ErrStranger):
		return "host key"
	case errors.Is(err, reach.ErrNotLetIn), errors.Is(err, reach.ErrNoFiles): // let in, and shut in
		return "steward"
	case errors.Is(err, errNoHostKey), errors.Is(err, errNoSteward):
		return "none"
	}
	return "reach"
}

// stewardSigner opens the steward's sealed private half of an instance.
func (w *Worker) stewardSigner(ctx context.Context, instanceID int64) (ssh.Signer, error) {
	sealed, err := w.Store.StewardSealed(ctx, instanceID)
	if err != nil {
		return nil, err
	}
	return w.decrypt(ctx, sealed)
}

func (w *Worker) decrypt(ctx context.Context, sealed []byte) (ssh.Signer, error) {
	private, err := w.Cipher.Decrypt(ctx, sealed)
	if err != nil {
		return nil, err
	}
	defer clear(private)
	pair, err := keypair.ReadPrivate(private, nil)
	if err != nil {
		return nil, err
	}
	return pair.Signer()
}

// encrypt encrypts a steward key's private half for the database.
func (w *Worker) encrypt(ctx context.Context, pair *keypair.Pair) ([]byte, error) {
	private, err := pair.OpenSSH(nil)
	if err != nil {
		return nil, err
	}
	defer clear(private)
	return w.Cipher.Encrypt(ctx, private)
}

// lookOutside asks the server, without any private key, about keys, and by
// which methods it would let the login user and root in; and the cloud, whom
// its inbound rules let through.
func (w *Worker) lookOutside(ctx context.Context, i store.Instance, rows []store.SurveyedAccess, chosen []store.Key) (*wire.OutsideSurvey, []store.Asked, error) {
	ctx, cancel := context.WithTimeout(ctx, surveyLimit)
	defer cancel()
	out := &wire.OutsideSurvey{Answers: []wire.KeyAnswer{}, Methods: []wire.UserMethods{}, Rules: []string{}, NotSeen: []string{}}
	w.rulesSeen(ctx, i, out)
	t, err := w.target(ctx, i)
	if err != nil {
		return out, nil, err
	}
	if len(t.HostKeys) == 0 {
		return out, nil, fmt.Errorf("%w: %w", ErrCannotSurvey, errNoHostKey)
	}
	for _, user := range slices.Compact([]string{i.LoginUser, "root"}) {
		mt := t
		mt.User = user
		methods, open, err := reach.Methods(ctx, w.Reach, mt)
		if err != nil && user == i.LoginUser { // it does not get as far as that: nothing else would
			return out, nil, fmt.Errorf("%w from outside: %w", ErrCannotSurvey, err)
		}
		if err != nil {
			out.NotSeen = append(out.NotSeen, "login methods of "+user+": "+words(err))
			continue
		}
		out.Methods = append(out.Methods, wire.UserMethods{User: user, Methods: append([]string{}, methods...), Open: open})
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
		for n, p := range w.askWithin(ctx, surveyLimit/2, ut, blobs) {
			a := group[n]
			out.Answers = append(out.Answers, wire.KeyAnswer{Key: a.Key, Steward: a.Steward, LoginUser: user, Fingerprint: keypair.Fingerprint(a.Blob), Answer: string(p.Answer), Detail: p.Detail, Recorded: a.ID != 0})
			out.Vantage = cmp.Or(p.Vantage, out.Vantage)
			if p.Answer == reach.NotAsked {
				trouble = cmp.Or(trouble, p.Detail)
			}
			if a.ID != 0 {
				kept = append(kept, store.Asked{AccessID: a.ID, Answer: string(p.Answer), Detail: p.Detail, From: p.Vantage})
			}
		}
	}
	out.At = time.Now().UTC()
	if trouble != "" && !slices.ContainsFunc(out.Answers, func(a wire.KeyAnswer) bool { return a.Answer != string(reach.NotAsked) }) {
		return out, kept, fmt.Errorf("%w from outside: %s", ErrCannotSurvey, trouble)
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
func (w *Worker) rulesSeen(ctx context.Context, i store.Instance, out *wire.OutsideSurvey) {
	if i.Adopted || i.CloudID == "" {
		out.NotSeen = append(out.NotSeen, "inbound rules: no cloud of ours is behind it")
		return
	}
	groups, err := w.Cloud.Groups(ctx, i.CloudID)
	if err != nil {
		out.NotSeen = append(out.NotSeen, "inbound rules: "+words(err))
		return
	}
	for _, g := range groups {
		for _, r := range g.Rules {
			out.Rules = append(out.Rules, r.From.String())
			if r.From.Bits() == 0 {
				out.World = r.From.String()
			}
		}
	}
}
