package move

import (
	"archive/zip"
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"varnet/internal/contract"
	"varnet/internal/decide"
	"varnet/internal/export"
	"varnet/internal/format"
	"varnet/internal/rights"
	"varnet/internal/secret"
	"varnet/internal/store"
)

// Writer writes workspaces.
type Writer struct {
	Store   *store.Store
	Secrets *secret.Box
	Release string
}

// writing is one workspace on its way into a zip.
type writing struct {
	*Writer
	s         *store.Store // while the records are written, one that sees one moment
	zip       *zip.Writer
	head      Head
	workspace int64
}

// Write writes a workspace to a zip: its records as they are at this moment, and after them the
// files for people.
func (w *Writer) Write(ctx context.Context, workspace int64, out io.Writer) error {
	z := &writing{w, w.Store, zip.NewWriter(out), Head{Form: form, Release: w.Release, Records: map[string]int64{}}, workspace}
	err := w.Store.Snapshot(ctx, func(s *store.Store) error {
		z.s = s
		defer func() { z.s = w.Store }()
		return inOrder(ctx, z.settings, z.records, z.verdicts)
	})
	if err == nil {
		err = inOrder(ctx, z.remembered, z.lists, z.audit, z.ends)
	}
	return cmp.Or(err, z.zip.Close())
}

func inOrder(ctx context.Context, steps ...func(context.Context) error) error {
	for _, step := range steps {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return nil
}

// settings reads what the workspace itself is.
func (z *writing) settings(ctx context.Context) error {
	of, err := z.s.WorkspaceMoving(ctx, z.workspace)
	if err != nil {
		return err
	}
	if z.head.Schema, err = z.s.Schema(ctx); err != nil {
		return err
	}
	z.head.At, z.head.Name, z.head.CreatedAt, z.head.KeepDays = time.Now().UTC(), of.Name, of.CreatedAt, of.KeepDays
	z.head.SecondFactor, z.head.ReadersExport, z.head.ShareOutcomes, z.head.Rules, z.head.Lists = of.SecondFactor, of.ReadersExport, of.ShareOutcomes, of.Rules, of.Lists
	if of.ErasedKey != nil {
		if z.head.ErasedKey, err = z.Secrets.Open(of.ErasedKey, rights.KeyPurpose); err != nil {
			return err
		}
	}
	members, err := z.s.Members(ctx, z.workspace)
	z.head.Members = contract.Each(members, func(m store.Member) contract.Member {
		return contract.Member{Who: contract.Who{ID: m.PersonID, Name: m.Name, Address: m.Address}, Role: m.Role, SecondFactor: m.HasFactor, JoinedAt: m.JoinedAt}
	})
	return err
}

// lines writes a file of JSON lines, each by a call of add.
func (z *writing) lines(name string, write func(add func(any) error) error) error {
	return z.file(name, func(out io.Writer) error {
		enc := json.NewEncoder(out)
		enc.SetEscapeHTML(false)
		return write(enc.Encode)
	})
}

func (z *writing) records(ctx context.Context) error {
	for _, table := range store.MovedTables() {
		err := z.lines(recordsFile(table), func(add func(any) error) error {
			return z.s.EachMoved(ctx, z.workspace, table, func(r store.MovedRecord) error {
				z.head.Records[table]++
				return add(r)
			})
		})
		if err != nil {
			return fmt.Errorf("the records of %s: %w", table, err)
		}
	}
	return nil
}

func (z *writing) verdicts(ctx context.Context) error {
	all, err := z.s.Verdicts(ctx)
	if err != nil {
		return err
	}
	return z.lines(verdictsFile, func(add func(any) error) error {
		for id, v := range all {
			if err := add(verdict{id, v.Finding, v.Cause, v.Traits, v.Odds}); err != nil {
				return err
			}
		}
		return nil
	})
}

// remembered writes what is remembered of addresses by their fingerprints, with the addresses.
func (z *writing) remembered(ctx context.Context) error {
	return z.lines(rememberedFile, func(add func(any) error) error {
		return z.s.EachRemembered(ctx, z.workspace, func(r store.Remembered) error { return add(r) })
	})
}

// lists writes each list and the results of its runs as files for people.
func (z *writing) lists(ctx context.Context) error {
	lists, err := z.s.AllLists(ctx, z.workspace)
	if err != nil {
		return err
	}
	for _, l := range lists {
		folder := fmt.Sprintf("lists/%d %s/", l.ID, named(l.Name))
		if err := z.file(folder+listFile(l), func(out io.Writer) error { return z.rows(ctx, l, out) }); err != nil {
			return fmt.Errorf("list %d: %w", l.ID, err)
		}
		runs, err := z.s.AllRuns(ctx, l.ID)
		if err != nil {
			return err
		}
		for _, run := range runs {
			if run.Sample != nil || run.State == store.Drafted {
				continue
			}
			err := z.file(fmt.Sprintf("%srun %d.csv", folder, run.ID), func(out io.Writer) error { return z.results(ctx, run, l, out) })
			if err != nil {
				return fmt.Errorf("run %d: %w", run.ID, err)
			}
		}
	}
	return nil
}

// rows writes the rows of a list as they were imported.
func (z *writing) rows(ctx context.Context, l store.List, to io.Writer) error {
	out := l.Dialect.Writer(to)
	if _, err := out.Write(l.Header); err != nil {
		return err
	}
	err := z.s.EachRow(ctx, store.Run{}, l, store.OutWith{}, func(r *store.OutRow) error {
		_, err := out.Write(append(r.Raw, r.Tail...))
		return err
	})
	return cmp.Or(err, out.Close())
}

// results writes the rows of a list with what a run found of them.
func (z *writing) results(ctx context.Context, run store.Run, l store.List, to io.Writer) error {
	d, err := decide.New(ctx, z.s, run, l, run.Policy)
	if err != nil {
		return err
	}
	e, err := export.New(ctx, z.s, d, contract.ExportChoice{Decision: "all", Form: "results", Format: "spreadsheet"})
	if err != nil {
		return err
	}
	return e.Write(ctx, &decide.Memory{}, to)
}

func (z *writing) audit(ctx context.Context) error {
	return z.file("audit.jsonl", func(out io.Writer) error {
		return z.s.EachAudit(ctx, store.AuditFilter{Workspace: &z.workspace}, func(e store.AuditEntry) error {
			_, err := io.WriteString(out, e.Body+"\n")
			return err
		})
	})
}

// ends writes what is known when all else is written.
func (z *writing) ends(context.Context) error {
	if err := z.file(readmeFile, func(out io.Writer) error { _, err := io.WriteString(out, readme); return err }); err != nil {
		return err
	}
	return z.file(headFile, func(out io.Writer) error {
		enc := json.NewEncoder(out)
		enc.SetIndent("", "  ")
		enc.SetEscapeHTML(false)
		return enc.Encode(z.head)
	})
}

func (z *writing) file(name string, write func(io.Writer) error) error {
	f, err := z.zip.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: z.head.At})
	if err != nil {
		return err
	}
	out := bufio.NewWriterSize(f, 1<<16)
	return cmp.Or(write(out), out.Flush())
}

// named is a name as a part of the name of a file on any system.
func named(name string) string {
	name = strings.Map(func(r rune) rune {
		if r < ' ' || strings.ContainsRune(`/\:*?"<>|`, r) {
			return '-'
		}
		return r
	}, name)
	return cmp.Or(strings.Trim(string([]rune(name)[:min(60, len([]rune(name)))]), " ."), "list")
}

// listFile is what the file of a list is called: as it was, or as CSV where it was no text.
func listFile(l store.List) string {
	name := named(path.Base(cmp.Or(l.FileName, "list.csv")))
	text := l.Format == string(format.Text) && l.Packed == ""
	if end := path.Ext(name); !text || !slices.Contains([]string{".csv", ".tsv", ".txt"}, strings.ToLower(end)) {
		name = strings.TrimSuffix(name, end) + ".csv"
	}
	return name
}
