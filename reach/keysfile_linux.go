package reach

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strconv"
	"strings"

	"plumlatch/core/names"
)

// UserHere is a user of the machine that this program runs on.
type UserHere struct {
	UID, GID int
	Home     string
}

// KeysFileHere tells who a user of this machine is, and which file of keys its server reads for them: the first one, from the root.
// ErrRefused, ErrKeysFiles.
func KeysFileHere(ctx context.Context, user string) (u UserHere, file string, err error) {
	if !names.LoginUser(user) {
		return u, "", fmt.Errorf("%w: it names no login user", ErrRefused)
	}
	text, err := capture(ctx, Here{}, "getent passwd "+shellQuote(user))
	f := strings.Split(strings.TrimSpace(text), ":")
	if err != nil || len(f) != 7 || f[0] != user {
		return u, "", fmt.Errorf("%w: there is no user of that name", ErrRefused)
	}
	uid, bad := strconv.Atoi(f[2])
	gid, odd := strconv.Atoi(f[3])
	if bad != nil || odd != nil || !safeHome.MatchString(f[5]) {
		return u, "", fmt.Errorf("%w: the account is an odd one", ErrRefused)
	}
	u = UserHere{uid, gid, path.Clean(f[5])}
	in, err := Inspect(ctx, Here{}, user, "")
	if err != nil {
		return u, "", err
	}
	if len(in.KeysFiles) == 0 {
		return u, "", fmt.Errorf("%w: its server reads no file of keys for %s", ErrRefused, user)
	}
	if file = in.KeysFiles[0]; !path.IsAbs(file) {
		file = path.Join(u.Home, file)
	}
	if !safePath.MatchString(file) {
		return u, "", errors.Join(ErrRefused, ErrKeysFiles)
	}
	return u, file, nil
}
