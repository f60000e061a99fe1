package policy_test

import (
	"fmt"

	"varnet/core/finding"
	"varnet/core/policy"
)

// The first rule that matches a row decides.
func Example() {
	p := policy.Careful()
	row := policy.Row{Verdict: finding.Conclude(finding.Deliverable, finding.MailboxAccepted, finding.Traits{finding.TraitRole})}
	fmt.Println(p.Decide(row).Decision, "because of", p.Decide(row).Reason)
	fmt.Println(policy.Tally{p.Decide(row): 12}.Sentence(policy.Keep))
	// Output:
	// hold because of role addresses
	// 0 of 12 rows will be kept. Left out: 12 role addresses.
}
