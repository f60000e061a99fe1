// Package database connects PostgreSQL and MariaDB: contacts are what a query returns, in a
// read-only transaction; what is written back goes by a statement for one contact, many in a
// transaction.
package database

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"

	"varnet/core/probe"
	"varnet/core/problem"
	"varnet/core/say"
	"varnet/internal/connect"
)

const (
	postgres = "PostgreSQL"
	mariadb  = "MariaDB"
)

// Kind is databases.
var Kind = connect.Kind{
	Code: "database", Title: "Database", Says: "A PostgreSQL or MariaDB database: a query for contacts, a statement to write back.",
	Fields: []connect.Field{
		{Name: "engine", Title: "Database system", Required: true, Choices: []string{postgres, mariadb}, Default: postgres},
		{Name: "host", Title: "Host", Help: "With a port where it is not the usual one.", Example: "db.fernhollow.example", Required: true},
		{Name: "database", Title: "Database", Required: true},
		{Name: "user", Title: "User", Help: "One that may do no more than it has to: read what the queries read, change what the statements change.", Required: true},
		{Name: "password", Title: "Password", Secret: true},
		{Name: "tls", Title: "TLS", Choices: []string{"yes", "no"}, Default: "yes", Help: "No: only on a network that is yours."},
		{Name: "queries", Title: "Queries", Required: true, Long: true, Help: "Each is a collection: a line -- with its name, and then a SELECT.", Example: "-- Members\nSELECT id, email, name FROM members"},
		{Name: "key", Title: "Key column", Required: true, Default: "id", Help: "The column that names a contact for good, such as the primary key."},
		{Name: "addresses", Title: "Address columns", Required: true, Default: "email", Help: "Their names, with commas between."},
		{Name: "statements", Title: "Statements", Long: true, Help: "Each sets a field of one contact: a line -- with the field's name, and then a statement with {key} and {value}. Where the query returns a column of the field's name, it can be undone.", Example: "-- mail state\nUPDATE members SET mail_state = {value} WHERE id = {key}"},
	},
	Takes: []connect.Act{connect.SetField},
	Leads: connect.ByFields("engine", "host", "tls"),
	Check: check,
	Open:  open,
}

func check(s connect.Settings) error {
	queries, err := blocks("queries", s["queries"])
	if err != nil {
		return err
	}
	if len(queries) == 0 {
		return problem.In("queries", "there is none; begin with a line such as -- Members, and then the SELECT")
	}
	for _, q := range queries {
		if !slices.Contains([]string{"select", "with", "table", "values"}, firstWord(q.sql)) {
			return problem.In("queries", "the query “%s” does not begin with SELECT or WITH", q.name)
		}
	}
	statements, err := blocks("statements", s["statements"])
	if err != nil {
		return err
	}
	for _, st := range statements {
		if !strings.Contains(st.sql, "{key}") {
			return problem.In("statements", "the statement “%s” has no {key}, and would change everybody", st.name)
		}
		if m := hole.FindString(holes.ReplaceAllString(st.sql, "")); m != "" {
			return problem.In("statements", "the statement “%s” has %s; there are {key}, {value} and {address}", st.name, m)
		}
	}
	return nil
}

// firstWord is the first word of a statement, in small letters; "": there is none.
func firstWord(text string) string { return strings.ToLower(word.FindString(text)) }

var (
	word  = regexp.MustCompile(`[A-Za-z]+`)
	holes = regexp.MustCompile(`\{(key|value|address)\}`)
	hole  = regexp.MustCompile(`\{\w+\}`)
)

// block is a query or statement with its name.
type block struct{ name, sql string }

// blocks reads a text in which each begins with a line -- NAME.
func blocks(field, text string) (out []block, err error) {
	for line := range strings.SplitSeq(text, "\n") {
		if name, ok := strings.CutPrefix(strings.TrimSpace(line), "--"); ok {
			if name = strings.TrimSpace(name); name == "" || slices.ContainsFunc(out, func(b block) bool { return b.name == name }) {
				return nil, problem.In(field, "each line -- has a name of its own")
			}
			out = append(out, block{name: name})
			continue
		}
		switch {
		case len(out) > 0:
			out[len(out)-1].sql += line + "\n"
		case strings.TrimSpace(line) != "":
			return nil, problem.In(field, "the first line is -- and a name, such as -- Members")
		}
	}
	for i := range out {
		out[i].sql = strings.TrimRight(strings.TrimSpace(out[i].sql), "; \n")
		if out[i].sql == "" {
			return nil, problem.In(field, "after the line -- %s there is nothing", out[i].name)
		}
		if several(out[i].sql) {
			return nil, problem.In(field, "“%s” is more than one statement: there is a semicolon in it. Only one is run", out[i].name)
		}
	}
	return out, nil
}

// several reports whether there is a semicolon outside of what is quoted or commented.
func several(text string) bool {
	for i := 0; i < len(text); i++ {
		rest := text[i:]
		end := 0
		switch {
		case text[i] == ';':
			return true
		case text[i] == '\'', text[i] == '"', text[i] == '`':
			end = strings.IndexByte(rest[1:], text[i]) + 1
		case strings.HasPrefix(rest, "--"):
			end = strings.IndexByte(rest, '\n')
		case strings.HasPrefix(rest, "/*"):
			end = strings.Index(rest, "*/") + 1
		default:
			continue
		}
		if end <= 0 { // it has no end
			return strings.Contains(rest, ";")
		}
		i += end
	}
	return false
}

// place is a database.
type place struct {
	db         *sql.DB
	mariadb    bool
	host       string
	key        string
	addresses  []string
	queries    []block
	statements []block
}

func open(env connect.Env, s connect.Settings) (connect.Place, error) {
	p := &place{mariadb: s["engine"] == mariadb, host: s["host"], key: strings.TrimSpace(s["key"])}
	for a := range strings.SplitSeq(s["addresses"], ",") {
		if a = strings.TrimSpace(a); a != "" {
			p.addresses = append(p.addresses, a)
		}
	}
	var err error
	if p.queries, err = blocks("queries", s["queries"]); err != nil {
		return nil, err
	}
	if p.statements, err = blocks("statements", s["statements"]); err != nil {
		return nil, err
	}
	if p.mariadb {
		p.db, err = openMariaDB(env, s)
	} else {
		p.db, err = openPostgreSQL(env, s)
	}
	if err != nil {
		return nil, err
	}
	p.db.SetMaxOpenConns(2)
	return p, nil
}

func split(host, port string) (string, string) {
	if h, p, err := net.SplitHostPort(host); err == nil {
		return h, p
	}
	return host, port
}

func openPostgreSQL(env connect.Env, s connect.Settings) (*sql.DB, error) {
	c, err := pgx.ParseConfig("")
	if err != nil {
		return nil, problem.In("host", "%s", err)
	}
	host, port := split(s["host"], "5432")
	n, err := strconv.ParseUint(port, 10, 16)
	if err != nil {
		return nil, problem.In("host", "%q is not a port", port)
	}
	c.Host, c.Port, c.Database, c.User, c.Password = host, uint16(n), s["database"], s["user"], s["password"]
	c.TLSConfig, c.Fallbacks = nil, nil
	if s["tls"] == "yes" {
		c.TLSConfig = env.TLSFor(host)
	}
	c.DialFunc, c.ConnectTimeout = env.Dial, 0
	c.RuntimeParams = map[string]string{"application_name": "varnet"}
	return stdlib.OpenDB(*c, stdlib.OptionAfterConnect(func(_ context.Context, conn *pgx.Conn) error {
		conn.PgConn().Frontend().SetMaxBodyLen(connect.MostAnswer)
		return nil
	})), nil
}

func openMariaDB(env connect.Env, s connect.Settings) (*sql.DB, error) {
	c := mysql.NewConfig()
	host, port := split(s["host"], "3306")
	c.Net, c.Addr, c.DBName, c.User, c.Passwd = "tcp", net.JoinHostPort(host, port), s["database"], s["user"], s["password"]
	c.DialFunc, c.ClientFoundRows, c.MultiStatements, c.AllowAllFiles = env.Dial, true, false, false
	c.Collation = "utf8mb4_unicode_ci"
	if s["tls"] == "yes" {
		c.TLS = env.TLSFor(host)
	}
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, problem.In("host", "%s", err)
	}
	return sql.OpenDB(connector), nil
}

func (p *place) Close() error { return p.db.Close() }

// Takes: a database takes fields for which there is a statement.
func (p *place) Takes() []connect.Act {
	if len(p.statements) == 0 {
		return nil
	}
	return []connect.Act{connect.SetField}
}

// Fields are the names of the fields for which there is a statement.
func (p *place) Fields() (out []string) {
	for _, s := range p.statements {
		out = append(out, s.name)
	}
	return out
}

// Test signs in, and tries each query.
func (p *place) Test(ctx context.Context) (string, error) {
	all, err := p.Collections(ctx)
	if err != nil {
		return "", err
	}
	var version string
	if err := p.db.QueryRowContext(ctx, "SELECT version()").Scan(&version); err != nil {
		return "", p.failed(err)
	}
	version, _, _ = strings.Cut(version, " (")
	return fmt.Sprintf("Signed in at %s %s. %s", p.name(), strings.TrimPrefix(version, "PostgreSQL "), counted(all)), nil
}

func counted(all []connect.Collection) string {
	var out []string
	for _, c := range all {
		out = append(out, fmt.Sprintf("“%s” has %s", c.Name, say.Plural(c.Contacts, "contact", "contacts")))
	}
	return strings.Join(out, ", ") + "."
}

func (p *place) name() string {
	if p.mariadb {
		return mariadb
	}
	return postgres
}

// failed is an error of the database, in its words.
func (p *place) failed(err error) error {
	if err == nil {
		return nil
	}
	if errors.Is(err, probe.ErrPrivate) {
		return connect.Unreachable(p.host, err)
	}
	words := connect.Plain(err.Error())
	switch about, told := toldBy(err); {
	case told && about == refused:
		return connect.Broken("The database at %s refused the sign-in: %s. Check user, password and database.", p.host, words)
	case told && about == other:
		return connect.Troublef("The database said: %s.", words)
	case told || broke(err):
		return connect.Later("The database at %s cannot be reached, or broke off: %s.", p.host, words)
	}
	return connect.Troublef("The database said: %s.", words)
}

// matter is what an error that a database tells is about.
type matter int

const (
	other   matter = iota // the query or statement
	refused               // the sign-in
	passing               // the moment
)

// toldBy reads an error that the database told; ok is false where it is one of the line to it.
func toldBy(err error) (about matter, ok bool) {
	var postgres *pgconn.PgError
	var mariadb *mysql.MySQLError
	switch {
	case errors.As(err, &postgres):
		switch code := postgres.Code; {
		case strings.HasPrefix(code, "28"), code == "3D000": // invalid authorization, invalid catalog name
			return refused, true
		case strings.HasPrefix(code, "08"), strings.HasPrefix(code, "57P"), strings.HasPrefix(code, "40"), code == "53300": // connection, shutdown, deadlock, too many connections
			return passing, true
		}
		return other, true
	case errors.As(err, &mariadb):
		switch mariadb.Number {
		case 1044, 1045, 1049, 1698: // access denied, unknown database
			return refused, true
		case 1040, 1053, 1205, 1213: // too many connections, shutdown, lock wait, deadlock
			return passing, true
		}
		return other, true
	}
	return other, false
}

// broke reports an error of the line to the database.
func broke(err error) bool {
	var network net.Error
	var connecting *pgconn.ConnectError
	return errors.As(err, &network) || errors.As(err, &connecting) || errors.Is(err, driver.ErrBadConn) || errors.Is(err, mysql.ErrInvalidConn) ||
		errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, net.ErrClosed)
}
