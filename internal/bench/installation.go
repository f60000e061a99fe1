package main

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
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
	api  *client.Client
	url  string
	key  string
	dsn  string // of its database
	net  *practice.Internet
	pid  int // the service's
	stop func()
	// command makes a call of bin/varnet with the installation's settings.
	command func(args ...string) *exec.Cmd
	// processes are those started beside the service.
	processes []*exec.Cmd
}

// worker starts a worker beside the service.
func (in *installation) worker() error {
	cmd := in.command("worker", "-log-level", "warn")
	if err := cmd.Start(); err != nil {
		return err
	}
	in.processes = append(in.processes, cmd)
	return nil
}

// end ends a process as a host that is switched off in good order does.
func end(cmd *exec.Cmd) {
	_ = cmd.Process.Signal(syscall.SIGTERM)
	_ = cmd.Wait()
}

// pooled begins a setting that names the server through a pooler.
const pooled = "pooled="

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
	i, err := practice.Start(w, "127.0.0.1:0", port)
	if err != nil {
		return nil, err
	}
	dsn, drop, err := database()
	if err != nil {
		i.Close()
		return nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	listen := l.Addr().String()
	_ = l.Close()
	direct := dsn
	for i, s := range settings {
		if through, ok := strings.CutPrefix(s, pooled); ok {
			settings = append(slices.Clone(settings[:i]), settings[i+1:]...)
			settings = append(settings, "VARNET_SESSION_DSN="+dsn)
			dsn = through[:strings.LastIndexByte(through, '/')+1] + dsn[strings.LastIndexByte(dsn, '/')+1:]
			break
		}
	}
	env := append(os.Environ(), "VARNET_DSN="+dsn, "VARNET_RESOLVERS="+i.DNS, "VARNET_SMTP_PORT="+strconv.Itoa(port),
		"VARNET_ALLOW_PRIVATE=yes", "VARNET_HELO=verify.fernhollow.example", "VARNET_LISTEN="+listen, "VARNET_METRICS=",
		"VARNET_UNKNOWN_RATE=0", "VARNET_LAST_WAIT=9s", "VARNET_SECRET=a secret for benches alone, 32 or more", "VARNET_REFERENCE="+reference(w))
	env = append(env, settings...)
	command := func(args ...string) *exec.Cmd {
		cmd := exec.Command("bin/varnet", args...)
		cmd.Env, cmd.Stderr = env, os.Stderr
		return cmd
	}
	if err := command("migrate").Run(); err != nil {
		return nil, fmt.Errorf("migrate the database: %w", err)
	}
	key, err := command("key", "new").Output()
	if err != nil {
		return nil, fmt.Errorf("make a key: %w", err)
	}
	const person = "ada.moss@fernhollow.example"
	if err := command("person", "new", person, "-name", "Ada Moss", "-installation").Run(); err != nil {
		return nil, fmt.Errorf("make a person: %w", err)
	}
	service := command("serve", "-log-level", "warn", "-demo", person)
	if err := service.Start(); err != nil {
		return nil, err
	}
	in := &installation{url: "http://" + listen, key: strings.TrimSpace(string(key)), dsn: direct, net: i, pid: service.Process.Pid, command: command}
	in.api = client.New(in.url, in.key)
	in.processes = []*exec.Cmd{service}
	in.stop = func() {
		for _, p := range in.processes {
			end(p)
		}
		drop()
		i.Close()
	}
	if err := await("http://" + listen + "/readyz"); err != nil {
		in.stop()
		return nil, err
	}
	return in, nil
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
