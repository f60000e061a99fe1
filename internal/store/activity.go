package store

import (
	"context"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/activity"
)

// RememberActivity keeps what was seen of addresses, by their canonical form, as far as it is later
// than what was known, and returns those of which that is so.
func (s *Store) RememberActivity(ctx context.Context, workspace int64, seen map[string]activity.Seen) (later []string, err error) {
	if err := notGone(ctx, s, workspace, seen); err != nil || len(seen) == 0 {
		return nil, err
	}
	printsOf := s.fingerprints()
	b, all := &pgx.Batch{}, sortedKeys(seen)
	for _, canonical := range all {
		f, a := printsOf(string(plain(canonical)))[0], seen[canonical]
		b.Queue(`INSERT INTO activity (workspace_id, fingerprint, secret, at, kind, source) VALUES ($1, $2, $3, $4, $5, $6)
			ON CONFLICT (workspace_id, fingerprint) DO UPDATE SET at = EXCLUDED.at, kind = EXCLUDED.kind, source = EXCLUDED.source WHERE activity.at < EXCLUDED.at`,
			workspace, f.Sum, f.Secret, a.At, a.Kind, a.From)
	}
	results := s.db.SendBatch(ctx, b)
	for _, canonical := range all {
		tag, err := results.Exec()
		if err != nil {
			_ = results.Close()
			return later, err
		}
		if tag.RowsAffected() > 0 {
			later = append(later, canonical)
		}
	}
	if err := results.Close(); err != nil || len(later) == 0 {
		return later, err
	}
	return later, s.changed(ctx, "UPDATE workspace SET activity_version = activity_version + 1 WHERE id = $1", workspace)
}

// Activity is what was seen of the addresses of a list.
type Activity struct {
	Version int64   // of what is known in the workspace
	at      []int64 // by address, in seconds; 0: never
	what    []int32 // by address, among kinds
	kinds   []activity.Seen
}

// Of returns what was seen of an address.
func (a *Activity) Of(address int32) activity.Seen {
	if a == nil || address < 1 || int(address) >= len(a.at) || a.at[address] == 0 {
		return activity.Seen{}
	}
	s := a.kinds[a.what[address]]
	s.At = time.Unix(a.at[address], 0)
	return s
}

// ActivityOf is activity of addresses, for tests of what looks at it.
func ActivityOf(seen map[int32]activity.Seen) *Activity {
	a := &Activity{Version: 1}
	for address, s := range seen {
		if more := int(address) + 1 - len(a.at); more > 0 {
			a.at, a.what = append(a.at, make([]int64, more)...), append(a.what, make([]int32, more)...)
		}
		a.at[address], a.what[address] = s.At.Unix(), int32(len(a.kinds))
		a.kinds = append(a.kinds, s)
	}
	return a
}

// ActivityVersion returns how often what is known of activity has changed in a workspace.
func (s *Store) ActivityVersion(ctx context.Context, workspace int64) (version int64, err error) {
	err = s.db.QueryRow(ctx, "SELECT activity_version FROM workspace WHERE id = $1", workspace).Scan(&version)
	return version, err
}

// activityCache is what was seen of the addresses of the list that was looked at last.
type activityCache struct {
	mu    sync.Mutex
	list  int64
	known *Activity
}

func (k *activityCache) of(list int64) *Activity {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.list != list {
		return nil
	}
	return k.known
}

func (k *activityCache) keep(list int64, a *Activity) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.list, k.known = list, a
}

// Activity returns what was seen of a list's addresses. It is remembered for the list that was looked
// at last.
func (s *Store) Activity(ctx context.Context, l List) (*Activity, error) {
	version, err := s.ActivityVersion(ctx, l.WorkspaceID)
	if err != nil || version == 0 {
		return &Activity{}, err
	}
	if known := s.activities.of(l.ID); known != nil && known.Version == version {
		return known, nil
	}
	a, err := s.readActivity(ctx, l)
	if err != nil {
		return nil, err
	}
	a.Version = version
	s.activities.keep(l.ID, a)
	return a, nil
}

func (s *Store) readActivity(ctx context.Context, l List) (*Activity, error) {
	size := int(l.Rows)*len(l.AddressColumns) + 1
	a := &Activity{at: make([]int64, size), what: make([]int32, size)}
	places := map[activity.Seen]int32{}
	return a, s.canonicalsIn(ctx, l.ID, func(some map[string]int32) error {
		seen, err := s.SeenOf(ctx, l.WorkspaceID, sortedKeys(some))
		for canonical, r := range seen {
			what := activity.Seen{Kind: r.Kind, From: r.From}
			if _, there := places[what]; !there {
				places[what], a.kinds = int32(len(a.kinds)), append(a.kinds, what)
			}
			o := some[canonical]
			a.at[o], a.what[o] = r.At.Unix(), places[what]
		}
		return err
	})
}

// SeenOf returns what was seen of addresses last, by their canonical form.
func (s *Store) SeenOf(ctx context.Context, workspace int64, canonicals []string) (map[string]activity.Seen, error) {
	byPrint, prints := s.printsOf(canonicals)
	type record struct {
		Fingerprint  []byte
		At           time.Time
		Kind, Source string
	}
	found, err := many[record](ctx, s.db, "SELECT fingerprint, at, kind, source FROM activity WHERE workspace_id = $1 AND fingerprint = ANY($2)", workspace, prints)
	seen := map[string]activity.Seen{}
	for _, r := range found {
		seen[byPrint[string(r.Fingerprint)]] = activity.Seen{At: r.At, Kind: r.Kind, From: r.Source}
	}
	return seen, err
}
