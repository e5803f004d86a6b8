package api

import (
	"io/fs"
	"net/http"
	"path"
	"strings"

	"github.com/gin-gonic/gin"
)

// console serves the console's files. A path that is no file is one of the console's
// own pages, which its index.html shows.
func console(files fs.FS) gin.HandlerFunc {
	static := http.FileServerFS(files)
	return func(c *gin.Context) {
		at := c.Request.URL.Path
		if cleaned := path.Clean(at); cleaned == "/api" || strings.HasPrefix(cleaned, "/api/") {
			fail(c, http.StatusNotFound, "route", at+" is no call of this interface; see /api/openapi.yaml")
			return
		}
		if c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
			fail(c, http.StatusMethodNotAllowed, "method", "this method is not possible here; see /api/openapi.yaml")
			return
		}
		name := strings.TrimPrefix(path.Clean(at), "/")
		if info, err := fs.Stat(files, name); err == nil && !info.IsDir() {
			if strings.HasPrefix(name, "assets/") {
				c.Header("Cache-Control", "public, max-age=31536000, immutable") // their names carry a hash
			}
			c.Status(http.StatusOK)
			static.ServeHTTP(c.Writer, c.Request)
			return
		}
		index, err := fs.ReadFile(files, "index.html")
		if err != nil {
			c.String(http.StatusNotFound,
				"This binary was built without the console; `make build` builds it. The HTTP interface is at /api/openapi.yaml.\n")
			return
		}
		c.Data(http.StatusOK, "text/html; charset=utf-8", index)
	}
}
