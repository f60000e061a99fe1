package work

import (
	"context"

	"github.com/jackc/pgx/v5"

	"varnet/internal/store"
)

const (
	// unresolvedKey is the lane key of addresses whose domain the name service
	// failed for: they wait for a later round like those that a host put off.
	unresolvedKey = "?"
	// resolveAgain is how many more rounds the name service gets.
	resolveAgain = 2
)

// resolveParcel asks the name service again about the domains of a parcel and
// sorts its addresses anew.
func (e *Engine) resolveParcel(ctx context.Context, lane LaneArgs, p *store.Parcel) error {
	run, err := e.Store.RunByID(ctx, p.RunID)
	if err != nil {
		return err
	}
	rows, err := e.Store.AddressesAt(ctx, run.ListID, p.Ordinals())
	if err != nil {
		return err
	}
	b, err := e.sort(ctx, run, p.Round, domainsOf(rows), rows)
	if err != nil {
		return err
	}
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		ok, err := s.MarkDone(ctx, p.ID, lane.Lane, store.ParcelRecord{})
		if err != nil || !ok {
			return err
		}
		return inOrder(
			func() error { return s.ReplaceRunDomains(ctx, run.ID, b.runDomains()) },
			func() error { return e.recordBatch(ctx, s, tx, b) },
			func() error { return s.FinishIfDone(ctx, run.ID) },
		)
	})
}

// domainsOf lists the domains of rows that come in the order of their domains.
func domainsOf(rows []store.AddressRow) (names []string) {
	for _, r := range rows {
		if len(names) == 0 || names[len(names)-1] != r.Domain {
			names = append(names, r.Domain)
		}
	}
	return names
}
