package reach

import (
	"context"
	"errors"
	"fmt"
	"path"
	"regexp"
	"strings"

	"plumlatch/core/plaintext"
)

// ownKeyScript appends a line to a file of keys of the user who runs it, unless the key stands there; it makes the file, and its folder,
// where there are none. The line comes on the standard input, after the file's name and the key's blob.
const ownKeyScript = `set -eu
umask 077
read -r f
read -r b
read -r l
[ ! -L "$f" ] || { echo "plumlatch-refused $f is a link"; exit 0; }
mkdir -p "$(dirname "$f")"
[ -e "$f" ] || : >"$f"
if ! grep -q -F -e "$b" "$f"; then
  [ -z "$(tail -c 1 "$f")" ] || echo >>"$f"
  printf '%s\n' "$l" >>"$f"
fi
sync "$f" 2>/dev/null || :
echo plumlatch-done
`

// PlaceOwnKey has a session of user's place a key of user's own, and returns the file. ErrRefused where the server reads no file that the
// user may write.
func PlaceOwnKey(ctx context.Context, host Host, user, given, line string) (file string, err error) {
	in, err := Inspect(ctx, host, user, given)
	if err != nil {
		return "", err
	}
	for _, f := range in.KeysFiles {
		if !path.IsAbs(f) && safeRelative.MatchString(f) {
			file = f
			break
		}
	}
	if file == "" {
		return "", fmt.Errorf("%w: its server reads keys from where %s may not write", ErrRefused, user)
	}
	blob := blobWord(line)
	if blob == "" {
		return "", errors.New("that is no line of a key")
	}
	text, err := withInput(ctx, host, "sh -c "+shellQuote(ownKeyScript), file+"\n"+blob+"\n"+line+"\n")
	if _, err := answer(text, err); err != nil {
		return "", err
	}
	return plaintext.Line(file), nil
}

// safeRelative is a path below the home that goes into a script as it is.
var safeRelative = regexp.MustCompile(`^[A-Za-z0-9_.+-]+(/[A-Za-z0-9_.+-]+)*$`)

// blobWord is the base64 of a line's key.
func blobWord(line string) string {
	f := strings.Fields(line)
	if len(f) < 2 || strings.ContainsAny(line, "\r\n") {
		return ""
	}
	return f[1]
}
