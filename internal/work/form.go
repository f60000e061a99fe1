package work

import (
	"context"
	"sync"
	"time"

	"varnet/core/address"
	"varnet/core/catalogue"
	"varnet/core/finding"
	core "varnet/core/form"
	"varnet/internal/allowance"
	"varnet/internal/form"
	"varnet/internal/store"
)

// formCatalogues remembers the catalogue by which forms of a workspace look for typing errors: the
// domains that its lists have most of are among those that may have been meant.
type formCatalogues struct {
	mu          sync.Mutex
	byWorkspace map[int64]rememberedCatalogue
}

// formCatalogueLife is for how long one is remembered.
const formCatalogueLife = 10 * time.Minute

func (e *Engine) formCatalogue(ctx context.Context, workspace int64) (*catalogue.Catalogue, error) {
	k := &e.formCatalogues
	k.mu.Lock()
	defer k.mu.Unlock()
	if known := k.byWorkspace[workspace]; known.Catalogue != nil && time.Since(known.at) < formCatalogueLife {
		return known.Catalogue, nil
	}
	c, err := e.Catalogue(ctx, workspace)
	if err != nil {
		return nil, err
	}
	frequent, err := e.Store.FrequentDomainsOf(ctx, workspace, catalogue.Frequent)
	if err != nil {
		return nil, err
	}
	if k.byWorkspace == nil || len(k.byWorkspace) > mostFormCatalogues {
		k.byWorkspace = map[int64]rememberedCatalogue{}
	}
	k.byWorkspace[workspace] = rememberedCatalogue{Catalogue: c.Beside(frequent), workspace: workspace, at: time.Now()}
	return k.byWorkspace[workspace].Catalogue, nil
}

// mostFormCatalogues bounds how many are remembered.
const mostFormCatalogues = 1000

// checkForForm checks an address that a visitor typed, on the account of the workspace. Where
// nothing speaks for the address, a domain that is written nearly the same was probably meant.
func (e *Engine) checkForForm(ctx context.Context, workspace int64, by store.By, a address.Address) (form.Checked, error) {
	reserve := func(ctx context.Context, addresses int) (store.Reservation, error) {
		if _, kept, err := allowance.Kept(ctx, e.Store, workspace); err != nil || !kept {
			return store.Reservation{}, err
		}
		return e.Allowance.Single(ctx, workspace, by, addresses)
	}
	found, err := e.CheckPaid(ctx, workspace, reserve, []string{a.Mailbox()})
	if err != nil {
		return form.Checked{}, err
	}
	c := found[0]
	out := form.Checked{Suggestion: c.Suggestion, Absent: c.Verdict.Cause == finding.MailboxAbsent || c.Verdict.Cause == finding.MailboxDisabled}
	if out.Suggestion == "" && c.Verdict.Finding != finding.Deliverable && c.Verdict.Finding != finding.CatchAll {
		known, err := e.formCatalogue(ctx, workspace)
		if err != nil {
			return out, err
		}
		out.Suggestion = known.Suggest(a.Domain)
	}
	out.Answer = core.Of(c.Verdict, out.Suggestion != "")
	return out, nil
}
