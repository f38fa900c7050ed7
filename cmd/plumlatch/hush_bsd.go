//go:build darwin || freebsd || netbsd || openbsd || dragonfly

package main

import "golang.org/x/sys/unix"

const termiosGet, termiosSet = unix.TIOCGETA, unix.TIOCSETA
