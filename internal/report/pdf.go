package report

import (
	"io"
	"strings"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"

	"varnet/core/policy"
	"varnet/core/say"
)

// The page, in millimetres: A4 upright with even margins.
const (
	pageWidth  = 210.0
	pageHeight = 297.0
	margin     = 14.0
	body       = pageWidth - 2*margin
)

// scales are tried from the largest until all stands on one page.
var scales = []float64{1, 0.93, 0.86, 0.8, 0.74, 0.68, 0.62, 0.57}

// rgb is a colour.
type rgb struct{ r, g, b int }

// The colours; the three tones differ in lightness, too, so that a copy in
// shades of grey can be read.
var (
	ink    = rgb{29, 43, 58}
	quiet  = rgb{87, 97, 107}
	hair   = rgb{217, 209, 193}
	fills  = map[policy.Decision]rgb{policy.Keep: {15, 92, 94}, policy.Hold: {217, 164, 65}, policy.Drop: {234, 217, 229}, "": {239, 233, 220}}
	strong = map[policy.Decision]rgb{policy.Keep: {15, 92, 94}, policy.Hold: {133, 91, 9}, policy.Drop: {122, 59, 107}, "": quiet}
)

// PDF writes the page: vectors, and text that can be selected.
func (r Report) PDF(out io.Writer) error {
	for _, scale := range scales {
		p := newPaper(scale)
		r.draw(p)
		if p.y <= pageHeight-margin || scale == scales[len(scales)-1] {
			p.pdf.SetTitle(r.List, true)
			p.pdf.SetCreationDate(r.Made)
			p.pdf.SetModificationDate(r.Made)
			return p.pdf.Output(out)
		}
	}
	return nil
}

// paper is the page while it is written, from the top.
type paper struct {
	pdf   *fpdf.Fpdf
	scale float64
	y     float64
}

func newPaper(scale float64) *paper {
	pdf := fpdf.New("P", "mm", "A4", "")
	pdf.SetMargins(margin, margin, margin)
	pdf.SetAutoPageBreak(false, 0)
	pdf.SetCellMargin(0)
	pdf.AddUTF8FontFromBytes("go", "", goregular.TTF)
	pdf.AddUTF8FontFromBytes("go", "B", gobold.TTF)
	pdf.AddPage()
	return &paper{pdf, scale, margin}
}

func (p *paper) font(style string, size float64, c rgb) {
	p.pdf.SetFont("go", style, size*p.scale)
	p.pdf.SetTextColor(c.r, c.g, c.b)
}

// line is the height of a line of a size, in millimetres.
func (p *paper) line(size float64) float64 { return size * p.scale * 0.48 }

// write writes wrapped text in the set font at x and returns its height.
func (p *paper) write(x, y, width, size float64, text string) float64 {
	lines := p.pdf.SplitText(text, width)
	for i, l := range lines {
		p.pdf.Text(x, y+p.line(size)*(float64(i)+0.78), l)
	}
	return p.line(size) * float64(max(1, len(lines)))
}

// paragraph writes text over the whole width and goes on below it.
func (p *paper) paragraph(style string, size float64, c rgb, text string) {
	p.font(style, size, c)
	p.y += p.write(margin, p.y, body, size, text)
}

func (p *paper) gap(mm float64) { p.y += mm * p.scale }

// mark draws the mark of a decision: full, half, or hollow.
func (p *paper) mark(x, y float64, d policy.Decision, size float64) {
	c, r := strong[d], p.line(size)*0.24
	p.pdf.SetDrawColor(c.r, c.g, c.b)
	p.pdf.SetFillColor(c.r, c.g, c.b)
	p.pdf.SetLineWidth(0.2)
	x, y = x+r, y+p.line(size)*0.52
	switch d {
	case policy.Keep:
		p.pdf.Circle(x, y, r, "FD")
	case policy.Hold:
		p.pdf.Circle(x, y, r, "D")
		p.pdf.Arc(x, y, r, r, 0, 90, 270, "F")
	case policy.Drop:
		p.pdf.Circle(x, y, r, "D")
	}
}

func (p *paper) rule(x, width float64, c rgb) {
	p.pdf.SetDrawColor(c.r, c.g, c.b)
	p.pdf.SetLineWidth(0.15)
	p.pdf.Line(x, p.y, x+width, p.y)
}

// draw writes the whole page.
func (r Report) draw(p *paper) {
	p.paragraph("B", 17, ink, r.List)
	p.paragraph("", 9, quiet, r.Headline())
	p.gap(3)
	p.paragraph("", 12, ink, r.Kept)
	p.gap(1)
	p.paragraph("", 8.5, ink, r.Read)
	p.gap(3)
	r.drawFlow(p)
	p.gap(3)
	r.drawCauses(p)
	p.gap(4)
	r.drawColumns(p)
	p.gap(4)
	p.heading(margin, body, "How it was done")
	for _, s := range r.Work {
		p.paragraph("", 8.5, ink, s)
	}
	if len(r.Changes) > 0 {
		p.gap(3)
		p.heading(margin, body, "Since the run before")
		for _, s := range r.Changes {
			p.paragraph("", 8.5, ink, s)
		}
	}
	p.gap(3)
	p.rule(margin, body, ink)
	p.gap(1)
	p.paragraph("", 7.5, quiet, r.Foot())
}

func (p *paper) heading(x, width float64, text string) {
	p.font("B", 10, ink)
	p.y += p.write(x, p.y, width, 10, text) + 0.8*p.scale
}

func (r Report) drawFlow(p *paper) {
	f := r.Flow()
	unit := body / FlowWidth
	at := func(q Point) (x, y float64) { return margin + q.X*unit, p.y + q.Y*unit*p.scale }
	for _, s := range f.Shapes {
		fill, line := fills[s.Tone], strong[s.Tone]
		p.pdf.SetFillColor(fill.r, fill.g, fill.b)
		p.pdf.SetDrawColor(line.r, line.g, line.b)
		p.pdf.SetLineWidth(0.12)
		p.pdf.MoveTo(at(s.Start))
		for _, q := range s.Path {
			x, y := at(q.End)
			if len(q.Guides) == 2 {
				ax, ay := at(q.Guides[0])
				bx, by := at(q.Guides[1])
				p.pdf.CurveBezierCubicTo(ax, ay, bx, by, x, y)
			} else {
				p.pdf.LineTo(x, y)
			}
		}
		p.pdf.ClosePath()
		p.pdf.DrawPath("FD")
	}
	p.y += FlowHeight*unit*p.scale + p.scale
	below := 0.0
	for i, c := range f.Columns {
		x, _ := at(Point{X: c.X})
		width := min(flowStep*unit, pageWidth-margin-x) - 2
		if i == len(f.Columns)-1 {
			x = min(x, pageWidth-margin-32)
			width = pageWidth - margin - x
		}
		p.font("B", 8.5, ink)
		y := p.y + p.write(x, p.y, width, 8.5, c.Name)
		for _, l := range c.Lines {
			indent := 0.0
			p.font("", 7.5, quiet)
			if l.Main {
				p.font("B", 7.5, ink)
				p.mark(x, y, l.Tone, 7.5)
				indent = 3 * p.scale
			}
			y += p.write(x+indent, y, width-indent, 7.5, l.Text)
		}
		below = max(below, y)
	}
	p.y = below
}

// cell is a cell of a table; one with a mark stands after it.
type cell struct {
	text  string
	width float64
	right bool
	mark  policy.Decision
}

// row writes cells side by side, wrapped, with a rule below.
func (p *paper) row(x, size float64, style string, c, below rgb, cells ...cell) {
	p.font(style, size, c)
	tall, at := 0.0, x
	for _, one := range cells {
		from, width := at, one.width-2
		if one.mark != "" {
			p.mark(at, p.y, one.mark, size)
			from, width = at+3*p.scale, width-3*p.scale
		}
		if one.right {
			from = at + width - p.pdf.GetStringWidth(one.text)
		}
		tall = max(tall, p.write(from, p.y, width, size, one.text))
		at += one.width
	}
	p.y += tall + 0.5*p.scale
	p.rule(x, at-x, below)
	p.y += 0.5 * p.scale
}

func (r Report) drawCauses(p *paper) {
	p.heading(margin, body, "Findings and causes of the "+say.Number(r.Addresses)+" addresses")
	widths := []float64{27, 37, 18, 28, body - 110}
	row := func(style string, c, below rgb, mark policy.Decision, texts ...string) {
		var cells []cell
		for i, text := range texts {
			cells = append(cells, cell{text: text, width: widths[i], right: i == 2 || i == 3})
		}
		cells[0].mark = mark
		p.row(margin, 7.5, style, c, below, cells...)
	}
	row("B", quiet, ink, "", "Finding", "Cause", "Addresses", "Share", "What it means")
	for _, c := range r.Causes {
		row("", ink, hair, c.Decision(), string(c.Finding), c.Title, say.Number(c.Addresses), Share(c.Addresses, r.Addresses), c.Meaning)
	}
}

// drawColumns writes the decisions on the left and the places on the right.
func (r Report) drawColumns(p *paper) {
	const gap = 8.0
	width := (body - gap) / 2
	top := p.y
	p.heading(margin, width, "Decided by the policy "+r.Policy)
	p.font("", 7.5, ink)
	for _, s := range r.Says {
		p.y += p.write(margin, p.y, width, 7.5, s)
	}
	p.gap(1.5)
	for _, d := range r.Decisions {
		p.row(margin, 7.5, "", ink, hair, cell{text: string(d.Decision), width: 16, mark: d.Decision}, cell{text: d.Reason, width: width - 36},
			cell{text: say.Number(d.Rows), width: 18 + 2, right: true})
	}
	left := p.y
	p.y = top
	x := margin + width + gap
	for _, t := range []struct {
		name   string
		places []Place
	}{{"Largest domains", r.Domains}, {"Largest operators", r.Operators}} {
		p.heading(x, width, t.name)
		for _, place := range t.places {
			p.font("", 7.5, ink)
			name := cell{text: p.short(place.Name, width-58), width: width - 56}
			p.row(x, 7.5, "", ink, hair, name, cell{text: Share(place.Addresses, r.Addresses), width: 22, right: true},
				cell{text: place.Says(), width: 34, right: true})
		}
		p.gap(2)
	}
	p.y = max(left, p.y)
}

// short keeps a name to one line of a width, in the set font.
func (p *paper) short(name string, width float64) string {
	shown := name
	for letters := []rune(name); p.pdf.GetStringWidth(shown) > width && len(letters) > 1; {
		letters = letters[:len(letters)-1]
		shown = strings.TrimRight(string(letters), ".-") + "…"
	}
	return shown
}
