package resolve

import (
	"net"
	"net/netip"
	"strings"
	"testing"
)

// TestForSPF: the library that reads SPF records learns what there is, and tells a
// name that is absent from one that nobody answers for.
func TestForSPF(t *testing.T) {
	r := ForSPF{newResolver(t, true, &server{})}
	ctx := t.Context()
	if texts, err := r.LookupTXT(ctx, "parked.example."); err != nil || strings.Join(texts, "|") != "nothing here" {
		t.Errorf("texts %q, %v", texts, err)
	}
	if mx, err := r.LookupMX(ctx, "plain.example"); err != nil || len(mx) != 2 || mx[0].Pref+mx[1].Pref != 15 {
		t.Errorf("exchangers %+v, %v", mx, err)
	}
	if ips, err := r.LookupIPAddr(ctx, "mx0.plain.example"); err != nil || len(ips) != 2 || ips[0].String() != "192.31.196.10" {
		t.Errorf("addresses %v, %v", ips, err)
	}
	if _, err := r.LookupAddr(ctx, "mx0.plain.example"); err == nil || !strings.Contains(err.Error(), "is not an IP address") {
		t.Errorf("the names of a name: %v", err)
	}
	for what, ask := range map[string]func(name string) error{
		"texts":      func(name string) error { _, err := r.LookupTXT(ctx, name); return err },
		"exchangers": func(name string) error { _, err := r.LookupMX(ctx, name); return err },
	} {
		for name, absent := range map[string]bool{"nothere.example": true, "broken.example": false} {
			err, ok := ask(name).(*net.DNSError)
			if !ok || err.IsNotFound != absent || err.IsTemporary == absent {
				t.Errorf("%s of %s: %v", what, name, err)
			}
		}
	}
	if _, err := r.LookupIPAddr(ctx, "broken.example"); err == nil {
		t.Error("a host that nobody answers for has no address, and no fault")
	}
	if _, err := r.LookupAddr(ctx, "192.31.196.10"); err == nil {
		t.Error("an address without a name has one")
	}
}

// TestLiterals: a host's number in place of a domain is asked at that number, unless
// nobody may go there.
func TestLiterals(t *testing.T) {
	s := &server{}
	r := newResolver(t, false, s)
	for literal, outcome := range map[string]Outcome{"[192.31.196.7]": Implicit, "[IPv6:2a02:db8::7]": Implicit, "[10.0.0.7]": BadExchanger, "[127.0.0.1]": BadExchanger, "[IPv6:fe80::1]": BadExchanger} {
		d := r.Lookup(t.Context(), literal)
		if d.Outcome != outcome || len(d.Exchangers) != 1 || d.Expires.IsZero() || (len(d.Exchangers[0].Addrs) == 1) != (outcome == Implicit) {
			t.Errorf("%s: %+v", literal, d)
		}
	}
	if n := s.asked.Load(); n != 0 {
		t.Errorf("the name service was asked %d times about numbers", n)
	}
}

// TestReverse: an address under the zone of reverse names (RFC 1035 section 3.5, RFC
// 3596 section 2.5), less its end.
func TestReverse(t *testing.T) {
	for ip, want := range map[string]string{"192.31.196.7": "7.196.31.192", "2a02:db8::7": "7" + strings.Repeat(".0", 23) + ".8.b.d.0.2.0.a.2"} {
		if got := Reverse(netip.MustParseAddr(ip)); got != want {
			t.Errorf("%s is %s, want %s", ip, got, want)
		}
	}
}
