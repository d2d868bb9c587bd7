package control

import (
	"bytes"
	"io/fs"
	"net/http"
	"slices"
	"strings"
	"time"
)

// pages are the console's, which are made in the browser: each gets its index. They are those
// of console/src/router.ts.
var pages = []string{"", "live", "findings", "savings", "routes", "store", "entries", "tags", "fragments", "changes", "purge", "sign-in"}

// notFound serves the console's files and pages, and a problem for everything else: a probe
// that asks for a path which does not exist must not be told that all is well.
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
		if !slices.Contains(pages, strings.TrimSuffix(path, "/")) {
			problem(w, http.StatusNotFound, "there is no such page; the node's health is at /healthz and /readyz, its console at /")
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
