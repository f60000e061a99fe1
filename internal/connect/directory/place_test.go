package directory_test

import (
	"errors"
	"fmt"
	"net"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"github.com/go-ldap/ldap/v3"

	"varnet/internal/connect"
	"varnet/internal/connect/connecttest"
	"varnet/internal/connect/directory"
)

const (
	root   = "dc=fernhollow,dc=example"
	people = "ou=people," + root
	groups = "ou=groups," + root
)

// open opens the server with some settings changed, names and values in turn.
func (s *server) open(t *testing.T, changed ...string) connect.Taker {
	t.Helper()
	settings := connect.Settings{"address": "ldap://" + s.at, "tls": "no", "user": "cn=varnet," + root, "password": password, "base": people, "groups": groups}
	for i := 0; i < len(changed); i += 2 {
		settings[changed[i]] = changed[i+1]
	}
	if err := directory.Kind.CheckSettings(settings); err != nil {
		t.Fatal(err)
	}
	p, err := directory.Kind.Open(connect.Env{AllowPrivate: true}, settings)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = p.Close() })
	return p.(connect.Taker)
}

// newLibrary is a server with people of the seed library: so many of them, and the bases.
func newLibrary(t *testing.T, members int) *server {
	s := newServer(t)
	s.put(people, "objectClass", "organizationalUnit")
	s.put(groups, "objectClass", "organizationalUnit")
	for n := range members {
		s.put(person(n), "entryUUID", key(n), "objectClass", "inetOrgPerson", "mail", mail(n), "cn", fmt.Sprintf("Member %d", n), "description", "Likes beans")
	}
	return s
}

func person(n int) string { return fmt.Sprintf("uid=p%04d,%s", n, people) }
func key(n int) string    { return fmt.Sprintf("0e1d%04d-0000-4000-8000-000000000000", n) }
func mail(n int) string   { return fmt.Sprintf("p%04d@fernhollow.example", n) }

// contacts reads a collection whole.
func contacts(t *testing.T, p connect.Place, collection string) (out []connect.Contact) {
	t.Helper()
	err := p.Contacts(t.Context(), collection, "", func(page connect.Page) error {
		out = append(out, page.Contacts...)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// TestContacts: entries are read in pages, each with the key by which it is found again, all its
// addresses, and its attributes as cells; what nobody may see stays there.
func TestContacts(t *testing.T) {
	s := newLibrary(t, 1200)
	s.put("uid=two,"+people, "mail", "quince@fernhollow.example", "mail", "quince@home.example", "cn", "Quince", "userPassword", "secret", "jpegPhoto", "\xff\xd8\xff")
	s.put("uid=none,"+people, "cn", "Without an address")
	all := contacts(t, s.open(t), "search")
	if len(all) != 1201 || s.pages != 3 {
		t.Fatalf("%d contacts in %d pages", len(all), s.pages)
	}
	two := all[1200]
	if two.Key != "uid=two,"+people || !slices.Equal(two.Addresses, []string{"quince@fernhollow.example", "quince@home.example"}) {
		t.Errorf("%+v", two)
	}
	if fmt.Sprint(two.Cells) != fmt.Sprint([]connect.Cell{{Name: "dn", Value: "uid=two," + people}, {Name: "cn", Value: "Quince"}}) {
		t.Errorf("cells %v", two.Cells)
	}
	if all[7].Key != key(7) || !slices.Equal(all[7].Addresses, []string{mail(7)}) {
		t.Errorf("%+v", all[7])
	}
	chosen := contacts(t, s.open(t, "attributes", "cn", "filter", "(&(mail=*)(cn=Member 3))"), "search")
	if len(chosen) != 1 || fmt.Sprint(chosen[0].Cells) != fmt.Sprint([]connect.Cell{{Name: "dn", Value: person(3)}, {Name: "cn", Value: "Member 3"}}) {
		t.Errorf("with the attributes that were chosen: %+v", chosen)
	}
}

// TestGroupsAsCollections: a group holds the entries that it names, in whatever case and spacing, and no other.
func TestGroupsAsCollections(t *testing.T) {
	s := newLibrary(t, 5)
	s.put("cn=growers,"+groups, "objectClass", "groupOfNames", "cn", "growers", "member", "UID=p0001, OU=people, "+root, "member", person(4), "member", "uid=gone,"+people)
	s.put("cn=guests,"+groups, "objectClass", "groupOfUniqueNames", "cn", "guests", "uniqueMember", person(2))
	p := s.open(t)
	all, err := p.Collections(t.Context())
	want := []connect.Collection{{ID: "search", Name: "All that the filter finds", Kind: "search", Contacts: 5},
		{ID: "cn=growers," + groups, Name: "growers", Kind: "group", Contacts: 3}, {ID: "cn=guests," + groups, Name: "guests", Kind: "group", Contacts: 1}}
	if err != nil || !slices.Equal(all, want) {
		t.Errorf("%v: %+v", err, all)
	}
	in := contacts(t, p, "cn=growers,"+groups)
	if len(in) != 2 || in[0].Key != key(1) || in[1].Key != key(4) {
		t.Errorf("growers are %+v", in)
	}
	if in := contacts(t, p, "cn=guests,"+groups); len(in) != 1 || in[0].Key != key(2) {
		t.Errorf("guests are %+v", in)
	}
	err = p.Contacts(t.Context(), "cn=former,"+groups, "", func(connect.Page) error { return nil })
	if err == nil || err.Error() != "There is no group cn=former,"+groups+" any more." {
		t.Error(err)
	}
}

// TestSays: the test of a connection tells what there is in a sentence.
func TestSays(t *testing.T) {
	s := newLibrary(t, 1)
	for want, p := range map[string]connect.Place{
		"Signed in at 127.0.0.1. The filter finds 1 entry. Groups: 0.": s.open(t),
		"Signed in at 127.0.0.1. The filter finds 1 entry.":            s.open(t, "groups", ""),
	} {
		if said, err := p.Test(t.Context()); err != nil || said != want {
			t.Errorf("%q, %v", said, err)
		}
	}
	if takes := s.open(t, "groups", "").Takes(); !slices.Equal(takes, []connect.Act{connect.SetField}) {
		t.Errorf("without groups it takes %v", takes)
	}
	if takes := s.open(t).Takes(); !slices.Equal(takes, []connect.Act{connect.Collect, connect.SetField}) {
		t.Errorf("it takes %v", takes)
	}
}

// TestTrouble: what ails a directory is told in words that say what can be done, and whether another
// try may help.
func TestTrouble(t *testing.T) {
	type kind int
	const (
		once kind = iota
		later
		broken
	)
	for _, c := range []struct {
		name    string
		ails    func(*server)
		changed []string
		says    string
		is      kind
	}{
		{"a wrong password", nil, []string{"password", "medlar"}, "127.0.0.1 refused the sign-in: Invalid Credentials. Check name and password.", broken},
		{"no rights", func(s *server) { s.failing[ldap.ApplicationSearchRequest] = ldap.LDAPResultInsufficientAccessRights }, nil, "127.0.0.1 does not let cn=varnet," + root + " do that: Insufficient Access Rights.", broken},
		{"busy", func(s *server) { s.failing[ldap.ApplicationBindRequest] = ldap.LDAPResultBusy }, nil, "127.0.0.1 cannot be reached, or broke off: Busy.", later},
		{"too large", func(s *server) { s.failing[ldap.ApplicationSearchRequest] = ldap.LDAPResultSizeLimitExceeded }, nil, "127.0.0.1 said: Size Limit Exceeded.", once},
		{"a base that is not there", nil, []string{"base", "ou=persons," + root}, "127.0.0.1 has no entry “ou=persons," + root + "”. Check the base.", once},
		{"a broken line", func(s *server) { s.dropped = true }, nil, "127.0.0.1 cannot be reached: unable to read LDAP response packet: ", later},
		{"no TLS", func(s *server) { s.failing[ldap.ApplicationExtendedRequest] = ldap.LDAPResultProtocolError }, []string{"tls", "yes"}, "127.0.0.1 does not begin TLS: ", broken},
		{"TLS that does not come about", nil, []string{"tls", "yes"}, "TLS with 127.0.0.1 did not come about: ", once},
	} {
		s := newLibrary(t, 1)
		if c.ails != nil {
			s.set(func() { c.ails(s) })
		}
		_, err := s.open(t, c.changed...).Test(t.Context())
		if err == nil || !strings.HasPrefix(err.Error(), c.says) || connect.Passes(err) != (c.is == later) || connect.IsBroken(err) != (c.is == broken) {
			t.Errorf("%s: %v (later %t, broken %t)", c.name, err, connect.Passes(err), connect.IsBroken(err))
		}
		if s.binds > 1 {
			t.Errorf("%s: %d sign-ins", c.name, s.binds)
		}
	}
}

// TestCertificate: a certificate that nobody vouches for is named as what keeps the connection from working; the
// password does not go out.
func TestCertificate(t *testing.T) {
	web := httptest.NewUnstartedServer(nil)
	web.StartTLS()
	defer web.Close()
	s := newServer(t)
	s.set(func() { s.secure = web.TLS })
	_, err := s.open(t, "address", "ldaps://"+s.at).Test(t.Context())
	if err == nil || !strings.HasPrefix(err.Error(), "The certificate of 127.0.0.1 is not trusted: x509: certificate signed by unknown authority") || connect.Passes(err) || s.binds != 0 {
		t.Errorf("%v, after %d sign-ins", err, s.binds)
	}
}

// TestOutOfReach: nobody listens.
func TestOutOfReach(t *testing.T) {
	line, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	_ = line.Close()
	s := &server{at: line.Addr().String()}
	if _, err := s.open(t).Test(t.Context()); !connect.Passes(err) || !strings.Contains(err.Error(), "127.0.0.1 cannot be reached: ") {
		t.Error(err)
	}
}

// TestSignedInAgain: after a line that broke the next question goes over another.
func TestSignedInAgain(t *testing.T) {
	s := newLibrary(t, 2)
	p := s.open(t)
	if n := len(contacts(t, p, "search")); n != 2 {
		t.Fatal(n)
	}
	s.set(func() { s.dropped = true })
	if _, err := p.Collections(t.Context()); !connect.Passes(err) {
		t.Fatal(err)
	}
	if n := len(contacts(t, p, "search")); n != 2 || s.binds != 2 {
		t.Errorf("%d contacts after %d sign-ins", n, s.binds)
	}
}

// TestSetField: an attribute gets its value, and what it had can be put back: nothing, or the one value.
func TestSetField(t *testing.T) {
	s := newLibrary(t, 3)
	s.put("uid=bare,"+people, "mail", "bare@fernhollow.example")
	p := s.open(t)
	for _, name := range []string{"employeeType", "description"} {
		o := connect.Order{Act: connect.SetField, Name: name}
		if target, err := p.Begin(t.Context(), o); err != nil || target != "" {
			t.Fatal(target, err)
		}
		keys := []string{key(0), "uid=bare," + people, key(2)}
		given := connecttest.Items(t, p, o, "keep", keys...)
		before, _ := p.Now(t.Context(), o, given)
		for i, err := range connecttest.Write(t, p, o, given) {
			if err != nil {
				t.Errorf("%s of %s: %v", name, keys[i], err)
			}
		}
		for _, dn := range []string{person(0), "uid=bare," + people, person(2)} {
			if got := s.values(dn, name); !slices.Equal(got, []string{"keep"}) {
				t.Errorf("%s of %s is %q", name, dn, got)
			}
		}
		again := connecttest.Items(t, p, o, "", keys...)
		for i := range again {
			again[i].Value = before[i].Value
		}
		connecttest.Write(t, p, o, again)
	}
	if got := s.values(person(0), "description"); !slices.Equal(got, []string{"Likes beans"}) || s.values(person(0), "employeeType") != nil || s.values("uid=bare,"+people, "description") != nil {
		t.Errorf("after undoing %q, %q, %q", got, s.values(person(0), "employeeType"), s.values("uid=bare,"+people, "description"))
	}
}

// TestSetFieldLeaves: what would be lost, was changed meanwhile, or is gone is left, and said of that entry alone.
func TestSetFieldLeaves(t *testing.T) {
	s := newLibrary(t, 4)
	s.put(person(0), "entryUUID", key(0), "mail", mail(0), "description", "Likes beans", "description", "Sows late")
	p := s.open(t)
	o := connect.Order{Act: connect.SetField, Name: "description"}
	if now, err := p.Now(t.Context(), o, []connect.Item{{Key: key(0)}, {Key: key(1)}}); err != nil || now[0].Leave != "it has 2 values of description, which would be lost" || now[1].Leave != "" {
		t.Errorf("%+v, %v", now, err)
	}
	given := connecttest.Items(t, p, o, "keep", key(1), key(2), key(3))
	s.set(func() {
		s.entries[person(1)]["description"] = []string{"Moved away"}
		delete(s.entries, person(2))
	})
	errs := connecttest.Write(t, p, o, given)
	for i, want := range []string{"its description was changed meanwhile", "it is no longer there", ""} {
		var skipped *connect.Skipped
		if want == "" && errs[i] != nil || want != "" && (!errors.As(errs[i], &skipped) || skipped.Why != want) {
			t.Errorf("%d: %v", i, errs[i])
		}
	}
	if got := s.values(person(1), "description"); !slices.Equal(got, []string{"Moved away"}) {
		t.Errorf("%q", got)
	}
	now, err := p.Now(t.Context(), o, given[1:2])
	if err != nil || now[0].Found {
		t.Errorf("one that is gone: %+v, %v", now, err)
	}
}

// TestSetFieldPlainly: where a directory cannot compare the values of an attribute they are replaced.
func TestSetFieldPlainly(t *testing.T) {
	s := newLibrary(t, 1)
	s.compares = func(name string) bool { return name != "description" }
	p := s.open(t)
	o := connect.Order{Act: connect.SetField, Name: "description"}
	if errs := connecttest.Write(t, p, o, connecttest.Items(t, p, o, "keep", key(0))); errs[0] != nil || !slices.Equal(s.values(person(0), "description"), []string{"keep"}) {
		t.Errorf("%v, %q", errs, s.values(person(0), "description"))
	}
	if errs := connecttest.Write(t, p, o, connecttest.Items(t, p, o, "", key(0))); errs[0] != nil || s.values(person(0), "description") != nil {
		t.Errorf("%v, %q", errs, s.values(person(0), "description"))
	}
}

// TestWriteEnds: without the right to write none is tried after the first, and all that are left are told of.
func TestWriteEnds(t *testing.T) {
	s := newLibrary(t, 3)
	p := s.open(t)
	o := connect.Order{Act: connect.SetField, Name: "description"}
	given := connecttest.Items(t, p, o, "keep", key(0), key(1))
	s.set(func() { s.failing[ldap.ApplicationModifyRequest] = ldap.LDAPResultInsufficientAccessRights })
	if _, err := p.Write(t.Context(), o, given); !connect.IsBroken(err) {
		t.Error(err)
	}
	if _, err := p.Begin(t.Context(), connect.Order{Act: connect.SetField, Name: "no name"}); err == nil || err.Error() != `"no name" is not an attribute name.` {
		t.Error(err)
	}
}

// TestGroup: a group is made with its first members under a name of any letters, grows and shrinks, tells its
// members, and goes when it is taken back.
func TestGroup(t *testing.T) {
	s := newLibrary(t, 4)
	p := s.open(t)
	o := connect.Order{Act: connect.Collect, Name: "Spring, kept"}
	target, err := p.Begin(t.Context(), o)
	if err != nil || target != `cn=Spring\, kept,`+groups && target != `cn=Spring\2C kept,`+groups {
		t.Fatalf("%q, %v", target, err)
	}
	o.Target = target
	if in, err := p.Members(t.Context(), o); err != nil || len(in) != 0 {
		t.Errorf("before it is made %v, %v", in, err)
	}
	connecttest.Write(t, p, o, connecttest.Items(t, p, o, connect.Present, key(0), key(1)))
	if got := s.values(target, "member"); !slices.Equal(got, []string{person(0), person(1)}) || !slices.Equal(s.values(target, "cn"), []string{o.Name}) {
		t.Fatalf("members %q of %q", got, s.values(target, "cn"))
	}
	if _, err := p.Begin(t.Context(), connect.Order{Act: connect.Collect, Name: o.Name}); err == nil || err.Error() != "There is a group “Spring, kept” already. Choose another name." {
		t.Error(err)
	}
	if again, err := p.Begin(t.Context(), connect.Order{Act: connect.Collect, Name: o.Name, Refresh: true}); err != nil || again != target {
		t.Errorf("%q, %v", again, err)
	}
	// One is in it already, one comes, one goes: together they are refused, one by one each becomes what it is to be.
	change := append(connecttest.Items(t, p, o, connect.Present, key(1), key(2)), connecttest.Items(t, p, o, "", key(0))...)
	for i, err := range connecttest.Write(t, p, o, change) {
		if err != nil {
			t.Errorf("%d: %v", i, err)
		}
	}
	in, err := p.Members(t.Context(), o)
	if err != nil || len(in) != 2 || in[0].Key != key(1) || in[1].Key != key(2) || !slices.Equal(in[0].Addresses, []string{mail(1)}) {
		t.Errorf("members %+v, %v", in, err)
	}
	last := connecttest.Write(t, p, o, connecttest.Items(t, p, o, "", key(1), key(2)))
	if got := s.values(target, "member"); len(got) != 1 || last[0] != nil || last[1] == nil || !strings.Contains(last[1].Error(), "Object Class Violation") {
		t.Errorf("a group without members: %q, %v", got, last)
	}
	for range 2 { // what is gone is taken back already
		if err := p.Discard(t.Context(), o); err != nil || s.has(target) {
			t.Errorf("%v; it is there: %t", err, s.has(target))
		}
	}
	// Whoever is to leave a group that is not there has left it.
	if errs := connecttest.Write(t, p, o, connecttest.Items(t, p, o, "", key(1))); errs[0] != nil || s.has(target) {
		t.Errorf("%v; it is there: %t", errs, s.has(target))
	}
}
