package bounce

import (
	"fmt"
	"slices"
	"strings"

	"varnet/core/address"
	"varnet/core/bounce"
	"varnet/core/say"
	"varnet/core/sheet"
	"varnet/internal/intake"
	"varnet/internal/store"
)

// Columns are the columns of a table of letters, from 0; below that: found by their names.
type Columns struct{ Address, Tag, Message int }

// names are those by which the columns are found.
var (
	tagNames     = []string{"tag", "verp", "return tag"}
	messageNames = []string{"message-id", "message_id", "messageid", "message id"}
)

func columnOf(r *intake.Reading, given int, names []string) int {
	if given >= 0 || !r.Dialect.Header {
		return given
	}
	return slices.IndexFunc(r.Columns, func(c string) bool { return slices.Contains(names, strings.ToLower(strings.TrimSpace(c))) })
}

// mostLetters is how many letters a table may have.
const mostLetters = 5_000_000

// LettersIn reads to whom a mailing went out of a table: an address a row, with the tag of
// its return address and its Message-ID where the table has them. Rows without an address
// are left out.
func LettersIn(r *intake.Reading, of Columns, g address.Grammar) (letters []store.Mailed, err error) {
	at := of.Address
	if at < 0 {
		at = r.AddressColumn
	}
	if at < 0 || at >= len(r.Columns) {
		return nil, &sheet.Error{Line: 1, Problem: "no column holds addresses; choose the one that does"}
	}
	tag, message := columnOf(r, of.Tag, tagNames), columnOf(r, of.Message, messageNames)
	for rec, err := range r.Records() {
		if err != nil {
			return nil, err
		}
		cells := r.Dialect.Kept().Cells(rec.Raw)
		a, err := g.Parse(cell(cells, at))
		if err != nil {
			continue
		}
		if len(letters) == mostLetters {
			return nil, fmt.Errorf("a mailing may have %s letters; send the table in parts", say.Number(mostLetters))
		}
		letters = append(letters, store.Mailed{Mailbox: a.Mailbox(), Canonical: a.Canonical(), Domain: a.Domain, Tag: optional(cell(cells, tag)), MessageID: optional(strings.Trim(cell(cells, message), "<>"))})
	}
	if len(letters) == 0 {
		return nil, &sheet.Error{Line: 1, Problem: "the table holds no address"}
	}
	return letters, nil
}

func cell(cells []string, i int) string {
	if i < 0 || i >= len(cells) {
		return ""
	}
	return strings.TrimSpace(cells[i])
}

func optional(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

// names by which the columns of a table of outcomes are found.
var (
	outcomeNames = []string{"outcome", "status", "event", "result", "bounce type", "bounce_type", "type", "state"}
	reasonNames  = []string{"reason", "bounce reason", "bounce_reason", "diagnostic", "diagnostic code", "diagnostic_code", "response", "message", "description", "error", "details"}
	atNames      = []string{"date", "time", "timestamp", "at", "bounced at", "bounced_at", "when"}
)

// ColumnsKey is the names of a table's columns, by which its mapping is kept.
func ColumnsKey(r *intake.Reading) string {
	return strings.ToLower(strings.Join(r.Columns, "\n"))
}

// MappingFor returns how a table of outcomes is read: as given, and what is not given by the
// names of its columns.
func MappingFor(r *intake.Reading, given store.TableMapping) (store.TableMapping, error) {
	find := func(column *int, names []string) {
		if *column == 0 {
			*column = columnOf(r, -1, names) + 1
		}
	}
	m := given
	if m.Address == 0 {
		m.Address = r.AddressColumn + 1
	}
	find(&m.Outcome, outcomeNames)
	find(&m.Reason, reasonNames)
	find(&m.At, atNames)
	find(&m.MessageID, messageNames)
	for _, column := range []int{m.Address, m.Outcome, m.Reason, m.At, m.MessageID} {
		if column < 0 || column > len(r.Columns) {
			return m, &sheet.Error{Line: 1, Problem: fmt.Sprintf("there is no column %d; the table has %s", column, say.Plural(int64(len(r.Columns)), "column", "columns"))}
		}
	}
	switch {
	case m.Address == 0:
		return m, &sheet.Error{Line: 1, Problem: "no column holds addresses; choose the one that does"}
	case m.Outcome == 0 && m.Reason == 0:
		return m, &sheet.Error{Line: 1, Problem: "no column is called outcome or reason; choose the one that holds the outcome"}
	}
	return m, nil
}

// Outcomes reads a table in which a sending tool says what became of letters, line by line.
// Lines without an address are left out.
func Outcomes(r *intake.Reading, m store.TableMapping, g address.Grammar) func() (Incoming, error) {
	next, dialect, days := r.Next(), r.Dialect.Kept(), sheet.KindAt(r.Kinds, m.At-1)
	return func() (Incoming, error) {
		for {
			rec, err := next()
			if err != nil {
				return Incoming{}, err
			}
			cells := dialect.Cells(rec.Raw)
			a, err := g.Parse(cell(cells, m.Address-1))
			if err != nil {
				continue
			}
			row := bounce.Row{Address: a.Mailbox(), Outcome: cell(cells, m.Outcome-1), Reason: cell(cells, m.Reason-1), MessageID: strings.Trim(cell(cells, m.MessageID-1), "<>")}
			row.At, _ = days.Time(cell(cells, m.At-1))
			n := bounce.FromRow(row, meansOf(row, m))
			return Incoming{Notice: &n}, nil
		}
	}
}

// meansOf returns what a row's outcome means: as the mapping says, or by its words. A table
// of bounces alone has no such column.
func meansOf(r bounce.Row, m store.TableMapping) string {
	if means, ok := m.Means[strings.ToLower(r.Outcome)]; ok {
		return means
	}
	if m.Outcome == 0 {
		return bounce.MeansBounced
	}
	return bounce.Guess(r.Outcome)
}
