// Package web holds the compiled console.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Console returns the console's files; index.html is missing when it was not built.
func Console() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // dist is a constant
	}
	return files
}
