package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/http/pprof"
	"net/netip"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"varnet/core/route"
	"varnet/internal/account"
	"varnet/internal/api"
	"varnet/internal/bounce"
	"varnet/internal/format"
	"varnet/internal/letter"
	"varnet/internal/secret"
	"varnet/internal/store"
	"varnet/internal/work"
)

func serveCommand() command {
	return command{"serve", "", "runs the service: API, console and workers", "varnet serve -dsn postgres://varnet@127.0.0.1/varnet", serve, nil}
}

func workerCommand() command {
	return command{"worker", "", "runs workers alone, beside a service on the same database", "varnet worker -dsn postgres://varnet@db.example/varnet", worker, nil}
}

// The service's memory stays under 300 MB whatever it works on. Within that the
// garbage is collected seldom: by default it takes a sixth of a run's time.
const (
	memoryLimit = 220 << 20
	garbage     = 400 // per cent of what is alive
)

// restartWait is how long a database that restarts is waited for.
const restartWait = 20 * time.Second

// openStore opens the database and brings its schema to hand.
func openStore(ctx context.Context, dsn, sessions string, schema func(*store.Store, context.Context) error) (*store.Store, error) {
	db, err := store.OpenPooled(ctx, dsn, sessions)
	if err != nil {
		return nil, err
	}
	if err := schema(db, ctx); err != nil {
		db.Close()
		return nil, err
	}
	return db, nil
}

// schema is what service and workers do about the schema.
func (s settings) schema() func(*store.Store, context.Context) error {
	if *s.migrate == "yes" {
		return (*store.Store).Migrate
	}
	return (*store.Store).CheckSchema
}

// open opens the database, brings it up to date and makes the job engine.
func (s settings) open(ctx context.Context, dsn string, w work.Config) (_ *work.Engine, err error) {
	debug.SetMemoryLimit(memoryLimit)
	debug.SetGCPercent(garbage)
	for end := time.Now().Add(restartWait); ; {
		if w.Store, err = openStore(ctx, dsn, *s.sessions, s.schema()); err == nil {
			break
		}
		// A pooler whose server restarts just hangs up.
		var away *store.Unreachable
		if !store.Restarting(err) && !(*s.sessions != "" && errors.As(err, &away)) || time.Now().After(end) {
			return nil, err
		}
		w.Log.Info("PostgreSQL is restarting; waiting for it")
		time.Sleep(time.Second)
	}
	defer func() {
		if err != nil {
			w.Store.Close()
		}
	}()
	if err := s.readFrom(ctx, w.Store, w.Log); err != nil {
		return nil, err
	}
	if err := s.profile(); err != nil {
		return nil, err
	}
	return work.New(w)
}

// readFrom serves large reads from the replica, where one is given.
func (s settings) readFrom(ctx context.Context, db *store.Store, log *slog.Logger) error {
	if s.replica == nil || *s.replica == "" {
		return nil
	}
	return db.ReadFrom(ctx, *s.replica, func(err error) {
		if err != nil {
			log.Warn("pages and exports are read from the server itself, not from the replica", "error", err)
			return
		}
		log.Info("pages and exports are read from the replica again")
	})
}

// profile serves Go's profiles where it is told to.
func (s settings) profile() error {
	if *s.pprof == "" {
		return nil
	}
	l, err := net.Listen("tcp", *s.pprof)
	if err != nil {
		return fmt.Errorf("cannot serve profiles on %s: %w; choose another port with -pprof", *s.pprof, unwrapOp(err))
	}
	mux := http.NewServeMux()
	mux.HandleFunc("/debug/pprof/", pprof.Index)
	mux.HandleFunc("/debug/pprof/profile", pprof.Profile)
	mux.HandleFunc("/debug/pprof/trace", pprof.Trace)
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = server.Serve(l) }()
	return nil
}

func serve(c *cli) action {
	s := c.settings()
	c.serviceSettings(&s)
	return func(ctx context.Context) error {
		config, dsn, err := s.config(c)
		if err != nil {
			return err
		}
		// The port before the database: nothing is begun that could not be reached.
		l, err := net.Listen("tcp", *s.listen)
		if err != nil {
			return fmt.Errorf("cannot listen on %s: %w; choose another port with -listen", *s.listen, unwrapOp(err))
		}
		defer l.Close()
		options, err := s.options(c, l.Addr().String())
		if err != nil {
			return err
		}
		secured, err := s.tls.read(c)
		if err != nil {
			return err
		}
		if err := s.serves(c, &config); err != nil {
			return err
		}
		format.Sweep()
		engine, err := s.open(ctx, dsn, config)
		if err != nil {
			return err
		}
		defer engine.Store.Close()
		if err := s.firstOwner(ctx, c, engine, l.Addr().String()); err != nil {
			return err
		}
		if err := engine.Start(ctx); err != nil {
			return err
		}
		go testAtStart(ctx, engine)
		stop, err := s.besides(engine, secured)
		if err != nil {
			return err
		}
		defer stop()
		l = secured.over(l)
		engine.Log.Info("serving", "url", secured.scheme()+"://"+l.Addr().String())
		return serveUntil(ctx, l, engine, options)
	}
}

// testAtStart tests outbound once the service works.
func testAtStart(ctx context.Context, engine *work.Engine) {
	if err := engine.Outbound.Test(ctx); err != nil && ctx.Err() == nil {
		engine.Log.Warn("outbound was not tested", "err", err)
	}
}

// besides starts what is served beside API and console: metrics, the way from HTTP to HTTPS, and
// the port for what comes back. stop ends them.
func (s settings) besides(engine *work.Engine, ways secured) (stop func(), err error) {
	var stops []func()
	stop = func() {
		for _, one := range slices.Backward(stops) {
			one()
		}
	}
	for _, start := range []func() (func(), error){
		func() (func(), error) { return s.measure(engine.Log) },
		func() (func(), error) { return ways.lead(engine.Log) },
		func() (func(), error) { return s.takeReturns(engine, engine.ReturnsDomain) },
	} {
		one, err := start()
		if err != nil {
			stop()
			return nil, err
		}
		stops = append(stops, one)
	}
	return stop, nil
}

// options reads what the API is told, of a service that listens at an address.
func (s settings) options(c *cli, at string) (o api.Options, err error) {
	if at, err := netip.ParseAddrPort(at); *s.demo != "" && (err != nil || !at.Addr().IsLoopback()) {
		return o, c.wrongUse("-demo lets anybody in, so -listen is on loopback with it, such as 127.0.0.1:8025")
	}
	o = api.Options{Release: release, Demo: *s.demo, Hosts: fields(strings.ToLower(*s.hosts))}
	if *s.demo != "" && len(o.Hosts) == 0 {
		o.Hosts = []string{"localhost"}
	}
	for _, text := range fields(*s.proxies) {
		p, err := netip.ParsePrefix(text)
		if err != nil {
			return o, c.wrongUse(fmt.Sprintf("-proxies are networks such as 192.0.2.0/24, not %q", text))
		}
		o.Proxies = append(o.Proxies, p)
	}
	if o.Forwarded = strings.EqualFold(*s.proxyHeader, "Forwarded"); !o.Forwarded && !strings.EqualFold(*s.proxyHeader, "X-Forwarded-For") {
		return o, c.wrongUse(fmt.Sprintf("-proxy-header is X-Forwarded-For or Forwarded, not %q", *s.proxyHeader))
	}
	return o, nil
}

// serves reads what only workers beside an API are told.
func (s settings) serves(c *cli, config *work.Config) (err error) {
	if config.FormDeadline, err = time.ParseDuration(*s.formDeadline); err != nil || config.FormDeadline < 100*time.Millisecond || config.FormDeadline > 10*time.Second {
		return c.wrongUse(fmt.Sprintf("-form-deadline is a time from 100ms to 10s, such as 1.5s, not %q", *s.formDeadline))
	}
	config.Serves, config.ReturnsDomain = true, strings.ToLower(*s.returnsDomain)
	if *s.returns != "" && config.ReturnsDomain == "" {
		return c.wrongUse("-returns takes what comes back to return addresses: give their domain with -returns-domain")
	}
	return nil
}

// takeReturns takes what comes back to return addresses, where it is told to.
func (s settings) takeReturns(engine *work.Engine, domain string) (stop func(), err error) {
	if *s.returns == "" {
		return func() {}, nil
	}
	door, err := bounce.Listen(engine.Bounces, *s.returns, engine.Log)
	if err != nil {
		return nil, err
	}
	engine.Log.Info("taking what comes back", "at", *s.returns, "domain", domain)
	return door.Close, nil
}

// measure serves metrics on a listener of their own, where it is told to.
func (s settings) measure(log *slog.Logger) (stop func(), err error) {
	if *s.metrics == "" {
		return func() {}, nil
	}
	l, err := net.Listen("tcp", *s.metrics)
	if err != nil {
		return nil, fmt.Errorf("cannot serve metrics on %s: %w; choose another port with -metrics, or none with -metrics \"\"", *s.metrics, unwrapOp(err))
	}
	mux := http.NewServeMux()
	mux.Handle("/metrics", api.Metrics(*s.metricsToken))
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second, WriteTimeout: 30 * time.Second, ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug)}
	go func() { _ = server.Serve(l) }()
	return func() { _ = server.Close() }, nil
}

// serveUntil serves until ctx ends, then lets requests and parcels in flight
// come to their end.
func serveUntil(ctx context.Context, l net.Listener, engine *work.Engine, o api.Options) error {
	server := &http.Server{Handler: api.New(ctx, engine, o), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		ErrorLog: slog.NewLogLogger(engine.Log.Handler(), slog.LevelDebug)}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(l) }()
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	engine.Log.Info("stopping; parcels in flight are finished or given back")
	return stopWithin(30*time.Second, server.Shutdown, engine.Stop)
}

func stopWithin(d time.Duration, steps ...func(context.Context) error) (err error) {
	ctx, cancel := context.WithTimeout(context.Background(), d)
	defer cancel()
	for _, step := range steps {
		err = errors.Join(err, step(ctx))
	}
	return err
}

// firstOwner shows a one-time link by which the first person signs up, while there is nobody
// who owns the installation; on a terminal, since it is not to be kept in a log.
func (s settings) firstOwner(ctx context.Context, c *cli, e *work.Engine, at string) error {
	any, err := e.Store.AnyOwner(ctx)
	if err != nil || any {
		return err
	}
	if !onTerminal(c.err) {
		fmt.Fprintln(c.err, "This installation has no owner yet; \"varnet person link\" prints the link by which the first one signs up.")
		return nil
	}
	secret, err := accounts(e.Store, e.Secrets).OwnerLink(ctx)
	if err == nil {
		fmt.Fprintf(c.err, "This installation has no owner yet. Open this link within a day, once, to sign up as its owner:\n  http://%s/begin#%s\n", at, secret)
	}
	return err
}

// accounts are those of an installation, as far as commands on the installation itself need
// them: they send no letters.
func accounts(db *store.Store, box *secret.Box) *account.Accounts {
	return &account.Accounts{Store: db, Secrets: box, Office: &letter.Office{Store: db, Secrets: box}, Log: slog.Default()}
}

func worker(c *cli) action {
	s := c.settings()
	location := c.setting("location", "VARNET_LOCATION", "", "where this worker is, such as shed: its direct route is a route of its own, by which it alone works; not given, it works as the service's own workers do")
	return func(ctx context.Context) error {
		config, dsn, err := s.config(c)
		if err != nil {
			return err
		}
		if config.Location = *location; config.Location != "" && !route.ValidLocation(config.Location) {
			return c.wrongUse(fmt.Sprintf("-location %q names no location: %s", config.Location, route.LocationForm))
		}
		engine, err := s.open(ctx, dsn, config)
		if err != nil {
			return err
		}
		defer engine.Store.Close()
		if err := engine.Start(ctx); err != nil {
			return err
		}
		engine.Log.Info("working")
		if config.Location != "" {
			go func() {
				if err := engine.Outbound.TestOwn(ctx); err != nil && ctx.Err() == nil {
					engine.Log.Warn("the route of this location was not tested", "err", err)
				}
			}()
		}
		select {
		case <-ctx.Done():
		case <-engine.Drained:
		}
		return stopWithin(30*time.Second, engine.Stop)
	}
}

// withDatabase makes the action of a command that works on a database with this release's
// schema.
func withDatabase(dsn func() (string, error), use func(context.Context, *store.Store) error) action {
	return func(ctx context.Context) error {
		at, err := dsn()
		if err != nil {
			return err
		}
		db, err := openStore(ctx, at, "", (*store.Store).CheckSchema)
		if err != nil {
			return err
		}
		defer db.Close()
		return use(ctx, db)
	}
}

// unwrapOp takes the operation and address off an error of the network.
func unwrapOp(err error) error {
	var o *net.OpError
	if errors.As(err, &o) {
		return o.Err
	}
	return err
}
