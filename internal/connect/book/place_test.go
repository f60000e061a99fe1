package book_test

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"

	"varnet/internal/connect"
	"varnet/internal/connect/book"
	"varnet/internal/connect/connecttest"
)

// members is a book whose path has characters that paths write otherwise.
const members = home + "members 50% & more?/"

func cardOf(n int) string { return fmt.Sprintf("%sp%03d@home.vcf", members, n) }

func text(n int) string {
	return fmt.Sprintf("BEGIN:VCARD\r\nVERSION:3.0\r\nUID:p%d\r\nFN:Member %[1]d\r\nEMAIL:p%[1]d@fernhollow.example\r\nX-Bed:12; \\,x\r\nEND:VCARD\r\n", n)
}

// newLibrary is a server with a book of so many cards.
func newLibrary(t *testing.T, cards int) (*server, connect.Taker) {
	s := newServer(t)
	s.books[members] = "Members"
	for n := range cards {
		s.put(cardOf(n), text(n))
	}
	return s, s.open(t)
}

func contacts(t *testing.T, p connect.Place, collection, from string) (keys, marks []string) {
	t.Helper()
	err := p.Contacts(t.Context(), collection, from, func(page connect.Page) error {
		for _, c := range page.Contacts {
			keys = append(keys, c.Key)
		}
		marks = append(marks, page.Next)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return keys, marks
}

// TestBooks: books are listed with what is in them, also by a server that does not know the report of changes.
func TestBooks(t *testing.T) {
	for _, noSync := range []int{0, http.StatusForbidden, http.StatusNotImplemented, http.StatusBadRequest} {
		s, p := newLibrary(t, 3)
		s.books[home+"unnamed/"], s.noSync = "", noSync
		all, err := p.Collections(t.Context())
		slices.SortFunc(all, func(a, b connect.Collection) int { return strings.Compare(a.ID, b.ID) })
		want := []connect.Collection{{ID: members, Name: "Members", Kind: "address book", Contacts: 3}, {ID: home + "unnamed/", Name: "unnamed", Kind: "address book"}}
		if err != nil || !slices.Equal(all, want) {
			t.Errorf("%d: %v: %+v", noSync, err, all)
		}
		if said, err := p.Test(t.Context()); err != nil || !strings.HasSuffix(said, " with 2 address books.") {
			t.Errorf("%d: %q, %v", noSync, said, err)
		}
	}
}

// TestContacts: cards are read in the order of their paths, a hundred at a time, and from any of them on.
func TestContacts(t *testing.T) {
	for _, noSync := range []int{0, http.StatusMethodNotAllowed} {
		s, p := newLibrary(t, 205)
		s.noSync = noSync
		keys, marks := contacts(t, p, members, "")
		if len(keys) != 205 || keys[204] != cardOf(204) || !slices.Equal(marks, []string{cardOf(99), cardOf(199), cardOf(204)}) {
			t.Errorf("%d contacts, marks %q", len(keys), marks)
		}
		s.put(cardOf(199), "") // where it went on is gone meanwhile
		if keys, _ = contacts(t, p, members, cardOf(199)); len(keys) != 5 || keys[0] != cardOf(200) {
			t.Errorf("from a mark that is gone: %q", keys)
		}
	}
}

// TestChanges: what has changed is told by the server's token; where it does not take that any more, or has none, the whole
// is read.
func TestChanges(t *testing.T) {
	s, taker := newLibrary(t, 4)
	p := taker.(connect.Changes)
	token, err := p.Token(t.Context(), members)
	if err != nil || token == "" {
		t.Fatal(token, err)
	}
	s.put(cardOf(1), "")
	s.put(cardOf(2), strings.Replace(text(2), "Member 2", "Somebody", 1))
	s.put(cardOf(9), text(9))
	d, ok, err := p.Since(t.Context(), members, token)
	if err != nil || !ok || !slices.Equal(d.Gone, []string{cardOf(1)}) || len(d.Changed) != 2 || d.Changed[0].Key != cardOf(2) || d.Changed[1].Key != cardOf(9) {
		t.Errorf("%t, %v: %+v", ok, err, d)
	}
	if d, ok, err = p.Since(t.Context(), members, d.Token); err != nil || !ok || len(d.Changed)+len(d.Gone) != 0 {
		t.Errorf("nothing new: %t, %v: %+v", ok, err, d)
	}
	for _, old := range []string{"urn:changes:9000", "urn:other", ""} {
		if _, ok, err := p.Since(t.Context(), members, old); ok || err != nil {
			t.Errorf("%q: %t, %v", old, ok, err)
		}
	}
	s.noSync = http.StatusForbidden
	if token, err := p.Token(t.Context(), members); token != "" || err != nil {
		t.Errorf("%q, %v", token, err)
	}
}

// TestThereAndBack: a field or a category that is written and taken back leaves the card as it was, byte for byte.
func TestThereAndBack(t *testing.T) {
	for _, o := range []connect.Order{{Act: connect.SetField, Name: "Decision", Collection: members}, {Act: connect.Tag, Name: "kept", Collection: members}} {
		s, p := newLibrary(t, 2)
		if target, err := p.Begin(t.Context(), o); target != "" || err != nil {
			t.Fatal(target, err)
		}
		for range 2 { // what is written already is left
			if errs := connecttest.Write(t, p, o, connecttest.Items(t, p, o, connect.Present, cardOf(0), cardOf(1))); errs[0] != nil || errs[1] != nil {
				t.Errorf("%s: %v", o.Act, errs)
			}
		}
		if got := s.card(cardOf(0)); got == text(0) || !strings.Contains(got, "X-Bed:12; \\,x\r\n") || s.etags[cardOf(0)] != 2 {
			t.Errorf("%s: the card is %q after %d writes", o.Act, got, s.etags[cardOf(0)]-1)
		}
		now, err := p.Now(t.Context(), o, []connect.Item{{Key: cardOf(0)}, {Key: cardOf(7)}})
		if err != nil || now[0].Value != connect.Present || now[1].Found {
			t.Errorf("%s: %+v, %v", o.Act, now, err)
		}
		connecttest.Write(t, p, o, connecttest.Items(t, p, o, "", cardOf(0), cardOf(1)))
		if got := s.card(cardOf(0)); got != text(0) {
			t.Errorf("%s: the card is %q", o.Act, got)
		}
	}
}

// TestChangedMeanwhile: a card that somebody changed since it was read is left, and so is one that is gone.
func TestChangedMeanwhile(t *testing.T) {
	s, p := newLibrary(t, 3)
	o := connect.Order{Act: connect.SetField, Name: "Decision", Collection: members}
	given := connecttest.Items(t, p, o, "keep", cardOf(0), cardOf(1), cardOf(2), cardOf(8))
	other := strings.Replace(text(0), "Member 0", "Somebody", 1)
	s.put(cardOf(0), other)
	s.put(cardOf(1), "")
	errs := connecttest.Write(t, p, o, given)
	for i := range errs {
		var skipped *connect.Skipped
		if i == 2 && errs[i] != nil || i != 2 && (!errors.As(errs[i], &skipped) || skipped.Why != "it was changed at this moment") {
			t.Errorf("%d: %v", i, errs[i])
		}
	}
	if s.card(cardOf(0)) != other || s.card(cardOf(1)) != "" {
		t.Errorf("the cards are %q and %q", s.card(cardOf(0)), s.card(cardOf(1)))
	}
}

// TestSecondBook: a second book is made under a path of its own, whatever its name, takes copies, tells whose they are, and
// goes.
func TestSecondBook(t *testing.T) {
	s, p := newLibrary(t, 3)
	paths := map[string]string{}
	for _, name := range []string{"Kept, now & then", "kept now then", "Семена", "豆", `"<>"`} {
		o := connect.Order{Act: connect.Collect, Name: name, Collection: members}
		target, err := p.Begin(t.Context(), o)
		if err != nil || s.books[target] != name || paths[target] != "" {
			t.Errorf("%s: %q is %q, and was %q; %v", name, target, s.books[target], paths[target], err)
		}
		paths[target] = name
		if again, err := p.Begin(t.Context(), o); again != target || err != nil {
			t.Errorf("%s, begun again: %q, %v", name, again, err)
		}
		o.Target = target
		for range 2 { // an attempt before may have written some
			if errs := connecttest.Write(t, p, o, connecttest.Items(t, p, o, connect.Present, cardOf(0), cardOf(2))); errs[0] != nil || errs[1] != nil {
				t.Errorf("%s: %v", name, errs)
			}
		}
		if s.card(target+"p002@home.vcf") != text(2) {
			t.Errorf("%s: the copy is %q", name, s.card(target+"p002@home.vcf"))
		}
		in, err := p.Members(t.Context(), o)
		if err != nil || len(in) != 2 || in[0].Key != cardOf(0) || in[1].Key != cardOf(2) {
			t.Errorf("%s: %+v, %v", name, in, err)
		}
		if _, err := p.Begin(t.Context(), o); err == nil || !strings.Contains(err.Error(), "already, with cards in it. Choose another name.") {
			t.Errorf("%s: %v", name, err)
		}
		if again, err := p.Begin(t.Context(), connect.Order{Act: connect.Collect, Name: name, Refresh: true}); again != target || err != nil {
			t.Errorf("%s, refreshed: %q, %v", name, again, err)
		}
		connecttest.Write(t, p, o, []connect.Item{{Key: cardOf(0)}, {Key: cardOf(1)}})
		if s.card(target+"p000@home.vcf") != "" {
			t.Errorf("%s: the copy is there", name)
		}
	}
	for target, name := range paths {
		for range 2 {
			if err := p.Discard(t.Context(), connect.Order{Act: connect.Collect, Target: target}); err != nil {
				t.Errorf("%s: %v", name, err)
			}
		}
	}
	if len(s.books) != 1 || s.card(cardOf(0)) != text(0) {
		t.Errorf("books %v", s.books)
	}
}

// TestTrouble: a refused sign-in is told as one, a server that is none of address books as such, and no other host is asked.
func TestTrouble(t *testing.T) {
	s, _ := newLibrary(t, 1)
	p, err := book.Kind.Open(connect.Env{AllowPrivate: true}, connect.Settings{"address": s.at + "/dav/", "user": "ada", "password": "medlar"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.Test(t.Context()); !connect.IsBroken(err) || !strings.Contains(err.Error(), "refused the sign-in (401 Unauthorized") {
		t.Error(err)
	}
	good := s.open(t)
	for _, other := range []string{"//elsewhere.example/members/", "https://elsewhere.example/members/", "members/", ""} {
		err := good.Contacts(t.Context(), other, "", func(connect.Page) error { return nil })
		if err == nil || !strings.Contains(err.Error(), "is not a path of 127.0.0.1") {
			t.Errorf("%q: %v", other, err)
		}
	}
}
