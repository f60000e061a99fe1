package main

import (
	"context"
	"fmt"
	"io"
	"strings"

	corebounce "varnet/core/bounce"
	"varnet/internal/bounce"
	"varnet/internal/client"
	"varnet/internal/contract"
)

func bouncesCommand() command {
	return command{"bounces", "", "shows the messages that came back", "varnet bounces", showBounces, []command{
		{"import", "FILE…", "imports messages that came back: .eml, .mbox, or a zip of them; - is standard input", "varnet bounces import returned.mbox", importBounces, nil},
		{"table", "FILE", "imports a table in which a sending tool says what became of letters; - is standard input", "varnet bounces table report.csv -outcome 3 -means \"hard=bounced\"", importOutcomes, nil},
		{"read", "FILE…", "shows what messages say, without a service and without keeping anything", "varnet bounces read returned.mbox", readBounces, nil},
		{"sources", "", "shows the mailboxes that are read, and the programs that call", "varnet bounces sources", showBounceSources, nil},
		{"make-mailbox", "NAME -host HOST -username USER", "reads a mailbox over IMAP; the password is read from a file, so that it is in no history",
			"varnet bounces make-mailbox Returns -host imap.fernhollow.example -username returns@fernhollow.example -password-file password.txt -then move -then-folder Read", makeBounceMailbox, nil},
		{"make-webhook", "NAME", "has a program call with what came back, and shows the secret to sign by", "varnet bounces make-webhook \"Letter service\"", makeBounceWebhook, nil},
		{"read-mailbox", "SOURCE", "reads a mailbox now", "varnet bounces read-mailbox 1", readBounceMailbox, nil},
		{"delete-source", "SOURCE", "stops reading a mailbox, or taking a program's calls", "varnet bounces delete-source 1", deleteBounceSource, nil},
		{"outcomes", "", "shows what became of the letters, by what had been found of their addresses", "varnet bounces outcomes -mailing 3", showOutcomes, nil},
		{"forget", "ADDRESS", "forgets what is known of an address by letters sent to it", "varnet bounces forget ada@upperloam.example", forgetOutcome, nil},
	}}
}

var returnedTable = table[contract.Returned]{"Nothing has come back yet. Import messages: varnet bounces import FILE", "id\tcame\tkind\tfrom\tletters\tsubject", func(w io.Writer, r contract.Returned) {
	fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%d\t%s\n", r.ID, minute(&r.ReceivedAt, ""), r.Kind, printable(r.Sender), r.Letters, printable(r.Subject))
}}

func showBounces(c *cli) action {
	cursor := c.flags.String("cursor", "", "where the page begins: what the page before gave as next")
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.Returned], error) {
		return api.Bounces(ctx, *cursor)
	}, returnedTable.of(c))
}

func importBounces(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (all []contract.ImportedBounces, err error) {
		for _, name := range c.args {
			file, err := c.open(name)
			if err != nil {
				return all, err
			}
			t, err := api.ImportBounces(ctx, file)
			_ = file.Close()
			if err != nil {
				return all, err
			}
			all = append(all, t)
		}
		return all, nil
	}, func(all []contract.ImportedBounces) error {
		for _, t := range all {
			if err := c.sentence(t.Says); err != nil {
				return err
			}
		}
		return nil
	})
}

func importOutcomes(c *cli) action {
	columns, means := map[string]*int{}, map[string]string{}
	for name, what := range map[string]string{"address": "the addresses", "outcome": "what the tool calls what became of the letter", "reason": "the words of the host", "at": "the time", "message-id": "the Message-IDs"} {
		columns[name] = c.flags.Int(name, 0, "the column with "+what+", from 1; detected unless given")
	}
	c.flags.Var(pairs(means), "means", "what a word of the tool means, as `WORD=MEANING`: bounced, passing, delayed, complained or nothing; give it once for each")
	return ask(c, func(ctx context.Context, api *client.Client) (t contract.ImportedBounces, err error) {
		file, err := c.open(c.args[0])
		if err != nil {
			return t, err
		}
		defer file.Close()
		given := map[string]int{}
		for name, n := range columns {
			given[strings.ReplaceAll(name, "message-id", "messageId")] = *n
		}
		return api.ImportOutcomes(ctx, given, means, file)
	}, func(t contract.ImportedBounces) error { return c.sentence(t.Says) })
}

// readMessage is what a message says, for a script.
type readMessage struct {
	File       string          `json:"file"`
	Number     int             `json:"number"`
	Kind       string          `json:"kind"`
	Host       string          `json:"host"`
	MessageID  string          `json:"messageId,omitempty"`
	Recipients []readRecipient `json:"recipients"`
}

type readRecipient struct {
	Address   string `json:"address"`
	Final     string `json:"final,omitempty"`
	Action    string `json:"action,omitempty"`
	Permanent bool   `json:"permanent"`
	About     string `json:"about,omitempty"`
	Cause     string `json:"cause,omitempty"`
	Status    string `json:"status,omitempty"`
	Words     string `json:"words,omitempty"`
}

func readBounces(c *cli) action {
	asJSON := c.asJSON()
	return func(context.Context) error {
		messages := []readMessage{}
		for _, name := range c.args {
			file, err := c.open(name)
			if err != nil {
				return err
			}
			err = eachMessage(file, func(number int, n corebounce.Notice) { messages = append(messages, readOf(name, number, n)) })
			_ = file.Close()
			if err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
		}
		if *asJSON {
			return c.printJSON(messages)
		}
		return c.readings(messages)
	}
}

func eachMessage(file io.Reader, do func(number int, n corebounce.Notice)) error {
	next, err := bounce.Messages(file)
	if err != nil {
		return err
	}
	for number := 1; ; number++ {
		raw, err := next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		do(number, corebounce.Read(raw))
	}
}

func readOf(file string, number int, n corebounce.Notice) readMessage {
	m := readMessage{File: file, Number: number, Kind: string(n.Kind), Host: n.Host, MessageID: n.Original.ID, Recipients: []readRecipient{}}
	for _, r := range n.Recipients {
		one := readRecipient{Address: r.Address, Action: string(r.Action), Permanent: r.Permanent, About: string(r.Meaning.About), Cause: string(r.Meaning.Cause), Status: r.Status, Words: r.Words}
		if !strings.EqualFold(r.Final, r.Address) {
			one.Final = r.Final
		}
		m.Recipients = append(m.Recipients, one)
	}
	return m
}

// readings prints a line for each recipient of each message.
func (c *cli) readings(messages []readMessage) error {
	for _, m := range messages {
		if err := c.sentence(fmt.Sprintf("%s, message %d: %s, reported by %s.", printable(m.File), m.Number, m.Kind, printable(m.Host))); err != nil {
			return err
		}
		for _, r := range m.Recipients {
			lasting := "passing"
			if r.Permanent {
				lasting = "for good"
			}
			if err := c.sentence(fmt.Sprintf("  %s: %s, %s, about %s (%s): %s", printable(r.Address), r.Action, lasting, r.About, r.Cause, printable(strings.Join(strings.Fields(r.Words), " ")))); err != nil {
				return err
			}
		}
	}
	return nil
}

func showOutcomes(c *cli) action {
	mailing := c.flags.Int64("mailing", 0, "only those of this mailing")
	return ask(c, func(ctx context.Context, api *client.Client) (contract.OutcomeSummary, error) {
		return api.Outcomes(ctx, *mailing)
	}, func(s contract.OutcomeSummary) error {
		if err := c.sentence(s.Says); err != nil {
			return err
		}
		return c.found(s.Found)
	})
}

func forgetOutcome(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (struct{}, error) {
		return struct{}{}, api.ForgetOutcome(ctx, c.args[0])
	}, func(struct{}) error { return c.sentence("It is forgotten. Results that are there stay.") })
}
