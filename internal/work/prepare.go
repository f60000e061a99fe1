package work

import (
	"context"
	"strings"

	"github.com/jackc/pgx/v5"

	"varnet/core/say"
	"varnet/internal/connect"
	"varnet/internal/decide"
	"varnet/internal/store"
	"varnet/internal/writeback"
)

// prepare has the place make what is needed, and writes the items into the journal.
func (a *writing) prepare(ctx context.Context) error {
	e := a.engine
	d, err := a.decider(ctx)
	if err != nil {
		return err
	}
	if err := a.asPlanned(ctx, d); err != nil {
		return err
	}
	for step := range a.b.Spec.Steps {
		target, err := a.place.Begin(ctx, a.order(step))
		if err != nil {
			return err
		}
		if target != a.b.Targets[step] {
			a.b.Targets[step] = target
			if err := e.Store.SetWriteBack(ctx, a.b, store.WritePreparing); err != nil {
				return err
			}
		}
	}
	members, err := a.members(ctx)
	if err != nil {
		return err
	}
	return e.Store.Bulk().InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		if err := s.DropItems(ctx, a.b.ID); err != nil {
			return err
		}
		if err := a.items(ctx, s, d, members); err != nil {
			return err
		}
		a.b.State = store.WriteWriting
		return s.SetWriteBack(ctx, a.b, store.WritePreparing)
	})
}

// decider decides on the rows of the run.
func (a *writing) decider(ctx context.Context) (*decide.Decider, error) {
	s := a.engine.Store
	run, err := s.Run(ctx, a.b.WorkspaceID, a.b.RunID)
	if err != nil {
		return nil, err
	}
	l, err := s.List(ctx, a.b.WorkspaceID, run.ListID)
	if err != nil {
		return nil, err
	}
	return decide.New(ctx, s.Bulk(), run, l, run.Policy)
}

// asPlanned holds what the decisions come to now against what a person has seen before it began.
func (a *writing) asPlanned(ctx context.Context, d *decide.Decider) error {
	if len(a.b.Planned) == 0 {
		return nil
	}
	now, err := writeback.Count(ctx, a.engine.Store.Bulk(), d, a.b.Spec, 0)
	if err != nil {
		return err
	}
	for step, seen := range a.b.Planned {
		if n := now.Steps[step].Contacts; n != seen {
			return connect.Troublef("The decisions have changed since the draft was seen: step %d would be for %s instead of %s. Nothing was written. Draft it again.",
				step+1, say.Plural(n, "contact", "contacts"), say.Number(seen))
		}
	}
	return nil
}

// group is who is in a collection that is brought up to date.
type group struct {
	all  []connect.Item
	in   map[string]int // by key, or by address
	want []bool
}

func (g *group) find(key string, addresses []string) (int, bool) {
	if i, ok := g.in["k "+key]; ok {
		return i, true
	}
	for _, a := range addresses {
		if i, ok := g.in["a "+strings.ToLower(a)]; ok && a != "" {
			return i, true
		}
	}
	return 0, false
}

// members are who is in the collections that are brought up to date, by step.
func (a *writing) members(ctx context.Context) (map[int]*group, error) {
	out := map[int]*group{}
	for step, s := range a.b.Spec.Steps {
		if !s.Refresh || s.Act != string(connect.Collect) {
			continue
		}
		all, err := a.place.Members(ctx, a.order(step))
		if err != nil {
			return nil, err
		}
		g := &group{all: all, in: map[string]int{}, want: make([]bool, len(all))}
		for i, it := range all {
			if it.Key != "" {
				g.in["k "+it.Key] = i
			} else if len(it.Addresses) > 0 {
				g.in["a "+strings.ToLower(it.Addresses[0])] = i
			}
		}
		out[step] = g
	}
	return out, nil
}

// items writes the items into the journal. Of a collection that is brought up to date they are
// those who come in and those who go.
func (a *writing) items(ctx context.Context, s *store.Store, d *decide.Decider, members map[int]*group) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	found, failed := make(chan store.WriteItem, 1000), make(chan error, 1)
	go func() {
		defer close(found)
		send := func(i store.WriteItem) error {
			select {
			case found <- i:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		failed <- a.each(ctx, d, members, send)
	}()
	_, err := s.AddItems(ctx, a.b.ID, func() (*store.WriteItem, error) {
		i, more := <-found
		if !more {
			return nil, <-failed
		}
		return &i, nil
	})
	return err
}

func (a *writing) each(ctx context.Context, d *decide.Decider, members map[int]*group, send func(store.WriteItem) error) error {
	last := 0
	err := writeback.Each(ctx, a.engine.Store.Bulk(), d, a.b.Spec, func(i store.WriteItem) error {
		last = max(last, i.Number)
		if g := members[i.Step]; g != nil {
			if at, in := g.find(i.Key, i.Addresses); in {
				g.want[at] = true
				return nil
			}
		}
		return send(i)
	})
	if err != nil {
		return err
	}
	for step, g := range members {
		for n, it := range g.all {
			if g.want[n] {
				continue
			}
			addresses := it.Addresses
			if addresses == nil {
				addresses = []string{}
			}
			last++
			if err := send(store.WriteItem{Step: step, Number: last, Key: it.Key, Addresses: addresses}); err != nil {
				return err
			}
		}
	}
	return nil
}
