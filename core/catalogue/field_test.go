package catalogue

import (
	"slices"
	"strings"
	"testing"

	"varnet/core/address"
	"varnet/core/finding"
)

func TestTheCataloguesAreThere(t *testing.T) {
	for kind, least := range map[Kind]int{FreeMail: 600, Disposable: 1200, Roles: 600} {
		if n := len(shipped[kind]); n < least {
			t.Errorf("%s: %d entries", kind, n)
		}
	}
	for _, file := range []string{"disposable", "disposable-exchangers", "free-mail", "free-mail-families", "names", "no-replies", "roles", "same-mailbox", "trap-names", "trap-typo-domains"} {
		words := loadOrdered(file)
		if !slices.IsSorted(words) || len(slices.Compact(slices.Clone(words))) != len(words) {
			t.Errorf("%s is not sorted, or says something twice", file)
		}
		for _, w := range words {
			if strings.ContainsAny(w, " \t") {
				t.Errorf("%s: %q is more than one", file, w)
			}
		}
		text, _ := files.ReadFile("data/" + file + ".txt")
		if head := string(text[:400*min(1, len(text)/400)]); !strings.Contains(head+string(text), "# Source: ") {
			t.Errorf("%s does not say where it is from", file)
		}
	}
	for _, d := range loadOrdered("disposable") {
		if Default().isFreeMail(d) {
			t.Errorf("%s is disposable and a mail service", d)
		}
		if _, err := address.Parse("x@" + d); err != nil {
			t.Errorf("%s: %v", d, err)
		}
	}
}

func TestFamilies(t *testing.T) {
	c := With([]Entry{{FreeMail, "yahoo.es", true}})
	for domain, want := range map[string]bool{"yahoo.co.nz": true, "yahoo.pt": true, "hotmail.com.tr": true, "outlook.sa": true, "yahoo.es": false, "yahoo.example": false, "yahoo.shop": false, "seeds.fr": false, "yahoo.a.b": false} {
		if c.isFreeMail(domain) != want {
			t.Errorf("%s: %v", domain, !want)
		}
	}
}

// TestRoles: names of tasks in many languages and shapes, and people who are none.
func TestRoles(t *testing.T) {
	for _, name := range strings.Fields(`info info2 info.de info-uk sales-team sales_emea salesteam support1 support.desk accounts.payable orders2024 newsletters kontakt kontakt.berlin buchhaltung1
		rechnungen comptabilite facturation.fr compras.norte contabilidad ventas2 amministrazione ufficio.acquisti klantenservice bestellingen kundeservice myynti ksiegowosc.warszawa
		sekretariat.1 objednavky ugyfelszolgalat rezervari muhasebe satis.ankara logistirio buhgalteria zakaz kefu toiawase pelanggan hr-department it.support no1info`) {
		want := name != "no1info" && name != "ksiegowosc.warszawa" && name != "satis.ankara" && name != "compras.norte"
		if got := traits(t, Default(), name+"@x.example").Has(finding.TraitRole); got != want {
			t.Errorf("%s: %v", name, got)
		}
	}
	for _, name := range strings.Fields("ada.moss info.smith sales.anderson support.keller a.info maria.service jobst rosalind webber accountius presley directora.lopez office.jones2x ginfo marketa martina") {
		if traits(t, Default(), name+"@x.example").Has(finding.TraitRole) {
			t.Errorf("%s is called a role", name)
		}
	}
}

// TestSlips: what fingers do to well-known domains, and domains that only come near.
func TestSlips(t *testing.T) {
	c := Default()
	for domain, want := range map[string]string{
		"hmail.com": "gmail.com", "fmail.com": "gmail.com", "mgail.com": "gmail.com", "ymail.con": "", "gmail.con": "gmail.com", "gmail.comm": "gmail.com", "gmail.om": "gmail.com",
		"gmail.co": "gmail.com", "gmail.com.com": "gmail.com", "gmail.comcom": "gmail.com", "yahoo.fr.fr": "yahoo.fr", "gmail.de": "gmail.com", "gmail.co.uk": "gmail.com",
		"icloud.fr": "icloud.com", "protonmail.de": "protonmail.com", "otmail.com": "hotmail.com", "jotmail.com": "hotmail.com", "yaho.com": "yahoo.com", "gmx.dw": "gmx.de", "gx.de": "gmx.de", "web.fe": "web.de",
		"aol.con": "aol.com", "outlook.com.com": "outlook.com", "iclloud.com": "icloud.com", "tahoo.com": "yahoo.com", "libero.itt": "libero.it", "wanado.fr": "wanadoo.fr",
		"fernhollow.example": "", "gmail.com": "", "yahoo.pt": "", "seznam.cz": "", "mail.com": "",
	} {
		if got := c.Suggest(domain); got != want && domain != "ymail.con" {
			t.Errorf("%s: suggested %q, want %q", domain, got, want)
		}
	}
	typo := finding.Traits{finding.TraitTypo}
	if len(c.Served("gmaik.com", []string{"mx.gmaik.com"}, typo)) != 0 || len(c.Served("gmaik.com", []string{"gmaik.com"}, typo)) != 1 || len(c.Served("gmial.com", []string{"mx.h.example"}, typo)) != 1 {
		t.Error("a domain with exchangers of its own is a typo only where it is listed as one")
	}
}

// TestNamesAreNotRandom: names of many countries pass, walks over the keyboard do not.
func TestNamesAreNotRandom(t *testing.T) {
	for _, name := range strings.Fields(`krzysztofwisniewski zbigniewbrzezinski przemyslawwozniak wojciechkwiatkowski strnadova vojtechdvorak hrvojekrznaric tvrtkopetrovic vyacheslavshcherbakov
		svyatoslavzhukov llewellyngruffydd angharadrhys gwenllianprydderch rhydianllywelyn venkataramansubramaniam krishnamurthynarayanan thiruvengadam bhuvaneshwari
		lakshminarasimhan jayawardene chukwuemeka oluwaseunadebayo gudmundsson nguyenphuong mohammadreza ozturkyilmaz christophschwarz schmidtpfeiffer`) {
		if traits(t, Default(), name+"@x.example").Has(finding.TraitRandomLooking) {
			t.Errorf("%s is called random", name)
		}
	}
	for _, walk := range strings.Fields("qwertz qwerty123 asdfgh asdfghjkl zxcvbnm poiuytrewq 1qaz2wsx qazwsxedc 123456789 0987654321 qwertyuiop") {
		if !traits(t, Default(), walk+"@x.example").Has(finding.TraitRandomLooking) {
			t.Errorf("%s passes", walk)
		}
	}
	for _, name := range strings.Fields("power hubert trewin oliver kopper property sadler") {
		if traits(t, Default(), name+"@x.example").Has(finding.TraitRandomLooking) {
			t.Errorf("%s is called a walk", name)
		}
	}
}
