// Package console holds the built web console. "make build" builds it into
// dist; without that the service runs and says that there is no console.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files returns the built console, index.html at its root.
func Files() fs.FS {
	sub, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // "dist" is a constant that the compiler has checked
	}
	return sub
}
