package browser

import (
	"fmt"

	"github.com/chromedp/chromedp"
)

// Faults are what is wrong with how a page is laid out.
type Faults struct {
	// Over is how many pixels it is wider than the screen, Gaps how many headings skip a
	// level, Small how many things are too small to be touched (under 24 pixels).
	Over, Gaps, Small int
	// Who names some of them.
	Who string
}

func (f Faults) String() string {
	return fmt.Sprintf("%d pixels too wide, %d gaps between headings, %d too small to be touched: %s", f.Over, f.Gaps, f.Small, f.Who)
}

// Any reports whether there is one.
func (f Faults) Any() bool { return f.Over > 0 || f.Gaps > 0 || f.Small > 0 }

// FaultsOf measures the page. The width is the layout's: on a phone innerWidth grows with what
// is too wide.
func FaultsOf(f *Faults) chromedp.Action {
	return chromedp.Tasks{Wait("document.body"), // it may be on its way to another page
		chromedp.Evaluate("("+faults+")(document.documentElement.clientWidth)", f)}
}

const faults = `(width) => {
	const seen = e => e.checkVisibility() && e.getBoundingClientRect().width > 0;
	const levels = [...document.querySelectorAll("h1,h2,h3,h4")].filter(seen).map(e => +e.tagName[1]);
	const gaps = levels.filter((l, i) => l > (i ? levels[i - 1] : 0) + 1).length;
	const small = [...document.querySelectorAll("button,a,input,summary,[role=button],[role=combobox]")].filter(e => {
		const box = e.getBoundingClientRect();
		// Links within a sentence are as high as its lines (WCAG 2.2, 2.5.8), and what is not shown is not touched.
		if (!seen(e) || box.height >= 24 && box.width >= 24 || box.height < 2) return false;
		if (e.tagName === "INPUT" && (e.closest("label")?.getBoundingClientRect().height ?? 0) >= 24) return false;
		if (e.tagName === "INPUT" && e.closest(".ant-select,.ant-input-affix-wrapper,.ant-input-number,.ant-picker")) return false;
		return !(e.tagName === "A" && getComputedStyle(e).display === "inline" && e.closest("p,td,li,dd,span"));
	});
	const wide = [...document.querySelectorAll("body *")].filter(e => e.getBoundingClientRect().right > width + 1 && !e.closest(".scroll,.window")).slice(0, 3);
	const name = e => e.tagName.toLowerCase() + (e.className && typeof e.className === "string" ? "." + e.className.split(" ")[0] : "");
	return {over: document.documentElement.scrollWidth - width, gaps, small: small.length,
		who: [...new Set([...small.slice(0, 4).map(e => name(e) + " " + (e.innerText || e.ariaLabel || "").slice(0, 16) + " " + Math.round(e.getBoundingClientRect().height)), ...wide.map(e => "wide " + name(e))])].join("; ")};
}`
