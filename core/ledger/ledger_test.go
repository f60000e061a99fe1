package ledger_test

import (
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"varnet/core/finding"
	"varnet/core/ledger"
)

var noon = time.Date(2026, 11, 2, 12, 0, 0, 0, time.UTC)

// A list of 100 addresses is verified: 100 checks are set aside, 90 charged, 10 given back.
func ExampleBook() {
	b := ledger.Book{}
	_ = b.Add(ledger.Lot{ID: 1, Source: ledger.Granted, Left: 150}, ledger.Grant)
	r, _ := b.Reserve(7, 100, noon)
	b.Charge(7, 90)
	b.Close(r, 90, noon)
	fmt.Println(b.Balance(), ledger.Balances(b.Entries))
	_, err := b.Reserve(8, 61, noon)
	fmt.Println(err)
	// Output:
	// 60 map[available:60 granted:-150 reserved:0 used:90]
	// this may take 61 checks, and 60 are available: 1 more is needed
}

// token is one check of the naive model, which has each by itself.
type token struct {
	lot     int64
	expires time.Time
	held    int64 // by which reservation, 0 none
	gone    ledger.Account
}

// model is the allowance as somebody would do it with one slip of paper a check.
type model struct {
	tokens   []*token
	open     map[int64]*held
	used     int64 // checks that were charged, waived ones too
	waived   int64
	given    map[ledger.Account]int64
	lastLot  int64
	payments map[int64]*ledger.Purchase
	lotOf    map[int64]int64 // by the purchase
}

type held struct {
	tokens  []*token
	charged int64
}

func (m *model) free() (out []*token) {
	for _, t := range m.tokens {
		if t.held == 0 && t.gone == "" {
			out = append(out, t)
		}
	}
	return out
}

// prune forgets what is gone for good, so that the model stays quick.
func (m *model) prune() {
	m.tokens = slices.DeleteFunc(m.tokens, func(t *token) bool { return t.gone != "" })
}

func (m *model) add(lot, n int64, expires time.Time, from ledger.Account) {
	m.given[from] -= n
	for range n {
		m.tokens = append(m.tokens, &token{lot: lot, expires: expires})
	}
}

func (m *model) expire(now time.Time) {
	for _, t := range m.free() {
		if !t.expires.IsZero() && !t.expires.After(now) {
			t.gone = ledger.Expired
			m.given[ledger.Expired]++
		}
	}
}

// reserve takes the slips that expire soonest, or none.
func (m *model) reserve(id, n int64, now time.Time) bool {
	m.expire(now)
	free := m.free()
	if int64(len(free)) < n {
		return false
	}
	slices.SortStableFunc(free, func(a, b *token) int {
		if a.expires.Equal(b.expires) {
			return int(a.lot - b.lot)
		}
		if a.expires.IsZero() || !b.expires.IsZero() && b.expires.Before(a.expires) {
			return 1
		}
		return -1
	})
	for _, t := range free[:n] {
		t.held = id
	}
	m.open[id] = &held{tokens: free[:n:n]}
	return true
}

func (m *model) close(id int64, now time.Time) {
	h := m.open[id]
	for i, t := range h.tokens {
		if t.held = 0; int64(i) < h.charged {
			t.gone = ledger.Used
		}
	}
	m.used, m.waived = m.used+h.charged, m.waived+max(0, h.charged-int64(len(h.tokens)))
	delete(m.open, id)
	m.expire(now)
}

// TestModel has 100,000 random operations done by the book and by the naive model, and holds the
// balance of every account and every lot against it.
func TestModel(t *testing.T) {
	t.Parallel()
	seed := uint64(time.Now().UnixNano())
	t.Log("seed", seed)
	rnd := rand.New(rand.NewPCG(seed, 1))
	m := &model{open: map[int64]*held{}, given: map[ledger.Account]int64{}, payments: map[int64]*ledger.Purchase{}, lotOf: map[int64]int64{}}
	b, balances := &ledger.Book{}, map[ledger.Account]int64{}
	reservations := map[int64]ledger.Reservation{}
	now, next := noon, int64(0)
	add := func(n int64, from ledger.Account, why ledger.Why) {
		m.lastLot++
		l := ledger.Lot{ID: m.lastLot, Source: from, Left: n}
		if rnd.IntN(2) == 0 {
			l.ExpiresAt = now.Add(time.Duration(1+rnd.IntN(72)) * time.Hour)
		}
		if err := b.Add(l, why); err != nil {
			t.Fatal(err)
		}
		m.add(l.ID, n, l.ExpiresAt, from)
	}
	pay := func(id int64, p *ledger.Purchase, c ledger.Call) {
		effect, err := p.Take(c)
		if err != nil {
			t.Fatal(err)
		}
		switch effect {
		case ledger.Credit:
			if m.lotOf[id] != 0 {
				t.Fatalf("purchase %d is credited twice", id)
			}
			add(p.Total, ledger.Bought, ledger.TopUp)
			m.lotOf[id] = m.lastLot
		case ledger.TakeBack:
			b.Withdraw(m.lotOf[id], p.Total, ledger.Withdrawal)
			for _, x := range m.free() {
				if x.lot == m.lotOf[id] {
					x.gone = ledger.Bought
					m.given[ledger.Bought]++
				}
			}
		}
	}
	anyOpen := func() int64 {
		ids := slices.Sorted(maps.Keys(m.open))
		if len(ids) == 0 {
			return 0
		}
		return ids[rnd.IntN(len(ids))]
	}
	const operations = 100_000
	short, paidBack, returned := 0, 0, 0
	for op := range operations {
		switch rnd.IntN(15) {
		case 0: // a grant
			add(int64(1+rnd.IntN(40)), ledger.Granted, ledger.Grant)
		case 1, 2, 3: // a start, also of asking again
			next++
			n := rnd.Int64N(b.Balance()*5/4 + 20)
			before := len(b.Entries)
			r, err := b.Reserve(next, n, now)
			if ok := m.reserve(next, n, now); ok != (err == nil) {
				t.Fatalf("operation %d: %d are reserved: %v, and by the model %v", op, n, err, ok)
			}
			var s *ledger.Short
			if errors.As(err, &s) {
				short++
				if s.Available+s.Missing() != n || slices.ContainsFunc(b.Entries[before:], func(e ledger.Entry) bool { return e.Why == ledger.Reserve }) {
					t.Fatalf("operation %d: too little, %+v, and something was taken", op, s)
				}
				continue
			}
			reservations[next] = r
		case 4, 5, 6, 7: // findings, some of which are taken back, some beyond what was set aside
			if id := anyOpen(); id != 0 {
				h := m.open[id]
				n := int64(rnd.IntN(80)) - 5
				if room := int64(len(h.tokens)) - h.charged; rnd.IntN(50) > 0 {
					n = min(n, room)
				}
				n = max(n, -h.charged-2) // also what was charged before
				b.Charge(id, n)
				h.charged += n
			}
		case 8, 9, 10, 11: // the end, by finishing or stopping
			if id := anyOpen(); id != 0 {
				owed := b.Close(reservations[id], m.open[id].charged, now)
				m.close(id, now)
				if owed > 0 {
					m.lastLot++
					b.Return(ledger.Lot{ID: m.lastLot, Source: ledger.Granted, Left: owed}, id)
					m.add(m.lastLot, owed, time.Time{}, "")
					returned++
				}
			}
		case 12: // a purchase, whose calls come twice and in any order
			id := int64(len(m.payments) + 1)
			p := &ledger.Purchase{State: ledger.Open, Total: int64(1 + rnd.IntN(50)), Currency: "EUR"}
			m.payments[id] = p
			calls := []ledger.Call{{"p1", ledger.CallPaid, p.Total, "EUR"}, {"p1", ledger.CallPaid, p.Total, "EUR"}, {"p2", ledger.CallRefused, p.Total, "EUR"}}
			if rnd.IntN(4) == 0 {
				calls = append(calls, ledger.Call{"p1", ledger.CallChargedBack, p.Total, "EUR"})
				paidBack++
			}
			rnd.Shuffle(len(calls), func(i, j int) { calls[i], calls[j] = calls[j], calls[i] })
			for _, c := range calls {
				pay(id, p, c)
			}
		case 13: // a refund of an earlier purchase
			if n := int64(len(m.payments)); n > 0 {
				id := 1 + rnd.Int64N(n)
				if p := m.payments[id]; p.State == ledger.Paid {
					pay(id, p, ledger.Call{Payment: p.Payment, Kind: ledger.CallPaidBack, Amount: p.Total, Currency: "EUR"})
				}
			}
		case 14: // time passes; or a crash: what was done since is lost, and done again later
			if rnd.IntN(4) == 0 {
				crashed := ledger.Book{Lots: slices.Clone(b.Lots)}
				_, _ = crashed.Reserve(-1, int64(rnd.IntN(60)), now)
				continue
			}
			now = now.Add(time.Duration(rnd.IntN(600)) * time.Minute)
			b.Expire(now)
			m.expire(now)
		}
		for account, n := range ledger.Balances(b.Entries) {
			balances[account] += n
		}
		b.Entries = nil
		hold(t, op, m, b, balances)
		if op%100 == 0 {
			m.prune()
		}
	}
	if short == 0 || returned == 0 || paidBack == 0 || m.waived == 0 || m.given[ledger.Expired] == 0 {
		t.Errorf("of %d operations %d were short, %d paid back, %d waived and %d expired: that tries too little", operations, short, paidBack, m.waived, m.given[ledger.Expired])
	}
}

// hold holds the balances of the book against those of the model.
func hold(t *testing.T, op int, m *model, b *ledger.Book, balances map[ledger.Account]int64) {
	t.Helper()
	want, sum := map[ledger.Account]int64{ledger.Used: m.used, ledger.Waived: -m.waived}, int64(0)
	maps.Copy(want, m.given)
	lots := map[int64]int64{}
	for _, x := range m.free() {
		want[ledger.Available]++
		lots[x.lot]++
	}
	for _, h := range m.open {
		want[ledger.Reserved] += int64(len(h.tokens)) - h.charged
		want[ledger.Used] += h.charged
	}
	for _, a := range ledger.Accounts() {
		sum += balances[a]
		if balances[a] != want[a] {
			t.Fatalf("operation %d: %s is %d, and by the model %d", op, a, balances[a], want[a])
		}
	}
	if sum != 0 || balances[ledger.Available] < 0 || b.Balance() != balances[ledger.Available] {
		t.Fatalf("operation %d: the accounts add up to %d, available are %d, and the lots hold %d", op, sum, balances[ledger.Available], b.Balance())
	}
	for _, l := range b.Lots {
		if l.Left != lots[l.ID] {
			t.Fatalf("operation %d: lot %d has %d left, and by the model %d", op, l.ID, l.Left, lots[l.ID])
		}
	}
	if op%100 == 0 { // a lot that is empty may be given back to as long as a reservation is open
		b.Lots = slices.DeleteFunc(b.Lots, func(l ledger.Lot) bool { return l.Left == 0 && !m.holds(l.ID) })
	}
}

// holds reports whether an open reservation holds checks of a lot.
func (m *model) holds(lot int64) bool {
	for _, h := range m.open {
		if slices.ContainsFunc(h.tokens, func(t *token) bool { return t.lot == lot }) {
			return true
		}
	}
	return false
}

// TestAmounts: what would break sums is refused and changes nothing.
func TestAmounts(t *testing.T) {
	b := ledger.Book{}
	for _, n := range []int64{0, -1, ledger.Most + 1, -1 << 63, 1<<63 - 1} {
		if err := b.Add(ledger.Lot{ID: 1, Source: ledger.Granted, Left: n}, ledger.Grant); !errors.Is(err, ledger.ErrAmount) {
			t.Errorf("%d is added: %v", n, err)
		}
		if _, err := b.Reserve(1, n, noon); n != 0 && err == nil {
			t.Errorf("%d is reserved", n)
		}
	}
	if err := b.Add(ledger.Lot{ID: 1, Source: ledger.Granted, Left: ledger.Most}, ledger.Grant); err != nil {
		t.Error(err)
	}
	if err := b.Add(ledger.Lot{ID: 2, Source: ledger.Granted, Left: 1}, ledger.Grant); !errors.Is(err, ledger.ErrAmount) {
		t.Error("an allowance may grow without end")
	}
	if n := b.Withdraw(1, -5, ledger.Withdrawal); n != 0 || b.Balance() != ledger.Most {
		t.Errorf("%d were withdrawn by a negative number", n)
	}
}

// TestSoonestFirst: what expires soonest is used first, and what comes back goes to what lasts longest.
func TestSoonestFirst(t *testing.T) {
	b := ledger.Book{}
	for i, days := range []int{0, 30, 10} {
		l := ledger.Lot{ID: int64(i + 1), Source: ledger.Granted, Left: 10}
		if days > 0 {
			l.ExpiresAt = noon.AddDate(0, 0, days)
		}
		_ = b.Add(l, ledger.Grant)
	}
	r, err := b.Reserve(1, 25, noon)
	if want := []ledger.Taken{{3, 10}, {2, 10}, {1, 5}}; err != nil || !slices.Equal(r.Taken, want) {
		t.Fatalf("taken %v, not %v (%v)", r.Taken, want, err)
	}
	b.Close(r, 12, noon.AddDate(0, 0, 31))
	if b.Balance() != 10 {
		t.Errorf("%d are left, not 10: 5 of the lot that stays came back, 8 of one that is over did not", b.Balance())
	}
}

func TestCosts(t *testing.T) {
	c := ledger.Costs{Syntax: 0, Domain: 1, Mailbox: 3}
	for cause, want := range map[finding.Cause]int64{finding.MailboxAccepted: 3, finding.MailboxAbsent: 3, finding.MailboxAnyAccepted: 3, finding.RuleDepth: 0} {
		if got := c.Of(finding.ConcludeFrom(cause, nil)); got != want {
			t.Errorf("%s costs %d, not %d", cause, got, want)
		}
	}
	if c.UpTo("syntax") != 0 || c.UpTo("domain") != 1 || c.UpTo("mailbox") != 3 || c.Times(2).UpTo("mailbox") != 6 {
		t.Error("the most that an address costs is not the dearest stage up to its depth")
	}
}
