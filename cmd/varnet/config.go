package main

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"

	"varnet/core/say"
)

// configFile holds settings for all commands on this machine, one NAME=value a line. The
// environment and flags go before it.
const configFile = "/etc/varnet/varnet.env"

// configured are the settings that the file may hold.
var configured = []string{
	"VARNET_ACME_CONTACT", "VARNET_ACME_DIRECTORY", "VARNET_ACME_FOLDER", "VARNET_ALLOW_LITERALS", "VARNET_ALLOW_PRIVATE", "VARNET_BACKUP_KEYS", "VARNET_CATALOGUE_FOLDER", "VARNET_CLOCK", "VARNET_COUNTRY_FILE", "VARNET_DEMO", "VARNET_DSN", "VARNET_FORM_DEADLINE", "VARNET_HELO", "VARNET_HOSTS", "VARNET_KEY", "VARNET_LANES",
	"VARNET_LAST_WAIT", "VARNET_LETTER_REST", "VARNET_LISTEN", "VARNET_LOCATION", "VARNET_LOG_LEVEL", "VARNET_MAIL_FROM", "VARNET_METRICS", "VARNET_METRICS_TOKEN", "VARNET_MIGRATE", "VARNET_PATIENCE", "VARNET_PPROF", "VARNET_PROXIES", "VARNET_PROXY_HEADER", "VARNET_REDIRECT", "VARNET_REFERENCE",
	"VARNET_RELAY_LISTEN", "VARNET_RELAY_PORTS", "VARNET_RELAY_STATE", "VARNET_REPLICA_DSN", "VARNET_RESOLVERS", "VARNET_RETURNS", "VARNET_RETURNS_DOMAIN", "VARNET_ROUNDS", "VARNET_ROUTINE_FOLDER", "VARNET_SECRET", "VARNET_SECRET_BEFORE", "VARNET_SECRET_FILE",
	"VARNET_SERVER", "VARNET_SESSION_DSN", "VARNET_SMTP_PORT", "VARNET_TLS_CERT", "VARNET_TLS_KEY", "VARNET_TLS_NAMES", "VARNET_UNKNOWN_RATE",
}

// readConfig returns the settings of the file that VARNET_CONFIG names, or of the usual
// one. A usual one that is not there, or that this user may not read, has none.
func readConfig() (map[string]string, error) {
	name, told := os.LookupEnv("VARNET_CONFIG")
	if told && name == "" {
		return nil, nil
	}
	if !told {
		name = configFile
	}
	f, err := os.Open(name)
	if !told && (errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission)) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("the settings in %s (VARNET_CONFIG) cannot be read: %w", name, say.WithoutPath(err))
	}
	defer f.Close()
	return parseConfig(name, f)
}

// parseConfig reads NAME=value lines. A value may stand in quotation marks; a line that
// begins with # is a comment.
func parseConfig(name string, r io.Reader) (map[string]string, error) {
	out := map[string]string{}
	lines := bufio.NewScanner(r)
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(lines.Text())
		if line == "" || line[0] == '#' {
			continue
		}
		key, value, ok := strings.Cut(line, "=")
		key, value = strings.TrimSpace(key), strings.TrimSpace(value)
		switch {
		case !ok:
			return nil, fmt.Errorf("%s, line %d: this is not a setting; write NAME=value", name, n)
		case !slices.Contains(configured, key):
			return nil, fmt.Errorf("%s, line %d: there is no setting %q; \"varnet serve -h\" shows them", name, n, key)
		}
		if q := len(value) - 1; q > 0 && (value[0] == '"' || value[0] == '\'') && value[q] == value[0] {
			value = value[1:q]
		}
		out[key] = value
	}
	return out, lines.Err()
}
