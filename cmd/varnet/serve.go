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
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"time"

	"varnet/core/outbound"
	"varnet/core/pace"
	"varnet/core/probe"
	"varnet/core/resolve"
	"varnet/core/route"
	"varnet/core/smtp"
	"varnet/core/trial"
	"varnet/internal/account"
	"varnet/internal/api"
	"varnet/internal/bounce"
	"varnet/internal/clock"
	"varnet/internal/form"
	"varnet/internal/format"
	"varnet/internal/letter"
	"varnet/internal/secret"
	"varnet/internal/store"
	"varnet/internal/work"
	"varnet/internal/workshop"
)

func serveCommand() command {
	return command{"serve", "", "runs the service: API, console and workers", "varnet serve -dsn postgres://varnet@127.0.0.1/varnet", serve, nil}
}

func workerCommand() command {
	return command{"worker", "", "runs workers alone, beside a service on the same database", "varnet worker -dsn postgres://varnet@db.example/varnet", worker, nil}
}

// settings are what serve and worker are told.
type settings struct {
	dsn func() (string, error)

	sessions, listen, resolvers, port, private, helo, sender, rounds, patience, lastWait, literals, secretFile, reference, letterRest, countries, lanes, unknown, catalogues, migrate, pprof, level, clock, routines, demo, proxies, proxyHeader, hosts, metrics, metricsToken, returns, returnsDomain, formDeadline *string

	tls tlsSettings
}

func (c *cli) settings() settings {
	return settings{
		dsn:        c.database(),
		sessions:   c.sessions(),
		resolvers:  c.setting("resolvers", "VARNET_RESOLVERS", "", "DNS resolvers as host:port, with commas between; the system's unless given"),
		port:       c.setting("smtp-port", "VARNET_SMTP_PORT", "25", "the port of mail hosts"),
		private:    c.setting("allow-private", "VARNET_ALLOW_PRIVATE", "no", "yes: contact mail hosts with private and loopback addresses too"),
		helo:       c.setting("helo", "VARNET_HELO", "", "the name to say in EHLO; this host's name unless given"),
		sender:     c.setting("mail-from", "VARNET_MAIL_FROM", "", "the sender to ask with; verify@ the EHLO name unless given"),
		rounds:     c.setting("rounds", "VARNET_ROUNDS", pace.DefaultRounds().String(), "the waits before postponed addresses are asked again"),
		patience:   c.setting("patience", "VARNET_PATIENCE", "", "how long to wait for each step of the conversation, at most 15s: one time for all, or as in connect=5s,greeting=15s,hello=10s,tls=10s,mail=10s,rcpt=15s"),
		letterRest: c.setting("letter-rest", "VARNET_LETTER_REST", trial.Between.String(), "how long an operator is left alone between two trial letters"),
		lastWait:   c.setting("last-wait", "VARNET_LAST_WAIT", smtp.LastWait.String(), "how long to wait for each reply of a silent host in the last rounds"),
		literals:   c.setting("allow-literals", "VARNET_ALLOW_LITERALS", "no", "yes: take addresses whose host is a number in brackets"),
		secretFile: c.secretSetting(),
		reference:  c.setting("reference", "VARNET_REFERENCE", "", "domains whose mail hosts are known to be well; the tests of outbound greet them; three large operators unless given"),
		lanes:      c.setting("lanes", "VARNET_LANES", strconv.Itoa(work.DefaultLanes), "how many lanes this process works in at once: the most sessions it has open"),
		unknown:    c.setting("unknown-rate", "VARNET_UNKNOWN_RATE", strconv.Itoa(pace.DefaultUnknown), "how many unknown recipients to ask one address of a mail host about in a minute; 0: no limit"),
		catalogues: c.setting("catalogue-folder", "VARNET_CATALOGUE_FOLDER", "", "the folder from which workspaces may follow catalogues by file:// URL; none unless given"),
		routines:   c.setting("routine-folder", "VARNET_ROUTINE_FOLDER", "", "the folder with a folder for each workspace, named by its number, in which routines read and write files; none unless given"),
		countries:  c.countryFile(),
		migrate:    c.setting("migrate", "VARNET_MIGRATE", "yes", "no: leave the database's schema as it is, and do not start on another than this release's (see varnet migrate)"),
		pprof:      c.setting("pprof", "VARNET_PPROF", "", "where to serve Go's profiles, such as 127.0.0.1:6060; nowhere unless given, and best on loopback alone"),
		clock:      c.setting("clock", "VARNET_CLOCK", "", "for tests and demonstrations: a file that says by how much routines and daily letters are ahead of the clock, such as 26h"),
		level:      c.setting("log-level", "VARNET_LOG_LEVEL", "info", "debug, info, warn or error"),
	}
}

// countryFile names the file that tells countries of IP addresses.
func (c *cli) countryFile() *string {
	return c.setting("country-file", "VARNET_COUNTRY_FILE", "", "a file that tells countries of IP addresses, in the open format MMDB, for the workshop; none unless given")
}

// secretSetting names the file with the secret.
func (c *cli) secretSetting() *string {
	return c.setting("secret-file", "VARNET_SECRET_FILE", defaultSecretFile(), "the file with the secret that passwords, tokens and second factors are sealed with; made if there is none; VARNET_SECRET goes before it")
}

// logger logs to standard error at the level told.
func (s settings) logger(c *cli) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(*s.level)); err != nil {
		return nil, c.wrongUse(fmt.Sprintf("-log-level is debug, info, warn or error, not %q", *s.level))
	}
	return slog.New(slog.NewTextHandler(c.err, &slog.HandlerOptions{Level: l})), nil
}

// config reads all settings, and where the database is, which is not opened yet.
func (s settings) config(c *cli) (w work.Config, dsn string, err error) {
	if *s.migrate != "yes" && *s.migrate != "no" {
		return w, "", c.wrongUse("-migrate is yes or no")
	}
	if w.Log, err = s.logger(c); err != nil {
		return w, "", err
	}
	if w.Prober, err = s.prober(c); err != nil {
		return w, "", err
	}
	if w.Resolver, err = s.resolver(c); err != nil {
		return w, "", err
	}
	if w.Rounds, err = s.parseRounds(c); err != nil {
		return w, "", err
	}
	if w.Lanes, err = strconv.Atoi(*s.lanes); err != nil || w.Lanes < 1 || w.Lanes > 10_000 {
		return w, "", c.wrongUse(fmt.Sprintf("-lanes is 1 to 10000, not %q", *s.lanes))
	}
	if w.Follow.Folder = *s.catalogues; w.Follow.Folder != "" {
		if w.Follow.Folder, err = filepath.Abs(w.Follow.Folder); err != nil {
			return w, "", err
		}
	}
	w.Follow.AllowPrivate = w.Resolver.AllowPrivate
	if w.Unknown, err = strconv.Atoi(*s.unknown); err != nil || w.Unknown < 0 {
		return w, "", c.wrongUse(fmt.Sprintf("-unknown-rate is 0 or more recipients a minute, not %q", *s.unknown))
	}
	if w.LetterRest, err = time.ParseDuration(*s.letterRest); err != nil || w.LetterRest < 0 {
		return w, "", c.wrongUse(fmt.Sprintf("-letter-rest is a time such as 20s, not %q", *s.letterRest))
	}
	if w.RoutineFolder = *s.routines; w.RoutineFolder != "" {
		if w.RoutineFolder, err = filepath.Abs(w.RoutineFolder); err != nil {
			return w, "", err
		}
	}
	if w.Clock, err = clock.Ahead(*s.clock); err != nil {
		return w, "", fmt.Errorf("the clock (-clock) cannot be read: %w", err)
	}
	if w.Grammar.Literals, err = c.yes("allow-literals", *s.literals); err != nil {
		return w, "", err
	}
	if w.Secrets, err = s.secrets(c); err != nil {
		return w, "", err
	}
	if w.Reference = fields(*s.reference); len(w.Reference) == 0 {
		w.Reference = outbound.DefaultReference()
	}
	if *s.countries != "" {
		if w.Country, err = workshop.Countries(*s.countries); err != nil {
			return w, "", err
		}
	}
	dsn, err = s.dsn()
	return w, dsn, err
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
	if err := s.profile(); err != nil {
		w.Store.Close()
		return nil, err
	}
	return work.New(w)
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

// yes reads a setting that is yes or no.
func (c *cli) yes(name, text string) (bool, error) {
	switch strings.ToLower(text) {
	case "yes", "true", "1", "on":
		return true, nil
	case "no", "false", "0", "off", "":
		return false, nil
	}
	return false, c.wrongUse(fmt.Sprintf("-%s is yes or no, not %q", name, text))
}

func (s settings) prober(c *cli) (*probe.Prober, error) {
	private, err := c.yes("allow-private", *s.private)
	if err != nil {
		return nil, err
	}
	id := smtp.Identity{Name: *s.helo, Sender: *s.sender}
	if id.Name == "" {
		if id.Name, err = os.Hostname(); err != nil {
			return nil, fmt.Errorf("this host's name is not known; give one with -helo: %w", err)
		}
	}
	if id.Sender == "" {
		id.Sender = "verify@" + id.Name
	}
	p := probe.New(probe.DirectDialer(private), id)
	if p.Port, err = strconv.Atoi(*s.port); err != nil || p.Port < 1 || p.Port > 65535 {
		return nil, c.wrongUse(fmt.Sprintf("-smtp-port is a number from 1 to 65535, not %q", *s.port))
	}
	if p.LastWait, err = time.ParseDuration(*s.lastWait); err != nil || p.LastWait <= 0 || p.LastWait > maxLastWait {
		return nil, c.wrongUse(fmt.Sprintf("-last-wait is a time such as 5m, at most %v, not %q", maxLastWait, *s.lastWait))
	}
	p.Limits.Waits, err = s.waits(c)
	return p, err
}

// maxLastWait is the longest that a silent host is waited for.
const maxLastWait = 10 * time.Minute

// waits reads -patience: one time for all steps, or step=time.
func (s settings) waits(c *cli) (smtp.Waits, error) {
	w := smtp.DefaultWaits()
	for _, part := range fields(*s.patience) {
		step, text, one := strings.Cut(part, "=")
		if !one {
			text = part
		}
		d, err := time.ParseDuration(text)
		if err != nil || d <= 0 || d > smtp.MaxWait || one && !slices.Contains(smtp.WaitSteps(), smtp.Step(step)) {
			return nil, c.wrongUse(fmt.Sprintf("-patience is a time such as 10s, at most %v, or one for each step as in "+
				"connect=5s,greeting=15s,hello=10s,tls=10s,mail=10s,rcpt=15s; %q is neither", smtp.MaxWait, part))
		}
		if one {
			w[smtp.Step(step)] = d
		} else {
			w = w.All(d)
		}
	}
	return w, nil
}

func defaultSecretFile() string {
	folder, err := os.UserConfigDir()
	if err != nil {
		return ""
	}
	return filepath.Join(folder, "varnet", "secret")
}

func (s settings) secrets(c *cli) (*secret.Box, error) {
	if present, _ := c.lookup("VARNET_SECRET"); present != "" {
		if before, _ := c.lookup("VARNET_SECRET_BEFORE"); before != "" {
			return secret.New(present, before)
		}
		return secret.New(present)
	}
	if *s.secretFile == "" {
		return nil, errNoSecretFile
	}
	return secret.File(*s.secretFile)
}

var errNoSecretFile = errors.New("this user has no home folder for the secret; name a file with -secret-file")

func (s settings) resolver(c *cli) (*resolve.Resolver, error) {
	private, err := c.yes("allow-private", *s.private)
	if err != nil {
		return nil, err
	}
	servers := fields(*s.resolvers)
	if len(servers) == 0 {
		if servers, err = resolve.System(); err != nil {
			return nil, fmt.Errorf("%w; name resolvers with -resolvers", err)
		}
	}
	return resolve.New(servers, private)
}

func (s settings) parseRounds(c *cli) (rounds pace.Rounds, err error) {
	for _, w := range strings.Split(*s.rounds, ",") {
		d, err := time.ParseDuration(strings.TrimSpace(w))
		if err != nil || d <= 0 {
			return nil, c.wrongUse(fmt.Sprintf("-rounds is a list of waits such as 5m,15m,2h, not %q", *s.rounds))
		}
		rounds = append(rounds, d)
	}
	return rounds, nil
}

func serve(c *cli) action {
	s := c.settings()
	s.listen = c.setting("listen", "VARNET_LISTEN", "127.0.0.1:8025", "where to serve API and console")
	s.hosts = c.setting("hosts", "VARNET_HOSTS", "", "the names by which the service is reached, with commas between; any unless given, and of a demo localhost alone")
	s.metrics = c.setting("metrics", "VARNET_METRICS", "127.0.0.1:8026", "where to serve metrics (Prometheus), best on loopback; nowhere if empty")
	s.metricsToken = c.setting("metrics-token", "VARNET_METRICS_TOKEN", "", "the token that metrics want; safer given by the environment")
	s.returns = c.setting("returns", "VARNET_RETURNS", "", "where a mail server hands over what comes back to return addresses, such as lmtp://127.0.0.1:8027 or smtp://127.0.0.1:8027; nowhere unless given")
	s.returnsDomain = c.setting("returns-domain", "VARNET_RETURNS_DOMAIN", "", "the domain of return addresses, such as returns.fernhollow.example; none are given out without")
	s.formDeadline = c.setting("form-deadline", "VARNET_FORM_DEADLINE", form.Deadline.String(), "within how long a public form is answered, 100ms to 10s; what takes longer goes on without the visitor")
	s.tls = c.tlsSettings()
	s.proxies = c.setting("proxies", "VARNET_PROXIES", "127.0.0.0/8,::1/128", "the networks of proxies in front of the service that may say who is asking, and whether over TLS")
	s.proxyHeader = c.setting("proxy-header", "VARNET_PROXY_HEADER", "X-Forwarded-For", "the header in which those proxies say so: X-Forwarded-For, with X-Forwarded-Proto, or Forwarded (RFC 7239)")
	s.demo = c.setting("demo", "VARNET_DEMO", "", "the address of a person whom anybody on this machine may sign in as; for demos, and only where -listen is on loopback")
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
		go func() {
			if err := engine.Outbound.Test(ctx); err != nil && ctx.Err() == nil {
				engine.Log.Warn("outbound was not tested", "err", err)
			}
		}()
		stopMetrics, err := s.measure(engine.Log)
		if err != nil {
			return err
		}
		defer stopMetrics()
		stopLeading, err := secured.lead(engine.Log)
		if err != nil {
			return err
		}
		defer stopLeading()
		stopTaking, err := s.takeReturns(engine, config.ReturnsDomain)
		if err != nil {
			return err
		}
		defer stopTaking()
		l = secured.over(l)
		engine.Log.Info("serving", "url", secured.scheme()+"://"+l.Addr().String())
		return serveUntil(ctx, l, engine, options)
	}
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
		return c.wrongUse("-returns takes what comes back to return addresses: say with -returns-domain what their domain is")
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
		fmt.Fprintln(c.err, "Nobody looks after this installation yet; \"varnet person link\" shows the link by which somebody begins to.")
		return nil
	}
	secret, err := accounts(e.Store, e.Secrets).OwnerLink(ctx)
	if err == nil {
		fmt.Fprintf(c.err, "Nobody looks after this installation yet. Open this link within a day, once, to sign up as its owner:\n  http://%s/begin#%s\n", at, secret)
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
