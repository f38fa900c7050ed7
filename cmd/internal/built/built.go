// Package built says what a program was built from.
package built

import (
	"fmt"
	"runtime/debug"
)

// Text is the program's name, the commit that it was built from, and by which Go. A build
// without version control, as of an archive, has no commit.
func Text(program string) string {
	commit, changed, built := "unknown", "", ""
	if info, ok := debug.ReadBuildInfo(); ok {
		built = ", " + info.GoVersion
		for _, s := range info.Settings {
			switch {
			case s.Key == "vcs.revision":
				commit = s.Value
			case s.Key == "vcs.modified" && s.Value == "true":
				changed = " with changes"
			}
		}
	}
	return fmt.Sprintf("%s, commit %s%s%s", program, commit, changed, built)
}
