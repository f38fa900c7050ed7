//go:build halt

package main

import (
	"os"
	"syscall"
	"time"
)

// halts ends or stops this process at the point that PLUMLATCHD_HALT names, the
// first time that it gets there: PLUMLATCHD_HALT_ONCE is a file that says that
// it did, and PLUMLATCHD_HALT_HOW is "kill" or "stop".
func halts(point string) {
	if point != os.Getenv("PLUMLATCHD_HALT") {
		return
	}
	f, err := os.OpenFile(os.Getenv("PLUMLATCHD_HALT_ONCE"), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return
	}
	f.Close()
	how := syscall.SIGKILL
	if os.Getenv("PLUMLATCHD_HALT_HOW") == "stop" {
		how = syscall.SIGSTOP
	}
	_ = syscall.Kill(os.Getpid(), how)
	time.Sleep(20 * time.Millisecond) // the signal takes every thread
}

func init() { halt = halts }
