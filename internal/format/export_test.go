package format

import "io"

// OpenHere opens a file in this process, as the one that reads files does.
func OpenHere(file io.Reader, o Options) (*Table, error) {
	t := &Table{Kind: Text}
	if err := t.open(file, o, 0); err != nil {
		t.Close()
		return nil, err
	}
	return t, nil
}
