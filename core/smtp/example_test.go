package smtp_test

import (
	"fmt"

	"varnet/core/smtp"
)

// A reply is its code, its enhanced code (RFC 3463) and its texts.
func ExampleParseReply() {
	r, ok := smtp.ParseReply("550-5.1.1 No such user here;\r\n550 5.1.1 see our pages")
	fmt.Println(r.Code, r.Enhanced, r.Lines, r.Permanent(), ok)
	// Output:
	// 550 5.1.1 [No such user here; see our pages] true true
}
