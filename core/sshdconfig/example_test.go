package sshdconfig_test

import (
	"fmt"

	"plumlatch/core/sshdconfig"
)

// The first value counts, as it does to sshd; a Match block is only told of.
func ExampleRead() {
	files := map[string]string{
		"/etc/ssh/sshd_config": "Include /etc/ssh/sshd_config.d/*.conf\nPasswordAuthentication " +
			"yes\nMatch User debian\n  AuthorizedKeysFile /etc/keys\n",
		"/etc/ssh/sshd_config.d/10.conf": "PasswordAuthentication no\n",
	}
	c := sshdconfig.Read("/etc/ssh/sshd_config",
		func(file string) (string, bool) { text, ok := files[file]; return text, ok },
		func(string) []string { return []string{"/etc/ssh/sshd_config.d/10.conf"} })
	s, ok := c.Get("passwordauthentication")
	fmt.Println(s.Value, s.File, ok)
	fmt.Println(c.Matched)
	// Output:
	// no /etc/ssh/sshd_config.d/10.conf true
	// [authorizedkeysfile]
}
