package bounce

import (
	"regexp"
	"strings"
)

// written finds what is written like an address, in any alphabet, a quoted local part
// included (RFC 5321 section 4.1.2, RFC 6531 section 3.3).
var written = regexp.MustCompile(`(?:"(?:[^"\\\n]|\\[^\n]){1,64}"|[\p{L}\p{M}\p{N}!#$%&'*+/=?^_{|}~.` + "`" + `-]{1,200})@[\p{L}\p{N}](?:[\p{L}\p{M}\p{N}-]*[\p{L}\p{M}\p{N}])?(?:\.[\p{L}\p{N}](?:[\p{L}\p{M}\p{N}-]*[\p{L}\p{M}\p{N}])?)+`)

// addresses returns the addresses in a text, in their order.
func addresses(text string) (found []string) {
	for _, a := range written.FindAllString(text, 200) {
		if a = strings.TrimLeft(a, "'`.="); len(a) <= 320 && a[0] != '@' {
			found = append(found, a)
		}
	}
	return found
}

// daemons are names before the @ under which mail systems write.
var daemons = map[string]bool{
	"mailer-daemon": true, "mailerdaemon": true, "maildaemon": true, "mail-daemon": true, "mdaemon": true, "daemon": true, "postmaster": true, "postmast": true,
	"postoffice": true, "mailadmin": true, "mail-delivery": true, "maildelivery": true, "listserv": true, "majordomo": true, "sympa": true, "mailman": true,
	"bounce": true, "bounces": true, "mailer": true,
}

// services are names under which other systems write, or to which a notice sends for help.
var services = map[string]bool{
	"noreply": true, "no-reply": true, "administrator": true, "root": true, "abuse": true, "helpdesk": true, "support": true, "hostmaster": true, "webmaster": true,
}

func localPart(address string) string {
	return strings.ToLower(address[:max(strings.LastIndexByte(address, '@'), 0)])
}

// daemon reports whether an address is one that mail systems write under.
func daemon(address string) bool {
	local := localPart(address)
	if daemons[local] || strings.HasPrefix(local, "microsoftexchange") || strings.HasPrefix(local, "owner-") {
		return true
	}
	for _, end := range []string{"-owner", "-request", "-bounces", "-admin", "-daemon"} {
		if strings.HasSuffix(local, end) {
			return true
		}
	}
	return false
}

// system reports whether an address in a notice is not one that it can be about.
func system(address string) bool { return daemon(address) || services[localPart(address)] }

// fromReturnAddress returns the address that a variable envelope return path names, as
// "bounce+tag=ada=fernhollow.example@…" or "bounces-ada=fernhollow.example@…" do; "" where
// it names none.
func fromReturnAddress(address string) string {
	at := strings.LastIndexByte(address, '@')
	if at < 0 {
		return ""
	}
	local := address[:at]
	last := strings.LastIndexByte(local, '=')
	if last < 0 || !strings.Contains(local[last+1:], ".") {
		return ""
	}
	who, domain := local[:last], local[last+1:]
	if i := strings.LastIndexByte(who, '='); i >= 0 {
		who = who[i+1:]
	} else if i := strings.IndexAny(who, "+-"); i >= 0 {
		who = who[i+1:]
	}
	if who == "" {
		return ""
	}
	return who + "@" + domain
}

// expanded finds what notices say of the address that a forwarding began with.
var expanded = regexp.MustCompile(`(?i)(?:expanded|generated|forwarded|redirected|derived|aliased) from:?\s*<?([^\s<>()]+@[^\s<>()]+)`)

// expandedFrom returns the address that was forwarded to this one, "" where the notice
// names none.
func (m *message) expandedFrom(final string) string {
	_, behind := indexFold(m.words, final)
	if behind < 0 {
		return ""
	}
	near := m.words[behind:]
	if found := expanded.FindStringSubmatchIndex(near); found != nil {
		if between := near[:found[0]]; len(between) < 400 && !strings.Contains(between, "\n\n") && len(addressesBut(between, final)) == 0 {
			return first(addresses(near[found[2]:found[3]]))
		}
	}
	return ""
}

// indexFold returns from where to where a part stands in a text, whatever its case; -1, -1: it
// does not. Places found in the text in lower case would be others: some letters have more bytes
// in one case than in the other.
func indexFold(text, part string) (from, to int) {
	found, err := regexp.Compile("(?i)" + regexp.QuoteMeta(part))
	if part == "" || err != nil { // no text, or none that is UTF-8
		return -1, -1
	}
	if at := found.FindStringIndex(text); at != nil {
		return at[0], at[1]
	}
	return -1, -1
}

func addressesBut(text, but string) (others []string) {
	for _, a := range addresses(text) {
		if !strings.EqualFold(a, but) {
			others = append(others, a)
		}
	}
	return others
}
