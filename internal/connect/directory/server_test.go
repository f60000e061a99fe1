package directory_test

import (
	"crypto/tls"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"
)

// server is a directory in memory that speaks as much of LDAP as connections do.
type server struct {
	t  *testing.T
	at string

	mu      sync.Mutex
	entries map[string]map[string][]string // attributes by distinguished name
	// failing is the result that each kind of operation gets in place of its own.
	failing map[ber.Tag]uint16
	// compares reports whether values of an attribute can be compared; nil: of all.
	compares func(attribute string) bool
	pages    int // of searches
	binds    int
	dropped  bool        // the next search breaks the line off
	secure   *tls.Config // of ldaps; nil: it speaks ldap
}

const password = "quince"

func newServer(t *testing.T) *server {
	t.Helper()
	line, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s := &server{t: t, at: line.Addr().String(), entries: map[string]map[string][]string{}, failing: map[ber.Tag]uint16{}}
	t.Cleanup(func() { _ = line.Close() })
	go func() {
		for {
			c, err := line.Accept()
			if err != nil {
				return
			}
			s.set(func() {
				if s.secure != nil {
					c = tls.Server(c, s.secure)
				}
			})
			go s.serve(c)
		}
	}()
	return s
}

// put adds an entry; its attributes are names and values in turn.
func (s *server) put(dn string, attributes ...string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	e := map[string][]string{}
	for i := 0; i < len(attributes); i += 2 {
		e[attributes[i]] = append(e[attributes[i]], attributes[i+1])
	}
	s.entries[dn] = e
}

// values returns what an attribute of an entry holds; nil where there is none.
func (s *server) values(dn, attribute string) []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.entries[dn][attribute])
}

func (s *server) has(dn string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.entries[dn] != nil
}

// set does something under the server's lock.
func (s *server) set(do func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	do()
}

func (s *server) serve(c net.Conn) {
	defer func() { _ = c.Close() }()
	for {
		p, err := ber.ReadPacket(c)
		if err != nil || len(p.Children) < 2 {
			return
		}
		s.mu.Lock()
		answers := s.answer(p.Children[1], p)
		begins := p.Children[1].Tag == ldap.ApplicationExtendedRequest && s.failing[ldap.ApplicationExtendedRequest] == 0
		s.mu.Unlock()
		if answers == nil {
			return
		}
		for _, a := range answers {
			out := ber.NewSequence("")
			out.AppendChild(p.Children[0])
			for _, part := range a {
				out.AppendChild(part)
			}
			if _, err := c.Write(out.Bytes()); err != nil {
				return
			}
		}
		if begins {
			c = tls.Server(c, &tls.Config{}) // without a certificate
		}
	}
}

// done is the result of an operation (RFC 4511, 4.1.9).
func done(tag ber.Tag, code uint16) *ber.Packet {
	r := ber.Encode(ber.ClassApplication, ber.TypeConstructed, tag, nil, "")
	r.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagEnumerated, int64(code), ""))
	r.AppendChild(octets(""))
	r.AppendChild(octets(""))
	return r
}

func octets(text string) *ber.Packet {
	return ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, text, "")
}

// answer does an operation; nil ends the line.
func (s *server) answer(op, message *ber.Packet) [][]*ber.Packet {
	code := s.failing[op.Tag]
	simple := func(tag ber.Tag, do func() uint16) [][]*ber.Packet {
		if code == 0 {
			code = do()
		}
		return [][]*ber.Packet{{done(tag, code)}}
	}
	switch op.Tag {
	case ldap.ApplicationBindRequest:
		s.binds++
		return simple(ldap.ApplicationBindResponse, func() uint16 {
			if op.Children[2].Data.String() != password {
				return ldap.LDAPResultInvalidCredentials
			}
			return 0
		})
	case ldap.ApplicationExtendedRequest:
		return simple(ldap.ApplicationExtendedResponse, func() uint16 { return 0 })
	case ldap.ApplicationSearchRequest:
		if s.dropped {
			s.dropped = false
			return nil
		}
		return s.search(op, message, code)
	case ldap.ApplicationModifyRequest:
		return simple(ldap.ApplicationModifyResponse, func() uint16 { return s.modify(op) })
	case ldap.ApplicationAddRequest:
		return simple(ldap.ApplicationAddResponse, func() uint16 { return s.add(op) })
	case ldap.ApplicationDelRequest:
		return simple(ldap.ApplicationDelResponse, func() uint16 {
			dn := op.Data.String()
			if s.entries[dn] == nil {
				return ldap.LDAPResultNoSuchObject
			}
			delete(s.entries, dn)
			return 0
		})
	}
	return nil
}

// search finds entries, a page of them where the client asks for pages (RFC 2696).
func (s *server) search(op, message *ber.Packet, code uint16) [][]*ber.Packet {
	s.pages++
	base, scope := text(op.Children[0]), op.Children[1].Value.(int64)
	if code == 0 && s.entries[base] == nil {
		code = ldap.LDAPResultNoSuchObject
	}
	if code != 0 {
		return [][]*ber.Packet{{done(ldap.ApplicationSearchResultDone, code)}}
	}
	var found []string
	for _, dn := range slices.Sorted(maps.Keys(s.entries)) {
		below := dn == base || scope == ldap.ScopeWholeSubtree && strings.HasSuffix(dn, ","+base)
		if below && fits(op.Children[6], s.entries[dn]) {
			found = append(found, dn)
		}
	}
	from, size := 0, len(found)
	var controls []*ber.Packet
	if len(message.Children) > 2 {
		asked, err := ldap.DecodeControl(message.Children[2].Children[0])
		if err != nil {
			s.t.Error(err)
			return nil
		}
		paging := asked.(*ldap.ControlPaging)
		from, _ = strconv.Atoi(string(paging.Cookie))
		size = min(len(found), from+int(paging.PagingSize))
		next := ldap.NewControlPaging(0)
		if size < len(found) {
			next.SetCookie([]byte(strconv.Itoa(size)))
		}
		all := ber.Encode(ber.ClassContext, ber.TypeConstructed, 0, nil, "")
		all.AppendChild(next.Encode())
		controls = append(controls, all)
	}
	var out [][]*ber.Packet
	for _, dn := range found[from:size] {
		out = append(out, []*ber.Packet{s.entry(dn, op.Children[7])})
	}
	return append(out, append([]*ber.Packet{done(ldap.ApplicationSearchResultDone, 0)}, controls...))
}

// entry is an entry with the attributes that are asked for.
func (s *server) entry(dn string, asked *ber.Packet) *ber.Packet {
	want := map[string]bool{}
	for _, a := range asked.Children {
		want[strings.ToLower(text(a))] = true
	}
	e := ber.Encode(ber.ClassApplication, ber.TypeConstructed, ldap.ApplicationSearchResultEntry, nil, "")
	e.AppendChild(octets(dn))
	list := ber.NewSequence("")
	for _, name := range slices.Sorted(maps.Keys(s.entries[dn])) {
		if !want[strings.ToLower(name)] && (!want["*"] || name == "entryUUID") {
			continue
		}
		list.AppendChild(attribute(name, s.entries[dn][name]))
	}
	e.AppendChild(list)
	return e
}

func attribute(name string, values []string) *ber.Packet {
	a := ber.NewSequence("")
	a.AppendChild(octets(name))
	set := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSet, nil, "")
	for _, v := range values {
		set.AppendChild(octets(v))
	}
	a.AppendChild(set)
	return a
}

func text(p *ber.Packet) string { return p.Data.String() }

// fits reports whether an entry is what a filter looks for (RFC 4511, 4.5.1.7).
func fits(filter *ber.Packet, e map[string][]string) bool {
	switch filter.Tag {
	case ldap.FilterAnd:
		return !slices.ContainsFunc(filter.Children, func(f *ber.Packet) bool { return !fits(f, e) })
	case ldap.FilterOr:
		return slices.ContainsFunc(filter.Children, func(f *ber.Packet) bool { return fits(f, e) })
	case ldap.FilterEqualityMatch:
		return slices.Contains(e[text(filter.Children[0])], text(filter.Children[1]))
	case ldap.FilterPresent:
		name := text(filter)
		return name == "objectClass" || len(e[name]) > 0
	}
	return false
}

// modify changes an entry as a whole or not at all (RFC 4511, 4.6).
func (s *server) modify(op *ber.Packet) uint16 {
	dn := text(op.Children[0])
	if s.entries[dn] == nil {
		return ldap.LDAPResultNoSuchObject
	}
	e := maps.Clone(s.entries[dn])
	for _, change := range op.Children[1].Children {
		name := text(change.Children[1].Children[0])
		var values []string
		for _, v := range change.Children[1].Children[1].Children {
			values = append(values, text(v))
		}
		if code := s.change(e, change.Children[0].Value.(int64), name, values); code != 0 {
			return code
		}
	}
	s.entries[dn] = e
	return 0
}

func (s *server) change(e map[string][]string, how int64, name string, values []string) uint16 {
	had := slices.Clone(e[name])
	for _, v := range values {
		switch i := slices.Index(had, v); {
		case how == ldap.DeleteAttribute && s.compares != nil && !s.compares(name):
			return ldap.LDAPResultInappropriateMatching
		case how == ldap.DeleteAttribute && i < 0:
			return ldap.LDAPResultNoSuchAttribute
		case how == ldap.DeleteAttribute:
			had = slices.Delete(had, i, i+1)
		case how == ldap.AddAttribute && i >= 0:
			return ldap.LDAPResultAttributeOrValueExists
		case how == ldap.AddAttribute:
			had = append(had, v)
		}
	}
	if how == ldap.ReplaceAttribute {
		had = values
	}
	if name == "member" && len(had) == 0 { // a group without any cannot be
		return ldap.LDAPResultObjectClassViolation
	}
	e[name] = had
	if len(had) == 0 {
		delete(e, name)
	}
	return 0
}

func (s *server) add(op *ber.Packet) uint16 {
	dn := text(op.Children[0])
	if s.entries[dn] != nil {
		return ldap.LDAPResultEntryAlreadyExists
	}
	e := map[string][]string{}
	for _, a := range op.Children[1].Children {
		for _, v := range a.Children[1].Children {
			e[text(a.Children[0])] = append(e[text(a.Children[0])], text(v))
		}
	}
	s.entries[dn] = e
	return 0
}
