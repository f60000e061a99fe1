package backup

import (
	"net/url"
	"regexp"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
)

// passwordWord is the password in a DSN of words (libpq, 34.1.1.1).
var passwordWord = regexp.MustCompile(`(^|\s)(password|pool_[a-z_]+)\s*=\s*('(?:[^'\\]|\\.)*'|\S*)`)

// withoutPassword returns a DSN without what is for the service alone, and the password that
// goes with it.
func withoutPassword(dsn string) (place, password string, err error) {
	c, err := pgconn.ParseConfig(dsn)
	if err != nil {
		return "", "", err
	}
	if !strings.HasPrefix(dsn, "postgres://") && !strings.HasPrefix(dsn, "postgresql://") {
		return strings.TrimSpace(passwordWord.ReplaceAllString(dsn, "$1")), c.Password, nil
	}
	u, err := url.Parse(dsn)
	if err != nil {
		return "", "", err
	}
	if u.User != nil {
		u.User = url.User(u.User.Username())
	}
	q := u.Query()
	for name := range q {
		if name == "password" || strings.HasPrefix(name, "pool_") {
			q.Del(name)
		}
	}
	u.RawQuery = q.Encode()
	return u.String(), c.Password, nil
}
