package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files are the built files; without a build there is no index.html among them.
func Files() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the name is written above
	}
	return files
}
