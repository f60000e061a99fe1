//go:build interop

package interop

import (
	"bytes"
	"context"
	"crypto/sha512"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// cluster is a PostgreSQL of a test's own, which knows people of this machine by the name of
// their database role alone.
type cluster struct {
	t      *testing.T
	bin    string
	folder string // data, and the socket
	port   string
	env    []string // of the server
}

// newCluster makes one and starts it; on a disk of its own of so many megabytes, 0: on the
// machine's.
func newCluster(t *testing.T, sizeMB int, conf string) *cluster {
	t.Helper()
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin")
	if len(found) == 0 {
		t.Fatal("PostgreSQL is not installed")
	}
	c := &cluster{t: t, bin: found[len(found)-1], port: testkit.FreePort(t)}
	c.folder = strings.TrimSpace(must(t, "runuser", "-u", "postgres", "--", "mktemp", "-d", "/tmp/varnet-cluster-XXXXXX"))
	if sizeMB > 0 {
		if out, err := exec.Command("mount", "-t", "tmpfs", "-o", fmt.Sprintf("size=%dm,mode=700,uid=postgres", sizeMB), "varnet-cluster", c.folder).CombinedOutput(); err != nil {
			t.Skipf("a small disk cannot be made here: %v, %s", err, out)
		}
	}
	t.Cleanup(func() {
		_ = c.as("postgres", c.bin+"/pg_ctl", "-D", c.data(), "-m", "immediate", "stop").Run()
		if sizeMB > 0 {
			must(t, "umount", "-l", c.folder)
		}
		_ = os.RemoveAll(c.folder)
	})
	c.must(c.bin+"/initdb", "-D", c.data(), "-U", "postgres", "-A", "trust", "--no-sync")
	c.configure(fmt.Sprintf("listen_addresses = '127.0.0.1'\nport = %s\nunix_socket_directories = '%s'\nmax_connections = 100\nfsync = off\n%s\n", c.port, c.folder, conf))
	c.start()
	return c
}

func (c *cluster) data() string { return filepath.Join(c.folder, "data") }

// as is a command as a user of this machine, with the cluster as the usual one.
func (c *cluster) as(user, name string, args ...string) *exec.Cmd {
	cmd := exec.Command("runuser", append([]string{"-u", user, "--", name}, args...)...)
	cmd.Dir = "/"
	cmd.Env = []string{"PATH=" + filepath.Dir(testkit.Binary()) + ":/usr/bin:/bin", "PGHOST=" + c.folder, "PGPORT=" + c.port, "HOME=/tmp", "VARNET_CONFIG="}
	return cmd
}

func (c *cluster) must(name string, args ...string) string {
	c.t.Helper()
	cmd := c.as("postgres", name, args...)
	out, err := cmd.CombinedOutput()
	if err != nil {
		c.t.Fatalf("%s %q: %v\n%s", name, args, err, out)
	}
	return string(out)
}

// configure adds to the settings.
func (c *cluster) configure(conf string) {
	c.t.Helper()
	f, err := os.OpenFile(filepath.Join(c.data(), "postgresql.conf"), os.O_APPEND|os.O_WRONLY, 0)
	if err == nil {
		_, err = f.WriteString(conf)
		_ = f.Close()
	}
	if err != nil {
		c.t.Fatal(err)
	}
}

func (c *cluster) start() {
	c.t.Helper()
	log := filepath.Join(c.folder, "log")
	args := append(slices.Clone(c.env), c.bin+"/pg_ctl", "-D", c.data(), "-w", "-t", "60", "-l", log, "start")
	if out, err := c.as("postgres", "env", args...).CombinedOutput(); err != nil {
		text, _ := os.ReadFile(log)
		c.t.Fatalf("%v: %s\n%s", err, out, text)
	}
}

func (c *cluster) stop() { c.must(c.bin+"/pg_ctl", "-D", c.data(), "-w", "-m", "fast", "stop") }

func (c *cluster) dsn(role, database string) string {
	return fmt.Sprintf("postgres://%s@127.0.0.1:%s/%s", role, c.port, database)
}

// setup makes the database as the package does.
func (c *cluster) setup() {
	c.t.Helper()
	script := filepath.Join(c.folder, "database-setup")
	text, err := os.ReadFile(filepath.Join(testkit.Root(), "packaging/database-setup"))
	if err == nil {
		err = os.WriteFile(script, text, 0o755)
	}
	if err == nil {
		// The binary is in a folder that others may look into.
		err = os.Chmod(testkit.Binary(), 0o755)
	}
	if err != nil {
		c.t.Fatal(err)
	}
	binary := filepath.Join(c.folder, "varnet")
	must(c.t, "cp", testkit.Binary(), binary)
	must(c.t, "chmod", "755", binary, c.folder)
	cmd := c.as("postgres", script)
	cmd.Env = append(cmd.Env, "PATH="+c.folder+":/usr/bin:/bin")
	if out, err := cmd.CombinedOutput(); err != nil {
		c.t.Fatalf("database-setup: %v\n%s", err, out)
	}
}

// TestDatabaseSetup: the roles that the package makes may do what they are for, and no more;
// one that an earlier release made becomes so, too.
func TestDatabaseSetup(t *testing.T) {
	c := newCluster(t, 0, "")
	// As the release before told people to.
	c.must("createuser", "varnet")
	c.must("createdb", "-O", "varnet", "varnet")
	cmd := c.as("postgres", "psql", "-qc", "CREATE TABLE left_over (id int)", c.dsn("varnet", "varnet"))
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	c.setup()
	c.setup() // as after an upgrade
	s := testkit.Serve(t, append(testkit.Settings(c.dsn("varnet", "varnet"), testkit.World(t, "fernhollow")), "VARNET_MIGRATE=no"))
	if _, err := client.New(s.URL, s.Key).Lists(t.Context(), contract.ListQuery{}); err != nil {
		t.Error(err)
	}
	for _, x := range []struct {
		role, sql string
		may       bool
	}{
		{"varnet", "SELECT count(*) FROM person", true},
		{"varnet", "CREATE TABLE mine (id int)", false},
		{"varnet", "DROP TABLE audit", false},
		{"varnet", "UPDATE audit SET body = '{}'", false},
		{"varnet", "ALTER TABLE left_over ADD x int", false},
		{"varnet", "SET ROLE varnet_owner", false},
		{"varnet_reader", "SELECT count(*) FROM result_now", true},
		{"varnet_reader", "SELECT name FROM workspace", true},
		{"varnet_reader", "SELECT address FROM person", false},
		{"varnet_reader", "SELECT hash FROM key", false},
		{"varnet_reader", "SELECT sealed FROM sending_part", false},
		{"varnet_reader", "SELECT body FROM audit", false},
		{"varnet_reader", "DELETE FROM list", false},
	} {
		sql := x.sql
		if x.role == "varnet_reader" {
			sql = "SET ROLE varnet_reader; " + sql
		}
		as := map[string]string{"varnet": "varnet", "varnet_reader": "postgres"}[x.role]
		if err := try(c.dsn(as, "varnet"), sql); (err == nil) != x.may {
			t.Errorf("%s: %s: %v", x.role, x.sql, err)
		}
	}
	if err := try(c.dsn("varnet_owner", "varnet"), "SELECT 1"); err == nil {
		t.Error("somebody can sign in as the owner")
	}
}

// try runs statements.
func try(dsn, sql string) error {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	_, err = conn.PgConn().Exec(ctx, sql).ReadAll()
	return err
}

// TestPointInTime goes back to a moment in the middle of a run, as docs/backup.md says: what was
// done after is gone, and the run goes on to its end.
func TestPointInTime(t *testing.T) {
	c := newCluster(t, 0, "archive_mode = on")
	wal := filepath.Join(c.folder, "wal")
	c.must("mkdir", wal)
	c.configure(fmt.Sprintf("archive_command = 'test ! -f %[1]s/%%f && cp %%p %[1]s/%%f'\n", wal))
	c.must(c.bin+"/pg_ctl", "-D", c.data(), "reload")
	c.must("createdb", "varnet")
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(c.dsn("postgres", "varnet"), i))
	api := client.New(s.URL, s.Key)
	base := filepath.Join(c.folder, "base")
	c.must("pg_basebackup", "-D", base, "-X", "none", "-c", "fast")

	list, _ := members(t, api, i.World)
	run, err := api.StartRun(t.Context(), list.ID, contract.NewRun{})
	if err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		if run, err = api.Run(t.Context(), run.ID); err == nil && run.Done > 100 {
			break
		}
	}
	var moment time.Time
	if moment, err = databaseTime(c.dsn("postgres", "varnet")); err != nil || run.Open == 0 {
		t.Fatalf("the run could not be caught in the middle: %+v, %v", run, err)
	}
	time.Sleep(time.Second)
	if err := api.DeleteList(t.Context(), list.ID); err != nil {
		t.Fatal(err)
	}
	if err := try(c.dsn("postgres", "varnet"), "SELECT pg_switch_wal()"); err != nil {
		t.Fatal(err)
	}
	_ = s.Signal(syscall.SIGTERM)
	c.stop()
	must(t, "rm", "-rf", c.data())
	must(t, "mv", base, c.data())
	c.configure(fmt.Sprintf("restore_command = 'cp %s/%%f %%p'\nrecovery_target_time = '%s'\nrecovery_target_action = 'promote'\n", wal, moment.UTC().Format("2006-01-02 15:04:05.000000+00")))
	c.must("touch", filepath.Join(c.data(), "recovery.signal"))
	c.start()
	s.Start(t)
	after, err := api.Wait(t.Context(), run.ID, func(contract.Run) {})
	if err != nil || after.State != "finished" || after.Done != after.Addresses {
		t.Errorf("%s, %d of %d, %v", after.State, after.Done, after.Addresses, err)
	}
}

// TestDiskFull fills the database's disk while a file is imported and a run goes on: both are
// told in words, or wait; nothing is lost, and once there is room all goes on by itself.
func TestDiskFull(t *testing.T) {
	c := newCluster(t, 260, "max_wal_size = 48MB\nmin_wal_size = 32MB\nshared_buffers = 16MB")
	c.must("createdb", "varnet")
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(c.dsn("postgres", "varnet"), i))
	api := client.New(s.URL, s.Key)
	list, _ := members(t, api, i.World)
	run, err := api.StartRun(t.Context(), list.ID, contract.NewRun{})
	if err != nil {
		t.Fatal(err)
	}
	// All but a little is taken.
	var disk syscall.Statfs_t
	if err := syscall.Statfs(c.folder, &disk); err != nil {
		t.Fatal(err)
	}
	filler := filepath.Join(c.folder, "filler")
	must(t, "fallocate", "-l", fmt.Sprint(int64(disk.Bavail)*disk.Bsize-12<<20), filler)
	const many = 300_000
	var file bytes.Buffer
	file.WriteString("e-mail,note\n")
	for n := range many { // what cannot be packed into less
		fmt.Fprintf(&file, "member%d@fernhollow.example,%x\n", n, sha512.Sum512([]byte{byte(n), byte(n >> 8), byte(n >> 16)}))
	}
	_, err = api.Import(t.Context(), client.File{Name: "large.csv", Body: bytes.NewReader(file.Bytes())})
	var told *client.Problem
	if !errors.As(err, &told) || told.Status != http.StatusInsufficientStorage && told.Status != http.StatusServiceUnavailable || !strings.Contains(told.Detail, "othing was changed") {
		t.Errorf("on a full disk the import says %v", err)
	}
	if err := os.Remove(filler); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(60 * time.Second); ; time.Sleep(time.Second) { // the server may be recovering
		if _, err = api.Lists(t.Context(), contract.ListQuery{}); err == nil {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("a minute after there was room again: %v", err)
		}
	}
	if l, err := api.Import(t.Context(), client.File{Name: "large.csv", Body: bytes.NewReader(file.Bytes())}); err != nil || l.Rows != many {
		t.Errorf("sent again: %d rows, %v", l.Rows, err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	if after, err := api.Wait(ctx, run.ID, func(contract.Run) {}); err != nil || after.Done != after.Addresses {
		t.Errorf("the run: %s, %d of %d, %v", after.State, after.Done, after.Addresses, err)
	}
}

func databaseTime(dsn string) (at time.Time, err error) {
	conn, err := pgx.Connect(context.Background(), dsn)
	if err != nil {
		return at, err
	}
	defer conn.Close(context.Background())
	return at, conn.QueryRow(context.Background(), "SELECT clock_timestamp()").Scan(&at)
}
