package store

import (
	"cmp"
	"context"
	"math"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"varnet/core/finding"
)

// AddressRow is a well-formed address of a list.
type AddressRow struct {
	Ordinal int32
	Mailbox string
	Domain  string
	Traits  []finding.Trait // of its name
}

// partSize is how many addresses a part of a domain holds at most.
const partSize = 20_000

// Members are the addresses of a domain of a list, gathered as it is imported.
type Members struct{ parts []part }

type part struct {
	ordinals []int32
	lines    []byte
}

// Add adds an address; their ordinals must rise.
func (m *Members) Add(ordinal int32, local string, traits []finding.Trait) {
	if n := len(m.parts); n == 0 || len(m.parts[n-1].ordinals) == partSize {
		m.parts = append(m.parts, part{})
	}
	p := &m.parts[len(m.parts)-1]
	p.ordinals = append(p.ordinals, ordinal)
	p.lines = appendLine(p.lines, local, traits)
}

// appendLine adds a line with an address and its traits. Neither can hold a tab or
// a line end: the grammar of addresses has no place for them (RFC 5321 section
// 4.1.2).
func appendLine(lines []byte, text string, traits []finding.Trait) []byte {
	if len(lines) > 0 {
		lines = append(lines, '\n')
	}
	lines = append(lines, text...)
	for i, t := range traits {
		separator := byte(' ')
		if i == 0 {
			separator = '\t'
		}
		lines = append(append(lines, separator), t...)
	}
	return lines
}

// cutLine takes the first line off lines.
func cutLine(lines string) (text string, traits []finding.Trait, rest string) {
	text, rest, _ = strings.Cut(lines, "\n")
	text, named, some := strings.Cut(text, "\t")
	if some {
		for t := range strings.SplitSeq(named, " ") {
			traits = append(traits, finding.Trait(t))
		}
	}
	return text, traits, rest
}

// Len is how many addresses were added.
func (m *Members) Len() (n int32) {
	for _, p := range m.parts {
		n += int32(len(p.ordinals))
	}
	return n
}

// AddMembers records addresses of a list, by their domain, as parts after those that are there.
func (s *Store) AddMembers(ctx context.Context, list int64, domains map[string]*Members) error {
	var parts [][]any
	for name, m := range domains {
		for _, p := range m.parts {
			parts = append(parts, []any{list, name, p.ordinals[len(p.ordinals)-1], p.ordinals, string(p.lines)})
		}
	}
	if len(parts) == 0 {
		return nil
	}
	return s.copyParts(ctx, parts)
}

func (s *Store) copyParts(ctx context.Context, parts [][]any) error {
	_, err := s.db.CopyFrom(ctx, pgx.Identifier{"list_part"}, []string{"list_id", "domain", "last", "ordinals", "mailboxes"}, pgx.CopyFromRows(parts))
	return err
}

// AddressesIn returns the addresses of some domains of a run's list that have no
// result taken over, those of one domain after an ordinal, in the order of both;
// at most limit of them.
func (s *Store) AddressesIn(ctx context.Context, run Run, domains []string, after int32, limit int) (found []AddressRow, err error) {
	taken := &Whole{}
	if run.Plan.Reused+run.Plan.Bounced > 0 {
		if taken, err = s.wholeOf(ctx, run.ID); err != nil {
			return nil, err
		}
	}
	found = make([]AddressRow, 0, limit)
	err = s.eachPart(ctx, run.ListID, partsOf{domains: domains, after: after, lines: true}, func(domain string, ordinals []int32, lines string) bool {
		end := "@" + domain
		for _, o := range ordinals {
			var local string
			var traits []finding.Trait
			local, traits, lines = cutLine(lines)
			if o <= after || taken.Verdict(o) != 0 {
				continue
			}
			if found = append(found, AddressRow{o, local + end, domain, traits}); len(found) == limit {
				return false
			}
		}
		return true
	})
	return found, err
}

// partsOf chooses parts of the addresses of a list: those of some domains, nil for
// all, with ordinals after one, and whose lines hold a text; read with their lines
// or without.
type partsOf struct {
	domains []string
	after   int32
	holding string
	lines   bool
	// beyond is the place after which they begin, and limit how many they are at most; 0: all.
	beyond partPlace
	limit  int
}

// partPlace is the place of a part among those of a list.
type partPlace struct {
	domain string
	last   int32
}

// eachPart returns parts of a list in the order of domains and ordinals, until do
// returns false.
func (s *Store) eachPart(ctx context.Context, list int64, of partsOf, do func(domain string, ordinals []int32, lines string) bool) error {
	lines := "''"
	if of.lines {
		lines = "mailboxes"
	}
	rows, err := s.db.Query(ctx, "SELECT domain, ordinals, "+lines+` FROM list_part
		WHERE list_id = $1 AND ($2::text[] IS NULL OR domain = ANY($2)) AND last > $3 AND ($4 = '' OR strpos(mailboxes, $4) > 0)
		AND ($5 = '' OR (domain, last) > ($5, $6)) ORDER BY domain, last LIMIT $7`,
		list, of.domains, of.after, of.holding, of.beyond.domain, of.beyond.last, orNull(of.limit > 0, of.limit))
	if err != nil {
		return err
	}
	defer rows.Close()
	var domain, mailboxes string
	var sent pgtype.UndecodedBytes
	for rows.Next() {
		if err := rows.Scan(&domain, &sent, &mailboxes); err != nil {
			return err
		}
		ordinals, err := ints(sent)
		if err != nil {
			return err
		}
		if !do(domain, ordinals, mailboxes) {
			return nil
		}
	}
	return rows.Err()
}

// eachOrdinal calls do for each address of some domains of a list, or (nil) of all.
func (s *Store) eachOrdinal(ctx context.Context, list int64, domains []string, do func(domain string, ordinal int32)) error {
	return s.eachPart(ctx, list, partsOf{domains: domains}, func(domain string, ordinals []int32, _ string) bool {
		for _, o := range ordinals {
			do(domain, o)
		}
		return true
	})
}

// marksAfter marks the addresses of some domains of a list after one, as far as so many parts of each
// domain reach. Up to through none is missing.
func (s *Store) marksAfter(ctx context.Context, list int64, domains []string, after int32, parts int) (of *marks, through int32, err error) {
	rows, err := s.db.Query(ctx, `SELECT p.domain, p.last, p.ordinals FROM unnest($2::text[]) AS d CROSS JOIN LATERAL (
			SELECT domain, last, ordinals FROM list_part WHERE list_id = $1 AND domain = d AND last > $3 ORDER BY last LIMIT $4) p`, list, domains, after, parts)
	if err != nil {
		return nil, 0, err
	}
	of = &marks{}
	read, reached := map[string]int{}, map[string]int32{}
	var domain string
	var last int32
	var sent pgtype.UndecodedBytes
	_, err = pgx.ForEachRow(rows, []any{&domain, &last, &sent}, func() error {
		ordinals, err := ints(sent)
		for _, o := range ordinals {
			of.mark(o)
		}
		read[domain]++
		reached[domain] = max(reached[domain], last)
		return err
	})
	through = math.MaxInt32
	for domain, n := range read {
		if n == parts { // there may be more
			through = min(through, reached[domain])
		}
	}
	return of, through, err
}

// eachLocal calls do for each address of some domains of a list, or (nil) of all,
// with its local part.
func (s *Store) eachLocal(ctx context.Context, list int64, domains []string, do func(domain, local string, ordinal int32)) error {
	return s.eachPart(ctx, list, partsOf{domains: domains, lines: true}, func(domain string, ordinals []int32, lines string) bool {
		for _, o := range ordinals {
			var local string
			local, _, lines = cutLine(lines)
			do(domain, local, o)
		}
		return true
	})
}

// EachMailbox calls do for each address of a list, in the order of their domains.
func (s *Store) EachMailbox(ctx context.Context, list int64, do func(ordinal int32, local, domain string) error) (err error) {
	broken := s.eachLocal(ctx, list, nil, func(domain, local string, ordinal int32) {
		if err == nil {
			err = do(ordinal, local, domain)
		}
	})
	return cmp.Or(err, broken)
}

// Numbers returns the numbers in a list of those mailboxes that stand in it, the
// smallest first.
func (s *Store) Numbers(ctx context.Context, list int64, mailboxes []string) (found []int32, err error) {
	byDomain := map[string]map[string]bool{}
	for _, m := range mailboxes {
		at := strings.LastIndexByte(m, '@')
		if domain := m[at+1:]; at > 0 {
			if byDomain[domain] == nil {
				byDomain[domain] = map[string]bool{}
			}
			byDomain[domain][m[:at]] = true
		}
	}
	of := partsOf{domains: sortedKeys(byDomain), lines: true}
	if len(mailboxes) == 1 {
		of.holding = mailboxes[0][:max(0, strings.LastIndexByte(mailboxes[0], '@'))]
	}
	err = s.eachPart(ctx, list, of, func(domain string, ordinals []int32, lines string) bool {
		for _, o := range ordinals {
			var local string
			if local, _, lines = cutLine(lines); byDomain[domain][local] {
				found = append(found, o)
			}
		}
		return true
	})
	slices.Sort(found)
	return found, err
}

// AddressesAt returns the addresses at some ordinals of a list, in the order of
// their domains. Texts that are not addresses are left out.
func (s *Store) AddressesAt(ctx context.Context, list int64, ordinals []int32) (found []AddressRow, err error) {
	err = s.eachCellAt(ctx, list, ordinals, false, func(r *Row) error {
		if r.Domain != "" {
			a := AddressRow{Ordinal: r.Ordinal, Mailbox: r.Mailbox, Domain: r.Domain}
			for _, t := range r.Traits {
				a.Traits = append(a.Traits, finding.Trait(t))
			}
			found = append(found, a)
		}
		return nil
	})
	slices.SortStableFunc(found, func(a, b AddressRow) int { return cmp.Compare(a.Domain, b.Domain) })
	return found, err
}
