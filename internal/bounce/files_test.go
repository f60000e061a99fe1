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

// TestLongLines: a mailbox with a line longer than any buffer keeps its messages apart.
func TestLongLines(t *testing.T) {
	long := strings.Repeat("x", 300_000)
	got := all(t, []byte("From a\nSubject: one\n\n"+long+"\n\nFrom b\nSubject: two\n\nend\n"))
	if len(got) != 2 || !strings.Contains(got[0], long) {
		t.Errorf("%d messages", len(got))
	}
}
