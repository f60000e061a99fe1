package report_test

import (
	"fmt"

	"varnet/core/finding"
	"varnet/internal/report"
)

// A share always names its whole.
func ExampleShare() {
	fmt.Println(report.Share(3411, 4210))
	// Output:
	// 81 % of 4,210
}

// The picture of a run is laid out once, for console, report and letters.
func ExampleFlowOf() {
	f := report.FlowOf(1000, 0, []report.Cause{
		{Finding: finding.Deliverable, Code: finding.MailboxAccepted, Stage: finding.StageMailbox, Title: "Accepted", Addresses: 900},
		{Finding: finding.Undeliverable, Code: finding.MailboxAbsent, Stage: finding.StageMailbox, Title: "No such mailbox", Addresses: 100},
	})
	fmt.Println(f.Says)
	// Output:
	// Of 1,000 addresses 0 leave at syntax, 0 leave at domain, 0 leave at exchanger, 100 leave at mailbox, 900 are deliverable and 0 are catch-all.
}
