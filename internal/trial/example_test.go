package trial_test

import (
	"fmt"

	"varnet/internal/store"
	"varnet/internal/trial"
)

// The DNS record of the key that trial letters are signed with (RFC 6376 section 3.6.2.1).
func ExampleRecordName() {
	fmt.Println(trial.RecordName(store.TrialSender{Sender: "Fernhollow <letters@fernhollow.example>", Selector: "spring"}))
	// Output:
	// spring._domainkey.fernhollow.example
}
