package standin

import (
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-crypt/crypt"
	"golang.org/x/crypto/ssh"
)

// settings reads as much of the server's configuration as is modelled:
// sshd_config.d/*.conf first, as Debian's own file includes it, and the first
// value wins (sshd_config(5)). Keywords in lower case.
func (s *server) settings() map[string]string {
	var files []string
	entries, _ := fs.ReadDir(s.root.FS(), "etc/ssh/sshd_config.d")
	for _, e := range entries {
		if strings.HasSuffix(e.Name(), ".conf") {
			files = append(files, "etc/ssh/sshd_config.d/"+e.Name())
		}
	}
	slices.Sort(files)
	out := map[string]string{}
	for _, f := range append(files, "etc/ssh/sshd_config") {
		text, err := s.root.ReadFile(f)
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(text)) {
			word, value, _ := strings.Cut(strings.TrimSpace(line), " ")
			word = strings.ToLower(word)
			if _, has := out[word]; !has && word != "" && !strings.HasPrefix(word, "#") {
				out[word] = strings.TrimSpace(value)
			}
		}
	}
	return out
}

// configure makes the configuration of one connection, as the files say now.
func (s *server) configure() *ssh.ServerConfig {
	set := s.settings()
	config := &ssh.ServerConfig{ServerVersion: s.image.Banner, MaxAuthTries: maxAuthTries}
	if v := set["standinidentification"]; v != "" { // no word of sshd's: what a server of another version says (RFC 4253 section 4.2)
		config.ServerVersion = v
	}
	if n, err := strconv.Atoi(set["maxauthtries"]); err == nil && n > 0 {
		config.MaxAuthTries = n
	}
	if v := set["ciphers"]; v != "" {
		config.Ciphers = strings.Split(v, ",")
	}
	if v := set["pubkeyacceptedalgorithms"]; v != "" {
		config.PublicKeyAuthAlgorithms = strings.Split(v, ",")
	}
	if set["pubkeyauthentication"] != "no" {
		config.PublicKeyCallback = s.authorize
		config.VerifiedPublicKeyCallback = func(c ssh.ConnMetadata, _ ssh.PublicKey, p *ssh.Permissions,
			_ string) (*ssh.Permissions, error) {
			return s.account(c.User(), set, p)
		}
	}
	if set["passwordauthentication"] == "yes" {
		config.PasswordCallback = func(c ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			if !isPassword(s.password(c.User()), password) {
				return nil, errRefused
			}
			return s.account(c.User(), set, &ssh.Permissions{Extensions: map[string]string{}})
		}
	}
	config.AddHostKey(s.hostKey)
	return config
}

// account decides what sshd and PAM decide after a key's signature was good.
func (s *server) account(name string, set map[string]string, p *ssh.Permissions) (*ssh.Permissions, error) {
	a, ok := s.lookup(name)
	switch {
	case !ok:
		return nil, errRefused
	case a.uid == 0 && set["permitrootlogin"] == "no":
		return nil, errRefused
	}
	if text, err := s.root.ReadFile("etc/nologin"); err == nil && a.uid != 0 { // pam_nologin(8)
		return nil, &ssh.BannerError{Err: errRefused, Message: string(text)}
	}
	if day, ok := s.expires(name); ok && s.now().Unix()/86400 >= day { // pam_unix(8), shadow(5)
		return nil, &ssh.BannerError{Err: errRefused,
			Message: "Your account has expired; please contact your system administrator.\n"}
	}
	if strings.Contains(set["authenticationmethods"], "keyboard-interactive") {
		return nil, &ssh.PartialSuccessError{Next: ssh.ServerAuthCallbacks{
			KeyboardInteractiveCallback: func(_ ssh.ConnMetadata,
				ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
				_, _ = ask("", "", []string{"Verification code: "}, []bool{false})
				return nil, errRefused
			},
		}}
	}
	return p, nil
}

// expires returns the day on which an account ends, since 1970 (shadow(5)).
func (s *server) expires(name string) (int64, bool) {
	shadow, err := s.root.ReadFile("etc/shadow")
	if err != nil {
		return 0, false
	}
	for line := range strings.Lines(string(shadow)) {
		if f := strings.Split(strings.TrimSpace(line), ":"); len(f) > 7 && f[0] == name {
			day, err := strconv.ParseInt(f[7], 10, 64)
			return day, err == nil
		}
	}
	return 0, false
}

// password is what etc/shadow has of a user's password: a hash (crypt(5)), or on a stand-in "{plain}WORD"; "" for none.
func (s *server) password(name string) string {
	shadow, err := s.root.ReadFile("etc/shadow")
	if err != nil {
		return ""
	}
	for line := range strings.Lines(string(shadow)) {
		if f := strings.Split(strings.TrimSpace(line), ":"); len(f) > 1 && f[0] == name {
			return f[1]
		}
	}
	return ""
}

// isPassword tells whether a password is the one that is kept.
func isPassword(kept string, password []byte) bool {
	if word, ok := strings.CutPrefix(kept, "{plain}"); ok {
		return word != "" && word == string(password)
	}
	if !strings.HasPrefix(kept, "$") {
		return false
	}
	ok, err := crypt.CheckPassword(string(password), kept)
	return ok && err == nil
}

// penalties is a per-source penalty as OpenSSH 9.8 and later have it
// (sshd_config(5), PerSourcePenalties), where the configuration says "yes":
// after a few logins that came to nothing, an address is turned away.
type penalties struct {
	mu    sync.Mutex
	since map[string][]time.Time
}

const (
	penaltyAfter = 5
	penaltyFor   = 2 * time.Minute
	penaltyWords = "Not allowed at this time\r\n"
)

func (p *penalties) failed(from string, now time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.since == nil {
		p.since = map[string][]time.Time{}
	}
	p.since[from] = append(p.since[from], now)
}

func (p *penalties) turnsAway(from string, now time.Time) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	recent := slices.DeleteFunc(p.since[from], func(t time.Time) bool { return now.Sub(t) > penaltyFor })
	if p.since != nil {
		p.since[from] = recent
	}
	return len(recent) >= penaltyAfter
}

// noLogin tells whether a shell is one that lets nobody in.
func noLogin(shell string) bool {
	return strings.HasSuffix(shell, "/nologin") || strings.HasSuffix(shell, "/false")
}

const noLoginWords = "This account is currently not available."
