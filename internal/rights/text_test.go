package rights_test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"varnet/internal/contract"
	"varnet/internal/rights"
	"varnet/internal/store"
)

func at(day, hour int) time.Time { return time.Date(2026, 11, day, hour, 30, 0, 0, time.UTC) }

// held is what is held about somebody, with a row of somebody else that names them.
func held() contract.Held {
	bounced, absent := at(7, 9), at(8, 1)
	return contract.Held{Address: "cleo.reed@fernhollow.example", Workspace: "Fernhollow Seed Library", At: at(30, 10), Says: "Held about this address: 2 rows of 1 list.",
		Lists: []contract.HeldList{{ID: 4, Name: "members", FileName: "members.csv", At: at(1, 8), RowsAll: 103, Override: "drop",
			Rows: []contract.HeldRow{
				{Line: 12, Own: true, Cells: []contract.HeldCell{{Column: "Name", Text: "Cleo\nReed\x1b[31m"}, {Column: "Note", Text: ""}}},
				{Line: 90, Cells: []contract.HeldCell{{Column: "Note", Text: "shares a plot with cleo.reed@fernhollow.example"}}},
			},
			Results: []contract.HeldResult{{RunID: 7, At: at(2, 8), Finding: "undeliverable", Title: "Mailbox absent", Meaning: "The host says that there is no such mailbox.", Said: []contract.HeldReply{{At: at(2, 9), Reply: "550 5.1.1 no\r\nsuch user"}}}}}},
		Letters:   []contract.HeldLetter{{Mailing: "Autumn", SentAt: at(5, 8), Outcome: "bounced", Words: "550 gone"}, {Mailing: "Winter", SentAt: at(9, 8)}},
		Outcome:   &contract.HeldOutcome{Outcome: "bounced", Times: 1, At: bounced, Words: "550 gone"},
		Absent:    &absent,
		Activity:  &contract.HeldActivity{At: at(3, 12), Kind: "opened", Source: "opens.csv"},
		Elsewhere: []contract.HeldElsewhere{{Place: "notices and events", Records: 1200}}}
}

// TestText: the file for a person holds all of it in lines that read in any editor, whatever lists and hosts wrote.
func TestText(t *testing.T) {
	want := `What Fernhollow Seed Library holds about cleo.reed@fernhollow.example
As of 30 November 2026, 10:30 UTC.

Held about this address: 2 rows of 1 list.

List “members”, imported on 1 November 2026 from the file members.csv
  Line 12 (your row):
    Name: Cleo Reed [31m
  Line 90 (the row of somebody else, in which your address is named):
    Note: shares a plot with cleo.reed@fernhollow.example
  and 101 more rows
  Verified on 2 November 2026: undeliverable. Mailbox absent. The host says that there is no such mailbox.
    2 November 2026, 09:30 UTC: 550 5.1.1 no  such user
  Somebody decided for this list to drop the address, whatever was found.

Messages
  “Autumn”, sent on 5 November 2026: bounced. It said: 550 gone
  “Winter”, sent on 9 November 2026: nothing came back
  Remembered of messages: bounced, on 7 November 2026. It said: 550 gone
  The mailbox was found absent on 8 November 2026.
  Last active on 3 November 2026: opened (from opens.csv)

The address is named in other records, too:
  notices and events: 1,200
`
	if got := rights.Text(held()); got != want {
		t.Errorf("the text is\n%s", got)
	}
}

// TestForPerson: what a person is given holds nothing of others, and what was looked up stays as it was.
func TestForPerson(t *testing.T) {
	h := held()
	before, _ := json.Marshal(h)
	for _, text := range []string{rights.Text(rights.ForPerson(h)), string(must(json.Marshal(rights.ForPerson(h))))} {
		if strings.Contains(text, "shares a plot") || !strings.Contains(text, "Reed") {
			t.Errorf("the person is given %s", text)
		}
	}
	if after, _ := json.Marshal(h); string(after) != string(before) {
		t.Errorf("what was looked up is %s now", after)
	}
}

func must(text []byte, err error) []byte {
	if err != nil {
		panic(err)
	}
	return text
}

// TestSays: each request says what was done, or what it waits for.
func TestSays(t *testing.T) {
	for want, r := range map[string]store.Request{
		"All that was held about the address was written as a file.": {Kind: store.RequestFile, State: store.RequestDone},
		"The address may be kept and asked about again.":             {Kind: store.RequestAllow, State: store.RequestDone},
		"The address is being erased.":                               {Kind: store.RequestErase, State: store.RequestWorking},
		"1 row of 1 list is blank":                                   {Kind: store.RequestErase, State: store.RequestDone, Says: "1 row of 1 list is blank"},
	} {
		if got := rights.Says(r); got != want {
			t.Errorf("%q, not %q", got, want)
		}
	}
}
