package api

import (
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/address"
	corebounce "varnet/core/bounce"
	"varnet/core/policy"
	"varnet/core/say"
	"varnet/internal/bounce"
	"varnet/internal/contract"
	"varnet/internal/intake"
	"varnet/internal/store"
)

func (a *API) registerMailings(h huma.API) {
	huma.Register(h, creates(operation("register-mailing", http.MethodPost, "/mailings", "Register a mailing that was sent to rows of a run")), a.registerMailing)
	table := creates(operation("import-mailing", http.MethodPost, "/mailings/table", "Register a mailing by the table of whom it went to"))
	table.RequestBody = fileBody
	huma.Register(h, table, a.importMailing)
	huma.Register(h, operation("get-mailings", http.MethodGet, "/mailings", "The mailings, the newest first"), a.mailings)
	huma.Register(h, operation("get-mailing", http.MethodGet, "/mailings/{id}", "One mailing, with what became of it"), a.mailing)
	huma.Register(h, operation("get-mailing-letters", http.MethodGet, "/mailings/{id}/letters", "The letters of a mailing"), a.mailingLetters)
	file := operation("export-mailing", http.MethodGet, "/mailings/{id}/file", "To whom a mailing goes, with the return address of each letter, as CSV")
	file.Responses = fileResponse("text/csv")
	huma.Register(h, file, a.exportMailing)
	huma.Register(h, operation("send-mailing", http.MethodPost, "/mailings/{id}/sent", "Record that a mailing prepared for later is being sent now"), a.mailingSent)
	huma.Register(h, operation("delete-mailing", http.MethodDelete, "/mailings/{id}", "Delete a mailing; what is known of its addresses stays"),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			if err := a.store.DeleteMailing(ctx, workspace(ctx).ID, in.ID); err != nil {
				return nil, a.failed(ctx, err)
			}
			return nil, nil
		})
	bounces := operation("import-bounces", http.MethodPost, "/bounces", "Import messages that came back: one, a mailbox of them, or a zip")
	bounces.RequestBody = fileBody
	huma.Register(h, bounces, a.importBounces)
	outcomes := operation("import-outcomes", http.MethodPost, "/bounces/table", "Import a table in which a sending tool says what became of letters")
	outcomes.RequestBody = fileBody
	huma.Register(h, outcomes, a.importOutcomes)
	huma.Register(h, operation("get-bounces", http.MethodGet, "/bounces", "The messages that came back, the newest first"), a.bounces)
	huma.Register(h, operation("get-outcomes", http.MethodGet, "/outcomes", "What became of the letters, by what had been found of their addresses"), a.outcomes)
	huma.Register(h, operation("forget-outcome", http.MethodDelete, "/outcomes/{address}", "Forget what is known of an address by letters sent to it"), a.forgetOutcome)
}

type mailingOutput struct{ Body contract.Mailing }

func (a *API) registerMailing(ctx context.Context, in *struct{ Body contract.NewMailing }) (*mailingOutput, error) {
	run, l, err := a.runAndList(ctx, in.Body.RunID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	m := a.newMailing(ctx, in.Body.Name, in.Body.SentAt, in.Body.WatchHours)
	m.ListID, m.RunID, m.Decisions, m.SendLater = &l.ID, &run.ID, in.Body.Decisions, in.Body.SendLater
	if len(m.Decisions) == 0 {
		m.Decisions = []string{string(policy.Keep)}
	}
	if err := a.notYetSent(m); err != nil {
		return nil, err
	}
	if err := a.engine.Mail(ctx, &m); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.mailingOf(ctx, m)
}

func (a *API) newMailing(ctx context.Context, name string, sent time.Time, hours int) store.Mailing {
	m := store.Mailing{WorkspaceID: workspace(ctx).ID, Name: strings.TrimSpace(name), SentAt: sent, WatchHours: cmp.Or(hours, int(corebounce.Watch.Hours())), ByWhom: whose(ctx)}
	if sent.IsZero() {
		m.SentAt = a.engine.Clock.Now()
	}
	return m
}

// aheadOfUs is by how much the clock of who sent a mailing may be ahead.
const aheadOfUs = 10 * time.Minute

func (a *API) notYetSent(m store.Mailing) error {
	if m.SentAt.After(a.engine.Clock.Now().Add(aheadOfUs)) {
		return huma.Error422UnprocessableEntity("A mailing is registered when it is sent, not before.", &huma.ErrorDetail{Location: "body.sentAt", Message: "this is in the future", Value: m.SentAt})
	}
	return nil
}

// MailingTable names a mailing and the columns of its table.
type MailingTable struct {
	Name       string    `query:"name" minLength:"1" maxLength:"200" required:"true" doc:"The name of the mailing."`
	SentAt     time.Time `query:"sentAt" doc:"When it was sent; now unless given."`
	WatchHours int       `query:"watchHours" minimum:"1" maximum:"240" doc:"For how many hours bounces are waited for; 72 unless given."`
	Address    int       `query:"address" minimum:"0" doc:"The column with the addresses, from 1; detected unless given."`
	Tag        int       `query:"tag" minimum:"0" doc:"The column with the tags of the return addresses, from 1; the one called tag unless given."`
	Message    int       `query:"messageId" minimum:"0" doc:"The column with the Message-IDs, from 1; the one called Message-ID unless given."`
}

func (a *API) importMailing(ctx context.Context, in *struct {
	Streamed
	Written
	MailingTable
}) (*mailingOutput, error) {
	m := a.newMailing(ctx, in.Name, in.SentAt, in.WatchHours)
	if err := a.notYetSent(m); err != nil {
		return nil, err
	}
	err := a.whole(ctx, a.reading, in.body, func(file io.Reader) error {
		read, err := intake.Read(ctx, file, in.Sheet, in.overrule())
		if err != nil {
			return err
		}
		defer read.Close()
		letters, err := bounce.LettersIn(read, bounce.Columns{Address: in.Address - 1, Tag: in.Tag - 1, Message: in.Message - 1}, a.engine.Grammar)
		if err != nil {
			return err
		}
		return a.engine.MailTo(ctx, &m, letters)
	})
	if err != nil {
		return nil, a.broken(ctx, err)
	}
	return a.mailingOf(ctx, m)
}

func (a *API) mailingOf(ctx context.Context, m store.Mailing) (*mailingOutput, error) {
	m, err := a.store.Mailing(ctx, m.WorkspaceID, m.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	counts, err := a.store.OutcomeCounts(ctx, m.WorkspaceID, m.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	body, err := a.mailingBody(ctx, m, counts)
	if err == nil {
		body.Trial, err = a.progressBody(ctx, m)
	}
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &mailingOutput{body}, nil
}

func (a *API) mailingBody(ctx context.Context, m store.Mailing, counts []store.OutcomeCount) (contract.Mailing, error) {
	b := contract.Mailing{ID: m.ID, Name: m.Name, ListID: m.ListID, RunID: m.RunID, SentAt: m.SentAt, WatchUntil: m.WatchUntil(), State: m.State, Letters: m.Letters, By: m.ByWhom}
	verdicts, err := a.store.Verdicts(ctx)
	t := bounce.Sum(counts, verdicts)
	b.Outcomes, b.Found, b.Says = countsBody(t.All), foundBody(t.Found), t.Says(m)
	return b, err
}

func countsBody(c bounce.Counts) contract.MailingCounts { return contract.MailingCounts(c) }

func foundBody(found []bounce.Found) []contract.OutcomeFound {
	return contract.Each(found, func(f bounce.Found) contract.OutcomeFound {
		return contract.OutcomeFound{Finding: string(f.Finding), Cause: string(f.Cause), Letters: f.Letters(), Odds: f.Odds, Outcomes: countsBody(f.Counts)}
	})
}

func (a *API) mailings(ctx context.Context, in *struct {
	Cursor
	Limit
	ListID int64 `query:"listId" minimum:"0" doc:"Only those that went to this list."`
}) (*pageOutput[contract.Mailing], error) {
	var before int64
	if err := in.place(&before); err != nil {
		return nil, err
	}
	found, err := a.store.Mailings(ctx, workspace(ctx).ID, in.ListID, before, in.Limit.Limit)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	bodies := make([]contract.Mailing, len(found))
	for i, m := range found {
		counts, err := a.store.OutcomeCounts(ctx, m.WorkspaceID, m.ID)
		if err == nil {
			bodies[i], err = a.mailingBody(ctx, m, counts)
		}
		if err != nil {
			return nil, a.failed(ctx, err)
		}
		bodies[i].Found = nil
	}
	return pageOf(bodies, in.Limit.Limit, func(m contract.Mailing) any { return m.ID }), nil
}

func (a *API) mailing(ctx context.Context, in *ByID) (*mailingOutput, error) {
	return a.mailingOf(ctx, store.Mailing{WorkspaceID: workspace(ctx).ID, ID: in.ID})
}

func (a *API) mailingLetters(ctx context.Context, in *struct {
	ByID
	Cursor
	Limit
	Outcome   string `query:"outcome" enum:"open,bounced,delayed,complained,no bounce" doc:"Only those with this outcome."`
	Permanent string `query:"permanent" enum:"yes,no" doc:"Of bounces only those for good, or only the others."`
	Domain    string `query:"domain" maxLength:"255" doc:"Only those to this domain."`
}) (*pageOutput[contract.Letter], error) {
	f := store.MailedFilter{Outcome: in.Outcome, Domain: strings.ToLower(in.Domain), Limit: in.Limit.Limit}
	if in.Permanent != "" {
		yes := in.Permanent == "yes"
		f.Permanent = &yes
	}
	if err := in.place(&f.After); err != nil {
		return nil, err
	}
	m, err := a.store.Mailing(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	found, err := a.store.MailedOf(ctx, m.ID, f)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	letters, err := a.letterBodies(ctx, found)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return pageOf(letters, f.Limit, func(l contract.Letter) any { return l.Number }), nil
}

// exportMailing writes whom a mailing goes to for a sending tool.
func (a *API) exportMailing(ctx context.Context, in *ByID) (*huma.StreamResponse, error) {
	m, err := a.store.Mailing(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.stream(download{name: fmt.Sprintf("mailing-%d.csv", m.ID), kind: "text/csv", write: func(out io.Writer) error {
		w := csv.NewWriter(out)
		if err := w.Write([]string{"address", "return address"}); err != nil {
			return err
		}
		err := a.store.EachLetter(ctx, m.ID, func(l store.Mailed) error {
			return w.Write([]string{l.Mailbox, a.engine.Bounces.Tags.Address(l.MailingID, l.Number)})
		})
		w.Flush()
		return cmp.Or(err, w.Error())
	}}), nil
}

func (a *API) mailingSent(ctx context.Context, in *ByID) (*mailingOutput, error) {
	m, err := a.store.Mailing(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if m.State != store.MailingExported {
		return nil, huma.Error409Conflict("It is not waiting to be sent.")
	}
	if err := a.store.BeginWatches(ctx, []int64{m.ID}, a.engine.Clock.Now()); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.mailingOf(ctx, m)
}

func (a *API) letterBodies(ctx context.Context, found []store.Mailed) ([]contract.Letter, error) {
	verdicts, err := a.store.Verdicts(ctx)
	return contract.Each(found, func(m store.Mailed) contract.Letter {
		v := verdicts[m.Said]
		return contract.Letter{Number: m.Number, Address: m.Mailbox, Return: a.engine.Bounces.Tags.Address(m.MailingID, m.Number), Finding: string(v.Finding), Cause: string(v.Cause), Outcome: cmp.Or(string(m.Outcome), "open"), Permanent: m.Permanent,
			About: m.About, Reason: m.Cause, Words: m.Words, Host: m.Host, Final: m.Final, At: m.At}
	}), err
}

func (a *API) importBounces(ctx context.Context, in *Streamed) (*struct{ Body contract.ImportedBounces }, error) {
	out := &struct{ Body contract.ImportedBounces }{}
	err := a.whole(ctx, a.reading, in.body, func(file io.Reader) error {
		next, err := bounce.Messages(file)
		if err != nil {
			return err
		}
		t, err := a.engine.Bounces.Import(ctx, workspace(ctx).ID, bounce.ByFile, bounce.InFile(next))
		out.Body = importedBody(t)
		return err
	})
	if err != nil {
		return nil, a.broken(ctx, err)
	}
	return out, nil
}

func importedBody(t bounce.Imported) contract.ImportedBounces {
	return contract.ImportedBounces{Messages: t.Messages, Known: t.Known, Bounced: t.Bounced, Passing: t.Passing, Delayed: t.Delayed, Complained: t.Complains, Answers: t.Answers, Others: t.Others, Nobody: t.Nobody, Forged: t.Forged, Says: t.Says()}
}

// OutcomeColumns are the columns of a table of outcomes.
type OutcomeColumns struct {
	Address   int      `query:"address" minimum:"0" doc:"The column with the addresses, from 1; detected unless given."`
	Outcome   int      `query:"outcome" minimum:"0" doc:"The column with what the tool calls what became of the letter, from 1; found by its name unless given."`
	Reason    int      `query:"reason" minimum:"0" doc:"The column with the words of the host, from 1; found by its name unless given."`
	At        int      `query:"at" minimum:"0" doc:"The column with the time, from 1; found by its name unless given."`
	MessageID int      `query:"messageId" minimum:"0" doc:"The column with the Message-IDs, from 1; the one called Message-ID unless given."`
	Means     []string `query:"means,explode" maxItems:"50" doc:"What the tool's words for outcomes mean, as word=meaning: bounced, passing, delayed, complained or nothing; read by the words themselves unless given."`
}

// mapping reads what is given; given is false where nothing is.
func (c OutcomeColumns) mapping() (m store.TableMapping, given bool, err error) {
	m = store.TableMapping{Address: c.Address, Outcome: c.Outcome, Reason: c.Reason, At: c.At, MessageID: c.MessageID, Means: map[string]string{}}
	for _, text := range c.Means {
		word, means, ok := strings.Cut(text, "=")
		if !ok || !slices.Contains(corebounce.Meanings(), means) {
			return m, false, huma.Error422UnprocessableEntity("What an outcome means is given as word=meaning, with one of the meanings "+say.Or(corebounce.Meanings()...)+".", &huma.ErrorDetail{Location: "query.means", Message: "this is none", Value: text})
		}
		m.Means[strings.ToLower(strings.TrimSpace(word))] = means
	}
	return m, len(m.Means) > 0 || c.Address+c.Outcome+c.Reason+c.At+c.MessageID > 0, nil
}

func (a *API) importOutcomes(ctx context.Context, in *struct {
	Streamed
	Written
	OutcomeColumns
}) (*struct{ Body contract.ImportedBounces }, error) {
	mapping, given, err := in.mapping()
	if err != nil {
		return nil, err
	}
	out := &struct{ Body contract.ImportedBounces }{}
	err = a.whole(ctx, a.reading, in.body, func(file io.Reader) error {
		chosen := &mapping
		if !given {
			chosen = nil
		}
		t, err := a.outcomesIn(ctx, workspace(ctx).ID, file, bounce.ByTable, in.Written, chosen)
		out.Body = importedBody(t)
		return err
	})
	if err != nil {
		return nil, a.broken(ctx, err)
	}
	return out, nil
}

// outcomesIn imports the outcomes of a table. A mapping that is given is kept for the next
// table with the same columns; nil: the one that was kept.
func (a *API) outcomesIn(ctx context.Context, workspace int64, file io.Reader, way bounce.Way, how Written, given *store.TableMapping) (t bounce.Imported, err error) {
	read, err := intake.Read(ctx, file, how.Sheet, how.overrule())
	if err != nil {
		return t, err
	}
	defer read.Close()
	var mapping store.TableMapping
	if given != nil {
		mapping = *given
	} else if mapping, err = a.store.TableMapping(ctx, workspace, bounce.ColumnsKey(read)); err != nil && !errors.Is(err, store.ErrNotFound) {
		return t, err
	}
	m, err := bounce.MappingFor(read, mapping)
	if err != nil {
		return t, err
	}
	t, err = a.engine.Bounces.Import(ctx, workspace, way, bounce.Outcomes(read, m, a.engine.Grammar))
	if err == nil && given != nil {
		err = a.store.KeepTableMapping(ctx, workspace, bounce.ColumnsKey(read), m)
	}
	return t, err
}

func (a *API) bounces(ctx context.Context, in *struct {
	Cursor
	Limit
	Kind  string `query:"kind" enum:"bounce,delay,delivery,complaint,auto-reply,challenge,other" doc:"Only those of this kind."`
	About string `query:"about" enum:"letters,nobody" doc:"Only those about letters that are known, or about none."`
}) (*pageOutput[contract.Returned], error) {
	var before int64
	if err := in.place(&before); err != nil {
		return nil, err
	}
	var credited *bool
	if in.About != "" {
		yes := in.About == "letters"
		credited = &yes
	}
	found, err := a.store.ReturnedBefore(ctx, workspace(ctx).ID, before, in.Kind, credited, in.Limit.Limit)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return pageOf(contract.Each(found, func(r store.Returned) contract.Returned {
		return contract.Returned{ID: r.ID, Kind: r.Kind, Way: r.Way, Sender: r.Sender, Host: r.Host, Subject: r.Subject, Words: r.Words, Letters: r.Credited, Says: r.Says, At: r.At, ReceivedAt: r.ReceivedAt}
	}), in.Limit.Limit, func(r contract.Returned) any { return r.ID }), nil
}

// The most domains and letters that a summary names.
const (
	summaryGroups     = 20
	summaryUnexpected = 20
)

func (a *API) outcomes(ctx context.Context, in *struct {
	MailingID int64 `query:"mailingId" minimum:"0" doc:"Only those of this mailing."`
}) (*struct{ Body contract.OutcomeSummary }, error) {
	w := workspace(ctx).ID
	out := &struct{ Body contract.OutcomeSummary }{}
	counts, err := a.store.OutcomeCounts(ctx, w, in.MailingID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	verdicts, err := a.store.Verdicts(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	t := bounce.Sum(counts, verdicts)
	groups := map[store.OutcomeGroup][]contract.GroupOutcomes{}
	for _, by := range []store.OutcomeGroup{store.ByDomain, store.ByOperator, store.ByList} {
		found, err := a.store.OutcomesBy(ctx, by, w, in.MailingID, summaryGroups)
		if err != nil {
			return nil, a.failed(ctx, err)
		}
		groups[by] = contract.Each(found, func(g store.GroupOutcomes) contract.GroupOutcomes {
			return contract.GroupOutcomes{Name: g.Name, ListID: g.ListID, Letters: g.Letters, Bounced: g.Bounced, Passing: g.Passing, Complained: g.Complain}
		})
	}
	unexpected, err := a.store.Unexpected(ctx, w, in.MailingID, summaryUnexpected)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	letters, err := a.letterBodies(ctx, unexpected)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out.Body = contract.OutcomeSummary{Letters: t.All.Letters(), Outcomes: countsBody(t.All), Says: t.Sentence(), Found: foundBody(t.Found), Unexpected: letters,
		Domains: groups[store.ByDomain], Operators: groups[store.ByOperator], Lists: groups[store.ByList]}
	return out, nil
}

func (a *API) forgetOutcome(ctx context.Context, in *struct {
	Address string `path:"address" maxLength:"320" example:"ada.moss%40fernhollow.example" doc:"The address."`
}) (*struct{}, error) {
	parsed, err := a.engine.Grammar.Parse(in.Address)
	var wrong *address.Error
	if errors.As(err, &wrong) {
		return nil, huma.Error422UnprocessableEntity("This is not an address: "+wrong.Error(), &huma.ErrorDetail{Location: "path.address", Message: wrong.Error()})
	}
	if err := a.store.ForgetOutcome(ctx, workspace(ctx).ID, strings.ToLower(parsed.Mailbox())); err != nil {
		return nil, a.failed(ctx, err)
	}
	return nil, nil
}
