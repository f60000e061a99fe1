package finding_test

import (
	"fmt"

	"varnet/core/finding"
)

// A cause tells its finding, where there is only one, and the words for it.
func ExampleConcludeFrom() {
	v := finding.ConcludeFrom(finding.MailboxAbsent, nil)
	info, _ := finding.Lookup(v.Cause)
	fmt.Println(v.Finding, "at the stage", v.Cause.Stage(), "-", info.Title)
	// Output:
	// undeliverable at the stage mailbox - Mailbox does not exist
}
