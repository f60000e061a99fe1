package main

import (
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"varnet/core/outbound"
	"varnet/core/pace"
	"varnet/core/probe"
	"varnet/core/resolve"
	"varnet/core/smtp"
	"varnet/core/trial"
	"varnet/internal/clock"
	"varnet/internal/form"
	"varnet/internal/secret"
	"varnet/internal/work"
	"varnet/internal/workshop"
)

// settings are what serve and worker are told.
type settings struct {
	dsn func() (string, error)

	sessions, listen, resolvers, port, private, helo, sender, rounds, patience, lastWait, literals, secretFile, reference, letterRest, countries, lanes, unknown, catalogues, migrate, pprof, level, clock, routines, demo, proxies, proxyHeader, hosts, metrics, metricsToken, replica, returns, returnsDomain, formDeadline *string

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

// serviceSettings are those of a service alone.
func (c *cli) serviceSettings(s *settings) {
	s.listen = c.setting("listen", "VARNET_LISTEN", "127.0.0.1:8025", "where to serve API and console")
	s.hosts = c.setting("hosts", "VARNET_HOSTS", "", "the names by which the service is reached, with commas between; any unless given, and of a demo localhost alone")
	s.metrics = c.setting("metrics", "VARNET_METRICS", "127.0.0.1:8026", "where to serve metrics (Prometheus), best on loopback; nowhere if empty")
	s.metricsToken = c.setting("metrics-token", "VARNET_METRICS_TOKEN", "", "the token that metrics need; safer given by the environment")
	s.replica = c.setting("replica-dsn", "VARNET_REPLICA_DSN", "", "a hot standby of the database, from which result pages and exports are read while it is up to date; none unless given")
	s.returns = c.setting("returns", "VARNET_RETURNS", "", "where a mail server hands over what comes back to return addresses, such as lmtp://127.0.0.1:8027 or smtp://127.0.0.1:8027; nowhere unless given")
	s.returnsDomain = c.setting("returns-domain", "VARNET_RETURNS_DOMAIN", "", "the domain of return addresses, such as returns.fernhollow.example; none are given out without")
	s.formDeadline = c.setting("form-deadline", "VARNET_FORM_DEADLINE", form.Deadline.String(), "within how long a public form is answered, 100ms to 10s; what takes longer goes on without the visitor")
	s.tls = c.tlsSettings()
	s.proxies = c.setting("proxies", "VARNET_PROXIES", "127.0.0.0/8,::1/128", "the networks of proxies in front of the service that may say who is asking, and whether over TLS")
	s.proxyHeader = c.setting("proxy-header", "VARNET_PROXY_HEADER", "X-Forwarded-For", "the header in which those proxies say so: X-Forwarded-For, with X-Forwarded-Proto, or Forwarded (RFC 7239)")
	s.demo = c.setting("demo", "VARNET_DEMO", "", "the address of a person whom anybody on this machine may sign in as; for demos, and only where -listen is on loopback")
}
