package migrate

import (
	"context"
	"database/sql"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/pressly/goose/v3"
)

// toBatches is migration 17: results that were kept one by one become batches, and
// parcels that are still to be asked about carry their addresses. It is written in
// Go because SQL cannot pack evidence.
var toBatches = goose.NewGoMigration(17, &goose.GoFunc{RunTx: migrateToBatches}, nil)

func migrateToBatches(ctx context.Context, tx *sql.Tx) error {
	if err := resultsToBatches(ctx, tx); err != nil {
		return err
	}
	if err := questionsToParcels(ctx, tx); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, "DROP TABLE result; ALTER TABLE parcel DROP questions")
	return err
}

// toBatch is how many results become one batch at the most; all are of one moment.
const toBatch = 500

// resultsToBatches goes through the results by a cursor: nothing else can be done
// in a transaction while the rows of a query are read.
func resultsToBatches(ctx context.Context, tx *sql.Tx) error {
	if _, err := tx.ExecContext(ctx, "DECLARE old CURSOR FOR SELECT run_id, address, verdict, at::text, evidence::text FROM result ORDER BY run_id, at, address"); err != nil {
		return err
	}
	for {
		next, err := fetchResults(ctx, tx)
		if err != nil {
			return err
		}
		if len(next) == 0 {
			_, err := tx.ExecContext(ctx, "CLOSE old")
			return err
		}
		for len(next) > 0 {
			n := 1
			for n < len(next) && next[n].run == next[0].run && next[n].at == next[0].at {
				n++
			}
			if err := addOldBatch(ctx, tx, next[:n]); err != nil {
				return err
			}
			next = next[n:]
		}
	}
}

type result17 struct {
	run              int64
	address, verdict int32
	at               string
	asked            []asked17
}

func fetchResults(ctx context.Context, tx *sql.Tx) (out []result17, err error) {
	rows, err := tx.QueryContext(ctx, fmt.Sprintf("FETCH %d FROM old", toBatch))
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var r result17
		var text string
		var evidence struct {
			Asked []asked17 `json:"asked"`
		}
		if err := rows.Scan(&r.run, &r.address, &r.verdict, &r.at, &text); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(text), &evidence); err != nil {
			return nil, err
		}
		r.asked = evidence.Asked
		out = append(out, r)
	}
	return out, rows.Err()
}

func addOldBatch(ctx context.Context, tx *sql.Tx, results []result17) error {
	addresses, verdicts, asked := make([]int32, len(results)), make([]int32, len(results)), make([][]asked17, len(results))
	for i, r := range results {
		addresses[i], verdicts[i], asked[i] = r.address, r.verdict, r.asked
	}
	_, err := tx.ExecContext(ctx, "INSERT INTO batch (run_id, at, addresses, verdicts, evidence) VALUES ($1, $2::timestamptz, $3, $4, $5)",
		results[0].run, results[0].at, addresses, verdicts, packEvidence17(asked))
	return err
}

// questionsToParcels gives the parcels that are still to be asked about their
// addresses.
func questionsToParcels(ctx context.Context, tx *sql.Tx) error {
	rows, err := tx.QueryContext(ctx, `SELECT p.id, jsonb_agg(jsonb_build_object('ordinal', r.ordinal, 'domain', r.domain,
			'mailbox', coalesce(r.mailbox, r.typed), 'traits', r.traits, 'rounds', q->'r', 'asked', q->'asked', 'was', b.verdict))::text
		FROM parcel p JOIN run u ON u.id = p.run_id CROSS JOIN jsonb_array_elements(p.questions) q
		JOIN list_row r ON r.list_id = u.list_id AND r.ordinal = (q->>'a')::int
		LEFT JOIN result b ON p.again AND b.run_id = p.run_id AND b.address = r.ordinal
		WHERE p.state IN ('open', 'paused', 'claimed') GROUP BY p.id`)
	if err != nil {
		return err
	}
	defer func() { _ = rows.Close() }()
	byParcel := map[int64][]asking17{}
	for rows.Next() {
		var id int64
		var text string
		var questions []asking17
		if err := rows.Scan(&id, &text); err != nil {
			return err
		}
		if err := json.Unmarshal([]byte(text), &questions); err != nil {
			return err
		}
		byParcel[id] = questions
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for id, questions := range byParcel {
		k := packQuestions17(questions)
		if _, err := tx.ExecContext(ctx, "UPDATE parcel SET ordinals = $2, mailboxes = $3, rounds = $4, was = $5, asked = $6 WHERE id = $1",
			id, k.ordinals, k.mailboxes, k.rounds, k.was, k.asked); err != nil {
			return err
		}
	}
	return nil
}

// The forms of that time.

type asked17 struct {
	Parcel       int64     `json:"parcel,omitempty"`
	Conversation int       `json:"conversation"`
	At           time.Time `json:"at"`
	TookMS       float64   `json:"tookMs"`
	Reply        string    `json:"reply,omitempty"`
	Why          string    `json:"why"`
}

type asking17 struct {
	Ordinal int32
	Mailbox string
	Traits  []string
	Rounds  int
	Asked   []asked17
	Was     int32
}

type questions17 struct {
	ordinals, rounds, was []int32 // rounds and was are nil where all are 0
	mailboxes             string
	asked                 []byte
}

func packQuestions17(questions []asking17) (p questions17) {
	lines := make([]string, len(questions))
	rounds, was, asked := make([]int32, len(questions)), make([]int32, len(questions)), make([][]asked17, len(questions))
	for i, q := range questions {
		p.ordinals, lines[i] = append(p.ordinals, q.Ordinal), q.Mailbox
		if len(q.Traits) > 0 {
			lines[i] += "\t" + strings.Join(q.Traits, " ")
		}
		rounds[i], was[i], asked[i] = int32(q.Rounds), q.Was, q.Asked
	}
	if slices.Max(rounds) > 0 {
		p.rounds = rounds
	}
	if slices.Max(was) > 0 {
		p.was = was
	}
	p.mailboxes, p.asked = strings.Join(lines, "\n"), packEvidence17(asked)
	return p
}

// packEvidence17 writes the texts of the answers, each once, then for each address in
// turn what it was asked; nil where none was.
func packEvidence17(all [][]asked17) []byte {
	var body []byte
	texts, places := []string{}, map[string]uint64{}
	place := func(text string) uint64 {
		p, ok := places[text]
		if !ok {
			p = uint64(len(texts))
			texts, places[text] = append(texts, text), p
		}
		return p
	}
	some, parcel, at := false, int64(0), int64(0)
	for _, asked := range all {
		body = binary.AppendUvarint(body, uint64(len(asked)))
		for _, a := range asked {
			some = true
			body = binary.AppendVarint(body, a.Parcel-parcel)
			body = binary.AppendUvarint(body, uint64(a.Conversation))
			body = binary.AppendVarint(body, a.At.UnixMicro()-at)
			body = binary.AppendUvarint(body, uint64(math.Round(a.TookMS*1000)))
			body = binary.AppendUvarint(body, place(a.Reply))
			body = binary.AppendUvarint(body, place(a.Why))
			parcel, at = a.Parcel, a.At.UnixMicro()
		}
	}
	if !some {
		return nil
	}
	head := binary.AppendUvarint(nil, uint64(len(texts)))
	for _, t := range texts {
		head = appendText(head, t)
	}
	return append(head, body...)
}

func appendText(to []byte, text string) []byte {
	return append(binary.AppendUvarint(to, uint64(len(text))), text...)
}
