package address

import (
	"fmt"
	"net/netip"
	"strings"
	"unicode/utf8"

	"golang.org/x/net/idna"

	"varnet/core/finding"
)

// profile turns U-labels into A-labels (RFC 5891 section 5) and holds every
// label against the letter-digit-hyphen rule and the lengths of RFC 1035.
var profile = idna.New(
	idna.MapForLookup(),
	idna.BidiRule(),
	idna.StrictDomainName(true),
	idna.VerifyDNSLength(true),
	idna.Transitional(false),
)

// domain returns the canonical form of a domain: lower case, A-labels. It begins
// after the character numbered at.
func (g Grammar) domain(s string, at int) (string, error) {
	if s[0] == '[' {
		if ip, ok := Literal(s); ok && g.Literals {
			return bracketed(ip), nil
		}
		return "", &Error{finding.SyntaxUnsupported, at + 1,
			"The address names a host by its number in brackets, which hardly any host takes."}
	}
	lower := s
	if !plainDomain(s) {
		var err error
		if lower, err = profile.ToASCII(s); err != nil {
			return "", domainError(s, at)
		}
	} else {
		lower = strings.ToLower(s)
	}
	labels := strings.Split(lower, ".")
	if len(labels) < 2 {
		return "", badDomain(at+1, fmt.Sprintf("The domain %q has no dot; is its ending missing?", s))
	}
	if top := labels[len(labels)-1]; strings.Trim(top, "0123456789") == "" {
		return "", badDomain(at+1, fmt.Sprintf("The domain ends in the number %q, and no domain does.", top))
	}
	return lower, nil
}

// ipv6Tag stands before an IPv6 address in brackets (RFC 5321 section 4.1.3).
const ipv6Tag = "IPv6:"

// Literal reads a domain that is a host's number in brackets.
func Literal(domain string) (ip netip.Addr, ok bool) {
	if len(domain) < 2 || domain[0] != '[' || domain[len(domain)-1] != ']' {
		return ip, false
	}
	text := domain[1 : len(domain)-1]
	six := len(text) > len(ipv6Tag) && strings.EqualFold(text[:len(ipv6Tag)], ipv6Tag)
	if six {
		text = text[len(ipv6Tag):]
	}
	ip, err := netip.ParseAddr(text)
	return ip, err == nil && ip.Zone() == "" && six == ip.Is6()
}

func bracketed(ip netip.Addr) string {
	if ip.Is6() {
		return "[" + ipv6Tag + ip.String() + "]"
	}
	return "[" + ip.String() + "]"
}

// plainDomain tells the ordinary domain, which needs no mapping: ASCII labels
// of letters, digits and inner hyphens, none of them an A-label.
func plainDomain(s string) bool {
	if len(s) > 253 || strings.Contains(s, "xn--") || strings.Contains(s, "XN--") {
		return false
	}
	start := 0
	for i := 0; i <= len(s); i++ {
		if i == len(s) || s[i] == '.' {
			if n := i - start; n < 1 || n > 63 || s[start] == '-' || s[i-1] == '-' {
				return false
			}
			start = i + 1
			continue
		}
		if !letterDigit(rune(s[i])) && s[i] != '-' {
			return false
		}
	}
	return true
}

func letterDigit(r rune) bool {
	return 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z' || '0' <= r && r <= '9'
}

func badDomain(pos int, reason string) *Error {
	return &Error{Cause: finding.SyntaxBadDomain, Position: pos, Reason: reason}
}

// domainError finds the sentence for a domain that idna refused.
func domainError(s string, at int) *Error {
	pos := at
	for _, r := range s {
		pos++
		if r < utf8.RuneSelf && !letterDigit(r) && r != '-' && r != '.' {
			return badDomain(pos, fmt.Sprintf("A domain may not contain the character %s (position %d).", show(r), pos))
		}
	}
	for _, l := range strings.Split(s, ".") {
		switch {
		case l == "":
			return badDomain(at+1, "The domain has a dot too many.")
		case l[0] == '-' || l[len(l)-1] == '-':
			return badDomain(at+1, fmt.Sprintf("The part %q of the domain begins or ends with a hyphen.", l))
		case len(l) > 63:
			return badDomain(at+1, "A part of the domain is longer than 63 bytes.")
		}
	}
	if len(s) > 253 {
		return badDomain(at+1, "The domain is longer than 253 bytes.")
	}
	return badDomain(at+1, fmt.Sprintf("%q is not a domain name.", s))
}
