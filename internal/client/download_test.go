package client_test

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"varnet/internal/client"
	"varnet/internal/contract"
)

// fullDisk takes so many bytes and no more.
type fullDisk struct{ left int }

var errFull = errors.New("no space left on device")

func (d *fullDisk) Write(p []byte) (int, error) {
	n := min(len(p), d.left)
	if d.left -= n; n < len(p) {
		return n, errFull
	}
	return n, nil
}

// exporting answers every download by serve, and counts them.
func exporting(t *testing.T, serve http.HandlerFunc) (*client.Client, *atomic.Int32) {
	t.Helper()
	calls := &atomic.Int32{}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		calls.Add(1)
		serve(w, r)
	}))
	t.Cleanup(s.Close)
	return client.New(s.URL, "varnet_test"), calls
}

const rows = "e-mail\nada.moss@fernhollow.example\nbea.quill@fernhollow.example\n"

// TestAFullDisk: what cannot be written is said so, and not fetched again.
func TestAFullDisk(t *testing.T) {
	c, calls := exporting(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("ETag", `"1"`)
		http.ServeContent(w, r, "", time.Time{}, strings.NewReader(rows))
	})
	err := c.ExportFile(context.Background(), 1, contract.ExportChoice{}, &fullDisk{left: 10})
	if !errors.Is(err, errFull) || !strings.Contains(err.Error(), "cannot be written") || calls.Load() != 1 {
		t.Errorf("%v, after %d calls", err, calls.Load())
	}
}

// TestABrokenDownload: one that breaks off is taken up where it broke, as long as the file is
// the same, and nothing of it comes twice.
func TestABrokenDownload(t *testing.T) {
	broken := func(tag func(call int32) string) (*client.Client, *atomic.Int32) {
		var n atomic.Int32
		return exporting(t, func(w http.ResponseWriter, r *http.Request) {
			call := n.Add(1)
			w.Header().Set("ETag", tag(call))
			if call < 3 { // 10 bytes, and then the line is cut
				w = cut{w}
			}
			http.ServeContent(w, r, "", time.Time{}, strings.NewReader(rows))
		})
	}
	c, calls := broken(func(int32) string { return `"1"` })
	var out strings.Builder
	if err := c.ExportFile(context.Background(), 1, contract.ExportChoice{}, &out); err != nil || out.String() != rows || calls.Load() != 3 {
		t.Errorf("%v after %d calls: %q", err, calls.Load(), out.String())
	}
	c, _ = broken(func(call int32) string { return map[bool]string{true: `"1"`, false: `"2"`}[call == 1] })
	out.Reset()
	if err := c.ExportFile(context.Background(), 1, contract.ExportChoice{}, &out); err == nil || !strings.Contains(err.Error(), "has changed since") {
		t.Errorf("another file is taken for the same: %v, %q", err, out.String())
	}
}

// cut ends the connection after 10 bytes.
type cut struct{ http.ResponseWriter }

func (c cut) Write(p []byte) (int, error) {
	_, _ = c.ResponseWriter.Write(p[:10])
	c.ResponseWriter.(http.Flusher).Flush()
	panic(http.ErrAbortHandler)
}

func (c cut) ReadFrom(r io.Reader) (int64, error) {
	p := make([]byte, 10)
	_, _ = io.ReadFull(r, p)
	n, err := c.Write(p)
	return int64(n), err
}
