package main

import (
	"cmp"
	"context"
	"fmt"
	"io"

	"varnet/internal/client"
	"varnet/internal/contract"
)

var sourceTable = table[contract.BounceSource]{"Nothing is read, and no program calls. Have a mailbox read: varnet bounces make-mailbox -h", "source\tkind\tname\twhere\tmessages\tlast look\tsays", func(w io.Writer, b contract.BounceSource) {
	where := b.Path
	if b.Host != "" {
		where = fmt.Sprintf("%s on %s:%d, %s", printable(b.Username), b.Host, b.Port, printable(b.Folder))
	}
	fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%d\t%s\t%s\n", b.ID, b.Kind, printable(b.Name), where, b.Messages, minute(b.LookedAt, "never"), printable(b.Says))
}}

func showBounceSources(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.BounceSource], error) {
		return api.BounceSources(ctx)
	}, sourceTable.of(c))
}

func makeBounceMailbox(c *cli) action {
	var m contract.BounceMailbox
	c.flags.StringVar(&m.Host, "host", "", "the IMAP server's name or address")
	c.flags.IntVar(&m.Port, "port", 993, "its port: usually 993 with TLS, 143 with STARTTLS")
	c.flags.StringVar(&m.Security, "security", "tls", "tls, starttls, or none for a server on this machine")
	c.flags.StringVar(&m.Username, "username", "", "the name to sign in with")
	c.flags.StringVar(&m.Folder, "folder", "INBOX", "the folder that is read")
	c.flags.StringVar(&m.Then, "then", "flag", "what becomes of a message that was read: flag (it is marked as seen), move or delete")
	c.flags.StringVar(&m.ThenFolder, "then-folder", "", "where messages are moved to; made where it is not there")
	file := c.flags.String("password-file", "", "a file with the password; - is standard input")
	return ask(c, func(ctx context.Context, api *client.Client) (b contract.BounceSource, err error) {
		if m.Password, err = c.secretIn(*file); err != nil {
			return b, err
		}
		if b, err = api.MakeBounceSource(ctx, contract.NewBounceSource{Name: c.args[0], Mailbox: &m}); err != nil {
			return b, err
		}
		return api.ReadBounceSource(ctx, b.ID)
	}, func(b contract.BounceSource) error {
		return c.sentence(fmt.Sprintf("It is source %d, and is read every five minutes. %s", b.ID, b.Says))
	})
}

func makeBounceWebhook(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.BounceSource, error) {
		return api.MakeBounceSource(ctx, contract.NewBounceSource{Name: c.args[0]})
	}, func(b contract.BounceSource) error {
		return c.sentence(fmt.Sprintf("It is source %d. Calls go to %s and are signed by this secret, which is shown this once:\n%s", b.ID, b.Path, b.Secret))
	})
}

func readBounceMailbox(c *cli) action {
	return ask(c, of(c, "source", (*client.Client).ReadBounceSource), func(b contract.BounceSource) error {
		return c.sentence(cmp.Or(b.Says, "Nothing new."))
	})
}

func deleteBounceSource(c *cli) action {
	return doOf(c, "source", (*client.Client).DeleteBounceSource)
}
