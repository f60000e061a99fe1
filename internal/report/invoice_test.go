package report_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"varnet/core/ledger"
	"varnet/internal/report"
)

// words returns the text of a PDF; where the system cannot tell, the test is over.
func words(t *testing.T, write func(*bytes.Buffer) error) string {
	t.Helper()
	var out bytes.Buffer
	if err := write(&out); err != nil || !bytes.HasPrefix(out.Bytes(), []byte("%PDF-")) {
		t.Fatalf("this is not a PDF: %v", err)
	}
	if _, err := exec.LookPath("pdftotext"); err != nil {
		t.Skip("pdftotext is not here (poppler-utils)")
	}
	file := filepath.Join(t.TempDir(), "paper.pdf")
	if err := os.WriteFile(file, out.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	text, err := exec.Command("pdftotext", "-layout", file, "-").Output()
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

var (
	paid   = time.Date(2026, 11, 29, 9, 0, 0, 0, time.UTC)
	seller = report.Party{Name: "Bramble and Rook", Lines: []string{"1 Quay Street"}, Country: "GB", VATNumber: "GB000000000"}
	buyer  = report.Party{Name: "Fernhollow Seed Library", Lines: []string{"3 Mill Lane"}, Country: "GB"}
)

func TestInvoice(t *testing.T) {
	i := report.Invoice{Number: "I-000012", Made: paid, Seller: seller, Buyer: buyer, What: "top-up", Currency: "EUR", Lines: []ledger.Line{{Checks: 10_000, PerThousand: 400, Amount: 4000}, {Checks: 2000, PerThousand: 300, Amount: 600}},
		Net: 4600, Tax: ledger.Tax{Name: "VAT", Rate: 1950, Amount: 897}, Total: 5497, Payment: "p-1", Paid: paid}
	text := words(t, func(b *bytes.Buffer) error { return i.PDF(b) })
	for _, want := range []string{"Invoice and receipt", "I-000012", "29 November 2026", "Bramble and Rook", "3 Mill Lane", "VAT number GB000000000", "10,000", "EUR 40.00", "EUR 46.00", "VAT, 19.5 %", "EUR 8.97", "EUR 54.97", "p-1"} {
		if !strings.Contains(text, want) {
			t.Errorf("the invoice does not say %q:\n%s", want, text)
		}
	}
	i.Number, i.Credit, i.Tax = "C-000001", "I-000012", ledger.Tax{Name: "VAT", Note: "Reverse charge: the customer owes the VAT."}
	text = words(t, func(b *bytes.Buffer) error { return i.PDF(b) })
	for _, want := range []string{"Credit note", "takes back the invoice I-000012", "EUR -46.00", "Reverse charge", "paid back"} {
		if !strings.Contains(text, want) {
			t.Errorf("the credit note does not say %q:\n%s", want, text)
		}
	}
}

// TestStatementPages: a long statement has several pages, each with its head, and no line is lost.
func TestStatementPages(t *testing.T) {
	s := report.Statement{Workspace: "Fernhollow Seed Library", From: time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC), Made: paid, Before: 1000, After: 1000}
	for range 120 {
		s.After -= 5
		s.Lines = append(s.Lines, report.StatementLine{At: paid, Says: "Run of “Members” (run 3), 10 set aside, 5 given back", Amount: -5, Balance: s.After})
	}
	text := words(t, func(b *bytes.Buffer) error { return s.PDF(b) })
	if n, heads := strings.Count(text, "Run of “Members”"), strings.Count(text, "When and what"); n != 120 || heads < 3 || !strings.Contains(text, "November 2026") {
		t.Errorf("%d lines on %d pages", n, heads)
	}
}
