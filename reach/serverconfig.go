package reach

import (
	"path"
	"strings"

	"plumlatch/core/sshdconfig"
)

// maxConfigs is how many names of a folder of configuration files are read.
const maxConfigs = 24

// ReadServerConfig reads the text of a server's configuration, and of what that includes, as far as whoever reads may.
func ReadServerConfig(files Files, main string) sshdconfig.Config {
	text := func(name string) (string, bool) {
		s, err := ReadText(files, name)
		return s, err == nil
	}
	glob := func(pattern string) []string {
		dir := path.Dir(pattern)
		if strings.ContainsAny(dir, "*?[") {
			return nil
		}
		if !strings.ContainsAny(pattern, "*?[") {
			return []string{pattern}
		}
		names, _, err := files.ReadDir(dir, maxConfigs)
		if err != nil {
			return nil
		}
		var out []string
		for _, n := range names {
			// As glob(3) has it, a name that begins with a dot is meant only if the pattern does too.
			hidden := strings.HasPrefix(n, ".") && !strings.HasPrefix(path.Base(pattern), ".")
			if ok, err := path.Match(path.Base(pattern), n); ok && err == nil && !hidden {
				out = append(out, path.Join(dir, n))
			}
		}
		return out
	}
	return sshdconfig.Read(main, text, glob)
}
