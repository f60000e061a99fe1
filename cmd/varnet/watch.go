package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/routine"
)

func watchCommand() command {
	return command{"watch", "FOLDER", "watches a folder of this machine: each new file is imported and verified, and its kept rows written beside it", "varnet watch ~/lists -pattern '*.csv'", watch, nil}
}

// watchEvery is how often the folder is looked at. A file that has changed since the look before
// is not whole yet.
const watchEvery = 2 * time.Second

// watched is a folder that is watched.
type watched struct {
	*cli
	api             *client.Client
	folder          string
	pattern, naming string
	run             *contract.NewRun
	once            bool
	seen            map[string]string // size and time of change at the look before, by the file
	failed          map[string]string // of files that could not be imported
}

func watch(c *cli) action {
	connect := c.connect()
	w := watched{cli: c, seen: map[string]string{}, failed: map[string]string{}}
	c.flags.StringVar(&w.pattern, "pattern", "*.csv", "the files that are verified")
	c.flags.StringVar(&w.naming, "naming", "{name}-kept", "how the file with the kept rows is called: {name} is the file's own, without its ending, {date} and {time} when it is written")
	c.flags.BoolVar(&w.once, "once", false, "come to an end when all files are done that are there")
	w.run = c.chosenRun()
	return func(ctx context.Context) error {
		if _, err := filepath.Match(w.pattern, ""); err != nil {
			return c.wrongUse(fmt.Sprintf("-pattern is a pattern of file names such as *.csv, not %q", w.pattern))
		}
		if info, err := os.Stat(c.args[0]); err != nil || !info.IsDir() {
			return fmt.Errorf("%s is not a folder that can be read", c.args[0])
		}
		w.folder, w.api = c.args[0], connect()
		if _, err := w.api.Policy(ctx, w.run.Policy); err != nil {
			return err
		}
		return w.watch(ctx)
	}
}

func (w *watched) watch(ctx context.Context) error {
	for looks := 0; ; looks++ {
		open, err := w.look(ctx)
		if err != nil || w.once && looks > 0 && !open {
			return err
		}
		select {
		case <-time.After(watchEvery):
		case <-ctx.Done():
			return nil // interrupted
		}
	}
}

// look verifies the files that are whole and have no kept rows beside them yet; open reports
// whether some were not whole.
func (w *watched) look(ctx context.Context) (open bool, err error) {
	names, err := filepath.Glob(filepath.Join(w.folder, w.pattern))
	if err != nil {
		return false, err
	}
	for _, name := range names {
		info, err := os.Stat(name)
		if errors.Is(err, fs.ErrNotExist) || err == nil && !info.Mode().IsRegular() {
			continue
		}
		if err != nil {
			return false, err
		}
		is := fmt.Sprint(info.Size(), info.ModTime().UnixNano())
		before := w.seen[name]
		w.seen[name] = is
		switch {
		case w.ours(name) || w.failed[name] == is || w.done(name, info):
		case before != is:
			open = true
		default:
			if err := w.verify(ctx, name); err != nil {
				if ctx.Err() != nil || !aboutFile(err) {
					return false, err
				}
				w.failed[name] = is
				fmt.Fprintf(w.err, "varnet: %s\n", printable(err.Error()))
			}
		}
	}
	return open, nil
}

// aboutFile reports whether an error is about one file, so that others may be done.
func aboutFile(err error) bool {
	var p *client.Problem
	return errors.As(err, &p) && (p.Status == 422 || p.Status == 413 || p.Status == 409)
}

// kept is where the kept rows of a file go; with a moment in their names, the pattern of it.
func (w *watched) kept(name, date, hour string) string {
	at := routine.NameWith(w.naming, filepath.Base(name), filepath.Ext(name), date, hour)
	return filepath.Join(filepath.Dir(name), at)
}

// ours reports whether a file is one that was written here.
func (w *watched) ours(name string) bool {
	pattern := routine.NameWith(w.naming, "*", filepath.Ext(name), routine.AnyDate, routine.AnyTime)
	is, _ := filepath.Match(pattern, filepath.Base(name))
	return is
}

// done reports whether the kept rows of a file are there, and newer.
func (w *watched) done(name string, file fs.FileInfo) bool {
	there, _ := filepath.Glob(w.kept(name, routine.AnyDate, routine.AnyTime))
	for _, k := range there {
		if info, err := os.Stat(k); err == nil && info.ModTime().After(file.ModTime()) {
			return true
		}
	}
	return false
}

// verify imports and verifies a file and writes its kept rows.
func (w *watched) verify(ctx context.Context, name string) error {
	now := time.Now()
	to, err := w.output(w.kept(name, now.Format("2006-01-02"), now.Format("1504")))
	if err != nil {
		return err
	}
	body, err := os.Open(name)
	if err != nil {
		return err
	}
	defer body.Close()
	l, err := w.api.Import(ctx, client.File{Name: filepath.Base(name), Body: body})
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	fmt.Fprintf(w.out, "%s: %s\n", printable(name), printable(l.Sentence))
	r, err := w.api.StartRun(ctx, l.ID, *w.run)
	if err == nil {
		r, err = w.api.Wait(ctx, r.ID, func(contract.Run) {})
	}
	if err != nil {
		return err
	}
	return w.export(ctx, w.api, r.ID, contract.ExportChoice{}, to)
}
