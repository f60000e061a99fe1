package report

import (
	"fmt"
	"io"
	"strings"
	"time"

	"varnet/core/ledger"
	"varnet/core/say"
)

// Party is who sells or buys, as an invoice names them.
type Party struct {
	Name      string
	Lines     []string // of the postal address
	Country   string
	VATNumber string
}

// Invoice is an invoice, or the credit note that takes one back.
type Invoice struct {
	Number        string // such as 2026-000012
	Credit        string // the number of the invoice that is taken back; "": it is an invoice
	Made          time.Time
	Seller, Buyer Party
	What          string // such as top-up
	Currency      string
	Lines         []ledger.Line
	Cheaper       int64 // by so many percent
	Net           int64
	Tax           ledger.Tax
	Total         int64
	Payment       string // by which it was paid
	Paid          time.Time
}

// Where the columns of figures end, in millimetres from the left.
const (
	firstColumn = margin + 118
	nextColumn  = margin + 148
	lastColumn  = pageWidth - margin
)

// right writes text that ends at x.
func (p *paper) right(x, size float64, text string) {
	p.pdf.Text(x-p.pdf.GetStringWidth(text), p.y+p.line(size)*0.78, text)
}

// figures writes a line of a table: a text, and figures below each other.
func (p *paper) figures(style, text string, cells ...string) {
	const size, room = 10, 26 // for the figure of a column
	columns := []float64{firstColumn, nextColumn, lastColumn}[3-len(cells):]
	p.font(style, size, ink)
	height := p.write(margin, p.y, columns[0]-margin-room, size, text)
	for i, c := range cells {
		p.right(columns[i], size, c)
	}
	p.y += height
	p.gap(1.6)
}

// PDF writes the invoice: a receipt at the same time, since it is made when it is paid.
func (i Invoice) PDF(out io.Writer) error {
	p := newPaper(1)
	title := "Invoice and receipt"
	if i.Credit != "" {
		title = "Credit note"
	}
	p.font("B", 10, quiet)
	p.y += p.write(margin, p.y, body, 10, i.Seller.Name)
	p.gap(6)
	p.paragraph("B", 22, ink, title)
	p.gap(2)
	p.paragraph("", 10, quiet, fmt.Sprintf("Number %s, %s", i.Number, i.Made.UTC().Format("2 January 2006")))
	if i.Credit != "" {
		p.paragraph("", 10, quiet, "It takes back the invoice "+i.Credit+".")
	}
	p.gap(8)
	top := p.y
	p.party(margin, "From", i.Seller)
	below := p.y
	p.y = top
	p.party(margin+body/2, "To", i.Buyer)
	p.y = max(p.y, below)
	p.gap(10)
	i.table(p)
	p.gap(6)
	if i.Tax.Note != "" {
		p.paragraph("", 10, ink, i.Tax.Note)
		p.gap(2)
	}
	if i.Credit == "" {
		p.paragraph("", 10, ink, fmt.Sprintf("Paid on %s; the provider's number of the payment is %s. Nothing is left to pay.", i.Paid.UTC().Format("2 January 2006"), i.Payment))
	} else {
		p.paragraph("", 10, ink, fmt.Sprintf("The payment %s is paid back.", i.Payment))
	}
	return p.output(title+" "+i.Number, i.Made, out)
}

func (p *paper) output(title string, made time.Time, out io.Writer) error {
	p.pdf.SetTitle(title, true)
	p.pdf.SetCreationDate(made)
	p.pdf.SetModificationDate(made)
	return p.pdf.Output(out)
}

func (p *paper) party(x float64, which string, of Party) {
	const size = 10
	p.font("B", size, quiet)
	p.y += p.write(x, p.y, body/2-6, size, which)
	p.font("", size, ink)
	lines := append([]string{of.Name}, of.Lines...)
	lines = append(lines, of.Country)
	if of.VATNumber != "" {
		lines = append(lines, "VAT number "+of.VATNumber)
	}
	for _, l := range lines {
		if strings.TrimSpace(l) != "" {
			p.y += p.write(x, p.y, body/2-6, size, l)
		}
	}
}

func (i Invoice) table(p *paper) {
	p.rule(margin, body, hair)
	p.gap(2)
	p.figures("B", fmt.Sprintf("Checks of e-mail addresses (%s)", i.What), "number", "a thousand", "amount")
	sign := int64(1)
	if i.Credit != "" {
		sign = -1
	}
	for n, l := range i.Lines {
		text := "Checks"
		if len(i.Lines) > 1 {
			text = fmt.Sprintf("Checks, step %d of the prices", n+1)
		}
		if i.Cheaper > 0 {
			text += fmt.Sprintf(", cheaper by %d %%", i.Cheaper)
		}
		p.figures("", text, say.Number(l.Checks), ledger.Money(i.Currency, l.PerThousand), ledger.Money(i.Currency, sign*l.Amount))
	}
	p.rule(margin, body, hair)
	p.gap(2)
	p.figures("", "Net", ledger.Money(i.Currency, sign*i.Net))
	if i.Tax.Name != "" {
		p.figures("", fmt.Sprintf("%s, %s", i.Tax.Name, percent(i.Tax.Rate)), ledger.Money(i.Currency, sign*i.Tax.Amount))
	}
	p.figures("B", "Total", ledger.Money(i.Currency, sign*i.Total))
}

// percent writes hundredths of a percent.
func percent(hundredths int64) string {
	if hundredths%100 == 0 {
		return fmt.Sprintf("%d %%", hundredths/100)
	}
	return fmt.Sprintf("%s %%", strings.TrimRight(fmt.Sprintf("%d.%02d", hundredths/100, hundredths%100), "0"))
}

// Statement is what came to an allowance in a month, and what went.
type Statement struct {
	Workspace     string
	From          time.Time
	Made          time.Time
	Before, After int64
	Lines         []StatementLine
}

// StatementLine is one of its lines.
type StatementLine struct {
	At              time.Time
	Says            string
	Amount, Balance int64
}

// Month is what the statement is of, such as November 2026.
func (s Statement) Month() string { return s.From.Format("January 2006") }

// PDF writes the statement, over as many pages as it takes.
func (s Statement) PDF(out io.Writer) error {
	p := newPaper(1)
	p.paragraph("B", 20, ink, "Statement of checks")
	p.gap(1)
	p.paragraph("", 10, quiet, fmt.Sprintf("%s, %s. Times are of %s. Made on %s.", s.Workspace, s.Month(), s.From.Location(), s.Made.In(s.From.Location()).Format("2 January 2006, 15:04")))
	p.gap(6)
	s.head(p)
	p.figures("", "Held at the beginning", "", say.Number(s.Before))
	sum := int64(0)
	for _, l := range s.Lines {
		if p.y > pageHeight-margin-24 {
			p.pdf.AddPage()
			p.y = margin
			s.head(p)
		}
		p.figures("", l.At.Format("2 Jan 15:04")+"   "+l.Says, signed(l.Amount), say.Number(l.Balance))
		sum += l.Amount
	}
	p.rule(margin, body, hair)
	p.gap(2)
	p.figures("B", "Held at the end", signed(sum), say.Number(s.After))
	p.gap(4)
	p.paragraph("", 9, quiet, "What is held is available or set aside for runs that go on. Checks that were set aside and given back do not change it.")
	return p.output("Statement "+s.Month(), s.Made, out)
}

func (s Statement) head(p *paper) {
	p.figures("B", "When and what", "checks", "held")
	p.rule(margin, body, hair)
	p.gap(2)
}

func signed(n int64) string {
	if n > 0 {
		return "+" + say.Number(n)
	}
	return say.Number(n)
}
