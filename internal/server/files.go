package server

import (
	"errors"
	"io/fs"
	"net/http"
	"path"
	"strings"

	"github.com/labstack/echo/v4"
)

const notBuilt = `<!doctype html><meta charset="utf-8"><title>Bivium</title>
<p>This binary was built without the front end. <code>make build</code> builds both.</p>
`

// frontEnd serves the built front end. Every path that is no file is a place of
// the application, and gets its page.
func frontEnd(files fs.FS) echo.HandlerFunc {
	server := http.FileServerFS(files)
	return func(c echo.Context) error {
		name := strings.TrimPrefix(path.Clean("/"+c.Request().URL.Path), "/")
		if info, err := fs.Stat(files, name); err == nil && !info.IsDir() && name != "index.html" {
			if strings.HasPrefix(name, "assets/") { // their names change with their content
				c.Response().Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			server.ServeHTTP(c.Response(), c.Request())
			return nil
		}
		if path.Ext(name) != "" {
			return echo.ErrNotFound
		}
		page, err := fs.ReadFile(files, "index.html")
		if errors.Is(err, fs.ErrNotExist) {
			return c.HTML(http.StatusOK, notBuilt)
		}
		if err != nil {
			return err
		}
		c.Response().Header().Set("Cache-Control", "no-cache")
		return c.HTMLBlob(http.StatusOK, page)
	}
}
