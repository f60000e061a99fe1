package main

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"varnet/core/say"
	"varnet/internal/client"
	"varnet/internal/contract"
)

func mailingsCommand() command {
	return command{"mailings", "", "shows the mailings that were sent, and what became of them", "varnet mailings -list 12", showMailings, []command{
		{"register", "RUN", "registers a mailing that was sent to rows of a run, and watches for its bounces", "varnet mailings register 12 -name \"Spring letter\"", registerMailing, nil},
		{"import", "FILE", "registers a mailing by the table of whom it went to; - is standard input", "varnet mailings import sent.csv -name \"Spring letter\" -sent 2026-03-17T07:30:00Z", importMailing, nil},
		{"show", "MAILING", "shows what became of a mailing, by what had been found of its addresses", "varnet mailings show 3", showMailing, nil},
		{"export", "MAILING", "writes whom a mailing goes to, with the return address of each letter, for a sending tool", "varnet mailings export 3 -out spring.csv", exportMailing, nil},
		{"sent", "MAILING", "records that a mailing prepared for later is being sent now", "varnet mailings sent 3", sendMailing, nil},
		{"letters", "MAILING", "shows the letters of a mailing", "varnet mailings letters 3 -outcome bounced", showMailed, nil},
		{"delete", "MAILING", "deletes a mailing; what is known of its addresses stays", "varnet mailings delete 3", deleteMailing, nil},
	}}
}

var mailingTable = table[contract.Mailing]{"No mailing is registered. Register one: varnet mailings register RUN -name NAME", "mailing\tname\tsent\tstate\tletters\tbounced\tpassing\tcomplained", func(w io.Writer, m contract.Mailing) {
	fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%s\t%s\t%s\t%s\n", m.ID, printable(m.Name), minute(&m.SentAt, ""), m.State, say.Number(m.Letters), say.Number(m.Outcomes.Bounced), say.Number(m.Outcomes.Passing+m.Outcomes.Delayed), say.Number(m.Outcomes.Complained))
}}

func showMailings(c *cli) action {
	list := c.flags.Int64("list", 0, "only those that went to this list")
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.Mailing], error) {
		return api.Mailings(ctx, *list)
	}, mailingTable.of(c))
}

// timeFlag is a flag that is a time (RFC 3339).
type timeFlag struct{ time.Time }

// String writes it as it is read.
func (m *timeFlag) String() string {
	if m.IsZero() {
		return ""
	}
	return m.Format(time.RFC3339)
}

// Set reads it.
func (m *timeFlag) Set(text string) (err error) {
	if m.Time, err = time.Parse(time.RFC3339, text); err != nil {
		return fmt.Errorf("write a time such as 2026-03-17T07:30:00Z")
	}
	return nil
}

func registerMailing(c *cli) action {
	n := contract.NewMailing{}
	var sent timeFlag
	var decisions string
	c.flags.StringVar(&n.Name, "name", "", "the name of the mailing")
	c.flags.StringVar(&decisions, "decision", "keep", "to which rows it was sent: keep, hold, drop, with commas between")
	c.flags.Var(&sent, "sent", "when it was sent, as `TIME`; now unless given")
	c.flags.IntVar(&n.WatchHours, "watch", 72, "for how many hours bounces are waited for")
	c.flags.BoolVar(&n.SendLater, "later", false, "that it is sent later: the watch begins with varnet mailings sent, or with the first message that comes back")
	return ask(c, of(c, "run", func(api *client.Client, ctx context.Context, run int64) (contract.Mailing, error) {
		n.RunID, n.SentAt, n.Decisions = run, sent.Time, listed(decisions)
		return api.RegisterMailing(ctx, n)
	}), c.mailing)
}

func sendMailing(c *cli) action {
	return ask(c, of(c, "mailing", (*client.Client).SendMailing), c.mailing)
}

func importMailing(c *cli) action {
	t := client.MailingTable{}
	var sent timeFlag
	c.flags.StringVar(&t.Name, "name", "", "the name of the mailing")
	c.flags.Var(&sent, "sent", "when it was sent, as `TIME`; now unless given")
	c.flags.IntVar(&t.WatchHours, "watch", 72, "for how many hours bounces are waited for")
	c.flags.IntVar(&t.Address, "address", 0, "the column with the addresses, from 1; detected unless given")
	c.flags.IntVar(&t.Tag, "tag", 0, "the column with the tags of the return addresses, from 1; the one called tag unless given")
	c.flags.IntVar(&t.Message, "message-id", 0, "the column with the Message-IDs, from 1; the one called Message-ID unless given")
	return ask(c, func(ctx context.Context, api *client.Client) (m contract.Mailing, err error) {
		file, err := c.open(c.args[0])
		if err != nil {
			return m, err
		}
		defer file.Close()
		t.SentAt = sent.Time
		return api.ImportMailing(ctx, t, file)
	}, c.mailing)
}

// mailing prints a mailing: its sentence, and what became of the letters by what had been
// found.
func (c *cli) mailing(m contract.Mailing) error {
	if err := c.sentence(fmt.Sprintf("Mailing %d, %s. %s", m.ID, m.State, m.Says)); err != nil {
		return err
	}
	return c.found(m.Found)
}

var foundTable = table[contract.OutcomeFound]{"", "found\tcause\tletters\tbounced\tpassing\tcomplained\tno bounce\topen", func(w io.Writer, f contract.OutcomeFound) {
	name := f.Finding
	if name == "" {
		name = "nothing"
	}
	o := f.Outcomes
	fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\t%s\t%s\t%s\n", name, f.Cause, say.Number(f.Letters), say.Number(o.Bounced), say.Number(o.Passing+o.Delayed), say.Number(o.Complained), say.Number(o.NoBounce), say.Number(o.Open))
}}

func (c *cli) found(found []contract.OutcomeFound) error {
	if len(found) == 0 {
		return nil
	}
	return foundTable.of(c)(contract.Page[contract.OutcomeFound]{Items: found})
}

func showMailing(c *cli) action {
	return ask(c, of(c, "mailing", (*client.Client).Mailing), c.mailing)
}

var mailedTable = table[contract.Letter]{"There is no such letter.", "letter\taddress\tfound\toutcome\treason\twords", func(w io.Writer, l contract.Letter) {
	outcome := l.Outcome
	if l.Permanent {
		outcome += " for good"
	}
	fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%s\t%s\n", l.Number, printable(l.Address), l.Finding, outcome, l.Reason, printable(strings.Join(strings.Fields(l.Words), " ")))
}}

func showMailed(c *cli) action {
	outcome := c.flags.String("outcome", "", "only letters with this outcome: open, bounced, delayed, complained, no bounce")
	cursor := c.flags.String("cursor", "", "where the page begins: what the page before gave as next")
	return ask(c, of(c, "mailing", func(api *client.Client, ctx context.Context, id int64) (contract.Page[contract.Letter], error) {
		return api.MailingLetters(ctx, id, *outcome, *cursor)
	}), mailedTable.of(c))
}

func deleteMailing(c *cli) action {
	return ask(c, of(c, "mailing", func(api *client.Client, ctx context.Context, id int64) (struct{}, error) {
		return struct{}{}, api.DeleteMailing(ctx, id)
	}), func(struct{}) error { return c.sentence("The mailing is deleted.") })
}

func exportMailing(c *cli) action {
	var id int64
	return saves(c, func() (err error) { id, err = c.number(0, "mailing"); return err }, func(ctx context.Context, api *client.Client, w io.Writer) error {
		return api.ExportMailing(ctx, id, w)
	})
}
