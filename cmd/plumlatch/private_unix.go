//go:build !windows

package main

import (
	"fmt"
	"io/fs"
	"os"
)

// What the owner alone may do with a private file, in words.
const (
	aloneNote = "mode 0600"
	aloneWord = "0600"
	madeAlone = "Its mode is 0600 now."
)

// othersRead says how others than the owner can read or change a private file; "" if they cannot.
// ssh(1) ignores a private file that others can read.
func othersRead(_ string, fi fs.FileInfo) (how string, err error) {
	if m := fi.Mode().Perm(); m&0o077 != 0 {
		return fmt.Sprintf("mode %04o", m), nil
	}
	return "", nil
}

// setAlone lets the owner alone read and change a file.
func setAlone(file string) error { return os.Chmod(file, 0o600) }

// makeFolder makes a folder for its owner alone, with those above it, unless it is there.
func makeFolder(dir string) error { return os.MkdirAll(dir, 0o700) }

// aloneCommand is what does the same by hand.
func aloneCommand(file string) string { return "chmod 600 " + shellWord(file) }
