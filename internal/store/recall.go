package store

import (
	"context"
	"time"

	"varnet/core/address"
	"varnet/core/catalogue"
	"varnet/core/probe"
	"varnet/core/rule"
)

// Recalled is what is known of an address before it is asked about, and by what its workspace has it asked
// about.
type Recalled struct {
	Entries     []catalogue.Entry // as AllCatalogueEntries
	Rules       []rule.Rule       // as OwnRules
	ErasedKey   []byte            // as ErasedKey
	Outcome     KnownOutcome      // of messages sent to it; the zero value where there were none
	Absent      time.Time         // since when its mailbox is absent; zero: it was not found so
	Acceptances []probe.Acceptance
}

// Recall reads all that in one round trip: somebody waits for it.
func (s *Store) Recall(ctx context.Context, workspace int64, a address.Address) (r Recalled, err error) {
	outcomes, absences := map[string]KnownOutcome{}, map[string]time.Time{}
	err = s.ask(ctx,
		catalogueEntriesOf(&r.Entries, workspace),
		row([]any{&r.Rules, &r.ErasedKey}, "SELECT rules, erased_key FROM workspace WHERE id = $1", workspace),
		s.outcomesOf(outcomes, workspace, []string{a.Canonical()}),
		s.absencesOf(absences, workspace, []string{a.Mailbox()}),
		acceptancesOf(&r.Acceptances, a.Domain))
	r.Outcome, r.Absent = outcomes[a.Canonical()], absences[a.Mailbox()]
	return r, err
}
