// Package routine is what a standing order does beyond verifying: it reads a source, weighs what
// came against the time before, says so, and writes the result.
package routine

import (
	"context"
	"crypto/tls"
	"io"
	"path"
	"strings"
	"time"

	"varnet/internal/connect"
	"varnet/internal/connect/files"
	"varnet/internal/store/pack"
)

// The sources of a routine, and where its result goes.
const (
	FromList       = "list"
	FromFolder     = "folder"
	FromURL        = "url"
	FromConnection = "connection"

	ToNothing    = "nothing"
	ToFolder     = "folder"
	ToURL        = "url"
	ToConnection = "connection"
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

// env is what places of a workspace work with.
func (p Places) env(workspace int64) connect.Env {
	return connect.Env{AllowPrivate: p.AllowPrivate, TLS: p.TLS, Folder: p.Folder, Workspace: workspace}
}

// Open opens the source of a routine, unless it is what tag names. Of a folder that is the newest
// file of its pattern, other than those that the routine itself wrote.
func (p Places) Open(ctx context.Context, workspace int64, spec pack.RoutineSpec, tag string) (connect.File, error) {
	if spec.Source == FromURL {
		return (&files.Address{Env: p.env(workspace), URL: spec.URL}).Open(ctx, "", tag)
	}
	written := ""
	if spec.Then == ToFolder {
		written = NameWith(spec.ThenFile, "*", ".*", AnyDate, AnyTime)
	}
	return files.Newest(ctx, files.Folder{Env: p.env(workspace)}, spec.File, written, tag)
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

// Write writes the result of a routine, and returns where it is.
func (p Places) Write(ctx context.Context, workspace int64, spec pack.RoutineSpec, name, kind string, write func(io.Writer) error) (string, error) {
	if spec.Then == ToURL {
		return (&files.Address{Env: p.env(workspace), URL: spec.ThenURL}).Put(ctx, name, kind, write)
	}
	return name, files.Folder{Env: p.env(workspace)}.Put(ctx, name, write)
}
