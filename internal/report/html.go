package report

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"

	"varnet/core/policy"
	"varnet/core/say"
)

//go:embed report.html.tmpl
var page string

var glyphs = map[policy.Decision]string{policy.Keep: "●", policy.Hold: "◐", policy.Drop: "○"}

var htmlPage = template.Must(template.New("report").Funcs(template.FuncMap{
	"number": say.Number, "share": Share,
	"glyph":   func(d policy.Decision) string { return glyphs[d] },
	"percent": func(x float64) string { return fmt.Sprintf("%.2f%%", 100*x/FlowWidth) },
}).Parse(page))

// HTML writes the page; it loads nothing from elsewhere.
func (r Report) HTML(out io.Writer) error {
	return htmlPage.Execute(out, struct {
		Report
		Flow          Flow
		Width, Height float64
	}{r, r.Flow(), FlowWidth, FlowHeight})
}
