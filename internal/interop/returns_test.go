//go:build interop

package interop

import (
	"archive/zip"
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// eximAt and dovecotAt are where the servers beside Postfix listen.
const (
	eximAt    = "127.30.1.5"
	dovecotAt = "127.30.1.6"
)

// eximConf is an Exim that refuses some mailboxes of exim.test at once and takes all of
// eximlate.test, of which it bounces some afterwards.
const eximConf = `
primary_hostname = mx.exim.test
exim_path = {exim}
exim_user = Debian-exim
exim_group = Debian-exim
deliver_drop_privilege = true
local_interfaces = {addr}
daemon_smtp_ports = {port}
spool_directory = {dir}/spool
log_file_path = {dir}/%slog
pid_file_path = {dir}/pid
acl_smtp_rcpt = rcpt
acl_smtp_data = data
begin acl
rcpt:
  deny domains = exim.test
       local_parts = ^gone
       message = 550 5.1.1 No such mailbox here
  accept
data:
  accept
begin routers
back:
  driver = manualroute
  domains = returns.test : box.test
  route_list = * 127.30.1.1::{port}
  transport = smtp
  self = send
gone:
  driver = redirect
  domains = eximlate.test
  local_parts = ^gone
  allow_fail
  data = :fail: 550 5.1.1 Unknown mailbox
kept:
  driver = redirect
  data = :blackhole:
begin transports
smtp:
  driver = smtp
begin retry
* * F,1h,5m
`

// startExim starts the Exim of Debian's package, which script/interop lays beside Postfix.
func startExim(t *testing.T) {
	t.Helper()
	exim := os.Getenv("VARNET_EXIM")
	if exim == "" {
		t.Fatal("run script/interop, which says by VARNET_EXIM where Exim is")
	}
	dir := publicDir(t, "exim.test")
	fill := strings.NewReplacer("{exim}", exim, "{addr}", eximAt, "{port}", fmt.Sprint(port), "{dir}", dir)
	conf := filepath.Join(dir, "exim.conf")
	if err := os.WriteFile(conf, []byte(fill.Replace(eximConf)), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(filepath.Join(dir, "spool"), 0o755); err != nil {
		t.Fatal(err)
	}
	run(t, "chown", "Debian-exim:Debian-exim", dir, filepath.Join(dir, "spool"))
	logged(t, filepath.Join(dir, "mainlog"))
	background(t, exim, "-C", conf, "-bdf", "-q2s")
	awaitPort(t, fmt.Sprintf("%s:%d", eximAt, port))
}

// logged shows the end of a server's log where the test failed.
func logged(t *testing.T, log string) {
	t.Cleanup(func() {
		if text, _ := os.ReadFile(log); t.Failed() {
			t.Logf("%s:\n%s", log, tail(string(text), 12))
		}
	})
}

// mailUser is whose the mailboxes are: mail, on every Debian machine.
const mailUser = "8"

const dovecotConf = `
base_dir = {dir}/run
state_dir = {dir}/state
log_path = {dir}/log
protocols = imap
listen = {addr}
ssl = required
ssl_cert = <{dir}/cert.pem
ssl_key = <{dir}/key.pem
first_valid_uid = 1
auth_mechanisms = plain
passdb {
  driver = static
  args = password={password}
}
userdb {
  driver = static
  args = uid={user} gid={user} home={mail}
}
mail_location = maildir:{mail}/bounces
service imap-login {
  inet_listener imap {
    port = 0
  }
  inet_listener imaps {
    port = {port}
    ssl = yes
  }
}
`

// startDovecot starts a Dovecot that reads a Maildir, over TLS alone. It returns the file with
// the certificate that is trusted.
func startDovecot(t *testing.T, mail, password string) (certificate string) {
	t.Helper()
	dir := publicDir(t, "dovecot")
	certificate = filepath.Join(dir, "cert.pem")
	run(t, "openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=imap.box.test", "-addext", "subjectAltName=IP:"+dovecotAt,
		"-keyout", filepath.Join(dir, "key.pem"), "-out", certificate)
	fill := strings.NewReplacer("{dir}", dir, "{addr}", dovecotAt, "{port}", fmt.Sprint(port), "{mail}", mail, "{user}", mailUser, "{password}", password)
	conf := filepath.Join(dir, "dovecot.conf")
	if err := os.WriteFile(conf, []byte(fill.Replace(dovecotConf)), 0o644); err != nil {
		t.Fatal(err)
	}
	logged(t, filepath.Join(dir, "log"))
	background(t, "dovecot", "-F", "-c", conf)
	awaitPort(t, fmt.Sprintf("%s:%d", dovecotAt, port))
	return certificate
}

// mailFolder is a folder for the mailboxes of box.test.
func mailFolder(t *testing.T) string {
	t.Helper()
	dir := publicDir(t, "mail")
	run(t, "chown", mailUser+":"+mailUser, dir)
	return dir
}

// zipOf packs the messages of a Maildir, as somebody does who hands them over as a file.
func zipOf(t *testing.T, maildir string) *bytes.Buffer {
	t.Helper()
	names, err := filepath.Glob(filepath.Join(maildir, "new", "*"))
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for n, name := range names {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		f, err := w.Create(fmt.Sprintf("%d.eml", n))
		if err == nil {
			_, err = f.Write(text)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return &out
}
