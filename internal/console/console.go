// Package console serves the built console.
package console

import (
	"io/fs"
	"net/http"
	"path"
	"strings"

	"varnet/web"
)

// Handler serves the console's files; every other path is a page of it and
// gets index.html, so that a reload loses nothing.
func Handler() http.Handler {
	dist, err := fs.Sub(web.Dist, "dist")
	if err != nil {
		panic(err) // embedded at build time
	}
	files := http.FileServerFS(dist)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if _, err := fs.Stat(dist, name); err == nil && name != "" && name != "index.html" {
			if strings.HasPrefix(name, "assets/") { // their names change with their contents
				w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			files.ServeHTTP(w, r)
			return
		}
		index, err := fs.ReadFile(dist, "index.html")
		if err != nil {
			http.Error(w, "The console is not built. Run script/bootstrap, then start the service again.", http.StatusNotFound)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-cache")
		_, _ = w.Write(index)
	})
}
