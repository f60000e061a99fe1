package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/ledger"
)

// Party is who sells or buys, as it stands on an invoice.
type Party struct {
	Name      string   `json:"name"`
	Lines     []string `json:"lines"` // of the postal address
	Country   string   `json:"country"`
	VATNumber string   `json:"vatNumber,omitempty"`
}

// AllowancePlan is a plan that workspaces may have.
type AllowancePlan struct {
	ID         int64
	Terms      ledger.Plan
	Workspaces int64 // that have it
	MadeAt     time.Time
}

// AllowancePlans returns all plans that are not archived, by name.
func (s *Store) AllowancePlans(ctx context.Context) ([]AllowancePlan, error) {
	return many[AllowancePlan](ctx, s.db, `SELECT id, terms, (SELECT count(*) FROM allowance WHERE plan_id = plan.id AND kept) AS workspaces, made_at
		FROM plan WHERE archived_at IS NULL ORDER BY lower(name)`)
}

// AllowancePlan returns one plan.
func (s *Store) AllowancePlan(ctx context.Context, id int64) (AllowancePlan, error) {
	return one[AllowancePlan](ctx, s.db, `SELECT id, terms, (SELECT count(*) FROM allowance WHERE plan_id = plan.id AND kept) AS workspaces, made_at FROM plan WHERE id = $1 AND archived_at IS NULL`, id)
}

// ErrPlanName reports a plan of the same name, ErrPlanUsed one that workspaces have or will get.
var (
	ErrPlanName = errors.New("there is a plan of this name already")
	ErrPlanUsed = errors.New("workspaces have this plan, or new ones get it: choose another for them first")
)

// SavePlanTerms records a plan, a new one (0) or changed terms, and returns its number.
func (s *Store) SavePlanTerms(ctx context.Context, id int64, terms ledger.Plan) (int64, error) {
	var err error
	if id == 0 {
		err = s.db.QueryRow(ctx, "INSERT INTO plan (name, terms) VALUES ($1, $2) RETURNING id", terms.Name, terms).Scan(&id)
	} else {
		err = s.changed(ctx, "UPDATE plan SET name = $2, terms = $3 WHERE id = $1 AND archived_at IS NULL", id, terms.Name, terms)
	}
	if Taken(err) {
		err = ErrPlanName
	}
	return id, err
}

// ArchivePlan takes a plan away that no workspace has.
func (s *Store) ArchivePlan(ctx context.Context, id int64) error {
	tag, err := s.db.Exec(ctx, "UPDATE plan SET archived_at = now() WHERE id = $1 AND archived_at IS NULL AND NOT EXISTS (SELECT FROM allowance WHERE plan_id = $1 AND kept) AND NOT EXISTS (SELECT FROM billing WHERE default_plan = $1)", id)
	if err != nil || tag.RowsAffected() == 1 {
		return err
	}
	if _, err := s.AllowancePlan(ctx, id); err != nil {
		return err
	}
	return ErrPlanUsed
}

// Billing is how the installation is paid.
type Billing struct {
	Provider     string // its address; "": nothing can be bought
	SecretSealed []byte
	Seller       *Party
	Taxes        []ledger.TaxRate
	DefaultPlan  *int64 // of new workspaces; nil: no allowance is kept of them
}

// Billing returns it.
func (s *Store) Billing(ctx context.Context) (Billing, error) {
	return one[Billing](ctx, s.db, "SELECT provider, secret_sealed, seller, taxes, default_plan FROM billing")
}

// SetBilling records it.
func (s *Store) SetBilling(ctx context.Context, b Billing) error {
	return s.changed(ctx, "UPDATE billing SET provider = $1, secret_sealed = $2, seller = $3, taxes = $4, default_plan = $5", b.Provider, b.SecretSealed, b.Seller, append([]ledger.TaxRate{}, b.Taxes...), b.DefaultPlan)
}

// Purchase is an amount of checks that is bought.
type Purchase struct {
	ID            int64
	WorkspaceID   int64
	Why           string // top-up, refill or subscription
	Checks        int64
	Currency      string
	Net           int64 // in the smallest unit
	Tax           ledger.Tax
	Total         int64
	Lines         []ledger.Line
	Cheaper       int64 // by so many percent
	Seller, Buyer Party
	State         ledger.State
	Says          string // why it was refused, in the provider's words
	Reference     string // by which the provider knows it
	Payment       string // by which it was paid
	Page          string // where it is paid
	LotID         *int64
	Withdrawn     int64 // checks that were taken back
	PersonID      *int64
	MadeAt        time.Time
	PaidAt        *time.Time
	Invoice       *int64 // the numbers of its papers
	CreditNote    *int64
}

const purchaseQuery = `SELECT p.id, p.workspace_id, p.why, p.checks, p.currency, p.net, p.tax, p.total, p.lines, p.cheaper, p.seller, p.buyer, p.state, p.says, p.reference, p.payment, p.page,
	p.lot_id, p.withdrawn, p.person_id, p.made_at, p.paid_at,
	(SELECT number FROM invoice WHERE purchase_id = p.id AND kind = 'invoice') AS invoice, (SELECT number FROM invoice WHERE purchase_id = p.id AND kind = 'credit note') AS credit_note
	FROM purchase p `

// NewPurchase records a purchase and gives it its ID.
func (s *Store) NewPurchase(ctx context.Context, p *Purchase) error {
	return s.db.QueryRow(ctx, `INSERT INTO purchase (workspace_id, why, checks, currency, net, tax, total, lines, cheaper, seller, buyer, state, reference, person_id, made_at)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15) RETURNING id`,
		p.WorkspaceID, p.Why, p.Checks, p.Currency, p.Net, p.Tax, p.Total, p.Lines, p.Cheaper, p.Seller, p.Buyer, string(p.State), p.Reference, p.PersonID, p.MadeAt).Scan(&p.ID)
}

// SetPurchase records what became of a purchase.
func (s *Store) SetPurchase(ctx context.Context, p Purchase) error {
	return s.changed(ctx, "UPDATE purchase SET state = $2, says = $3, payment = $4, page = $5, lot_id = $6, withdrawn = $7, paid_at = $8 WHERE id = $1",
		p.ID, string(p.State), p.Says, p.Payment, p.Page, p.LotID, p.Withdrawn, p.PaidAt)
}

// Purchase returns one of a workspace, or (0) of any.
func (s *Store) Purchase(ctx context.Context, workspace, id int64) (Purchase, error) {
	return one[Purchase](ctx, s.db, purchaseQuery+"WHERE p.id = $2 AND ($1::bigint = 0 OR p.workspace_id = $1)", workspace, id)
}

// LockPurchase returns the purchase that the provider knows by a reference, and holds it.
func (s *Store) LockPurchase(ctx context.Context, reference string) (Purchase, error) {
	return one[Purchase](ctx, s.db, purchaseQuery+"WHERE p.reference = $1 FOR UPDATE OF p", reference)
}

// Purchases returns a page of purchases, newest first, of one workspace or (0) of all.
func (s *Store) Purchases(ctx context.Context, workspace, before int64, limit int) ([]Purchase, error) {
	return many[Purchase](ctx, s.db, purchaseQuery+"WHERE ($1::bigint = 0 OR p.workspace_id = $1) AND ($2::bigint = 0 OR p.id < $2) ORDER BY p.id DESC LIMIT $3", workspace, before, limit)
}

// Lately counts the purchases of a kind that were made since a time and not refused, and reports whether one was made since
// a later time that is open or was refused.
func (s *Store) Lately(ctx context.Context, workspace int64, why ledger.Why, since, later time.Time) (made int, waits bool, err error) {
	err = s.db.QueryRow(ctx, `SELECT count(*) FILTER (WHERE state <> 'refused'), coalesce(bool_or(state IN ('open', 'refused') AND made_at >= $4), false)
		FROM purchase WHERE workspace_id = $1 AND why = $2 AND made_at >= $3`, workspace, string(why), since, later).Scan(&made, &waits)
	return made, waits, err
}

// The kinds of papers.
const (
	InvoicePaper    = "invoice"
	CreditNotePaper = "credit note"
)

// NewPaper gives a purchase its invoice or credit note, with the next number; none is left out,
// since numbers are taken in the transaction that makes the paper.
func (s *Store) NewPaper(ctx context.Context, kind string, p Purchase, now time.Time) error {
	counter := map[string]string{InvoicePaper: "invoices", CreditNotePaper: "credit_notes"}[kind]
	var next int64
	if err := s.db.QueryRow(ctx, "UPDATE billing SET "+counter+" = "+counter+" + 1 RETURNING "+counter).Scan(&next); err != nil {
		return err
	}
	_, err := s.db.Exec(ctx, "INSERT INTO invoice (kind, number, workspace_id, purchase_id, made_at) VALUES ($1, $2, $3, $4, $5)", kind, next, p.WorkspaceID, p.ID, now)
	return err
}

// PaperMadeAt returns when a purchase got its invoice or credit note; ErrNotFound where it has none.
func (s *Store) PaperMadeAt(ctx context.Context, purchase int64, kind string) (at time.Time, err error) {
	err = s.db.QueryRow(ctx, "SELECT made_at FROM invoice WHERE purchase_id = $1 AND kind = $2", purchase, kind).Scan(&at)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return at, err
}

// PaymentCall is a call of the provider that was taken.
type PaymentCall struct {
	ID, Reference, Kind, Payment, Did string
	At                                time.Time
}

// NewPaymentCall records a call; fresh is false when it was taken before.
func (s *Store) NewPaymentCall(ctx context.Context, c PaymentCall) (fresh bool, err error) {
	tag, err := s.db.Exec(ctx, "INSERT INTO payment_call (id, reference, kind, payment, did, at) VALUES ($1, $2, $3, $4, $5, $6) ON CONFLICT DO NOTHING",
		c.ID, c.Reference, c.Kind, c.Payment, c.Did, c.At)
	return tag.RowsAffected() == 1, err
}

// SetPaymentCall records what a call did.
func (s *Store) SetPaymentCall(ctx context.Context, id, did string) error {
	return s.changed(ctx, "UPDATE payment_call SET did = $2 WHERE id = $1", id, did)
}

// CallsThatDid returns the calls that had an effect.
func (s *Store) CallsThatDid(ctx context.Context, did string) ([]PaymentCall, error) {
	return many[PaymentCall](ctx, s.db, "SELECT id, reference, kind, payment, did, at FROM payment_call WHERE did = $1 ORDER BY at, id LIMIT 100", did)
}

// WorkspaceOfPurchase returns whose the purchase is that the provider knows by a reference.
func (s *Store) WorkspaceOfPurchase(ctx context.Context, reference string) (workspace int64, err error) {
	err = s.db.QueryRow(ctx, "SELECT workspace_id FROM purchase WHERE reference = $1", reference).Scan(&workspace)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return workspace, err
}

// SetPage records where a purchase is paid, which may have been done meanwhile.
func (s *Store) SetPage(ctx context.Context, purchase int64, page string) error {
	return s.changed(ctx, "UPDATE purchase SET page = $2 WHERE id = $1", purchase, page)
}
