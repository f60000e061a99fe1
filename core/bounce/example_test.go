package bounce_test

import (
	"fmt"
	"strings"

	"varnet/core/bounce"
)

// letters are the messages a mailing consists of: to whom which Message-ID went.
type letters map[string]string

func (l letters) Has(address string) (string, bool) {
	for _, to := range l {
		if strings.EqualFold(to, address) {
			return to, true
		}
	}
	return "", false
}

func (l letters) Message(id string) []string {
	if to, ok := l[id]; ok {
		return []string{to}
	}
	return nil
}

func (l letters) Knows(string) bool { return true }

func (l letters) Returns(string) (string, bool) { return "", false }

func ExampleRead() {
	notice := `From: Mail Delivery System <MAILER-DAEMON@mx.orchard.example>
To: returns@fernhollow.example
Subject: Undelivered Mail Returned to Sender
References: <spring-7@fernhollow.example>
Content-Type: multipart/report; report-type=delivery-status; boundary=b

--b
Content-Type: message/delivery-status

Reporting-MTA: dns; mx.orchard.example

Final-Recipient: rfc822; private@attic.example
Action: failed
Status: 5.1.1
Diagnostic-Code: smtp; 550 5.1.1 no such user
--b--
`
	n := bounce.Read([]byte(notice))
	for _, c := range bounce.Whom(n, letters{"spring-7@fernhollow.example": "wren@orchard.example"}) {
		fmt.Println(n.Kind, "of", c.Address, "by", c.How)
		fmt.Println("forwarded to", c.Recipient.Final)
		fmt.Println(c.Recipient.Meaning.Cause, c.Recipient.Permanent, "-", c.Recipient.Words)
	}
	// Output:
	// bounce of wren@orchard.example by message
	// forwarded to private@attic.example
	// mailbox.absent true - 550 5.1.1 no such user
}
