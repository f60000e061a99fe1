package store

import (
	"bytes"
	"context"
	"encoding/json"
	"slices"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"varnet/core/say"
	"varnet/internal/store/pack"
)

// PostgreSQL refuses a whole statement for a NUL in a text, or for bytes that are not UTF-8. What mail hosts, bounces,
// platforms and browsers say is made valid text where it is read. This is the last door: what arrives here all the same
// is stored with U+FFFD in those places, so that no job fails again and again over what it has to store.

// asTexts returns the values of a statement with valid texts.
func asTexts(values []any) []any {
	for i, v := range values {
		var now any
		switch v := v.(type) {
		case string:
			if !say.IsText(v) {
				now = say.AsText(v)
			}
		case *string:
			if v != nil && !say.IsText(*v) {
				now = say.AsText(*v)
			}
		case []string:
			if slices.ContainsFunc(v, func(s string) bool { return !say.IsText(s) }) {
				texts := slices.Clone(v)
				for n := range texts {
					texts[n] = say.AsText(texts[n])
				}
				now = texts
			}
		}
		if now != nil {
			values = slices.Clone(values)
			values[i] = now
		}
	}
	return values
}

// marshal writes a value as JSON that PostgreSQL takes, with U+FFFD where a string escapes NUL or half of a surrogate pair.
func marshal(v any) ([]byte, error) {
	text, err := pack.Marshal(v)
	if err != nil || !bytes.Contains(text, []byte(`\u0000`)) && !bytes.Contains(text, []byte(`\ud`)) && !bytes.Contains(text, []byte(`\uD`)) {
		return text, err
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	var read any // lone surrogates become U+FFFD by being read
	if err := d.Decode(&read); err != nil {
		return nil, err
	}
	return json.Marshal(withTexts(read))
}

// withTexts returns what was read of JSON with valid texts.
func withTexts(v any) any {
	switch v := v.(type) {
	case string:
		return say.AsText(v)
	case []any:
		for i := range v {
			v[i] = withTexts(v[i])
		}
	case map[string]any:
		texts := make(map[string]any, len(v))
		for name, value := range v {
			texts[say.AsText(name)] = withTexts(value)
		}
		return texts
	}
	return v
}

// door passes statements on with valid texts.
type door struct{ querier }

func (d door) Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error) {
	return d.querier.Exec(ctx, sql, asTexts(args)...)
}

func (d door) Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error) {
	return d.querier.Query(ctx, sql, asTexts(args)...)
}

func (d door) QueryRow(ctx context.Context, sql string, args ...any) pgx.Row {
	return d.querier.QueryRow(ctx, sql, asTexts(args)...)
}

func (d door) SendBatch(ctx context.Context, b *pgx.Batch) pgx.BatchResults {
	for _, q := range b.QueuedQueries {
		q.Arguments = asTexts(q.Arguments)
	}
	return d.querier.SendBatch(ctx, b)
}

func (d door) CopyFrom(ctx context.Context, table pgx.Identifier, columns []string, src pgx.CopyFromSource) (int64, error) {
	return d.querier.CopyFrom(ctx, table, columns, textSource{src})
}

// textSource is records to be copied, with valid texts.
type textSource struct{ pgx.CopyFromSource }

func (s textSource) Values() ([]any, error) {
	values, err := s.CopyFromSource.Values()
	return asTexts(values), err
}
