package reach

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"plumlatch/core/logins"
	"plumlatch/core/names"
	"plumlatch/core/plaintext"
	"plumlatch/core/sshdconfig"
)

// LoginWays is what an engineer's session with sudo sees of the ways of logging in to a server besides keys.
type LoginWays struct {
	Privilege string
	Accounts  []logins.Account
	Effective map[string]logins.Effective // by user; what "sshd -T" says holds for it, from the address of this session
	Config    sshdconfig.Config           // where it is set
	Started   []string                    // the server's own command line, where it sets something itself
	FirstBoot []string                    // files of the image's cloud-init that set password logins at a first boot
	Said      []string                    // what a way back did there that nobody was told yet
	Waits     bool                        // a change waits for its confirmation there
	NotSeen   []string

	user     string
	test     string // prints what holds for $u
	sshd     string // its command with its options
	listener int
	main     string // the file of its configuration
	sftp     string // runs an SFTP server as root; "" where the session is root's and has no such command
	prefix   string
}

// Errors of changing the ways of logging in.
var (
	// ErrWaits: another change waits there.
	ErrWaits = errors.New("another change of how people log in waits there for its confirmation; it is put back within three minutes")
	// ErrNoConfig: the server's configuration cannot be changed from here.
	ErrNoConfig = errors.New("the server's configuration cannot be changed from here")
	// ErrWentBack: the change was put back before it was confirmed.
	ErrWentBack = errors.New("the change was put back before it was confirmed")
)

// askScript prints, for each user, what decides how it logs in.
const askScript = `for u in %s; do echo "user $u"; %s; done 2>/dev/null | grep -i -E '^(user |passwordauthentication |kbdinteractiveauthentication |challengeresponseauthentication |permitrootlogin |permitemptypasswords |hostbasedauthentication )'
`

// loginsScript prints besides of what sort each user's password is, and never the hash (shadow(5)).
const loginsScript = askScript + `awk -F: '{ print "shadow " $1 " " ($2 == "" ? "empty" : ($2 ~ /^[!*]/ ? "locked" : "set")) }' /etc/shadow 2>/dev/null
grep -l -s -E '^[[:space:]]*ssh_pwauth:' /etc/cloud/cloud.cfg /etc/cloud/cloud.cfg.d/*.cfg 2>/dev/null | sed 's/^/cloud /'
%sfor p in $(servers); do
  [ "$(cat "/proc/$p/comm" 2>/dev/null)" = sshd ] && echo "listener $p"
done
%s
echo plumlatch-end`

// ReadLoginWays looks at the ways of logging in from a session of user's. ErrNoSudo.
func ReadLoginWays(ctx context.Context, host Host, own Files, user string) (LoginWays, error) {
	w := LoginWays{Effective: map[string]logins.Effective{}, user: user}
	around, err := LookAround(ctx, host, own, user, "")
	if err != nil && !errors.Is(err, ErrKeysFiles) {
		return w, err
	}
	w.Privilege, w.NotSeen = around.Privilege, around.NotSeen
	if around.Privilege != "root" && around.SFTPCommand == "" {
		return w, ErrNoSudo
	}
	if strings.HasPrefix(around.SFTPCommand, "sudo ") {
		w.prefix = "sudo -n "
	}
	w.sftp = around.SFTPCommand
	files, end, err := w.open(host, own)
	if err != nil {
		return w, err
	}
	defer end()
	if err := w.effective(ctx, host, around); err != nil {
		return w, err
	}
	w.main = logins.MainFile
	if n := slices.Index(around.listener, "-f"); n >= 0 && n+1 < len(around.listener) {
		w.main = around.listener[n+1]
	}
	for n, a := range around.listener {
		if a == "-o" && n+1 < len(around.listener) {
			w.Started = append(w.Started, plaintext.Line(plaintext.Cut(around.listener[n+1], 100)))
		}
	}
	w.Config = ReadServerConfig(files, w.main)
	return w, nil
}

// Plain are the ways as another machine has told them, fit to be shown: it may be anybody's.
func (w LoginWays) Plain() LoginWays {
	line := func(s string) string { return plaintext.Line(plaintext.Cut(s, 300)) }
	lines := func(all []string) (out []string) {
		for _, s := range all {
			out = append(out, line(s))
		}
		return out
	}
	out := LoginWays{Privilege: line(w.Privilege), Effective: map[string]logins.Effective{}, Started: lines(w.Started), FirstBoot: lines(w.FirstBoot), Waits: w.Waits,
		NotSeen: lines(w.NotSeen)}
	for _, a := range w.Accounts {
		if names.LoginUser(a.User) {
			a.Has = line(a.Has)
			out.Accounts = append(out.Accounts, a)
		}
	}
	for user, e := range w.Effective {
		if !names.LoginUser(user) {
			continue
		}
		out.Effective[user] = logins.Effective{}
		for _, way := range logins.Ways {
			if v, ok := e[way]; ok {
				out.Effective[user][way] = line(v)
			}
		}
	}
	for _, s := range w.Said {
		if reported.MatchString(s) {
			out.Said = append(out.Said, plaintext.Line(plaintext.Cut(s, 200)))
		}
	}
	out.Config = w.Config
	return out
}

// open opens the files as root.
func (w *LoginWays) open(host Host, own Files) (Files, func(), error) {
	if w.sftp == "" {
		return own, func() {}, nil
	}
	files, end, err := host.sudoFiles(w.sftp)
	if err != nil {
		return nil, nil, err
	}
	return files, func() { _ = end.Close() }, nil
}

// effective asks the server's own test what holds for each user.
func (w *LoginWays) effective(ctx context.Context, host Host, around Around) error {
	w.test = sshdTest("$u", around.connection, around.listener)
	w.sshd, _, _ = strings.Cut(w.test, " -C ")
	w.sshd = strings.Replace(w.sshd, " -T", "", 1)
	var users []string
	keys := map[string]int{}
	for _, u := range around.Users {
		if names.LoginUser(u.User) {
			users, keys[u.User] = append(users, u.User), len(u.Lines)
			if !u.Whole {
				keys[u.User] = -1
			}
		}
	}
	if !slices.Contains(users, "root") {
		users, keys["root"] = append(users, "root"), -1
	}
	text, err := w.script(ctx, host, fmt.Sprintf(loginsScript, strings.Join(users, " "), w.test, host.servers(), logins.Report))
	if err != nil || !strings.Contains(text, "plumlatch-end") {
		return fmt.Errorf("how people log in there could not be read: %w", errors.Join(err, errors.New("the server's answer is cut")))
	}
	has := map[string]string{}
	w.Effective = readAsked(text)
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		switch word, rest, _ := strings.Cut(line, " "); {
		case word == "shadow":
			name, sort, _ := strings.Cut(rest, " ")
			has[name] = sort
		case word == "cloud":
			w.FirstBoot = append(w.FirstBoot, plaintext.Line(plaintext.Cut(rest, 200)))
		case word == "listener":
			w.listener, _ = strconv.Atoi(rest) // the last one is the outermost
		case line == logins.SaidBusy:
			w.Waits = true
		case reported.MatchString(line):
			w.Said = append(w.Said, plaintext.Line(plaintext.Cut(line, 200)))
		}
	}
	for _, u := range users {
		w.Accounts = append(w.Accounts, logins.Account{User: u, Has: has[u], Keys: keys[u], IsRoot: u == "root"})
	}
	if len(w.Effective[w.user]) == 0 {
		w.NotSeen = append(w.NotSeen, "what the server obeys: sshd -T could not be run")
	}
	return nil
}

// readAsked reads what askScript printed, by user.
func readAsked(text string) map[string]logins.Effective {
	out := map[string]logins.Effective{}
	user := ""
	for line := range strings.Lines(text) {
		if name, ok := strings.CutPrefix(strings.TrimSpace(line), "user "); ok {
			user = name
			out[user] = logins.Effective{}
		} else if user != "" {
			for k, v := range logins.ReadEffective(line) {
				out[user][k] = v
			}
		}
	}
	return out
}

// script runs a script of ours as root, and returns what it printed. It is handed over on the standard input, as it may be long.
func (w *LoginWays) script(ctx context.Context, host Host, script string) (string, error) {
	return withInput(ctx, host, w.prefix+`sh -c 'script=$(cat); exec </dev/null; eval "$script"'`, script)
}

// scriptLimit is how long one script of ours may take.
var scriptLimit = time.Minute

// LoginChange is a change of how people log in, as it goes on.
type LoginChange struct {
	ways   *LoginWays
	change logins.Change
	wanted map[logins.Way]string
	arming logins.Arming
	armed  bool
}

// PlanLogins makes a change ready: it reads the file that is to be written, and changes nothing. Our own file is taken if the server's
// configuration includes its folder, else the first lines of its main file. ErrNoConfig, ErrWaits.
func (w *LoginWays) PlanLogins(ctx context.Context, host Host, own Files, c logins.Change) (*LoginChange, error) {
	if err := c.Check(); err != nil {
		return nil, err
	}
	if w.Waits {
		return nil, ErrWaits
	}
	if len(w.Effective[w.user]) == 0 {
		return nil, fmt.Errorf("%w: what it obeys now is not seen, as sshd -T does not run there", ErrNoConfig)
	}
	files, end, err := w.open(host, own)
	if err != nil {
		return nil, err
	}
	defer end()
	file := logins.MainFile
	if _, err := files.Lstat(path.Dir(logins.OwnFile)); err == nil && w.main == logins.MainFile && w.includes(files) {
		file = logins.OwnFile
	}
	if w.main != logins.MainFile {
		if file = w.main; !safePath.MatchString(file) {
			return nil, fmt.Errorf("%w: it was started with another file, of an odd name", ErrNoConfig)
		}
	}
	a := logins.Arming{File: file, Challenge: rand.Text() + rand.Text(), SSHD: w.sshd, Listener: w.listener}
	fi, err := files.Lstat(file)
	switch {
	case errors.Is(err, fs.ErrNotExist) && file == logins.OwnFile:
		a.None = true
	case err != nil:
		return nil, fmt.Errorf("%s: %w", file, err)
	case !fi.Mode.IsRegular():
		return nil, fmt.Errorf("%w: %s is no regular file", ErrNoConfig, file)
	case fi.Size > maxText/2:
		return nil, fmt.Errorf("%w: %s is longer than any such file", ErrNoConfig, file)
	default:
		if a.Before, err = ReadText(files, file); err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
	}
	ours, rest, err := logins.Ours(a.Before)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	out := &LoginChange{ways: w, change: c, wanted: c.Settings(ours), arming: a}
	for _, way := range logins.Ways { // an older server has no word for it, and does not start with one that it does not know
		if _, known := w.Effective[w.user][way]; !known {
			delete(out.wanted, way)
		}
	}
	out.arming.After = logins.With(out.wanted, rest)
	return out, nil
}

// includes tells whether the main file includes the folder of our own file, for everybody and before it sets a way itself.
func (w *LoginWays) includes(files Files) bool {
	text, err := ReadText(files, w.main)
	if err != nil {
		return false
	}
	read := func(name string) (string, bool) {
		if name == logins.OwnFile {
			return "PlumLatchHere yes\n", true
		}
		return text, name == w.main
	}
	c := sshdconfig.Read(w.main, read, func(pattern string) []string {
		if ok, err := path.Match(pattern, logins.OwnFile); err == nil && ok {
			return []string{logins.OwnFile}
		}
		return nil
	})
	if _, here := c.Get("PlumLatchHere"); !here {
		return false
	}
	number := 0
	for line := range strings.Lines(text) { // before the Include nothing may stand that counts first
		number++
		word, _, _ := strings.Cut(strings.ToLower(strings.TrimSpace(line)), " ")
		if word == "include" && strings.Contains(line, path.Dir(logins.OwnFile)) {
			return true
		}
		if slices.Contains(logins.Ways, logins.Way(word)) {
			return false
		}
	}
	return false
}

// Challenge is what is signed to confirm.
func (c *LoginChange) Challenge() string { return c.arming.Challenge }

// File is the file that is written.
func (c *LoginChange) File() string { return c.arming.File }

// Nothing tells that the file has it already.
func (c *LoginChange) Nothing() bool {
	return c.arming.After == c.arming.Before && logins.Differs(c.wanted, c.ways.Effective[c.ways.user]) == nil
}

// Arm lays the way back on the instance, and starts its clock. signers are the public keys of those who may confirm. ErrWaits.
func (c *LoginChange) Arm(ctx context.Context, host Host, signers []string) error {
	c.arming.Signers = signers
	text, err := c.ways.script(ctx, host, c.arming.Arm())
	switch said := lastLine(text); {
	case said == logins.SaidReady:
		c.armed = true
		return nil
	case said == logins.SaidBusy:
		return ErrWaits
	case strings.HasPrefix(said, logins.SaidLacks):
		return fmt.Errorf("%w: it lacks %s", ErrNoConfig, plaintext.Line(plaintext.Cut(strings.TrimPrefix(said, logins.SaidLacks+" "), 100)))
	case said == logins.SaidChanged:
		return fmt.Errorf("%s was changed by somebody else meanwhile; nothing was changed by us", c.arming.File)
	default:
		_ = c.PutBack(ctx, host) // what was laid half
		return fmt.Errorf("the way back could not be laid, and nothing was changed: %w", errors.Join(err, errors.New(plaintext.Line(plaintext.Cut(said, 200)))))
	}
}

func lastLine(text string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	return strings.TrimSpace(lines[len(lines)-1])
}

// Place writes the file, sees that the server accepts it and would obey it for whoever is asked about, and has the server read it. If
// any of that fails, the change is put back at once, and the error says why.
func (c *LoginChange) Place(ctx context.Context, host Host) error {
	err := c.place(ctx, host)
	if err == nil {
		return nil
	}
	if back := c.PutBack(ctx, host); back != nil {
		return fmt.Errorf("%w; the way back on the instance puts it back within three minutes (%s)", err, back.Error())
	}
	return fmt.Errorf("%w; it was put back", err)
}

func (c *LoginChange) place(ctx context.Context, host Host) error {
	w := c.ways
	text, err := w.script(ctx, host, c.arming.Place())
	if said := lastLine(text); err != nil || said != logins.SaidDone {
		if said == logins.SaidChanged {
			return fmt.Errorf("%s was changed by somebody else meanwhile", c.arming.File)
		}
		return fmt.Errorf("%s could not be written: %w", c.arming.File, errors.Join(err, errors.New(plaintext.Line(plaintext.Cut(said, 200)))))
	}
	said, err := w.script(ctx, host, w.sshd+" -t 2>&1 && echo plumlatch-accepted")
	if lastLine(said) != "plumlatch-accepted" {
		return fmt.Errorf("the server does not accept its configuration with it: %s", plaintext.Line(plaintext.Cut(cmp.Or(lastLine(said), fmt.Sprint(err)), 300)))
	}
	after, err := c.asked(ctx, host)
	if err != nil {
		return err
	}
	for user, is := range after {
		if differs := logins.Differs(c.wanted, is); len(differs) > 0 {
			return fmt.Errorf("the server would not obey it for %s: %s%s", user, strings.Join(differs, ", "), c.because())
		}
	}
	text, err = w.script(ctx, host, logins.Reload)
	if lastLine(text) != logins.SaidTicks {
		return fmt.Errorf("the server could not be told to read its configuration: %w", errors.Join(err, errors.New(plaintext.Line(plaintext.Cut(lastLine(text), 200)))))
	}
	return nil
}

// asked asks the server's test about those who were asked about before.
func (c *LoginChange) asked(ctx context.Context, host Host) (map[string]logins.Effective, error) {
	var users []string
	for _, a := range c.ways.Accounts {
		if len(c.ways.Effective[a.User]) > 0 {
			users = append(users, a.User)
		}
	}
	text, err := c.ways.script(ctx, host, fmt.Sprintf(askScript+"echo plumlatch-end", strings.Join(users, " "), c.ways.test))
	if err != nil || !strings.Contains(text, "plumlatch-end") {
		return nil, fmt.Errorf("what the server would obey could not be asked: %w", errors.Join(err, errors.New("the server's answer is cut")))
	}
	out := readAsked(text)
	for _, u := range users {
		if len(out[u]) == 0 {
			return nil, fmt.Errorf("what the server would obey for %s could not be asked", u)
		}
	}
	return out, nil
}

// because names what may set a way before our own file, or for some.
func (c *LoginChange) because() string {
	var out []string
	for w := range c.wanted {
		for _, b := range c.ways.Config.Below {
			if b.Keyword == string(w) {
				out = append(out, fmt.Sprintf("%s:%d sets it below \"Match %s\"", b.File, b.Line, b.Match))
			}
		}
		if s, ok := c.ways.Config.Get(string(w)); ok && s.File != c.arming.File {
			out = append(out, fmt.Sprintf("%s:%d sets it", s.File, s.Line))
		}
	}
	for _, o := range c.ways.Started {
		if slices.ContainsFunc(logins.Ways, func(w logins.Way) bool { return strings.HasPrefix(strings.ToLower(o), string(w)) }) {
			out = append(out, "the server was started with -o "+o)
		}
	}
	if len(out) == 0 {
		return ""
	}
	slices.Sort(out)
	return plaintext.Line(" (" + strings.Join(out, "; ") + ")")
}

// PutBack puts the change back now.
func (c *LoginChange) PutBack(ctx context.Context, host Host) error {
	_, err := c.ways.script(ctx, host, logins.PutBack)
	return err
}

// Heard has the instance keep no more for the next session what became of the change: the service was told.
func (c *LoginChange) Heard(ctx context.Context, host Host) {
	_, _ = c.ways.script(ctx, host, logins.Report) // it is told once more otherwise
}

// Confirm ends the way back, in a session of a connection that was made after Place. sign makes an SSH signature of a text, armored, for
// logins.Namespace. ErrWentBack.
func (c *LoginChange) Confirm(ctx context.Context, fresh *Client, sign func(text []byte) (string, error)) error {
	armored, err := sign([]byte(c.arming.Challenge))
	if err != nil {
		return err
	}
	return confirmed(withInput(ctx, fresh, c.ways.prefix+"sh -c "+shellQuote(logins.Confirm), armored))
}

// ConfirmLogin ends the way back on this machine for a login of which one process is known; signature is over the change's challenge. It is for
// whoever is root there without a session. ErrWentBack.
func ConfirmLogin(ctx context.Context, host Host, process int, signature string) error {
	return confirmed(withInput(ctx, host, "sh -c "+shellQuote(logins.ConfirmOf(process)), signature))
}

// PutBackLogins puts a change back that waits, as LoginChange.PutBack does, for whoever is root there without a session.
func PutBackLogins(ctx context.Context, host Host) error {
	_, err := (&LoginWays{}).script(ctx, host, logins.PutBack)
	return err
}

// HeardLogins is LoginChange.Heard, for whoever is root there without a session.
func HeardLogins(ctx context.Context, host Host) error {
	_, err := (&LoginWays{}).script(ctx, host, logins.Report)
	return err
}

// OwnProcess is a process of the SSH server's that serves this connection, by its number on the machine: it lasts as long as the connection.
func OwnProcess(ctx context.Context, fresh *Client) (int, error) {
	text, err := capture(ctx, fresh, "exec sh -c 'echo $PPID'") // whatever the user's own shell is
	n, bad := strconv.Atoi(strings.TrimSpace(text))
	if bad != nil || n < 2 {
		return 0, fmt.Errorf("which process serves this login is not known: %w", errors.Join(err, bad))
	}
	return n, nil
}

func confirmed(text string, err error) error {
	switch said := lastLine(text); said {
	case logins.SaidDone:
		return nil
	case logins.SaidOver:
		return ErrWentBack
	case logins.SaidOld:
		return errors.New("the login that confirms was made before the change")
	case logins.SaidUnsigned:
		return errors.New("the key that logged in is none of those that may confirm")
	default:
		return fmt.Errorf("it could not be confirmed: %w", errors.Join(err, errors.New(plaintext.Line(plaintext.Cut(said, 200)))))
	}
}

// reported is a line that a way back writes of what it did.
var reported = regexp.MustCompile(`^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ .`)
