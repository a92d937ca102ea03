// Package web holds the console as it was built; the folder dist is made by vite.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files are the console's, or ok is false when it was not built into this binary.
func Files() (files fs.FS, ok bool) {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		return nil, false
	}
	_, err = fs.Stat(files, "index.html")
	return files, err == nil
}
