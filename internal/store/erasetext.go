package store

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"varnet/core/erase"
)

// Spellings are how a domain can be written in texts.
type Spellings []string

// patterns are those as ILIKE takes them.
func (s Spellings) patterns() (out []string) {
	for _, one := range s {
		out = append(out, pattern("@"+one))
	}
	return out
}

// textColumn is a column of a table that holds a text, JSON or an array of texts.
type textColumn struct{ name, kind string }

// read and write are the column's value as a text in SQL, and a parameter's as the column's.
func (c textColumn) read() string {
	if c.kind == "ARRAY" {
		return "to_json(" + c.name + ")::text"
	}
	return c.name + "::text"
}

func (c textColumn) write(parameter int) string {
	switch c.kind {
	case "ARRAY":
		return fmt.Sprintf("%s = ARRAY(SELECT json_array_elements_text($%d::json))", c.name, parameter)
	case "text":
		return fmt.Sprintf("%s = $%d", c.name, parameter)
	}
	return fmt.Sprintf("%s = $%d::%s", c.name, parameter, c.kind)
}

// erased is a value without an address. Of arrays of names an element that is one goes.
func (c textColumn) erased(e erase.Eraser, value string, ofNames bool) (string, bool, error) {
	if c.kind == "text" {
		out, erased := e.Text(value)
		return out, erased, nil
	}
	d := json.NewDecoder(strings.NewReader(value))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil {
		return "", false, err
	}
	v, erased := eraseJSON(e, v, ofNames)
	if !erased {
		return value, false, nil
	}
	var out bytes.Buffer
	enc := json.NewEncoder(&out)
	enc.SetEscapeHTML(false)
	err := enc.Encode(v)
	return out.String(), true, err
}

// namesIn are the tables whose arrays of texts hold names that somebody gave: terms, conditions,
// addresses. Those of others, such as the columns of a list, keep their number of elements.
var namesIn = []string{"term_list", "policy", "step_recipe", "workshop_job", "routine"}

// eraseJSON takes an address out of all texts of a value, names of fields included.
func eraseJSON(e erase.Eraser, v any, ofNames bool) (out any, erased bool) {
	switch v := v.(type) {
	case string:
		return e.Text(v)
	case []any:
		left := make([]any, 0, len(v))
		for _, one := range v {
			if text, ok := one.(string); ok && ofNames && e.Is(text) {
				erased = true
				continue
			}
			one, changed := eraseJSON(e, one, ofNames)
			left, erased = append(left, one), erased || changed
		}
		return left, erased
	case map[string]any:
		left := make(map[string]any, len(v))
		for name, one := range v {
			name, named := e.Text(name)
			one, changed := eraseJSON(e, one, ofNames)
			left[name], erased = one, erased || named || changed
		}
		return left, erased
	}
	return v, false
}

// textColumns are the columns of a table that hold texts. The mailboxes of a parcel are left out: eraseParcels removes
// them together with the addresses of the list, which may have to wait. Were they blanked before, the parcel could not be
// asked, and its run would not end.
func (s *Store) textColumns(ctx context.Context, table string) ([]textColumn, error) {
	rows, err := s.db.Query(ctx, `SELECT column_name, CASE WHEN data_type IN ('json', 'jsonb', 'ARRAY') THEN data_type ELSE 'text' END FROM information_schema.columns
		WHERE table_schema = 'public' AND table_name = $1 AND (data_type IN ('text', 'json', 'jsonb') OR udt_name = '_text')
			AND (table_name, column_name) <> ('parcel', 'mailboxes') ORDER BY ordinal_position`, table)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (c textColumn, err error) { return c, row.Scan(&c.name, &c.kind) })
}

// texts are those of a record in which an address stands.
type texts struct {
	place  string
	values []string
	erased []bool
}

// textsWith returns the records of a table whose texts hold an address, with all their texts as they
// are without it. lock is how the records are held meanwhile, in SQL; "": not at all.
func (s *Store) textsWith(ctx context.Context, t ownedTable, columns []textColumn, lock string, workspace int64, e erase.Eraser, domain Spellings) ([]texts, error) {
	var read []string
	for _, c := range columns {
		read = append(read, "coalesce("+c.read()+", '')")
	}
	rows, err := s.db.Query(ctx, fmt.Sprintf("SELECT ctid::text, ARRAY[%s] FROM %s WHERE %s AND concat_ws(' ', %s) ILIKE ANY($2) %s",
		strings.Join(read, ", "), t.name, t.of, strings.Join(read, ", "), lock), workspace, domain.patterns())
	if err != nil {
		return nil, err
	}
	var found []texts
	var r texts
	_, err = pgx.ForEachRow(rows, []any{&r.place, &r.values}, func() error {
		some := false
		r.erased = make([]bool, len(columns))
		for i, c := range columns {
			if r.values[i] == "" {
				continue
			}
			if r.values[i], r.erased[i], err = c.erased(e, r.values[i], slices.Contains(namesIn, t.name)); err != nil {
				return fmt.Errorf("%s.%s: %w", t.name, c.name, err)
			}
			some = some || r.erased[i]
		}
		if some {
			found = append(found, r)
		}
		r.values = nil
		return nil
	})
	return found, err
}

// Mention is in how many records of a kind an address is named.
type Mention struct {
	Table   string
	Records int64
}

// Mentions returns where else than in lists the texts of a workspace name an address.
func (s *Store) Mentions(ctx context.Context, workspace int64, e erase.Eraser, domain Spellings) (found []Mention, err error) {
	return found, s.eachText(ctx, "", workspace, e, domain, func(t ownedTable, _ []textColumn, there []texts) error {
		found = append(found, Mention{t.name, int64(len(there))})
		return nil
	})
}

func (s *Store) eachText(ctx context.Context, lock string, workspace int64, e erase.Eraser, domain Spellings, do func(ownedTable, []textColumn, []texts) error) error {
	for _, t := range append(ownedTables[:len(ownedTables):len(ownedTables)], sharedTexts...) {
		if !t.people {
			continue
		}
		columns, err := s.textColumns(ctx, t.name)
		if err != nil {
			return err
		}
		if len(columns) == 0 {
			continue
		}
		there, err := s.textsWith(ctx, t, columns, lock, workspace, e, domain)
		if err != nil {
			return err
		}
		if len(there) > 0 {
			if err := do(t, columns, there); err != nil {
				return err
			}
		}
	}
	return nil
}

// EraseElsewhere takes an address out of all that a workspace holds beside its lists, and returns
// how many records that were. canonical are its spellings there. It is for a transaction.
func (s *Store) EraseElsewhere(ctx context.Context, workspace int64, e erase.Eraser, domain Spellings, canonicals []string) (records int64, err error) {
	_, prints := s.printsOf(canonicals)
	for _, m := range canonicals {
		prints = append(prints, plain(m)) // as releases before kept absences
	}
	for _, table := range rememberedTables {
		tag, err := s.db.Exec(ctx, "DELETE FROM "+table+" WHERE workspace_id = $1 AND fingerprint = ANY($2)", workspace, prints)
		if err != nil {
			return 0, err
		}
		records += tag.RowsAffected()
	}
	gone, err := s.eraseWhole(ctx, workspace, canonicals)
	if err != nil {
		return 0, err
	}
	records += gone
	return records, s.eachText(ctx, "FOR UPDATE", workspace, e, domain, func(t ownedTable, columns []textColumn, there []texts) error {
		for _, r := range there {
			if err := s.setTexts(ctx, t.name, columns, r); err != nil {
				return err
			}
		}
		records += int64(len(there))
		return nil
	})
}

func (s *Store) setTexts(ctx context.Context, table string, columns []textColumn, r texts) error {
	var set []string
	args := []any{r.place}
	for i, c := range columns {
		if r.erased[i] {
			args = append(args, r.values[i])
			set = append(set, c.write(len(args)))
		}
	}
	_, err := s.db.Exec(ctx, "UPDATE "+table+" SET "+strings.Join(set, ", ")+" WHERE ctid = $1::tid", args...)
	return err
}

// whole are the records that make no sense without their address: they go, or become blank. $1 is the
// workspace, $2 the canonical spellings, $3 patterns of them. Those that are only on their way
// (answers that could be repeated, kept sealed for a day; files that are being sent; jobs that
// ended) are not counted.
var whole = []struct {
	sql     string
	counted bool
}{
	{`DELETE FROM trial_letter t USING mailed m WHERE m.mailing_id = t.mailing_id AND m.number = t.number AND t.state = 'waiting' AND m.workspace_id = $1 AND m.canonical = ANY($2)`, true},
	{`UPDATE mailed SET mailbox = '', canonical = 'erased ' || number, domain = '', said = 0, tag = NULL, message_id = NULL, final = '', words = ''
		WHERE workspace_id = $1 AND canonical = ANY($2)`, true},
	// What waits to be written for a contact is not written; what was written stays counted.
	{"DELETE FROM write_item WHERE state IN (0, 1) AND " + itemNames, true},
	{"UPDATE write_item SET key = '', addresses = '{}', value = '', had = NULL, why = '' WHERE " + itemNames, true},
	{"DELETE FROM catalogue_entry WHERE workspace_id = $1 AND lower(name) = ANY($2)", true},
	{"DELETE FROM catalogue_source_entry WHERE source_id IN (SELECT id FROM catalogue_source WHERE workspace_id = $1) AND lower(name) = ANY($2)", true},
	{"DELETE FROM idempotency WHERE workspace_id = $1", false},
	{`DELETE FROM upload WHERE workspace_id = $1 AND EXISTS (SELECT FROM upload_part p WHERE p.upload_id = upload.id AND encode(p.bytes, 'escape') ILIKE ANY($3))`, false},
	{"DELETE FROM river_job WHERE state IN ('completed', 'cancelled', 'discarded') AND (args::text ILIKE ANY($3) OR errors::text ILIKE ANY($3))", false},
	{"UPDATE workspace SET activity_version = activity_version + 1 WHERE id = $1", false},
}

const itemNames = `write_back_id IN (SELECT id FROM write_back WHERE workspace_id = $1)
		AND EXISTS (SELECT FROM unnest(addresses) a WHERE lower(btrim(a)) = ANY($2))`

func (s *Store) eraseWhole(ctx context.Context, workspace int64, canonicals []string) (records int64, err error) {
	var patterns []string
	for _, c := range canonicals {
		patterns = append(patterns, pattern(c))
	}
	for _, w := range whole {
		// Every statement takes all three.
		tag, err := s.db.Exec(ctx, "WITH given AS (SELECT $1::bigint, $2::text[], $3::text[]) "+w.sql, workspace, canonicals, patterns)
		if err != nil {
			return 0, err
		}
		if w.counted {
			records += tag.RowsAffected()
		}
	}
	return records, nil
}
