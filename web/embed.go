// Package web holds the built front end.
package web

import (
	"embed"
	"io/fs"
)

// dist is filled by the front end's build; without it, it holds a place-holder
// only, so that a plain go build works.
//
//go:embed all:dist
var dist embed.FS

// Files returns the files of the front end.
func Files() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic("web: " + err.Error()) // the folder is named above
	}
	return files
}
