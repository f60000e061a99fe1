package export

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/core/say"
	"varnet/internal/decide"
	"varnet/internal/store"
)

// part is one file of several in a zip.
type part struct {
	name, says string
	takes      func(e *Export, r *store.OutRow, slot int, rule decide.Rule) bool
}

// parts are the files that rows are put in: each row goes into one of them.
func parts(apart string) (out []part) {
	if apart == "decision" {
		says := map[policy.Decision]string{policy.Keep: "to be written to", policy.Hold: "to be looked at before a mailing", policy.Drop: "not to be written to"}
		for _, d := range policy.Decisions() {
			out = append(out, part{string(d), says[d], func(e *Export, _ *store.OutRow, _ int, rule decide.Rule) bool {
				return e.decider.Ruling(rule).Decision == d
			}})
		}
		return out
	}
	for _, f := range finding.Findings() {
		out = append(out, part{string(f), strings.TrimSuffix(f.Meaning(), "."), func(e *Export, r *store.OutRow, slot int, rule decide.Rule) bool {
			return rule.OfPolicy() && e.decider.Verdicts[r.Cells[slot].Verdict].Finding == f
		}})
	}
	other := func(rule decide.Rule, name string) {
		out = append(out, part{name, rule.Reason(), func(_ *Export, _ *store.OutRow, _ int, of decide.Rule) bool { return of == rule }})
	}
	other(decide.Duplicate, "duplicates")
	other(decide.NoAddress, "without-address")
	other(decide.Open, "not-concluded")
	return out
}

// writeApart writes a zip with a file for each part that has rows, and a README
// that says what each is. Each part reads the rows anew, so that no row waits
// in memory.
func (e *Export) writeApart(ctx context.Context, decided int64, out io.Writer) error {
	base, ext := e.nameParts()
	z := zip.NewWriter(out)
	var readme strings.Builder
	fmt.Fprintf(&readme, "The rows of the list %q, run %d, by %s. Policy: %s.\r\n\r\n", e.list.Name, e.decider.Run.ID, e.options.Apart, e.decider.Policy.Name)
	for _, p := range parts(e.options.Apart) {
		name, rows := base+"-"+p.name+ext, int64(0)
		var w rowWriter
		err := e.eachChosen(ctx, decided, func(r *store.OutRow, slot int, rule decide.Rule) (err error) {
			if !p.takes(e, r, slot, rule) {
				return nil
			}
			if rows++; rows == 1 {
				w, err = e.entry(z, name)
			}
			if err == nil {
				err = w.write(r, slot)
			}
			return err
		})
		if err == nil && rows > 0 {
			err = w.close()
			fmt.Fprintf(&readme, "%s: %s, %s.\r\n", name, say.Rows(rows), p.says)
		}
		if err != nil {
			return err
		}
	}
	r, err := z.Create("README.txt")
	if err == nil {
		_, err = io.WriteString(r, readme.String())
	}
	return errors.Join(err, z.Close())
}

// entry begins a file in a zip.
func (e *Export) entry(z *zip.Writer, name string) (rowWriter, error) {
	w, err := z.Create(name)
	if err != nil {
		return rowWriter{}, err
	}
	return e.writer(w)
}

// writeSplit writes a zip with files of at most so many rows, each with the
// header.
func (e *Export) writeSplit(ctx context.Context, decided int64, out io.Writer) error {
	base, ext := e.nameParts()
	z := zip.NewWriter(out)
	var w rowWriter
	n := 0
	err := e.eachChosen(ctx, decided, func(r *store.OutRow, slot int, _ decide.Rule) (err error) {
		if n%e.options.RowsEach == 0 {
			if n > 0 {
				err = w.close()
			}
			if err == nil {
				w, err = e.entry(z, fmt.Sprintf("%s-%s-%d%s", base, e.options.Decision, n/e.options.RowsEach+1, ext))
			}
		}
		n++
		if err == nil {
			err = w.write(r, slot)
		}
		return err
	})
	if err == nil && n > 0 {
		err = w.close()
	}
	return errors.Join(err, z.Close())
}
