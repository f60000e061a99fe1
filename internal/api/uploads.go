package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"runtime"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/say"
	"varnet/internal/contract"
	"varnet/internal/store"
)

// uploadWait is how long somebody is told to wait who may not begin another upload.
const uploadWait = 10 * time.Minute

// maxPart is how large a part of an upload may be.
const maxPart = 8 << 20

// ByKey is a path with the key of an upload.
type ByKey struct {
	Key string `path:"key" minLength:"8" example:"members-2026-11" maxLength:"100" doc:"The key under which the file is sent, made up by the sender; the list that the file becomes is imported once with it."`
}

type uploadOutput struct{ Body contract.Upload }

func (a *API) registerUploads(h huma.API) {
	huma.Register(h, operation("open-upload", http.MethodPut, "/uploads/{key}", "Begin to send a file part by part, or see how much of it is there"), a.openUpload)
	part := operation("upload-part", http.MethodPatch, "/uploads/{key}", "Send the next part of a file, of at most 8 MB")
	part.RequestBody, part.MaxBodyBytes = fileBody, maxPart
	huma.Register(h, part, a.uploadPart)
}

func (a *API) openUpload(ctx context.Context, in *struct {
	ByKey
	Body contract.NewUpload
}) (*uploadOutput, error) {
	l, err := a.limits(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	u, err := a.store.OpenUpload(ctx, workspace(ctx).ID, in.Key, in.Body.Size, l)
	switch {
	case errors.Is(err, store.ErrUploads):
		return nil, comeAgain(uploadWait, "A workspace may have %d files of %s MB together on their way that are not imported yet. Import those that are there, or try again later: one that gets nothing for a day is deleted.", l.Uploads, say.Number(int64(l.UploadMB)))
	case err != nil:
		return nil, a.failed(ctx, err)
	}
	if u.Size != in.Body.Size {
		return nil, huma.Error409Conflict(fmt.Sprintf("A file of %s bytes is on its way under this key. Send this one under another.", say.Number(u.Size)))
	}
	return &uploadOutput{contract.Upload{Size: u.Size, Received: u.Received}}, nil
}

func (a *API) uploadPart(ctx context.Context, in *struct {
	ByKey
	Streamed
	From int64 `query:"from" minimum:"0" doc:"Where the part begins in the file; there the last part must have ended."`
}) (*uploadOutput, error) {
	w := workspace(ctx).ID
	u, err := a.store.Upload(ctx, w, in.Key)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	part, err := io.ReadAll(io.LimitReader(in.body, maxPart+1))
	switch {
	case err != nil:
		return nil, huma.Error400BadRequest("The part broke off on its way. Send it again.")
	case len(part) > maxPart:
		return nil, huma.Error422UnprocessableEntity("A part may have 8 MB. Send smaller ones.")
	}
	if err := a.store.AddPart(ctx, u, in.From, part); errors.Is(err, store.ErrOffset) {
		u, _ = a.store.Upload(ctx, w, in.Key)
		return nil, huma.Error409Conflict(fmt.Sprintf("Of the file %s of %s bytes are there. Go on from there.", say.Number(u.Received), say.Number(u.Size)))
	} else if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &uploadOutput{contract.Upload{Size: u.Size, Received: in.From + int64(len(part))}}, nil
}

// readers are how many files are read at a time, and readersEach how many of one workspace:
// more would only take each other's processors and memory, and everybody's.
var (
	readers     = max(2, runtime.NumCPU()/2)
	readersEach = readers / 2
	// Whoever looks at the beginning of a file waits for nobody's import.
	lookers     = 2 * readers
	lookersEach = lookers / 2
)

// whole takes a body in whole, and has it read when there is a place among some for one more of the
// workspace.
func (a *API) whole(ctx context.Context, among *fair, body io.Reader, read func(file io.Reader) error) error {
	f, err := spool(body)
	if err != nil {
		return err
	}
	defer f.Close()
	leave, err := among.enter(ctx, strconv.FormatInt(workspace(ctx).ID, 10))
	if err != nil {
		return err
	}
	defer leave()
	return read(f)
}

// roomForList refuses another list where the workspace has as many as it may.
func (a *API) roomForList(ctx context.Context) error {
	l, err := a.limits(ctx)
	if err != nil {
		return err
	}
	n, err := a.store.ListsOf(ctx, workspace(ctx).ID)
	if err == nil && n >= int64(l.Lists) {
		err = huma.Error409Conflict(fmt.Sprintf("This workspace may have %s lists, and has them. Nothing was imported. Delete lists that are not needed, or ask an owner of the installation for more.", say.Number(int64(l.Lists))))
	}
	return err
}

// once brings a list in once with a key: whoever sends it again is given the
// list that is there. A file that was sent part by part stands for the body.
func (a *API) once(ctx context.Context, key string, body io.Reader, importFile func(io.Reader) (store.List, error)) (store.List, error) {
	w := workspace(ctx).ID
	spooled := func(body io.Reader) (l store.List, err error) {
		if err := a.roomForList(ctx); err != nil {
			return l, err
		}
		err = a.whole(ctx, a.reading, body, func(file io.Reader) error {
			l, err = importFile(file)
			return err
		})
		return l, err
	}
	if key == "" {
		return spooled(body)
	}
	l, err := a.store.ListByKey(ctx, w, key)
	if !errors.Is(err, store.ErrNotFound) {
		return l, err
	}
	u, err := a.store.Upload(ctx, w, key)
	switch {
	case err == nil && u.Received < u.Size:
		return l, huma.Error409Conflict(fmt.Sprintf("Of the file %s of %s bytes are there. Send the rest first.", say.Number(u.Received), say.Number(u.Size)))
	case err == nil:
		body = a.store.Uploaded(ctx, u)
	case !errors.Is(err, store.ErrNotFound):
		return l, err
	}
	if l, err = spooled(body); store.Taken(err) { // somebody was quicker
		return a.store.ListByKey(ctx, w, key)
	}
	if err == nil && u.ID > 0 {
		err = a.store.DeleteUpload(ctx, u)
	}
	return l, err
}
