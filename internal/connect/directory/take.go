package directory

import (
	"context"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"varnet/internal/connect"
)

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

// find finds entries by their keys: those of a directory that names none otherwise by their
// distinguished names, which not every directory lets a filter look for.
func (p *place) find(ctx context.Context, items []connect.Item, attributes []string) (map[string]*ldap.Entry, error) {
	out := map[string]*ldap.Entry{}
	var filter strings.Builder
	for _, it := range items {
		if !strings.Contains(it.Key, "=") {
			filter.WriteString("(" + uuid + "=" + ldap.EscapeFilter(it.Key) + ")")
			continue
		}
		e, err := p.entry(ctx, it.Key, attributes...)
		if err != nil {
			return nil, err
		}
		if e != nil {
			out[it.Key] = e
		}
	}
	if filter.Len() == 0 {
		return out, nil
	}
	err := p.search(ctx, p.s["base"], "(|"+filter.String()+")", attributes, func(entries []*ldap.Entry) error {
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
			had := e.GetEqualFoldAttributeValues(o.Name)
			out[i].Value, out[i].Version = strings.Join(had, "; "), version(e.DN, had)
			if len(had) > 1 {
				out[i].Leave = connect.SeveralValues(o.Name, len(had))
			}
		}
	}
	return out, nil
}

// version names an entry and the values that its attribute had.
func version(dn string, had []string) string {
	return strings.Join(append([]string{dn}, had...), "\x00")
}

// Write sets the attribute of each entry, or puts them all into the group.
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
		out[i] = p.setAttribute(c, o.Name, it)
		if connect.Passes(out[i]) || connect.IsBroken(out[i]) {
			return out, out[i]
		}
	}
	return out, nil
}

// setAttribute gives the attribute of an entry its one value, where it still is as it was read.
func (p *place) setAttribute(c *ldap.Conn, name string, it connect.Item) error {
	named := strings.Split(it.Version, "\x00")
	dn, had := named[0], named[1:]
	change := changing(dn, name, had, it.Value)
	if len(change.Changes) == 0 {
		return nil
	}
	err := c.Modify(change)
	if ldap.IsErrorWithCode(err, ldap.LDAPResultInappropriateMatching) { // values of it cannot be compared there
		m := ldap.NewModifyRequest(dn, nil)
		m.Replace(name, values(it.Value))
		err = c.Modify(m)
	}
	switch {
	case err == nil:
		return nil
	case len(had) > 0 && ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchAttribute):
		return &connect.Skipped{Why: "its " + name + " was changed meanwhile"}
	case ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject):
		return &connect.Skipped{Why: "it is no longer there"}
	}
	return p.failed(err)
}

// changing takes the values of an attribute that were read away and gives it another, in one step.
func changing(dn, name string, had []string, value string) *ldap.ModifyRequest {
	m := ldap.NewModifyRequest(dn, nil)
	if len(had) > 0 {
		m.Delete(name, had)
	}
	if v := values(value); len(v) > 0 {
		m.Add(name, v)
	}
	return m
}

func values(v string) []string {
	if v == "" {
		return []string{}
	}
	return []string{v}
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
