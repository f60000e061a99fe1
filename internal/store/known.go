package store

import (
	"context"
	"time"
)

// Known is what the runs of a workspace found of the addresses of a list: the freshest result of
// each, of whichever list.
type Known struct {
	found    *reusable
	verdicts []int32 // by address
	// Operators are those of the list's domains.
	Operators map[string]string
}

// Known returns what is known of a list's addresses.
func (s *Store) Known(ctx context.Context, l List) (*Known, error) {
	all, err := s.Verdicts(ctx)
	if err != nil {
		return nil, err
	}
	fresh := make([]Fresh, 0, len(all))
	for id := range all {
		fresh = append(fresh, Fresh{Verdict: id})
	}
	k := &Known{}
	if k.found, err = s.reusable(ctx, Run{WorkspaceID: l.WorkspaceID, ListID: l.ID}, fresh, false); err != nil {
		return nil, err
	}
	k.verdicts = make([]int32, len(k.found.at))
	for i, source := range k.found.sources {
		st, err := s.wholeOf(ctx, source)
		if err != nil {
			return nil, err
		}
		for to := range k.verdicts {
			if int(k.found.from.of(int32(to))) == i+1 {
				k.verdicts[to] = st.Verdict(k.found.there(int32(to)))
			}
		}
	}
	k.Operators, err = s.knownOperators(ctx, l.WorkspaceID, l.ID)
	return k, err
}

// Of returns the verdict of an address, 0 where nothing is known, and when it was found.
func (k *Known) Of(address int32) (verdict int32, at time.Time) {
	if address < 1 || int(address) >= len(k.verdicts) || k.verdicts[address] == 0 {
		return 0, at
	}
	return k.verdicts[address], time.Unix(int64(k.found.at[address]), 0)
}

// Each calls do with every address of which something is known.
func (k *Known) Each(do func(verdict int32, at time.Time)) {
	for a, v := range k.verdicts {
		if v != 0 {
			do(v, time.Unix(int64(k.found.at[a]), 0))
		}
	}
}
