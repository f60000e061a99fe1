package outbox

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"varnet/core/event"
	"varnet/core/say"
	"varnet/internal/contract"
	"varnet/internal/letter"
	"varnet/internal/store"
)

// Place returns the path in the console of what an event is about: that of its resource, but for
// lists as such, where another one is imported.
func Place(thing string) string {
	if thing == "lists" {
		return "/import"
	}
	return "/" + thing
}

// settings is where somebody chooses which letters they get.
const settings = "/notices/letters"

// LetterTo writes to a person of an event, and returns the address; store.ErrNotFound where it
// is not for them any more.
func (o *Outbox) LetterTo(ctx context.Context, seq, person int64) (to string, l letter.Letter, err error) {
	e, r, err := o.read(ctx, seq, person)
	if err != nil {
		return "", l, err
	}
	base, workspace, err := o.around(ctx, e)
	if err != nil {
		return "", l, err
	}
	k, _ := event.Of(e.Code)
	l = letter.Letter{Subject: e.Subject, Paragraphs: []string{e.Says}, Link: &letter.Link{Text: k.Act, URL: base + Place(e.Thing)},
		Why: whySent(workspace, k.Title), Unsubscribe: base + settings, ID: fmt.Sprintf("%s.%d", e.ID, person)}
	if e.Code == event.RunFinished || e.Code == event.RoutineDone {
		err = o.illustrate(ctx, e, r, &l)
	}
	return r.Address, l, err
}

// illustrate adds the flow of a run, and its report where somebody wants that. A run that was
// deleted meanwhile has neither.
func (o *Outbox) illustrate(ctx context.Context, e store.Event, r store.Reader, l *letter.Letter) error {
	run, list, err := o.runAndList(ctx, e)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	made, err := o.Summaries.Report(ctx, run, list, zoneOf(r))
	if err != nil {
		return err
	}
	flow := made.Flow()
	drawn, err := flow.PNG()
	if err != nil {
		return err
	}
	l.Picture = &letter.Picture{PNG: drawn, Says: flow.Says}
	if r.WithReport {
		var page bytes.Buffer
		if err := made.PDF(&page); err != nil {
			return err
		}
		l.Files = append(l.Files, letter.File{Name: fmt.Sprintf("report-%d.pdf", run.ID), Type: "application/pdf", Content: page.Bytes()})
	}
	return nil
}

// DailyTo writes to a person of several events.
func (o *Outbox) DailyTo(ctx context.Context, person int64, seqs []int64) (to string, l letter.Letter, err error) {
	var day time.Time
	for _, seq := range seqs {
		e, r, err := o.read(ctx, seq, person)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return "", l, err
		}
		base, workspace, err := o.around(ctx, e)
		if err != nil {
			return "", l, err
		}
		k, _ := event.Of(e.Code)
		text := e.Says
		if workspace != "" {
			text = workspace + ", " + e.At.In(zoneOf(r)).Format("15:04") + ": " + text
		}
		l.Items = append(l.Items, letter.Item{Title: e.Subject, Text: text, Link: letter.Link{Text: k.Act, URL: base + Place(e.Thing)}})
		l.Unsubscribe, l.ID = base+settings, fmt.Sprintf("%s.daily.%d", e.ID, person)
		to, day = r.Address, o.Clock.Now().In(zoneOf(r))
	}
	if len(l.Items) == 0 {
		return "", l, store.ErrNotFound
	}
	l.Subject = fmt.Sprintf("%s in Varnet, %s", say.Plural(int64(len(l.Items)), "event", "events"), day.Format("2 January"))
	l.Why = "You get this letter at most once a day. Choose which events it includes under Notices, Letters."
	return to, l, nil
}

// read reads an event and the person whom it is for.
func (o *Outbox) read(ctx context.Context, seq, person int64) (e store.Event, r store.Reader, err error) {
	if e, err = o.Store.Event(ctx, seq); err != nil {
		return e, r, err
	}
	k, ok := event.Of(e.Code)
	if !ok {
		return e, r, store.ErrNotFound
	}
	r, err = o.Store.Reader(ctx, e, roles(k.For), person)
	return e, r, err
}

// around returns where people reach the console, and the name of an event's workspace.
func (o *Outbox) around(ctx context.Context, e store.Event) (base, workspace string, err error) {
	s, err := o.Office.Settings(ctx)
	if err != nil || e.WorkspaceID == nil {
		return strings.TrimSuffix(s.BaseURL, "/"), "", err
	}
	t, err := o.Store.Team(ctx, *e.WorkspaceID)
	return strings.TrimSuffix(s.BaseURL, "/"), t.Name, err
}

func whySent(workspace, title string) string {
	where := "in this installation"
	if workspace != "" {
		where = "in the workspace “" + workspace + "”"
	}
	return fmt.Sprintf("You get this letter because letters about “%s” %s are on for you. Choose which letters you get under Notices, Letters.", title, where)
}

// Notice returns an event as the API shows it.
func Notice(e store.Event) contract.Event {
	k, _ := event.Of(e.Code)
	return contract.Event{ID: e.ID, Seq: e.Seq, Code: e.Code, Severity: k.Severity, At: e.At, Thing: e.Thing, Subject: e.Subject, Says: e.Says, Data: contract.EventData(e.Data)}
}
