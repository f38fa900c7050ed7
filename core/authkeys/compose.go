package authkeys

import (
	"errors"
	"net/netip"
	"strings"
)

// ErrUnwritable says that a value cannot stand in an authorized_keys line.
var ErrUnwritable = errors.New("a line break, NUL or backslash at the end cannot stand in an authorized_keys line")

// Quote returns value as a quoted option value. sshd knows one escape, \" for
// a quote; a backslash elsewhere is itself.
func Quote(value string) (string, error) {
	if strings.ContainsAny(value, "\r\n\x00") || strings.HasSuffix(value, `\`) || strings.Contains(value, `\"`) {
		return "", ErrUnwritable
	}
	return `"` + strings.ReplaceAll(value, `"`, `\"`) + `"`, nil
}

// StewardOptions are the options of every steward key: SFTP as the login user
// and nothing else. OpenSSH knows "restrict" since 7.2.
const StewardOptions = `restrict,command="internal-sftp"`

// HopOptions are the options of a steward key on a jump host: forwarding to one
// server and port, and nothing else. "restrict" alone would still run commands
// (sshd(8), AUTHORIZED_KEYS FILE FORMAT), so one is forced that does nothing.
func HopOptions(target netip.AddrPort) string {
	return `restrict,port-forwarding,permitopen="` + target.String() + `",command="/bin/false"`
}
