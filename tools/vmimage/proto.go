package main

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// prototype describes a tree as mkfs.xfs(8) reads it. It knows no names with blanks, no hard links and no extended attributes:
// a name with a blank is left out, and Debian's packages have none that a machine needs.
func prototype(root string) ([]byte, error) {
	var out bytes.Buffer
	fmt.Fprintln(&out, "/") // no boot block
	fmt.Fprintln(&out, "0 0")
	top, err := os.Lstat(root)
	if err != nil {
		return nil, err
	}
	fmt.Fprintf(&out, "%s %s\n", protoMode(top), protoOwner(top))
	if err := protoFolder(&out, root); err != nil {
		return nil, err
	}
	fmt.Fprintln(&out, "$")
	return out.Bytes(), nil
}

func protoFolder(out *bytes.Buffer, dir string) error {
	all, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, e := range all {
		name, file := e.Name(), filepath.Join(dir, e.Name())
		if strings.ContainsAny(name, " \t\n") {
			continue
		}
		f, err := os.Lstat(file)
		if err != nil {
			return err
		}
		line := fmt.Sprintf("%s %s %s", name, protoMode(f), protoOwner(f))
		switch f.Mode().Type() {
		case os.ModeDir:
			fmt.Fprintln(out, line)
			if err := protoFolder(out, file); err != nil {
				return err
			}
			fmt.Fprintln(out, "$")
		case os.ModeSymlink:
			to, err := os.Readlink(file)
			if err != nil {
				return err
			}
			fmt.Fprintln(out, line, to)
		case 0:
			fmt.Fprintln(out, line, file)
		}
	}
	return nil
}

// protoMode is the six characters that mkfs.xfs(8) takes: the type, set-user-ID, set-group-ID, and three digits.
func protoMode(f os.FileInfo) string {
	mode := []byte("---")
	switch f.Mode().Type() {
	case os.ModeDir:
		mode[0] = 'd'
	case os.ModeSymlink:
		mode[0] = 'l'
	}
	if f.Mode()&os.ModeSetuid != 0 {
		mode[1] = 'u'
	}
	if f.Mode()&os.ModeSetgid != 0 {
		mode[2] = 'g'
	}
	return fmt.Sprintf("%s%03o", mode, f.Mode().Perm())
}

func protoOwner(f os.FileInfo) string {
	s := f.Sys().(*syscall.Stat_t)
	return fmt.Sprintf("%d %d", s.Uid, s.Gid)
}
