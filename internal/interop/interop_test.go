//go:build interop

// Package interop holds Varnet against real servers from Debian's packages:
// Postfix as mail host in several set-ups, postgrey, and Unbound as name
// server, all on loopback with their own folders. Run it with script/interop.
package interop

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"varnet/core/address"
	"varnet/core/finding"
	"varnet/core/pace"
	"varnet/core/probe"
	"varnet/core/resolve"
	"varnet/core/smtp"
	"varnet/internal/outbound"
	"varnet/internal/practice"
	"varnet/internal/secret"
	"varnet/internal/store"
	"varnet/internal/testkit"
	"varnet/internal/work"
)

var port = free()

// greyAt is where postgrey listens.
var greyAt = fmt.Sprintf("127.0.0.1:%d", free())

// free returns a free TCP port.
func free() int {
	port, err := practice.FreePort()
	if err != nil {
		panic(err)
	}
	return port
}

// site is one Postfix with its own folder, address and settings.
type site struct {
	domain   string
	addr     string
	settings string
	files    map[string]string // more files of its folder, by name
}

var sites = []site{
	{domain: "plain.test", addr: "127.30.0.1", settings: "virtual_mailbox_maps = texthash:{dir}/mailboxes"},
	{domain: "anybody.test", addr: "127.30.0.2", settings: "virtual_mailbox_maps = static:all"},
	{domain: "grey.test", addr: "127.30.0.3", settings: "virtual_mailbox_maps = texthash:{dir}/mailboxes\nsmtpd_recipient_restrictions = reject_unlisted_recipient, check_policy_service inet:{grey}, permit"},
	{domain: "blocked.test", addr: "127.30.0.4", settings: "virtual_mailbox_maps = texthash:{dir}/mailboxes\nsmtpd_client_restrictions = check_client_access static:{554 5.7.1 Service unavailable; client host is on the blocklist bl.test}"},
	{domain: "tls.test", addr: "127.30.0.5", settings: "virtual_mailbox_maps = texthash:{dir}/mailboxes\nsmtpd_tls_security_level = encrypt\nsmtpd_tls_cert_file = {dir}/cert.pem\nsmtpd_tls_key_file = {dir}/key.pem"},
	{domain: "cautious.test", addr: "127.30.0.6", settings: "virtual_mailbox_maps = texthash:{dir}/mailboxes\nunknown_virtual_mailbox_reject_code = 450"},
	{domain: "wrong.test", addr: "127.30.0.7", settings: "virtual_mailbox_domains = another.test"},
	{domain: "helo.test", addr: "127.30.0.8", settings: "virtual_mailbox_maps = texthash:{dir}/mailboxes\nsmtpd_helo_restrictions = reject_unknown_helo_hostname\nsmtpd_helo_required = yes"},
	{domain: "sender.test", addr: "127.30.0.9", settings: "virtual_mailbox_maps = texthash:{dir}/mailboxes\nsmtpd_sender_restrictions = reject_unknown_sender_domain"},
	{domain: "limit.test", addr: "127.30.0.10", settings: "virtual_mailbox_maps = texthash:{dir}/mailboxes\nsmtpd_recipient_limit = 8\nsmtpd_recipient_overshoot_limit = 1000\nsmtpd_hard_error_limit = 12\nsmtpd_error_sleep_time = 0"},
	{domain: "open.test", addr: "127.30.0.11", settings: "virtual_mailbox_maps = texthash:{dir}/mailboxes\nsmtpd_discard_ehlo_keywords = pipelining"},
}

const mainCF = `
compatibility_level = 3.6
queue_directory = {dir}/queue
data_directory = {dir}/data
command_directory = /usr/sbin
daemon_directory = /usr/lib/postfix/sbin
mail_owner = postfix
setgid_group = postdrop
maillog_file = {dir}/maillog
maillog_file_prefixes = {dir}
inet_interfaces = loopback-only
inet_protocols = ipv4
myhostname = mx.{domain}
mydestination =
mynetworks = 192.0.2.1/32
alias_maps =
local_recipient_maps =
virtual_mailbox_domains = {domain}
virtual_transport = discard:
smtpd_relay_restrictions = reject_unauth_destination
smtpd_recipient_restrictions = check_recipient_access texthash:{dir}/access, permit
smtputf8_enable = no
biff = no
{settings}
`

const masterCF = `
{addr}:{port} inet n - n - - smtpd
cleanup   unix n - n - 0 cleanup
rewrite   unix - - n - - trivial-rewrite
bounce    unix - - n - 0 bounce
defer     unix - - n - 0 bounce
proxymap  unix - - n - - proxymap
anvil     unix - - n - 1 anvil
scache    unix - - n - 1 scache
discard   unix - - n - - discard
error     unix - - n - - error
retry     unix - - n - - error
smtp      unix - - n - - smtp
lmtp      unix - - n - - lmtp
virtual   unix - n n - - virtual
tlsmgr    unix - - n 1000? 1 tlsmgr
qmgr      unix n - n 300 1 qmgr
postlog   unix-dgram n - n - 1 postlogd
`

func (s site) start(t *testing.T) {
	t.Helper()
	dir := publicDir(t, s.domain)
	fill := strings.NewReplacer("{dir}", dir, "{addr}", s.addr, "{domain}", s.domain, "{port}", fmt.Sprint(port), "{grey}", greyAt, "{settings}", "")
	write := func(name, text string) {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("main.cf", fill.Replace(s.mainCF()))
	write("master.cf", fill.Replace(masterCF))
	var boxes strings.Builder
	for _, local := range known() {
		fmt.Fprintf(&boxes, "%s@%s x\n", local, s.domain)
	}
	write("mailboxes", boxes.String())
	write("access", fmt.Sprintf("full@%[1]s 552 5.2.2 Mailbox is full\noff@%[1]s 550 5.2.1 Mailbox disabled, not accepting messages\n", s.domain))
	for name, text := range s.files {
		write(name, fill.Replace(text))
	}
	if strings.Contains(s.settings, "cert.pem") {
		run(t, "openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=mx.tls.test",
			"-keyout", filepath.Join(dir, "key.pem"), "-out", filepath.Join(dir, "cert.pem"))
	}
	for _, sub := range []string{"queue", "data"} {
		if err := os.Mkdir(filepath.Join(dir, sub), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	run(t, "chown", "postfix", filepath.Join(dir, "data"))
	t.Cleanup(func() {
		if log, err := os.ReadFile(filepath.Join(dir, "maillog")); t.Failed() && err == nil {
			t.Logf("%s said:\n%s", s.domain, tail(string(log), 12))
		}
		_ = exec.Command("postfix", "-c", dir, "stop").Run()
	})
	run(t, "postfix", "-c", dir, "start")
	awaitPort(t, fmt.Sprintf("%s:%d", s.addr, port))
}

// mainCF is the configuration of a site: its own settings in the place of the usual ones.
// Postfix warns of settings that stand there twice, in a log that nobody reads once it stops.
func (s site) mainCF() string {
	own := map[string]bool{}
	for line := range strings.SplitSeq(s.settings, "\n") {
		name, _, _ := strings.Cut(line, " =")
		own[name] = true
	}
	var kept []string
	for line := range strings.SplitSeq(mainCF, "\n") {
		if name, _, ok := strings.Cut(line, " ="); !ok || !own[name] {
			kept = append(kept, line)
		}
	}
	return strings.Replace(strings.Join(kept, "\n"), "{settings}", s.settings, 1)
}

// known are the mailboxes that exist at each site, beside full and off.
func known() (locals []string) {
	for i := range 25 {
		locals = append(locals, fmt.Sprintf("member%02d", i))
	}
	return append(locals, "full", "off", "postmaster")
}

func publicDir(t *testing.T, name string) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "varnet-"+name+"-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	return dir
}

// run runs a command to its end. Its output goes to a file: a daemon it leaves
// behind would hold a pipe open.
func run(t *testing.T, name string, args ...string) {
	t.Helper()
	out, err := os.CreateTemp(t.TempDir(), "out")
	if err != nil {
		t.Fatal(err)
	}
	defer out.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Stdout, cmd.Stderr = out, out
	if err := cmd.Run(); err != nil {
		said, _ := os.ReadFile(out.Name())
		t.Fatalf("%s %s: %v\n%s", name, strings.Join(args, " "), err, said)
	}
}

func awaitPort(t *testing.T, addr string) {
	t.Helper()
	for range 100 {
		if c, err := net.Dial("tcp", addr); err == nil {
			_ = c.Close()
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	t.Fatalf("nothing listens on %s", addr)
}

func tail(s string, n int) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return strings.Join(lines[max(0, len(lines)-n):], "\n")
}

// background runs a server in the foreground of its own process until the
// test's end.
func background(t *testing.T, name string, args ...string) {
	t.Helper()
	out, err := os.CreateTemp(t.TempDir(), "out")
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(name, args...)
	cmd.Stdout, cmd.Stderr = out, out
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // so that its children end with it
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		_ = cmd.Wait()
		if said, err := os.ReadFile(out.Name()); t.Failed() && err == nil {
			t.Logf("%s said:\n%s", name, tail(string(said), 8))
		}
	})
}

// startNames runs Unbound with the zones of the sites and returns its address.
func startNames(t *testing.T) string {
	t.Helper()
	free := free()
	addr := fmt.Sprintf("127.0.0.1:%d", free)
	var zones strings.Builder
	add := func(format string, args ...any) {
		fmt.Fprintf(&zones, "  local-data: '"+format+"'\n", args...)
	}
	zones.WriteString("  local-zone: \"test.\" static\n")
	for _, s := range sites {
		add("%s. MX 10 mx.%s.", s.domain, s.domain)
		add("mx.%s. A %s", s.domain, s.addr)
	}
	add("nomail.test. MX 0 .")
	add("parked.test. TXT parked")
	add("fernhollow.test. MX 10 mx.plain.test.")
	add("dead.test. MX 10 mx.dead.test.")
	add("mx.dead.test. A 127.30.0.99")
	zones.WriteString("  local-zone: \"broken.test.\" refuse\n")
	conf := filepath.Join(publicDir(t, "unbound"), "unbound.conf")
	text := "server:\n  interface: 127.0.0.1\n  port: " + fmt.Sprint(free) + "\n  do-daemonize: no\n  username: \"\"\n  chroot: \"\"\n  directory: \"/tmp\"\n  pidfile: \"\"\n" +
		"  use-syslog: no\n  logfile: \"\"\n  module-config: \"iterator\"\n  access-control: 127.0.0.0/8 allow\n" + zones.String()
	if err := os.WriteFile(conf, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	background(t, "unbound", "-d", "-c", conf)
	awaitPort(t, addr)
	return addr
}

// startGreylisting runs postgrey with a delay of two seconds.
func startGreylisting(t *testing.T) {
	t.Helper()
	dir := publicDir(t, "postgrey")
	run(t, "chown", "postgrey", dir)
	background(t, "runuser", "-u", "postgrey", "--", "postgrey", "--inet="+greyAt, "--delay=2", "--dbdir="+dir, "--auto-whitelist-clients=0")
	awaitPort(t, greyAt)
}

// TestRealServers checks known, unknown, full, disabled and made-up mailboxes
// at every site, through the same engine that serves runs and single checks,
// and finds nothing wrong.
func TestRealServers(t *testing.T) {
	names := startNames(t)
	startGreylisting(t)
	for _, s := range sites {
		s.start(t)
	}
	e := engine(t, names)
	for _, c := range []struct {
		address string
		finding finding.Finding
		causes  string // any of them
	}{
		{"member01@plain.test", finding.Deliverable, "mailbox.accepted"},
		{"Member02@plain.test", finding.Deliverable, "mailbox.accepted"},
		{"nobody@plain.test", finding.Undeliverable, "mailbox.absent"},
		{"full@plain.test", finding.Undeliverable, "mailbox.full"},
		{"off@plain.test", finding.Undeliverable, "mailbox.disabled"},
		{"member01@open.test", finding.Deliverable, "mailbox.accepted"},
		{"nobody@open.test", finding.Undeliverable, "mailbox.absent"},
		{"anybody@anybody.test", finding.CatchAll, "mailbox.any-accepted"},
		{"off@anybody.test", finding.Undeliverable, "mailbox.disabled"},
		{"nobody@grey.test", finding.Undeliverable, "mailbox.absent"},
		{"member01@blocked.test", finding.Undecided, "exchanger.blocks-us exchanger.unavailable"},
		{"nobody@blocked.test", finding.Undecided, "exchanger.blocks-us exchanger.unavailable"},
		{"member01@tls.test", finding.Deliverable, "mailbox.accepted"},
		{"nobody@tls.test", finding.Undeliverable, "mailbox.absent"},
		{"nobody@cautious.test", finding.Undecided, "mailbox.unclear"},
		{"member01@wrong.test", finding.Undecided, "mailbox.unclear"},
		{"member01@helo.test", finding.Undecided, "exchanger.blocks-us"},
		{"nobody@helo.test", finding.Undecided, "exchanger.blocks-us"},
		{"member01@sender.test", finding.Undecided, "exchanger.blocks-us"},
		{"x@nomail.test", finding.Undeliverable, "domain.no-mail"},
		{"x@parked.test", finding.Undeliverable, "domain.no-exchanger"},
		{"x@nothere.test", finding.Undeliverable, "domain.absent"},
		{"x@broken.test", finding.Undecided, "domain.unresolved"},
		{"x@dead.test", finding.Undecided, "exchanger.unreachable"},
	} {
		got := e.Check(t.Context(), 0, c.address, nil)
		if got.Verdict.Finding != c.finding || !strings.Contains(c.causes, string(got.Verdict.Cause)) {
			t.Errorf("%s is %s by %s, want %s by %s: %+v", c.address, got.Verdict.Finding, got.Verdict.Cause, c.finding, c.causes, got.Asked)
		}
		t.Logf("%-24s %-14s %-24s %s", c.address, got.Verdict.Finding, got.Verdict.Cause, lastReply(got))
	}
	t.Run("rounds", func(t *testing.T) { rounds(t, e) })
}

func lastReply(c work.Checked) string {
	if len(c.Asked) == 0 {
		return ""
	}
	return c.Asked[len(c.Asked)-1].Reply
}

// rounds asks what takes more than one round, or more than one transaction: a
// greylisting host, a cautious one, one with a limit on recipients and errors.
func rounds(t *testing.T, e *work.Engine) {
	for _, domain := range []string{"grey.test", "cautious.test", "limit.test"} {
		results := inRounds(t, e, domain)
		for local, r := range results {
			want := finding.Deliverable
			switch {
			case strings.HasPrefix(local, "nobody"), local == "full" && domain != "grey.test", local == "off" && domain != "grey.test":
				want = finding.Undeliverable
			}
			if r.Verdict.Finding != want {
				t.Errorf("%s@%s is %s by %s, want %s: %+v", local, domain, r.Verdict.Finding, r.Verdict.Cause, want, r.Asked)
			}
		}
		t.Logf("%s: %d addresses concluded as they are", domain, len(results))
	}
}

func inRounds(t *testing.T, e *work.Engine, name string) map[string]probe.Result {
	t.Helper()
	d := e.Resolver.Lookup(t.Context(), name)
	domain := probe.Domain{Name: name, Operator: d.Operator(), Exchangers: d.Exchangers}
	locals := known()
	for i := range 6 {
		locals = append(locals, fmt.Sprintf("nobody%d", i))
	}
	for _, l := range locals {
		domain.Questions = append(domain.Questions, probe.Question{Address: address.Rebuild(l + "@" + name)})
	}
	results := map[string]probe.Result{}
	for range 6 {
		out := e.Prober.Probe(t.Context(), probe.Parcel{Domains: []probe.Domain{domain}})
		domain.Acceptances, domain.Questions = out.Acceptances, nil
		for _, r := range append(append(out.Results, out.Postponed...), out.Unasked...) {
			results[r.Address.Local] = r
		}
		for _, r := range append(out.Postponed, out.Unasked...) {
			domain.Questions = append(domain.Questions, r.Question)
		}
		if len(domain.Questions) == 0 {
			break
		}
		time.Sleep(2500 * time.Millisecond)
	}
	return results
}

func engine(t *testing.T, names string) *work.Engine {
	t.Helper()
	db, err := store.Open(t.Context(), testkit.Database(t))
	if err == nil {
		err = db.Migrate(t.Context())
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(db.Close)
	r, err := resolve.New([]string{names}, true)
	if err != nil {
		t.Fatal(err)
	}
	p := probe.New(probe.DirectDialer(true), smtp.Identity{Name: "verify.fernhollow.test", Sender: "check@elsewhere.invalid"})
	p.Port = port
	box, err := secret.New(secret.Random())
	if err != nil {
		t.Fatal(err)
	}
	e, err := work.New(work.Config{Config: outbound.Config{Store: db, Secrets: box, Resolver: r, Prober: p, Log: slog.Default()}, Rounds: pace.DefaultRounds(), Lanes: work.DefaultLanes})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = e.Stop(context.WithoutCancel(t.Context())) }) // it holds a connection
	return e
}
