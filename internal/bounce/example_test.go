package bounce_test

import (
	"fmt"
	"io"
	"os"
	"path/filepath"

	"varnet/internal/bounce"
)

// A mailbox file is read message by message.
func ExampleMessages() {
	name := filepath.Join(os.TempDir(), "returned.mbox")
	defer os.Remove(name)
	_ = os.WriteFile(name, []byte("From MAILER-DAEMON Mon Mar  2 09:00:00 2026\nSubject: returned\n\nno such mailbox\n\nFrom MAILER-DAEMON Mon Mar  2 09:01:00 2026\nSubject: delayed\n\nlater\n"), 0o600)
	file, _ := os.Open(name)
	defer file.Close()
	next, err := bounce.Messages(file)
	for n := 1; err == nil; n++ {
		var message []byte
		if message, err = next(); err == io.EOF {
			fmt.Println("read", n-1, "messages")
		} else {
			fmt.Println(len(message) > 0, err)
		}
	}
	// Output:
	// true <nil>
	// true <nil>
	// read 2 messages
}

// A return address names its letter, and nobody can make one up.
func ExampleTags_Address() {
	tags := bounce.Tags{Domain: "returns.fernhollow.example", Sums: func(text string) [][]byte { return [][]byte{make([]byte, 32)} }}
	fmt.Println(tags.Address(7, 1))
	// Output:
	// b+7-1-aaaaaaaaaaaaaaaa@returns.fernhollow.example
}
