package authkeys

import (
	"errors"
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
