//go:build linux || solaris || aix

package main

import "golang.org/x/sys/unix"

const termiosGet, termiosSet = unix.TCGETS, unix.TCSETS
