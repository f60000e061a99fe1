package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
)

// installation is a service on a database and a practice internet of its own.
type installation struct {
	api *client.Client
	url string
	key string
	dsn string // of its database
	net *practice.Internet
	pid int      // the service's
	env []string // of its commands
	// processes are those that run, the service first.
	processes []*exec.Cmd
	// undo are what takes away again what was set up, the last first.
	undo []func()
}

// stop ends the processes and takes everything away.
func (in *installation) stop() {
	for _, p := range in.processes {
		end(p)
	}
	for _, undo := range slices.Backward(in.undo) {
		undo()
	}
}

// command makes a call of bin/varnet with the installation's settings.
func (in *installation) command(args ...string) *exec.Cmd {
	cmd := exec.Command("bin/varnet", args...)
	cmd.Env, cmd.Stderr = in.env, os.Stderr
	return cmd
}

// begin starts a process beside those that run.
func (in *installation) begin(args ...string) error {
	cmd := in.command(args...)
	if err := cmd.Start(); err != nil {
		return err
	}
	in.processes = append(in.processes, cmd)
	return nil
}

// worker starts a worker beside the service.
func (in *installation) worker() error { return in.begin("worker", "-log-level", "warn") }

// end ends a process as a host that is switched off in good order does.
func end(cmd *exec.Cmd) {
	_ = cmd.Process.Signal(syscall.SIGTERM)
	_ = cmd.Wait()
}

// pooler is a pooler in front of the server.
type pooler struct{ folder, dsn string }

func startPooler() (p pooler, err error) {
	if p.folder, err = os.MkdirTemp("/tmp", "varnet-pooler-"); err != nil {
		return p, err
	}
	if err := os.Chmod(p.folder, 0o755); err != nil {
		return p, err
	}
	out, err := exec.Command("script/pooler", "start", p.folder, os.Getenv("VARNET_DSN")).Output()
	p.dsn = strings.TrimSpace(string(out))
	return p, err
}

func (p pooler) restart() error { return exec.Command("script/pooler", "restart", p.folder).Run() }

func (p pooler) stop() {
	_ = exec.Command("script/pooler", "stop", p.folder).Run()
	_ = os.RemoveAll(p.folder)
}

// reference names a domain of the world that exists, by which its resolver is proven.
func reference(w *practice.World) string {
	at := max(0, slices.IndexFunc(w.Operators, func(o practice.Operator) bool { return o.Character == "plain" }))
	return w.Operators[at].Domains[0]
}

// install starts bin/varnet on an empty database and the world.
func install(w *practice.World, port int, settings ...string) (*installation, error) {
	return installBehind(nil, w, port, settings...)
}

// installBehind is install with a pooler in front of the server; nil: with none.
func installBehind(p *pooler, w *practice.World, port int, settings ...string) (_ *installation, err error) {
	in := &installation{}
	defer func() {
		if err != nil {
			in.stop()
		}
	}()
	if in.net, err = practice.Start(w, "127.0.0.1:0", port); err != nil {
		return nil, err
	}
	in.undo = append(in.undo, in.net.Close)
	var drop func()
	if in.dsn, drop, err = database(); err != nil {
		return nil, err
	}
	in.undo = append(in.undo, drop)
	free, err := practice.FreePort()
	if err != nil {
		return nil, err
	}
	listen := fmt.Sprintf("127.0.0.1:%d", free)
	in.url = "http://" + listen
	in.env = append(os.Environ(), "VARNET_RESOLVERS="+in.net.DNS, "VARNET_SMTP_PORT="+strconv.Itoa(port),
		"VARNET_ALLOW_PRIVATE=yes", "VARNET_HELO=verify.fernhollow.example", "VARNET_LISTEN="+listen, "VARNET_METRICS=",
		"VARNET_UNKNOWN_RATE=0", "VARNET_LAST_WAIT=9s", "VARNET_SECRET=a secret for benches alone, 32 or more", "VARNET_REFERENCE="+reference(w))
	in.env = append(append(in.env, p.settings(in.dsn)...), settings...)
	return in, in.open()
}

// settings are where a database is found, through the pooler if there is one.
func (p *pooler) settings(dsn string) []string {
	if p == nil {
		return []string{"VARNET_DSN=" + dsn}
	}
	server, _ := path.Split(p.dsn)
	return []string{"VARNET_DSN=" + server + path.Base(dsn), "VARNET_SESSION_DSN=" + dsn}
}

// open makes a key and a person, starts the service, and waits until it answers.
func (in *installation) open() error {
	if err := in.command("migrate").Run(); err != nil {
		return fmt.Errorf("migrate the database: %w", err)
	}
	key, err := in.command("key", "new").Output()
	if err != nil {
		return fmt.Errorf("make a key: %w", err)
	}
	in.key = strings.TrimSpace(string(key))
	in.api = client.New(in.url, in.key)
	const person = "ada.moss@fernhollow.example"
	if err := in.command("person", "new", person, "-name", "Ada Moss", "-installation").Run(); err != nil {
		return fmt.Errorf("make a person: %w", err)
	}
	if err := in.begin("serve", "-log-level", "warn", "-demo", person); err != nil {
		return err
	}
	in.pid = in.processes[0].Process.Pid
	return await(in.url + "/readyz")
}

func await(url string) error {
	for range 200 {
		if resp, err := http.Get(url); err == nil {
			_ = resp.Body.Close()
			if resp.StatusCode == http.StatusOK {
				return nil
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
	return fmt.Errorf("%s does not answer", url)
}

// database makes an empty database in the cluster that VARNET_DSN names.
func database() (dsn string, drop func(), err error) {
	cluster, ctx := os.Getenv("VARNET_DSN"), context.Background()
	name := fmt.Sprintf("bench_%d", time.Now().UnixNano())
	do := func(sql string) error {
		conn, err := pgx.Connect(ctx, cluster)
		if err != nil {
			return err
		}
		defer func() { _ = conn.Close(ctx) }()
		_, err = conn.Exec(ctx, sql)
		return err
	}
	if err := do("CREATE DATABASE " + name); err != nil {
		return "", nil, err
	}
	return cluster[:strings.LastIndexByte(cluster, '/')+1] + name, func() { _ = do("DROP DATABASE " + name + " WITH (FORCE)") }, nil
}

// kill ends a process as a power cut does, and starts another in its place: of
// 0, the service, or of a worker.
func (in *installation) kill(n int) error {
	_ = in.processes[n].Process.Kill()
	_ = in.processes[n].Wait()
	time.Sleep(time.Second)
	what := "worker"
	if n == 0 {
		what = "serve"
	}
	in.processes[n] = in.command(what, "-log-level", "error")
	return in.processes[n].Start()
}

// all returns all results of a run.
func (in *installation) all(run int64) ([]contract.Result, error) {
	return in.api.AllResults(context.Background(), run, nil)
}

// clean brings a list of n people in, runs it and returns all its results.
func (in *installation) clean(n int) (contract.Run, []contract.Result, error) {
	ctx := context.Background()
	reader, writer := io.Pipe()
	go func() { writer.CloseWithError(in.net.World.WriteList(writer, n)) }()
	l, err := in.api.Import(ctx, client.File{Name: "members.csv", Body: reader})
	if err != nil {
		return contract.Run{}, nil, err
	}
	run, err := in.api.StartRun(ctx, l.ID, contract.NewRun{Depth: "mailbox", Policy: "careful"})
	if err != nil {
		return run, nil, err
	}
	if run, err = in.api.Wait(ctx, run.ID, func(contract.Run) {}); err != nil {
		return run, nil, err
	}
	all, err := in.all(run.ID)
	return run, all, err
}
