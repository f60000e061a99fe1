package main

import (
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"varnet/core/say"
)

// output is a file that a command is to write.
//
// An ordinary file appears under its name when it is whole, and keeps mode and owner of the
// one it replaces; a new one has the mode that the umask gives. What cannot be replaced is
// written where it is: pipes, devices, files with several names, files of another owner.
type output struct {
	name    string
	file    string      // behind symbolic links
	mode    fs.FileMode // of the file that is there
	there   bool
	inPlace bool
	std     io.Writer // standard output
}

// output looks at what -out names, before anything else is done. "-" is standard output.
func (c *cli) output(name string) (o output, err error) {
	if name == "-" {
		return output{std: c.out}, nil
	}
	o.name = name
	if o.file, err = behindLinks(name); err == nil {
		err = o.look()
	}
	if err != nil {
		return o, o.failed(err)
	}
	return o, nil
}

// words is where sentences go: to standard output, unless the file goes there.
func (c *cli) words(o output) io.Writer {
	if o.std != nil {
		return c.err
	}
	return c.out
}

func (o *output) failed(err error) error {
	return fmt.Errorf("the file %s cannot be written: %w", o.name, say.WithoutPath(err))
}

// mostLinks is how many symbolic links are followed, one to the next.
const mostLinks = 40

// behindLinks follows symbolic links, also one to a file that is yet to be made.
func behindLinks(name string) (string, error) {
	for range mostLinks {
		to, err := os.Readlink(name)
		if err != nil {
			return name, nil // no link, or not there: look tells
		}
		if !filepath.IsAbs(to) {
			to = filepath.Join(filepath.Dir(name), to)
		}
		name = to
	}
	return "", syscall.ELOOP
}

// look finds out how the file can be written, and that it can.
func (o *output) look() error {
	info, err := os.Stat(o.file)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return o.tryFolder()
	case err != nil:
		return err
	case info.IsDir():
		return errors.New("it is a folder; name a file in it")
	}
	const mayWrite = 2
	if err := syscall.Access(o.file, mayWrite); err != nil {
		return err
	}
	o.there, o.mode = true, info.Mode().Perm()
	s, ok := info.Sys().(*syscall.Stat_t)
	o.inPlace = !info.Mode().IsRegular() || ok && (s.Nlink > 1 || int(s.Uid) != os.Geteuid()) || o.tryFolder() != nil
	return nil
}

// tryFolder makes a file beside the one to be written, and removes it.
func (o *output) tryFolder() error {
	f, err := o.beside()
	if err != nil {
		return err
	}
	return errors.Join(f.Close(), os.Remove(f.Name()))
}

// beside makes an empty file in the same folder, with the mode that the umask gives.
func (o *output) beside() (*os.File, error) {
	return os.OpenFile(filepath.Join(filepath.Dir(o.file), ".varnet-"+rand.Text()), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
}

// write lets the content be written.
func (o *output) write(content func(io.Writer) error) error {
	if o.std != nil {
		return content(o.std)
	}
	if o.inPlace {
		f, err := os.OpenFile(o.file, os.O_WRONLY|os.O_TRUNC, 0)
		if err != nil {
			return o.failed(err)
		}
		err = content(f)
		return errors.Join(err, f.Close())
	}
	f, err := o.beside()
	if err != nil {
		return o.failed(err)
	}
	defer os.Remove(f.Name())
	if o.there {
		err = f.Chmod(o.mode)
	}
	if err == nil {
		err = content(f)
	}
	if err == nil {
		err = f.Sync()
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err == nil {
		err = os.Rename(f.Name(), o.file)
	}
	return err
}
