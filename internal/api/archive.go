package api

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
	"varnet/internal/store"
)

// part is one file of several in a zip.
type part struct {
	name, says string
	takes      func(s *shape, r *store.OutRow, slot, rule int) bool
}

// parts are the files that rows are put in: each row goes into one of them.
func parts(apart string) (out []part) {
	if apart == "decision" {
		says := map[policy.Decision]string{policy.Keep: "to be written to", policy.Hold: "to be looked at before a mailing", policy.Drop: "not to be written to"}
		for _, d := range policy.Decisions() {
			out = append(out, part{string(d), says[d], func(s *shape, _ *store.OutRow, _, rule int) bool { return s.judge.ruling(rule).Decision == d }})
		}
		return out
	}
	for _, f := range finding.Findings() {
		out = append(out, part{string(f), strings.TrimSuffix(f.Meaning(), "."), func(s *shape, r *store.OutRow, slot, rule int) bool {
			return rule >= 0 && s.judge.verdicts[r.Cells[slot].Verdict].Finding == f
		}})
	}
	other := func(rule int, name string) {
		reason := (&judge{}).ruling(rule).Reason
		out = append(out, part{name, reason, func(_ *shape, _ *store.OutRow, _, of int) bool { return of == rule }})
	}
	other(ruleDuplicate, "duplicates")
	other(ruleNone, "without-address")
	other(ruleOpen, "not-concluded")
	return out
}

// writeApart writes a zip with a file for each part that has rows, and a README
// that says what each is. Each part reads the rows anew, so that no row waits
// in memory.
func (a *API) writeApart(ctx context.Context, s *shape, decided int64, out io.Writer) error {
	base, ext := nameParts(s)
	z := zip.NewWriter(out)
	var readme strings.Builder
	fmt.Fprintf(&readme, "The rows of the list %q, run %d, by %s. Policy: %s.\r\n\r\n", s.list.Name, s.judge.run.ID, s.in.Apart, s.judge.policy.Name)
	for _, p := range parts(s.in.Apart) {
		name, rows := base+"-"+p.name+ext, int64(0)
		var w rowWriter
		err := a.eachChosen(ctx, s, decided, func(r *store.OutRow, slot, rule int) (err error) {
			if !p.takes(s, r, slot, rule) {
				return nil
			}
			if rows++; rows == 1 {
				w, err = s.entry(z, name)
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
func (s *shape) entry(z *zip.Writer, name string) (rowWriter, error) {
	e, err := z.Create(name)
	if err != nil {
		return rowWriter{}, err
	}
	return s.writer(e)
}

// writeSplit writes a zip with files of at most so many rows, each with the
// header.
func (a *API) writeSplit(ctx context.Context, s *shape, decided int64, out io.Writer) error {
	base, ext := nameParts(s)
	z := zip.NewWriter(out)
	var w rowWriter
	n := 0
	err := a.eachChosen(ctx, s, decided, func(r *store.OutRow, slot, _ int) (err error) {
		if n%s.in.RowsEach == 0 {
			if n > 0 {
				err = w.close()
			}
			if err == nil {
				w, err = s.entry(z, fmt.Sprintf("%s-%s-%d%s", base, s.in.Decision, n/s.in.RowsEach+1, ext))
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
