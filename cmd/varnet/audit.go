package main

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"varnet/internal/client"
	"varnet/internal/contract"
)

func auditCommand() command {
	return command{"audit", "", "shows the audit trail: who did what, when and from where", "varnet audit -days 7", showAudit, []command{
		{"export", "-out FILE", "writes the audit trail of the workspace as JSON lines", "varnet audit export -out audit.jsonl", exportAudit, nil},
		{"verify", "", "holds every entry against its hash and the one before it", "varnet audit verify", verifyAudit, nil},
	}}
}

func showAudit(c *cli) action {
	page, q := c.paged(), contract.AuditQuery{}
	c.flags.Int64Var(&q.Person, "person", 0, "only what the person with this number did; varnet team shows them")
	c.flags.StringVar(&q.Action, "action", "", "only this operation, such as export-rows")
	days := c.flags.Int("days", 0, "only the last N days; 0: all")
	installation := c.flags.Bool("installation", false, "what happened outside of all workspaces, in the place of yours")
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.AuditEntry], error) {
		if q.PageQuery = page(); *days > 0 {
			q.From = time.Now().AddDate(0, 0, -*days).UTC().Format(time.RFC3339)
		}
		if *installation {
			return api.InstallationAudit(ctx, q)
		}
		return api.Audit(ctx, q)
	}, table[contract.AuditEntry]{"No entry matches.", "entry\twhen\twho\twhat\ton\tfrom\tresult", func(w io.Writer, e contract.AuditEntry) {
		fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%s\t%s\t%s\n", e.Seq, minute(&e.At, ""), printable(whoDid(e)), e.Action, cmp.Or(e.Thing, e.Address), e.From, cmp.Or(e.Detail, e.Result))
	}}.of(c))
}

// whoDid names who did something.
func whoDid(e contract.AuditEntry) string {
	switch {
	case e.PersonID > 0:
		return cmp.Or(e.Person, fmt.Sprintf("person %d", e.PersonID))
	case e.KeyID > 0:
		return strings.TrimSpace(fmt.Sprintf("key %d %s", e.KeyID, e.Key))
	}
	return cmp.Or(e.Job, "nobody known")
}

func exportAudit(c *cli) action {
	return saves(c, nil, func(ctx context.Context, api *client.Client, w io.Writer) error { return api.ExportAudit(ctx, w) })
}

func verifyAudit(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (v contract.AuditVerification, err error) {
		return api.VerifyAudit(ctx)
	}, func(v contract.AuditVerification) error {
		if v.Broken > 0 {
			return fmt.Errorf("%s", v.Says)
		}
		return c.sentence(fmt.Sprintf("%s The last is entry %d, with the hash %s.", v.Says, v.Last, v.Hash))
	})
}
