package main

import (
	"context"
	"fmt"
	"io"

	"varnet/core/say"
	"varnet/internal/account"
	"varnet/internal/client"
	"varnet/internal/contract"
)

func teamCommand() command {
	roles := "ROLE is " + say.Or(account.Names(account.Roles())...)
	return command{"team", "", "shows the people of your workspace, and invites, changes and removes them", "varnet team", showTeam, []command{
		{"invite", "ADDRESS ROLE", "invites somebody by letter, and prints the link; " + roles, "varnet team invite bea.quill@fernhollow.example reader", invite, nil},
		{"uninvite", "INVITATION", "withdraws an invitation", "varnet team uninvite 3", uninvite, nil},
		{"role", "PERSON ROLE", "changes what a member is; " + roles, "varnet team role 2 manager", changeRole, nil},
		{"remove", "PERSON", "takes a person out of the workspace", "varnet team remove 2", removeMember, nil},
		{"rules", "", "shows the workspace's own rules, the first that matches counting", "varnet team rules -json > rules.json", showOwnRules, []command{
			{"set", "FILE", "replaces them by those of a file, as \"rules -json\" prints them; - is standard input", "varnet team rules set rules.json", setOwnRules, nil},
		}},
		{"export", "-out FILE", "writes everything in the workspace as files in a zip; for owners", "varnet team export -out library.zip", exportWorkspace, nil},
		{"import", "FILE -owner ADDRESS", "reads such a zip into this installation, as a workspace of its own; for owners of the installation", "varnet team import library.zip -owner ada.moss@fernhollow.example", importWorkspace, nil},
		{"keep", "", "stops the deletion of the workspace", "varnet team keep", keepWorkspace, nil},
		{"workspaces", "", "shows your workspaces", "varnet team workspaces", showWorkspaces, nil},
		{"enter", "WORKSPACE", "works in another of your workspaces from now on", "varnet team enter 2", enterWorkspace, nil},
	}}
}

func showTeam(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Team, error) { return api.Team(ctx) }, func(t contract.Team) error {
		err := table[contract.Member]{"Nobody is in it; programs work in it with keys.", "person\tname\taddress\trole\tsecond factor\tlast here", func(w io.Writer, m contract.Member) {
			fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%s\t%s\n", m.ID, printable(m.Name), printable(m.Address), m.Role, map[bool]string{true: "yes", false: "no"}[m.SecondFactor], minute(m.SeenAt, "not signed in"))
		}}.of(c)(contract.Page[contract.Member]{Items: t.Members})
		if err != nil || len(t.Invitations) == 0 {
			return err
		}
		fmt.Fprintln(c.out)
		return table[contract.Invitation]{"", "invitation\taddress\trole\tgood until", func(w io.Writer, i contract.Invitation) {
			fmt.Fprintf(w, "%d\t%s\t%s\t%s\n", i.ID, printable(i.Address), i.Role, minute(&i.ExpiresAt, ""))
		}}.of(c)(contract.Page[contract.Invitation]{Items: t.Invitations})
	})
}

// role reads a role from an argument.
func (c *cli) role(at int) (string, error) {
	if !account.IsRole(c.args[at]) {
		return "", c.wrongUse(fmt.Sprintf("there is no role %q; there are: %s", c.args[at], say.And(account.Names(account.Roles())...)))
	}
	return c.args[at], nil
}

func invite(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (i contract.Invitation, err error) {
		role, err := c.role(1)
		if err != nil {
			return i, err
		}
		return api.Invite(ctx, contract.NewInvitation{Address: c.args[0], Role: role})
	}, func(i contract.Invitation) error { return c.sentence(i.Link) })
}

func uninvite(c *cli) action { return doOf(c, "invitation", (*client.Client).TakeInvitationBack) }

func changeRole(c *cli) action {
	return do(c, func(ctx context.Context, api *client.Client) error {
		id, err := c.number(0, "person")
		if err != nil {
			return err
		}
		role, err := c.role(1)
		if err != nil {
			return err
		}
		_, err = api.ChangeRole(ctx, id, role)
		return err
	})
}

func removeMember(c *cli) action { return doOf(c, "person", (*client.Client).RemoveMember) }

func showWorkspaces(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.Membership], error) {
		s, err := api.Session(ctx)
		return contract.Page[contract.Membership]{Items: s.Workspaces}, err
	}, table[contract.Membership]{"You are in no workspace.", "workspace\tname\tyou are", func(w io.Writer, m contract.Membership) {
		fmt.Fprintf(w, "%d\t%s\t%s\n", m.ID, printable(m.Name), m.Role)
	}}.of(c))
}

func enterWorkspace(c *cli) action {
	return ask(c, of(c, "workspace", func(api *client.Client, ctx context.Context, id int64) (contract.Session, error) {
		return api.EnterWorkspace(ctx, id)
	}), func(s contract.Session) error {
		return c.sentence(fmt.Sprintf("You work in “%s” now, as %s.", s.Workspace, s.Role))
	})
}
