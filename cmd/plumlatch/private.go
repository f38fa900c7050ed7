package main

import (
	"fmt"
	"os"
)

// ownAlone lets the owner alone read and change a file, and looks whether that holds: some file
// systems take a mode or an access list, say nothing, and keep none of it (a stick, a shared folder).
func ownAlone(file string) error {
	if err := setAlone(file); err != nil {
		return err
	}
	fi, err := os.Stat(file)
	if err != nil {
		return err
	}
	how, err := othersRead(file, fi)
	if err == nil && how != "" {
		err = fmt.Errorf("%s: others can read it in this folder whatever is set (%s): take a folder on a disk of "+
			"this machine, and below your home", file, how)
	}
	return err
}
