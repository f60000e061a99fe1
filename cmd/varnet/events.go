package main

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"varnet/core/event"
	"varnet/internal/client"
	"varnet/internal/contract"
)

func eventsCommand() command {
	return command{"events", "", "follows what happens in the workspace, as it happens, until it is interrupted", "varnet events -json", followEvents, []command{
		{"kinds", "", "shows what can happen, and what each event carries", "varnet events kinds", showEventKinds, nil},
		{"log", "", "shows what happened, the oldest first, and ends", "varnet events log -after 480", showEvents, nil},
	}}
}

const afterHelp = "only events with higher numbers than this; 0: from the oldest that is kept"

// followEvents prints a line for each event: in words, or as JSON.
func followEvents(c *cli) action {
	connect, asJSON := c.connect(), c.asJSON()
	after := c.flags.Int64("after", -1, afterHelp+"; from now on unless given")
	return func(ctx context.Context) error {
		api, from := connect(), *after
		if from < 0 {
			var err error
			if from, err = newestEvent(ctx, api); err != nil {
				return err
			}
		}
		err := api.FollowEvents(ctx, from, func(e contract.Event) error {
			if *asJSON {
				return json.NewEncoder(c.out).Encode(e)
			}
			return c.sentence(fmt.Sprintf("%s  %d  %s: %s", e.At.Local().Format("2006-01-02 15:04:05"), e.Seq, e.Subject, e.Says))
		})
		if errors.Is(err, context.Canceled) {
			return nil // interrupted
		}
		return err
	}
}

// newestEvent returns the number of the newest event.
func newestEvent(ctx context.Context, api *client.Client) (last int64, err error) {
	for {
		p, err := api.Events(ctx, last, 500)
		if err != nil || len(p.Items) == 0 {
			return last, err
		}
		last = p.Items[len(p.Items)-1].Seq
	}
}

func showEvents(c *cli) action {
	after := c.flags.Int64("after", 0, afterHelp)
	limit := c.flags.Int("limit", 50, "how many at most, 1 to 500")
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.Event], error) {
		return api.Events(ctx, *after, *limit)
	}, table[contract.Event]{"Nothing has happened.", "event\tat\tkind\tabout\twhat", func(w io.Writer, e contract.Event) {
		fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%s\n", e.Seq, minute(&e.At, ""), e.Code, e.Thing, printable(e.Subject))
	}}.of(c))
}

func showEventKinds(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.EventKind], error) {
		return api.EventKinds(ctx)
	}, table[contract.EventKind]{"", "kind\tfor\tcarries\twhen", func(w io.Writer, k contract.EventKind) {
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\n", k.Code, k.For, strings.Join(k.Carries, ","), k.Meaning)
	}}.of(c))
}

func webhooksCommand() command {
	return command{"webhooks", "", "shows the webhooks of the workspace, and manages them", "varnet webhooks", showWebhooks, []command{
		{"make", "URL -events KINDS", "adds a webhook and prints the secret that signs its calls, this once",
			"varnet webhooks make https://hooks.fernhollow.example/varnet -events run.finished,routine.held", makeWebhook, nil},
		{"change", "WEBHOOK", "changes where a webhook is, which events it receives, or switches it on or off", "varnet webhooks change 3 -on yes", changeWebhook, nil},
		{"secret", "WEBHOOK", "gives a webhook another secret and prints it, this once; for a day both sign", "varnet webhooks secret 3", renewWebhookSecret, nil},
		{"test", "WEBHOOK", "calls a webhook to try it out", "varnet webhooks test 3", testWebhook, nil},
		{"log", "WEBHOOK", "shows what was delivered, the newest first", "varnet webhooks log 3", showDeliveries, nil},
		{"attempts", "DELIVERY", "shows what was sent and answered at each attempt", "varnet webhooks attempts 41", showAttempts, nil},
		{"resend", "DELIVERY", "delivers an event again, now", "varnet webhooks resend 41", resendDelivery, nil},
		{"delete", "WEBHOOK", "deletes a webhook with its log", "varnet webhooks delete 3", deleteWebhook, nil},
	}}
}

var webhookTable = table[contract.Webhook]{"There are no webhooks.", "webhook\taddress\tevents\tstate", func(w io.Writer, k contract.Webhook) {
	fmt.Fprintf(w, "%d\t%s\t%s\t%s\n", k.ID, printable(k.URL), joined(k.Codes), printable(k.Says))
}}

func joined(codes []event.Code) string {
	return strings.Join(contract.Each(codes, func(c event.Code) string { return string(c) }), ",")
}

func showWebhooks(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.Webhook], error) {
		return api.Webhooks(ctx)
	}, webhookTable.of(c))
}

// tellSecret prints the secret of a webhook alone, so that a script can take it.
func (c *cli) tellSecret(w contract.Webhook) error { return c.sentence(w.Secret) }

func makeWebhook(c *cli) action {
	codes := c.flags.String("events", "", "the kinds of events that it receives, with commas between; varnet events kinds shows them")
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Webhook, error) {
		return api.MakeWebhook(ctx, contract.NewWebhook{URL: c.args[0], Codes: split[event.Code](*codes)})
	}, c.tellSecret)
}

func changeWebhook(c *cli) action {
	address := c.flags.String("url", "", "where it is called; unchanged unless given")
	codes := c.flags.String("events", "", "the kinds of events that it receives, with commas between; unchanged unless given")
	on := c.flags.String("on", "", "yes or no: whether it is called; unchanged unless given")
	return ask(c, of(c, "webhook", func(api *client.Client, ctx context.Context, id int64) (w contract.Webhook, err error) {
		change := contract.WebhookChange{Codes: split[event.Code](*codes)}
		if *address != "" {
			change.URL = address
		}
		if *on != "" {
			yes, err := c.yes("on", *on)
			if err != nil {
				return w, err
			}
			change.On = &yes
		}
		return api.ChangeWebhook(ctx, id, change)
	}), webhookTable.one(c))
}

func renewWebhookSecret(c *cli) action {
	return ask(c, of(c, "webhook", (*client.Client).RenewWebhookSecret), c.tellSecret)
}

func testWebhook(c *cli) action {
	return ask(c, of(c, "webhook", (*client.Client).TestWebhook), func(w contract.Webhook) error {
		return c.sentence(fmt.Sprintf("It is being called; varnet webhooks log %d shows the result.", w.ID))
	})
}

func showDeliveries(c *cli) action {
	page := c.paged()
	return ask(c, of(c, "webhook", func(api *client.Client, ctx context.Context, id int64) (contract.Page[contract.Delivery], error) {
		return api.Deliveries(ctx, id, page())
	}), table[contract.Delivery]{"Nothing was delivered.", "delivery\tsince\tkind\twhat\tstate\tattempts\tnext", func(w io.Writer, d contract.Delivery) {
		fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%s\t%d\t%s\n", d.ID, minute(&d.CreatedAt, ""), d.Code, printable(d.Subject), d.State, d.Attempts, minute(d.NextAt, "-"))
	}}.of(c))
}

func showAttempts(c *cli) action {
	return ask(c, of(c, "delivery", (*client.Client).Delivery), func(d contract.DeliveryLog) error {
		for _, a := range d.Log {
			fmt.Fprintf(c.out, "Attempt %d, %s, %d ms: %s\n\n%s\n\n", a.Number, minute(&a.At, ""), a.TookMS, cmp.Or(printable(a.Problem), "taken"), indented(a.Request))
			if a.Status != 0 {
				fmt.Fprintf(c.out, "  answered %d\n%s\n\n", a.Status, indented(a.Answer))
			}
		}
		if len(d.Log) == 0 {
			return c.sentence("Not tried yet.")
		}
		return nil
	})
}

// indented puts blanks before each line of a text from outside, made safe for terminals.
func indented(text string) string {
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	for i, l := range lines {
		lines[i] = "  " + printable(l)
	}
	return strings.Join(lines, "\n")
}

func resendDelivery(c *cli) action {
	return ask(c, of(c, "delivery", (*client.Client).ResendDelivery), func(d contract.DeliveryLog) error {
		return c.sentence(fmt.Sprintf("It is being called again; varnet webhooks attempts %d shows the result.", d.ID))
	})
}

func deleteWebhook(c *cli) action { return doOf(c, "webhook", (*client.Client).DeleteWebhook) }
