package web

import (
	"io/fs"
	"net/http"
	"path"
	"strings"
)

// console serves the built files. Paths that are no file are the console's own
// pages, which its start page draws.
func console(files fs.FS) http.Handler {
	server := http.FileServerFS(files)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			problem(w, http.StatusMethodNotAllowed, "only the API takes writes")
			return
		}
		if strings.HasPrefix(r.URL.Path, "/api/") {
			problem(w, http.StatusNotFound, "there is no such operation; /api/openapi.json lists them")
			return
		}
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if strings.HasPrefix(name, "assets/") { // their names change with their contents
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		} else {
			w.Header().Set("Cache-Control", "no-cache")
		}
		if strings.HasPrefix(name, "workbench/") { // only there a worker compiles the core
			w.Header().Set("Content-Security-Policy",
				"default-src 'none'; script-src 'self' 'wasm-unsafe-eval'; connect-src 'self'")
		}
		if info, err := fs.Stat(files, name); name == "" || err != nil || info.IsDir() {
			if strings.HasPrefix(name, "assets/") || strings.HasPrefix(name, "workbench/") {
				http.NotFound(w, r)
				return
			}
			r = r.Clone(r.Context())
			r.URL.Path = "/"
		}
		server.ServeHTTP(w, r)
	})
}
