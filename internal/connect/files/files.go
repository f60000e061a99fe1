// Package files connects places that hold files: the workspace's folder on this host, an HTTPS
// address, SFTP and WebDAV servers. The newest file of a pattern is read; a file that is written
// appears under its name when it is whole.
package files

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"path"
	"strings"
	"time"

	"varnet/core/problem"
	"varnet/core/say"
	"varnet/internal/connect"
)

// Where the files are.
const (
	inFolder = "folder"
	atURL    = "address"
	bySFTP   = "SFTP"
	byWebDAV = "WebDAV"
)

// Kind is places that hold files.
var Kind = connect.Kind{
	Code: "files", Title: "Files", Says: "A folder, an HTTPS address, or a server that speaks SFTP or WebDAV.", Files: true,
	Fields: []connect.Field{
		{Name: "where", Title: "Where", Required: true, Choices: []string{bySFTP, byWebDAV, atURL, inFolder}, Default: bySFTP, Help: "folder: the workspace's own on the host of Varnet; address: one file by HTTPS."},
		{Name: "address", Title: "Address", Help: "Of the file (https://…), of the WebDAV folder (https://…), or of the SFTP server (sftp://host or host:port)."},
		{Name: "pattern", Title: "Pattern of file names", Help: "The one that was changed last is read.", Example: "members/*.csv"},
		{Name: "user", Title: "User"},
		{Name: "password", Title: "Password", Secret: true},
		{Name: "privateKey", Title: "Private key", Secret: true, Long: true, Help: "For SFTP, in the place of a password."},
		{Name: "hostKey", Title: "Fingerprint of the host key", Help: "Of the SFTP server; the test shows the one that it has.", Example: "SHA256:…"},
	},
	Takes: []connect.Act{connect.PutFile},
	Leads: connect.ByFields("where", "address"),
	Check: check,
	Open:  func(env connect.Env, s connect.Settings) (connect.Place, error) { return open(env, s) },
}

func check(s connect.Settings) error {
	if s["where"] != atURL {
		if err := CheckPattern(s["pattern"]); err != nil {
			return problem.In("pattern", "%s", err)
		}
	}
	if s["where"] == atURL || s["where"] == byWebDAV {
		u, err := url.Parse(s["address"])
		if err != nil || u.Host == "" || u.User != nil || u.Scheme != "https" && u.Scheme != "http" {
			return problem.In("address", "%q is not an address such as https://files.fernhollow.example/members.csv", s["address"])
		}
	}
	if s["where"] == bySFTP && s["address"] == "" {
		return problem.In("address", "name the host, such as files.fernhollow.example")
	}
	return nil
}

// CheckPattern reports what of a pattern of file names cannot be.
func CheckPattern(name string) error {
	_, err := path.Match(name, "")
	if name == "" || len(name) > 300 || !fs.ValidPath(name) || err != nil || strings.ContainsAny(name, "\\\x00\r\n") {
		return fmt.Errorf("%q is not a file or a pattern of names, such as members/*.csv, within the folder", name)
	}
	return nil
}

// CheckName reports what of the name of a file to write cannot be.
func CheckName(name string) error {
	if strings.ContainsAny(name, "*?[") {
		return fmt.Errorf("a name has no *, ? or [")
	}
	return CheckPattern(name)
}

// store holds files.
type store interface {
	// stats are the files that fit a pattern.
	stats(ctx context.Context, pattern string) ([]stat, error)
	open(ctx context.Context, name string) (io.ReadCloser, error)
	put(ctx context.Context, name string, write func(io.Writer) error) error
	Close() error
}

// stat is a file of a store.
type stat struct {
	name    string
	size    int64
	changed time.Time
}

// place is a store with a pattern of its files.
type place struct {
	store
	where   string
	pattern string
}

func open(env connect.Env, s connect.Settings) (connect.Place, error) {
	switch s["where"] {
	case atURL:
		return &Address{Env: env, URL: s["address"], User: s["user"], Password: s["password"]}, nil
	case inFolder:
		return &place{Folder{env}, "the workspace's folder", s["pattern"]}, nil
	case byWebDAV:
		w, err := newWebDAV(env, s)
		return &place{w, s["address"], s["pattern"]}, err
	}
	w, err := newSFTP(env, s)
	return &place{w, s["address"], s["pattern"]}, err
}

// Takes: files are put whole.
func (p *place) Takes() []connect.Act { return []connect.Act{connect.PutFile} }

// Test looks for the newest file.
func (p *place) Test(ctx context.Context) (string, error) {
	f, err := newest(ctx, p.store, p.pattern, "")
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("The newest file called like %s is %s, of %s.", p.pattern, f.name, say.Plural(f.size, "byte", "bytes")), nil
}

// Collections is the pattern.
func (p *place) Collections(context.Context) ([]connect.Collection, error) {
	return []connect.Collection{{ID: p.pattern, Name: "The newest " + p.pattern, Kind: "file", Contacts: -1}}, nil
}

// Contacts: a file has rows.
func (p *place) Contacts(context.Context, string, string, func(connect.Page) error) error {
	return connect.Troublef("Files are imported as files.")
}

// Open opens the newest file.
func (p *place) Open(ctx context.Context, collection, tag string) (connect.File, error) {
	return Newest(ctx, p.store, collection, "", tag)
}

// Put writes a file.
func (p *place) Put(ctx context.Context, name, _ string, write func(io.Writer) error) (string, error) {
	if err := CheckName(name); err != nil {
		return "", connect.Troublef("The file cannot be written: %v.", err)
	}
	return name, p.put(ctx, name, write)
}

// Newest opens the newest file of a pattern, other than those of a second one, unless it is what
// tag names.
func Newest(ctx context.Context, in store, pattern, except, tag string) (connect.File, error) {
	s, err := newest(ctx, in, pattern, except)
	if err != nil {
		return connect.File{}, err
	}
	f := connect.File{Name: path.Base(s.name), Tag: fmt.Sprintf("%s %d %d", s.name, s.size, s.changed.UnixNano())}
	if f.Tag == tag {
		f.Unchanged = true
		return f, nil
	}
	body, err := in.open(ctx, s.name)
	if err != nil {
		return connect.File{}, err
	}
	f.Body = bounded(body)
	return f, nil
}

func newest(ctx context.Context, in store, pattern, except string) (found stat, err error) {
	all, err := in.stats(ctx, pattern)
	if err != nil {
		return found, err
	}
	for _, s := range all {
		ours, _ := path.Match(except, s.name)
		if !ours && !strings.HasSuffix(s.name, unfinished) && (found.name == "" || s.changed.After(found.changed) || s.changed.Equal(found.changed) && s.name > found.name) {
			found = s
		}
	}
	if found.name == "" {
		return found, connect.Troublef("No file is called like %s.", pattern)
	}
	return found, nil
}

// unfinished is the ending of a file that is not whole.
const unfinished = ".part"

// mostFile is how many bytes a file may have.
const mostFile = 2 << 30

// limited is a file of at most so many bytes.
type limited struct {
	io.ReadCloser
	left int64
}

func (l *limited) Read(b []byte) (int, error) {
	n, err := l.ReadCloser.Read(b)
	if l.left -= int64(n); l.left < 0 {
		return n, connect.Troublef("The file has more than %d GB.", mostFile>>30)
	}
	return n, err
}

func bounded(r io.ReadCloser) io.ReadCloser { return &limited{r, mostFile} }
