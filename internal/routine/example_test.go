package routine_test

import (
	"fmt"
	"strings"
	"time"

	"varnet/internal/routine"
	"varnet/internal/store/pack"
)

// A routine is shown as sentences, the same in the console, in letters and in the terminal.
func ExampleSays() {
	made := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	says := routine.Says(pack.RoutineSpec{Source: routine.FromList, ListID: 1, Rule: "FREQ=WEEKLY;BYDAY=MO", Time: "03:00", Zone: "Europe/Berlin",
		Ages: map[string]int{"deliverable": 30}, Policy: "careful", Then: "nothing", Tell: "changes"}, made, "Members")
	fmt.Println(strings.Join(says, "\n"))
	// Output:
	// Every Monday at 03:00, Europe/Berlin: reads the newest import of “Members”.
	// Asks about new addresses, deliverable ones after 30 days, and about undecided ones each time; decides by the policy careful.
}

// The file that a routine writes is called after the one that it read.
func ExampleName() {
	at := time.Date(2026, 3, 2, 3, 0, 0, 0, time.UTC)
	fmt.Println(routine.Name("{name}-kept-{date}", "members.csv", ".csv", at))
	// Output:
	// members-kept-2026-03-02.csv
}
