package reply_test

import (
	"fmt"

	"varnet/core/reply"
	"varnet/core/smtp"
)

// A refusal is read by its words: the same code may be about the mailbox or about us.
func ExampleRead() {
	q := reply.Question{Mailbox: "ada@fernhollow.example", Helo: "verify.seedlibrary.example", Sender: "check@seedlibrary.example"}
	for _, text := range []string{
		"550 5.1.1 <ada@fernhollow.example>: no such user here",
		"550 5.7.1 Your address is on our blocklist",
		"450 4.7.1 Greylisted, please come back in 5 minutes",
	} {
		r, _ := smtp.ParseReply(text)
		m := reply.Read(r, q)
		fmt.Println(m.About, m.Effect, m.Cause)
	}
	// Output:
	// mailbox refused mailbox.absent
	// us refused exchanger.blocks-us
	// moment postponed exchanger.postponed
}
