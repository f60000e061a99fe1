package bounce

import "strings"

// complains are the types of feedback by which a person says that such mail is not wanted
// (RFC 5965 section 7.3). "not-spam" says the contrary; "auth-failure" (RFC 6591) and
// "dmarc" are reports of machines.
var complains = map[string]bool{"abuse": true, "fraud": true, "virus": true, "other": true, "opt-out": true, "opt-out-list": true, "": true}

// readComplaint reads a feedback report (RFC 5965). Who complained is often left out; the
// address is then known by the message alone.
func (m *message) readComplaint(n *Notice) {
	fields := readHeader([]byte(*m.complaint), "utf-8")
	kind := strings.ToLower(strings.TrimSpace(fields.get("Feedback-Type")))
	n.Kind = Other
	if complains[kind] {
		n.Kind = Complaint
	}
	n.Host = typed(fields.get("Reporting-MTA"))
	if path := first(addresses(fields.get("Original-Mail-From"))); path != "" {
		n.Original.ReturnPath = path
	}
	if n.Kind != Complaint {
		return
	}
	named := append(fields.all("Original-Rcpt-To"), fields.all("Removal-Recipient")...)
	for _, a := range distinct(addresses(strings.Join(named, ", ")), nil) {
		n.Recipients = append(n.Recipients, Recipient{Address: a, Final: a})
	}
}
