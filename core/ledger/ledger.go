// Package ledger keeps the book of an allowance: how many checks of addresses a workspace may
// still make. Checks are granted and bought as lots, set aside by reservations, and charged as
// conclusive findings come in; what was set aside and not used is given back.
//
// Every change is an entry that moves checks from one account to another, so that the balances
// of all accounts together are always 0. The package is arithmetic: it knows no clock and no
// database.
package ledger

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"varnet/core/finding"
	"varnet/core/say"
)

// Account is one side of an entry.
type Account string

// The accounts. Available and Reserved are what a workspace has and are never below 0; the
// others are where checks come from and go to, so that those that give are below 0.
const (
	Available Account = "available"
	Reserved  Account = "reserved"
	Used      Account = "used"
	Granted   Account = "granted"
	Bought    Account = "bought"
	Expired   Account = "expired"
	// Waived are checks that were made beyond what was reserved for them, which nobody pays:
	// what a run can cost at most is said before it begins.
	Waived Account = "waived"
)

// Accounts returns all accounts.
func Accounts() []Account {
	return []Account{Available, Reserved, Used, Granted, Bought, Expired, Waived}
}

// Why is what an entry is for.
type Why string

// What entries are for.
const (
	Grant        Why = "grant"        // by plan or by the installation's owner
	TopUp        Why = "top-up"       // bought by a person
	Refill       Why = "refill"       // bought by itself under a threshold
	Subscription Why = "subscription" // bought each month
	Reserve      Why = "reservation"
	Charge       Why = "charge"
	Uncharge     Why = "charge taken back" // a finding that was conclusive is none any more
	Refund       Why = "refund"
	Expiry       Why = "expiry"
	Waiver       Why = "waiver"
	Withdrawal   Why = "withdrawal" // of what was bought and is paid back
	Correction   Why = "correction" // taken away by the installation's owner
)

// Entry moves an amount of checks, above 0, from an account to another.
type Entry struct {
	From, To    Account
	Amount      int64
	Why         Why
	Reservation int64 // by which it was moved, 0: none
	Lot         int64
}

// Lot is an amount of checks that came at once.
type Lot struct {
	ID        int64
	Source    Account // Granted or Bought
	Left      int64
	ExpiresAt time.Time // zero: never
}

// expires reports whether the lot is over at a time.
func (l Lot) expires(now time.Time) bool { return !l.ExpiresAt.IsZero() && !l.ExpiresAt.After(now) }

// Most is how many checks may come at once, and an allowance may have in all: far from where
// sums overflow.
const Most = 1_000_000_000_000

// Taken is how much of a lot a reservation holds.
type Taken struct {
	Lot    int64
	Amount int64
}

// Reservation is what is set aside for a run or a check.
type Reservation struct {
	ID       int64
	Reserved int64
	Taken    []Taken // in the order in which they are used
}

// Book is the allowance of one workspace: its lots, and the entries that were made since it was
// read.
type Book struct {
	Lots    []Lot
	Entries []Entry
}

// Balance returns how many checks are available.
func (b *Book) Balance() (sum int64) {
	for _, l := range b.Lots {
		sum += l.Left
	}
	return sum
}

// ErrAmount reports an amount that cannot be moved.
var ErrAmount = errors.New("the number of checks must be 1 or more, and at most " + say.Number(Most))

// Add puts a lot into the book, whose Left is its amount.
func (b *Book) Add(l Lot, why Why) error {
	if l.Left <= 0 || l.Left > Most || b.Balance() > Most-l.Left {
		return ErrAmount
	}
	b.Lots = append(b.Lots, l)
	b.enter(Entry{From: l.Source, To: Available, Amount: l.Left, Why: why, Lot: l.ID})
	return nil
}

// Short reports that fewer checks are available than are to be reserved.
type Short struct{ Wanted, Available int64 }

// Missing is how many checks more it takes.
func (s *Short) Missing() int64 { return s.Wanted - s.Available }

func (s *Short) Error() string {
	return fmt.Sprintf("this may take %s, and %s: %s", say.Plural(s.Wanted, "check", "checks"), say.Plural(s.Available, "is available", "are available"), say.Plural(s.Missing(), "more is needed", "more are needed"))
}

// Reserve sets checks aside, those first that expire soonest. With too few it changes nothing
// and returns a *Short. Nothing to reserve is a reservation, too.
func (b *Book) Reserve(id, amount int64, now time.Time) (r Reservation, err error) {
	b.Expire(now)
	if amount < 0 {
		return r, ErrAmount
	}
	if have := b.Balance(); have < amount {
		return r, &Short{Wanted: amount, Available: have}
	}
	r = Reservation{ID: id, Reserved: amount}
	slices.SortStableFunc(b.Lots, sooner)
	for i := range b.Lots {
		l := &b.Lots[i]
		if n := min(amount, l.Left); n > 0 {
			l.Left, amount = l.Left-n, amount-n
			r.Taken = append(r.Taken, Taken{l.ID, n})
			b.enter(Entry{From: Available, To: Reserved, Amount: n, Why: Reserve, Reservation: id, Lot: l.ID})
		}
	}
	return r, nil
}

// sooner orders lots by when they expire, those that never do last, and then as they came.
func sooner(a, b Lot) int {
	if never := a.ExpiresAt.IsZero(); never != b.ExpiresAt.IsZero() {
		if never {
			return 1
		}
		return -1
	}
	return cmp.Or(a.ExpiresAt.Compare(b.ExpiresAt), cmp.Compare(a.ID, b.ID))
}

// Charge charges a reservation with an amount, or, below 0, takes back what it was charged with.
func (b *Book) Charge(reservation, amount int64) {
	switch e := (Entry{From: Reserved, To: Used, Amount: amount, Why: Charge, Reservation: reservation}); {
	case amount < 0:
		e.From, e.To, e.Amount, e.Why = Used, Reserved, -amount, Uncharge
		b.enter(e)
	case amount > 0:
		b.enter(e)
	}
}

// Close ends a reservation that was charged with an amount in all: of what was set aside the rest
// goes back into the lots that it came from, into those that expire last first, and is expired
// where they are. What was charged beyond it is waived. It returns how many checks are owed beyond
// what was set aside, because findings that were charged before are none any more: see Return.
func (b *Book) Close(r Reservation, charged int64, now time.Time) (owed int64) {
	back := r.Reserved - max(charged, 0)
	if back < 0 {
		b.enter(Entry{From: Waived, To: Reserved, Amount: -back, Why: Waiver, Reservation: r.ID})
	}
	for _, t := range slices.Backward(r.Taken) {
		n := min(back, t.Amount)
		if n <= 0 {
			break
		}
		back -= n
		if i := slices.IndexFunc(b.Lots, func(l Lot) bool { return l.ID == t.Lot }); i >= 0 {
			b.Lots[i].Left += n
		}
		b.enter(Entry{From: Reserved, To: Available, Amount: n, Why: Refund, Reservation: r.ID, Lot: t.Lot})
	}
	b.Expire(now)
	return max(-charged, 0)
}

// Return gives back what a closed reservation owes, as a lot of its own, whose Left is its amount.
func (b *Book) Return(l Lot, reservation int64) {
	b.Lots = append(b.Lots, l)
	b.enter(Entry{From: Reserved, To: Available, Amount: l.Left, Why: Refund, Reservation: reservation, Lot: l.ID})
}

// Expire takes the lots out of the book that are over.
func (b *Book) Expire(now time.Time) {
	for i := range b.Lots {
		if l := &b.Lots[i]; l.Left > 0 && l.expires(now) {
			b.enter(Entry{From: Available, To: Expired, Amount: l.Left, Why: Expiry, Lot: l.ID})
			l.Left = 0
		}
	}
}

// Withdraw takes back what is left of a lot, at most an amount, and returns how much that is: what
// was used stays used.
func (b *Book) Withdraw(lot, amount int64, why Why) (taken int64) {
	for i := range b.Lots {
		if l := &b.Lots[i]; l.ID == lot {
			if taken = min(max(amount, 0), l.Left); taken > 0 {
				l.Left -= taken
				b.enter(Entry{From: Available, To: l.Source, Amount: taken, Why: why, Lot: lot})
			}
		}
	}
	return taken
}

func (b *Book) enter(e Entry) { b.Entries = append(b.Entries, e) }

// Balances returns the balance of each account by entries. Their sum is 0.
func Balances(entries []Entry) map[Account]int64 {
	out := map[Account]int64{}
	for _, e := range entries {
		out[e.From] -= e.Amount
		out[e.To] += e.Amount
	}
	return out
}

// Costs are how many checks a conclusive finding costs, by how far it had to be asked for.
type Costs struct {
	Syntax  int64
	Domain  int64
	Mailbox int64
}

// MostCost is how much a finding may cost at most.
const MostCost = 1000

// Check reports costs that cannot be.
func (c Costs) Check() error {
	for _, n := range []int64{c.Syntax, c.Domain, c.Mailbox} {
		if n < 0 || n > MostCost {
			return fmt.Errorf("an address costs from 0 to %s checks, not %d", say.Number(MostCost), n)
		}
	}
	return nil
}

// Times returns the costs of an urgent run.
func (c Costs) Times(n int64) Costs { return Costs{c.Syntax * n, c.Domain * n, c.Mailbox * n} }

// UpTo returns the most that one address can cost when it is asked for up to a depth: syntax,
// domain or mailbox.
func (c Costs) UpTo(depth string) int64 {
	switch depth {
	case "syntax":
		return c.Syntax
	case "domain":
		return max(c.Syntax, c.Domain)
	}
	return max(c.Syntax, c.Domain, c.Mailbox)
}

// Conclusive counts, by how far was asked, findings that say something.
type Conclusive struct{ Syntax, Domain, Mailbox int64 }

// Count adds addresses with a verdict; below 0 they lost it. What is undecided counts for nothing.
func (c *Conclusive) Count(v finding.Verdict, addresses int64) {
	if v.Finding == finding.Undecided || v.Finding == "" {
		return
	}
	switch v.Cause.Stage() {
	case finding.StageSyntax:
		c.Syntax += addresses
	case finding.StageDomain:
		c.Domain += addresses
	default:
		c.Mailbox += addresses
	}
}

// Cost returns what conclusive findings cost.
func (c Costs) Cost(n Conclusive) int64 {
	return c.Syntax*n.Syntax + c.Domain*n.Domain + c.Mailbox*n.Mailbox
}

// Of returns what one address with a verdict costs.
func (c Costs) Of(v finding.Verdict) int64 {
	var n Conclusive
	n.Count(v, 1)
	return c.Cost(n)
}

// Lasts returns until when checks are enough at the pace of some days; ok is false where nothing
// was used, or where they last for longer than ten years.
func Lasts(available, used int64, days int, now time.Time) (until time.Time, ok bool) {
	if used <= 0 || days <= 0 || available < 0 {
		return until, false
	}
	left := float64(available) / float64(used) * float64(days)
	if left > 3650 || math.IsNaN(left) {
		return until, false
	}
	return now.Add(time.Duration(left * 24 * float64(time.Hour))), true
}
