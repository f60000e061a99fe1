package book

import (
	"bytes"
	"context"
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"varnet/internal/connect"
)

// doer lets the CardDAV library speak at our pace and with our errors.
type doer struct{ web *connect.Web }

func (d doer) Do(r *http.Request) (*http.Response, error) {
	var body []byte
	if r.Body != nil {
		var err error
		if body, err = io.ReadAll(r.Body); err != nil {
			return nil, err
		}
	}
	a, err := d.web.Do(r.Context(), r.Method, r.URL.String(), r.Header, body, http.StatusOK, http.StatusCreated, http.StatusNoContent, http.StatusMultiStatus)
	if err != nil {
		return nil, err
	}
	return &http.Response{StatusCode: a.Status, Status: http.StatusText(a.Status), Header: a.Header, Body: io.NopCloser(bytes.NewReader(a.Body)), Request: r}, nil
}

// card is a card as it is at the server, byte for byte.
type card struct {
	Path, Version, text string
}

// multistatus is an answer for several things (RFC 4918, 13).
type multistatus struct {
	XMLName   xml.Name `xml:"DAV: multistatus"`
	Responses []struct {
		Href  string `xml:"DAV: href"`
		Props []struct {
			Status string `xml:"DAV: status"`
			Prop   struct {
				ETag string `xml:"DAV: getetag"`
				Card string `xml:"urn:ietf:params:xml:ns:carddav address-data"`
			} `xml:"DAV: prop"`
		} `xml:"DAV: propstat"`
	} `xml:"DAV: response"`
}

// cards reads some cards as they are; those that are gone are left out (RFC 6352, 8.7).
func (p *place) cards(ctx context.Context, book string, paths []string) (out []card, err error) {
	address, err := p.at(book)
	if err != nil {
		return nil, err
	}
	var body bytes.Buffer
	body.WriteString(`<?xml version="1.0" encoding="utf-8"?><C:addressbook-multiget xmlns="DAV:" xmlns:C="urn:ietf:params:xml:ns:carddav"><prop><getetag/><C:address-data/></prop>`)
	for _, path := range paths {
		body.WriteString("<href>")
		_ = xml.EscapeText(&body, []byte((&url.URL{Path: path}).EscapedPath())) // to memory
		body.WriteString("</href>")
	}
	body.WriteString("</C:addressbook-multiget>")
	a, err := p.web.Do(ctx, "REPORT", address, http.Header{"Content-Type": {"application/xml; charset=utf-8"}, "Depth": {"1"}}, body.Bytes(), http.StatusMultiStatus)
	if err != nil {
		return nil, err
	}
	var m multistatus
	if err := xml.Unmarshal(a.Body, &m); err != nil {
		return nil, connect.Troublef("%s did not answer as an address book server does: %s.", p.base.Host, connect.Plain(err.Error()))
	}
	for _, r := range m.Responses {
		for _, s := range r.Props {
			if u, err := url.Parse(strings.TrimSpace(r.Href)); err == nil && s.Prop.Card != "" && strings.Contains(s.Status, " 200 ") {
				out = append(out, card{u.Path, s.Prop.ETag, s.Prop.Card})
			}
		}
	}
	return out, nil
}

// put writes a card; version is that which it must still have, "" where there must be none.
func (p *place) put(ctx context.Context, path, version, text string) error {
	address, err := p.at(path)
	if err != nil {
		return err
	}
	h := http.Header{"Content-Type": {"text/vcard; charset=utf-8"}}
	if version == "" {
		h.Set("If-None-Match", "*")
	} else {
		h.Set("If-Match", version)
	}
	a, err := p.web.Do(ctx, http.MethodPut, address, h, []byte(text), http.StatusOK, http.StatusCreated, http.StatusNoContent, http.StatusPreconditionFailed)
	if err == nil && a.Status == http.StatusPreconditionFailed && version != "" {
		err = &connect.Skipped{Why: "it was changed at this moment"}
	}
	return err
}

// delete deletes a card or a book; one that is gone is as it is to be.
func (p *place) delete(ctx context.Context, path string) error {
	address, err := p.at(path)
	if err == nil {
		_, err = p.web.Do(ctx, http.MethodDelete, address, nil, nil, http.StatusOK, http.StatusNoContent, http.StatusNotFound, http.StatusGone)
	}
	return err
}

// makeBook makes an address book (RFC 5689).
func (p *place) makeBook(ctx context.Context, path, name string) error {
	address, err := p.at(path)
	if err != nil {
		return err
	}
	var title bytes.Buffer
	_ = xml.EscapeText(&title, []byte(name)) // to memory
	body := fmt.Sprintf(`<?xml version="1.0" encoding="utf-8"?><mkcol xmlns="DAV:" xmlns:C="urn:ietf:params:xml:ns:carddav"><set><prop><resourcetype><collection/><C:addressbook/></resourcetype><displayname>%s</displayname></prop></set></mkcol>`, title.String())
	_, err = p.web.Do(ctx, "MKCOL", address, http.Header{"Content-Type": {"application/xml; charset=utf-8"}}, []byte(body), http.StatusCreated)
	return err
}
