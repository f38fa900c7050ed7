package why

import (
	"regexp"
	"strings"

	"plumlatch/core/plaintext"
)

var (
	sigAlgs     = regexp.MustCompile(`server-sig-algs=<([^>]*)>`)
	canContinue = regexp.MustCompile(`Authentications that can continue: (\S+)`)
	keyOptions  = regexp.MustCompile(`Remote: (\S+:\d+): key options: ?(.*)`)
)

// ReadSSH reads what OpenSSH's client says of a login (ssh(1), -v, of OpenSSH
// 7 to 9), and of the options that the server tells it stand with the key.
func ReadSSH(text string, l *Login) {
	var banner []string
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\n")
		debug := strings.HasPrefix(line, "debug1: ")
		switch {
		case strings.Contains(line, "Server accepts key:"):
			l.TookKey = true
		case strings.HasPrefix(line, "Authenticated to "):
			l.Authenticated = true
		case strings.Contains(line, "with partial success"):
			l.Partial = true
		case strings.Contains(line, "no mutual signature"):
			l.NoMutual = true
		}
		if m := sigAlgs.FindStringSubmatch(line); m != nil {
			l.SignaturesOf = strings.Split(plaintext.Line(m[1]), ",")
		}
		if m := canContinue.FindStringSubmatch(line); m != nil {
			l.Methods = strings.Split(plaintext.Line(m[1]), ",")
		}
		if m := keyOptions.FindStringSubmatch(line); m != nil && !l.OptionsKnown {
			l.OptionsKnown = true
			for _, o := range strings.Fields(m[2]) {
				l.Forced = l.Forced || o == "command"
			}
		}
		if debug || line == "" || strings.HasPrefix(line, "OpenSSH_") ||
			strings.HasPrefix(line, "Authenticated to ") || strings.HasPrefix(line, "Warning: Permanently") {
			continue
		}
		l.Said = plaintext.Line(plaintext.Cut(line, 200))
		if l.TookKey && !isSSHsOwn(line) {
			banner = append(banner, line)
		}
	}
	l.Banner = plaintext.Line(plaintext.Cut(strings.Join(banner, " "), 200))
	l.Closed = l.TookKey && !l.Authenticated && !l.Partial && strings.Contains(l.Said, "closed")
	if l.Partial {
		l.TookKey = true
	}
}

// isSSHsOwn tells ssh's own words from the server's.
func isSSHsOwn(line string) bool {
	for _, own := range []string{"Connection closed by", "Connection reset by", "Permission denied",
		"Received disconnect", "Disconnected from", "debug", "Transferred:", "Bytes per second", "Killed by signal",
		": Permission denied"} {
		if strings.Contains(line, own) {
			return true
		}
	}
	return false
}
