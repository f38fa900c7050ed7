package why

import (
	"fmt"
	"slices"
	"strings"
)

// account judges what the server makes of the user and the key.
func (j *judge) account() {
	f := j.f
	if f.Key == nil {
		if f.File == nil {
			j.wrong(KeyNotInFile, stageKey, "plumlatch instance show "+f.Instance,
				"No key of a person is recorded to open it.", evidence("the ledger has none"))
		} else if len(f.File.Findings) == 0 {
			j.notSeen("whether the server takes the key: the file hides its public half until it is unlocked")
		}
		return
	}
	if f.Login != nil && len(f.Login.SignaturesOf) > 0 && f.Key.Type != "" &&
		!slices.ContainsFunc(signatures(f.Key.Type),
			func(s string) bool { return slices.Contains(f.Login.SignaturesOf, s) }) {
		j.wrong(NoAlgorithm, stageServer, "plumlatch key create NAME -kind ed25519",
			"The server verifies no signature that this key can make.",
			evidence("it said so as it greeted ssh (server-sig-algs)"),
			sideBySide(strings.Join(signatures(f.Key.Type), " "), strings.Join(f.Login.SignaturesOf, " ")))
		return
	}
	if f.Login != nil && f.Login.NoMutual ||
		len(f.KeyTypes) > 0 && f.Key.Type != "" && !slices.Contains(f.KeyTypes, f.Key.Type) {
		found := f.Key.Type
		j.wrong(NoAlgorithm, stageServer, "plumlatch key create NAME -kind ed25519",
			"The server takes no signature that this kind of key can make.",
			evidence("ssh and the image's description say so"), sideBySide(strings.Join(f.KeyTypes, " "), found))
		return
	}
	j.tooMany()
	answer, who := j.answer(f.User, f.Key.Fingerprint)
	switch answer {
	case Accepted:
		j.pass(KeyNotInFile, stageKey, "the server would take the key for %s, asked %s", f.User, who)
		j.pass(LoginUser, stageAccount, "%s is a login user of it", f.User)
		j.session()
	case NotOffered:
		j.wrong(PasswordOnly, stageAccount, "plumlatch instance boot-log "+f.Instance,
			"The server takes no keys from "+f.User+": it offers other methods only.",
			evidence("it was asked %s%s", who, j.methods()))
	case KeyRefusal:
		j.refused(who)
	default:
		j.notSeen("whether the server takes the key: %s", j.askedFailed())
		j.session()
	}
}

// signatures are the algorithms by which ssh signs with a key (RFC 8332: no more SHA-1).
func signatures(keyType string) []string {
	if keyType == "ssh-rsa" {
		return []string{"rsa-sha2-512", "rsa-sha2-256"}
	}
	return []string{keyType}
}

func (j *judge) methods() string {
	if j.f.Login != nil && len(j.f.Login.Methods) > 0 {
		return "; it offers " + strings.Join(j.f.Login.Methods, ", ")
	}
	return ""
}

func (j *judge) askedFailed() string {
	for _, s := range []*Side{j.f.Here, j.f.Service} {
		if s != nil && s.AskedFailed != "" {
			return s.AskedFailed
		}
	}
	return "nobody could ask it"
}

// answer returns what the server said about a key: to the engineer's machine, else to the service.
func (j *judge) answer(user, fingerprint string) (answer, who string) {
	if a := j.f.Here.answer(user, fingerprint); a != "" {
		return a, "from here"
	}
	if a := j.f.Service.answer(user, fingerprint); a != "" {
		return a, "from the service"
	}
	return "", ""
}

func (j *judge) tooMany() {
	a := j.f.Agent
	if a == nil || !a.Relevant {
		return
	}
	if a.Before >= maxTries && !a.Written {
		j.wrong(TooManyKeys, stageFile, "plumlatch hosts write",
			"Plain ssh offers too many other keys first: the server hangs up before it comes to the right one.",
			evidence("the agent has %d keys that come before it, and servers take %d tries", a.Before, maxTries),
			fix("write a configuration that offers the one file only"))
		return
	}
	j.pass(TooManyKeys, stageFile, "few enough keys come before the right one")
}

// maxTries is OpenSSH's MaxAuthTries: the server hangs up at the sixth refused key.
const maxTries = 6

// refused tells why the server does not take the key for the user.
func (j *judge) refused(who string) {
	f := j.f
	key := f.Key.Fingerprint
	evid := evidence("the server was asked %s, and refuses the key for %s", who, f.User)
	// Another user that the key opens, or none such as was asked for.
	for user := range usersAsked(f) {
		if user == "root" && f.User == f.Recorded {
			continue // first boot gives root a line that only prints which user to use
		}
		if a, _ := j.answer(user, key); user != f.User && a == Accepted {
			j.wrong(LoginUser, stageAccount, fmt.Sprintf("plumlatch open %s -user %s", f.Instance, user),
				fmt.Sprintf("The login user is wrong: this key opens %s, and not %s.", user, f.User),
				evidence("the server would take the key for %s%s", user, j.existing()), sideBySide(user, f.User))
			return
		}
	}
	if f.Inside.HasUsers && f.Inside.Shell == "" {
		j.wrong(LoginUser, stageAccount, "plumlatch open "+f.Instance,
			fmt.Sprintf("There is no user %s on the instance.", f.User),
			evidence("its /etc/passwd was read%s", j.existing()), sideBySide(f.Recorded, f.User))
		return
	}
	if f.User != f.Recorded {
		if a, _ := j.answer(f.Recorded, key); a == "" || a == KeyRefusal && !f.Inside.Seen {
			j.wrong(LoginUser, stageAccount, "plumlatch open "+f.Instance,
				fmt.Sprintf("The login user is likely wrong: the instance's is %s.", f.Recorded), evid,
				sideBySide(f.Recorded, f.User))
			return
		}
	}
	if j.byLines(who) {
		return
	}
	if f.Inside.Seen && f.Inside.FileSeen {
		export := "cat THE-KEY.pub"
		if f.Key.Name != "" {
			export = "plumlatch key export " + f.Key.Name
		}
		next := fmt.Sprintf("%s { echo; %s; } | plumlatch open %s -- 'cat >> %s'", j.others(), export,
			f.Instance, f.Inside.File)
		j.wrong(KeyNotInFile, stageKey, next, "The key is in none of the files that the server reads for "+f.User+".",
			evidence("the steward read them just now; asked %s, the server refuses the key", who))
		return
	}
	if f.User == f.Recorded && j.allRefused() {
		j.wrong(ServerModes, stageKey, "plumlatch instance boot-log "+f.Instance,
			"The server ignores the whole file: every key that stood in it is refused, the steward's too.",
			evidence("%s; it does so when the home, .ssh or the file can be written by others, and also when the "+
				"file is gone, or when it takes no key of their kind; which of them could not be seen", j.refusals()),
			func(x *Finding) {
				x.Next = fmt.Sprintf("as another user of it with sudo: chmod go-w ~%[1]s ~%[1]s/.ssh "+
					"~%[1]s/.ssh/authorized_keys", f.User)
			})
		return
	}
	why := f.Inside.NotSeen
	if why == "" {
		why = "the steward reads the files of " + f.Recorded + " only"
	}
	j.wrong(KeyRefused, stageKey, "plumlatch access list -instance "+f.Instance,
		"The server refuses the key: it is not in the file, or ended, or limited to other addresses.",
		evidence("asked %s; which of these could not be seen: %s", who, why))
}

// usersAsked are the users that the server was asked about.
func usersAsked(f Facts) map[string]bool {
	out := map[string]bool{}
	for _, s := range []*Side{f.Here, f.Service} {
		if s == nil {
			continue
		}
		for k := range s.Asked {
			user, _, _ := strings.Cut(k, " ")
			out[user] = true
		}
	}
	return out
}

func (j *judge) existing() string {
	var words []string
	if j.f.ImageUser != "" {
		words = append(words, "the image's login user is "+j.f.ImageUser)
	}
	if len(j.f.Inside.Users) > 0 {
		words = append(words, "users with a shell: "+strings.Join(j.f.Inside.Users, ", "))
	}
	if len(words) == 0 {
		return ""
	}
	return "; " + strings.Join(words, "; ")
}

// byLines tells what the lines that hold the key say against it.
func (j *judge) byLines(who string) bool {
	f := j.f
	if !f.Inside.FileSeen || len(f.Inside.Lines) == 0 {
		return false
	}
	for _, l := range f.Inside.Lines {
		switch {
		case l.From != "":
			j.wrong(KeyFrom, stageKey, fmt.Sprintf("come from there (through a jump host); or, %s plumlatch open "+
				"%s, and widen %s", j.others(), f.Instance, l.Where), "The key counts from other addresses only.",
				evidence("%s; the server was asked %s, and refuses it", l.Where, who),
				sideBySide(`from="`+l.From+`"`, j.vantage()))
			return true
		case l.Expired:
			j.wrong(KeyExpired, stageKey,
				fmt.Sprintf("%s plumlatch open %s, and change %s", j.others(), f.Instance, l.Where),
				"The key's time on this instance is over.", evidence("%s: %s", l.Where, l.Reason))
			return true
		}
	}
	for _, k := range f.Keys { // the steward has just come in by the same file
		if k.Steward && f.Inside.Seen && k.Type != f.Key.Type {
			j.wrong(NoAlgorithm, stageServer, "plumlatch key create NAME -kind ed25519",
				"The server takes no signature that this kind of key can make (PubkeyAcceptedAlgorithms).",
				evidence("%s has the key with nothing against it, and it is refused %s; the steward's, of another "+
					"kind, is taken from the same file", f.Inside.Lines[0].Where, who),
				sideBySide(k.Type, f.Key.Type+", signed as "+strings.Join(signatures(f.Key.Type), " or ")))
			return true
		}
	}
	j.wrong(KeyRefused, stageKey, "plumlatch survey "+f.Instance,
		"The key stands in the file, and the server refuses it all the same.",
		evidence("%s; asked %s", f.Inside.Lines[0].Where, who))
	return true
}

// others names who else may get in, as far as the ledger knows, and begins a sentence.
func (j *judge) others() string {
	var names []string
	for _, k := range j.f.Keys {
		if !k.Steward && k.Before && k.Fingerprint != j.f.Key.Fingerprint && k.Name != "" {
			names = append(names, k.Name)
		}
	}
	if len(names) == 0 {
		return "with another key that gets in (the ledger knows none):"
	}
	return "whoever holds " + strings.Join(names[:min(3, len(names))], " or ") + ":"
}

func (j *judge) vantage() string {
	if j.f.SeenAs != "" {
		return j.f.SeenAs
	}
	side, _, _ := j.near()
	if side == nil {
		return ""
	}
	return side.From
}

// allRefused tells whether keys that were taken or read once, the steward's
// among them, are all refused now.
func (j *judge) allRefused() bool {
	steward, refused := false, 0
	for _, k := range j.f.Keys {
		a, _ := j.answer(j.f.Recorded, k.Fingerprint)
		switch {
		case a == Accepted:
			return false
		case a == KeyRefusal && k.Before:
			refused++
			steward = steward || k.Steward
		}
	}
	return steward && refused > 0
}

func (j *judge) refusals() string {
	var names []string
	for _, k := range j.f.Keys {
		if a, _ := j.answer(j.f.Recorded, k.Fingerprint); a == KeyRefusal && k.Before {
			name := k.Name
			if k.Steward {
				name = "the steward's"
			}
			names = append(names, name)
		}
	}
	return "refused now, and taken before: " + strings.Join(names, ", ")
}

// session judges what comes after the key was taken: the account, PAM, the shell.
func (j *judge) session() {
	f, in := j.f, j.f.Inside
	l := f.Login
	banner := in.Banner
	closed := in.Refused && f.User == f.Recorded
	partial := in.Prompted && f.User == f.Recorded
	if l != nil && l.Tried {
		closed, partial = l.Closed || !l.Authenticated && l.TookKey && !l.Partial, l.Partial
		if l.Banner != "" {
			banner = l.Banner
		}
	}
	said := ""
	if banner != "" {
		said = fmt.Sprintf("; it said %q", banner)
	}
	switch {
	case f.User == "root" && (closed || in.RootOff && (l == nil || !l.Authenticated)):
		j.wrong(RootOff, stageAccount, "plumlatch open "+f.Instance,
			"The server lets root in by no key: it took the key, and then refused the login.",
			evidence("PermitRootLogin says so%s", said), sideBySide(f.Recorded, "root"))
		return
	case partial:
		j.wrong(SecondFactor, stageAccount, "ssh -l "+f.User+" "+f.Address+", and answer what it asks",
			"The server takes the key, and asks for a second factor besides.",
			evidence("it accepted the key and then asked for more%s", j.methods()))
		return
	case closed && strings.Contains(strings.ToLower(banner), "expired"):
		j.wrong(AccountExpired, stageAccount, "", "The account "+f.User+" has expired on the instance.",
			evidence("the server took the key, and then refused the login%s", said), func(x *Finding) {
				x.Next = "as another user of it with sudo: chage -E -1 " + f.User
			})
		return
	case closed && (in.NoLogin || banner != ""):
		j.wrong(LoginsOff, stageAccount, "plumlatch instance boot-log "+f.Instance,
			"The instance takes no logins now, as /etc/nologin makes it.",
			evidence("the server took the key, and then refused the login%s", said))
		return
	case closed:
		j.wrong(LoginRefused, stageAccount, "plumlatch instance boot-log "+f.Instance,
			"The server takes the key, and then refuses the login.",
			evidence("the account may have expired, or a rule of PAM bars it%s%s", said, j.methods()))
		return
	}
	j.afterLogin()
}

func (j *judge) afterLogin() {
	f, in, l := j.f, j.f.Inside, j.f.Login
	forced, command := false, ""
	for _, line := range in.Lines {
		if line.Forced {
			forced, command = true, line.Where+": command="+fmt.Sprintf("%q", line.Command)
			break
		}
		if line.Reason == "" {
			break // the first good line decides
		}
	}
	if l != nil && l.Forced {
		forced = true
	}
	// Whether root's line is one cannot be seen, and what it would run must not run.
	if f.User == "root" && f.Recorded != "root" && !f.Adopted && !forced && (l == nil || !l.OptionsKnown) {
		j.wrong(LoginUser, stageAccount, "plumlatch open "+f.Instance,
			"The login user is likely wrong: first boot gives root a line that only prints which user to use.",
			evidence("the server would take the key for root; what stands with it there could not be seen%s",
				j.existing()), sideBySide(f.Recorded, "root"))
		return
	}
	if forced {
		if command == "" {
			command = "the server says so as it lets the key in"
		}
		if f.User == "root" && f.Recorded != "root" {
			if a, _ := j.answer(f.Recorded, f.Key.Fingerprint); a == Accepted {
				j.wrong(LoginUser, stageAccount, "plumlatch open "+f.Instance,
					"The login user is wrong: root's line only runs a command, and the key opens "+f.Recorded+".",
					evidence("%s%s", command, j.existing()), sideBySide(f.Recorded, "root"))
				return
			}
		}
		j.wrong(ForcedCommand, stageSession,
			fmt.Sprintf("%s plumlatch open %s; or plumlatch survey %s, which shows the line", j.others(), f.Instance,
				f.Instance), "The key stands with a forced command: it runs that, and opens no shell.",
			evidence("%s", command))
		return
	}
	if in.FileSeen || l != nil && l.OptionsKnown {
		j.pass(ForcedCommand, stageKey, "no forced command stands with it")
	} else {
		j.notSeen("whether a forced command stands with the key")
	}
	switch {
	case f.User == f.Recorded && isNoLogin(in.Shell), l != nil && l.SessionTried && !l.SessionOK &&
		(isNoLogin(in.Shell) || strings.Contains(l.SessionSaid, "not available")):
		said := "its /etc/passwd says " + in.Shell
		if in.Shell == "" && l != nil {
			said = fmt.Sprintf("it said %q", l.SessionSaid)
		}
		j.wrong(NoShell, stageSession, "", "The login user's shell lets nobody in.", evidence("%s", said),
			func(x *Finding) {
				x.Next = "as another user of it with sudo: chsh -s /bin/sh " + f.User
			})
		return
	case l != nil && l.SessionTried && !l.SessionOK:
		j.wrong(LoginRefused, stageSession, "plumlatch open "+f.Instance,
			"The login succeeds, and the session ends at once.", evidence("it said %q", l.SessionSaid))
		return
	}
	if in.Shell != "" {
		j.pass(NoShell, stageSession, "the shell of %s is %s", f.User, in.Shell)
	}
	switch {
	case l != nil && l.Authenticated:
		gets := ""
		if l.SessionOK {
			gets = ", and gets a session"
		}
		j.pass(LoginRefused, stageSession, "a login as %s succeeds from here%s", f.User, gets)
	case l != nil && l.Tried && !l.TookKey:
		j.wrong(LoginRefused, stageAccount, "plumlatch open "+f.Instance, "The login did not succeed.",
			evidence("ssh said %q", l.Said))
	case l != nil && l.NotTried != "":
		j.notSeen("a login from here: %s", l.NotTried)
	}
}

func isNoLogin(shell string) bool {
	return strings.HasSuffix(shell, "/nologin") || strings.HasSuffix(shell, "/false")
}
