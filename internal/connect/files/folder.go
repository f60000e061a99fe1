package files

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"strconv"

	"varnet/core/say"
	"varnet/internal/connect"
)

// Folder is the folder of a workspace on this host, out of which no name and no link leads.
type Folder struct{ connect.Env }

func (f Folder) root() (*os.Root, error) {
	if f.Env.Folder == "" {
		return nil, connect.Troublef("This installation has no folder for files; its operator sets one with -routine-folder.")
	}
	all, err := os.OpenRoot(f.Env.Folder)
	if err != nil {
		return nil, connect.Troublef("The folder for files cannot be opened: %v.", say.WithoutPath(err))
	}
	defer all.Close()
	own := strconv.FormatInt(f.Workspace, 10)
	if err := all.Mkdir(own, 0o750); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, connect.Troublef("The workspace's folder cannot be made: %v.", say.WithoutPath(err))
	}
	root, err := all.OpenRoot(own)
	if err != nil {
		return nil, connect.Troublef("The workspace's folder cannot be opened: %v.", say.WithoutPath(err))
	}
	return root, nil
}

func (f Folder) stats(_ context.Context, pattern string) (out []stat, err error) {
	root, err := f.root()
	if err != nil {
		return nil, err
	}
	defer root.Close()
	names, err := fs.Glob(root.FS(), pattern)
	if err != nil {
		return nil, connect.Troublef("%q is not a pattern of file names.", pattern)
	}
	for _, n := range names {
		if i, err := fs.Stat(root.FS(), n); err == nil && i.Mode().IsRegular() {
			out = append(out, stat{n, i.Size(), i.ModTime()})
		}
	}
	return out, nil
}

func (f Folder) open(_ context.Context, name string) (io.ReadCloser, error) {
	root, err := f.root()
	if err != nil {
		return nil, err
	}
	defer root.Close()
	file, err := root.Open(name)
	if err != nil {
		return nil, connect.Troublef("The file %s cannot be read: %v.", name, say.WithoutPath(err))
	}
	return file, nil
}

func (f Folder) put(_ context.Context, name string, write func(io.Writer) error) error {
	root, err := f.root()
	if err != nil {
		return err
	}
	defer root.Close()
	if dir := path.Dir(name); dir != "." {
		if err := root.MkdirAll(dir, 0o750); err != nil {
			return connect.Troublef("The folder %s cannot be made: %v.", dir, say.WithoutPath(err))
		}
	}
	file, err := root.OpenFile(name+unfinished, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o640)
	if err != nil {
		return connect.Troublef("The file %s cannot be written: %v.", name, say.WithoutPath(err))
	}
	err = errors.Join(write(file), file.Sync(), file.Close())
	if err == nil {
		err = root.Rename(name+unfinished, name)
	}
	if err != nil {
		_ = root.Remove(name + unfinished)
		var p *fs.PathError
		if errors.As(err, &p) {
			err = connect.Troublef("The file %s cannot be written: %v.", name, p.Err)
		}
	}
	return err
}

// Put writes a file of the workspace's folder.
func (f Folder) Put(ctx context.Context, name string, write func(io.Writer) error) error {
	return f.put(ctx, name, write)
}

// Close has nothing to end.
func (Folder) Close() error { return nil }
