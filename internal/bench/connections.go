package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strings"
	"text/tabwriter"
	"time"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
	"varnet/internal/practice/shed"
)

// A contact platform with a limit of requests.
const (
	connectPort   = 2714
	connectPeople = 200_000
	connectPace   = 10  // requests a second
	connectPage   = 500 // contacts a request
	connectMost   = 1.2 // times what the limit allows
	tokenLife     = 45 * time.Second
)

// connections imports a large group from a platform with a limit, errors now and then and tokens
// that end in the midst, and writes back to it; and does the same once more with the service
// killed in the midst of both.
func connections() error {
	w, err := practice.Load("fernhollow")
	if err != nil {
		return err
	}
	in, err := install(w, connectPort)
	if err != nil {
		return err
	}
	defer in.stop()
	platform, err := largePlatform(w)
	if err != nil {
		return err
	}
	defer platform.Close()
	c, err := in.connectByOAuth(platform)
	if err != nil {
		return err
	}
	t := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', 0)
	fmt.Fprintln(t, "what\tcontacts\trequests\trefused as too many\tseconds\tthe limit allows\ttimes that\tlost\tdoubled")
	var missed []string
	for _, killed := range []bool{false, true} {
		rows, err := in.throughPlatform(platform, c, killed)
		if err != nil {
			return err
		}
		for _, r := range rows {
			bound := float64(r.needs) / connectPace
			fmt.Fprintf(t, "%s\t%d\t%d\t%d\t%.1f\t%.1f\t%.2f\t%d\t%d\n", r.what, r.contacts, r.requests, r.limited, r.took.Seconds(), bound, r.took.Seconds()/bound, r.lost, r.doubled)
			if r.lost+r.doubled > 0 || !killed && r.took.Seconds() > connectMost*bound {
				missed = append(missed, r.what)
			}
		}
	}
	if err := t.Flush(); err != nil {
		return err
	}
	fmt.Printf("\nThe limit is %d requests a second, every 50th is answered with an error, tokens are good for %v. A service that is killed is taken for lost after 12 s.\n", connectPace, tokenLife)
	if len(missed) > 0 {
		return fmt.Errorf("missed (%.1f times, nothing lost or doubled): %s", connectMost, strings.Join(missed, ", "))
	}
	return nil
}

// largePlatform is a platform with many people in a group, of whom some requests go wrong.
func largePlatform(w *practice.World) (*shed.Shed, error) {
	s, err := shed.Start("127.0.0.1:0", connectPace)
	if err != nil {
		return nil, err
	}
	s.TokenLife = tokenLife
	var list bytes.Buffer
	if err = w.WriteList(&list, connectPeople); err == nil {
		_, err = s.Fill("Members", &list)
	}
	s.Troubles(func(n int) int { return map[int]int{7: http.StatusInternalServerError, 31: -1}[n%100] })
	return s, err
}

// connectByOAuth connects a platform by signing in at its page, as a browser does.
func (in *installation) connectByOAuth(s *shed.Shed) (c contract.Connection, err error) {
	ctx, root := context.Background(), strings.TrimSuffix(s.URL, "/v1")
	recipe := strings.Replace(shed.Recipe, `{"header": "Shed-Key"}`, fmt.Sprintf(`{"oauth": {"authorize": "%[1]s/oauth/authorize", "token": "%[1]s/oauth/token"}}`, root), 1)
	if c, err = in.api.MakeConnection(ctx, contract.NewConnection{Name: "Potting Shed", Kind: "platform", Settings: map[string]string{"recipe": recipe, "address": s.URL, "clientId": shed.Client}}); err != nil {
		return c, err
	}
	page, err := in.api.GoToPlace(ctx, c.ID, in.url)
	if err != nil {
		return c, err
	}
	browser := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	resp, err := browser.Get(page + "&allow=yes")
	if err != nil {
		return c, err
	}
	_ = resp.Body.Close()
	back, err := url.Parse(resp.Header.Get("Location"))
	if err != nil {
		return c, err
	}
	return in.api.ComeFromPlace(ctx, back.Query().Get("state"), back.Query().Get("code"))
}

// passed is what came of reading or writing through a platform's limit.
type passed struct {
	what               string
	contacts, requests int
	limited, needs     int
	took               time.Duration
	lost, doubled      int64
}

// throughPlatform imports the group, verifies it without asking anybody, and sets a field.
func (in *installation) throughPlatform(s *shed.Shed, c contract.Connection, killed bool) ([]passed, error) {
	ctx := context.Background()
	suffix := ""
	if killed {
		suffix = ", the service killed in the midst"
	}
	pages := (connectPeople + connectPage - 1) / connectPage
	read := passed{what: "import" + suffix, contacts: connectPeople, needs: pages}
	begun, err := in.api.BeginImport(ctx, c.ID, contract.NewImport{Collection: "Members"})
	if err == nil {
		err = read.measure(s, func() error {
			return in.whileKilled(killed, func() (bool, int64, error) {
				i, err := in.api.ImportByID(ctx, begun.ID)
				if err != nil {
					return false, 0, err
				}
				if begun = i; i.State == "failed" {
					err = errors.New(i.Says)
				}
				return i.EndedAt != nil, i.Contacts, err
			})
		})
	}
	if err != nil {
		return nil, err
	}
	l, err := in.api.List(ctx, begun.ListID)
	if err != nil {
		return nil, err
	}
	read.lost = max(0, connectPeople-l.Rows)
	read.doubled = max(0, l.Rows-connectPeople)
	run, err := in.api.StartRun(ctx, l.ID, contract.NewRun{Depth: "syntax"})
	if err == nil {
		run, err = in.api.Wait(ctx, run.ID, func(contract.Run) {})
	}
	if err != nil {
		return nil, err
	}
	written, err := in.writeThrough(s, run, fmt.Sprintf("mail state %v", killed), killed)
	written.what += suffix
	return []passed{read, written}, err
}

// writeThrough sets a field of every contact that has a result.
func (in *installation) writeThrough(s *shed.Shed, run contract.Run, field string, killed bool) (passed, error) {
	ctx, p := context.Background(), passed{what: "write-back of a field"}
	n := contract.NewWriteBack{WriteBackSpec: contract.WriteBackSpec{Steps: []contract.WriteBackStep{{Act: "field", Name: field, Of: "finding"}}}}
	d, err := in.api.DraftWriteBack(ctx, run.ID, n)
	if err != nil {
		return p, err
	}
	n.Tag = d.Tag
	p.contacts = int(d.Steps[0].Contacts)
	p.needs = 2 * ((p.contacts + connectPage - 1) / connectPage) // each is read, and then written
	b, err := in.api.BeginWriteBack(ctx, run.ID, n)
	if err != nil {
		return p, err
	}
	err = p.measure(s, func() error {
		return in.whileKilled(killed, func() (bool, int64, error) {
			now, err := in.api.WriteBack(ctx, b.ID)
			if err != nil {
				return false, 0, err
			}
			b = now
			done := int64(0)
			for _, c := range b.Counts {
				if c.State == "done" {
					done += c.Items
				}
			}
			if b.State == "failed" {
				err = errors.New(b.Says)
			}
			return b.EndedAt != nil, done, err
		})
	})
	set := int64(0)
	for _, c := range s.All() {
		if c.Fields[field] != "" {
			set++
		}
	}
	p.lost, p.doubled = max(0, int64(p.contacts)-set), max(0, set-int64(p.contacts))
	return p, err
}

// measure takes the time of something, and counts the requests of it.
func (p *passed) measure(s *shed.Shed, do func() error) error {
	before, limited := s.Requests()
	start := time.Now()
	err := do()
	p.took = time.Since(start)
	now, l := s.Requests()
	p.requests, p.limited = now-before, l-limited
	return err
}

// whileKilled looks until something is over; the service is killed and started again when a third
// of the contacts are through, if it is to be.
func (in *installation) whileKilled(kill bool, look func() (over bool, through int64, err error)) error {
	for {
		over, through, err := look()
		var said *client.Problem
		if err != nil && (errors.As(err, &said) || over) {
			return err
		}
		if over {
			return nil
		}
		if kill && through > connectPeople/3 {
			kill = false
			if err := in.kill(0); err != nil {
				return err
			}
		}
		time.Sleep(100 * time.Millisecond)
	}
}
