package reply

import (
	"net/netip"
	"strings"
	"unicode"

	"varnet/core/phrase"
)

// Question is what the host was asked, and by whom. A reply quotes it, and what
// it quotes must not be taken for the host's own words.
type Question struct {
	// Mailbox is the recipient asked about; "" before any was named.
	Mailbox string
	// Helo is the name given in EHLO, Sender the address of MAIL FROM.
	Helo, Sender string
}

// Marks stand in a cleaned text for what the reply quotes of the question.
const (
	markBox    = "#box#"    // the mailbox, or any address that is not our sender
	markName   = "#name#"   // our EHLO name
	markSender = "#sender#" // our sender's address or domain
	markIP     = "#ip#"     // a host's number
	markPrefix = "#rcpt#:"  // the words that a mail server puts before those of a policy service
)

// text is a reply's text made ready for matching. all holds the links too, which
// tell of us (they lead to a page about the sender's standing) but not of a mailbox.
type text struct{ all, plain string }

// clean writes a text in lower case, without accents, with single spaces, and with
// marks for what the question said.
func clean(s string, q Question) text {
	s = strings.ReplaceAll(phrase.Fold(s), "recipient address rejected:", " "+markPrefix+" ")
	s = q.maskLocal(s)
	mailbox := phrase.Fold(q.Mailbox)
	_, domain, _ := strings.Cut(mailbox, "@")
	helo, sender := phrase.Fold(q.Helo), phrase.Fold(q.Sender)
	senderDomain := sender[strings.LastIndexByte(sender, '@')+1:]
	var all, plain []string
	for _, w := range strings.Fields(s) {
		mark := w
		switch {
		case link(w):
			all = append(all, w)
			continue
		case strings.Contains(w, "@"):
			mark = markBox
			// A mailbox may end in our sender's address: precheck@ where we send as check@.
			if sender != "" && strings.Contains(w, sender) && (len(mailbox) <= len(sender) || !strings.Contains(w, mailbox)) {
				mark = markSender
			}
		case strings.ContainsAny(w, ".:") && hasIP(w):
			mark = markIP
			if strings.HasSuffix(w, "'s") {
				mark += " "
			}
		case strings.Contains(w, "."):
			switch strings.Trim(w, "<>[](){},;:.'\"") {
			case "":
			case domain:
				mark = "" // the recipient's
			case helo:
				mark = markName
			case senderDomain:
				mark = markSender
			}
		}
		if mark != "" {
			all, plain = append(all, mark), append(plain, mark)
		}
	}
	return text{strings.Join(all, " "), strings.Join(plain, " ")}
}

func link(w string) bool {
	return strings.Contains(w, "://") || strings.HasPrefix(strings.TrimLeft(w, "<(["), "www.")
}

// hasIP reports whether a word holds a host's number, as in "[192.0.2.7]" or
// "ip=192.0.2.7".
func hasIP(w string) bool {
	for _, f := range strings.FieldsFunc(w, func(r rune) bool { return !unicode.Is(unicode.Hex_Digit, r) && r != '.' && r != ':' }) {
		f = strings.Trim(f, ".")
		if strings.Count(f, ".") != 3 && strings.Count(f, ":") < 2 {
			continue
		}
		if _, err := netip.ParseAddr(strings.TrimRight(f, ":")); err == nil {
			return true
		}
	}
	return false
}

// maskLocal takes the name before the @ out of a text that gives it alone, as in
// "blocked: no such user". A name that is itself a word of hosts ("unknown", "user")
// goes only where quotes, brackets or a colon set it apart.
func (q Question) maskLocal(s string) string {
	local, _, _ := strings.Cut(phrase.Fold(q.Mailbox), "@")
	if len(local) < 2 || !strings.Contains(s, local) {
		return s
	}
	common := hostWords[local]
	var b strings.Builder
	for rest := s; ; {
		i := strings.Index(rest, local)
		if i < 0 {
			b.WriteString(rest)
			return b.String()
		}
		before, after := rest[:i], rest[i+len(local):]
		apart := setApart(before, after)
		if common && !apart || !apart && (phrase.LetterBefore(before) || phrase.LetterAfter(after) || strings.HasPrefix(after, "@")) {
			b.WriteString(rest[:i+len(local)])
		} else {
			b.WriteString(before + markBox)
		}
		rest = after
	}
}

// pairs are the signs, an opening and a closing one each, that set a name apart.
var pairs = []string{`""`, "''", "<>", "()", "[]"}

func setApart(before, after string) bool {
	for _, p := range pairs {
		if strings.HasSuffix(before, p[:1]) && strings.HasPrefix(after, p[1:]) {
			return true
		}
	}
	return strings.TrimSpace(before) == "" && (strings.HasPrefix(after, ":") || strings.HasPrefix(after, "..."))
}

// hostWords are the single words that the phrases are made of.
var hostWords = func() map[string]bool {
	words := map[string]bool{}
	for _, list := range []phrase.List{encryption, greylist, later, verifying, throttle, listed, name, sender, login, relay, full, disabled, moved, restricted, absent, policy} {
		for _, text := range list.Texts() {
			for w := range strings.FieldsSeq(text) {
				words[strings.Trim(w, ".,:;")] = true
			}
		}
	}
	return words
}()
