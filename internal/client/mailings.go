package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"varnet/internal/contract"
)

// RegisterMailing registers a mailing that was sent to rows of a run.
func (c *Client) RegisterMailing(ctx context.Context, n contract.NewMailing) (m contract.Mailing, err error) {
	return m, c.call(ctx, http.MethodPost, "/mailings", n, &m)
}

// MailingTable is a mailing that is registered by the table of whom it went to.
type MailingTable struct {
	Name       string
	SentAt     time.Time // zero: now
	WatchHours int       // 0: as usual
	// Address, Tag and Message are columns from 1; 0: found by themselves.
	Address, Tag, Message int
}

// ImportMailing registers a mailing by the table of whom it went to.
func (c *Client) ImportMailing(ctx context.Context, t MailingTable, file io.Reader) (m contract.Mailing, err error) {
	q := url.Values{"name": {t.Name}}
	if !t.SentAt.IsZero() {
		q.Set("sentAt", t.SentAt.Format(time.RFC3339))
	}
	for name, n := range map[string]int{"watchHours": t.WatchHours, "address": t.Address, "tag": t.Tag, "messageId": t.Message} {
		if n > 0 {
			q.Set(name, strconv.Itoa(n))
		}
	}
	return m, c.call(ctx, http.MethodPost, "/mailings/table?"+q.Encode(), file, &m)
}

// Mailings returns the newest mailings, of a list or (0) of any.
func (c *Client) Mailings(ctx context.Context, list int64) (p contract.Page[contract.Mailing], err error) {
	return p, c.call(ctx, http.MethodGet, fmt.Sprintf("/mailings?listId=%d", list), nil, &p)
}

// Mailing returns a mailing with what became of it.
func (c *Client) Mailing(ctx context.Context, id int64) (m contract.Mailing, err error) {
	return m, c.call(ctx, http.MethodGet, fmt.Sprintf("/mailings/%d", id), nil, &m)
}

// MailingLetters returns a page of the letters of a mailing with an outcome, "": any.
func (c *Client) MailingLetters(ctx context.Context, id int64, outcome, cursor string) (p contract.Page[contract.Letter], err error) {
	q := url.Values{"limit": {"500"}}
	for name, v := range map[string]string{"outcome": outcome, "cursor": cursor} {
		if v != "" {
			q.Set(name, v)
		}
	}
	return p, c.call(ctx, http.MethodGet, fmt.Sprintf("/mailings/%d/letters?%s", id, q.Encode()), nil, &p)
}

// ExportMailing writes whom a mailing goes to, with the return address of each letter.
func (c *Client) ExportMailing(ctx context.Context, id int64, out io.Writer) error {
	return c.download(ctx, fmt.Sprintf("/mailings/%d/file", id), out)
}

// SendMailing says that a mailing is sent that was to be sent later.
func (c *Client) SendMailing(ctx context.Context, id int64) (m contract.Mailing, err error) {
	return m, c.call(ctx, http.MethodPost, fmt.Sprintf("/mailings/%d/sent", id), nil, &m)
}

// DeleteMailing deletes a mailing; what is known of its addresses stays.
func (c *Client) DeleteMailing(ctx context.Context, id int64) error {
	return c.remove(ctx, fmt.Sprintf("/mailings/%d", id))
}

// ImportBounces imports messages that came back: one, a mailbox of them, or a zip.
func (c *Client) ImportBounces(ctx context.Context, file io.Reader) (t contract.ImportedBounces, err error) {
	return t, c.call(ctx, http.MethodPost, "/bounces", file, &t)
}

// ImportOutcomes imports a table in which a sending tool says what became of letters. columns
// are by name (address, outcome, reason, at, messageId) from 1; means is by the tool's words.
func (c *Client) ImportOutcomes(ctx context.Context, columns map[string]int, means map[string]string, file io.Reader) (t contract.ImportedBounces, err error) {
	q := url.Values{}
	for name, n := range columns {
		if n > 0 {
			q.Set(name, strconv.Itoa(n))
		}
	}
	for word, m := range means {
		q.Add("means", word+"="+m)
	}
	return t, c.call(ctx, http.MethodPost, "/bounces/table?"+q.Encode(), file, &t)
}

// Bounces returns a page of the messages that came back.
func (c *Client) Bounces(ctx context.Context, cursor string) (p contract.Page[contract.Returned], err error) {
	q := url.Values{}
	if cursor != "" {
		q.Set("cursor", cursor)
	}
	return p, c.call(ctx, http.MethodGet, "/bounces?"+q.Encode(), nil, &p)
}

// Outcomes returns what became of the letters, of one mailing or (0) of all.
func (c *Client) Outcomes(ctx context.Context, mailing int64) (s contract.OutcomeSummary, err error) {
	return s, c.call(ctx, http.MethodGet, fmt.Sprintf("/outcomes?mailingId=%d", mailing), nil, &s)
}

// ForgetOutcome forgets what is known of an address by letters sent to it.
func (c *Client) ForgetOutcome(ctx context.Context, address string) error {
	return c.remove(ctx, "/outcomes/"+url.PathEscape(address))
}
