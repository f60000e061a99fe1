package format_test

import (
	"context"
	"fmt"
	"io"
	"strings"

	"varnet/internal/format"
)

func ExampleOpen() {
	file := strings.NewReader("BEGIN:VCARD\r\nVERSION:4.0\r\nFN:Ada Moss\r\nEMAIL:ada.moss@fernhollow.example\r\nEND:VCARD\r\n")
	t, err := format.Open(context.Background(), file, format.Options{})
	if err != nil {
		fmt.Println(err)
		return
	}
	defer t.Close()
	text, err := io.ReadAll(t)
	fmt.Println(t.Kind.Title(), err)
	fmt.Print(string(text))
	// Output:
	// An address book (vCard) <nil>
	// Name,E-mail
	// Ada Moss,ada.moss@fernhollow.example
}
