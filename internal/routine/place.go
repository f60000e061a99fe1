// Package routine is what a standing order does beyond verifying: it reads a source, weighs what
// came against the time before, says so, and writes the result.
package routine

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path"
	"strconv"
	"strings"
	"time"

	"varnet/core/say"
	"varnet/internal/dial"
	"varnet/internal/store/pack"
)

// The sources of a routine, and where its result goes.
const (
	FromList   = "list"
	FromFolder = "folder"
	FromURL    = "url"

	ToNothing = "nothing"
	ToFolder  = "folder"
	ToURL     = "url"
)

// Places are where routines read and write.
type Places struct {
	// Folder holds a folder for each workspace, named by its number; "": routines read and
	// write no files.
	Folder string
	// AllowPrivate lets them fetch from loopback and private addresses.
	AllowPrivate bool
	// TLS is how hosts are trusted; nil: as the system does.
	TLS *tls.Config
}

// Bounds of what is fetched and sent.
const (
	transferTime = 20 * time.Minute
	mostFetched  = 2 << 30
)

// Trouble is why a source cannot be read or a result not be written, in a sentence for people.
type Trouble struct{ Why string }

func (t *Trouble) Error() string { return t.Why }

func trouble(format string, args ...any) error { return &Trouble{fmt.Sprintf(format, args...)} }

// Source is what was read of a source.
type Source struct {
	// Unchanged: it is what was read before, and has no body.
	Unchanged bool
	Name      string // of the file
	Tag       string // by which it is known again; "": it is not
	Body      io.ReadCloser
}

// root opens the folder of a workspace, out of which no name and no link leads.
func (p Places) root(workspace int64) (*os.Root, error) {
	if p.Folder == "" {
		return nil, trouble("This installation has no folder for routines; whoever looks after it names one with -routine-folder.")
	}
	all, err := os.OpenRoot(p.Folder)
	if err != nil {
		return nil, trouble("The folder for routines cannot be opened: %v.", say.WithoutPath(err))
	}
	defer all.Close()
	own := strconv.FormatInt(workspace, 10)
	if err := all.Mkdir(own, 0o750); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, trouble("The workspace's folder for routines cannot be made: %v.", say.WithoutPath(err))
	}
	root, err := all.OpenRoot(own)
	if err != nil {
		return nil, trouble("The workspace's folder for routines cannot be opened: %v.", say.WithoutPath(err))
	}
	return root, nil
}

// Open opens the source of a routine, unless it is what tag names.
func (p Places) Open(ctx context.Context, workspace int64, spec pack.RoutineSpec, tag string) (Source, error) {
	if spec.Source == FromURL {
		return p.fetch(ctx, spec.URL, tag)
	}
	root, err := p.root(workspace)
	if err != nil {
		return Source{}, err
	}
	defer root.Close()
	name, info, err := newest(root.FS(), spec)
	if err != nil {
		return Source{}, err
	}
	s := Source{Name: path.Base(name), Tag: fmt.Sprintf("%s %d %d", name, info.Size(), info.ModTime().UnixNano())}
	if s.Tag == tag {
		s.Unchanged = true
		return s, nil
	}
	f, err := root.Open(name)
	if err != nil {
		return Source{}, trouble("The file %s cannot be read: %v.", name, say.WithoutPath(err))
	}
	s.Body = f
	return s, nil
}

// newest returns the file of a routine's pattern that was changed last, other than those that the
// routine itself wrote.
func newest(files fs.FS, spec pack.RoutineSpec) (name string, info fs.FileInfo, err error) {
	names, err := fs.Glob(files, spec.File)
	if err != nil {
		return "", nil, trouble("%q is no pattern of file names.", spec.File)
	}
	written := ""
	if spec.Then == ToFolder {
		written = NameWith(spec.ThenFile, "*", ".*", AnyDate, AnyTime)
	}
	for _, n := range names {
		i, err := fs.Stat(files, n)
		ours, _ := path.Match(written, n)
		if err != nil || !i.Mode().IsRegular() || ours {
			continue
		}
		if info == nil || i.ModTime().After(info.ModTime()) || i.ModTime().Equal(info.ModTime()) && n > name {
			name, info = n, i
		}
	}
	if info == nil {
		return "", nil, trouble("No file in the workspace's folder for routines is called like %s.", spec.File)
	}
	return name, info, nil
}

// fetch reads a source at an address, unless it is what tag names: an entity tag, or when it was
// changed (RFC 9110, 8.8).
func (p Places) fetch(ctx context.Context, address, tag string) (Source, error) {
	ctx, cancel := context.WithTimeout(ctx, transferTime)
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		cancel()
		return Source{}, trouble("%q is no address.", address)
	}
	switch {
	case strings.HasSuffix(tag, `"`):
		req.Header.Set("If-None-Match", tag)
	case tag != "":
		req.Header.Set("If-Modified-Since", tag)
	}
	resp, err := dial.Web(p.AllowPrivate, p.TLS).Do(req)
	if err != nil {
		cancel()
		return Source{}, trouble("The source cannot be reached: %v.", cmp.Or(errors.Unwrap(err), err))
	}
	end := func() { _ = resp.Body.Close(); cancel() }
	switch {
	case resp.StatusCode == http.StatusNotModified:
		end()
		return Source{Unchanged: true, Tag: tag, Name: nameOf(address)}, nil
	case resp.StatusCode != http.StatusOK:
		end()
		return Source{}, trouble("The host of the source answered %s.", resp.Status)
	}
	s := Source{Name: nameOf(address), Tag: resp.Header.Get("ETag"), Body: &fetched{http.MaxBytesReader(nil, resp.Body, mostFetched), end}}
	if s.Tag == "" {
		s.Tag = resp.Header.Get("Last-Modified")
	}
	return s, nil
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

// Name fills in the name of the file that a routine writes: {name} is that of the file that was
// read, without its ending, {date} and {time} when it is written.
func Name(pattern, read, ending string, at time.Time) string {
	return NameWith(pattern, read, ending, at.Format("2006-01-02"), at.Format("1504"))
}

// AnyDate and AnyTime stand for a date and a time in patterns of names.
const (
	AnyDate = "????-??-??"
	AnyTime = "????"
)

// NameWith is Name with texts for date and time.
func NameWith(pattern, read, ending, date, hour string) string {
	name := strings.NewReplacer("{name}", strings.TrimSuffix(read, path.Ext(read)), "{date}", date, "{time}", hour).Replace(pattern)
	if path.Ext(name) == "" {
		name += ending
	}
	return name
}

// Write writes the result of a routine, and returns where it is. A file appears under its name
// when it is whole.
func (p Places) Write(ctx context.Context, workspace int64, spec pack.RoutineSpec, name, kind string, write func(io.Writer) error) (string, error) {
	if spec.Then == ToURL {
		return spec.ThenURL, p.send(ctx, spec.ThenURL, kind, write)
	}
	root, err := p.root(workspace)
	if err != nil {
		return "", err
	}
	defer root.Close()
	if dir := path.Dir(name); dir != "." {
		if err := root.MkdirAll(dir, 0o750); err != nil {
			return "", trouble("The folder %s cannot be made: %v.", dir, say.WithoutPath(err))
		}
	}
	whole := name + ".part"
	f, err := root.OpenFile(whole, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o640)
	if err != nil {
		return "", trouble("The file %s cannot be written: %v.", name, say.WithoutPath(err))
	}
	err = errors.Join(write(f), f.Sync(), f.Close())
	if err == nil {
		err = root.Rename(whole, name)
	}
	if err != nil {
		_ = root.Remove(whole)
		var p *fs.PathError
		if errors.As(err, &p) {
			err = trouble("The file %s cannot be written: %v.", name, p.Err)
		}
	}
	return name, err
}

// send puts the result at an address (RFC 9110, 9.3.4).
func (p Places) send(ctx context.Context, address, kind string, write func(io.Writer) error) error {
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
	req, err := http.NewRequestWithContext(ctx, http.MethodPut, address, r)
	if err != nil {
		return trouble("%q is no address.", address)
	}
	req.Header.Set("Content-Type", kind)
	resp, err := dial.Web(p.AllowPrivate, p.TLS).Do(req)
	if err != nil {
		select {
		case inner := <-failed:
			if inner != nil && !errors.Is(inner, io.ErrClosedPipe) {
				return inner // of ours, not the receiver's
			}
		default:
		}
		return trouble("The result cannot be sent: %v.", cmp.Or(errors.Unwrap(err), err))
	}
	defer resp.Body.Close()
	if resp.StatusCode/100 != 2 {
		return trouble("The result was not taken: the host answered %s.", resp.Status)
	}
	return nil
}
