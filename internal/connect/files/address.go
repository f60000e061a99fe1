package files

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"path"
	"strings"
	"time"

	"varnet/internal/connect"
	"varnet/internal/dial"
)

// Address is a file at an HTTPS address, to which one can be put too.
type Address struct {
	connect.Env
	URL            string
	User, Password string
}

// transferTime is how long a file may take.
const transferTime = 20 * time.Minute

// Takes: files are put whole.
func (a *Address) Takes() []connect.Act { return []connect.Act{connect.PutFile} }

// Close has nothing to end.
func (a *Address) Close() error { return nil }

// Test asks for the file, and reads its beginning.
func (a *Address) Test(ctx context.Context) (string, error) {
	f, err := a.Open(ctx, "", "")
	if err != nil {
		return "", err
	}
	defer f.Body.Close()
	n, err := io.CopyN(io.Discard, f.Body, 1024)
	if err != nil && !errors.Is(err, io.EOF) {
		return "", connect.Later("The file broke off: %v.", err)
	}
	if n == 0 {
		return "", connect.Troublef("There is a file, and nothing in it.")
	}
	return fmt.Sprintf("There is a file %s.", f.Name), nil
}

// Collections is the one file.
func (a *Address) Collections(context.Context) ([]connect.Collection, error) {
	return []connect.Collection{{ID: "file", Name: nameOf(a.URL), Kind: "file", Contacts: -1}}, nil
}

// Contacts: a file has rows.
func (a *Address) Contacts(context.Context, string, string, func(connect.Page) error) error {
	return connect.Troublef("Files are imported as files.")
}

func (a *Address) do(ctx context.Context, method string, body io.Reader, header http.Header) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, a.URL, body)
	if err != nil {
		return nil, connect.Troublef("%q is not an address.", a.URL)
	}
	req.Header = header
	if a.User != "" {
		req.SetBasicAuth(a.User, a.Password)
	}
	return dial.Web(a.AllowPrivate, a.TLS).Do(req)
}

// Open reads the file, unless it is what tag names: an entity tag, or when it was changed
// (RFC 9110, 8.8).
func (a *Address) Open(ctx context.Context, _, tag string) (connect.File, error) {
	ctx, cancel := context.WithTimeout(ctx, transferTime)
	header := http.Header{}
	switch {
	case strings.HasSuffix(tag, `"`):
		header.Set("If-None-Match", tag)
	case tag != "":
		header.Set("If-Modified-Since", tag)
	}
	resp, err := a.do(ctx, http.MethodGet, nil, header)
	if err != nil {
		cancel()
		return connect.File{}, connect.Troublef("The source cannot be reached: %v.", cmp.Or(errors.Unwrap(err), err))
	}
	end := func() { _ = resp.Body.Close(); cancel() }
	switch resp.StatusCode {
	case http.StatusNotModified:
		end()
		return connect.File{Unchanged: true, Tag: tag, Name: nameOf(a.URL)}, nil
	case http.StatusOK:
	case http.StatusUnauthorized, http.StatusForbidden:
		end()
		return connect.File{}, connect.Broken("The host of the source refused the sign-in: it answered %s.", resp.Status)
	default:
		end()
		return connect.File{}, connect.Troublef("The host of the source answered %s.", resp.Status)
	}
	f := connect.File{Name: nameOf(a.URL), Tag: resp.Header.Get("ETag"), Body: bounded(&fetched{resp.Body, end})}
	if f.Tag == "" {
		f.Tag = resp.Header.Get("Last-Modified")
	}
	return f, nil
}

type fetched struct {
	io.Reader
	end func()
}

func (f *fetched) Close() error { f.end(); return nil }

// nameOf is what a file at an address is called.
func nameOf(address string) string {
	u, err := url.Parse(address)
	if err != nil || path.Base(u.Path) == "/" || path.Base(u.Path) == "." {
		return "source.csv"
	}
	return path.Base(u.Path)
}

// Put puts a file at the address (RFC 9110, 9.3.4), whatever its name is.
func (a *Address) Put(ctx context.Context, _, kind string, write func(io.Writer) error) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, transferTime)
	defer cancel()
	r, w := io.Pipe()
	failed := make(chan error, 1)
	go func() {
		err := write(w)
		failed <- err
		_ = w.CloseWithError(err)
	}()
	defer r.Close()
	resp, err := a.do(ctx, http.MethodPut, r, http.Header{"Content-Type": {kind}})
	if err != nil {
		select {
		case inner := <-failed:
			if inner != nil && !errors.Is(inner, io.ErrClosedPipe) {
				return "", inner // of ours, not the receiver's
			}
		default:
		}
		return "", connect.Troublef("The result cannot be sent: %v.", cmp.Or(errors.Unwrap(err), err))
	}
	defer resp.Body.Close()
	if resp.StatusCode/100 != 2 {
		return "", connect.Troublef("The result was not taken: the host answered %s.", resp.Status)
	}
	return a.URL, nil
}
