package contract

import "time"

// NewMailing is a mailing that was sent to the rows of a run.
type NewMailing struct {
	Name       string    `json:"name" minLength:"1" maxLength:"200" doc:"Its name."`
	RunID      int64     `json:"runId" minimum:"1" doc:"The run whose rows it went to."`
	Decisions  []string  `json:"decisions,omitempty" maxItems:"3" enum:"keep,hold,drop" doc:"Those of the rows that it went to; kept rows unless given."`
	SentAt     time.Time `json:"sentAt,omitzero" doc:"When it was sent; now unless given."`
	WatchHours int       `json:"watchHours,omitempty" minimum:"1" maximum:"240" doc:"For how many hours bounces are waited for; 72 unless given."`
	SendLater  bool      `json:"sendLater,omitempty" doc:"That it is sent later: the watch begins when you say so, or with the first message that comes back."`
}

// Mailing is messages that were really sent, one to each of its addresses.
type Mailing struct {
	ID         int64          `json:"id" doc:"Names the mailing."`
	Name       string         `json:"name" doc:"Its name."`
	ListID     *int64         `json:"listId,omitempty" doc:"The list that it went to; left out when that is gone, or it went to others."`
	RunID      *int64         `json:"runId,omitempty" doc:"The run by which its rows were chosen."`
	SentAt     time.Time      `json:"sentAt" doc:"When it was sent."`
	WatchUntil time.Time      `json:"watchUntil" doc:"Until when bounces are waited for."`
	State      string         `json:"state" enum:"preparing,exported,sending,watching,closed" doc:"preparing while it is written down to whom it went, exported where it is sent later, sending while its trial letters leave, watching while bounces are waited for, then closed."`
	Letters    int64          `json:"letters" doc:"How many letters were sent."`
	Outcomes   MailingCounts  `json:"outcomes" doc:"How many of them came to which outcome."`
	Says       string         `json:"says" doc:"What became of it, in a sentence."`
	Trial      *TrialProgress `json:"trial,omitempty" doc:"Where its letters stand, if they are trial letters. Only of one mailing."`
	By         string         `json:"by" doc:"Who registered it."`
	Found      []OutcomeFound `json:"found,omitempty" doc:"What had been found of the addresses, and what became of the letters to them. Only of one mailing."`
}

// MailingCounts is what became of letters.
type MailingCounts struct {
	Bounced    int64 `json:"bounced" doc:"Letters that came back for good."`
	Passing    int64 `json:"passing" doc:"Letters that came back for a reason that passes, or of the sender's."`
	Delayed    int64 `json:"delayed" doc:"Letters that a host still tried to deliver when it was last heard of."`
	Complained int64 `json:"complained" doc:"Letters that were reported as unwanted."`
	NoBounce   int64 `json:"noBounce" doc:"Letters that did not come back within the watch."`
	Open       int64 `json:"open" doc:"Letters of which nothing is known yet."`
}

// OutcomeFound is what became of letters to the addresses of one finding and cause.
type OutcomeFound struct {
	Finding  string        `json:"finding" doc:"What had been found of the addresses; \"\" where nothing had."`
	Cause    string        `json:"cause" doc:"Why."`
	Letters  int64         `json:"letters" doc:"Letters to such addresses."`
	Odds     float64       `json:"odds" doc:"The mean odds of delivery that had been stated for them, 0 to 1."`
	Outcomes MailingCounts `json:"outcomes" doc:"What became of them."`
}

// Letter is one letter of a mailing.
type Letter struct {
	Number    int        `json:"number" doc:"Its place in the mailing."`
	Address   string     `json:"address" doc:"Whom it went to."`
	Return    string     `json:"returnAddress,omitempty" doc:"The return address (MAIL FROM) to send it with, so that bounces come here; left out where the installation takes none."`
	Finding   string     `json:"finding,omitempty" doc:"What had been found of the address."`
	Cause     string     `json:"cause,omitempty" doc:"Why."`
	Outcome   string     `json:"outcome" enum:"open,bounced,delayed,complained,no bounce" doc:"What became of it."`
	Permanent bool       `json:"permanent,omitempty" doc:"Of a bounce, whether the reason lies with the mailbox or its domain and lasts."`
	About     string     `json:"about,omitempty" doc:"Whom the reason is about: mailbox, domain, us, content or moment."`
	Reason    string     `json:"reason,omitempty" doc:"The cause that the words of the host were read as."`
	Words     string     `json:"words,omitempty" doc:"The words of the host."`
	Host      string     `json:"host,omitempty" doc:"The host that said so."`
	Final     string     `json:"final,omitempty" doc:"Where it was forwarded to."`
	At        *time.Time `json:"at,omitempty" doc:"When that became known."`
}

// OutcomeSummary is what became of all letters of a workspace, or of one mailing.
type OutcomeSummary struct {
	Letters    int64           `json:"letters" doc:"How many letters were sent."`
	Outcomes   MailingCounts   `json:"outcomes" doc:"What became of them."`
	Says       string          `json:"says" doc:"The same in a sentence."`
	Found      []OutcomeFound  `json:"found" doc:"What had been found of the addresses, and what became of the letters to them."`
	Domains    []GroupOutcomes `json:"domains" doc:"The domains from which most came back."`
	Operators  []GroupOutcomes `json:"operators" doc:"The operators of their exchangers; \"\" where they are not known, since the mailing went to no run."`
	Lists      []GroupOutcomes `json:"lists" doc:"The lists that the mailings went to; \"\" where they went to none."`
	Unexpected []Letter        `json:"unexpected" doc:"Letters that bounced for good though their address had been found deliverable, the newest first."`
}

// GroupOutcomes is what became of the letters of one domain, operator or list.
type GroupOutcomes struct {
	Name       string `json:"name" doc:"The domain, operator or list."`
	ListID     *int64 `json:"listId,omitempty" doc:"Names the list."`
	Letters    int64  `json:"letters" doc:"Letters to it."`
	Bounced    int64  `json:"bounced" doc:"Of them, that came back for good."`
	Passing    int64  `json:"passing" doc:"Of them, that came back for a reason that passes, or are delayed."`
	Complained int64  `json:"complained" doc:"Of them, that were reported as unwanted."`
}

// ImportedBounces counts the messages of a file that was imported.
type ImportedBounces struct {
	Messages   int    `json:"messages" doc:"Messages that were read."`
	Known      int    `json:"known" doc:"Of them, that had come before; they change nothing."`
	Bounced    int    `json:"bounced" doc:"Letters that came back for good."`
	Passing    int    `json:"passing" doc:"Letters that came back for a reason that passes, or of the sender's."`
	Delayed    int    `json:"delayed" doc:"Letters that a host goes on trying."`
	Complained int    `json:"complained" doc:"Letters that were reported as unwanted."`
	Answers    int    `json:"answers" doc:"Auto-replies and challenges."`
	Others     int    `json:"others" doc:"Messages of other kinds."`
	Nobody     int    `json:"nobody" doc:"Bounces, delays and complaints about no letter that is known."`
	Forged     int    `json:"forged" doc:"Messages whose return address carries a wrong tag; they change nothing."`
	Says       string `json:"says" doc:"The same in a sentence."`
}

// Returned is a message that came back.
type Returned struct {
	ID         int64      `json:"id" doc:"Names it."`
	Kind       string     `json:"kind" enum:"bounce,delay,delivery,complaint,auto-reply,challenge,other" doc:"What it is."`
	Way        string     `json:"way" enum:"file,table,return address" doc:"How it came in."`
	Sender     string     `json:"sender" doc:"Who wrote it."`
	Host       string     `json:"host" doc:"The host that reports."`
	Subject    string     `json:"subject" doc:"Its subject."`
	Words      string     `json:"words" doc:"What it says to people."`
	Letters    int        `json:"letters" doc:"How many letters it is about."`
	Says       string     `json:"says,omitempty" doc:"Why it is about none."`
	At         *time.Time `json:"at,omitempty" doc:"When it was written."`
	ReceivedAt time.Time  `json:"receivedAt" doc:"When it came in."`
}
