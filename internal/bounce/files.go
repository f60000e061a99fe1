package bounce

import (
	"archive/zip"
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"varnet/core/bounce"
	"varnet/core/say"
)

// The bounds of a file of messages.
const (
	mostEntries = 200_000   // in a zip
	mostNested  = 512 << 20 // bytes of one of its files
)

// Messages returns the messages of a file, one by one until io.EOF: a message by itself
// (RFC 5322), a mailbox of many (RFC 4155), or a zip of such files. Of each message the
// first bounce.Most bytes are read. A zip must be a file that can be read at any place.
func Messages(file io.Reader) (next func() ([]byte, error), err error) {
	in := bufio.NewReaderSize(file, 64<<10)
	head, err := in.Peek(4)
	if err != nil && err != io.EOF {
		return nil, err
	}
	if at, ok := file.(*os.File); ok && string(head) == "PK\x03\x04" {
		info, err := at.Stat()
		if err != nil {
			return nil, err
		}
		return zipped(at, info.Size())
	}
	return plain(in)
}

// InFile makes messages of a file ready to be imported.
func InFile(next func() ([]byte, error)) func() (Incoming, error) {
	return func() (Incoming, error) {
		raw, err := next()
		return Incoming{Raw: raw}, err
	}
}

// FileError is why a file cannot be read as messages, for people.
type FileError struct{ Why string }

func (e *FileError) Error() string { return e.Why }

func fileErrorf(format string, args ...any) error {
	return &FileError{say.Outside(fmt.Sprintf(format, args...))}
}

// ErrNoMessages is a file that holds no messages.
var ErrNoMessages error = &FileError{"the file holds no message: give a message (.eml), a mailbox (.mbox) or a zip of them"}

// plain reads a message, or a mailbox of many.
func plain(r io.Reader) (func() ([]byte, error), error) {
	in := bufio.NewReaderSize(r, 64<<10)
	head, err := in.Peek(2048)
	if err != nil && err != io.EOF && !errors.Is(err, bufio.ErrBufferFull) {
		return nil, err
	}
	if bytes.HasPrefix(head, []byte("From ")) {
		return (&mailbox{in: in}).next, nil
	}
	if !looksLikeMessage(head) {
		return nil, ErrNoMessages
	}
	done := false
	return func() ([]byte, error) {
		if done {
			return nil, io.EOF
		}
		done = true
		return io.ReadAll(io.LimitReader(in, bounce.Most))
	}, nil
}

// looksLikeMessage reports whether a file begins with fields of a message.
func looksLikeMessage(head []byte) bool {
	line, _, _ := bytes.Cut(bytes.TrimLeft(head, "\r\n\xef\xbb\xbf"), []byte("\n"))
	name, _, ok := bytes.Cut(line, []byte(":"))
	return ok && len(name) > 0 && len(name) < 80 && !bytes.ContainsAny(name, " \t,;\"\x00")
}

// mailbox reads a mailbox in the form of RFC 4155, whose messages are parted by lines that
// begin with "From ". It undoes the ">From" of those inside a message.
type mailbox struct {
	in   *bufio.Reader
	over bool
}

func (m *mailbox) next() ([]byte, error) {
	if m.over {
		return nil, io.EOF
	}
	var one []byte
	blank := true
	for {
		line, err := m.in.ReadSlice('\n')
		if errors.Is(err, bufio.ErrBufferFull) {
			one, blank = appendUpTo(one, line), false
			continue
		}
		if err != nil && err != io.EOF {
			return nil, err
		}
		switch {
		case bytes.HasPrefix(line, []byte("From ")) && blank:
			if len(one) > 0 {
				return one, nil
			}
		default:
			one = appendUpTo(one, unquoted(line))
		}
		blank = len(bytes.TrimRight(line, "\r\n")) == 0
		if err == io.EOF {
			if m.over = true; len(bytes.TrimSpace(one)) == 0 {
				return nil, io.EOF
			}
			return one, nil
		}
	}
}

func appendUpTo(one, line []byte) []byte {
	return append(one, line[:min(len(line), bounce.Most-min(len(one), bounce.Most))]...)
}

func unquoted(line []byte) []byte {
	if rest := bytes.TrimLeft(line, ">"); len(rest) < len(line) && bytes.HasPrefix(rest, []byte("From ")) {
		return line[1:]
	}
	return line
}

// damaged is why a file of a zip cannot be read.
func damaged(name string, err error) error {
	return fileErrorf("%s in the zip cannot be unpacked (%v): pack it again", name, err)
}

// zipped reads the files of a zip one after the other. Folders and files of other kinds are
// passed over; one that cannot be unpacked ends it with an error that names it.
func zipped(file io.ReaderAt, size int64) (func() ([]byte, error), error) {
	z, err := zip.NewReader(file, size)
	if err != nil {
		return nil, fileErrorf("the zip cannot be read (%v): pack it again", err)
	}
	if len(z.File) > mostEntries {
		return nil, fileErrorf("the zip holds %d files; at most %d are read. Send it in parts", len(z.File), mostEntries)
	}
	entries, found := z.File, false
	var now func() ([]byte, error)
	var open io.Closer
	var name string
	return func() ([]byte, error) {
		for {
			if now != nil {
				one, err := now()
				if err != nil && err != io.EOF {
					return nil, damaged(name, err)
				}
				if err == nil {
					found = true
					return one, nil
				}
				now = nil
				_ = open.Close()
			}
			if len(entries) == 0 {
				if !found {
					return nil, ErrNoMessages
				}
				return nil, io.EOF
			}
			e := entries[0]
			entries, name = entries[1:], e.Name
			if e.FileInfo().IsDir() || strings.HasPrefix(e.Name, "__MACOSX/") {
				continue
			}
			body, err := e.Open()
			if err != nil {
				return nil, damaged(name, err)
			}
			if now, err = plain(io.LimitReader(body, mostNested)); err != nil {
				now = nil
				_ = body.Close()
				if errors.Is(err, ErrNoMessages) {
					continue
				}
				return nil, damaged(name, err)
			}
			open = body
		}
	}, nil
}
