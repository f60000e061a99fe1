package database

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"

	"varnet/internal/connect"
)

// reading runs queries in a read-only transaction.
func (p *place) reading(ctx context.Context, do func(tx *sql.Tx) error) error {
	tx, err := p.db.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return p.failed(err)
	}
	defer func() { _ = tx.Rollback() }() // nothing was changed
	return do(tx)
}

// Collections are the queries.
func (p *place) Collections(ctx context.Context) (out []connect.Collection, err error) {
	err = p.reading(ctx, func(tx *sql.Tx) error {
		for _, q := range p.queries {
			c := connect.Collection{ID: q.name, Name: q.name, Kind: "query"}
			if err := tx.QueryRowContext(ctx, "SELECT count(*) FROM ("+q.sql+"\n) AS q").Scan(&c.Contacts); err != nil {
				return p.failed(err)
			}
			out = append(out, c)
		}
		return nil
	})
	return out, err
}

func (p *place) query(collection string) (string, error) {
	i := slices.IndexFunc(p.queries, func(b block) bool { return b.name == collection })
	if i < 0 {
		return "", connect.Troublef("The connection has no query “%s” any more.", collection)
	}
	return p.queries[i].sql, nil
}

// quoted is a name as it stands in SQL.
func (p *place) quoted(name string) string {
	if p.mariadb {
		return "`" + strings.ReplaceAll(name, "`", "``") + "`"
	}
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

// arg is the placeholder of the nth argument, from 1.
func (p *place) arg(n int) string {
	if p.mariadb {
		return "?"
	}
	return fmt.Sprintf("$%d", n)
}

// pageSize is how many contacts are given at a time.
const pageSize = 1000

// Contacts reads what a query returns in the order of the key, so that it can go on after one.
func (p *place) Contacts(ctx context.Context, collection, from string, each func(connect.Page) error) error {
	q, err := p.query(collection)
	if err != nil {
		return err
	}
	key := "q." + p.quoted(p.key)
	statement, args := "SELECT * FROM ("+q+"\n) AS q", []any{}
	if from != "" {
		statement, args = statement+" WHERE "+key+" >= "+p.arg(1), []any{from}
	}
	return p.reading(ctx, func(tx *sql.Tx) error {
		rows, err := tx.QueryContext(ctx, statement+" ORDER BY "+key, args...)
		if err != nil {
			return p.failed(err)
		}
		defer rows.Close()
		return p.eachPage(rows, each)
	})
}

func (p *place) eachPage(rows *sql.Rows, each func(connect.Page) error) error {
	read, err := p.reader(rows)
	if err != nil {
		return err
	}
	var page connect.Page
	give := func() error {
		if len(page.Contacts) == 0 {
			return nil
		}
		page.Next = page.Contacts[len(page.Contacts)-1].Key
		err := each(page)
		page = connect.Page{}
		return err
	}
	for rows.Next() {
		c, err := read()
		if err != nil {
			return err
		}
		if page.Contacts = append(page.Contacts, c); len(page.Contacts) == pageSize {
			if err := give(); err != nil {
				return err
			}
		}
	}
	if err := rows.Err(); err != nil {
		return p.failed(err)
	}
	return give()
}

// reader reads the contact of a row.
func (p *place) reader(rows *sql.Rows) (func() (connect.Contact, error), error) {
	names, err := rows.Columns()
	if err != nil {
		return nil, p.failed(err)
	}
	at := func(name string) int {
		return slices.IndexFunc(names, func(n string) bool { return strings.EqualFold(n, name) })
	}
	key := at(p.key)
	if key < 0 {
		return nil, connect.Troublef("The query returns no column %q, which is to hold the key (columns: %s).", p.key, strings.Join(names, ", "))
	}
	var addresses []int
	for _, a := range p.addresses {
		if at(a) < 0 {
			return nil, connect.Troublef("The query returns no column %q, which is to hold an address (columns: %s).", a, strings.Join(names, ", "))
		}
		addresses = append(addresses, at(a))
	}
	cells := make([]sql.NullString, len(names))
	into := make([]any, len(names))
	for i := range cells {
		into[i] = &cells[i]
	}
	return func() (c connect.Contact, err error) {
		if err := rows.Scan(into...); err != nil {
			return c, p.failed(err)
		}
		c.Key = cells[key].String
		for _, i := range addresses {
			c.Addresses = append(c.Addresses, cells[i].String)
		}
		for i, n := range names {
			if i != key && !slices.Contains(addresses, i) {
				c.Cells = append(c.Cells, connect.Cell{Name: n, Value: connect.Text(cells[i].String)})
			}
		}
		return c, c.Hold()
	}, nil
}
