package database

import (
	"context"
	"database/sql"
	"slices"
	"strings"

	"varnet/internal/connect"
)

// atOnce is how many contacts are read or written in a transaction.
const atOnce = 500

// AtOnce implements connect.Taker.
func (p *place) AtOnce(connect.Order) int { return atOnce }

// Begin has nothing to prepare.
func (p *place) Begin(_ context.Context, o connect.Order) (string, error) {
	_, err := p.statement(o)
	return "", err
}

// Discard has nothing to undo.
func (p *place) Discard(context.Context, connect.Order) error { return nil }

func (p *place) statement(o connect.Order) (string, error) {
	i := slices.IndexFunc(p.statements, func(b block) bool { return b.name == o.Name })
	if i < 0 || o.Act != connect.SetField {
		return "", connect.Troublef("The connection has no statement “%s”; it has %s.", o.Name, strings.Join(p.Fields(), ", "))
	}
	return p.statements[i].sql, nil
}

// Now reads contacts by their keys.
func (p *place) Now(ctx context.Context, o connect.Order, items []connect.Item) ([]connect.State, error) {
	q, err := p.query(o.Collection)
	if err != nil {
		return nil, err
	}
	args, marks := []any{}, []string{}
	for i, it := range items {
		args, marks = append(args, it.Key), append(marks, p.arg(i+1))
	}
	found := map[string]connect.State{}
	err = p.reading(ctx, func(tx *sql.Tx) error {
		rows, err := tx.QueryContext(ctx, "SELECT * FROM ("+q+"\n) AS q WHERE q."+p.quoted(p.key)+" IN ("+strings.Join(marks, ", ")+")", args...)
		if err != nil {
			return p.failed(err)
		}
		defer rows.Close()
		return p.eachPage(rows, func(page connect.Page) error {
			for _, c := range page.Contacts {
				s := connect.State{Found: true, Addresses: c.Addresses, Unknown: true}
				if i := slices.IndexFunc(c.Cells, func(cell connect.Cell) bool { return strings.EqualFold(cell.Name, o.Name) }); i >= 0 {
					s.Value, s.Unknown = c.Cells[i].Value, false
				}
				found[c.Key] = s
			}
			return nil
		})
	})
	out := make([]connect.State, len(items))
	for i, it := range items {
		out[i] = found[it.Key]
	}
	return out, err
}

// Write runs the statement for each contact, all in one transaction. Where one is refused, each
// gets a transaction of its own. A statement that changes more than the one contact is undone,
// and ends it.
func (p *place) Write(ctx context.Context, o connect.Order, items []connect.Item) ([]error, error) {
	statement, err := p.statement(o)
	if err != nil {
		return nil, err
	}
	out := make([]error, len(items))
	refused, err := p.together(ctx, statement, items)
	if err != nil || !refused {
		return out, err
	}
	for i := range items {
		refused, err := p.together(ctx, statement, items[i:i+1])
		if err != nil && (connect.Passes(err) || connect.IsBroken(err) || !refused) {
			return out, err
		}
		out[i] = err
	}
	return out, nil
}

// together runs the statement for contacts in one transaction; refused reports that it was not
// taken for one of them. With one contact its error says why.
func (p *place) together(ctx context.Context, statement string, items []connect.Item) (refused bool, err error) {
	tx, err := p.db.BeginTx(ctx, nil)
	if err != nil {
		return false, p.failed(err)
	}
	defer func() { _ = tx.Rollback() }() // after Commit it does nothing
	for _, it := range items {
		text, args := p.filled(statement, it)
		done, err := tx.ExecContext(ctx, text, args...)
		if err != nil {
			err = p.failed(err)
			if len(items) > 1 && !connect.Passes(err) && !connect.IsBroken(err) {
				return true, nil
			}
			return true, err
		}
		switch n, _ := done.RowsAffected(); {
		case n > 1:
			return false, connect.Troublef("The statement changed %d rows for the one contact %s. Nothing of it was kept; have it change the one with its key.", n, it.Key)
		case n == 0 && len(items) > 1:
			return true, nil
		case n == 0:
			return true, &connect.Skipped{Why: "the statement changed no row"}
		}
	}
	return false, p.failed(tx.Commit())
}

// filled is a statement with arguments in the place of {key}, {value} and {address}.
func (p *place) filled(statement string, it connect.Item) (string, []any) {
	var args []any
	address := ""
	if len(it.Addresses) > 0 {
		address = it.Addresses[0]
	}
	text := holes.ReplaceAllStringFunc(statement, func(h string) string {
		var v any = map[string]string{"{key}": it.Key, "{value}": it.Value, "{address}": address}[h]
		if h == "{value}" && it.Value == "" {
			v = nil // what has no value has none in the database
		}
		args = append(args, v)
		return p.arg(len(args))
	})
	return text, args
}

// Members: a database has no collections of its own.
func (p *place) Members(context.Context, connect.Order) ([]connect.Item, error) { return nil, nil }
