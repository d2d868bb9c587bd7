package control

import (
	"bytes"
	"io/fs"
	"net/http"
	"strings"
	"time"
)

// notFound serves the console's files, and a problem for unknown calls. Pages of the
// console are made in the browser, so that every other path gets its index.
func notFound(console fs.FS) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		path := strings.TrimPrefix(r.URL.Path, "/")
		if strings.HasPrefix(path, "v1/") || r.Method != http.MethodGet && r.Method != http.MethodHead {
			problem(w, http.StatusNotFound, "there is no such call; /v1/openapi.json lists them")
			return
		}
		if info, err := fs.Stat(console, path); err == nil && !info.IsDir() {
			if strings.HasPrefix(path, "assets/") { // their names change with their contents
				w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			http.ServeFileFS(w, r, console, path)
			return
		}
		if strings.HasPrefix(path, "assets/") {
			problem(w, http.StatusNotFound, "there is no such file")
			return
		}
		w.Header().Set("Cache-Control", "no-cache")
		page, err := fs.ReadFile(console, "index.html")
		if err != nil {
			problem(w, http.StatusNotFound, "this program was built without the console; build it with: make build")
			return
		}
		http.ServeContent(w, r, "index.html", time.Time{}, bytes.NewReader(page))
	}
}
