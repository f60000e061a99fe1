package database_test

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"varnet/internal/connect"
	"varnet/internal/connect/database"
	"varnet/internal/testkit"
)

// library is a database of members, and the connection to it.
type library struct {
	t        *testing.T
	conn     *pgx.Conn
	settings connect.Settings
}

const (
	queries = `-- Members
SELECT id, email, second, name, mail_state AS "mail state" FROM members WHERE name <> 'Nobody'
-- Without state
SELECT id, email, second FROM members; `
	statements = `-- mail state
UPDATE members SET mail_state = {value} WHERE id = {key}
-- all of a name
UPDATE members SET mail_state = {value} WHERE name = (SELECT name FROM members WHERE id = {key})
-- by address
UPDATE members SET mail_state = {value} WHERE email = {address} AND id > {key}::int - 1`
)

func newLibrary(t *testing.T) *library {
	t.Helper()
	dsn := testkit.Database(t)
	conn, err := pgx.Connect(t.Context(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = conn.Close(context.Background()) })
	u, err := url.Parse(dsn)
	if err != nil {
		t.Fatal(err)
	}
	password, _ := u.User.Password()
	l := &library{t, conn, connect.Settings{"engine": "PostgreSQL", "host": u.Host, "database": strings.TrimPrefix(u.Path, "/"), "user": u.User.Username(), "password": password, "tls": "no",
		"queries": queries, "statements": statements, "addresses": "email, second"}}
	l.run("CREATE TABLE members (id int PRIMARY KEY, email text, second text, name text, mail_state text CHECK (mail_state <> 'odd'))")
	return l
}

func (l *library) run(sql string, args ...any) {
	l.t.Helper()
	if _, err := l.conn.Exec(l.t.Context(), sql, args...); err != nil {
		l.t.Fatal(err)
	}
}

// state is what the database holds of a member.
func (l *library) state(id int) string {
	l.t.Helper()
	var s *string
	if err := l.conn.QueryRow(l.t.Context(), "SELECT mail_state FROM members WHERE id = $1", id).Scan(&s); err != nil {
		l.t.Fatal(err)
	}
	if s == nil {
		return "none"
	}
	return *s
}

// open opens the connection, with some settings changed.
func (l *library) open(change connect.Settings) connect.Taker {
	l.t.Helper()
	settings := connect.Settings{}
	for _, from := range []connect.Settings{l.settings, change} {
		for k, v := range from {
			settings[k] = v
		}
	}
	if err := database.Kind.CheckSettings(settings); err != nil {
		l.t.Fatal(err)
	}
	p, err := database.Kind.Open(connect.Env{AllowPrivate: true}, settings)
	if err != nil {
		l.t.Fatal(err)
	}
	l.t.Cleanup(func() { _ = p.Close() })
	return p.(connect.Taker)
}

// TestReading: what queries return is read page by page in the order of the key, and from a mark on.
func TestReading(t *testing.T) {
	t.Parallel()
	l := newLibrary(t)
	l.run("INSERT INTO members SELECT n, 'member' || n || '@fernhollow.example', CASE n % 2 WHEN 0 THEN 'second' || n || '@fernhollow.example' END, 'Member ' || n FROM generate_series(1, 2500) n")
	l.run("INSERT INTO members VALUES (9999, 'nobody@fernhollow.example', NULL, 'Nobody')")
	p := l.open(nil)
	offered, err := p.Collections(t.Context())
	if err != nil || len(offered) != 2 || offered[0].Contacts != 2500 || offered[1] != (connect.Collection{ID: "Without state", Name: "Without state", Kind: "query", Contacts: 2501}) {
		t.Errorf("%+v, %v", offered, err)
	}
	said, err := p.Test(t.Context())
	if err != nil || !strings.HasPrefix(said, "Signed in at PostgreSQL 1") || !strings.HasSuffix(said, "“Members” has 2,500 contacts, “Without state” has 2,501 contacts.") {
		t.Errorf("%q, %v", said, err)
	}
	for from, want := range map[string]int{"": 2500, "1000": 1501, "2500": 1} {
		var keys []string
		err := p.Contacts(t.Context(), "Members", from, func(some connect.Page) error {
			for _, c := range some.Contacts {
				keys = append(keys, c.Key)
			}
			if some.Next != keys[len(keys)-1] {
				t.Errorf("the mark behind %s is %s", keys[len(keys)-1], some.Next)
			}
			return nil
		})
		if err != nil || len(keys) != want || keys[0] != cmp.Or(from, "1") || keys[want-1] != "2500" {
			t.Errorf("from %q: %d of %d, %v", from, len(keys), want, err)
		}
	}
	var first connect.Contact
	stop := errors.New("enough")
	err = p.Contacts(t.Context(), "Members", "2", func(some connect.Page) error { first = some.Contacts[0]; return stop })
	if !errors.Is(err, stop) || first.Key != "2" || first.Addresses[0] != "member2@fernhollow.example" || first.Addresses[1] != "second2@fernhollow.example" || len(first.Cells) != 2 || first.Cells[0] != (connect.Cell{Name: "name", Value: "Member 2"}) {
		t.Errorf("%+v, %v", first, err)
	}
	if err := p.Contacts(t.Context(), "Guests", "", nil); err == nil || !strings.Contains(err.Error(), "no query “Guests” any more") {
		t.Errorf("%v", err)
	}
}

// TestNothingIsChanged: what a query would change is refused by the database, whatever it is called.
func TestNothingIsChanged(t *testing.T) {
	t.Parallel()
	l := newLibrary(t)
	l.run("INSERT INTO members VALUES (1, 'ada.moss@fernhollow.example', NULL, 'Ada', 'kept')")
	l.run("CREATE FUNCTION sly() RETURNS int LANGUAGE sql AS $$ UPDATE members SET mail_state = 'changed' RETURNING id $$")
	for _, q := range []string{"WITH x AS (UPDATE members SET mail_state = 'changed' RETURNING *) SELECT * FROM x", "SELECT sly() AS id, '' AS email, '' AS second"} {
		p := l.open(connect.Settings{"queries": "-- Sly\n" + q})
		if err := p.Contacts(t.Context(), "Sly", "", func(connect.Page) error { return nil }); err == nil || connect.Passes(err) || connect.IsBroken(err) {
			t.Errorf("%s: %v", q, err)
		}
		if _, err := p.Collections(t.Context()); err == nil {
			t.Errorf("%s is counted", q)
		}
	}
	if got := l.state(1); got != "kept" {
		t.Errorf("the state is %s", got)
	}
}

// TestWriting: values are written, read and put back, each for its contact alone; what is refused for one is not for the others.
func TestWriting(t *testing.T) {
	t.Parallel()
	l := newLibrary(t)
	l.run("INSERT INTO members SELECT n, 'member' || n || '@fernhollow.example', NULL, 'Member ' || n % 2, CASE n WHEN 3 THEN 'old' END FROM generate_series(1, 4) n")
	p := l.open(nil)
	o := connect.Order{Act: connect.SetField, Name: "mail state", Collection: "Members"}
	items := func(values ...string) (out []connect.Item) {
		for i, v := range values {
			out = append(out, connect.Item{Key: fmt.Sprint(i + 1), Addresses: []string{fmt.Sprintf("member%d@fernhollow.example", i+1)}, Value: v})
		}
		return out
	}
	now, err := p.Now(t.Context(), o, append(items("", "", ""), connect.Item{Key: "77"}))
	if err != nil || !now[0].Found || now[0].Value != "" || now[0].Unknown || now[2].Value != "old" || now[3].Found || now[2].Addresses[0] != "member3@fernhollow.example" {
		t.Errorf("%+v, %v", now, err)
	}
	if hidden, err := p.Now(t.Context(), connect.Order{Act: connect.SetField, Name: "mail state", Collection: "Without state"}, items("")); err != nil || !hidden[0].Unknown {
		t.Errorf("a value that is not shown: %+v, %v", hidden, err)
	}
	each, err := p.Write(t.Context(), o, items("keep", "drop", "", "'; DROP TABLE members; --"))
	if err := errors.Join(append(each, err)...); err != nil || l.state(1) != "keep" || l.state(2) != "drop" || l.state(3) != "none" || l.state(4) != "'; DROP TABLE members; --" {
		t.Errorf("%v; %s, %s, %s, %s", err, l.state(1), l.state(2), l.state(3), l.state(4))
	}
	// Of one that the database refuses, and one that is not there, the others know nothing.
	mixed := append(items("new", "odd", "new"), connect.Item{Key: "77", Value: "new"})
	each, err = p.Write(t.Context(), o, mixed)
	var skipped *connect.Skipped
	if err != nil || each[0] != nil || each[1] == nil || !strings.Contains(each[1].Error(), "check constraint") || each[2] != nil || !errors.As(each[3], &skipped) {
		t.Errorf("%v, %v", each, err)
	}
	if l.state(1) != "new" || l.state(2) != "drop" || l.state(3) != "new" {
		t.Errorf("%s, %s, %s", l.state(1), l.state(2), l.state(3))
	}
	wide := o
	wide.Name = "all of a name"
	if _, err := p.Write(t.Context(), wide, items("wide")); err == nil || !strings.Contains(err.Error(), "changed 2 rows for the one contact 1") || l.state(1) != "new" || l.state(3) != "new" {
		t.Errorf("%v; %s, %s", err, l.state(1), l.state(3))
	}
	by := o
	by.Name = "by address"
	if each, err := p.Write(t.Context(), by, items("addressed")); errors.Join(append(each, err)...) != nil || l.state(1) != "addressed" {
		t.Errorf("%v, %v; %s", each, err, l.state(1))
	}
	unknown := o
	unknown.Name = "shoe size"
	if _, err := p.Begin(t.Context(), unknown); err == nil || !strings.Contains(err.Error(), "it has mail state, all of a name, by address") {
		t.Errorf("%v", err)
	}
	if acts := p.Takes(); len(acts) != 1 || acts[0] != connect.SetField {
		t.Errorf("%v", acts)
	}
	if acts := l.open(connect.Settings{"statements": ""}).Takes(); len(acts) != 0 {
		t.Errorf("without statements: %v", acts)
	}
}

// TestRefusals: each says what to do, and whether somebody must or time may; no word of the password.
func TestRefusals(t *testing.T) {
	t.Parallel()
	l := newLibrary(t)
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	nobody := closed.Addr().String()
	_ = closed.Close()
	for name, x := range map[string]struct {
		change        connect.Settings
		why           string
		broken, later bool
	}{
		"wrong password":      {connect.Settings{"password": "spelt"}, "Check user, password and database", true, false},
		"no such database":    {connect.Settings{"database": "potting_shed"}, "Check user, password and database", true, false},
		"nobody there":        {connect.Settings{"host": nobody}, "cannot be reached", false, true},
		"no TLS there":        {connect.Settings{"tls": "yes"}, "", false, true},
		"no such table":       {connect.Settings{"queries": "-- A\nSELECT id, email, second FROM connections"}, `relation "connections" does not exist`, false, false},
		"no column of keys":   {connect.Settings{"key": "number"}, "number", false, false},
		"no address column":   {connect.Settings{"addresses": "mail"}, `returns no column "mail", which is to hold an address (columns: id, email, second`, false, false},
		"a division by zero":  {connect.Settings{"queries": "-- A\nSELECT 1/0 AS id, '' AS email, '' AS second"}, "division by zero", false, false},
		"a port that is none": {connect.Settings{"host": "127.0.0.1:1"}, "cannot be reached", false, true},
	} {
		t.Run(name, func(t *testing.T) {
			collection := "Members"
			if x.change["queries"] != "" {
				collection = "A"
			}
			err := l.open(x.change).Contacts(t.Context(), collection, "", func(connect.Page) error { return nil })
			if err == nil || !strings.Contains(err.Error(), x.why) || connect.IsBroken(err) != x.broken || connect.Passes(err) != x.later || strings.Contains(err.Error(), "spelt") {
				t.Errorf("%v; somebody must change it: %v, it may pass: %v", err, connect.IsBroken(err), connect.Passes(err))
			}
		})
	}
	if _, err := database.Kind.Open(connect.Env{}, connect.Settings{"host": "db.fernhollow.example:members", "queries": queries}); err == nil || !strings.Contains(err.Error(), "is not a port") {
		t.Errorf("%v", err)
	}
	private, err := database.Kind.Open(connect.Env{}, l.settings)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := private.Test(t.Context()); err == nil || !strings.Contains(err.Error(), "not at a public address") {
		t.Errorf("a private address: %v", err)
	}
}
