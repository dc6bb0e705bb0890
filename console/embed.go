// Package console carries the built web console. It is built from the sources
// beside this file by `make console`.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files are the console's files; index.html is missing in a build without it.
func Files() fs.FS {
	sub, err := fs.Sub(dist, "dist")
	if err != nil { // the folder is part of the build
		panic(err)
	}
	return sub
}
