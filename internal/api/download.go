package api

import (
	"bufio"
	"context"
	"errors"
	"io"
	"log/slog"
	"mime"
	"net"
	"net/http"
	"os"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
)

// download is a file that is made while it is sent.
type download struct {
	name, kind string
	// tag names its content, so that a broken download can be taken up again;
	// "" where the next time it may be another.
	tag   string
	write func(io.Writer) error
}

// fileResponse describes an operation that returns a file.
func fileResponse(kind string) map[string]*huma.Response {
	return map[string]*huma.Response{"200": {Description: "The file.",
		Content: map[string]*huma.MediaType{kind: {Schema: &huma.Schema{Type: "string", Format: "binary"}}}}}
}

// stream sends a file as it is written; nothing is held in memory.
func (a *API) stream(d download) *huma.StreamResponse {
	return &huma.StreamResponse{Body: func(h huma.Context) {
		h.SetHeader("Content-Type", d.kind)
		h.SetHeader("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": d.name}))
		var err error
		if d.tag != "" {
			h.SetHeader("ETag", `"`+d.tag+`"`)
			h.SetHeader("Accept-Ranges", "bytes")
		}
		if d.tag != "" && h.Header("Range") != "" {
			err = d.part(humachi.Unwrap(h))
		} else {
			w := bufio.NewWriterSize(&pacedWriter{Writer: h.BodyWriter(), control: controlOf(h)}, 1<<16)
			err = errors.Join(d.write(w), w.Flush())
		}
		if err != nil {
			level := slog.LevelError
			if _, left := errors.AsType[*net.OpError](err); left || h.Context().Err() != nil {
				level = slog.LevelDebug // who wanted it has gone
			}
			a.log.Log(context.Background(), level, "a file broke off while it was written", "file", d.name, "err", err)
			panic(http.ErrAbortHandler) // so that nobody takes a part for the whole
		}
	}}
}

// part sends the part that is asked for (RFC 9110, section 14). How long a file
// is shows only when it is made: it is made anew, to a file that is gone when
// it is sent.
func (d download) part(r *http.Request, w http.ResponseWriter) error {
	f, err := os.CreateTemp("", "varnet-part-*")
	if err != nil {
		return err
	}
	_ = os.Remove(f.Name()) // it is gone with the process
	defer f.Close()
	buffered := bufio.NewWriterSize(f, 1<<16)
	if err := errors.Join(d.write(buffered), buffered.Flush()); err != nil {
		return err
	}
	http.ServeContent(w, r, "", time.Time{}, f)
	return nil
}
