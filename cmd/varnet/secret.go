package main

import (
	"context"
	"fmt"
	"time"

	"varnet/core/say"
	"varnet/internal/account"
	"varnet/internal/allowance"
	"varnet/internal/bounce"
	"varnet/internal/connection"
	"varnet/internal/outbound"
	"varnet/internal/outbox"
	"varnet/internal/rights"
	"varnet/internal/secret"
	"varnet/internal/trial"
)

func secretCommand() command {
	return command{"secret", "", "changes the installation's secret, in three steps", "varnet secret rotate", nil, []command{
		{"rotate", "", "makes a new secret; what the old one sealed can still be opened", "varnet secret rotate", rotateSecret, nil},
		{"reseal", "", "seals everything in the database with the new secret", "varnet secret reseal", resealSecret, nil},
		{"forget", "", "removes old secrets, once nothing needs them", "varnet secret forget", forgetSecret, nil},
	}}
}

func rotateSecret(c *cli) action {
	file := c.secretSetting()
	return func(context.Context) error {
		if present, _ := c.lookup("VARNET_SECRET"); present != "" {
			fmt.Fprintln(c.err, "The secret comes from VARNET_SECRET. In the settings of every process put this one in its place, and the present one in VARNET_SECRET_BEFORE; restart them, and then: varnet secret reseal")
			return c.sentence(secret.Random())
		}
		if *file == "" {
			return errNoSecretFile
		}
		if err := secret.Rotate(*file); err != nil {
			return err
		}
		return c.sentence(fmt.Sprintf("A new secret stands first in %s; running services pick it up, and what the one before sealed still opens. Copy the file to every other machine of the installation, and then: varnet secret reseal", *file))
	}
}

// resealed seals everything anew, and returns how many things there are.
func resealed(ctx context.Context, a *account.Accounts) (n int, err error) {
	for _, reseal := range []func(context.Context) (int, error){
		a.Reseal, a.Office.Reseal, (&outbox.Outbox{Store: a.Store, Secrets: a.Secrets}).Reseal, (&outbound.Outbound{Config: outbound.Config{Store: a.Store, Secrets: a.Secrets}}).Reseal,
		(&connection.Connections{Store: a.Store, Secrets: a.Secrets}).Reseal, (&trial.Post{Store: a.Store, Secrets: a.Secrets}).Reseal,
		(&bounce.Sources{Desk: &bounce.Desk{Store: a.Store}, Secrets: a.Secrets}).Reseal, (&allowance.Desk{Store: a.Store, Secrets: a.Secrets}).Reseal,
		(&rights.Desk{Store: a.Store, Secrets: a.Secrets}).Reseal,
	} {
		some, err := reseal(ctx)
		if err != nil {
			return n, err
		}
		n += some
	}
	return n, nil
}

func resealSecret(c *cli) action {
	return c.onInstallation(func(ctx context.Context, a *account.Accounts) error {
		n, err := resealed(ctx, a)
		if err != nil {
			return err
		}
		return c.sentence(fmt.Sprintf("%s sealed with the present secret. Answers that are kept for repeated requests are sealed with the one before for a day; after that: varnet secret forget",
			say.Plural(int64(n), "password, secret or second factor is", "passwords, secrets and second factors are")))
	})
}

// shortLived is how long the longest of what is sealed for a while is kept.
const shortLived = 24 * time.Hour

func forgetSecret(c *cli) action {
	yes := c.flags.Bool("yes", false, "even on the first day, and even if absent mailboxes and outcomes are still remembered by an old secret; they are forgotten with it")
	return c.onInstallation(func(ctx context.Context, a *account.Accounts) error {
		present, before := a.Secrets.Before()
		if !before {
			return c.sentence("There is no secret before the present one.")
		}
		if n, err := resealed(ctx, a); err != nil {
			return fmt.Errorf("nothing was forgotten; %d things are sealed with the present secret: %w", n, err)
		}
		if !*yes {
			if err := needed(ctx, a, present); err != nil {
				return err
			}
		}
		says := "Nothing needs the secret before any more. Take VARNET_SECRET_BEFORE out of the settings of every process."
		if file := a.Secrets.File(); file != "" {
			if err := secret.Forget(file); err != nil {
				return err
			}
			says = fmt.Sprintf("The secrets before are gone from %s. Copy the file to every other machine of the installation.", file)
		}
		if err := a.Store.ForgetFingerprintsBefore(ctx, present); err != nil {
			return err
		}
		return c.sentence(says)
	})
}

// needed says what still needs the secrets before the present one.
func needed(ctx context.Context, a *account.Accounts, present []byte) error {
	if at := a.Secrets.Changed(); time.Since(at) < shortLived {
		return fmt.Errorf("the secret was changed at %s, and answers that are kept for a day may be sealed with the one before; forget it after that day, or now with -yes", at.Format("2006-01-02 15:04"))
	}
	n, err := a.Store.FingerprintsBefore(ctx, present)
	if err == nil && n > 0 {
		err = fmt.Errorf("what is known of %s is remembered by the secret before, and forgotten with it: that it was absent, which expires after three years, or what became of letters to it. Forget it with -yes", say.Plural(n, "mailbox", "mailboxes"))
	}
	return err
}
