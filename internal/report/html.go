package report

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"strings"

	"varnet/core/policy"
	"varnet/core/say"
)

//go:embed report.html.tmpl
var page string

var glyphs = map[policy.Decision]string{policy.Keep: "●", policy.Hold: "◐", policy.Drop: "○"}

var htmlPage = template.Must(template.New("report").Funcs(template.FuncMap{
	"number": say.Number, "share": Share, "path": svgPath,
	"glyph":   func(d policy.Decision) string { return glyphs[d] },
	"percent": func(x float64) string { return fmt.Sprintf("%.2f%%", 100*x/flowWidth) },
}).Parse(page))

// HTML writes the page; it loads nothing from elsewhere.
func (r Report) HTML(out io.Writer) error {
	return htmlPage.Execute(out, struct {
		Report
		Flow          flow
		Width, Height float64
	}{r, r.flow(), flowWidth, flowHeight})
}

// svgPath writes an outline as SVG path data.
func svgPath(s shape) string {
	var b strings.Builder
	fmt.Fprintf(&b, "M%.1f %.1f", s.Start.X, s.Start.Y)
	for _, p := range s.Path {
		if len(p.Guides) == 2 {
			fmt.Fprintf(&b, "C%.1f %.1f %.1f %.1f %.1f %.1f", p.Guides[0].X, p.Guides[0].Y, p.Guides[1].X, p.Guides[1].Y, p.End.X, p.End.Y)
		} else {
			fmt.Fprintf(&b, "L%.1f %.1f", p.End.X, p.End.Y)
		}
	}
	return b.String() + "Z"
}
