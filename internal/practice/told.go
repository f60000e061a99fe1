package practice

import (
	"maps"
	"slices"
	"strings"
	"time"
)

// What hosts tell of a client's manners. A recipient is unknown to a host if it is no
// name of its world.

// noteUnknown notes a recipient that may be made up.
func (p *peer) noteUnknown(mailbox string) {
	at := strings.LastIndexByte(mailbox, '@')
	if at < 0 || !p.isUs() {
		return
	}
	local, _, _ := strings.Cut(strings.ToLower(mailbox[:at]), "+")
	if local == "postmaster" || p.host.world.known(local) {
		return
	}
	if p.unknown == nil {
		p.unknown = map[string]map[string]bool{}
	}
	if p.unknown[mailbox[at+1:]] == nil {
		p.unknown[mailbox[at+1:]] = map[string]bool{}
	}
	p.unknown[mailbox[at+1:]][mailbox] = true
}

// tellUnknown puts the session's unknown recipients to the host's figures.
func (p *peer) tellUnknown() {
	h := p.host
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, mailboxes := range p.unknown {
		h.stats.Unknown = append(h.stats.Unknown, slices.Collect(maps.Keys(mailboxes)))
	}
}

// afterComplaint is for how long after a complaint recipients count as asked about in
// spite of it.
const afterComplaint = 10 * time.Second

// complaint begins an answer by which a host complains of us at a recipient.
const complaint = "(complains)"

// noteComplaint counts complaints, and the recipients that come after one, and returns
// the answer as it is said.
func (p *peer) noteComplaint(answer string) string {
	h := p.host
	h.mu.Lock()
	defer h.mu.Unlock()
	said, complains := strings.CutPrefix(answer, complaint)
	if p.isUs() && (p.complained || time.Since(h.complained) < afterComplaint) {
		h.stats.After++
	}
	if p.isUs() && complains {
		h.stats.Complaints++
		h.complained, p.complained = time.Now(), true
	}
	return said
}

// abrupt counts a session that the client ended without QUIT.
func (h *Host) abrupt() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.stats.Abrupt++
}
