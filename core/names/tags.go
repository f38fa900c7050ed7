package names

import "strings"

// TagFits tells whether tags have NAME=VALUE, or NAME with any value.
func TagFits(tag string, tags map[string]string) bool {
	name, value, both := strings.Cut(tag, "=")
	v, ok := tags[name]
	return ok && (!both || v == value)
}
