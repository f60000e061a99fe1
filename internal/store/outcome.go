package store

import (
	"cmp"
	"context"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/address"
	"varnet/core/bounce"
	"varnet/core/ledger"
)

// KnownOutcome is what is known of an address by the messages sent to it, with the words of
// the host.
type KnownOutcome struct {
	bounce.Known
	Words, Host string
	// Times is how many messages had such an outcome.
	Times int
}

// HasOutcomes reports whether anything is known of a workspace's addresses by messages sent.
func (s *Store) HasOutcomes(ctx context.Context, workspace int64) (has bool, err error) {
	err = s.db.QueryRow(ctx, "SELECT EXISTS (SELECT FROM outcome WHERE workspace_id = $1)", workspace).Scan(&has)
	return has, err
}

// KnownOutcomes returns what is known of addresses, by their canonical form.
func (s *Store) KnownOutcomes(ctx context.Context, workspace int64, canonicals []string) (map[string]KnownOutcome, error) {
	known := map[string]KnownOutcome{}
	return known, s.ask(ctx, s.outcomesOf(known, workspace, canonicals))
}

func (s *Store) outcomesOf(known map[string]KnownOutcome, workspace int64, canonicals []string) question {
	byPrint, prints := s.printsOf(canonicals)
	const sql = "SELECT fingerprint, outcome, permanent, at, words, host, times FROM outcome WHERE workspace_id = $1 AND fingerprint = ANY($2)"
	return question{sql, []any{workspace, prints}, func(rows pgx.Rows) error {
		var print []byte
		var k KnownOutcome
		_, err := pgx.ForEachRow(rows, []any{&print, &k.Outcome, &k.Permanent, &k.At, &k.Words, &k.Host, &k.Times}, func() error {
			known[byPrint[string(print)]] = k
			return nil
		})
		return err
	}}
}

// printsOf returns the fingerprints of addresses by all secrets, and whose each is.
func (s *Store) printsOf(canonicals []string) (byPrint map[string]string, prints [][]byte) {
	byPrint, prints = make(map[string]string, len(canonicals)), make([][]byte, 0, len(canonicals))
	of := s.fingerprints()
	for _, c := range canonicals {
		for _, f := range of(string(plain(c))) {
			prints = append(prints, f.Sum)
			byPrint[string(f.Sum)] = c
		}
	}
	return byPrint, prints
}

// RememberOutcomes keeps what became of messages to addresses, by their canonical form, as
// far as it outweighs what was known.
func (s *Store) RememberOutcomes(ctx context.Context, workspace int64, now map[string]KnownOutcome) error {
	if err := notGone(ctx, s, workspace, now); err != nil || len(now) == 0 {
		return err
	}
	before, err := s.KnownOutcomes(ctx, workspace, sortedKeys(now))
	if err != nil {
		return err
	}
	printsOf := s.fingerprints()
	b := &pgx.Batch{}
	for _, canonical := range sortedKeys(now) {
		o, was := now[canonical], before[canonical]
		if o.Times = 1; o.Outcome == was.Outcome && o.Permanent == was.Permanent {
			o.Times = was.Times + 1
		}
		if !o.Outweighs(was.Known) {
			continue
		}
		f := printsOf(string(plain(canonical)))[0]
		b.Queue(`INSERT INTO outcome (workspace_id, fingerprint, secret, outcome, permanent, at, words, host, times) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)
			ON CONFLICT (workspace_id, fingerprint) DO UPDATE SET outcome = EXCLUDED.outcome, permanent = EXCLUDED.permanent, at = EXCLUDED.at, words = EXCLUDED.words, host = EXCLUDED.host, times = EXCLUDED.times`,
			workspace, f.Sum, f.Secret, string(o.Outcome), o.Permanent, o.At, o.Words, o.Host, o.Times)
	}
	return s.db.SendBatch(ctx, b).Close()
}

// ForgetOutcome forgets what is known of an address.
func (s *Store) ForgetOutcome(ctx context.Context, workspace int64, canonical string) error {
	_, prints := s.printsOf([]string{canonical})
	return s.changed(ctx, "DELETE FROM outcome WHERE workspace_id = $1 AND fingerprint = ANY($2)", workspace, prints)
}

// outcomesAtOnce is of how many addresses of a list it is looked up at once what is known.
const outcomesAtOnce = 20_000

// OutcomesIn calls do for each address of a list of which something is known by messages
// sent to it.
func (s *Store) OutcomesIn(ctx context.Context, workspace, list int64, do func(ordinal int32, canonical string, known KnownOutcome) error) error {
	return s.canonicalsIn(ctx, list, func(some map[string]int32) error {
		known, err := s.KnownOutcomes(ctx, workspace, sortedKeys(some))
		for _, c := range sortedKeys(known) {
			if err == nil {
				err = do(some[c], c, known[c])
			}
		}
		return err
	})
}

// canonicalsIn calls do with the addresses of a list, some at a time: their ordinals by their canonical
// form.
func (s *Store) canonicalsIn(ctx context.Context, list int64, do func(some map[string]int32) error) error {
	some := map[string]int32{}
	var failed error
	flush := func() {
		if failed == nil && len(some) > 0 {
			failed = do(some)
		}
		clear(some)
	}
	err := s.eachLocal(ctx, list, nil, func(domain, local string, ordinal int32) {
		if some[address.CanonicalOf(local, domain)] = ordinal; len(some) == outcomesAtOnce {
			flush()
		}
	})
	flush()
	return cmp.Or(err, failed)
}

// Holding is a run whose list holds some addresses: the latest of its list.
type Holding struct {
	Run      Run
	Ordinals map[string]int32 // by canonical form
}

// Holdings returns the latest run of each list of a workspace that holds one of the
// addresses, given by their canonical forms. Runs of samples and of less than the mailbox
// are left out.
func (s *Store) Holdings(ctx context.Context, workspace int64, canonicals []string) (found []Holding, err error) {
	domains, wanted := map[string]bool{}, map[string]bool{}
	for _, c := range canonicals {
		wanted[c] = true
		domains[c[strings.LastIndexByte(c, '@')+1:]] = true
	}
	names := sortedKeys(domains)
	runs, err := many[Run](ctx, s.db, "SELECT "+runColumns+` FROM run WHERE id IN (
		SELECT max(id) FROM run WHERE workspace_id = $1 AND sample IS NULL AND depth = 'mailbox' AND state <> 'drafted'
			AND list_id IN (SELECT list_id FROM list_domain WHERE domain = ANY($2)) GROUP BY list_id) ORDER BY id`, workspace, names)
	for _, r := range runs {
		h := Holding{Run: r, Ordinals: map[string]int32{}}
		err := s.eachLocal(ctx, r.ListID, names, func(domain, local string, ordinal int32) {
			if c := address.CanonicalOf(local, domain); wanted[c] {
				h.Ordinals[c] = ordinal
			}
		})
		if err != nil {
			return nil, err
		}
		if len(h.Ordinals) > 0 {
			found = append(found, h)
		}
	}
	return found, err
}

// AddOutcomes records what outcomes made of the results of a run. Nothing was asked for
// them, so that they count for no speed. Whoever looks at the run is told.
func (s *Store) AddOutcomes(ctx context.Context, run int64, results []Concluded) error {
	if len(results) == 0 {
		return nil
	}
	b, tally, err := s.batchOf(ctx, results)
	if err != nil {
		return err
	}
	b.conclusive = ledger.Conclusive{} // nobody pays for what their own messages told
	if err := s.addBatch(ctx, run, b, tally, time.Unix(0, 0)); err != nil {
		return err
	}
	return s.TellProgress(ctx, []int64{run})
}

// TableMapping is how a table is read in which a sending tool says what became of letters.
// Columns are from 1; 0: there is none.
type TableMapping struct {
	Address   int               `json:"address"`
	Outcome   int               `json:"outcome,omitempty"`
	Reason    int               `json:"reason,omitempty"`
	At        int               `json:"at,omitempty"`
	MessageID int               `json:"messageId,omitempty"`
	Means     map[string]string `json:"means,omitempty"` // by the tool's words for outcomes, in lower case
}

// TableMapping returns the mapping that was kept for tables with these columns; ErrNotFound
// where none was.
func (s *Store) TableMapping(ctx context.Context, workspace int64, columns string) (TableMapping, error) {
	found, err := one[struct{ Mapping TableMapping }](ctx, s.db, "SELECT mapping FROM outcome_mapping WHERE workspace_id = $1 AND columns = $2", workspace, columns)
	return found.Mapping, err
}

// KeepTableMapping keeps a mapping for tables with these columns.
func (s *Store) KeepTableMapping(ctx context.Context, workspace int64, columns string, m TableMapping) error {
	_, err := s.db.Exec(ctx, `INSERT INTO outcome_mapping (workspace_id, columns, mapping) VALUES ($1, $2, $3)
		ON CONFLICT (workspace_id, columns) DO UPDATE SET mapping = EXCLUDED.mapping`, workspace, columns, m)
	return err
}
