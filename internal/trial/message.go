package trial

import (
	"bytes"
	"crypto"
	"strings"
	"time"

	"github.com/emersion/go-msgauth/dkim"
	gomail "github.com/wneessen/go-mail"

	"varnet/internal/letter"
	"varnet/internal/store"
)

// signedFields are the header fields under the signature: those that RFC 6376, section 5.4.1,
// recommends, and the unsubscribe links, as RFC 8058, section 4, demands.
var signedFields = []string{"From", "To", "Subject", "Date", "Message-ID", "MIME-Version", "Content-Type", "Content-Transfer-Encoding", "List-Unsubscribe", "List-Unsubscribe-Post"}

// message returns a letter as it is handed over.
func (p *Post) message(s store.TrialSender, t store.Trial, base string, l store.TrialLetter, at time.Time, key crypto.Signer) ([]byte, error) {
	m := gomail.NewMsg(gomail.WithEncoding(gomail.EncodingQP))
	if err := m.From(s.Sender); err != nil {
		return nil, err
	}
	if err := m.To(l.Mailbox); err != nil {
		return nil, err
	}
	unsubscribe := strings.TrimRight(base, "/") + UnsubscribePath + p.Desk.Tags.UnsubscribeTag(l.MailingID, l.Number)
	m.Subject(t.Subject)
	m.SetDateWithValue(at)
	m.SetMessageIDWithValue(messageID(s, p.Desk.Tags.Tag(l.MailingID, l.Number)))
	m.SetGenHeader("List-Unsubscribe", "<"+unsubscribe+">") // RFC 2369, section 3.2
	m.SetGenHeader("List-Unsubscribe-Post", "List-Unsubscribe=One-Click")
	m.SetBodyString(gomail.TypeTextPlain, t.Text().Letter(unsubscribe))
	var raw bytes.Buffer
	if _, err := m.WriteTo(&raw); err != nil {
		return nil, err
	}
	if key == nil {
		return raw.Bytes(), nil
	}
	var signed bytes.Buffer
	err := dkim.Sign(&signed, &raw, &dkim.SignOptions{Domain: letter.DomainOf(s.Sender), Selector: s.Selector, Signer: key, HeaderKeys: signedFields,
		HeaderCanonicalization: dkim.CanonicalizationRelaxed, BodyCanonicalization: dkim.CanonicalizationRelaxed})
	return signed.Bytes(), err
}

// messageID is the Message-ID of the letter with a tag, without angle brackets.
func messageID(s store.TrialSender, tag string) string {
	return "trial." + tag + "@" + letter.DomainOf(s.Sender)
}

// UnsubscribePath is where the unsubscribe link of a letter leads, before its tag.
const UnsubscribePath = "/unsubscribe/"
