package files

import (
	"context"
	"crypto/subtle"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"path"
	"regexp"
	"strings"
	"time"

	"github.com/emersion/go-webdav"
	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"varnet/core/problem"
	"varnet/internal/connect"
	"varnet/internal/dial"
)

// sftpStore is a server that speaks SFTP.
type sftpStore struct {
	env    connect.Env
	host   string
	config *ssh.ClientConfig
	line   *ssh.Client
	client *sftp.Client
}

func newSFTP(env connect.Env, s connect.Settings) (*sftpStore, error) {
	host := strings.TrimSuffix(strings.TrimPrefix(s["address"], "sftp://"), "/")
	if _, _, err := net.SplitHostPort(host); err != nil {
		host = net.JoinHostPort(host, "22")
	}
	f := &sftpStore{env: env, host: host, config: &ssh.ClientConfig{User: s["user"], Timeout: 20 * time.Second}}
	f.config.HostKeyCallback = func(_ string, _ net.Addr, key ssh.PublicKey) error {
		got := ssh.FingerprintSHA256(key)
		if subtle.ConstantTimeCompare([]byte(got), []byte(strings.TrimSpace(s["hostKey"]))) == 1 {
			return nil
		}
		if s["hostKey"] == "" {
			return connect.Broken("The host shows the key %s. If it is the right one, enter it as the fingerprint of the host key.", got)
		}
		return connect.Broken("The host shows another key than the one entered: %s. Nothing was sent to it.", got)
	}
	if s["privateKey"] != "" {
		key, err := ssh.ParsePrivateKey([]byte(s["privateKey"]))
		if err != nil {
			return nil, problem.In("privateKey", "this is not a private key without a passphrase: %s", err)
		}
		f.config.Auth = append(f.config.Auth, ssh.PublicKeys(key))
	}
	if s["password"] != "" {
		f.config.Auth = append(f.config.Auth, ssh.Password(s["password"]))
	}
	return f, nil
}

func (f *sftpStore) signedIn(ctx context.Context) (*sftp.Client, error) {
	if f.client != nil {
		return f.client, nil
	}
	line, err := f.env.Dial(ctx, "tcp", f.host)
	if err != nil {
		return nil, connect.Unreachable(f.host, err)
	}
	_ = line.SetDeadline(time.Now().Add(transferTime))
	c, chans, requests, err := ssh.NewClientConn(line, f.host, f.config)
	if err != nil {
		_ = line.Close()
		var t *connect.Trouble
		if errors.As(err, &t) {
			return nil, t
		}
		if strings.Contains(err.Error(), "unable to authenticate") {
			return nil, connect.Broken("%s refused the sign-in of %s. Check the user, and the password or key.", f.host, f.config.User)
		}
		return nil, connect.Unreachable(f.host, err)
	}
	f.line = ssh.NewClient(c, chans, requests)
	if f.client, err = sftp.NewClient(f.line); err != nil {
		_ = f.Close()
		return nil, connect.Troublef("%s does not speak SFTP: %v.", f.host, err)
	}
	return f.client, nil
}

func (f *sftpStore) Close() error {
	if f.client != nil {
		_ = f.client.Close()
	}
	if f.line != nil {
		return f.line.Close()
	}
	return nil
}

func (f *sftpStore) stats(ctx context.Context, pattern string) (out []stat, err error) {
	c, err := f.signedIn(ctx)
	if err != nil {
		return nil, err
	}
	names, err := c.Glob(pattern)
	if err != nil {
		return nil, connect.Troublef("The files called like %s cannot be listed: %v.", pattern, err)
	}
	for _, n := range names {
		if i, err := c.Stat(n); err == nil && i.Mode().IsRegular() {
			out = append(out, stat{n, i.Size(), i.ModTime()})
		}
	}
	return out, nil
}

func (f *sftpStore) open(ctx context.Context, name string) (io.ReadCloser, error) {
	c, err := f.signedIn(ctx)
	if err != nil {
		return nil, err
	}
	file, err := c.Open(name)
	if err != nil {
		return nil, connect.Troublef("The file %s cannot be read: %v.", name, err)
	}
	return file, nil
}

func (f *sftpStore) put(ctx context.Context, name string, write func(io.Writer) error) error {
	c, err := f.signedIn(ctx)
	if err != nil {
		return err
	}
	failed := func(err error) error { return connect.Troublef("The file %s cannot be written: %v.", name, err) }
	if dir := path.Dir(name); dir != "." {
		if err := c.MkdirAll(dir); err != nil {
			return failed(err)
		}
	}
	file, err := c.Create(name + unfinished)
	if err != nil {
		return failed(err)
	}
	if err = errors.Join(write(file), file.Close()); err == nil {
		err = c.PosixRename(name+unfinished, name)
	}
	if err != nil {
		_ = c.Remove(name + unfinished)
		return failed(err)
	}
	return nil
}

// webDAV is a folder of a WebDAV server (RFC 4918).
type webDAV struct {
	client *webdav.Client
	web    *connect.Web // for lists of files
	at     *url.URL
	base   string
}

func newWebDAV(env connect.Env, s connect.Settings) (*webDAV, error) {
	h := dial.Web(env.AllowPrivate, env.TLS)
	h.Timeout = transferTime
	c, err := webdav.NewClient(webdav.HTTPClientWithBasicAuth(h, s["user"], s["password"]), s["address"])
	if err != nil {
		return nil, problem.In("address", "%s", err)
	}
	u, err := url.Parse(s["address"])
	if err != nil {
		return nil, problem.In("address", "%s", err)
	}
	web := env.NewWeb("", 0)
	web.SignIn = func(_ context.Context, r *http.Request) error {
		r.SetBasicAuth(s["user"], s["password"])
		return nil
	}
	return &webDAV{c, web, u, strings.TrimSuffix(u.Path, "/") + "/"}, nil
}

func (w *webDAV) Close() error { return nil }

// refusedSignIn finds the status in an error of the server, which stands at the beginning of a line: elsewhere such a number is
// that of a port or of a file.
var refusedSignIn = regexp.MustCompile(`(?m)^40[13] `)

// davFailed is an error of the server.
func davFailed(what string, err error) error {
	text := connect.Plain(err.Error())
	if refusedSignIn.MatchString(err.Error()) {
		return connect.Broken("%s: the server refused the sign-in (%s).", what, text)
	}
	if strings.Contains(text, "connect:") || strings.Contains(text, http.StatusText(http.StatusServiceUnavailable)) {
		return connect.Later("%s: %s.", what, text)
	}
	return connect.Troublef("%s: %s.", what, text)
}

// listed is what a server says of the files of a folder (RFC 4918, 9.1).
type listed struct {
	XMLName   xml.Name `xml:"DAV: multistatus"`
	Responses []struct {
		Href  string `xml:"DAV: href"`
		Props []struct {
			Prop struct {
				Size     int64     `xml:"DAV: getcontentlength"`
				Changed  string    `xml:"DAV: getlastmodified"`
				IsFolder *struct{} `xml:"DAV: resourcetype>collection"`
			} `xml:"DAV: prop"`
			Status string `xml:"DAV: status"`
		} `xml:"DAV: propstat"`
	} `xml:"DAV: response"`
}

const listing = `<?xml version="1.0" encoding="utf-8"?><propfind xmlns="DAV:"><prop><getcontentlength/><getlastmodified/><resourcetype/></prop></propfind>`

func (w *webDAV) stats(ctx context.Context, pattern string) (out []stat, err error) {
	at := *w.at
	at.Path = w.base + strings.TrimPrefix(path.Dir(pattern)+"/", "./")
	a, err := w.web.Do(ctx, "PROPFIND", at.String(), http.Header{"Depth": {"1"}, "Content-Type": {"application/xml; charset=utf-8"}}, []byte(listing), http.StatusMultiStatus)
	if err != nil {
		return nil, err
	}
	var found listed
	if err := xml.Unmarshal(a.Body, &found); err != nil {
		return nil, connect.Troublef("%s did not answer as a WebDAV server does: %s.", w.at.Host, connect.Plain(err.Error()))
	}
	for _, r := range found.Responses {
		u, err := url.Parse(strings.TrimSpace(r.Href))
		if err != nil {
			continue
		}
		name := path.Join(path.Dir(pattern), path.Base(u.Path))
		for _, p := range r.Props {
			changed, err := http.ParseTime(p.Prop.Changed)
			if fits, _ := path.Match(pattern, name); fits && err == nil && p.Prop.IsFolder == nil && strings.Contains(p.Status, " 200 ") {
				out = append(out, stat{name, p.Prop.Size, changed})
			}
		}
	}
	return out, nil
}

func (w *webDAV) open(ctx context.Context, name string) (io.ReadCloser, error) {
	r, err := w.client.Open(ctx, w.base+name)
	if err != nil {
		return nil, davFailed(fmt.Sprintf("The file %s cannot be read", name), err)
	}
	return r, nil
}

func (w *webDAV) put(ctx context.Context, name string, write func(io.Writer) error) error {
	out, err := w.client.Create(ctx, w.base+name+unfinished)
	if err == nil {
		err = write(out)
		if ended := out.Close(); ended != nil && (err == nil || errors.Is(err, io.ErrClosedPipe)) {
			err = ended // why the server took no more
		}
		if err == nil {
			err = w.client.Move(ctx, w.base+name+unfinished, w.base+name, &webdav.MoveOptions{})
		}
	}
	if err != nil {
		_ = w.client.RemoveAll(ctx, w.base+name+unfinished)
		return davFailed(fmt.Sprintf("The file %s cannot be written", name), err)
	}
	return nil
}
