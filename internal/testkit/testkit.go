// Package testkit starts what tests drive: a database of their own, a practice
// internet, the built binary as a process.
package testkit

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"varnet/internal/practice"
	"varnet/internal/secret"
	"varnet/internal/store/migrate"
)

// Root is the project's folder.
func Root() string {
	_, here, _, _ := runtime.Caller(0)
	return filepath.Dir(filepath.Dir(filepath.Dir(here)))
}

// cluster returns the DSN of a PostgreSQL cluster for tests: VARNET_TEST_DSN, or
// a private one that script/postgres starts.
var cluster = sync.OnceValues(func() (string, error) {
	if dsn := os.Getenv("VARNET_TEST_DSN"); dsn != "" {
		return dsn, nil
	}
	cmd := exec.Command(filepath.Join(Root(), "script/postgres"), "start", filepath.Join(Root(), ".varnet/test-postgres"))
	cmd.Env = append(os.Environ(), "VARNET_PG_OPTIONS=-c fsync=off -c synchronous_commit=off")
	out, err := cmd.Output()
	return strings.TrimSpace(string(out)), err
})

// admin runs SQL in the cluster.
func admin(sql string) error {
	dsn, err := cluster()
	if err != nil {
		return fmt.Errorf("no PostgreSQL for tests (script/bootstrap postgres installs it): %w", err)
	}
	return execute(dsn, sql)
}

func execute(dsn, sql string) error {
	return connected(dsn, func(ctx context.Context, conn *pgx.Conn) error {
		_, err := conn.Exec(ctx, sql)
		return err
	})
}

func connected(dsn string, do func(context.Context, *pgx.Conn) error) error {
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	return do(ctx, conn)
}

// dsnOf is where a database of the cluster is found.
func dsnOf(name string) string {
	dsn, _ := cluster()
	return dsn[:strings.LastIndexByte(dsn, '/')+1] + name
}

// migrated is a database with the schema of this release, of which those of the tests are copies: to
// migrate each from nothing takes a second. It stays until the tests of another process remove it.
var migrated = sync.OnceValues(func() (name string, err error) {
	if err := removeMigrated(); err != nil {
		return "", err
	}
	name = fmt.Sprintf("migrated_%d", os.Getpid())
	if err := admin("CREATE DATABASE " + name); err != nil {
		return "", err
	}
	pool, err := pgxpool.New(context.Background(), dsnOf(name))
	if err != nil {
		return "", err
	}
	defer pool.Close() // one that somebody is in cannot be copied
	return name, migrate.Up(context.Background(), pool)
})

// removeMigrated removes those of processes that have ended.
func removeMigrated() error {
	dsn, err := cluster()
	if err != nil {
		return err
	}
	return connected(dsn, func(ctx context.Context, conn *pgx.Conn) error {
		rows, err := conn.Query(ctx, `SELECT datname::text FROM pg_database WHERE datname LIKE 'migrated\_%'`)
		if err != nil {
			return err
		}
		names, err := pgx.CollectRows(rows, pgx.RowTo[string])
		for _, name := range names {
			pid, _ := strconv.Atoi(strings.TrimPrefix(name, "migrated_"))
			if pid == os.Getpid() || syscall.Kill(pid, 0) != nil {
				_, _ = conn.Exec(ctx, "DROP DATABASE IF EXISTS "+name) // or another process does
			}
		}
		return err
	})
}

// Database makes a database with the schema of this release for the test and returns its DSN.
func Database(t testing.TB) string {
	t.Helper()
	of, err := migrated()
	if err != nil {
		t.Fatal(err)
	}
	dsn := database(t, " TEMPLATE "+of)
	if err := execute(dsn, "UPDATE clock SET at = now(), steady = now()"); err != nil { // the copy's own time begins now
		t.Fatal(err)
	}
	return dsn
}

// Secrets returns a box of secrets of tests alone.
func Secrets(t testing.TB) *secret.Box {
	t.Helper()
	box, err := secret.New("a secret for tests alone, 32 and more")
	if err != nil {
		t.Fatal(err)
	}
	return box
}

// EmptyDatabase makes a database with nothing in it for the test and returns its DSN.
func EmptyDatabase(t testing.TB) string {
	t.Helper()
	return database(t, "")
}

func database(t testing.TB, how string) string {
	t.Helper()
	name := fmt.Sprintf("test_%d_%d", os.Getpid(), time.Now().UnixNano())
	if err := admin("CREATE DATABASE " + name + how); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := admin("DROP DATABASE " + name + " WITH (FORCE)"); err != nil {
			t.Error(err)
		}
	})
	return dsnOf(name)
}

// Binary builds the command and returns its path.
var Binary = sync.OnceValue(func() string {
	path := filepath.Join(os.TempDir(), fmt.Sprintf("varnet-test-%d", os.Getpid()))
	cmd := exec.Command("go", append(append([]string{"build"}, buildFlags...), "-o", path, "./cmd/varnet")...)
	cmd.Dir = Root()
	if out, err := cmd.CombinedOutput(); err != nil {
		panic(fmt.Sprintf("build the command: %v\n%s", err, out))
	}
	return path
})

// World starts the practice internet of that name, on free ports.
func World(t testing.TB, name string) *practice.Internet {
	t.Helper()
	w, err := practice.Load(name)
	if err != nil {
		t.Fatal(err)
	}
	return Practise(t, w)
}

// Practise starts the practice internet of a world, on free ports.
func Practise(t testing.TB, w *practice.World) *practice.Internet {
	t.Helper()
	i, err := practice.Start(w, "127.0.0.1:0", 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(i.Close)
	return i
}

// FreePort returns a TCP port that is free.
func FreePort(t testing.TB) string {
	t.Helper()
	port, err := practice.FreePort()
	if err != nil {
		t.Fatal(err)
	}
	return strconv.Itoa(port)
}

// Answer answers connections on loopback by do, for at most 5 seconds each, and
// returns the address.
func Answer(t testing.TB, do func(net.Conn)) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = l.Close() })
	go practice.Answer(l, 5*time.Second, do)
	return l.Addr().String()
}

// Service is a running "varnet serve" or "varnet worker".
type Service struct {
	URL string
	Key string
	// Metrics is the listener of what it measures.
	Metrics string
	Env     []string // what a command of the same installation needs
	cmd     *exec.Cmd
	log     *Log
}

// Settings returns the environment of an installation on a practice internet.
func Settings(dsn string, i *practice.Internet) []string {
	return []string{"VARNET_CONFIG=", "VARNET_DSN=" + dsn, "VARNET_RESOLVERS=" + i.DNS, fmt.Sprintf("VARNET_SMTP_PORT=%d", i.Port),
		"VARNET_ALLOW_PRIVATE=yes", "VARNET_HELO=verify.fernhollow.example", "VARNET_MAIL_FROM=check@fernhollow.example",
		"VARNET_ROUNDS=1600ms,1600ms,1600ms", "VARNET_PATIENCE=1500ms", "VARNET_UNKNOWN_RATE=0", "VARNET_LAST_WAIT=2s", "VARNET_REFERENCE=fernhollow.example", "VARNET_SECRET=a secret for tests alone, 32 and more"}
}

// Person and Password are who owns the installation of a test, and the workspace it begins
// with.
const (
	Person   = "ada.moss@fernhollow.example"
	Password = "quince and medlar"
)

// Serve starts the built binary as a service with these settings, on a free port, and
// makes a key and a person, whom tests may sign in as with a click. The test's end stops it.
func Serve(t testing.TB, settings []string) *Service {
	t.Helper()
	listen := "127.0.0.1:" + FreePort(t)
	if text, err := Command(settings, "migrate").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, text)
	}
	key, err := Command(settings, "key", "new", "-name", "test").Output()
	if err != nil {
		t.Fatal(err)
	}
	person := Command(settings, "person", "new", Person, "-name", "Ada Moss", "-installation")
	person.Stdin = strings.NewReader(Password)
	if text, err := person.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, text)
	}
	// Passkeys are for names: people reach it by one.
	s := &Service{URL: strings.Replace("http://"+listen, "127.0.0.1", "localhost", 1), Key: strings.TrimSpace(string(key))}
	s.Metrics = "127.0.0.1:" + FreePort(t)
	s.Env = append(settings, "VARNET_DEMO="+Person, "VARNET_METRICS="+s.Metrics, "VARNET_LISTEN="+listen, "VARNET_SERVER="+s.URL, "VARNET_KEY="+s.Key)
	s.Start(t)
	t.Cleanup(func() {
		s.Signal(syscall.SIGTERM)
		if t.Failed() {
			t.Logf("the service's log:\n%s", s.log)
		}
	})
	return s
}

// Measured returns the metrics of the service.
func (s *Service) Measured(t testing.TB) string {
	t.Helper()
	resp, err := http.Get("http://" + s.Metrics + "/metrics")
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// SignIn signs the service's person in and returns the session's secret, which goes in the
// place of a key.
func (s *Service) SignIn(t testing.TB) string {
	t.Helper()
	resp, err := http.Post(s.URL+"/api/v1/sign-in/demo", "application/json", nil)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	for _, c := range resp.Cookies() {
		if c.Name == "varnet_session" {
			return c.Value
		}
	}
	t.Fatalf("nobody is signed in: %s", resp.Status)
	return ""
}

// Setting is what the service was told, such as VARNET_DSN.
func (s *Service) Setting(name string) (value string) {
	for _, e := range s.Env {
		if of, ok := strings.CutPrefix(e, name+"="); ok {
			value = of
		}
	}
	return value
}

// Start starts the service's process, again after it was ended.
func (s *Service) Start(t testing.TB) {
	t.Helper()
	s.cmd = Command(s.Env, "serve")
	if s.log == nil {
		s.log = &Log{}
	}
	s.cmd.Stderr = s.log
	if err := s.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	for range 1200 {
		if resp, err := http.Get(s.URL + "/readyz"); err == nil {
			_ = resp.Body.Close()
			if resp.StatusCode == http.StatusOK {
				return
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatalf("the service did not get ready:\n%s", s.log)
}

// Log is what the service has logged so far.
func (s *Service) Log() string { return s.log.String() }

// Signal sends a signal and waits for the process to end.
func (s *Service) Signal(sig syscall.Signal) error {
	_ = s.cmd.Process.Signal(sig)
	return s.cmd.Wait()
}

// Command is a call of the built binary with these settings.
func Command(settings []string, args ...string) *exec.Cmd {
	cmd := exec.Command(Binary(), args...)
	cmd.Env = append(os.Environ(), settings...)
	return cmd
}

// Log takes in a log that is read meanwhile.
type Log struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (l *Log) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(p)
}

func (l *Log) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.String()
}
