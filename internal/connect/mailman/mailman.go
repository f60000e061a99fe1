// Package mailman connects the mailing list manager Mailman 3 by its REST interface: contacts are
// the members of a list; what is written back disables their delivery, unsubscribes them or
// subscribes them to a new list.
package mailman

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/mail"
	"net/url"
	"strings"

	"varnet/core/problem"
	"varnet/core/say"
	"varnet/internal/connect"
)

// Kind is mailing list managers.
var Kind = connect.Kind{
	Code: "mailing-lists", Title: "Mailing list manager", Says: "Mailman 3, by its REST interface.",
	Fields: []connect.Field{
		{Name: "address", Title: "Address of its REST interface", Required: true, Example: "http://127.0.0.1:8001/3.1"},
		{Name: "user", Title: "User", Required: true, Default: "restadmin"},
		{Name: "password", Title: "Password", Secret: true, Required: true},
	},
	Takes: []connect.Act{connect.Collect, connect.Disable, connect.Remove},
	Leads: connect.ByFields("address"),
	Check: func(s connect.Settings) error {
		u, err := url.Parse(s["address"])
		if err != nil || u.Host == "" || u.User != nil || u.Scheme != "http" && u.Scheme != "https" {
			return problem.In("address", "%q is not an address such as http://127.0.0.1:8001/3.1", s["address"])
		}
		return nil
	},
	Open: open,
}

type place struct {
	web  *connect.Web
	base string
	host string
	// roster are the members of lists as they were read last, by their key.
	roster map[string]map[string]member
}

func open(env connect.Env, s connect.Settings) (connect.Place, error) {
	u, err := url.Parse(s["address"])
	if err != nil {
		return nil, problem.In("address", "%s", err)
	}
	p := &place{web: env.NewWeb("", 0), base: strings.TrimSuffix(s["address"], "/"), host: u.Host, roster: map[string]map[string]member{}}
	p.web.SignIn = func(_ context.Context, r *http.Request) error {
		r.SetBasicAuth(s["user"], s["password"])
		return nil
	}
	return p, nil
}

func (p *place) Close() error { p.web.HTTP.CloseIdleConnections(); return nil }

func (p *place) Takes() []connect.Act { return Kind.Takes }

// ask calls the interface, which takes and gives JSON.
func (p *place) ask(ctx context.Context, method, path string, send, into any, wanted ...int) (int, error) {
	header := http.Header{"Accept": {"application/json"}}
	var body []byte
	if send != nil {
		header.Set("Content-Type", "application/json")
		body, _ = json.Marshal(send) // of texts alone
	}
	a, err := p.web.Do(ctx, method, p.base+path, header, body, append(wanted, 200, 201, 202, 204)...)
	if err != nil || into == nil || a.Status != http.StatusOK {
		return a.Status, err
	}
	if err := json.Unmarshal(a.Body, into); err != nil {
		return a.Status, connect.Troublef("%s answered with what is not the JSON of Mailman 3: %v. Check the address.", p.host, err)
	}
	return a.Status, nil
}

// Test asks for its version.
func (p *place) Test(ctx context.Context) (string, error) {
	var v struct {
		MailmanVersion string `json:"mailman_version"`
	}
	if _, err := p.ask(ctx, http.MethodGet, "/system/versions", nil, &v); err != nil {
		return "", err
	}
	all, err := p.Collections(ctx)
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("Signed in at %.60s with %s.", connect.Plain(v.MailmanVersion), say.Plural(int64(len(all)), "list", "lists")), nil
}

const pageSize = 500

// Collections are the lists.
func (p *place) Collections(ctx context.Context) (out []connect.Collection, err error) {
	for page := 1; ; page++ {
		var in struct {
			Entries []struct {
				ListID      string `json:"list_id"`
				Name        string `json:"fqdn_listname"`
				MemberCount int64  `json:"member_count"`
			} `json:"entries"`
		}
		if _, err := p.ask(ctx, http.MethodGet, fmt.Sprintf("/lists?count=%d&page=%d", pageSize, page), nil, &in); err != nil {
			return nil, err
		}
		for _, l := range in.Entries {
			out = append(out, connect.Collection{ID: l.ListID, Name: l.Name, Kind: "list", Contacts: l.MemberCount})
		}
		if len(in.Entries) < pageSize {
			return out, nil
		}
	}
}

// member is a membership.
type member struct {
	ID           string `json:"member_id"`
	Email        string `json:"email"`
	DisplayName  string `json:"display_name"`
	Role         string `json:"role"`
	DeliveryMode string `json:"delivery_mode"`
	Moderation   string `json:"moderation_action"`
	BounceScore  int    `json:"bounce_score"`
}

// text is the member's key: older versions give it as a number.
func (m *member) UnmarshalJSON(b []byte) error {
	type plain member
	var in struct {
		plain
		ID any `json:"member_id"`
	}
	if err := json.Unmarshal(b, &in); err != nil {
		return err
	}
	*m = member(in.plain)
	switch id := in.ID.(type) {
	case string:
		m.ID = id
	case float64:
		m.ID = fmt.Sprintf("%.0f", id)
	}
	return nil
}

// members reads a page of the members of a list.
func (p *place) members(ctx context.Context, list string, page int) ([]member, error) {
	var in struct {
		Entries []member `json:"entries"`
	}
	_, err := p.ask(ctx, http.MethodGet, fmt.Sprintf("/lists/%s/roster/member?count=%d&page=%d", url.PathEscape(list), pageSize, page), nil, &in)
	return in.Entries, err
}

// Contacts pages through the members; the mark is the page.
func (p *place) Contacts(ctx context.Context, list, from string, each func(connect.Page) error) error {
	page := 1
	if from != "" {
		if _, err := fmt.Sscan(from, &page); err != nil {
			return connect.Troublef("%q is not a page.", from)
		}
	}
	for ; ; page++ {
		found, err := p.members(ctx, list, page)
		if err != nil {
			return err
		}
		out := connect.Page{}
		for _, m := range found {
			out.Contacts = append(out.Contacts, connect.Contact{Key: m.ID, Addresses: []string{m.Email}, Cells: []connect.Cell{
				{Name: "name", Value: m.DisplayName}, {Name: "delivery mode", Value: m.DeliveryMode}, {Name: "bounce score", Value: fmt.Sprint(m.BounceScore)}}})
		}
		if len(found) == pageSize {
			out.Next = fmt.Sprint(page + 1)
		}
		if err := each(out); err != nil || len(found) < pageSize {
			return err
		}
	}
}

// AtOnce implements connect.Taker.
func (p *place) AtOnce(connect.Order) int { return 100 }

// Begin makes the new list.
func (p *place) Begin(ctx context.Context, o connect.Order) (string, error) {
	if o.Act != connect.Collect {
		return "", nil
	}
	a, err := mail.ParseAddress(o.Name)
	if err != nil || a.Address != o.Name {
		return "", connect.Troublef("A new list is named by its address, such as spring@lists.fernhollow.example, and not %q.", o.Name)
	}
	all, err := p.Collections(ctx)
	if err != nil {
		return "", err
	}
	id := strings.Replace(strings.ToLower(o.Name), "@", ".", 1)
	for _, c := range all {
		if c.ID == id && c.Contacts != 0 && !o.Refresh {
			return "", connect.Troublef("There is a list %s already, with members. Choose another name.", o.Name)
		}
		if c.ID == id {
			return id, nil
		}
	}
	_, err = p.ask(ctx, http.MethodPost, "/lists", map[string]string{"fqdn_listname": o.Name}, nil)
	return id, err
}

// Discard deletes the list.
func (p *place) Discard(ctx context.Context, o connect.Order) error {
	if o.Act != connect.Collect || o.Target == "" {
		return nil
	}
	_, err := p.ask(ctx, http.MethodDelete, "/lists/"+url.PathEscape(o.Target), nil, nil, http.StatusNotFound)
	return err
}

// whole is the roster of a list, read once.
func (p *place) whole(ctx context.Context, list string) (map[string]member, error) {
	if r := p.roster[list]; r != nil {
		return r, nil
	}
	r := map[string]member{}
	for page := 1; ; page++ {
		found, err := p.members(ctx, list, page)
		if err != nil {
			return nil, err
		}
		for _, m := range found {
			r[m.ID] = m
		}
		if len(found) < pageSize {
			p.roster[list] = r
			return r, nil
		}
	}
}

// disabled is that somebody other than the member stopped their delivery.
const disabled = "by_moderator"

// Now reads members.
func (p *place) Now(ctx context.Context, o connect.Order, items []connect.Item) ([]connect.State, error) {
	roster, err := p.whole(ctx, o.Collection)
	if err != nil {
		return nil, err
	}
	out := make([]connect.State, len(items))
	for i, it := range items {
		m, ok := roster[it.Key]
		if !ok {
			continue
		}
		out[i] = connect.State{Found: true, Addresses: []string{m.Email}}
		if o.Act != connect.Disable {
			continue
		}
		var prefs struct {
			Status string `json:"delivery_status"`
		}
		status, err := p.ask(ctx, http.MethodGet, "/members/"+url.PathEscape(it.Key)+"/preferences", nil, &prefs, http.StatusNotFound)
		if err != nil {
			return nil, err
		}
		out[i].Found = status != http.StatusNotFound
		// By whomever it was stopped, it is: who stopped it themselves is not to have it back when ours is undone.
		if strings.HasPrefix(prefs.Status, "by_") {
			out[i].Value = connect.Present
		}
	}
	return out, nil
}

// Write does it member by member: the interface has no other way.
func (p *place) Write(ctx context.Context, o connect.Order, items []connect.Item) ([]error, error) {
	out := make([]error, len(items))
	for i, it := range items {
		err := p.one(ctx, o, it)
		if connect.Passes(err) || connect.IsBroken(err) || err != nil && ctx.Err() != nil {
			return out, err
		}
		out[i] = err
	}
	return out, nil
}

func (p *place) one(ctx context.Context, o connect.Order, it connect.Item) error {
	is := it.Value == connect.Present
	switch {
	case o.Act == connect.Disable && is:
		return p.setDelivery(ctx, it, disabled)
	case o.Act == connect.Disable:
		return p.setDelivery(ctx, it, "enabled")
	case o.Act == connect.Remove && is:
		_, err := p.ask(ctx, http.MethodDelete, "/members/"+url.PathEscape(it.Key), nil, nil, http.StatusNotFound)
		return err
	case o.Act == connect.Remove:
		return p.subscribe(ctx, o.Collection, it)
	case is:
		return p.subscribe(ctx, o.Target, it)
	}
	status, err := p.ask(ctx, http.MethodDelete, "/lists/"+url.PathEscape(o.Target)+"/member/"+url.PathEscape(it.Addresses[0]), nil, nil, http.StatusNotFound)
	_ = status // who is not there is as they are to be
	return err
}

func (p *place) setDelivery(ctx context.Context, it connect.Item, to string) error {
	_, err := p.ask(ctx, http.MethodPatch, "/members/"+url.PathEscape(it.Key)+"/preferences", map[string]string{"delivery_status": to}, nil)
	return err
}

// subscribe subscribes an address, which was subscribed before and is not asked again.
func (p *place) subscribe(ctx context.Context, list string, it connect.Item) error {
	if len(it.Addresses) == 0 {
		return &connect.Skipped{Why: "there is no address"}
	}
	status, err := p.ask(ctx, http.MethodPost, "/members", map[string]any{"list_id": list, "subscriber": it.Addresses[0], "pre_verified": true, "pre_confirmed": true, "pre_approved": true, "send_welcome_message": false},
		nil, http.StatusConflict)
	switch {
	case err != nil:
		return err
	case status == http.StatusAccepted:
		return connect.Troublef("The subscription waits to be approved.")
	case status != http.StatusConflict:
		return nil
	}
	// Who is a member is as they are to be; who waits is not.
	status, err = p.ask(ctx, http.MethodGet, "/lists/"+url.PathEscape(list)+"/member/"+url.PathEscape(it.Addresses[0]), nil, nil, http.StatusNotFound)
	if err == nil && status == http.StatusNotFound {
		err = connect.Troublef("The subscription conflicts with one that waits to be confirmed.")
	}
	return err
}

// Members returns the members of the list that an order is for, who have other keys there.
func (p *place) Members(ctx context.Context, o connect.Order) (out []connect.Item, err error) {
	roster, err := p.whole(ctx, o.Target)
	for _, m := range roster {
		out = append(out, connect.Item{Addresses: []string{m.Email}})
	}
	return out, err
}

// CollectionKind is what a collection is called here.
func (p *place) CollectionKind() string { return "list" }
