package practice

import (
	"fmt"
	"hash/fnv"
	"io"
	"strings"
	"time"
)

// Posted is a message that was sent to one mailbox of the practice internet.
type Posted struct {
	To string
	// ID is its Message-ID without angle brackets, ReturnPath where bounces of it go.
	ID, ReturnPath string
	At             time.Time
}

// Back is a message that comes back after one was sent, with the truth about it.
type Back struct {
	To      string // whom the message went to
	Means   Means
	Message []byte
}

// Means is what an answer means for the mailbox.
type Means string

// What answers mean.
const (
	BouncedForGood Means = "bounced"    // there is no such mailbox, or no such domain
	BouncedPassing Means = "passing"    // it is full
	StillTried     Means = "delayed"    // a warning; the message arrived later
	ComplainedOf   Means = "complained" // it arrived, and was reported
	Answered       Means = "answered"   // it arrived, and somebody is away
)

// How many in 100 of the messages that arrived are answered in some way.
const (
	warnedOf   = 3
	complained = 1
	away       = 4
	forwarded  = 8 // of those that did not arrive, are said to have been forwarded
)

// ComesBack returns what comes back after messages were sent: of each that could not be
// delivered a notice in the style of its host, of some that were delivered a warning, a
// complaint or an absence note. Warnings come before the rest. forwarders has some hosts
// name only the address behind their forwarding.
func (w *World) ComesBack(sent []Posted, forwarders bool) (answers []Back) {
	var warnings []Back
	for _, p := range sent {
		t := w.Truth(Canonical(p.To))
		n := drawn(p.To)
		a := answer{p, n, domainOf(p.To), p.To}
		switch {
		case t.Deliverable() && n%100 < warnedOf:
			warnings = append(warnings, Back{p.To, StillTried, a.warning()})
		case t.Deliverable() && n%100 < warnedOf+complained:
			answers = append(answers, Back{p.To, ComplainedOf, a.complaint()})
		case t.Deliverable() && n%100 < warnedOf+complained+away:
			answers = append(answers, Back{p.To, Answered, a.absence()})
		case t.Deliverable():
		default:
			if forwarders && n%100 < forwarded {
				a.final = fmt.Sprintf("person%d@private.example", n)
			}
			means, why := BouncedForGood, gone
			if t.Domain && t.Full {
				means, why = BouncedPassing, full
			} else if !t.Domain {
				why = noDomain
			}
			answers = append(answers, Back{p.To, means, a.notice(why)})
		}
	}
	return append(warnings, answers...)
}

func drawn(text string) uint32 {
	h := fnv.New32a()
	_, _ = h.Write([]byte("answer " + strings.ToLower(text)))
	return h.Sum32()
}

type answer struct {
	Posted
	n      uint32
	domain string
	final  string // where it was forwarded to; To where it was not
}

// reason is why a message could not be delivered, as hosts of different tongues say it.
type reason struct{ status, code, english, german, french string }

var (
	gone     = reason{"5.1.1", "550", "User unknown", "Das Postfach existiert nicht", "Cet utilisateur n'existe pas"}
	full     = reason{"5.2.2", "552", "Mailbox full", "Das Postfach ist voll", "La boîte aux lettres est pleine"}
	noDomain = reason{"5.1.2", "550", "Host or domain name not found", "Die Domain existiert nicht", "Le domaine n'existe pas"}
)

func (a answer) original() string {
	return fmt.Sprintf("Return-Path: <%s>\nFrom: Fernhollow Seed Library <letters@fernhollow.example>\nTo: %s\nSubject: Seeds of the season\nMessage-ID: <%s>\nDate: %s\n\nThe broad beans are in.\n",
		a.ReturnPath, a.To, a.ID, a.At.Format(time.RFC1123Z))
}

func (a answer) head(from, subject, extra string) string {
	return fmt.Sprintf("Return-Path: <>\nDate: %s\nFrom: %s\nTo: %s\nSubject: %s\nMessage-ID: <back.%d.%s>\n%s",
		a.At.Add(time.Minute).Format(time.RFC1123Z), from, a.ReturnPath, subject, a.n, a.ID, extra)
}

// notice is a bounce in one of eight styles.
func (a answer) notice(r reason) []byte {
	styles := []func(reason) string{a.relay, a.classic, a.hi, a.transcript, a.german, a.french, a.terse, a.office}
	return []byte(styles[a.n/100%uint32(len(styles))](r))
}

// report is a delivery status notification (RFC 3464) around what is said to people.
func (a answer) report(from, subject, text, diagnostic string, r reason) string {
	if diagnostic != "" {
		diagnostic = "Diagnostic-Code: " + diagnostic + "\n"
	}
	return a.head(from, subject, "MIME-Version: 1.0\nContent-Type: multipart/report; report-type=delivery-status; boundary=\"=practice\"\n") +
		fmt.Sprintf("\n--=practice\nContent-Type: text/plain; charset=utf-8\n\n%s\n\n--=practice\nContent-Type: message/delivery-status\n\nReporting-MTA: dns; mail.%s\n\nFinal-Recipient: rfc822; %s\nAction: failed\nStatus: %s\n%s\n--=practice\nContent-Type: message/rfc822\n\n%s--=practice--\n",
			text, a.domain, a.final, r.status, diagnostic, a.original())
}

func (a answer) relay(r reason) string {
	return a.report("Mail Delivery System <MAILER-DAEMON@mail."+a.domain+">", "Undelivered Mail Returned to Sender",
		fmt.Sprintf("This is the mail system at host mail.%s.\n\n<%s>: host mx.%s said: %s %s\n    <%s>: %s (in reply to RCPT TO command)", a.domain, a.final, a.domain, r.code, r.status, a.final, r.english),
		fmt.Sprintf("smtp; %s %s <%s>: %s", r.code, r.status, a.final, r.english), r)
}

func (a answer) classic(r reason) string {
	return a.head("Mail Delivery System <Mailer-Daemon@mail."+a.domain+">", "Mail delivery failed: returning message to sender", "X-Failed-Recipients: "+a.final+"\nAuto-Submitted: auto-replied\n") +
		fmt.Sprintf("\nThis message was created automatically by mail delivery software.\n\nA message that you sent could not be delivered to one or more of its\nrecipients. This is a permanent error. The following address(es) failed:\n\n  %s\n    SMTP error from remote mail server after RCPT TO:<%s>:\n    %s %s\n\n------ This is a copy of the message, including all the headers. ------\n\n%s",
			a.final, a.final, r.code, r.english, a.original())
}

func (a answer) hi(r reason) string {
	return a.head("MAILER-DAEMON@mail."+a.domain, "failure notice", "") +
		fmt.Sprintf("\nHi. This is the mail program at mail.%s.\nI'm afraid I wasn't able to deliver your message to the following addresses.\nThis is a permanent error; I've given up. Sorry it didn't work out.\n\n<%s>:\nSorry, %s. (#%s)\n\n--- Below this line is a copy of the message.\n\n%s",
			a.domain, a.final, strings.ToLower(r.english), r.status, a.original())
}

func (a answer) transcript(r reason) string {
	return a.report("Mail Delivery Subsystem <MAILER-DAEMON@mail."+a.domain+">", "Returned mail: see transcript for details",
		fmt.Sprintf("   ----- The following addresses had permanent fatal errors -----\n<%s>\n    (reason: %s %s <%s>... %s)\n\n   ----- Transcript of session follows -----\n>>> RCPT To:<%s>\n<<< %s %s <%s>... %s\n554 5.0.0 Service unavailable",
			a.final, r.code, r.status, a.final, r.english, a.final, r.code, r.status, a.final, r.english), "X-Unix; 67", r)
}

func (a answer) german(r reason) string {
	return a.head("Mail-Zustelldienst <mailer-daemon@mail."+a.domain+">", "Unzustellbar: Seeds of the season", "MIME-Version: 1.0\nContent-Type: text/plain; charset=utf-8\n") +
		fmt.Sprintf("\nIhre Nachricht konnte nicht zugestellt werden.\n\nEmpfänger: %s\nGrund: %s.\n\n--- Kopfzeilen der Nachricht ---\n\n%s", a.final, r.german, a.original())
}

func (a answer) french(r reason) string {
	return a.report("Service de messagerie <postmaster@mail."+a.domain+">", "Echec de la remise",
		fmt.Sprintf("Votre message n'a pas pu être remis à :\n\n  %s\n\nMotif : %s.", a.final, r.french), "", r)
}

func (a answer) terse(r reason) string {
	return a.report("postmaster@mail."+a.domain, "Delivery Status Notification (Failure)", "Delivery to the following recipients failed.\n\n       "+a.final, "", r)
}

func (a answer) office(r reason) string {
	return a.report("Postmaster <postmaster@mail."+a.domain+">", "Undeliverable: Seeds of the season",
		fmt.Sprintf("Your message did not reach some or all of the intended recipients.\n\n%s\n%s\n\nDiagnostic information for administrators:\n\n%s\n#%s %s; %s ##", a.final, r.english, a.final, r.code, r.status, r.english), fmt.Sprintf("smtp;%s %s; %s", r.code, r.status, r.english), r)
}

func (a answer) warning() []byte {
	return []byte(a.head("Mail Delivery System <MAILER-DAEMON@mail."+a.domain+">", "Delayed Mail (still being retried)", "MIME-Version: 1.0\nContent-Type: multipart/report; report-type=delivery-status; boundary=\"=practice\"\n") +
		fmt.Sprintf("\n--=practice\nContent-Type: text/plain\n\nTHIS IS A WARNING ONLY. YOU DO NOT NEED TO RESEND YOUR MESSAGE.\nIt will be retried until it is 5 days old.\n\n<%s>: connect to mx.%s: Connection timed out\n\n--=practice\nContent-Type: message/delivery-status\n\nReporting-MTA: dns; mail.%s\n\nFinal-Recipient: rfc822; %s\nAction: delayed\nStatus: 4.4.1\n\n--=practice\nContent-Type: text/rfc822-headers\n\n%s--=practice--\n",
			a.To, a.domain, a.domain, a.To, a.original()))
}

func (a answer) complaint() []byte {
	return []byte(a.head("complaints@mail."+a.domain, "Complaint about a message", "MIME-Version: 1.0\nContent-Type: multipart/report; report-type=feedback-report; boundary=\"=practice\"\n") +
		fmt.Sprintf("\n--=practice\nContent-Type: text/plain\n\nA person reported this message as unwanted.\n\n--=practice\nContent-Type: message/feedback-report\n\nFeedback-Type: abuse\nVersion: 1\nUser-Agent: Practice/1\nOriginal-Mail-From: <%s>\n\n--=practice\nContent-Type: message/rfc822\n\n%s--=practice--\n", a.ReturnPath, a.original()))
}

func (a answer) absence() []byte {
	return []byte(a.head(a.To, "Automatic reply: Seeds of the season", "In-Reply-To: <"+a.ID+">\nAuto-Submitted: auto-replied\n") + "\nI am out of the office until Monday. Nothing failed, and my mailbox is not full.\n")
}

// WriteMailbox writes messages that come back as a mailbox file (RFC 4155).
func WriteMailbox(out io.Writer, answers []Back) error {
	for _, a := range answers {
		text := strings.ReplaceAll("\n"+string(a.Message), "\nFrom ", "\n>From ")
		if _, err := fmt.Fprintf(out, "From MAILER-DAEMON %s%s\n", time.Unix(0, 0).UTC().Format(time.ANSIC), text); err != nil {
			return err
		}
	}
	return nil
}
