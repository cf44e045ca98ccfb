package api

import (
	"errors"
	"io/fs"
	"net/http"
	"path"
	"strings"

	"github.com/labstack/echo/v5"
)

// consoleFiles serves the built console: a file that is there; nothing for an asset that is not; else the page itself,
// which finds its view by the address. Assets have their hash in their name and never change.
func consoleFiles(dist fs.FS) echo.HandlerFunc {
	files := http.FileServerFS(dist)
	return func(c *echo.Context) error {
		name := strings.TrimPrefix(path.Clean(c.Request().URL.Path), "/")
		info, err := fs.Stat(dist, name)
		asset := strings.HasPrefix(name, "assets/")
		switch {
		case err == nil && !info.IsDir():
			if asset {
				c.Response().Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			files.ServeHTTP(c.Response(), c.Request())
			return nil
		case asset:
			return noRoute(c)
		}
		page, err := fs.ReadFile(dist, "index.html")
		if errors.Is(err, fs.ErrNotExist) {
			return c.String(http.StatusNotFound, "The console is not built into this program: run make build.\n")
		}
		if err != nil {
			return err
		}
		c.Response().Header().Set("Cache-Control", "no-cache")
		return c.HTMLBlob(http.StatusOK, page)
	}
}
