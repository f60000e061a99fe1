// Package console serves the built console.
package console

import (
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strconv"
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
				if packed, err := fs.ReadFile(dist, name+".br"); err == nil && takesBrotli(r) {
					sendPacked(w, name, packed)
					return
				}
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

// takesBrotli reports whether who asks takes what is packed so (RFC 7932; RFC 9110 section 12.5.3).
func takesBrotli(r *http.Request) bool {
	for _, coding := range strings.Split(r.Header.Get("Accept-Encoding"), ",") {
		if name, weight, _ := strings.Cut(strings.TrimSpace(coding), ";"); name == "br" {
			return strings.TrimSpace(weight) != "q=0"
		}
	}
	return false
}

// sendPacked sends the packed copy of a script or style, which was made when the console was built.
func sendPacked(w http.ResponseWriter, name string, packed []byte) {
	h := w.Header()
	h.Set("Content-Type", mime.TypeByExtension(path.Ext(name)))
	h.Set("Content-Encoding", "br")
	h.Add("Vary", "Accept-Encoding")
	h.Set("Content-Length", strconv.Itoa(len(packed)))
	_, _ = w.Write(packed)
}
