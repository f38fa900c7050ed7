//go:build unix

package main

import "golang.org/x/sys/unix"

// hush has a terminal show nothing of what is typed (termios(3), ECHO) until again is called.
func hush(fd int) (again func(), err error) {
	before, err := unix.IoctlGetTermios(fd, termiosGet)
	if err != nil {
		return nil, err
	}
	quiet := *before
	quiet.Lflag &^= unix.ECHO
	if err := unix.IoctlSetTermios(fd, termiosSet, &quiet); err != nil {
		return nil, err
	}
	return func() { _ = unix.IoctlSetTermios(fd, termiosSet, before) }, nil
}
