package contract

import (
	"time"

	"varnet/core/event"
)

// Event is something that happened that somebody may want to know of.
type Event struct {
	ID       string         `json:"id" format:"uuid" doc:"Names the event; who is told of it again knows it by this."`
	Seq      int64          `json:"seq" doc:"Counts events: later ones have higher numbers."`
	Code     event.Code     `json:"code" maxLength:"40" doc:"What kind of event it is."`
	Severity event.Severity `json:"severity" enum:"news,caution,problem" doc:"How much it matters: good to know, somebody should look, something does not go on by itself."`
	At       time.Time      `json:"at" doc:"When it happened."`
	Thing    string         `json:"thing" doc:"What it is about, as the path of its resource, such as runs/12. Events about one thing come in their order."`
	Subject  string         `json:"subject" doc:"What happened, in a few words."`
	Says     string         `json:"says" doc:"What happened, in sentences."`
	Data     EventData      `json:"data" doc:"What it carries: the fields that its kind names."`
}

// EventData is what an event carries; of each kind some of it.
type EventData struct {
	ListID       int64      `json:"listId,omitempty" doc:"The list."`
	List         string     `json:"list,omitempty" doc:"The name of the list."`
	RunID        int64      `json:"runId,omitempty" doc:"The run."`
	RoutineID    int64      `json:"routineId,omitempty" doc:"The routine."`
	Routine      string     `json:"routine,omitempty" doc:"The name of the routine."`
	WebhookID    int64      `json:"webhookId,omitempty" doc:"The webhook."`
	ConnectionID int64      `json:"connectionId,omitempty" doc:"The connection."`
	Connection   string     `json:"connection,omitempty" doc:"Its name."`
	WriteBackID  int64      `json:"writeBackId,omitempty" doc:"The write-back."`
	MailingID    int64      `json:"mailingId,omitempty" doc:"The mailing."`
	Mailing      string     `json:"mailing,omitempty" doc:"Its name."`
	Webhook      string     `json:"webhook,omitempty" doc:"The host of the webhook."`
	File         string     `json:"file,omitempty" doc:"The name of the file."`
	Key          string     `json:"key,omitempty" doc:"The name of the key."`
	Route        string     `json:"route,omitempty" doc:"The route or resolver."`
	Person       string     `json:"person,omitempty" doc:"The person's name."`
	Role         string     `json:"role,omitempty" doc:"The role of the person."`
	Device       string     `json:"device,omitempty" doc:"The device."`
	Words        string     `json:"words,omitempty" doc:"What was said, verbatim."`
	Until        *time.Time `json:"until,omitempty" doc:"The moment until which, or at which."`
}

// EventKind is a kind of event.
type EventKind struct {
	Code     event.Code     `json:"code" maxLength:"40" doc:"Its code, as thing.what."`
	Title    string         `json:"title" doc:"What it is called."`
	Meaning  string         `json:"meaning" doc:"When it happens."`
	Severity event.Severity `json:"severity" enum:"news,caution,problem" doc:"How much it matters."`
	For      event.Audience `json:"for" enum:"everybody,managers,operators,person" doc:"Whom it is for: everybody in the workspace, its managers and owners, the owners of the installation, or the one person it is about."`
	Carries  []string       `json:"carries" doc:"The fields of its data that are filled in, without their numbers."`
	// Letter is left out where a letter of its own goes out whatever anybody chooses.
	Letter event.Choice `json:"letter,omitempty" enum:"never,at once,daily" doc:"How you get letters about it."`
}

// Notice is the newest event of a kind about a thing.
type Notice struct {
	Event
	Count  int64  `json:"count" doc:"How many events of its kind about the same thing there are with it."`
	Unread int64  `json:"unread" doc:"How many of them you have not read."`
	Act    string `json:"act" doc:"What can be done next, as the label of a link."`
	Place  string `json:"place" doc:"Where in the console that is done."`
}

// Notices are what a person is told in the console.
type Notices struct {
	Items  []Notice `json:"items" doc:"At most 50 of the last 30 days, the newest first."`
	Unread int64    `json:"unread" doc:"How many of them have something that you have not read."`
	Last   int64    `json:"last" doc:"The number of the newest event, to be given as upto when all are read."`
}

// NoticesRead names notices that were read.
type NoticesRead struct {
	Seq  int64 `json:"seq,omitempty" minimum:"0" doc:"The notice of this number, with those of its kind about the same thing before it."`
	UpTo int64 `json:"upto,omitempty" minimum:"0" doc:"All up to this number."`
}

// LetterWishes are how a person wants letters.
type LetterWishes struct {
	Zone       string       `json:"zone" minLength:"1" maxLength:"60" doc:"Your time zone, such as Europe/Berlin."`
	DailyHour  int          `json:"dailyHour" minimum:"0" maximum:"23" doc:"The hour of the day at which the daily letter goes."`
	WithReport bool         `json:"withReport" doc:"Whether letters about finished runs have the report attached."`
	Choices    []LetterWish `json:"choices" maxItems:"40" doc:"How you want letters about each kind of event; kinds that are left out stay as they are."`
}

// LetterWish is how a person wants letters about a kind of event.
type LetterWish struct {
	Code   event.Code   `json:"code" maxLength:"40" doc:"The kind."`
	Choice event.Choice `json:"choice" enum:"never,at once,daily" doc:"Never, a letter at once, or with others once a day."`
}

// NewWebhook is a webhook to be made.
type NewWebhook struct {
	URL   string       `json:"url" minLength:"8" maxLength:"2000" doc:"Where it is called: an HTTPS address."`
	Codes []event.Code `json:"codes" minItems:"1" maxItems:"40" doc:"The kinds of events that it receives."`
}

// Webhook is an address that is told of events by signed calls.
type Webhook struct {
	ID           int64        `json:"id" doc:"Names the webhook."`
	URL          string       `json:"url" doc:"Where it is called."`
	Codes        []event.Code `json:"codes" doc:"The kinds of events that it receives."`
	On           bool         `json:"on" doc:"Whether it is called."`
	FailingSince *time.Time   `json:"failingSince,omitempty" doc:"Since when it has accepted nothing; left out where it accepted the last call."`
	BothUntil    *time.Time   `json:"bothUntil,omitempty" doc:"Until when calls are signed by the secret before, too."`
	CreatedAt    time.Time    `json:"createdAt" doc:"When it was made."`
	Says         string       `json:"says" doc:"How it is, in a sentence."`
	// Secret is told when it is made, and never again.
	Secret string `json:"secret,omitempty" doc:"The secret by which its calls are signed; told once, when the webhook is made or gets another."`
}

// WebhookChange changes a webhook; what is left out stays.
type WebhookChange struct {
	URL   *string      `json:"url,omitempty" minLength:"8" maxLength:"2000" doc:"Where it is called."`
	Codes []event.Code `json:"codes,omitempty" maxItems:"40" doc:"The kinds of events that it receives."`
	On    *bool        `json:"on,omitempty" doc:"Whether it is called. Switched on again, it is told what waited."`
}

// Delivery is an event on its way to a webhook.
type Delivery struct {
	ID        int64      `json:"id" doc:"Names the delivery."`
	EventID   string     `json:"eventId" format:"uuid" doc:"The event: the webhook-id of its calls."`
	Code      event.Code `json:"code" maxLength:"40" doc:"The kind of the event."`
	Subject   string     `json:"subject" doc:"What happened, in a few words."`
	State     string     `json:"state" enum:"waiting,delivered,failed" doc:"Waiting, delivered, or failed for good."`
	Attempts  int        `json:"attempts" doc:"How often it was tried."`
	CreatedAt time.Time  `json:"createdAt" doc:"Since when it is on its way."`
	NextAt    *time.Time `json:"nextAt,omitempty" doc:"When it is tried again."`
	EndedAt   *time.Time `json:"endedAt,omitempty" doc:"When it was delivered or given up."`
}

// DeliveryLog is a delivery with its attempts.
type DeliveryLog struct {
	Delivery
	Log []DeliveryAttempt `json:"log" doc:"Its attempts, the first one first."`
}

// DeliveryAttempt is a call of a webhook and what came of it.
type DeliveryAttempt struct {
	Number  int       `json:"number" doc:"Which attempt it was."`
	At      time.Time `json:"at" doc:"When it was made."`
	TookMS  int       `json:"tookMs" doc:"How long it took, in milliseconds."`
	Request string    `json:"request" doc:"What was sent: the headers, and the body."`
	Status  int       `json:"status,omitempty" doc:"The status of the answer; left out where none came."`
	Answer  string    `json:"answer,omitempty" doc:"The beginning of the answer, at most 4 KB."`
	Problem string    `json:"problem,omitempty" doc:"Why it was not taken; left out where it was."`
}
