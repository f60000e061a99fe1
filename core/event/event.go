// Package event is the registry of what can happen that somebody may want to know of: what it
// is called, how much it matters, whom it is for and what it carries, once for notices, letters
// and webhooks.
package event

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Code names a kind of event, as thing.what.
type Code string

// The codes.
const (
	RunFinished      Code = "run.finished"
	RunWaiting       Code = "run.waiting"
	RunPaused        Code = "run.paused"
	RunStopped       Code = "run.stopped"
	RunBlocked       Code = "run.blocked"
	EstimateDone     Code = "estimate.done"
	ImportDone       Code = "import.done"
	ImportRefused    Code = "import.refused"
	RoutineDone      Code = "routine.done"
	RoutineHeld      Code = "routine.held"
	RoutineFailed    Code = "routine.failed"
	RoutineNotRun    Code = "routine.not-run"
	ExportReady      Code = "export.ready"
	OutboundRefused  Code = "outbound.refused"
	OutboundFailed   Code = "outbound.failed"
	RetentionNear    Code = "retention.near"
	DeviceNew        Code = "device.new"
	MemberJoined     Code = "member.joined"
	KeyExpiring      Code = "key.expiring"
	ConnectionBroken Code = "connection.broken"
	WriteBackDone    Code = "write-back.done"
	WriteBackFailed  Code = "write-back.failed"
	MailingBounces   Code = "mailing.bounces"
	AllowanceLow     Code = "allowance.low"
	PurchasePaid     Code = "purchase.paid"
	PurchaseRefused  Code = "purchase.refused"
	PurchaseBack     Code = "purchase.back"
	LedgerWrong      Code = "ledger.wrong"
	WorkFailing      Code = "work.failing"
	FormEnumerated   Code = "form.enumerated"
	WorkspaceEnding  Code = "workspace.ending"
	WorkspaceKept    Code = "workspace.kept"
	WebhookOff       Code = "webhook.off"
	WebhookTest      Code = "webhook.test"
)

// Severity is how much an event matters.
type Severity string

// The severities.
const (
	News    Severity = "news"    // good to know
	Caution Severity = "caution" // somebody should look
	Problem Severity = "problem" // something does not go on by itself
)

// Audience is whom an event is for.
type Audience string

// The audiences.
const (
	Everybody Audience = "everybody" // in the workspace
	Managers  Audience = "managers"  // its managers and owners
	Operators Audience = "operators" // who looks after the installation
	OnePerson Audience = "person"    // the one it is about
)

// Choice is how somebody wants letters about a kind of event.
type Choice string

// The choices.
const (
	Never  Choice = "never"
	AtOnce Choice = "at once"
	Daily  Choice = "daily" // with others, once a day
)

// Kind is an entry of the registry.
type Kind struct {
	Code     Code
	Title    string // what it is called where people choose among kinds
	Subject  string // what happened, in a few words; {list} and the like are filled in
	About    string // the resource that the thing it is about is one of, such as runs
	Meaning  string // when it happens, in a sentence
	Severity Severity
	For      Audience
	// Letter is what holds for those who have not chosen.
	Letter Choice
	// Act is what can be done next, as the label of a link to the thing it is about.
	Act string
	// Carries are the fields of Data that are filled in.
	Carries []string
	// Fixed: it goes out by a letter of its own, whatever anybody chooses.
	Fixed bool
}

// Kinds returns the registry.
func Kinds() []Kind { return slices.Clone(kinds) }

// Of returns the entry of a code; ok is false for one there is not.
func Of(c Code) (k Kind, ok bool) {
	k, ok = byCode[c]
	return k, ok
}

var kinds = []Kind{
	{Code: RunFinished, Title: "Run finished", Subject: "The run of {list} is finished", About: "runs", Meaning: "Every address of a run has a result.", Severity: News, For: Everybody, Letter: AtOnce,
		Act: "See the results", Carries: []string{"list", "run"}},
	{Code: RunWaiting, Title: "Run waiting", Subject: "The run of {list} waits for a later round", About: "runs", Meaning: "All that is left of a run waits for a later round, because its hosts asked us to come back later.", Severity: News, For: Everybody, Letter: Never,
		Act: "See the run", Carries: []string{"list", "run", "until"}},
	{Code: RunPaused, Title: "Run paused by its schedule", Subject: "The run of {list} is paused by its schedule", About: "runs", Meaning: "The hours of a run are over, and it goes on when they begin again.", Severity: News, For: Everybody, Letter: Never,
		Act: "See the run", Carries: []string{"list", "run", "until"}},
	{Code: RunStopped, Title: "Run stopped by its limit", Subject: "The run of {list} is stopped by its limit", About: "runs", Meaning: "A run reached its time limit; what is known stays.", Severity: Caution, For: Everybody, Letter: AtOnce,
		Act: "See the results", Carries: []string{"list", "run"}},
	{Code: RunBlocked, Title: "Run blocked", Subject: "The run of {list} is blocked", About: "runs", Meaning: "A route failed or is refused, and there is no other that a run could take.", Severity: Problem, For: Everybody, Letter: AtOnce,
		Act: "See the run", Carries: []string{"list", "run", "route", "words"}},
	{Code: EstimateDone, Title: "Estimate done", Subject: "The estimate of {list} is done", About: "lists", Meaning: "The quick estimate of a list is ready.", Severity: News, For: Everybody, Letter: Never,
		Act: "See the list", Carries: []string{"list"}},
	{Code: ImportDone, Title: "Import done", Subject: "{list} is imported", About: "lists", Meaning: "A file was imported as a list.", Severity: News, For: Everybody, Letter: Never,
		Act: "See the list", Carries: []string{"list", "file"}},
	{Code: ImportRefused, Title: "Import refused", Subject: "{file} could not be imported", About: "lists", Meaning: "A file could not be imported; nothing of it was.", Severity: Caution, For: Everybody, Letter: Never,
		Act: "Import another file", Carries: []string{"file", "words"}},
	{Code: ExportReady, Title: "Export ready", Subject: "{routine} wrote {file}", About: "routines", Meaning: "A routine wrote a file.", Severity: News, For: Everybody, Letter: Never,
		Act: "See the routine", Carries: []string{"routine", "file"}},
	{Code: RoutineDone, Title: "Routine done", Subject: "{routine} is done", About: "routines", Meaning: "A routine has finished.", Severity: News, For: Everybody, Letter: Daily,
		Act: "See what changed", Carries: []string{"routine", "list", "run"}},
	{Code: RoutineHeld, Title: "Routine waits for you", Subject: "{routine} waits for your decision", About: "routines", Meaning: "A routine reached one of its limits, and somebody has to decide whether it goes on.", Severity: Problem, For: Everybody, Letter: AtOnce,
		Act: "Decide", Carries: []string{"routine", "words"}},
	{Code: RoutineFailed, Title: "Routine failed", Subject: "{routine} failed", About: "routines", Meaning: "A routine could not read its source or write its result.", Severity: Problem, For: Everybody, Letter: AtOnce,
		Act: "See the routine", Carries: []string{"routine", "words"}},
	{Code: RoutineNotRun, Title: "Routine not run", Subject: "{routine} was not run", About: "routines", Meaning: "A routine was due while it was still at work, or while the service was down.", Severity: Caution, For: Everybody, Letter: Daily,
		Act: "See the routine", Carries: []string{"routine", "words"}},
	{Code: ConnectionBroken, Title: "Connection broken", Subject: "The connection {connection} is broken", About: "connections", Meaning: "A place refused the credentials of a connection, and nothing is read from it or written to it until somebody changes them.", Severity: Problem, For: Everybody, Letter: AtOnce,
		Act: "See the connection", Carries: []string{"connection", "words"}},
	{Code: WriteBackDone, Title: "Write-back done", Subject: "The write-back to {connection} is done", About: "write-backs", Meaning: "Everything was written back or undone, except for contacts that had changed or were refused.", Severity: News, For: Everybody, Letter: AtOnce,
		Act: "See the journal", Carries: []string{"connection", "run", "writeback", "words"}},
	{Code: WriteBackFailed, Title: "Write-back failed", Subject: "The write-back to {connection} failed", About: "write-backs", Meaning: "A write-back ended before its end; what was written is in its journal.", Severity: Problem, For: Everybody, Letter: AtOnce,
		Act: "See the journal", Carries: []string{"connection", "run", "writeback", "words"}},
	{Code: MailingBounces, Title: "Many bounces", Subject: "Too many letters of {mailing} bounced", About: "mailings", Meaning: "More than 2 % of the letters of a mailing bounced, which hurts the reputation of the sender. It is told once.", Severity: Caution, For: Everybody, Letter: AtOnce,
		Act: "See the mailing", Carries: []string{"mailing"}},
	{Code: RetentionNear, Title: "List about to be deleted", Subject: "{list} will be deleted soon", About: "lists", Meaning: "The retention of a list ends within 7 days.", Severity: Caution, For: Everybody, Letter: Daily,
		Act: "See the list", Carries: []string{"list", "until"}},
	{Code: MemberJoined, Title: "Member joined", Subject: "{person} joined the team", About: "team", Meaning: "Somebody took an invitation and is in the workspace.", Severity: News, For: Managers, Letter: Daily,
		Act: "See the team", Carries: []string{"person", "role"}},
	{Code: FormEnumerated, Title: "Form asked about many addresses", Subject: "The form {key} is asked about many addresses", About: "keys", Meaning: "A visitor of a form asks about more addresses than anybody has, or the names of a domain are being tried. Answers are slowed down or left out.", Severity: Caution, For: Managers, Letter: Daily,
		Act: "See the keys", Carries: []string{"key"}},
	{Code: WorkspaceEnding, Title: "Workspace about to be deleted", Subject: "The workspace will be deleted in 7 days", About: "team", Meaning: "An owner ordered the deletion of the workspace. Until it is deleted, an owner can stop that.", Severity: Problem, For: Everybody, Letter: AtOnce,
		Act: "See the team", Carries: []string{"person", "until"}},
	{Code: WorkspaceKept, Title: "Workspace kept", Subject: "The workspace is not deleted", About: "team", Meaning: "An owner stopped the deletion of the workspace.", Severity: News, For: Everybody, Letter: AtOnce,
		Act: "See the team", Carries: []string{"person"}},
	{Code: KeyExpiring, Title: "Key about to expire", Subject: "The key {key} is about to expire", About: "keys", Meaning: "A key expires within 7 days.", Severity: Caution, For: Managers, Letter: AtOnce,
		Act: "Rotate the key", Carries: []string{"key", "until"}},
	{Code: AllowanceLow, Title: "Allowance low", Subject: "Few checks are left", About: "allowance", Meaning: "Fewer checks are available than the workspace's warning level. The warning comes once, and again when there were enough in between.", Severity: Caution, For: Everybody, Letter: AtOnce,
		Act: "See what is used", Carries: []string{"words"}},
	{Code: PurchasePaid, Title: "Checks bought", Subject: "Checks were bought", About: "allowance", Meaning: "A purchase, a refill or a month of a subscription is paid, and its checks are available.", Severity: News, For: Managers, Letter: AtOnce,
		Act: "See the purchase", Carries: []string{"words"}},
	{Code: PurchaseRefused, Title: "Refill refused", Subject: "Checks could not be bought", About: "allowance", Meaning: "A refill or a month of a subscription could not be paid with the stored payment method.", Severity: Problem, For: Managers, Letter: AtOnce,
		Act: "See the purchase", Carries: []string{"words"}},
	{Code: PurchaseBack, Title: "Payment reversed", Subject: "A payment was reversed", About: "allowance", Meaning: "A purchase was refunded, or the customer's bank reversed the payment; the checks that are left of it are withdrawn.", Severity: Caution, For: Managers, Letter: AtOnce,
		Act: "See the purchase", Carries: []string{"words"}},
	{Code: WebhookOff, Title: "Webhook switched off", Subject: "The webhook {webhook} is switched off", About: "webhooks", Meaning: "A webhook accepted nothing for days.", Severity: Problem, For: Managers, Letter: AtOnce,
		Act: "See the webhook", Carries: []string{"webhook", "words"}},
	{Code: OutboundRefused, Title: "Many refusals of us", Subject: "Many hosts refuse the route {route}", About: "outbound", Meaning: "So many operators refuse a route that it is left alone for a while.", Severity: Problem, For: Operators, Letter: AtOnce,
		Act: "See outbound", Carries: []string{"route", "words", "until"}},
	{Code: OutboundFailed, Title: "Route or resolver failed", Subject: "{route} failed", About: "outbound", Meaning: "A route or resolver that worked failed its test, or failed at work.", Severity: Problem, For: Operators, Letter: AtOnce,
		Act: "See outbound", Carries: []string{"route", "words"}},
	{Code: LedgerWrong, Title: "Ledger wrong", Subject: "The book of allowances is wrong", About: "installation", Meaning: "The book of allowances was verified, and its entries do not add up.", Severity: Problem, For: Operators, Letter: AtOnce,
		Act: "See the accounts", Carries: []string{"words"}},
	{Code: WorkFailing, Title: "Background work failing", Subject: "Background work keeps failing", About: "health", Meaning: "Some kind of background work has failed each time for a minute or longer. Each kind is reported at most once a day.", Severity: Problem, For: Operators, Letter: AtOnce,
		Act: "See what fails", Carries: []string{"words"}},
	{Code: DeviceNew, Title: "New device", Subject: "A new device is signed in to your account", About: "person", Meaning: "Somebody signed in to your account with a new device.", Severity: Caution, For: OnePerson, Letter: AtOnce, Fixed: true,
		Act: "See your sessions", Carries: []string{"device"}},
	{Code: WebhookTest, Title: "Test call", Subject: "A test of the webhook {webhook}", About: "webhooks", Meaning: "Somebody tried a webhook out. It goes to that webhook alone.", Severity: News, For: Managers, Letter: Never, Fixed: true,
		Act: "See the webhook", Carries: []string{"webhook"}},
}

var byCode = func() map[Code]Kind {
	m := map[Code]Kind{}
	for _, k := range kinds {
		m[k.Code] = k
	}
	return m
}()

// Data is what an event carries: of each kind the fields that its entry names, things by their
// number and what people call them. No field holds an address of a list.
type Data struct {
	ListID       int64
	List         string
	RunID        int64
	RoutineID    int64
	Routine      string
	WebhookID    int64
	ConnectionID int64
	Connection   string
	WriteBackID  int64
	MailingID    int64
	Mailing      string
	Webhook      string
	File         string
	Key          string
	Route        string // a route or resolver
	Person       string // what they are called
	Role         string
	Device       string
	Words        string // what was said, verbatim
	Until        *time.Time
}

// Event is something that happened.
type Event struct {
	Code Code
	Data Data
	// Workspace and Person are whose it is; 0 where it is the installation's, or not for one
	// person alone.
	Workspace, Person int64
	// Quiet: it is part of something that is told itself, so that it is no notice and no
	// letter; webhooks and the log have it.
	Quiet bool
	// Says is what happened, in the sentences of the page that shows it; "" where they are
	// made when it is told.
	Says string
}

// Thing returns what the event is about, as the path of its resource, such as runs/12; events
// about one thing are told in their order.
func (e Event) Thing() string {
	about, d := byCode[e.Code].About, e.Data
	number := map[string]int64{"runs": d.RunID, "lists": d.ListID, "routines": d.RoutineID, "webhooks": d.WebhookID, "connections": d.ConnectionID, "write-backs": d.WriteBackID, "mailings": d.MailingID}[about]
	if number == 0 {
		return about
	}
	return fmt.Sprintf("%s/%d", about, number)
}

// Subject says in a few words what happened, as the subject of a letter.
func (e Event) Subject() string {
	d := e.Data
	return strings.NewReplacer("{list}", "“"+d.List+"”", "{routine}", "“"+d.Routine+"”", "{webhook}", "“"+d.Webhook+"”", "{key}", "“"+d.Key+"”", "{connection}", "“"+d.Connection+"”", "{mailing}", "“"+d.Mailing+"”",
		"{file}", d.File, "{route}", d.Route, "{person}", d.Person).Replace(byCode[e.Code].Subject)
}
