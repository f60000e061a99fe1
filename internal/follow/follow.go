// Package follow reads catalogues that are kept elsewhere: lists of names or domains, one a
// line, at an HTTPS address or in a folder of this host.
package follow

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"varnet/core/catalogue"
	"varnet/internal/dial"
)

// Bounds of a catalogue.
const (
	timeout    = time.Minute
	maxBytes   = 32 << 20
	maxEntries = 500_000
)

// Reader reads catalogues.
type Reader struct {
	// AllowPrivate lets it read from loopback and private addresses. The practice
	// internet and tests need that; nothing else does.
	AllowPrivate bool
	// Folder is where file addresses may lie; "": nowhere.
	Folder string
	// TLS is how hosts are trusted; nil: as the system does.
	TLS *tls.Config
}

// Check reports in a sentence why a catalogue cannot be followed at an address.
func (r Reader) Check(address string) error {
	u, err := url.Parse(address)
	switch {
	case err != nil || u.Scheme != "https" && u.Scheme != "file" || u.User != nil:
		return fmt.Errorf("%q is not an address that a catalogue can be read at; give one that begins with https:// or file://", address)
	case u.Scheme == "https" && u.Host == "":
		return fmt.Errorf("%q names no host", address)
	case u.Scheme == "file":
		_, err := r.file(u)
		return err
	}
	return nil
}

// file returns the path of a file URL, if it lies in the folder for catalogues.
func (r Reader) file(u *url.URL) (string, error) {
	if r.Folder == "" {
		return "", errors.New("this installation reads no catalogues from files; its operator names a folder for them with -catalogue-folder")
	}
	path := filepath.Clean(u.Path)
	if rest, err := filepath.Rel(r.Folder, path); u.Host != "" || err != nil || !filepath.IsLocal(rest) {
		return "", fmt.Errorf("%s does not lie in the folder for catalogues, %s", u.Path, r.Folder)
	}
	return path, nil
}

// ErrUnchanged is the error of Read where a source says what it said.
var ErrUnchanged = errors.New("it says what it said")

// Read returns the entries at an address, normal as catalogue.Normal has them, and the tag
// of what was read. before is the tag of the reading before: ErrUnchanged where it still
// holds.
func (r Reader) Read(ctx context.Context, address, before string, kind catalogue.Kind) (names []string, etag string, err error) {
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	u, err := url.Parse(address)
	if err != nil {
		return nil, "", err
	}
	if u.Scheme == "file" {
		names, err = r.readFile(u, kind)
		return names, "", err
	}
	return r.fetch(ctx, address, before, kind)
}

func (r Reader) readFile(u *url.URL, kind catalogue.Kind) ([]string, error) {
	path, err := r.file(u)
	if err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(r.Folder) // no link leads out of it
	if err != nil {
		return nil, err
	}
	defer root.Close()
	rest, _ := filepath.Rel(r.Folder, path)
	f, err := root.Open(rest)
	if err != nil {
		return nil, fmt.Errorf("the file cannot be read: %w", err)
	}
	defer f.Close()
	return entries(f, kind)
}

func (r Reader) fetch(ctx context.Context, address, before string, kind catalogue.Kind) (names []string, etag string, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, "", err
	}
	if before != "" {
		req.Header.Set("If-None-Match", before)
	}
	resp, err := dial.Web(r.AllowPrivate, r.TLS).Do(req)
	if err != nil {
		return nil, "", fmt.Errorf("it cannot be reached: %w", errors.Unwrap(err))
	}
	defer resp.Body.Close()
	switch {
	case resp.StatusCode == http.StatusNotModified:
		return nil, "", ErrUnchanged
	case resp.StatusCode != http.StatusOK:
		return nil, "", fmt.Errorf("its host answered %s", resp.Status)
	}
	names, err = entries(resp.Body, kind)
	return names, resp.Header.Get("ETag"), err
}

// entries reads the entries of a source, within its bounds.
func entries(in io.Reader, kind catalogue.Kind) ([]string, error) {
	bounded := &io.LimitedReader{R: in, N: maxBytes + 1}
	names, err := catalogue.ReadNames(bounded, kind, maxEntries)
	switch {
	case bounded.N == 0:
		return nil, fmt.Errorf("it is larger than %d MB", maxBytes>>20)
	case err == nil && len(names) == 0:
		err = errors.New("it holds no entry")
	}
	return names, err
}
