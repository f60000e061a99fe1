package store_test

import (
	"bytes"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/rule"
	"varnet/internal/store"
)

// person makes a person.
func person(t *testing.T, s *store.Store, name string) store.Person {
	t.Helper()
	p, err := s.NewPerson(t.Context(), store.Person{Address: name + "@fernhollow.example", Canonical: name + "@fernhollow.example", Name: name})
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// TestPersons: an address is one person's; what a step of the second factor, a recovery code
// or a ticket is good for, it is good for once, however many come at a time.
func TestPersons(t *testing.T) {
	s, ctx := open(t), t.Context()
	ada := person(t, s, "ada")
	if _, err := s.NewPerson(ctx, store.Person{Address: "Ada@fernhollow.example", Canonical: ada.Canonical, Name: "Another"}); !errors.Is(err, store.ErrTaken) {
		t.Errorf("an address twice: %v", err)
	}
	bea := person(t, s, "bea")
	if err := s.SetAddress(ctx, bea.ID, ada.Address, ada.Canonical); !errors.Is(err, store.ErrTaken) {
		t.Errorf("somebody else's address: %v", err)
	}
	if err := s.SetTOTP(ctx, ada.ID, []byte("sealed"), 100, []string{"a code", "another"}); err != nil {
		t.Fatal(err)
	}
	ticket, err := s.NewTicket(ctx, store.Ticket{Kind: "code", PersonID: &ada.ID, Code: []byte("hash"), ExpiresAt: time.Now().Add(time.Minute)})
	if err != nil {
		t.Fatal(err)
	}
	once := map[string]func() bool{
		"a step of the second factor": func() bool { ok, err := s.UseTOTP(ctx, ada.ID, 101); return ok && err == nil },
		"a recovery code":             func() bool { ok, err := s.UseRecoveryCode(ctx, ada.ID, "a code"); return ok && err == nil },
		"a ticket":                    func() bool { _, err := s.TakeTicket(ctx, "code", ticket); return err == nil },
	}
	for what, take := range once {
		var taken atomic.Int64
		var all sync.WaitGroup
		for range 12 {
			all.Go(func() {
				if take() {
					taken.Add(1)
				}
			})
		}
		if all.Wait(); taken.Load() != 1 {
			t.Errorf("%s was taken %d times", what, taken.Load())
		}
	}
	if ok, err := s.UseTOTP(ctx, ada.ID, 100); ok || err != nil {
		t.Errorf("an earlier step: %v, %v", ok, err)
	}
	if ok, err := s.UseRecoveryCode(ctx, bea.ID, "another"); ok || err != nil {
		t.Errorf("somebody else's recovery code: %v, %v", ok, err)
	}
	if n, err := s.RecoveryCodes(ctx, ada.ID); n != 1 || err != nil {
		t.Errorf("%d recovery codes are left, %v", n, err)
	}
}

// TestTickets: a code has its tries and its time, a device's short code one ticket.
func TestTickets(t *testing.T) {
	s, ctx := open(t), t.Context()
	ticket, err := s.NewTicket(ctx, store.Ticket{Kind: "code", Code: []byte("hash"), ExpiresAt: time.Now().Add(time.Minute)})
	if err != nil {
		t.Fatal(err)
	}
	const most = 5
	var tried atomic.Int64
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			if _, err := s.TryCode(ctx, "code", ticket, most); err == nil {
				tried.Add(1)
			}
		})
	}
	if all.Wait(); tried.Load() != most {
		t.Errorf("%d tries at once, where %d may be", tried.Load(), most)
	}
	if _, err := s.Ticket(ctx, "another kind", ticket); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a ticket of another kind: %v", err)
	}
	old, err := s.NewTicket(ctx, store.Ticket{Kind: "code", ExpiresAt: time.Now().Add(-time.Second)})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.TakeTicket(ctx, "code", old); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a ticket whose time is over: %v", err)
	}
	device := store.Ticket{Kind: "device", Code: []byte("short"), ExpiresAt: time.Now().Add(time.Minute)}
	secret, err := s.NewTicket(ctx, device)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.NewTicket(ctx, device); !errors.Is(err, store.ErrTaken) {
		t.Errorf("a short code twice: %v", err)
	}
	ada := person(t, s, "ada")
	if err := s.LetDeviceIn(ctx, device.Code, ada.ID); err != nil {
		t.Error(err)
	}
	if err := s.LetDeviceIn(ctx, device.Code, ada.ID); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("let in twice: %v", err)
	}
	if in, err := s.Ticket(ctx, "device", secret); err != nil || in.PersonID == nil || *in.PersonID != ada.ID {
		t.Errorf("%+v, %v", in, err)
	}
	if err := s.ForgetPersonal(ctx); err != nil {
		t.Error(err)
	}
}

// TestTeams: of two owners who leave at once one stays; who leaves works nowhere; what a
// workspace may is its own.
func TestTeams(t *testing.T) {
	s, ctx := open(t), t.Context()
	w, other := workspace(t, s, "ours"), workspace(t, s, "ours") // names are nobody's own
	ada, bea := person(t, s, "ada"), person(t, s, "bea")
	for _, p := range []store.Person{ada, bea} {
		if err := s.Join(ctx, w, p.ID, "owner"); err != nil {
			t.Fatal(err)
		}
	}
	session, err := s.NewSession(ctx, store.Session{PersonID: ada.ID, Place: here})
	if err != nil {
		t.Fatal(err)
	}
	if in, err := s.SessionOf(ctx, session, here); err != nil || in.WorkspaceID == nil || *in.WorkspaceID != w || *in.Role != "owner" {
		t.Errorf("%+v, %v", in, err)
	}
	if err := s.EnterWorkspace(ctx, 1, ada.ID, other); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("entered a workspace of others: %v", err)
	}
	var left atomic.Int64
	var both sync.WaitGroup
	for _, p := range []store.Person{ada, bea} {
		both.Go(func() {
			err := s.ChangeTeam(ctx, w, func(s *store.Store, _ pgx.Tx, owners int) error {
				if owners == 1 {
					return errors.New("the last")
				}
				return s.RemoveMember(ctx, w, p.ID)
			})
			if err == nil {
				left.Add(1)
			}
		})
	}
	if both.Wait(); left.Load() != 1 {
		t.Errorf("%d owners left at once", left.Load())
	}
	if m, err := s.Members(ctx, w); err != nil || len(m) != 1 {
		t.Errorf("%+v, %v", m, err)
	}
	if err := s.SetOwnRules(ctx, w, []rule.Rule{{Of: rule.OfDomain, Pattern: "*.example", Depth: rule.Never}}); err != nil {
		t.Error(err)
	}
	if own, err := s.OwnRules(ctx, other); err != nil || len(own) != 0 {
		t.Errorf("another workspace's rules: %+v, %v", own, err)
	}
	most := int64(10)
	if err := s.SetMaxRows(ctx, w, &most); err != nil {
		t.Error(err)
	}
	if left, limit, err := s.RowsLeft(ctx, w); err != nil || left == nil || *left != most || limit == nil || *limit != most {
		t.Errorf("%v of %v left, %v", left, limit, err)
	}
	if left, limit, err := s.RowsLeft(ctx, other); left != nil || limit != nil || err != nil {
		t.Errorf("of any number %v of %v left, %v", left, limit, err)
	}
	used, err := s.Usages(ctx)
	if err != nil || len(used) != 2 || used[0].Members+used[1].Members != 1 {
		t.Errorf("%+v, %v", used, err)
	}
}

// TestAudit: entries written at once are one chain; none goes before its time, and the latest
// never.
func TestAudit(t *testing.T) {
	s, ctx := open(t), t.Context()
	var all sync.WaitGroup
	const writers, each = 8, 12
	old := time.Now().AddDate(0, 0, -500).UnixMicro()
	for w := range writers {
		all.Go(func() {
			for n := range each {
				at := time.Now().UnixMicro()
				if n < 3 {
					at = old
				}
				if err := s.AppendAudit(ctx, fmt.Sprintf(`{"at":%d,"workspace":%d,"action":"try","result":"done"}`, at, w+1)); err != nil {
					t.Error(err)
				}
			}
		})
	}
	all.Wait()
	n, before := int64(0), make([]byte, 32)
	err := s.EachAudit(ctx, store.AuditFilter{}, func(e store.AuditEntry) error {
		if n++; e.Seq != n || !bytes.Equal(e.Before, before) || !bytes.Equal(e.Hash, store.AuditHash(before, e.Body)) {
			t.Errorf("entry %d does not follow on the one before it", e.Seq)
		}
		before = e.Hash
		return nil
	})
	if err != nil || n != writers*each {
		t.Errorf("%d entries, %v", n, err)
	}
	one := int64(1)
	if got, err := s.Audit(ctx, store.AuditFilter{Workspace: &one}, 100); err != nil || len(got) != each {
		t.Errorf("of one workspace there are %d, %v", len(got), err)
	}
	gone, err := s.ForgetAudit(ctx)
	if err != nil || gone != writers*3 {
		t.Errorf("%d entries were forgotten, %v", gone, err)
	}
	if again, err := s.ForgetAudit(ctx); err != nil || again != 0 {
		t.Errorf("%d more, %v", again, err)
	}
}
