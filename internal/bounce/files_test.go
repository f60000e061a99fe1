package bounce

import (
	"archive/zip"
	"bytes"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func all(t *testing.T, file []byte) (found []string) {
	t.Helper()
	f, err := os.Create(filepath.Join(t.TempDir(), "file"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if _, err := f.Write(file); err != nil {
		t.Fatal(err)
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		t.Fatal(err)
	}
	next, err := Messages(f)
	if err != nil {
		t.Fatal(err)
	}
	for {
		one, err := next()
		if err == io.EOF {
			return found
		}
		if err != nil {
			t.Fatal(err)
		}
		found = append(found, string(one))
	}
}

const box = "From MAILER-DAEMON Tue Mar 17 07:30:41 2026\nSubject: one\n\n>From the mail server:\nFrom here on\n\nFrom x Tue Mar 17 07:30:42 2026\nSubject: two\n\nend\n"

func TestMailbox(t *testing.T) {
	got := all(t, []byte(box+"\nFrom y\nSubject: three\n\nFrom z\nSubject: four\n"))
	if len(got) != 4 || got[3] != "Subject: four\n" || got[0] != "Subject: one\n\nFrom the mail server:\nFrom here on\n\n" || got[1] != "Subject: two\n\nend\n\n" {
		t.Errorf("%q", got)
	}
}

func TestSingleMessage(t *testing.T) {
	if got := all(t, []byte("Subject: one\r\n\r\nbody\r\n")); len(got) != 1 || !strings.HasSuffix(got[0], "body\r\n") {
		t.Errorf("%q", got)
	}
}

func TestZip(t *testing.T) {
	var file bytes.Buffer
	z := zip.NewWriter(&file)
	for name, body := range map[string]string{"a/one.eml": "Subject: a\n\nx\n", "box.mbox": box, "picture.png": "\x89PNG\r\n\x1a\n", "notes.txt": "a note, not a message\n"} {
		w, err := z.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write([]byte(body)); err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	if got := all(t, file.Bytes()); len(got) != 3 {
		t.Errorf("%q", got)
	}
}

func TestNoMessages(t *testing.T) {
	for _, file := range []string{"", "a,b\nc,d\n", "\x89PNG\r\n\x1a\n"} {
		if _, err := Messages(strings.NewReader(file)); !errors.Is(err, ErrNoMessages) {
			t.Errorf("%q: %v", file, err)
		}
	}
}

// TestBrokenZips: a zip that cannot be unpacked says so, and which of its files it is.
func TestBrokenZips(t *testing.T) {
	var file bytes.Buffer
	z := zip.NewWriter(&file)
	w, err := z.Create("box.mbox")
	if err == nil {
		_, err = io.WriteString(w, "From a\nSubject: one\n\n"+strings.Repeat("seed, water and light\n", 20_000))
	}
	if err == nil {
		err = z.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	whole := file.Bytes()
	damaged := bytes.Clone(whole)
	for i := len(damaged) / 3; i < len(damaged)/3+20; i++ {
		damaged[i] ^= 0xff
	}
	for what, c := range map[string]struct {
		file  []byte
		names string
	}{
		"nothing but its head": {[]byte("PK\x03\x04"), "the zip"},
		"cut off":              {whole[:len(whole)/2], "the zip"},
		"damaged":              {damaged, "box.mbox"},
	} {
		at, err := os.CreateTemp(t.TempDir(), "")
		if err != nil {
			t.Fatal(err)
		}
		if _, err := at.Write(c.file); err != nil {
			t.Fatal(err)
		}
		if _, err := at.Seek(0, io.SeekStart); err != nil {
			t.Fatal(err)
		}
		next, err := Messages(at)
		for err == nil {
			_, err = next()
		}
		var wrong *FileError
		if !errors.As(err, &wrong) || !strings.HasPrefix(wrong.Why, c.names) || !strings.HasSuffix(wrong.Why, "pack it again") {
			t.Errorf("%s: %v", what, err)
		}
		_ = at.Close()
	}
}

// TestLongLines: a mailbox with a line longer than any buffer keeps its messages apart.
func TestLongLines(t *testing.T) {
	long := strings.Repeat("x", 300_000)
	got := all(t, []byte("From a\nSubject: one\n\n"+long+"\n\nFrom b\nSubject: two\n\nend\n"))
	if len(got) != 2 || !strings.Contains(got[0], long) {
		t.Errorf("%d messages", len(got))
	}
}
