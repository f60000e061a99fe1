// Package directory connects directories by LDAP (RFC 4511): contacts are the entries that a
// filter finds, read in pages (RFC 2696); what is written back goes into an attribute, or a group.
package directory

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"varnet/core/problem"
	"varnet/core/say"
	"varnet/internal/connect"
)

// Kind is directories.
var Kind = connect.Kind{
	Code: "directory", Title: "Directory", Says: "A directory that is asked by LDAP.",
	Fields: []connect.Field{
		{Name: "address", Title: "Address", Required: true, Help: "ldap:// begins TLS once it is connected.", Example: "ldaps://directory.fernhollow.example"},
		{Name: "tls", Title: "TLS", Choices: []string{"yes", "no"}, Default: "yes", Help: "No: only with ldap:// and on a network that is yours."},
		{Name: "user", Title: "Name to sign in with", Required: true, Help: "A distinguished name.", Example: "cn=varnet,dc=fernhollow,dc=example"},
		{Name: "password", Title: "Password", Secret: true, Required: true},
		{Name: "base", Title: "Base", Required: true, Help: "Below which entries are looked for.", Example: "ou=people,dc=fernhollow,dc=example"},
		{Name: "filter", Title: "Filter", Required: true, Default: "(mail=*)", Help: "Which entries are contacts (RFC 4515)."},
		{Name: "addresses", Title: "Attributes with addresses", Required: true, Default: "mail", Help: "With commas between; of one with several values each is an address."},
		{Name: "attributes", Title: "Attributes", Help: "Those that become columns, with commas between; all that there are unless given."},
		{Name: "groups", Title: "Base of the groups", Help: "Where groups are, and new ones are made.", Example: "ou=groups,dc=fernhollow,dc=example"},
	},
	Takes: []connect.Act{connect.Collect, connect.SetField},
	Leads: connect.ByFields("address", "tls"),
	Check: check,
	Open:  open,
}

func check(s connect.Settings) error {
	u, err := url.Parse(s["address"])
	if err != nil || u.Scheme != "ldap" && u.Scheme != "ldaps" || u.Hostname() == "" || u.User != nil || u.Path != "" {
		return problem.In("address", "%q is not an address such as ldaps://directory.fernhollow.example", s["address"])
	}
	if _, err := ldap.CompileFilter(s["filter"]); err != nil {
		return problem.In("filter", "%q is not a filter such as (&(objectClass=person)(mail=*)): %s", s["filter"], connect.Plain(err.Error()))
	}
	for _, name := range []string{"user", "base", "groups"} {
		if _, err := ldap.ParseDN(s[name]); err != nil {
			return problem.In(name, "%q is not a distinguished name: %s", s[name], connect.Plain(err.Error()))
		}
	}
	for _, field := range []string{"addresses", "attributes"} {
		for _, name := range split(s[field]) {
			if !attribute(name) {
				return problem.In(field, "%q is not an attribute name", name)
			}
		}
	}
	if len(split(s["addresses"])) == 0 {
		return problem.In("addresses", "no attribute is named, such as mail")
	}
	return nil
}

// attribute reports whether a text is the name of an attribute (RFC 4512, 2.5).
func attribute(name string) bool {
	for i, r := range name {
		letter := r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z'
		if !letter && (i == 0 || !(r >= '0' && r <= '9' || r == '-' || r == ';')) {
			return false
		}
	}
	return name != ""
}

func split(text string) (out []string) {
	for part := range strings.SplitSeq(text, ",") {
		if part = strings.TrimSpace(part); part != "" {
			out = append(out, part)
		}
	}
	return out
}

// place is a directory.
type place struct {
	env        connect.Env
	s          connect.Settings
	host       string
	addresses  []string
	attributes []string
	conn       *ldap.Conn
}

func open(env connect.Env, s connect.Settings) (connect.Place, error) {
	if err := check(s); err != nil {
		return nil, err
	}
	u, _ := url.Parse(s["address"]) // it was checked
	return &place{env: env, s: s, host: u.Hostname(), addresses: split(s["addresses"]), attributes: split(s["attributes"])}, nil
}

func init() { ber.MaxPacketLengthBytes = connect.MostAnswer } // of what any directory answers

// answerWait is how long an answer may take.
const answerWait = 60 * time.Second

// signedIn returns the connection, signed in.
func (p *place) signedIn(ctx context.Context) (*ldap.Conn, error) {
	if p.conn != nil && !p.conn.IsClosing() {
		return p.conn, nil
	}
	u, _ := url.Parse(p.s["address"])
	port := u.Port()
	if port == "" {
		port = map[string]string{"ldap": ldap.DefaultLdapPort, "ldaps": ldap.DefaultLdapsPort}[u.Scheme]
	}
	line, err := p.env.Dial(ctx, "tcp", net.JoinHostPort(p.host, port))
	if err != nil {
		return nil, connect.Unreachable(p.host, err)
	}
	secure := u.Scheme == "ldaps"
	if secure {
		if line, err = tlsClient(ctx, line, p.env.TLSFor(p.host)); err != nil {
			return nil, connect.Unreachable(p.host, err)
		}
	}
	c := ldap.NewConn(line, secure)
	c.SetTimeout(answerWait)
	c.Start()
	if !secure && p.s["tls"] == "yes" {
		if err := c.StartTLS(p.env.TLSFor(p.host)); err != nil {
			_ = c.Close()
			return nil, p.withoutTLS(err)
		}
	}
	if err := c.Bind(p.s["user"], p.s["password"]); err != nil {
		_ = c.Close()
		return nil, p.failed(err)
	}
	p.conn = c
	return c, nil
}

// tlsClient begins TLS on a line.
func tlsClient(ctx context.Context, line net.Conn, c *tls.Config) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, answerWait)
	defer cancel()
	secure := tls.Client(line, c)
	if err := secure.HandshakeContext(ctx); err != nil {
		_ = line.Close()
		return nil, err
	}
	return secure, nil
}

// withoutTLS is why TLS does not begin: a host that does not offer it is not made better by another
// try, and what ails the line or the certificate may be mended there.
func (p *place) withoutTLS(err error) error {
	if ldap.IsErrorWithCode(err, ldap.ErrorNetwork) {
		return connect.Troublef("TLS with %s did not come about: %s.", p.host, connect.Plain(err.Error()))
	}
	return connect.Broken("%s does not begin TLS: %s.", p.host, connect.Plain(err.Error()))
}

func (p *place) Close() error {
	if p.conn == nil {
		return nil
	}
	return p.conn.Close()
}

// failed is an error of the directory, in its words.
func (p *place) failed(err error) error {
	var said *ldap.Error
	if !errors.As(err, &said) {
		return connect.Unreachable(p.host, err)
	}
	words := ldap.LDAPResultCodeMap[said.ResultCode]
	if more := connect.Plain(said.Err.Error()); more != "" {
		words += " (" + more + ")"
	}
	switch said.ResultCode {
	case ldap.LDAPResultInvalidCredentials, ldap.LDAPResultInvalidDNSyntax, ldap.LDAPResultInappropriateAuthentication, ldap.LDAPResultConfidentialityRequired, ldap.LDAPResultStrongAuthRequired:
		return connect.Broken("%s refused the sign-in: %s. Check name and password.", p.host, words)
	case ldap.LDAPResultInsufficientAccessRights:
		return connect.Broken("%s does not let %s do that: %s.", p.host, p.s["user"], words)
	case ldap.ErrorNetwork, ldap.LDAPResultBusy, ldap.LDAPResultUnavailable, ldap.LDAPResultTimeout:
		return connect.Later("%s cannot be reached, or broke off: %s.", p.host, words)
	}
	return connect.Troublef("%s said: %s.", p.host, words)
}

// Takes: attributes always, groups where it is said where they are.
func (p *place) Takes() []connect.Act {
	if p.s["groups"] == "" {
		return []connect.Act{connect.SetField}
	}
	return []connect.Act{connect.Collect, connect.SetField}
}

// Test signs in, and counts what the filter finds.
func (p *place) Test(ctx context.Context) (string, error) {
	all, err := p.Collections(ctx)
	if err != nil {
		return "", err
	}
	found := say.Plural(all[0].Contacts, "entry", "entries")
	if p.s["groups"] == "" {
		return fmt.Sprintf("Signed in at %s. The filter finds %s.", p.host, found), nil
	}
	return fmt.Sprintf("Signed in at %s. The filter finds %s. Groups: %s.", p.host, found, say.Number(int64(len(all)-1))), nil
}

// everything is the collection that the filter finds.
const everything = "search"

const ofGroups = "(|(objectClass=groupOfNames)(objectClass=groupOfUniqueNames))"

// Collections are what the filter finds, and the groups.
func (p *place) Collections(ctx context.Context) ([]connect.Collection, error) {
	n := int64(0)
	err := p.search(ctx, p.s["base"], p.s["filter"], []string{"1.1"}, func(entries []*ldap.Entry) error {
		n += int64(len(entries))
		return nil
	})
	if err != nil {
		return nil, err
	}
	out := []connect.Collection{{ID: everything, Name: "All that the filter finds", Kind: "search", Contacts: n}}
	if p.s["groups"] == "" {
		return out, nil
	}
	err = p.search(ctx, p.s["groups"], ofGroups, []string{"cn", "member", "uniqueMember"}, func(entries []*ldap.Entry) error {
		for _, e := range entries {
			out = append(out, connect.Collection{ID: e.DN, Name: e.GetAttributeValue("cn"), Kind: "group", Contacts: int64(len(members(e)))})
		}
		return nil
	})
	return out, err
}

func members(e *ldap.Entry) []string {
	return append(e.GetEqualFoldAttributeValues("member"), e.GetEqualFoldAttributeValues("uniqueMember")...)
}

const pageSize = 500

// search calls each with pages of what a filter finds.
func (p *place) search(ctx context.Context, base, filter string, attributes []string, each func([]*ldap.Entry) error) error {
	c, err := p.signedIn(ctx)
	if err != nil {
		return err
	}
	paging := ldap.NewControlPaging(pageSize)
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		r, err := c.Search(ldap.NewSearchRequest(base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false, filter, attributes, []ldap.Control{paging}))
		if ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) {
			return connect.Troublef("%s has no entry “%s”. Check the base.", p.host, base)
		}
		if err != nil {
			return p.failed(err)
		}
		if err := each(r.Entries); err != nil {
			return err
		}
		next, ok := ldap.FindControl(r.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
		switch {
		case !ok || len(next.Cookie) == 0:
			return nil
		case string(next.Cookie) == string(paging.Cookie) && len(r.Entries) == 0:
			return connect.Troublef("%s sends empty pages without an end.", p.host)
		}
		paging.SetCookie(next.Cookie)
	}
}

// uuid is what names an entry whatever becomes of it (RFC 4530).
const uuid = "entryUUID"

// wanted are the attributes that are read.
func (p *place) wanted() []string {
	if len(p.attributes) == 0 {
		return []string{"*", uuid}
	}
	return append(slices.Concat(p.addresses, p.attributes), uuid)
}

// Contacts reads the entries. Directories give no place to go on from: after a break they begin
// anew.
func (p *place) Contacts(ctx context.Context, collection, _ string, each func(connect.Page) error) error {
	in, err := p.membersOf(ctx, collection)
	if err != nil {
		return err
	}
	return p.search(ctx, p.s["base"], p.s["filter"], p.wanted(), func(entries []*ldap.Entry) error {
		var page connect.Page
		for _, e := range entries {
			if in != nil && !in[fold(e.DN)] {
				continue
			}
			c := p.contact(e)
			if err := c.Hold(); err != nil {
				return err
			}
			page.Contacts = append(page.Contacts, c)
		}
		return each(page)
	})
}

// membersOf are those of a group, nil for everybody.
func (p *place) membersOf(ctx context.Context, collection string) (map[string]bool, error) {
	if collection == everything {
		return nil, nil
	}
	e, err := p.entry(ctx, collection, "member", "uniqueMember")
	if err != nil {
		return nil, err
	}
	if e == nil {
		return nil, connect.Troublef("There is no group %s any more.", collection)
	}
	in := map[string]bool{}
	for _, m := range members(e) {
		in[fold(m)] = true
	}
	return in, nil
}

// entry reads one entry; nil where there is none.
func (p *place) entry(ctx context.Context, dn string, attributes ...string) (*ldap.Entry, error) {
	c, err := p.signedIn(ctx)
	if err != nil {
		return nil, err
	}
	r, err := c.Search(ldap.NewSearchRequest(dn, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, 0, false, "(objectClass=*)", attributes, nil))
	if ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) {
		return nil, nil
	}
	if err != nil {
		return nil, p.failed(err)
	}
	if len(r.Entries) == 0 {
		return nil, nil
	}
	return r.Entries[0], nil
}

// fold is a name as it is compared.
func fold(dn string) string {
	if d, err := ldap.ParseDN(dn); err == nil {
		return strings.ToLower(d.String())
	}
	return strings.ToLower(dn)
}

// contact is an entry as a contact.
func (p *place) contact(e *ldap.Entry) connect.Contact {
	c := connect.Contact{Key: e.GetAttributeValue(uuid)}
	if c.Key == "" {
		c.Key = e.DN
	}
	for _, a := range p.addresses {
		c.Addresses = append(c.Addresses, e.GetEqualFoldAttributeValues(a)...)
	}
	c.Cells = append(c.Cells, connect.Cell{Name: "dn", Value: e.DN})
	for _, a := range e.Attributes {
		own := slices.ContainsFunc(p.addresses, func(n string) bool { return strings.EqualFold(n, a.Name) })
		if own || strings.EqualFold(a.Name, uuid) || strings.EqualFold(a.Name, "userPassword") {
			continue
		}
		if text := strings.Join(a.Values, "; "); say.IsText(text) {
			c.Cells = append(c.Cells, connect.Cell{Name: a.Name, Value: text})
		}
	}
	return c
}

// CollectionKind is what a collection is called here.
func (p *place) CollectionKind() string { return "group" }
