package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"

	"varnet/core/say"
	"varnet/internal/client"
	"varnet/internal/contract"
)

func installationCommand() command {
	return command{"installation", "", "shows all workspaces with what they use, and sets what holds for all", "varnet installation", showInstallation, []command{
		{"set", "", "changes what its settings name, and leaves the rest", "varnet installation set -sign-up open -provider \"Library sign-in\" -issuer https://sign-in.fernhollow.example -client varnet -secret-of provider.secret", setInstallation, nil},
		{"limit", "WORKSPACE ROWS", "limits the rows of all lists of a workspace; 0 takes the limit away", "varnet installation limit 2 1000000", limitWorkspace, nil},
	}}
}

func showInstallation(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Installation, error) {
		return api.Installation(ctx)
	}, c.tellInstallation)
}

func (c *cli) tellInstallation(i contract.Installation) error {
	signUp := map[string]string{"open": "Anybody may sign up.", "invitation": "People sign up by invitation.", "closed": "Nobody signs up."}[i.SignUp]
	kept := "Lists are kept as long as their workspaces say"
	if i.MaxKeepDays > 0 {
		kept = fmt.Sprintf("Lists are kept for at most %d days", i.MaxKeepDays)
	}
	signUp = fmt.Sprintf("%s %s; the audit trail is kept for %d days.", signUp, kept, i.AuditDays)
	if i.Provider.Issuer != "" {
		signUp += fmt.Sprintf(" The sign-in provider is %s (%s).", i.Provider.Issuer, i.Provider.Name)
	}
	if err := c.sentence(signUp); err != nil {
		return err
	}
	return table[contract.WorkspaceUsage]{"There is no workspace yet.", "workspace\tname\tmembers\tlists\trows\tat most\truns\taddresses in 30 days", func(w io.Writer, u contract.WorkspaceUsage) {
		most := "any number"
		if u.MaxRows > 0 {
			most = say.Number(u.MaxRows)
		}
		fmt.Fprintf(w, "%d\t%s\t%d\t%d\t%s\t%s\t%d\t%s\n", u.ID, printable(u.Name), u.Members, u.Lists, say.Number(u.Rows), most, u.Runs, say.Number(u.Addresses))
	}}.of(c)(contract.Page[contract.WorkspaceUsage]{Items: i.Workspaces})
}

func setInstallation(c *cli) action {
	signUp := c.flags.String("sign-up", "", "who may sign up: open, invitation or closed")
	auditDays := c.flags.Int("audit-days", 0, "for how many days the audit trail is kept, 30 or more")
	keepDays := c.flags.Int("keep-days", 0, "for how many days lists may be kept at most; 0: any time")
	name := c.flags.String("provider", "", "what the button of the sign-in provider says")
	issuer := c.flags.String("issuer", "", "the issuer of the sign-in provider; empty: there is none")
	clientID := c.flags.String("client", "", "what the provider calls Varnet (client ID)")
	secretOf := c.flags.String("secret-of", "", "the file with the secret of Varnet there")
	return ask(c, func(ctx context.Context, api *client.Client) (i contract.Installation, err error) {
		if i, err = api.Installation(ctx); err != nil {
			return i, err
		}
		s := i.InstallationSettings
		s.Provider.Redirect = ""
		c.flags.Visit(func(f *flag.Flag) {
			switch f.Name {
			case "sign-up":
				s.SignUp = *signUp
			case "audit-days":
				s.AuditDays = *auditDays
			case "keep-days":
				s.MaxKeepDays = *keepDays
			case "provider":
				s.Provider.Name = *name
			case "issuer":
				s.Provider.Issuer = *issuer
			case "client":
				s.Provider.Client = *clientID
			}
		})
		if *secretOf != "" {
			text, err := os.ReadFile(*secretOf)
			if err != nil {
				return i, fmt.Errorf("the file %s cannot be read: %w", *secretOf, say.WithoutPath(err))
			}
			secret := strings.TrimSpace(string(text))
			s.Provider.Secret = &secret
		}
		return api.SetInstallation(ctx, s)
	}, c.tellInstallation)
}

func limitWorkspace(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (i contract.Installation, err error) {
		id, err := c.number(0, "workspace")
		if err != nil {
			return i, err
		}
		var most int64
		if _, err := fmt.Sscan(c.args[1], &most); err != nil || most < 0 {
			return i, c.wrongUse(fmt.Sprintf("ROWS is a number, not %q", c.args[1]))
		}
		return api.LimitWorkspace(ctx, id, most)
	}, c.tellInstallation)
}
