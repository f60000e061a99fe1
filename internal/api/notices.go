package api

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/event"
	"varnet/internal/contract"
	"varnet/internal/outbox"
	"varnet/internal/store"
)

func (a *API) registerNotices(h huma.API) {
	huma.Register(h, operation("get-event-kinds", http.MethodGet, "/event-kinds", "The kinds of events"), a.eventKinds)
	huma.Register(h, operation("get-events", http.MethodGet, "/event-log", "What happened, the oldest first"), a.events)
	huma.Register(h, operation("get-notices", http.MethodGet, "/notices", "The notices that you get in the console"), a.notices)
	huma.Register(h, operation("read-notices", http.MethodPost, "/notices/read", "Record that you have read notices"), a.readNotices)
	huma.Register(h, operation("get-letter-wishes", http.MethodGet, "/person/letters", "Which letters you want"), a.letterWishes)
	huma.Register(h, operation("set-letter-wishes", http.MethodPut, "/person/letters", "Choose which letters you want"), a.setLetterWishes)
}

func kindBody(k event.Kind) contract.EventKind {
	b := contract.EventKind{Code: k.Code, Title: k.Title, Meaning: k.Meaning, Severity: k.Severity, For: k.For, Carries: k.Carries}
	if !k.Fixed {
		b.Letter = k.Letter
	}
	return b
}

func (a *API) eventKinds(context.Context, *struct{}) (*pageOutput[contract.EventKind], error) {
	return whole(contract.Each(event.Kinds(), kindBody)), nil
}

func (a *API) events(ctx context.Context, in *struct {
	After int64 `query:"after" minimum:"0" doc:"Events with higher numbers than this; 0: from the oldest that is kept."`
	Limit
}) (*pageOutput[contract.Event], error) {
	found, err := a.store.Events(ctx, outbox.ViewOf(callerOf(ctx)), in.After, in.Limit.Limit)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return whole(contract.Each(found, outbox.Notice)), nil
}

// mostNotices is how many groups of notices are shown.
const mostNotices = 50

func (a *API) notices(ctx context.Context, _ *struct{}) (*struct{ Body contract.Notices }, error) {
	v := outbox.ViewOf(callerOf(ctx))
	groups, err := a.store.NoticeGroups(ctx, v, mostNotices)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	n := contract.Notices{Items: contract.Each(groups, noticeBody)}
	for _, i := range n.Items {
		n.Last = max(n.Last, i.Seq)
		if i.Unread > 0 {
			n.Unread++
		}
	}
	return &struct{ Body contract.Notices }{n}, nil
}

func noticeBody(g store.NoticeGroup) contract.Notice {
	k, _ := event.Of(g.Code)
	return contract.Notice{Event: outbox.Notice(g.Event), Count: g.Count, Unread: g.Unread, Act: k.Act, Place: outbox.Place(g.Thing)}
}

func (a *API) readNotices(ctx context.Context, in *struct{ Body contract.NoticesRead }) (*struct{ Body contract.Notices }, error) {
	v, err := outbox.ViewOf(callerOf(ctx)), error(nil)
	switch {
	case in.Body.Seq > 0 && in.Body.UpTo > 0 || in.Body.Seq+in.Body.UpTo == 0:
		return nil, huma.Error422UnprocessableEntity("Name one notice (seq), or up to which all are read (upto).")
	case in.Body.Seq > 0:
		err = a.store.SeeNotices(ctx, v, in.Body.Seq)
	default:
		err = a.store.SeeAllNotices(ctx, v, in.Body.UpTo)
	}
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.notices(ctx, nil)
}

func (a *API) letterWishes(ctx context.Context, _ *struct{}) (*struct{ Body contract.LetterWishes }, error) {
	c := callerOf(ctx)
	w, chosen, err := a.store.LetterWishes(ctx, c.PersonID, c.WorkspaceID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := contract.LetterWishes{Zone: w.Zone, DailyHour: w.DailyHour, WithReport: w.WithReport, Choices: []contract.LetterWish{}}
	for _, k := range event.Kinds() {
		if k.Fixed || !outbox.Concerns(c, k) {
			continue
		}
		choice, ok := chosen[k.Code]
		if !ok {
			choice = k.Letter
		}
		out.Choices = append(out.Choices, contract.LetterWish{Code: k.Code, Choice: choice})
	}
	return &struct{ Body contract.LetterWishes }{out}, nil
}

func (a *API) setLetterWishes(ctx context.Context, in *struct{ Body contract.LetterWishes }) (*struct{ Body contract.LetterWishes }, error) {
	c := callerOf(ctx)
	if _, err := time.LoadLocation(in.Body.Zone); err != nil {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("The time zone %q is not known; name one such as Europe/Berlin.", in.Body.Zone))
	}
	choices := map[event.Code]event.Choice{}
	for i, w := range in.Body.Choices {
		if k, ok := event.Of(w.Code); !ok || k.Fixed || !outbox.Concerns(c, k) {
			return nil, huma.Error422UnprocessableEntity("One of the choices cannot be made.", &huma.ErrorDetail{Location: fmt.Sprintf("body.choices[%d].code", i), Message: "there are no letters about this kind of event for you", Value: w.Code})
		}
		choices[w.Code] = w.Choice
	}
	wishes := store.LetterWishes{Zone: in.Body.Zone, DailyHour: in.Body.DailyHour, WithReport: in.Body.WithReport}
	err := a.store.SetLetterWishes(ctx, c.PersonID, wishes, choices, func(code event.Code) int64 {
		if k, _ := event.Of(code); k.For == event.Operators || k.For == event.OnePerson {
			return 0
		}
		return c.WorkspaceID
	})
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.letterWishes(ctx, nil)
}
