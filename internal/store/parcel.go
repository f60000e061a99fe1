package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"varnet/core/probe"
	"varnet/internal/store/pack"
)

// Asking is one address of a parcel.
type Asking struct {
	AddressRow
	Rounds int
	Asked  []probe.Asked
	// Was is the verdict that stands until the address is concluded anew, 0: none.
	Was int32
}

// Questions are the addresses as nobody was asked about them yet.
func Questions(addresses []AddressRow) []Asking {
	out := make([]Asking, len(addresses))
	for i, a := range addresses {
		out[i].AddressRow = a
	}
	return out
}

// DomainsOf lists the domains of questions that come in the order of their domains.
func DomainsOf(questions []Asking) (names []string) {
	for i, q := range questions {
		if i == 0 || questions[i-1].Domain != q.Domain {
			names = append(names, q.Domain)
		}
	}
	return names
}

// Parcel is a bounded handful of addresses, the unit of work.
type Parcel struct {
	ID      int64
	RunID   int64
	LaneKey string
	Turn    int32
	// Line is where it stands in the line of its lane key (see StandInLine).
	Line      int64
	Round     int32
	Questions []Asking
	NotBefore time.Time
	// Again tells that the addresses have results, which stand until they are
	// replaced.
	Again bool
}

// keptQuestions is how the questions of a parcel are kept.
type keptQuestions struct {
	ordinals, rounds, was []int32 // rounds and was are nil where all are 0
	mailboxes             string
	asked                 []byte
}

func keep(questions []Asking) (p keptQuestions) {
	var lines []byte
	rounds, was, asked := make([]int32, len(questions)), make([]int32, len(questions)), make([][]probe.Asked, len(questions))
	for i, q := range questions {
		p.ordinals, lines = append(p.ordinals, q.Ordinal), appendLine(lines, q.Mailbox, q.Traits)
		rounds[i], was[i], asked[i] = int32(q.Rounds), q.Was, q.Asked
	}
	if slices.Max(rounds) > 0 {
		p.rounds = rounds
	}
	if slices.Max(was) > 0 {
		p.was = was
	}
	p.mailboxes, p.asked = string(lines), pack.Evidence(asked)
	return p
}

func (p keptQuestions) questions() ([]Asking, error) {
	asked, err := pack.ReadEvidence(p.asked, len(p.ordinals))
	if err != nil {
		return nil, err
	}
	out, lines := make([]Asking, len(p.ordinals)), p.mailboxes
	for i, o := range p.ordinals {
		q := &out[i]
		q.Ordinal, q.Asked = o, asked[i]
		q.Mailbox, q.Traits, lines = cutLine(lines)
		q.Domain = q.Mailbox[strings.LastIndexByte(q.Mailbox, '@')+1:]
		if p.rounds != nil {
			q.Rounds = int(p.rounds[i])
		}
		if p.was != nil {
			q.Was = p.was[i]
		}
	}
	return out, nil
}

// AddParcels records open parcels.
func (s *Store) AddParcels(ctx context.Context, parcels []Parcel) error {
	if len(parcels) == 0 {
		return nil
	}
	_, err := s.db.CopyFrom(ctx, pgx.Identifier{"parcel"},
		[]string{"run_id", "lane_key", "turn", "line", "round", "addresses", "ordinals", "mailboxes", "rounds", "was", "asked", "not_before", "again"},
		pgx.CopyFromSlice(len(parcels), func(i int) ([]any, error) {
			p := parcels[i]
			k := keep(p.Questions)
			return []any{p.RunID, p.LaneKey, p.Turn, p.Line, p.Round, int32(len(p.Questions)), k.ordinals, k.mailboxes, k.rounds, k.was, k.asked, p.NotBefore, p.Again}, nil
		}))
	return err
}

// runs tells in SQL that a parcel's run is not paused, parcel by parcel as left does.
const runs = "(SELECT state FROM run WHERE run.id = p.run_id) = 'running'"

// Claim returns the lane the next parcel that may be asked now; nil when there
// is none, in the order of their line.
func (s *Store) Claim(ctx context.Context, laneKey string, lane int) (*Parcel, error) {
	var p Parcel
	var k keptQuestions
	var ordinals pgtype.UndecodedBytes
	err := s.db.QueryRow(ctx, `
		UPDATE parcel SET state = 'claimed', lane = $2 WHERE id = (
			SELECT id FROM parcel p WHERE lane_key = $1 AND state = 'open' AND not_before <= now() AND `+runs+`
			ORDER BY line, id FOR UPDATE SKIP LOCKED LIMIT 1)
		RETURNING id, run_id, lane_key, turn, line, round, not_before, again, ordinals, mailboxes, rounds, was, asked`, laneKey, lane).Scan(
		&p.ID, &p.RunID, &p.LaneKey, &p.Turn, &p.Line, &p.Round, &p.NotBefore, &p.Again, &ordinals, &k.mailboxes, &k.rounds, &k.was, &k.asked)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	if err == nil {
		k.ordinals, err = ints(ordinals)
	}
	if err == nil {
		p.Questions, err = k.questions()
	}
	return &p, err
}

// StandInLine gives parcels of a run their places in the lines of their lane keys. The time of a line is the
// place of the next parcel in it: a run begins there, later where its workspace has many older ones, and its further
// parcels follow at a distance of as many places as that has runs at work. So each workspace has the same share, and who begins late
// neither waits for all that others have left nor goes before it. An urgent run goes before all others.
func (s *Store) StandInLine(ctx context.Context, run Run, parcels []Parcel) error {
	keys := map[string]bool{}
	for _, p := range parcels {
		keys[p.LaneKey] = true
	}
	if len(keys) == 0 {
		return nil
	}
	type record struct {
		LaneKey                string
		Next, Own, Runs, Older int64
	}
	now, err := many[record](ctx, s.db, `SELECT k AS lane_key,
			coalesce((SELECT line FROM parcel WHERE lane_key = k AND state = 'open' AND not_before <= now() AND line >= 0 ORDER BY line LIMIT 1), 0) AS next,
			(SELECT count(*) FROM parcel WHERE lane_key = k AND state = 'open' AND run_id = $1) AS own,
			greatest((SELECT count(*) FROM run WHERE workspace_id = $2 AND state = 'running'), 1) AS runs,
			(SELECT count(*) FROM run WHERE workspace_id = $2 AND state = 'running' AND id < $1) AS older
		FROM unnest($3::text[]) k`, run.ID, run.WorkspaceID, sortedKeys(keys))
	if err != nil {
		return err
	}
	at := make(map[string]record, len(now))
	for _, r := range now {
		at[r.LaneKey] = r
	}
	for i := range parcels {
		r := at[parcels[i].LaneKey]
		if parcels[i].Line = r.Next + max(0, r.Older-olderRuns) + r.Own*r.Runs; run.Urgent {
			parcels[i].Line = urgentLine + r.Own
		}
		r.Own++
		at[parcels[i].LaneKey] = r
	}
	return nil
}

// olderRuns is how many runs of a workspace a run may have before it and begins where they do; behind
// more of them it begins as many places later as they are more: of small runs, which have one parcel or two
// for an operator, this alone holds the workspace to its share.
const olderRuns = 1

// urgentLine is where urgent runs stand: before all others.
const urgentLine = -1 << 40

// Shorten leaves a claimed parcel its first questions, so many; the others are to
// be added as a parcel of their own in the same transaction. ok is false when the
// parcel is not claimed any more.
func (s *Store) Shorten(ctx context.Context, p *Parcel, lane, questions int) (ok bool, err error) {
	k := keep(p.Questions[:questions])
	tag, err := s.db.Exec(ctx, `UPDATE parcel p SET addresses = $3, ordinals = $4, mailboxes = $5, rounds = $6, was = $7, asked = $8
		FROM `+heldRun(1)+` WHERE p.run_id = held.id AND p.id = $1 AND p.lane = $2 AND p.state = 'claimed'`, p.ID, lane, int32(questions), k.ordinals, k.mailboxes, k.rounds, k.was, k.asked)
	return tag.RowsAffected() == 1, err
}

// GiveBack opens the parcels again that a lane claimed and did not record. A
// lane is one job at a time, so these were left behind by a worker that died.
func (s *Store) GiveBack(ctx context.Context, laneKey string, lane int) (int64, error) {
	tag, err := s.db.Exec(ctx, `
		UPDATE parcel SET state = CASE run.state WHEN 'running' THEN 'open' WHEN 'paused' THEN 'paused' ELSE 'void' END
		FROM run WHERE run.id = run_id AND lane_key = $1 AND lane = $2 AND parcel.state = 'claimed'`, laneKey, lane)
	return tag.RowsAffected(), err
}

// Ready is what may be asked now at a lane key.
type Ready struct {
	Parcels   int
	Addresses int64
	// Turn is the lowest of its parcels.
	Turn int32
}

// Ready tells what may be asked now at a lane key, of a hundred parcels at the
// most.
func (s *Store) Ready(ctx context.Context, laneKey string) (r Ready, err error) {
	err = s.db.QueryRow(ctx, `SELECT count(*), coalesce(sum(addresses), 0), coalesce(min(turn), 0) FROM (SELECT addresses, turn FROM parcel p
		WHERE lane_key = $1 AND state = 'open' AND not_before <= now() AND `+runs+` LIMIT 100) r`, laneKey).Scan(&r.Parcels, &r.Addresses, &r.Turn)
	return r, err
}

// MarkDone marks a claimed parcel done; ok is false when it is not claimed any
// more (its run was stopped, or it was given back), and then nothing of it may
// be recorded.
func (s *Store) MarkDone(ctx context.Context, parcel int64, lane int, r pack.ParcelRecord) (ok bool, err error) {
	tag, err := s.db.Exec(ctx, markDone(1), parcel, lane, r)
	return tag.RowsAffected() == 1, err
}

// heldRun holds in SQL the run of a parcel, whose number is a value: whoever changes a
// parcel and then adds to its run takes the run first, as who deletes it does, so that
// they never wait for each other.
func heldRun(parcel int) string {
	return fmt.Sprintf("(SELECT id FROM run WHERE id = (SELECT run_id FROM parcel WHERE id = $%d) FOR KEY SHARE) held", parcel)
}

// markDone marks a claimed parcel done in SQL; its number, lane and record are
// values from a place on.
func markDone(from int) string {
	return fmt.Sprintf(`UPDATE parcel p SET state = 'done', done_at = now(), record = $%d, ordinals = '{}', mailboxes = '', rounds = NULL, was = NULL, asked = NULL
		FROM %s WHERE p.run_id = held.id AND p.id = $%d AND p.lane = $%d AND p.state = 'claimed'`, from+2, heldRun(from), from, from+1)
}

// ParcelRecords returns the records of some parcels of a run, or of the
// workspace's earlier ones, whose results it took over.
func (s *Store) ParcelRecords(ctx context.Context, run int64, parcels []int64) (map[int64]pack.ParcelRecord, error) {
	rows, err := s.db.Query(ctx, `SELECT p.id, p.record FROM parcel p JOIN run u ON u.id = p.run_id
		WHERE u.workspace_id = (SELECT workspace_id FROM run WHERE id = $1) AND p.id = ANY($2) AND p.record IS NOT NULL`, run, parcels)
	if err != nil {
		return nil, err
	}
	out := map[int64]pack.ParcelRecord{}
	var id int64
	var r pack.ParcelRecord
	_, err = pgx.ForEachRow(rows, []any{&id, &r}, func() error {
		out[id], r = r, pack.ParcelRecord{}
		return nil
	})
	return out, err
}
