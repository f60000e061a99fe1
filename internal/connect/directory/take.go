package directory

import (
	"context"
	"crypto/tls"
	"net"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"varnet/internal/connect"
)

func tlsClient(line net.Conn, c *tls.Config) net.Conn { return tls.Client(line, c) }

// atOnce is how many entries are looked for in a filter, or put into a group, at a time.
const atOnce = 100

// AtOnce implements connect.Taker.
func (p *place) AtOnce(connect.Order) int { return atOnce }

// group is the name of the group that an order is for.
func (p *place) group(o connect.Order) string {
	rdn := &ldap.RelativeDN{Attributes: []*ldap.AttributeTypeAndValue{{Type: "cn", Value: o.Name}}}
	return rdn.String() + "," + p.s["groups"]
}

// Begin holds the name of a field, or finds that of a new group free. The group is made with
// its first members: one without any cannot be.
func (p *place) Begin(ctx context.Context, o connect.Order) (string, error) {
	switch {
	case o.Act == connect.SetField && !attribute(o.Name):
		return "", connect.Troublef("%q is not an attribute name.", o.Name)
	case o.Act == connect.SetField:
		return "", nil
	}
	e, err := p.entry(ctx, p.group(o), "1.1")
	if err != nil {
		return "", err
	}
	if e != nil && !o.Refresh {
		return "", connect.Troublef("There is a group “%s” already. Choose another name.", o.Name)
	}
	return p.group(o), nil
}

// Discard deletes the group.
func (p *place) Discard(ctx context.Context, o connect.Order) error {
	if o.Act != connect.Collect || o.Target == "" {
		return nil
	}
	c, err := p.signedIn(ctx)
	if err != nil {
		return err
	}
	if err := c.Del(ldap.NewDelRequest(o.Target, nil)); err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) {
		return p.failed(err)
	}
	return nil
}

// find finds entries by their keys.
func (p *place) find(ctx context.Context, items []connect.Item, attributes []string) (map[string]*ldap.Entry, error) {
	var filter strings.Builder
	filter.WriteString("(|")
	for _, it := range items {
		filter.WriteString("(" + uuid + "=" + ldap.EscapeFilter(it.Key) + ")")
		if _, err := ldap.ParseDN(it.Key); err == nil && strings.Contains(it.Key, "=") {
			filter.WriteString("(entryDN=" + ldap.EscapeFilter(it.Key) + ")")
		}
	}
	filter.WriteString(")")
	out := map[string]*ldap.Entry{}
	err := p.search(ctx, p.s["base"], filter.String(), attributes, func(entries []*ldap.Entry) error {
		for _, e := range entries {
			out[p.contact(e).Key] = e
		}
		return nil
	})
	return out, err
}

// Now reads entries by their keys.
func (p *place) Now(ctx context.Context, o connect.Order, items []connect.Item) ([]connect.State, error) {
	attributes := append([]string{uuid}, p.addresses...)
	if o.Act == connect.SetField {
		attributes = append(attributes, o.Name)
	}
	found, err := p.find(ctx, items, attributes)
	if err != nil {
		return nil, err
	}
	out := make([]connect.State, len(items))
	for i, it := range items {
		e := found[it.Key]
		if e == nil {
			continue
		}
		out[i] = connect.State{Found: true, Addresses: p.contact(e).Addresses, Version: e.DN}
		if o.Act == connect.SetField {
			out[i].Value = strings.Join(e.GetEqualFoldAttributeValues(o.Name), "; ")
		}
	}
	return out, nil
}

// Write sets the attribute of each entry, or puts them all into the group. The version of an
// item is its name.
func (p *place) Write(ctx context.Context, o connect.Order, items []connect.Item) ([]error, error) {
	c, err := p.signedIn(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]error, len(items))
	if o.Act == connect.Collect {
		return out, p.fillGroup(c, o, items, out)
	}
	for i, it := range items {
		m := ldap.NewModifyRequest(it.Version, nil)
		m.Replace(o.Name, values(it.Value))
		if err := p.modify(c, m); err != nil {
			if connect.Passes(err) || connect.IsBroken(err) {
				return out, err
			}
			out[i] = err
		}
	}
	return out, nil
}

func values(v string) []string {
	if v == "" {
		return []string{}
	}
	return []string{v}
}

func (p *place) modify(c *ldap.Conn, m *ldap.ModifyRequest) error {
	if err := c.Modify(m); err != nil {
		return p.failed(err)
	}
	return nil
}

// fillGroup puts entries into a group or takes them out, one by one where together they are not
// taken.
func (p *place) fillGroup(c *ldap.Conn, o connect.Order, items []connect.Item, out []error) error {
	var in, gone []string
	for _, it := range items {
		if it.Value == "" {
			gone = append(gone, it.Version)
		} else {
			in = append(in, it.Version)
		}
	}
	err := p.changeGroup(c, o, in, gone)
	if err == nil || connect.Passes(err) || connect.IsBroken(err) {
		return err
	}
	for i, it := range items {
		one := []string{it.Version}
		if it.Value == "" {
			out[i] = p.changeGroup(c, o, nil, one)
		} else {
			out[i] = p.changeGroup(c, o, one, nil)
		}
	}
	return nil
}

// changeGroup changes the members of a group, which is made if there is none.
func (p *place) changeGroup(c *ldap.Conn, o connect.Order, in, gone []string) error {
	m := ldap.NewModifyRequest(o.Target, nil)
	if len(in) > 0 {
		m.Add("member", in)
	}
	if len(gone) > 0 {
		m.Delete("member", gone)
	}
	err := c.Modify(m)
	single := len(in)+len(gone) == 1
	switch {
	case err == nil, single && ldap.IsErrorAnyOf(err, ldap.LDAPResultAttributeOrValueExists, ldap.LDAPResultNoSuchAttribute): // as it is to be
		return nil
	case ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) && len(in) > 0:
		a := ldap.NewAddRequest(o.Target, nil)
		a.Attribute("objectClass", []string{"groupOfNames"})
		a.Attribute("cn", []string{o.Name})
		a.Attribute("member", in)
		err = c.Add(a)
	case ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject):
		return nil
	}
	if err != nil {
		return p.failed(err)
	}
	return nil
}

// Members returns the entries of the group that an order is for.
func (p *place) Members(ctx context.Context, o connect.Order) (out []connect.Item, err error) {
	e, err := p.entry(ctx, o.Target, "1.1")
	if err != nil || e == nil { // it is made with its first members
		return nil, err
	}
	err = p.Contacts(ctx, o.Target, "", func(page connect.Page) error {
		for _, c := range page.Contacts {
			out = append(out, connect.Item{Key: c.Key, Addresses: c.Addresses})
		}
		return nil
	})
	return out, err
}
