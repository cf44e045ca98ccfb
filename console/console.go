// Package console holds the built web console, to be served by the service. Its sources are beside it; `make build`
// builds them into dist.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files are the built console's files.
func Files() (fs.FS, error) { return fs.Sub(dist, "dist") }
