package cloudconfig

import (
	"fmt"
	"strings"

	"plumlatch/core/hostkeys"
)

// BootHook returns user data that adds lines to a user's file of keys at boot
// (cloud-init, "Cloud boothook"): POSIX sh, as root, before anybody can log in. A
// relative file begins at the home. It follows no link, keeps what stands there, and
// does nothing twice. With a mark, of letters and digits, it prints the machine's public host keys between
// two lines that bear it, for hostkeys.Printed.
func BootHook(work int64, user, file string, lines []string, mark string) string {
	var b strings.Builder
	fmt.Fprintf(&b, `#cloud-boothook
#!/bin/sh
# Plum Latch, work %d: lets a new key in for %s, once. Its own user data is put back afterwards.
%su=%s
f=%s
h=$(getent passwd "$u" | cut -d: -f6)
[ -n "$h" ] || { echo "plumlatch: there is no user $u"; exit 0; }
case "$f" in /*) ;; *) f="$h/$f" ;; esac
d=${f%%/*}
for p in "$h" "$d" "$f"; do
  if [ -L "$p" ]; then echo "plumlatch: $p is a link; nothing was changed"; exit 0; fi
done
if [ ! -d "$d" ]; then
  mkdir -m 700 "$d" && chown "$u:" "$d" || exit 0
fi
if [ ! -e "$f" ]; then
  touch "$f" && chmod 600 "$f" && chown "$u:" "$f" || exit 0
fi
`, work, user, printKeys(mark), shellWord(user), shellWord(file))
	for _, line := range lines {
		// By options and key, whatever the comment says; nothing of these means anything else in a pattern.
		f := strings.Fields(line)
		key := strings.Join(f[:min(len(f), 2+strings.Count(f[0], "restrict,"))], " ")
		fmt.Fprintf(&b, "grep -q -e %s \"$f\" || { printf '\\n%%s\\n' %s >> \"$f\" && echo 'plumlatch: a line was "+
			"added'; }\n", shellWord("^"+key), shellWord(line))
	}
	b.WriteString("if command -v restorecon >/dev/null 2>&1; then restorecon \"$d\" \"$f\"; fi\nexit 0\n")
	return b.String()
}

// printKeys are the commands that print the host keys between two marked lines.
func printKeys(mark string) string {
	if mark == "" {
		return ""
	}
	begin, end := hostkeys.Marks(mark)
	return fmt.Sprintf("echo '%s'\nfor k in /etc/ssh/ssh_host_*_key.pub; do [ -f \"$k\" ] && cat \"$k\"; done\necho '%s'\n",
		begin, end)
}

// shellWord quotes a word for sh.
func shellWord(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
