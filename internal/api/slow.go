package api

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
)

// How slowly a body may come or go: so long without a byte, and on average so many bytes a
// second of the time that is spent waiting for it, once that is longer than the grace.
const (
	standstill = 20 * time.Second
	leastRate  = 4 << 10
	rateGrace  = 30 * time.Second
)

// errSlow tells that a body came or went too slowly.
var errSlow = errors.New("too slow")

// moving counts what moved, and how long it was waited for.
type moving struct {
	moved  int64
	waited time.Duration
}

// after counts a step; errSlow where all of them together are too slow.
func (p *moving) after(n int, began time.Time) error {
	p.moved += int64(n)
	p.waited += time.Since(began)
	if p.waited > rateGrace && float64(p.moved) < leastRate*p.waited.Seconds() {
		return errSlow
	}
	return nil
}

// pacedReader reads a body that must not come too slowly.
type pacedReader struct {
	io.ReadCloser
	control *http.ResponseController
	pace    moving
}

func (r *pacedReader) Read(b []byte) (int, error) {
	began := time.Now()
	_ = r.control.SetReadDeadline(began.Add(standstill)) // what cannot have one is not a network
	n, err := r.ReadCloser.Read(b)
	switch {
	case errors.Is(err, os.ErrDeadlineExceeded):
		return n, errSlow
	case err != nil:
		_ = r.control.SetReadDeadline(time.Time{})
		return n, err
	}
	return n, r.pace.after(n, began)
}

// paced has no body come too slowly, whether anybody reads it or not: what is left of one is
// read before the answer goes out.
func paced(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Body != nil && r.Body != http.NoBody {
			body := &pacedReader{ReadCloser: r.Body, control: http.NewResponseController(w)}
			_ = body.control.SetReadDeadline(time.Now().Add(standstill))
			r.Body = body
		}
		next.ServeHTTP(w, r)
	})
}

// pacedWriter writes to somebody who must not read too slowly.
type pacedWriter struct {
	io.Writer
	control *http.ResponseController
	pace    moving
}

func (w *pacedWriter) Write(b []byte) (int, error) {
	began := time.Now()
	_ = w.control.SetWriteDeadline(began.Add(standstill))
	n, err := w.Writer.Write(b)
	if err == nil {
		err = w.pace.after(n, began)
	}
	return n, err
}

func controlOf(ctx huma.Context) *http.ResponseController {
	_, w := humachi.Unwrap(ctx)
	return http.NewResponseController(w)
}

// mostFile is how large a file may be that is sent at once or in parts, in bytes.
const mostFile = 8 << 30

// errLarge tells that a file is larger than that.
var errLarge = fmt.Errorf("a file may have %d GB; split it", mostFile>>30)

// errBrokeOff tells that a body did not come to its end.
var errBrokeOff = errors.New("the body broke off")

// spool takes a body to a file, so that what is done with it waits for nobody. The file has
// no name: it is gone with the process.
func spool(body io.Reader) (*os.File, error) {
	f, err := os.CreateTemp("", "varnet-import-*")
	if err != nil {
		return nil, err
	}
	_ = os.Remove(f.Name())
	n, err := io.Copy(f, io.LimitReader(body, mostFile+1))
	if _, ours := errors.AsType[*fs.PathError](err); err != nil && !ours && !errors.Is(err, errSlow) {
		err = fmt.Errorf("%w: %w", errBrokeOff, err)
	}
	if err == nil && n > mostFile {
		err = errLarge
	}
	if err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	if err != nil {
		_ = f.Close()
		return nil, err
	}
	return f, nil
}
